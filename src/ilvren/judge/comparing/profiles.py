"""Performance and data profiles: which share of the problems each method solves, by cost.

With t(p, s) the cost method s needs to bring problem p (from one start, with one seed) to its target, infinite if it
never does, and n_p the number of variables of p,

    performance:  ρ_s(τ) = share of p with t(p, s) <= τ · min over methods of t(p, ·)                     (1)
    data:         d_s(κ) = share of p with t(p, s) <= κ (n_p + 1)                                         (2)

A cost counts evaluations, and gradients at a stated exchange rate.

Sources: E. D. Dolan, J. J. Moré, "Benchmarking optimization software with performance profiles", 2002 (1); J. J. Moré,
S. M. Wild, "Benchmarking derivative-free optimization algorithms", 2009 (2).
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

__all__ = ["ShareCurve", "data_profile", "performance_profile"]

FloatArray = NDArray[np.float64]
Costs = Mapping[str, Mapping[tuple[int, ...], float]]


@dataclass(frozen=True)
class ShareCurve:
    """A step function: the share of cases solved (k,) at or below each cost (k,), ascending; `solved` in the end."""

    method: str
    costs: FloatArray
    shares: FloatArray

    @property
    def solved(self) -> float:
        """Return the share solved at any cost."""
        return float(self.shares[-1]) if len(self.shares) else 0.0

    def at(self, cost: float) -> float:
        """Return the share solved at or below a cost."""
        place = int(np.searchsorted(self.costs, cost, side="right"))
        return float(self.shares[place - 1]) if place else 0.0

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        return {"method": self.method, "costs": self.costs.tolist(), "shares": self.shares.tolist()}


def performance_profile(costs: Costs, order: Sequence[str]) -> tuple[ShareCurve, ...]:
    """Return (1) per method. Cases that a method was not run on count as not solved by it."""
    cases = sorted({key for own in costs.values() for key in own})
    least = {key: min((own.get(key, math.inf) for own in costs.values()), default=math.inf) for key in cases}
    return tuple(
        _curve(
            method,
            [costs[method].get(key, math.inf) / least[key] if math.isfinite(least[key]) else math.inf for key in cases],
        )
        for method in order
    )


def data_profile(costs: Costs, sizes: Mapping[int, int], order: Sequence[str]) -> tuple[ShareCurve, ...]:
    """Return (2) per method; `sizes` {problem: number of its free variables}, the problem being the key's first."""
    cases = sorted({key for own in costs.values() for key in own})
    return tuple(
        _curve(method, [costs[method].get(key, math.inf) / (sizes[key[0]] + 1) for key in cases]) for method in order
    )


def _curve(method: str, values: list[float]) -> ShareCurve:
    total = len(values)
    reached = np.sort(np.array([value for value in values if math.isfinite(value)], dtype=float))
    return ShareCurve(method, reached, np.arange(1, len(reached) + 1) / max(total, 1))
