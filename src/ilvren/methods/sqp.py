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
B is the Hessian H of L, exact but for what models add, which is estimated (`models.hessians`). It is made positive
definite by curvature across the limits A that held the last step, which changes no step on them, and then by raising
what is still too low,

    B = H + σ A'A,   g + σ A'r for g,   r = A d on those limits                                      (6)

where that leads nowhere, or is switched off, damped BFGS updates with the change of the gradient of L.   (7)
(1) starts from the active limits of the last iteration.

Needs     gradients; second derivatives of formulas.   Handles   bounds, inequalities, equalities.
Cost      one gradient, one Hessian and mostly one value per iteration; arithmetic ~ (n + m)³, memory (n + m)².
Stops     when the conditions measured by the driver hold and the next step promises less than the tolerance.
Weak      thousands of variables (dense matrices); noisy values.
Source    M. J. D. Powell, "A fast algorithm for nonlinearly constrained optimization calculations", 1978;
          S.-P. Han, "A globally convergent method for nonlinear programming", 1977; (3) with the 2-norm:
          R. H. Byrd, J. C. Gilbert, J. Nocedal, "A trust region method based on interior point techniques", 2000;
          (2): D. W. Marquardt, "An algorithm for least-squares estimation of nonlinear parameters", 1963;
          (5): R. Fletcher, "Second order corrections for non-differentiable optimization", 1982;
          (6): M. R. Hestenes, "Multiplier and gradient methods", 1969, whose Lagrangian has this Hessian.
Departs   by restoring with (2), which needs no second derivatives and proves conflict by a stationary |v|;
          by leaving saddles along negative curvature; by going on from elsewhere in the box where (2) only creeps; and
          by giving up where many iterations gain next to nothing.
