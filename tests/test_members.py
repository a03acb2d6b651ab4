"""Members of spaced and catalogue variables: which is nearest, what is none, and what is found around a design."""

import itertools
import math
import unittest

import numpy as np

from ilvren import loads
from ilvren.algebra import AllowedValues
from ilvren.problem.grid import ValueGrid, allowed_values_of, looked_up

TEXT = """
[variables]
pipe = { start = 20, catalogue = [15, 20, 32, 50] }
count = { start = 3, lower = 1, upper = 7.9, spacing = 2 }
open = { start = 4, lower = 0.5, spacing = 0.25 }
wood = { start = "larch", choices = ["oak", "larch", "pine"] }
held = { start = 5, lower = 5, upper = 5, spacing = 1 }
width = { start = 0.4, lower = 0, upper = 1 }
[parameters]
woods = ["oak", "larch", "pine"]
[minimize]
f = "pipe + count + open + lookup(wood, woods, join(1, 2, 3)) + held + width"
"""


class Members(unittest.TestCase):
    def kinds(self):
        return (
            AllowedValues(0.0, 0.5, 11),
            AllowedValues(-3.0, 1.0, 1),
            AllowedValues(1.0, 1.0, 4, np.array([1.0, 1.5, 40.0, 41.0])),
            AllowedValues(1e6, 1e-3, 1000),
            AllowedValues(2.0, 1.0, 1, np.array([2.0])),
        )

    def test_numbers_and_values_go_back_and_forth(self):
        for members in self.kinds():
            every = members.all()
            self.assertEqual(len(every), members.count)
            self.assertTrue((np.diff(every) > 0.0).all())
            np.testing.assert_array_equal(members.indices(every), np.arange(members.count))
            np.testing.assert_array_equal(members.nearest(every), every)
            scaled = members.over(4.0)
            np.testing.assert_allclose(scaled.all(), every / 4.0, rtol=1e-12)

    def test_the_nearest_is_nearest(self):
        rng = np.random.default_rng(1)
        for members in self.kinds():
            every = members.all()
            width = np.ptp(every) + 1.0
            values = np.concatenate([every[0] - width + 3.0 * width * rng.random(300), [-1e300, 1e300]])
            found = members.nearest(values)
            best = np.abs(values[:, None] - every).min(axis=1)
            np.testing.assert_allclose(np.abs(found - values), best, rtol=1e-9, atol=1e-9 * width)
            self.assertEqual(members.nearest(np.array(math.nan)), every[0])
            self.assertEqual(members.nearest(values.reshape(2, -1)).shape, (2, len(values) // 2))

    def test_they_are_those_that_the_file_says(self):
        problem = loads(TEXT)
        found = {variable.name: allowed_values_of(variable) for _, variable in problem.grid}
        self.assertEqual(set(found), {"pipe", "count", "open", "wood"})  # what is fixed has none
        np.testing.assert_array_equal(found["pipe"].all(), [15, 20, 32, 50])
        np.testing.assert_array_equal(found["count"].all(), [1, 3, 5, 7])
        np.testing.assert_array_equal(found["open"].values(np.array([0, 1, 2])), [0.5, 0.75, 1.0])
        self.assertGreater(found["open"].count, 10**9)
        self.assertTrue(found["wood"].is_unordered and found["wood"].is_apart)
        self.assertFalse(found["pipe"].is_unordered or found["pipe"].is_apart)

    def test_what_is_looked_up_has_nothing_between(self):
        problem = loads(TEXT)
        names = [problem.variables[place].name for place in sorted(looked_up(problem))]
        self.assertEqual(names, ["wood"])


class Grids(unittest.TestCase):
    def setUp(self):
        self.problem = loads(TEXT)
        self.grid = ValueGrid(self.problem)
        self.places = {variable.name: place for place, variable in enumerate(self.problem.variables)}

    def at(self, **values):
        point = np.array(self.problem.start)
        for name, value in values.items():
            point[self.places[name]] = value
        return point

    def test_a_design_between_members_misses_by_more_than_any_limit_allows(self):
        good = self.at(pipe=32, count=7, open=2.25, wood=3.0, width=0.123)
        self.assertEqual(self.grid.misses(good[None])[0], 0.0)
        for name, value, miss in (("pipe", 26, 6 / 5), ("count", 4, 0.5), ("open", 0.6, 0.4), ("wood", 2.5, 0.5),
                                  ("pipe", 60, 2.0)):  # fmt: skip
            self.assertAlmostEqual(self.grid.misses(self.at(**{name: value})[None])[0], 1.0 + miss, msg=name)
        self.assertGreater(self.grid.misses(self.at(pipe=20.001)[None])[0], 1.0)

    def test_rounding_is_straightened_and_nothing_else(self):
        near = self.at(pipe=32 + 1e-12, count=3 - 1e-13, open=0.75 + 1e-12, width=0.5 + 1e-12)
        self.assertEqual(self.grid.misses(near[None])[0], 0.0)
        found = self.grid.straightened(near[None].copy())[0]
        np.testing.assert_array_equal(found, self.at(pipe=32, count=3, open=0.75, width=0.5 + 1e-12))
        off = self.at(pipe=32.5, count=3.2)
        np.testing.assert_array_equal(self.grid.straightened(off[None].copy())[0], off)

    def test_many_are_judged_as_each_alone(self):
        rng = np.random.default_rng(2)
        points = np.array([self.at(pipe=p, count=c, width=w) for p, c, w in
                           itertools.product((15, 16, 50), (1, 2, 7), rng.random(3))])  # fmt: skip
        whole = self.grid.misses(points)
        np.testing.assert_array_equal(whole, [self.grid.misses(point[None])[0] for point in points])
        self.assertEqual(int((whole == 0.0).sum()), 2 * 2 * 3)


if __name__ == "__main__":
    unittest.main()
