"""Least squares with signs: the multipliers of active limits, found independently of any method."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

__all__ = ["signed_least_squares"]

FloatArray = NDArray[np.float64]

# A dual component counts as positive above this share of its column's length times the target's.
DUAL_TOLERANCE = 1e-12
# Each sweep adds a column; columns may leave and return, but not for ever.
SWEEPS_PER_COLUMN = 3


def signed_least_squares(matrix: FloatArray, target: FloatArray, signs: FloatArray) -> FloatArray:
    """Return u (k,) minimizing |matrix·u − target|₂ with u·sign ≥ 0 where a sign is not 0.

    `matrix` (n, k), `target` (n,), `signs` (k,) of −1, 0 (free), 1. Dependent columns are allowed.

    Source: C. L. Lawson, R. J. Hanson, "Solving Least Squares Problems", 1974, chapter 23 (NNLS).
    """
    n, k = matrix.shape
    if k == 0 or n == 0:
        return np.zeros(k)
    turned = matrix * np.where(signs < 0.0, -1.0, 1.0)
    lengths = np.linalg.norm(turned, axis=0)
    scale = np.where(lengths > 0.0, lengths, 1.0)
    turned = turned / scale
    free = signs == 0.0
    passive = free.copy()
    u: FloatArray = np.zeros(k)
    if passive.any():
        u[passive] = _solve(turned[:, passive], target)
    threshold = DUAL_TOLERANCE * max(float(np.linalg.norm(target)), 1e-300)
    barred = np.zeros(k, dtype=bool)
    for _ in range(SWEEPS_PER_COLUMN * k + 10):
        dual = turned.T @ (target - turned @ u)
        candidates = ~passive & ~barred & (dual > threshold)
        if not candidates.any():
            break
        entering = int(np.argmax(np.where(candidates, dual, -np.inf)))
        passive[entering] = True
        while True:
            trial = np.zeros(k)
            trial[passive] = _solve(turned[:, passive], target)
            negative = passive & ~free & (trial <= 0.0)
            if not negative.any():
                u = trial
                barred[:] = False
                break
            if negative[entering] and u[entering] == 0.0:
                # Rounding only: the column would leave at once. Bar it until something else changes.
                passive[entering] = False
                barred[entering] = True
                break
            ratios = np.full(k, np.inf)
            ratios[negative] = u[negative] / (u[negative] - trial[negative])
            u = np.asarray(u + float(ratios.min()) * (trial - u), dtype=np.float64)
            leaving = negative & ((u <= 0.0) | (ratios == ratios.min()))
            u[leaving] = 0.0
            passive &= ~leaving
    return u / scale * np.where(signs < 0.0, -1.0, 1.0)


def _solve(matrix: FloatArray, target: FloatArray) -> FloatArray:
    solution: FloatArray = np.asarray(np.linalg.lstsq(matrix, target, rcond=None)[0], dtype=np.float64)
    return solution
