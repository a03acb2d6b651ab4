"""`sensitivity` on a problem whose shares are known by hand: over the box, on a surface in its place, by what scatters, at a
design; and on problems of other kinds."""

import json
import unittest
from pathlib import Path

import numpy as np

from ilvren import loads
from ilvren.errors import RequestError
from ilvren.evaluate import Gate
from ilvren.explore.sensitivity import elasticities_at
from tests.compact import only_in_whole
from tests.test_cli import InAFolder

VANE = """title = "vane"
[variables]
a = { start = 1.0, lower = 0.5, upper = 2.0, unit = "m" }
b = { start = 2.0, lower = 1.0, upper = 4.0 }
c = { start = 0.5, lower = 0.0, upper = 1.0 }
idle = { start = 1.0, lower = 0.0, upper = 2.0 }
[derived]
area = { formula = "a^2 * b", unit = "m^2" }
pair = "join(a * c, b + 1)"
still = "3.0"
[minimize]
cost = { formula = "area + 4 * c", unit = "EUR" }
[constraints]
fits = "a + b <= 5"
"""
SCATTER = '[scatter]\na = { law = "normal", deviation = 0.1 }\nb = { law = "uniform", half_width = 0.6 }\n'


def shares(square, b, c):
    """Return {variable: (alone, in all)} of a² b + 4 c, given (mean, variance) of a², b and c."""
    by_a, by_b = square[1] * b[0] ** 2, b[1] * square[0] ** 2
    both, by_c = square[1] * b[1], 16.0 * c[1]
    total = by_a + by_b + both + by_c
    return {name: (alone / total, (alone + more) / total)
            for name, alone, more in (("a", by_a, both), ("b", by_b, both), ("c", by_c, 0.0))}  # fmt: skip


def uniform(low, high):
    return 0.5 * (low + high), (high - low) ** 2 / 12.0


def square_of_uniform(low, high):
    second, fourth = ((high**k - low**k) / (k * (high - low)) for k in (3, 5))
    return second, fourth - second**2


class Shares(InAFolder):
    def setUp(self):
        super().setUp()
        Path("vane.toml").write_text(VANE)

    def json(self, *words):
        return json.loads(self.call("sensitivity", *words, "--json")[0])

    def check(self, found, known, room=0.0):
        for name, (alone, in_all) in known.items():
            own = found.get(name, {"first_low": 0, "first_high": 0, "total_low": 0, "total_high": 0})
            self.assertTrue(own["first_low"] - room <= alone <= own["first_high"] + room, (name, own, alone))
            self.assertTrue(own["total_low"] - room <= in_all <= own["total_high"] + room, (name, own, in_all))

    def test_over_the_box_and_on_a_surface_in_its_place(self):
        known = shares(square_of_uniform(0.5, 2.0), uniform(1.0, 4.0), uniform(0.0, 1.0))
        told = self.json("vane.toml", "--kind", "variance", "--evaluations", "2500", "--quiet")
        self.check(told["of"]["cost"], known, 0.02)
        self.assertLessEqual(told["evaluations"], 2500)
        self.assertNotIn("idle", told["of"]["cost"])  # nothing uses it
        self.assertEqual(set(told["of"]), {"cost", "area", "pair[0]", "pair[1]", "fits"})
        self.assertIn("nothing moves still", " ".join(told["notes"]))
        self.call("sample", "vane.toml", "--points", "40", "--quiet")
        self.call("approximate", "r2", "--kind", "polynomial", "--of", "cost", "--quiet")
        predicted = self.json("a1", "--kind", "variance", "--evaluations", "2500", "--of", "cost", "--quiet")
        self.check(predicted["of"]["cost"], known, 0.02)
        self.assertTrue(any("the error of a1" in note for note in predicted["notes"]))
        self.assertEqual(self.call("sensitivity", "a1", "--of", "cots", "--kind", "variance", status=2)[0], "")

    @only_in_whole
    def test_of_a_surface_that_errs_the_intervals_are_wider_by_what_it_does_not_tell(self):
        rng = np.random.default_rng(3)
        wild = VANE.replace('"area + 4 * c"', '"area + 4 * c + 1.5 * sin(40 * a) * sin(40 * b)"')
        Path("wild.toml").write_text(wild)
        self.call("sample", "wild.toml", "--points", "50", "--quiet")
        self.call("approximate", "r1", "--of", "cost", "--kind", "polynomial", "--quiet")
        predicted = self.json("a1", "--kind", "variance", "--evaluations", "3000", "--of", "cost", "--quiet")
        points = rng.uniform([0.5, 1.0, 0.0], [2.0, 4.0, 1.0], (200_000, 3))
        area, own = points[:, 0] ** 2 * points[:, 1], 1.5 * np.sin(40 * points[:, 0]) * np.sin(40 * points[:, 1])
        total = (area + 4 * points[:, 2] + own).var()
        by_c = 16.0 / 12.0 / total
        (widest,) = (item for name, item in predicted["of"]["cost"].items() if name == "c")
        self.assertTrue(widest["first_low"] <= by_c <= widest["first_high"])
        self.assertGreater(widest["first_high"] - widest["first_low"], 0.1)

    def test_by_what_scatters_around_a_design(self):
        Path("made.toml").write_text(VANE.replace("[derived]", SCATTER + "[derived]"))
        at = ("--at", "a=1.5", "--at", "b=3")
        told = self.json("made.toml", "--by", "scatter", "--kind", "variance", "--evaluations", "2500", "--of", "cost",
                         *at, "--quiet")  # fmt: skip
        m, s = 1.5, 0.1
        square = (m * m + s * s, 4 * m * m * s * s + 2 * s**4)
        known = shares(square, (3.0, 0.36 / 3.0), (0.5, 0.0))
        self.check(told["of"]["cost"], {name: known[name] for name in ("a", "b")}, 0.02)


