"""The highest of what is known at some moments alone: the vertex of the parabola through a largest value and its
neighbours, which is right to the third power of their distance."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

__all__ = ["highest_near"]

FloatArray = NDArray[np.float64]


def highest_near(taus: FloatArray, values: FloatArray, k: int) -> tuple[float, float]:
    """Return where the parabola through a largest value, the `k`-th of values (m,) at shares of the time (m,), and its
    neighbours is highest, and how high."""
    if not 0 < k < len(values) - 1 or not np.isfinite(values[k - 1 : k + 2]).all():
        return float(taus[k]), float(values[k])
    left, right = taus[k] - taus[k - 1], taus[k + 1] - taus[k]
    if not (left > 0.0 and right > 0.0):  # a jump
        return float(taus[k]), float(values[k])
    low, high = (values[k] - values[k - 1]) / left, (values[k + 1] - values[k]) / right
    curvature = (high - low) / (left + right)
    if not curvature < 0.0:
        return float(taus[k]), float(values[k])
    slope = low + curvature * left
    move = float(np.clip(-slope / (2.0 * curvature), -left, right))
    return float(taus[k] + move), float(values[k] + move * (slope + curvature * move))
