"""Formulas on arrays: every function in every compiled form against NumPy, differences and each other; edges of
domains; patterns that miss nothing; refusals that name both shapes."""

import math
import unittest

import numpy as np
from hypothesis import given, settings, strategies as st
from scipy.special import erf

from ilvren.errors import FormulaError
from ilvren.formula.parser import FUNCTIONS
from ilvren.formula.sparsity import depends_on, patterns
from tests.compact import tries
from tests.formula.arrays import NAMES, OFFSETS, SHAPES, SIZE, Formula, some_point

# Formula → the same in NumPy.
MEANINGS = {
    "sum(u * v) + x": lambda x, u, v, a, b: (u * v).sum() + x,
    "sum(a, 0) - u": lambda x, u, v, a, b: a.sum(axis=0) - u,
    "prod(u) + sum(prod(a, 1))": lambda x, u, v, a, b: u.prod() + a.prod(axis=1).sum(),
    "mean(a, axis = -1)": lambda x, u, v, a, b: a.mean(axis=1),
    "max(u) - min(a)": lambda x, u, v, a, b: u.max() - a.min(),
    "max(a, axis = 1)": lambda x, u, v, a, b: a.max(axis=1),
    "min(u, v, x)": lambda x, u, v, a, b: np.minimum(np.minimum(u, v), x),
    "norm(u - x) * norm(a, 0)": lambda x, u, v, a, b: np.linalg.norm(u - x) * np.linalg.norm(a, axis=0),
    "dot(u, v) + dot(a, u)": lambda x, u, v, a, b: u @ v + a @ u,
    "dot(u, b) + dot(a, b)[1]": lambda x, u, v, a, b: u @ b + (a @ b)[1],
    "dot(transpose(b), transpose(a))": lambda x, u, v, a, b: b.T @ a.T,
    "diff(u) * diff(a, 1)[0]": lambda x, u, v, a, b: np.diff(u) * np.diff(a, axis=1)[0],
    "cumsum(u)^2 + cumsum(a, axis = 1)[2]": lambda x, u, v, a, b: np.cumsum(u) ** 2 + np.cumsum(a, axis=1)[2],
    "join(u[1:], x, v[::-1])": lambda x, u, v, a, b: np.concatenate([u[1:], [x], v[::-1]]),
    "a[1:, :-1] * a[:-1, 1:]": lambda x, u, v, a, b: a[1:, :-1] * a[:-1, 1:],
    "a[-1, 2] + b[0] * x": lambda x, u, v, a, b: a[-1, 2] + b[0] * x,
    "u[4:0:-2]": lambda x, u, v, a, b: u[4:0:-2],
    "evenly(x, u[0], 4)": lambda x, u, v, a, b: np.linspace(x, u[0], 4),
    "interp(u, evenly(-2, 2, 9), evenly(0, 1, 9)^2)": lambda x, u, v, a, b: np.interp(
        u, np.linspace(-2, 2, 9), np.linspace(0, 1, 9) ** 2
    ),
    "interp(x, evenly(-2, 2, 5), v)": lambda x, u, v, a, b: np.interp(x, np.linspace(-2, 2, 5), v),
    "lookup(0 * x + 2, join(1, 2, 3), join(x, u[0], 7))": lambda x, u, v, a, b: u[0],
    "where(u > x and not (u > 1), u^2, v * u)": lambda x, u, v, a, b: np.where((u > x) & ~(u > 1), u**2, v * u),
    "where(u > 0, log(u), u^2)": lambda x, u, v, a, b: np.where(u > 0, np.log(np.abs(u)), u**2),
    "sum(where(a > x, sqrt(a - x), 0))": lambda x, u, v, a, b: np.sqrt(np.maximum(a - x, 0)).sum(),
    "hypot(u, v) + atan2(u, v)": lambda x, u, v, a, b: np.hypot(u, v) + np.arctan2(u, v),
    "abs(a) + exp(-a^2 / 2) * x": lambda x, u, v, a, b: np.abs(a) + np.exp(-(a**2) / 2) * x,
    "sin(u) + cos(v) + tan(u / 4) + tanh(v)": lambda x, u, v, a, b: np.sin(u) + np.cos(v) + np.tan(u / 4) + np.tanh(v),
    "sinh(u) - cosh(v) + erf(u) + atan(v)": lambda x, u, v, a, b: np.sinh(u) - np.cosh(v) + erf(u) + np.arctan(v),
    "asin(u / 9) + acos(v / 9)": lambda x, u, v, a, b: np.arcsin(u / 9) + np.arccos(v / 9),
    "log10(u^2 + 1) / (v^2 + 1)": lambda x, u, v, a, b: np.log10(u**2 + 1) / (v**2 + 1),
    "transpose(a) * x - 2^b": lambda x, u, v, a, b: a.T * x - 2.0**b,
}


