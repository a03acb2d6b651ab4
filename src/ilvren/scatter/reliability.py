"""First-order reliability: the most likely scenario at which a limit is missed, and how far from the middle it lies.

In independent standard normal numbers u the scenario of g(u) <= 0 that is likeliest is the one closest to the origin,
u*, at the distance β; where g is all but plane there, the share of misses is Φ(−β). It is looked for by

    u ← u + t d,    d = (∇g·u − g) ∇g / |∇g|² − u                                                    (1)
    t halved until  m(u + t d) <= m(u) + ¼ t ∇m·d,    m(u) = |u|²/2 + c |g(u)|                       (2)

with c above |u| / |∇g|, so that d descends. β is negative where the limit is missed at the origin.

Sources: (1): A. Hasofer, N. Lind, "Exact and invariant second-moment code format", 1974; R. Rackwitz, B. Fiessler,
"Structural reliability under combined random load sequences", 1978; (2): Y. Zhang, A. Der Kiureghian, "Two improved
algorithms for reliability analysis", 1995.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

__all__ = ["DesignPoint", "LimitFunction", "design_point", "design_points"]

FloatArray = NDArray[np.float64]
# (g, ∇g) at a scenario u (n,).
LimitFunction = Callable[[FloatArray], tuple[float, FloatArray]]

TOLERANCE, MOST_STEPS, MOST_HALVINGS = 1e-6, 100, 12
# Farther from the origin than this nothing ever happens: Φ(−37) is the smallest number there is.
FARTHEST = 37.0
# Design points that count beside the closest one, and how far apart two must lie.
ALSO, APART = 1.5, 0.3
# Searches for design points of one limit.
MOST_SEARCHES = 6


@dataclass(frozen=True)
class DesignPoint:
    """`u` (n,) closest to the origin on a limit, at the distance |`index`| (negative: missed at the origin); `slope`
    (n,) of the limit there; `evaluations` of it with slopes; `is_found` is false where the search did not end."""

    u: FloatArray
    index: float
    slope: FloatArray
    evaluations: int
    is_found: bool

    @property
    def share(self) -> float:
        """Return Φ(−β), the share of misses of a limit that is plane."""
        return 0.5 * math.erfc(self.index / math.sqrt(2.0))


def design_point(limit: LimitFunction, start: FloatArray, at_origin: float) -> DesignPoint:
    """Look for the design point from `start`; `at_origin` is the limit's value at 0, which says its size and side."""
    u = np.array(start, dtype=float)
    g, slope = limit(u)
    count, is_found = 1, False
    size = max(abs(at_origin), 1e-300)
    for _ in range(MOST_STEPS):
        steep = float(slope @ slope)
        if not (math.isfinite(g) and np.isfinite(slope).all() and steep > 0.0):
            break
        size = max(size, 1e-3 * math.sqrt(steep))
        closest = (float(slope @ u) - g) / steep * slope
        distance = float(np.linalg.norm(closest))
        if distance > FARTHEST:  # plane as it is here it is never missed: not farther than that at once
            closest *= FARTHEST / distance
        d = closest - u
        aside = float(np.linalg.norm(u - (slope @ u) / steep * slope))
        if abs(g) <= TOLERANCE * size and aside <= 1e2 * TOLERANCE * max(float(np.linalg.norm(u)), 1.0):
            is_found = True
            break
        root = math.sqrt(steep)
        weight = 2.0 * float(np.linalg.norm(u)) / root + 10.0
        if abs(g) > TOLERANCE * size:
            weight = max(weight, distance**2 / abs(g))
        here = 0.5 * float(u @ u) + weight * abs(g)
        falls = float((u + weight * math.copysign(1.0, g) * slope) @ d)
        t = 1.0
        for _ in range(MOST_HALVINGS):
            trial = u + t * d
            g_trial, slope_trial = limit(trial)
            count += 1
            merit = 0.5 * float(trial @ trial) + weight * abs(g_trial)
            if np.isfinite(slope_trial).all() and merit <= here + 0.25 * t * min(falls, 0.0):
                break
            t *= 0.5
        else:
            break
        u, g, slope = trial, g_trial, slope_trial
    length = float(np.linalg.norm(u))
    return DesignPoint(u, math.copysign(length, at_origin) if at_origin else 0.0, slope, count, is_found)


def design_points(limit: LimitFunction, dimension: int, others: Sequence[FloatArray] = ()) -> list[DesignPoint]:
    """Return the design points found from the origin, from other starts, and from the other side of each that was
    found, the closest first: those that are found, apart from each other, and not much farther than the closest. Where
    none is found, the one that was looked for from the origin alone."""
    origin = np.zeros(dimension)
    g, _ = limit(origin)
    found: list[DesignPoint] = []
    starts = [origin, *others]
    for number in range(MOST_SEARCHES):
        if number >= len(starts):
            break
        again = design_point(limit, starts[number], g)
        is_new = again.is_found and all(np.linalg.norm(again.u - other.u) > APART for other in found if other.is_found)
        if is_new:
            starts.append(-again.u)
        if is_new or not found:
            found.append(again)
        else:
            found[0] = _with(found[0], again.evaluations)
    whole = sorted((point for point in found if point.is_found), key=lambda point: abs(point.index))
    if not whole:
        return found[:1]
    counted = sum(point.evaluations for point in found) + 1
    kept = [point for point in whole if abs(point.index) <= abs(whole[0].index) + ALSO]
    return [_with(kept[0], counted - kept[0].evaluations), *kept[1:]]


def _with(point: DesignPoint, more: int) -> DesignPoint:
    return DesignPoint(point.u, point.index, point.slope, point.evaluations + more, point.is_found)
