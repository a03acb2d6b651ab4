"""What descent methods step by and search methods hope for: line searches, merits, augmented Lagrangians, log chances —
each against the formula in its head."""

import itertools
import math
import unittest

import numpy as np
from scipy.integrate import quad
from scipy.stats import norm

from ilvren.algebra import trust_region_step
from ilvren.methods.base import Assessment, Reply
from ilvren.methods.pieces import descent, hopes
from ilvren.methods.pieces.lagrangian import Lagrangian
from ilvren.methods.pieces.line_search import SUFFICIENT, moving_gradient, searched
from ilvren.methods.pieces.merit import MULTIPLIER_FACTOR, PROMISE, least_weights, merits, promised
from ilvren.methods.pieces.points import Point
from tests.driving import task_of


def setUpModule():
    unittest.enterModuleContext(np.errstate(all="ignore"))  # as a run has it


CURVES = {
    "bowl": (lambda x: float(((x - 1.0) ** 2).sum()), lambda x: 2.0 * (x - 1.0)),
    "flat": (lambda x: float(((x - 1.0) ** 4).sum()), lambda x: 4.0 * (x - 1.0) ** 3),
    "valley": (
        lambda x: float(100.0 * (x[1] - x[0] ** 2) ** 2 + (1.0 - x[0]) ** 2),
        lambda x: np.array([-400.0 * x[0] * (x[1] - x[0] ** 2) - 2.0 * (1.0 - x[0]), 200.0 * (x[1] - x[0] ** 2)]),
    ),
    "waves": (lambda x: float((np.sin(3.0 * x) + 0.1 * x**2).sum()), lambda x: 3.0 * np.cos(3.0 * x) + 0.2 * x),
    "vast": (lambda x: 1e12 * float(np.cosh(x).sum()), lambda x: 1e12 * np.sinh(x)),
    "edge": (
        lambda x: float(x.sum() - np.log(x).sum()) if (x > 0.0).all() else math.nan,
        lambda x: np.where(x > 0.0, 1.0 - 1.0 / np.where(x > 0.0, x, 1.0), math.nan),
    ),
}


class Searched(unittest.TestCase):
    def search(self, curve, start, direction=None, first=1.0, lower=-np.inf, upper=np.inf, **more):
        """Return (task, start, direction, what was found, designs asked for)."""
        f, g = CURVES[curve]
        task = task_of(start, lower, upper)
        x = np.array(start, dtype=float)
        here = Point(x, f(x), np.zeros(0), g(x), np.zeros((0, len(x))), True)
        direction = -here.g if direction is None else np.array(direction, dtype=float)
        protocol, answer, asked = searched(task, here, direction, first, **more), None, []
        try:
            while True:
                message = protocol.send(answer)
                asked.append(message.points[0])
                value, slope = f(message.points[0]), g(message.points[0])
                answer = Reply(np.array([value]), np.zeros((1, 0)), slope[np.newaxis], [np.zeros((0, len(x)))])
        except StopIteration as end:
            return task, here, direction, end.value, asked

    def test_both_conditions_hold_where_no_bound_bends_the_ray(self):
        for curve, first, c2 in itertools.product(CURVES, (1e-6, 1e-2, 1.0, 50.0), (0.9, 0.1)):
            start = [0.3, 0.4] if curve == "edge" else [-0.7, 1.9]
            _, here, direction, found, asked = self.search(curve, start, first=first, curvature=c2)
            with self.subTest(curve=curve, first=first, c2=c2):
                self.assertIsNotNone(found)
                slope = float(here.g @ direction)
                step = found.point.x - here.x
                self.assertLessEqual(found.point.f, here.f + SUFFICIENT * float(here.g @ step) + 1e-12 * abs(here.f))
                self.assertLessEqual(abs(float(found.point.g @ direction)), c2 * abs(slope) * (1.0 + 1e-9))
                self.assertLessEqual(len(asked), 40)

    def test_within_bounds_steps_stay_and_still_fall(self):
        for curve, first in itertools.product(("bowl", "valley", "waves", "flat"), (1e-3, 1.0, 1e3)):
            task, here, _, found, asked = self.search(curve, [-0.7, 0.4], first=first, lower=-1.0, upper=0.5)
            for x in asked:
                self.assertTrue(((x >= task.lower) & (x <= task.upper)).all())
            self.assertLess(found.point.f, here.f)

    def test_no_descent_is_no_step(self):
        self.assertIsNone(self.search("bowl", [0.0, 0.0], direction=[-1.0, -1.0])[3])
        self.assertIsNone(self.search("bowl", [0.0, 0.0], direction=[math.nan, 1.0])[3])
        self.assertIsNone(self.search("bowl", [1.0, 1.0], direction=[0.0, 0.0])[3])
        self.assertEqual(self.search("bowl", [0.0, 0.0], direction=[-1.0, -1.0])[4], [])

    def test_invalid_designs_are_stepped_back_from(self):
        _, here, _, found, asked = self.search("edge", [0.3, 0.4], direction=[-1.0, 3.0], first=10.0)
        self.assertTrue(any((x <= 0.0).any() for x in asked))
        self.assertTrue((found.point.x > 0.0).all())
        self.assertLess(found.point.f, here.f)

    def test_what_moves_is_told_by_the_bounds(self):
        task = task_of([0.0] * 4, -1.0, 1.0)
        found = moving_gradient(task, np.array([-1.0, -1.0, 1.0, 0.0]), np.array([1.0, -1.0, -1.0, 2.0]))
        np.testing.assert_array_equal(found, [0.0, -1.0, 0.0, 2.0])