class EveryFunction(unittest.TestCase):
    def test_all_functions_of_the_language_are_tried(self):
        text = " ".join(MEANINGS)
        for name in FUNCTIONS:
            self.assertIn(f"{name}(", text)

    def test_values_derivatives_batches_and_patterns(self):
        """Compiled values are NumPy's; reverse, forward and second derivatives are those of differences; a batch gives
        what its members give alone; a pattern holds every non-zero."""
        rng = np.random.default_rng(4)
        for text, meaning in MEANINGS.items():
            with self.subTest(formula=text):
                formula = Formula(text)
                point = some_point(rng)
                expected = np.asarray(meaning(*point))
                self.assertEqual(formula.shape, expected.shape)
                np.testing.assert_allclose(formula.value(point), expected, rtol=1e-13, atol=1e-13)
                np.testing.assert_allclose(
                    formula.interpret([formula.root], point).values[0], expected, rtol=1e-13, atol=1e-13
                )
                self.check_first_derivatives(formula, point, rng)
                self.check_second_derivatives(formula, point, rng)
                self.check_batch(formula, point, rng)

    def check_first_derivatives(self, formula, point, rng):
        jacobian = formula.jacobian(point)
        weights = rng.normal(size=formula.shape)
        expected = np.ravel(weights) @ jacobian
        np.testing.assert_allclose(formula.gradient(point, weights), expected, rtol=1e-6, atol=1e-7)
        (pattern,) = patterns(formula.graph, [formula.root], OFFSETS, SIZE)
        self.assertFalse((np.abs(jacobian) > 1e-8)[pattern.toarray() == 0].any(), "a non-zero outside the pattern")
        directions = [rng.normal(size=(3, *shape)) for shape in SHAPES.values()]
        flat = np.concatenate([part.reshape(3, -1) for part in directions], axis=1)
        (moved,) = formula.run([formula.moved], point, (), directions, ("tangent",))
        expected = flat @ jacobian.T
        np.testing.assert_allclose(np.reshape(moved, (3, -1)), expected, rtol=1e-6, atol=1e-6)

    def check_second_derivatives(self, formula, point, rng):
        weights, step = rng.normal(size=formula.shape), 1e-6
        direction = [rng.normal(size=shape) for shape in SHAPES.values()]
        ahead, behind = (
            formula.gradient([p + s * step * d for p, d in zip(point, direction, strict=True)], weights)
            for s in (1, -1)
        )
        expected = (ahead - behind) / (2 * step)
        kept = [(index, node) for index, node in zip(formula.slopes, formula.bends, strict=True) if node is not None]
        found = np.zeros(SIZE)
        for (index, _), value in zip(
            kept, formula.run([node for _, node in kept], point, [weights], direction), strict=True
        ):
            found[OFFSETS[index] : OFFSETS[index] + np.size(value)] = np.ravel(value)
        np.testing.assert_allclose(found, expected, rtol=1e-5, atol=1e-5)

    def check_batch(self, formula, point, rng):
        points = [np.stack([part, part + 0.1, part - 0.2]) for part in point]
        weights = rng.normal(size=formula.shape)
        roots = [formula.root, *formula.slopes.values()]
        together = formula.run(roots, points, [weights], (), ("variable",))
        for member in range(3):
            alone = formula.run(roots, [part[member] for part in points], [weights])
            for many, one in zip(together, alone, strict=True):
                own = many[member] if np.ndim(many) > np.ndim(one) else many
                np.testing.assert_allclose(own, one, rtol=1e-12, atol=1e-12)


