"""The space that populations live in: continuous variables as they are, spaced and catalogue ones by member number."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Reply, Task
from ilvren.methods.pieces.ranking import judged, order
from ilvren.records import dataclass

__all__ = ["Coding", "spread"]

FloatArray = NDArray[np.float64]

# Where a bound is missing, the first designs lie within this many sizes of the start; for members, so many steps.
REACH, STEP_REACH = 10.0, 20.0


@dataclass(frozen=True)
class Coding:
    """`lower`, `upper` (n,) the bounds of codes, infinite where there are none; `box_lower`, `box_upper` (n,) the
    finite box in which first designs are drawn; `start` (n,) the code of the start; `is_discrete` (n,)."""

    task: Task
    lower: FloatArray
    upper: FloatArray
    box_lower: FloatArray
    box_upper: FloatArray
    start: FloatArray
    is_discrete: NDArray[np.bool_]

    @classmethod
    def of(cls, task: Task) -> Coding:
        """Return the coding of a task's variables."""
        lower, upper, start = task.lower.copy(), task.upper.copy(), task.start.copy()
        reach = np.full(len(start), REACH)
        for place, grid in enumerate(task.grids):
            if grid is not None:
                start[place] = grid.indices(start[place : place + 1])[0]
                lower[place], upper[place], reach[place] = 0.0, grid.count - 1.0, STEP_REACH
        with np.errstate(over="ignore"):
            is_far = ~(upper - lower < 1e9 * reach)  # a bound that only keeps numbers finite says nothing of size
        low = np.where(np.isfinite(lower) & ~is_far, lower, np.maximum(start - reach, lower))
        high = np.where(np.isfinite(upper) & ~is_far, upper, np.minimum(start + reach, upper))
        # One finite bound: as far beyond the start as the start is from it, or the usual reach.
        span = np.maximum(reach, 2.0 * np.abs(start - np.where(np.isfinite(low), low, start)))
        high = np.where(np.isfinite(task.upper) & ~is_far, high, np.minimum(np.maximum(high, low + span), upper))
        return cls(task, lower, upper, low, high, start, task.is_discrete)

    def decoded(self, codes: FloatArray) -> FloatArray:
        """Return the designs (k, n) of codes (k, n): within the bounds, and on the grids."""
        points = np.clip(codes, self.lower, self.upper)
        for place, grid in enumerate(self.task.grids):
            if grid is not None:
                points[:, place] = grid.values(points[:, place])
        return points

    def rounded(self, codes: FloatArray) -> FloatArray:
        """Return codes (k, n) within the bounds, whole for members."""
        kept = np.clip(codes, self.lower, self.upper)
        return np.where(self.is_discrete, np.rint(kept), kept) if self.is_discrete.any() else kept

    @property
    def is_unordered(self) -> NDArray[np.bool_]:
        """Return (n,): which variables are choices, whose members are all neighbours of each other."""
        found = np.zeros(len(self.lower), dtype=bool)
        for place, grid in enumerate(self.task.grids):
            found[place] = grid is not None and grid.is_unordered
        return found

    def elsewhere(self, codes: FloatArray, columns: NDArray[np.int64], rng: np.random.Generator) -> FloatArray:
        """Return other members of choices, any with the same chance, for codes (k,) of variables `columns` (k,)."""
        counts = self.upper[columns] + 1.0
        moves = 1.0 + np.floor(rng.random(len(codes)) * np.maximum(counts - 1.0, 1.0))
        return np.asarray((codes + moves) % counts, dtype=np.float64)

    @property
    def widths(self) -> FloatArray:
        """Return (n,): the widths of the box."""
        return np.maximum(self.box_upper - self.box_lower, 1e-300)


def _with_known(coding: Coding, codes: FloatArray) -> FloatArray:
    """Return codes with up to half of them, the last ones, exchanged for known designs within the box: half of those
    the best, the others evenly through the ranking, so that they are not all from one place."""
    task = coding.task
    if task.known is None:
        return codes
    own = task.known.points.copy()
    for place, grid in enumerate(task.grids):
        if grid is not None:
            own[:, place] = grid.indices(own[:, place])
    inside = ((own >= coding.box_lower) & (own <= coding.box_upper)).all(axis=1) & (own != coding.start).any(axis=1)
    f, v = judged(task, Reply(task.known.objective[inside], task.known.rows[inside]))
    own = own[inside][order(f, v)]
    room = min((len(codes) - 1) // 2, len(own))
    best = (room + 1) // 2
    later = np.linspace(best, len(own) - 1, room - best).astype(np.int64) if room > best else np.zeros(0, np.int64)
    chosen = np.unique(np.concatenate([np.arange(best), later]))
    return np.vstack([codes[: len(codes) - len(chosen)], own[chosen]])


def spread(coding: Coding, count: int, rng: np.random.Generator) -> FloatArray:
    """Return codes (count, n), the start first, the others a Latin hypercube over the box (M. McKay, R. Beckman,
    W. Conover, "A comparison of three methods for selecting values of input variables", 1979); known designs take
    the places of some."""
    n = len(coding.start)
    if count <= 1:
        return coding.start[np.newaxis].copy()
    strata = np.argsort(rng.random((n, count - 1)), axis=1).T
    shares = (strata + rng.random((count - 1, n))) / (count - 1)
    low = np.where(coding.is_discrete, coding.box_lower - 0.5, coding.box_lower)
    high = np.where(coding.is_discrete, coding.box_upper + 0.5, coding.box_upper)
    return _with_known(coding, np.vstack([coding.start, coding.rounded(low + shares * (high - low))]))
