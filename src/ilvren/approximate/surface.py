"""A surface that has been fitted: a weighted sum of parts, each a trend and, where it has one, an expansion in kernels.

    z_j = (x_j − c_j) / h_j                                                 points, −1 .. 1 over the region          (1)
    p(z) = Σ_t b_t Π_j z_j^(P_tj) + Σ_i w_i k(Σ_j ((z_j − Z_ij) / l_j)²)                                             (2)
    y(x) = Σ_k W_k T(m_k + d_k p_k(z)),       T(v) = v, or exp(v) where the logarithm was fitted                (3)

Of a fitted part the `spread` tells how uncertain it is at a point, up to a factor that all of a surface share: of a
polynomial by its leverage, of a Gaussian process by the variance that is left.
"""

from __future__ import annotations

from dataclasses import field
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.approximate.kernels import KERNELS, squared_distances
from ilvren.approximate.monomials import monomials
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.approximate.spread import Spread

__all__ = ["Expansion", "Part", "Surface", "Trend"]

FloatArray = NDArray[np.float64]

# Points are taken in groups of so many, so that distances to all centres fit into memory.
GROUP_NUMBERS = 4_000_000


@dataclass(frozen=True)
class Trend:
    """Σ_t b_t Π_j z_j^(P_tj): `powers` (t, n), `coefficients` (t,)."""

    powers: NDArray[np.int64]
    coefficients: FloatArray

    def at(self, z: FloatArray) -> FloatArray:
        """Return the values (k,) at points (k, n)."""
        return np.asarray(monomials(z, self.powers) @ self.coefficients)

    def slopes_at(self, z: FloatArray) -> FloatArray:
        """Return the gradients (k, n) at points (k, n)."""
        found = np.zeros(z.shape)
        for j in range(z.shape[1]):
            has = self.powers[:, j] > 0
            if has.any():
                lower = self.powers[has].copy()
                lower[:, j] -= 1
                found[:, j] = monomials(z, lower) @ (self.coefficients[has] * self.powers[has, j])
        return found


@dataclass(frozen=True)
class Expansion:
    """Σ_i w_i k(s_i): the kernel's name, its `lengths` (n,), `centres` (k, n), `weights` (k,)."""

    kernel: str
    lengths: FloatArray
    centres: FloatArray
    weights: FloatArray

    def at(self, z: FloatArray) -> FloatArray:
        """Return the values (m,) at points (m, n)."""
        kernel, found = KERNELS[self.kernel].value, np.empty(len(z))
        group = max(1, GROUP_NUMBERS // max(1, len(self.centres)))
        for first in range(0, len(z), group):
            s = squared_distances(z[first : first + group], self.centres, self.lengths)
            found[first : first + group] = kernel(s) @ self.weights
        return found

    def slopes_at(self, z: FloatArray) -> FloatArray:
        """Return the gradients (m, n) at points (m, n):  2 Σ_i w_i k'(s_i) (z − Z_i) / l²."""
        slope, found = KERNELS[self.kernel].slope, np.empty(z.shape)
        group = max(1, GROUP_NUMBERS // max(1, len(self.centres)))
        for first in range(0, len(z), group):
            some = z[first : first + group]
            own = slope(squared_distances(some, self.centres, self.lengths)) * self.weights
            found[first : first + group] = 2.0 * (some * own.sum(axis=1)[:, None] - own @ self.centres)
        return np.asarray(found / self.lengths**2)


@dataclass(frozen=True)
class Part:
    """One fitted surface (2) with its weight W, the transformation ("none" or "log"), m and d of (3). `kind` names what
    it is; `spread` tells how uncertain it is where (None: everywhere alike), in units of y (of log y)."""

    kind: str
    trend: Trend
    expansion: Expansion | None = None
    transform: str = "none"
    middle: float = 0.0
    deviation: float = 1.0
    weight: float = 1.0
    spread: Spread | None = field(default=None, repr=False)

    def at(self, z: FloatArray) -> FloatArray:
        """Return the values (k,) at points (k, n), without the weight."""
        found = self.trend.at(z)
        if self.expansion is not None:
            found = found + self.expansion.at(z)
        found = self.middle + self.deviation * found
        return np.exp(np.minimum(found, 700.0)) if self.transform == "log" else found

    def slopes_at(self, z: FloatArray) -> FloatArray:
        """Return the gradients (k, n) at points (k, n), without the weight."""
        found = self.trend.slopes_at(z)
        if self.expansion is not None:
            found = found + self.expansion.slopes_at(z)
        return self.deviation * found * (self.at(z)[:, None] if self.transform == "log" else 1.0)

    def spread_at(self, z: FloatArray) -> FloatArray:
        """Return how uncertain the part is at points (k, n), up to a factor."""
        found = self.deviation * (np.ones(len(z)) if self.spread is None else self.spread.at(z))
        return found * self.at(z) if self.transform == "log" else found


@dataclass(frozen=True)
class Surface:
    """What stands for an output: `centre` and `half` (n,) of (1), and its parts."""

    centre: FloatArray
    half: FloatArray
    parts: tuple[Part, ...]

    @property
    def kind(self) -> str:
        """Return the kind of its part, or "combination"."""
        return self.parts[0].kind if len(self.parts) == 1 else "combination"

    @property
    def terms(self) -> int:
        """Return the number of coefficients and weights."""
        return sum(
            len(part.trend.coefficients) + (0 if part.expansion is None else len(part.expansion.weights))
            for part in self.parts
        )

    def scaled(self, x: FloatArray) -> FloatArray:
        """Return the points (1). Both are (k, n)."""
        return np.asarray((np.atleast_2d(x) - self.centre) / self.half)

    def at(self, x: FloatArray) -> FloatArray:
        """Return the values (k,) at points (k, n)."""
        z = self.scaled(x)
        return np.asarray(sum(part.weight * part.at(z) for part in self.parts))

    def spread_at(self, x: FloatArray) -> FloatArray:
        """Return how uncertain the value is at points (k, n), up to a factor: √(Σ W_k s_k²)."""
        z = self.scaled(x)
        spreads = [part.spread_at(z) for part in self.parts]
        size = max(float(np.max(own, initial=0.0)) for own in spreads) or 1.0  # squares of vast numbers stay numbers
        shares = sum(part.weight * (own / size) ** 2 for part, own in zip(self.parts, spreads, strict=True))
        return np.asarray(size * np.sqrt(shares))
