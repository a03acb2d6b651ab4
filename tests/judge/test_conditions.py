"""What verdicts are made of, each against its definition: sizes and misses, multipliers, curvature along what the active
limits leave, and designs tried around one."""

import itertools
import math
import unittest

import numpy as np

from ilvren import loads
from ilvren.evaluate import Gate, measured
from ilvren.judge.optimum import curvature
from ilvren.judge.optimum.curvature import active_normals, lagrangian_curvature, lagrangian_hessians
from ilvren.judge.optimum.probe import gain_over, probe_around, restored
from ilvren.judge.optimum.qualification import qualification_of
from ilvren.judge.optimum.smoothness import doubt_in_formulas
from ilvren.problem import Measures, objective_size
from ilvren.runs import first_order_conditions
from tests.problems import manufactured, two_variables


class At:
    """A problem at a design: its gate, its measures and what holds there."""

    def __init__(self, problem, point, feasibility=1e-6):
        self.problem = loads(problem) if isinstance(problem, str) else problem
        self.gate = Gate(self.problem)
        self.measures, self.point = measured(self.problem, self.gate), np.array(point, dtype=float)
        self.evaluation = self.gate.evaluate(self.point, derivatives=True)
        self.sizes = self.measures.variable_sizes(self.point)
        start = self.gate.evaluate(np.array(self.problem.start)).objective
        self.size = objective_size(None, self.evaluation.objective, start)
        self.feasibility = feasibility
        self.conditions = first_order_conditions(
            self.problem, self.measures, self.point, self.evaluation, objective_size=self.size, feasibility=feasibility
        )

    def curvature(self):
        return lagrangian_curvature(
            self.gate, self.measures, self.point, self.conditions, sizes=self.sizes, objective_size=self.size
        )

    def probed(self, **more):
        given = {"radii": (0.1, 1e-3), "feasibility": 1e-6, "least_gain": 1e-9, "directions": [], "samples": 40}
        prices = np.nan_to_num(self.conditions.row_multipliers)
        return probe_around(
            self.gate, self.measures, self.point, sizes=self.sizes, prices=prices, **{**given, **more}
        )  # fmt: skip


class Sizes(unittest.TestCase):
    TEXT = """
[variables]
declared = { start = 3, magnitude = 50, lower = 0, upper = 2000 }
bounded = { start = 3, lower = -2, upper = 6 }
open = { start = -30, lower = -100 }
nothing = { start = 0 }
[minimize]
f = "declared + bounded + open + nothing^2"
[constraints]
limited = "bounded + open >= -500"
both = "-4 <= declared - open <= 90"
level = "1000 * open + bounded == 0"
told = { formula = "bounded * open <= 0", magnitude = 7 }
"""

    def test_a_size_is_what_is_declared_else_a_width_else_what_is_known(self):
        measures = Measures.of(loads(self.TEXT))
        np.testing.assert_array_equal(measures.variable_sizes(np.array([3.0, 3.0, -30.0, 0.0])), [50, 8, 30, 1])
        np.testing.assert_array_equal(measures.variable_sizes(np.array([3.0, 3.0, -70.0, 2.0])), [50, 8, 70, 2])
        moved = measures.with_moves(np.array([0.0, 0.0, 400.0, 0.25]))
        np.testing.assert_array_equal(moved.variable_sizes(np.array([3.0, 3.0, -70.0, 0.0])), [50, 8, 400, 0.25])
        np.testing.assert_array_equal(moved.bound_sizes(np.array([3.0, 3.0, -70.0, 0.0])), [50, 8, 100, 0.25])
        np.testing.assert_array_equal(measures.has_only_starts, [False, False, True, True])

    def test_a_row_is_measured_by_its_limits_else_by_its_largest_term(self):
        measures = Measures.of(loads(self.TEXT))
        # Of the level the larger term at the start: 1000 · 30.
        np.testing.assert_allclose(measures.row_sizes, [500.0, 90.0, 30_000.0, 7.0])

    def test_an_objective_is_measured_by_its_value_or_by_what_it_changed(self):
        for given, expected in (
            ((None, 5.0, 4.0), 5.0),
            ((None, 1e-9, 400.0), 1.0),
            ((None, 0.0, 0.25), 0.25),
            ((None, 0.0, 0.0), 1.0),
            ((None, -3.0, math.nan), 3.0),
            ((None, math.inf, 2.0), 1.0),
            ((7.0, 5.0, 4.0), 7.0),
        ):
            self.assertEqual(objective_size(*given), expected, given)

    def test_the_violation_of_many_is_that_of_each_and_no_number_is_a_miss(self):
        problem = loads(self.TEXT + "")
        measures, rng = Measures.of(problem), np.random.default_rng(1)
        points = rng.normal(size=(50, 4)) * [50, 8, 60, 1]
        rows = rng.normal(size=(50, 4)) * 100.0
        points[3, 1], rows[4, 2], rows[5] = math.nan, math.nan, [0.0, 0.0, 0.0, -1.0]
        points[5] = [1.0, 1.0, 1.0, 1.0]
        found = measures.violations(points, rows)
        np.testing.assert_array_equal(found, [measures.violation(x, c) for x, c in zip(points, rows, strict=True)])
        self.assertEqual((found[3], found[4], found[5]), (math.inf, math.inf, 0.0))
        for x, c, own in zip(points, rows, found, strict=True):
            by_hand = [
                max(-500.0 - c[0], 0.0) / 500.0, max(-4.0 - c[1], c[1] - 90.0, 0.0) / 90.0, abs(c[2]) / 30_000.0,
                max(c[3], 0.0) / 7.0, max(-x[0], x[0] - 2000.0, 0.0) / 50.0, max(-2.0 - x[1], x[1] - 6.0, 0.0) / 8.0,
                max(-100.0 - x[2], 0.0) / max(abs(x[2]), 100.0),
            ]  # fmt: skip
            if np.isfinite(own):
                self.assertAlmostEqual(own, max(by_hand), places=12)


