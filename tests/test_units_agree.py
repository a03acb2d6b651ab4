"""Units of random formulas: what is put together rightly passes, what is not is found where it was put."""

import random
import unittest
from collections import Counter

from ilvren import loads
from ilvren.problem import check_units

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
        for trial in range(250):
            powers = maker.rng.choice([known for _, known in NAMES.values()])
            text = maker.of(powers, 1 + trial % 4)
            sizes[len(text) > 40] += 1
            with self.subTest(formula=text):
                self.assertEqual([item.message for item in troubles(text, unit_text(powers))], [])
        self.assertGreater(sizes[True], 60)

    def test_a_wrong_term_is_found_and_underlined(self):
        maker, found = Maker(2), 0
        for _ in range(150):
            powers = maker.rng.choice([known for _, known in NAMES.values()])
            wrong = maker.rng.choice([name for name, (_, known) in NAMES.items() if known != powers])
            right = maker.of(powers, 2)
            text = f"3 * max({right}, 0) - 2 * (({right}) + {wrong})"
            with self.subTest(formula=text):
                (trouble,) = troubles(text)
                found += 1
                self.assertIn(wrong, trouble.text[slice(*trouble.span)])
        self.assertEqual(found, 150)

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


if __name__ == "__main__":
    unittest.main()
