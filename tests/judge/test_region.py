"""A strict minimum rests on a region: inflections are left behind by runs and never certified; certificates hold on
samples of their boxes; limits are active only where they are near."""

import math
import unittest

import numpy as np

from ilvren import loads, run, verify
from ilvren.evaluate import Gate
from ilvren.judge.optimum.first_order import measure_conditions
from ilvren.judge.optimum.judged import case_of_design
from ilvren.judge.proof.certificate import certified
from tests.compact import some

# Entries, and designs at (or within the accuracy of a run from) an inflection.
INFLECTIONS = [
    ("x = { start = 0.4, lower = -2, upper = 2 }", "1 + x^3", "", {"x": 2e-4}),
    ("x = { start = 7, lower = 0 }", "x - sin(x)", "", {"x": 2 * math.pi + 1e-3}),
    ("x = { start = 0.4, lower = -1, upper = 3 }\ny = { start = 0.5 }", "1 + x^3 + y^4", "", {"x": 1e-4, "y": 4e-3}),
    (
        "x = { start = 0.4, lower = -5, upper = 5 }\ny = { start = 0.5 }",
        "3 + x + y^2 - tanh(x)",
        "",
        {"x": 7e-4, "y": 0},
    ),
    (
        "x = { start = 0.4, lower = -1, upper = 3 }\ny = { start = 0.5 }\nz = { start = 0.1 }",
        "2 + y + (z - x)^2",
        "y >= x^5",
        {"x": 1e-2, "y": 1e-10, "z": 1e-2},
    ),
]


def problem(variables, objective, row=""):
    rows = f'[constraints]\nc = "{row}"\n' if row else ""
    return loads(f'[variables]\n{variables}\n[minimize]\nf = "{objective}"\n{rows}')


class Inflections(unittest.TestCase):
    def test_no_method_ends_at_one_and_no_verdict_holds_there(self):
        for variables, objective, row, near in some(INFLECTIONS, 4):
            with self.subTest(objective=objective):
                asked = problem(variables, objective, row)
                here = asked.named_values(tuple(near.values()))["f"][0]
                self.assertFalse(verify(asked, at=near).holds)
                for method in (None, "sqp", "interior-point", *(() if row else ("newton", "bfgs", "l-bfgs"))):
                    result = run(asked, method=method) if method else run(asked)
                    if result.outcome == "converged" and verify(result).holds:
                        self.assertLess(result.objective, here - 1e-2, method)
                result = run(asked)
                self.assertEqual(result.outcome, "converged")
                self.assertLess(result.objective, here - 1e-2)

    def test_looking_on_asks_little_where_steps_show_the_curvature(self):
        result = run(
            problem("x = { start = -1.2 }\ny = { start = 1 }", "100 * (y - x^2)^2 + (1 - x)^2 + 1"), second_look=0
        )
        self.assertIn("converged", result.outcome)
        self.assertLess(result.counts["evaluations"], 45)

    def test_a_limit_on_evaluations_does_not_undo_what_has_converged(self):
        asked = problem("x = { start = 0.4, lower = 0 }", "1 + x^4")
        whole = run(asked)
        least = next(n for n in range(3, 99) if run(asked, evaluations=n).outcome == "converged")
        self.assertLess(least, whole.counts["evaluations"])


class Certificates(unittest.TestCase):
    CASES = (
        ("x = { start = 0.4 }\ny = { start = 0.5 }", "(x - 1)^2 + 3 * (y - 2)^2 + x * y", ""),
        ("x = { start = -1.2 }\ny = { start = 1 }", "100 * (y - x^2)^2 + (1 - x)^2 + 1", ""),
        ("x = { start = 1 }\ny = { start = 1 }", "x + y", "x^2 + y^2 <= 2"),
        ("x = { start = 1, lower = 0 }\ny = { start = 1, lower = 0.2 }", "exp(x) + (y - x)^2 + y", "x * y >= 0.1"),
        (
            "u = { start = 0.3, shape = 4, lower = -1, upper = 1 }",
            "sum((u - 0.2)^2) + prod(u) + sum(sin(u))",
            "sum(u) == 0.5",
        ),
    )

    def test_samples_of_the_box_bear_it_out(self):
        """Nothing feasible in the box is better, and nowhere else in it do first-order conditions hold."""
        rng = np.random.default_rng(5)
        for variables, objective, row in self.CASES:
            with self.subTest(objective=objective):
                asked = problem(variables, objective, row)
                result = run(asked)
                case = case_of_design(
                    asked, dict(zip([v.name for v in asked.variables], result.point, strict=True)), None, False
                )
                measure_conditions(case)
                found = certified(case)
                self.assertIsNotNone(found.radius, found.clause)
                self.assertGreaterEqual(found.radius, 1e-5)
                self.assertEqual(verify(result).verdict, "local-strict")
                gate = Gate(asked)
                for _ in range(300):
                    point = case.point + found.radius * case.sizes * rng.uniform(-1, 1, len(case.point))
                    point = np.clip(point, case.measures.lower, case.measures.upper)
                    there = gate.evaluate(point)
                    if case.measures.violation(point, there.rows) == 0.0:
                        self.assertGreater(there.objective, case.evaluation.objective - 1e-9)

    def test_a_box_that_holds_a_better_end_is_not_certified(self):
        asked = problem("x = { start = 0, lower = 0, upper = 0.01 }", "1e-3 * x - x^2 / 2")
        case = case_of_design(asked, {"x": 0.0}, None, False)
        measure_conditions(case)
        self.assertLess(certified(case).radius * 0.01, 1e-3)

    def test_what_stands_in_the_way_is_said(self):
        for variables, objective, row, word in (
            ("x = { start = 0.5 }", "x^4 + 1", "", "the curvature may vanish"),
            ("x = { start = 0.5 }\ny = { start = 1 }", "x^2 + y^2", "x >= 0", "stop pressing"),
            ("x = { start = 2 }\ny = { start = 2 }", "x^2 + y^2", "join(x, 2 * x, x + 0 * y) >= 1", "limits"),
        ):
            result = run(problem(variables, objective, row))
            verdict = verify(result)
            check = next(c for c in verdict.checks if c.name == "certificate")
            self.assertEqual(check.result, "unknown")
            self.assertIn(word, check.detail)
            self.assertIn("judged at the point", verdict.reason)


class Active(unittest.TestCase):
    def test_a_far_bound_takes_nothing_up(self):
        """A trajectory of 600 variables at 0 with bounds at ±3: stationary to the tolerance, and at no bound."""
        text = (
            "[variables]\nu = { start = 1, shape = 600, lower = -3, upper = 3 }\n"
            '[minimize]\nf = "1 + sum((u[1:] - u[:-1])^2) + 1e-6 * sum(u^2) + (u[0] - 1)^2"\n'
        )
        for method in ("l-bfgs", "interior-point", "newton"):
            result = run(loads(text), method=method, tolerance=1e-4)
            self.assertFalse(any(state.is_active for state in result.bounds), method)

    def test_rounding_is_no_price(self):
        result = run(problem("x = { start = 9.3, lower = 0, upper = 10 }", "x - sin(x) + 1"))
        self.assertIn(result.bounds[0].price, (0.0, None))
        result = run(problem("x = { start = 1, lower = 0 }\ny = { start = 1 }", "x^2 + (y - 1)^2", "y <= 5"))
        self.assertFalse(result.constraints[0].is_active)


if __name__ == "__main__":
    unittest.main()
