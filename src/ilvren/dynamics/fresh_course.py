"""A course on a grid integrated afresh: each interval from the course's own state, by another integrator, deviations
being added up by (1) of `afresh`; and what is integrated along it, against the scheme's own sums."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.dynamics.gridded import GriddedCourse

__all__ = ["FreshCourse", "followed_afresh"]

FloatArray = NDArray[np.float64]

# The other integrator's own tolerances, over the states' sizes.
RELATIVE, ABSOLUTE = 1e-9, 1e-10


@dataclass(frozen=True)
class FreshCourse:
    """`error`: the largest deviation of a state, added up, over its size; `local` that of one interval by itself; `tau`
    and `state` (flat) where the first is; `growth` the most that a deviation grows; `is_told` whether the other
    integrator came through; `integral` the largest miss of what is integrated, over what its parts come to."""

    error: float
    local: float
    tau: float
    state: int
    growth: float
    is_told: bool = True
    integral: float = 0.0

    def state_name(self, states: Sequence[tuple[str, tuple[int, ...]]]) -> str:
        """Return the name of the state where the error is largest."""
        place = self.state
        for name, shape in states:
            size = math.prod(shape)
            if 0 <= place < size:
                return name if not shape else f"{name}[{place}]"
            place -= size
        return ""


def followed_afresh(course: GriddedCourse) -> FreshCourse:
    """Return how a course compares with integrating its intervals afresh."""
    from scipy.integrate import solve_ivp  # heavy, and for this alone

    sizes, scheme = course.sizes, course.scheme
    found = course.deviation()
    n = course.flat.shape[1]
    error, worst, local, at, state = np.zeros(n), 0.0, 0.0, 0.0, -1
    transitions = course.transitions()
    code, own_sums = course.integrand_code, course.sums
    count, parts = own_sums.shape[1], np.maximum(np.abs(own_sums).sum(axis=0), 1e-300)
    off = np.zeros(count)
    for k in range(course.intervals):
        low, high = float(course.taus[k]), float(course.taus[k + 1])

        def rates(tau: float, x: FloatArray, low: float = low, high: float = high) -> FloatArray:
            moment = np.array([min(max(tau, low), high)])
            is_left = np.array([moment[0] > 0.5 * (low + high)])
            inputs = course.inputs(moment, is_left, x[np.newaxis, :n])
            gains = code.values(inputs)[0] if code is not None else np.zeros(0)
            return np.concatenate([course.code.values(inputs)[0], gains])

        begin = course.flat[k * scheme.width]
        moments = low + (high - low) * scheme.points[1:]
        scale = np.concatenate([np.maximum(np.abs(begin), sizes), parts])
        first = np.concatenate([begin, np.zeros(count)])
        with np.errstate(all="ignore"):
            told = solve_ivp(
                rates, (low, high), first, method="LSODA", rtol=RELATIVE, atol=ABSOLUTE * scale, t_eval=moments
            )
        if not told.success or told.y.shape[1] != len(moments) or not np.isfinite(told.y).all():
            return FreshCourse(math.inf, local, high, -1, found.growth, is_told=False)
        own = course.flat[k * scheme.width + 1 : (k + 1) * scheme.width + 1]
        inner = (told.y[:n].T - own) / sizes
        off += told.y[n:, -1] - own_sums[k]
        local = max(local, float(np.abs(inner).max(initial=0.0)))
        error = transitions[k] @ error + inner[-1]
        share = np.maximum(np.abs(error), np.abs(inner).max(axis=0))
        if float(share.max(initial=0.0)) > worst:
            worst, at, state = float(share.max()), high, int(np.argmax(share))
    missed = float((np.abs(off) / parts).max(initial=0.0))
    return FreshCourse(worst, local, at, state, found.growth, integral=missed)
