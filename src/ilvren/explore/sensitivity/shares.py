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

    def estimate(chosen: NDArray[np.int64]) -> FloatArray:
        return _estimate(table[:, chosen])

    found = estimate(np.arange(k)).reshape(3, n)
    low, high = (side.reshape(3, n) for side in interval(k, estimate, rng))
    is_large = found[1] > LARGE
    first, first_low, first_high = (np.where(is_large, side[1], side[0]) for side in (found, low, high))
    return Shares(first, first_low, first_high, found[2], low[2], high[2], float(table[:2].var()), k)


def first_and_total(table: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Return first and total shares (n,) from the values (n + 2, k) of A, B, A_1 … A_n."""
    first, large, total = _estimate(table - table[:2].mean()).reshape(3, -1)
    return np.where(large > LARGE, large, first), total


def _estimate(table: FloatArray) -> FloatArray:
    """Return (1), (1') and (2), one after the other."""
    a, b, mixed = table[0], table[1], table[2:]
    variance = np.concatenate([a, b]).var()
    if not variance > 0.0:
        return np.full(3 * len(mixed), np.nan)
    first = (b * (mixed - a)).mean(axis=1) / variance
    large = 1.0 - 0.5 * ((b - mixed) ** 2).mean(axis=1) / variance
    total = 0.5 * ((a - mixed) ** 2).mean(axis=1) / variance
    return np.concatenate([first, large, total])