class FirstOrder(unittest.TestCase):
    def test_they_hold_at_manufactured_optima_and_not_beside_them(self):
        rng = np.random.default_rng(2)
        for seed in range(12):
            problem, optimum = manufactured(seed, n=3 + seed % 3, inequalities=seed % 4, equalities=seed % 2)
            at = At(problem, optimum)
            self.assertTrue(at.conditions.meet(1e-9), (seed, at.conditions.stationarity, at.conditions.complementarity))
            beside = optimum + 0.05 * rng.normal(size=len(optimum))
            self.assertFalse(At(problem, beside).conditions.meet(1e-6), seed)

    def test_multipliers_are_the_slope_of_the_objective_by_the_limit(self):
        """minimize x² + 2y², x + y >= p: f = 2p²/3, u = 4p/3; and the sign turns with the side."""
        for p in (0.5, 3.0):
            best = [2 * p / 3, p / 3]
            for row, u in ((f"x + y >= {p}", 4 * p / 3), (f"-x - y <= {-p}", -4 * p / 3), (f"x + y == {p}", 4 * p / 3)):
                at = At(two_variables("x^2 + 2*y^2", row), best)
                self.assertAlmostEqual(at.conditions.row_multipliers[0], u, places=10)
                self.assertLess(at.conditions.stationarity, 1e-12)

    def test_a_multiplier_of_the_wrong_sign_is_none(self):
        at = At(two_variables("x^2 + y^2", "x + y <= 2"), [1.0, 1.0])
        self.assertEqual(at.conditions.row_multipliers[0], 0.0)
        self.assertGreater(at.conditions.stationarity, 0.1)
        bound = At('[variables]\nx = { start = 1, lower = 0, upper = 1 }\n[minimize]\nf = "x + 2"\n', [1.0])
        self.assertEqual(bound.conditions.bound_multipliers[0], 0.0)
        self.assertGreater(bound.conditions.stationarity, 0.1)

    def test_fixed_variables_and_members_do_not_count(self):
        text = (
            "[variables]\nx = { start = 1, lower = 1, upper = 1 }\nk = { start = 4, lower = 0, upper = 9, spacing = 1 }\n"
            'y = { start = 0 }\n[minimize]\nf = "100 * x + 50 * k + y^2 + 1"\n'
        )
        self.assertEqual(At(text, [1.0, 4.0, 0.0]).conditions.stationarity, 0.0)

    def test_the_distance_of_a_priced_limit_is_a_gap(self):
        for off in (0.0, 1e-7, 1e-3):
            at = At(two_variables("x + y + 5", "x + y >= 2"), [1.0 + off, 1.0], feasibility=1e-2)
            self.assertAlmostEqual(at.conditions.complementarity, off / 7.0, delta=1e-3 * max(off, 1e-9))

    def test_dependent_limits_leave_multipliers_open(self):
        one = At(two_variables("x + y", "x + y >= 2"), [1.0, 1.0])
        twice = At(two_variables("x + y", "x + y >= 2", "2*x + 2*y >= 4"), [1.0, 1.0])
        self.assertEqual((one.conditions.are_unique, twice.conditions.are_unique), (True, False))
        self.assertLess(twice.conditions.stationarity, 1e-12)


