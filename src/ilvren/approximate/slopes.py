"""Slopes as rows beside the points: a point nearby stands for a slope, and fits see the difference over the distance.

Rows are values v of points z, then of points z + h e_j that stand for slopes; `owners` tells which point each belongs
to. With T v = (v, (v_p − v_owner)/h) a slope weighs as a value does, whatever h is.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

__all__ = ["as_slopes", "covariances", "from_slopes", "owned_by"]

FloatArray = NDArray[np.float64]
Owners = NDArray[np.int64]

# What is added to the noise of slopes: differences of correlations are known to no more digits.
SLOPE_NOISE = 1e-8


def owned_by(owners: NDArray[np.int64] | None, rows: int) -> NDArray[np.int64]:
    """Return (rows,): which point each row belongs to; every row is its own point where `owners` is None. Points come
    first, those that stand for their slopes behind them."""
    return np.arange(rows) if owners is None else owners


def as_slopes(values: FloatArray, z: FloatArray, owners: NDArray[np.int64] | None) -> FloatArray:
    """Return values (rows, …) with those of rows that stand for slopes as slopes: T values, (v_p − v_owner) / step."""
    if owners is None:
        return values
    count = int(owners.max()) + 1
    steps = (z[count:] - z[owners[count:]]).sum(axis=1).reshape(-1, *([1] * (values.ndim - 1)))
    return np.concatenate([values[:count], (values[count:] - values[owners[count:]]) / steps])


def from_slopes(weights: FloatArray, z: FloatArray, owners: NDArray[np.int64] | None) -> FloatArray:
    """Return T' weights, T as in `as_slopes`: what weights of slopes are as weights of rows. Shapes: weights and result
    (rows,), z (k, n), owners (rows,)."""
    if owners is None:
        return weights
    count = int(owners.max()) + 1
    steps = (z[count:] - z[owners[count:]]).sum(axis=1).reshape(-1, *([1] * (weights.ndim - 1)))
    found = weights.copy()
    found[count:] /= steps
    np.subtract.at(found, owners[count:], found[count:])
    return found


def covariances(matrix: FloatArray, z: FloatArray, owners: Owners | None, noise: float) -> FloatArray:
    """Return T K T' of correlations K (rows, rows) with noise on its diagonal; K itself may be changed."""
    diagonal = np.full(len(z), noise)
    if owners is not None:
        matrix = as_slopes(as_slopes(matrix, z, owners).T, z, owners)
        diagonal[int(owners.max()) + 1 :] += SLOPE_NOISE
    matrix[np.diag_indices(len(z))] += diagonal
    return matrix
