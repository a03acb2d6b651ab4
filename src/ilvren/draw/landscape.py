"""The objective over one or two variables, with limits, bounds, starts, paths and optima."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from matplotlib.patheffects import withTickedStroke
from numpy.typing import NDArray

from ilvren.draw.style import HATCHES, LINES, figure, save, shades
from ilvren.evaluate import Gate
from ilvren.judge.track import Track
from ilvren.problem import Measures, Problem, Row, Variable

__all__ = ["draw_contours", "draw_curve"]

FloatArray = NDArray[np.float64]

GRID, CURVE_POINTS = 161, 801
LEVELS = 14
# Labels keep this share of the picture away from its edges.
LABEL_EDGE = 0.12
# A row that a run meets only to within its tolerance is not drawn as missed.
DRAWN_FEASIBILITY = 1e-6
# Room around the bounds, and around what must be seen where there are none, as shares of the width.
BOUND_MARGIN, FREE_MARGIN = 0.05, 0.35


@dataclass(frozen=True)
class _View:
    """The values of one drawn variable: its index, the range shown."""

    index: int
    variable: Variable
    low: float
    high: float

    @property
    def label(self) -> str:
        unit = f" [{self.variable.unit}]" if self.variable.unit else ""
        return f"{self.variable.name}{unit}"


def draw_contours(
    problem: Problem, names: tuple[str, str], point: FloatArray, tracks: Sequence[Track], path: str
) -> None:
    """Write contours over two variables, the others held at `point` (n,), to `path`."""
    views = [_view(problem, name, point, tracks) for name in names]
    xs, ys = (np.linspace(view.low, view.high, GRID) for view in views)
    grid = np.tile(point, (GRID * GRID, 1))
    mesh_x, mesh_y = np.meshgrid(xs, ys)
    grid[:, views[0].index], grid[:, views[1].index] = mesh_x.ravel(), mesh_y.ravel()
    with np.errstate(all="ignore"):
        objective, rows = Gate(problem).survey(grid)
    sign = problem.objective.sign if problem.objective else 1
    z = (sign * objective).reshape(GRID, GRID)
    with figure() as (made, axis):
        axis.grid(False)
        if problem.objective is not None:
            _contours(axis, xs, ys, z)
        designs = [problem.start, *(track.point for track in tracks if track.point is not None)]
        marks = [(design[views[0].index], design[views[1].index]) for design in designs]
        handles = _limits(axis, problem, xs, ys, rows.reshape(GRID, GRID, -1), marks)
        if np.isnan(z).any():
            axis.contourf(xs, ys, np.isnan(z).astype(float), levels=[0.5, 1.5], colors=["#bbbbbb"], zorder=1.5)
            handles.append(_patch("#bbbbbb", "", "no finite value"))
        _bounds(axis, views)
        handles += _paths(axis, views, point, problem, tracks)
        axis.set_xlabel(views[0].label)
        axis.set_ylabel(views[1].label)
        axis.set_xlim(views[0].low, views[0].high)
        axis.set_ylim(views[1].low, views[1].high)
        axis.set_title(_title(problem, point, names), loc="left", fontweight="bold")
        _legend(made, handles)
        save(made, path)


def draw_curve(problem: Problem, name: str, point: FloatArray, tracks: Sequence[Track], path: str) -> None:
    """Write the objective over one variable, the others held at `point` (n,), to `path`."""
    view = _view(problem, name, point, tracks)
    xs = np.linspace(view.low, view.high, CURVE_POINTS)
    grid = np.tile(point, (CURVE_POINTS, 1))
    grid[:, view.index] = xs
    with np.errstate(all="ignore"):
        objective, rows = Gate(problem).survey(grid)
    sign = problem.objective.sign if problem.objective else 1
    y = sign * objective
    sizes = Measures.of(problem).row_sizes
    with figure() as (made, axis):
        axis.plot(xs, y, color=LINES[0][0], linewidth=2.0)
        handles = []
        for place, row in enumerate(problem.rows):
            outside = _missed(rows[:, place], row, float(sizes[place]))
            if outside.any():
                axis.fill_between(
                    xs,
                    0,
                    1,
                    where=outside,
                    transform=axis.get_xaxis_transform(),
                    facecolor="none",
                    edgecolor=shades(place),
                    hatch=HATCHES[place % len(HATCHES)],
                    linewidth=0.0,
                    alpha=0.4,
                )
                axis.fill_between(
                    xs,
                    0,
                    1,
                    where=outside,
                    transform=axis.get_xaxis_transform(),
                    color=shades(place),
                    linewidth=0.0,
                    alpha=0.1,
                )
                handles.append(_patch(shades(place), HATCHES[place % len(HATCHES)], f"{row.name} missed"))
        for bound in (view.variable.lower, view.variable.upper):
            if view.low <= bound <= view.high:
                axis.axvline(bound, color="#333333", linestyle=(0, (6, 3)), linewidth=1.2)
        handles += _curve_marks(axis, view, problem, point, tracks)
        objective_entry = problem.objective
        unit = f" [{objective_entry.unit}]" if objective_entry and objective_entry.unit else ""
        if _is_plain(y):
            axis.ticklabel_format(useOffset=False, style="plain", axis="y")
        axis.set_xlabel(view.label)
        axis.set_ylabel(f"{objective_entry.name}{unit}" if objective_entry else "no objective")
        axis.set_xlim(view.low, view.high)
        axis.set_title(_title(problem, point, (name,)), loc="left", fontweight="bold")
        _legend(made, handles)
        save(made, path)


def _is_plain(values: FloatArray) -> bool:
    finite = np.abs(values[np.isfinite(values)])
    return bool(len(finite)) and 1e-2 < float(finite.max()) < 1e8


def _view(problem: Problem, name: str, point: FloatArray, tracks: Sequence[Track]) -> _View:
    """Choose the range: the bounds with a margin, or where there are none what must be seen with more room."""
    index = next(i for i, variable in enumerate(problem.variables) if variable.name == name)
    variable = problem.variables[index]
    seen = [float(point[index]), variable.start]
    for track in tracks:
        seen += [float(value) for value in track.iteration_points[:, index]]
        if track.point is not None:
            seen.append(track.point[index])
    low, high = variable.lower, variable.upper
    size = float(Measures.of(problem).variable_sizes(point)[index])
    spread = max(seen) - min(seen) or size
    margin = BOUND_MARGIN * (high - low) if math.isfinite(high - low) else FREE_MARGIN * max(spread, 0.5 * size)
    first = low - margin if math.isfinite(low) else min(seen) - margin
    last = high + margin if math.isfinite(high) else max(seen) + margin
    if not last > first:
        first, last = first - 0.5 * size, last + 0.5 * size
    return _View(index, variable, first, last)


def _title(problem: Problem, point: FloatArray, names: Sequence[str]) -> str:
    title = problem.title or problem.source.file
    held = [
        f"{variable.name} = {value:.5g}{' ' + variable.unit if variable.unit else ''}"
        for variable, value in zip(problem.variables, point, strict=True)
        if variable.name not in names
    ]
    if not held:
        return title
    told = ", ".join(held[:4]) + (" …" if len(held) > 4 else "")
    return f"{title}\nheld: {told}"


def _contours(axis: Any, xs: FloatArray, ys: FloatArray, z: FloatArray) -> None:
    finite = z[np.isfinite(z)]
    if not len(finite) or float(finite.max()) == float(finite.min()):
        return
    levels = _levels(finite)
    drawn = axis.contour(xs, ys, z, levels=levels, colors="#5b6b7b", linewidths=0.9, zorder=2)
    span = float(levels[-1] - levels[0])
    axis.clabel(drawn, drawn.levels[::2], fontsize=9, fmt=lambda value: _short(value, span), inline_spacing=3)


def _levels(finite: FloatArray) -> FloatArray:
    """Return levels at even shares of the area, so that a valley shows as well as the hills around it."""
    low, high = float(finite.min()), float(finite.max())
    shares = np.quantile(finite, np.linspace(0.01, 0.97, LEVELS))
    even = np.linspace(low, high, LEVELS + 2)[1:-1]
    chosen = shares if shares[len(shares) // 2] - low < 0.2 * (high - low) else even
    return np.unique(chosen)


def _short(value: float, span: float) -> str:
    if value == 0.0 or not 1e-4 <= abs(value) < 1e7:
        return f"{value:.3g}"
    size = math.floor(math.log10(abs(value)))
    digits = max(3, size - math.floor(math.log10(span)) + 3 if span > 0.0 else 3)
    decimals = digits - 1 - size
    return f"{round(value, decimals):.{max(decimals, 0)}f}"


def _limits(
    axis: Any, problem: Problem, xs: FloatArray, ys: FloatArray, rows: FloatArray, marks: Sequence[tuple[float, float]]
) -> list[Any]:
    """Shade where each row is missed, draw and name its limits away from `marks`, and return the legend's entries."""
    taken = [np.array([(x - xs[0]) / (xs[-1] - xs[0]), (y - ys[0]) / (ys[-1] - ys[0])]) for x, y in marks]
    handles = []
    sizes = Measures.of(problem).row_sizes
    for place, row in enumerate(problem.rows):
        color, hatch = shades(place), HATCHES[place % len(HATCHES)]
        values = rows[:, :, place]
        for limit, sign in ((row.lower, -1.0), (row.upper, 1.0)):
            finite = values[np.isfinite(values)]
            if not math.isfinite(limit) or not len(finite) or not finite.min() < limit < finite.max():
                continue
            # Ticks stand on the higher side of a contour; the sign makes that the side where the row is missed.
            line = axis.contour(xs, ys, sign * values, levels=[sign * limit], colors=color, linewidths=1.8, zorder=3)
            if not row.is_equality:
                line.set(path_effects=[withTickedStroke(spacing=9, angle=60, length=0.9)])
            spot = _label_spot(line, xs, ys, taken)
            axis.clabel(
                line,
                fontsize=10,
                fmt=lambda _, row=row, limit=limit: f"{row.name} = {limit:g}",
                inline_spacing=5,
                **({"manual": [spot]} if spot else {}),
            )
            if row.is_equality:
                break
        if row.is_equality:
            handles.append(_line_handle(color, f"{row.name} met"))
            continue
        missed = _missed(values, row, float(sizes[place]))
        if missed.any():
            axis.contourf(xs, ys, missed.astype(float), levels=[0.5, 1.5], colors=[color], alpha=0.14, zorder=1)
            shaded = axis.contourf(
                xs, ys, missed.astype(float), levels=[0.5, 1.5], colors="none", hatches=[hatch], zorder=1.2
            )
            shaded.set_edgecolor(color + "50")  # the hatch stays behind the contours
            shaded.set_linewidth(0.0)
            handles.append(_patch(color, hatch, f"{row.name} missed" + (" everywhere" if missed.all() else "")))
    return handles


