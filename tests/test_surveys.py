"""Reports on samples and approximations, main effects, derivatives in samples, and what fixing variables costs."""

import json
import unittest
from pathlib import Path

import numpy as np

from ilvren.explore.designs import designs_of
from ilvren.explore.main_effects import main_effect
from ilvren.explore.model_slopes import model_slopes
from ilvren.ledger import Ledger
from tests.compact import WHOLE
from tests.drawing import unpainted
from tests.test_cli import InAFolder

MODEL = """
def value(x, y):
    if x + y > 1.5:
        raise ValueError("it <buckles>")
    return x ** 3 + 0.3 * y * x, 2.0 * y
"""
PROBLEM = """
title = "Arch"
[variables]
x = { start = 0.4, lower = 0, upper = 1, unit = "m" }
y = { start = 0.4, lower = 0, upper = 1 }
idle = { start = 0.5, lower = 0, upper = 1 }
kind = { start = 2, catalogue = [1, 2, 4] }
[models.arch]
python = "arch.py:value"
outputs = ["bend", "lean"]
[minimize]
f = "arch.bend + (y - 0.5)^2 + 0.05 * kind + 1e-4 * idle"
[constraints]
reach = "arch.lean >= 0.2"
"""


class Effects(unittest.TestCase):
    def test_effects_of_what_is_known(self):
        rng = np.random.default_rng(0)
        x, z = rng.random(400), rng.integers(0, 3, 400).astype(float)
        y = 2.0 * x + 0.1 * rng.normal(size=400)
        own = main_effect(x, y)
        np.testing.assert_allclose(own.mean, 2.0 * own.levels, atol=0.1)
        self.assertTrue((np.abs(own.mean - 2.0 * own.levels) < 2.0 * own.error).all())
        self.assertGreater(own.share, 0.9)
        other = main_effect(z, y, is_listed=True)
        self.assertEqual(other.levels.tolist(), [0.0, 1.0, 2.0])
        self.assertLess(other.share, 0.03)

    def test_nothing_is_said_of_too_little(self):
        self.assertIsNone(main_effect(np.ones(50), np.arange(50.0)))
        self.assertIsNone(main_effect(np.arange(8.0), np.arange(8.0)))
        gone = main_effect(np.arange(60.0), np.where(np.arange(60) % 2, np.nan, 1.0))
        self.assertEqual(int(gone.count.sum()), 30)
        self.assertTrue(np.isnan(gone.share))


class Surveys(InAFolder):
    def setUp(self):
        super().setUp()
        Path("arch.py").write_text(MODEL)
        Path("arch.toml").write_text(PROBLEM)

    def test_a_page_on_a_sample_and_an_approximation(self):
        unpainted(self)
        self.call("sample", "arch.toml", "--points", "32", "--label", "look", "--quiet")
        self.call("approximate", "look", "--kind", "polynomial", "--test-points", "8", "--quiet")
        self.call("report", "look", "a1", "--output", "page.html")
        page = Path("page.html").read_text()
        for word in ("Main effects", "The best designs", "Where it holds", "it &lt;buckles&gt;", "x [m]", "arch.bend",
                     "ilvren sample arch.toml --plan latin-hypercube --points 32",
                     "ilvren approximate r1 --kind polynomial --test-points 8"):  # fmt: skip
            self.assertTrue(word in page, word)
        self.assertEqual(page.count("<img "), 5)
        self.assertNotIn("http", page.replace("http://www.w3.org", ""))
        self.assertLess(len(page), 1_500_000)
        if WHOLE:
            self.call("report", "look", "--output", "text.md")
            text = Path("text.md").read_text()
            for number in range(1, 4):
                self.assertIn(f"(text-{number}.png)", text)
                self.assertGreater(Path(f"text-{number}.png").stat().st_size, 10_000)
            row = next(line for line in text.splitlines() if line.startswith("| reach |") and "y " in line)
            self.assertRegex(row, r"\\| y (9[0-9]|100)")
        if WHOLE:
            self.call("designs", "look", "--figure", "effects", "--output", "e.svg")
            self.assertIn("averages along each variable", Path("e.svg").read_text())

    def test_what_does_not_belong_together_is_refused(self):
        self.call("sample", "arch.toml", "--points", "12", "--quiet")
        self.call("approximate", "r1", "--kind", "polynomial", "--quiet")
        self.call("sample", "pump.toml", "--points", "12", "--quiet")
        self.call("run", "arch.toml", "--method", "mesh-adaptive-search", "--evaluations", "20", "--quiet", status=1)
        for words, said in (
            (("r3", "a1"), "not both"),
            (("r1", "r2"), "different problems"),
            (("r1", "r1"), "named twice"),
            (("a7",), "a7"),
        ):
            self.assertIn(said, self.call("report", *words, "--output", "p.html", status=2)[1])
        self.assertFalse(Path("p.html").exists())
        self.call("report", "r1", "r3", "--output", "p.md")  # a sample beside a search is told as a run
        self.assertIn("Verification", Path("p.md").read_text())

    def test_derivatives_that_models_give_are_sampled_and_used(self):
        self.call("sample", "arch.toml", "--points", "9", "--slopes", "--label", "steep", "--quiet")
        err = self.call("approximate", "steep", "--kind", "gaussian-process", "--of", "bend")[1]
        self.assertRegex(err, "derivatives of model .arch. are on record at [0-9]+ of [0-9]+ points, and used")
        with Ledger("ilvren.ledger", read_only=True) as ledger:
            table = designs_of(ledger, ["steep"])
            x, y = table.column("x"), table.column("y")
            found = model_slopes(ledger, table, "arch", {"x": x, "y": y})
        known = np.isfinite(found["bend"]).all(axis=1)
        self.assertGreater(known.sum(), 5)
        np.testing.assert_allclose(found["bend"][known], np.column_stack([3 * x**2 + 0.3 * y, 0.3 * x])[known])
        np.testing.assert_allclose(found["lean"][known], [[0.0, 2.0]] * int(known.sum()))
        Path("arch.toml").write_text(
            PROBLEM.replace('outputs = ["bend"', 'derivatives = "differences"\noutputs = ["bend"')
        )
        self.assertIn("many calls", self.call("sample", "arch.toml", "--slopes", status=2)[1])
        self.assertIn("for models", self.call("sample", "pump.toml", "--slopes", status=2)[1])
        self.assertIn("--more goes on", self.call("sample", "steep", "--more", "3", "--slopes", status=2)[1])

    def test_a_contest_tells_what_fixing_variables_costs(self):
        plain = (
            '[variables]\nx = { start = 2, lower = 0, upper = 4 }\ny = 1.0\n[maximize]\nf = "10 - (x - 3)^2 - y^2"\n'
        )
        Path("full.toml").write_text(plain)
        Path("less.toml").write_text(plain.replace("lower = 0, upper = 4", "lower = 2, upper = 2"))
        out = self.call("contest", "less.toml", "full.toml", "--method", "bfgs")[0]
        self.assertIn("less.toml fixes x of full.toml: it costs 1 (10 %)", out)
        told = json.loads(self.call("compare", "g1", "--json")[0])["fixings"]
        self.assertEqual([(item["fixed"], round(item["cost"], 6)) for item in told], [(["x"], 1.0)])


if __name__ == "__main__":
    unittest.main()
