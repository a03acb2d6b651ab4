"""Published optimal control problems as files, with the optimum that is known: exactly, or from the literature.

Each is written as its source has it, controls chosen at every moment, every guess a constant.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

__all__ = ["PROBLEMS", "ControlProblem"]


@dataclass(frozen=True)
class ControlProblem:
    """`text` is the file; `optimum` the objective as written; `digits` how far it is known (relative)."""

    name: str
    text: str
    optimum: float
    source: str
    digits: float = 1e-5


def _decay_and_rise() -> float:
    """∫ x² + u² for x' = −x³ + u from 1 to 1.5 in very long time: two boundary layers, from Hamilton and Jacobi's
    equation, V' = ∓2x³ + 2x √(x⁴ + 1)."""

    def root(s: float) -> float:
        return 0.5 * (s * math.sqrt(s * s + 1.0) + math.asinh(s))

    return (-0.5 + root(1.0)) + (0.5 * 1.5**4 + root(1.5**2))


_LANDER = 3.0 * (2.0 + 1.5 * (-12.0 + math.sqrt(144.0 + 468.0)) / 9.0) / 1.5
_LQ = math.tanh(math.sqrt(2.0)) / (math.sqrt(2.0) + math.tanh(math.sqrt(2.0)))

PROBLEMS = (
    ControlProblem(
        "bryson-denham",
        """
[time]
to = 1
[states]
x = { rate = "v", initial = 0, upper = "1/9" }
v = { rate = "a", initial = 1 }
[controls]
a = { start = 0, form = "pointwise" }
[minimize]
effort = "integral(a^2) / 2"
[constraints]
x_end = "last(x) == 0"
v_end = "last(v) == -1"
""",
        4.0,
        "A. Bryson, W. Denham, S. Dreyfus, 1963: 4/(9 l)",
    ),
    ControlProblem(
        "double-integrator-time",
        """
[variables]
T = { start = 1, lower = 0.1, upper = 100 }
[time]
to = "T"
[states]
x = { rate = "v", initial = 0 }
v = { rate = "a", initial = 0 }
[controls]
a = { start = 0, lower = -1, upper = 2, form = "pointwise" }
[minimize]
time = "T"
[constraints]
x_end = "last(x) == 300"
v_end = "last(v) == 0"
""",
        30.0,
        "exact: bang-bang, sqrt(2 · 300 · 3/2)",
    ),
    ControlProblem(
        "brachistochrone",
        """
[variables]
T = { start = 1, lower = 0.1, upper = 10 }
[time]
to = "T"
[states]
x = { rate = "v * sin(angle)", initial = 0 }
y = { rate = "v * cos(angle)", initial = 0 }
v = { rate = "9.81 * cos(angle)", initial = 0 }
[controls]
angle = { start = 0.7, lower = 0, upper = 3.14, form = "pointwise" }
[minimize]
time = "T"
[constraints]
x_end = "last(x) == 1"
y_end = "last(y) == 1"
""",
        0.58289546,
        "a cycloid; Johann Bernoulli, 1696",
    ),
    ControlProblem(
        "van-der-pol",
        """
[time]
to = 5
[states]
x = { rate = "(1 - y^2) * x - y + u", initial = 0 }
y = { rate = "x", initial = 1 }
[controls]
u = { start = 0, lower = -0.3, upper = 1, form = "pointwise" }
[minimize]
cost = "integral(x^2 + y^2 + u^2)"
""",
        2.86726,
        "V. Vassiliadis, R. Sargent, C. Pantelides, 1994",
    ),
    ControlProblem(
        "rocket",
        """
[variables]
T = { start = 0.2, lower = 0.01, upper = 1 }
[time]
to = "T"
[states]
h = { rate = "v", initial = 1, lower = 1 }
v = { rate = "(thrust - drag) / m - 1 / h^2", initial = 0, lower = 0 }
m = { rate = "-thrust / 0.5", initial = 1, lower = 0.6, upper = 1 }
[controls]
thrust = { start = 1.75, lower = 0, upper = 3.5, form = "pointwise" }
[signals]
drag = "310 * v^2 * exp(-500 * (h - 1))"
[maximize]
height = "last(h)"
""",
        1.01284,
        "R. Goddard, 1919; P. Tsiotras, H. Kelley, 1992",
    ),
    ControlProblem(
        "catalyst-mixing",
        """
[time]
to = 1
[states]
x = { rate = "u * (10 * y - x)", initial = 1 }
y = { rate = "u * (x - 10 * y) - (1 - u) * y", initial = 0 }
[controls]
u = { start = 0.5, lower = 0, upper = 1, form = "pointwise" }
[maximize]
yield = "1 - last(x) - last(y)"
""",
        0.0480557,
        "S. von Stockar; E. Dolan, J. Moré, T. Munson, 2004",
    ),
    ControlProblem(
        "rayleigh",
        """
[time]
to = 2.5
[states]
x = { rate = "y", initial = -5 }
y = { rate = "-x + y * (1.4 - 0.14 * y^2) + 4 * u", initial = -5 }
[controls]
u = { start = 0, form = "pointwise" }
[minimize]
cost = "integral(u^2 + x^2)"
""",
        29.37605,
        "H. Maurer, D. Augustin, 2001",
    ),
    ControlProblem(
        "parallel-reactions",
        """
[time]
to = 1
[states]
a = { rate = "-(u + u^2 / 2) * a", initial = 1 }
b = { rate = "u * a", initial = 0 }
[controls]
u = { start = 1, lower = 0, upper = 5, form = "pointwise" }
[maximize]
yield = "last(b)"
""",
        0.573544,
        "L. Biegler, 1984",
    ),
    ControlProblem(
        "consecutive-reactions",
        """
[time]
to = 1
[states]
a = { rate = "-4000 * exp(-2500 / temperature) * a^2", initial = 1 }
b = { rate = "4000 * exp(-2500 / temperature) * a^2 - 6.2e5 * exp(-5000 / temperature) * b", initial = 0 }
[controls]
temperature = { start = 350, lower = 298, upper = 398, form = "pointwise" }
[maximize]
yield = "last(b)"
""",
        0.610775,
        "W. Ray, 1981; S. Dadebo, K. McAuley, 1995",
    ),
    ControlProblem(
        "fishing",
        """
[time]
to = 12
[states]
x = { rate = "x - x * y - 0.4 * x * w", initial = 0.5 }
y = { rate = "-y + x * y - 0.2 * y * w", initial = 0.7 }
[controls]
w = { start = 0.5, lower = 0, upper = 1, form = "pointwise" }
[minimize]
off = "integral((x - 1)^2 + (y - 1)^2)"
""",
        1.344080,
        "S. Sager, 2006 (relaxed)",
    ),
    ControlProblem(
        "linear-quadratic",
        """
[time]
to = 1
[states]
x = { rate = "-x + u", initial = 1 }
[controls]
u = { start = 0, form = "pointwise" }
[minimize]
cost = "integral(x^2 + u^2)"
""",
        _LQ,
        "exact: Riccati's equation",
        1e-9,
    ),
    ControlProblem(
        "lander",
        """
[variables]
T = { start = 5, lower = 0.5, upper = 50 }
[time]
to = "T"
[states]
h = { rate = "v", initial = 10, lower = 0 }
v = { rate = "-1.5 + u", initial = -2 }
[controls]
u = { start = 1.5, lower = 0, upper = 3, form = "pointwise" }
[minimize]
fuel = "integral(u)"
[constraints]
h_end = "last(h) == 0"
v_end = "last(v) == 0"
""",
        _LANDER,
        "exact: free fall, then full thrust; J. Meditch, 1964",
        1e-9,
    ),
    ControlProblem(
        "boundary-layers",
        """
[time]
to = 40
[states]
x = { rate = "-x^3 + u", initial = 1 }
[controls]
u = { start = 0, form = "pointwise" }
[minimize]
cost = "integral(x^2 + u^2)"
[constraints]
x_end = "last(x) == 1.5"
""",
        _decay_and_rise(),
        "A. Rao, K. Mease, 2000; exact to e^-50",
        1e-9,
    ),
    ControlProblem(
        "singular-regulator",
        """
[time]
to = 5
[states]
x = { rate = "v", initial = 0 }
v = { rate = "u", initial = 1 }
[controls]
u = { start = 0, lower = -1, upper = 1, form = "pointwise" }
[minimize]
cost = "integral(x^2 + v^2) / 2"
""",
        0.37699193,
        "G. Aly, W. Chan, 1973",
    ),
    ControlProblem(
        "tank-reactor",
        """
[time]
to = 0.78
[states]
x = { rate = "-2 * (x + 0.25) + r - (x + 0.25) * u", initial = 0.05 }
y = { rate = "0.5 - y - r", initial = 0 }
[signals]
r = "(y + 0.5) * exp(25 * x / (x + 2))"
[controls]
u = { start = 0, lower = 0, upper = 5, form = "pointwise" }
[minimize]
cost = "integral(x^2 + y^2 + 0.1 * u^2)"
""",
        0.0266033555,
        "L. Lapidus, R. Luus, 1967; the number from Pontryagin's conditions as a boundary value problem",
    ),
    ControlProblem(
        "orbit-raising",
        """
[time]
to = 3.32
[states]
r = { rate = "u", initial = 1, lower = 0.5 }
u = { rate = "v^2 / r - 1 / r^2 + pull * sin(angle)", initial = 0 }
v = { rate = "-u * v / r + pull * cos(angle)", initial = 1 }
[signals]
pull = "0.1405 / (1 - 0.07487 * t)"
[controls]
angle = { start = 0, lower = "-pi", upper = "pi", form = "pointwise" }
[maximize]
radius = "last(r)"
[constraints]
u_end = "last(u) == 0"
v_end = "last(v) == sqrt(1 / last(r))"
""",
        1.52527,
        "H. Moyer, G. Pinkham, 1964; A. Bryson, Y.-C. Ho, 1975",
        2e-5,
    ),
    ControlProblem(
        "steering",
        """
[variables]
T = { start = 1, lower = 0.01, upper = 10 }
[time]
to = "T"
[states]
x = { rate = "vx", initial = 0 }
y = { rate = "vy", initial = 0 }
vx = { rate = "100 * cos(angle)", initial = 0 }
vy = { rate = "100 * sin(angle)", initial = 0 }
[controls]
angle = { start = 0.5, lower = "-pi / 2", upper = "pi / 2", form = "pointwise" }
[minimize]
time = "T"
[constraints]
y_end = "last(y) == 5"
vx_end = "last(vx) == 45"
vy_end = "last(vy) == 0"
""",
        0.554570879,
        "A. Bryson, Y.-C. Ho, 1975; E. Dolan, J. Moré, T. Munson, 2004",
    ),
    ControlProblem(
        "hanging-chain",
        """
[time]
to = 1
[states]
x = { rate = "u", initial = 1, start = "1 + 2 * t" }
[controls]
u = { start = 2, form = "pointwise" }
[minimize]
energy = "integral(x * sqrt(1 + u^2))"
[constraints]
x_end = "last(x) == 3"
length = "integral(sqrt(1 + u^2)) == 4"
""",
        5.068506,
        "L. Cesari, 1983; E. Dolan, J. Moré, T. Munson, 2004",
    ),
    ControlProblem(
        "robot-arm",
        """
[variables]
T = { start = 5, lower = 0.1, upper = 50 }
[time]
to = "T"
[states]
rho = { rate = "rho_v", initial = 4.5, lower = 0, upper = 5 }
theta = { rate = "theta_v", initial = 0, lower = -3.1416, upper = 3.1416 }
phi = { rate = "phi_v", initial = "pi / 4", lower = 0, upper = 3.1416 }
rho_v = { rate = "u_rho / 5", initial = 0 }
theta_v = { rate = "u_theta / i_theta", initial = 0 }
phi_v = { rate = "u_phi / i_phi", initial = 0 }
[signals]
i_phi = "((5 - rho)^3 + rho^3) / 3"
i_theta = "i_phi * sin(phi)^2"
[controls]
u_rho = { start = 0, lower = -1, upper = 1, form = "pointwise" }
u_theta = { start = 0, lower = -1, upper = 1, form = "pointwise" }
u_phi = { start = 0, lower = -1, upper = 1, form = "pointwise" }
[minimize]
time = "T"
[constraints]
rho_end = "last(rho) == 4.5"
theta_end = "last(theta) == 2 * pi / 3"
phi_end = "last(phi) == pi / 4"
rho_v_end = "last(rho_v) == 0"
theta_v_end = "last(theta_v) == 0"
phi_v_end = "last(phi_v) == 0"
""",
        9.14093,
        "E. Dolan, J. Moré, T. Munson, 2004",
        5e-5,
    ),
    ControlProblem(
        "alp-ride",
        """
[time]
to = 20
[states]
y1 = { rate = "-10 * y1 + u1 + u2", initial = 2 }
y2 = { rate = "-2 * y2 + u1 + 2 * u2", initial = 1 }
y3 = { rate = "-3 * y3 + 5 * y4 + u1 - u2", initial = 2 }
y4 = { rate = "5 * y3 - 3 * y4 + u1 + 3 * u2", initial = 1 }
[signals]
ridge = "3 * exp(-12 * (t - 3)^2) + 3 * exp(-10 * (t - 6)^2) + 3 * exp(-6 * (t - 10)^2) + 8 * exp(-4 * (t - 15)^2)"
[controls]
u1 = { start = 0, form = "pointwise" }
u2 = { start = 0, form = "pointwise" }
[minimize]
cost = "integral(1e2 * (y1^2 + y2^2 + y3^2 + y4^2) + 0.01 * (u1^2 + u2^2))"
[constraints]
above = "y1^2 + y2^2 + y3^2 + y4^2 >= ridge + 0.01"
e1 = "last(y1) == 2"
e2 = "last(y2) == 3"
e3 = "last(y3) == 1"
e4 = "last(y4) == -2"
""",
        2030.85609,
        "J. Betts, 2001",
        1e-4,
    ),
)
