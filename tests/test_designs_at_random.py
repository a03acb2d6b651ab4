"""Designs of runs, filtered, sorted and told: against NumPy over the same designs, in every form they are written in."""

import csv
import json
import unittest
from pathlib import Path

import numpy as np

from ilvren.explore.designs import designs_of
from ilvren.ledger import Ledger
from tests.compact import only_in_whole
from tests.test_cli import InAFolder

BOWL = """title = "bowl"
[variables]
x = { start = 1.0, lower = -2, upper = 2, unit = "m" }
y = { start = 0.5, lower = -2, upper = 2 }
n = { start = 2, lower = 0, upper = 4, spacing = 1 }
[derived]
r = { formula = "sqrt(x^2 + y^2)", unit = "m" }
both = "join(x * n, y - n)"
{rough}
[{sense}]
f = { formula = "x^2 + 2 * y^2 - n", unit = "EUR" }
[constraints]
ring = "r >= 0.5"
side = "both <= 3"
"""
COUNT = 120


def text(sense="minimize", rough=""):
    return BOWL.replace("{sense}", sense).replace("{rough}", rough)


class AtRandom(InAFolder):
    def setUp(self):
        super().setUp()
        Path("bowl.toml").write_text(text())
        self.call("sample", "bowl.toml", "--points", str(COUNT), "--quiet")
        with Ledger("ilvren.ledger", read_only=True) as ledger:
            self.points = np.array([design.point for design in designs_of(ledger, ["r1"]).designs])
        x, y, n = self.points.T
        self.values = {
            "x": x, "y": y, "n": n, "r": np.hypot(x, y), "f": x**2 + 2 * y**2 - n, "first": x * n, "second": y - n,
        }  # fmt: skip
        v = self.values
        self.missed = (v["r"] < 0.5 - 1e-6) | (v["first"] > 3.0 + 3e-6) | (v["second"] > 3.0 + 3e-6)

    def told(self, *words):
        return json.loads(self.call("designs", "r1", *words, "--json", "--top", str(COUNT))[0])["designs"]

    def test_what_is_kept_is_what_meets_the_condition(self):
        v = self.values
        for condition, meets in (
            ("r <= 1", v["r"] <= 1.0),
            ("0.5 <= r <= 1.2", (v["r"] >= 0.5) & (v["r"] <= 1.2)),
            ("x + y >= 0.25", v["x"] + v["y"] >= 0.25),
            ("n == 2", v["n"] == 2.0),
            ("f <= x", v["f"] <= v["x"]),
            ("both[0] >= both[1]", v["first"] >= v["second"]),
            ("abs(y) <= 0.3", np.abs(v["y"]) <= 0.3),
        ):
            with self.subTest(condition=condition):
                found = self.told("--keep", condition)
                self.assertEqual(len(found), int(meets.sum()))
                own = {(item["variables"]["x"], item["variables"]["y"]) for item in found}
                self.assertEqual(own, {(a, b) for a, b in self.points[meets, :2].tolist()})
        both = self.told("--keep", "r <= 1", "--keep", "n == 2")
        self.assertEqual(len(both), int(((v["r"] <= 1.0) & (v["n"] == 2.0)).sum()))

    def test_ranks_put_what_misses_nothing_first_and_each_order_is_that_of_its_numbers(self):
        found = self.told()
        order = np.lexsort((self.values["f"], self.missed))
        self.assertEqual([item["rank"] for item in found], list(range(1, COUNT + 1)))
        feasible = int((~self.missed).sum())
        self.assertEqual(
            [item["variables"]["x"] for item in found[:feasible]], self.points[order[:feasible], 0].tolist()
        )
        self.assertTrue(all(item["trouble"] for item in found[feasible:]))
        self.assertFalse(any(item["trouble"] for item in found[:feasible]))
        for name in ("r", "x", "f", "violation"):
            for turned in (False, True):
                words = ("--sort", name, *(("--descending",) if turned else ()))
                own = [self.number(item, name) for item in self.told(*words)]
                self.assertEqual(own, sorted(own, reverse=turned))

    def number(self, item, name):
        return item[name] if name in item else item["variables"].get(name, item["values"].get(name))

    def test_every_form_has_the_same_numbers(self):
        self.call("designs", "r1", "--output", "d.csv", "--quiet")
        with Path("d.csv").open() as file:
            rows = list(csv.DictReader(line for line in file if not line.startswith("#")))
        told = {item["design"]: item for item in self.told()}
        self.assertEqual({row["design"] for row in rows}, set(told))
        for row in rows:
            item = told[row["design"]]
            self.assertEqual(float(row["x"]), item["variables"]["x"])
            self.assertEqual(float(row["f"]), item["values"]["f"])
            self.assertEqual(float(row["r"]), item["values"]["r"])
        for place in range(0, COUNT, 17):
            item = told[f"r1:{place + 1}"]
            x, y, n = (item["variables"][name] for name in "xyn")
            self.assertAlmostEqual(item["values"]["f"], x**2 + 2 * y**2 - n, places=12)
            np.testing.assert_allclose(item["values"]["both"], [x * n, y - n], atol=1e-12)
        shown = self.call("designs", "r1", "--top", "5")[0]
        best = min((item for item in told.values() if not item["trouble"]), key=lambda item: item["values"]["f"])
        self.assertIn(
            best["design"], shown.splitlines()[next(k for k, line in enumerate(shown.splitlines()) if "─" in line) + 1]
        )

    @only_in_whole
    def test_what_is_maximized_ranks_the_largest_first_and_no_value_last(self):
        rough = 'odd = "log(x)"'
        Path("up.toml").write_text(text("maximize", rough).replace("2 * y^2 - n", "2 * y^2 - n + 0 * odd"))
        self.call("sample", "up.toml", "--points", "40", "--quiet")
        found = json.loads(self.call("designs", "r2", "--json", "--top", "40")[0])["designs"]
        valid = [item for item in found if item["values"]["f"] is not None]
        self.assertTrue(0 < len(valid) < 40)
        self.assertEqual(found[: len(valid)], valid)
        self.assertTrue(all(item["variables"]["x"] <= 0.0 for item in found[len(valid) :]))
        self.assertTrue(all("log" in item["trouble"] for item in found[len(valid) :]))
        feasible = [item["values"]["f"] for item in valid if not item["trouble"]]
        self.assertEqual(feasible, sorted(feasible, reverse=True))


if __name__ == "__main__":
    unittest.main()