class Merits(unittest.TestCase):
    TASK = task_of([0.0], rows=3, row_lower=[-np.inf, 1.0, 2.0], row_upper=[0.0, 4.0, 2.0])

    def test_they_are_the_objective_and_the_weighted_misses(self):
        rng = np.random.default_rng(1)
        f, c, mu = rng.normal(size=7), rng.normal(size=(7, 3)) * 3.0, np.array([2.0, 0.5, 3.0])
        for value, rows, found in zip(f, c, merits(self.TASK, f, c, mu), strict=True):
            misses = [max(rows[0], 0.0), max(1.0 - rows[1], rows[1] - 4.0, 0.0), abs(rows[2] - 2.0)]
            self.assertAlmostEqual(found, value + float(np.dot(mu, misses)))
        none = task_of([0.0])
        np.testing.assert_array_equal(merits(none, f, np.zeros((7, 0)), np.zeros(0)), f)

    def test_weights_grow_until_every_step_to_the_rows_promises_a_fall(self):
        rng = np.random.default_rng(2)
        for _ in range(200):
            f, c = float(rng.normal()), rng.normal(size=3) * 4.0
            values = np.concatenate(
                [[f + 5.0 * rng.normal()], np.where(rng.random(3) < 0.7, np.clip(c, [-9, 1, 2], [0, 4, 2]), c)]
            )
            mu = rng.random(3)
            grown, fall = promised(self.TASK, f, c, values, mu)
            self.assertTrue((grown >= mu).all())
            relief = self.TASK.misses(c) - self.TASK.misses(values[1:])
            self.assertAlmostEqual(fall, f - values[0] + float(grown @ relief))
            if relief.sum() > 0.0:
                self.assertGreaterEqual(fall, min(PROMISE * float(grown @ relief), fall) - 1e-12)
                self.assertGreater(fall, -1e-9)
        self.assertEqual(MULTIPLIER_FACTOR, 2.0)

    def test_a_first_weight_makes_a_miss_count_like_the_range_of_the_objective(self):
        f = np.array([3.0, 8.0, 4.0])
        np.testing.assert_allclose(least_weights(self.TASK, f), 5.0)


