"""What sequential quadratic programming promises beyond what every method must do."""

import unittest

import numpy as np

from ilvren import loads, run
from ilvren.algebra import solve_quadratic
from tests.compact import tries
from tests.problems import manufactured, two_variables


class Sqp(unittest.TestCase):
    def test_one_step_on_a_quadratic_program(self):
        """With B exact the first subproblem is the problem: only B separates the steps from the answer."""
        rows = np.array([[1.0, 1.0]])
        found = solve_quadratic(
            2 * np.eye(2),
            np.array([-2.0, -4.0]),
            rows=rows,
            row_limits=(np.array([-np.inf]), np.array([2.0])),
            bounds=(np.full(2, -np.inf), np.full(2, np.inf)),
        )
        np.testing.assert_allclose(found.step, [0.5, 1.5])
        np.testing.assert_allclose(found.row_multipliers, [-1.0])

    def test_the_maratos_problem_takes_full_steps_with_corrections(self):
        """Powell's example: every full step near the circle is refused without a second-order correction."""
        text = two_variables("2*(x^2 + y^2 - 1) - x", "x^2 + y^2 == 1", start=(0.8, 0.6))
        counts = {}
        for corrections in (True, False):
            result = run(loads(text), method="sqp", options={"corrections": corrections})
            self.assertEqual(result.outcome, "converged")
            self.assertAlmostEqual(result.objective, -1.0, places=6)
            counts[corrections] = result.counts["evaluations"]
        self.assertLessEqual(counts[True], 15)

    def test_a_symmetric_start_is_no_evidence_of_conflict(self):
        result = run(loads(two_variables("x", "x^2 == 1", start=(0.0, 0.0))), method="sqp")
        self.assertEqual(result.outcome, "converged")

    def test_infeasible_is_claimed_only_with_a_stationary_violation(self):
        result = run(loads(two_variables("x", "x^2 + y^2 <= 1", "x + y >= 3")), method="sqp")
        self.assertEqual(result.outcome, "infeasible")
        # The line is 3 / √2 − 1 away from the disc; no design misses both by less than about half of that.
        self.assertGreater(result.violation, 0.3)

    def test_relaxed_limits_lead_back_from_an_infeasible_linearisation(self):
        # At (0, 0) the linearised rows say x >= 1 and x <= -1.
        text = two_variables("(x-1)^2 + y^2", "x - y^2 >= 1 - 3*x^2", "x <= 2*x^2 + y", start=(0.0, 0.0))
        self.assertEqual(run(loads(text), method="sqp").outcome, "converged")

    def test_kinks_that_cannot_be_lifted_end_as_stalled_not_as_converged(self):
        bent = "where(x >= y^2, 3*(x - y^2), y^2 - x) + (x - 2)^2 + (y - 1)^2"
        result = run(loads(two_variables(bent)), method="sqp")
        self.assertEqual(result.outcome, "stalled")

    def test_multipliers_on_manufactured_problems_are_prices(self):
        problem, _ = manufactured(3, n=4, inequalities=3, equalities=1)
        result = run(problem, method="sqp")
        name, row = problem.rows[-1].name, problem.rows[-1]
        price = next(state.price for state in result.constraints if state.name == name)
        step = 1e-4
        moved = problem.source.text.replace(f"{row.text}", row.text.replace("== 0", f"== {step}"))
        other = run(loads(moved), method="sqp")
        self.assertAlmostEqual((other.objective - result.objective) / step, price, delta=1e-2 * max(1.0, abs(price)))

    def test_scaling_does_not_change_the_answer(self):
        for factor in (1e-6, 1.0, 1e6):
            problem, optimum = manufactured(9, n=3, inequalities=2, equalities=0, scale=factor)
            result = run(problem, method="sqp")
            self.assertEqual(result.outcome, "converged")
            np.testing.assert_allclose(result.point, optimum, atol=2e-3)
            unscaled = run(problem, method="sqp", scaling=False)
            self.assertIs(unscaled.settings["scaling"], False)

    def test_a_saddle_with_zeros_on_its_diagonal_is_made_convex_in_its_own_scale(self):
        can = two_variables("pi*x^2*y", "2*pi*x^2 + 2*pi*x*y <= 600", sense="maximize", bounds=(0.1, 50.0))
        result = run(loads(can), method="sqp")
        self.assertEqual(result.outcome, "converged")
        self.assertLess(result.counts["iterations"], 30)

    def test_evaluations_stay_few(self):
        counts = []
        for seed in range(tries(30)):
            problem, _ = manufactured(seed, n=2 + seed % 6, inequalities=seed % 4, equalities=seed % 2)
            counts.append(run(problem, method="sqp").counts["evaluations"])
        self.assertLessEqual(float(np.median(counts)), 25.0)
