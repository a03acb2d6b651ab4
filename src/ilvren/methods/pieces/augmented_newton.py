"""Newton's method on an augmented Lagrangian within bounds, its steps from one factorization each.

    A(x) = f(x) + ½ ρ |v(x)|²,    y = −ρ v,    ∇A = ∇f − J'y                                       (1)

On the rows V that (1) feels (v ≠ 0) and the variables F that no bound holds, the Newton step of A solves

    [ H + δ    J_V'  ] [d]     [ −∇A ]
    [ J_V     −1/ρ   ] [w]  =  [  0  ] ,     H the Hessian of f − y'c,                             (2)

which is not worse conditioned for a large ρ; δ is raised until H + ρ J_V'J_V + δ is positive definite, which the
inertia of (2) tells. Variables that bounds hold, and those that d would lead beyond one, are put on their bounds and
(2) is solved for the others again; the step is shortened until A falls enough.

Sources: (2): J. Nocedal, S. J. Wright, "Numerical Optimization", 2006, section 17.4; bounds: D. P. Bertsekas,
"Projected Newton methods for optimization problems with simple constraints", 1982.
"""

from __future__ import annotations

import math
from collections.abc import Generator
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import KktSystem
from ilvren.methods.base import Assessment, HessianRequest, Iterate, Matrix, Request, Task
from ilvren.methods.pieces.descent import endless, near_bounds
from ilvren.methods.pieces.points import Point, evaluated, hessian_at, projected_gradient
from ilvren.records import dataclass

__all__ = ["Augmented", "newton_within_bounds"]

FloatArray = NDArray[np.float64]

# δ: first, most, and how it grows and shrinks, against the largest entry of H.
FIRST_SHIFT, MOST_SHIFT, SHIFT_UP, SHIFT_DOWN = 1e-6, 1e12, 10.0, 0.2
# A step longer than this, against the design or one, is not trusted.
MOST_LENGTH = 1e3
# The share of the promised fall of A that a step must bring; how often it is halved.
ARMIJO, MOST_HALVINGS = 1e-4, 40
# Times that (2) is solved in one step, with more variables on their bounds each time.
MOST_ROUNDS = 12
# Steps that are not at rest after so many will not come to rest.
MOST_STEPS = 300
# Steps that rounding allows no fall of A.
MOST_IDLE = 2
# A search that leads so many times further out than it began has no minimum.
RUNAWAY = 1e4
ROUNDING = 10.0 * float(np.finfo(float).eps)


@dataclass(frozen=True)
class Augmented:
    """The function (1) of a task, for multipliers (m,) and ρ."""

    task: Task
    multipliers: FloatArray
    penalty: float

    def misses(self, rows: FloatArray) -> FloatArray:
        """Return v (…, m): by how much rows, shifted by their multipliers, lie beyond their limits."""
        shifted = rows - self.multipliers / self.penalty
        return np.asarray(shifted - np.clip(shifted, self.task.row_lower, self.task.row_upper), dtype=np.float64)

    def renewed(self, rows: FloatArray) -> FloatArray:
        """Return y (…, m) of (1)."""
        return -self.penalty * self.misses(rows)

    def value(self, here: Point) -> float:
        """Return A at a point, infinite where something is invalid."""
        with np.errstate(all="ignore"):
            v = self.misses(here.c)
            total = here.f + 0.5 * self.penalty * float(v @ v)
        return total if math.isfinite(total) else math.inf

    def gradient(self, here: Point) -> FloatArray:
        """Return ∇A (n,)."""
        return np.asarray(here.g - here.j.T @ self.renewed(here.c), dtype=np.float64)


def newton_within_bounds(
    problem: Augmented, here: Point, accuracy: float, path: str
) -> Generator[Request | HessianRequest | Iterate, Any, tuple[Point, str, bool]]:
    """Minimize A from `here` until its projected gradient is at most `accuracy`. Return the point reached, what ended
    it ("settled", "stalled", "unbounded", "exhausted", "converged"), and whether all conditions were met there."""
    task, shift, idle = problem.task, 0.0, 0
    far = RUNAWAY * max(1.0, float(np.abs(here.x).max(initial=0.0))) if len(here.c) else math.inf
    for _ in range(MOST_STEPS):
        gradient = problem.gradient(here)
        if _steepness(problem, here) <= accuracy:
            return here, "settled", False
        hessian = yield from hessian_at(here.x, problem.renewed(here.c))
        if hessian is None:
            return here, "stalled", False
        direction, shift = _step(problem, here, gradient, hessian, shift)
        if direction is not None and -float(gradient @ direction) <= _slack(problem, here):
            taken = yield from _nearer(problem, here, direction)
            if taken is None:
                return here, "settled", False
        else:
            taken = None
            if direction is not None:
                taken = yield from _line_search(problem, here, gradient, direction)
            if taken is None:  # what curvature promises does not come true: the way down itself
                down = np.clip(here.x - gradient, task.lower, task.upper) - here.x
                taken = yield from _line_search(problem, here, gradient, down)
        if taken is None:
            return here, "stalled", False
        step, before = float(np.abs(taken.x - here.x).max(initial=0.0)), problem.value(here)
        here = taken
        assessment: Assessment = yield Iterate(
            here.x, step, "Newton step", multipliers=problem.renewed(here.c), path=path
        )
        if assessment.meets_conditions:
            return here, "converged", True
        if float(np.abs(here.x).max(initial=0.0)) > far or endless(task, here, assessment) is not None:
            return here, "unbounded", False
        if problem.value(here) >= before:
            idle += 1
            if idle > MOST_IDLE:
                return here, "settled", False
    return here, "exhausted", False


