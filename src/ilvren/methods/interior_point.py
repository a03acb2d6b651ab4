"""Primal-dual interior point method with a filter line search: smooth problems with any limits, small or very large.

Rows become equations with slacks: r(x, t) = c(x) + A t − b, where t holds the slacks of the inequalities. For a
sequence of μ → 0 it solves

    minimize  φ(w) = f(x) + ρ't − μ Σ log(w − l) − μ Σ log(u − w)   subject to  r(w) = 0,   w = (x, t)      (1)

by Newton's method on the conditions of (1) with z_l (w − l) = μ, z_u (u − w) = μ kept as equations of their own:

    [ H + Σx + δ         J' ] [dx]     [ ∇φ_x + J'y ]
    [         Σt + δ     A' ] [dt] = − [ ∇φ_t + A'y ]        Σ = z_l/(w − l) + z_u/(u − w)                  (2)
    [ J       A       −δc   ] [dy]     [ r          ]

t is eliminated, what remains is factored, and δ raised until the inertia is that of a descent direction. Steps keep
the share τ of every distance to a bound; a filter of pairs (θ = |r|₁, φ) accepts trial points that lower either
enough, with second-order corrections; where none is left, feasibility is restored:

    minimize  ρ Σ (p + q) + ½ ζ |D (x − x_R)|²   subject to  r(w) − p + q = 0,   p, q ≥ 0                  (3)

which is of the form (1) and solved by the same iteration. When (3) ends at a positive violation, the limits conflict.

Needs     gradients; second derivatives of formulas, to which what models add is estimated (`models.hessians`), or a
          quasi-Newton matrix where that leads nowhere (6 of `algebra.updates`).
Handles   bounds, inequalities, equalities.   Cost   one gradient, Hessian, factorization of n + m per iteration.
Stops     when the conditions measured by the driver hold and the conditions of (1) hold for a small μ.
Weak      starts far from well chosen are of little use to it; kinks and noise.
Source    A. Wächter, L. T. Biegler, "On the implementation of an interior-point filter line-search algorithm for
          large-scale nonlinear programming", Mathematical Programming 106, 2006, pages 25–57. Its letters are used;
          constants marked (paper) are its, the others were chosen on the manufactured families of the tests.
Departs   by polishing: once the limits that hold the optimum are plain, one Newton step on them as equations puts the
          design exactly there; and by a look for negative curvature and for a lower violation before it ends.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Generator
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import CHAINED, KktFactor, KktSystem, LimitedMemory, damped_bfgs
from ilvren.methods.base import Assessment, Ending, HessianRequest, Iterate, Method, Protocol, Request, Task, option
from ilvren.methods.pieces.barrier import (
    Stage,
    State,
    average_gap,
    barrier_value,
    bound_steps,
    constraint_miss,
    dual_fraction_to_boundary,
    fraction_to_boundary,
    inside,
    main_stage,
    powered,
    scaled_error,
)
from ilvren.methods.pieces.descent import endless
from ilvren.methods.pieces.escape import downhill_from_saddle, less_violated_nearby
from ilvren.methods.pieces.estimated import estimated_while_useful
from ilvren.methods.pieces.points import Point, evaluated, hessian_at, ratio
from ilvren.methods.pieces.polish import polished
from ilvren.records import dataclass

__all__ = ["METHOD", "InteriorPointOptions"]

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]

# κ1, κ2 (paper): how far inside its bounds the start is put; less for a warm start.
INSIDE, WARM_INSIDE = 1e-2, 1e-4
# μ: first (paper), last, how it falls (κ_μ, θ_μ), and κ_ε: how well (1) is solved before it does (paper).
FIRST_BARRIER, WARM_BARRIER, LAST_BARRIER = 0.1, 1e-5, 1e-12
BARRIER_SHARE, BARRIER_POWER, BARRIER_ERROR = 0.2, 1.5, 10.0
LEAST_TAU, MOST_BARRIER = 0.99, 1e4
# μ is chosen anew at each step while the error falls by this share within so many; else it is kept, at a share of the
# average complementarity, until (1) is solved.
PATIENCE, KEPT_SHARE, FIXED_SHARE = 5, 0.99, 0.5
# κ_Σ of the safeguard on z (paper).
SIGMA_SAFEGUARD = 1e10
# Filter and Armijo constants γ_θ, γ_φ, s_θ, s_φ, η, γ_α, and the factors of θ_max and θ_min (paper).
GAMMA_THETA, GAMMA_PHI, POWER_THETA, POWER_PHI, ARMIJO = 1e-5, 1e-5, 1.1, 2.3, 1e-4
GAMMA_ALPHA, MOST_THETA, LEAST_THETA = 0.05, 1e4, 1e-4
# Second-order corrections: how many, and the share by which each must lower θ (paper).
MOST_CORRECTIONS, CORRECTED_SHARE = 4, 0.99
# δ: first, least, most, and how it grows and shrinks (paper); δc when the rows depend on each other.
FIRST_SHIFT, LEAST_SHIFT, MOST_SHIFT = 1e-4, 1e-20, 1e40
SHIFT_UP_FIRST, SHIFT_UP, SHIFT_DOWN = 100.0, 8.0, 1.0 / 3.0
# Where the first δ tried is enough time and again, it falls faster and faster, down to this share at once.
LEAST_EASED = 1e-4
ROW_SHIFT = 1e-9
# Multipliers of the start larger than this are nonsense of a poor start: zero is better (paper).
MOST_FIRST_MULTIPLIER = 1e3
# (3): ρ, and the share of θ that must be left behind (paper).
RESTORATION_PRICE, RESTORED_SHARE = 1000.0, 0.9
# Rows with so few non-zeros are folded into the Hessian, as long as that makes so many times more of them at most.
MOST_FOLDED, FOLDED_FILL = 12, 6
# Values are trusted to this many units of rounding.
ROUNDING = 10.0 * float(np.finfo(float).eps)
# Feasible with a scaled objective below this: unbounded.
# Restorations, looks around and looks for negative curvature in one run.
MOST_RESTORATIONS, MOST_STUCK, MOST_ESCAPES = 30, 5, 4
# Iterations at the last μ, and iterations of (3), without an end.
MOST_AT_END, MOST_IN_RESTORATION = 10, 500
# Polishes in one run; of large problems some before the barrier is gone, each when the error has fallen to this share.
MOST_EARLY, EARLY, FIRST_EARLY = 6, 0.2, 5e-2
# Beyond so many variables each costs too much to be tried more than twice.
LARGE_EARLY = 20_000
MOST_POLISHES, MOST_LARGE_POLISHES = 20, 4
# Steps of this share of the variables are rounding; so many in turn are the end.
STILL, MOST_STILL = 1e-12, 4
# A step that no trial shows to gain is taken where it leaves this share of the error in the conditions at most.
NEARER = 0.9
# Trial steps along one direction; iterations without a clearly lower error.
MOST_HALVINGS, MOST_IDLE, CLEARLY_LOWER = 30, 150, 0.99
# Iterations at a small μ with the measured conditions met, without the method's own being met.
MOST_LINGERING = 10
ROUNDED = "first-order conditions hold; rounding allows no further decrease"
# Tiny steps: relative change below this, so many times.
TINY_STEP, MOST_TINY = 10.0 * float(np.finfo(float).eps), 3


@dataclass(frozen=True)
class InteriorPointOptions:
    """Options of `interior-point`."""

    exact: bool = option(True, help="second derivatives of formulas, estimates of models'; no: a quasi-Newton matrix")
    corrections: bool = option(True, help="correct steps for the curvature of the limits when the full step is refused")
    exact_limits: bool = option(True, help="put the design exactly on the limits that hold it, at the end")


# Says whether a point (x, t) of (3) is good enough to return to.
Outer = Callable[[Point, FloatArray], bool]


@dataclass
class _Memory:
    """What one solution of (1) remembers: the filter, δ, quasi-Newton information."""

    filter: list[tuple[float, float]]
    most_theta: float
    least_theta: float
    shift: float = 0.0
    eased: int = 0  # how often in a row the first δ tried was enough
    matrix: Any = None
    is_fresh: bool = True

    def add(self, theta: float, phi: float) -> None:
        """Augment the filter (A-7, equation 22 of the paper)."""
        pair = ((1.0 - GAMMA_THETA) * theta, phi - GAMMA_PHI * theta)
        self.filter[:] = [(t, p) for t, p in self.filter if t < pair[0] or p < pair[1]]
        self.filter.append(pair)

    @property
    def has_curvature(self) -> bool:
        """Return whether a quasi-Newton matrix has learnt anything."""
        return self.matrix is not None and not self.is_fresh

    def forget_curvature(self) -> bool:
        """Begin a quasi-Newton matrix anew; return whether there was anything to forget."""
        if not self.has_curvature:
            return False
        self.matrix, self.is_fresh = None, True
        return True


@dataclass(frozen=True)
class _End:
    """Where an iteration ended, what it claims, and why."""

    state: State
    claim: str
    reason: str = ""


@dataclass(frozen=True)
class _Move:
    """How the iteration came to a state: the length of the step, a note on it, and how well the prediction held."""

    state: State
    length: float = math.nan
    note: str = ""
    gain_ratio: float = math.nan


def interior_point(task: Task, options: InteriorPointOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    is_warm = task.row_multipliers is not None
    stage = main_stage(task)
    x = inside(task.start, task.lower, task.upper, WARM_INSIDE if is_warm else INSIDE)
    here = yield from evaluated(x, derivatives=True)
    if not (here.is_finite and here.has_derivatives):
        here = yield from evaluated(task.start, derivatives=True)
        moved = inside(task.start, task.lower, task.upper, WARM_INSIDE**2)
        if here.is_finite and not np.array_equal(moved, task.start):
            here = yield from evaluated(moved, derivatives=True)
    if not here.is_finite:
        return Ending("invalid", "the objective or a constraint has no finite value at the start")
    if not here.has_derivatives:
        return Ending("invalid", "a derivative is not finite at the start")
    state = _first_state(stage, here, task)
    escapes = 0
    looks = 0
    while True:
        ended = yield from _solved(stage, state, options, outer=None)
        state, claim, reason = ended.state, ended.claim, ended.reason
        if claim == "conflict" and escapes < MOST_ESCAPES:
            elsewhere = yield from less_violated_nearby(task, state.point, escapes)
            escapes += 1
            if elsewhere is not None:
                yield Iterate(
                    elsewhere.x, float(np.abs(elsewhere.x - state.point.x).max()), "looked around for a lower violation"
                )
                moved_in = yield from evaluated(
                    inside(elsewhere.x, task.lower, task.upper, WARM_INSIDE), derivatives=True
                )
                if moved_in.is_finite and moved_in.has_derivatives:
                    state = _first_state(stage, moved_in, replace(task, row_multipliers=None))
                    continue
        if claim == "conflict":
            return Ending("infeasible", "no direction reduces the violation of the limits any further")
        if claim == "converged" and options.exact and looks < MOST_ESCAPES:
            looks += 1
            lower = yield from downhill_from_saddle(task, state.point, -state.y)
            if lower is not None:
                yield Iterate(
                    lower.x, float(np.abs(lower.x - state.point.x).max()), "left a saddle along negative curvature"
                )
                moved_in = yield from evaluated(inside(lower.x, task.lower, task.upper, WARM_INSIDE), derivatives=True)
                if moved_in.is_finite and moved_in.has_derivatives:
                    state = replace(_first_state(stage, moved_in, task), mu=WARM_BARRIER)
                    continue
        return Ending(claim, reason)


def _first_state(stage: Stage, here: Point, task: Task) -> State:
    """Return the start: slacks inside their bounds, z from μ or from what is known, y by least squares or known."""
    n = stage.n
    is_warm = task.row_multipliers is not None and task.bound_multipliers is not None
    mu = WARM_BARRIER if is_warm else FIRST_BARRIER
    t = inside(here.c[stage.attached], stage.lower[n:], stage.upper[n:], WARM_INSIDE if is_warm else INSIDE)
    state = State(here, t, np.zeros(len(stage.b)), np.zeros(0), np.zeros(0), mu)
    w = state.w
    has_low, has_high = np.isfinite(stage.lower), np.isfinite(stage.upper)
    if is_warm and task.row_multipliers is not None and task.bound_multipliers is not None:
        known = np.concatenate([task.bound_multipliers, task.row_multipliers[stage.attached]])
        floor_low, floor_high = (
            mu / np.where(has_low, w - stage.lower, 1.0),
            mu / np.where(has_high, stage.upper - w, 1.0),
        )
        z_low = np.where(has_low, np.maximum(known, floor_low), 0.0)
        z_high = np.where(has_high, np.maximum(-known, floor_high), 0.0)
        return replace(state, y=-task.row_multipliers, z_low=z_low, z_high=z_high)
    state = replace(state, z_low=has_low.astype(float), z_high=has_high.astype(float))
    return replace(state, y=_least_squares_multipliers(stage, state))


def _least_squares_multipliers(stage: Stage, state: State) -> FloatArray:
    """Return y that makes the gradient of the Lagrangian of (1) least, 0 where that is nonsense."""
    m = len(stage.b)
    if not m:
        return np.zeros(0)
    target = stage.slope(state.point.g, state.point.x) - state.z_low + state.z_high
    n = stage.n
    system = KktSystem(n, m, is_sparse=stage.task.is_sparse, condensed=_condensed_rows(stage, state))
    bottom, shifted = stage.spread(stage.signs), stage.spread(target[n:])
    factor = system.factored(_nothing(stage), np.ones(n), state.point.j, bottom + ROW_SHIFT, with_inertia=False)
    found = factor.solve(-target[:n], shifted)
    if found is None or not np.abs(found[1]).max(initial=0.0) <= MOST_FIRST_MULTIPLIER:
        return np.zeros(m)
    return found[1]


def _nothing(stage: Stage) -> Any:
    """Return a Hessian of zeros."""
    if not stage.task.is_sparse:
        return np.zeros((stage.n, stage.n))
    from scipy.sparse import csr_array

    return csr_array((stage.n, stage.n))


def _solved(
    stage: Stage, state: State, options: InteriorPointOptions, *, outer: Outer | None
) -> Generator[Request | HessianRequest | Iterate, Any, _End]:
    """Solve (1) for μ → 0: algorithm A of the paper, by its steps. `outer` is None for the main problem; for (3) it
    says whether a point is good enough to return to."""
    system, polishing = _systems(stage, state)
    theta = constraint_miss(state.rest(stage))
    memory = _Memory([], MOST_THETA * max(1.0, theta), LEAST_THETA * max(1.0, theta))
    tests, barrier = _Tests(stage, outer), _Barrier(stage, memory, is_free=outer is None)
    polish = _Polishing(stage, options) if outer is None else None
    move, restorations = _Move(state, note="the start" if outer is None else "restoring feasibility"), _Restorations()
    while True:
        y = -state.y if outer is None else None
        assessment: Assessment = yield Iterate(state.point.x, move.length, move.note, move.gain_ratio, y)
        error = scaled_error(stage, state, 0.0)
        ended = tests.ended_first(state, assessment, error)
        if ended is None and polish is not None and polish.is_due(state, error):
            newton = found = taken = None  # a large factorization makes room for the other
            ended = yield from polish.put_on_limits(state, polishing, error)
        ended = ended or tests.ended(state, assessment, error)
        if ended is not None:
            return ended
        barrier.lower_where_solved(state, error)
        hessian = yield from _curvature(stage, state, memory, options)
        newton = found = taken = None
        newton = _factored(stage, state, system, hessian, memory)  # algorithm IC
        if newton is not None:
            aimed = barrier.probe(state, newton)
            found = _step_between(stage, state, newton, aimed)  # A-4, (2)
        if newton is not None and found is not None:
            taken = yield from _line_search(stage, state, newton, found, memory, options)
            if taken is None and barrier.keep_for_a_while(state):
                move = _Move(state, 0.0, "no step acceptable: the barrier is kept for a while")
                continue
        if taken is None and found is not None and outer is None and assessment.violation <= stage.task.feasibility:
            taken = yield from _towards_conditions(stage, state, found)
        if taken is None and found is not None and _is_tiny(state, found.dw):
            ended = tests.ended_tiny(state, assessment)
            if ended is not None:
                return ended
            if tests.is_first_tiny(state):
                barrier.lower(state)
                move = _Move(state, 0.0, "the barrier is lowered: the step was as small as rounding")
                continue
        if taken is None:
            ended = tests.ended_without_step(state, assessment, error, memory)
            if ended is not None:
                return ended
            if memory.forget_curvature():
                move = _Move(state, 0.0, "no step acceptable: curvature forgotten")
                continue
            restored = yield from _restored_from(stage, state, memory, options, restorations)
            if isinstance(restored, _End):
                return restored
            state, move = restored, _Move(restored, note="feasibility restored")
            continue
        tests.tiny, barrier.failures = 0, 0
        ended = tests.ended_still(state, taken, assessment)
        if ended is not None:
            return ended
        _update_quasi_newton(memory, state, taken.state)
        state, move = taken.state, taken


def _systems(stage: Stage, state: State) -> tuple[KktSystem, KktSystem]:
    """Return what factors the matrix of (2), its rows folded into the Hessian where that is quicker, and the one of
    polishing."""
    n, m, is_sparse = stage.n, len(stage.b), stage.task.is_sparse
    deltas = CHAINED if stage.task.is_on_grid and n > LARGE_EARLY else None
    system = KktSystem(n, m, is_sparse=is_sparse, condensed=_condensed_rows(stage, state), deltas=deltas)
    return system, KktSystem(n, m, is_sparse=is_sparse, deltas=deltas)


class _Tests:
    """When the iteration ends (A-2), and why: counts of what leads nowhere, and the verdicts on it."""

    def __init__(self, stage: Stage, outer: Outer | None) -> None:
        self._stage, self._outer = stage, outer
        self._goal = 0.01 * stage.task.tolerance
        self._has_barrier = bool(np.isfinite(stage.lower).any() or np.isfinite(stage.upper).any())
        self._count = self._idle = self._at_end = self._lingering = self._still = 0
        self._lowest = math.inf
        self.tiny = 0

    def ended_first(self, state: State, assessment: Assessment, error: float) -> _End | None:
        """Return the end where a restoration is done, nothing leads on, or the objective falls without end."""
        if self._outer is not None:
            self._count += 1
            if self._outer(state.point, state.t):
                return _End(state, "restored")
            if self._count > MOST_IN_RESTORATION:
                return _End(state, "stalled", "feasibility could not be restored")
        lower = error < CLEARLY_LOWER * self._lowest
        self._lowest, self._idle = (error, 0) if lower else (self._lowest, self._idle + 1)
        if self._idle > MOST_IDLE:
            return _End(state, "stalled", f"{MOST_IDLE} iterations brought the conditions no nearer")
        if self._outer is not None:
            return _End(state, "conflict") if error <= self._goal else None
        ended = endless(self._stage.task, state.point, assessment)
        return None if ended is None else _End(state, ended.claim, ended.reason)

    def ended(self, state: State, assessment: Assessment, error: float) -> _End | None:
        """Return the end where the conditions of (1) hold for a small μ, and the measured ones, or never will."""
        goal, is_main = self._goal, self._outer is None
        if is_main and error <= goal and assessment.meets_conditions and (state.mu <= goal or not self._has_barrier):
            return _End(state, "converged", "first-order conditions hold, and the barrier is gone")
        if is_main:
            # Along flat valleys the method's own conditions fall ever more slowly, long after the measured ones hold.
            self._lingering = self._lingering + 1 if assessment.meets_conditions and state.mu <= goal else 0
            if self._lingering > MOST_LINGERING:
                reason = f"first-order conditions hold, and have for {MOST_LINGERING} iterations"
                return _End(state, "converged", reason)
        if state.mu <= LAST_BARRIER * 1.01 and scaled_error(self._stage, state, state.mu) <= BARRIER_ERROR * goal:
            self._at_end += 1
            if self._at_end > MOST_AT_END:
                return _End(state, "stalled", "the barrier is gone, but the measured conditions do not hold")
        return None

    def ended_tiny(self, state: State, assessment: Assessment) -> _End | None:
        """Return the end where steps have been as small as rounding for long, or at the last μ."""
        self.tiny += 1
        if self.is_first_tiny(state):
            return None
        if self._outer is None and assessment.meets_conditions:
            return _End(state, "converged", ROUNDED)
        is_feasible = constraint_miss(state.rest(self._stage)) <= self._stage.task.feasibility
        if is_feasible or self._outer is not None:
            return _End(state, "stalled", "steps have become as small as rounding")
        return None

    def is_first_tiny(self, state: State) -> bool:
        """Return whether a lower μ may still lead on from a step as small as rounding."""
        return self.tiny <= MOST_TINY and state.mu > LAST_BARRIER

    def ended_without_step(self, state: State, assessment: Assessment, error: float, memory: _Memory) -> _End | None:
        """Return the end where no step is acceptable and nothing is left to be tried but restoring feasibility."""
        nearly = math.sqrt(self._stage.task.tolerance)
        if self._outer is not None:
            if memory.has_curvature:
                return None
            claim = "conflict" if error <= nearly else "stalled"
            return _End(state, claim, "feasibility could not be restored")
        if assessment.meets_conditions and error <= nearly:
            return _End(state, "converged", ROUNDED)
        if error <= self._goal:
            reason = "the method's own conditions hold, but not to the accuracy asked for as measured"
            return _End(state, "stalled", reason)
        return None

    def ended_still(self, state: State, taken: _Move, assessment: Assessment) -> _End | None:
        """Return the end where steps accepted one after the other at the last μ are rounding alone."""
        size = max(1.0, float(np.abs(taken.state.point.x).max(initial=0.0)))
        self._still = self._still + 1 if taken.length <= STILL * size else 0
        if self._still <= MOST_STILL or state.mu > LAST_BARRIER * 1.01 or self._outer is not None:
            return None
        if assessment.meets_conditions:
            return _End(state, "converged", ROUNDED)
        return _End(state, "stalled", "steps have become as small as rounding")


class _Barrier:
    """The choice of μ. While the error falls it is chosen anew at each step, from the step for μ = 0; else it is kept
    until (1) is solved, and lowered then (A-3, equation 7 of the paper).

    Source: J. Nocedal, A. Wächter, R. A. Waltz, "Adaptive barrier update strategies for nonlinear interior methods",
    SIAM Journal on Optimization 19, 2009: free and fixed mode; the choice in free mode is Mehrotra's.
    """

    def __init__(self, stage: Stage, memory: _Memory, *, is_free: bool) -> None:
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

    def probe(self, state: State, newton: _Newton) -> _Step | None:
        """In free mode, choose μ by the step for μ = 0, and return that step."""
        if not (self.is_free and self._has_barrier):
            return None
        aimed = _step(self._stage, state, newton, 0.0)
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


class _Polishing:
    """When the design is put exactly on the limits that hold it: near the end, and of large problems some times before
    the barrier is gone, each when the error has fallen enough."""

    def __init__(self, stage: Stage, options: InteriorPointOptions) -> None:
        self._stage, self._options = stage, options
        self._left = MOST_LARGE_POLISHES if stage.task.is_sparse else MOST_POLISHES
        self._early_left = (MOST_EARLY if stage.n <= LARGE_EARLY else 2) if stage.task.is_sparse else 0
        self._before, self._is_early = FIRST_EARLY, False
        self._last: FloatArray | None = None

    def is_due(self, state: State, error: float) -> bool:
        """Return whether to try it here."""
        is_new = self._last is None or not np.array_equal(self._last, state.point.x)
        is_early = self._early_left > 0 and error <= EARLY * self._before
        self._is_early = is_early and is_new
        if self._is_early:
            self._early_left, self._before, self._left = self._early_left - 1, error, self._left + 1
        is_near = error <= 0.01 * self._stage.task.tolerance or state.mu <= LAST_BARRIER * 1.01 or is_early
        return self._options.exact_limits and is_new and is_near and self._left > 0

    def put_on_limits(
        self, state: State, system: KktSystem, error: float
    ) -> Generator[Request | HessianRequest | Iterate, Any, _End | None]:
        """Try it; return the end where the measured conditions hold there."""
        is_exact = self._options.exact
        better, multipliers = yield from polished(
            self._stage, state, system, is_exact=is_exact, is_early=self._is_early
        )
        self._last, self._left = state.point.x, self._left - 1
        if better is None:
            return None
        length = float(np.abs(better.x - state.point.x).max())
        seen: Assessment = yield Iterate(better.x, length, "put on the limits that hold it", math.nan, multipliers)
        if not seen.meets_conditions:
            return None
        reason = "first-order conditions hold exactly on the limits that hold the design"
        return _End(replace(state, point=better, y=-multipliers), "converged", reason)


@dataclass
class _Restorations:
    """How often feasibility was restored, and how often that moved slacks alone."""

    count: int = 0
    stuck: int = 0


def _restored_from(
    stage: Stage, state: State, memory: _Memory, options: InteriorPointOptions, so_far: _Restorations
) -> Generator[Request | HessianRequest | Iterate, Any, State | _End]:
    """Restore feasibility (A-9); return the state to go on from, or the end."""
    so_far.count += 1
    if so_far.count > MOST_RESTORATIONS:
        return _End(state, "stalled", "feasibility had to be restored too often")
    theta = constraint_miss(state.rest(stage))
    memory.add(theta, barrier_value(stage, state, state.point, state.t))
    restored = yield from _restored(stage, state, memory, options)
    if restored.claim == "stalled":
        left = constraint_miss(restored.state.rest(stage))
        if restored.state is state or not left <= RESTORED_SHARE * theta:
            return _End(state, "stalled", "no step is acceptable, and feasibility could not be improved either")
    if restored.claim == "conflict":
        return _End(restored.state, "conflict")
    found = restored.state
    if np.array_equal(found.point.x, state.point.x):  # only slacks moved: another μ must show another way
        so_far.stuck += 1
        if so_far.stuck > MOST_STUCK:
            return _End(state, "stalled", "no step is acceptable at a design that is already feasible")
        found.mu = max(LAST_BARRIER, BARRIER_SHARE * state.mu)
        memory.filter.clear()
    return found


def _condensed_rows(stage: Stage, state: State) -> NDArray[np.bool_] | None:
    """Return which rows are better folded into the Hessian: those with slacks, when all of them have few non-zeros."""
    if not stage.task.is_sparse:
        return None
    counts = np.diff(state.point.j.indptr)
    chosen = np.zeros(len(stage.b), dtype=bool)
    chosen[stage.attached] = True
    chosen &= counts <= MOST_FOLDED
    return chosen if int((counts[chosen] ** 2).sum()) <= FOLDED_FILL * (int(counts.sum()) + stage.n) else None


def _curvature(
    stage: Stage, state: State, memory: _Memory, options: InteriorPointOptions
) -> Generator[HessianRequest, Any, Any]:
    """Return H of the Lagrangian: exact, or the quasi-Newton matrix."""
    task = stage.task
    if (task.has_curvature or task.has_secants) and options.exact:
        found = yield from hessian_at(state.point.x, -state.y, stage.weight)
        if found is not None:
            return found
    if memory.matrix is None:
        memory.matrix = LimitedMemory(stage.n) if task.is_sparse else np.eye(stage.n)
        memory.is_fresh = True
    return memory.matrix


def _update_quasi_newton(memory: _Memory, before: State, after: State) -> None:
    if memory.matrix is None:
        return
    s = after.point.x - before.point.x
    y = after.point.g - before.point.g + after.point.j.T @ after.y - before.point.j.T @ after.y
    if isinstance(memory.matrix, LimitedMemory):
        memory.matrix = memory.matrix.updated(s, y)
        memory.is_fresh = False
        return
    if memory.is_fresh and float(s @ y) > 0.0 and math.isfinite(float(y @ y)):
        memory.matrix = np.eye(len(s)) * min(max(float(y @ y) / float(s @ y), 1e-4), 1e6)
    memory.matrix, memory.is_fresh = damped_bfgs(memory.matrix, s, y), False


@dataclass(frozen=True, eq=False)
class _Newton:
    """The matrix of (2) factored: `sigma` the diagonals Σ + δ of x and t (for x without H), `shift` δ; the direction
    `tried` for `mu` showed that it can be solved."""

    factor: KktFactor
    sigma: FloatArray
    low_rank: LimitedMemory | None
    shift: float
    mu: float = 0.0
    tried: _Step | None = None


@dataclass(frozen=True, eq=False)
class _Step:
    """A direction of (2): dw, dy, and ∇φ that it was computed for."""

    dw: FloatArray
    dy: FloatArray
    slope: FloatArray


def _factored(stage: Stage, state: State, system: KktSystem, hessian: Any, memory: _Memory) -> _Newton | None:
    """Return the matrix of (2) factored with δ as small as the inertia allows; None when the numbers break down."""
    n = stage.n
    low, high = state.gaps(stage)
    sigma = state.z_low / low + state.z_high / high
    if stage.pull is not None:
        sigma[:n] += stage.pull
    low_rank = hessian if isinstance(hessian, LimitedMemory) else None
    if low_rank is not None:
        hessian = _nothing(stage)
        sigma[:n] += low_rank.scale
    shift, is_first = 0.0, False
    while True:
        shifted = sigma + shift
        bottom = stage.spread(stage.signs / shifted[n:])
        # Equations as they are where their steps can be refined so far; with δc where they depend on each other: what
        # δc leaves of them is δc times the change of their multipliers, which may be large.
        for row_shift in (0.0, ROW_SHIFT):
            own = np.asarray(np.where(bottom > 0.0, bottom, row_shift), dtype=np.float64)
            newton = factor = None  # the last one makes room
            factor = system.factored(hessian, shifted[:n], state.point.j, own)
            if not factor.has_inertia or (row_shift == 0.0 and factor.is_doubtful and not (bottom > 0.0).all()):
                continue
            newton = _Newton(factor, shifted, low_rank, shift)
            tried = _step(stage, state, newton, state.mu)
            if tried is not None:
                newton = replace(newton, mu=state.mu, tried=tried)
                memory.shift = shift if shift > 0.0 else memory.shift
                memory.eased = memory.eased + 1 if shift > 0.0 and is_first else 0
                return newton
            if (bottom > 0.0).all():
                break
        if shift == 0.0:
            lowered = max(SHIFT_DOWN ** (1 + memory.eased), LEAST_EASED)
            shift = FIRST_SHIFT if memory.shift == 0.0 else max(LEAST_SHIFT, lowered * memory.shift)
            is_first = True
        else:
            shift *= SHIFT_UP_FIRST if memory.shift == 0.0 else SHIFT_UP
            is_first = False
        if not shift < MOST_SHIFT:
            memory.shift = 0.0
            return None


def _step(stage: Stage, state: State, newton: _Newton, mu: float) -> _Step | None:
    """Return the direction of (2) for a value of μ."""
    slope = stage.slope(state.point.g, state.point.x) + stage.barrier_slope(state.gaps(stage), mu)
    found = _newton_step(stage, state, newton, slope, state.rest(stage))
    return None if found is None else _Step(*found, slope)


def _step_between(stage: Stage, state: State, newton: _Newton, aimed: _Step | None) -> _Step | None:
    """Return the direction of (2) for the present μ: it is linear in μ, so that those for another one and for 0,
    `aimed`, give it."""
    tried, mu = newton.tried, state.mu
    if tried is not None and newton.mu == mu:
        return tried
    if tried is None or aimed is None or not newton.mu > 0.0 or not mu <= newton.mu:
        return _step(stage, state, newton, mu)
    share = mu / newton.mu

    def between(zero: FloatArray, one: FloatArray) -> FloatArray:
        return (1.0 - share) * zero + share * one

    return _Step(between(aimed.dw, tried.dw), between(aimed.dy, tried.dy), between(aimed.slope, tried.slope))


def _probed_barrier(stage: Stage, state: State, aimed: _Step) -> float | None:
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


def _newton_step(
    stage: Stage, state: State, newton: _Newton, slope: FloatArray, rest: FloatArray
) -> tuple[FloatArray, FloatArray] | None:
    """Return (dw, dy) of (2) with t eliminated, for ∇φ = `slope` and r = `rest`."""
    n = stage.n
    factor, low_rank, attached = newton.factor, newton.low_rank, newton.sigma[n:]
    slope_x = slope[:n] + state.point.j.T @ state.y
    slope_t = slope[n:] + stage.gathered(state.y)
    right = stage.spread(slope_t / attached)
    right -= rest
    found = factor.solve(-slope_x, right) if low_rank is None else low_rank.solve(factor, -slope_x, right)
    if found is None or not (np.isfinite(found[0]).all() and np.isfinite(found[1]).all()):
        return None
    dx, dy = found
    dt = -(slope_t + stage.gathered(dy)) / attached
    return np.concatenate([dx, dt]), dy


def _is_tiny(state: State, dw: FloatArray) -> bool:
    return bool((np.abs(dw) <= TINY_STEP * (1.0 + np.abs(state.w))).all())


def _line_search(
    stage: Stage, state: State, newton: _Newton, found: _Step, memory: _Memory, options: InteriorPointOptions
) -> Generator[Request, Any, _Move | None]:
    """Return the move to the accepted trial point of a backtracking search (A-5), None where there is none."""
    dw, dy, slope = found.dw, found.dy, found.slope
    n, w = stage.n, state.w
    tau = max(LEAST_TAU, 1.0 - state.mu)
    longest = fraction_to_boundary(state.gaps(stage), dw, tau)
    dz_low, dz_high = bound_steps(stage, state, dw, state.mu)
    theta, phi = constraint_miss(state.rest(stage)), barrier_value(stage, state, state.point, state.t)
    descent = float(slope @ dw)
    least = _least_length(memory, theta, descent)
    slack = ROUNDING * max(abs(phi), abs(stage.objective(state.point.f, state.point.x, state.t)))
    alpha, count = longest, 0
    while (alpha > least or count == 0) and count < MOST_HALVINGS:
        at = np.clip(w + alpha * dw, stage.lower, stage.upper)
        if np.array_equal(at, w):
            break
        point = yield from evaluated(at[:n], derivatives=False)
        t = at[n:]
        new_theta, new_phi = constraint_miss(stage.rest(point.c, t)), barrier_value(stage, state, point, t)
        is_ok, is_f_type = _accepts(memory, theta, phi, new_theta, new_phi, descent, alpha, slack)
        note = "full step" if count == 0 else f"step shortened to {alpha:.2g}"
        if not is_ok and count == 0 and options.corrections and new_theta >= theta and math.isfinite(new_theta):
            corrected = yield from _corrected(
                stage, state, newton, slope, memory, alpha, point, t, (theta, phi, descent, slack, tau)
            )
            if corrected is not None:
                point, t, is_f_type, dw = corrected
                note, is_ok = "full step with second-order correction", True
                new_phi = barrier_value(stage, state, point, t)
        if is_ok:
            there = yield from evaluated(point.x, derivatives=True)
            if there.has_derivatives:
                if not is_f_type:
                    memory.add(theta, phi)
                trial = _moved(stage, state, there, t, alpha * dy, (dz_low, dz_high), tau)
                length = float(np.abs(there.x - state.point.x).max(initial=0.0))
                gain_ratio = ratio(phi - new_phi, -alpha * descent)
                return _Move(trial, length, note + _why(state, newton), gain_ratio)
        alpha *= 0.5
        count += 1
    return None


def _towards_conditions(stage: Stage, state: State, found: _Step) -> Generator[Request, Any, _Move | None]:
    """Return the full step, as `_line_search` does, where it brings the conditions of (1) nearer, None elsewhere. At a
    feasible design no trial may be acceptable only because rounding hides what it gains: θ and φ are sums over all
    rows."""
    tau = max(LEAST_TAU, 1.0 - state.mu)
    alpha = fraction_to_boundary(state.gaps(stage), found.dw, tau)
    at = np.clip(state.w + alpha * found.dw, stage.lower, stage.upper)
    there = yield from evaluated(at[: stage.n], derivatives=True)
    if np.array_equal(at, state.w) or not (there.is_finite and there.has_derivatives):
        return None
    dz = bound_steps(stage, state, found.dw, state.mu)
    trial = _moved(stage, state, there, at[stage.n :], alpha * found.dy, dz, tau)
    if not scaled_error(stage, trial, state.mu) <= NEARER * scaled_error(stage, state, state.mu):
        return None
    length = float(np.abs(there.x - state.point.x).max(initial=0.0))
    return _Move(trial, length, "full step for the conditions: rounding hides what it gains")


def _why(state: State, newton: _Newton) -> str:
    """Return what the step was made for, as clauses."""
    raised = f", curvature raised by {newton.shift:.0e} to descend" if newton.shift > 0.0 else ""
    return f" towards the barrier problem of {state.mu:.0e}{raised}"


def _moved(
    stage: Stage,
    state: State,
    there: Point,
    t: FloatArray,
    dy: FloatArray,
    dz: tuple[FloatArray, FloatArray],
    tau: float,
) -> State:
    """Return the next state: y with the primal step's length, z with its own, kept near μ over its distance."""
    share = min(dual_fraction_to_boundary(state.z_low, dz[0], tau), dual_fraction_to_boundary(state.z_high, dz[1], tau))
    moved = State(there, t, state.y + dy, state.z_low, state.z_high, state.mu)
    moved.z_low, moved.z_high = (
        _kept_near(z + share * d, gap, state.mu)
        for z, d, gap in zip((state.z_low, state.z_high), dz, moved.gaps(stage), strict=True)
    )
    return moved


