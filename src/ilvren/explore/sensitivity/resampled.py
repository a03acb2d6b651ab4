"""Intervals by drawing the same data again and again.

Source: B. Efron, "Bootstrap methods: another look at the jackknife", 1979 (percentiles of what the draws give).
"""

from __future__ import annotations

import warnings
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

__all__ = ["LEVEL", "interval"]

FloatArray = NDArray[np.float64]

# What an interval shall cover, how often the data are drawn, and how many numbers a table of draws has at once.
LEVEL, DRAWS, AT_ONCE = 0.95, 300, 4_000_000


def interval(
    count: int, estimate: Callable[[FloatArray], FloatArray], rng: np.random.Generator
) -> tuple[FloatArray, FloatArray]:
    """Return the low and high ends of what `estimate` gives for rows drawn from `count` with return. It is given how
    often each row is drawn (draws, count), and returns an estimate (…) for each of the draws (draws, …)."""
    found: list[FloatArray] = []
    some = max(1, AT_ONCE // max(count, 1))
    for first in range(0, DRAWS, some):
        draws = [rng.integers(0, count, count) for _ in range(min(some, DRAWS - first))]
        found.append(estimate(np.array([np.bincount(drawn, minlength=count) for drawn in draws], dtype=float)))
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # where nothing can be said it stays NaN
        ends = [50.0 * (1.0 - LEVEL), 50.0 * (1.0 + LEVEL)]
        low, high = np.nanpercentile(np.concatenate(found), ends, axis=0)
    return np.asarray(low), np.asarray(high)
