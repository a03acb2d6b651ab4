"""A run's populations in one figure: how fast they improved and narrowed, where they went, what the first was worth."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.draw.style import LINES, figure, ramp, save

if TYPE_CHECKING:
    from ilvren.judge import Generation, Generations

__all__ = ["draw_generations"]

FloatArray = NDArray[np.float64]

# Variables shown one by one; generations whose best designs are drawn.
MOST_VARIABLES, MOST_BEST = 8, 60
# A spread below this share of the first is drawn there.
LEAST_SHARE = 1e-12


def draw_generations(found: Generations, path: str) -> None:
    """Write the figure of a run's generations to `path` (.png or .svg)."""
    problem = found.problem
    title = f"{problem.title or problem.source.file}: {len(found.items)} generations of {found.method} ({found.run})"
    with figure(2, 2) as (made, axes):
        made.suptitle(title, x=0.01, ha="left", fontweight="bold")
        _draw_improvement(axes[0, 0], found)
        _draw_narrowing(axes[0, 1], found)
        vectors = [block for block in problem.blocks if len(block.shape) == 1 and block.size > 3]
        if vectors:
            _draw_profiles(made, axes[1, 0], found, vectors[0].first, vectors[0].size, vectors[0].name)
        else:
            _draw_whereabouts(made, axes[1, 0], found)
        _draw_first(axes[1, 1], found)
        save(made, path)


def _axis_name(found: Generations) -> str:
    objective = found.problem.objective
    if objective is None:
        return "objective"
    return f"{objective.name} [{objective.unit}]" if objective.unit else objective.name


def _draw_improvement(axis: Any, found: Generations) -> None:
    """Best, median and the middle half of the feasible designs, over the evaluations; and the share feasible."""
    x = np.array([item.evaluations for item in found.items], dtype=float)
    rows = []
    for item in found.items:
        values = item.objective[item.feasible(found.feasibility)]
        rows.append(np.percentile(values, [0, 25, 50, 75, 100]) if len(values) else np.full(5, np.nan))
    table = np.array(rows)
    best = table[:, 0] if found.sign > 0 else table[:, 4]
    axis.fill_between(x, table[:, 1], table[:, 3], color="#00508c", alpha=0.2, linewidth=0, label="middle half")
    axis.plot(x, table[:, 2], color=LINES[1][0], linestyle=LINES[1][1], label="median")
    axis.plot(x, best, color=LINES[0][0], linewidth=2.0, label="best of the generation")
    finite = np.concatenate([best[np.isfinite(best)], table[:, 2][np.isfinite(table[:, 2])]])
    if len(finite) and finite.min() > 0.0 and finite.max() > 10.0 * finite.min():
        axis.set_yscale("log")
    axis.set_ylabel(_axis_name(found))
    axis.set_xlabel("evaluations")
    axis.set_title("How fast it improved", loc="left")
    shares = np.array([item.feasible(found.feasibility).mean() for item in found.items])
    if shares.min() < 1.0:
        other = axis.twinx()
        other.plot(x, 100.0 * shares, color="#777777", linewidth=1.0, linestyle=":")
        other.set_ylim(0, 105)
        other.set_ylabel("feasible designs [%] (dotted)", color="#555555")
        other.grid(False)
    axis.legend(loc="upper right", fontsize="small", frameon=True, framealpha=0.9, edgecolor="none")


def _draw_narrowing(axis: Any, found: Generations) -> None:
    """The spread of each variable over its spread in the first generation."""
    x = np.array([item.evaluations for item in found.items], dtype=float)
    spreads = np.array([item.points.std(axis=0) for item in found.items])
    free = [place for place in found.problem.free if spreads[0, place] > 0.0]
    shares = spreads[:, free] / spreads[0, free] if free else np.zeros((len(x), 0))
    shown = free[:MOST_VARIABLES]
    for number, place in enumerate(shown):
        color, dashes, _ = LINES[number % len(LINES)]
        axis.plot(
            x,
            np.maximum(shares[:, number], LEAST_SHARE),
            color=color,
            linestyle=dashes,
            linewidth=1.2,
            label=found.problem.variables[place].name,
        )
    if len(free) > 1:
        middle = np.maximum(np.median(shares, axis=1), LEAST_SHARE)
        axis.plot(x, middle, color="black", linewidth=2.4, label=f"median of {len(free)}")
    axis.set_yscale("log")
    axis.set_ylabel("spread over that of the first")
    axis.set_xlabel("evaluations")
    axis.set_title("How fast it narrowed", loc="left")
    if len(shown):
        axis.legend(loc="lower left", ncols=2, fontsize="small")


