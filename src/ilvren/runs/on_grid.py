"""The stages of a run over time: from one look at its problem to a finer one, and another way where a grid fails.

Where the equations on a grid cannot be met from the guess, the controls are first given a few pieces joined by lines
and the states simulated: few variables, whose every design is a course. Its best one is the guess of a grid again.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import IlvrenError
from ilvren.problem import (
    Problem,
    begun,
    carried,
    carried_multipliers,
    collocated_problem,
    limit_sizes,
    refined_problem,
    simulated_problem,
)
from ilvren.records import dataclass
from ilvren.runs.gridding import JUMPED
from ilvren.runs.refining import MOST_STAGES, REFINED, is_seen_at_moments, left_open, next_refinement
from ilvren.runs.warm import warm_start

if TYPE_CHECKING:
    from ilvren.runs.result import RunResult

__all__ = ["NextStage", "Way"]

FloatArray = NDArray[np.float64]
Multipliers = tuple[FloatArray, FloatArray]

# Outcomes that end a run in whatever stage.
ENDS = frozenset({"interrupted", "model-failed", "exhausted"})
# Pieces of a control that is tried in a simulation first, and evaluations that this may take.
FEW_PIECES, FEW_EVALUATIONS = 8, 600

# Stages that locate jumps of controls; and iterations of a stage after which its multipliers are worth carrying on:
# more tell of a valley so flat that they mean little.
MOST_JUMPS, FEW_ITERATIONS = 3, 30


@dataclass(frozen=True)
class NextStage:
    """The next stage's problem, begun where it begins, the multipliers known there, and why there is one. `is_aside`:
    it makes a guess, by a method of its own, within so many `evaluations`."""

    problem: Problem
    multipliers: Multipliers | None
    told: str
    is_aside: bool = False
    evaluations: int | None = None


class Way:
    """Which stages a run over time goes through. `first` is the problem of the first one; `unsettled` says what the
    last look at what was found has left open."""

    def __init__(self, first: Problem) -> None:
        self.unsettled = ""
        self._first = first
        self._count = 0
        self._has_tried_few = False
        self._is_aside = False
        self._jumps, self._iterations = 0, 0

    def after(self, problem: Problem, result: RunResult, calls: Sequence[Any]) -> NextStage | None:
        """Return the stage after one on `problem` that ended with `result`; None where nothing is gained by one."""
        self._count += 1
        if self._is_aside:
            self._is_aside = False
            return self._back_on_grid(problem, result)
        if result.outcome in REFINED and self._count <= MOST_STAGES:
            return self._finer(problem, result, calls)
        if result.outcome in REFINED or result.outcome == "exhausted":
            self.unsettled = _left_open(problem, result)
        if result.outcome in REFINED:
            return None
        is_open = result.outcome not in ENDS and not result.conflict  # a proved conflict is the end of it
        can_try = problem.is_collocated and is_open and not self._has_tried_few
        return self._few_pieces() if can_try else None

    def _finer(self, problem: Problem, result: RunResult, calls: Sequence[Any]) -> NextStage | None:
        point = np.array(result.full_point)
        finds_jumps = self._jumps < MOST_JUMPS
        found = next_refinement(
            problem, point, calls, report=result.time_error, finds_jumps=finds_jumps, multipliers=result.multipliers
        )
        told, self.unsettled = found.told, found.unsettled
        if found.refinement is None:
            return None
        has_jumps = JUMPED in told
        self._jumps += has_jumps
        finer = refined_problem(problem, found.refinement)
        if not problem.is_collocated:
            finer = finer.with_starts(point)
            known = warm_start(finer, result.to_record(), f"stage {self._count}").multipliers
            return NextStage(finer, known, told)
        finer = begun(finer, carried(problem, point, finer), limit_sizes(problem))
        known = None
        is_plain = result.counts["iterations"] - self._iterations <= FEW_ITERATIONS and not has_jumps
        if result.multipliers is not None and is_plain:
            known = carried_multipliers(problem, result.multipliers, finer)
        self._iterations = result.counts["iterations"]
        return NextStage(finer, known, told)

    def _few_pieces(self) -> NextStage | None:
        """Return the stage that simulates controls of a few pieces."""
        self._has_tried_few = True
        own = simulated_problem(self._first)
        try:
            few = refined_problem(own, replace(own.refinement, pieces=FEW_PIECES, anchor=None))
            point = carried(own, np.array(own.start), few)
        except IlvrenError:  # a file whose formulas need the pieces that it has
            return None
        self._is_aside = True
        told = f"the equations on the grid were not met: controls of {FEW_PIECES} pieces, simulated, for another guess"
        return NextStage(few.with_starts(point), None, told, is_aside=True, evaluations=FEW_EVALUATIONS)

    def _back_on_grid(self, few: Problem, result: RunResult) -> NextStage | None:
        from ilvren.dynamics.schemes import DEFAULT_SCHEME

        scheme = self._first.refinement.scheme or DEFAULT_SCHEME
        grids = dict(self._first.refinement.grids)
        there = few.with_starts(np.array(result.point))
        made, _ = collocated_problem(there, scheme, grids, pieces=0)
        return NextStage(made, None, f"back on the grid, begun along what that found ({result.outcome})")


def _left_open(problem: Problem, result: RunResult) -> str:
    """Return what a closer look would have found; models are not called for it, the run having used up what it may."""
    point = np.array(result.full_point)
    if problem.is_collocated or not np.isfinite(point).all():
        return ""
    if problem.sources and is_seen_at_moments(problem):
        return "limits and measures were looked at at the moments of the grid alone: the run ended before a closer look"
    return "" if problem.sources else left_open(problem, point, result.violation)
