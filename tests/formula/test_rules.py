"""Every operation of the graph has every rule, and each is right on operands drawn at random: what depends on what,
derivatives both ways, intervals, batches, and the same written out element by element."""

import itertools
import unittest

import numpy as np

from ilvren.formula import Graph, shaping, weighted_gradient
from ilvren.formula.array_code import compile_arrays
from ilvren.formula.array_interpreter import interpret_arrays
from ilvren.formula.forward import tangents
from ilvren.formula.intervals import Intervals
from ilvren.formula.levels import level
from ilvren.formula.places import PLACES
from ilvren.formula.rules import MODEL_NODES, RULES
from ilvren.formula.sparsity import depends_on, patterns
from ilvren.formula.unroll import unrolled
from ilvren.problem import loads
from ilvren.runs import run

XS = np.array([-2.0, -0.5, 0.3, 2.5])
KEYS = np.array([9.0, 7.0, 20.0])
UNARY = "neg square abs sqrt exp log log10 sin cos tan asin acos atan sinh cosh tanh erf sign not"
BINARY = (
    "add sub mul div pow min max atan2 hypot heaviside pow_slope pow_log unit mul_live div_live <= < >= > == != and or"
)
TRUTHS = ("and", "or", "not")


def cases():
    """Yield (operation, shapes of the operands, builder of the node from its operands' nodes, values to draw from)."""
    for name in UNARY.split():
        yield name, [(3,)], None, (0.1, 0.9)
    for name, shapes in itertools.product(BINARY.split(), ([(2, 3), (2, 3)], [(3,), ()], [(2, 1), (1, 3)])):
        yield name, shapes, None, (0.1, 0.9)
    yield "where", [(3,), (3,), ()], None, (-1.0, 1.0)

    def node(operation, shape, *detail):
        return lambda graph, operands: graph.arrange(operation, operands, shape, detail or None)

    yield "index", [(3, 4)], lambda g, o: shaping.index(g, o[0], (1, (3, -1, -2))), (-1, 1)
    yield "scatter", [(2,)], lambda g, o: shaping.scatter(g, o[0], (1, (0, 4, 2)), (3, 4)), (-1, 1)
    for shape in ((3,), (3, 2)):
        yield "take", [shape], lambda g, o: shaping.take(g, o[0], (2, 0, 0, 1)), (-1, 1)
        yield "give_back", [shape], lambda g, o: shaping.give_back(g, o[0], (3, 0, 3), 5), (-1, 1)
    yield "sum", [(2, 3)], lambda g, o: shaping.total(g, o[0], 0), (-1, 1)
    yield "sum", [(2, 3)], lambda g, o: shaping.total(g, o[0]), (-1, 1)
    yield "expand", [(3,)], lambda g, o: shaping.expand(g, o[0], 0, (2, 3)), (-1, 1)
    yield "broadcast", [(2, 1)], lambda g, o: g.stretched(o[0], (2, 3)), (-1, 1)
    yield "shrink", [(2, 3)], lambda g, o: shaping.shrink(g, o[0], (2, 1)), (-1, 1)
    yield "reshape", [(2, 3)], lambda g, o: shaping.reshaped(g, o[0], (3, 2)), (-1, 1)
    yield "transpose", [(2, 3)], lambda g, o: shaping.transpose(g, o[0]), (-1, 1)
    yield "join", [(2,), (), (3,)], lambda g, o: shaping.join(g, o), (-1, 1)
    yield "join", [(1, 2), (2, 2)], lambda g, o: shaping.join(g, o), (-1, 1)
    yield "cumsum", [(2, 3)], lambda g, o: shaping.cumsum(g, o[0], 1), (-1, 1)
    yield "cumsum", [(4,)], lambda g, o: shaping.cumsum(g, o[0], 0), (-1, 1)
    for a, b in (((3,), (3,)), ((2, 3), (3,)), ((2,), (2, 3)), ((2, 3), (3, 2))):
        yield "dot", [a, b], lambda g, o: shaping.dot(g, *o), (-1, 1)
    yield "norm", [(2, 3)], lambda g, o: shaping.norm(g, o[0], 1), (-1, 1)
    yield "norm", [(3,)], lambda g, o: shaping.norm(g, o[0], None), (-1, 1)
    for share in (0.3, 0.9, 1.0):
        yield "level", [(5,), ()], lambda g, o, share=share: level(g, *o, share), (0.1, 0.9)
        yield "level", [(4, 2), (2,)], lambda g, o, share=share: level(g, *o, share), (0.1, 0.9)
    for shape in ((), (2,)):
        yield "interp", [shape, XS, (4,)], node("interp", shape, len(shape)), (-2.4, 2.4)
        yield "interp_slope", [shape, XS, (4,)], node("interp_slope", shape, len(shape)), (-2.4, 2.4)
        yield "interp_vjp", [shape, shape, XS], node("interp_vjp", (4,), len(shape)), (-2.4, 2.4)
        yield "interp_slope_vjp", [shape, shape, XS], node("interp_slope_vjp", (4,), len(shape)), (-2.4, 2.4)
        yield "lookup", [shape, KEYS, (3,)], node("lookup", shape, len(shape)), KEYS
        yield "lookup_vjp", [shape, shape, KEYS], node("lookup_vjp", (3,), len(shape)), KEYS


