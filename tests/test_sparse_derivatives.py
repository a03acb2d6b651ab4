"""Jacobians and Hessians of the Lagrangian, against the same formulas written in NumPy and moved by complex steps: whatever
the shapes of the rows, however small the batches are cut, and where rows share their formula."""

import unittest
from unittest import mock

import numpy as np

from ilvren import loads
from ilvren.evaluate import Gate, matrices

TEXT = """
[variables]
s = { start = 0.7, lower = 0.1, upper = 3.0 }
u = { start = 0.4, shape = 9, lower = -2, upper = 2 }
a = { start = 0.3, shape = [3, 4] }
idle = { start = 1.0, shape = 2 }
[parameters]
w = "evenly(1, 2, 4)"
[minimize]
f = "s * dot(u, u) + sum(a * transpose(transpose(a)))^2 + exp(u[0] * s)"
[constraints]
chain = "diff(u) * u[1:] <= 1"
fixed = "2 * u[0:3] - 3 * u[6:9] == 0"
full = "sum(u^3) + sum(a) * s <= 9"
same = "sum(u^3) + sum(a) * s >= -9"
again = "diff(u) * u[1:] >= -4"
product = "dot(a, w) / s <= 5"
table = "a[0:2, 1:] * a[1:, 0:3] <= 1"
corner = "sin(a[2, 3] * s) * u[4] == 0.1"
"""
# The rows in the order of the file.
NAMES = ["chain", "fixed", "full", "same", "again", "product", "table", "corner"]


def split(x):
    return x[0], x[1:10], x[10:22].reshape(3, 4)


def objective(x):
    s, u, a = split(x)
    return s * (u @ u) + (a * a).sum() ** 2 + np.exp(u[0] * s)


def rows(x):
    s, u, a = split(x)
    chain, full = np.diff(u) * u[1:], (u**3).sum() + a.sum() * s
    found = [chain, 2 * u[:3] - 3 * u[6:9], full, full, chain, a @ np.linspace(1, 2, 4) / s]
    found += [a[:2, 1:] * a[1:, :3], np.sin(a[2, 3] * s) * u[4]]
    return np.concatenate([np.ravel(part) for part in found])


def slopes(function, x):
    """Return the derivative (values, n) by complex steps, to rounding."""
    columns = []
    for k in range(len(x)):
        moved = x.astype(complex)
        moved[k] += 1e-30j
        columns.append(np.atleast_1d(function(moved)).imag / 1e-30)
    return np.array(columns).T


