"""The merit of designs: f and the misses of the rows, each with a weight above its multiplier.

    φ = f + Σ μ_i · miss_i                                                                              (1)

Sources: S.-P. Han, Journal of Optimization Theory and Applications 22, 1977, pages 297–309; M. J. D. Powell, in G. A.
Watson (editor), "Numerical Analysis", 1978, pages 144–157.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    from ilvren.methods.base import Task

__all__ = ["MULTIPLIER_FACTOR", "least_weights", "merits", "promised"]

FloatArray = NDArray[np.float64]

# μ_i over the multiplier; the share of the rows' promised fall that every step must promise in φ.
MULTIPLIER_FACTOR, PROMISE = 2.0, 0.1


def merits(task: Task, f: FloatArray, c: FloatArray, mu: FloatArray) -> FloatArray:
    """Return φ (k,) of (1) for f (k,) and rows (k, m); without weights (m,) yet, rows count before f."""
    if not len(task.row_lower):
        return f
    misses = task.misses(c)
    if not mu.any():
        mu = np.maximum(mu, 1.0 / task.row_sizes)
    return np.asarray(f + misses @ mu, dtype=np.float64)


def promised(task: Task, f: float, c: FloatArray, values: FloatArray, mu: FloatArray) -> tuple[FloatArray, float]:
    """Return μ, large enough that a step from f and rows (m,) to `values` (1 + m,) promises a fall of φ, and that
    fall."""
    fall = f - float(values[0])
    relief = task.misses(c) - task.misses(values[1:])
    total = float(mu @ relief) if len(mu) else 0.0
    if len(mu) and fall + total < PROMISE * total + 1e-300 and float(relief.sum()) > 0.0:
        needed = -fall / (float(np.maximum(relief, 0.0).sum()) * (1.0 - PROMISE))
        mu = np.maximum(mu, MULTIPLIER_FACTOR * max(needed, 0.0))
        total = float(mu @ relief)
    return mu, fall + total


def least_weights(task: Task, f: FloatArray) -> FloatArray:
    """Return weights (m,) by which a miss of a row's size counts like the range of f (k,)."""
    return np.asarray(max(float(np.ptp(f)), 1e-12) / task.row_sizes, dtype=np.float64)
