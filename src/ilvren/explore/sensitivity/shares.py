"""Variance shares: how much of the variance of a value each variable brings about, alone and with all others.

With designs A and B (k, n) independent of each other, and A_i being A but for column i, which is B's,

    S_i = 1/k Σ f(B) ( f(A_i) − f(A) ) / V                      alone (first order)                  (1)
    S_i = 1 − 1/(2k) Σ ( f(B) − f(A_i) )² / V                   the same, sharper where it is large    (1')
    T_i = 1/(2k) Σ ( f(A) − f(A_i) )² / V                       with all interactions (total)         (2)

A and B are the halves of a scrambled Sobol' sequence in 2n dimensions; values are taken from their mean first. Sums of
S_i below 1 are what interactions bring about.

Sources: I. Sobol', "Sensitivity estimates for nonlinear mathematical models", 1993; (1): A. Saltelli et al., "Variance
based sensitivity analysis of model output: design and estimator for the total sensitivity index", 2010; (1'), (2):
M. Jansen, "Analysis of variance designs for model output", 1999.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ilvren.explore.sensitivity.resampled import interval
from ilvren.records import dataclass

__all__ = ["Shares", "first_and_total", "pair_designs", "variance_shares"]

FloatArray = NDArray[np.float64]

# A share beyond this is read off (1').
LARGE = 0.25
# Values whose variance is less than this part of their mean square are all the same but for rounding.
ROUNDING = 1e-14


@dataclass(frozen=True)
class Shares:
    """First and total shares (n,) with intervals, the variance, and from how many base designs (those without values
    left out)."""

    first: FloatArray
    first_low: FloatArray
    first_high: FloatArray
    total: FloatArray
    total_low: FloatArray
    total_high: FloatArray
    variance: float
    count: int


def pair_designs(n: int, count: int, rng: np.random.Generator) -> FloatArray:
    """Return the shares of the box ((n + 2) k, n) of A, B, A_1 … A_n, one after the other; k as large as `count`
    designs in all have room for, a multiple of 8 from there on, at least 4."""
    import warnings

    from scipy.stats import qmc

    k = max(4, count // (n + 2))
    k -= k % 8 if k >= 8 else 0
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        both = np.asarray(qmc.Sobol(2 * n, scramble=True, seed=rng).random(k))
    a, b = both[:, :n], both[:, n:]
    mixed = []
    for place in range(n):
        own = a.copy()
        own[:, place] = b[:, place]
        mixed.append(own)
    return np.vstack([a, b, *mixed])


def variance_shares(values: FloatArray, n: int, rng: np.random.Generator) -> Shares:
    """Return the shares from the values ((n + 2) k,) of `pair_designs`."""
    table = values.reshape(n + 2, -1)
    whole = np.isfinite(table).all(axis=0)
    table = table[:, whole]
    k = table.shape[1]
    nothing = np.full(n, np.nan)
    if k < 2:
        return Shares(nothing, nothing, nothing, nothing, nothing, nothing, float("nan"), k)
    table = table - table[:2].mean()

    found = _estimates(table, np.ones((1, k)))[0]
    low, high = interval(k, lambda drawn: _estimates(table, drawn), rng)
    is_large = found[1] > LARGE
    first, first_low, first_high = (np.where(is_large, side[1], side[0]) for side in (found, low, high))
    return Shares(first, first_low, first_high, found[2], low[2], high[2], float(table[:2].var()), k)


def first_and_total(table: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Return first and total shares (n,) from the values (n + 2, k) of A, B, A_1 … A_n."""
    first, large, total = _estimates(table - table[:2].mean(), np.ones((1, table.shape[1])))[0]
    return np.where(large > LARGE, large, first), total


def _estimates(table: FloatArray, drawn: FloatArray) -> FloatArray:
    """Return (1), (1') and (2) (draws, 3, n) from values (n + 2, k) about their mean, for the base designs being drawn
    as often as `drawn` (draws, k) says; NaN where the values do not vary."""
    a, b, mixed = table[0], table[1], table[2:]
    k = drawn.sum(axis=1)
    square = drawn @ (a**2 + b**2) / (2.0 * k)
    variance = square - (drawn @ (a + b) / (2.0 * k)) ** 2
    variance[variance <= ROUNDING * square] = np.nan
    scale = (k * variance)[:, None]
    first = drawn @ (b * (mixed - a)).T / scale
    large = 1.0 - 0.5 * (drawn @ ((b - mixed) ** 2).T) / scale
    total = 0.5 * (drawn @ ((a - mixed) ** 2).T) / scale
    return np.stack([first, large, total], axis=1)
