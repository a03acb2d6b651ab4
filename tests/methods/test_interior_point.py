"""What the interior point method promises beyond what every method must do: large, degenerate, infeasible, restored."""

import math
import unittest

import numpy as np

from ilvren import loads, run, verify
from ilvren.problem import Problem
from tests.compact import only_in_whole, some
from tests.families import made
from tests.problems import two_variables


def chain(n: int) -> Problem:
    """Return a banded problem in n variables with equalities, inequalities and bounds, many of them active."""
    return loads(
        f'[parameters]\nn = {n}\ns = "sin(evenly(0, 12, {n}))"\n'
        '[variables]\nu = { start = 0.2, lower = -0.8, upper = 0.9, shape = "n" }\n'
        '[minimize]\nf = "sum((u - 1.3 * s)^2) + 0.05 * sum(u[1:]^2 * u[:-1]^2)"\n'
        '[constraints]\nslope = "-0.05 <= diff(u) <= 0.05"\nends = "u[0] + u[-1] == 0.1"\n'
        'curved = "u[1:-1]^2 + u[2:] <= 1.2"\n'
    )


class InteriorPoint(unittest.TestCase):
    def test_small_and_large_matrices_lead_to_the_same_optimum(self):
        """The same problem by dense LAPACK and, written with more rows than matter, by sparse factorizations."""
        few = chain(60)
        dense = run(few, method="sqp")
        text = few.source.text.replace("[constraints]\n", '[constraints]\nidle = "join(u, u, u, u, u, u) >= -5"\n')
        sparse = run(loads(text), method="interior-point")
        self.assertTrue(dense.holds and sparse.holds, (dense.reason, sparse.reason))
        self.assertLess(abs(dense.objective - sparse.objective), 1e-6 * abs(dense.objective))
        self.assertLess(float(np.abs(np.array(dense.point) - np.array(sparse.point)).max()), 1e-4)

    @only_in_whole
    def test_iterations_hardly_grow_with_size_and_the_optimum_is_verified(self):
        counts = []
        for n in (200, 1500, 8000):
            result = run(chain(n))
            self.assertEqual((result.outcome, result.method), ("converged", "interior-point"), result.reason)
            counts.append(result.counts["iterations"])
        self.assertLessEqual(max(counts), 3 * counts[0])
        verdict = verify(run(chain(1000)))
        self.assertEqual(verdict.verdict, "local-strict", verdict.reason)

    def test_large_multipliers_are_prices(self):
        problem = chain(500)
        result = run(problem)
        price = next(state.price for state in result.constraints if state.name == "ends")
        step = 1e-3
        moved = run(loads(problem.source.text.replace("== 0.1", f"== {0.1 + step}")))
        self.assertAlmostEqual((moved.objective - result.objective) / step, price, delta=2e-2 * max(1.0, abs(price)))

    def test_an_infeasible_large_problem_is_called_so(self):
        text = chain(400).source.text + 'high = "u[200] >= 0.85"\nlow = "u[205] <= 0.5"\n'
        result = run(loads(text), method="interior-point", iterations=400)
        self.assertFalse(result.holds)
        self.assertIn(result.outcome, ("infeasible", "no-feasible"))
        self.assertGreater(result.violation, 1e-3)

    def test_restoration_leads_back_from_where_newton_steps_end(self):
        """Wächter and Biegler's example: methods that only follow the linearised rows converge to an infeasible point
        that is not stationary for the violation."""
        text = (
            "[variables]\nx = { start = -2 }\ns = { start = 3, lower = 0 }\nt = { start = 1, lower = 0 }\n"
            '[minimize]\nf = "x"\n[constraints]\na = "x^2 - s == 1"\nb = "x - t == 0.5"\n'
        )
        for method in ("interior-point", "sqp"):
            result = run(loads(text), method=method)
            self.assertEqual(result.outcome, "converged", f"{method}: {result.reason}")
            self.assertAlmostEqual(result.objective, 1.0, places=6)

    def test_equations_that_repeat_each_other_do_no_harm(self):
        rows = ("x + y == 1", "2*x + 2*y == 2", "x - 3 <= -y - 2")
        for method in ("interior-point", "sqp"):
            result = run(loads(two_variables("x^2 + 3 * y^2", *rows)), method=method)
            self.assertEqual(result.outcome, "converged", f"{method}: {result.reason}")
            self.assertAlmostEqual(result.objective, 0.75, places=7)

    @only_in_whole
    def test_rows_that_depend_on_each_other_cost_no_more_than_others(self):
        for family in ("dependent", "degenerate"):
            for seed in some(range(12), 4):
                result = run(made(family, seed).problem, method="interior-point")
                with self.subTest(family=family, seed=seed):
                    self.assertEqual(result.outcome, "converged", result.reason)
                    self.assertLess(result.counts["evaluations"], 60)

    def test_no_strict_inside(self):
        """x² + y² <= 0 leaves one point, without multipliers; whatever is said, it is no false optimum."""
        for method in ("interior-point", "sqp"):
            result = run(loads(two_variables("x + y", "x^2 + y^2 <= 0", "y >= x")), method=method)
            if result.outcome == "converged":
                self.assertLess(abs(result.objective), 1e-2)
            self.assertLess(result.violation, 1e-2)

    def test_the_start_is_put_inside_and_an_invalid_one_recovers(self):
        result = run(
            loads('[variables]\nx = { start = 0, lower = 0, upper = 5 }\n[minimize]\nf = "x - log(x)"\n'),
            method="interior-point",
        )
        self.assertEqual(result.outcome, "converged")
        self.assertAlmostEqual(result.point[0], 1.0, places=6)

    def test_polishing_puts_a_vertex_exactly_on_its_limits(self):
        text = two_variables("-x - 2 * y", "x + y <= 4", "y - x <= 2", "x <= 3")
        result = run(loads(text), method="interior-point")
        np.testing.assert_allclose(result.point, (1.0, 3.0), atol=1e-12)
        rough = run(loads(text), method="interior-point", options={"exact_limits": False})
        self.assertEqual(rough.outcome, "converged")
        self.assertGreater(abs(rough.objective + 7.0), abs(result.objective + 7.0))

    def test_a_saddle_between_two_valleys_is_left(self):
        text = two_variables("x^4 / 4 - x^2 / 2 + y^2", "x + y <= 3", start=(0.0, 0.5))
        for method in ("interior-point", "sqp"):
            result = run(loads(text), method=method)
            self.assertAlmostEqual(result.objective, -0.25, places=7, msg=method)

    def test_limited_memory_serves_large_problems_without_second_derivatives(self):
        result = run(chain(300), method="interior-point", options={"exact": False})
        exact = run(chain(300), method="interior-point")
        self.assertTrue(result.violation < 1e-6 and math.isfinite(result.objective))
        self.assertLess(abs(result.objective - exact.objective), 1e-3 * abs(exact.objective))
        self.assertEqual(result.counts["hessians"], 0)


if __name__ == "__main__":
    unittest.main()
