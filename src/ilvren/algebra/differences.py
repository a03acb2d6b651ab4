"""Central differences: of functions of one number, and of functions of a vector along a direction.

    (f(h) − f(−h)) / 2h,     (f(x + h d) − f(x − h d)) / 2h,   h |d|∞ = ε^(1/3) · the largest |x| that d moves      (1)

whose error is of the order of ε^(2/3): there rounding and the next term of the series weigh the same.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["CENTRAL_STEP", "central", "central_along"]

FloatArray = NDArray[np.float64]

CENTRAL_STEP = float(np.finfo(float).eps) ** (1.0 / 3.0)


def central(function: Callable[[float], Any], step: float) -> Any:
    """Return the derivative at 0 of a function of one number, by a step."""
    return (function(step) - function(-step)) / (2.0 * step)


def central_along(
    function: Callable[[FloatArray], FloatArray], x: FloatArray, direction: FloatArray, *, stretch: float = 1.0
) -> FloatArray:
    """Return the derivative of a function at x (n,) along a direction (n,) by (1), the step being `stretch` times that;
    0 · f where the direction is 0."""
    length = float(np.max(np.abs(direction), initial=0.0))
    if not length > 0.0:
        return np.zeros(np.shape(function(x)))
    size = float(np.max(np.abs(x) * (direction != 0.0), initial=0.0)) or 1.0
    return np.asarray(central(lambda h: function(x + h * direction), stretch * CENTRAL_STEP * size / length))
