"""Properties that every formula must have, on formulas drawn at random: both evaluators agree to the last bit,
derivatives agree with differences, and what is invalid is invalid in both."""

import math
import random
import unittest

import numpy as np

from ilvren.formula import Graph, compile_scalar, gradient, interpret, lower, parse_formula
from ilvren.formula.array_code import compile_arrays
from ilvren.formula.array_interpreter import interpret_arrays
from tests.compact import tries

NAMES = ("x", "y", "z")
UNARY = ("sqrt", "exp", "log", "sin", "cos", "tan", "atan", "tanh", "erf", "abs", "sinh", "asin")
BINARY = ("+", "-", "*", "/")


def draw(rng, depth):
    """Return the text of a random formula."""
    if depth == 0 or rng.random() < 0.1:
        return rng.choice([*NAMES, *NAMES, f"{rng.uniform(-3, 3):.3f}", "0", "2"])
    kind = rng.random()
    if kind < 0.45:
        return f"({draw(rng, depth - 1)} {rng.choice(BINARY)} {draw(rng, depth - 1)})"
    if kind < 0.7:
        return f"{rng.choice(UNARY)}({draw(rng, depth - 1)})"
    if kind < 0.8:
        return f"({draw(rng, depth - 1)})^{rng.choice(['2', '3', '0.5', '(-1)', 'x', '(y - 1)'])}"
    if kind < 0.9:
        return f"{rng.choice(['min', 'max', 'hypot', 'atan2'])}({draw(rng, depth - 1)}, {draw(rng, depth - 1)})"
    operator = rng.choice(["<=", ">", "<", ">="])
    condition = f"{draw(rng, 1)} {operator} {draw(rng, 1)}"
    if rng.random() < 0.3:
        condition = f"not ({condition}) {rng.choice(['and', 'or'])} x > 0"
    return f"where({condition}, {draw(rng, depth - 1)}, {draw(rng, depth - 1)})"


def build(text):
    graph = Graph()
    root = lower(parse_formula(text), graph, lambda word: graph.variable(NAMES.index(word.name)), entry="f", text=text)
    return graph, root


def compiled(graph, roots):
    """Return the evaluation that the gate uses: compiled code, and the interpreter where that raises."""
    code = compile_scalar(graph, roots, 3)
    function = code.bound(interpret(graph, code.constants, (), ()).values)

    def evaluate(point):
        try:
            return function(*point), True
        except (ArithmeticError, ValueError):
            return interpret(graph, roots, point, ()).values, False

    return evaluate


def points(rng):
    """Return points to try, edges of domains among them."""
    edges = [0.0, 1.0, -1.0, 2.0, 1e-300, 1e200, -1e200]
    some = [tuple(rng.uniform(-2.0, 2.0) for _ in NAMES) for _ in range(6)]
    return some + [tuple(rng.choice(edges) for _ in NAMES) for _ in range(6)]