def _label_spot(line: Any, xs: FloatArray, ys: FloatArray, taken: list[FloatArray]) -> tuple[float, float] | None:
    """Return a point of a contour for its label: well inside the picture, far from the spots `taken` (shares of
    the width and height), to which it is added. None when the contour keeps to the edge."""
    low, width = np.array([xs[0], ys[0]]), np.array([xs[-1] - xs[0], ys[-1] - ys[0]])
    segments = [segment for segment in line.allsegs[0] if len(segment) > 1]
    if not segments:
        return None
    shares = (np.vstack(segments) - low) / width
    inside = shares[((shares > LABEL_EDGE) & (shares < 1.0 - LABEL_EDGE)).all(axis=1)]
    if not len(inside):
        return None
    distances = np.min([np.linalg.norm(inside - other, axis=1) for other in taken], axis=0)
    chosen = inside[int(np.argmax(distances))]
    taken.append(chosen)
    x, y = (low + chosen * width).tolist()
    return x, y


def _missed(values: FloatArray, row: Row, size: float) -> NDArray[np.bool_]:
    slack = DRAWN_FEASIBILITY * size
    return ~((values >= row.lower - slack) & (values <= row.upper + slack))


def _bounds(axis: Any, views: Sequence[_View]) -> None:
    for view, draw in zip(views, (axis.axvline, axis.axhline), strict=True):
        for bound in (view.variable.lower, view.variable.upper):
            if view.low <= bound <= view.high:
                draw(bound, color="#333333", linestyle=(0, (6, 3)), linewidth=1.2, zorder=2.5)


