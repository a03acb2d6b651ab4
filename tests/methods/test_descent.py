"""Methods for bounds at most, and least squares: the mathematics of each beyond what every method must do."""

import math
import unittest
from collections import deque
from itertools import pairwise

import numpy as np

from ilvren import loads, run, verify
from ilvren.methods.base import Assessment, Iterate, Reply, Request, method_named
from ilvren.methods.l_bfgs import two_loops
from ilvren.methods.pieces.line_search import searched
from ilvren.methods.pieces.points import Point, is_lost, leads_nearer
from tests.compact import only_in_whole, some
from tests.driving import task_of
from tests.problems import two_variables

VALLEY = two_variables("100 * (y - x^2)^2 + (1 - x)^2", start=(-1.2, 1.0))
FIT = """
[variables]
a = {{ start = 1 }}
b = {{ start = 0.5 {bound} }}
[parameters]
t = [0, 1, 2, 3, 4, 5, 6, 7]
y = {y}
[fit]
r = {{ residual = "y - a * exp(-b * t)", sigma = 0.1 {loss} }}
"""
T = np.arange(8.0)


def quadratic(n, condition, seed=0):
    """Return the text of a convex quadratic in a vector with this ratio of curvatures, and its minimum."""
    rng = np.random.default_rng(seed)
    weights = np.logspace(0, math.log10(condition), n)
    target = rng.normal(size=n)
    text = (
        f"[variables]\nx = {{ start = 0, shape = {n}, magnitude = 1 }}\n[parameters]\nw = {weights.tolist()}\n"
        f't = {target.tolist()}\n[minimize]\nf = "sum(w * (x - t)^2)"\n'
    )
    return text, target


