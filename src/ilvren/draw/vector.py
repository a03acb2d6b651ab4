"""A vector of a design on record against its index, or against another vector of the same length."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ilvren.draw.style import LINES, figure, save

__all__ = ["Line", "draw_vector"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Line:
    """One vector (size,) of a design, under the name it has in the legend."""

    name: str
    values: FloatArray


def draw_vector(
    lines: list[Line],
    path: str,
    *,
    title: str,
    of: str,
    over: str,
    across: FloatArray | None,
    limits: tuple[FloatArray, FloatArray] | None,
) -> None:
    """Write the figure to `path` (.png or .svg): each line over `across`, or its index where that is None, and the
    `limits` (lower, upper) of a constraint or the bounds of a variable, infinite ones left out."""
    with figure(1, 1, squeeze=False) as (made, axes):
        axis = axes[0, 0]
        places = np.arange(len(lines[0].values)) if across is None else across
        for number, line in enumerate(lines):
            colour, dashes, mark = LINES[number % len(LINES)]
            few = len(places) <= 60
            axis.plot(
                places, line.values, color=colour, linestyle=dashes, marker=mark if few else None, ms=4, label=line.name
            )
        for limit, word in zip(limits or (), ("lower limit", "upper limit"), strict=False):
            if np.isfinite(limit).any():
                shown = np.where(np.isfinite(limit), limit, np.nan)
                axis.plot(places, shown, color="#b03030", linewidth=1.2, linestyle=(0, (4, 3)), label=word)
        axis.set_xlabel(over)
        axis.set_ylabel(of)
        axis.set_title(title, loc="left")
        if len(axis.get_lines()) > 1:
            axis.legend()
        save(made, path)
