"""What a run on a grid reports: the design that was chosen, with the grid's unknowns and equations left out.

Bounds of states become rows over time, as those of a simulation are.
"""

from __future__ import annotations

import math
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.problem import Problem, RowBlock, VariableBlock
from ilvren.runs.limits import LimitStates, by_block, plain

if TYPE_CHECKING:
    from ilvren.runs.result import RunResult

__all__ = ["own_view", "shown"]

FloatArray = NDArray[np.float64]


def own_view(problem: Problem) -> Problem:
    """Return a collocated problem without unknowns on a grid and their equations, for being told of."""
    blocks = tuple(block for block in problem.blocks if not block.is_grid)
    rows = [block for block in problem.row_blocks if not block.is_grid]
    for block in _bounded(problem):
        rows.append(_as_rows(block, sum(row.size for row in rows)))
    return replace(
        problem, blocks=blocks, row_blocks=tuple(rows), baseline=problem.baseline[: sum(block.size for block in blocks)]
    )


def _bounded(problem: Problem) -> list[VariableBlock]:
    return [block for block in problem.blocks if block.is_grid and np.isfinite(_limits(block)).any()]


def _limits(block: VariableBlock) -> FloatArray:
    """Return lower and upper (2, size − skipped) of unknowns, without a first value that is held."""
    skipped = _skipped(block)
    return np.array([block.lower[skipped:], block.upper[skipped:]])


def _skipped(block: VariableBlock) -> int:
    each = math.prod(block.shape[1:])
    return each if (block.lower[:each] == block.upper[:each]).all() else 0


def _as_rows(block: VariableBlock, first: int) -> RowBlock:
    skipped = _skipped(block)
    moments = skipped // max(math.prod(block.shape[1:]), 1)
    name = block.name.removesuffix("@grid")
    assert block.times is not None
    return RowBlock(
        name=name,
        entry=name,
        node=-1,
        shape=(block.shape[0] - moments, *block.shape[1:]),
        first=first,
        lower=block.lower[skipped:],
        upper=block.upper[skipped:],
        magnitude=block.magnitude[skipped:],
        unit=block.unit,
        about=block.about,
        line=block.line,
        times=block.times[moments:],
        time_names=block.time_names[moments:],
    )


def shown(result: RunResult) -> RunResult:
    """Return the result of a run on a grid as it is told; of any other as it is."""
    problem = result.problem
    if not problem.is_collocated:
        return result
    n, m = problem.own_size, problem.own_row_count
    view = own_view(problem)
    grids = _bounded(problem)
    bounds, rows = result.bounds, result.constraints
    parts = [(rows.value[:m], rows.lower[:m], rows.upper[:m], rows.sizes[:m], rows.sides[:m], _priced(rows, slice(m)))]
    for block in grids:
        own = slice(block.first + _skipped(block), block.first + block.size)
        parts.append(
            (
                bounds.value[own],
                bounds.lower[own],
                bounds.upper[own],
                bounds.sizes[own],
                bounds.sides[own],
                _priced(bounds, own),
            )
        )
    value, lower, upper, sizes, sides, prices = (np.concatenate(column) for column in zip(*parts, strict=True))
    has_prices = rows.prices is not None or bounds.prices is not None
    told_rows = LimitStates(
        view.row_blocks,
        value,
        (lower, upper),
        sizes=sizes,
        sides=sides,
        prices=prices if has_prices else None,
        are_unique=rows.are_unique,
    )
    told_bounds = LimitStates(
        view.blocks,
        bounds.value[:n],
        (bounds.lower[:n], bounds.upper[:n]),
        sizes=bounds.sizes[:n],
        sides=bounds.sides[:n],
        prices=None if bounds.prices is None else bounds.prices[:n],
        are_unique=bounds.are_unique,
    )
    hidden = [block for block in problem.blocks if block.is_grid]
    return replace(
        result,
        problem=view,
        whole=problem,
        point=result.point[:n],
        bounds=told_bounds,
        constraints=told_rows,
        unknowns=by_block(hidden, [plain(value) for value in result.point]),
    )


def _priced(states: LimitStates, own: slice) -> FloatArray:
    return np.full(len(states.value[own]), np.nan) if states.prices is None else states.prices[own]