def _kept_near(z: FloatArray, gap: FloatArray, mu: float) -> FloatArray:
    """Return z within κ_Σ of μ over the distance to the bound (equation 16 of the paper); 0 where there is none."""
    centre = mu / np.maximum(gap, 1e-300)
    return np.asarray(np.clip(z, centre / SIGMA_SAFEGUARD, SIGMA_SAFEGUARD * centre), dtype=np.float64)


def _least_length(memory: _Memory, theta: float, descent: float) -> float:
    """Return α_min below which feasibility is restored instead."""
    least = GAMMA_THETA
    if descent < 0.0:
        least = min(least, GAMMA_PHI * theta / -descent)
        if theta <= memory.least_theta:
            power = powered(-descent, POWER_PHI)
            least = min(least, powered(theta, POWER_THETA) / power) if power > 0.0 else least
    return GAMMA_ALPHA * max(least, 1e-14)


def _accepts(
    memory: _Memory,
    theta: float,
    phi: float,
    new_theta: float,
    new_phi: float,
    descent: float,
    alpha: float,
    slack: float,
) -> tuple[bool, bool]:
    """Return whether a trial point is accepted, and whether it is a step for φ, which leaves the filter as it is."""
    if not (math.isfinite(new_theta) and math.isfinite(new_phi)) or new_theta > memory.most_theta:
        return False, False
    if any(new_theta >= (1.0 - GAMMA_THETA) * t and new_phi - slack > p - GAMMA_PHI * t for t, p in memory.filter):
        return False, False
    is_f_type = descent < 0.0 and alpha * powered(-descent, POWER_PHI) > powered(theta, POWER_THETA)
    if is_f_type and theta <= memory.least_theta:
        return new_phi <= phi + ARMIJO * alpha * descent + slack, True
    lowers = new_theta <= (1.0 - GAMMA_THETA) * theta or new_phi - slack <= phi - GAMMA_PHI * theta
    return lowers, False


