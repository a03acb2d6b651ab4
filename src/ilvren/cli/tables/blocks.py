"""Table lines for entries of any shape: short vectors element by element, long ones in one line that sums them up."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.cli.tables.table import bound_cells, limits_text, margin_text, number, row_cells
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.formula import Shape
    from ilvren.problem import RowBlock, VariableBlock
    from ilvren.runs import LimitState, LimitStates

__all__ = ["MOST_ELEMENTS", "Line", "bound_lines", "row_lines", "shape_note", "tallied", "tally", "value_text"]

# Longer entries are summed up in one line.
MOST_ELEMENTS = 12


@dataclass(frozen=True)
class Line:
    """One line of a table: its cells, the states it stands for (one, or all of a long entry), and the place of its
    first element in the block."""

    cells: tuple[str, ...]
    states: Sequence[LimitState] | LimitStates
    place: int

    @property
    def is_summary(self) -> bool:
        """Return whether the line stands for several elements."""
        return len(self.states) > 1


def shape_note(shape: Shape) -> str:
    """Return a shape as it stands behind a name: "[40]", "[3, 4]", "" for a scalar."""
    return f"[{', '.join(map(str, shape))}]" if shape else ""


def value_text(value: object, digits: int = 6) -> str:
    """Return a number, or the range of an array and how many of its elements are no numbers."""
    array = np.asarray(value, dtype=float)
    if array.ndim == 0:
        return number(float(array), digits)
    finite = array[np.isfinite(array)]
    if not finite.size:
        return "-"
    low, high = float(finite.min()), float(finite.max())
    text = number(low, digits) if low == high else f"{number(low, 5)} .. {number(high, 5)}"
    missing = array.size - finite.size
    return text + (f" ({missing} not finite)" if missing else "")


def _limit_range(values: NDArray[np.float64]) -> str:
    """Return a bound that all elements share, or the range of bounds; "" where there is none."""
    low, high = float(values.min()), float(values.max())
    if low == high:
        return "" if math.isinf(low) else number(low)
    return f"{number(low, 4)} .. {number(high, 4)}"


def bound_lines(blocks: Sequence[VariableBlock], states: LimitStates) -> list[Line]:
    """Return lines of name, value, unit and the two bounds."""
    lines = []
    for block in blocks:
        if block.is_grid:  # unknowns of a course: no part of what is chosen
            continue
        own = states.of_block(block)
        if block.words:
            lines.append(Line((block.name, str(block.shown(float(own.value[0]))), "", "", ""), own, 0))
            continue
        if block.size <= MOST_ELEMENTS:
            lines += [Line(bound_cells(state), (state,), place) for place, state in enumerate(own)]
            continue
        cells = (
            f"{block.name} {shape_note(block.shape)}",
            value_text(own.value),
            block.unit,
            _limit_range(own.lower),
            _limit_range(own.upper),
        )
        lines.append(Line(cells, own, 0))
    return lines


def row_lines(blocks: Sequence[RowBlock], states: LimitStates) -> list[tuple[RowBlock, Line]]:
    """Return (block, line) with name, value, unit, limits and the least margin."""
    lines = []
    for block in blocks:
        if block.is_grid:
            continue
        own = states.of_block(block)
        if block.size <= MOST_ELEMENTS:
            lines += [(block, Line(row_cells(state), (state,), place)) for place, state in enumerate(own)]
            continue
        least = float(own.margin.min())  # NaN where one is
        is_one = bool((own.lower == own.lower[0]).all() and (own.upper == own.upper[0]).all())
        cells = (
            _summed_name(block, own),
            value_text(own.value),
            block.unit,
            limits_text(float(own.lower[0]), float(own.upper[0])) if is_one else "by element",
            margin_text(least, float(np.abs(own.value).max())),
        )
        lines.append((block, Line(cells, own, 0)))
    return lines


def _summed_name(block: RowBlock, own: LimitStates) -> str:
    """Return a long entry's name with its shape, or over time with the moment at which it is tightest."""
    if block.times is None:
        return f"{block.name} {shape_note(block.shape)}"
    room = np.where(np.isnan(own.margin), -np.inf, own.margin)
    tightest = block.row_name(int(np.argmin(room))).removeprefix(block.name)
    return f"{block.name} ({len(block.times)} moments, tightest {tightest})"


def tally(words: Sequence[str]) -> str:
    """Return counts of the states of elements, as "2 missed, 5 active"; --full tells the side of each."""
    counts: dict[str, int] = {}
    for word in words:
        if word:
            short = word.partition(":")[0]
            counts[short] = counts.get(short, 0) + 1
    return tallied(counts)


def tallied(counts: Mapping[str, int]) -> str:
    """Return counts of words as "2 missed, 5 active"."""
    return ", ".join(f"{count} {word}" for word, count in counts.items())
