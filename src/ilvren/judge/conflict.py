"""A small set of limits that cannot hold together near a design, found by relaxed solves.

Candidates are the limits that press at the design of least violation: there the pressures of missed rows, J'v, are
balanced by those of rows just met and of bounds, so those alone keep the violation from falling. One after the other is
left out: where the others still cannot be met, it is innocent and stays out; so every limit of the set that is left
makes a difference.

Source: J. W. Chinneck, E. W. Dravnieks, "Locating minimal infeasible constraint sets in linear programs", 1991.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ilvren.problem import Problem
from ilvren.runs import RunResult, run

__all__ = ["Conflict", "find_conflict"]

FloatArray = NDArray[np.float64]

# Limits beyond which a set is not filtered one by one.
MOST_CANDIDATES = 60
# What one relaxed solve may use.
EVALUATIONS, SECONDS = 600, 20.0


@dataclass(frozen=True)
class Conflict:
    """`rows` (places of rows) and `bounds` (places of variables) that were not met together by any relaxed solve, each
    of which can be left out to meet the rest. `is_minimal` is false where there were too many to be tried one by
    one."""

    rows: tuple[int, ...]
    bounds: tuple[int, ...]
    is_minimal: bool


def find_conflict(problem: Problem, point: FloatArray, feasibility: float) -> Conflict | None:
    """Return a small conflict near `point` (n,), or None where a design was found that meets all limits."""
    started = problem.with_starts(point)
    every_row = np.ones(problem.row_count, dtype=bool)
    every_bound = np.ones(problem.size, dtype=bool)
    least = _solved(started, every_row, every_bound, feasibility)
    if least.holds:
        return None
    rows = (least.constraints.sides != 0) | (least.constraints.violation > 0.0)
    bounds = (least.bounds.sides != 0) & (least.bounds.lower < least.bounds.upper)
    fixed = least.bounds.lower == least.bounds.upper
    if _solved(started, rows, bounds | fixed, feasibility).holds:
        rows, bounds = every_row, every_bound & ~fixed  # more than what presses there is needed for the conflict
    rows &= np.isfinite(least.constraints.lower) | np.isfinite(least.constraints.upper)
    bounds &= np.isfinite(least.bounds.lower) | np.isfinite(least.bounds.upper)
    if int(rows.sum() + bounds.sum()) > MOST_CANDIDATES:
        return Conflict(tuple(np.flatnonzero(rows).tolist()), tuple(np.flatnonzero(bounds).tolist()), False)
    # Rows first, the least missed first: bounds are what one asks about last.
    order = sorted(np.flatnonzero(rows).tolist(), key=least.constraints.violation.tolist().__getitem__)
    for chosen, places in ((rows, order), (bounds, np.flatnonzero(bounds).tolist())):
        for place in places:
            chosen[place] = False
            if _solved(started, rows, bounds | fixed, feasibility).holds:
                chosen[place] = True
    return Conflict(tuple(np.flatnonzero(rows).tolist()), tuple(np.flatnonzero(bounds).tolist()), True)


def _solved(problem: Problem, rows: NDArray[np.bool_], bounds: NDArray[np.bool_], feasibility: float) -> RunResult:
    """Look for a design that meets the chosen rows and bounds, from the start, then from the file's."""
    relaxed = _relaxed(problem, rows, bounds)
    result = run(relaxed, feasibility=feasibility, evaluations=EVALUATIONS, seconds=SECONDS)
    if result.holds or problem.start == problem.baseline:
        return result
    again = run(relaxed.with_starts(np.array(problem.baseline)), feasibility=feasibility, evaluations=EVALUATIONS)
    return again if again.holds or again.violation < result.violation else result


def _relaxed(problem: Problem, rows: NDArray[np.bool_], bounds: NDArray[np.bool_]) -> Problem:
    """Return the problem without objective and without the limits that are not chosen."""
    blocks = []
    for block in problem.blocks:
        kept = bounds[block.first : block.first + block.size]
        if block.kind == "continuous":
            lower, upper = np.where(kept, block.lower, -np.inf), np.where(kept, block.upper, np.inf)
            block = replace(block, lower=lower, upper=upper)
        blocks.append(block)
    row_blocks = []
    for row in problem.row_blocks:
        kept = rows[row.first : row.first + row.size]
        lower, upper = np.where(kept, row.lower, -np.inf), np.where(kept, row.upper, np.inf)
        row_blocks.append(replace(row, lower=lower, upper=upper))
    searched = replace(problem, objective=None, objectives=(), confirmation=None)
    return replace(searched, blocks=tuple(blocks), row_blocks=tuple(row_blocks))
