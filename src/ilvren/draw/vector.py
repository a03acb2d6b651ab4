"""A vector of a design on record against its index, or against another vector of the same length."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ilvren.draw.style import LINES, figure, save
from ilvren.records import dataclass

__all__ = ["Line", "draw_vector"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Line:
    """One vector (size,) of a design, under the name it has in the legend, over another one; `is_past`: of a design
    on the way."""

    name: str
    values: FloatArray
    across: FloatArray | None = None
    is_past: bool = False


def draw_vector(
    lines: list[Line],
    path: str,
    *,
    title: str,
    of: str,
    against: str,
    limits: tuple[FloatArray, FloatArray] | None,
    is_outline: bool = False,
) -> None:
    """Write the figure to `path` (.png or .svg): each line over its `across`, or its index where that is None, and the
    `limits` (lower, upper) of a constraint or the bounds of a variable, infinite ones left out. An outline is drawn
    with the same scale both ways."""
    past = [line for line in lines if line.is_past]
    with figure(1, 1, squeeze=False) as (made, axes):
        axis = axes[0, 0]
        for number, line in enumerate(past):  # the later the darker, the first one with its name
            shade = str(0.8 - 0.45 * number / max(len(past) - 1, 1))
            label = line.name if number == 0 else f"on the way ({len(past) - 1})" if number == 1 else None
            style = "dashed" if number == 0 else "solid"
            axis.plot(_places(line), line.values, color=shade, linewidth=0.9, linestyle=style, label=label)
        for number, line in enumerate([line for line in lines if not line.is_past]):
            colour, dashes, mark = LINES[number % len(LINES)]
            few = len(line.values) <= 60
            axis.plot(
                _places(line),
                line.values,
                color=colour,
                linestyle=dashes,
                marker=mark if few else None,
                ms=4,
                label=line.name,
                zorder=3,
            )
        places = _places(next(line for line in lines if not line.is_past))
        for limit, word in zip(limits or (), ("lower limit", "upper limit"), strict=False):
            if np.isfinite(limit).any():
                shown = np.where(np.isfinite(limit), limit, np.nan)
                axis.plot(places, shown, color="#b03030", linewidth=1.2, linestyle=(0, (4, 3)), label=word)
        axis.set_xlabel(against)
        axis.set_ylabel(of)
        if is_outline:
            axis.set_aspect("equal", adjustable="datalim")
        axis.set_title(title, loc="left")
        if len(axis.get_lines()) > 1:
            axis.legend()
        save(made, path)


def _places(line: Line) -> FloatArray:
    return np.arange(len(line.values), dtype=np.float64) if line.across is None else line.across
