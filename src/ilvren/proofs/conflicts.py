"""Limits that no design within the bounds can meet, as interval arithmetic on the formulas proves, without any run."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from ilvren.formula import MOST_LOOKED_AT, Box, Intervals
from ilvren.problem import Problem, RowBlock, element_name
from ilvren.records import dataclass

__all__ = ["Conflict", "least_conflict", "limit_boxes", "never_met", "proved_conflict", "reach_of", "variable_boxes"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Conflict:
    """Constraints that exclude each other within the bounds, none of which can be left out: their `blocks`, and a
    `sentence`. Of a single row that can never hold, its `row` and the `reach` of its values."""

    blocks: tuple[RowBlock, ...]
    sentence: str
    row: str = ""
    reach: tuple[float, float] | None = None

    @property
    def names(self) -> tuple[str, ...]:
        """Return what to name: the row, or the constraints."""
        return (self.row,) if self.row else tuple(block.name for block in self.blocks)


def proved_conflict(problem: Problem, most_looked_at: int = MOST_LOOKED_AT) -> Conflict | None:
    """Return a conflict that is proved, None where none is by looking at about so many elements of intervals."""
    blocks = [block for block in problem.row_blocks if block.size]
    if not blocks:
        return None
    reach = reach_of(problem, blocks)
    for block in blocks:
        found = never_met(block, reach.boxes[block.node])
        if found is not None:
            return found
    if reach.contract(limit_boxes(blocks), most_looked_at) is None:
        return None
    return least_conflict(problem, blocks)


def variable_boxes(problem: Problem) -> dict[int, Box]:
    """Return the bounds of the variables, by their index in the graph."""
    return {
        index: (block.lower.reshape(block.shape), block.upper.reshape(block.shape))
        for index, block in enumerate(problem.blocks)
    }


def reach_of(problem: Problem, blocks: Sequence[RowBlock]) -> Intervals:
    """Return the intervals of some constraints within the bounds."""
    nodes = [block.node for block in blocks]
    return Intervals(problem.graph, nodes, variable_boxes(problem), problem.parameter_values)


def limit_boxes(blocks: Sequence[RowBlock]) -> dict[int, Box]:
    """Return what constraints allow their nodes to be."""
    found: dict[int, Box] = {}
    for block in blocks:
        low, high = block.lower.reshape(block.shape), block.upper.reshape(block.shape)
        if block.node in found:
            before = found[block.node]
            low, high = np.maximum(before[0], low), np.minimum(before[1], high)
        found[block.node] = (low, high)
    return found


def never_met(block: RowBlock, box: Box) -> Conflict | None:
    """Return the conflict where some row of a constraint, whose values lie in `box`, can never hold."""
    low, high = (np.broadcast_to(side, block.shape).ravel() for side in box)
    room = 1e-9 * np.maximum(np.abs(block.lower), np.abs(block.upper))
    room = np.where(np.isfinite(room), room, 1e-9 * np.where(np.isfinite(block.lower), np.abs(block.lower), 0.0))
    misses = (high < block.lower - room) | (low > block.upper + room)
    if not misses.any():
        return None
    place = int(np.argmax(misses))
    name = element_name(block.name, block.shape, place)
    limit = f">= {block.lower[place]:g}" if high[place] < block.lower[place] else f"<= {block.upper[place]:g}"
    more = f" (and {int(misses.sum()) - 1} more of its rows)" if misses.sum() > 1 else ""
    sentence = (
        f"{name} can never hold within the bounds: its value lies in [{low[place]:.6g}, {high[place]:.6g}],"
        f" asked is {limit}{more}"
    )
    return Conflict((block,), sentence, name, (float(low[place]), float(high[place])))


def least_conflict(problem: Problem, blocks: list[RowBlock]) -> Conflict:
    """Return a smallest set of constraints, all of which together were found to exclude each other: whatever is not
    needed is left out."""
    kept = list(blocks)
    for block in blocks:
        rest = [other for other in kept if other is not block]
        if rest and reach_of(problem, rest).contract(limit_boxes(rest)) is not None:
            kept = rest
    names = tuple(block.name for block in kept)
    if len(kept) == 1:
        text = f"{names[0]} can never hold within the bounds"
        text += ": its rows exclude each other" if kept[0].size > 1 else ""
    else:
        text = f"{', '.join(names[:-1])} and {names[-1]} exclude each other within the bounds"
    told = "; ".join(f"{block.name}: {' '.join(block.text.split())}" for block in kept[:4])
    return Conflict(tuple(kept), f"{text} ({told})")
