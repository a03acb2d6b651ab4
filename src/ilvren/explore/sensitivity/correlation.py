"""Correlations between variables and values over any set of designs: of the numbers, of their ranks, and of what is
left of the ranks when all other variables have been taken out of both.

    r = cov(x, y) / (σ_x σ_y),    partial:  r of the residuals of x and y regressed on the others               (1)

Intervals by Fisher's transformation, tanh(artanh r ± 1.96 / √(k − 3 − others)).

Sources: C. Spearman, "The proof and measurement of association between two things", 1904; R. Fisher, "The distribution
of the partial correlation coefficient", 1924; R. Iman, W. Conover, "The use of the rank transform in regression", 1979.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

__all__ = ["WAYS", "correlations"]

FloatArray = NDArray[np.float64]

WAYS = ("numbers", "ranks", "partial")
NORMAL = 1.959964


def correlations(x: FloatArray, y: FloatArray, way: str = "ranks") -> tuple[FloatArray, FloatArray, FloatArray]:
    """Return (r, low, high) (n,) of the columns of x (k, n) with y (k,); NaN where too few designs, or nothing that
    moves, tell."""
    n = x.shape[1]
    found, low, high = np.full(n, np.nan), np.full(n, np.nan), np.full(n, np.nan)
    kept = np.isfinite(y) & np.isfinite(x).all(axis=1)
    x, y = x[kept], y[kept]
    others = n - 1 if way == "partial" else 0
    free = len(y) - 3 - others
    if free < 1:
        return found, low, high
    if way != "numbers":
        x = np.stack([_ranks(column) for column in x.T], axis=1) if n else x
        y = _ranks(y)
    for place in range(n):
        a, b = x[:, place], y
        if way == "partial" and n > 1:
            rest = np.column_stack([np.ones(len(y)), np.delete(x, place, axis=1)])
            a, b = (v - rest @ np.linalg.lstsq(rest, v, rcond=None)[0] for v in (a, b))
        size = float(np.linalg.norm(a - a.mean()) * np.linalg.norm(b - b.mean()))
        scale = float(np.abs(a).max(initial=0.0) * np.abs(b).max(initial=0.0)) * len(y)
        if not size > 1e-12 * scale:
            continue
        r = float(np.clip((a - a.mean()) @ (b - b.mean()) / size, -1.0, 1.0))
        middle, half = math.atanh(min(max(r, -1.0 + 1e-15), 1.0 - 1e-15)), NORMAL / math.sqrt(free)
        found[place], low[place], high[place] = r, math.tanh(middle - half), math.tanh(middle + half)
    return found, low, high


def _ranks(values: FloatArray) -> FloatArray:
    """Return ranks, equal values sharing the mean of theirs."""
    order = np.argsort(values, kind="stable")
    ranks = np.empty(len(values))
    ranks[order] = np.arange(len(values), dtype=float)
    _, inverse, counts = np.unique(values, return_inverse=True, return_counts=True)
    return np.asarray((np.bincount(inverse, ranks) / counts)[inverse])