class Curvatures(unittest.TestCase):
    def test_normals_point_inwards_and_have_length_one(self):
        for seed in range(8):
            problem, optimum = manufactured(seed, n=4, inequalities=3, equalities=seed % 2)
            at = At(problem, optimum)
            free = problem.continuous_places
            normals, multipliers, is_equality, zeros = active_normals(
                at.evaluation.jacobian, at.conditions, free, at.sizes[free]
            )
            np.testing.assert_allclose(np.linalg.norm(normals, axis=1), 1.0, rtol=1e-12)
            self.assertEqual((int(is_equality.sum()), zeros), (seed % 2, 0))
            slope = at.evaluation.gradient * at.sizes
            np.testing.assert_allclose(normals.T @ multipliers, slope, atol=1e-9 * max(1.0, np.abs(slope).max()))
            for normal, is_level in zip(normals, is_equality, strict=True):
                there = at.gate.evaluate(optimum + 1e-4 * normal * at.sizes)
                if not is_level:  # a step along the normal leaves the limit behind, towards the inside
                    active = np.flatnonzero(at.conditions.row_sides)
                    self.assertGreater(float((there.rows - at.evaluation.rows)[active].max()), 0.0)

    def test_differences_estimate_the_exact_hessian_of_the_lagrangian(self):
        for seed in range(6):
            problem, optimum = manufactured(seed, n=4, inequalities=3, equalities=1)
            at, free = At(problem, optimum), problem.continuous_places
            exact = lagrangian_hessians(at.gate, at.measures, at.point, at.conditions, free, at.sizes[free])
            self.assertEqual(len(exact), 1)
            for step in curvature.STEPS:
                found = curvature._hessian(at.gate, at.measures, at.point, at.conditions, free, step * at.sizes[free])
                np.testing.assert_allclose(found, exact[0], atol=1e-4 * np.abs(exact[0]).max())

    def test_estimates_keep_within_the_bounds(self):
        text = '[variables]\nx = { start = 0, lower = 0, upper = 4 }\n[minimize]\nf = "x^1.5 + 3 * x^2"\n'
        at = At(text, [0.0])
        found = curvature._hessian(
            at.gate, at.measures, np.array([4.0]), at.conditions, np.array([0]), np.array([1e-3])
        )  # fmt: skip
        self.assertAlmostEqual(found[0, 0], 6.0 + 0.75 / 2.0, places=3)
        narrow = At(text.replace("upper = 4", "upper = 1e-9"), [0.0])
        found = curvature._hessian(
            narrow.gate, narrow.measures, np.array([0.0]), narrow.conditions, np.array([0]), np.array([1e-3])
        )  # fmt: skip
        self.assertTrue(np.isfinite(found).all())

    def test_the_kind_is_that_of_the_least_curvature_along_the_limits(self):
        for text, point, kind in (
            (two_variables("x^2 + y^2 + 1"), [0.0, 0.0], "strict"),
            (two_variables("x^2 - y^2 + 1"), [0.0, 0.0], "saddle"),
            (two_variables("x^2 + y^4 + 1"), [0.0, 0.0], "unknown"),
            # Concave across the limit, which presses: what curves downwards is closed.
            (two_variables("x^2 - y^2 + 3*y", "y >= 0"), [0.0, 0.0], "strict"),
            # On the circle f = x is least at (-1, 0), where its Lagrangian curves upwards, and worst at (1, 0).
            (two_variables("x", "x^2 + y^2 == 1"), [-1.0, 0.0], "strict"),
            (two_variables("x", "x^2 + y^2 == 1"), [1.0, 0.0], "saddle"),
            # A limit that is just met, without pressing, closes one side of y² alone: y < 0 is left.
            (two_variables("x^2 - y^2 + 1", "y >= 0"), [0.0, 0.0], "saddle"),
            # Two of them close what curves downwards altogether.
            (two_variables("x^2 - y^2 + 1", "y >= 0", "y <= 0"), [0.0, 0.0], "strict"),
        ):
            found = At(text, point).curvature()
            self.assertEqual(found.kind, kind, (text, found.detail))
            if kind == "saddle":
                h = found.direction / np.abs(found.direction).max()
                at = At(text, point)
                there = [at.gate.evaluate(at.point + s * 1e-3 * h).objective for s in (1, -1)]
                if "==" not in text:
                    self.assertLess(min(there), at.evaluation.objective)

    def test_the_models_step_leads_to_the_optimum_of_a_quadratic(self):
        text = two_variables("(x - 3)^2 + (y - 1)^2 + x*y / 2", "x + y <= 3", bounds=(-9, 9))
        at = At(text, [1.0, 1.0])
        found = at.curvature()
        best = At(text, at.point + found.step)
        self.assertTrue(best.conditions.meet(1e-9))
        promised = (at.evaluation.objective - best.evaluation.objective) / at.size
        self.assertAlmostEqual(found.promise, promised, places=9)

    def test_made_convex_it_is_and_along_the_limits_it_stays_what_it_was(self):
        rng = np.random.default_rng(3)
        for trial in range(40):
            n, k = int(rng.integers(2, 6)), int(rng.integers(0, 3))
            normals = np.linalg.qr(rng.normal(size=(n, k)))[0].T if k else np.zeros((0, n))
            h = rng.normal(size=(n, n))
            h = h + h.T
            along = curvature._null_space(normals)
            if trial % 2:  # convex along the limits, whatever it is across them
                h += (abs(np.linalg.eigvalsh(along.T @ h @ along)).max(initial=0.0) + 1.0) * along @ along.T
            found = curvature._convex(h, normals, np.zeros(n))
            self.assertGreater(float(np.linalg.eigvalsh(found).min()), 0.0)
            if trial % 2:
                np.testing.assert_allclose(along.T @ found @ along, along.T @ h @ along, atol=1e-9 * np.abs(h).max())

    def test_numbers_that_break_down_are_said_to(self):
        at = At(two_variables("x^2 + y^2"), [1.0, 1.0])
        at.gate.curvature = lambda *given: np.full((2, 2), math.nan)
        self.assertIsNone(at.curvature())


