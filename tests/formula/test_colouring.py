"""Colourings do what recovery relies on, on random patterns; intervals hold all values, and tightening cuts no solution."""

import random
import unittest

import numpy as np
from scipy.sparse import csr_array, diags_array

from ilvren.formula import Graph, interpret, lower, parse_formula
from ilvren.formula.colouring import column_colours, split_rows, star_colours, star_places
from ilvren.formula.intervals import Intervals
from tests.compact import tries
from tests.formula.test_random import build, draw


def random_pattern(rng, rows, columns, share):
    return csr_array((rng.random((rows, columns)) < share).astype(np.int8))


class Colours(unittest.TestCase):
    def test_no_two_columns_of_a_colour_share_a_row(self):
        rng = np.random.default_rng(1)
        for _ in range(40):
            pattern = random_pattern(rng, *rng.integers(1, 90, 2), rng.choice([0.02, 0.1, 0.6]))
            colours = column_colours(pattern)
            for row in pattern.toarray():
                own = colours[row > 0]
                self.assertEqual(len(own), len(set(own.tolist())))
        band = diags_array([1.0, 1.0, 1.0], offsets=[-1, 0, 1], shape=(500, 500), format="csr")
        self.assertEqual(column_colours(band).max() + 1, 3)

    def test_star_products_give_every_entry_back(self):
        rng = np.random.default_rng(2)
        cases = [random_pattern(rng, n, n, share) for n in (1, 3, 40, 90) for share in (0.02, 0.1, 0.7)]
        arrow = np.eye(60, dtype=np.int8)
        arrow[0] = arrow[:, 0] = 1
        cases += [csr_array(arrow), csr_array((5, 5), dtype=np.int8)]
        for pattern in cases:
            pattern = csr_array((pattern + pattern.T) > 0).astype(np.int8)
            values = pattern.toarray() * rng.normal(size=pattern.shape)
            values = values + values.T
            colours = star_colours(pattern)
            seeds = np.zeros((pattern.shape[0], int(colours.max(initial=0)) + 1))
            seeds[np.arange(len(colours)), colours] = 1.0
            rows, which = star_places(pattern, colours)
            own = np.repeat(np.arange(pattern.shape[0]), np.diff(pattern.indptr))
            np.testing.assert_allclose((values @ seeds)[rows, which], values[own, pattern.indices], atol=1e-12)
        self.assertLessEqual(star_colours(csr_array(arrow)).max() + 1, 2)

    def test_full_rows_are_taken_apart(self):
        pattern = np.eye(50, dtype=np.int8)
        pattern[[7, 9]] = 1
        self.assertEqual(np.flatnonzero(split_rows(csr_array(pattern))).tolist(), [7, 9])
        self.assertFalse(split_rows(csr_array(np.eye(50, dtype=np.int8))).any())


class IntervalProperties(unittest.TestCase):
    def test_every_value_lies_inside_and_no_solution_is_cut_off(self):
        rng, numbers = random.Random(5), np.random.default_rng(1)
        tried = 0
        for _ in range(tries(500)):
            graph, root = build(draw(rng, 4))
            low = numbers.uniform(-2, 2, 3)
            high = low + numbers.uniform(0, 2, 3)
            reach = Intervals(graph, [root], {i: (np.array(low[i]), np.array(high[i])) for i in range(3)}, ())
            least, most = reach.boxes[root]
            points = [tuple(numbers.uniform(low, high)) for _ in range(30)]
            values = [interpret(graph, [root], point, ()).values[0] for point in points]
            finite = [value for value in values if np.isfinite(value)]
            for value in finite:
                self.assertTrue(least <= value <= most)
            if len(finite) < 6:
                continue
            a, b = np.quantile(finite, [0.3, 0.7])
            inside = [p for p, v in zip(points, values, strict=True) if np.isfinite(v) and a <= v <= b]
            empty = reach.contract({root: (np.array(a), np.array(b))})
            self.assertFalse(inside and empty is not None, "solutions exist")
            for point in inside:
                for number in reach.varying:
                    node = graph.nodes[number]
                    if node.operation == "variable":
                        tried += 1
                        self.assertTrue(reach.boxes[number][0] <= point[node.index] <= reach.boxes[number][1])
        self.assertGreater(tried, tries(1000))

    def test_tightening_solves_what_can_be_solved_by_hand(self):
        for text, limits, expected in (
            ("x + y", (None, 1.0), {"x": (-5, -1)}),  # y >= 2
            ("x^2", (None, 4.0), {"x": (-2, 2)}),
            ("sqrt(x)", (1.0, 2.0), {"x": (1, 4)}),
            ("exp(x) * 2", (2.0, 2.0), {"x": (0, 0)}),
            ("3 * x - y", (6.0, None), {"x": (8 / 3, 5)}),
            ("max(x, y)", (None, 3.0), {"x": (-5, 3), "y": (2, 3)}),
            ("y / x", (None, None), {}),
        ):
            with self.subTest(formula=text):
                graph = Graph()
                root = lower(parse_formula(text), graph, lambda word, g=graph: g.variable("xy".index(word.name)))
                box = {0: (np.array(-5.0), np.array(5.0)), 1: (np.array(2.0), np.array(5.0))}
                reach = Intervals(graph, [root], box, ())
                ends = [
                    np.array(other if end is None else end)
                    for end, other in zip(limits, (-np.inf, np.inf), strict=True)
                ]
                self.assertIsNone(reach.contract({root: (ends[0], ends[1])}))
                for name, (low, high) in expected.items():
                    found = reach.boxes[graph.variable("xy".index(name))]
                    self.assertAlmostEqual(float(found[0]), low, places=6)
                    self.assertAlmostEqual(float(found[1]), high, places=6)
