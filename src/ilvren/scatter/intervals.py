"""95 % intervals from the ten parts of a set of scenarios.

Means of parts are independent and alike, so that Student's law with nine degrees of freedom holds of their mean. Few
misses make poor means: their share has the exact interval of independent scenarios, which the set does not exceed.

Sources: Student, "The probable error of a mean", 1908; C. Clopper, E. Pearson, "The use of confidence or fiducial
limits illustrated in the case of the binomial", 1934; A. Owen, "Scrambled net variance for integrals of smooth
functions", 1997.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

__all__ = ["Interval", "mean_interval", "share_interval", "student_factor"]

FloatArray = NDArray[np.float64]

# Student's law with this many degrees of freedom: half of a two-sided interval of 95 %.
_STUDENT = {9: 2.2621571628}
# Fewer hits, or fewer misses, than this have the exact interval.
FEW = 30


@dataclass(frozen=True)
class Interval:
    """A value and the ends of its 95 % interval."""

    value: float
    low: float
    high: float


def student_factor(degrees: int) -> float:
    """Return half of Student's two-sided interval of 95 %, in standard errors."""
    if degrees in _STUDENT:
        return _STUDENT[degrees]
    from scipy.special import stdtrit

    return float(stdtrit(degrees, 0.975))


def mean_interval(means: FloatArray) -> Interval:
    """Return the mean of means (parts,) of independent parts; no interval (NaN) of one part."""
    means = np.asarray(means, dtype=float)
    value = float(means.mean()) if len(means) else float("nan")
    if len(means) < 2:
        return Interval(value, float("nan"), float("nan"))
    half = student_factor(len(means) - 1) * float(means.std(ddof=1)) / len(means) ** 0.5
    return Interval(value, value - half, value + half)


def share_interval(hits: FloatArray) -> Interval:
    """Return the share of hits: booleans (parts, k)."""
    hits = np.asarray(hits, dtype=bool)
    count, total = int(hits.sum()), hits.size
    if min(count, total - count) >= FEW:
        found = mean_interval(hits.mean(axis=1))
        return Interval(found.value, max(found.low, 0.0), min(found.high, 1.0))
    from scipy.special import betaincinv

    low = 0.0 if count == 0 else float(betaincinv(count, total - count + 1, 0.025))
    high = 1.0 if count == total else float(betaincinv(count + 1, total - count, 0.975))
    return Interval(count / total, low, high)
