"""Strong Wolfe line search along a ray that is bent at the bounds.

    φ(α) = f(P(x + αd)),   P the projection onto the bounds,   φ'(α) = g'd over the components that still move

    φ(α) ≤ φ(0) + c₁ g'(x(α) − x),     |φ'(α)| ≤ c₂ |φ'(0)|                                         (1)

the second over the components that still move at α.

A step is lengthened until an interval holds such an α, which is then narrowed by cubic interpolation. Where bounds
bend the ray, φ has kinks, and no α may meet the second condition: the best one that meets the first is taken.

Source: J. Nocedal, S. J. Wright, "Numerical Optimization", 2nd ed., 2006, algorithms 3.5 and 3.6; D. P. Bertsekas,
"Projected Newton methods for optimization problems with simple constraints", 1982, for the projection.
"""

from __future__ import annotations

import math
from collections.abc import Generator
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.pieces.points import Point, evaluated, is_lost, leads_nearer, ratio
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.methods.base import Request, Task

__all__ = ["Found", "moving_gradient", "searched"]

FloatArray = NDArray[np.float64]

# c₁; c₂ comes with the method: loose for quasi-Newton, tight for conjugate directions.
SUFFICIENT = 1e-4
# Trial steps; how a step grows while it leads downhill; how far from the ends of an interval a trial must stay.
MOST_TRIALS, GROWTH, MARGIN = 40, 4.0, 0.1
# A scaled objective below this is low enough to stop anywhere.
UNBOUNDED = -1e15
# A step back from an invalid point.
BACK = 0.1
# Values are trusted to this many units of rounding.
ROUNDING = 10.0 * float(np.finfo(float).eps)


@dataclass(frozen=True)
class Found:
    """The point taken, with derivatives, its α, and how well the linear prediction held."""

    point: Point
    alpha: float
    gain_ratio: float


@dataclass(frozen=True)
class _Trial:
    alpha: float
    value: float
    slope: float
    point: Point


def moving_gradient(task: Task, x: FloatArray, gradient: FloatArray) -> FloatArray:
    """Return the gradient over the variables that its negative can move: 0 at a bound it points out of. All are
    (n,)."""
    held = ((x <= task.lower) & (gradient > 0.0)) | ((x >= task.upper) & (gradient < 0.0))
    return np.where(held, 0.0, gradient)


def searched(
    task: Task, here: Point, direction: FloatArray, first: float, *, curvature: float = 0.9
) -> Generator[Request, Any, Found | None]:
    """Return a step from `here` along `direction` (n,), a descent direction, beginning with α = `first`; None where no
    trial lowers f, or the gradient where values cannot tell. `curvature` is c₂."""
    slope = float(here.g @ direction)
    if not slope < 0.0 or not np.isfinite(direction).all():
        return None
    start = _Trial(0.0, here.f, slope, here)
    low, high, best, nearer = start, None, None, None
    alpha = first
    for _ in range(MOST_TRIALS):
        x = here.x + alpha * direction
        if task.has_bounds:
            x = np.clip(x, task.lower, task.upper)
        if np.array_equal(x, low.point.x):
            break
        point = yield from evaluated(x, derivatives=True)
        if point.f < UNBOUNDED:
            return Found(point, alpha, ratio(here.f - point.f, -alpha * slope))
        if not (math.isfinite(point.f) and point.has_derivatives):
            high = _Trial(alpha, math.inf, math.nan, point)
            alpha = low.alpha + BACK * (alpha - low.alpha)
            continue
        trial = _Trial(alpha, point.f, _slope(task, point, direction, point.g), point)
        promised = min(float(here.g @ (x - here.x)), 0.0) if task.has_bounds else alpha * slope
        slack = ROUNDING * max(abs(here.f), abs(trial.value))
        is_low = trial.value <= here.f + SUFFICIENT * promised + slack
        if is_low and (best is None or trial.value < best.value):
            best = trial
        if nearer is None and is_lost(here, point, -promised) and leads_nearer(task, here, point):
            nearer = trial
        if not is_low or (low.alpha > 0.0 and trial.value >= low.value + slack):
            high = trial
        elif abs(trial.slope) <= curvature * abs(_slope(task, point, direction, here.g)):
            best = trial  # (1)
            break
        elif high is None:
            low, high = (trial, low) if trial.slope >= 0.0 else (trial, None)
        else:
            low, high = (trial, low) if trial.slope * (high.alpha - low.alpha) >= 0.0 else (trial, high)
        if high is None:
            alpha *= GROWTH
            continue
        alpha = _between(low, high)
        if abs(high.alpha - low.alpha) <= ROUNDING * max(low.alpha, high.alpha):
            break
    if best is None:
        return None if nearer is None else Found(nearer.point, nearer.alpha, 1.0)
    gain_ratio = ratio(here.f - best.value, -best.alpha * slope)
    return Found(best.point, best.alpha, gain_ratio)


def _slope(task: Task, point: Point, direction: FloatArray, gradient: FloatArray) -> float:
    """Return a gradient's product with the direction just beyond a point: clipped components no longer move."""
    if not task.has_bounds:
        return float(gradient @ direction)
    stopped = ((point.x <= task.lower) & (direction < 0.0)) | ((point.x >= task.upper) & (direction > 0.0))
    return float(gradient @ np.where(stopped, 0.0, direction)) if stopped.any() else float(gradient @ direction)


def _between(low: _Trial, high: _Trial) -> float:
    """Return the minimum of the cubic through both ends, or the middle, well inside the interval."""
    width = high.alpha - low.alpha
    at = 0.5
    if math.isfinite(high.value) and math.isfinite(high.slope):
        turn = low.slope * width + high.slope * width - 3.0 * (high.value - low.value)
        square = turn * turn - low.slope * width * high.slope * width
        if square >= 0.0:
            root = math.sqrt(square)
            below = high.slope * width - low.slope * width + 2.0 * root
            if below != 0.0:
                at = 1.0 - (high.slope * width + root - turn) / below
    if not math.isfinite(at):
        at = 0.5
    return low.alpha + min(max(at, MARGIN), 1.0 - MARGIN) * width
