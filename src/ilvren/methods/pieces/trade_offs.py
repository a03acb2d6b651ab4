"""Several objectives as methods see them: what a reply says of them, and fronts of what is known."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import dominated_by, nondominated
from ilvren.methods.base import Reply, Task
from ilvren.methods.pieces.ranking import judged
from ilvren.records import dataclass

__all__ = ["Known", "compromise", "counted", "known_front", "minimized", "trade_offs"]

FloatArray = NDArray[np.float64]

# More pairs than these are not compared all at once.
MOST_COMPARED = 1_000_000


def minimized(task: Task, rows: FloatArray) -> FloatArray:
    """Return the objectives (…, p), each to be minimized, of rows (…, m)."""
    return np.asarray(rows[..., list(task.objectives)] * np.array(task.signs), dtype=np.float64)


def counted(task: Task, values: FloatArray) -> FloatArray:
    """Return objectives (…, p), minimized, as they count: none better than its goal."""
    return np.maximum(values, np.array(task.goals)) if task.goals else values


def trade_offs(task: Task, reply: Reply) -> tuple[FloatArray, FloatArray]:
    """Return the objectives (k, p), infinite where a value is not finite, and the violations (k,) of a reply."""
    _, v = judged(task, reply)
    values = counted(task, minimized(task, reply.rows))
    return np.where(np.isfinite(v)[:, np.newaxis], values, np.inf), v


@dataclass(frozen=True)
class Known:
    """Designs x (k, n) with their objectives (k, p), none of which dominates another, all feasible."""

    x: FloatArray
    values: FloatArray

    def joined(self, x: FloatArray, values: FloatArray, v: FloatArray) -> Known:
        """Return the front of these and other designs, as far as they are feasible; equal values once."""
        use = np.flatnonzero((v <= 0.0) & np.isfinite(values).all(axis=1))
        use = use[nondominated(values[use])]
        if len(use) and len(self.values):
            use = use[~dominated_by(values[use], self.values)]
            use = use[~_are_among(values[use], self.values)]
        if not len(use):
            return self
        use = use[np.sort(np.unique(values[use], axis=0, return_index=True)[1])]
        kept = ~dominated_by(self.values, values[use])
        return Known(np.vstack([self.x[kept], x[use]]), np.vstack([self.values[kept], values[use]]))


def _are_among(values: FloatArray, others: FloatArray) -> NDArray[np.bool_]:
    """Return (k,): which of the values (k, p) are among the others (l, p)."""
    if len(values) * len(others) <= MOST_COMPARED:
        return np.asarray((values[:, np.newaxis] == others).all(axis=2).any(axis=1))
    known = set(map(tuple, others.tolist()))
    return np.array([tuple(own) in known for own in values.tolist()], dtype=bool)


def known_front(task: Task) -> Known:
    """Return the front of what the task knows already."""
    n, p = len(task.start), len(task.objectives)
    nothing = Known(np.zeros((0, n)), np.zeros((0, p)))
    if task.known is None:
        return nothing
    values, v = trade_offs(task, Reply(np.zeros(len(task.known.points)), task.known.rows))
    return nothing.joined(task.known.points, values, v)


def compromise(values: FloatArray) -> int:
    """Return the place of the design that is nearest to the ideal, each objective over its range."""
    low, high = values.min(axis=0), values.max(axis=0)
    scaled = (values - low) / np.where(high > low, high - low, 1.0)
    return int(np.argmin((np.where(np.isnan(scaled), np.inf, scaled) ** 2).sum(axis=1)))
