"""Newton's method in a trust region: fast and sure on smooth problems with bounds at most.

    minimize  g'd + ½ d'Hd   subject to  |d| ≤ Δ                                                   (1)

over the variables that no bound holds. Small problems: H is formed and (1) solved exactly, negative curvature and all.
Large ones: conjugate gradients on H d = −g with products H v alone, until the rest is small, the radius is reached or
a direction of negative curvature is met, which is followed to the radius. The projected step is taken when f falls by
a share of what (1) predicts; Δ grows and shrinks with that share, and bounds the steps of those held, too. Where so
little is predicted that rounding hides it, a step is taken that halves the projected gradient.

Needs     gradients; second derivatives where formulas give them, else differences of gradients.
Handles   bounds, by projection.   Cost   small: one Hessian and (n³) per iteration; large: some products H v.
Stops     when the conditions measured by the driver hold and, on small problems, no direction of negative curvature
          leads further down.   Weak   kinks and noise.
Source    J. J. Moré, D. C. Sorensen, "Computing a trust region step", 1983; T. Steihaug, "The conjugate gradient method
          and trust regions in large scale optimization", 1983; D. P. Bertsekas, 1982, for the bounds.
"""

from __future__ import annotations

import math
from collections.abc import Generator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import trust_region_step
from ilvren.methods.base import Assessment, Ending, HessianRequest, Iterate, Method, Protocol, Request, Task
from ilvren.methods.pieces.descent import begun, end_of, near_bounds, stuck
from ilvren.methods.pieces.escape import downhill_from_saddle
from ilvren.methods.pieces.options import option
from ilvren.methods.pieces.points import Point, evaluated, hessian_at, hessian_product, is_lost, leads_nearer
from ilvren.records import dataclass

__all__ = ["METHOD", "NewtonOptions"]

FloatArray = NDArray[np.float64]

# Shares of the prediction below which a step is refused, Δ shrinks, and above which it grows; and by how much.
TAKEN, POOR, GOOD, SHRINK, GROW = 1e-4, 0.25, 0.75, 0.25, 2.5
# Δ at the start, and as a share of |x|.
FIRST_RADIUS, MOST_RADIUS = 1.0, 1e10
LEAST_RADIUS = 1e-14
# Conjugate gradients end at this share of |g| (its root near the end), or after so many products.
FORCING, MOST_PRODUCTS = 0.5, 200
ROUNDING = 10.0 * float(np.finfo(float).eps)
# Looks for negative curvature at the end.
LOOKS = 5


@dataclass(frozen=True)
class NewtonOptions:
    """Options of `newton`."""

    products: int = option(300, low=0, high=100_000, help="variables beyond which the Hessian is used in products only")


