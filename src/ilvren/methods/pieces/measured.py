"""How an iterate of an inner method stands on a task that differs from the one the run is judged by."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import signed_least_squares
from ilvren.methods.base import Assessment, Task

if TYPE_CHECKING:
    from ilvren.methods.pieces.together import Seen

__all__ = ["stands"]

FloatArray = NDArray[np.float64]

# A limit is active within this share of its size.
ACTIVE = 1e-5
LEAST_SIZE = 1e-3


def stands(task: Task, seen: Seen | None, *, least_size: float = LEAST_SIZE) -> Assessment:
    """Return how a point with derivatives stands: feasible, and the gradient of the Lagrangian, with the best
    multipliers that its active limits allow, within the tolerance of the size of f, which is `least_size` at least."""
    if seen is None or seen.g is None or not (np.isfinite(seen.g).all() and np.isfinite(seen.c).all()):
        return Assessment(math.inf, None, False)
    jacobian = np.asarray(seen.j if isinstance(seen.j, np.ndarray) else seen.j.toarray())
    if not np.isfinite(jacobian).all():
        return Assessment(task.violation(seen.c), None, False)
    low_row = seen.c - task.row_lower <= ACTIVE * task.row_sizes
    high_row = task.row_upper - seen.c <= ACTIVE * task.row_sizes
    rows = np.flatnonzero(low_row | high_row)
    room = ACTIVE * np.maximum(1.0, np.abs(seen.x))
    low, high = seen.x - task.lower <= room, task.upper - seen.x <= room
    bounds = np.flatnonzero(low | high)
    normals = np.hstack([jacobian[rows].T, np.eye(len(seen.x))[:, bounds]])
    is_low, is_high = np.concatenate([low_row[rows], low[bounds]]), np.concatenate([high_row[rows], high[bounds]])
    signs = np.where(is_low & is_high, 0.0, np.where(is_low, 1.0, -1.0))
    multipliers = signed_least_squares(normals, seen.g, signs)
    size = max(abs(seen.f), least_size)
    rest = (seen.g - normals @ multipliers) * np.maximum(1.0, np.abs(seen.x))
    stationarity = float(np.abs(rest).max(initial=0.0)) / size
    violation = task.violation(seen.c)
    return Assessment(violation, stationarity, violation <= task.feasibility and stationarity <= task.tolerance)
