"""Where values cannot be had: the chance of failure, by what became of points nearby.

    p(z) = ( Σ_i f_i k(s_i) + A m ) / ( Σ_i k(s_i) + A ),   s_i = Σ_j ((z_j − Z_ij)/l_j)²,   k(s) = exp(−s/2)       (1)

f_i is 1 where point i failed, m their share, and A the weight of knowing nothing but that. The lengths make most likely
what became of every point by all others:  max Σ_i log( f_i p_i + (1 − f_i)(1 − p_i) ),  p_i of (1) without point i.

Sources: E. A. Nadaraya, "On estimating regression", 1964; G. S. Watson, "Smooth regression analysis", 1964.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from ilvren.approximate.kernels import KERNELS, squared_distances
from ilvren.approximate.maximizing import maximized
from ilvren.records import dataclass

__all__ = ["KNOWING_NOTHING", "Failing", "fitted_failing"]

FloatArray = NDArray[np.float64]

# The weight A, and between what lengths are looked for, of a region of −1 .. 1.
KNOWING_NOTHING = 0.02
LEAST_LENGTH, MOST_LENGTH = 0.05, 20.0
STARTS = (0.2, 0.5)
MOST_ITERATIONS = 40
# Chances are kept this far from 0 and 1 where their logarithm is taken.
SURE = 1e-6
KERNEL = "squared-exponential"


@dataclass(frozen=True)
class Failing:
    """(1): `centre` and `half` (n,) as in `surface`, lengths (n,), centres (k, n), f (k,), m."""

    centre: FloatArray
    half: FloatArray
    lengths: FloatArray
    centres: FloatArray
    failed: FloatArray
    share: float

    def at(self, x: FloatArray) -> FloatArray:
        """Return the chances (k,) at points (k, n)."""
        z = (np.atleast_2d(x) - self.centre) / self.half
        k = KERNELS[KERNEL].value(squared_distances(z, self.centres, self.lengths))
        return np.asarray((k @ self.failed + KNOWING_NOTHING * self.share) / (k.sum(axis=1) + KNOWING_NOTHING))


def fitted_failing(x: FloatArray, failed: NDArray[np.bool_], centre: FloatArray, half: FloatArray) -> Failing:
    """Return the chance of failure from points x (k, n) of which some `failed` (k,)."""
    z, f = (x - centre) / half, failed.astype(float)
    n = z.shape[1]
    bounds = np.full(n, math.log(LEAST_LENGTH)), np.full(n, math.log(MOST_LENGTH))

    def likelihood(theta: FloatArray) -> tuple[float, FloatArray]:
        lengths = np.exp(theta)
        k = KERNELS[KERNEL].value(squared_distances(z, z, lengths))
        np.fill_diagonal(k, 0.0)
        below = k.sum(axis=1) + KNOWING_NOTHING
        p = (k @ f + KNOWING_NOTHING * f.mean()) / below
        p = np.clip(p, SURE, 1.0 - SURE)
        value = float(np.sum(np.where(failed, np.log(p), np.log1p(-p))))
        outer = np.where(failed, 1.0 / p, -1.0 / (1.0 - p)) / below
        gradient = np.empty(n)
        for j in range(n):
            moved = k * ((z[:, j, None] - z[:, j]) / lengths[j]) ** 2  # ∂k/∂log l_j
            gradient[j] = float(outer @ (moved @ f - p * moved.sum(axis=1)))
        return value, gradient

    found = [
        maximized(likelihood, np.full(n, math.log(start * math.sqrt(n))), *bounds, MOST_ITERATIONS) for start in STARTS
    ]
    theta = max(found, key=lambda pair: pair[1])[0]
    return Failing(centre, half, np.exp(theta), z, f, float(f.mean()))
