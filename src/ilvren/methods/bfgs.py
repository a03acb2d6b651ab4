"""BFGS: quasi-Newton steps with a full matrix, for up to some hundred variables and bounds at most.

    d = −H g,     s = x⁺ − x,  y = g⁺ − g,
    H⁺ = (I − s y'/s'y) H (I − y s'/s'y) + s s'/s'y                                                (1)

over the variables that no bound holds; H is the inverse of the curvature found so far, and starts as s'y/y'y times the
identity. The step is found by a strong Wolfe search, which makes s'y > 0.

Needs     gradients.   Handles   bounds, by projection.   Cost   about one gradient per iteration; memory n².
Stops     when the conditions measured by the driver hold.   Weak   noise; thousands of variables.
Source    C. G. Broyden, "The convergence of a class of double-rank minimization algorithms", 1970; R. Fletcher, "A new
          approach to variable metric algorithms", 1970; D. Goldfarb, 1970; D. F. Shanno, 1970.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Assessment, Ending, Iterate, Method, Protocol, Task
from ilvren.methods.pieces.descent import begun, end_of, near_bounds, stuck
from ilvren.methods.pieces.line_search import searched
from ilvren.records import dataclass

__all__ = ["METHOD", "BfgsOptions"]

FloatArray = NDArray[np.float64]

# Pairs with less curvature than this share of |s||y| are left out; the least cosine between d and −g.
LEAST_CURVATURE, LEAST_COSINE = 1e-10, 1e-8
FIRST_MOVE = 0.1
# Products smaller than this are about to underflow.
LEAST_SQUARE = 1e-150


@dataclass(frozen=True)
class BfgsOptions:
    """`bfgs` has no options."""


def bfgs(task: Task, options: BfgsOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    here = yield from begun(task)
    if isinstance(here, Ending):
        return here
    n = len(here.x)
    inverse, is_fresh = np.eye(n), True
    step, note, gain_ratio = math.nan, "the start", math.nan
    while True:
        assessment: Assessment = yield Iterate(here.x, step, note, gain_ratio)
        ended = end_of(task, here, assessment)
        if ended is not None:
            return ended
        held = near_bounds(task, here)
        gradient = np.where(held, 0.0, here.g)
        direction = np.where(held, 0.0, -(inverse @ gradient))
        length = float(np.linalg.norm(direction)) * float(np.linalg.norm(gradient))
        if not -float(gradient @ direction) > LEAST_COSINE * length:
            inverse, is_fresh, direction = np.eye(n), True, -gradient
        direction = np.where(held, -here.g, direction)  # those run into their bounds
        first = FIRST_MOVE / max(float(np.abs(direction).max(initial=0.0)), 1e-300) if is_fresh else 1.0
        found = yield from searched(task, here, direction, first)
        if found is None:
            if is_fresh:
                return stuck(here, gradient)
            inverse, is_fresh = np.eye(n), True
            step, note, gain_ratio = 0.0, "no decrease: curvature forgotten", math.nan
            continue
        s, y = found.point.x - here.x, found.point.g - here.g
        step, gain_ratio = float(np.abs(s).max()), found.gain_ratio
        note = "full quasi-Newton step" if found.alpha == 1.0 else f"quasi-Newton step times {found.alpha:.2g}"
        note = "along the gradient" if is_fresh else note
        s, y = np.where(held, 0.0, s), np.where(held, 0.0, y)
        least = max(LEAST_CURVATURE * float(np.linalg.norm(s) * np.linalg.norm(y)), LEAST_SQUARE)
        if float(y @ y) > LEAST_SQUARE and float(s @ y) > least:
            if is_fresh:
                inverse = np.eye(n) * (float(s @ y) / float(y @ y))
            inverse, is_fresh = _updated(inverse, s, y), False
        here = found.point


def _updated(inverse: FloatArray, s: FloatArray, y: FloatArray) -> FloatArray:
    """Return H⁺ of (1)."""
    along = float(s @ y)
    product = inverse @ y
    found = inverse + np.outer(s, s) * ((along + float(y @ product)) / along**2)
    found = found - (np.outer(product, s) + np.outer(s, product)) / along
    return found if np.isfinite(found).all() else inverse


METHOD = Method(
    name="bfgs",
    about="quasi-Newton with a full matrix: small and medium smooth problems with bounds at most",
    kind="gradient-based",
    needs="gradients",
    handles=frozenset({"bounds"}),
    options=BfgsOptions,
    run=bfgs,
    most_variables=2000,
    cost="about one gradient per iteration; arithmetic and memory n^2",
    weak="noise; thousands of variables",
)
