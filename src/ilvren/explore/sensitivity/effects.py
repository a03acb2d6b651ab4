"""Elementary effects: what each variable does along paths that change one after the other.

A path begins at a grid point of p levels and changes every variable once, by Δ = p / (2 (p − 1)) of its range,

    EE_i = ( f(x + Δ e_i) − f(x) ) / Δ                                                             (1)

The mean of |EE_i| over the paths says how much a variable matters, the mean of EE_i which way, and their deviation
whether it does so everywhere alike: where not, it is curved or works together with others. Of many random paths those
are taken that lie far apart.

Sources: M. Morris, "Factorial sampling plans for preliminary computational experiments", 1991; the mean of |EE_i| and
paths that spread: F. Campolongo, J. Cariboni, A. Saltelli, "An effective screening design for sensitivity analysis of
large models", 2007.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ilvren.explore.sensitivity.resampled import interval
from ilvren.records import dataclass

__all__ = ["Effects", "elementary_effects", "paths"]

FloatArray = NDArray[np.float64]

LEVELS, CANDIDATES = 4, 8


@dataclass(frozen=True)
class Effects:
    """Of every variable (n,): the mean effect over its range, the mean size with an interval, the deviation; and from
    how many paths each (those without values left out)."""

    mean: FloatArray
    mean_absolute: FloatArray
    low: FloatArray
    high: FloatArray
    deviation: FloatArray
    count: NDArray[np.int64]


def paths(n: int, count: int, rng: np.random.Generator) -> FloatArray:
    """Return `count` paths (count, n + 1, n) in shares of the box, chosen to lie far apart."""
    delta = LEVELS / (2.0 * (LEVELS - 1.0))
    made = []
    for _ in range(CANDIDATES * count):
        low = rng.integers(0, LEVELS // 2, n) / (LEVELS - 1.0)
        up = rng.random(n) < 0.5
        point = np.where(up, low, low + delta)
        own = [point]
        for place in rng.permutation(n):
            point = point.copy()
            point[place] += delta if up[place] else -delta
            own.append(point)
        made.append(np.array(own))
    candidates = np.array(made)
    chosen = [0]
    distance = _apart(candidates, candidates[0])
    while len(chosen) < count:
        distance[chosen] = -np.inf
        place = int(np.argmax(distance))
        chosen.append(place)
        distance = np.minimum(distance, _apart(candidates, candidates[place]))
    return np.asarray(candidates[chosen])


def _apart(candidates: FloatArray, path: FloatArray) -> FloatArray:
    """Return the mean distance of the points of each candidate from those of a path."""
    return np.asarray(np.sqrt(((candidates[:, :, None] - path[None, None]) ** 2).sum(axis=3)).mean(axis=(1, 2)))


def elementary_effects(shares: FloatArray, values: FloatArray, rng: np.random.Generator) -> Effects:
    """Return the effects from values (paths, n + 1) at shares (paths, n + 1, n)."""
    count, _, n = shares.shape
    effects = np.full((count, n), np.nan)
    for path in range(count):
        for step in range(n):
            change = shares[path, step + 1] - shares[path, step]
            place = int(np.argmax(np.abs(change)))
            if change[place] != 0.0:
                effects[path, place] = (values[path, step + 1] - values[path, step]) / change[place]
    effects[~np.isfinite(effects)] = np.nan
    with np.errstate(all="ignore"):
        low, high = interval(count, lambda drawn: _mean(np.abs(effects), drawn), rng)
    several = np.isfinite(effects).sum(axis=0) > 1
    deviation = np.full(n, np.nan)
    if several.any():
        deviation[several] = np.nanstd(effects[:, several], axis=0, ddof=1)
    return Effects(_mean(effects), _mean(np.abs(effects)), low, high, deviation, np.isfinite(effects).sum(axis=0))


def _mean(values: FloatArray, drawn: FloatArray | None = None) -> FloatArray:
    """Return the means (n,) of the columns of values (count, n) over what is there, or, with how often rows are drawn
    (draws, count), those of each of the draws (draws, n); NaN where nothing is."""
    there = np.isfinite(values)
    often = np.ones(len(values)) if drawn is None else drawn
    number = often @ there.astype(float)
    return np.asarray(np.where(number > 0.0, often @ np.where(there, values, 0.0) / np.maximum(number, 1.0), np.nan))