class Descent(unittest.TestCase):
    def test_where_rounding_hides_a_gain_the_gradient_tells(self):
        task = task_of([0.0, 0.0], 0.0, 1.0)

        def point(f, *gradient):
            return Point(np.zeros(2), f, np.zeros(0), np.array(gradient), np.zeros((0, 2)), True)

        here = point(1.0, -4e-6, 0.0)
        for f, predicted, expected in (
            (1.0 + 1e-12, 1e-13, True),
            (1.0, 1e-3, False),
            (1.001, 1e-13, False),
            (1.0, 0.0, False),
        ):
            self.assertEqual(is_lost(here, point(f, 0.0, 0.0), predicted), expected, (f, predicted))
        for gradient, expected in (
            ((-1e-6, 0.0), True),
            ((-3e-6, 0.0), False),
            ((1e-6, 5.0), True),
            ((0.0, -1.0), False),
        ):
            self.assertEqual(leads_nearer(task, here, point(1.0, *gradient)), expected, gradient)  # both rest at bounds

    def test_variables_near_their_bounds_that_others_hang_on_are_no_end(self):
        """Steps of those held at bounds must become shorter with the rest: on a few of many such fits nothing else
        leads down."""
        for seed in some((5, 9, 28, 43), 3):
            rng = np.random.default_rng(seed)
            n = int(rng.integers(2, 5))
            rows = rng.normal(size=(n + 1, n)) * 10.0 ** rng.uniform(-2, 2, size=(1, n))
            rows[:, 0] += 0.999 * rows[:, 1] * rng.choice([1, 30])
            values, starts = (rng.normal(size=n + 1) * 3.0).tolist(), (10.0 ** rng.uniform(-5, -2, n)).tolist()
            text = f"[parameters]\nA = {rows.tolist()}\nb = {values}\n[variables]\n"
            text += f"x = {{ start = {starts}, lower = 0, upper = 5 }}\n[fit]\nr = {{ residual = 'dot(A, x) - b' }}\n"
            best = run(loads(text), method="interior-point", second_look=0.0).objective
            for method in ("newton", "levenberg-marquardt"):
                with self.subTest(seed=seed, method=method):
                    result = run(loads(text), method=method, second_look=0.0)
                    self.assertEqual(result.outcome, "converged", result.reason)
                    self.assertAlmostEqual(result.objective, best, delta=1e-6 * best)

    @only_in_whole
    def test_conjugate_directions_end_a_quadratic_in_few_iterations(self):
        """In exact arithmetic n iterations; the line search is inexact, so some more. Gradient descent needs far more."""
        text, target = quadratic(8, 100.0)
        conjugate = run(loads(text), method="conjugate-gradient")
        self.assertEqual(conjugate.outcome, "converged")
        np.testing.assert_allclose(conjugate.point, target, atol=1e-4)
        steepest = run(loads(text), method="gradient-descent", iterations=2000)
        self.assertLess(4 * conjugate.counts["iterations"], steepest.counts["iterations"])

    def test_gradient_descent_shrinks_a_quadratic_as_its_theory_says(self):
        """With exact steps f falls at least by ((κ − 1)/(κ + 1))² an iteration."""
        text, _ = quadratic(2, 10.0)
        result = run(loads(text), method="gradient-descent", options={"step": "exact"}, iterations=20)
        values = [item.objective for item in result.iterations if item.objective > 1e-12]
        bound = (9.0 / 11.0) ** 2
        for before, after in pairwise(values):
            self.assertLessEqual(after, bound * before * 1.05)

    def test_a_fixed_step_beyond_two_over_the_curvature_does_not_converge(self):
        text = '[variables]\nx = { start = 1, magnitude = 1 }\n[minimize]\nf = "x^2"\n'
        for length, holds in ((0.4, True), (0.05, True), (1.2, False)):
            result = run(
                loads(text), method="gradient-descent", options={"step": "fixed", "length": length}, iterations=400,
                scaling=False,
            )  # fmt: skip
            self.assertEqual(result.holds, holds, f"{length}: {result.outcome}")

    def test_newton_ends_a_quadratic_in_one_step_and_leaves_a_saddle(self):
        text, _ = quadratic(5, 1e4)
        self.assertLessEqual(run(loads(text), method="newton").counts["iterations"], 3)
        start = (0.0, 0.0)
        saddle = run(loads(two_variables("(x^2 - 1)^2 + y^2 + 0*x", start=start)), method="newton")
        self.assertEqual(saddle.outcome, "converged")
        self.assertAlmostEqual(saddle.objective, 0.0, places=9)

    def test_newton_with_products_finds_what_the_exact_one_finds(self):
        exact = run(loads(VALLEY), method="newton")
        products = run(loads(VALLEY), method="newton", options={"products": 0})
        self.assertTrue(exact.holds and products.holds)
        self.assertAlmostEqual(products.objective, 0.0, places=9)
        differences = run(loads(VALLEY), method="newton", derivatives="differences")
        self.assertTrue(differences.holds)
        self.assertEqual(differences.counts["hessians"], 0)

    def test_two_loops_are_the_inverse_of_the_updates(self):
        rng = np.random.default_rng(3)
        n = 5
        pairs, inverse = deque(), None
        for _ in range(4):
            s = rng.normal(size=n)
            y = s * np.arange(1.0, n + 1.0)
            pairs.append((s, y, 1.0 / float(s @ y)))
        s, y, rho = pairs[-1]
        inverse = np.eye(n) / (rho * float(y @ y))
        for s, y, rho in pairs:
            left = np.eye(n) - rho * np.outer(s, y)
            inverse = left @ inverse @ left.T + rho * np.outer(s, s)
        g = rng.normal(size=n)
        np.testing.assert_allclose(two_loops(g, pairs), inverse @ g, rtol=1e-10)

    def test_many_bounds_become_active_at_once(self):
        n = 3000
        text = (
            f"[variables]\nx = {{ start = 0.5, lower = 0, upper = 1, shape = {n} }}\n[parameters]\n"
            f'i = "evenly(-1, 2, {n})"\n[minimize]\nf = "sum((x - i)^2) + 0.1 * sum(diff(x)^2)"\n'
        )
        result = run(loads(text), method="l-bfgs")
        self.assertEqual(result.outcome, "converged")
        self.assertLess(result.counts["iterations"], 60)
        x = np.array(result.point)
        self.assertGreater(int(((x == 0.0) | (x == 1.0)).sum()), n // 2)
        self.assertTrue(run(loads(text)).holds)

    def test_the_search_meets_the_wolfe_conditions_on_hard_functions(self):
        """Flat, steep and wavy functions along a ray, from first steps much too short and too long."""

        def drive(f, slope, first):
            task = task_of([0.0])
            here = Point(np.zeros(1), f(0.0), np.zeros(0), np.array([slope(0.0)]), np.zeros((0, 1)), True)
            generator = searched(task, here, np.ones(1), first, curvature=0.1)
            try:
                message = next(generator)
                while True:
                    self.assertIsInstance(message, Request)
                    x = message.points[:, 0]
                    reply = Reply(
                        np.array([f(v) for v in x]), np.zeros((1, 0)), np.array([[slope(v)] for v in x]),
                        [np.zeros((0, 1))],
                    )  # fmt: skip
                    message = generator.send(reply)
            except StopIteration as end:
                return end.value

        cases = (
            (lambda a: -a / (a * a + 2), lambda a: (a * a - 2) / (a * a + 2) ** 2),
            (lambda a: (a + 0.004) ** 5 - 2 * (a + 0.004) ** 4, lambda a: 5 * (a + 0.004) ** 4 - 8 * (a + 0.004) ** 3),
            (lambda a: (a - 3) ** 2 + math.sin(4 * a), lambda a: 2 * (a - 3) + 4 * math.cos(4 * a)),
            (lambda a: math.exp(a) - 20 * a if a < 50 else math.inf, lambda a: math.exp(min(a, 50)) - 20),
        )
        for number, (f, slope) in enumerate(cases):
            for first in (1e-3, 0.1, 10.0, 1e3):
                found = drive(f, slope, first)
                with self.subTest(case=number, first=first):
                    self.assertIsNotNone(found)
                    self.assertLessEqual(f(found.alpha), f(0.0) + 1e-4 * found.alpha * slope(0.0) + 1e-12)
                    self.assertLessEqual(abs(slope(found.alpha)), 0.1 * abs(slope(0.0)) + 1e-12)


class LeastSquares(unittest.TestCase):
    def fit(self, y, *, bound="", loss=""):
        return loads(FIT.format(y=np.round(y, 6).tolist(), bound=bound, loss=loss))

    def test_exact_data_give_the_parameters_back(self):
        result = run(self.fit(3.0 * np.exp(-0.7 * T)), method="levenberg-marquardt")
        self.assertEqual(result.outcome, "converged")
        np.testing.assert_allclose(result.point, (3.0, 0.7), atol=1e-5)
        self.assertEqual(run(self.fit(3.0 * np.exp(-0.7 * T))).method, "levenberg-marquardt")

    def test_sums_of_squares_are_recognised_in_formulas(self):
        for formula in (
            "(x - 1)^2 + 4 * (y + 2)^2 + 3",
            "100 * (y - x^2)^2 + (1 - x)^2",
            "((x - 1)^2 + (y - x)^2) / 8",
        ):
            result = run(loads(two_variables(formula)), method="levenberg-marquardt")
            self.assertTrue(result.holds, formula)
            self.assertTrue(verify(result).holds)
        for formula in ("x^2 - y^2", "x^2 + y", "x^4 + exp(y^2)"):
            with self.assertRaisesRegex(Exception, "sum of squares"):
                run(loads(two_variables(formula)), method="levenberg-marquardt")

    def test_columns_that_were_far_longer_at_the_start_do_not_hold_it_back(self):
        problem = loads(
            "[variables]\na = { start = 8, lower = -100, upper = 10 }\n"
            '[minimize]\nf = "(100 * (exp(4 * a) - 1) / (2 * a) - 1)^2"\n'
        )
        result = run(problem, method="levenberg-marquardt", iterations=200)
        self.assertEqual(result.outcome, "converged")
        self.assertAlmostEqual(result.point[0], -50.0, delta=1e-3)

    def test_a_bound_is_kept_and_said_to_hold(self):
        result = run(self.fit(3.0 * np.exp(-0.7 * T), bound=", upper = 0.6"), method="levenberg-marquardt")
        self.assertEqual(result.outcome, "converged")
        self.assertEqual(result.point[1], 0.6)
        self.assertEqual(result.estimates.held, ("b",))
        self.assertEqual(result.estimates.names, ("a",))

    def test_a_robust_loss_shrugs_off_a_wild_reading(self):
        y = 3.0 * np.exp(-0.7 * T) + 0.05 * np.cos(9.0 * T)
        y[3] += 4.0
        for loss, most in (("huber", 0.12), ("cauchy", 0.08)):
            robust = run(self.fit(y, loss=f', loss = "{loss}"'), method="levenberg-marquardt")
            plain = run(self.fit(y), method="levenberg-marquardt")
            self.assertTrue(robust.holds, robust.reason)
            self.assertLess(abs(robust.point[0] - 3.0), most)
            self.assertGreater(abs(plain.point[0] - 3.0), 2.0 * abs(robust.point[0] - 3.0))

    def test_standard_errors_are_those_of_repeated_experiments(self):
        """400 fits of a line to fresh normal errors: their spread is what one fit says of itself."""
        rng = np.random.default_rng(5)
        design = np.column_stack([np.ones(8), T])
        spread = np.std(
            [np.linalg.lstsq(design, 2 + 3 * T + 0.1 * rng.normal(size=8), rcond=None)[0] for _ in range(400)], axis=0
        )
        text = FIT.format(y=(2 + 3 * T).tolist(), bound="", loss="").replace(
            "a * exp(-b * t)", "a - b * t"
        )  # y - a - b t
        result = run(loads(text), method="levenberg-marquardt")
        np.testing.assert_allclose(result.estimates.errors, spread, rtol=0.12)
        correlation = result.estimates.correlations[0][1]
        covariance = np.linalg.inv(design.T @ design)
        self.assertAlmostEqual(correlation, covariance[0, 1] / math.sqrt(covariance[0, 0] * covariance[1, 1]), places=6)

    def test_what_the_readings_do_not_determine_has_no_error(self):
        text = FIT.format(y=(2 + 3 * T).tolist(), bound="", loss="").replace("a * exp(-b * t)", "(a + b) * t")
        result = run(loads(text), method="levenberg-marquardt")
        self.assertEqual(set(result.estimates.errors), {math.inf})


class Composed(unittest.TestCase):
    def test_the_next_method_begins_where_the_last_one_stalled(self):
        """A kink stalls sqp; the simplex goes on from there, in one run with one history."""
        bent = "where(x >= y^2, 3*(x - y^2), y^2 - x) + (x - 2)^2 + (y - 1)^2"
        text = two_variables(bent, "x + y <= 5")
        result = run(loads(text))
        self.assertTrue(result.holds, result.reason)
        self.assertEqual(result.method, "nelder-mead")
        self.assertIn("sqp ended stalled", result.reason)
        self.assertAlmostEqual(result.objective, 0.1519238, places=5)
        paths = [item.path for item in result.iterations]
        self.assertEqual(paths[0], "sqp")

    @only_in_whole
    def test_the_augmented_lagrangian_agrees_with_sqp(self):
        for rows in (("x^2 + y^2 <= 2",), ("x + y == 1", "x >= 0.7"), ("x * y >= 1", "x <= 3", "y <= 3")):
            text = two_variables("(x - 2)^2 + 2 * (y + 1)^2", *rows)
            one, other = (run(loads(text), method=m) for m in ("sqp", "augmented-lagrangian"))
            self.assertTrue(other.holds, other.reason)
            self.assertLess(abs(one.objective - other.objective), 1e-5 * max(1.0, abs(one.objective)))
            for inner in ("bfgs", "conjugate-gradient"):
                again = run(loads(text), method="augmented-lagrangian", options={"inner": inner})
                self.assertTrue(again.holds, f"{inner}: {again.reason}")

    def test_iterates_name_their_part_and_standing_is_sent_on(self):
        from ilvren.methods.pieces.turns import in_turn

        method = in_turn([method_named("bfgs"), method_named("newton")])
        task = task_of([1.0])
        generator = method.run(task, method.options())
        message, seen = next(generator), []
        try:
            while True:
                if isinstance(message, Iterate):
                    seen.append(message.path)
                    message = generator.send(Assessment(0.0, 1.0, False))
                    continue
                x = message.points[0]
                f, g = abs(float(x[0])), np.sign(x)
                message = generator.send(Reply(np.array([f]), np.zeros((1, 0)), g[np.newaxis], [np.zeros((0, 1))]))
        except StopIteration as end:
            self.assertEqual(end.value.claim, "stalled")
        self.assertEqual(list(dict.fromkeys(seen)), ["bfgs", "newton"])


if __name__ == "__main__":
    unittest.main()
