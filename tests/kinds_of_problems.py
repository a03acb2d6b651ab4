"""A small problem of every kind, with the files it needs beside it."""

import sys
from pathlib import Path

__all__ = ["KINDS", "MIXED", "alone", "written"]

_MODEL = '''
def trough(width, depth):
    """Area and wetted length."""
    return {"area": width * depth + 0.5 * depth**2, "length": width + 2.2 * depth}
'''
_PROGRAM = """#!%PYTHON%
width, depth = (float(line.split("=")[1]) for line in open("deck.txt"))
open("listing.txt", "w").write(f"AREA {width * depth + 0.5 * depth**2:.9f}\\nLENGTH {width + 2.2 * depth:.9f}\\n")
"""
_TROUGH = """
[variables]
width = { start = 2.0, lower = 0.5, upper = 4, unit = "m" }
depth = { start = 1.0, lower = 0.2, upper = 3, unit = "m" }
[minimize]
length = { formula = "dig.length", unit = "m" }
[constraints]
room = "dig.area >= 2"
"""

# kind → text of the file p.toml.
KINDS = {
    "formulas": """
[variables]
x = { start = 2.0, lower = 0.5, upper = 4, unit = "m" }
y = { start = 1.0, lower = 0.2, upper = 3, unit = "m" }
[parameters]
least = { value = 2.0, unit = "m^2" }
[minimize]
cost = { formula = "3*x + 2*y", unit = "m" }
[constraints]
room = { formula = "x*y >= least", unit = "m^2" }
""",
    "vectors": """
[parameters]
n = 4
[variables]
u = { start = 0.5, lower = -1, upper = 1, shape = "n" }
[minimize]
f = "sum((u - 0.7)^2) + sum(diff(u)^2)"
[constraints]
rise = "diff(u) <= 0.3"
total = "sum(u) == 2"
""",
    "python model": '[models.dig]\npython = "dig.py:trough"\noutputs = ["area", "length"]\n' + _TROUGH,
    "program": """
[models.dig]
command = ["./dig_program"]
files = ["dig_program"]
[models.dig.write."deck.txt"]
template = "deck.j2"
[models.dig.read]
area = { file = "listing.txt", after = "AREA" }
length = { file = "listing.txt", after = "LENGTH" }
"""
    + _TROUGH,
    "over time": """
[time]
to = 2
unit = "s"
[states]
heat = { rate = "-k * heat + push", initial = 1, unit = "K" }
[variables]
k = { start = 1.0, lower = 0.1, upper = 5, unit = "1/s" }
push = { start = 0.5, lower = 0, upper = 1, unit = "K/s" }
[minimize]
cost = "(at(heat, 2) - 0.3)^2 + 0.01 * k^2"
[constraints]
top = "highest(heat) <= 1.2"
""",
    "control": """
[time]
to = 1
unit = "s"
steps = 6
[states]
place = { rate = "speed", initial = 0, unit = "m" }
speed = { rate = "push", initial = 0, unit = "m/s" }
[controls]
push = { start = 0, lower = -6, upper = 6, form = "pointwise", unit = "m/s^2" }
[minimize]
work = "integral(push^2)"
[constraints]
there = "at(place, 1) == 1"
still = "at(speed, 1) == 0"
""",
    "several objectives": """
[variables]
x = { start = 1.0, lower = 0, upper = 3 }
y = { start = 1.0, lower = 0, upper = 3 }
[minimize]
cost = "x^2 + y^2"
loss = "(x - 2)^2 + (y - 1)^2"
[constraints]
c = "x + y >= 0.5"
""",
    "scatter": """
[variables]
wall = { start = 8.0, lower = 4, upper = 14, unit = "mm" }
bore = { start = 0.3, lower = 0.1, upper = 0.5, unit = "m" }
[parameters]
head = { value = 60.0, unit = "m" }
[scatter]
wall = { law = "normal", deviation = 0.2 }
head = { law = "uniform", half_width = 5.0 }
[minimize]
cost = "expected(wall * bore) + 1 / bore"
[constraints]
stress = "chance(head * bore / wall <= 2.4) >= 0.9"
""",
    "members": """
[variables]
wood = { choices = ["oak", "larch", "red beech"], start = "oak" }
tube = { start = 30, catalogue = [20, 30, 50], unit = "mm" }
n = { start = 3, lower = 1, upper = 6, spacing = 1 }
t = { start = 2, lower = 1, upper = 5 }
[parameters]
woods = ["oak", "larch", "red beech"]
[derived]
price = "lookup(wood, woods, join(4, 2.5, 3.2))"
[minimize]
cost = "price * n + tube / 10 + t + 6 / t"
[constraints]
room = "n * tube * t >= 150"
""",
    "fit": """
[tables]
seen = { file = "seen.csv" }
[variables]
a = { start = 1, lower = -9, upper = 9 }
b = { start = 1, lower = -9, upper = 9 }
[fit]
line = { residual = "a + b * seen.t - seen.y" }
""",
    "cases": """
[cases.calm]
[cases.storm]
set = { wind = 4 }
[parameters]
wind = 1
[variables]
w = { start = 2, lower = 0.1, upper = 9 }
h = { start = 2, lower = 0.1, upper = 9 }
[derived]
push = "wind * h"
[minimize]
cost = "w^2 + worst(push)"
[constraints]
holds = "w * h >= wind"
""",
    "confirmed": """
[models.dig]
python = "dig.py:trough"
outputs = ["area", "length"]
[variables]
width = { start = 2.0, lower = 0.5, upper = 4 }
depth = { start = 1.0, lower = 0.2, upper = 3 }
[minimize]
cost = "width + 2.2 * depth"
[constraints]
room = "width * depth >= 2"
[confirm]
area = "dig.area >= 1"
""",
}

