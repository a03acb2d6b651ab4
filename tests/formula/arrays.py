"""Building formulas on arrays for tests, and evaluating them and their derivatives in every compiled form."""

import numpy as np

from ilvren.formula import Graph, lower, parse_formula, weighted_gradient
from ilvren.formula.array_code import compile_arrays
from ilvren.formula.array_interpreter import interpret_arrays
from ilvren.formula.forward import tangents

SHAPES = {"x": (), "u": (5,), "v": (5,), "a": (3, 5), "b": (5, 3)}
NAMES = tuple(SHAPES)
OFFSETS = dict(enumerate([0, 1, 6, 11, 26]))
SIZE = 41


class Formula:
    """A formula of x (a number), u, v (length 5), a (3 by 5) and b (5 by 3), in every form."""

    def __init__(self, text):
        self.text = text
        self.graph = Graph()
        self.root = lower(parse_formula(text), self.graph, self._resolve, entry="f", text=text)
        self.shape = self.graph.shape(self.root)
        weight = self.graph.input("weight", 0, self.shape)
        self.slopes = weighted_gradient(self.graph, {self.root: weight})
        moves = {index: self.graph.input("tangent", index, SHAPES[name]) for index, name in enumerate(NAMES)}
        (self.moved,) = tangents(self.graph, [self.root], moves)
        self.bends = tangents(self.graph, list(self.slopes.values()), moves)
        self._functions = {}

    def _resolve(self, word):
        return self.graph.variable(NAMES.index(word.name), SHAPES[word.name])

    def run(self, roots, point, weights=(), directions=(), batch=()):
        """Return the roots' values by compiled code, falling back to the walk as the gate does."""
        roots = list(roots)
        key = (tuple(roots), tuple(batch))
        if key not in self._functions:
            code = compile_arrays(self.graph, roots, batch)
            constants = [interpret_arrays(self.graph, [constant]).values[0] for constant in code.constants]
            self._functions[key] = code.bound((), constants)
        found, is_doubtful = self._functions[key](point, weights, directions)
        if is_doubtful:
            return list(self.interpret(roots, point, weights, directions, batch).values)
        return found

    def interpret(self, roots, point, weights=(), directions=(), batch=()):
        return interpret_arrays(self.graph, list(roots), point, (), weights, directions, batch=batch)

    def value(self, point):
        return np.asarray(self.run([self.root], point)[0], dtype=float)

    def jacobian(self, point, step=1e-6):
        """Return the Jacobian (size, 41) by central differences."""
        columns = []
        for index, name in enumerate(NAMES):
            for place in range(int(np.prod(SHAPES[name]))):
                sides = []
                for sign in (1, -1):
                    moved = [np.array(part, dtype=float) for part in point]
                    moved[index].reshape(-1)[place] += sign * step
                    sides.append(self.value([part[()] if part.ndim == 0 else part for part in moved]))
                columns.append(np.ravel(sides[0] - sides[1]) / (2 * step))
        return np.array(columns).T

    def gradient(self, point, weights):
        """Return the weighted gradient (41,) in reverse."""
        result = np.zeros(SIZE)
        for index, value in zip(self.slopes, self.run(self.slopes.values(), point, [weights]), strict=True):
            assert np.shape(value) == SHAPES[NAMES[index]], f"{self.text}: slope by {NAMES[index]}"
            result[OFFSETS[index] : OFFSETS[index] + np.size(value)] = np.ravel(value)
        return result


def some_point(rng, *, positive=False):
    """Return values of x, u, v, a, b away from kinks and edges."""
    point = [rng.normal(size=shape) for shape in SHAPES.values()]
    return [np.abs(part) + 0.1 if positive else part for part in point]
