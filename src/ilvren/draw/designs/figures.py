"""Designs as figures: parallel coordinates, and pairs of quantities."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import matplotlib as mpl
import numpy as np
from numpy.typing import NDArray

from ilvren.draw.style import figure, ramp, save
from ilvren.problem import node_of

if TYPE_CHECKING:
    from ilvren.explore import DesignTable

__all__ = ["axes_of", "draw_pairs", "draw_parallel"]

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]

# Axes and pairs that one figure can hold.
MOST_AXES, MOST_PAIRED = 10, 5
MISSED = "#bdbdbd"


def axes_of(table: DesignTable, names: Sequence[str]) -> list[str]:
    """Return the names worth an axis: free variables, the objective, and what the rows limit, as many as fit."""
    problem = table.problem
    free = [problem.variables[place].name for place in problem.free]
    objective = table.objectives
    rows = [block.name for block in problem.row_blocks if not block.shape and not block.is_objective]
    rest = [name for name in names if name not in (*free, *objective, *rows)]
    found: dict[object, str] = {}
    for name in (*free[: MOST_AXES - 3], *objective, *rows, *rest):
        if name in names:  # a row is often a derived value by another name
            node = node_of(problem, name)
            found.setdefault(name if node is None else node, name)
    return list(found.values())[:MOST_AXES]


def _more(table: DesignTable, names: Sequence[str], shown: int) -> str:
    """Return how many quantities a figure leaves out."""
    nodes = {name if (node := node_of(table.problem, name)) is None else node for name in names}
    return f"; {shown} of {len(nodes)} quantities" if len(nodes) > shown else ""


def draw_parallel(table: DesignTable, names: Sequence[str], path: str) -> None:
    """Write parallel coordinates of designs to `path` (.png or .svg): a line each, coloured by the objective; designs
    that miss a limit in grey below."""
    axes = axes_of(table, names)
    columns = np.array([table.column(name) for name in axes])
    colours, norm = _colours(table)
    with figure(1, 1, squeeze=False) as (made, panels):
        axis = panels[0, 0]
        low, high = np.nanmin(columns, axis=1), np.nanmax(columns, axis=1)
        width = np.where(high > low, high - low, 1.0)
        shares = (columns - low[:, np.newaxis]) / width[:, np.newaxis]
        shares[high <= low] = 0.5
        for place in _from_worst(table):
            is_met = not table.designs[place].trouble
            axis.plot(
                shares[:, place],
                color=colours[place] if is_met else MISSED,
                alpha=0.75 if is_met else 0.35,
                linewidth=1.1 if is_met else 0.6,
                zorder=2 if is_met else 1,
            )
        _mark_best(table, axis, shares)
        axis.set_xticks(range(len(axes)), [_label(table, name) for name in axes])
        axis.set_yticks([])
        axis.spines["left"].set_visible(False)
        axis.set_xlim(-0.25, max(len(axes) - 0.75, 0.25))
        axis.set_ylim(-0.09, 1.09)
        for k in range(len(axes)):
            axis.axvline(k, color="#444444", linewidth=0.9, zorder=3)
            for share, value, above in ((0.0, low[k], "top"), (1.0, high[k], "bottom")):
                text = f"{value:.6g}"
                axis.text(k, share + (-0.015 if above == "top" else 0.015), text, ha="center", va=above, fontsize=9.5)
        axis.grid(visible=False)
        _finish(table, made, axis, norm, _more(table, names, len(axes)))
        save(made, path)


def draw_pairs(table: DesignTable, names: Sequence[str], path: str) -> None:
    """Write pairs of quantities of designs to `path`: below the diagonal one against the other, on it their spread."""
    axes = axes_of(table, names)[:MOST_PAIRED]
    columns = np.array([table.column(name) for name in axes])
    colours, norm = _colours(table)
    is_met = np.array([not design.trouble for design in table.designs])
    order = _from_worst(table)
    order = np.array([*(p for p in order if not is_met[p]), *(p for p in order if is_met[p])], dtype=int)
    shades = [colours[place] if is_met[place] else MISSED for place in order]
    count = len(axes)
    with figure(count, count, squeeze=False) as (made, panels):
        for i in range(count):
            for j in range(count):
                panel = panels[i, j]
                if j > i:
                    panel.set_visible(False)
                    continue
                if i == j:
                    values = columns[i][np.isfinite(columns[i])]
                    panel.hist(values, bins=min(24, max(4, len(values) // 8)), color="#7f97ab")
                    panel.set_yticks([])
                else:
                    panel.scatter(columns[j][order], columns[i][order], s=9, c=shades, linewidths=0)
                panel.tick_params(labelsize=8.5)
                panel.locator_params(nbins=4)
                if i == count - 1:
                    panel.set_xlabel(_label(table, axes[j]), fontsize=10)
                else:
                    panel.tick_params(labelbottom=False)
                if j == 0 and i > 0:
                    panel.set_ylabel(_label(table, axes[i]), fontsize=10)
                elif i != j:
                    panel.tick_params(labelleft=False)
        _finish(table, made, panels[0, 0], norm, _more(table, names, len(axes)))
        save(made, path)


def _label(table: DesignTable, name: str) -> str:
    unit = table.units.get(name)
    return f"{name}\n[{unit}]" if unit else name


def _from_worst(table: DesignTable) -> IntArray:
    return np.argsort([-design.rank for design in table.designs], kind="stable").astype(np.int64)


def _colours(table: DesignTable) -> tuple[list[object], object]:
    """Return a colour for each design, by its (first) objective among those that meet the limits, and the scale."""
    first = table.objectives[:1]
    value = table.column(first[0]) if first else np.full(len(table.designs), np.nan)
    met = np.array([not design.trouble for design in table.designs], dtype=bool)
    own = value[met & np.isfinite(value)]
    low, high = (float(own.min()), float(own.max())) if len(own) else (0.0, 1.0)
    if not high > low:
        high = low + (abs(low) or 1.0) * 1e-9
    norm = mpl.colors.Normalize(low, high)
    scale = ramp(for_lines=True)
    return [scale(norm(item)) if np.isfinite(item) else MISSED for item in value], norm


def _mark_best(table: DesignTable, axis: object, shares: FloatArray) -> None:
    if not table.designs:
        return
    best = min(range(len(table.designs)), key=lambda place: table.designs[place].rank)
    label = f"{table.designs[best].address}, the best" + (
        "" if not table.designs[best].trouble else f" ({table.designs[best].trouble})"
    )
    axis.plot(shares[:, best], color="#c02020", linewidth=2.2, zorder=4, label=label)  # type: ignore[attr-defined]


def _finish(table: DesignTable, made: object, axis: object, norm: object, more: str) -> None:
    """Add a title, a colour scale, what is grey, and what is left out."""
    problem = table.problem
    runs = ", ".join(table.runs[:4]) + (" …" if len(table.runs) > 4 else "")
    missed = sum(bool(design.trouble) for design in table.designs)
    told = (
        f"{len(table.designs):,} designs of {runs}"
        + (f", {missed:,} of them miss a limit (grey)" if missed else "")
        + more
    )
    made.suptitle(f"{problem.title or problem.source.file}: {told}", x=0.01, ha="left", fontsize=13)  # type: ignore[attr-defined]
    if axis.get_legend_handles_labels()[0]:  # type: ignore[attr-defined]
        axis.legend(loc="upper right", bbox_to_anchor=(1.0, 1.06))  # type: ignore[attr-defined]
    if problem.objectives and missed < len(table.designs):  # else nothing has a colour
        first = problem.objectives[0]
        unit = f" [{first.unit}]" if first.unit else ""
        scale = mpl.cm.ScalarMappable(norm, ramp(for_lines=True))  # type: ignore[arg-type]
        axes = [panel for panel in made.axes if panel.get_visible()]  # type: ignore[attr-defined]
        made.colorbar(scale, ax=axes, shrink=0.7, label=f"{first.name}{unit}")  # type: ignore[attr-defined]
