"""Published multimodal functions with their published optima, and mixed discrete designs, as problem files.

Boxes are the published ones, moved off their middle where that is the optimum.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from ilvren import loads
from ilvren.problem import Problem

__all__ = ["MIXED", "MULTIMODAL", "Multimodal"]


@dataclass(frozen=True)
class Multimodal:
    """A formula of a vector x of n elements between two bounds, and its least value."""

    name: str
    n: int
    lower: float
    upper: float
    formula: str
    best: float

    def problem(self, start: float = 0.37) -> Problem:
        """Return the problem, starting at a share of the box."""
        at = self.lower + start * (self.upper - self.lower)
        return loads(
            f"[variables]\nx = {{ start = {at!r}, lower = {self.lower!r}, upper = {self.upper!r}, shape = {self.n} }}\n"
            f"[parameters]\nn = {self.n}\nk = 'evenly(1, n, n)'\n[minimize]\nf = '''{self.formula}'''\n",
            file=f"{self.name}-{self.n}",
        )


RASTRIGIN = "10 * n + sum(x^2 - 10 * cos(2 * pi * x))"
ACKLEY = "20 - 20 * exp(-0.2 * sqrt(mean(x^2))) + exp(1) - exp(mean(cos(2 * pi * x)))"
GRIEWANK = "1 + sum(x^2) / 4000 - prod(cos(x / sqrt(k)))"
SCHWEFEL = "418.9828872724338 * n - sum(x * sin(sqrt(abs(x))))"
LEVY = (
    "sin(pi * (x[0] + 3) / 4)^2 + sum(((x[:-1] - 1) / 4)^2 * (1 + 10 * sin(pi * (x[:-1] + 3) / 4 + 1)^2))"
    " + ((x[n - 1] - 1) / 4)^2 * (1 + sin(2 * pi * (x[n - 1] + 3) / 4)^2)"
)
MICHALEWICZ = "-sum(sin(x) * sin(k * x^2 / pi)^20)"
SHEKEL = " ".join(
    f"- 1 / ((x[0] - {a})^2 + (x[1] - {b})^2 + (x[2] - {a})^2 + (x[3] - {b})^2 + {c})"
    for a, b, c in ((4, 4, 0.1), (1, 1, 0.2), (8, 8, 0.2), (6, 6, 0.4), (3, 7, 0.4), (2, 9, 0.6), (8, 1, 0.7), (6, 2, 0.5), (7, 3.6, 0.5))
) + " - 1 / ((x[0] - 5)^2 + (x[1] - 5)^2 + (x[2] - 3)^2 + (x[3] - 3)^2 + 0.3)"  # fmt: skip
B6 = ((10, 3, 17, 3.5, 1.7, 8), (0.05, 10, 17, 0.1, 8, 14), (3, 3.5, 1.7, 10, 17, 8), (17, 8, 0.05, 10, 0.1, 14))
P6 = (
    (0.1312, 0.1696, 0.5569, 0.0124, 0.8283, 0.5886),
    (0.2329, 0.4135, 0.8307, 0.3736, 0.1004, 0.9991),
    (0.2348, 0.1451, 0.3522, 0.2883, 0.3047, 0.6650),
    (0.4047, 0.8828, 0.8732, 0.5743, 0.1091, 0.0381),
)
HARTMANN = " ".join(
    f"- {a} * exp(-("
    + " + ".join(f"{b} * (x[{i}] - {p})^2" for i, (b, p) in enumerate(zip(bs, ps, strict=True)))
    + "))"
    for a, bs, ps in zip((1.0, 1.2, 3.0, 3.2), B6, P6, strict=True)
)
SIX_HUMPS = "(4 - 2.1 * x[0]^2 + x[0]^4 / 3) * x[0]^2 + x[0] * x[1] + (4 * x[1]^2 - 4) * x[1]^2"
BRANIN = "(x[1] - 5.1 / (4 * pi^2) * x[0]^2 + 5 / pi * x[0] - 6)^2 + 10 * (1 - 1 / (8 * pi)) * cos(x[0]) + 10"
GOLDSTEIN = (
    "(1 + (x[0] + x[1] + 1)^2 * (19 - 14 * x[0] + 3 * x[0]^2 - 14 * x[1] + 6 * x[0] * x[1] + 3 * x[1]^2))"
    " * (30 + (2 * x[0] - 3 * x[1])^2 * (18 - 32 * x[0] + 12 * x[0]^2 + 48 * x[1] - 36 * x[0] * x[1] + 27 * x[1]^2))"
)
SHUBERT = " * ".join(
    "(" + " + ".join(f"{j} * cos({j + 1} * x[{i}] + {j})" for j in range(1, 6)) + ")" for i in range(2)
)
EGG_HOLDER = "-(x[1] + 47) * sin(sqrt(abs(x[0] / 2 + x[1] + 47))) - x[0] * sin(sqrt(abs(x[0] - x[1] - 47)))"

MULTIMODAL = (
    *(Multimodal("Rastrigin", n, -4.1, 6.4, RASTRIGIN, 0.0) for n in (2, 5, 10)),
    *(Multimodal("Ackley", n, -28.0, 36.0, ACKLEY, 0.0) for n in (2, 10)),
    *(Multimodal("Griewank", n, -500.0, 700.0, GRIEWANK, 0.0) for n in (2, 10)),
    *(Multimodal("Schwefel", n, -500.0, 500.0, SCHWEFEL, 0.0) for n in (2, 5, 10)),
    *(Multimodal("Levy", n, -10.0, 10.0, LEVY, 0.0) for n in (3, 10)),
    *(
        Multimodal("Michalewicz", n, 0.0, math.pi, MICHALEWICZ, best)
        for n, best in ((2, -1.8013034101), (5, -4.6876581791), (10, -9.6601517156))
    ),
    Multimodal("Shekel", 4, 0.0, 10.0, SHEKEL, -10.5364098167),
    Multimodal("Hartmann", 6, 0.0, 1.0, HARTMANN, -3.3223680114),
    Multimodal("six humps", 2, -3.0, 3.0, SIX_HUMPS, -1.0316284535),
    Multimodal("Branin", 2, -5.0, 15.0, BRANIN, 0.3978873577),
    Multimodal("Goldstein and Price", 2, -2.0, 2.0, GOLDSTEIN, 3.0),
    Multimodal("Shubert", 2, -10.0, 10.0, SHUBERT, -186.7309088310),
    Multimodal("egg holder", 2, -512.0, 512.0, EGG_HOLDER, -959.6406627209),
)

# E. Sandgren, "Nonlinear integer and discrete programming in mechanical design optimization", 1990: a pressure vessel
# of rolled plates, a coil spring of wires on stock, and gears whose ratio is nearest to 1/6.931.
VESSEL = """[variables]
shell  = { start = 1.0, lower = 0.0625, upper = 6.1875, spacing = 0.0625 }
head   = { start = 1.0, lower = 0.0625, upper = 6.1875, spacing = 0.0625 }
radius = { start = 50, lower = 10, upper = 200 }
length = { start = 100, lower = 10, upper = 200 }
[minimize]
cost = '''0.6224 * shell * radius * length + 1.7781 * head * radius^2 + 3.1661 * shell^2 * length
          + 19.84 * shell^2 * radius'''
