"""Where designs without values lie: beyond a bound of one variable, or beyond a plane, or nowhere in particular.

Every threshold of every variable, and of the direction that tells failed from other designs best (least squares on
±1), is a rule "beyond it designs fail". A rule is believed when most failures lie beyond it, most of what lies beyond
it failed, and chance would do as well less than once in a hundred, all rules tried counted (Fisher's exact test).

Source: R. A. Fisher, "On the interpretation of χ² from contingency tables, and the calculation of P", 1922; "The use
of multiple measurements in taxonomic problems", 1936.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

__all__ = ["FailingRegion", "failing_region"]

FloatArray = NDArray[np.float64]

# Of the failures so many lie beyond a rule, and of what lies beyond it so many failed.
LEAST_COVERED, LEAST_FAILED = 0.6, 0.75
# Chance does as well with less than this probability, all rules tried counted; and there are so many failures.
CHANCE, LEAST_FAILURES = 0.01, 4
# A plane must leave this share of the mistakes that the best bound makes.
PLANE_GAIN = 0.5
RIDGE = 1e-3


@dataclass(frozen=True)
class FailingRegion:
    """The rule Σ `normal`_i x_i >= `bound` in unscaled variables: `failed` of `failures` lie beyond it, and `others`
    designs that have values; no design up to `safe` is beyond it. With one variable it is a bound of that."""

    normal: FloatArray
    bound: float
    safe: float
    failed: int
    failures: int
    others: int

    @property
    def variable(self) -> int | None:
        """Return the one variable that it is a bound of, None for a plane."""
        places = np.flatnonzero(self.normal)
        return int(places[0]) if len(places) == 1 else None


def failing_region(points: FloatArray, failed: NDArray[np.bool_], sizes: FloatArray) -> FailingRegion | None:
    """Return the rule that tells designs (k, n) that failed (k,) from the others, None where there is none to believe;
    `sizes` (n,) of the variables, 0 for those that do not count."""
    count, failures = len(points), int(failed.sum())
    if failures < LEAST_FAILURES or failures == count:
        return None
    used = np.flatnonzero((sizes > 0.0) & (np.ptp(points, axis=0) > 0.0))
    rules = [(place, sign) for place in used.tolist() for sign in (1.0, -1.0)]
    best: FailingRegion | None = None
    for place, sign in rules:
        normal = np.zeros(points.shape[1])
        normal[place] = sign
        best = _better(best, _best_threshold(points, failed, normal, len(rules) * count))
    if len(used) > 1:
        scaled = (points[:, used] - points[:, used].mean(axis=0)) / sizes[used]
        aim = np.where(failed, 1.0, -1.0) / np.where(failed, failures, count - failures)
        gram = scaled.T @ scaled / count + RIDGE * np.eye(len(used))
        normal = np.zeros(points.shape[1])
        normal[used] = np.linalg.solve(gram, scaled.T @ aim) / sizes[used]
        if np.isfinite(normal).all() and normal.any():
            plane = _best_threshold(points, failed, normal / np.abs(normal).max(), len(rules) * count)
            if plane is not None and (best is None or _mistakes(plane) < PLANE_GAIN * _mistakes(best)):
                best = plane
    return best


def _mistakes(found: FailingRegion) -> int:
    return found.failures - found.failed + found.others


def _better(one: FailingRegion | None, other: FailingRegion | None) -> FailingRegion | None:
    if one is None or other is None:
        return one or other
    return one if _mistakes(one) <= _mistakes(other) else other


def _best_threshold(
    points: FloatArray, failed: NDArray[np.bool_], normal: FloatArray, tried: int
) -> FailingRegion | None:
    """Return the best rule along one direction, when it is to be believed."""
    along = points @ normal
    order = np.argsort(-along, kind="stable")
    beyond = np.arange(1, len(order) + 1)
    caught = np.cumsum(failed[order])
    failures = int(failed.sum())
    is_end = np.append(along[order][1:] < along[order][:-1], False)  # a threshold lies between different values
    mistakes = np.where(is_end, (beyond - caught) + (failures - caught), len(order) + 1)
    place = int(np.argmin(mistakes))
    if not is_end[place]:
        return None
    inside, others = int(caught[place]), int(beyond[place] - caught[place])
    if inside < LEAST_COVERED * failures or inside < LEAST_FAILED * (inside + others):
        return None
    if _chance(len(order), failures, inside + others, inside) * tried > CHANCE:
        return None
    nearest, safe = float(along[order][place]), float(along[order][place + 1])
    return FailingRegion(normal, (nearest + safe) / 2.0, safe, inside, failures, others)


def _chance(count: int, failures: int, beyond: int, inside: int) -> float:
    """Return how likely so many failures, or more, lie among `beyond` designs picked by chance."""

    def logs(n: int, k: int) -> float:
        return math.lgamma(n + 1) - math.lgamma(k + 1) - math.lgamma(n - k + 1)

    most, total = min(failures, beyond), logs(count, beyond)
    terms = [
        math.exp(logs(failures, k) + logs(count - failures, beyond - k) - total)
        for k in range(inside, most + 1)
        if beyond - k <= count - failures
    ]
    return math.fsum(terms)
