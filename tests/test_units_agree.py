"""Units of random formulas: what is put together rightly passes, what is not is found where it was put."""

import random
import re
import unittest
from collections import Counter

from ilvren import loads
from ilvren.formula.parser import FUNCTIONS
from ilvren.problem import check_units
from tests.compact import tries

# Names with the powers of m, kg and s in their units.
NAMES = {
    "width": ("m", (1, 0, 0)),
    "height": ("m", (1, 0, 0)),
    "mass": ("kg", (0, 1, 0)),
    "load": ("kg", (0, 1, 0)),
    "time": ("s", (0, 0, 1)),
    "speed": ("m/s", (1, 0, -1)),
    "force": ("N", (1, 1, -2)),
    "pull": ("kg m/s^2", (1, 1, -2)),
    "pressure": ("Pa", (-1, 1, -2)),
    "share": ("m/m", (0, 0, 0)),
}
PURE = (0, 0, 0)
HEAD = "[variables]\n" + "".join(f'{name} = {{ start = 1, unit = "{unit}" }}\n' for name, (unit, _) in NAMES.items())


def unit_text(powers):
    parts = [f"{base}^{power}" for base, power in zip(("m", "kg", "s"), powers, strict=True) if power]
    return " ".join(parts)


def troubles(formula, declared=None):
    entry = f'f = {{ formula = "{formula}"' + ("" if declared is None else f', unit = "{declared}"') + " }\n"
    return check_units(loads(f"{HEAD}[minimize]\n{entry}")).troubles


class Maker:
    """Formulas of a unit asked for, out of sums, products, powers and functions."""

    def __init__(self, seed):
        self.rng = random.Random(seed)

    def of(self, powers, depth):
        """Return a formula with these powers."""
        rng = self.rng
        own = [name for name, (_, known) in NAMES.items() if known == powers]
        ways = ["name"] * bool(own) + ["product", "sum", "function", "quotient"] * (depth > 0)
        way = rng.choice(ways or ["product"])
        if way == "name":
            return rng.choice(own)
        if way == "sum":
            sign = rng.choice("+-")
            return f"({self.of(powers, depth - 1)} {sign} {self.of(powers, depth - 1)})"
        if way == "function":
            if powers == PURE and rng.random() < 0.5:
                return f"{rng.choice(('sin', 'exp', 'log', 'tanh'))}({self.of(PURE, depth - 1)})"
            if all(power % 2 == 0 for power in powers) and rng.random() < 0.4:
                return f"({self.of(tuple(power // 2 for power in powers), depth - 1)})^2"
            name = rng.choice(("max", "min", "abs"))
            other = "" if name == "abs" else f", {self.of(powers, depth - 1)}"
            return f"{name}({self.of(powers, depth - 1)}{other})"
        name = rng.choice(list(NAMES))
        known = NAMES[name][1]
        if way == "quotient":
            return f"({self.of(tuple(a + b for a, b in zip(powers, known, strict=True)), max(depth - 1, 0))} / {name})" if self.reachable(
                powers, known, 1, depth) else self.plain(powers)  # fmt: skip
        return f"{name} * {self.of(tuple(a - b for a, b in zip(powers, known, strict=True)), max(depth - 1, 0))}" if self.reachable(
            powers, known, -1, depth) else self.plain(powers)  # fmt: skip

    def reachable(self, powers, known, sign, depth):
        return depth > 0 and max(abs(a + sign * b) for a, b in zip(powers, known, strict=True)) <= 3

    def plain(self, powers):
        """Return a product of powers of plain names."""
        parts = [f"{name}^({power})" for name, power in zip(("width", "mass", "time"), powers, strict=True) if power]
        return "(" + (" * ".join(parts) or "share") + ")"


