"""The best designs evaluated so far, under the rule for reported designs, and when they last improved."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

__all__ = ["Incumbent", "Incumbents"]

FloatArray = NDArray[np.float64]

# Designs kept for the table of a live view.
MOST_LEADERS = 5


@dataclass(frozen=True, eq=False)
class Incumbent:
    """A design (n,) with its internal objective, violation and the number of its evaluation."""

    objective: float
    violation: float
    number: int
    point: FloatArray


class Incumbents:
    """`feasible` is the best feasible design, `least` the one with the least violation, `top` the few best feasible
    ones, best first; ties go to the smaller violation, then to the earlier.

    `progress_at` is the number of the evaluation that last improved on the best by more than the `tolerance` times
    the objective's size, or, while nothing is feasible, on the least violation by that share."""

    def __init__(self, feasibility: float, tolerance: float) -> None:
        self._feasibility = feasibility
        self._tolerance = tolerance
        self.feasible: Incumbent | None = None
        self.least: Incumbent | None = None
        self.top: tuple[Incumbent, ...] = ()
        self.progress_at = 0
        self._mark = (math.inf, math.inf)

    @property
    def progress(self) -> tuple[int, float, float]:
        """Return (`progress_at`, the best objective and the least violation that count as progress so far)."""
        return self.progress_at, *self._mark

    @progress.setter
    def progress(self, kept: tuple[int, float, float]) -> None:
        self.progress_at, self._mark = kept[0], (kept[1], kept[2])

    @property
    def numbers(self) -> list[int]:
        """Return the numbers of the best design and of the one with the least violation."""
        return [incumbent.number for incumbent in (self.feasible, self.least) if incumbent is not None]

    def note(self, points: FloatArray, objective: FloatArray, violation: FloatArray, first: int) -> None:
        """Take designs (k, n) that may be reported, all finite, whose evaluations are numbered `first` and on; those
        with an infinite violation are passed over."""
        least = int(np.argmin(violation))
        if violation[least] < (math.inf if self.least is None else self.least.violation):
            self.least = self._incumbent(points, objective, violation, first, least)
        feasible = (violation <= self._feasibility).nonzero()[0]
        if len(feasible):
            limit = self.top[-1].objective if len(self.top) == MOST_LEADERS else math.inf
            rising = feasible[objective[feasible] <= limit]
            if len(rising) > 1:
                rising = rising[np.lexsort((rising, violation[rising], objective[rising]))[:MOST_LEADERS]]
            if len(rising):
                self._rise([self._incumbent(points, objective, violation, first, int(i)) for i in rising])
        self._mark_progress()

    @staticmethod
    def _incumbent(
        points: FloatArray, objective: FloatArray, violation: FloatArray, first: int, place: int
    ) -> Incumbent:
        return Incumbent(float(objective[place]), float(violation[place]), first + place, points[place].copy())

    def _rise(self, found: list[Incumbent]) -> None:
        joined = sorted([*self.top, *found], key=lambda item: (item.objective, item.violation, item.number))
        distinct: dict[bytes, Incumbent] = {}
        for item in joined:
            distinct.setdefault(item.point.tobytes(), item)
        self.top = tuple(distinct.values())[:MOST_LEADERS]
        self.feasible = self.top[0]

    def _mark_progress(self) -> None:
        best, violation = self._mark
        if self.feasible is not None:
            now = self.feasible.objective
            if not best - now > self._tolerance * max(abs(now), abs(best) if math.isfinite(best) else 0.0):
                return
            self._mark, self.progress_at = (now, 0.0), self.feasible.number
        elif self.least is not None and self.least.violation < (1.0 - self._tolerance) * violation:
            self._mark, self.progress_at = (best, self.least.violation), self.least.number
