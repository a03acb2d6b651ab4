"""The choice of the barrier's μ in an interior point method: anew at each step, or kept and lowered (A-3 of its paper).

Source: A. Wächter, L. T. Biegler, "On the implementation of an interior-point filter line-search algorithm for
large-scale nonlinear programming", Mathematical Programming 106, 2006, pages 25–57; its letters are used.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.pieces.barrier import (
    Stage,
    State,
    average_gap,
    bound_steps,
    dual_fraction_to_boundary,
    fraction_to_boundary,
    powered,
    scaled_error,
)
from ilvren.methods.pieces.filter_memory import Memory
from ilvren.methods.pieces.primal_dual import (
    Direction,
    NewtonMatrix,
    direction,
)

__all__ = [
    "BARRIER_ERROR",
    "BARRIER_SHARE",
    "FIRST_BARRIER",
    "LAST_BARRIER",
    "MOST_STUCK",
    "WARM_BARRIER",
    "BarrierChoice",
]

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]

# μ: first (paper), last, how it falls (κ_μ, θ_μ), and κ_ε: how well (1) is solved before it does (paper).
FIRST_BARRIER, WARM_BARRIER, LAST_BARRIER = 0.1, 1e-5, 1e-12
BARRIER_SHARE, BARRIER_POWER, BARRIER_ERROR = 0.2, 1.5, 10.0
MOST_BARRIER = 1e4
# μ is chosen anew at each step while the error falls by this share within so many; else it is kept, at a share of the
# average complementarity, until (1) is solved.
PATIENCE, KEPT_SHARE, FIXED_SHARE = 5, 0.99, 0.5
# Changes to a fixed μ without an acceptable step, and restorations that move slacks alone.
MOST_STUCK = 5


class BarrierChoice:
    """The choice of μ. While the error falls it is chosen anew at each step, from the step for μ = 0; else it is kept
    until (1) is solved, and lowered then (A-3, equation 7 of the paper).

    Source: J. Nocedal, A. Wächter, R. A. Waltz, "Adaptive barrier update strategies for nonlinear interior methods",
    SIAM Journal on Optimization 19, 2009: free and fixed mode; the choice in free mode is Mehrotra's.
    """

    def __init__(self, stage: Stage, memory: Memory, *, is_free: bool) -> None:
        self._stage, self._memory, self._is_main, self.is_free = stage, memory, is_free, is_free
        self._has_barrier = bool(np.isfinite(stage.lower).any() or np.isfinite(stage.upper).any())
        self._errors: list[float] = []
        self.failures = 0

    def lower_where_solved(self, state: State, error: float) -> None:
        """Change to fixed mode where the error falls no longer; lower a fixed μ where (1) is solved for it."""
        self._errors.append(error)
        recent = self._errors[-PATIENCE - 1 : -1]
        if self.is_free and len(self._errors) > PATIENCE and not error <= KEPT_SHARE * max(recent):
            self._fix(state)
        before = state.mu
        while (
            not self.is_free
            and scaled_error(self._stage, state, state.mu) <= BARRIER_ERROR * state.mu
            and state.mu > LAST_BARRIER
        ):
            state.mu = max(LAST_BARRIER, min(BARRIER_SHARE * state.mu, powered(state.mu, BARRIER_POWER)))
            self.is_free, self._errors = self._is_main, []
        if state.mu < before:
            self._memory.filter.clear()

    def probe(self, state: State, newton: NewtonMatrix) -> Direction | None:
        """In free mode, choose μ by the step for μ = 0, and return that step."""
        if not (self.is_free and self._has_barrier):
            return None
        aimed = direction(self._stage, state, newton, 0.0)
        probed = None if aimed is None else _probed_barrier(self._stage, state, aimed)
        if probed is not None:
            state.mu = probed
            self._memory.filter.clear()
        return aimed

    def keep_for_a_while(self, state: State) -> bool:
        """Change to fixed mode where no step is acceptable in free mode; return whether that is a change."""
        if not self.is_free or self.failures >= MOST_STUCK:
            return False
        self.failures += 1
        self._errors = []
        self._fix(state)
        return True

    def lower(self, state: State) -> None:
        """Lower μ, (1) being solved for it as far as rounding allows."""
        state.mu = max(LAST_BARRIER, BARRIER_SHARE * state.mu)
        self._memory.filter.clear()

    def _fix(self, state: State) -> None:
        self.is_free = False
        state.mu = max(LAST_BARRIER, min(MOST_BARRIER, FIXED_SHARE * average_gap(self._stage, state)))
        self._memory.filter.clear()


def _probed_barrier(stage: Stage, state: State, aimed: Direction) -> float | None:
    """Return the μ that the step for μ = 0, `aimed`, suggests: the average distance from complementarity, times the
    cube of the share of it that this step would leave.

    Source: S. Mehrotra, "On the implementation of a primal-dual interior point method", 1992.
    """
    count, (low, high) = stage.bound_count, state.gaps(stage)
    if not count:
        return None
    dz_low, dz_high = bound_steps(stage, state, aimed.dw, 0.0)
    primal = fraction_to_boundary((low, high), aimed.dw, 1.0)
    dual = min(
        dual_fraction_to_boundary(state.z_low, dz_low, 1.0), dual_fraction_to_boundary(state.z_high, dz_high, 1.0)
    )
    now = after = 0.0
    for has, sign, gap, z, dz in (
        (stage.bounded[0], 1.0, low, state.z_low, dz_low),
        (stage.bounded[1], -1.0, high, state.z_high, dz_high),
    ):
        own, of_z = gap[has], z[has]
        now += float(own @ of_z)
        after += float((own + (sign * primal) * aimed.dw[has]) @ (of_z + dual * dz[has]))
    share = min(max(after / now, 0.0), 1.0) if now > 0.0 else 1.0
    mu = share**3 * now / count
    return min(max(mu, LAST_BARRIER), MOST_BARRIER) if math.isfinite(mu) else None