# Several kinds in one.
MIXED = {
    "front of members": """
[variables]
wood = { choices = ["oak", "larch", "red beech"], start = "oak" }
n = { start = 3, lower = 1, upper = 6, spacing = 1 }
t = { start = 2, lower = 1, upper = 5 }
[parameters]
woods = ["oak", "larch", "red beech"]
[derived]
price = "lookup(wood, woods, join(4, 2.5, 3.2))"
[minimize]
cost = "price * n * t"
sag = "9 / (n * t^2 * price)"
[constraints]
room = "n * t >= 4"
""",
    "scattering members": """
[variables]
wood = { choices = ["oak", "larch", "red beech"], start = "oak" }
t = { start = 4, lower = 1, upper = 9 }
[parameters]
woods = ["oak", "larch", "red beech"]
load = 5.0
[scatter]
load = { law = "normal", deviation = 0.5 }
t = { law = "uniform", half_width = 0.1 }
[derived]
price = "lookup(wood, woods, join(4, 2.5, 3.2))"
strength = "lookup(wood, woods, join(3, 1.5, 2.4))"
[minimize]
cost = "expected(price * t)"
[constraints]
holds = "chance(strength * t >= load) >= 0.95"
""",
    "members over time": """
[time]
to = 2
[states]
heat = { rate = "-k * loss * heat", initial = 1 }
[variables]
k = { start = 1.0, lower = 0.1, upper = 5 }
lid = { choices = ["cork", "felt"], start = "cork" }
[parameters]
lids = ["cork", "felt"]
[derived]
loss = "lookup(lid, lids, join(0.5, 0.8))"
[minimize]
cost = "k + 2 * loss"
[constraints]
low = "at(heat, 2) <= 0.3"
""",
    "model over time": """
[models.dig]
python = "dig.py:trough"
outputs = ["area", "length"]
inputs = { width = "heat + 1", depth = "depth" }
[time]
to = 1
steps = 8
[states]
heat = { rate = "-area / 4", initial = 1 }
[variables]
depth = { start = 1.0, lower = 0.2, upper = 3 }
[minimize]
cost = "(at(heat, 1) - 0.2)^2 + 0.01 * depth"
""",
    "fit over time": """
[tables]
seen = { file = "seen.csv" }
[time]
to = 4
[states]
y = { rate = "b", initial = "a" }
[variables]
a = { start = 1, lower = -9, upper = 9 }
b = { start = 1, lower = -9, upper = 9 }
[fit]
line = { residual = "at(y, seen.t) - seen.y" }
""",
    "scattering front": """
[variables]
x = { start = 1.0, lower = 0, upper = 3 }
y = { start = 1.0, lower = 0, upper = 3 }
[parameters]
p = 1.0
[scatter]
p = { law = "normal", deviation = 0.1 }
[minimize]
cost = "expected(p * x^2) + y^2"
risk = "deviation(p * (3 - x)) + (y - 1)^2"
""",
    "cases of vectors": """
[parameters]
n = 3
wind = 1
[cases.calm]
[cases.storm]
set = { wind = 2 }
[variables]
u = { start = 1, lower = 0.1, upper = 4, shape = "n" }
k = { start = 2, lower = 1, upper = 4, spacing = 1 }
[derived]
push = "wind * sum(u) / k"
[minimize]
cost = "sum(u^2) + k + worst(push)"
[constraints]
holds = "u * k >= wind"
""",
}


def written(kind: str) -> None:
    """Write p.toml and what it needs into this folder."""
    Path("p.toml").write_text(f'title = "Kind: {kind}"\n{(KINDS | MIXED)[kind]}')
    Path("dig.py").write_text(_MODEL)
    Path("dig_program").write_text(_PROGRAM.replace("%PYTHON%", sys.executable))
    Path("dig_program").chmod(0o755)
    Path("deck.j2").write_text("width={{ width }}\ndepth={{ depth }}\n")
    Path("seen.csv").write_text("t,y\n0,1.1\n1,2.9\n2,5.2\n3,7.1\n4,8.8\n")


def alone(kind: str) -> None:
    """Write a kind into this folder, which holds nothing else then."""
    for path in Path().iterdir():
        path.unlink()
    written(kind)