class Case:
    def __init__(self, operation, shapes, build, values, rng):
        self.rng, self.values, self.operation = rng, values, operation
        graph = self.graph = Graph()
        self.fixed = {k: part for k, part in enumerate(shapes) if isinstance(part, np.ndarray)}
        self.shapes = [np.shape(part) if k in self.fixed else part for k, part in enumerate(shapes)]
        self.operands = tuple(
            shaping.join(graph, tuple(graph.constant(v) for v in self.fixed[k]))
            if k in self.fixed
            else graph.variable(k, shape)
            for k, shape in enumerate(self.shapes)
        )
        inputs = self.operands
        if operation in TRUTHS or operation == "where":
            count = 1 if operation == "where" else len(inputs)
            half = graph.constant(0.5)
            inputs = tuple(graph.apply(">", o, half) if k < count else o for k, o in enumerate(inputs))
        self.root = build(graph, inputs) if build else graph.apply(operation, *inputs)
        self.shape = graph.shape(self.root)
        self.moving = [k for k in range(len(shapes)) if k not in self.fixed]
        sizes = [int(np.prod(self.shapes[k])) for k in self.moving]
        starts = np.cumsum([0, *sizes])
        self.offsets = {k: int(start) for k, start in zip(self.moving, starts, strict=False)}
        self.size = int(starts[-1])

    def draw(self):
        return [self.fixed.get(k, self.drawn(k)) for k in range(len(self.shapes))]

    def drawn(self, k):
        if isinstance(self.values, np.ndarray) and k == (0 if self.operation == "lookup" else 1):
            return self.rng.choice(self.values, size=self.shapes[k])
        if self.operation == "unit" and k == 1:
            return self.rng.uniform(0.9, 1.6, size=self.shapes[k])  # the length of what has the first as a component
        low, high = (-1.0, 1.0) if isinstance(self.values, np.ndarray) else self.values
        return self.rng.uniform(low, high, size=self.shapes[k])

    def value(self, point, roots=None, weights=(), directions=()):
        roots = [self.root] if roots is None else roots
        return [np.asarray(v) for v in interpret_arrays(self.graph, roots, point, (), weights, directions).values]

    def changed(self, point, step=None):
        """Return by how much elements (size of the result, size of the operands) change with each operand element, by a
        step or drawn anew."""
        here = self.value(point)[0].ravel()
        found = np.zeros((here.size, self.size))
        for k in self.moving:
            for place in range(int(np.prod(self.shapes[k]))):
                moved = [np.array(part, dtype=float) for part in point]
                flat = moved[k].reshape(-1)
                flat[place] = self.drawn(k).reshape(-1)[0] if step is None else flat[place] + step
                there = self.value(moved)[0].ravel()
                found[:, self.offsets[k] + place] = np.where(np.isfinite(here) & np.isfinite(there), there - here, 0.0)
        return found