"""

from __future__ import annotations

import math
from collections.abc import Generator
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import QuadraticSolution, damped_bfgs, solve_quadratic
from ilvren.methods.base import Assessment, Ending, Iterate, Method, Protocol, Request, Task, Tight
from ilvren.methods.pieces.descent import endless
from ilvren.methods.pieces.escape import downhill_from_saddle, less_violated_nearby
from ilvren.methods.pieces.estimated import estimated_while_useful
from ilvren.methods.pieces.options import option
from ilvren.methods.pieces.points import Point, evaluated, hessian_at, is_lost, leads_nearer, ratio, tightened
from ilvren.methods.pieces.rescaled import is_out_of_scale, rescaled
from ilvren.methods.pieces.restoration import less_violated_far, linear_violation, restored
from ilvren.records import dataclass

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
# (6): the least curvature of B in the scale of its rows, the least scale, and weights σ tried, relative to |H|.
LEAST_CURVATURE, LEAST_SCALE, ACROSS_WEIGHTS = 1e-9, 1e-8, (1.0, 10.0, 100.0, 1e4)
# A direction whose curvature had to be raised is no longer than this many times the design.
MOST_RAISED_STEP = 10.0
# Curvature added to all directions while steps must be cut below SHORT; how it grows and falls.
SHORT, FIRST_SHIFT, SHIFT_UP, SHIFT_DOWN, MOST_SHIFT = 0.1, 1e-3, 10.0, 0.1, 1e8
# Looks over the box in one run, each after a restoration that creeps.
FAR_LOOKS = 2
# Restorations in one run: each must halve the violation, so this is far beyond any honest need.
MOST_RESTORATIONS = 60
# Looks around when the violation is stationary: a symmetric start is no evidence of conflict.
ESCAPES, LOOKS = 3, 5
# Accepted steps in a row that lower φ by no more than rounding: after so many, the search is at its end.
MOST_QUIET = 8
# So many iterations that neither change the objective by more than this share, nor bring the violation or the measured
# conditions below half of what they were, lead nowhere: another method may. Where most steps had to be shortened below
# CUT, as beside kinks, a gain of less than LEAST_GAIN_CUT leads nowhere either.
PATIENCE, LEAST_GAIN, NEARER = 60, 1e-4, 0.5
CUT, CUT_SHARE, LEAST_GAIN_CUT = 0.6, 0.6, 0.1
# Iterations at which all conditions hold and next to nothing is to be gained, though the steps stay long.
MOST_MET = 10
# The next step must promise less than this share of the tolerance: steps converge fast, and one more is cheap.
PROMISE_SHARE = 0.01


@dataclass(frozen=True)
class SqpOptions:
    """Options of `sqp`."""

    exact: bool = option(True, help="second derivatives of formulas, estimates of models'; no: a quasi-Newton matrix")
    corrections: bool = option(True, help="correct steps for the curvature of the limits when the full step is refused")
    halvings: int = option(40, low=5, high=200, help="most trial lengths along one direction")


@dataclass(frozen=True, eq=False)
class _Model:
    """The B of (1), the gradient that goes with it, and how B was made positive definite, for the note of a step."""

    matrix: FloatArray
    gradient: FloatArray
    made: str = ""


@dataclass
class _Pace:
    """What the best of the last iterations came to: (f, violation, stationarity), and of those before."""

    now: tuple[float, float, float] = (math.nan, math.inf, math.inf)
    before: tuple[float, float, float] = (math.nan, math.inf, math.inf)
    count: int = 0
    cut: int = 0
    is_lost: bool = False

    def take(self, f: float, assessment: Assessment, *, is_cut: bool) -> None:
        """Take an iterate, and whether the step to it was cut short; every so often see what was gained."""
        self.cut += is_cut
        stationarity = math.inf if assessment.stationarity is None else assessment.stationarity
        self.now = (f, min(self.now[1], assessment.violation), min(self.now[2], stationarity))
        self.count += 1
        if self.count < PATIENCE:
            return
        gain = abs(self.before[0] - f)
        is_level = gain <= (LEAST_GAIN_CUT if self.cut > CUT_SHARE * PATIENCE else LEAST_GAIN) * abs(f)
        is_no_better = self.now[1] > NEARER * self.before[1] or assessment.violation == 0.0
        self.is_lost = (
            is_level and is_no_better and self.now[2] > NEARER * self.before[2] and not assessment.meets_conditions
        )
        self.before, self.now, self.count, self.cut = (f, *self.now[1:]), (f, math.inf, math.inf), 0, 0


def sqp(task: Task, options: SqpOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    here = yield from evaluated(task.start, derivatives=True)
    if not here.is_finite:
        return Ending("invalid", "the objective or a constraint has no finite value at the start")
    if not here.has_derivatives:
        return Ending("invalid", "a derivative is not finite at the start")
    n = len(task.start)
    matrix, penalty, shift = np.eye(n), 1.0, 0.0
    multipliers = np.zeros(len(here.c)) if task.row_multipliers is None else task.row_multipliers
    plan: QuadraticSolution | None = None
    if task.row_multipliers is not None and task.bound_multipliers is not None:  # the active limits of an earlier run
        nothing = np.zeros(len(here.c))
        plan = QuadraticSolution(np.zeros(n), task.row_multipliers, task.bound_multipliers, "solved", nothing)
    step_length, note, gain_ratio = math.nan, "the start", math.nan
    is_fresh, escapes, looks, quiet, met, restorations, loose, loosened = True, 0, 0, 0, 0, 0, 0, 0
    far_looks, pace, alpha = 0, _Pace(), 1.0
    is_exact = (task.has_curvature or task.has_secants) and options.exact
    while True:
        model = _Model(matrix, here.g)
        if is_exact:
            hessian = yield from hessian_at(here.x, multipliers)
            if hessian is not None:
                model = _convex(task, here, hessian, plan, multipliers, shift)  # (6)
        before, plan = plan, _direction(task, here, model, plan)  # (1)
        assessment: Assessment = yield Iterate(here.x, step_length, note, gain_ratio)
        gain_ratio = math.nan
        pace.take(here.f, assessment, is_cut=alpha < CUT)
        if pace.is_lost:
            return Ending("stalled", f"{PATIENCE} iterations gained little and brought the conditions no nearer")
        if plan is None and assessment.violation <= task.feasibility:
            # Not the limits: the numbers have broken down. The curvature may be to blame.
            if is_fresh and not is_exact:
                return Ending("stalled", "the quadratic subproblem could not be solved")
            matrix, is_fresh, is_exact = np.eye(n), True, False
            step_length, note = 0.0, "curvature forgotten: the quadratic subproblem could not be solved"
            continue
        if plan is None:
            restorations += 1
            may_leave = far_looks < FAR_LOOKS
            may_go_on = partial(_has_direction, task, model.matrix)
            here, ended = yield from restored(task, here, may_go_on, may_leave=may_leave)  # (2)
            if ended == "back" and restorations <= MOST_RESTORATIONS:
                matrix, is_fresh = np.eye(n), True
                step_length, note = math.nan, "feasibility restored as far as the linearised limits need it"
                continue
            if ended == "creeping":
                far_looks += 1
                elsewhere = yield from less_violated_far(task, here, far_looks)
                note = "restoring feasibility anew from elsewhere in the box: less is missed there"
                if elsewhere is None:
                    continue
            elif ended != "stationary":
                return Ending("stalled", "feasibility could not be restored")
            else:
                elsewhere = (yield from less_violated_nearby(task, here, escapes)) if escapes < ESCAPES else None
                escapes, note = escapes + 1, "looked around for a lower violation"
                if elsewhere is None:
                    return Ending("infeasible", "no direction reduces the violation of the limits any further")
            step_length = float(np.abs(elsewhere.x - here.x).max())
            if ended == "creeping" and is_out_of_scale(elsewhere):
                yield Iterate(elsewhere.x, step_length, note)
                return (yield from rescaled(sqp, task, options, elsewhere))
            here, matrix, is_fresh = elsewhere, np.eye(n), True
            continue
        met = met + 1 if assessment.meets_conditions and _gains_little(task, here, plan, model) else 0
        if met and (_moves_little(task, here, plan) or met > MOST_MET):
            may_look = options.exact and looks < LOOKS
            lower = (yield from downhill_from_saddle(task, here, plan.row_multipliers)) if may_look else None
            if lower is None:
                return Ending("converged", "first-order conditions hold and the next step promises nothing")
            step_length, note = float(np.abs(lower.x - here.x).max()), "left a saddle along negative curvature"
            here, looks, matrix, is_fresh, multipliers = lower, looks + 1, np.eye(n), True, plan.row_multipliers
            continue
        ended_far = endless(task, here, assessment)
        if ended_far is not None:
            return ended_far
        least = _least_penalty(task, here, plan, model)
        loose = loose + 1 if penalty > LOOSE_PENALTY * least else 0
        if loose >= LOOSE_ITERATIONS and loosened < MOST_LOOSENED:
            penalty, loose, loosened = max(2.0 * least, LEAST_PENALTY), 0, loosened + 1
        penalty = max(penalty, least)
        found, note = yield from _line_search(task, here, plan, model, penalty, options)
        if found is None:
            if assessment.meets_conditions:
                return Ending("converged", "first-order conditions hold; rounding allows no further decrease")
            if is_exact and shift < MOST_SHIFT:
                shift = max(SHIFT_UP * shift, FIRST_SHIFT)
                step_length, note, plan = 0.0, "no decrease: shorter steps are asked for", before
                continue
            if is_fresh:
                return Ending("stalled", "no step along the search direction improves the design")
            matrix, is_fresh = np.eye(n), True
            step_length, note = 0.0, "no decrease: curvature forgotten"
            continue
        there, gain_ratio, alpha = found
        limits = int(np.count_nonzero(plan.row_multipliers) + np.count_nonzero(plan.bound_multipliers))
        note += f" of the quadratic model, held by {limits} limit{'' if limits == 1 else 's'}{model.made}"
        quiet = quiet + 1 if _is_level(task, here, there, penalty) else 0
        if quiet >= MOST_QUIET:
            if assessment.meets_conditions:
                return Ending("converged", "first-order conditions hold; rounding allows no further decrease")
            return Ending("stalled", "the last steps changed the penalty function by no more than rounding")
        # Steps that had to be cut short ask for shorter ones; full ones for none.
        shift = max(SHIFT_UP * shift, FIRST_SHIFT) if alpha < SHORT else shift * SHIFT_DOWN
        shift = shift if shift >= FIRST_SHIFT * SHIFT_DOWN else 0.0
        multipliers = multipliers + alpha * (plan.row_multipliers - multipliers)
        s = there.x - here.x
        if not is_exact:
            y = (there.g - there.j.T @ plan.row_multipliers) - (here.g - here.j.T @ plan.row_multipliers)
            if is_fresh:
                matrix = _first_curvature(s, y, n)
            matrix = damped_bfgs(matrix, s, y)  # (7)
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
    run=estimated_while_useful(sqp),
    most_variables=2000,
    cost="one gradient, one Hessian and about one value per iteration; arithmetic (n + m)^3",
    weak="kinks and noise; more than some hundred variables",
)


def _convex(
    task: Task, here: Point, hessian: FloatArray, plan: QuadraticSolution | None, multipliers: FloatArray, shift: float
) -> _Model:
    """Return a positive definite B and its gradient: by (6) as far as that does it, then by raising eigenvalues.

    Definiteness is judged with the diagonal scaled to one, and eigenvalues are raised in the scale of the rows:
    variables may differ in curvature by any factor.
    """
    largest = max(float(np.abs(hessian).max(initial=0.0)), LEAST_SCALE)
    shifted = hessian + shift * np.eye(len(here.x))
    if _is_definite(shifted):
        return _Model(shifted, here.g)
    if plan is not None and plan.outcome == "solved":
        normals, gaps = _held_limits(task, here, plan)
        if len(normals):
            across = normals.T @ normals
            for weight in ACROSS_WEIGHTS:
                sigma = weight * largest
                if _is_definite(shifted + sigma * across):
                    gradient = here.g - sigma * (normals.T @ gaps)
                    return _Model(shifted + sigma * across, gradient, ", curvature added across the limits")
    # By the largest entry of each row, not by the diagonal, which may be 0: |H_ij| <= scale_i scale_j then.
    scale = np.sqrt(np.maximum(np.abs(hessian).max(axis=1, initial=0.0), LEAST_SCALE))
    values, vectors = np.linalg.eigh(hessian / np.outer(scale, scale))
    slope = float(np.linalg.norm(here.g - here.j.T @ multipliers))
    longest = MOST_RAISED_STEP * max(1.0, float(np.linalg.norm(here.x)))
    least = max(LEAST_CURVATURE, (slope / longest + shift) / float(scale.max()) ** 2)
    vectors = vectors * scale[:, np.newaxis]
    raised = (vectors * np.maximum(np.abs(values), least)) @ vectors.T
    return _Model(raised, here.g, ", negative curvature turned upwards")


def _held_limits(task: Task, here: Point, plan: QuadraticSolution) -> tuple[FloatArray, FloatArray]:
    """Return unit normals (k, n) of the limits that held the last step, and how far each is from its limit now."""
    n = len(here.x)
    rows, bounds = np.flatnonzero(plan.row_multipliers), np.flatnonzero(plan.bound_multipliers)
    is_low, at_low = plan.row_multipliers[rows] > 0.0, plan.bound_multipliers[bounds] > 0.0
    gaps = np.where(is_low, task.row_lower[rows], task.row_upper[rows]) - here.c[rows]
    bound_gaps = np.where(at_low, task.lower[bounds], task.upper[bounds]) - here.x[bounds]
    units = np.zeros((len(bounds), n))
    units[np.arange(len(bounds)), bounds] = 1.0
    normals = np.vstack([here.j[rows], units])
    gaps = np.concatenate([gaps, bound_gaps])
    lengths = np.sqrt((normals * normals).sum(axis=1))
    usable = (lengths > 0.0) & np.isfinite(gaps)
    return normals[usable] / lengths[usable, np.newaxis], gaps[usable] / lengths[usable]


def _is_definite(matrix: FloatArray) -> bool:
    diagonal = np.diag(matrix)
    if not diagonal.min(initial=np.inf) > 0.0:
        return False
    scale = np.sqrt(diagonal)
    try:
        factor = np.linalg.cholesky(matrix / np.outer(scale, scale))
    except np.linalg.LinAlgError:
        return False
    return bool(np.diag(factor).min(initial=np.inf) ** 2 > LEAST_CURVATURE)


def _direction(
    task: Task, here: Point, model: _Model, guess: QuadraticSolution | None = None
) -> QuadraticSolution | None:
    """Return the solution of (1), or None where the linearised limits conflict."""
    plan = solve_quadratic(
        model.matrix,
        model.gradient,
        rows=here.j,
        row_limits=(task.row_lower - here.c, task.row_upper - here.c),
        bounds=(task.lower - here.x, task.upper - here.x),
        guess=guess,
    )
    return plan if plan.outcome == "solved" and np.isfinite(plan.step).all() else None


def _has_direction(task: Task, matrix: FloatArray, point: Point) -> bool:
    """Return whether (1) can be solved at a point."""
    return _direction(task, point, _Model(matrix, point.g)) is not None


def _gains_little(task: Task, here: Point, plan: QuadraticSolution, model: _Model) -> bool:
    """Return whether the model's best step changes the objective by no more than the tolerance."""
    change = abs(float(here.g @ plan.step)) + float(plan.step @ model.matrix @ plan.step)
    return change <= PROMISE_SHARE * task.tolerance * max(abs(here.f), 1.0)


