"""Nonlinear conjugate gradients: long problems, a few vectors of memory.

    d = −g + β d₋,    β = max(0, g'(g − g₋) / d₋'(g − g₋) − 2 |g − g₋|² (g'd₋) / (d₋'(g − g₋))²)     (1)

over the variables that no bound holds; d is −g again when the held variables change, when d does not descend enough,
and after n steps. The step is found by a strong Wolfe search with a tight second condition.

Needs     gradients.   Handles   bounds, by projection.   Cost   about two gradients per iteration; memory 5 n.
Stops     when the conditions measured by the driver hold.
Weak      badly scaled problems; many bounds that become active one after the other.
Source    W. W. Hager, H. Zhang, "A new conjugate gradient method with guaranteed descent and an efficient line search",
          2005, for (1); R. Fletcher, C. M. Reeves, "Function minimization by conjugate gradients", 1964.
Departs   by β ≥ 0 in place of the paper's lower limit: a restart is the better direction then.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Assessment, Ending, Iterate, Method, Protocol, Task
from ilvren.methods.pieces.descent import begun, end_of, near_bounds, stuck
from ilvren.methods.pieces.line_search import searched
from ilvren.methods.pieces.options import option
from ilvren.records import dataclass

__all__ = ["METHOD", "ConjugateGradientOptions"]

FloatArray = NDArray[np.float64]

# c₂ of the line search; the least cosine between d and −g; the first step moves the largest component by this much.
CURVATURE, LEAST_COSINE, FIRST_MOVE = 0.1, 1e-4, 0.1


@dataclass(frozen=True)
class ConjugateGradientOptions:
    """Options of `conjugate-gradient`."""

    restart: int = option(
        0, low=0, high=1_000_000, help="iterations after which the direction starts anew; 0: as many as variables"
    )


def conjugate_gradient(task: Task, options: ConjugateGradientOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    here = yield from begun(task)
    if isinstance(here, Ending):
        return here
    n = len(here.x)
    most = options.restart or max(n, 10)
    step, note, gain_ratio = math.nan, "the start", math.nan
    direction, gradient = np.zeros(n), np.zeros(n)
    held = np.zeros(n, dtype=bool)
    alpha, count = 1.0, 0
    while True:
        assessment: Assessment = yield Iterate(here.x, step, note, gain_ratio)
        ended = end_of(task, here, assessment)
        if ended is not None:
            return ended
        now_held = near_bounds(task, here)
        fresh = np.where(now_held, 0.0, here.g)
        slope = float(gradient @ direction)
        beta = (
            0.0
            if count == 0 or count >= most or not np.array_equal(held, now_held)
            else _beta(fresh, gradient, direction)
        )
        last, gradient, held = direction, fresh, now_held
        direction = np.where(now_held, 0.0, -fresh + beta * last)
        length = float(np.linalg.norm(direction)) * float(np.linalg.norm(fresh))
        if not -float(fresh @ direction) > LEAST_COSINE * length:
            beta, direction = 0.0, -fresh
        direction = np.where(now_held, -here.g, direction)  # those run into their bounds
        count = count + 1 if beta else 1
        if not slope < 0.0:
            first = FIRST_MOVE / max(float(np.abs(direction).max(initial=0.0)), 1e-300)
        else:
            first = min(alpha * slope / min(float(gradient @ direction), -1e-300), 1e3 * alpha)
        found = yield from searched(task, here, direction, first, curvature=CURVATURE)
        if found is None:
            if beta:
                count, note, step = 0, "the direction starts anew: no step along the last one", 0.0
                continue
            return stuck(here, gradient)
        note = "along a conjugate direction" if beta else "along the gradient: the direction starts anew"
        step, gain_ratio = float(np.abs(found.point.x - here.x).max()), found.gain_ratio
        alpha, here = found.alpha, found.point


def _beta(gradient: FloatArray, before: FloatArray, direction: FloatArray) -> float:
    """Return β of (1), 0 where it is not defined."""
    change = gradient - before
    along = float(direction @ change)
    if not abs(along) > 1e-300:
        return 0.0
    beta = (float(gradient @ change) - 2.0 * float(change @ change) * float(gradient @ direction) / along) / along
    return max(beta, 0.0) if math.isfinite(beta) else 0.0


METHOD = Method(
    name="conjugate-gradient",
    about="nonlinear conjugate gradients: large smooth problems with bounds at most",
    kind="gradient-based",
    needs="gradients",
    handles=frozenset({"bounds"}),
    options=ConjugateGradientOptions,
    run=conjugate_gradient,
    takes_sparse=True,
    cost="about two gradients per iteration; memory 5 n",
    weak="bad scaling; many bounds",
)