def _corrected(
    stage: Stage,
    state: State,
    newton: _Newton,
    slope: FloatArray,
    memory: _Memory,
    alpha: float,
    point: Point,
    t: FloatArray,
    known: tuple[float, float, float, float, float],
) -> Generator[Request, Any, tuple[Point, FloatArray, bool, FloatArray] | None]:
    """Second-order corrections: Newton steps on the rows at the trial point, with the same factorization."""
    theta, phi, descent, slack, tau = known
    n, w = stage.n, state.w
    rest = alpha * state.rest(stage) + stage.rest(point.c, t)
    last = theta
    for _ in range(MOST_CORRECTIONS):
        again = _newton_step(stage, state, newton, slope, rest)
        if again is None:
            return None
        share = fraction_to_boundary(state.gaps(stage), again[0], tau)
        at = np.clip(w + share * again[0], stage.lower, stage.upper)
        trial = yield from evaluated(at[:n], derivatives=False)
        new_theta, new_phi = constraint_miss(stage.rest(trial.c, at[n:])), barrier_value(stage, state, trial, at[n:])
        is_ok, is_f_type = _accepts(memory, theta, phi, new_theta, new_phi, descent, alpha, slack)
        if is_ok:
            return trial, at[n:], is_f_type, again[0]
        if not new_theta <= CORRECTED_SHARE * last:
            return None
        last = new_theta
        rest = share * rest + stage.rest(trial.c, at[n:])
    return None