[constraints]
hoop   = "0.0193 * radius - shell <= 0"
dome   = "0.00954 * radius - head <= 0"
volume = { formula = "pi * radius^2 * length + 4 / 3 * pi * radius^3 >= 1296000" }
"""
WIRES = "[0.207, 0.225, 0.244, 0.263, 0.283, 0.307, 0.331, 0.362, 0.394, 0.4375, 0.5]"
SPRING = f"""[variables]
wire  = {{ start = 0.331, catalogue = {WIRES} }}
coil  = {{ start = 2.0, lower = 0.6, upper = 3.0 }}
turns = {{ start = 15, lower = 1, upper = 70, spacing = 1 }}
[parameters]
load = 1000
shear = 11.5e6
[derived]
index = "coil / wire"
factor = "(4 * index - 1) / (4 * index - 4) + 0.615 / index"
stiffness = "shear * wire^4 / (8 * turns * coil^3)"
free_length = "load / stiffness + 1.05 * (turns + 2) * wire"
[minimize]
volume = "pi^2 * coil * wire^2 * (turns + 2) / 4"
[constraints]
stress = "8 * factor * load * coil / (pi * wire^3) <= 189000"
length = "free_length <= 14"
outside = "coil + wire <= 3"
slender = "index >= 3"
preload = "300 / stiffness <= 6"
reach = "(load - 300) / stiffness >= 1.25"
"""
GEARS = (
    "[variables]\n"
    + "\n".join(f"{name} = {{ start = 30, lower = 12, upper = 60, spacing = 1 }}" for name in "abcd")
    + '\n[minimize]\nerror = { formula = "(1 / 6.931 - a * b / (c * d))^2", magnitude = 1e-11 }\n'
)

# Name, problem file, the best value known.
MIXED = (("pressure vessel", VESSEL, 6059.714335), ("coil spring", SPRING, 2.6585592), ("gears", GEARS, 2.7e-12))
