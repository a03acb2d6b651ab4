"""The augmented Lagrangian of values alone: what a search without derivatives minimizes where there are limits.

    A(x) = f + ½ Σ ρ_i (t_i − [t_i])² ,   t_i = c_i + λ_i/ρ_i ,  [t] the nearest value within the limits  (1)
    λ_i ← ρ_i (t_i − [t_i])                                                                                (2)

Sources: M. J. D. Powell, "A method for nonlinear constraints in minimization problems", 1969; R. T. Rockafellar, "The
multiplier method of Hestenes and Powell applied to convex programming", 1973.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.methods.base import Task

__all__ = ["Lagrangian"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Lagrangian:
    """The function of (1); `multipliers` λ and `weights` ρ (m,). A feasible value below `floor` is no end."""

    task: Task
    multipliers: FloatArray
    weights: FloatArray
    floor: float = -math.inf

    def beyond(self, c: FloatArray) -> FloatArray:
        """Return t − [t] of (1), for one row of values (m,) or many (k, m)."""
        shifted = c + self.multipliers / self.weights
        return np.asarray(shifted - np.clip(shifted, self.task.row_lower, self.task.row_upper), dtype=np.float64)

    def values(self, f: FloatArray, c: FloatArray) -> FloatArray:
        """Return A (k,) at designs with these f (k,) and rows (k, m); infinite where one is invalid."""
        with np.errstate(all="ignore"):
            total = f + 0.5 * (self.weights * self.beyond(c) ** 2).sum(axis=1)  # (1)
        return np.where(np.isfinite(total), total, np.inf)

    def gap(self, c: FloatArray) -> float:
        """Return how far A, its constant −½ Σ λ²/ρ included, is from f: a bound on what the rows still hide. `c` is
        (m,)."""
        return float(np.abs(0.5 * self.weights * self.beyond(c) ** 2 - 0.5 * self.multipliers**2 / self.weights).sum())

    def misses(self, c: FloatArray) -> FloatArray:
        """Return (m,): by how much each row misses its limit, or a limit with a multiplier is not reached."""
        return np.asarray(np.abs(self.beyond(c) - self.multipliers / self.weights), dtype=np.float64)

    def renewed_multipliers(self, c: FloatArray) -> FloatArray:
        """Return the multipliers of (2) at rows `c`. Both are (m,)."""
        return self.weights * self.beyond(c)