# ---- restoring feasibility -------------------------------------------------------------------------


def _restored(
    stage: Stage, state: State, memory: _Memory, options: InteriorPointOptions
) -> Generator[Request | HessianRequest | Iterate, Any, _End]:
    """Solve (3) until the filter takes a point with clearly less θ: return the state there, and whether feasibility was
    "restored", the limits "conflict" there, or neither ("stalled": where it began, if nothing came of it)."""
    n, m, k = stage.n, len(stage.b), len(state.t)
    theta = constraint_miss(state.rest(stage))
    if theta <= ROUNDING * (1.0 + float(np.abs(state.point.c).max(initial=0.0))) or not m:
        return _End(state, "stalled")
    given, state = state, (yield from _off_the_bounds(stage, state))
    rest = state.rest(stage)
    mu = max(state.mu, float(np.abs(rest).max()))
    rho = RESTORATION_PRICE
    half = (mu - rho * rest) / (2.0 * rho)
    q = half + np.sqrt(half**2 + mu * rest / (2.0 * rho))
    p = rest + q
    rows = np.arange(m)
    size = np.maximum(1.0, np.abs(state.point.x))
    inner = Stage(
        task=stage.task,
        lower=np.concatenate([stage.lower, np.zeros(2 * m)]),
        upper=np.concatenate([stage.upper, np.full(2 * m, np.inf)]),
        attached=np.concatenate([stage.attached, rows, rows]),
        signs=np.concatenate([stage.signs, np.full(m, -1.0), np.full(m, 1.0)]),
        prices=np.concatenate([np.zeros(k), np.full(2 * m, rho)]),
        b=stage.b,
        weight=0.0,
        pull=math.sqrt(mu) / size**2,
        centre=state.point.x,
    )
    begun = State(
        state.point,
        np.concatenate([state.t, p, q]),
        np.zeros(m),
        np.concatenate([np.minimum(rho, state.z_low), mu / p, mu / q]),
        np.concatenate([np.minimum(rho, state.z_high), np.zeros(2 * m)]),
        mu,
    )

    def is_enough(point: Point, t: FloatArray) -> bool:
        new_theta = constraint_miss(stage.rest(point.c, t[:k]))
        if not new_theta <= RESTORED_SHARE * theta:
            return False
        new_phi = barrier_value(stage, state, point, t[:k])
        return math.isfinite(new_phi) and all(new_theta < a or new_phi < b for a, b in memory.filter)

    found = yield from _solved(inner, begun, options, outer=is_enough)
    ended, claim = found.state, found.claim
    t = ended.t[:k]
    back = State(ended.point, t, np.zeros(m), ended.z_low[: n + k], ended.z_high[: n + k], state.mu)
    if claim == "conflict" and constraint_miss(stage.rest(ended.point.c, t)) <= stage.task.feasibility * 1e-2:
        return _End(given, "stalled")
    if claim in ("conflict", "stalled"):
        return _End(back, claim)
    largest = max(float(back.z_low.max(initial=0.0)), float(back.z_high.max(initial=0.0)))
    if largest > MOST_FIRST_MULTIPLIER:
        back = replace(back, z_low=np.where(back.z_low > 0.0, 1.0, 0.0), z_high=np.where(back.z_high > 0.0, 1.0, 0.0))
    return _End(replace(back, y=_least_squares_multipliers(stage, back)), "restored")


