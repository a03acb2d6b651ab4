"""Sequential quadratic programming with a line search: the method of first choice for smooth problems.

At a design x with multipliers λ and a positive definite matrix B for the curvature of the Lagrangian
L = f − λ'c, each iteration solves

    minimize  ½ d'Bd + g'd   subject to  row limits on c + J d,  bounds on x + d                  (1)

and, where the linearised limits conflict, restores feasibility first: Levenberg–Marquardt steps on the misses
v alone, every row relaxed by its own s_i and bounds kept,

    minimize  ½ μ |d|² + ½ |s|²   subject to  row limits on c + J d + s                             (2)

until |v| has halved and (1) has a solution again, or no step lowers |v| any further: then the limits conflict.
The step length α is found by backtracking on the exact penalty function

    φ(x) = f(x) + ρ |v(x)|₂,     v_i the miss of row i,     ρ > |λ|₂                              (3)
    φ(x + αd) ≤ φ(x) + η α D,    D = g'd − ρ (|v| − |v + linear change|)                          (4)

with one second-order correction when the full step is refused near the limits (the Maratos effect):
(1) again with c(x + d) − J d in place of c                                                       (5)
B follows from damped BFGS updates with the change of the gradient of L.                          (6)

Needs     values and gradients.   Handles   bounds, inequalities, equalities.
Cost      one gradient and mostly one value per iteration; arithmetic ~ (n + m)³, memory (n + m)².
Stops     when the conditions measured by the driver hold and the next step promises less than the tolerance.
Weak      thousands of variables (dense matrices); noisy values; saddle points are stationary to it.
Source    M. J. D. Powell, "A fast algorithm for nonlinearly constrained optimization calculations", 1978;
          S.-P. Han, "A globally convergent method for nonlinear programming", 1977; (3) with the 2-norm:
          R. H. Byrd, J. C. Gilbert, J. Nocedal, "A trust region method based on interior point techniques", 2000;
          (2): D. W. Marquardt, "An algorithm for least-squares estimation of nonlinear parameters", 1963;
          (5): R. Fletcher, "Second order corrections for non-differentiable optimization", 1982.
Departs   by restoring with (2), which needs no second derivatives and proves conflict by a stationary |v|.
"""

from __future__ import annotations

import math
from collections.abc import Generator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import QuadraticSolution, damped_bfgs, solve_quadratic, solve_relaxed
from ilvren.methods.base import Ending, Iterate, Method, Protocol, Reply, Request, Standing, Task, option

__all__ = ["METHOD", "SqpOptions"]

FloatArray = NDArray[np.float64]

# η of (4): any small positive share keeps the proof; this one accepts almost every decrease.
SUFFICIENT = 1e-4
# The penalty exceeds the multipliers by this factor.
PENALTY_FACTOR = 1.5
# A penalty that stays so many times too large for so many iterations makes steps along curved limits tiny:
# it is lowered, but only so often, so that in the end it only grows, as the proof of convergence needs.
LOOSE_PENALTY, LOOSE_ITERATIONS, MOST_LOOSENED, LEAST_PENALTY = 10.0, 3, 12, 1e-8
# Values are trusted to this many units of rounding when a decrease is tested.
ROUNDING = 10.0 * np.finfo(float).eps
# |v| is stationary when its slope is this share of what J and v could make it; nearly, when no step helps.
STATIONARY_SLOPE, NEARLY_STATIONARY_SLOPE = 1e-6, 1e-4
# A design found by looking around must lower |v| by this share.
ESCAPE_SHARE = 1e-6
# (2): the share of |v| to reach before (1) is tried again; steps in all; the first and least μ, relative to |J|²,
# and its factors after a good and a bad step.
RESTORED_SHARE, RESTORATION_STEPS = 0.5, 300
FIRST_DAMPING, LEAST_DAMPING, MOST_DAMPING = 1e-3, 1e-10, 1e12
DAMPING_DOWN, DAMPING_UP = 0.2, 4.0
# Restorations in one run: each must halve the violation, so this is far beyond any honest need.
MOST_RESTORATIONS = 60
# Looks around when the violation is stationary: a symmetric start is no evidence of conflict.
ESCAPES = 3
ESCAPE_RADII = (0.3, 0.03)
# Accepted steps in a row that lower φ by no more than rounding: after so many, the search is at its end.
MOST_QUIET = 8
# The next step must promise less than this share of the tolerance: steps converge fast, and one more is cheap.
PROMISE_SHARE = 0.01
# The scaled objective below which a feasible run is called unbounded.
UNBOUNDED = -1e15


@dataclass(frozen=True)
class SqpOptions:
    """Options of `sqp`."""

    corrections: bool = option(True, help="correct steps for the curvature of the limits when the full step is refused")
    halvings: int = option(40, low=5, high=200, help="most trial lengths along one direction")


