"""Kernels: what a point's value tells of values around it, as a function of the squared distance s = Σ (Δ_j/l_j)².

    squared-exponential    exp(−s/2)                                                                    (1)
    matern-5/2             (1 + √5 r + 5 s/3) exp(−√5 r),   r = √s                                      (2)
    cubic                  r³                                                                           (3)
    multiquadric           −√(1 + s)                                                                    (4)

(1) and (2) are correlations; (3) and (4) are only conditionally definite, and need a linear, or constant, trend beside
them. r is √(s + SMOOTH²), so that derivatives of every order are numbers at the points themselves, too.

Sources: (2): B. Matérn, "Spatial variation", 1960; M. L. Stein, "Interpolation of spatial data", 1999; (3), (4):
M. J. D. Powell, "The theory of radial basis function approximation in 1990", 1992; R. L. Hardy, "Multiquadric equations
of topography and other irregular surfaces", 1971.
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

__all__ = ["KERNELS", "SMOOTH", "Kernel", "squared_distances"]

FloatArray = NDArray[np.float64]

# A distance of less than this is as good as none.
SMOOTH = 1e-6
ROOT5 = math.sqrt(5.0)


@dataclass(frozen=True)
class Kernel:
    """`value` of s, and `slope`, its derivative by s. Both may work in place."""

    name: str
    value: Callable[[FloatArray], FloatArray]
    slope: Callable[[FloatArray], FloatArray]


def squared_distances(one: FloatArray, other: FloatArray, lengths: FloatArray) -> FloatArray:
    """Return s (a, b) between points (a, n) and (b, n), by products of matrices."""
    p = one / lengths
    own = np.einsum("ij,ij->i", p, p)
    q, others = (p, own) if other is one else (other / lengths, None)
    s = own[:, None] + (np.einsum("ij,ij->i", q, q) if others is None else others) - 2.0 * (p @ q.T)
    return np.asarray(np.maximum(s, 0.0, out=s))


def _distance(s: FloatArray) -> FloatArray:
    return np.asarray(np.sqrt(s + SMOOTH**2))


def _exponential(s: FloatArray) -> FloatArray:
    return np.asarray(np.exp(-0.5 * s))


def _matern(s: FloatArray) -> FloatArray:
    r = ROOT5 * _distance(s)
    return np.asarray((1.0 + r + r * r / 3.0) * np.exp(-r))


def _matern_slope(s: FloatArray) -> FloatArray:
    r = ROOT5 * _distance(s)
    return np.asarray((-5.0 / 6.0) * (1.0 + r) * np.exp(-r))


KERNELS = {
    kernel.name: kernel
    for kernel in (
        Kernel("squared-exponential", _exponential, lambda s: -0.5 * _exponential(s)),
        Kernel("matern-5/2", _matern, _matern_slope),
        Kernel("cubic", lambda s: _distance(s) ** 3, lambda s: 1.5 * _distance(s)),
        Kernel("multiquadric", lambda s: -np.sqrt(1.0 + s), lambda s: -0.5 / np.sqrt(1.0 + s)),
    )
}
