"""The frame of a descent method on bounds: where it may move, when it has converged, what an end is called."""

from __future__ import annotations

import math
from collections.abc import Generator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Assessment, Ending, Request, Task
from ilvren.methods.pieces.points import Point, evaluated

__all__ = ["LOW", "RUNS_AWAY", "begun", "end_of", "endless", "far_out", "near_bounds", "stuck"]

FloatArray = NDArray[np.float64]

# The scaled objective below which, or the designs, against the start, beyond which a run is called unbounded.
UNBOUNDED, FAR = -1e15, 1e15
# So low the objective must be for a design far away to prove anything: it may level off, as atan does.
LOW = -1e6
RUNS_AWAY = "the design runs away while the objective hardly changes: a bound may be missing"
# How near a bound a variable that is pushed towards it counts as held, at most.
NEAR_BOUND = 1e-3


def begun(task: Task) -> Generator[Request, Any, Point | Ending]:
    """Return the start with its derivatives, or an ending where it is invalid."""
    here = yield from evaluated(np.clip(task.start, task.lower, task.upper), derivatives=True)
    if not here.is_finite:
        return Ending("invalid", "the objective has no finite value at the start")
    if not here.has_derivatives:
        return Ending("invalid", "a derivative is not finite at the start")
    return here


def near_bounds(task: Task, here: Point) -> NDArray[np.bool_]:
    """Return which variables are held: at a bound, or very near one, and pushed towards it.

    Source: D. P. Bertsekas, "Projected Newton methods for optimization problems with simple constraints", 1982. They
    are told as (n,).
    """
    moved = np.clip(here.x - here.g, task.lower, task.upper) - here.x
    near = min(NEAR_BOUND, float(np.linalg.norm(moved)))
    low = (here.x <= task.lower + near) & (here.g > 0.0)
    high = (here.x >= task.upper - near) & (here.g < 0.0)
    return low | high


def end_of(task: Task, here: Point, assessment: Assessment) -> Ending | None:
    """Return the ending at an iterate that needs no further step, or None."""
    if assessment.meets_conditions:
        return Ending("converged", "the gradient is zero, to within the tolerance, but for active bounds")
    return endless(task, here, assessment)


def endless(task: Task, here: Point, assessment: Assessment) -> Ending | None:
    """Return the ending at a feasible iterate that lies so low or so far out that nothing holds the run, or None."""
    return far_out(here.f, here.x, task.start, task.low) if assessment.violation <= task.feasibility else None


def far_out(f: float, x: FloatArray, start: FloatArray, low: float) -> Ending | None:
    """Return the ending at a feasible design x (n,), scaled like its objective and the start (n,), or None where it is
    not far out; `low` as in the task."""
    is_far = float(np.abs(x).max(initial=0.0)) > FAR * max(1.0, float(np.abs(start).max(initial=0.0)))
    if f < min(UNBOUNDED, low) or (is_far and f < LOW):
        return Ending("unbounded", "the objective falls without end at feasible designs")
    return Ending("stalled", RUNS_AWAY) if is_far else None


def stuck(here: Point, gradient: FloatArray) -> Ending:
    """Return the ending where no step lowers the objective. `gradient` is (n,)."""
    if not math.isfinite(float(np.abs(gradient).max(initial=0.0))):
        return Ending("invalid", "a derivative is not finite")
    return Ending("stalled", "no step along the search direction improves the design")