class AtADesign(unittest.TestCase):
    def test_elasticities_are_slopes_over_values(self):
        problem = loads(VANE)
        gate = Gate(problem)
        for point in ([1.0, 2.0, 0.5, 1.0], [1.7, 1.2, 0.9, 0.3]):
            found = elasticities_at(problem, point)
            for output, drivers in found.of.items():
                values = {}
                for driver in drivers:
                    place = "abc".index(driver.variable)
                    step = np.zeros(4)
                    step[place] = 1e-6
                    ends = []
                    for sign in (1.0, -1.0):
                        values = gate.written.values(np.array(point) + sign * step)
                        name, _, index = output.partition("[")
                        ends.append(values[name][int(index.rstrip("]"))] if index else values[name])
                    slope = (ends[0] - ends[1]) / 2e-6
                    value = 0.5 * (ends[0] + ends[1])
                    self.assertAlmostEqual(driver.numbers["per_unit"], slope, places=6)
                    self.assertAlmostEqual(driver.numbers["value"], slope * point[place] / value, places=6)
                    self.assertAlmostEqual(driver.size, abs(driver.numbers["value"]))

    def test_members_are_not_moved_and_a_value_of_0_has_no_share(self):
        text = VANE.replace("b = { start = 2.0,", "b = { start = 2.0, spacing = 0.5,").replace(
            "a + b <= 5", "a - 1 <= 5"
        )
        found = elasticities_at(loads(text), [1.0, 2.0, 0.5, 1.0])
        self.assertEqual([driver.variable for driver in found.of["cost"]], ["a", "c"])
        self.assertIn("having members only: b", " ".join(found.notes))
        (by_a, _) = found.of["fits"]
        self.assertEqual(by_a.numbers["per_unit"], 1.0)
        self.assertTrue(np.isnan(by_a.numbers["value"]))  # a − 1 is 0 there

    def test_the_sum_of_a_fit_and_what_has_no_slopes(self):
        fit = (
            "[variables]\nk = { start = 1.5, lower = 0, upper = 9 }\n[parameters]\nt = [1.0, 2.0, 3.0]\n"
            'y = [1.0, 0.4, 0.2]\n[fit]\nline = { residual = "exp(-k * t) * 3 - y" }\n'
        )
        found = elasticities_at(loads(fit), [1.5])
        (name,) = found.of
        t, y = np.array([1.0, 2.0, 3.0]), np.array([1.0, 0.4, 0.2])
        rest = 3.0 * np.exp(-1.5 * t) - y
        slope = (rest * -3.0 * t * np.exp(-1.5 * t)).sum()  # of half the sum of squares
        self.assertAlmostEqual(found.of[name][0].numbers["per_unit"], slope, places=10)
        self.assertAlmostEqual(found.of[name][0].numbers["value"], slope * 1.5 / (0.5 * (rest**2).sum()), places=10)
        rough = loads("[variables]\nx = { start = 1, lower = -1, upper = 2 }\n[minimize]\nf = 'sqrt(x)'\n")
        with self.assertRaises(RequestError) as caught:
            elasticities_at(rough, [0.0])
        self.assertIn("no finite values and derivatives", str(caught.exception))


if __name__ == "__main__":
    unittest.main()
