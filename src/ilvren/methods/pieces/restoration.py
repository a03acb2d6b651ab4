"""Restoring feasibility: the violation of the rows lowered by damped least-squares steps, the objective left out.

    minimize  ½ |v(c + J d)|² + ½ μ |d|²   within the bounds                                             (1)

v are the misses of the rows; μ falls after a good step and rises after a bad one. A stationary |v| above nothing
proves that the limits conflict nearby.

Source: D. W. Marquardt, "An algorithm for least-squares estimation of nonlinear parameters", Journal of the Society for
Industrial and Applied Mathematics 11, 1963, pages 431–441.
"""

from __future__ import annotations

from collections.abc import Callable, Generator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import solve_relaxed
from ilvren.methods.base import Iterate, Request, Task, Tight
from ilvren.methods.pieces.escape import spread_by_violation
from ilvren.methods.pieces.points import Point, evaluated

__all__ = ["less_violated_far", "linear_violation", "restored"]

FloatArray = NDArray[np.float64]

# A step is taken that lowers |v| by this share of what was promised.
SUFFICIENT = 1e-4
# |v| is stationary when its slope is this share of what J and v could make it; nearly, when no step helps.
STATIONARY_SLOPE, NEARLY_STATIONARY_SLOPE = 1e-6, 1e-4
# The share of |v| to reach before the method goes on; steps in all; the first and least μ, relative to |J|²,
# and its factors after a good and a bad step.
RESTORED_SHARE, RESTORATION_STEPS = 0.5, 300
FIRST_DAMPING, LEAST_DAMPING, MOST_DAMPING = 1e-3, 1e-10, 1e12
DAMPING_DOWN, DAMPING_UP = 0.2, 4.0
# A restoration creeps that lowers |v|, still so large in the rows' sizes, by less than this share in so many steps.
CREEPING_SHARE, CREEPING_STEPS, CREEPING_VIOLATION = 0.5, 12, 10.0


def less_violated_far(task: Task, here: Point, number: int) -> Generator[Request | Tight | Iterate, Any, Point | None]:
    """Return the one of some designs over the box that misses least, where that is clearly less than here, or None."""
    points, violations = yield from spread_by_violation(task, number)
    if not len(points) or violations[0] > CREEPING_SHARE * float(np.linalg.norm(task.misses(here.c))):
        return None
    point = yield from evaluated(points[0], derivatives=True)
    return point if point.has_derivatives else None


def restored(
    task: Task, here: Point, may_go_on: Callable[[Point], bool], *, may_leave: bool = False
) -> Generator[Request | Iterate, Any, tuple[Point, str]]:
    """Lower |v| by (1). Return the point reached and "back" (where it has halved, and the method `may_go_on`),
    "stationary", "creeping" (if it `may_leave`) or "stuck"."""
    entry = float(np.linalg.norm(task.misses(here.c)))
    course = [entry]
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
        promised = now - linear_violation(task, here, plan.step)
        if not _violation_slope(task, here) > STATIONARY_SLOPE:
            return here, "stationary"
        trial = yield from evaluated(np.clip(here.x + plan.step, task.lower, task.upper), derivatives=False)
        gained = now - float(np.linalg.norm(task.misses(trial.c)))
        if trial.is_finite and gained >= SUFFICIENT * promised:
            there = yield from evaluated(trial.x, derivatives=True)
            if there.has_derivatives:
                step = float(np.abs(there.x - here.x).max())
                here, damping = there, damping * DAMPING_DOWN
                left = now - gained
                if left <= RESTORED_SHARE * entry and may_go_on(here):
                    return here, "back"
                yield Iterate(here.x, step, "restoring feasibility: the linearised limits conflict")
                course.append(left)
                if may_leave and _creeps(task, here, course):
                    return here, "creeping"
                continue
        damping *= DAMPING_UP
        if damping > MOST_DAMPING:
            break
    return here, "stationary" if _violation_slope(task, here) <= NEARLY_STATIONARY_SLOPE else "stuck"


def _creeps(task: Task, here: Point, course: list[float]) -> bool:
    """Return whether |v| (its `course`, step by step) is large and has hardly fallen for a while."""
    if len(course) <= CREEPING_STEPS or course[-1] < CREEPING_SHARE * course[-1 - CREEPING_STEPS]:
        return False
    return task.violation(here.c) > CREEPING_VIOLATION


def _violation_slope(task: Task, here: Point) -> float:
    """Return |J'v| over |J||v|, what points out of the bounds left out: 0 where |v| is stationary."""
    v = here.c - np.clip(here.c, task.row_lower, task.row_upper)
    slope = here.j.T @ v
    slope[(here.x <= task.lower) & (slope > 0.0) | (here.x >= task.upper) & (slope < 0.0)] = 0.0
    most = float(np.linalg.norm(here.j) * np.linalg.norm(v))
    return float(np.linalg.norm(slope)) / most if most > 0.0 else 0.0


def linear_violation(task: Task, here: Point, d: FloatArray) -> float:
    """Return |v| as J foretells it after a step d (n,)."""
    return float(np.linalg.norm(task.misses(here.c + here.j @ d)))
