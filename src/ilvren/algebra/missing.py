"""By how much values miss their limits."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

__all__ = ["misses"]

FloatArray = NDArray[np.float64]


def misses(values: FloatArray, lower: FloatArray, upper: FloatArray) -> FloatArray:
    """Return by how much values (…, m) miss the nearer of their limits (m,): 0 within them, infinite for NaN."""
    miss = lower - values
    np.maximum(miss, values - upper, out=miss)
    np.maximum(miss, 0.0, out=miss)
    if math.isnan(np.add.reduce(miss, axis=None)):  # none is negative: the sum is NaN where one is
        miss[np.isnan(miss)] = np.inf
    return miss
