"""How well a plan covers its box: what an engineer should see before the first evaluation.

`least` is the distance between the two nearest designs, `hole` the radius of the largest ball without one, both in
shares of the box's edge, measured against what as many designs could have at best and have at random; `correlation` the
largest between two variables; `uneven` the centred discrepancy in L2 over that of random designs of as many

    D² = (13/12)^n − 2/k Σ_i Π_j (1 + |z_ij|/2 − z_ij²/2) + 1/k² Σ_i Σ_l Π_j (1 + |z_ij|/2 + |z_lj|/2 − |z_ij − z_lj|/2)

with z = x − 1/2 (below 1: more even than chance).

Source: F. Hickernell, "A generalized discrepancy and quadrature error bound", 1998.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.plans.base import Space

__all__ = ["Quality", "quality"]

FloatArray = NDArray[np.float64]

# Designs looked at for the hole and for pairs, at most, and random plans that D is compared with.
PROBES, MOST_PAIRED, CHANCES = 4000, 2000, 5


@dataclass(frozen=True)
class Quality:
    """See the head of this file; `pair` are the two variables of the largest correlation. NaN where nothing can be
    said. `repeated` designs are there more than once."""

    designs: int
    repeated: int
    least: float
    hole: float
    correlation: float
    pair: tuple[str, str] | None
    uneven: float

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""

        def plain(value: float) -> float | None:
            return value if math.isfinite(value) else None

        return {
            "designs": self.designs,
            "repeated": self.repeated,
            "least_distance": plain(self.least),
            "largest_hole": plain(self.hole),
            "largest_correlation": plain(self.correlation),
            "of": list(self.pair) if self.pair else None,
            "unevenness": plain(self.uneven),
        }


def quality(space: Space, designs: FloatArray) -> Quality:
    """Return how well designs (k, n) cover the box. A sample is looked at where they are many."""
    rng = np.random.default_rng(0)
    shares = space.shares(designs)
    distinct = np.unique(shares, axis=0)
    some = distinct if len(distinct) <= MOST_PAIRED else rng.permutation(distinct)[:MOST_PAIRED]
    least = math.nan
    if len(some) > 1:
        squared = ((some[:, None] - some[None]) ** 2).sum(axis=2) if len(some) * len(some) * space.size < 4e7 else None
        if squared is None:
            squared = np.stack([((some - one) ** 2).sum(axis=1) for one in some])
        np.fill_diagonal(squared, np.inf)
        least = float(np.sqrt(squared.min()))
    probes = space.shares(space.designs(rng.random((PROBES, space.size))))
    nearest = np.full(PROBES, np.inf)
    for one in some:
        nearest = np.minimum(nearest, ((probes - one) ** 2).sum(axis=1))
    hole = float(np.sqrt(nearest.max())) if len(some) else math.nan
    correlation, pair = _correlation(space, shares)
    chance = np.mean([_discrepancy(space.shares(space.designs(rng.random(some.shape)))) for _ in range(CHANCES)])
    uneven = _discrepancy(some) / float(chance) if len(some) and chance > 0.0 else math.nan
    return Quality(len(designs), len(designs) - len(distinct), least, hole, correlation, pair, uneven)


def _correlation(space: Space, shares: FloatArray) -> tuple[float, tuple[str, str] | None]:
    moving = np.flatnonzero(shares.std(axis=0) > 1e-12) if len(shares) else np.zeros(0, dtype=int)
    if len(moving) < 2 or len(shares) < 3:
        return math.nan, None
    found = np.abs(np.corrcoef(shares[:, moving].T))
    np.fill_diagonal(found, 0.0)
    i, j = np.unravel_index(int(np.argmax(found)), found.shape)
    return float(found[i, j]), (space.names[moving[i]], space.names[moving[j]])


def _discrepancy(x: FloatArray) -> float:
    k, n = x.shape
    z = np.abs(x - 0.5)
    first = (13.0 / 12.0) ** n
    second = 2.0 / k * float(np.prod(1.0 + 0.5 * z - 0.5 * z**2, axis=1).sum())
    third = 0.0
    for one, own in zip(x, z, strict=True):
        third += float(np.prod(1.0 + 0.5 * own + 0.5 * z - 0.5 * np.abs(one - x), axis=1).sum())
    return math.sqrt(max(first - second + third / k**2, 0.0))
