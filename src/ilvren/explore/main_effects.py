"""Main effects over any set of designs: how a quantity changes, on average, along each variable.

The range of a variable is parted so that each part holds about as many designs; in each

    m_b = mean of y,   e_b = 2 d_b / √k_b                                                                  (1)

d_b being the deviation of the k_b values there: in two parts whose m ± e lie apart, the variable, or what goes with it
in these designs, makes a difference. The share of the variance that the means explain is told less what chance alone
would give,

    1 − (1 − Σ_b k_b (m_b − m)² / Σ (y − m)²) (k − 1)/(k − parts)                                          (2)

Sources: R. A. Fisher, "The design of experiments", 1935; (2): T. L. Kelley, "An unbiased correlation ratio measure",
1935.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

__all__ = ["MainEffect", "main_effect"]

FloatArray = NDArray[np.float64]

# Designs in a part, at least, and parts at most; members each make a part of their own up to so many.
LEAST_IN_PART, MOST_PARTS, MOST_MEMBERS = 6, 8, 12


@dataclass(frozen=True)
class MainEffect:
    """What (1) gives for each part: the middle of its values of the variable (b,), the `mean` and the `error` (b,), the
    number of designs (b,); `share` is (2), NaN where too few designs tell."""

    levels: FloatArray
    mean: FloatArray
    error: FloatArray
    count: NDArray[np.int64]
    share: float


def main_effect(x: FloatArray, y: FloatArray, *, is_listed: bool = False) -> MainEffect | None:
    """Return the main effect of a variable x (k,) on y (k,); designs without values have no share in it. `is_listed`: x
    has members, of which each may be a part. None where there are too few designs, or x does not vary."""
    kept = np.isfinite(x) & np.isfinite(y)
    x, y = x[kept], y[kept]
    own = np.unique(x)
    if len(own) < 2 or len(y) < 2 * LEAST_IN_PART:
        return None
    if len(own) <= (MOST_MEMBERS if is_listed else MOST_PARTS):
        places = np.searchsorted(own, x)
    else:
        parts = min(MOST_PARTS, len(y) // LEAST_IN_PART)
        edges = np.quantile(x, np.linspace(0.0, 1.0, parts + 1)[1:-1])
        places = np.searchsorted(np.unique(edges), x, side="right")
    found = np.unique(places)
    groups = [y[places == part] for part in found]
    levels = np.array([np.median(x[places == part]) for part in found])
    mean, count = np.array([group.mean() for group in groups]), np.array([len(group) for group in groups])
    deviation = np.array([group.std(ddof=1) if len(group) > 1 else np.nan for group in groups])
    total = float(np.square(y - y.mean()).sum())
    share = float("nan")
    if total > 0.0 and len(y) > len(found):
        explained = float((count * (mean - y.mean()) ** 2).sum()) / total
        share = max(0.0, 1.0 - (1.0 - explained) * (len(y) - 1.0) / (len(y) - len(found)))
    return MainEffect(levels, mean, 2.0 * deviation / np.sqrt(count), count, share)
