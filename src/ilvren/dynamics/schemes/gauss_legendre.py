"""Gauss–Legendre collocation with three points inside an interval: order 6, and no damping of its own.

With the polynomial of degree 3 through θ_0 = 0 and the roots θ_1, θ_2, θ_3 of the Legendre polynomial:

    Σ_j l_j'(θ_i) X_j = h f(X_i),   i = 1, 2, 3;        X_4 = Σ_j l_j(1) X_j                         (1)

Order     6 at the grid's moments, 4 between them.   Stability   A-stable, and swings keep their size exactly.
Cost      four equations and three rates an interval and state.   When   smooth systems, mechanics and orbits that keep
their energy, high accuracy on few intervals.   Weak   very stiff parts ring from interval to interval; controls are
nowhere chosen at the grid's own moments.
Sources   J. C. Butcher, "Implicit Runge–Kutta processes", 1964; C. de Boor, B. Swartz, "Collocation at Gaussian
points", 1973.
"""

from __future__ import annotations

import numpy as np

from ilvren.dynamics.schemes.scheme import Scheme, lagrange, lagrange_slopes

__all__ = ["SCHEME"]

_ROOT = 0.15**0.5
_POINTS = np.array([0.0, 0.5 - _ROOT, 0.5, 0.5 + _ROOT, 1.0])
_INNER = lagrange_slopes(_POINTS[:4], _POINTS[1:4])
_LAST = np.concatenate([-lagrange(_POINTS[:4], np.ones(1))[0], [1.0]])

SCHEME = Scheme(
    name="gauss-legendre",
    order=6,
    points=_POINTS,
    states=np.vstack([np.hstack([_INNER, np.zeros((3, 1))]), _LAST]),
    rates=np.vstack([np.hstack([np.zeros((3, 1)), np.eye(3), np.zeros((3, 1))]), np.zeros(5)]),
    weights=np.array([0.0, 5.0 / 18.0, 8.0 / 18.0, 5.0 / 18.0, 0.0]),
    used=(1, 2, 3),
    carries=(0, 1, 2, 3),
)