class Multipliers(unittest.TestCase):
    """minimize (x − 3)² with x <= 1 (u = −4) and with x == 1: the updates converge to the multiplier."""

    def drive(self, row_lower, rounds=40, weight=5.0):
        task = task_of([0.0], rows=1, row_lower=row_lower, row_upper=1.0)
        multipliers, x = np.zeros(1), 0.0
        for _ in range(rounds):
            own = Lagrangian(task, multipliers, np.array([weight]))
            grid = np.linspace(-1.0, 4.0, 200_001)
            x = float(grid[np.argmin(own.values((grid - 3.0) ** 2, grid[:, None]))])
            multipliers = own.renewed_multipliers(np.array([x]))
        return x, multipliers[0], own

    def test_they_converge_to_the_price_of_the_limit(self):
        for row_lower in (-np.inf, 1.0):
            x, multiplier, own = self.drive(row_lower)
            self.assertAlmostEqual(x, 1.0, delta=1e-4)
            self.assertAlmostEqual(multiplier, 4.0, delta=1e-3)
            self.assertLess(float(own.misses(np.array([x]))[0]), 1e-4)
            self.assertLess(abs(own.gap(np.array([x]))), 1e-2)

    def test_a_limit_that_does_not_press_has_none(self):
        task = task_of([0.0], rows=2, row_lower=-np.inf, row_upper=[9.0, 1.0])
        own = Lagrangian(task, np.zeros(2), np.ones(2))
        np.testing.assert_array_equal(own.renewed_multipliers(np.array([3.0, 1.5])), [0.0, 0.5])
        np.testing.assert_array_equal(
            own.values(np.array([2.0, math.nan]), np.array([[3.0, 1.5], [0.0, 0.0]])), [2.125, np.inf]
        )
        self.assertEqual(own.values(np.array([0.0]), np.array([[math.inf, 0.0]]))[0], np.inf)


class Hopes(unittest.TestCase):
    def test_the_hope_is_the_expected_improvement(self):
        """∫ max(u − t, 0) φ(t) dt, near and far below."""
        for u in (-6.0, -2.0, -0.5, 0.0, 1.0, 4.0):
            expected = quad(lambda t, u=u: (u - t) * norm.pdf(t), -40.0, u, epsabs=1e-16)[0]
            self.assertAlmostEqual(
                math.exp(float(hopes.log_hope(np.array(u)))), expected, delta=1e-7 * max(expected, 1e-9)
            )
        far = hopes.log_hope(np.array([-20.0, -25.0, -25.01, -30.0, -1e3, -1e8]))
        self.assertTrue(np.isfinite(far).all())
        self.assertTrue((np.diff(far) < 0.0).all())
        self.assertLess(abs(float(np.diff(hopes.log_hope(np.array([-24.999, -25.001])))[0])), 0.2)

    def test_the_log_of_a_chance_between_two_ends_is_right_on_either_side(self):
        for low, high in (
            (-1.0, 2.0),
            (-np.inf, 0.3),
            (0.5, np.inf),
            (5.0, 6.0),
            (-6.0, -5.0),
            (30.0, 31.0),
            (-31.0, -30.0),
        ):
            found = float(hopes.log_between(np.array(low), np.array(high)))
            mirrored = float(hopes.log_between(np.array(-high), np.array(-low)))
            self.assertAlmostEqual(found, mirrored, delta=1e-9 * abs(found))
            a, b = (low, high) if high <= 0.0 or low < 0.0 else (-high, -low)
            expected = norm.logcdf(b) + math.log1p(-math.exp(min(norm.logcdf(a) - norm.logcdf(b), -1e-300)))
            self.assertAlmostEqual(found, expected, delta=1e-9 * abs(expected))
        with np.errstate(divide="ignore"):
            self.assertLess(float(hopes.log_between(np.array(1.0), np.array(1.0))), -300.0)

    def test_what_is_worth_most_is_new_and_within_the_box(self):
        from ilvren.methods.pieces.beliefs import Beliefs, Designs
        from ilvren.methods.pieces.coding import Coding

        task = task_of([0.5, 0.5], -1.0, 2.0)
        coding = Coding.of(task)
        beliefs = Beliefs(task=task, coding=coding)
        known = Designs(np.array([[0.7, -0.4]]), np.zeros(1), np.zeros((1, 0)))
        goal = beliefs.shares(np.array([[0.7, -0.4]]))[0]
        found, worth = hopes.most_hoped(
            beliefs, known, coding.start, lambda z: -((z - goal) ** 2).sum(axis=1), np.random.default_rng(3)
        )  # fmt: skip
        self.assertTrue(((found >= -1.0) & (found <= 2.0)).all())
        self.assertLess(float(np.abs(found - [0.7, -0.4]).max()), 0.05)
        self.assertGreater(float(np.abs(found - [0.7, -0.4]).max()), 0.0)
        self.assertAlmostEqual(worth, -float(((beliefs.shares(found[None])[0] - goal) ** 2).sum()))