class Qualified(unittest.TestCase):
    def test_the_shortest_inward_direction_leads_into_all_of_them(self):
        rng = np.random.default_rng(4)
        seen = {"inward": 0, "fails": 0}
        for _ in range(60):
            n, k = int(rng.integers(1, 4)), int(rng.integers(2, 7))
            normals = rng.normal(size=(k, n))
            normals /= np.linalg.norm(normals, axis=1, keepdims=True)
            found = qualification_of(normals, np.zeros(k, dtype=bool), 0)
            draws = rng.normal(size=(20_000, n))
            draws /= np.linalg.norm(draws, axis=1, keepdims=True)
            widest = float((draws @ normals.T).min(axis=1).max())
            if found.kind == "inward":
                seen["inward"] += 1
                self.assertLessEqual(1.0 / found.length, widest + 0.2)
                self.assertGreater(widest, 0.0)
            elif found.kind == "fails":
                seen["fails"] += 1
                self.assertLess(widest, 0.02)
        self.assertGreater(min(seen.values()), 5, seen)


class Probes(unittest.TestCase):
    def test_what_is_better_around_is_found_and_nothing_that_is_not(self):
        for seed in range(6):
            problem, optimum = manufactured(seed, n=3, inequalities=3, equalities=seed % 2)
            at = At(problem, optimum)
            found = at.probed()
            self.assertIsNone(found.better, seed)
            self.assertGreater(found.tried, 10)
            # From aside, brought back onto the limits, there is something better.
            aside = optimum + 0.05
            there, evaluation = restored(
                at.gate, at.measures, aside, problem.continuous_places, at.sizes, 1e-9
            )  # fmt: skip
            if at.measures.violation(there, evaluation.rows) > 1e-9:
                continue
            better = At(problem, there).probed().better
            self.assertIsNotNone(better, seed)
            self.assertLess(better.objective, evaluation.objective)
            self.assertLessEqual(better.violation, 1e-6)

    def test_a_design_may_not_win_by_using_up_the_tolerance(self):
        at = At(two_variables("x + y", "x + y >= 2"), [1.0, 1.0])
        there = at.gate.evaluate(np.array([1.0 - 1e-6, 1.0]))
        self.assertAlmostEqual(at.evaluation.objective - there.objective, 1e-6, places=12)
        self.assertAlmostEqual(gain_over(at.measures, at.evaluation, there, np.array([1.0])), 0.0, places=15)
        self.assertGreater(gain_over(at.measures, at.evaluation, there, np.array([0.1])), 5e-7)
        broken = At(two_variables("log(x) + y"), [1.0, 1.0])
        self.assertEqual(
            gain_over(broken.measures, broken.evaluation, broken.gate.evaluate(np.array([-1.0, 0.0])), np.zeros(0)),
            -math.inf,
        )

    def test_steps_back_are_the_shortest_and_converge_quadratically(self):
        text = two_variables("x^2 + y^2", "x^2 + y^2 == 25", bounds=(-9, 9))
        at = At(text, [3.0, 4.0])
        for away in ([3.3, 4.4], [2.0, 2.0], [6.0, 8.0]):
            there, evaluation = restored(
                at.gate, at.measures, np.array(away), np.array([0, 1]), at.sizes, 1e-10
            )  # fmt: skip
            self.assertLess(abs(evaluation.rows[0] - 25.0), 1e-5)
            np.testing.assert_allclose(there / np.linalg.norm(there), np.array(away) / np.linalg.norm(away), atol=1e-9)
        # Where the value ends, what was there comes back as it is.
        edge = At(two_variables("x + y", "sqrt(x) + y == 2"), [1.0, 1.0])
        there, evaluation = restored(
            edge.gate, edge.measures, np.array([-1.0, 0.0]), np.array([0, 1]), edge.sizes, 1e-9
        )
        np.testing.assert_array_equal(there, [-1.0, 0.0])
        self.assertFalse(evaluation.is_finite)

    def test_samples_are_the_same_every_time(self):
        at = At(two_variables("x^2 + x*y + y^2", bounds=(-3, 3)), [0.5, 0.5])
        one, other = at.probed(), at.probed()
        np.testing.assert_array_equal(one.better.point, other.better.point)
        self.assertGreater(one.tried, at.probed(samples=0).tried)