def _paths(
    axis: Any, views: Sequence[_View], point: FloatArray, problem: Problem, tracks: Sequence[Track]
) -> list[Any]:
    start = [problem.variables[view.index].start for view in views]
    handles = []
    for number, track in enumerate(tracks):
        color, dashes, marker = LINES[number % len(LINES)]
        path = track.iteration_points[:, [view.index for view in views]]
        axis.plot(
            path[:, 0],
            path[:, 1],
            color=color,
            linestyle=dashes,
            linewidth=1.6,
            zorder=5,
            marker=marker if len(path) <= 60 else "",
            markersize=5,
            markerfacecolor="white",
        )
        if track.point is not None:
            end = [track.point[view.index] for view in views]
            axis.plot(
                *end,
                marker="*",
                markersize=17,
                color=color,
                markeredgecolor="white",
                zorder=7 - 0.1 * number,
                linestyle="",
            )
        handles.append(_line_handle(color, f"{track.name}  {track.method}, ★ its design", dashes))
    axis.plot(
        *start,
        marker="o",
        markersize=10,
        markerfacecolor="white",
        markeredgecolor="#111111",
        markeredgewidth=2.0,
        zorder=6,
        linestyle="",
    )
    handles.insert(0, _mark_handle("o", "start"))
    here = [point[view.index] for view in views]
    if not tracks and any(abs(a - b) > 0.0 for a, b in zip(here, start, strict=True)):
        axis.plot(*here, marker="P", markersize=11, color="#111111", markeredgecolor="white", zorder=6, linestyle="")
        handles.append(_mark_handle("P", "the design shown"))
    handles.append(_line_handle("#333333", "bounds", (0, (6, 3))))
    return handles


