"""Radau collocation with three points an interval, its end among them: order 5, stiffly accurate.

With the polynomial of degree 3 through θ_0 = 0 and the roots θ_1, θ_2, θ_3 = 1 of the right Radau polynomial, whose
derivative is met there:

    Σ_j l_j'(θ_i) X_j = h f(X_i),     i = 1, 2, 3                                                    (1)

Order     5 at the grid's moments, 4 between them.   Stability   L-stable: what is far too quick dies out within a step.
Cost      three equations and rates an interval and state.   When   by default: stiff systems, controls that jump from
interval to interval (each has values of its own), algebraic equations.   Weak   lightly damped swings die out slowly
where the grid is coarse.
Sources   B. L. Ehle, "On Padé approximations to the exponential function and A-stable methods", 1969; E. Hairer,
G. Wanner, "Solving Ordinary Differential Equations II", 1996, IV.5; S. Kameswaran, L. T. Biegler, "Convergence rates
for direct transcription of optimal control problems using collocation at Radau points", 2008 (costates).
"""

from __future__ import annotations

import numpy as np

from ilvren.dynamics.schemes.scheme import Scheme, lagrange_integrals, lagrange_slopes

__all__ = ["SCHEME"]

_ROOT = 6.0**0.5
_POINTS = np.array([0.0, (4.0 - _ROOT) / 10.0, (4.0 + _ROOT) / 10.0, 1.0])
_RATES = np.hstack([np.zeros((3, 1)), np.eye(3)])

SCHEME = Scheme(
    name="radau",
    order=5,
    points=_POINTS,
    states=lagrange_slopes(_POINTS, _POINTS[1:]),
    rates=_RATES,
    weights=np.concatenate([[0.0], lagrange_integrals(_POINTS[1:], np.ones(1))[0]]),
    used=(1, 2, 3),
    carries=(0, 1, 2, 3),
)
