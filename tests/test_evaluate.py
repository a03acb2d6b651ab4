"""The gate: each distinct point computed and counted once, derivatives in place, invalid values told apart."""

import unittest

import numpy as np

from ilvren import loads, run
from ilvren.errors import RequestError
from ilvren.evaluate import AsWritten, Gate, gate as module, kinks_near, measured
from ilvren.methods.base import Reply
from ilvren.problem import Measures
from ilvren.runs import Settings
from ilvren.runs.scaling import Scaling
from tests.compact import WHOLE
from tests.problems import manufactured, two_variables


class CountingGate(Gate):
    """A gate that counts how often the formulas are really computed."""

    computed = 0

    def _only_values(self, point):
        self.computed += 1
        return super()._only_values(point)

    def _with_derivatives(self, point):
        self.computed += 1
        return super()._with_derivatives(point)


class TheGate(unittest.TestCase):
    def test_each_point_is_computed_once_and_counted_once(self):
        gate = CountingGate(loads(two_variables("x^2 + y", "x * y <= 3")))
        a, b = np.array([1.0, 2.0]), np.array([1.0, 2.0 + 1e-15])
        gate.evaluate(a)
        gate.evaluate(a.copy())
        self.assertEqual((gate.computed, gate.counts.evaluations, gate.counts.gradients), (1, 1, 0))
        gate.evaluate(a, derivatives=True)
        gate.evaluate(a)
        self.assertEqual((gate.computed, gate.counts.evaluations, gate.counts.gradients), (2, 1, 1))
        gate.evaluate(b, derivatives=True)
        self.assertEqual((gate.computed, gate.counts.evaluations, gate.counts.gradients), (3, 2, 2))

    def test_what_was_forgotten_is_computed_again_but_not_counted(self):
        gate = CountingGate(loads(two_variables("x^2 + y")))
        points = [np.array([float(i), 0.0]) for i in range(module.MOST_KEPT + 10)]
        for point in points:
            gate.evaluate(point)
        self.assertIsNone(gate.known(points[0]))
        self.assertTrue(gate.has_counted(points[0]))
        self.assertFalse(gate.has_counted(np.array([0.5, 0.5])))
        gate.evaluate(points[0])
        self.assertEqual((gate.computed, gate.counts.evaluations), (len(points) + 1, len(points)))

    def test_derivatives_stand_in_their_places(self):
        rng = np.random.default_rng(4)
        for seed in range(12):
            problem, _ = manufactured(seed, n=2 + seed % 5, inequalities=seed % 4, equalities=seed % 3)
            gate, n = Gate(problem), len(problem.variables)
            point = rng.normal(size=n)
            exact = gate.evaluate(point, derivatives=True)
            for j in range(n):
                step = np.zeros(n)
                step[j] = 1e-5
                ahead, back = gate.evaluate(point + step), gate.evaluate(point - step)
                slope = (ahead.objective - back.objective) / 2e-5
                self.assertAlmostEqual(exact.gradient[j], slope, delta=1e-5 * max(1.0, abs(slope)))
                np.testing.assert_allclose(exact.jacobian[:, j], (ahead.rows - back.rows) / 2e-5, atol=1e-6, rtol=1e-6)

    def test_values_are_the_same_with_and_without_derivatives(self):
        problem, _ = manufactured(7, n=4, inequalities=3, equalities=1)
        for point in np.random.default_rng(0).normal(size=(20, 4)):
            alone, together = Gate(problem).evaluate(point), Gate(problem).evaluate(point, derivatives=True)
            self.assertEqual(alone.objective, together.objective)
            self.assertEqual(alone.rows.tolist(), together.rows.tolist())

    def test_maximized_objectives_are_turned_and_missing_ones_are_zero(self):
        gate = Gate(loads(two_variables("x + 2 * y", sense="maximize")))
        found = gate.evaluate(np.array([1.0, 1.0]), derivatives=True)
        self.assertEqual((found.objective, found.gradient.tolist()), (-3.0, [-1.0, -2.0]))
        found = Gate(loads(two_variables("", "x + y <= 3"))).evaluate(np.array([1.0, 1.0]), derivatives=True)
        self.assertEqual((found.objective, found.gradient.tolist(), found.rows.tolist()), (0.0, [0.0, 0.0], [2.0]))

    def test_only_what_used_an_invalid_number_is_invalid(self):
        gate = Gate(loads(two_variables("x^2 + y", "log(x) <= 1", "x * y <= 2", "1 / (1 / x) <= 3")))
        found = gate.evaluate(np.array([0.0, 2.0]), derivatives=True)
        self.assertEqual(found.objective, 2.0)
        self.assertEqual(np.isfinite(found.rows).tolist(), [False, True, False])
        self.assertEqual(found.gradient.tolist(), [0.0, 1.0])
        self.assertFalse(found.is_finite or found.has_finite_derivatives)

    def test_kinks_are_found_near_and_not_far(self):
        gate = Gate(loads(two_variables("abs(x - 1) + max(y, x) + where(y > 5, 1, 0) + hypot(x - 3, y - 3)")))
        radii = np.full(2, 1e-3)
        for point, operations in (
            ((1.0, 3.0), ["abs"]),
            ((1.0005, 3.0), ["abs"]),
            ((1.01, 3.0), []),
            ((2.0, 2.0), ["max"]),
            ((0.0, 5.0), [">"]),
        ):
            self.assertEqual(
                [kink.operation for kink in kinks_near(gate.written, np.array(point), radii)], operations, point
            )
        self.assertEqual(kinks_near(AsWritten(loads(two_variables("x^2 * y"))), np.zeros(2), radii), [])

    def test_batches_keep_and_count_nothing(self):
        gate = Gate(loads(two_variables("x^2 + y", "x / y <= 3")))
        found = gate.written.batch(np.array([[1.0, 2.0], [3.0, 0.0]]))
        objective, rows = found.objective, found.rows
        self.assertEqual((objective.tolist(), rows[0].tolist(), gate.counts.evaluations), ([3.0, 9.0], [0.5], 0))
        self.assertTrue(np.isnan(rows[1, 0]))