def _moves_little(task: Task, here: Point, plan: QuadraticSolution) -> bool:
    """Return whether the model's best step changes the design by no more than the tolerance."""
    size = np.maximum(np.abs(here.x), 1.0)
    return bool((np.abs(plan.step) <= math.sqrt(task.tolerance) * size).all())


def _least_penalty(task: Task, here: Point, plan: QuadraticSolution, model: _Model) -> float:
    """Return the ρ that is above the multipliers, and lets D of (4) promise half of what the model does."""
    least = PENALTY_FACTOR * float(np.linalg.norm(plan.row_multipliers))
    violation = float(np.linalg.norm(task.misses(here.c)))
    if violation > 0.0:
        curvature = float(plan.step @ model.matrix @ plan.step)
        least = max(least, PENALTY_FACTOR * (float(here.g @ plan.step) + 0.5 * curvature) / violation)
    return least if math.isfinite(least) else 0.0


def _merit(task: Task, point: Point, penalty: float) -> float:
    """Return φ, infinite where a value is invalid: such a point is never accepted."""
    if not point.is_finite:
        return math.inf
    return point.f + penalty * float(np.linalg.norm(task.misses(point.c)))  # (3)


def _is_level(task: Task, here: Point, there: Point, penalty: float) -> bool:
    """Return whether φ fell by no more than rounding."""
    before, after = _merit(task, here, penalty), _merit(task, there, penalty)
    return not before - after > ROUNDING * (abs(here.f) + abs(before))


