"""`verify --worth` as it is read: neighbours of members against trying all of them, what scatters against solving again, and
the tables against the document."""

import itertools
import json
import re
import unittest
from pathlib import Path

import numpy as np

from tests.compact import WHOLE, only_in_whole
from tests.test_cli import InAFolder

BOLTS = """
[variables]
n = {{ start = 3, lower = 0, upper = 9, spacing = 1, unit = "bolts" }}
t = {{ start = 4, catalogue = [2, 4, 5, 8], unit = "mm" }}
x = {{ start = 1.0, lower = 0.1, upper = 5, unit = "m" }}
[minimize]
cost = {{ formula = "{a} * n + {b} * t + x^2", unit = "EUR" }}
[constraints]
strong = {{ formula = "n * t + 2 * x >= {load}", unit = "kN" }}
"""
FENCE = """
[variables]
x = { start = 2.0, lower = 0.1, upper = 9, unit = "m" }
y = { start = 2.0, lower = 0.1, upper = 9 }
[parameters]
p = { value = 5.0, unit = "kN" }
q = 1.0
[scatter]
p = { law = "normal", deviation = 0.5 }
q = { law = "uniform", half_width = 0.2 }
[minimize]
cost = { formula = "x + 2 * y", unit = "EUR" }
[constraints]
c = "chance(x * y >= p * q) >= 0.95"
"""


FEW = ("--scenarios", "200" if WHOLE else "120")


def cost_of(n, t, a, b, load):
    """Return the least cost with these members, None where no x is long enough."""
    x = max(0.1, 0.5 * (load - n * t))
    return None if x > 5.0 else a * n + b * t + x * x


class Told(InAFolder):
    def worth(self, text, *more):
        Path("p.toml").write_text(text)
        self.call("run", "p.toml", "--quiet", "--label", "own", *more, status=None)
        told = json.loads(self.call("verify", "own", "--worth", "--json")[0])
        shown = self.call("verify", "own", "--worth")[0]
        Path("ilvren.ledger").unlink()
        return told, shown

    def test_neighbours_are_the_best_with_that_member(self):
        rng = np.random.default_rng(4)
        members = list(itertools.product(range(10), (2, 4, 5, 8)))
        for _ in range(3 if WHOLE else 1):
            a, b = rng.uniform(1.0, 4.0, 2).round(2).tolist()
            load = round(float(rng.uniform(10.0, 40.0)), 2)
            costs = {own: cost_of(*own, a, b, load) for own in members}
            best = min((own for own in members if costs[own] is not None), key=lambda own, costs=costs: costs[own])
            told, shown = self.worth(BOLTS.format(a=a, b=b, load=load))
            self.assertTrue(told["holds"])
            for item in told["worth"]["members"]:
                place = "nt".index(item["name"])
                self.assertEqual(item["value"], best[place])
                known = [cost for own, cost in costs.items() if own[place] == item["member"] and cost is not None]
                with self.subTest(a=a, b=b, load=load, item=item):
                    self.assertEqual(item["objective"] is None, not known)
                    if known:
                        self.assertAlmostEqual(item["objective"], min(known), places=4)
                sides = sorted({range(10), (2, 4, 5, 8)}, key=len, reverse=True)[place]
                others = [m for m in sides if (m > best[place]) == (item["side"] == "next higher") and m != best[place]]
                self.assertEqual(item["member"], min(others, key=lambda m, at=best[place]: abs(m - at)))
                line = next(
                    row for row in shown.splitlines() if row.strip().startswith(f"{item['name']}, {item['side']}")
                )
                if known:
                    change = float(re.findall(r"(-?[0-9.e+-]+) EUR", line)[-1])
                    self.assertAlmostEqual(change, item["objective"] - costs[best], delta=2e-3 * abs(change) + 1e-6)

    @only_in_whole
    def test_what_a_tolerance_costs_is_what_solving_again_finds(self):
        Path("p.toml").write_text(FENCE)
        self.call("run", "p.toml", "--quiet", *FEW)
        shown = self.call("verify", "r1", "--worth")[0]
        lines = {}
        for row in shown.splitlines():
            if re.match(r" [pqxy] +[0-9]", row):
                lines.setdefault(row.split()[0], []).append(
                    [float(n) for n in re.findall(r"(?<![\w.])-?\d[\d.]*(?![\w.])", row)]
                )
        costs = {}
        for name, old, new in (
            ("", "", ""), ("p", "deviation = 0.5", "deviation = 0.25"), ("q", "half_width = 0.2", "half_width = 0.1"),
        ):  # fmt: skip
            Path("p.toml").write_text(FENCE.replace(old, new) if old else FENCE)
            out = json.loads(self.call("run", "p.toml", "--quiet", "--json", *FEW)[0])
            costs[name] = out["objectives"]["cost"]
        found = {}
        for name in "pq":
            (_, predicted, again, *_), (deviation, halved, solved, wider) = lines[name]
            change = costs[name] - costs[""]
            self.assertAlmostEqual(solved, change, delta=0.15 * abs(change))
            self.assertLess(halved, 0.0)
            self.assertGreater(wider, 0.0)
            self.assertAlmostEqual(predicted, again, delta=0.05 * abs(again))
            self.assertAlmostEqual(deviation, 0.5 if name == "p" else 0.2 / 3**0.5, places=3)
            found[name] = solved
        self.assertIn(f"halving what {min(found, key=found.get)} scatters by lowers cost by", shown)
        for name, factor in (("x", 1.0), ("y", 2.0)):
            ((value, up, *_),) = lines[name]
            self.assertAlmostEqual((up - value) * factor, 0.01 * costs[""], delta=2e-3)
        self.assertEqual(shown.count("c breaks"), 2)


if __name__ == "__main__":
    unittest.main()
