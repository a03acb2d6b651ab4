"""The grids of spaced and catalogue variables as a method sees them."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import AllowedValues
from ilvren.problem import Problem, allowed_values_of, looked_up

__all__ = ["scaled_grids"]

FloatArray = NDArray[np.float64]


def scaled_grids(problem: Problem, free: NDArray[np.int64], sizes: FloatArray) -> tuple[AllowedValues | None, ...]:
    """Return the grids of the free variables over their sizes (n_free,); () where all are continuous."""
    known = dict(problem.grid)
    if not any(int(place) in known for place in free):
        return ()
    apart = looked_up(problem)
    return tuple(
        replace(values.over(size), is_apart=values.is_apart or place in apart) if values is not None else None
        for place, size in zip(free.tolist(), sizes.tolist(), strict=True)
        for values in [allowed_values_of(known[place]) if place in known else None]
    )