NAN = math.nan
# Formula of u → (u, value, derivative) at the edges of its domain; NaN: invalid, and nothing but the element.
EDGES = {
    "abs(u)": [(0.0, 0.0, 0.0), (-2.0, 2.0, -1.0)],
    "max(u, 1)": [(1.0, 1.0, 0.5), (2.0, 2.0, 1.0), (0.0, 1.0, 0.0)],
    "min(u, 2 * u)": [(0.0, 0.0, 1.5)],
    "max(u, u)": [(3.0, 3.0, 1.0)],
    "u^2": [(0.0, 0.0, 0.0), (-3.0, 9.0, -6.0)],
    "u^3": [(-2.0, -8.0, 12.0), (0.0, 0.0, 0.0)],
    "u^0": [(0.0, 1.0, 0.0)],
    "u^1.5": [(0.0, 0.0, 0.0), (-1.0, NAN, NAN)],
    "u^(-1)": [(0.0, NAN, NAN), (-2.0, -0.5, -0.25)],
    "sqrt(u)": [(0.0, 0.0, NAN), (-1.0, NAN, NAN), (4.0, 2.0, 0.25)],
    "log(u)": [(0.0, NAN, NAN), (-1.0, NAN, NAN)],
    "hypot(u, 0)": [(0.0, 0.0, 0.0), (-2.0, 2.0, -1.0)],
    "where(u > 0, sqrt(u), 0)": [(0.0, 0.0, 0.0), (-1.0, 0.0, 0.0), (4.0, 2.0, 0.25)],
    "where(u != 0, sin(u) / u, 1)": [(0.0, 1.0, 0.0)],
    "1 / exp(u)": [(800.0, NAN, NAN), (0.0, 1.0, -1.0)],
    "atan(1 / u)": [(0.0, NAN, NAN)],
    "min(exp(u), 5)": [(800.0, NAN, NAN), (5.0, 5.0, 0.0)],
    "interp(u, evenly(0, 2, 3), evenly(0, 2, 3)^2)": [
        (1.0, 1.0, 2.0),
        (0.5, 0.5, 1.0),
        (9.0, 4.0, 0.0),
        (0.0, 0.0, 0.5),
    ],
    "lookup(u, join(1, 2), join(10, 30))": [(2.0, 30.0, 0.0), (2.0 + 1e-10, 30.0, 0.0), (1.5, NAN, NAN)],
    "asin(u)": [(1.0, math.pi / 2, NAN), (2.0, NAN, NAN)],
}


class Edges(unittest.TestCase):
    def test_every_form_agrees_at_the_edges_and_spoils_no_neighbour(self):
        for text, cases in EDGES.items():
            for at, value, slope in cases:
                with self.subTest(formula=text, at=at):
                    formula = Formula(text)
                    u = np.array([at, 0.7, at, 0.9, 1.1])
                    point = [np.float64(0.3), u, np.ones(5), np.ones((3, 5)), np.ones((5, 3))]
                    clean = Formula(text).value([*point[:1], np.array([0.7, 0.7, 0.7, 0.9, 1.1]), *point[2:]])
                    for values in (formula.value(point), formula.interpret([formula.root], point).values[0]):
                        self.same(values[[0, 2]], [value, value])
                        if "lookup" not in text:
                            np.testing.assert_allclose(values[[1, 3, 4]], clean[[1, 3, 4]], rtol=1e-15)
                    many = formula.run([formula.root], [np.stack([part] * 2) for part in point], batch=("variable",))[0]
                    self.same(np.broadcast_to(many, (2, 5))[1][[0, 2]], [value, value])
                    if formula.slopes:
                        found = formula.run(formula.slopes.values(), point, [np.ones(5)])[0]
                        if value == value:  # where the value is invalid, nobody asks for its slope
                            self.same(found[[0, 2]], [slope, slope])
                    elif not math.isnan(slope):
                        self.assertEqual(slope, 0.0)
                    moves = [np.zeros(shape) for shape in SHAPES.values()]
                    moves[1] = np.ones(5)
                    if formula.moved is not None and value == value:
                        found = formula.run([formula.moved], point, (), moves)[0]
                        self.same(np.broadcast_to(found, 5)[[0, 2]], [slope, slope])

    def same(self, found, expected):
        for mine, wanted in zip(found, expected, strict=True):
            if math.isnan(wanted):
                self.assertFalse(math.isfinite(mine), f"{mine} where nothing finite exists")
            else:
                self.assertAlmostEqual(mine, wanted, places=9)

    def test_an_unchosen_branch_never_reaches_a_derivative(self):
        """The guard and what it guards have different shapes: a running sum, a matrix product."""
        for text in (
            "sum(where(cumsum(u) > 0, sqrt(cumsum(u)), 0))",
            "sum(where(dot(a, u) > 0, log(dot(a, u)), dot(a, u)))",
            "where(x > 9, sum(log(u)), sum(u))",
        ):
            formula = Formula(text)
            u = np.array([-1.0, 0.5, 1.5, 0.0, -3.0])
            point = [np.float64(0.2), u, np.ones(5), np.ones((3, 5)), np.ones((5, 3))]
            found = formula.gradient(point, np.float64(1.0))
            self.assertTrue(np.isfinite(found).all(), text)
            np.testing.assert_allclose(found, np.ravel(formula.jacobian(point)), atol=1e-6)


