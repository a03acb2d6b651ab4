"""Figures of groups of runs: histories with bands, profiles, paths, final designs, and what each start leads to."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.draw.style import LINES, figure, save
from ilvren.errors import RequestError
from ilvren.judge import final_optima, sorted_differences

if TYPE_CHECKING:
    from ilvren.judge import ContestRun, ContestSummary, ShareCurve, Track

__all__ = ["draw_basins", "draw_designs", "draw_paths", "draw_series", "draw_shares"]

FloatArray = NDArray[np.float64]

# Zero cannot be drawn on a log scale; what is at or below the floor is drawn on it.
GAP_FLOOR, VIOLATION_FLOOR = 1e-10, 1e-9
# Points along the axis at which the runs of a series are read.
POINTS = 400
MOST_PATHS, MOST_COORDINATES, MOST_LINES = 6, 16, 60
# The share of solved runs is drawn up to this multiple of where the last method solved its last.
ROOM = 2.0


def draw_series(summary: ContestSummary, path: str) -> None:
    """Write the histories: per method the median over its runs and a band between the quartiles, gap and violation."""
    comparison, cases = summary.comparisons[0], summary.cases[0]
    # Where nothing was ever missed there is nothing to show.
    missed = any((case.track.violation > VIOLATION_FLOOR).any() for case in cases)
    heights = {"height_ratios": (3, 2)} if missed else {}
    with figure(2 if missed else 1, 1, sharex=True, squeeze=False, gridspec_kw=heights) as (made, grid):
        axes = grid[:, 0]
        objective = comparison.tracks[0].problem.objective
        best = None if comparison.best is None or objective is None else comparison.best * objective.sign
        longest = 1.0
        for series, (color, dashes, _) in zip(_series(summary), _cycle(), strict=False):
            own = [case.track for case in cases if case.series == series]
            x = _axis(own, summary)
            longest = max(longest, float(x[-1]))
            label = f"{series} ({len(own)} run{'s' if len(own) > 1 else ''})"
            if best is not None:
                gaps = np.array([_read(t, summary, (t.best_so_far() - best) / comparison.scale, x) for t in own])
                _band(axes[0], x, np.maximum(gaps, GAP_FLOOR), color, dashes, label)
            if missed:
                least = np.array([_read(t, summary, np.minimum.accumulate(t.violation), x) for t in own])
                _band(axes[1], x, np.maximum(least, VIOLATION_FLOOR), color, dashes, label)
        for axis in axes:
            axis.set_yscale("log")
        axes[-1].set_xscale("log")
        axes[-1].xaxis.set_major_formatter(lambda value, _: f"{value:g}")
        name = objective.name if objective is not None else "objective"
        axes[0].set_ylabel(f"gap of the best feasible {name}")
        if missed:
            axes[1].set_ylabel("least violation so far")
        axes[-1].set_xlabel(_words(summary))
        axes[0].axhline(summary.solved_within, color="#555555", linewidth=1.0, linestyle=(0, (6, 3)))
        axes[0].text(
            0.005,
            summary.solved_within,
            f" solved below {summary.solved_within:g}",
            transform=axes[0].get_yaxis_transform(),
            va="bottom",
            color="#555555",
        )
        if best is None:
            axes[0].text(0.5, 0.5, "no run found a feasible design", transform=axes[0].transAxes, ha="center")
        axes[0].legend(loc="upper right", handlelength=4.0)
        axes[0].set_title(
            f"{comparison.problem_name}: medians, and bands from quartile to quartile", loc="left", fontweight="bold"
        )
        save(made, path)


def _words(summary: ContestSummary) -> str:
    if summary.along != "evaluations":
        return summary.along
    return f"evaluations, a gradient counting as {summary.gradient_worth:g}"


def _series(summary: ContestSummary) -> list[str]:
    return [item.series for item in summary.methods]


def _cycle() -> Any:
    while True:
        yield from LINES


def _axis(tracks: list[Track], summary: ContestSummary) -> FloatArray:
    ends = [float(track.costs(summary.along, summary.gradient_worth).max(initial=1.0)) for track in tracks]
    firsts = [track.costs(summary.along, summary.gradient_worth) for track in tracks]
    least = min((float(own[own > 0.0].min()) for own in firsts if (own > 0.0).any()), default=1.0)
    return np.geomspace(min(least, 0.5 * max(ends)), max(ends), POINTS)


def _read(track: Track, summary: ContestSummary, values: FloatArray, x: FloatArray) -> FloatArray:
    """Return a history at costs `x`: what was known by then; infinite before the first value."""
    costs = track.costs(summary.along, summary.gradient_worth)
    places = np.searchsorted(costs, x, side="right") - 1
    values = np.where(np.isfinite(values), values, np.inf)
    found: FloatArray = np.where(places >= 0, values[np.maximum(places, 0)] if len(values) else np.inf, np.inf)
    return found


def _band(axis: Any, x: FloatArray, values: FloatArray, color: Any, dashes: Any, label: str) -> None:
    """Draw the median and a band between the quartiles, each a value that some run had."""
    ordered = np.sort(values, axis=0)
    count = len(ordered)
    lower, median, upper = (ordered[max(int(np.ceil(share * count)) - 1, 0)] for share in (0.25, 0.5, 0.75))
    shown = np.isfinite(median)
    axis.plot(
        x[shown], median[shown], color=color, linestyle=dashes, linewidth=2.0, drawstyle="steps-post", label=label
    )
    if count > 1:
        top = np.where(np.isfinite(upper), upper, np.nan)
        axis.fill_between(x, lower, top, color=color, alpha=0.15, step="post", linewidth=0.0)


def draw_shares(summary: ContestSummary, path: str) -> None:
    """Write the performance profile and the data profile beside each other. Raises RequestError for a contest on one
    problem."""
    if not summary.performance:
        raise RequestError("--figure profiles needs several problems: name several files in a contest")
    with figure(1, 2, sharey=True) as (made, axes):
        _curves(axes[0], summary.performance, 1.0)
        _curves(axes[1], summary.data, 0.1)
        axes[0].set_xscale("log")
        axes[1].set_xscale("log")
        for axis in axes:
            axis.xaxis.set_major_formatter(lambda value, _: f"{value:g}")
            axis.set_ylim(0.0, 1.02)
        cases = len({case.key for own in summary.cases for case in own})
        axes[0].set_ylabel(f"share of {cases} cases solved to {summary.solved_within:g}")
        axes[0].set_xlabel("cost over that of the best method there (performance profile)")
        axes[1].set_xlabel(f"{_words(summary)}, over n + 1 (data profile)")
        axes[0].legend(loc="lower right")
        problems = len(summary.comparisons)
        axes[0].set_title(f"{summary.name}: {problems} problems", loc="left", fontweight="bold")
        save(made, path)


def _curves(axis: Any, curves: tuple[ShareCurve, ...], least: float) -> None:
    ends = [float(curve.costs[-1]) for curve in curves if len(curve.costs)]
    starts = [float(curve.costs[0]) for curve in curves if len(curve.costs)]
    last, first = ROOM * max(ends, default=10.0), min(starts, default=least)
    for curve, (color, dashes, marker) in zip(curves, _cycle(), strict=False):
        x = np.concatenate([[first], curve.costs, [last]])
        y = np.concatenate([[0.0], curve.shares, [curve.solved]])
        axis.plot(
            x,
            y,
            color=color,
            linestyle=dashes,
            marker=marker,
            markevery=max(1, len(x) // 10),
            markerfacecolor="white",
            markersize=5,
            linewidth=2.0,
            drawstyle="steps-post",
            label=f"{curve.method} ({100 * curve.solved:.0f} % in the end)",
        )
    axis.set_xlim(first, last)


def draw_designs(summary: ContestSummary, path: str) -> None:
    """Write the final designs as lines over the variables that differ most, each over its range in these runs. Raises
    RequestError where no run has a design."""
    ended = [case for case in summary.cases[0] if case.track.point is not None]
    cases = ended[:MOST_LINES]
    every = sorted_differences([case.track for case in cases])
    found = every[:MOST_COORDINATES]
    if not cases or not found:
        raise RequestError("--figure designs: no run has ended with a design")
    values = np.array([[np.nan if v is None else v for v in item.values] for item in found], dtype=float)
    low, high = np.nanmin(values, axis=1), np.nanmax(values, axis=1)
    scaled = (values - low[:, np.newaxis]) / np.where(high > low, high - low, 1.0)[:, np.newaxis]
    scaled[high <= low] = 0.5
    styles = dict(zip(_series(summary), _cycle(), strict=False))
    rng = np.random.default_rng(0)
    with figure() as (made, axis):
        x = np.arange(len(found))
        told: set[str] = set()
        for case, line in zip(cases, scaled.T, strict=True):
            color, dashes, marker = styles[case.series]
            label = None if case.series in told else case.series
            told.add(case.series)
            # A little aside, so that equal designs do not hide each other.
            shift = rng.uniform(-0.06, 0.06)
            axis.plot(
                x + shift, line, color=color, linestyle=dashes, marker=marker, markersize=6, alpha=0.8, label=label
            )
        axis.set_xticks(x, [_tick(item.name, item.unit, a, b) for item, a, b in zip(found, low, high, strict=True)])
        axis.set_yticks([0.0, 1.0], ["least of\nthese runs", "largest"])
        axis.set_xlim(-0.4, len(found) - 0.6)
        more = f", {len(cases)} of {len(ended):,}" if len(ended) > len(cases) else ""
        more += f"; the {len(found)} variables of {len(every)} that differ most" if len(every) > len(found) else ""
        axis.set_title(f"{summary.comparisons[0].problem_name}: final designs{more}", loc="left", fontweight="bold")
        axis.legend(loc="upper left", bbox_to_anchor=(0.0, -0.14), ncols=4)
        save(made, path)


def _tick(name: str, unit: str, low: float, high: float) -> str:
    return f"{name}{f' [{unit}]' if unit else ''}\n{low:.5g} ..\n{high:.5g}"


def draw_paths(summary: ContestSummary, path: str) -> None:
    """Write the paths of the runs on the contours of a problem of two variables."""
    from ilvren.draw.contours import draw_contours
    from ilvren.draw.view import subject_of
    from ilvren.evaluate import Gate

    names, problem = _two(summary, "paths")
    tracks = _few_of_each(summary)
    design = final_optima([case.track for case in summary.cases[0]])
    point = summary.cases[0][design[0].places[0]].track.point if design else None
    here = np.array(point if point is not None else problem.start)
    draw_contours(subject_of(problem, Gate(problem), None), names, here, tracks, path)


def _two(summary: ContestSummary, kind: str) -> tuple[tuple[str, str], Any]:
    problem = summary.comparisons[0].tracks[0].problem
    names = [problem.variables[place].name for place in problem.free]
    if len(names) != 2:
        raise RequestError(
            f"--figure {kind} needs a problem of two free variables, this one has {len(names)}",
            advice="--figure designs shows any number",
        )
    return (names[0], names[1]), problem


def _few_of_each(summary: ContestSummary) -> list[Track]:
    """Return up to MOST_PATHS tracks, as evenly over the methods as they come."""
    by_series: dict[str, list[Track]] = {}
    for case in summary.cases[0]:
        by_series.setdefault(case.series, []).append(case.track)
    found: list[Track] = []
    while len(found) < MOST_PATHS and any(by_series.values()):
        for own in by_series.values():
            if own and len(found) < MOST_PATHS:
                found.append(own.pop(0))
    return found


def draw_basins(summary: ContestSummary, path: str) -> None:
    """Write, for each method, which final design each start leads to, for a problem of two variables."""
    names, problem = _two(summary, "basins")
    places = [int(place) for place in problem.free]
    cases = summary.cases[0]
    letters = {place: item for item in final_optima([case.track for case in cases]) for place in item.places}
    series = _series(summary)[:4]
    columns = min(len(series), 2)
    rows = (len(series) + 1) // 2
    with figure(rows, columns, squeeze=False, sharex=True, sharey=True) as (made, axes):
        for number, name in enumerate(series):
            axis = axes[number // columns][number % columns]
            own = [(place, case) for place, case in enumerate(cases) if case.series == name]
            _basin(axis, own, letters, places)
            axis.set_title(f"{name}: {len(own)} starts", loc="left")
            if number // columns == rows - 1:
                axis.set_xlabel(names[0])
            if number % columns == 0:
                axis.set_ylabel(names[1])
        for number in range(len(series), rows * columns):
            axes[number // columns][number % columns].set_visible(False)
        made.suptitle(
            f"{summary.comparisons[0].problem_name}: what each start leads to", x=0.02, ha="left", fontweight="bold"
        )
        handles, labels = axes[0][0].get_legend_handles_labels()
        kept = dict(zip(labels, handles, strict=True))
        for row in axes:
            for axis in row:
                more = axis.get_legend_handles_labels()
                kept.update(zip(more[1], more[0], strict=True))
        ordered = sorted(kept)
        made.legend([kept[label] for label in ordered], ordered, loc="outside lower left", ncols=6)
        save(made, path)


def _basin(axis: Any, own: list[tuple[int, ContestRun]], letters: dict[int, Any], places: list[int]) -> None:
    for place, case in own:
        start = [case.track.problem.start[i] for i in places]
        item = letters.get(place)
        if item is None or case.track.point is None:
            axis.plot(*start, marker="x", color="#888888", linestyle="", markersize=8, label="no feasible design")
            continue
        number = ord(item.letter[0]) - ord("A")
        color, _, marker = LINES[number % len(LINES)]
        end = [case.track.point[i] for i in places]
        axis.plot([start[0], end[0]], [start[1], end[1]], color=color, linewidth=0.8, alpha=0.5)
        axis.plot(
            *start,
            marker=marker,
            color=color,
            linestyle="",
            markersize=8,
            markerfacecolor="white",
            label=f"{item.letter}: {item.objective:.6g}",
        )
        axis.plot(*end, marker="*", color=color, markersize=14, markeredgecolor="white")
