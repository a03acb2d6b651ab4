"""Products of powers."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

__all__ = ["monomials"]

FloatArray = NDArray[np.float64]


def monomials(z: FloatArray, powers: NDArray[np.int64]) -> FloatArray:
    """Return (k, t): each of t products Π_j z_j^(P_tj), powers (t, n), at points z (k, n)."""
    found = np.ones((len(z), len(powers)))
    for j in range(z.shape[1]):
        highest = int(powers[:, j].max(initial=0))
        power = np.ones(len(z))
        for exponent in range(1, highest + 1):
            power = power * z[:, j]
            has = powers[:, j] == exponent
            if has.any():
                found[:, has] *= power[:, None]
    return found
