"""Which design of a front to take: where it bends, and what a little of one objective costs of another.

    knee      the design farthest on the better side of the plane through the ends, each objective over its range  (1)
    corner    two objectives: where the rate of exchange jumps by a factor of CORNER or more                       (2)
    rate      between the neighbours i − 1 and i + 1: (b_{i+1} − b_{i−1}) / (a_{i+1} − a_{i−1})                    (3)

Sources: (1): I. Das, "On characterizing the 'knee' of the Pareto curve based on normal-boundary intersection", 1999;
(3): marginal rates of substitution: V. Chankong, Y. Haimes, "Multiobjective decision making", 1983.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

__all__ = ["corners", "exchange_rates", "knee", "scaled", "utopia_distances"]

FloatArray = NDArray[np.float64]

# (2): the factor of the jump, and the least share of the range that both neighbours must be away.
CORNER, LEAST_STEP = 4.0, 1e-3
# A knee sticks out of the plane through the ends by this share of the ranges at least.
LEAST_BULGE = 0.02


def scaled(values: FloatArray) -> FloatArray:
    """Return objectives (k, p), minimized, over their ranges: 0 at the ideal, 1 at the nadir."""
    low, high = values.min(axis=0), values.max(axis=0)
    return np.asarray((values - low) / np.where(high > low, high - low, 1.0), dtype=np.float64)


def utopia_distances(values: FloatArray) -> FloatArray:
    """Return (k,): the distance from the ideal, each objective over its range."""
    return np.asarray(np.linalg.norm(scaled(values), axis=1), dtype=np.float64)


def knee(values: FloatArray) -> int | None:
    """Return the place of (1) in objectives (k, p), minimized; None where no design bulges towards the ideal."""
    count, objectives = values.shape
    if count <= objectives:
        return None
    own = scaled(values)
    ends = own[np.argmin(own + 1e-9 * own.sum(axis=1, keepdims=True), axis=0)]
    try:
        normal = np.linalg.solve(ends, np.ones(objectives))
    except np.linalg.LinAlgError:
        normal = np.ones(objectives)
    if not (np.isfinite(normal).all() and (normal > 0.0).all()):
        normal = np.ones(objectives)
    bulge = (1.0 - own @ normal) / float(np.linalg.norm(normal))
    place = int(np.argmax(bulge))
    return place if bulge[place] >= LEAST_BULGE else None


def exchange_rates(values: FloatArray) -> FloatArray:
    """Return (3) (k,) of two objectives (k, 2) sorted by the first: the change of the second for one unit more of the
    first; from one neighbour at the ends; NaN for a single design."""
    count = len(values)
    if count < 2:
        return np.full(count, np.nan)
    before = np.maximum(np.arange(count) - 1, 0)
    after = np.minimum(np.arange(count) + 1, count - 1)
    step = values[after] - values[before]
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(step[:, 0] != 0.0, step[:, 1] / step[:, 0], np.nan)


def corners(values: FloatArray) -> list[int]:
    """Return the places of (2) in two objectives (k, 2) sorted by the first, minimized; of neighbours the sharpest."""
    own = scaled(values)
    steps = np.diff(own, axis=0)
    far = np.abs(steps).max(axis=1) >= LEAST_STEP
    with np.errstate(divide="ignore", invalid="ignore"):
        angles = np.arctan2(-steps[:, 1], steps[:, 0])
        slopes = np.tan(np.clip(angles, 1e-6, np.pi / 2 - 1e-6))
    found = []
    for place in range(1, len(own) - 1):
        if not (far[place - 1] and far[place]):
            continue
        jump = slopes[place - 1] / slopes[place]
        if max(jump, 1.0 / jump) >= CORNER:
            found.append((max(jump, 1.0 / jump), place))
    found.sort(reverse=True)
    chosen: list[int] = []
    for _, place in found:
        if all(abs(place - other) > 2 for other in chosen):
            chosen.append(place)
    return sorted(chosen)
