"""The trapezoidal rule: the ends of an interval, order 2.

    X_1 = X_0 + h/2 (f(X_0) + f(X_1))                                                                (1)

Order     2.   Stability   A-stable, without damping of what is very quick.
Cost      the least: one equation an interval and state, rates at the grid's moments alone.   When   a first look, rates
with corners, very many states.   Weak   accuracy: halving all intervals leaves a quarter of the error.
Source    G. Dahlquist, "A special stability problem for linear multistep methods", 1963; J. T. Betts, "Practical
Methods for Optimal Control Using Nonlinear Programming", 2001.
"""

from __future__ import annotations

import numpy as np

from ilvren.dynamics.schemes.scheme import Scheme

__all__ = ["SCHEME"]

SCHEME = Scheme(
    name="trapezoid",
    order=2,
    points=np.array([0.0, 1.0]),
    states=np.array([[-1.0, 1.0]]),
    rates=np.array([[0.5, 0.5]]),
    weights=np.array([0.5, 0.5]),
    used=(0, 1),
    carries=(0, 1),
    by_rates=True,
)
