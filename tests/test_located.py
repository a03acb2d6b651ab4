"""Numbers that are not finite are located: entry, line, sub-expression, element, arguments, and what mends it."""

import math
import unittest

import numpy as np

from ilvren import loads, run
from ilvren.evaluate import Gate
from ilvren.judge.standing.design_report import design_report_at
from ilvren.runs.start_troubles import trouble_clause

VARIABLES = (
    "[variables]\nx = { start = 0.5, lower = -2, upper = 2 }\n"
    'u = { start = "0.5 - evenly(0, 1, 3)", lower = -2, upper = 2, shape = 3 }\n'
)
# Formula at x = 0.5, u = [0.5, 0, −0.5] → (sub-expression, element, arguments, words).
VALUES = {
    "sqrt(u) + 1": ("sqrt(u)", (2,), (-0.5,), "at least 0"),
    "sum(log(u + x))": ("log(u + x)", (2,), (0.0,), "positive argument"),
    "sum(1 / u)": ("1 / u", (1,), (1.0, 0.0), "division by zero"),
    "(u - 0.2)^1.5": ("(u - 0.2)^1.5", (1,), (-0.2, 1.5), "whole exponent"),
    "asin(3 * u)": ("asin(3 * u)", (0,), (1.5,), "[-1, 1]"),
    "exp(2000 * x) + u": ("exp(2000 * x)", (), (1000.0,), "overflows"),
    "lookup(u, join(0, 0.5), join(1, 2))": ("lookup(u, join(0, 0.5), join(1, 2))", (2,), (-0.5,), "the nearest is 0"),
    "min(1 / u, 7)": ("1 / u", (1,), (1.0, 0.0), "division by zero"),
    "atan(1 / u)": ("1 / u", (1,), (1.0, 0.0), "division by zero"),
    "cumsum(sqrt(u))[2]": ("sqrt(u)", (2,), (-0.5,), "at least 0"),
    "dot(u, log(u + 0.5))": ("log(u + 0.5)", (2,), (0.0,), "positive argument"),
    "norm(sqrt(u[1:]))": ("sqrt(u[1:])", (1,), (-0.5,), "at least 0"),
    "interp(sqrt(u[2]), evenly(0, 1, 3), evenly(0, 1, 3))": ("sqrt(u[2])", (), (-0.5,), "at least 0"),
    "where(u > 0, sqrt(u - 0.6), 0)": ("sqrt(u - 0.6)", (0,), (-0.1,), "at least 0"),
}
# Formula → (variable whose derivative is not finite, sub-expression).
SLOPES = {
    "sum(sqrt(u + 0.5))": ("u[2]", "sqrt(u + 0.5)"),
    "sqrt(x - 0.5) + u": ("x", "sqrt(x - 0.5)"),
    "u[0] * asin(2 * x)": ("x", "asin(2 * x)"),
    "(u[1] * x)^0.5": ("x", "(u[1] * x)^0.5"),
    "norm(u^0.5)": None,  # the value itself is invalid
}


class Values(unittest.TestCase):
    def test_the_first_operation_that_failed_is_told(self):
        for formula, (piece, element, arguments, words) in VALUES.items():
            with self.subTest(formula=formula):
                text = f'{VARIABLES}[derived]\nd = "{formula}"\n[minimize]\nf = "sum(d) + x"\n'
                problem = loads(text, file="a.toml")
                _, trouble = problem.named_values(problem.start)["d"]
                self.assertEqual(trouble.origin.text[slice(*trouble.origin.span)], piece)
                self.assertEqual((trouble.element, trouble.origin.entry), (element, "derived.d"))
                np.testing.assert_allclose(trouble.arguments, arguments, atol=1e-12)
                self.assertIn(words, trouble.reason)
                (finding,) = [
                    item for item in design_report_at(problem).findings if item.startswith("d has no finite value")
                ]
                self.assertIn(f'"{piece}"', finding)
                result = run(problem, method="sqp")
                self.assertEqual(result.outcome, "invalid")
                for word in (f'"{piece}"', "a.toml:5", words, "mends" if "lookup" not in piece else "catalogue"):
                    self.assertIn(word, result.reason)

    def test_the_other_elements_stay_valid(self):
        problem = loads(f'{VARIABLES}[derived]\nd = "sqrt(u)"\n[minimize]\nf = "sum(d[:2])"\n')
        value, trouble = problem.named_values(problem.start)["d"]
        self.assertEqual([math.isnan(item) for item in value], [False, False, True])
        self.assertIsNotNone(trouble)
        self.assertEqual(problem.named_values(problem.start)["f"], (math.sqrt(0.5), None))
        self.assertTrue(Gate(problem).evaluate(np.array(problem.start)).is_finite)


class Derivatives(unittest.TestCase):
    def test_the_variable_and_the_operation_are_told(self):
        for formula, expected in SLOPES.items():
            with self.subTest(formula=formula):
                shape = "sum" if "+ u" in formula else ""
                problem = loads(f'{VARIABLES}[minimize]\nf = "{shape}({formula})"\n', file="a.toml")
                found = Gate(problem).written.slope_trouble(np.array(problem.start))
                if expected is None:
                    self.assertTrue(math.isnan(problem.named_values(problem.start)["f"][0]))
                    continue
                entry, variable, trouble = found
                self.assertEqual((entry, variable), ("f", expected[0]))
                self.assertIn(expected[1], trouble_clause(trouble))
                result = run(problem, method="sqp")
                self.assertEqual(result.outcome, "invalid")
                self.assertIn(f'the derivative of "f" by "{expected[0]}" is not finite', result.reason)

    def test_rows_of_a_vector_are_told_by_their_index(self):
        problem = loads(f'{VARIABLES}[minimize]\nf = "x"\n[constraints]\nc = "sqrt(0.5 - u) <= 3"\n')
        result = run(problem, method="sqp")
        self.assertIn('the derivative of "c[0]" by "u[0]" is not finite', result.reason)

    def test_finite_derivatives_are_left_alone(self):
        problem = loads(f'{VARIABLES}[minimize]\nf = "sum(u^2) + x"\n[constraints]\nc = "u <= x"\n')
        self.assertIsNone(Gate(problem).written.slope_trouble(np.array(problem.start)))