def newton(task: Task, options: NewtonOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    here = yield from begun(task)
    if isinstance(here, Ending):
        return here
    none = np.zeros(0)
    is_exact = task.has_curvature and not task.is_sparse and len(here.x) <= options.products
    step, note, gain_ratio = math.nan, "the start", math.nan
    radius = FIRST_RADIUS * max(1.0, float(np.linalg.norm(here.x)))
    hessian: FloatArray | None = None
    looks = 0
    while True:
        assessment: Assessment = yield Iterate(here.x, step, note, gain_ratio)
        ended = end_of(task, here, assessment)
        if ended is not None and ended.claim == "converged" and is_exact and looks < LOOKS:
            lower = yield from downhill_from_saddle(task, here, none)
            if lower is not None:
                step, note = float(np.abs(lower.x - here.x).max()), "left a saddle along negative curvature"
                here, hessian, looks = lower, None, looks + 1
                continue
        if ended is not None:
            return ended
        held = near_bounds(task, here)
        gradient = np.where(held, 0.0, here.g)
        if is_exact and hessian is None:
            hessian = yield from hessian_at(here.x, none)
        asked = False
        while True:
            if is_exact and hessian is not None:
                direction, kind = _exact(hessian, gradient, held, radius)
            else:
                direction, kind = yield from _by_products(task, here, gradient, held, radius)
            # Those held are no part of (1): the radius bounds them, too, or a shorter step would not be one.
            direction = np.where(held, np.clip(-here.g, -radius, radius), direction)
            x = np.clip(here.x + direction, task.lower, task.upper)
            s = x - here.x
            length = float(np.linalg.norm(s))
            if (
                not length > 0.0
                or not np.isfinite(s).all()
                or radius < LEAST_RADIUS * max(1.0, float(np.linalg.norm(here.x)))
            ):
                if assessment.meets_conditions:
                    return Ending("converged", "the gradient is zero, to within the tolerance")
                return stuck(here, gradient)
            curved = (
                (hessian @ s) if is_exact and hessian is not None else (yield from hessian_product(task, here, s, none))
            )
            predicted = -(float(here.g @ s) + 0.5 * float(s @ curved))
            trial = yield from evaluated(x, derivatives=False)
            share = _share(here, trial, predicted)
            lost = share < TAKEN and not asked and is_lost(here, trial, predicted)
            if share >= TAKEN or lost:
                asked = asked or lost  # once: the first step is the one that promises most
                there = yield from evaluated(x, derivatives=True)
                if lost and leads_nearer(task, here, there):
                    share = 1.0
                if share >= TAKEN and there.has_derivatives:
                    break
            radius = SHRINK * min(radius, length)
        if share < POOR:
            radius = max(SHRINK * radius, LEAST_RADIUS)
        elif share > GOOD and length >= 0.8 * radius:
            radius = min(GROW * radius, MOST_RADIUS * max(1.0, float(np.linalg.norm(here.x))))
        step, gain_ratio = float(np.abs(s).max()), share
        note, here, hessian = kind, there, None


def _share(here: Point, trial: Point, predicted: float) -> float:
    """Return the share of the prediction that came true; what lies within rounding counts as true."""
    if not math.isfinite(trial.f):
        return -math.inf
    gained, slack = here.f - trial.f, ROUNDING * max(abs(here.f), abs(trial.f))
    if abs(predicted) <= slack and abs(gained) <= slack:
        return 1.0
    return (gained + slack) / (predicted + slack) if predicted > 0.0 else -math.inf


def _exact(hessian: FloatArray, gradient: FloatArray, held: NDArray[np.bool_], radius: float) -> tuple[FloatArray, str]:
    """Return the solution of (1) over the free variables, and a note."""
    free = np.flatnonzero(~held)
    direction = np.zeros(len(gradient))
    if not len(free):
        return direction, "onto the bounds"
    found, is_at_radius, is_negative = trust_region_step(hessian[np.ix_(free, free)], gradient[free], radius)
    direction[free] = found
    if is_negative:
        return direction, "to the trust radius, along negative curvature"
    return direction, "to the trust radius" if is_at_radius else "full Newton step"


def _by_products(
    task: Task, here: Point, gradient: FloatArray, held: NDArray[np.bool_], radius: float
) -> Generator[Request | HessianRequest, Any, tuple[FloatArray, str]]:
    """Steihaug's conjugate gradients for (1)."""
    none = np.zeros(0)
    d = np.zeros(len(gradient))
    rest = gradient
    p = -rest
    size = float(np.linalg.norm(rest))
    goal = min(FORCING, math.sqrt(size)) * size
    square = float(rest @ rest)
    for _ in range(min(MOST_PRODUCTS, 2 * len(gradient) + 5)):
        curved = np.where(held, 0.0, (yield from hessian_product(task, here, p, none)))
        curvature = float(p @ curved)
        if not math.isfinite(curvature):
            return (
                d if d.any() else -gradient * min(1.0, radius / max(size, 1e-300))
            ), "a short step: curvature is not finite"
        if curvature <= 0.0:
            return d + _to_radius(d, p, radius) * p, "to the trust radius, along negative curvature"
        alpha = square / curvature
        ahead = d + alpha * p
        if float(np.linalg.norm(ahead)) >= radius:
            return d + _to_radius(d, p, radius) * p, "to the trust radius"
        d = ahead
        rest = rest + alpha * curved
        after = float(rest @ rest)
        if math.sqrt(after) <= goal:
            break
        p = -rest + (after / square) * p
        square = after
    return d, "full Newton step, by products"


def _to_radius(d: FloatArray, p: FloatArray, radius: float) -> float:
    """Return τ ≥ 0 with |d + τ p| = Δ."""
    a, b, c = float(p @ p), float(d @ p), float(d @ d) - radius * radius
    return (-b + math.sqrt(max(b * b - a * c, 0.0))) / a if a > 0.0 else 0.0


METHOD = Method(
    name="newton",
    about="Newton in a trust region, exact or with products: smooth problems with bounds at most",
    kind="gradient-based",
    needs="gradients",
    handles=frozenset({"bounds"}),
    options=NewtonOptions,
    run=newton,
    takes_sparse=True,
    cost="one gradient and one Hessian (or some products with it) per iteration",
    weak="kinks and noise",
)