def _step(
    problem: Augmented, here: Point, gradient: FloatArray, hessian: Matrix, before: float
) -> tuple[FloatArray | None, float]:
    """Return a direction (n,) of (2) that leads to no design beyond the bounds, and δ, which begins near what it was
    `before`; None where no δ helps, or the direction does not lead down."""
    task, x = problem.task, here.x
    felt = np.flatnonzero(problem.misses(here.c))
    rows = here.j[felt]
    free = ~near_bounds(task, replace(here, g=gradient))
    direction = np.where(free, 0.0, np.where(gradient > 0.0, task.lower, task.upper) - x)
    shift, is_known = 0.0, False
    longest = MOST_LENGTH * max(1.0, float(np.abs(x).max(initial=0.0)))
    for _ in range(MOST_ROUNDS):
        places = np.flatnonzero(free)
        if not len(places):
            break
        fixed = np.where(free, 0.0, direction)
        own = _Newton(hessian[places][:, places], rows[:, places], problem.penalty, longest, task.is_sparse)
        target = -(gradient + hessian @ fixed)[places], -(rows @ fixed)
        found, shift = own.solved(target, shift, before, is_known=is_known)
        if found is None:
            return None, 0.0
        is_known = True
        direction[places] = found
        beyond = free & ((x + direction < task.lower) | (x + direction > task.upper))
        if not beyond.any():
            break
        direction = np.where(beyond, np.where(direction < 0.0, task.lower, task.upper) - x, direction)
        free &= ~beyond
    direction = np.clip(x + direction, task.lower, task.upper) - x
    return (direction if float(gradient @ direction) < 0.0 else None), shift


@dataclass(frozen=True)
class _Newton:
    """The matrix of (2); a first step may be so `longest`."""

    hessian: Matrix
    rows: Matrix
    penalty: float
    longest: float
    is_sparse: bool

    def solved(
        self, target: tuple[FloatArray, FloatArray], shift: float, before: float, *, is_known: bool
    ) -> tuple[FloatArray | None, float]:
        """Return the solution d of (2) for right-hand sides, and δ: `shift` where it `is_known` to do."""
        m, n = self.rows.shape
        entries = self.hessian if isinstance(self.hessian, np.ndarray) else self.hessian.data
        steep = float(np.abs(target[0]).max(initial=0.0))
        size = max(float(np.abs(entries).max(initial=0.0)), steep / self.longest, 1e-8)
        system = KktSystem(n, m, is_sparse=self.is_sparse)
        while shift <= MOST_SHIFT * size:
            factor = system.factored(self.hessian, np.full(n, shift), self.rows, np.full(m, 1.0 / self.penalty))
            if factor.has_inertia:
                found = factor.solve(*target)
                if found is not None and (is_known or float(np.abs(found[0]).max()) <= self.longest):
                    return found[0], shift
            shift = SHIFT_UP * shift if shift > 0.0 else max(FIRST_SHIFT * size, SHIFT_DOWN * before)
        return None, 0.0


def _steepness(problem: Augmented, here: Point) -> float:
    """Return the largest entry of the projected gradient of A."""
    return float(np.abs(projected_gradient(problem.task, here.x, problem.gradient(here))).max(initial=0.0))


def _slack(problem: Augmented, here: Point) -> float:
    """Return what rounding may change of A."""
    return ROUNDING * max(abs(problem.value(here)), abs(here.f))


def _nearer(problem: Augmented, here: Point, direction: FloatArray) -> Generator[Request, Any, Point | None]:
    """Return the point a full step away, whose promise is lost in rounding, if ∇A has fallen to half there."""
    there = yield from evaluated(here.x + direction, derivatives=True)
    if not (there.has_derivatives and problem.value(there) <= problem.value(here) + _slack(problem, here)):
        return None
    return there if _steepness(problem, there) <= 0.5 * _steepness(problem, here) else None


def _line_search(
    problem: Augmented, here: Point, gradient: FloatArray, direction: FloatArray
) -> Generator[Request, Any, Point | None]:
    """Return a point on x + α d, α ≤ 1, at which A has fallen enough, with its derivatives, or None."""
    task, before, slope = problem.task, problem.value(here), float(gradient @ direction)
    slack = _slack(problem, here)
    alpha = 1.0
    for _ in range(MOST_HALVINGS):
        x = np.clip(here.x + alpha * direction, task.lower, task.upper)
        if not slope < 0.0 or np.array_equal(x, here.x):
            return None
        trial = yield from evaluated(x, derivatives=False)
        if problem.value(trial) <= before + ARMIJO * alpha * slope + slack:
            there = yield from evaluated(x, derivatives=True)
            if there.has_derivatives:
                return there
        alpha *= 0.5
    return None
