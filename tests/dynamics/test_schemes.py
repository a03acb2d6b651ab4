"""Collocation schemes: their tables by what these must satisfy, and courses against other integrators."""

import unittest

import numpy as np
from scipy.integrate import solve_ivp

from ilvren.dynamics.gridded import radau_points
from ilvren.dynamics.schemes import SCHEMES
from ilvren.problem import Refinement, loads
from ilvren.problem.courses import courses_of
from ilvren.runs import run
from tests.compact import some

SWING = """
[time]
to = 3
steps = {steps}
[states]
a = {{ rate = "w", initial = 0.4 }}
w = {{ rate = "-9.81 * sin(a) - 0.1 * w + u + 0.3 * sin(2 * t)", initial = 0 }}
[controls]
u = {{ start = 0.1, lower = -6, upper = 6, form = "{form}", pieces = 6 }}
[minimize]
cost = "integral(u^2 + a^2)"
"""


# Intervals at which errors stand out of what equations are solved to, and are small enough for the order to show.
FINE = {"trapezoid": (96, 192), "gauss-legendre": (12, 24)}


class Tables(unittest.TestCase):
    def test_equations_and_quadrature_are_exact_for_powers_up_to_the_order(self):
        for scheme in SCHEMES.values():
            with self.subTest(scheme.name):
                # Stage equations hold for polynomials of the degree of the course; the last one to the full order.
                degree = 3 if scheme.name == "hermite-simpson" else max(len(scheme.used), 1)
                for k in range(degree + 1):
                    moved = scheme.states @ scheme.points**k
                    asked = scheme.rates @ (k * scheme.points ** max(k - 1, 0))
                    np.testing.assert_allclose(moved, asked, atol=1e-12)
                for k in range(scheme.order):
                    self.assertAlmostEqual(scheme.weights @ scheme.points**k, 1.0 / (k + 1), places=12)
                self.assertGreater(abs(scheme.weights @ scheme.points**scheme.order - 1.0 / (scheme.order + 1)), 1e-6)

    def test_what_is_read_between_the_points_is_the_polynomial(self):
        at = np.array([0.0, 0.13, 0.5, 0.91, 1.0])
        for scheme in SCHEMES.values():
            degree = 3 if scheme.name != "trapezoid" else 2
            for k in range(degree + 1):
                values, rates = scheme.points**k, k * scheme.used_points ** max(k - 1, 0)
                for weights, wanted in (
                    (scheme.state_weights(at), at**k),
                    (scheme.slope_weights(at), k * at ** max(k - 1, 0)),
                ):
                    found = weights[0] @ values + weights[1] @ rates
                    np.testing.assert_allclose(found, wanted, atol=1e-11, err_msg=f"{scheme.name} {k}")

    def test_radau_points_integrate_twice_their_number_less_two(self):
        for count in (1, 2, 3, 5):
            points = radau_points(count)
            self.assertEqual(points[-1], 1.0)
            weights = np.linalg.solve(np.vander(points, increasing=True).T, 1.0 / np.arange(1, count + 1))
            for k in range(2 * count - 1):
                self.assertAlmostEqual(weights @ points**k, 1.0 / (k + 1), places=12)


def truth(course) -> float:
    """Return the largest error over sizes against one integration from the first value on."""
    x, worst = course.flat[0], 0.0
    for k in range(course.intervals):
        low, high = course.taus[k], course.taus[k + 1]

        def rates(tau, y, low=low, high=high):
            at = np.array([tau])
            return course.code.values(course.inputs(at, np.array([tau > 0.5 * (low + high)]), y[np.newaxis]))[0]

        moments = low + (high - low) * course.scheme.points[1:]
        found = solve_ivp(rates, (low, high), x, method="DOP853", rtol=1e-11, atol=1e-12, t_eval=moments)
        own = course.flat[k * course.scheme.width + 1 : (k + 1) * course.scheme.width + 1]
        worst, x = max(worst, float((np.abs(found.y.T - own) / course.sizes).max())), found.y[:, -1]
    return worst


class Courses(unittest.TestCase):
    def course(self, scheme: str, steps: int, form: str = "linear"):
        # A tolerance that any grid meets: the first one stays.
        refinement = Refinement(scheme=scheme, tolerance=0.1)
        result = run(loads(SWING.format(steps=steps, form=form), refinement=refinement))
        self.assertEqual((result.outcome, result.time_error.steps), ("converged", steps))
        return courses_of(result.whole, np.array(result.full_point))[0]

    def test_the_error_told_is_the_true_one_within_a_factor_of_three(self):
        for scheme in some(SCHEMES, 2, 1):
            course = self.course(scheme, 12 if scheme != "trapezoid" else 96)
            told, true = course.deviation().estimate, truth(course)
            with self.subTest(scheme, told=told, true=true):
                self.assertLess(told, 3.0 * true + 1e-9)
                self.assertGreater(told, true / 3.0 - 1e-9)

    def test_halving_the_intervals_leaves_the_share_that_the_order_says(self):
        for name, scheme in some(SCHEMES.items()):
            errors = []
            for steps in FINE.get(name, (24, 48)):
                course = self.course(name, steps)
                errors.append(float(np.abs(course.deviation().carried).max()))
            with self.subTest(name, errors=errors):
                if errors[1] > 1e-11:
                    self.assertGreater(np.log2(errors[0] / errors[1]), scheme.order - 0.8)

    def test_transitions_are_those_of_small_changes(self):
        course = self.course("radau", 24, "constant")
        phi = course.transitions()
        k, step = 7, 1e-6
        low, high = course.taus[k], course.taus[k + 1]

        def rates(tau, y):
            at = np.array([tau])
            return course.code.values(course.inputs(at, np.array([tau > 0.5 * (low + high)]), y[np.newaxis]))[0]

        begin = course.flat[k * course.scheme.width]
        for column in range(2):
            ends = []
            for sign in (1.0, -1.0):
                moved = begin + sign * step * np.eye(2)[column] * course.sizes
                ends.append(solve_ivp(rates, (low, high), moved, rtol=1e-11, atol=1e-13).y[:, -1])
            wanted = (ends[0] - ends[1]) / (2.0 * step) / course.sizes
            np.testing.assert_allclose(phi[k][:, column], wanted, rtol=1e-5, atol=1e-7)


if __name__ == "__main__":
    unittest.main()
