"""Text to numbers: reading, precedence, IEEE arithmetic, and derivatives against complex steps."""

import cmath
import itertools
import math
import random
import unittest

from ilvren.errors import FormulaError
from ilvren.formula import Graph, compile_scalar, gradient, interpret, lower, parse_formula, parse_limits

NAMES = ("x", "y", "z")


def graph_of(text):
    graph = Graph()
    root = lower(parse_formula(text), graph, lambda word: graph.variable(NAMES.index(word.name)), entry="f", text=text)
    return graph, root


def value(text, *point):
    graph, root = graph_of(text)
    return interpret(graph, [root], point + (0.0,) * (3 - len(point)), ()).values[0]


def fast(graph, roots, point):
    """Evaluate by compiled code, as the gate does: the interpreter where the code raises."""
    code = compile_scalar(graph, roots, 3)
    try:
        return code.bound(interpret(graph, code.constants, (), ()).values)(*point)
    except (ArithmeticError, ValueError):
        return interpret(graph, roots, point, ()).values


class Reading(unittest.TestCase):
    def test_precedence(self):
        for text, expected in {
            "-x^2": -9.0,
            "2^3^2": 512.0,
            "2**-1": 0.5,
            "8/4/2": 1.0,
            "8/(4/2)": 4.0,
            "1-2-3": -4.0,
            "2*-x": -6.0,
            "--x": 3.0,
            "-x^-2": -1 / 9,
            "1e3 + .5 + 2.": 1002.5,
            "max(1, 2, x) - min(x, 5)": 0.0,
            "where(not x > 5 and (x > 1 or y > 1), 1, 2)": 1.0,
            "where((x + 1) * 2 > 7, 1, 2)": 1.0,
            "x\n + 1": 4.0,
        }.items():
            with self.subTest(text=text):
                self.assertAlmostEqual(value(text, 3.0), expected, places=14)

    def test_faults_are_underlined(self):
        for text, span, word in (
            ("2 * foo(x)", (4, 7), "unknown function"),
            ("x + ", (4, 5), "expected a value"),
            ("(x + 1", (6, 7), 'expected ")"'),
            ("x y", (2, 3), "does not continue"),
            ("x <= 3", (2, 4), "comparison"),
            ("3x", (0, 2), "neither a number nor a name"),
            ("sin", (0, 3), "without its arguments"),
            ("atan2(x)", (0, 5), "takes 2"),
            ("(" * 2000 + "x" + ")" * 2000, (61, 62), "nested"),
            ("x.__class__.y", (0, 13), "neither a number nor a name"),
            ("'x'", (0, 1), "unexpected character"),
        ):
            with self.subTest(text=text[:20]), self.assertRaises(FormulaError) as caught:
                graph_of(text)
            with self.subTest(text=text[:20]):
                self.assertIn(word, caught.exception.message)
                self.assertEqual(caught.exception.span, span)

    def test_limits_refuse_what_has_no_meaning(self):
        for text in ("x", "x < 1", "1 <= x >= 0", "1 == x == 2", "0 <= x <= 1 <= 2", "x != 1"):
            with self.subTest(text=text), self.assertRaises(FormulaError):
                parse_limits(text)

    def test_long_formulas_are_wide_not_deep(self):
        self.assertEqual(value("+".join(["x*x"] * 5000), 2.0), 20000.0)


