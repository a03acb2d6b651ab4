"""What drives what: against shares, effects and elasticities that are known; and the command."""

import csv
import json
import unittest
from pathlib import Path

import numpy as np

from ilvren import loads
from ilvren.explore.sensitivity.correlation import correlations
from ilvren.explore.sensitivity.effects import elementary_effects, paths
from ilvren.explore.sensitivity.shares import pair_designs, variance_shares
from tests.test_cli import InAFolder

WAVES = """
[variables]
x = { start = 1, lower = -3.141592653589793, upper = 3.141592653589793 }
y = { start = 1, lower = -3.141592653589793, upper = 3.141592653589793 }
z = { start = 1, lower = -3.141592653589793, upper = 3.141592653589793 }
idle = { start = 2, lower = 0, upper = 5, unit = "m" }
[derived]
whole = "sin(x) + 7 * sin(y)^2 + 0.1 * z^4 * sin(x)"
pair = "join(x, 3 * y)"
[minimize]
f = "whole + 1e-6 * idle"
[constraints]
cap = "x + y <= 6"
"""
FIRST, TOTAL = np.array([0.3139, 0.4424, 0.0]), np.array([0.5576, 0.4424, 0.2437])


def waves(shares):
    x = np.pi * (2 * shares - 1)
    return np.sin(x[:, 0]) + 7 * np.sin(x[:, 1]) ** 2 + 0.1 * x[:, 2] ** 4 * np.sin(x[:, 0])


class Estimates(unittest.TestCase):
    def test_variance_shares_are_the_known_ones_and_their_intervals_cover(self):
        covered, apart = [], []
        for seed in range(12):
            rng = np.random.default_rng(seed)
            found = variance_shares(waves(pair_designs(3, 20_000, rng)), 3, rng)
            apart.append(max(np.abs(found.first - FIRST).max(), np.abs(found.total - TOTAL).max()))
            covered += ((found.first_low <= FIRST) & (found.first_high >= FIRST)).tolist()
            covered += ((found.total_low <= TOTAL) & (found.total_high >= TOTAL)).tolist()
        self.assertLessEqual(np.median(apart), 0.01)
        self.assertLessEqual(np.quantile(apart, 0.9), 0.02)
        self.assertGreaterEqual(np.mean(covered), 0.9)

    def test_shares_without_some_values_or_without_variance(self):
        rng = np.random.default_rng(0)
        values = waves(pair_designs(3, 8000, rng))
        values[::37] = np.nan
        found = variance_shares(values, 3, rng)
        self.assertLess(found.count, 1600)
        self.assertLess(np.abs(found.total - TOTAL).max(), 0.08)
        flat = variance_shares(np.ones(len(values)), 3, rng)
        self.assertTrue(np.isnan(flat.first).all())

    def test_effects_of_a_plane_are_its_slopes_and_do_not_deviate(self):
        slopes, rng = np.array([3.0, -1.0, 0.0, 0.5]), np.random.default_rng(3)
        shares = paths(4, 9, rng)
        self.assertTrue(((shares >= -1e-12) & (shares <= 1 + 1e-12)).all())
        moved = np.abs(np.diff(shares, axis=1)) > 1e-9
        self.assertTrue((moved.sum(axis=2) == 1).all() and (moved.sum(axis=1) == 1).all())
        found = elementary_effects(shares, shares @ slopes, rng)
        np.testing.assert_allclose(found.mean, slopes, atol=1e-12)
        np.testing.assert_allclose(found.deviation, 0.0, atol=1e-12)
        bent = elementary_effects(shares, shares @ slopes + 4 * shares[..., 0] * shares[..., 1], rng)
        self.assertGreater(bent.deviation[:2].min(), 0.5)
        self.assertLess(bent.deviation[2:].max(), 1e-9)

    def test_correlations_of_numbers_ranks_and_what_others_leave(self):
        rng = np.random.default_rng(5)
        x = rng.normal(size=(400, 3))
        x[:, 1] = x[:, 0] + 0.2 * rng.normal(size=400)
        y = np.exp(2 * x[:, 0])
        numbers, ranks, partial = (correlations(x, y, way) for way in ("numbers", "ranks", "partial"))
        self.assertAlmostEqual(ranks[0][0], 1.0)
        self.assertLess(numbers[0][0], 0.8)
        self.assertGreater(ranks[0][1], 0.9)
        self.assertLess(abs(partial[0][1]), 0.3)  # it only follows the first
        self.assertTrue(ranks[1][2] < 0.0 < ranks[2][2])
        self.assertTrue(np.isnan(correlations(np.ones((9, 1)), y[:9])[0]).all())
        self.assertTrue(np.isnan(correlations(x[:3], y[:3])[0]).all())


