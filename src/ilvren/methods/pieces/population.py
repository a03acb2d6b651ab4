"""A population of designs, and when it has come to rest."""

from __future__ import annotations

from collections.abc import Generator
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Ending, Request, Task
from ilvren.methods.pieces.descent import RUNS_AWAY
from ilvren.methods.pieces.ranking import best_place, judged, order
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.methods.pieces.coding import Coding

__all__ = ["Population", "Rest", "first_population", "rest_of"]

FloatArray = NDArray[np.float64]

# At rest the values differ by this share of the tolerance, relative to the size of f (at least this share of the
# spread of the first generation), and the designs by the root of the tolerance.
VALUE_SHARE, LEAST_SIZE_SHARE = 1e-2, 1e-5
# Designs this close, relative to the size of a variable, are one.
SAME_DESIGN = 1e-10
# A feasible value so many times the first generation's below zero is no end, but a fall without one.
UNBOUNDED_FACTOR = 1e14
# A best design so many widths of the first generation away has run away.
FAR_WIDTHS = 100.0
ENDLESS = Ending("unbounded", "the objective falls without end at feasible designs")


@dataclass(frozen=True)
class Population:
    """Codes and designs (k, n) with f (k,) and violations v (k,)."""

    codes: FloatArray
    x: FloatArray
    f: FloatArray
    v: FloatArray

    @property
    def best(self) -> int:
        """Return the place of the best design."""
        return best_place(self.f, self.v)

    @property
    def extent(self) -> float:
        """Return the largest range of a variable."""
        return float(np.max(self.x.max(axis=0) - self.x.min(axis=0), initial=0.0))

    def taken(self, places: NDArray[np.int64]) -> Population:
        """Return the members at these places. `places` are (count,)."""
        return Population(self.codes[places], self.x[places], self.f[places], self.v[places])

    def sorted(self, level: float = 0.0) -> Population:
        """Return the members from the best to the worst."""
        return self.taken(order(self.f, self.v, level))

    def joined(self, other: Population) -> Population:
        """Return the members of both."""
        return Population(
            np.vstack([self.codes, other.codes]),
            np.vstack([self.x, other.x]),
            np.concatenate([self.f, other.f]),
            np.concatenate([self.v, other.v]),
        )

    def replaced(
        self, where: NDArray[np.bool_], codes: FloatArray, x: FloatArray, f: FloatArray, v: FloatArray
    ) -> Population:
        """Return the population with members replaced by others in the same places. Shapes: where, f and v (k,), codes
        and x (k, n)."""
        column = where[:, np.newaxis]
        return Population(
            np.where(column, codes, self.codes),
            np.where(column, x, self.x),
            np.where(where, f, self.f),
            np.where(where, v, self.v),
        )


def first_population(task: Task, coding: Coding, codes: FloatArray) -> Generator[Request, Any, Population | None]:
    """Evaluate the first designs; None where not one is finite."""
    points = coding.decoded(codes)
    reply = yield Request(points)
    f, v = judged(task, reply)
    return Population(codes, points, f, v) if np.isfinite(f).any() else None


@dataclass(frozen=True)
class Rest:
    """When a population that began with values of the size `least_size`, around `centre` (n,) over `widths` (n,), has
    come to rest, to a `tolerance`; a value below `floor` is no end."""

    tolerance: float
    least_size: float
    floor: float
    centre: FloatArray
    widths: FloatArray

    def runaway(self, now: Population) -> Ending | None:
        """Return the ending of a population whose best feasible design lies so low that there seems to be no end, or so
        far from where the first ones were that a bound may be missing; else None."""
        place = now.best
        if now.v[place] == 0.0 and now.f[place] < self.floor:
            return ENDLESS
        is_far = bool((np.abs(now.x[place] - self.centre) > FAR_WIDTHS * self.widths).any())
        return Ending("stalled", RUNS_AWAY) if is_far else None

    def is_reached(self, now: Population) -> bool:
        """Return whether values and designs have come together."""
        low, high = float(now.f.min()), float(now.f.max())
        level = VALUE_SHARE * self.tolerance * max(abs(low), self.least_size)
        if not high - low <= level and high > low:  # designs that are one have one value
            return False
        widths = now.x.max(axis=0) - now.x.min(axis=0)
        sizes = np.maximum(1.0, np.abs(now.x).max(axis=0))
        if (widths <= SAME_DESIGN * sizes).all():
            return True
        if not np.isfinite(now.f).all() or now.v.max() > 0.0:
            return False
        return high - low <= level and bool((widths <= np.sqrt(self.tolerance) * sizes).all())

    def ending(self, now: Population) -> Ending:
        """Return what a population at rest comes to."""
        if now.v[now.best] > 0.0:
            return Ending("stalled", "the population has come to rest at designs that miss a limit")
        return Ending("settled", "the population has come to rest, which is no proof that nothing better exists")


def rest_of(task: Task, first: Population) -> Rest:
    """Return the rest of a population that begins as `first`."""
    finite = first.f[np.isfinite(first.f)]
    spread = float(np.subtract(*np.percentile(finite, [75, 25]))) if len(finite) > 1 else 0.0
    largest = float(np.abs(finite).max(initial=0.0))
    floor = min(-UNBOUNDED_FACTOR * max(largest, 1e-12), task.low)
    centre, widths = first.x.mean(axis=0), first.x.max(axis=0) - first.x.min(axis=0)
    return Rest(task.tolerance, max(LEAST_SIZE_SHARE * spread, 1e-12), floor, centre, np.maximum(widths, 1e-300))
