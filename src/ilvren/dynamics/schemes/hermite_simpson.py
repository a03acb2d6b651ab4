"""Hermite–Simpson collocation: both ends and the middle of an interval, order 4.

    X_1 = ½ (X_0 + X_2) + h/8 (f(X_0) − f(X_2)),     X_2 = X_0 + h/6 (f(X_0) + 4 f(X_1) + f(X_2))    (1)

which is Lobatto's method with three points (IIIA): a cubic whose derivative is met at all three.

Order     4.   Stability   A-stable, without damping of what is very quick.
Cost      two equations an interval and state, and rates at two points: neighbours share their ends.   When   smooth
controls that do not jump, moderate accuracy, many intervals.   Weak   stiff systems ring; a control that jumps is
smeared over two intervals until a point of the grid stands there.
Sources   C. R. Hargraves, S. W. Paris, "Direct trajectory optimization using nonlinear programming and collocation",
1987; J. T. Betts, "Practical Methods for Optimal Control Using Nonlinear Programming", 2001.
"""

from __future__ import annotations

import numpy as np

from ilvren.dynamics.schemes.scheme import Scheme

__all__ = ["SCHEME"]

SCHEME = Scheme(
    name="hermite-simpson",
    order=4,
    points=np.array([0.0, 0.5, 1.0]),
    states=np.array([[-0.5, 1.0, -0.5], [-1.0, 0.0, 1.0]]),
    rates=np.array([[1.0 / 8.0, 0.0, -1.0 / 8.0], [1.0 / 6.0, 4.0 / 6.0, 1.0 / 6.0]]),
    weights=np.array([1.0, 4.0, 1.0]) / 6.0,
    used=(0, 1, 2),
    carries=(0, 1, 2),
    by_rates=True,
)
