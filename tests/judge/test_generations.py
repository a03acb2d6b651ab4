"""Generations and predictions of a run told in numbers: against a plain look at each design."""

import math
import unittest

import numpy as np

from ilvren import loads
from ilvren.judge.comparing.contest import _quartiles
from ilvren.judge.comparing.foretold import Foretellings
from ilvren.judge.comparing.generations import Generation, Generations

NAN = math.nan


def generation(number, objective, violation):
    count = len(objective)
    points = np.arange(2.0 * count).reshape(count, 2) + 100.0 * number
    return Generation(number, points, np.array(objective, dtype=float), np.array(violation, dtype=float), 10 * number)


def generations(items, sense="minimize"):
    problem = loads(f"[variables]\nx = {{ start = 1 }}\ny = {{ start = 1 }}\n[{sense}]\nf = 'x^2 + y'\n")
    return Generations("r1", "differential-evolution", problem, 1e-6, tuple(items))


class OfARun(unittest.TestCase):
    def test_the_best_is_feasible_where_any_is_else_misses_least(self):
        for objective, violation, sign, best in (
            ([3.0, 1.0, 2.0], [0.0, 0.0, 0.0], 1, 1),
            ([3.0, 1.0, 2.0], [0.0, 0.0, 0.0], -1, 0),
            ([3.0, 1.0, 2.0], [0.0, 0.5, 1e-7], 1, 2),  # within what is allowed
            ([3.0, 1.0, 2.0], [0.7, 0.5, 0.6], 1, 1),
            ([NAN, 1.0, 2.0], [0.0, 0.5, 0.6], 1, 1),
            ([NAN, NAN, 2.0], [NAN, NAN, 0.6], 1, 2),
            ([NAN, 5.0, NAN], [0.0, 0.0, 0.0], -1, 1),
        ):
            own = generation(1, objective, violation)
            with self.subTest(objective=objective, violation=violation, sign=sign):
                self.assertEqual(own.best(1e-6, sign), best)
                feasible = [v <= 1e-6 and math.isfinite(f) for f, v in zip(objective, violation, strict=True)]
                self.assertEqual(own.feasible(1e-6).tolist(), feasible)

    def test_what_the_first_generation_was_worth(self):
        first = generation(1, [5.0, 3.0, 9.0, 7.0], [0.0, 0.0, 0.0, 1.0])
        last = generation(2, [1.0, 2.0, 0.5, 8.0], [0.0, 0.0, 1.0, 0.0])
        told = generations([first, last]).worth_of_first()
        self.assertEqual(told["feasible_share"], 0.75)
        self.assertAlmostEqual(
            told["way_to_the_best"], (5.0 - 3.0) / (5.0 - 1.0)
        )  # median 5, its best 3, the best of all 1
        turned = generations([first, last], "maximize").worth_of_first()
        self.assertAlmostEqual(turned["way_to_the_best"], 1.0)  # nothing later is above its 9
        bad = generation(1, [5.0, NAN], [2.0, 0.0])
        told = generations([bad, last]).worth_of_first()
        self.assertEqual(told["feasible_share"], 0.0)
        self.assertTrue(math.isnan(told["way_to_the_best"]))
        alike = generations([generation(1, [2.0, 2.0], [0.0, 0.0])]).worth_of_first()
        self.assertEqual(alike["way_to_the_best"], 1.0)

    def test_worth_is_between_nothing_and_all_at_random(self):
        rng = np.random.default_rng(7)
        for _ in range(50):
            items = [
                generation(k, rng.normal(size=6), np.where(rng.random(6) < 0.4, rng.random(6), 0.0)) for k in (1, 2, 3)
            ]
            told = generations(items).worth_of_first()
            first = items[0]
            feasible = first.objective[first.violation <= 1e-6]
            self.assertEqual(told["feasible_share"], len(feasible) / 6)
            if len(feasible):
                best = min(item.objective[item.violation <= 1e-6].min(initial=np.inf) for item in items)
                middle = float(np.median(feasible))
                expected = 1.0 if middle <= best else (middle - feasible.min()) / (middle - best)
                self.assertAlmostEqual(told["way_to_the_best"], expected)
                self.assertTrue(-1e-12 <= told["way_to_the_best"] <= 1.0 + 1e-12)


class Foretold(unittest.TestCase):
    def test_errors_by_halves_and_the_share_within_what_was_told(self):
        rows = [(5, 1.0, 0.1, 1.3), (6, 2.0, 0.1, 2.1), (9, 3.0, NAN, 2.0), (11, 4.0, 0.5, 4.6), (12, 5.0, 0.2, NAN)]
        found = Foretellings.of(rows, "quadratic of 9 designs")
        np.testing.assert_allclose(found.errors[:4], [0.3, 0.1, -1.0, 0.6])
        first, second = found.typical
        self.assertAlmostEqual(first, 0.3)  # of 0.3, 0.1, 1.0
        self.assertAlmostEqual(second, 0.6)  # what has no value is left out
        self.assertAlmostEqual(found.share_within, 2 / 3)  # 0.3 > 2 · 0.1
        told = found.to_dict()
        self.assertEqual((told["count"], told["surface"]), (5, "quadratic of 9 designs"))
        self.assertEqual([item["evaluations"] for item in told["along"]], [5, 6, 9, 11, 12])
        self.assertEqual((told["along"][2]["spread"], told["along"][4]["actual"]), (None, None))
        silent = Foretellings.of([(1, 2.0, NAN, 3.0)], "")
        self.assertIsNone(silent.share_within)
        self.assertEqual(silent.typical[0], 1.0)
        self.assertTrue(math.isnan(silent.typical[1]))


class Quartiles(unittest.TestCase):
    def test_they_are_those_of_the_sorted_values_with_what_never_came_last(self):
        rng = np.random.default_rng(8)
        for count in (1, 2, 5, 8, 21):
            values = rng.normal(size=count).tolist()
            values[0] = np.inf if count > 4 else values[0]
            found = _quartiles(values)
            self.assertEqual((found.least, found.largest), (min(values), max(values)))
            ordered = sorted(values)
            for share, own in ((0.25, found.lower), (0.5, found.median), (0.75, found.upper)):
                below = sum(value <= own for value in values)
                self.assertIn(own, ordered)
                self.assertGreaterEqual(below, share * count)  # a number of the list, the lower of two
                self.assertLess(below - 1, share * count)


if __name__ == "__main__":
    unittest.main()
