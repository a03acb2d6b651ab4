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
from collections.abc import Generator
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import KktSystem, LimitedMemory, damped_bfgs
from ilvren.methods.base import Assessment, Ending, HessianRequest, Iterate, Method, Protocol, Request, Task
from ilvren.methods.pieces.barrier import (
    Stage,
    State,
    barrier_value,
    constraint_miss,
    inside,
    main_stage,
    scaled_error,
)
from ilvren.methods.pieces.barrier_choice import (
    BARRIER_SHARE,
    FIRST_BARRIER,
    LAST_BARRIER,
    MOST_STUCK,
    WARM_BARRIER,
    BarrierChoice,
)
from ilvren.methods.pieces.barrier_search import ROUNDING, line_searched, towards_conditions
from ilvren.methods.pieces.barrier_tests import End, EndTests, Move, Outer
from ilvren.methods.pieces.escape import downhill_from_saddle, less_violated_nearby
from ilvren.methods.pieces.estimated import estimated_while_useful
from ilvren.methods.pieces.filter_memory import Memory, memory_from
from ilvren.methods.pieces.options import option
from ilvren.methods.pieces.points import Point, evaluated, hessian_at
from ilvren.methods.pieces.polish import polished
from ilvren.methods.pieces.primal_dual import (
    LARGE_EARLY,
    MOST_FIRST_MULTIPLIER,
    direction_between,
    least_squares_multipliers,
    newton_matrix,
    systems,
)
from ilvren.records import dataclass

__all__ = ["METHOD", "InteriorPointOptions"]

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]

# κ1, κ2 (paper): how far inside its bounds the start is put; less for a warm start.
INSIDE, WARM_INSIDE = 1e-2, 1e-4
# (3): ρ, and the share of θ that must be left behind (paper).
RESTORATION_PRICE, RESTORED_SHARE = 1000.0, 0.9
# Restorations, and looks around or for negative curvature, in one run.
MOST_RESTORATIONS, MOST_ESCAPES = 30, 4
# Polishes in one run; of large problems some before the barrier is gone, each when the error has fallen to this share.
MOST_EARLY, EARLY, FIRST_EARLY = 6, 0.2, 5e-2
MOST_POLISHES, MOST_LARGE_POLISHES = 20, 4
# A relative change below this is a tiny step.
TINY_STEP = 10.0 * float(np.finfo(float).eps)


@dataclass(frozen=True)
class InteriorPointOptions:
    """Options of `interior-point`."""

    exact: bool = option(True, help="second derivatives of formulas, estimates of models'; no: a quasi-Newton matrix")
    corrections: bool = option(True, help="correct steps for the curvature of the limits when the full step is refused")
    exact_limits: bool = option(True, help="put the design exactly on the limits that hold it, at the end")


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
    return replace(state, y=least_squares_multipliers(stage, state))


def _solved(
    stage: Stage, state: State, options: InteriorPointOptions, *, outer: Outer | None
) -> Generator[Request | HessianRequest | Iterate, Any, End]:
    """Solve (1) for μ → 0: algorithm A of the paper, by its steps. `outer` is None for the main problem; for (3) it
    says whether a point is good enough to return to."""
    system, polishing = systems(stage, state)
    theta = constraint_miss(state.rest(stage))
    memory = memory_from(theta)
    tests, barrier = EndTests(stage, outer), BarrierChoice(stage, memory, is_free=outer is None)
    polish = _Polishing(stage, options) if outer is None else None
    move, restorations = Move(state, note="the start" if outer is None else "restoring feasibility"), _Restorations()
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
        newton = newton_matrix(stage, state, system, hessian, memory)  # algorithm IC
        if newton is not None:
            aimed = barrier.probe(state, newton)
            found = direction_between(stage, state, newton, aimed)  # A-4, (2)
        if newton is not None and found is not None:
            taken = yield from line_searched(
                stage, state, newton, found, memory, corrections=options.corrections
            )
            if taken is None and barrier.keep_for_a_while(state):
                move = Move(state, 0.0, "no step acceptable: the barrier is kept for a while")
                continue
        if taken is None and found is not None and outer is None and assessment.violation <= stage.task.feasibility:
            taken = yield from towards_conditions(stage, state, found)
        if taken is None and found is not None and _is_tiny(state, found.dw):
            ended = tests.ended_tiny(state, assessment)
            if ended is not None:
                return ended
            if tests.is_first_tiny(state):
                barrier.lower(state)
                move = Move(state, 0.0, "the barrier is lowered: the step was as small as rounding")
                continue
        if taken is None:
            ended = tests.ended_without_step(state, assessment, error, memory)
            if ended is not None:
                return ended
            if memory.forget_curvature():
                move = Move(state, 0.0, "no step acceptable: curvature forgotten")
                continue
            restored = yield from _restored_from(stage, state, memory, options, restorations)
            if isinstance(restored, End):
                return restored
            state, move = restored, Move(restored, note="feasibility restored")
            continue
        tests.tiny, barrier.failures = 0, 0
        ended = tests.ended_still(state, taken, assessment)
        if ended is not None:
            return ended
        _update_quasi_newton(memory, state, taken.state)
        state, move = taken.state, taken


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
    ) -> Generator[Request | HessianRequest | Iterate, Any, End | None]:
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
        return End(replace(state, point=better, y=-multipliers), "converged", reason)


