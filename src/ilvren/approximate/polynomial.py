"""Polynomials up to the third degree, whose terms are chosen by what they say of points left out.

Terms are taken one after the other, each time the one that the residual has most in common with, once what is known of
it from the terms before is taken away:

    j* = argmax_j (q_j'r)² / q_j'q_j,   q_j ← q_j − (q_j'q*) q* / q*'q*                                         (1)

In how many groups of points each part of the points is left out once; the number of terms is that at which the left-out
points are met best, all of the choice being made anew without them.

Sources: S. Chen, S. A. Billings, W. Luo, "Orthogonal least squares methods and their application to non-linear system
identification", 1989; M. Stone, "Cross-validatory choice and assessment of statistical predictions", 1974.
"""

from __future__ import annotations

import itertools
import math

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import solve_triangular

from ilvren.approximate.fitted import Fitted, folds
from ilvren.approximate.monomials import monomials
from ilvren.approximate.slopes import as_slopes, owned_by
from ilvren.approximate.spread import LeverSpread
from ilvren.approximate.surface import Part, Trend
from ilvren.records import dataclass

__all__ = ["HIGHEST", "Path", "all_powers", "fitted_polynomial", "ordered_terms"]

FloatArray = NDArray[np.float64]
Powers = NDArray[np.int64]

HIGHEST = 3
# Products are looked at up to so many; of many inputs those of lower degree.
MOST_TERMS = 700
# No more terms than this share of the points.
MOST_SHARE = 0.6
GROUPS = 10
# A term of which less than this share is new says nothing.
LEAST_NEW = 1e-8
# Of numbers of terms that meet left-out points equally well to this share, the least.
LEVEL = 0.02
# A spread is no smaller than this share of the values': rounding.
LEAST_SPREAD = 1e-10


def all_powers(n: int, degree: int) -> Powers:
    """Return the powers (t, n) of all products up to a degree, by degree; fewer where they would be too many."""
    found = [np.zeros(n, dtype=np.int64)]
    for d in range(1, degree + 1):
        own = []
        for chosen in itertools.combinations_with_replacement(range(n), d):
            power = np.zeros(n, dtype=np.int64)
            np.add.at(power, list(chosen), 1)
            own.append(power)
            if len(found) + len(own) > MOST_TERMS:
                break
        if len(found) + len(own) > MOST_TERMS and d > 1:
            break
        found += own
    return np.array(found)


@dataclass(frozen=True)
class Path:
    """Terms in their order: `order` their places; L (s, s) with F'F = L L' of their columns F; b = L⁻¹F'y."""

    order: list[int]
    factor: FloatArray
    shares: FloatArray

    def along(self, columns: FloatArray) -> FloatArray:
        """Return (m, s): what least squares by the first 1, 2, … s terms say at rows (m, t) of all columns."""
        lever = solve_triangular(self.factor, columns[:, self.order].T, lower=True)
        return np.asarray(np.cumsum(lever.T * self.shares, axis=1))


def ordered_terms(columns: FloatArray, y: FloatArray, most: int) -> Path:
    """Return up to `most` columns (k, t), the most telling first (1); the first one is always taken. Of the products of
    columns alone, by a Cholesky factorization that takes pivots in this order."""
    products, common = columns.T @ columns, columns.T @ y
    sizes = np.diag(products).copy()
    first_sizes = sizes.copy()
    most = min(most, *columns.shape)
    factor, shares = np.zeros((columns.shape[1], most)), np.zeros(most)
    order: list[int] = []
    is_open = np.ones(columns.shape[1], dtype=bool)
    for step in range(most):
        is_open &= sizes > LEAST_NEW * first_sizes
        if not is_open.any():
            break
        worth = np.where(is_open, common**2 / np.where(sizes > 0.0, sizes, 1.0), -1.0)
        best = int(np.argmax(worth)) if order else 0
        root = math.sqrt(sizes[best])
        own = (products[:, best] - factor[:, :step] @ factor[best, :step]) / root
        factor[:, step], shares[step] = own, common[best] / root
        sizes -= own**2
        common -= own * shares[step]
        order.append(best)
        is_open[best] = False
    count = len(order)
    return Path(order, np.tril(factor[order, :count]), shares[:count])


def fitted_polynomial(
    z: FloatArray,
    y: FloatArray,
    degree: int,
    rng: np.random.Generator,
    owners: NDArray[np.int64] | None = None,
) -> Fitted | None:
    """Return the polynomial of points z (k, n) and values (k,) up to a degree; None for too few points. `owners` as in
    `left_out_of`."""
    k, n = z.shape
    owned = owned_by(owners, k)
    points = int(owned.max()) + 1
    powers = all_powers(n, degree)
    columns, y = as_slopes(monomials(z, powers), z, owners), as_slopes(y, z, owners)
    most = min(len(powers), max(1, int(MOST_SHARE * k)))
    if k < 3:
        return None
    groups = folds(points, GROUPS, rng)
    said = np.full((points, most), np.nan)
    for group in groups:
        rest = np.flatnonzero(~np.isin(owned, group))
        path = ordered_terms(columns[rest], y[rest], min(most, int(MOST_SHARE * len(rest)) or 1))
        said[group, : len(path.order)] = path.along(columns[group])
    said = np.where(np.isnan(said), np.inf, said)
    errors = np.sqrt(np.mean((said - y[:points, None]) ** 2, axis=0))
    if not np.isfinite(errors).any():
        return None
    number = int(np.flatnonzero(errors <= (1.0 + LEVEL) * errors.min())[0]) + 1
    path = ordered_terms(columns, y, number)
    basis, own = columns[:, path.order], powers[path.order]
    coefficients = np.asarray(np.linalg.lstsq(basis, y, rcond=1e-12)[0], dtype=float)
    size = max(float(np.sqrt(np.mean((y - basis @ coefficients) ** 2))), LEAST_SPREAD)
    part = Part("polynomial", Trend(own, coefficients), spread=LeverSpread(own, path.factor.T, size))
    return Fitted(part, said[:, number - 1])