class Random(unittest.TestCase):
    def test_what_is_put_together_rightly_passes(self):
        maker, sizes = Maker(1), Counter()
        for trial in range(tries(250)):
            powers = maker.rng.choice([known for _, known in NAMES.values()])
            text = maker.of(powers, 1 + trial % 4)
            sizes[len(text) > 40] += 1
            with self.subTest(formula=text):
                self.assertEqual([item.message for item in troubles(text, unit_text(powers))], [])
        self.assertGreater(sizes[True], tries(60))

    def test_a_wrong_term_is_found_and_underlined(self):
        maker, found = Maker(2), 0
        for _ in range(tries(150)):
            powers = maker.rng.choice([known for _, known in NAMES.values()])
            wrong = maker.rng.choice([name for name, (_, known) in NAMES.items() if known != powers])
            right = maker.of(powers, 2)
            text = f"3 * max({right}, 0) - 2 * (({right}) + {wrong})"
            with self.subTest(formula=text):
                (trouble,) = troubles(text)
                found += 1
                self.assertIn(wrong, trouble.text[slice(*trouble.span)])
        self.assertEqual(found, tries(150))

    def test_a_declared_unit_of_another_kind_is_found(self):
        maker = Maker(3)
        for _ in range(80):
            powers, other = maker.rng.sample(sorted({known for _, known in NAMES.values()}), 2)
            text = maker.of(powers, 2)
            with self.subTest(formula=text, declared=unit_text(other)):
                self.assertEqual(len(troubles(text, unit_text(other) or "s/s")), 1)

    def test_limits_are_compared_with_what_they_limit(self):
        def of(row):
            return check_units(loads(f'{HEAD}[minimize]\nf = "width"\n[constraints]\nc = "{row}"\n')).troubles

        for row in ("width <= height", "speed * time <= width", "3 <= width <= 7", "force / width^2 >= pressure",
                    "0 <= mass - load", "sin(share) <= 0.5"):  # fmt: skip
            self.assertEqual([item.message for item in of(row)], [], row)
        for row in ("width <= mass", "width <= speed", "mass >= load * time", "width <= height + time"):
            self.assertEqual(len(of(row)), 1, row)

    def test_scales_are_told_apart_but_for_what_may_be_a_conversion(self):
        head = '[variables]\na = { start = 1, unit = "m" }\nb = { start = 1, unit = "mm" }\nt = { start = 1, unit = "h" }\n'

        def of(formula):
            return check_units(loads(f'{head}[minimize]\nf = "{formula}"\n')).troubles

        self.assertIn("different scale", of("a + b")[0].message)
        for formula in ("a + b / 1000", "1000 * a + b", "a / t + b / (3600 * t)"):
            self.assertEqual([item.message for item in of(formula)], [], formula)
        self.assertEqual(len(of("a + t")), 1)
        self.assertEqual(len(of("a + 1000 * t")), 1)


