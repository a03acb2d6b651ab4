"""How a design that scatters is told: against closed forms, and what is left out of long tables."""

import json
import math
import re
import unittest
from pathlib import Path

import numpy as np
from scipy.stats import norm

from tests.test_cli import InAFolder

COUNT = 30
MANY = (
    "[variables]\nx = { start = 1, lower = 0, upper = 9 }\n[parameters]\n"
    + "".join(f"p{k} = {k + 1}.0\n" for k in range(COUNT))
    + "[scatter]\n"
    + "".join(f'p{k} = {{ law = "normal", deviation = 0.{k % 9 + 1} }}\n' for k in range(COUNT))
    + '[minimize]\nf = "x"\n[constraints]\n'
    + "".join(f'c{k} = "x + p{k} <= {k + 2.3:g}"\n' for k in range(COUNT))
)
# y = a + 2 b is normal: mean 3 + 2·5, deviation √(0.3² + (2·0.2)²) = 0.5.
SUM = """
[variables]
x = { start = 0, lower = -9, upper = 9, unit = "m" }
[parameters]
a = { value = 3.0, unit = "m" }
b = { value = 5.0, unit = "m" }
[scatter]
a = { law = "normal", deviation = 0.3 }
b = { law = "normal", deviation = 0.2 }
[derived]
y = { formula = "a + 2 * b", unit = "m" }
[minimize]
f = { formula = "x", unit = "m" }
[constraints]
low = "y + x >= 12.2"
band = "11 <= y + x <= 14.5"
rows = "join(y, y + 0.1, y + 0.2, y + 0.3, y + 0.4) + x <= 14.2"
"""


class Told(InAFolder):
    def setUp(self):
        super().setUp()
        Path("many.toml").write_text(MANY)
        Path("sum.toml").write_text(SUM)

    def json(self, *words):
        return json.loads(self.call(*words, "--json")[0])

    def test_means_deviations_quantiles_and_misses_of_a_sum(self):
        told = self.json("scatter", "sum.toml", "--scenarios", "40000")["of"]
        y = told["y"]
        self.assertAlmostEqual(y["mean"], 13.0, delta=0.02)
        self.assertAlmostEqual(y["deviation"], 0.5, delta=0.01)
        for share in ("0.05", "0.95"):
            self.assertAlmostEqual(y["quantiles"][share], norm.ppf(float(share), 13.0, 0.5), delta=0.03)
        for name, expected in (
            ("low", norm.cdf(12.2, 13.0, 0.5)),
            ("band", 1 - norm.cdf(14.5, 13, 0.5) + norm.cdf(11, 13, 0.5)),
        ):
            misses = told[name]["misses"]
            self.assertLessEqual(misses["low"] - 1e-3, expected)
            self.assertGreaterEqual(misses["high"] + 1e-3, expected)

    def test_ways_side_by_side(self):
        told = self.json("scatter", "sum.toml", "--way", "sampling,linear,reliability", "--scenarios", "20000")
        low = told["of"]["low"]
        true = norm.cdf(12.2, 13.0, 0.5)
        self.assertAlmostEqual(low["linear"]["misses"], true, places=6)
        self.assertAlmostEqual(low["misses"]["share"], true, delta=0.01)
        out = self.call("scatter", "sum.toml", "--way", "sampling,linear,reliability", "--scenarios", "20000")[0]
        line = next(line for line in out.splitlines() if re.match(r" low +5\.", line))
        index, share = re.search(r"% +[0-9.]+ %? *([0-9]\.[0-9]{3}) +([0-9.]+) %", line).groups()
        self.assertAlmostEqual(float(index), 1.6, places=3)  # (13 − 12.2) / 0.5
        self.assertAlmostEqual(float(share) / 100.0, true, delta=2e-3)
        self.assertIn("first missed at (deviations from the mean)", out)
        self.assertIn("(worst of 5)", out)

    def test_what_drives_it_is_the_share_of_the_variance(self):
        told = self.json("scatter", "sum.toml", "--scenarios", "20000")["drivers"]["y"]
        self.assertAlmostEqual(told["a"], 0.09 / 0.25, delta=0.04)
        self.assertAlmostEqual(told["b"], 0.16 / 0.25, delta=0.04)

    def test_designs_side_by_side_and_their_files(self):
        self.call("run", "sum.toml", "--quiet")
        out = self.call("scatter", "sum.toml", "r1", "--scenarios", "600", "--output", "two.png")[0]
        self.assertIn("everything holds", out)
        self.assertGreater(Path("two.png").stat().st_size, 5_000)
        self.call("scatter", "r1", "--scenarios", "500", "--output", "one.csv", "--quiet")
        lines = Path("one.csv").read_text().splitlines()
        self.assertEqual(len(lines), 501)
        head = lines[0].split(",")
        table = np.array([[float(cell) for cell in line.split(",")] for line in lines[1:]])
        np.testing.assert_allclose(
            table[:, head.index("y")], table[:, head.index("a")] + 2 * table[:, head.index("b")], rtol=1e-12
        )
        self.call("scatter", "r1", "--scenarios", "500", "--output", "all.json", "--quiet")
        self.assertEqual(json.loads(Path("all.json").read_text())["scenarios"], 500)

    def test_long_tables_say_what_they_leave_out(self):
        out = self.call("scatter", "many.toml", "--scenarios", "200", "--way", "sampling,linear")[0]
        self.assertIn(f"and {COUNT - 24} more ", out)
        self.assertRegex(out, r"and \d+ more quantities; --of NAME shows them")
        self.assertIn(f"and {COUNT - 24} more (--json has all)", out)
        self.assertIn(f"and {COUNT - 12} more (--json has all)", out)
        every = self.json("scatter", "many.toml", "--scenarios", "200")["of"]
        for k in range(COUNT):
            self.assertIn(f"c{k}", every)
        some = self.json("scatter", "many.toml", "--scenarios", "200", "--of", "c7,c3")["of"]
        self.assertEqual(set(some), {"c7", "c3"})
        self.assertTrue(all(math.isfinite(item["mean"]) for item in some.values()))


if __name__ == "__main__":
    unittest.main()