def _draw_whereabouts(made: Any, axis: Any, found: Generations) -> None:
    """Each variable on its own upright line: the first generation as dots, the best of each as lines."""
    problem = found.problem
    places = list(problem.free)[:MOST_VARIABLES]
    low, high = _ranges(found, places)
    first = (found.items[0].points[:, places] - low) / (high - low)
    for column in range(len(places)):
        axis.plot(np.full(len(first), column), first[:, column], "_", color="#999999", markersize=12, alpha=0.6)
    kept = _thinned(found.items)
    lines = np.array(
        [(item.points[item.best(found.feasibility, found.sign)][places] - low) / (high - low) for item in kept]
    )
    _colored_lines(made, axis, np.arange(len(places)), lines, kept)
    last = lines[-1]
    axis.plot(np.arange(len(places)), last, "o", color="black", markersize=5)
    names = [problem.variables[place].name for place in places]
    axis.set_xticks(range(len(places)), names)
    for column, (a, b) in enumerate(zip(low, high, strict=True)):
        axis.annotate(f"{b:.4g}", (column, 1.02), ha="center", va="bottom", fontsize="small", color="#555555")
        axis.annotate(f"{a:.4g}", (column, -0.02), ha="center", va="top", fontsize="small", color="#555555")
    axis.set_ylim(-0.12, 1.12)
    axis.set_yticks([])
    axis.set_xlim(-0.4, len(places) - 0.6)
    axis.set_title("Where it went (dashes: first generation; lines: best of each)", loc="left")


def _ranges(found: Generations, places: list[int]) -> tuple[FloatArray, FloatArray]:
    """Return the ends of each variable's line: its bounds where it has both, else the range of all designs."""
    lower, upper = found.problem.joined("lower")[places], found.problem.joined("upper")[places]
    seen_low = np.min([item.points[:, places].min(axis=0) for item in found.items], axis=0)
    seen_high = np.max([item.points[:, places].max(axis=0) for item in found.items], axis=0)
    low = np.where(np.isfinite(lower), lower, seen_low)
    high = np.where(np.isfinite(upper), upper, seen_high)
    return low, np.where(high > low, high, low + 1.0)


def _draw_profiles(made: Any, axis: Any, found: Generations, first: int, size: int, name: str) -> None:
    """The best design of each generation, a vector variable drawn along its elements."""
    kept = _thinned(found.items)
    lines = np.array([item.points[item.best(found.feasibility, found.sign)][first : first + size] for item in kept])
    _colored_lines(made, axis, np.arange(size), lines, kept)
    axis.plot(np.arange(size), lines[-1], color="black", linewidth=2.0)
    axis.set_xlabel(f"element of {name}")
    axis.set_ylabel(name)
    axis.set_title("The best of each generation (black: the last)", loc="left")


def _thinned(items: tuple[Generation, ...]) -> list[Generation]:
    places = np.unique(np.linspace(0, len(items) - 1, min(len(items), MOST_BEST)).round().astype(int))
    return [items[place] for place in places]


def _colored_lines(made: Any, axis: Any, x: Any, lines: FloatArray, kept: list[Generation]) -> None:
    import matplotlib as mpl

    colors = ramp(is_reversed=True, for_lines=True)
    most = max(item.iteration for item in kept) or 1
    for line, item in zip(lines, kept, strict=True):
        axis.plot(x, line, color=colors(item.iteration / most), linewidth=1.0, alpha=0.8)
    scale = mpl.cm.ScalarMappable(mpl.colors.Normalize(0, most), colors)
    made.colorbar(scale, ax=axis, label="generation", pad=0.02)


def _draw_first(axis: Any, found: Generations) -> None:
    """How the first generation's designs were spread, and where the best of all lies beside them."""
    first = found.items[0]
    is_feasible = first.feasible(found.feasibility)
    values = np.sort(found.sign * first.objective[is_feasible])
    worth = found.worth_of_first()
    axis.set_title("What the first generation was worth", loc="left")
    axis.set_xlabel(_axis_name(found))
    axis.set_ylabel("designs at least as good [%]")
    if not len(values):
        axis.annotate(
            "no design of the first generation was feasible", (0.5, 0.5), xycoords="axes fraction", ha="center"
        )
        return
    shares = 100.0 * np.arange(1, len(values) + 1) / len(first.objective)
    axis.step(
        found.sign * values,
        shares,
        where="post",
        color=LINES[0][0],
        label=f"first generation, {len(first.objective)} designs",
    )
    bests = [
        item.objective[item.best(found.feasibility, found.sign)]
        for item in found.items
        if item.feasible(found.feasibility).any()
    ]
    best = min(bests) if found.sign > 0 else max(bests)
    axis.axvline(best, color=LINES[1][0], linestyle=LINES[1][1], label=f"best of all, {best:.6g}")
    axis.axvline(
        found.sign * values[0],
        color=LINES[0][0],
        linestyle=":",
        label=f"best of the first, {found.sign * values[0]:.6g}",
    )
    positive = found.sign * values
    if min(positive.min(), best) > 0.0 and positive.max() > 10.0 * best:
        axis.set_xscale("log")
    axis.set_ylim(0, 100)
    share, way = 100.0 * worth["feasible_share"], 100.0 * worth["way_to_the_best"]
    note = f"{share:.0f} % feasible; its best: {way:.0f} % of the way, median to best"
    axis.set_title(f"What the first generation was worth\n{note}", loc="left", fontsize="medium")
    axis.legend(loc="best", fontsize="small", frameon=True, framealpha=0.9, edgecolor="none")
