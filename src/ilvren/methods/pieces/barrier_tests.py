"""When an interior point method ends (A-2 of its paper), and why: verdicts on iterations that lead nowhere.

Source: A. Wächter, L. T. Biegler, "On the implementation of an interior-point filter line-search algorithm for
large-scale nonlinear programming", Mathematical Programming 106, 2006, pages 25–57; its letters are used.
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Assessment
from ilvren.methods.pieces.barrier import (
    Stage,
    State,
    constraint_miss,
    scaled_error,
)
from ilvren.methods.pieces.barrier_choice import BARRIER_ERROR, LAST_BARRIER
from ilvren.methods.pieces.descent import endless
from ilvren.methods.pieces.filter_memory import Memory
from ilvren.methods.pieces.points import Point
from ilvren.records import dataclass

__all__ = ["End", "EndTests", "Move", "Outer"]

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]

# Iterations at the last μ, and iterations of (3), without an end.
MOST_AT_END, MOST_IN_RESTORATION = 10, 500
# Steps of this share of the variables are rounding; so many in turn are the end.
STILL, MOST_STILL = 1e-12, 4
# Iterations without a clearly lower error.
MOST_IDLE, CLEARLY_LOWER = 150, 0.99
# Iterations at a small μ with the measured conditions met, without the method's own being met.
MOST_LINGERING = 10
ROUNDED = "first-order conditions hold; rounding allows no further decrease"
# Tiny steps in turn from which a lower μ may still lead on.
MOST_TINY = 3
# Says whether a point (x, t) of (3) is good enough to return to.
Outer = Callable[[Point, FloatArray], bool]


@dataclass(frozen=True)
class End:
    """Where an iteration ended, what it claims, and why."""

    state: State
    claim: str
    reason: str = ""


@dataclass(frozen=True)
class Move:
    """How the iteration came to a state: the length of the step, a note on it, and how well the prediction held."""

    state: State
    length: float = math.nan
    note: str = ""
    gain_ratio: float = math.nan


class EndTests:
    """When the iteration ends (A-2), and why: counts of what leads nowhere, and the verdicts on it."""

    def __init__(self, stage: Stage, outer: Outer | None) -> None:
        self._stage, self._outer = stage, outer
        self._goal = 0.01 * stage.task.tolerance
        self._has_barrier = bool(np.isfinite(stage.lower).any() or np.isfinite(stage.upper).any())
        self._count = self._idle = self._at_end = self._lingering = self._still = 0
        self._lowest = math.inf
        self.tiny = 0

    def ended_first(self, state: State, assessment: Assessment, error: float) -> End | None:
        """Return the end where a restoration is done, nothing leads on, or the objective falls without end."""
        if self._outer is not None:
            self._count += 1
            if self._outer(state.point, state.t):
                return End(state, "restored")
            if self._count > MOST_IN_RESTORATION:
                return End(state, "stalled", "feasibility could not be restored")
        lower = error < CLEARLY_LOWER * self._lowest
        self._lowest, self._idle = (error, 0) if lower else (self._lowest, self._idle + 1)
        if self._idle > MOST_IDLE:
            return End(state, "stalled", f"{MOST_IDLE} iterations brought the conditions no nearer")
        if self._outer is not None:
            return End(state, "conflict") if error <= self._goal else None
        ended = endless(self._stage.task, state.point, assessment)
        return None if ended is None else End(state, ended.claim, ended.reason)

    def ended(self, state: State, assessment: Assessment, error: float) -> End | None:
        """Return the end where the conditions of (1) hold for a small μ, and the measured ones, or never will."""
        goal, is_main = self._goal, self._outer is None
        if is_main and error <= goal and assessment.meets_conditions and (state.mu <= goal or not self._has_barrier):
            return End(state, "converged", "first-order conditions hold, and the barrier is gone")
        if is_main:
            # Along flat valleys the method's own conditions fall ever more slowly, long after the measured ones hold.
            self._lingering = self._lingering + 1 if assessment.meets_conditions and state.mu <= goal else 0
            if self._lingering > MOST_LINGERING:
                reason = f"first-order conditions hold, and have for {MOST_LINGERING} iterations"
                return End(state, "converged", reason)
        if state.mu <= LAST_BARRIER * 1.01 and scaled_error(self._stage, state, state.mu) <= BARRIER_ERROR * goal:
            self._at_end += 1
            if self._at_end > MOST_AT_END:
                return End(state, "stalled", "the barrier is gone, but the measured conditions do not hold")
        return None

    def ended_tiny(self, state: State, assessment: Assessment) -> End | None:
        """Return the end where steps have been as small as rounding for long, or at the last μ."""
        self.tiny += 1
        if self.is_first_tiny(state):
            return None
        if self._outer is None and assessment.meets_conditions:
            return End(state, "converged", ROUNDED)
        is_feasible = constraint_miss(state.rest(self._stage)) <= self._stage.task.feasibility
        if is_feasible or self._outer is not None:
            return End(state, "stalled", "steps have become as small as rounding")
        return None

    def is_first_tiny(self, state: State) -> bool:
        """Return whether a lower μ may still lead on from a step as small as rounding."""
        return self.tiny <= MOST_TINY and state.mu > LAST_BARRIER

    def ended_without_step(self, state: State, assessment: Assessment, error: float, memory: Memory) -> End | None:
        """Return the end where no step is acceptable and nothing is left to be tried but restoring feasibility."""
        nearly = math.sqrt(self._stage.task.tolerance)
        if self._outer is not None:
            if memory.has_curvature:
                return None
            claim = "conflict" if error <= nearly else "stalled"
            return End(state, claim, "feasibility could not be restored")
        if assessment.meets_conditions and error <= nearly:
            return End(state, "converged", ROUNDED)
        if error <= self._goal:
            reason = "the method's own conditions hold, but not to the accuracy asked for as measured"
            return End(state, "stalled", reason)
        return None

    def ended_still(self, state: State, taken: Move, assessment: Assessment) -> End | None:
        """Return the end where steps accepted one after the other at the last μ are rounding alone."""
        size = max(1.0, float(np.abs(taken.state.point.x).max(initial=0.0)))
        self._still = self._still + 1 if taken.length <= STILL * size else 0
        if self._still <= MOST_STILL or state.mu > LAST_BARRIER * 1.01 or self._outer is not None:
            return None
        if assessment.meets_conditions:
            return End(state, "converged", ROUNDED)
        return End(state, "stalled", "steps have become as small as rounding")