class TheScaling(unittest.TestCase):
    def scaled(self, text, *, is_on=True):
        problem = loads(text)
        measures, start = Measures.of(problem), np.array(problem.start)
        evaluation = Gate(problem).evaluate(start, derivatives=True)
        return problem, measures, evaluation, Scaling.at(problem, measures, evaluation, is_on=is_on)

    def test_going_there_and_back_is_exact(self):
        text = "[variables]\na = { start = 0.1, lower = 0.03, upper = 0.7 }\nb = 12345.678\nc = 3e-9\nd = { lower = 1, upper = 1 }\n"
        problem, measures, _, scaling = self.scaled(text + '[minimize]\nf = "a * b + c^2 + d"\n')
        task = scaling.task(problem, measures, Settings(method="sqp"))
        self.assertEqual(len(task.start), 3)  # d is fixed
        rng = np.random.default_rng(1)
        self.assertEqual(
            scaling.full(task.start[np.newaxis], measures.lower, measures.upper).tolist(), [list(problem.start)]
        )
        for _ in range(50):
            point = np.array([rng.uniform(0.03, 0.7), rng.normal() * 1e4, rng.normal() * 1e-9, 1.0])
            scaled = point[scaling.free] / scaling.variables
            there = scaling.full(scaled[np.newaxis], measures.lower, measures.upper)[0]
            self.assertEqual(there.tolist(), point.tolist())
        beyond = scaling.full(np.array([[99.0, 0.0, 0.0]]), measures.lower, measures.upper)[0]
        self.assertEqual(beyond[0], 0.7)

    def test_scaled_derivatives_are_those_of_the_scaled_functions(self):
        text = two_variables("1e6 * (x - 2)^2 + y", "1e-4 * x * y <= 2e-3", "x + y >= 1e5", start=(300.0, 0.02))
        problem, measures, evaluation, scaling = self.scaled(text)
        reply: Reply = scaling.reply([evaluation], derivatives=True)
        gate, task = Gate(problem), scaling.task(problem, measures, Settings(method="sqp"))
        for j in range(2):
            step = np.zeros(2)
            step[j] = 1e-6
            ahead = scaling.reply(
                [gate.evaluate(scaling.full((task.start + step)[np.newaxis], measures.lower, measures.upper)[0])],
                derivatives=False,
            )
            back = scaling.reply(
                [gate.evaluate(scaling.full((task.start - step)[np.newaxis], measures.lower, measures.upper)[0])],
                derivatives=False,
            )
            self.assertAlmostEqual(reply.gradient[0, j], (ahead.objective[0] - back.objective[0]) / 2e-6, places=5)
            np.testing.assert_allclose(reply.jacobian[0][:, j], (ahead.rows - back.rows)[0] / 2e-6, atol=1e-6)
        self.assertAlmostEqual(float(np.abs(reply.gradient).max()), 1.0)
        self.assertAlmostEqual(float(np.abs(reply.jacobian[0]).max(axis=1).min()), 1.0)

    def test_violations_mean_the_same_scaled(self):
        problem, measures, _, scaling = self.scaled(
            two_variables("x", "300 * x <= 1500", "y >= 1e-5", start=(4.0, 1.0))
        )
        task = scaling.task(problem, measures, Settings(method="sqp"))
        point = np.array([7.0, 4e-6])
        rows = Gate(problem).evaluate(point).rows
        self.assertAlmostEqual(task.violation(rows / scaling.rows), measures.violation(point, rows))

    def test_switched_off_it_changes_nothing(self):
        *_, scaling = self.scaled(two_variables("1e6 * x", "1e-4 * x * y <= 2"), is_on=False)
        self.assertEqual(
            (scaling.variables.tolist(), scaling.rows.tolist(), scaling.objective), ([1.0, 1.0], [1.0], 1.0)
        )

    def test_zero_and_invalid_derivatives_leave_sizes(self):
        *_, scaling = self.scaled(two_variables("x^2", "y^2 <= 4", start=(0.0, 0.0)))
        self.assertEqual((scaling.rows.tolist(), scaling.objective), ([4.0], 1.0))
        *_, scaling = self.scaled(two_variables("log(x)", "y^2 <= 4", start=(0.0, 0.0)))
        self.assertEqual((scaling.rows.tolist(), scaling.objective), ([4.0], 1.0))