@dataclass(frozen=True)
class _Point:
    """A design x with f, c, g and J there; gradient and Jacobian stay empty until asked for."""

    x: FloatArray
    f: float
    c: FloatArray
    g: FloatArray
    j: FloatArray

    @property
    def is_finite(self) -> bool:
        return math.isfinite(self.f) and bool(np.isfinite(self.c).all())

    @property
    def has_derivatives(self) -> bool:
        return bool(np.isfinite(self.g).all() and np.isfinite(self.j).all())


def sqp(task: Task, options: SqpOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    here = yield from _evaluated(task.start, derivatives=True)
    if not here.is_finite:
        return Ending("invalid", "the objective or a constraint has no finite value at the start")
    if not here.has_derivatives:
        return Ending("invalid", "a derivative is not finite at the start")
    n = len(task.start)
    matrix = np.eye(n)
    penalty = 1.0
    step_length, note = math.nan, "the start"
    is_fresh, escapes, quiet, restorations, loose, loosened = True, 0, 0, 0, 0, 0
    while True:
        plan = _direction(task, here, matrix)  # (1)
        standing: Standing = yield Iterate(here.x, step_length, note)
        if plan is None and standing.violation <= task.feasibility:
            # Not the limits: the numbers have broken down. The curvature may be to blame.
            if is_fresh:
                return Ending("stalled", "the quadratic subproblem could not be solved")
            matrix, is_fresh = np.eye(n), True
            step_length, note = 0.0, "curvature forgotten: the quadratic subproblem could not be solved"
            continue
        if plan is None:
            restorations += 1
            here, ended = yield from _restored(task, here, matrix)  # (2)
            if ended == "back" and restorations <= MOST_RESTORATIONS:
                matrix, is_fresh = np.eye(n), True
                step_length, note = math.nan, "feasibility restored as far as the linearised limits need it"
                continue
            if ended != "stationary":
                return Ending("stalled", "feasibility could not be restored")
            elsewhere = yield from _less_violated_nearby(task, here) if escapes < ESCAPES else _nothing()
            if elsewhere is None:
                return Ending("infeasible", "no direction reduces the violation of the limits any further")
            step_length, note = float(np.abs(elsewhere.x - here.x).max()), "looked around for a lower violation"
            here, escapes, matrix, is_fresh = elsewhere, escapes + 1, np.eye(n), True
            continue
        multipliers = plan.row_multipliers
        if standing.meets_conditions and _promises_little(task, here, plan, matrix):
            return Ending("converged", "first-order conditions hold and the next step promises nothing")
        if here.f < UNBOUNDED and standing.violation <= task.feasibility:
            return Ending("unbounded", "the objective falls without end at feasible designs")
        least = _least_penalty(task, here, plan, matrix)
        loose = loose + 1 if penalty > LOOSE_PENALTY * least else 0
        if loose >= LOOSE_ITERATIONS and loosened < MOST_LOOSENED:
            penalty, loose, loosened = max(2.0 * least, LEAST_PENALTY), 0, loosened + 1
        penalty = max(penalty, least)
        there, note = yield from _line_search(task, here, plan, matrix, penalty, options)
        if there is None:
            if standing.meets_conditions:
                return Ending("converged", "first-order conditions hold; rounding allows no further decrease")
            if is_fresh:
                return Ending("stalled", "no step along the search direction improves the design")
            matrix, is_fresh = np.eye(n), True
            step_length, note = 0.0, "no decrease: curvature forgotten"
            continue
        quiet = quiet + 1 if _is_level(task, here, there, penalty) else 0
        if quiet >= MOST_QUIET:
            return Ending("stalled", "the last steps changed the penalty function by no more than rounding")
        s = there.x - here.x
        y = (there.g - there.j.T @ multipliers) - (here.g - here.j.T @ multipliers)
        if is_fresh:
            matrix = _first_curvature(s, y, n)
        matrix = damped_bfgs(matrix, s, y)  # (6)
        is_fresh = False
        step_length = float(np.abs(s).max())
        here = there


METHOD = Method(
    name="sqp",
    about="sequential quadratic programming: smooth problems with any limits",
    kind="gradient-based",
    needs="gradients",
    handles=frozenset({"bounds", "inequalities", "equalities"}),
    options=SqpOptions,
    run=sqp,
    most_variables=2000,
    cost="one gradient and about one value per iteration; arithmetic (n + m)^3",
    weak="kinks and noise; more than some hundred variables; saddle points look stationary to it",
)


def _nothing() -> Generator[Request, Reply, None]:
    return None
    yield


def _evaluated(x: FloatArray, *, derivatives: bool) -> Generator[Request, Any, _Point]:
    reply: Reply = yield Request(x[np.newaxis, :], derivatives)
    n, m = len(x), reply.rows.shape[1]
    if reply.gradient is None or reply.jacobian is None:
        return _Point(x, float(reply.objective[0]), reply.rows[0], np.full(n, np.nan), np.full((m, n), np.nan))
    return _Point(x, float(reply.objective[0]), reply.rows[0], reply.gradient[0], reply.jacobian[0])


def _direction(task: Task, here: _Point, matrix: FloatArray) -> QuadraticSolution | None:
    """Return the solution of (1), or None where the linearised limits conflict."""
    plan = solve_quadratic(
        matrix,
        here.g,
        rows=here.j,
        row_limits=(task.row_lower - here.c, task.row_upper - here.c),
        bounds=(task.lower - here.x, task.upper - here.x),
    )
    return plan if plan.outcome == "solved" and np.isfinite(plan.step).all() else None


def _restored(task: Task, here: _Point, matrix: FloatArray) -> Generator[Request | Iterate, Any, tuple[_Point, str]]:
    """Lower |v| by (2). Return the point reached and "back", "stationary" or "stuck"."""
    entry = float(np.linalg.norm(task.misses(here.c)))
    scale = max(float(np.linalg.norm(here.j)) ** 2, 1e-300)
    damping = FIRST_DAMPING
    for _ in range(RESTORATION_STEPS):
        plan = solve_relaxed(
            max(damping, LEAST_DAMPING) * scale * np.eye(len(here.x)),
            np.zeros(len(here.x)),
            rows=here.j,
            row_limits=(task.row_lower - here.c, task.row_upper - here.c),
            bounds=(task.lower - here.x, task.upper - here.x),
            weight=1.0,
        )
        if plan.outcome != "solved":
            return here, "stuck"
        now = float(np.linalg.norm(task.misses(here.c)))
        promised = now - _linear_violation(task, here, plan.step)
        if not _violation_slope(task, here) > STATIONARY_SLOPE:
            return here, "stationary"
        trial = yield from _evaluated(np.clip(here.x + plan.step, task.lower, task.upper), derivatives=False)
        gained = now - float(np.linalg.norm(task.misses(trial.c)))
        if trial.is_finite and gained >= SUFFICIENT * promised:
            there = yield from _evaluated(trial.x, derivatives=True)
            if there.has_derivatives:
                step = float(np.abs(there.x - here.x).max())
                here, damping = there, damping * DAMPING_DOWN
                if now - gained <= RESTORED_SHARE * entry and _direction(task, here, matrix) is not None:
                    return here, "back"
                yield Iterate(here.x, step, "restoring feasibility: the linearised limits conflict")
                continue
        damping *= DAMPING_UP
        if damping > MOST_DAMPING:
            break
    return here, "stationary" if _violation_slope(task, here) <= NEARLY_STATIONARY_SLOPE else "stuck"


def _violation_slope(task: Task, here: _Point) -> float:
    """Return |J'v| over |J||v|, what points out of the bounds left out: 0 where |v| is stationary."""
    v = here.c - np.clip(here.c, task.row_lower, task.row_upper)
    slope = here.j.T @ v
    slope[(here.x <= task.lower) & (slope > 0.0) | (here.x >= task.upper) & (slope < 0.0)] = 0.0
    most = float(np.linalg.norm(here.j) * np.linalg.norm(v))
    return float(np.linalg.norm(slope)) / most if most > 0.0 else 0.0


def _linear_violation(task: Task, here: _Point, d: FloatArray) -> float:
    return float(np.linalg.norm(task.misses(here.c + here.j @ d)))


def _promises_little(task: Task, here: _Point, plan: QuadraticSolution, matrix: FloatArray) -> bool:
    """Return whether the model's best step changes neither objective nor design by more than the tolerance."""
    change = abs(float(here.g @ plan.step)) + float(plan.step @ matrix @ plan.step)
    size = np.maximum(np.abs(here.x), 1.0)
    return change <= PROMISE_SHARE * task.tolerance * max(abs(here.f), 1.0) and bool(
        (np.abs(plan.step) <= math.sqrt(task.tolerance) * size).all()
    )


def _least_penalty(task: Task, here: _Point, plan: QuadraticSolution, matrix: FloatArray) -> float:
    """Return the ρ that is above the multipliers, and lets D of (4) promise half of what the model does."""
    least = PENALTY_FACTOR * float(np.linalg.norm(plan.row_multipliers))
    violation = float(np.linalg.norm(task.misses(here.c)))
    if violation > 0.0:
        curvature = float(plan.step @ matrix @ plan.step)
        least = max(least, PENALTY_FACTOR * (float(here.g @ plan.step) + 0.5 * curvature) / violation)
    return least if math.isfinite(least) else 0.0


def _merit(task: Task, point: _Point, penalty: float) -> float:
    """Return φ, infinite where a value is invalid: such a point is never accepted."""
    if not point.is_finite:
        return math.inf
    return point.f + penalty * float(np.linalg.norm(task.misses(point.c)))  # (3)


def _is_level(task: Task, here: _Point, there: _Point, penalty: float) -> bool:
    """Return whether φ fell by no more than rounding."""
    before, after = _merit(task, here, penalty), _merit(task, there, penalty)
    return not before - after > ROUNDING * (abs(here.f) + abs(before))


def _line_search(
    task: Task,
    here: _Point,
    plan: QuadraticSolution,
    matrix: FloatArray,
    penalty: float,
    options: SqpOptions,
) -> Generator[Request, Reply, tuple[_Point | None, str]]:
    """Return the accepted point, with its derivatives, and a note, or None.

    A point whose derivatives are not finite is no place to go on from: the step is shortened.
    """
    d = plan.step
    violation = float(np.linalg.norm(task.misses(here.c)))
    promised = float(here.g @ d) - penalty * (violation - _linear_violation(task, here, d))  # D of (4)
    base = _merit(task, here, penalty)
    slack = ROUNDING * (abs(here.f) + penalty * violation)
    if not promised < 0.0 or not np.isfinite(d).all() or not d.any():
        return None, "no descent"
    alpha = 1.0
    for count in range(options.halvings):
        x = np.clip(here.x + alpha * d, task.lower, task.upper)
        if np.array_equal(x, here.x):
            return None, "the step vanished"
        trial = yield from _evaluated(x, derivatives=False)
        gained = _merit(task, trial, penalty)
        if gained <= base + SUFFICIENT * alpha * promised + slack:  # (4)
            there = yield from _evaluated(x, derivatives=True)
            if there.has_derivatives:
                return there, "full step" if count == 0 else f"step shortened to {alpha:.2g}"
            alpha *= 0.5
            continue
        if count == 0 and options.corrections and trial.is_finite and len(trial.c):
            corrected = yield from _corrected(task, here, trial, plan, matrix)  # (5)
            if corrected is not None and _merit(task, corrected, penalty) <= base + SUFFICIENT * promised + slack:
                there = yield from _evaluated(corrected.x, derivatives=True)
                if there.has_derivatives:
                    return there, "full step with second-order correction"
        # Minimum of the parabola through φ(0), φ'(0) and φ(α), kept away from both ends.
        curve = gained - base - alpha * promised
        shrink = -0.5 * alpha * promised / curve if math.isfinite(curve) and curve > 0.0 else 0.1
        alpha *= min(max(shrink, 0.1), 0.5)
    return None, "no decrease"


def _corrected(
    task: Task, here: _Point, trial: _Point, plan: QuadraticSolution, matrix: FloatArray
) -> Generator[Request, Reply, _Point | None]:
    shifted = trial.c - here.j @ plan.step
    again = solve_quadratic(
        matrix,
        here.g,
        rows=here.j,
        row_limits=(task.row_lower - shifted, task.row_upper - shifted),
        bounds=(task.lower - here.x, task.upper - here.x),
    )
    if again.outcome != "solved" or not np.isfinite(again.step).all():
        return None
    if float(np.linalg.norm(again.step - plan.step)) > float(np.linalg.norm(plan.step)):
        return None  # no longer a correction
    x = np.clip(here.x + again.step, task.lower, task.upper)
    return (yield from _evaluated(x, derivatives=False))


def _first_curvature(s: FloatArray, y: FloatArray, n: int) -> FloatArray:
    """Return I scaled to the curvature seen along the first step, within reason."""
    along, curvature = float(s @ y), float(y @ y)
    if not (math.isfinite(curvature) and along > 0.0):
        return np.eye(n)
    return np.eye(n) * min(max(curvature / along, 1e-4), 1e6)


def _less_violated_nearby(task: Task, here: _Point) -> Generator[Request, Reply, _Point | None]:
    """Return a point around with a clearly lower violation, or None. The sample depends on the seed alone."""
    n = len(here.x)
    draws = np.random.default_rng([task.seed, 77]).normal(size=(2 * n + 4, n))
    draws /= np.linalg.norm(draws, axis=1, keepdims=True)
    points = np.vstack([here.x + radius * draws for radius in ESCAPE_RADII])
    points = np.clip(points, task.lower, task.upper)
    reply: Reply = yield Request(points)
    now = float(np.linalg.norm(task.misses(here.c)))
    found = [float(np.linalg.norm(task.misses(rows))) for rows in reply.rows]
    found = [v if math.isfinite(f) else math.inf for v, f in zip(found, reply.objective, strict=True)]
    best = int(np.argmin(found))
    if not found[best] <= (1.0 - ESCAPE_SHARE) * now:
        return None
    point = yield from _evaluated(points[best], derivatives=True)
    return replace(point) if point.has_derivatives else None
