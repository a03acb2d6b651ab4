"""The grids of spaced and catalogue variables as a method sees them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ilvren.methods import Grid
from ilvren.problem import Problem, allowed_values_of

__all__ = ["scaled_grids"]

FloatArray = NDArray[np.float64]


def scaled_grids(problem: Problem, free: NDArray[np.int64], sizes: FloatArray) -> tuple[Grid | None, ...]:
    """Return the grids of the free variables over their sizes (n_free,); () where all are continuous."""
    known = dict(problem.grid)
    if not any(int(place) in known for place in free):
        return ()
    grids: list[Grid | None] = []
    for place, size in zip(free.tolist(), sizes.tolist(), strict=True):
        if place not in known:
            grids.append(None)
            continue
        own = allowed_values_of(known[place])
        listed = None if own.listed is None else own.listed / size
        grids.append(Grid(own.first / size, own.spacing / size, own.count, listed, bool(known[place].words)))
    return tuple(grids)