CHAIN = """
[parameters]
n = 12
weight = 3.0
[variables]
u = { start = 0.4, lower = -2, upper = 2, shape = "n" }
k = 1.5
m = { start = 0.1, shape = [2, 3] }
[minimize]
f = "weight * sum((u[1:] - u[:-1]^2)^2) + k * sum(m^2) + norm(u) * k"
[constraints]
c = "-9 <= k * u[1:-1]^2 - sin(u[:-2]) * u[2:] <= 4"
full = "sum(u^3) + k <= 50"
square = "dot(m, transpose(m)) <= 7"
flat = "m[:, 0] + 2 * u[:2] == 1"
"""


class Sizes(unittest.TestCase):
    def sizes(self, variables, objective, row=""):
        rows = f'[constraints]\nc = "{row}"\n' if row else ""
        problem = loads(f'[variables]\n{variables}\n[minimize]\nf = "{objective}"\n{rows}')
        return measured(problem, Gate(problem)).variable_sizes(np.array(problem.start))

    def test_a_tiny_start_is_no_size(self):
        for variables, objective, row, low, high in (
            ("x = { start = 1e-8 }", "(x - 1)^2", "", 0.1, 10),
            ("x = { start = 1e-8 }\ny = { start = 1, lower = 0, upper = 2 }", "y", "y >= (x - 1)^2", 0.1, 10),
            ("x = { start = 1e-8 }", "(x^2 - 1)^2 + 1", "", 0.1, 10),  # next to no slope there
            ("x = { start = 0 }", "(x / 1e5 - 3)^2", "", 1e4, 1e6),
            ("x = { start = 2e-9 }", "(x / 1e-8 - 3)^2", "", 1e-9, 1e-7),  # tiny it is
            ("x = { start = 4 }", "1e6 + (x - 1)^2", "", 4, 1e4),
            ("x = { start = 0.3, magnitude = 7 }", "x^2", "", 7, 7),
        ):
            with self.subTest(variables=variables, objective=objective):
                size = self.sizes(variables, objective, row)[0]
                self.assertTrue(low <= size <= high, size)

    def test_no_method_takes_a_tiny_start_for_an_optimum(self):
        for method in ("newton", "bfgs", "sqp", "nelder-mead", "levenberg-marquardt", "interior-point"):
            result = run(loads('[variables]\nx = { start = 1e-8 }\n[minimize]\nf = "(x - 1)^2"\n'), method=method)
            self.assertLess(abs(result.point[0] - 1.0), 1e-3, method)


