"""Intervals of many boxes at once hold every value, whatever the operation; tightening loses no design."""

import unittest

import numpy as np

from ilvren import loads
from ilvren.evaluate import Gate
from ilvren.formula import gradient
from ilvren.formula.interval_batch import BatchIntervals

# Formulas of x and y, and the box they make sense in; together they use every operation of scalars.
FORMULAS = (
    ("x * y - x / (y + 3)", (-2, 2)),
    ("(x - y)^2 + x^3 - y^4", (-2, 2)),
    ("x^-2 + y^0.7", (0.2, 3)),
    ("y^x", (0.2, 3)),
    ("sqrt(x) * log(y) + log10(x + y)", (0.1, 5)),
    ("exp(x) * sinh(y) + cosh(x * y) - tanh(x)", (-2, 2)),
    ("sin(3 * x) * cos(2 * y) + tan(x / 2)", (-2.5, 2.5)),
    ("asin(x) + acos(y) * atan(x * 5)", (-0.95, 0.95)),
    ("abs(x - y) + min(x, 2 * y) - max(x * y, 0.3)", (-2, 2)),
    ("hypot(x, y) + atan2(y, x + 4) + erf(x)", (-2, 2)),
    ("where(x < y, x^2, y - 1) + where(x >= 0 and not (y > 1), x, 2)", (-2, 2)),
    ("x * x * x - 2 * x * y + 0 * x", (-3, 3)),
)


def problem_of(formula, low, high, limit=""):
    at = 0.5 * (low + high)
    text = f"[variables]\nx = {{ start = {at}, lower = {low}, upper = {high} }}\n"
    text += f"y = {{ start = {at}, lower = {low}, upper = {high} }}\n[minimize]\nf = '{formula}'\n"
    return loads(text + (f"[constraints]\nc = '{limit}'\n" if limit else ""))


def boxes(rng, low, high, count):
    """Return boxes of many widths, some of them points."""
    middle = rng.uniform(low, high, (count, 2))
    half = (high - low) * 10.0 ** rng.uniform(-4, 0, (count, 1)) / 2
    half[::7] = 0.0
    return np.maximum(middle - half, low), np.minimum(middle + half, high)


def inside(rng, lows, highs, count):
    """Return designs (boxes, count, 2), the corners among them."""
    shares = rng.uniform(size=(len(lows), count, 2))
    shares[:, :4] = [[0, 0], [0, 1], [1, 0], [1, 1]]
    return lows[:, np.newaxis] + shares * (highs - lows)[:, np.newaxis]


