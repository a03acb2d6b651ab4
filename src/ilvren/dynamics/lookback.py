"""What delayed states take from the part of a course that is behind, for all stages of many segments at once.

A state some time ago lies within an earlier segment, at x = X_0 + h Σ b_j(θ) k_j with θ = (σ − τ_0) / h. Where no event
and no lag of the design moves σ, τ_0 or h, it is linear in X_0 and k_j, with fixed weights: those segments are `still`.
As no step is longer than a lag, segments come in blocks that look at earlier blocks alone.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.dynamics.columns import Columns
    from ilvren.dynamics.course import Course, Given, March
    from ilvren.dynamics.tableau import Tableau

__all__ = ["Behind", "Look", "Lookback"]

FloatArray = NDArray[np.float64]

# Numbers held at once by what stages take from behind.
CHUNK = 4_000_000


class Behind:
    """The states along a course that is still growing."""

    def __init__(self, course: Course) -> None:
        self.course = course
        self.count = 0
        self._arrays: tuple[FloatArray, ...] = ()

    def states(self, sigmas: FloatArray, insides: FloatArray, beginning: FloatArray) -> FloatArray:
        """Return the states (m, n) at earlier shares of the time (m,), each on the side of `insides`; up to 0 those of
        the beginning (n,)."""
        found = np.broadcast_to(beginning, (len(sigmas), len(beginning))).copy()
        own = np.flatnonzero(sigmas > 0.0) if len(self.course) else np.zeros(0, dtype=int)
        if len(own):
            self._take()
            tau0, h, first, k = (array[: self.count] for array in self._arrays)
            at = np.clip(np.searchsorted(tau0, insides[own], side="right") - 1, 0, self.count - 1)
            weights = self.course.tableau.weights_many((sigmas[own] - tau0[at]) / h[at])
            found[own] = first[at] + h[at, None] * np.einsum("ms,msn->mn", weights, k[at])
        return found

    def alone(self, place: int, sigma: float, states: list[int]) -> list[float]:
        """Return some states at one moment within a segment, on plain floats."""
        course = self.course
        h, first, k = course.h[place], course.first[place], course.k[place]
        theta = (sigma - course.tau0[place]) / h
        weights = course.tableau.weights_alone(theta)
        return [float(first[x] + h * sum(w * rates[x] for w, rates in zip(weights, k, strict=True))) for x in states]

    def _take(self) -> None:
        """Take what the course has gained into arrays."""
        course, count = self.course, len(self.course)
        if self.count == count:
            return
        new = slice(self.count, count)
        gained = tuple(np.array(part[new], dtype=float) for part in (course.tau0, course.h, course.first, course.k))
        if not self._arrays or count > len(self._arrays[0]):
            grown = tuple(np.empty((max(2 * count, 64), *part.shape[1:])) for part in gained)
            for array, before in zip(grown, self._arrays, strict=False):
                array[: self.count] = before[: self.count]
            self._arrays = grown
        for array, part in zip(self._arrays, gained, strict=True):
            array[new] = part
        self.count = count


@dataclass(frozen=True)
class Look:
    """Where the stages of all segments find the states of one lag: segments (N, s), −1 for the beginning; what their
    rates weigh there, times the step (N, s, s); places of the numbers, and the flat states that they hold."""

    at: NDArray[np.int64]
    weights: FloatArray
    places: list[int]
    flat: list[int]


class Lookback:
    """What the stages of a course take from behind. `is_still` (N,): neither a segment nor anything it looks at moves;
    `blocks` (first, last + 1) of segments, in order, that look at earlier blocks alone."""

    def __init__(self, march: March, given: Given, course: Course, columns: Columns, is_moved: NDArray[np.bool_]):
        tableau: Tableau = course.tableau
        tau0, h = np.array(course.tau0), np.array(course.h)
        count = len(tau0)
        inside = tau0[:, None] + h[:, None] * np.clip(tableau.c, 1e-9, 1.0 - 1e-9)
        taus = tau0[:, None] + h[:, None] * tableau.c
        self.looks: list[Look] = []
        self.is_still = ~is_moved
        latest = np.full(count, -1)
        for lag in march.layout.rate_lags:
            shift = float(given.lags[lag])
            if columns.lags[lag] >= 0:
                self.is_still[:] = False
            places, flat = march.layout.delayed.get(lag, ([], []))
            if not places:
                continue
            at = np.clip(np.searchsorted(tau0, (inside - shift).ravel(), side="right") - 1, 0, count - 1)
            at = np.where(inside - shift <= 0.0, -1, at.reshape(inside.shape))
            theta = (np.maximum(taus - shift, 0.0) - tau0[at]) / h[at]
            weights = tableau.weights_many(theta.ravel()).reshape(*theta.shape, -1) * h[at][:, :, None]
            weights[at < 0] = 0.0
            self.looks.append(Look(at, weights, places, flat))
            latest = np.maximum(latest, at.max(axis=1))
            self.is_still &= ~(is_moved[at] & (at >= 0)).any(axis=1)
        self.blocks: list[tuple[int, int]] = []
        start = 0
        for place in range(count):
            if latest[place] >= start and place > start:
                self.blocks.append((start, place))
                start = place
        self.blocks.append((start, count))

    def changes(
        self, look: Look, own: NDArray[np.int64], first: FloatArray, k: FloatArray, beginning: FloatArray
    ) -> FloatArray:
        """Return how the delayed states at the stages of segments `own` change (p, s, flat, q), for the changes along
        the course `first` (N, n, q) and `k` (N, s, n, q), and those of the beginning (n, q)."""
        flat, q, s = look.flat, first.shape[-1], k.shape[1]
        found = np.empty((len(own), s, len(flat), q))
        size = max(1, CHUNK // max(s * s * len(flat) * q, 1))
        for begin in range(0, len(own), size):
            part = own[begin : begin + size]
            at = look.at[part]
            mine = first[:, flat][at] + np.einsum("psj,psjfq->psfq", look.weights[part], k[:, :, flat][at])
            found[begin : begin + size] = np.where((at < 0)[..., None, None], beginning[flat], mine)
        return found

    def driven(
        self, slopes: FloatArray, own: NDArray[np.int64], first: FloatArray, k: FloatArray, beginning: FloatArray
    ) -> FloatArray:
        """Return what delayed states add to the right-hand sides (p, s, n, q) of segments `own`."""
        found = np.zeros((len(own), *k.shape[1:]))
        for look in self.looks:
            found += slopes[own][..., look.places] @ self.changes(look, own, first, k, beginning)
        return found

    def back(
        self, slopes: FloatArray, own: NDArray[np.int64], kappa: FloatArray, back_first: FloatArray,
        back_k: FloatArray, beginning: FloatArray,
    ) -> None:  # fmt: skip
        """Give the adjoints κ (p, s, n) of the stages of segments `own` to what their delayed states are made of: the
        states at the starts of segments (N, n), the rates of stages (N, s, n), the states at the beginning (n,)."""
        for look in self.looks:
            nu = np.einsum("psif,psi->psf", slopes[own][..., look.places], kappa)
            at = look.at[own]
            is_first = at < 0
            np.add.at(beginning, look.flat, nu[is_first].sum(axis=0))
            at, nu, weights = at[~is_first], nu[~is_first], look.weights[own][~is_first]  # (m,), (m, flat), (m, s)
            for k, state in enumerate(look.flat):
                np.add.at(back_first[:, state], at, nu[:, k])
                for stage in range(weights.shape[1]):
                    np.add.at(back_k[:, stage, state], at, weights[:, stage] * nu[:, k])
