"""What a collocation scheme is: tables over one interval of the grid, from 0 to 1.

On an interval of length h with points θ_0 = 0 < … < θ_p = 1, states X_j there and rates F_j = f(X_j) at the points that
are `used`, the equations of a scheme are

    Σ_j C_ij X_j = h Σ_j B_ij F_j,      i = 1 … p                                                    (1)

and between the points the states are the polynomial

    x(θ) = Σ_j W_j(θ) X_j + h Σ_j V_j(θ) F_j                                                         (2)

so that an integral of g over the interval is h Σ_j b_j g_j. Controls that are chosen at every moment are polynomials
through their values at the `used` points.

Sources: U. Ascher, R. Mattheij, R. Russell, "Numerical Solution of Boundary Value Problems for Ordinary Differential
Equations", 1988; E. Hairer, G. Wanner, "Solving Ordinary Differential Equations II", 1996, chapter IV.5.
"""

from __future__ import annotations

from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

__all__ = ["Scheme", "lagrange", "lagrange_integrals", "lagrange_slopes"]

FloatArray = NDArray[np.float64]


def lagrange(nodes: FloatArray, at: FloatArray) -> FloatArray:
    """Return the Lagrange polynomials of `nodes` (s,) at `at` (k,): (k, s)."""
    at = np.atleast_1d(np.asarray(at, dtype=float))
    found = np.ones((len(at), len(nodes)))
    for j, own in enumerate(nodes):
        for k, other in enumerate(nodes):
            if k != j:
                found[:, j] *= (at - other) / (own - other)
    return found


def lagrange_slopes(nodes: FloatArray, at: FloatArray) -> FloatArray:
    """Return the derivatives of the Lagrange polynomials of `nodes` (s,) at `at` (k,): (k, s)."""
    at = np.atleast_1d(np.asarray(at, dtype=float))
    found = np.zeros((len(at), len(nodes)))
    for j, own in enumerate(nodes):
        for left in range(len(nodes)):
            if left == j:
                continue
            term = np.full(len(at), 1.0 / (own - nodes[left]))
            for k, other in enumerate(nodes):
                if k not in (j, left):
                    term *= (at - other) / (own - other)
            found[:, j] += term
    return found


def lagrange_integrals(nodes: FloatArray, at: FloatArray) -> FloatArray:
    """Return the integrals of the Lagrange polynomials of `nodes` (s,) from 0 to `at` (k,): (k, s)."""
    at = np.atleast_1d(np.asarray(at, dtype=float))
    shares, weights = np.polynomial.legendre.leggauss(len(nodes) // 2 + 1)
    places = 0.5 * at[:, np.newaxis] * (shares + 1.0)
    values = lagrange(nodes, places.ravel()).reshape(*places.shape, len(nodes))
    return np.asarray(0.5 * at[:, np.newaxis] * np.einsum("q,kqs->ks", weights, values))


@dataclass(frozen=True)
class Scheme:
    """`points` θ (p + 1,); C (p, p + 1) as `states`, B (p, p + 1) as `rates`, b (p + 1,) as `weights`; `used` the
    points at which rates are asked for; `carries` the points through whose states (2) goes, the rest of it being
    integrals of the rates where `by_rates`. `order`: the error at the grid's moments goes with h to this power."""

    name: str
    order: int
    points: FloatArray
    states: FloatArray
    rates: FloatArray
    weights: FloatArray
    used: tuple[int, ...]
    carries: tuple[int, ...]
    by_rates: bool = False

    @property
    def width(self) -> int:
        """Return p, how many points an interval adds."""
        return len(self.points) - 1

    @property
    def shares_ends(self) -> bool:
        """Return whether rates are asked for at both ends of an interval, so that neighbours share a point."""
        return 0 in self.used and self.width in self.used

    @cached_property
    def used_points(self) -> FloatArray:
        """Return θ of the used points. They are (used,)."""
        return self.points[list(self.used)]

    def control_weights(self, at: FloatArray) -> FloatArray:
        """Return what values at the used points weigh at shares `at` (k,): (k, used)."""
        return lagrange(self.used_points, at)

    def state_weights(self, at: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return W (k, p + 1) and V (k, used) of (2) at shares `at` (k,)."""
        at = np.atleast_1d(np.asarray(at, dtype=float))
        own = np.zeros((len(at), len(self.points)))
        if self.by_rates:
            own[:, 0] = 1.0
            return own, lagrange_integrals(self.used_points, at)
        own[:, list(self.carries)] = lagrange(self.points[list(self.carries)], at)
        return own, np.zeros((len(at), len(self.used)))

    def slope_weights(self, at: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return the derivatives of W and V by θ. Shapes: at (k,), each result (k, its points)."""
        at = np.atleast_1d(np.asarray(at, dtype=float))
        own = np.zeros((len(at), len(self.points)))
        if self.by_rates:
            return own, lagrange(self.used_points, at)
        own[:, list(self.carries)] = lagrange_slopes(self.points[list(self.carries)], at)
        return own, np.zeros((len(at), len(self.used)))