class Enclosures(unittest.TestCase):
    def test_values_and_slopes_are_held(self):
        rng = np.random.default_rng(0)
        for formula, (low, high) in FORMULAS:
            problem = problem_of(formula, low, high)
            gate, node = Gate(problem), problem.objective.node
            slopes = gradient(problem.graph, node)
            both = BatchIntervals(problem.graph, [node], list(slopes.values()), problem.parameter_values)
            lows, highs = boxes(rng, low, high, 40)
            found = both.forward(lows, highs)
            points = inside(rng, lows, highs, 30)
            with np.errstate(all="ignore"):
                values = gate.written.batch(points.reshape(-1, 2)).objective.reshape(40, 30)
            ends = [np.broadcast_to(end, 40)[:, np.newaxis] for end in found.boxes[node]]
            with self.subTest(formula=formula):
                self.assertTrue(((values >= ends[0]) & (values <= ends[1]) | np.isnan(values)).all())
                smooth = np.flatnonzero(found.is_smooth & found.is_twice)
                for box in smooth[:10]:
                    for point in points[box, :6]:
                        exact = gate.written.gradient(point)
                        for place, slope in slopes.items():
                            least, most = (float(np.broadcast_to(end, 40)[box]) for end in found.boxes[slope])
                            slack = 1e-12 * max(abs(exact[place]), 1.0)
                            self.assertTrue(least - slack <= exact[place] <= most + slack, (point, place))

    def test_points_are_enclosed_tightly(self):
        """At a point the interval is as wide as a few roundings, so that proofs can end."""
        rng = np.random.default_rng(1)
        for formula, (low, high) in FORMULAS:
            problem = problem_of(formula, low, high)
            own = BatchIntervals(problem.graph, [problem.objective.node], [], problem.parameter_values)
            points = rng.uniform(low, high, (20, 2))
            least, most = own.forward(points, points).boxes[problem.objective.node]
            decided = np.isfinite(least) & np.isfinite(most)
            width = (most - least)[decided] if np.ndim(most) else np.zeros(1)
            with self.subTest(formula=formula):
                if "atan2" not in formula and "y^x" not in formula:
                    self.assertTrue(decided.all())
                    self.assertLess(width.max(), 1e-11)

    def test_where_branches_or_domains_are_open_nothing_is_smooth(self):
        for formula, box, smooth, twice in (
            ("abs(x)", (-1, 1), True, False),
            ("abs(x)", (0.1, 1), True, True),
            ("max(x, y)", (-1, 1), True, False),
            ("where(x > 0, 1, 0) + y", (-1, 1), False, False),
            ("where(x > 0, 1, 0) + y", (0.1, 1), True, True),
            ("sqrt(x)", (0, 1), False, False),
            ("sqrt(x)", (0.1, 1), True, True),
            ("1 / x", (-1, 1), False, False),
            ("log(x)", (0, 1), False, False),
            ("asin(x)", (0, 1), False, False),
            ("tan(x)", (1, 2), False, False),
            ("x^-1", (-1, 1), False, False),
            ("x^3", (-1, 1), True, True),
            ("hypot(x, y)", (-1, 1), True, False),
        ):
            problem = problem_of(formula, *box)
            own = BatchIntervals(problem.graph, [problem.objective.node], [], problem.parameter_values)
            found = own.forward(np.full((1, 2), box[0], dtype=float), np.full((1, 2), box[1], dtype=float))
            with self.subTest(formula=formula, box=box):
                self.assertEqual((bool(found.is_smooth[0]), bool(found.is_twice[0])), (smooth, twice))


class Tightening(unittest.TestCase):
    def test_no_design_that_meets_the_limit_is_lost(self):
        rng = np.random.default_rng(2)
        gained = 0
        for formula, (low, high) in FORMULAS:
            problem = problem_of("x + y", low, high, f"{formula} <= 0.4")
            node = problem.row_blocks[0].node
            own = BatchIntervals(problem.graph, [node], [], problem.parameter_values)
            lows, highs = boxes(rng, low, high, 60)
            tight_low, tight_high, empty = own.contracted(lows, highs, {node: (-np.inf, 0.4)}, 3)
            points = inside(rng, lows, highs, 40)
            with np.errstate(all="ignore"):
                rows = Gate(problem).written.batch(points.reshape(-1, 2)).rows.reshape(60, 40)
            meets = rows <= 0.4
            with self.subTest(formula=formula):
                self.assertFalse((meets.any(axis=1) & empty).any())
                kept = (
                    (points >= tight_low[:, np.newaxis] - 1e-12) & (points <= tight_high[:, np.newaxis] + 1e-12)
                ).all(axis=2)
                self.assertTrue((kept | ~meets)[~empty].all())
            gained += int(empty.sum()) + int((tight_high - tight_low < highs - lows)[~empty].sum())
        self.assertGreater(gained, 100)

    def test_a_limit_that_cannot_hold_empties_the_box(self):
        problem = problem_of("x", -1, 1, "x^2 + y^2 <= -0.1")
        node = problem.row_blocks[0].node
        own = BatchIntervals(problem.graph, [node], [], problem.parameter_values)
        ends = np.full((1, 2), -1.0), np.full((1, 2), 1.0)
        self.assertTrue(own.contracted(*ends, {node: (-np.inf, -0.1)}, 2)[2][0])
        low, high, empty = own.contracted(*ends, {node: (-np.inf, 0.01)}, 3)
        self.assertFalse(empty[0])
        np.testing.assert_allclose([low[0], high[0]], [[-0.1, -0.1], [0.1, 0.1]], rtol=1e-9)