class Arithmetic(unittest.TestCase):
    def test_ieee_values_and_invalid_intermediates(self):
        for text, point, expected in (
            ("1/x", (0.0,), None),  # infinite: invalid
            ("1/(1/x)", (0.0,), None),  # finite again, but it used an infinity
            ("exp(-1/x^2)", (0.0,), None),
            ("1/(x*x)", (1e300,), None),
            ("tanh(x*x)", (1e300,), None),
            ("atan(exp(x))", (1000.0,), None),
            ("where(x > 0, log(x), x)", (-2.0,), -2.0),
            ("where(x == 0, 1, sin(x)/x)", (0.0,), 1.0),
            ("(-8)^(1/3)", (), None),
            ("x^3", (-2.0,), -8.0),
            ("x^0", (0.0,), 1.0),
            ("min(log(x), 1)", (-1.0,), None),
            ("hypot(x, y)", (3.0, 4.0), 5.0),
            ("abs(x) + sqrt(y)", (-2.0, 4.0), 4.0),
        ):
            with self.subTest(text=text):
                graph, root = graph_of(text)
                point = (*point, 0.0, 0.0, 0.0)[:3]
                slow, quick = interpret(graph, [root], point, ()).values[0], fast(graph, [root], point)[0]
                if expected is None:
                    self.assertFalse(math.isfinite(slow))
                    self.assertFalse(math.isfinite(quick))
                else:
                    self.assertAlmostEqual(slow, expected, places=14)
                    self.assertEqual(slow, quick)

    def test_trouble_is_located(self):
        graph, root = graph_of("2 + y * log(x - 3)")
        trouble = interpret(graph, [root], (1.0, 1.0, 0.0), ()).troubles[0]
        self.assertEqual((trouble.operation, trouble.arguments), ("log", (-2.0,)))
        self.assertEqual(trouble.origin.text[slice(*trouble.origin.span)], "log(x - 3)")

    def test_parameters_change_without_compiling(self):
        graph = Graph()
        root = graph.apply("mul", graph.apply("exp", graph.parameter(0)), graph.variable(0))
        code = compile_scalar(graph, [root], 1)
        self.assertEqual(code.source.count("exp"), 0)  # what depends on parameters alone is computed before
        for p in (0.0, 1.0):
            fixed = interpret(graph, code.constants, (), (p,)).values
            self.assertEqual(code.bound(fixed)(2.0), (2.0 * math.exp(p),))


def complex_step(text, point, index):
    """Return a derivative by a complex step: no differences, so good to the last digits."""
    space = {
        name: getattr(cmath, name)
        for name in ["sqrt", "exp", "log", "log10", "sin", "cos", "tan", "asin", "acos", "atan", "sinh", "cosh", "tanh"]
    }
    moved = [complex(p, 1e-30 if i == index else 0.0) for i, p in enumerate(point)]
    return eval(text.replace("^", "**"), space, dict(zip(NAMES, moved, strict=True))).imag / 1e-30  # noqa: S307


class Reasons(unittest.TestCase):
    def test_every_reason_is_the_reason(self):
        for text, at, words in (
            ("9^9^9^9 + 0 * x", 1.0, "the power overflows"),
            ("x^0.7", -2.0, "a negative base needs a whole exponent"),
            ("x^(-1.5)", 0.0, "a zero base needs an exponent of at least 0"),
            ("(1e200 * x)^3", 1.0, "the power overflows"),
            ("1 / x", 0.0, "division by zero"),
            ("1e300 / x", 1e-300, "the result overflows"),
            ("log(x)", -1.0, "a logarithm needs a positive argument"),
            ("exp(x)", 1e4, "the exponential overflows"),
            ("asin(x)", 2.0, "the argument must lie in [-1, 1]"),
            ("cosh(x)", 1e4, "the result overflows"),
        ):
            graph, root = graph_of(text)
            trouble = interpret(graph, [root], (at, 0.0, 0.0), ()).troubles[0]
            self.assertEqual((text, trouble.reason), (text, words))
            self.assertEqual(trouble.is_fixed, text.startswith("9^"))

    def test_a_power_of_zero_has_its_second_derivative(self):
        graph, root = graph_of("0^x + x^2")
        slope = gradient(graph, root)[0]
        bend = gradient(graph, slope)[0]
        self.assertEqual(interpret(graph, [bend], (2.0, 0.0, 0.0), ()).values[0], 2.0)


