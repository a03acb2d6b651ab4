"""Deliberate traps: problems on which a method may fail, but may not say anything that is not so."""

import unittest

import numpy as np

from ilvren import loads, run, verify
from ilvren.methods.base import method_named
from tests.compact import chosen, parted, some
from tests.driving import affordable, single_names
from tests.problems import two_variables

SMOOTH = ("sqp", "interior-point", None)
GRADIENT_BASED = tuple(
    name for name in single_names() if (m := method_named(name)).kind == "gradient-based" and m.needs == "gradients"
)


def bounded(*entries, objective, constraints=()):
    lines = ["[variables]", *(f"x{i} = {{ {entry} }}" for i, entry in enumerate(entries))]
    lines += ["[minimize]", f'f = "{objective}"']
    lines += ["[constraints]", *(f'c{i} = "{row}"' for i, row in enumerate(constraints))] if constraints else []
    return "\n".join(lines)


class Traps(unittest.TestCase):
    def assert_honest(self, text, **settings):
        """Run the smooth methods; whatever holds must be feasible, stationary and not improvable."""
        results = []
        for method in SMOOTH:
            result = run(loads(text), method=method, evaluations=3000, **settings)
            with self.subTest(method=method, text=text):
                if result.outcome == "converged":
                    self.assertLessEqual(result.violation, 1e-6)
                    self.assertLessEqual(result.stationarity, 1e-6)
                    self.assertNotIn(verify(result).verdict, ("improvable", "limits-broken"))
            results.append(result)
        return results

    def test_a_cusp_without_multipliers(self):
        """The feasible set ends in a cusp at (1, 0): no multipliers exist there."""
        for result in self.assert_honest(two_variables("(x-2)^2 + y^2", "(1-x)^3 >= y", "y >= 0", start=(-2.0, -2.0))):
            self.assertNotEqual(result.outcome, "converged")

    def test_the_start_is_a_saddle_or_a_maximum(self):
        for text, best in (
            (two_variables("(x^2 - 1)^2 + y^2 + 1", start=(0.0, 0.3)), 1.0),
            (two_variables("x * y + 1", "x^2 + y^2 <= 2", start=(0.0, 0.0)), 0.0),
            (two_variables("cos(x) + y^2 + 2", "x >= -4", "x <= 5", start=(0.0, 1.0)), 1.0),
        ):
            for result in self.assert_honest(text):
                self.assertAlmostEqual(result.objective, best, places=5)

    def test_limits_that_only_a_far_part_of_the_box_meets_are_no_conflict(self):
        """No direction lowers the violation at the small hump; the large one is a twentieth of the box."""
        row = "0.5 * exp(-(x0 - 5)^2) + exp(-(x0 - 50)^2 / 4) >= 0.8"
        text = bounded("start = 5.2, lower = 0, upper = 60", objective="x0", constraints=(row,))
        self.assertNotEqual(run(loads(text), method="sqp").outcome, "converged")
        found = run(loads(text))
        self.assertEqual(found.outcome, "converged")
        self.assertAlmostEqual(found.objective, 50 - 2 * np.sqrt(np.log(1 / 0.8)), places=5)
        unmet = bounded("start = 5.2, lower = 0, upper = 60", objective="x0", constraints=(row.replace("0.8", "1.1"),))
        self.assertIn(run(loads(unmet)).outcome, ("infeasible", "no-feasible"))

    def test_a_linear_program_with_more_active_limits_than_variables(self):
        text = two_variables("-x - y", "x <= 1", "y <= 1", "x + y <= 2", "2*x + y <= 3", "x + 2*y <= 3", "x - y <= 0")
        for result in self.assert_honest(text):
            self.assertTrue(result.holds)
            np.testing.assert_allclose(result.point, (1.0, 1.0), atol=1e-6)

    def test_values_end_where_the_optimum_lies(self):
        """The logarithm's domain ends at the bound, and steps from the start lead beyond it."""
        entries = ("start = 4, lower = 1e-3", "start = 0.01, lower = 1e-3, upper = 3")
        text = bounded(*entries, objective="x0 - 1e-2 * log(x0) + x1 * log(x1)", constraints=("x0 + x1 >= 0.1",))
        for result in self.assert_honest(text):
            self.assertTrue(result.holds, result.reason)

    def test_invalid_beyond_a_wall_without_a_bound(self):
        text = two_variables("-sqrt(4 - x^2 - y^2) + 0.1 * x", start=(1.9, 0.1))
        for result in self.assert_honest(text):
            self.assertTrue(result.holds, result.reason)
            self.assertLess(result.objective, -2.0)

    def test_units_of_any_size(self):
        """The same ring in metres, nanometres and light-years, euro and cents of a billion."""
        for length in (1e-9, 1.0, 1e15):
            for money in some((1e-6, 1e9), 2, length > 1.0):
                text = bounded(
                    f"start = {2 * length!r}, magnitude = {length!r}",
                    f"start = {length!r}, magnitude = {length!r}",
                    objective=f"{money!r} * (3 + x0 / {length!r} + 2 * x1 / {length!r})",
                    constraints=(f"x0^2 + x1^2 <= {5 * length**2!r}",),
                )
                for result in self.assert_honest(text):
                    self.assertTrue(result.holds, f"{length} {money}: {result.reason}")
                    self.assertAlmostEqual(result.objective / money, -2.0, places=4)

    def test_a_long_flat_way_and_a_steep_wall(self):
        for result in self.assert_honest(two_variables("x^4 + 1e-6 * y^2 + 1", "y >= x^2 - 1", start=(3.0, 50.0))):
            self.assertTrue(result.holds, result.reason)
            self.assertAlmostEqual(result.objective, 1.0, places=4)

    def test_unbounded_along_a_feasible_ray_only(self):
        for text in (
            two_variables("-x", "y >= x^2", "y >= 0"),
            two_variables("x - y", "x >= y - 1e9"),
            two_variables("-exp(0.1 * x)", "y == 2 * x"),
        ):
            for result in self.assert_honest(text):
                self.assertFalse(result.outcome == "converged" and "1e9" not in text, result.reason)

    def test_an_objective_that_levels_off_is_not_unbounded(self):
        for number, objective in enumerate(("-atan(x) + y^2", "exp(-x) + y^2", "y^2 - x / sqrt(1 + x^2)")):
            for place, method in enumerate(map(method_named, single_names())):
                if method.needs == "residuals" or method.only_members or method.name == "dividing-rectangles":
                    continue
                if not chosen(number, place, 5):
                    continue
                if number and method.kind == "global":
                    continue  # one is enough for those that take their time
                most = affordable(method.name, 200)
                result = run(loads(two_variables(objective)), method=method.name, evaluations=most)
                self.assertNotEqual(result.outcome, "unbounded", f"{method.name}: {objective}")

    def test_a_design_that_runs_away_ends_soon_and_is_no_optimum(self):
        for number, objective in enumerate(("-log(1 + x0^2)", "-log(1 + log(1 + x0^2))")):
            text = bounded("start = 1", objective=objective)
            for name in some(
                (*GRADIENT_BASED, "nelder-mead", "mesh-adaptive-search", "quadratic-interpolation"), 4, number
            ):
                with self.subTest(name=name, objective=objective):
                    result = run(loads(text), method=name)
                    self.assertEqual(result.outcome, "stalled", result.reason)
                    self.assertIn("runs away", result.reason)
                    self.assertLess(result.counts["iterations"], 1000)

    def test_a_start_far_out_is_not_running_away(self):
        text = two_variables("(x / 1e16 - 1)^2 + (y - 2)^2", start=(1.1e16, 3.0))
        for name in ("nelder-mead", "newton", "sqp"):
            self.assertTrue(run(loads(text), method=name, scaling=False).holds, name)

    def test_equations_that_nothing_solves(self):
        for rows in (("x^2 + y^2 == -1",), ("x + y == 1", "x + y == 2"), ("sin(x) >= 1.2",), ("exp(x) <= -1",)):
            for result in self.assert_honest(two_variables("x^2 + y^2", *rows)):
                self.assertIn(result.outcome, ("infeasible", "no-feasible"))

    def test_a_jump_is_no_optimum_that_derivatives_could_prove(self):
        text = two_variables("where(x >= 1, x^2, x^2 + 5) + y^2", start=(3.0, 1.0))
        for name in parted(single_names(), self._testMethodName):
            method = method_named(name)
            if method.needs == "residuals" or method.only_members:
                continue
            result = run(loads(text), method=name, evaluations=affordable(name, 600))
            with self.subTest(method=name):
                if result.outcome == "converged":
                    self.assertGreater(result.objective, 0.5)
                    self.assertNotEqual(verify(result).verdict, "global-proved")


if __name__ == "__main__":
    unittest.main()
