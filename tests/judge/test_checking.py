"""Checks before any run: wrong derivatives found and noise told apart, conflicts named without a run, units."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from ilvren import check, load, loads
from tests.compact import only_in_whole, some
from tests.models.test_models import CODE, TEXT

ROOMY = "[variables]\nx = { start = 1, lower = 0, upper = 2 }\ny = { start = 1, lower = 0, upper = 3 }\n"


def kinds(report):
    return {(finding.kind, *finding.about) for finding in report.findings}


class Derivatives(unittest.TestCase):
    def check_model(self, more):
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "hydraulics.py").write_text(CODE)
            (Path(folder) / "p.toml").write_text(TEXT.replace("outputs =", more + "\noutputs ="))
            return check(load(Path(folder) / "p.toml"), checks=("derivatives",))

    def test_a_thousandth_off_is_wrong_and_named(self):
        self.assertTrue(self.check_model('slopes = "hydraulics.py:partials"').holds)
        report = self.check_model('slopes = "hydraulics.py:skewed"')
        self.assertFalse(report.holds)
        (finding,) = [finding for finding in report.findings if finding.kind == "wrong"]
        self.assertEqual((finding.facts["entry"], finding.facts["variable"]), ("cost", "bore"))
        self.assertNotAlmostEqual(finding.facts["derivative"] / finding.facts["difference"], 1.0, places=4)

    def test_one_wrong_element_among_thousands_of_variables_is_found(self):
        code = (
            "import numpy as np\nfrom scipy.sparse import diags_array\ndef f(u):\n    return {'y': np.sin(u)}\n"
            "def slopes(u):\n    d = np.cos(u)\n    d[777] *= WRONG\n    return {'y': {'u': diags_array(d).tocsr()}}\n"
        )
        text = (
            '[variables]\nu = { start = 0.3, lower = 0, upper = 1, shape = 1600 }\n[models.m]\npython = "m.py:f"\n'
            'slopes = "m.py:slopes"\noutputs = { y = { shape = 1600 } }\n[minimize]\ng = "sum(u^2)"\n[constraints]\nc = "m.y <= 0.8"\n'
        )
        for factor, holds in some((("1.001", False), ("1.0", True))):
            with self.subTest(factor=factor), tempfile.TemporaryDirectory() as folder:
                (Path(folder) / "m.py").write_text(code.replace("WRONG", factor))
                (Path(folder) / "p.toml").write_text(text)
                report = check(load(Path(folder) / "p.toml"), checks=("derivatives",))
                self.assertEqual(report.holds, holds)
                if not holds:
                    self.assertIn(
                        "c[777]", {finding.about[0] for finding in report.findings if finding.kind == "wrong"}
                    )

    def test_what_is_not_listed_is_counted(self):
        text = (
            ROOMY + '[minimize]\nf = "x + y"\n[constraints]\n' + "".join(f'c{i} = "x <= {9 + i}"\n' for i in range(35))
        )
        findings = check(loads(text), checks=("conflicts",)).findings
        self.assertEqual(sum(finding.kind == "redundant" for finding in findings), 30)
        self.assertIn("5 more", findings[-1].text)

    def test_noise_and_kinks_are_doubtful_not_wrong(self):
        rough = ROOMY + '[minimize]\nf = "(x - 1)^2 + y + 1e-9 * sin(1e12 * x)"\n'
        report = check(loads(rough), checks=("derivatives",))
        self.assertNotIn("wrong", {f.kind for f in report.findings if f.about == ("f", "y")})
        kink = check(loads(ROOMY + '[minimize]\nf = "abs(x - 1) + y"\n'), checks=("derivatives",))
        self.assertTrue(kink.holds)
        self.assertEqual(kink.derivatives.compared, 8)

    def test_all_elements_of_vectors_are_compared(self):
        text = (
            '[variables]\nu = { start = 0.5, lower = 0, upper = 1, shape = 30 }\n[minimize]\nf = "sum(exp(u) * u)"\n'
            '[constraints]\nc = "u[1:]^2 - u[:-1] <= 0.4"\n'
        )
        report = check(loads(text), checks=("derivatives",))
        self.assertEqual(report.derivatives.compared, 4 * 30 * 30)
        self.assertEqual(report.derivatives.agreed, report.derivatives.compared)


class Conflicts(unittest.TestCase):
    def found(self, *rows, variables=ROOMY, more=""):
        lines = "\n".join(f'c{i} = "{row}"' for i, row in enumerate(rows))
        return check(
            loads(f'{variables}{more}[minimize]\nf = "x + y"\n[constraints]\n{lines}\n'), checks=("conflicts",)
        )

    def test_what_can_never_hold(self):
        report = self.found("x * y >= 7", "x + y >= 1")
        self.assertIn(("conflict", "c0"), kinds(report))
        self.assertFalse(report.holds)
        report = self.found("x^2 + y^2 <= -1")
        self.assertIn(("conflict", "c0"), kinds(report))

    def test_pairs_that_exclude_each_other_and_no_innocent(self):
        report = self.found("x + y <= 1", "x - y <= 5", "x >= 0.8", "sqrt(y) >= 0.9")
        self.assertEqual(kinds(report) & {("conflict", "c0", "c2", "c3")}, {("conflict", "c0", "c2", "c3")})
        report = self.found("exp(x) >= 6", "x <= 1.7", "y <= 2")
        self.assertIn(("conflict", "c0", "c1"), kinds(report))

    def test_what_always_holds_and_what_is_forced(self):
        report = self.found("x + y <= 6", "x + 2 * y <= 1e-12")
        self.assertTrue(report.holds)
        self.assertIn(("redundant", "c0"), kinds(report))
        self.assertTrue({("forced", "x"), ("forced", "y")} <= kinds(report))

    @only_in_whole
    def test_elements_of_vectors_and_feasible_problems(self):
        vector = "[variables]\nx = { start = 1, lower = 0, upper = 2, shape = 4 }\ny = 1.0\n[parameters]\ntop = [1, 1, -1, 1]\n"
        text = vector + '[minimize]\nf = "sum(x) + y"\n[constraints]\nc = "x^2 <= top"\n'
        (finding,) = [f for f in check(loads(text), checks=("conflicts",)).findings if f.kind == "conflict"]
        self.assertEqual(finding.about, ("c[2]",))
        rng = np.random.default_rng(3)
        for _ in range(40):  # limits that some design meets are never called a conflict
            a, b, c = rng.normal(size=3)
            x, y = rng.uniform([0, 0], [2, 3])
            row = f"{a} * x * y + {b} * sin(x) + {c} * y^2"
            value = a * x * y + b * np.sin(x) + c * y**2
            report = self.found(
                f"{row} <= {value + 1e-9}", f"{row} >= {value - 1e-9}", f"x >= {x - 1e-9}", f"y <= {y + 1e-9}"
            )
            self.assertTrue(report.holds)


class DomainsAndSizes(unittest.TestCase):
    def test_what_can_become_invalid_is_named_with_a_design(self):
        text = (
            ROOMY
            + '[derived]\nroot = "sqrt(x - y)"\nsafe = "where(x > 0, log(x), 0)"\n[minimize]\nf = "root + safe + 1 / (1 + x)"\n'
        )
        report = check(loads(text, file="a.toml"), checks=("domain",))
        (finding,) = [finding for finding in report.findings if finding.kind == "domain"]
        self.assertEqual(finding.line, 5)
        for word in ("sqrt(x - y)", "negative", "for example at x ="):
            self.assertIn(word, finding.text)

    def test_sizes_out_of_proportion_get_a_magnitude_that_mends_them(self):
        text = (
            "[variables]\nx = { start = 1, lower = 0, upper = 2 }\nz = { start = 0.001, lower = 0, upper = 1e9 MAG }\n"
            '[minimize]\nf = "(x - 1.5)^2 + (z - 0.002)^2 + x * z"\n[constraints]\nc = "x + z >= 0.5"\n'
        )
        report = check(loads(text.replace("MAG", "")), checks=("scaling",))
        (line,) = [line for line in report.scaling.variables if line.suggested is not None]
        self.assertEqual(line.name, "z")
        mended = check(loads(text.replace("MAG", f", magnitude = {line.suggested}")), checks=("scaling",))
        self.assertLess(mended.scaling.variable_ratio, 1e-3 * report.scaling.variable_ratio)


class Units(unittest.TestCase):
    def found(self, formulas, extra=""):
        text = (
            '[variables]\nd = { start = 1, unit = "m" }\nw = { start = 1, unit = "mm" }\np = { start = 1, unit = "Pa" }\n'
            't = { start = 1, unit = "s" }\n' + extra + "[derived]\n" + formulas + '\n[minimize]\nf = "0 * d + 0 * w"\n'
        )
        report = check(loads(text.replace('"0 * d + 0 * w"', '"0 * d"')), checks=(), units=True)
        return [finding for finding in report.findings if finding.kind == "units"]

    def test_what_does_not_go_together_is_underlined(self):
        for formulas, piece, words in (
            ('a = "3 * (d + p)"', "d + p", "different kinds: m and Pa"),
            ('a = "d + w"', "d + w", "1 mm is 0.001 m"),
            ('a = "max(d, t)"', "d, t", "m and s"),
            ('a = "exp(d / w * t)"', "d / w * t", "pure number"),
            ('a = { formula = "d / t^2", unit = "m/s" }', "d / t^2", "declared is"),
            ('a = "where(d > t, 1, 2)"', "d > t", "m and s"),
            ('a = "2^t"', "t", "exponent"),
        ):
            with self.subTest(formulas=formulas):
                (finding,) = self.found(formulas)
                self.assertEqual(finding.facts["formula"][slice(*finding.facts["span"])], piece)
                self.assertIn(words, finding.text)

    def test_what_goes_together_or_cannot_be_told_passes(self):
        for formulas in (
            'a = "d + w / 1000"',
            'a = { formula = "d / t", unit = "m/s" }\nb = { formula = "a^2 / 2 * 1000", unit = "Pa" }\nc = "520 * p^0.85 + 3 * d"',
            'a = "sqrt(d^2 + (2 * d)^2) + 0.5"',
            'a = "sum(d) * atan2(d, d)"',
        ):
            with self.subTest(formulas=formulas):
                found = self.found(formulas)
                self.assertEqual([f.text for f in found if "b" not in f.about[0]], [])