class EveryOperation(unittest.TestCase):
    def test_every_operation_is_tried(self):
        self.assertEqual(
            {case[0] for case in cases()} | {"ramp", *PLACES, *MODEL_NODES}, set(RULES)
        )  # places: test_places

    def each(self, times=3):
        rng = np.random.default_rng(8)
        for operation, shapes, build, values in cases():
            for _ in range(times):
                yield Case(operation, shapes, build, values, rng)

    def test_what_depends_on_what_is_what_changes(self):
        for case in self.each():
            with self.subTest(operation=case.operation, shapes=case.shapes):
                point, step = case.draw(), 1e-5
                is_slope = np.abs(case.changed(point, step)) > 1e-9 * step
                (pattern,) = patterns(case.graph, [case.root], case.offsets, case.size)
                self.assertFalse((is_slope & (pattern.toarray() == 0)).any(), "a derivative outside the pattern")
                jumps = case.changed(point) != 0.0
                for row in range(len(jumps)):
                    mark = np.zeros(case.shape, dtype=bool)
                    mark.reshape(-1)[row] = True
                    used = depends_on(case.graph, {case.root: mark})
                    for k in case.moving:
                        own = slice(case.offsets[k], case.offsets[k] + int(np.prod(case.shapes[k])))
                        mine = used.get(case.operands[k], np.zeros(case.shapes[k], dtype=bool)).ravel()
                        self.assertFalse((jumps[row, own] & ~mine).any(), f"operand {k} is used, and not marked")

    def test_derivatives_both_ways(self):
        for case in self.each():
            with self.subTest(operation=case.operation, shapes=case.shapes):
                point, step = case.draw(), 1e-6
                jacobian = case.changed(point, step) / step
                if np.abs(jacobian).max(initial=0.0) > 1e3:
                    continue  # a jump lies within the step
                graph, weight = case.graph, case.graph.input("weight", 0, case.shape)
                weights, moves = case.rng.normal(size=case.shape), {}
                for k in case.moving:
                    moves[k] = graph.input("tangent", k, case.shapes[k])
                directions = [case.rng.normal(size=shape) for shape in case.shapes]
                flat = np.concatenate([np.ravel(directions[k]) for k in case.moving])
                (moved,) = tangents(graph, [case.root], moves)
                found = np.zeros(case.shape) if moved is None else case.value(point, [moved], (), directions)[0]
                np.testing.assert_allclose(np.ravel(found), jacobian @ flat, rtol=1e-4, atol=1e-4)
                try:
                    slopes = weighted_gradient(graph, {case.root: weight})
                except AssertionError:
                    self.assertIn("vjp" if "vjp" in case.operation else "slope", case.operation)
                    continue  # derivatives of these are taken forward only
                back = np.zeros(case.size)
                for k, node in slopes.items():
                    own = case.value(point, [node], [weights])[0]
                    back[case.offsets[k] : case.offsets[k] + own.size] = own.ravel()
                np.testing.assert_allclose(back, np.ravel(weights) @ jacobian, rtol=1e-4, atol=1e-4)

    def test_intervals_hold_every_value_and_batches_what_members_give(self):
        for case in self.each():
            with self.subTest(operation=case.operation, shapes=case.shapes):
                one, other = case.draw(), case.draw()
                boxes = {k: (np.minimum(one[k], other[k]), np.maximum(one[k], other[k])) for k in case.moving}
                low, high = Intervals(case.graph, [case.root], boxes, ()).boxes[case.root]
                code = compile_arrays(case.graph, [case.root], ("variable",))
                constants = [interpret_arrays(case.graph, [constant]).values[0] for constant in code.constants]
                points = []
                for _ in range(8):
                    share = case.rng.random()
                    points.append(
                        [one[k] if k in case.fixed else one[k] + share * (other[k] - one[k]) for k in range(len(one))]
                    )
                together = code.bound((), constants)([np.stack(part) for part in zip(*points, strict=True)])[0][0]
                for point, row in zip(points, together, strict=True):
                    value = case.value(point)[0]
                    valid = np.isfinite(value)
                    self.assertTrue(((low <= value) & (value <= high))[valid].all(), "a value outside its interval")
                    np.testing.assert_allclose(row, value, rtol=1e-13)

    def test_written_out_it_is_the_same(self):
        for case in self.each(times=1):
            with self.subTest(operation=case.operation, shapes=case.shapes):
                if RULES[case.operation].written == "not":
                    continue
                starts = [case.offsets.get(k, 0) for k in range(len(case.shapes))]
                graph, (numbers,) = unrolled(case.graph, [case.root], (), starts, 10_000)
                point = case.draw()
                flat = np.concatenate([np.ravel(point[k]) for k in case.moving]).tolist()
                found = interpret_arrays(graph, np.ravel(numbers).tolist(), flat, ()).values
                np.testing.assert_allclose(np.ravel(found), np.ravel(case.value(point)[0]), rtol=1e-13)


class Lookups(unittest.TestCase):
    HEAD = "[parameters]\nkeys = [7, 9, 20]\nwant = [20, 7, 9]\n[variables]\nu = { start = 1.0, lower = 0, upper = 9, shape = 3 }\n"

    def test_results_that_vary_are_used_where_the_keys_say(self):
        problem = loads(self.HEAD + '[minimize]\nf = "(lookup(want, keys, u)[0] - 5)^2 + 1"\n')
        result = run(problem)
        self.assertAlmostEqual(result.point[2], 5.0, places=4)
        self.assertIn("u[2]", [problem.variables[k].name for k in problem.free])

    def test_a_number_and_a_catalogue_variable_may_be_looked_up(self):
        head = self.HEAD.replace("u =", "tube = { start = 7, catalogue = [7, 9, 20] }\nu =")
        problem = loads(head + '[minimize]\nf = "(lookup(tube, keys, u) - 5)^2 + 0.1 * tube + sum(u)"\n')
        result = run(problem)
        self.assertEqual(result.point[0], 7.0)
        self.assertAlmostEqual(result.point[1], 4.5, places=3)


if __name__ == "__main__":
    unittest.main()
