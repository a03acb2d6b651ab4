"""Plans that go on: Sobol' points, scrambled, and independent random ones.

Source: I. Sobol', "On the distribution of points in a cube and the approximate evaluation of integrals", 1967;
scrambled as by A. Owen, "Randomly permuted (t, m, s)-nets and (t, s)-sequences", 1995, with direction numbers of
S. Joe, F. Kuo,
"Constructing Sobol sequences with better two-dimensional projections", 2008 (all of SciPy's `stats.qmc`).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ilvren.plans.base import Plan, PlanError, Sampled, Space
from ilvren.records import dataclass

__all__ = ["RANDOM", "SOBOL", "NoOptions"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class NoOptions:
    """These plans have none."""


def _sobol_shares(n: int, first: int, count: int, rng: np.random.Generator) -> FloatArray:
    import warnings

    from scipy.stats import qmc

    if n > 21201:
        raise PlanError(f"Sobol' points have at most 21,201 variables, not {n:,}", "random")
    engine = qmc.Sobol(n, scramble=True, seed=rng)
    if first:
        engine.fast_forward(first)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # that the count is no power of two is told by ourselves
        return np.asarray(engine.random(count))


def sobol(space: Space, points: int | None, rng: np.random.Generator, options: NoOptions) -> Sampled:
    """Return the first `points` of the sequence."""
    count = points or 1 << (10 * space.size - 1).bit_length()
    notes: tuple[str, ...] = ()
    if count & (count - 1):
        near = 1 << count.bit_length()
        notes = (
            f"{count} is no power of two: with {near // 2} or {near} designs every part of the box gets its share",
        )
    return Sampled(space.designs(_sobol_shares(space.size, 0, count, rng)), notes)


def more_sobol(
    space: Space, existing: FloatArray, points: int, rng: np.random.Generator, options: NoOptions
) -> Sampled:
    """Return the next points of the sequence, `rng` being what it was begun with. Shapes: existing (k, n), of the
    result (points, n)."""
    return Sampled(space.designs(_sobol_shares(space.size, len(existing), points, rng)))


def random(space: Space, points: int | None, rng: np.random.Generator, options: NoOptions) -> Sampled:
    """Return independent designs, uniform over the box."""
    return Sampled(space.designs(rng.random((points or 10 * space.size, space.size))))


def more_random(
    space: Space, existing: FloatArray, points: int, rng: np.random.Generator, options: NoOptions
) -> Sampled:
    """Return further independent designs."""
    rng.random((len(existing), space.size))  # those that are there
    return Sampled(space.designs(rng.random((points, space.size))))


SOBOL = Plan(
    "sobol",
    "a sequence that fills the box ever more finely",
    "integrals and variance shares; plans that grow",
    NoOptions,
    sobol,
    more_sobol,
    is_random=True,
)
RANDOM = Plan(
    "random",
    "independent designs, uniform over the box",
    "tests of other plans; points never fitted",
    NoOptions,
    random,
    more_random,
    is_random=True,
)
