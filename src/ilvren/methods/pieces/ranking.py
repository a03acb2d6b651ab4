"""Which of two designs is better where there are limits: feasibility first, within a level that shrinks.

    a before b  if  f_a < f_b  where both violations are at most ε (or equal),  else if  v_a < v_b           (1)
    ε_t = ε_0 (1 − t/T)^5  up to T, then 0;  ε_0 the violation of the best fifth of the first generation      (2)

v is the sum of the misses over their rows' sizes, 0 within the feasibility allowed.
Sources: K. Deb, "An efficient constraint handling method for genetic algorithms", 2000 (ε = 0); T. Takahama, S. Sakai,
"Constrained optimization by the ε constrained differential evolution with gradient-based mutation and feasible
elites", 2006.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.methods.base import Reply, Task

__all__ = ["Level", "best_place", "better", "judged", "order"]

FloatArray = NDArray[np.float64]

# (2): the share of the first generation within ε_0, and the exponent.
FIRST_SHARE, EXPONENT = 0.2, 5.0
# Rounding on the way to the user's numbers must not turn a design met here into one that misses there.
MET_SHARE = 0.999


def judged(task: Task, reply: Reply) -> tuple[FloatArray, FloatArray]:
    """Return f (k,) and v (k,) of a reply, both infinite where a value is not finite."""
    f = reply.objective
    if not len(task.row_lower):
        return np.where(np.isfinite(f), f, np.inf), np.where(np.isfinite(f), 0.0, np.inf)
    misses = task.misses(reply.rows) / task.row_sizes
    v = np.where(misses <= MET_SHARE * task.feasibility, 0.0, misses).sum(axis=1)
    is_valid = np.isfinite(f) & np.isfinite(v)
    return np.where(is_valid, f, np.inf), np.where(is_valid, v, np.inf)


def better(
    f: FloatArray, v: FloatArray, f_other: FloatArray, v_other: FloatArray, level: float = 0.0
) -> NDArray[np.bool_]:
    """Return (1), element by element. All have any one shape, or spread to it."""
    by_objective = (np.maximum(v, v_other) <= level) | (v == v_other)
    return np.where(by_objective, f < f_other, v < v_other)


def order(f: FloatArray, v: FloatArray, level: float = 0.0) -> NDArray[np.int64]:
    """Return the places of designs from the best to the worst under (1)."""
    return np.lexsort((f, np.where(v <= level, 0.0, v)))


def best_place(f: FloatArray, v: FloatArray) -> int:
    """Return the place of the best design at ε = 0."""
    return int(order(f, v)[0])


@dataclass(frozen=True)
class Level:
    """The schedule (2), over `duration` steps."""

    first: float
    duration: float

    @classmethod
    def of(cls, v: FloatArray, duration: float) -> Level:
        """Return the schedule for a first generation with violations v (k,)."""
        finite = np.sort(v[np.isfinite(v)])
        first = float(finite[int(FIRST_SHARE * (len(finite) - 1))]) if len(finite) else 0.0
        return cls(first, duration)

    def at(self, step: float) -> float:
        """Return ε at a step."""
        if step >= self.duration:
            return 0.0
        return float(self.first * (1.0 - step / self.duration) ** EXPONENT)
