"""How uncertain a part is at a point, up to a factor: by the leverage of a polynomial, or the variance left in a field.

    s²(z) = d² (1 + f(z)'(F'F)⁻¹f(z)),   F = Q R                                                                (1)
    s²(z) = σ² (1 + λ − r'K⁻¹r + u'(F'K⁻¹F)⁻¹u),   u = F'K⁻¹r − f(z)                                                 (2)

Source of (2): J. Sacks, W. J. Welch, T. J. Mitchell, H. P. Wynn, "Design and analysis of computer experiments", 1989.
"""

from __future__ import annotations

from functools import cached_property
from typing import Protocol

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import cholesky, solve_triangular

from ilvren.approximate.kernels import KERNELS, squared_distances
from ilvren.approximate.monomials import monomials
from ilvren.approximate.slopes import as_slopes, covariances
from ilvren.records import dataclass

__all__ = ["FieldSpread", "LeverSpread", "Spread"]

FloatArray = NDArray[np.float64]
Powers = NDArray[np.int64]

# Points are taken in groups, so that distances to all centres fit into memory.
GROUP_NUMBERS = 4_000_000


class Spread(Protocol):
    """What tells how uncertain a part is."""

    def at(self, z: FloatArray) -> FloatArray:
        """Return s (k,) at points (k, n)."""


@dataclass(frozen=True)
class LeverSpread:
    """(1): the powers (t, n) of a polynomial, R (t, t), and d."""

    powers: Powers
    factor: FloatArray
    size: float

    def at(self, z: FloatArray) -> FloatArray:
        """Return s (k,) at points (k, n)."""
        lever = solve_triangular(self.factor, monomials(z, self.powers).T, trans="T")
        return np.asarray(self.size * np.sqrt(1.0 + (lever**2).sum(axis=0)))


@dataclass(frozen=True)
class FieldSpread:
    """(2): a kernel, its lengths (n,), the centres (k, n), the powers (t, n) of the trend, the noise λ and σ; `owners`
    (k,) where some centres stand for slopes (`approximate.slopes`)."""

    kernel: str
    lengths: FloatArray
    centres: FloatArray
    powers: Powers
    noise: float
    size: float
    owners: NDArray[np.int64] | None = None

    @cached_property
    def _factors(self) -> tuple[FloatArray, FloatArray, FloatArray]:
        """Return L with K = L L', L⁻¹F and (F'K⁻¹F)⁻¹."""
        matrix = KERNELS[self.kernel].value(squared_distances(self.centres, self.centres, self.lengths))
        lower = cholesky(covariances(matrix, self.centres, self.owners, self.noise), lower=True)
        basis = as_slopes(monomials(self.centres, self.powers), self.centres, self.owners)
        white = solve_triangular(lower, basis, lower=True)
        return lower, white, np.linalg.pinv(white.T @ white)

    def at(self, z: FloatArray) -> FloatArray:
        """Return s (k,) at points (k, n)."""
        found = np.empty(len(z))
        group = max(1, GROUP_NUMBERS // max(1, len(self.centres)))
        for first in range(0, len(z), group):
            found[first : first + group] = self._some(z[first : first + group])
        return found

    def _some(self, z: FloatArray) -> FloatArray:
        lower, white, middle = self._factors
        between = KERNELS[self.kernel].value(squared_distances(self.centres, z, self.lengths))
        r = solve_triangular(lower, as_slopes(between, self.centres, self.owners), lower=True)
        u = white.T @ r - monomials(z, self.powers).T
        left = 1.0 + self.noise - (r**2).sum(axis=0) + (u * (middle @ u)).sum(axis=0)
        # Rounding may leave less than nothing.
        return np.asarray(self.size * np.sqrt(np.maximum(left, max(self.noise, 1e-12))))
