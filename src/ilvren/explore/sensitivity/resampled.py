"""Intervals by drawing the same data again and again.

Source: B. Efron, "Bootstrap methods: another look at the jackknife", 1979 (percentiles of what the draws give).
"""

from __future__ import annotations

import warnings
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

__all__ = ["LEVEL", "interval"]

FloatArray = NDArray[np.float64]

# What an interval shall cover, and how often the data are drawn.
LEVEL, DRAWS = 0.95, 300


def interval(
    count: int, estimate: Callable[[NDArray[np.int64]], FloatArray], rng: np.random.Generator
) -> tuple[FloatArray, FloatArray]:
    """Return the low and high ends of what `estimate`(chosen rows) gives for rows drawn from `count` with return. Both
    ends have the shape of an estimate; chosen rows are (count,)."""
    found = np.array([estimate(rng.integers(0, count, count)) for _ in range(DRAWS)])
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # where nothing can be said it stays NaN
        low, high = np.nanpercentile(found, [50.0 * (1.0 - LEVEL), 50.0 * (1.0 + LEVEL)], axis=0)
    return np.asarray(low), np.asarray(high)
