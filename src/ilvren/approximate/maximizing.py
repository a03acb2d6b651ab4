"""A small smooth function made as large as it can be within bounds: a projected quasi-Newton method for likelihoods.

    d = −B g on the variables not held at a bound,  x⁺ = P(x + α d)                                             (1)
    B⁺ = (I − ρ s y')B(I − ρ y s') + ρ s s',  ρ = 1 / s'y                                                       (2)

Sources: (1): D. P. Bertsekas, "Projected Newton methods for optimization problems with simple constraints", 1982; (2):
C. G. Broyden; R. Fletcher; D. Goldfarb; D. F. Shanno, 1970.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

__all__ = ["maximized"]

FloatArray = NDArray[np.float64]

# A step must gain this share of what the gradient promises; it is halved so many times at most, and no longer than
# this.
GAIN, MOST_HALVINGS, LONGEST = 1e-4, 12, 2.0
# Stops where the value gains less than this.
LEAST_GAIN = 1e-4


def maximized(
    function: Callable[[FloatArray], tuple[float, FloatArray]],
    start: FloatArray,
    lower: FloatArray,
    upper: FloatArray,
    most: int,
) -> tuple[FloatArray, float]:
    """Return where `function` (value, gradient) is largest, by at most `most` iterations from `start`, and its value
    there. −inf and NaN are values to turn back from."""
    x = np.clip(start, lower, upper)
    f, g = function(x)
    inverse = np.eye(len(x))
    is_first = True
    for _ in range(most):
        if not np.isfinite(f):
            break
        held = ((x <= lower) & (g < 0.0)) | ((x >= upper) & (g > 0.0))
        direction = np.where(held, 0.0, inverse @ np.where(held, 0.0, g))
        if not float(direction @ g) > 0.0:
            direction = np.where(held, 0.0, g)
        longest = float(np.abs(direction).max(initial=0.0))
        if not longest > 0.0:
            break
        step = min(1.0, LONGEST / longest) if not is_first else min(1.0, 0.5 / longest)
        for _ in range(MOST_HALVINGS):
            trial = np.clip(x + step * direction, lower, upper)
            value, slope = function(trial)
            if np.isfinite(value) and value >= f + GAIN * float(g @ (trial - x)):
                break
            step *= 0.5
        else:
            break
        s, y = trial - x, g - slope
        curvature = float(s @ y)
        if curvature > 1e-10 * float(np.linalg.norm(s) * np.linalg.norm(y)):
            if is_first:
                inverse *= curvature / float(y @ y)
            v = np.eye(len(x)) - np.outer(s, y) / curvature
            inverse = v @ inverse @ v.T + np.outer(s, s) / curvature
            is_first = False
        gain, x, f, g = value - f, trial, value, slope
        if gain < LEAST_GAIN:
            break
    return x, f