class Endings(unittest.TestCase):
    def test_low_or_far_out_is_an_end_of_its_own_kind(self):
        start = np.array([1.0, 2.0])
        for f, x, claim in (
            (-1e16, [1.0, 2.0], "unbounded"),
            (-1e7, [1e16, 0.0], "unbounded"),
            (-10.0, [1e16, 0.0], "stalled"),
            (-1e7, [5.0, 0.0], None),
            (0.0, [1.0, 2.0], None),
        ):
            found = descent.far_out(f, np.array(x), start, math.inf)
            self.assertEqual(None if found is None else found.claim, claim, (f, x))
        self.assertIsNone(descent.far_out(-1e16, start, start, -1e20))  # the objective is written in small units

    def test_only_feasible_designs_can_be_endless(self):
        here = Point(np.array([1.0]), -1e18, np.zeros(1), np.zeros(1), np.zeros((1, 1)), True)
        task = task_of([1.0], rows=1)
        self.assertEqual(descent.endless(task, here, Assessment(0.0, None, False)).claim, "unbounded")
        self.assertIsNone(descent.endless(task, here, Assessment(1.0, None, False)))
        self.assertEqual(descent.end_of(task, here, Assessment(0.0, 0.0, True)).claim, "converged")

    def test_a_start_without_values_or_slopes_is_said_to_be(self):
        for f, g, word in ((math.nan, 0.0, "objective"), (1.0, math.inf, "derivative"), (1.0, 2.0, None)):
            protocol = descent.begun(task_of([9.0], -1.0, 1.0))
            message = next(protocol)
            np.testing.assert_array_equal(message.points, [[1.0]])
            try:
                protocol.send(Reply(np.array([f]), np.zeros((1, 0)), np.array([[g]]), [np.zeros((0, 1))]))
            except StopIteration as end:
                if word is None:
                    self.assertEqual(end.value.f, 1.0)
                else:
                    self.assertEqual(end.value.claim, "invalid")
                    self.assertIn(word, end.value.reason)

    def test_variables_pushed_towards_a_near_bound_are_held(self):
        task = task_of([0.0] * 4, -1.0, 1.0)
        x, g = np.array([-1.0 + 1e-9, -1.0 + 1e-9, 1.0, 0.0]), np.array([1.0, -1.0, -1.0, 3.0])
        here = Point(x, 0.0, np.zeros(0), g, np.zeros((0, 4)), True)
        np.testing.assert_array_equal(descent.near_bounds(task, here), [True, False, True, False])


class TrustRegions(unittest.TestCase):
    def test_steps_are_the_best_within_the_radius(self):
        """Against many directions and lengths; and the conditions of an exact solution: (H + λI) d = −g, λ >= 0."""
        rng = np.random.default_rng(4)
        for trial in range(60):
            n = int(rng.integers(1, 5))
            root = rng.normal(size=(n, n))
            h = root + root.T if trial % 2 else root @ root.T
            g = rng.normal(size=n) * (0.0 if trial % 9 == 8 else 1.0)
            radius = float(10.0 ** rng.uniform(-2, 1.5))
            d = trust_region_step(h, g, radius)
            d = d[0] if isinstance(d, tuple) else d
            value = float(g @ d + 0.5 * d @ h @ d)
            self.assertLessEqual(float(np.linalg.norm(d)), radius * (1.0 + 1.001e-3))
            draws = rng.normal(size=(3000, n))
            draws *= radius * rng.random((3000, 1)) ** (1.0 / n) / np.linalg.norm(draws, axis=1, keepdims=True)
            seen = draws @ g + 0.5 * np.einsum("ki,ij,kj->k", draws, h, draws)
            size = max(1.0, abs(value))
            self.assertLessEqual(value, float(seen.min()) + 3e-3 * size, trial)


if __name__ == "__main__":
    unittest.main()