TANK = """
[time]
to = 3
unit = "h"
[variables]
k = { start = 0.3, lower = 0.05, upper = 2, unit = "1/h" }
[parameters]
inflow = { value = 2.0, unit = "m^3/h" }
target = { value = 4.0, unit = "m^3" }
volumes = { value = [0, 2, 5], unit = "m^3" }
heights = { value = [0, 1, 3], unit = "m" }
half = { value = 1.5, unit = "h" }
[controls]
u = { start = 0.1, lower = 0, upper = 1, pieces = 3, unit = "m^3/h" }
[states]
v = { rate = "inflow - k * v + u", initial = "target / 4", unit = "m^3" }
n = { every = 0.5, next = "n + 0.1 * v", initial = 0, unit = "m^3" }
[signals]
height = { formula = "interp(v, volumes, heights)", unit = "m" }
before = { formula = "delayed(v, 0.5)", unit = "m^3" }
plain = "v + n"
[derived]
held = { formula = "integral(v)", unit = "m^3*h" }
middle = { formula = "average(v)", unit = "m^3" }
rise = { formula = "rise_time(v, target / 3, target / 2)", unit = "h" }
over = { formula = "overshoot(v, target)", unit = "m/m" }
calm = { formula = "settling_time(v, target, target / 10)", unit = "h" }
there = { formula = "at(v, half)", unit = "m^3" }
sum_of = { formula = "dot(volumes, heights)", unit = "m^4" }
picked = { formula = "where(k * rise > 1 and v0 < target, target, middle)", unit = "m^3" }
v0 = { formula = "first(v)", unit = "m^3" }
[minimize]
f = { formula = "integral((v - target)^2) / 3", unit = "m^6*h" }
[constraints]
top = "highest(height) <= 3"
both = "plain <= 9 * target"
"""
# What is wrong with it, and where that is told.
WRONG = (
    ('rate = "inflow - k * v + u"', 'rate = "inflow - k + u"', "states.v"),
    ('rate = "inflow - k * v + u"', 'rate = "target + 0 * u"', "states.v"),
    ('initial = "target / 4"', 'initial = "inflow / 4"', "states.v"),
    ('next = "n + 0.1 * v"', 'next = "n + 0.1 * u"', "states.n"),
    ('interp(v, volumes, heights)", unit = "m"', 'interp(v, volumes, heights)", unit = "s"', "signals.height"),
    ("interp(v, volumes, heights)", "interp(u, volumes, heights)", "signals.height"),
    ('delayed(v, 0.5)", unit = "m^3"', 'delayed(v, 0.5)", unit = "m^2"', "signals.before"),
    ("delayed(v, 0.5)", "delayed(v, target)", "signals.before"),
    ('integral(v)", unit = "m^3*h"', 'integral(v)", unit = "m^3"', "derived.held"),
    ('average(v)", unit = "m^3"', 'average(v)", unit = "m^3*h"', "derived.middle"),
    ("rise_time(v, target / 3", "rise_time(v, inflow / 3", "derived.rise"),
    ('target / 2)", unit = "h"', 'target / 2)", unit = "m"', "derived.rise"),
    ('overshoot(v, target)", unit = "m/m"', 'overshoot(v, target)", unit = "m^3"', "derived.over"),
    ("settling_time(v, target, target / 10)", "settling_time(v, target, k)", "derived.calm"),
    ("at(v, half)", "at(v, inflow)", "derived.there"),
    ('dot(volumes, heights)", unit = "m^4"', 'dot(volumes, heights)", unit = "m^3"', "derived.sum_of"),
    ("target, middle)", "target, rise)", "derived.picked"),
    ("k * rise > 1 and v0 < target", "k * rise > 1 and v0 < rise", "derived.picked"),
    ('first(v)", unit = "m^3"', 'first(v)", unit = "h"', "derived.v0"),
    ('/ 3", unit = "m^6*h"', '/ 3", unit = "m^6"', "minimize.f"),
    ("highest(height) <= 3", "highest(height) <= target", "constraints.top"),
    ("plain <= 9 * target", "plain <= 9 * inflow", "constraints.both"),
)


class OverTime(unittest.TestCase):
    """Functions of time, tables, branches and sums of products."""

    def test_what_fits_passes_and_each_slip_is_told_where_it_is(self):
        self.assertEqual([item.message for item in check_units(loads(TANK)).troubles], [])
        for old, new, where in WRONG:
            with self.subTest(new=new):
                text = TANK.replace(old, new)
                self.assertNotEqual(text, TANK)
                found = check_units(loads(text)).troubles
                self.assertIn(where, [item.where for item in found])
                (own,) = (item for item in found if item.where == where)
                name = where.partition(".")[2]
                self.assertEqual(own.line, 1 + text[: text.index(f"\n{name} = ") + 1].count("\n"))

    def test_scatter_takes_the_unit_of_what_scatters(self):
        text = (
            '[variables]\nx = { start = 1, lower = 0, upper = 3, unit = "m" }\n[parameters]\np = { value = 2.0, unit = "m" }\n'
            '[scatter]\np = { law = "normal", deviation = 0.1 }\n[minimize]\n'
            'f = { formula = "expected(x * p) + deviation(x * p)", unit = "m^2" }\n'
            '[constraints]\nc = "chance(x + p <= 5) >= 0.9"\n'
        )
        self.assertEqual([item.message for item in check_units(loads(text)).troubles], [])
        for old, new in (('unit = "m^2"', 'unit = "m"'), ("x + p <= 5", "x * p <= p"), (">= 0.9", ">= p")):
            self.assertEqual(len(check_units(loads(text.replace(old, new))).troubles), 1, new)


