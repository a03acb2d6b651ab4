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

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import solve_triangular

from ilvren.approximate.fitted import Fitted, folds
from ilvren.approximate.monomials import monomials
from ilvren.approximate.spread import LeverSpread
from ilvren.approximate.surface import Part, Trend

__all__ = ["HIGHEST", "all_powers", "fitted_polynomial", "ordered_terms"]

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
LEAST_SPREAD = 1e-12


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


def ordered_terms(columns: FloatArray, y: FloatArray, most: int) -> list[int]:
    """Return the places of up to `most` columns (k, t), the most telling first (1); the first is always taken."""
    q, residual = columns.copy(), y.copy()
    sizes = (q**2).sum(axis=0)
    first_sizes = sizes.copy()
    order: list[int] = []
    is_open = np.ones(q.shape[1], dtype=bool)
    for _ in range(min(most, len(y))):
        is_open &= sizes > LEAST_NEW * first_sizes
        if not is_open.any():
            break
        worth = np.where(is_open, (q.T @ residual) ** 2 / np.where(sizes > 0.0, sizes, 1.0), -1.0)
        best = int(np.argmax(worth)) if order else 0
        own = q[:, best].copy()
        order.append(best)
        is_open[best] = False
        residual -= own * (own @ residual) / sizes[best]
        shares = (own @ q) / sizes[best]
        shares[~is_open] = 0.0
        q -= np.outer(own, shares)
        sizes = (q**2).sum(axis=0)
    return order


def fitted_polynomial(z: FloatArray, y: FloatArray, degree: int, rng: np.random.Generator) -> Fitted | None:
    """Return the polynomial of points z (k, n) and values (k,) up to a degree; None for too few points."""
    k, n = z.shape
    powers = all_powers(n, degree)
    columns = monomials(z, powers)
    most = min(len(powers), max(1, int(MOST_SHARE * k)))
    if k < 3:
        return None
    groups = folds(k, GROUPS, rng)
    said = np.full((k, most), np.nan)
    for group in groups:
        rest = np.setdiff1d(np.arange(k), group)
        order = ordered_terms(columns[rest], y[rest], min(most, int(MOST_SHARE * len(rest)) or 1))
        said[group, : len(order)] = _along(columns[rest][:, order], y[rest], columns[group][:, order])
    said = np.where(np.isnan(said), np.inf, said)
    errors = np.sqrt(np.mean((said - y[:, None]) ** 2, axis=0))
    if not np.isfinite(errors).any():
        return None
    number = int(np.flatnonzero(errors <= (1.0 + LEVEL) * errors.min())[0]) + 1
    chosen = ordered_terms(columns, y, number)
    basis = columns[:, chosen]
    r = np.asarray(np.linalg.qr(basis, mode="r"))
    coefficients = np.asarray(np.linalg.lstsq(basis, y, rcond=1e-12)[0], dtype=float)
    own = powers[chosen]
    size = max(float(np.sqrt(np.mean((y - basis @ coefficients) ** 2))), LEAST_SPREAD)
    part = Part("polynomial", Trend(own, coefficients), spread=LeverSpread(own, r, size))
    return Fitted(part, said[:, number - 1])


def _along(columns: FloatArray, y: FloatArray, at: FloatArray) -> FloatArray:
    """Return (m, t): what least squares by the first 1, 2, … t columns say at rows `at` (m, t)."""
    q, r = np.linalg.qr(columns)
    # With the first i columns alone the coefficients of the q are the same: only as many are taken.
    lever = solve_triangular(r, at.T, trans="T").T
    return np.asarray(np.cumsum(lever * (q.T @ y), axis=1))