class Command(InAFolder):
    def setUp(self):
        super().setUp()
        Path("waves.toml").write_text(WAVES)

    def told(self, *words):
        return json.loads(self.call("sensitivity", *words, "--json", "--quiet")[0])

    def test_elasticities_are_exact(self):
        found = self.told("waves.toml", "--at", "x=0.5", "--at", "y=2")["of"]
        slope = np.cos(0.5) + 0.1 * np.cos(0.5)
        value = np.sin(0.5) + 7 * np.sin(2) ** 2 + 0.1 * np.sin(0.5)
        self.assertAlmostEqual(found["whole"]["x"]["per_unit"], slope)
        self.assertAlmostEqual(found["whole"]["x"]["value"], slope * 0.5 / value)
        self.assertEqual(found["pair[1]"]["y"], {"value": 1.0, "per_unit": 3.0})
        self.assertEqual(found["cap"]["z"]["per_unit"], 0.0)

    def test_variance_over_the_box_and_the_problem_with_less(self):
        found = self.told("waves.toml", "--kind", "variance", "--evaluations", "6000", "--of", "whole,pair")
        self.assertEqual(found["run"], "r1")
        shares = found["of"]["whole"]
        self.assertAlmostEqual(shares["y"]["total"], 0.4424, delta=0.05)
        self.assertAlmostEqual(found["of"]["pair[0]"]["x"]["first"], 1.0, delta=0.02)
        self.assertTrue(any("interactions" in note for note in found["notes"]))
        out, err = self.call(
            "sensitivity", "waves.toml", "--kind", "variance", "--of", "f", "--fix-below", "0.02", "--evaluations",
            "6000", "--output", "less.toml",
        )  # fmt: skip
        self.assertIn("idle", err)
        self.assertIn("alone", out)
        reduced = loads(Path("less.toml").read_text())
        self.assertEqual([reduced.variables[place].name for place in reduced.free], ["x", "y", "z"])

    def test_elementary_effects_and_figures(self):
        found = self.told("waves.toml", "--kind", "elementary-effects", "--evaluations", "50", "--of", "f,cap")
        self.assertLessEqual(found["evaluations"], 50)
        self.assertAlmostEqual(found["of"]["cap"]["x"]["mean"], 2 * np.pi)
        self.assertLess(found["of"]["f"]["idle"]["mean_absolute"], 1e-4)
        for kind, name in (("elementary-effects", "a.png"), ("elasticities", "b.svg"), ("elasticities", "c.csv")):
            self.call("sensitivity", "waves.toml", "--kind", kind, "--output", name, "--quiet")
            self.assertGreater(Path(name).stat().st_size, 100)
        with open("c.csv") as file:
            self.assertEqual(next(csv.reader(file)), ["output", "variable", "value", "per_unit"])

    def test_correlations_over_runs(self):
        self.call("sample", "waves.toml", "--points", "60", "--quiet")
        found = self.told("r1", "--of", "pair")
        self.assertGreater(found["of"]["pair[1]"]["y"]["low"], 0.9)
        self.assertEqual(found["notes"], [])
        self.call("run", "waves.toml", "--method", "nelder-mead", "--quiet", "--evaluations", "60", status=1)
        self.assertIn("gather where it went", self.told("r2", "--of", "f")["notes"][0])

    def test_requests_that_make_no_sense(self):
        for words, told in (
            (("waves.toml", "--kind", "correlation"), "over designs on record"),
            (("waves.toml", "--of", "hole"), 'Did you mean "whole"?'),
            (("waves.toml", "--output", "a.toml"), "--fix-below"),
            (("waves.toml", "--fix-below", "2"), "between 0 and 1"),
            (("waves.toml", "--kind", "variance", "--at", "x=1"), "over the whole box"),
            (("waves.toml", "--evaluations", "9"), "one design"),
            (("nothing.toml",), "nothing.toml"),
        ):
            with self.subTest(words=words):
                self.assertIn(told, self.call("sensitivity", *words, status=2)[1])


if __name__ == "__main__":
    unittest.main()