class Matrices(unittest.TestCase):
    def setUp(self):
        self.problem = loads(TEXT)
        self.rng = np.random.default_rng(8)
        self.points = self.rng.uniform(0.2, 1.5, (3, 24))

    def test_values_are_those_of_the_formulas(self):
        gate = Gate(self.problem)
        self.assertEqual([block.entry for block in self.problem.row_blocks], NAMES)
        found = gate.written.batch(self.points)
        for k, x in enumerate(self.points):
            self.assertAlmostEqual(found.objective[k], objective(x), places=10)
            np.testing.assert_allclose(found.rows[k], rows(x), rtol=1e-12, atol=1e-13)

    def test_jacobians_however_the_batch_is_cut(self):
        for chunk in (1, 60, 4_000_000):
            with mock.patch.object(matrices, "CHUNK", chunk):
                written = Gate(loads(TEXT)).written
                for x in self.points:
                    np.testing.assert_allclose(written.jacobian(x).toarray(), slopes(rows, x), rtol=1e-10, atol=1e-12)
        plan = written.jacobian_plan()
        self.assertTrue(len(plan.reverse_rows) and plan.colour_count)  # both ways are used
        self.assertLess(plan.colour_count, 8)
        np.testing.assert_allclose(written.gradient(x), slopes(objective, x)[0], rtol=1e-12)

    def test_the_pattern_is_what_can_change_and_no_more(self):
        pattern = Gate(self.problem).written.jacobian_plan().pattern.toarray() != 0
        seen = np.any([slopes(rows, x) != 0.0 for x in self.points], axis=0)
        np.testing.assert_array_equal(pattern, seen)
        self.assertFalse(pattern[:, 22:].any())

    def test_hessians_however_the_batch_is_cut_and_with_rows_that_share_a_formula(self):
        multipliers = self.rng.normal(size=self.problem.row_count)

        def lagrangian_slope(x):
            # one real direction at a time, so that the complex step is taken of a slope: differences of exact ones
            return 0.3 * slopes(objective, x)[0] - multipliers @ slopes(rows, x)

        x = self.points[0]
        step = 1e-6
        dense = [(lagrangian_slope(x + step * e) - lagrangian_slope(x - step * e)) / (2 * step) for e in np.eye(24)]
        for chunk in (1, 60, 4_000_000):
            with mock.patch.object(matrices, "CHUNK", chunk):
                written = Gate(loads(TEXT)).written
                found = written.hessian(x, multipliers, weight=0.3).toarray()
                np.testing.assert_allclose(found, np.array(dense), atol=2e-8)
                np.testing.assert_array_equal(found != 0.0, found.T != 0.0)
        direction = self.rng.normal(size=24)
        product = written.hessian_product(x, direction, multipliers, weight=0.3)
        np.testing.assert_allclose(product, found @ direction, rtol=1e-10, atol=1e-10)

    def test_directions_of_colours_reach_every_entry_once(self):
        """Star colours: from the products with the directions alone every entry of a symmetric matrix is read."""
        plan = Gate(self.problem).written.hessian_plan()
        pattern = plan.pattern.toarray() != 0
        values = self.rng.normal(size=(24, 24))
        values = np.where(pattern, values + values.T, 0.0)
        products = values @ plan.directions(0, plan.colour_count).T
        at, colours = plan.places
        found = np.zeros((24, 24))
        i, j = np.repeat(np.arange(24), np.diff(plan.pattern.indptr)), plan.pattern.indices
        found[i, j] = products[at, colours]
        np.testing.assert_allclose(found, values, atol=1e-14)
        self.assertLess(plan.colour_count, 20)

    def test_other_numbers_of_the_same_file(self):
        other = self.problem.with_parameters(w=[0.0, 1.0, 0.0, 0.0])
        x = self.points[1]
        found = Gate(other).written.jacobian(x).toarray()
        place = NAMES.index("product")
        first = other.row_blocks[place].first
        _, _, a = split(x)
        expected = np.zeros((3, 24))
        expected[:, 0] = -a[:, 1] / x[0] ** 2
        for k in range(3):
            expected[k, 10 + 4 * k + 1] = 1.0 / x[0]
        np.testing.assert_allclose(found[first : first + 3], expected, atol=1e-13)


class Bare(unittest.TestCase):
    def test_without_rows_without_an_objective_and_without_curvature(self):
        alone = Gate(loads("[variables]\nx = { start = [1.0, 2.0] }\n[minimize]\nf = 'sum(x) * 3'\n")).written
        self.assertEqual(alone.jacobian([1.0, 2.0]).shape, (0, 2))
        self.assertEqual(alone.hessian([1.0, 2.0]).nnz, 0)
        np.testing.assert_array_equal(alone.hessian_product(np.ones(2), np.ones(2)), [0.0, 0.0])
        text = "[variables]\nx = { start = [1.0, 2.0] }\n[constraints]\nc = 'x[0] * x[1] == 2'\n"
        aimless = Gate(loads(text)).written
        np.testing.assert_array_equal(aimless.jacobian([3.0, 5.0]).toarray(), [[5.0, 3.0]])
        np.testing.assert_array_equal(
            aimless.hessian([3.0, 5.0], np.array([2.0])).toarray(), [[0.0, -2.0], [-2.0, 0.0]]
        )


if __name__ == "__main__":
    unittest.main()
