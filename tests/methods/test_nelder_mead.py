"""What the simplex search promises: its coefficients, its simplexes, its way with limits and restarts."""

import unittest

import numpy as np

from ilvren import loads, run
from ilvren.methods import nelder_mead as module
from ilvren.methods.base import Reply, Task
from ilvren.methods.pieces.lagrangian import Lagrangian
from tests.methods.test_conformance import drive
from tests.problems import two_variables


def task(start, lower, upper):
    n = len(start)
    return Task(
        start=np.array(start),
        lower=np.array(lower),
        upper=np.array(upper),
        row_lower=np.zeros(0),
        row_upper=np.zeros(0),
        row_sizes=np.zeros(0),
    ), n


class NelderMead(unittest.TestCase):
    def first_simplex(self, start, lower, upper, size=0.1, turned=0):
        made, n = task(start, lower, upper)
        generator = module._new_simplex(made, made.start, size, turned=turned)
        request = next(generator)
        try:
            generator.send(Reply(np.zeros(n + 1), np.zeros((n + 1, 0))))
        except StopIteration as end:
            return request.points, end.value
        raise AssertionError("one batch is enough")

    def test_simplexes_have_full_dimension_even_in_a_corner(self):
        for start in ([0.0, 0.0], [1.0, 1.0], [0.0, 1.0], [0.5, 1.0], [0.99, 0.01]):
            for turned in range(4):
                points, _ = self.first_simplex(start, [0.0, 0.0], [1.0, 1.0], turned=turned)
                with self.subTest(start=start, turned=turned):
                    self.assertGreater(abs(np.linalg.det(points[1:] - points[0])), 1e-4)
                    self.assertTrue((points >= 0.0).all() and (points <= 1.0).all())

    def test_first_moves_are_those_of_the_paper(self):
        """On a plane the first simplex reflects its worst vertex and expands by 1 + 2/n."""
        made = []
        drive(module.METHOD, lambda x: (float(x[0] + 2 * x[1]), np.array([1.0, 2.0])), [0.0, 0.0], most=3)
        _, made = drive(module.METHOD, lambda x: (float(x[0] + 2 * x[1]), np.array([1.0, 2.0])), [0.0, 0.0], most=3)
        first = made[0]
        worst = first[np.argmax(first @ [1.0, 2.0])]
        others = np.array([p for p in first if not np.array_equal(p, worst)])
        centroid = others.mean(axis=0)
        np.testing.assert_allclose(made[1][0], centroid + (centroid - worst))
        np.testing.assert_allclose(made[2][0], centroid + 2.0 * (centroid - worst))

    def test_lagrangian_equals_the_objective_at_the_answer(self):
        made, _ = task([0.0], [-9.0], [9.0])
        made = Task(
            start=made.start,
            lower=made.lower,
            upper=made.upper,
            row_lower=np.array([0.0]),
            row_upper=np.array([0.0]),
            row_sizes=np.ones(1),
        )
        lagrangian = Lagrangian(made, np.array([3.0]), np.array([10.0]))
        f, c = np.array([5.0, 5.0]), np.array([[0.0], [0.2]])
        values = lagrangian.values(f, c)
        # f + λ c + ½ ρ c², up to the constant λ²/2ρ
        self.assertAlmostEqual(values[1] - values[0], 3.0 * 0.2 + 5.0 * 0.04)
        self.assertAlmostEqual(lagrangian.gap(c[0]), 0.0)
        self.assertAlmostEqual(float(lagrangian.renewed_multipliers(c[1])[0]), 3.0 + 10.0 * 0.2)

    def test_rough_and_discontinuous_objectives(self):
        for formula, best in (
            ("abs(x - 0.3) + abs(y + 1)", 0.0),
            ("max(abs(x), abs(y - 2))", 0.0),
            ("where(x > 0.5, 5, 0) + (x - 0.2)^2 + y^2", 0.0),
        ):
            with self.subTest(formula=formula):
                result = run(loads(two_variables(formula, start=(2.0, 3.0))), method="nelder-mead")
                self.assertEqual(result.outcome, "settled")
                self.assertLess(result.objective - best, 1e-4)

    def test_mckinnon_the_simplex_that_collapses_at_a_point_that_is_none(self):
        """McKinnon (1998): the plain method contracts for ever to (0, 0), where the objective still falls."""
        formula = "where(x <= 0, 360 * x^2, 6 * x^2) + y + y^2"
        result = run(loads(two_variables(formula, start=(0.0, 0.0))), method="nelder-mead")
        self.assertAlmostEqual(result.objective, -0.25, places=5)

    def test_stationarity_and_prices_are_not_pretended(self):
        result = run(loads(two_variables("x^2 + y^2", "x >= 1")), method="nelder-mead")
        self.assertIsNone(result.stationarity)
        self.assertIsNone(result.constraints[0].price)
        self.assertTrue(result.constraints[0].is_active)
        self.assertEqual(result.counts["gradients"], 0)