leaf = st.sampled_from(
    ["u", "v", "x", "u[::-1]", "a[0]", "b[:, 1]", "0.5", "2", "cumsum(v)", "dot(a, u)[0]", "sum(b, 1)"]
)


def grown(inner):
    return st.one_of(
        st.tuples(inner, st.sampled_from("+-*/"), inner).map(lambda t: f"({t[0]} {t[1]} {t[2]})"),
        st.tuples(st.sampled_from(["sin", "exp", "sqrt", "log", "tanh", "abs"]), inner).map(
            lambda t: f"{t[0]}({t[1]})"
        ),
        st.tuples(st.sampled_from(["min", "max", "hypot"]), inner, inner).map(lambda t: f"{t[0]}({t[1]}, {t[2]})"),
        st.tuples(inner, inner, inner).map(lambda t: f"where({t[0]} > {t[1]}, {t[2]}, {t[1]})"),
        inner.map(lambda t: f"({t})^2"),
        inner.map(lambda t: f"(sum({t}) + u)"),
    )


class RandomArrays(unittest.TestCase):
    @settings(max_examples=tries(120), deadline=None, derandomize=True)
    @given(st.recursive(leaf, grown, max_leaves=7), st.integers(0, 10_000))
    def test_compiled_and_walked_values_and_slopes_agree(self, text, seed):
        formula = Formula(text)
        rng = np.random.default_rng(seed)
        point = [np.round(part, 1) for part in some_point(rng)]
        weights = np.ones(formula.shape)
        roots = [formula.root, *formula.slopes.values()]
        for fast, slow in zip(
            formula.run(roots, point, [weights]), formula.interpret(roots, point, [weights]).values, strict=True
        ):
            fast, slow = np.broadcast_arrays(np.asarray(fast, dtype=float), slow)
            valid = np.isfinite(slow)
            np.testing.assert_allclose(fast[valid], slow[valid], rtol=1e-10, atol=1e-12)
            self.assertFalse(np.isfinite(fast[~valid]).any(), f"{text}: finite where the walk finds it invalid")


class Dependence(unittest.TestCase):
    def test_marks_go_back_to_the_elements_used(self):
        formula = Formula("u[1:3] + sum(a[0]) * 0 + v[0]")
        found = depends_on(formula.graph, {formula.root: np.array([True, False])})
        masks = {
            formula.graph.nodes[n].index: m for n, m in found.items() if formula.graph.nodes[n].operation == "variable"
        }
        self.assertEqual(masks[NAMES.index("u")].tolist(), [False, True, False, False, False])
        self.assertEqual(masks[NAMES.index("a")].sum(), 5)
        self.assertEqual(masks[NAMES.index("v")].tolist(), [True, False, False, False, False])


REFUSED = {
    "u + dot(a, v)": ("u + dot(a, v)", "length 5 and length 3"),
    "u * a": ("u * a", "length 5 and 3 by 5"),
    "dot(b, u)": ("dot(b, u)", "5 by 3 and length 5"),
    "u[5]": ("5", "out of range"),
    "u[1:6]": ("6", "out of range"),
    "x[0]": ("x[0]", "no elements"),
    "u[0, 1]": ("u[0, 1]", "too many indices"),
    "u[0.5]": ("0.5", "whole number"),
    "u[x]": ("x", "whole number"),
    "sum(a, 2)": ("2", "no such axis"),
    "cumsum(a)": ("cumsum(a)", "needs an axis"),
    "diff(x)": ("diff(x)", "needs a vector"),
    "join(u, a)": ("a", "do not fit for join"),
    "evenly(0, 1, x)": ("x", "whole number"),
    "interp(x, u, v)": ("u", "may not depend on a variable"),
    "interp(x, evenly(0, 1, 3), v)": ("interp(x, evenly(0, 1, 3), v)", "length 3 and length 5"),
    "max(u[2:2])": ("max(u[2:2])", "no element"),
    "sum(u, axis = 0, 1)": (",", None),
    "sin(u, axis = 0)": ("axis", "has no axis"),
}


class Shapes(unittest.TestCase):
    def test_refusals_underline_the_sub_expression(self):
        for text, (piece, words) in REFUSED.items():
            with self.subTest(formula=text), self.assertRaises(FormulaError) as caught:
                Formula(text)
            error = caught.exception
            self.assertEqual(text[slice(*error.span)], piece)
            if words:
                self.assertIn(words, error.message)
