"""Limited-memory BFGS: quasi-Newton steps from the last few changes, for very many variables and bounds at most.

    d = −H g by the two loops over the last pairs s = x⁺ − x, y = g⁺ − g, with H₀ = (s'y / y'y) I      (1)

over the variables that no bound holds; the others run into their bounds. The step is found by a strong Wolfe search
along the ray bent at the bounds, so that many bounds may become active or free in one iteration.

Needs     gradients.   Handles   bounds, by projection.
Cost      about one gradient per iteration; arithmetic and memory 4 · memory · n.
Stops     when the conditions measured by the driver hold.   Weak   ill-conditioned problems; noise.
Source    J. Nocedal, "Updating quasi-Newton matrices with limited storage", 1980; D. C. Liu, J. Nocedal, "On the
          limited memory BFGS method for large scale optimization", 1989; D. P. Bertsekas, "Projected Newton methods for
          optimization problems with simple constraints", 1982.
"""

from __future__ import annotations

import math
from collections import deque

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Assessment, Ending, Iterate, Method, Protocol, Task
from ilvren.methods.pieces.descent import begun, end_of, near_bounds, stuck
from ilvren.methods.pieces.line_search import searched
from ilvren.methods.pieces.options import option
from ilvren.records import dataclass

__all__ = ["METHOD", "LBfgsOptions", "two_loops"]

FloatArray = NDArray[np.float64]
Pair = tuple[FloatArray, FloatArray, float]

# Pairs with less curvature than this share of y'y are left out; the least cosine between d and −g.
LEAST_CURVATURE, LEAST_COSINE, FIRST_MOVE = 1e-12, 1e-8, 0.1
# Products smaller than this are about to underflow.
LEAST_SQUARE = 1e-150


@dataclass(frozen=True)
class LBfgsOptions:
    """Options of `l-bfgs`."""

    memory: int = option(12, low=1, high=200, help="how many of the last changes of the gradient are kept")


def l_bfgs(task: Task, options: LBfgsOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    here = yield from begun(task)
    if isinstance(here, Ending):
        return here
    pairs: deque[Pair] = deque(maxlen=options.memory)
    step, note, gain_ratio = math.nan, "the start", math.nan
    while True:
        assessment: Assessment = yield Iterate(here.x, step, note, gain_ratio)
        ended = end_of(task, here, assessment)
        if ended is not None:
            return ended
        held = near_bounds(task, here) if task.has_bounds else None
        gradient = here.g if held is None else np.where(held, 0.0, here.g)
        direction = -two_loops(gradient, pairs)  # (1)
        if held is not None:
            direction = np.where(held, 0.0, direction)
        length = math.sqrt(float(direction @ direction) * float(gradient @ gradient))
        if not -float(gradient @ direction) > LEAST_COSINE * length:
            pairs.clear()
            direction = -gradient
        if held is not None:
            direction = np.where(held, -here.g, direction)
        is_fresh = not pairs
        first = FIRST_MOVE / max(float(np.abs(direction).max(initial=0.0)), 1e-300) if is_fresh else 1.0
        found = yield from searched(task, here, direction, first)
        if found is None:
            if is_fresh:
                return stuck(here, gradient)
            pairs.clear()
            step, note, gain_ratio = 0.0, "no decrease: curvature forgotten", math.nan
            continue
        s, y = found.point.x - here.x, found.point.g - here.g
        step, gain_ratio = float(np.abs(s).max()), found.gain_ratio
        note = "full quasi-Newton step" if found.alpha == 1.0 else f"quasi-Newton step times {found.alpha:.2g}"
        note = "along the gradient" if is_fresh else note
        along = float(s @ y)
        size = float(y @ y)
        if size > LEAST_SQUARE and along > max(LEAST_CURVATURE * size, LEAST_SQUARE):
            pairs.append((s, y, 1.0 / along))
        here = found.point


def two_loops(gradient: FloatArray, pairs: deque[Pair]) -> FloatArray:
    """Return H g of (1). Both are (n,)."""
    q = gradient.copy()
    part = np.empty_like(q)  # one buffer: fresh temporaries of this length cost as much as the arithmetic
    shares = []
    for s, y, rho in reversed(pairs):
        share = rho * float(s @ q)
        shares.append(share)
        q -= np.multiply(y, share, out=part)
    if pairs:
        _, y, rho = pairs[-1]
        q *= 1.0 / (rho * float(y @ y))
    for (s, y, rho), share in zip(pairs, reversed(shares), strict=True):
        q += np.multiply(s, share - rho * float(y @ q), out=part)
    return q


METHOD = Method(
    name="l-bfgs",
    about="limited-memory quasi-Newton: very many variables, bounds at most",
    kind="gradient-based",
    needs="gradients",
    handles=frozenset({"bounds"}),
    options=LBfgsOptions,
    run=l_bfgs,
    takes_sparse=True,
    cost="about one gradient per iteration; arithmetic and memory n times the pairs kept",
    weak="ill-conditioned problems; noise",
)
