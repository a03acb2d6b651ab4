"""Importance sampling around design points: rare misses from few evaluations.

Scenarios are drawn around the points u_i* where a limit is first missed, at the distances β_i in the directions α_i:
along α_i in a mixture of what lies beyond a plane limit and of a normal density moved to u_i*, which finds what a limit
that bends misses on this side of the plane; across α_i as they are distributed, or wider where the limit bends towards
the origin there. With v = α_i·u, and u⊥ what is across,

    q(u) = Σ w_i q_i(v) p_i(u⊥)                                                                       (1)
    q_i(v) = a β_i exp(−β_i (v − β_i)) [v > β_i] + (1 − a) φ(v − β_i)                                 (2)
    p_i(u⊥) = b N(0, C_i) + (1 − b) N(0, I)                                                           (3)

with w_i what each point alone would miss, and a miss counting φ(u)/q(u). A third of the scenarios goes first, in a C of
2.5 times I, and tells C_i: the covariance of its misses across, drawn to I where they are few. The others, ten
independent randomisations of a space-filling sequence, tell the share and its interval, whose upper end is one of
logarithms: rare large weights make it skew.

Sources: R. E. Melchers, "Importance sampling in structural systems", 1989; T. Hesterberg, "Weighted average importance
sampling and defensive mixture distributions", 1995; R. Rubinstein, "The cross-entropy method for combinatorial and
continuous optimization", 1999 (C from misses); A. Owen, "Scrambled net variance for integrals of smooth functions",
1997.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass
from ilvren.scatter.intervals import mean_interval, share_interval
from ilvren.scatter.sets import PARTS, parted, scenario_normals

if TYPE_CHECKING:
    from ilvren.scatter.reliability import DesignPoint

__all__ = ["RareShare", "importance_share"]

FloatArray = NDArray[np.float64]

# a of (2), and b of (3), in the first round and after it.
BEYOND, WIDE_FIRST, WIDE = 0.6, 0.5, 0.8
# The first round's part of all scenarios, how wide it is across, and the widest that it may find.
FIRST, FIRST_WIDTH, WIDEST = 1.0 / 3.0, 2.5, 12.0
ROOT_TWO_PI = math.sqrt(2.0 * math.pi)


@dataclass(frozen=True)
class RareShare:
    """A share of misses with its 95 % interval, and how many scenarios told it; `invalid` of them had no value, and
    count as misses."""

    share: float
    low: float
    high: float
    evaluations: int
    invalid: int


@dataclass(frozen=True)
class _Component:
    """One design point's part of (1): `basis` (n, n - 1) spans what is across, where N(0, C) has the variances
    `widths` (n - 1,), `part` being b."""

    weight: float
    distance: float
    direction: FloatArray
    basis: FloatArray
    widths: FloatArray
    part: float

    def drawn(self, normals: FloatArray, along: FloatArray, across: FloatArray) -> FloatArray:
        """Return scenarios (k, n) from normal numbers (k, n) and two shares (k,) that choose within (2) and (3)."""
        from scipy.special import ndtr

        t = normals @ self.direction
        is_beyond = along < self._beyond
        rest = normals @ self.basis
        rest = np.where((across < self.part)[:, np.newaxis], rest * np.sqrt(self.widths), rest)
        v = np.where(is_beyond, self.distance - np.log(ndtr(-t)) / max(self.distance, 1.0), self.distance + t)
        return v[:, np.newaxis] * self.direction + rest @ self.basis.T

    def against_normal(self, u: FloatArray) -> FloatArray:
        """Return q_i p_i over φ (k,)."""
        v, rest = u @ self.direction, u @ self.basis
        rate = max(self.distance, 1.0)
        log_beyond = math.log(rate * ROOT_TWO_PI) - rate * np.clip(v - self.distance, 0.0, None) + 0.5 * v * v
        log_moved = self.distance * v - 0.5 * self.distance**2
        beyond = np.where(v > self.distance, np.exp(np.minimum(log_beyond, 600.0)), 0.0)
        along = self._beyond * beyond + (1.0 - self._beyond) * np.exp(np.minimum(log_moved, 600.0))
        log_wide = 0.5 * (rest**2 @ (1.0 - 1.0 / self.widths)) - 0.5 * np.log(self.widths).sum()
        return np.asarray(along * (self.part * np.exp(np.minimum(log_wide, 600.0)) + 1.0 - self.part))

    @property
    def _beyond(self) -> float:
        """Return a: near the origin the moved normal density alone does."""
        return BEYOND if self.distance > 1.0 else 0.0


def importance_share(
    values: Callable[[FloatArray], FloatArray], points: Sequence[DesignPoint], count: int, seed: int
) -> RareShare:
    """Return the share of scenarios with values <= 0, `values` of many (k, n) being (k,), from `count` of them around
    design points."""
    if points[0].index <= 0.0:  # missed at the origin: scenarios as they are distributed tell it best
        return _counted(values, len(points[0].u), count, seed)
    likely = np.array([max(point.share, 1e-300) for point in points])
    components = [_first(point, weight) for point, weight in zip(points, likely / likely.sum(), strict=True)]
    early = max(PARTS, int(FIRST * count))
    u, whose = _drawn(components, early, seed + 1)
    is_missed = _missed(values(u))
    ratio = 1.0 / np.maximum(_against_normal(components, u), 1e-300)
    components = [
        _adapted(one, u[own], ratio[own]) for k, one in enumerate(components) for own in [is_missed & (whose == k)]
    ]
    u, _ = _drawn(components, max(PARTS, count - early), seed)
    found = values(u)
    ratio = 1.0 / np.maximum(_against_normal(components, u), 1e-300)
    misses = _missed(found)
    told = mean_interval(np.where(misses, ratio, 0.0).reshape(PARTS, -1).mean(axis=1))
    high = 3.0 * float(likely.sum())
    if told.value > 0.0:
        high = told.value * math.exp(min((told.high - told.value) / told.value, 5.0))
    invalid = int((~np.isfinite(found)).sum())
    return RareShare(told.value, max(told.low, 0.0), min(high, 1.0), early + len(u), invalid)


def _counted(values: Callable[[FloatArray], FloatArray], dimension: int, count: int, seed: int) -> RareShare:
    found = values(scenario_normals(dimension, count, seed))
    told = share_interval(parted(_missed(found)))
    return RareShare(told.value, told.low, told.high, len(found), int((~np.isfinite(found)).sum()))


def _missed(values: FloatArray) -> NDArray[np.bool_]:
    return ~np.isfinite(values) | (values <= 0.0)


def _first(point: DesignPoint, weight: float) -> _Component:
    distance, n = float(np.linalg.norm(point.u)), len(point.u)
    direction = (
        point.u / distance if distance > 1e-9 else -point.slope / max(float(np.linalg.norm(point.slope)), 1e-300)
    )
    basis = np.linalg.qr(np.column_stack([direction, np.eye(n)]))[0][:, 1:n]
    widths, part = np.full(n - 1, FIRST_WIDTH), WIDE_FIRST if n > 1 else 0.0
    return _Component(weight, distance, direction, basis, widths, part)


def _adapted(component: _Component, u: FloatArray, ratio: FloatArray) -> _Component:
    """Return a component as wide across as its misses (k, n), which count `ratio` (k,), lie there."""
    dimension = component.basis.shape[1]
    if not dimension or len(u) < 2:
        return replace(component, widths=np.ones(dimension), part=0.0)
    shares = ratio / ratio.sum()
    rest = u @ component.basis
    covariance = (rest * shares[:, np.newaxis]).T @ rest
    known = 1.0 / float((shares**2).sum())
    drawn = np.eye(dimension) + known / (known + dimension) * (covariance - np.eye(dimension))
    widths, vectors = np.linalg.eigh(drawn)
    if not widths[-1] > 1.2:
        return replace(component, widths=np.ones(dimension), part=0.0)
    return replace(component, basis=component.basis @ vectors, widths=np.clip(1.2 * widths, 1.0, WIDEST), part=WIDE)


def _drawn(components: Sequence[_Component], count: int, seed: int) -> tuple[FloatArray, NDArray[np.int64]]:
    """Return scenarios of (1), and which component each is of."""
    from scipy.special import ndtr

    dimension = len(components[0].direction)
    normals = scenario_normals(dimension + 3, count, seed)
    choices = ndtr(normals[:, dimension:])
    edges = np.cumsum([one.weight for one in components])
    whose = np.minimum(np.searchsorted(edges, choices[:, 2]), len(components) - 1)
    u = np.empty((len(normals), dimension))
    for k, one in enumerate(components):
        own = whose == k
        u[own] = one.drawn(normals[own, :dimension], choices[own, 0], choices[own, 1])
    return u, whose


def _against_normal(components: Sequence[_Component], u: FloatArray) -> FloatArray:
    return np.asarray(sum(one.weight * one.against_normal(u) for one in components))