class Matrices(unittest.TestCase):
    """Sparse Jacobians and Hessians, products and batches, against differences of values."""

    def setUp(self):
        self.problem = loads(CHAIN)
        self.gate = Gate(self.problem)
        rng = np.random.default_rng(6)
        self.point = rng.normal(size=19)
        self.direction = rng.normal(size=19)
        self.multipliers = rng.normal(size=self.problem.row_count)

    def rows(self, point):
        return self.gate.evaluate(np.asarray(point)).rows

    def test_jacobian_and_products(self):
        h = 1e-6
        columns = [(self.rows(self.point + h * e) - self.rows(self.point - h * e)) / (2 * h) for e in np.eye(19)]
        dense, found = np.array(columns).T, self.gate.written.jacobian(self.point)
        np.testing.assert_allclose(found.toarray(), dense, atol=1e-7)
        plan = self.gate.written.jacobian_plan()
        self.assertEqual([self.problem.rows[row].name for row in plan.reverse_rows][:1], ["full"])
        self.assertLess(plan.colour_count, 9)
        np.testing.assert_allclose(
            self.gate.written.jacobian_product(self.point, self.direction), dense @ self.direction, atol=1e-6
        )
        np.testing.assert_allclose(
            self.gate.written.transposed_product(self.point, self.multipliers), self.multipliers @ dense, atol=1e-6
        )
        np.testing.assert_allclose(self.gate.evaluate(self.point, derivatives=True).jacobian, dense, atol=1e-7)

    def test_hessian_of_the_lagrangian(self):
        h = 1e-6

        def slope(point):
            written = self.gate.written
            return 0.7 * written.gradient(point) - written.transposed_product(point, self.multipliers)

        dense = np.array([(slope(self.point + h * e) - slope(self.point - h * e)) / (2 * h) for e in np.eye(19)])
        found = self.gate.written.hessian(self.point, self.multipliers, weight=0.7)
        np.testing.assert_allclose(found.toarray(), dense, atol=1e-6)
        product = self.gate.written.hessian_product(self.point, self.direction, self.multipliers, weight=0.7)
        np.testing.assert_allclose(product, dense @ self.direction, atol=1e-5)

    def test_large_sparse_problems_stay_sparse(self):
        """100,000 variables, or 40,000: a pattern, three colours, and memory that follows the non-zeros."""
        import tracemalloc

        n = 100_000 if WHOLE else 40_000
        big = AsWritten(self.problem.with_parameters(n=n))
        point = np.linspace(-1.0, 1.0, big.problem.size)
        tracemalloc.start()
        jacobian = big.jacobian(point)
        _, most = tracemalloc.get_traced_memory()
        tracemalloc.stop()
        self.assertLess(jacobian.nnz, 6 * n)
        self.assertLess(most, 100 * 12 * jacobian.nnz)
        self.assertLessEqual(big.jacobian_plan().colour_count, 10)

    def test_batches_are_their_members(self):
        points = np.array([self.point, self.point + 0.3, np.full(19, np.nan)])
        found = self.gate.written.batch(points)
        for k in range(2):
            alone = self.gate.evaluate(points[k])
            np.testing.assert_allclose(found.objective[k], alone.objective, rtol=1e-12)
            np.testing.assert_allclose(found.rows[k], alone.rows, rtol=1e-12)
        self.assertTrue(np.isnan(found.objective[2]))
        np.testing.assert_allclose(self.gate.written.entry_batch("flat", points[:2]), found.rows[:2, -2:], rtol=1e-12)

    def test_parameters_change_without_compiling_again(self):
        other = self.problem.with_parameters(weight=5.0)
        self.assertIs(other.graph, self.problem.graph)
        self.gate.evaluate(self.point)
        compiled = len(other.graph.compiled)
        found = Gate(other).evaluate(self.point).objective
        self.assertEqual(len(other.graph.compiled), compiled)
        u = self.point[:12]
        expected = self.gate.evaluate(self.point).objective + 2.0 * np.sum((u[1:] - u[:-1] ** 2) ** 2)
        self.assertAlmostEqual(found, expected, places=9)
        self.assertEqual(self.problem.with_parameters(n=20).size, 27)

    def test_a_slope_that_is_not_finite_is_located(self):
        problem = loads(
            '[variables]\nu = { start = 0.5, shape = 3 }\n[minimize]\nf = "sum(u)"\n[constraints]\nc = "sqrt(u) <= 2"\n'
        )
        name, variable, trouble = Gate(problem).written.slope_trouble(np.array([1.0, 0.0, 1.0]))
        self.assertEqual((name, variable, trouble.origin.text), ("c[1]", "u[1]", "sqrt(u) <= 2"))