# Every function of formulas, on arguments in metres (u, w arrays, of matrix M too): its unit, None where it may have
# any, and whether metres are no argument for it.
OF_METRES = {
    "abs(x)": "m", "min(x, y)": "m", "max(x, y)": "m", "sum(u)": "m", "mean(u)": "m", "norm(u)": "m",
    "sum(diff(u))": "m", "sum(cumsum(u))": "m", "sum(dot(transpose(M), u))": "m^2", "hypot(x, y)": "m", "sqrt(x)": "m^0.5",
    "sum(join(u, x))": "m", "where(x > y, x, y)": "m", "interp(x, u, w)": "m", "lookup(x, u, w)": "m",
    "dot(u, w)": "m^2", "atan2(x, y)": "m/m", "sum(evenly(x, y, 5))": "m", "prod(u)": None,
}  # fmt: skip
OF_PURE = ("exp", "log", "log10", "sinh", "cosh", "tanh", "asin", "acos", "erf")


class EveryFunction(unittest.TestCase):
    HEAD = (
        '[variables]\nx = { start = 0.4, unit = "m" }\ny = { start = 0.5, unit = "m" }\nk = { start = 1, unit = "kg" }\n'
        '[parameters]\nu = { value = [0.1, 0.4, 0.9], unit = "m" }\nw = { value = [1, 2, 3], unit = "m" }\n'
        'M = { value = [[1, 0, 0], [0, 1, 0], [0, 0, 1]], unit = "m" }\n[minimize]\n'
    )

    def of(self, formula, declared=None):
        unit = "" if declared is None else f', unit = "{declared}"'
        return check_units(loads(f'{self.HEAD}f = {{ formula = "{formula}"{unit} }}\n')).troubles

    def test_none_is_without_a_rule(self):
        named = {name for formula in OF_METRES for name in re.findall(r"([a-z]+[0-9]*)\(", formula)}
        # `sin(3 * t)` has a number that may carry any unit: of angles nothing is certain.
        self.assertEqual(set(FUNCTIONS) - named - set(OF_PURE), {"sin", "cos", "tan", "atan"})

    def test_each_gives_the_unit_it_should_and_no_other(self):
        for formula, unit in OF_METRES.items():
            with self.subTest(formula=formula):
                self.assertEqual([item.message for item in self.of(formula, unit)], [])
                wrong = self.of(formula, "kg")
                self.assertEqual([item.where for item in wrong], [] if unit is None else ["minimize.f"])

    def test_some_take_pure_numbers_only(self):
        for name in OF_PURE:
            with self.subTest(function=name):
                self.assertEqual(self.of(f"{name}(x / y) * x", "m"), [])
                (trouble,) = self.of(f"y * {name}(x)")
                self.assertEqual(trouble.text[slice(*trouble.span)], "x")
                self.assertIn("must be a pure number, and has the unit m", trouble.message)
        for formula, of in (("x^(y)", "y"), ("2^x", "x")):
            (trouble,) = self.of(formula)
            self.assertIn("an exponent must be", trouble.message)
            self.assertEqual(trouble.text[slice(*trouble.span)].strip("()"), of)

    def test_arguments_that_do_not_go_together_are_told(self):
        for formula in ("min(x, k)", "hypot(x, k)", "atan2(k, x)", "where(x > k, x, y)", "where(x > y, x, k)", "interp(k, u, w)",
                        "sum(join(u, k))", "sum(evenly(x, k, 5))", "lookup(k, u, w)", "dot(u, w) + x"):  # fmt: skip
            with self.subTest(formula=formula):
                (trouble,) = self.of(formula)
                self.assertIn("units of different kinds", trouble.message)

    def test_temperatures_count_from_zeros_of_their_own(self):
        head = '[variables]\na = { start = 20, unit = "degC" }\nb = { start = 30, unit = "°C" }\nd = { start = 1, unit = "delta_degC" }\n'

        def of(formula, unit):
            text = f'{head}[minimize]\nf = {{ formula = "{formula}", unit = "{unit}" }}\n'
            return " ".join(item.message for item in check_units(loads(text)).troubles)

        for formula, unit in (("a - b", "delta_degC"), ("a + d", "degC"), ("a + (b - a)", "degC"), ("3 * (a - b)", "delta_degC"),
                              ("max(a, b)", "degC")):  # fmt: skip
            self.assertEqual(of(formula, unit), "", formula)
        self.assertIn("2 temperatures", of("a + b", "degC"))
        self.assertIn("counts from a zero of its own", of("2 * a", "degC"))
        self.assertIn("counts from a zero of its own", of("a^2", "degC"))
        self.assertIn("different kinds", of("a - b", "m"))


if __name__ == "__main__":
    unittest.main()