class Smoothness(unittest.TestCase):
    def test_derivatives_that_are_wrong_are_doubted_and_right_ones_are_not(self):
        for text in (
            two_variables("exp(x) * sin(3*y) + 1e6", "x * y >= 0.1", bounds=(-2, 2)),
            two_variables("1e-9 * x^3 + y", "x / y <= 4", bounds=(0.5, 2)),
            two_variables("(x - y)^2 * 1e9", "x >= 0", bounds=(-3, 3)),
        ):
            at = At(text, [1.0, 1.0])
            rows = np.array([0])
            args = (at.gate, at.measures, at.point)
            self.assertIsNone(doubt_in_formulas(*args, at.evaluation, at.sizes, rows), text)
            for place, share in itertools.product((0, 1), (1.5, -1.0)):
                wrong = at.evaluation.gradient.copy()
                wrong[place] = share * wrong[place] + 1e-2 * share * np.abs(wrong).max()
                doubted = _with(at.evaluation, gradient=wrong)
                if np.abs(at.evaluation.gradient).max() > 0.0:
                    self.assertIn(
                        "objective", doubt_in_formulas(*args, doubted, at.sizes, rows) or "", (text, place, share)
                    )
            jacobian = at.evaluation.jacobian.copy()
            jacobian[0, 0] = 2.0 * jacobian[0, 0] + 1.0
            self.assertIn("c0", doubt_in_formulas(*args, _with(at.evaluation, jacobian=jacobian), at.sizes, rows) or "")


def _with(evaluation, **changes):
    from dataclasses import replace

    return replace(evaluation, **changes)


if __name__ == "__main__":
    unittest.main()
