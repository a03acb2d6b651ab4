"""Pieces that methods share, each against its definition: linked starts, restoration, fronts of what is known."""

import itertools
import math
import types
import unittest
import unittest.mock

import numpy as np

from ilvren.algebra import dominated_by, domination
from ilvren.methods.base import Reply
from ilvren.methods.pieces import trade_offs
from ilvren.methods.pieces.linkage import MOST_HALVINGS, SIGMA, linked_starts
from ilvren.methods.pieces.points import Point
from ilvren.methods.pieces.restoration import less_violated_far, linear_violation, restored
from ilvren.methods.pieces.trade_offs import Known
from tests.driving import task_of


def driven(protocol, function):
    """Return what a protocol returns, its requests answered by `function` of a point: (rows, Jacobian)."""
    reply, asked = None, 0
    while True:
        try:
            request = protocol.send(reply)
        except StopIteration as ended:
            return ended.value, asked
        if not hasattr(request, "points"):
            reply = None
            continue
        rows, slopes = zip(*(function(x) for x in request.points), strict=True)
        asked += len(rows)
        reply = Reply(
            np.zeros(len(rows)),
            np.array(rows),
            np.zeros((len(rows), request.points.shape[1])) if request.derivatives else None,
            list(slopes) if request.derivatives else None,
        )


class Linkage(unittest.TestCase):
    def test_starts_are_those_of_the_definition(self):
        rng = np.random.default_rng(3)
        for n, k, count, narrow in itertools.product((1, 3), (1, 40, 300), (1, 5, 25), (1.0, 1e-3)):
            codes = rng.random((k, n)) * narrow
            f, v = rng.random(k), np.zeros(k)
            f[rng.random(k) < 0.1] = np.inf
            f[0] = 0.5
            coding = types.SimpleNamespace(widths=np.ones(n))
            found = linked_starts(coding, codes, f, v, count)
            ranked = [int(p) for p in np.lexsort((np.arange(k), f)) if math.isfinite(f[p])][: 20 * count]
            radius = 0.5 * min((SIGMA * math.log(max(k, 2)) / k) ** (1.0 / n), 1.0)
            apart = np.abs(codes[ranked][:, None] - codes[ranked]).max(axis=2)
            nearest = [float(apart[rank, :rank].min(initial=np.inf)) for rank in range(len(ranked))]
            expected = [0]
            for _ in range(MOST_HALVINGS):
                for place, near in zip(ranked, nearest, strict=True):
                    if place not in expected and len(expected) < count and near > radius:
                        expected.append(place)
                radius *= 0.5
            expected += [place for place in ranked if place not in expected]
            with self.subTest(n=n, k=k, count=count, narrow=narrow):
                self.assertEqual(found, expected[:count])
                self.assertEqual(len(set(found)), len(found))


class Fronts(unittest.TestCase):
    def test_domination_of_many_pairs_is_that_of_each(self):
        rng = np.random.default_rng(4)
        for trial in range(300):
            k, l = rng.integers(0, 30, 2)
            pool = np.array([0, 1, 2, 3, np.nan, np.inf, -np.inf]) if trial % 2 else np.arange(5.0)
            values, others = rng.choice(pool, (k, 2)), rng.choice(pool, (l, 2))
            expected = [any((b <= a).all() and (b < a).any() for b in others) for a in values]
            np.testing.assert_array_equal(domination._dominated_pairs(values, others), np.array(expected, dtype=bool))
        values, others = rng.random((400, 2)), rng.random((400, 2))
        few = np.concatenate([dominated_by(values[k : k + 20], others) for k in range(0, 400, 20)])
        np.testing.assert_array_equal(dominated_by(values, others), few)

    def test_what_is_known_grows_by_what_nothing_dominates_and_equal_values_once(self):
        for most in (trade_offs.MOST_COMPARED, 0):
            with self.subTest(most=most), unittest.mock.patch.object(trade_offs, "MOST_COMPARED", most):
                self.grow()

    def grow(self):
        rng = np.random.default_rng(5)
        known, every = Known(np.zeros((0, 1)), np.zeros((0, 2))), []
        for _ in range(30):
            x, values = rng.random((6, 1)), rng.integers(0, 9, (6, 2)).astype(float)
            v = np.where(rng.random(6) < 0.3, 1.0, 0.0)
            known = known.joined(x, values, v)
            every += [tuple(own) for own, missed in zip(values.tolist(), v, strict=True) if not missed]
            best = {a for a in every if not any(b != a and b[0] <= a[0] and b[1] <= a[1] for b in every)}
            self.assertEqual(sorted(map(tuple, known.values.tolist())), sorted(best))
            self.assertEqual(len(known.x), len(known.values))


class Restoration(unittest.TestCase):
    def circle(self, x):
        return [float(x @ x)], 2.0 * x[np.newaxis]

    def start(self, task, x, function):
        rows, slopes = function(np.array(x))
        return Point(np.array(x), 0.0, np.array(rows), np.zeros(len(x)), slopes)

    def test_the_violation_is_halved_and_where_it_cannot_fall_it_is_stationary(self):
        task = task_of([3.0, 1.0], -5.0, 5.0, rows=1, row_lower=1.0, row_upper=1.0)
        here = self.start(task, [3.0, 1.0], self.circle)
        (there, word), asked = driven(restored(task, here, lambda _: True), self.circle)
        self.assertEqual(word, "back")
        self.assertLessEqual(abs(there.c[0] - 1.0), 0.5 * 9.0)
        self.assertLess(asked, 20)
        # x >= 3 and x <= 1: the squares of both misses are least at 2.
        never = task_of([0.5, 0.5], -5.0, 5.0, rows=2, row_lower=[3.0, -9.0], row_upper=[9.0, 1.0])

        def twice(x):
            return [float(x[0])] * 2, np.array([[1.0, 0.0]] * 2)

        (there, word), _ = driven(restored(never, self.start(never, [0.5, 0.5], twice), lambda _: True), twice)
        self.assertEqual(word, "stationary")
        self.assertAlmostEqual(there.x[0], 2.0, places=3)

    def test_steps_stay_within_the_bounds_and_invalid_values_are_turned_back_from(self):
        task = task_of([3.0, 1.0], 0.9, 5.0, rows=1, row_lower=-9.0, row_upper=1.0)

        def edged(x):
            return ([float("nan")], x[np.newaxis]) if x[0] < 1.5 else self.circle(x)

        (there, word), _ = driven(restored(task, self.start(task, [3.0, 1.0], edged), lambda _: True), edged)
        self.assertIn(word, ("back", "stuck", "stationary"))
        self.assertGreaterEqual(there.x[0], 1.5)
        self.assertGreaterEqual(float(there.x.min()), 0.9)

    def test_a_linear_prediction_and_a_look_over_the_box(self):
        task = task_of([3.0, 1.0], -5.0, 5.0, rows=1, row_lower=1.0, row_upper=1.0)
        here = self.start(task, [3.0, 1.0], self.circle)
        self.assertAlmostEqual(linear_violation(task, here, np.array([-0.5, 0.0])), 10.0 - 1.0 - 3.0)
        found, _ = driven(less_violated_far(task, here, 1), self.circle)
        self.assertIsNotNone(found)
        self.assertLess(abs(found.c[0] - 1.0), 0.5 * 9.0)
        near = self.start(task, [1.0, 0.001], self.circle)
        self.assertIsNone(driven(less_violated_far(task, near, 1), self.circle)[0])


if __name__ == "__main__":
    unittest.main()
