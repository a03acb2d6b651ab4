"""Sets of scenarios: ten independent randomisations of a space-filling sequence, so that their spread tells the error.

Each part is a scrambled Sobol' sequence of its own: every scenario is distributed as it should be, means over a part
err less than over as many independent ones, and the ten means are independent of each other.

Sources: I. Sobol', "On the distribution of points in a cube and the approximate evaluation of integrals", 1967;
A. Owen, "Scrambled net variance for integrals of smooth functions", 1997.
"""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["PARTS", "parted", "scenario_normals", "sequence_normals"]

FloatArray = NDArray[np.float64]

# Independent randomisations, and the dimensions that the sequence has.
PARTS, MOST_DIMENSIONS = 10, 21_201
# Sets of so many numbers are kept, since a run looks at the same ones again and again.
MOST_KEPT = 200_000
# Shares nearer to 0 and 1 than this are none of a scrambled sequence with 2^-30 steps.
EDGE = 2.0**-31


def scenario_normals(dimension: int, count: int, seed: int) -> FloatArray:
    """Return independent standard normal numbers (k, dimension) of `count` scenarios, made a multiple of ten: the parts
    one after the other. In more dimensions than the sequence has the numbers are independent draws."""
    each = max(1, -(-count // PARTS))
    if dimension * count <= MOST_KEPT:
        return _kept_normals(dimension, each, seed)
    return _normals(dimension, each, seed)


@lru_cache(maxsize=32)
def _kept_normals(dimension: int, each: int, seed: int) -> FloatArray:
    found = _normals(dimension, each, seed)
    found.flags.writeable = False
    return found


def _normals(dimension: int, each: int, seed: int) -> FloatArray:
    from scipy.special import ndtri

    rng = np.random.default_rng([seed, 20_260])
    if dimension > MOST_DIMENSIONS:
        return rng.standard_normal((PARTS * each, dimension))
    found = np.empty((PARTS * each, dimension), order="F")
    for part in range(PARTS):
        found[part * each : (part + 1) * each] = ndtri(_scrambled(dimension, each, rng))
    return found


def sequence_normals(dimension: int, count: int, seed: int) -> FloatArray:
    """Return independent standard normal numbers (k, dimension) of one randomisation, which covers better than parts
    do and tells no error; best of a power of two."""
    from scipy.special import ndtri

    rng = np.random.default_rng([seed, 20_261])
    if dimension > MOST_DIMENSIONS:
        return rng.standard_normal((count, dimension))
    return np.asarray(ndtri(_scrambled(dimension, count, rng)))


def _scrambled(dimension: int, count: int, rng: np.random.Generator) -> FloatArray:
    import warnings

    from scipy.stats import qmc

    if dimension == 0:
        return np.zeros((count, 0))
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # a number that is no power of two is meant
        found = qmc.Sobol(dimension, scramble=True, seed=rng).random(count)
    return np.asarray(np.clip(found, EDGE, 1.0 - EDGE))


def parted(values: NDArray[Any]) -> NDArray[Any]:
    """Return values (k, …) of a set by parts (parts, k / parts, …)."""
    return values.reshape(PARTS, -1, *values.shape[1:])
