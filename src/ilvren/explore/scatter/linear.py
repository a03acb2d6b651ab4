"""How a design scatters by its slopes alone: no further evaluations, and exact where everything is linear and normal.

    mean = f + g·(E x − x),   deviation = |S|,   S = Σ g σ of the independent numbers                (1)
    share of misses = Φ(−(u − mean)/deviation) + Φ(−(mean − l)/deviation)                            (2)

Source: C. F. Gauss, "Theoria combinationis observationum erroribus minimis obnoxiae", 1823 (propagation of errors).
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.explore.scatter.case import ScatterCase
    from ilvren.explore.scatter.drivers import Drivers

__all__ = ["Linear", "linear"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Linear:
    """`mean`, `deviation` and `misses` (outputs,), NaN where there are no slopes; `parts` (outputs, dimension): what
    each independent number moves by one."""

    mean: FloatArray
    deviation: FloatArray
    misses: FloatArray
    parts: FloatArray

    def drivers(self, case: ScatterCase) -> Drivers:
        """Return each name's share of the variance; alone and in all are the same."""
        found: Drivers = {}
        for k, output in enumerate(case.outputs):
            variance = self.deviation[k] ** 2
            if not variance > 0.0:
                continue
            shares = {
                name: float((self.parts[k, place] ** 2).sum() / variance)
                for name, place in case.scattered.dependence.slices.items()
            }
            found[output.name] = {name: (share, share) for name, share in shares.items()}
        return found


def linear(case: ScatterCase) -> Linear:
    """Return what the slopes at the design tell."""
    values, slopes = case.nominal_slopes()
    mean = values.copy()
    moved = {}
    for item in case.scattered.quantities:
        own = slopes[item.name]
        shift = (item.mean - item.value).ravel()
        if shift.any():
            mean = mean + own @ shift
        each = own * item.deviation.ravel()
        moved[item.name] = each.sum(axis=1, keepdims=True) if item.is_common else each
    parts = case.scattered.dependence.vjp(moved)
    deviation = np.sqrt((parts**2).sum(axis=1))
    misses = np.array([_misses(m, d, o.lower, o.upper) for m, d, o in zip(mean, deviation, case.outputs, strict=True)])
    return Linear(mean, deviation, misses, parts)


def _misses(mean: float, deviation: float, lower: float, upper: float) -> float:
    if not (math.isfinite(mean) and math.isfinite(deviation)):
        return math.nan
    found = 0.0
    for room in (upper - mean, mean - lower):
        if math.isinf(room):
            continue
        if deviation > 0.0:
            found += 0.5 * math.erfc(room / deviation / math.sqrt(2.0))
        elif room < 0.0:
            found += 1.0
    return min(found, 1.0)