class RandomFormulas(unittest.TestCase):
    def test_both_evaluators_agree_to_the_last_bit(self):
        rng = random.Random(20)
        ran_fast = 0
        for _ in range(tries(400)):
            text = draw(rng, 5)
            graph, root = build(text)
            slopes = gradient(graph, root)
            roots = [root, *slopes.values()]
            evaluate = compiled(graph, roots)
            for point in points(rng):
                found, was_fast = evaluate(point)
                slow = interpret(graph, roots, point, ()).values
                ran_fast += was_fast
                for mine, reference in zip(found, slow, strict=True):
                    if math.isfinite(reference):
                        self.assertEqual(mine, reference, f"{text} at {point}")
                    else:
                        self.assertFalse(math.isfinite(mine), f"{text} at {point}: {mine}")
        self.assertGreater(ran_fast, tries(2000))  # the comparison means something

    def test_derivatives_agree_with_differences_where_the_formula_is_smooth(self):
        rng = random.Random(21)
        compared = 0
        for _ in range(tries(400)):
            text = draw(rng, 4)
            graph, root = build(text)
            slopes = gradient(graph, root)
            for _ in range(4):
                point = [rng.uniform(-1.5, 1.5) for _ in NAMES]
                here = interpret(graph, [root, *slopes.values()], point, ())
                if not all(map(math.isfinite, here.values)) or abs(here.values[0]) > 1e4:
                    continue
                for place, index in enumerate(slopes, start=1):
                    expected = difference(graph, root, point, index, here)
                    if expected is None:
                        continue
                    value, error = expected
                    compared += 1
                    self.assertLessEqual(
                        abs(here.values[place] - value), 20 * error + 1e-6 * max(1.0, abs(value)), f"{text} at {point}"
                    )
        self.assertGreater(compared, tries(1000))

    def test_a_variable_that_is_left_out_has_no_influence(self):
        rng = random.Random(22)
        for _ in range(tries(200)):
            graph, root = build(draw(rng, 4))
            slopes, used = gradient(graph, root), graph.variables_of([root])
            self.assertLessEqual(set(slopes), used)

    def test_each_node_is_computed_once(self):
        for text in ("sin(x*y) + exp(sin(x*y)) * sin(x*y)", "(x + y)^2 / (x + y) + sqrt(x + y)"):
            graph, root = build(text)
            source = compile_scalar(graph, [root, *gradient(graph, root).values()], 3).source
            self.assertEqual(source.count("sin("), "sin" in text, source)
            self.assertEqual(source.count("(x0 + x1)"), "x + y" in text, source)


def difference(graph, root, point, index, here):
    """Return (derivative, error) by Richardson extrapolation, or None near a branch or where it does not settle."""
    found = []
    for step in (2e-4, 1e-4, 5e-5):
        ends = []
        for sign in (1.0, -1.0):
            moved = list(point)
            moved[index] += sign * step
            there = interpret(graph, [root], moved, ())
            if not math.isfinite(there.values[0]) or branches(there) != branches(here, only=there):
                return None
            ends.append(there.values[0])
        found.append((ends[0] - ends[1]) / (2.0 * step))
    coarse, fine = (4 * found[1] - found[0]) / 3, (4 * found[2] - found[1]) / 3
    if abs(coarse - fine) > 1e-4 * max(1.0, abs(fine)):
        return None
    return fine, abs(coarse - fine)


def branches(seen, only=None):
    """Return on which side of each branch an evaluation was."""
    nodes = None if only is None else {kink.node for kink in only.kinks}
    return {kink.node: kink.gap > 0.0 for kink in seen.kinks if nodes is None or kink.node in nodes}


class BothForms(unittest.TestCase):
    def test_floats_and_batches_agree_on_values_derivatives_and_validity(self):
        """The same graph as plain Python, point by point, and as NumPy, all points in one batch."""
        rng = random.Random(3)
        for _ in range(tries(150)):
            text = draw(rng, 5)
            graph, root = build(text)
            roots = [root, *gradient(graph, root).values()]
            evaluate = compiled(graph, roots)
            code = compile_arrays(graph, roots, ("variable",))
            together = code.bound((), [interpret_arrays(graph, [constant]).values[0] for constant in code.constants])
            places = points(rng)
            columns = [np.array([place[axis] for place in places]) for axis in range(3)]
            found, is_doubtful = together(columns)
            if is_doubtful:
                found = interpret_arrays(graph, roots, columns, (), batch=("variable",)).values
            for number, place in enumerate(places):
                for alone, many in zip(evaluate(place)[0], found, strict=True):
                    here = float(np.broadcast_to(many, (len(places),))[number])
                    self.assertEqual(math.isfinite(alone), math.isfinite(here), f"{text} at {place}: {alone}, {here}")
                    if math.isfinite(alone):
                        self.assertTrue(math.isclose(alone, here, rel_tol=1e-9, abs_tol=1e-12), f"{text} at {place}")
