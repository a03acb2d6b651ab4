"""Derivatives of a whole problem from differences of its values: what a method costs without exact ones.

    central     (f(x + h e_i) − f(x − h e_i)) / 2h,           h = ε^(1/3) · size                      (1)
    at a bound  (−3 f(x) + 4 f(x + h e_i) − f(x + 2h e_i)) / 2h,   inwards                              (2)

Every point counts as an evaluation.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import CENTRAL_STEP

__all__ = ["MOST_DIFFERENCED", "differenced"]

FloatArray = NDArray[np.float64]

# A variable near zero keeps this share of the size it started with.
LEAST_SIZE = 1e-2
# More variables than this would need thousands of evaluations a gradient.
MOST_DIFFERENCED = 2000


def differenced(
    values: Callable[[FloatArray], FloatArray],
    point: FloatArray,
    here: FloatArray,
    limits: tuple[FloatArray, FloatArray],
    start: FloatArray,
    used: NDArray[np.bool_],
) -> FloatArray:
    """Return (k, n): derivatives of k values by every variable that is `used` (n,), 0 for the others.

    `values` takes designs (p, n) and returns (p, k); `here` (k,) are the values at `point`; no design leaves `limits`.
    """
    lower, upper = limits
    width = np.where(np.isfinite(upper - lower), upper - lower, 0.0)
    size = np.maximum(np.maximum(np.abs(point), LEAST_SIZE * np.abs(start)), LEAST_SIZE * width)
    steps = CENTRAL_STEP * np.where(size > 0.0, size, 1.0)
    places = np.flatnonzero(used)
    points = np.repeat(point[np.newaxis, :], 2 * len(places), axis=0)
    offsets = np.empty((len(places), 2))
    for k, i in enumerate(places):
        h = steps[i]
        if point[i] + h > upper[i]:
            offsets[k] = (-h, -2.0 * h)
        elif point[i] - h < lower[i]:
            offsets[k] = (h, 2.0 * h)
        else:
            offsets[k] = (h, -h)
        points[2 * k, i] += offsets[k, 0]
        points[2 * k + 1, i] += offsets[k, 1]
    found = values(points)
    result = np.zeros((len(here), len(point)))
    for k, i in enumerate(places):
        one, two = found[2 * k], found[2 * k + 1]
        a = points[2 * k, i] - point[i]  # as rounding left it
        if offsets[k, 0] == -offsets[k, 1]:
            result[:, i] = (one - two) / (points[2 * k, i] - points[2 * k + 1, i])  # (1)
        else:
            result[:, i] = (4.0 * one - two - 3.0 * here) / (2.0 * a)  # (2)
    return result