def _line_search(
    task: Task,
    here: Point,
    plan: QuadraticSolution,
    model: _Model,
    penalty: float,
    options: SqpOptions,
) -> Generator[Request | Tight, Any, tuple[tuple[Point, float, float] | None, str]]:
    """Return (the accepted point with its derivatives, how well the prediction held, α) and a note, or None.

    A point whose derivatives are not finite is no place to go on from: the step is shortened.
    """
    d = plan.step
    violation = float(np.linalg.norm(task.misses(here.c)))
    promised = float(here.g @ d) - penalty * (violation - linear_violation(task, here, d))  # D of (4)
    base = _merit(task, here, penalty)
    slack = ROUNDING * (abs(here.f) + penalty * violation)
    if not promised < 0.0 or not np.isfinite(d).all() or not d.any():
        return None, "no descent"
    alpha = 1.0
    for count in range(options.halvings):
        x = yield from tightened(task, _reached(task, here, plan, alpha))
        if np.array_equal(x, here.x):
            return None, "the step vanished"
        trial = yield from evaluated(x, derivatives=False)
        gained = _merit(task, trial, penalty)
        if gained <= base + SUFFICIENT * alpha * promised + slack:  # (4)
            there = yield from evaluated(x, derivatives=True)
            if there.has_derivatives:
                gain_ratio = ratio(base - gained, -alpha * promised)
                return (there, gain_ratio, alpha), "full step" if count == 0 else f"step shortened to {alpha:.2g}"
            alpha *= 0.5
            continue
        if count == 0 and options.corrections and trial.is_finite and len(trial.c):
            corrected = yield from _corrected(task, here, trial, plan, model)  # (5)
            if corrected is not None and _merit(task, corrected, penalty) <= base + SUFFICIENT * promised + slack:
                there = yield from evaluated(corrected.x, derivatives=True)
                if there.has_derivatives:
                    gain_ratio = ratio(base - _merit(task, corrected, penalty), -promised)
                    return (there, gain_ratio, 1.0), "full step with second-order correction"
        if count == 0 and is_lost(here, trial, -promised):
            nearer = yield from _nearer(task, here, trial, plan)
            if nearer is not None:
                return (nearer, 1.0, 1.0), "full step, which rounding hides from φ, nearer to the conditions"
        # Minimum of the parabola through φ(0), φ'(0) and φ(α), kept away from both ends.
        curve = gained - base - alpha * promised
        shrink = -0.5 * alpha * promised / curve if math.isfinite(curve) and curve > 0.0 else 0.1
        alpha *= min(max(shrink, 0.1), 0.5)
    return None, "no decrease"


