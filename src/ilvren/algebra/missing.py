"""By how much values miss their limits."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

__all__ = ["misses"]

FloatArray = NDArray[np.float64]


def misses(values: FloatArray, lower: FloatArray, upper: FloatArray) -> FloatArray:
    """Return by how much values (…, m) miss the nearer of their limits (m,): 0 within them, infinite for NaN."""
    miss = lower - values
    np.maximum(miss, values - upper, out=miss)
    np.maximum(miss, 0.0, out=miss)
    if np.isnan(miss.max(initial=0.0)):
        miss[np.isnan(miss)] = np.inf
    return miss