class Derivatives(unittest.TestCase):
    def assert_slopes(self, text, point, expected, tolerance=1e-12):
        graph, root = graph_of(text)
        slopes = gradient(graph, root)
        roots = [slopes.get(i, graph.constant(0.0)) for i in range(3)]
        slow, quick = interpret(graph, roots, point, ()).values, fast(graph, roots, point)
        self.assertEqual(slow, tuple(quick), text)
        for mine, right in zip(slow, expected, strict=True):
            self.assertLessEqual(
                abs(mine - right), tolerance * max(1.0, abs(right)), f"{text} at {point}: {mine} {right}"
            )

    def test_every_operation_against_complex_steps(self):
        rng = random.Random(3)
        parts = ["x", "y", "z", "2.5", "x*y", "(x+z)"]
        unary = ["sqrt", "exp", "log", "log10", "sin", "cos", "tan", "asin", "acos", "atan", "sinh", "cosh", "tanh"]
        texts = [f"{name}({part})" for name in unary for part in ("x", "x*y/2", "0.1 + z*z")]
        texts += [
            "x/y",
            "x/(y*z)",
            "x^3",
            "x^y",
            "x^-2.5",
            "2^x",
            "(x*y)^(z+1)",
            "x*x/(1+x*x)",
            "-x",
            "x-y*z",
            "x^2*y^2",
        ]
        texts += [
            f"{a} * {u}({b} / 4) - {c} / (1 + {a}^2)"
            for a, b, c in itertools.permutations(parts, 3)
            for u in ("exp", "sin")
        ]
        for text in texts:
            point = tuple(rng.uniform(0.2, 0.9) for _ in NAMES)
            self.assert_slopes(text, point, [complex_step(text, point, i) for i in range(3)])

    def test_operations_without_complex_form(self):
        erf_slope = 2 / math.sqrt(math.pi) * math.exp(-0.25)
        for text, point, expected in (
            ("erf(x)", (0.5, 0, 0), (erf_slope, 0, 0)),
            ("atan2(x, y)", (1.0, 2.0, 0), (2 / 5, -1 / 5, 0)),
            ("hypot(x, y)", (3.0, 4.0, 0), (0.6, 0.8, 0)),
            ("abs(x) * y", (-2.0, 3.0, 0), (-3.0, 2.0, 0)),
            ("max(x, y) + 2 * min(x, y)", (1.0, 2.0, 0), (2.0, 1.0, 0)),
            ("where(x > y, x^2, y^3)", (1.0, 2.0, 0), (0.0, 12.0, 0)),
        ):
            with self.subTest(text=text):
                self.assert_slopes(text, point, expected)

    def test_edges_of_domains(self):
        for text, point, expected in (
            ("abs(x)", (0.0, 0, 0), (0.0, 0, 0)),  # the average of both sides
            ("max(x, y)", (1.0, 1.0, 0), (0.5, 0.5, 0)),
            ("x^2", (0.0, 0, 0), (0.0, 0, 0)),
            ("x^y", (0.0, 2.0, 0), (0.0, 0.0, 0)),
            ("x^y", (-2.0, 3.0, 0), (12.0, math.nan, 0)),
            ("sqrt(x)", (0.0, 0, 0), (math.nan, 0, 0)),
            ("where(x > 0, sqrt(x), 3 * x)", (-1.0, 0, 0), (3.0, 0, 0)),
            ("where(x > 0, x * log(x), 0)", (-1.0, 0, 0), (0.0, 0, 0)),
            ("y * where(x > 0, where(x > 1, log(x - 1), sqrt(x)), 1/(x - 2))", (0.25, 2.0, 0), (2.0, 0.5, 0)),
        ):
            with self.subTest(text=text):
                graph, root = graph_of(text)
                slopes = gradient(graph, root)
                roots = [slopes.get(i, graph.constant(0.0)) for i in range(3)]
                found = fast(graph, roots, point)
                for mine, right in zip(found, expected, strict=True):
                    if math.isnan(right):
                        self.assertFalse(math.isfinite(mine))
                    else:
                        self.assertAlmostEqual(mine, right, places=13)

    def test_second_derivatives_of_powers_are_there(self):
        graph, root = graph_of("x^y")
        for place in (0, 1):
            inner = gradient(graph, gradient(graph, root)[place])
            mine = interpret(graph, [inner[place]], (1.7, 2.3, 0.0), ()).values[0]
            x, y = 1.7, 2.3
            self.assertAlmostEqual(mine, (y * (y - 1) * x ** (y - 2), x**y * math.log(x) ** 2)[place], places=12)