def _nearer(task: Task, here: Point, trial: Point, plan: QuadraticSolution) -> Generator[Request, Any, Point | None]:
    """Return a trial with its derivatives if no limit is missed by more there and ∇L has fallen to half, else None."""
    missed, before = (float(np.linalg.norm(task.misses(own.c))) for own in (trial, here))
    if missed > max(before, task.feasibility):
        return None
    there = yield from evaluated(trial.x, derivatives=True)
    if not there.has_derivatives:
        return None
    one, other = (replace(own, g=own.g - own.j.T @ plan.row_multipliers) for own in (here, there))
    return there if leads_nearer(task, one, other) else None


def _reached(task: Task, here: Point, plan: QuadraticSolution, alpha: float) -> FloatArray:
    """Return x + αd within the bounds; after a full step exactly at those that hold it."""
    x = np.clip(here.x + alpha * plan.step, task.lower, task.upper)
    if alpha == 1.0:
        x = np.where(plan.bound_multipliers > 0.0, task.lower, np.where(plan.bound_multipliers < 0.0, task.upper, x))
    return x


def _corrected(
    task: Task, here: Point, trial: Point, plan: QuadraticSolution, model: _Model
) -> Generator[Request | Tight, Any, Point | None]:
    shifted = trial.c - here.j @ plan.step
    again = solve_quadratic(
        model.matrix,
        model.gradient,
        rows=here.j,
        row_limits=(task.row_lower - shifted, task.row_upper - shifted),
        bounds=(task.lower - here.x, task.upper - here.x),
        guess=plan,
    )
    if again.outcome != "solved" or not np.isfinite(again.step).all():
        return None
    if float(np.linalg.norm(again.step - plan.step)) > float(np.linalg.norm(plan.step)):
        return None  # no longer a correction
    x = yield from tightened(task, np.clip(here.x + again.step, task.lower, task.upper))
    return (yield from evaluated(x, derivatives=False))


def _first_curvature(s: FloatArray, y: FloatArray, n: int) -> FloatArray:
    """Return I scaled to the curvature seen along the first step, within reason."""
    along, curvature = float(s @ y), float(y @ y)
    if not (math.isfinite(curvature) and along > 0.0):
        return np.eye(n)
    return np.eye(n) * min(max(curvature / along, 1e-4), 1e6)
