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
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from scipy.linalg.lapack import dtrtrs

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
        lever = dtrtrs(self.factor, columns[:, self.order].T, lower=1)[0]
        return np.asarray(np.cumsum(lever.T * self.shares, axis=1))


def ordered_terms(columns: FloatArray, y: FloatArray, most: int) -> Path:
    """Return up to `most` columns (k, t), the most telling first (1); the first one is always taken."""
    return _ordered([columns.T @ columns], [columns.T @ y], [min(most, *columns.shape)])[0]


def _ordered(products: Sequence[FloatArray], commons: Sequence[FloatArray], most: Sequence[int]) -> list[Path]:
    """Return the terms of several fits at once, each of the products (t, t) of its columns and theirs with its values
    (t,) alone, and of so many terms at `most`: by Cholesky factorizations that take pivots in the order of (1)."""
    product, common, limits = np.array(products), np.array(commons), np.array(most)
    fits, t = common.shape
    each = np.arange(fits)
    sizes = np.diagonal(product, axis1=1, axis2=2).copy()
    least = LEAST_NEW * sizes
    factor, shares = np.zeros((fits, t, int(limits.max()))), np.zeros((fits, int(limits.max())))
    orders: list[list[int]] = [[] for _ in most]
    is_open = np.ones((fits, t), dtype=bool)
    for step in range(int(limits.max())):
        is_open &= sizes > least
        goes_on = is_open.any(axis=1) & (limits > step)
        if not goes_on.any():
            break
        is_open[~goes_on] = False
        worth = np.where(is_open, common**2 / np.where(sizes > 0.0, sizes, 1.0), -1.0)
        best = worth.argmax(axis=1) if step else np.zeros(fits, dtype=np.int64)
        root = np.where(goes_on, np.sqrt(np.maximum(sizes[each, best], 0.0)), np.inf)
        before = (factor[:, :, :step] @ factor[each, best, :step, np.newaxis])[:, :, 0]
        own = (product[each, :, best] - before) / root[:, np.newaxis]
        share = common[each, best] / root
        factor[:, :, step], shares[:, step] = own, share
        sizes -= own**2
        common -= own * share[:, np.newaxis]
        is_open[each, best] = False
        for fit in np.flatnonzero(goes_on).tolist():
            orders[fit].append(int(best[fit]))
    return [
        Path(order, np.tril(factor[fit, order, : len(order)]), shares[fit, : len(order)])
        for fit, order in enumerate(orders)
    ]


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
    group_of = np.empty(points, dtype=np.int64)
    for number, group in enumerate(groups):
        group_of[group] = number
    kept = [(group_of != number)[owned] for number in range(len(groups))]
    rests = [(columns[own], y[own]) for own in kept]
    paths = _ordered(
        [own.T @ own for own, _ in rests],
        [own.T @ values for own, values in rests],
        [min(most, int(MOST_SHARE * len(values)) or 1, *own.shape) for own, values in rests],
    )
    for group, path in zip(groups, paths, strict=True):
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
