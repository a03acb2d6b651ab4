"""A design's curves beside a reference, and by how much they differ."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ilvren.draw.style import figure, save
from ilvren.errors import RequestError

if TYPE_CHECKING:
    from ilvren.judge import Verdict

__all__ = ["draw_agreement"]

MOST_CURVES = 4


def draw_agreement(verdict: Verdict, path: str) -> None:
    """Write the figure to `path` (.png or .svg). Raises RequestError where no entry is a curve."""
    curves = [item for item in verdict.agreements if len(item.values) > 1][:MOST_CURVES]
    if not curves:
        raise RequestError("--output: the reference holds no curve to draw, only single values")
    rows = 2 * len(curves)
    with figure(rows, 1, gridspec_kw={"height_ratios": (3, 1) * len(curves)}) as (made, axes):
        for place, item in enumerate(curves):
            upper, lower = axes[2 * place], axes[2 * place + 1]
            order = np.argsort(item.places)
            x = item.places[order]
            upper.plot(
                x, item.reference[order], color="#222222", linewidth=1.2, linestyle=(0, (5, 3)), label="reference"
            )
            upper.plot(
                x,
                item.values[order],
                color="#0b6fa4",
                linewidth=1.8,
                marker="o",
                markersize=4,
                markevery=max(1, len(x) // 25),
                label=f"{verdict.run or 'the design'}",
            )
            unit = f" [{item.unit}]" if item.unit else ""
            upper.set_ylabel(item.name + unit)
            upper.legend(loc="best")
            lower.axhline(0.0, color="#555555", linewidth=0.8)
            lower.plot(x, (item.values - item.reference)[order], color="#b3441e", linewidth=1.4)
            lower.set_ylabel("difference" + unit)
            lower.set_xlabel(item.along or "element")
            at = np.argmin(np.abs(item.places - item.at))
            upper.annotate(
                f"largest deviation {item.deviation:.1e} of the largest value",
                (item.at, item.values[at]),
                xytext=(0.02, 0.05),
                textcoords="axes fraction",
                color="#b3441e",
                arrowprops={"arrowstyle": "-", "color": "#b3441e", "linewidth": 0.8},
            )
        axes[0].set_title(verdict.problem.title or verdict.problem.source.file, loc="left", fontweight="bold")
        save(made, path)
