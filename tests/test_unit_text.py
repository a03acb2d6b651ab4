"""How units are written, and what of them goes together."""

import contextlib
import random
import unittest
from fractions import Fraction

from ilvren import loads
from ilvren.problem import check_units
from ilvren.problem.unit_text import UnitTextError, unit_factors


def troubles(**units):
    """Return what is found in f = FORMULA of x, y and t with these units."""
    formula, declared = units.pop("formula"), units.pop("f", "")
    names = "".join(f'{name} = {{ start = 1, unit = "{unit}" }}\n' for name, unit in units.items())
    text = f'[variables]\n{names}[minimize]\nf = {{ formula = "{formula}", unit = "{declared}" }}\n'
    return [item.message for item in check_units(loads(text)).troubles]


class Text(unittest.TestCase):
    def test_products_and_powers(self):
        for text, expected in {
            "m": {"m": 1},
            "kg/m/s": {"kg": 1, "m": -1, "s": -1},
            "W/(m^2 K)": {"W": 1, "m": -2, "K": -1},
            "m s⁻²": {"m": 1, "s": -2},
            "1/h": {"h": -1},
            "m^(1/2)·s**-0.5": {"m": Fraction(1, 2), "s": Fraction(-1, 2)},
            "m/m": {},
            "(kg m)^2/€": {"kg": 2, "m": 2, "€": -1},
        }.items():
            self.assertEqual(unit_factors(text), expected, text)

    def test_what_is_no_unit_is_refused_with_a_reason(self):
        for text in ("m^9^9", "[m]", "m**", "2", "m/", "((m", "m^99", "m^1e9", "a.b", "m;", "^2", "m^(1/0)", "m" * 200,
                     "(" * 50 + "m", "m*" * 40 + "m", "lambda: 1", "m^9*m^9", "¹"):  # fmt: skip
            with self.subTest(text=text[:20]), self.assertRaises(UnitTextError) as caught:
                unit_factors(text)
            self.assertGreater(len(str(caught.exception)), 10)

    def test_any_text_is_read_or_refused(self):
        rng, signs = random.Random(4), "mK°%1209^*/()-+ ²⁻.e[]{}'\"\\\n\x1b€·"
        for _ in range(3000):
            text = "".join(rng.choice(signs) for _ in range(rng.randrange(1, 12)))
            with contextlib.suppress(UnitTextError):
                self.assertTrue(all(abs(power) <= 12 for power in unit_factors(text).values()), text)


class GoingTogether(unittest.TestCase):
    def test_signs_and_words_that_are_two_units(self):
        self.assertEqual(troubles(x="Nm", y="N", z="m", formula="x + y*z"), [])
        self.assertEqual(troubles(x="€", y="EUR", formula="x + y"), [])
        self.assertEqual(troubles(x="°C", y="degC", formula="max(x, y)"), [])
        self.assertEqual(troubles(x="m²", y="m^2", formula="x + y"), [])
        self.assertRegex(troubles(x="Nm", y="N", formula="x + y")[0], "different kinds")
        self.assertRegex(troubles(x="m^9^9^9", formula="x")[0], "cannot be read as a unit: .*expected")

    def test_units_that_count_from_a_zero_of_their_own(self):
        good = (
            {"formula": "x - y", "f": "K"},
            {"formula": "x + (y - x)", "f": "degC"},
            {"formula": "z*(x - y)", "f": "W"},
        )
        for facts in good:
            self.assertEqual(troubles(x="degC", y="degC", z="W/K", **facts), [], facts)
        for formula in ("z*x", "x^2", "x + y", "1/x"):
            found = troubles(x="degC", y="degC", z="W/K", formula=formula)
            self.assertRegex(found[0], "zero", formula)

    def test_what_one_file_invents_no_other_knows(self):
        for _ in range(2):
            report = check_units(loads('[variables]\nx = { start = 1, unit = "sack" }\n[minimize]\nf = "x"\n'))
            self.assertEqual(report.invented, ["sack"])
            self.assertEqual(report.troubles, [])


if __name__ == "__main__":
    unittest.main()
