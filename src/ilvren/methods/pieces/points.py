"""Points and what is known there."""

from __future__ import annotations

import math
from collections.abc import Generator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import SLOPES, VALUES, HessianRequest, Matrix, Reply, Request, Task, Tight
from ilvren.records import dataclass

__all__ = [
    "Point",
    "evaluated",
    "hessian_at",
    "hessian_product",
    "is_lost",
    "leads_nearer",
    "projected_gradient",
    "ratio",
    "tightened",
]

FloatArray = NDArray[np.float64]

# Changes below this share of the objective may be rounding: long sums and many steps over time round far more than a
# single operation does.
LOST = 1e-11


@dataclass(frozen=True)
class Point:
    """A design x (n,) with f, c (m,), g (n,) and J (m, n) there; g and J are None until asked for."""

    x: FloatArray
    f: float
    c: FloatArray
    g: FloatArray
    j: Matrix
    is_differentiated: bool = False

    @property
    def is_finite(self) -> bool:
        """Return whether objective and rows are finite."""
        return math.isfinite(self.f) and bool(np.isfinite(self.c).all())

    @property
    def has_derivatives(self) -> bool:
        """Return whether all derivatives are there and finite."""
        if not self.is_differentiated:
            return False
        entries = self.j if isinstance(self.j, np.ndarray) else self.j.data
        return bool(np.isfinite(self.g).all() and np.isfinite(entries).all())


def evaluated(x: FloatArray, *, derivatives: bool, beyond: bool = False) -> Generator[Request, Any, Point]:
    """Ask for one point. x is (n,)."""
    reply: Reply = yield Request(x[np.newaxis, :], SLOPES if derivatives else VALUES, beyond=beyond)
    if reply.gradient is None or reply.jacobian is None:
        return Point(x, float(reply.objective[0]), reply.rows[0], x, None)
    return Point(x, float(reply.objective[0]), reply.rows[0], reply.gradient[0], reply.jacobian[0], True)


def tightened(task: Task, x: FloatArray) -> Generator[Tight, Any, FloatArray]:
    """Return a point with the unknowns of lifted kinks at the kinks' values, where the task has such: no other value is
    better. Both are (n,)."""
    if not task.is_lifted:
        return x
    found: FloatArray = yield Tight(x)
    return np.clip(found, task.lower, task.upper)


def hessian_at(
    x: FloatArray, multipliers: FloatArray, weight: float = 1.0
) -> Generator[HessianRequest, Any, Matrix | None]:
    """Ask for the Hessian of weight · f − multipliers'c; None where it is not finite. Shapes: x (n,), multipliers (m,),
    Hessian (n, n)."""
    found = yield HessianRequest(x, multipliers, weight)
    entries = found if isinstance(found, np.ndarray) else found.data
    return found if np.isfinite(entries).all() else None


def hessian_product(
    task: Task, here: Point, direction: FloatArray, multipliers: FloatArray
) -> Generator[Request | HessianRequest, Any, FloatArray]:
    """Return the product of the Hessian of f − multipliers'c with a direction: exact where the task has curvature, else
    a difference of gradients along it. Shapes: direction and result (n,), multipliers (m,)."""
    if task.has_curvature:
        found: FloatArray = yield HessianRequest(here.x, multipliers, 1.0, direction)
        return found
    length = float(np.linalg.norm(direction))
    if not length > 0.0:
        return np.zeros(len(direction))
    step = math.sqrt(float(np.finfo(float).eps)) * max(1.0, float(np.linalg.norm(here.x))) / length
    there = yield from evaluated(np.clip(here.x + step * direction, task.lower, task.upper), derivatives=True)
    moved = there.x - here.x
    along = float(moved @ direction) / length**2  # less than the step where a bound is in the way
    if not along > 0.0:
        return np.full(len(direction), np.nan)
    change = there.g - here.g
    if len(multipliers):
        change = change - (there.j.T @ multipliers - here.j.T @ multipliers)
    return np.asarray(change / along, dtype=np.float64)


def ratio(part: float, whole: float) -> float:
    """Return part / whole, NaN where the whole has vanished: products of tiny numbers underflow."""
    return part / whole if whole != 0.0 else math.nan


def is_lost(here: Point, trial: Point, predicted: float) -> bool:
    """Return whether so small a fall is predicted that values cannot tell whether it came true, nor do they deny it."""
    most = LOST * max(abs(here.f), abs(trial.f))
    return 0.0 < predicted <= most and abs(trial.f - here.f) <= most


def leads_nearer(task: Task, here: Point, there: Point) -> bool:
    """Return whether the projected gradient has fallen to half on the way: what slopes say where values cannot.

    Source: W. W. Hager and H. Zhang, "A new conjugate gradient method with guaranteed descent and an efficient line
    search", 2005, whose approximate conditions ask slopes instead of values near the end, too.
    """
    if not there.has_derivatives:
        return False
    before, after = (float(np.linalg.norm(projected_gradient(task, own.x, own.g))) for own in (here, there))
    return after <= 0.5 * before


def projected_gradient(task: Task, x: FloatArray, gradient: FloatArray) -> FloatArray:
    """Return the gradient without what points out of the bounds. All are (n,)."""
    outwards = ((x <= task.lower) & (gradient > 0.0)) | ((x >= task.upper) & (gradient < 0.0))
    return np.where(outwards, 0.0, gradient)
