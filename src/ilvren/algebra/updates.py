"""Quasi-Newton updates of a matrix that stands for second derivatives."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

__all__ = ["damped_bfgs"]

FloatArray = NDArray[np.float64]

# Powell's constant: the least share of s'Bs that the curvature s'r may be.
LEAST_CURVATURE = 0.2


def damped_bfgs(matrix: FloatArray, step: FloatArray, change: FloatArray) -> FloatArray:
    """Return the damped BFGS update of a positive definite `matrix` B (n, n).

    With s = `step` (n,) and y = `change` of the gradient of the Lagrangian (n,):

        r  = θ y + (1 − θ) B s,   θ = 1 if s'y ≥ 0.2 s'Bs, else 0.8 s'Bs / (s'Bs − s'y)
        B⁺ = B − (B s)(B s)' / s'Bs + r r' / s'r

    so that s'r ≥ 0.2 s'Bs > 0 and B⁺ stays positive definite. A step or change that is not finite, or
    too short to carry curvature, leaves B as it is.

    Source: M. J. D. Powell, "A fast algorithm for nonlinearly constrained optimization calculations", 1978.
    """
    product = matrix @ step
    along = float(step @ product)
    curvature = float(step @ change)
    if not (math.isfinite(along) and math.isfinite(curvature)) or along <= 0.0:
        return matrix
    if curvature < LEAST_CURVATURE * along:
        theta = (1.0 - LEAST_CURVATURE) * along / (along - curvature)
        change = theta * change + (1.0 - theta) * product
        curvature = float(step @ change)
    updated = matrix - np.outer(product, product) / along + np.outer(change, change) / curvature
    if not np.isfinite(updated).all():
        return matrix
    return (updated + updated.T) / 2
