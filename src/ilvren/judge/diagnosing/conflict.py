"""A small set of limits that cannot hold together near a design, found by relaxed solves.

Candidates are the limits strongly active (with a multiplier that is not 0) at the design of least violation: there
the pressures of missed rows, J'v, are
balanced by those of rows just met and of bounds, so those alone keep the violation from falling. One after the other is
left out: where the others still cannot be met, it is innocent and stays out; so every limit of the set that is left
makes a difference. On a grid the equations between its unknowns, and bounds of states, say what a course is: they
always hold.

Source: J. W. Chinneck, E. W. Dravnieks, "Locating minimal infeasible constraint sets in linear programs", 1991.
"""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.evaluate import Gate, measured
from ilvren.records import dataclass
from ilvren.runs import AUTOMATIC, RunResult, Settings, limit_states, run_as_it_stands

if TYPE_CHECKING:
    from ilvren.problem import Problem

__all__ = ["Conflict", "find_conflict"]

FloatArray = NDArray[np.float64]

# Limits beyond which a set is not filtered one by one.
MOST_CANDIDATES = 60
# What one relaxed solve may use.
EVALUATIONS, SECONDS = 600, 20.0
# The same on a grid, where second derivatives lead to a feasible design in few steps, or none does.
GRID_EVALUATIONS = 150


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
    there = _Pressing.of(started, least, feasibility)
    rows, bounds = there.rows, there.bounds
    fixed, given = there.fixed, there.given
    if _solved(started, rows | given, bounds | fixed, feasibility).holds:
        rows, bounds = every_row & ~given, every_bound & ~fixed  # more than what presses there makes the conflict
    rows &= np.isfinite(started.joined_rows("lower")) | np.isfinite(started.joined_rows("upper"))
    bounds &= np.isfinite(started.joined("lower")) | np.isfinite(started.joined("upper"))
    candidates = _candidates(started, rows, bounds, there.violation)
    is_minimal = len(candidates) <= MOST_CANDIDATES
    for is_row, places in candidates if is_minimal else ():
        chosen = rows if is_row else bounds
        chosen[places] = False
        if _solved(started, rows | given, bounds | fixed, feasibility).holds:
            chosen[places] = True
    return Conflict(tuple(np.flatnonzero(rows).tolist()), tuple(np.flatnonzero(bounds).tolist()), is_minimal)


def _candidates(
    problem: Problem, rows: NDArray[np.bool_], bounds: NDArray[np.bool_], violation: FloatArray
) -> list[tuple[bool, NDArray[np.intp]]]:
    """Return (is a row, its places) of what is left out together. Rows come first, the least missed first: bounds are
    what one asks about last. On a grid what one limit or one control's bounds ask at its moments is one."""
    chosen = [(True, np.flatnonzero(rows)), (False, np.flatnonzero(bounds))]
    if not problem.is_collocated:
        chosen[0] = (True, chosen[0][1][np.argsort(violation[rows], kind="stable")])
        return [(is_row, places[k : k + 1]) for is_row, places in chosen for k in range(len(places))]
    found = []
    spans = ([(b.first, b.size) for b in problem.row_blocks], [(b.first, b.size) for b in problem.blocks])
    for (is_row, places), blocks in zip(chosen, spans, strict=True):
        own = [places[(places >= first) & (places < first + size)] for first, size in blocks]
        own = [group for group in own if len(group)]
        found += [
            (is_row, group) for group in (sorted(own, key=lambda group: violation[group].max()) if is_row else own)
        ]
    return found


@dataclass(frozen=True)
class _Pressing:
    """What presses at the design of least violation: rows (m,) and bounds (n,), misses of rows over their sizes, and
    what is no limit that one might give up: bounds of what is `fixed`, rows that are `given`."""

    rows: NDArray[np.bool_]
    bounds: NDArray[np.bool_]
    violation: FloatArray
    fixed: NDArray[np.bool_]
    given: NDArray[np.bool_]

    @classmethod
    def of(cls, problem: Problem, least: RunResult, feasibility: float) -> _Pressing:
        """Return what presses where a search for a feasible design has ended."""
        fixed = problem.joined("lower") == problem.joined("upper")
        given = np.zeros(problem.row_count, dtype=bool)
        if not problem.is_collocated:
            rows = (least.constraints.sides != 0) | (least.constraints.violation > 0.0)
            return cls(rows, (least.bounds.sides != 0) & ~fixed, least.constraints.violation, fixed, given)
        for block in problem.row_blocks:
            given[block.first : block.first + block.size] = block.is_grid
        for unknowns in problem.blocks:
            fixed[unknowns.first : unknowns.first + unknowns.size] |= unknowns.is_grid
        gate = Gate(problem)
        point = np.array(least.full_point)
        found, measures = gate.evaluate(point), measured(problem, gate)
        bounds, all_rows = limit_states(problem, measures, point, found, None, feasibility=feasibility)
        near = feasibility * np.maximum(np.abs(point), 1.0)
        at = (point <= bounds.lower + near) | (point >= bounds.upper - near)
        close = feasibility * all_rows.sizes
        pressed = (all_rows.value <= all_rows.lower + close) | (all_rows.value >= all_rows.upper - close)
        return cls(pressed & ~given, at & ~fixed, all_rows.violation, fixed, given)


def _solved(problem: Problem, rows: NDArray[np.bool_], bounds: NDArray[np.bool_], feasibility: float) -> RunResult:
    """Look for a design that meets the chosen rows and bounds, from the start, then from the file's."""
    relaxed = _relaxed(problem, rows, bounds)
    most = GRID_EVALUATIONS if problem.is_collocated else EVALUATIONS
    settings = Settings(method=AUTOMATIC, feasibility=feasibility, evaluations=most, seconds=SECONDS)
    result = run_as_it_stands(relaxed, settings)
    if result.holds or problem.start == problem.baseline:
        return result
    again = run_as_it_stands(relaxed.with_starts(np.array(problem.baseline)), replace(settings, seconds=None))
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