def _off_the_bounds(stage: Stage, state: State) -> Generator[Request, Any, State]:
    """Return a state whose variables are not so near their bounds that steps vanish, if there is a valid one."""
    n = stage.n
    x = inside(state.point.x, stage.lower[:n], stage.upper[:n], WARM_INSIDE)
    t = inside(state.t, stage.lower[n:], stage.upper[n:], WARM_INSIDE)
    there = yield from evaluated(x, derivatives=True)
    if not (there.is_finite and there.has_derivatives):
        return state
    w = np.concatenate([x, t])
    with np.errstate(divide="ignore"):
        z_low = np.where(np.isfinite(stage.lower), np.minimum(state.z_low, 1.0 / (w - stage.lower)), 0.0)
        z_high = np.where(np.isfinite(stage.upper), np.minimum(state.z_high, 1.0 / (stage.upper - w)), 0.0)
    return replace(state, point=there, t=t, z_low=np.maximum(z_low, 0.0), z_high=np.maximum(z_high, 0.0))


# ---- the end -----------------------------------------------------------------------------------------


METHOD = Method(
    name="interior-point",
    about="primal-dual interior point with a filter: smooth problems with any limits, small or very large",
    kind="gradient-based",
    needs="gradients",
    handles=frozenset({"bounds", "inequalities", "equalities"}),
    options=InteriorPointOptions,
    run=estimated_while_useful(interior_point),
    takes_sparse=True,
    cost="one gradient, one Hessian and one sparse factorization of n + m rows per iteration",
    weak="kinks and noise; a good start is of little use to it",
)
