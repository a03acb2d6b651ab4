"""Robust losses of residuals: they follow half the square near 0 and grow slower far away.

    square   ½ r²                         Huber   ½ r² up to k, then k |r| − ½ k²        k = 1.345
    Cauchy   ½ c² log(1 + (r/c)²)         c = 2.385

Source: P. J. Huber, "Robust estimation of a location parameter", 1964; P. W. Holland, R. E. Welsch, "Robust regression
using iteratively reweighted least-squares", 1977, for the constants: 95 % of the efficiency on normal errors.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

__all__ = ["CAUCHY_SCALE", "HUBER_TURN", "loss_values"]

FloatArray = NDArray[np.float64]

HUBER_TURN, CAUCHY_SCALE = 1.345, 2.385


def loss_values(residuals: FloatArray, losses: NDArray[np.int64]) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Return (ρ, ρ', ρ'') of each residual (p,) for its loss: 0 half the square, 1 Huber's, 2 Cauchy's."""
    r = residuals
    value, slope, bend = 0.5 * r * r, r.copy(), np.ones(len(r))
    far = (losses == 1) & (np.abs(r) > HUBER_TURN)
    value = np.where(far, HUBER_TURN * np.abs(r) - 0.5 * HUBER_TURN**2, value)
    slope = np.where(far, HUBER_TURN * np.sign(r), slope)
    bend = np.where(far, 0.0, bend)
    is_cauchy = losses == 2
    bowl = 1.0 + (r / CAUCHY_SCALE) ** 2
    value = np.where(is_cauchy, 0.5 * CAUCHY_SCALE**2 * np.log(bowl), value)
    slope = np.where(is_cauchy, r / bowl, slope)
    bend = np.where(is_cauchy, (2.0 - bowl) / bowl**2, bend)
    return value, slope, bend