class Refusals(unittest.TestCase):
    """What cannot be answered is refused with the way out, and what is too large to be formed is still to be had."""

    def setUp(self):
        self.gate = Gate(loads(CHAIN))

    def test_wrong_questions(self):
        point = np.zeros(19)
        for work, words in (
            (lambda: self.gate.written.values(np.zeros(3)), "19 numbers"),
            (lambda: self.gate.written.gradient(point, "flta"), 'no entry "flta"'),
            (lambda: self.gate.written.gradient(point, "flat"), "not one number"),
            (lambda: self.gate.written.hessian(point, np.zeros(2)), "multipliers of shape (2,)"),
            (lambda: self.gate.written.batch(np.zeros((4, 3))), "(k, 19)"),
            (
                lambda: Gate(loads('[variables]\nx = 1.0\n[constraints]\nc = "x <= 2"\n')).written.gradient([1.0]),
                "no objective",
            ),
        ):
            with self.assertRaises(RequestError) as caught:
                work()
            self.assertIn(words, caught.exception.message)

    def test_a_full_hessian_of_many_variables_is_not_formed_but_multiplied(self):
        n = 12_000
        gate = Gate(loads(f'[variables]\nu = {{ start = 0.5, shape = {n} }}\n[minimize]\nf = "sum(u)^2 + sum(u^2)"\n'))
        point, direction = np.full(n, 0.5), np.linspace(0.0, 1.0, n)
        with self.assertRaises(RequestError) as caught:
            gate.written.hessian(point)
        self.assertIn("hessian_product", caught.exception.advice)
        expected = 2.0 * direction.sum() + 2.0 * direction
        np.testing.assert_allclose(gate.written.hessian_product(point, direction), expected, rtol=1e-12)

    def test_entries_by_name_have_gradients(self):
        rng = np.random.default_rng(1)
        point = rng.normal(size=19)
        jacobian = self.gate.written.jacobian(point).toarray()
        np.testing.assert_allclose(self.gate.written.gradient(point, "full"), jacobian[10], atol=1e-12)
        np.testing.assert_allclose(self.gate.written.values(point)["full"], self.gate.evaluate(point).rows[10])

    def test_a_maximized_objective_keeps_its_sign_for_users(self):
        gate = Gate(loads('[variables]\nu = { start = 1.0, shape = 2 }\n[maximize]\nf = "sum(u) - sum(u^2)"\n'))
        point = np.array([1.0, 2.0])
        np.testing.assert_allclose(gate.written.gradient(point), [-1.0, -3.0])
        np.testing.assert_allclose(gate.evaluate(point, derivatives=True).gradient, [1.0, 3.0])
        self.assertEqual(gate.written.batch(point[np.newaxis]).objective[0], -2.0)
        np.testing.assert_allclose(gate.written.hessian(point).toarray(), -2.0 * np.eye(2))
