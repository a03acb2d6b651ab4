"""The feasible designs of a run that nothing dominates, as they are evaluated."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import dominated_by, hypervolume, nondominated, spread_subset
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.problem import Sense

__all__ = ["Archive", "FrontNow"]

FloatArray = NDArray[np.float64]

# Designs kept; beyond so many those go that lose least. An interim volume of two objectives is told of all, of more of
# so many.
MOST_KEPT, TRIMMED, MOST_MEASURED_OF_MANY = 6000, 4000, 120
# A front whose volume grows by less than this share makes no progress.
PROGRESS = 1e-4


@dataclass(frozen=True)
class FrontNow:
    """What a live view tells: how many `points`, the share of the box between ideal and nadir that they dominate, and
    the largest gap between neighbours over the box (two objectives; else NaN)."""

    points: int
    share: float
    gap: float


class Archive:
    """`values` (k, p) minimized, `points` (k, n), `numbers` and `violations` (k,) of the front of all designs noted.
    `is_trimmed`: there were more than are kept."""

    def __init__(self, sense: Sense, size: int, feasibility: float) -> None:
        self.sense = sense
        self._feasibility = feasibility
        p = len(sense.objectives)
        self.values = np.zeros((0, p))
        self.points = np.zeros((0, size))
        self.numbers = np.zeros(0, dtype=np.int64)
        self.violations = np.zeros(0)
        self.is_trimmed = False
        self.progress_at = 0
        self._volume, self._corner = 0.0, np.full(p, np.nan)

    def __len__(self) -> int:
        return len(self.values)

    def note(self, points: FloatArray, rows: FloatArray, violations: FloatArray, first: int) -> None:
        """Take designs (k, n) whose evaluations are numbered `first` and on."""
        use = self.joining(rows, violations)
        if not len(use):
            return
        values = self.sense.minimized(rows[use])
        kept = ~dominated_by(self.values, values) if len(self.values) else np.zeros(0, dtype=bool)
        self.values = np.vstack([self.values[kept], values])
        self.points = np.vstack([self.points[kept], points[use]])
        self.numbers = np.concatenate([self.numbers[kept], first + use])
        self.violations = np.concatenate([self.violations[kept], violations[use]])
        if len(self.values) > MOST_KEPT:
            self._trim()

    def joining(self, rows: FloatArray, violations: FloatArray) -> NDArray[np.int64]:
        """Return the places of the designs with rows (k, m) that would join the front; of equal ones the earliest."""
        use = np.flatnonzero(violations <= self._feasibility)
        values = self.sense.minimized(rows[use])
        if len(values) and len(self.values):
            is_new = ~dominated_by(values, self.values)
            use, values = use[is_new], values[is_new]
        own = np.flatnonzero(nondominated(values))
        use, values = use[own], values[own]
        if len(values):
            _, once = np.unique(values, axis=0, return_index=True)
            once.sort()
            use, values = use[once], values[once]
        if len(values) and len(self.values):  # equal values are one: the earlier design stays
            is_known = (values[:, np.newaxis] == self.values[np.newaxis]).all(axis=2).any(axis=1)
            use = use[~is_known]
        return use

    def foremost(self) -> Archive:
        """Return what is best in the objectives that have priority; all of it where none has."""
        if len(self.sense.levels) < 2 or not len(self):
            return self
        found = Archive(self.sense, self.points.shape[1], self._feasibility)
        kept = self.sense.foremost(self.values)
        last = list(self.sense.levels[-1])
        kept &= nondominated(np.where(kept[:, np.newaxis], self.values[:, last], np.nan))
        found.values, found.points = self.values[kept], self.points[kept]
        found.numbers, found.violations = self.numbers[kept], self.violations[kept]
        found.is_trimmed = self.is_trimmed
        return found

    def note_progress(self) -> None:
        """Find out whether the front has grown since this was last asked."""
        if not len(self.values):
            return
        high, low = self.values.max(axis=0), self.values.min(axis=0)
        if not np.isfinite(self._corner).all() or (high > self._corner).any():
            self._corner = high + 0.1 * np.where(high > low, high - low, 1.0)
            self._volume = 0.0
        volume = hypervolume(self._some(), self._corner)
        if volume > (1.0 + PROGRESS) * self._volume:
            self._volume, self.progress_at = volume, int(self.numbers.max())

    def _trim(self) -> None:
        kept = spread_subset(self.values, TRIMMED)
        self.is_trimmed = True
        self.values, self.points = self.values[kept], self.points[kept]
        self.numbers, self.violations = self.numbers[kept], self.violations[kept]

    def _some(self) -> FloatArray:
        most = MOST_KEPT if self.values.shape[1] == 2 else MOST_MEASURED_OF_MANY
        return self.values if len(self.values) <= most else self.values[spread_subset(self.values, most)]

    @property
    def now(self) -> FrontNow:
        """Return what a live view tells."""
        if len(self.values) < 2:
            return FrontNow(len(self.values), np.nan, np.nan)
        own = self._some()
        low, high = own.min(axis=0), own.max(axis=0)
        scaled = (own - low) / np.where(high > low, high - low, 1.0)
        share = hypervolume(scaled, np.ones(own.shape[1])) if own.shape[1] <= 3 else np.nan
        gap = np.nan
        if own.shape[1] == 2:
            steps = np.diff(scaled[np.argsort(scaled[:, 0])], axis=0)
            gap = float(np.linalg.norm(steps, axis=1).max(initial=0.0))
        return FrontNow(len(self.values), share, gap)