@dataclass
class _Restorations:
    """How often feasibility was restored, and how often that moved slacks alone."""

    count: int = 0
    stuck: int = 0


def _restored_from(
    stage: Stage, state: State, memory: Memory, options: InteriorPointOptions, so_far: _Restorations
) -> Generator[Request | HessianRequest | Iterate, Any, State | End]:
    """Restore feasibility (A-9); return the state to go on from, or the end."""
    so_far.count += 1
    if so_far.count > MOST_RESTORATIONS:
        return End(state, "stalled", "feasibility had to be restored too often")
    theta = constraint_miss(state.rest(stage))
    memory.add(theta, barrier_value(stage, state, state.point, state.t))
    restored = yield from _restored(stage, state, memory, options)
    if restored.claim == "stalled":
        left = constraint_miss(restored.state.rest(stage))
        if restored.state is state or not left <= RESTORED_SHARE * theta:
            return End(state, "stalled", "no step is acceptable, and feasibility could not be improved either")
    if restored.claim == "conflict":
        return End(restored.state, "conflict")
    found = restored.state
    if np.array_equal(found.point.x, state.point.x):  # only slacks moved: another μ must show another way
        so_far.stuck += 1
        if so_far.stuck > MOST_STUCK:
            return End(state, "stalled", "no step is acceptable at a design that is already feasible")
        found.mu = max(LAST_BARRIER, BARRIER_SHARE * state.mu)
        memory.filter.clear()
    return found


def _curvature(
    stage: Stage, state: State, memory: Memory, options: InteriorPointOptions
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


def _update_quasi_newton(memory: Memory, before: State, after: State) -> None:
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


def _is_tiny(state: State, dw: FloatArray) -> bool:
    return bool((np.abs(dw) <= TINY_STEP * (1.0 + np.abs(state.w))).all())


def _restored(
    stage: Stage, state: State, memory: Memory, options: InteriorPointOptions
) -> Generator[Request | HessianRequest | Iterate, Any, End]:
    """Solve (3) until the filter takes a point with clearly less θ: return the state there, and whether feasibility was
    "restored", the limits "conflict" there, or neither ("stalled": where it began, if nothing came of it)."""
    n, m, k = stage.n, len(stage.b), len(state.t)
    theta = constraint_miss(state.rest(stage))
    if theta <= ROUNDING * (1.0 + float(np.abs(state.point.c).max(initial=0.0))) or not m:
        return End(state, "stalled")
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
        return End(given, "stalled")
    if claim in ("conflict", "stalled"):
        return End(back, claim)
    largest = max(float(back.z_low.max(initial=0.0)), float(back.z_high.max(initial=0.0)))
    if largest > MOST_FIRST_MULTIPLIER:
        back = replace(back, z_low=np.where(back.z_low > 0.0, 1.0, 0.0), z_high=np.where(back.z_high > 0.0, 1.0, 0.0))
    return End(replace(back, y=least_squares_multipliers(stage, back)), "restored")


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