def _curve_marks(axis: Any, view: _View, problem: Problem, point: FloatArray, tracks: Sequence[Track]) -> list[Any]:
    gate, sign = Gate(problem), problem.objective.sign if problem.objective else 1

    def height(value: float) -> float:
        there = point.copy()
        there[view.index] = value
        return sign * gate.evaluate(there).objective

    start = problem.variables[view.index].start
    axis.plot(
        start,
        height(start),
        marker="o",
        markersize=10,
        markerfacecolor="white",
        markeredgecolor="#111111",
        markeredgewidth=2.0,
        linestyle="",
        zorder=6,
    )
    handles = [_mark_handle("o", "start")]
    for number, track in enumerate(tracks):
        color, _, marker = LINES[number % len(LINES)]
        values = track.iteration_points[:, view.index]
        heights = [height(float(value)) for value in values]
        axis.plot(
            values, heights, linestyle="", marker=marker, color=color, markerfacecolor="white", markersize=6, zorder=5
        )
        if track.point is not None:
            end = track.point[view.index]
            axis.plot(
                end,
                height(end),
                marker="*",
                markersize=17,
                color=color,
                markeredgecolor="white",
                linestyle="",
                zorder=7,
            )
        handles.append(_line_handle(color, f"{track.name}  {track.method}, ★ its design", ":"))
    return handles


def _patch(color: str, hatch: str, label: str) -> Any:
    from matplotlib.patches import Patch

    return Patch(facecolor=color + "1a", edgecolor=color, hatch=hatch, label=label, linewidth=0.8)


def _line_handle(color: str, label: str, dashes: Any = "-") -> Any:
    from matplotlib.lines import Line2D

    return Line2D([], [], color=color, linestyle=dashes, linewidth=1.8, label=label)


def _mark_handle(marker: str, label: str) -> Any:
    from matplotlib.lines import Line2D

    face = "white" if marker == "o" else "#111111"
    return Line2D(
        [], [], linestyle="", marker=marker, markersize=9, markerfacecolor=face, markeredgecolor="#111111", label=label
    )


def _legend(made: Any, handles: list[Any]) -> None:
    made.legend(handles=handles, loc="outside right upper", fontsize=10.5, handlelength=2.6, handleheight=1.4)
