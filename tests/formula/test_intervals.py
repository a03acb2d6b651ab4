"""Intervals on arrays: every value inside, solutions kept, sums and products solved for their terms; faults found."""

import unittest

import numpy as np

from ilvren.formula.intervals import Intervals
from tests.formula.arrays import NAMES, SHAPES, Formula
from tests.formula.test_arrays import MEANINGS


def boxes(rng, width):
    found = {}
    for index, shape in enumerate(SHAPES.values()):
        middle = rng.normal(size=shape)
        found[index] = (middle - width * rng.random(size=shape), middle + width * rng.random(size=shape))
    return found


def inside(rng, box):
    return [low + (high - low) * rng.random(size=np.shape(low)) for low, high in box.values()]


class Arrays(unittest.TestCase):
    def test_every_function_keeps_its_values_inside(self):
        rng = np.random.default_rng(3)
        for text in MEANINGS:
            with self.subTest(formula=text):
                formula = Formula(text)
                for width in (0.0, 0.3, 2.0):
                    box = boxes(rng, width)
                    low, high = Intervals(formula.graph, [formula.root], box, ()).boxes[formula.root]
                    for _ in range(20):
                        value = formula.value(inside(rng, box))
                        valid = np.isfinite(value)
                        self.assertTrue(((low <= value) & (value <= high))[valid].all())

    def test_tightening_keeps_every_solution(self):
        rng = np.random.default_rng(4)
        for text in MEANINGS:
            with self.subTest(formula=text):
                formula = Formula(text)
                box = boxes(rng, 1.0)
                points = [inside(rng, box) for _ in range(25)]
                values = [formula.value(point) for point in points]
                if not all(np.isfinite(value).all() for value in values):
                    continue
                middle = values[0]
                limits = (middle - 0.3, middle + 0.3)
                reach = Intervals(formula.graph, [formula.root], box, ())
                self.assertIsNone(reach.contract({formula.root: limits}))
                for point, value in zip(points, values, strict=True):
                    if not ((limits[0] <= value) & (value <= limits[1])).all():
                        continue
                    for index, part in enumerate(point):
                        node = formula.graph.variable(index, SHAPES[NAMES[index]])
                        if node in reach.boxes:
                            low, high = reach.boxes[node]
                            self.assertTrue(((low <= part) & (part <= high)).all())

    def solved(self, text, limits, box):
        formula = Formula(text)
        whole = {index: (np.full(shape, -9.0), np.full(shape, 9.0)) for index, shape in enumerate(SHAPES.values())}
        whole |= {NAMES.index(name): value for name, value in box.items()}
        reach = Intervals(formula.graph, [formula.root], whole, ())
        ends = tuple(np.broadcast_to(np.asarray(end, dtype=float), formula.shape) for end in limits)
        empty = reach.contract({formula.root: ends})
        return empty, {name: reach.boxes.get(formula.graph.variable(NAMES.index(name), SHAPES[name])) for name in NAMES}

    def test_sums_products_and_differences_are_solved_for_their_terms(self):
        positive = (np.zeros(5), np.full(5, 9.0))
        _, found = self.solved("sum(u)", (-np.inf, 2.0), {"u": positive})
        np.testing.assert_allclose(found["u"][1], 2.0, atol=1e-9)
        _, found = self.solved("dot(evenly(1, 5, 5), u)", (-np.inf, 10.0), {"u": positive})
        np.testing.assert_allclose(found["u"][1], [9.0, 5.0, 10 / 3, 2.5, 2.0], atol=1e-9)
        fixed = (np.array([1.0, -9, -9, -9, -9]), np.array([1.0, 9, 9, 9, 9]))
        _, found = self.solved("diff(u)", (-0.5, 0.25), {"u": fixed})
        np.testing.assert_allclose(found["u"][1], [1.0, 1.25, 1.5, 1.75, 2.0], atol=1e-9)
        np.testing.assert_allclose(found["u"][0], [1.0, 0.5, 0.0, -0.5, -1.0], atol=1e-9)
        _, found = self.solved("transpose(a)[2] - 1", (0.0, 0.5), {})
        np.testing.assert_allclose(found["a"][0][:, 2], 1.0, atol=1e-9)
        self.assertEqual(found["a"][0][0, 0], -9.0)

    def test_contradictions_among_elements_are_found(self):
        self.assertIsNotNone(self.solved("sum(u)", (46.0, np.inf), {})[0])
        self.assertIsNotNone(self.solved("diff(u)", (4.0, np.inf), {"u": (np.zeros(5), np.full(5, 9.0))})[0])
        self.assertIsNone(self.solved("diff(u)", (2.0, np.inf), {"u": (np.zeros(5), np.full(5, 9.0))})[0])

    def test_faults_name_the_element_that_can_leave_its_domain(self):
        low, high = np.array([1.0, 1, -0.1, 1, 1]), np.full(5, 2.0)
        for text, operation in (
            ("sqrt(u)", "sqrt"),
            ("log(u)", "log"),
            ("v / u", "div"),
            ("u^0.5 * 2", "sqrt"),
            ("u^(-2)", "pow"),
        ):
            with self.subTest(formula=text):
                formula = Formula(text)
                box = {index: (np.full(shape, 1.0), np.full(shape, 1.0)) for index, shape in enumerate(SHAPES.values())}
                box[NAMES.index("u")] = (low, high)
                (fault,) = Intervals(formula.graph, [formula.root], box, ()).faults()
                self.assertEqual((fault.operation, fault.element, fault.low), (operation, (2,), -0.1))
                self.assertFalse(fault.is_guarded)
        formula = Formula("where(u > 0, sqrt(u), 0)")
        (fault,) = Intervals(formula.graph, [formula.root], box, ()).faults()
        self.assertTrue(fault.is_guarded)
