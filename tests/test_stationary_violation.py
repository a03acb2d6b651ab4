"""Whether a violation can be lowered any further: what a claim of conflict rests on, beside the method that makes it."""

import unittest

import numpy as np

from ilvren import loads
from ilvren.evaluate import Gate
from ilvren.problem import Measures
from ilvren.runs.stationary_violation import violation_is_stationary


def is_stationary(text, point, *, is_sparse=False, scale=None):
    problem = loads(text)
    measures = Measures.of(problem)
    point = np.array(point, dtype=float)
    evaluation = Gate(problem, is_sparse=is_sparse).evaluate(point, derivatives=True)
    rows = np.ones(problem.row_count) if scale is None else np.array(scale, dtype=float)
    return violation_is_stationary(problem, measures, point, evaluation, rows)


def one(*rows, bounds="lower = -5, upper = 5"):
    listed = "".join(f'c{k} = "{row}"\n' for k, row in enumerate(rows))
    return f'[variables]\nx = {{ start = 0, {bounds} }}\n[minimize]\nf = "x"\n[constraints]\n{listed}'


class Stationary(unittest.TestCase):
    def test_two_limits_that_exclude_each_other(self):
        text = one("x >= 3", "x <= 1")
        self.assertTrue(is_stationary(text, [2.0]))  # the squares of the misses are least
        for between in (1.2, 2.7):  # the sum of the misses is the same everywhere between
            self.assertTrue(is_stationary(text, [between]))
        for outside in (0.5, 3.5, -4.0):
            self.assertFalse(is_stationary(text, [outside]))

    def test_a_bound_holds_what_a_limit_pushes_against(self):
        text = one("x >= 3", bounds="lower = -5, upper = 1")
        self.assertTrue(is_stationary(text, [1.0]))
        self.assertFalse(is_stationary(text, [0.9]))
        away = one("x <= -3", bounds="lower = -5, upper = 1")
        self.assertFalse(is_stationary(away, [1.0]))  # the bound does not hold it back there

    def test_the_lowest_point_of_a_curved_miss(self):
        text = one("x^2 + 1 <= 0")
        self.assertFalse(is_stationary(text, [0.5]))
        self.assertTrue(is_stationary(text, [0.0]))

    def test_rows_just_met_press_against_it(self):
        two = (
            "[variables]\nx = { start = 0, lower = -9, upper = 9 }\ny = { start = 0, lower = -9, upper = 9 }\n"
            '[minimize]\nf = "x"\n[constraints]\nfar = "x + y >= 5"\na = "x <= 1"\nb = "y <= 1"\n'
        )
        self.assertTrue(is_stationary(two, [1.0, 1.0]))
        self.assertFalse(is_stationary(two, [0.5, 0.5]))
        self.assertFalse(is_stationary(two, [1.0, 0.5]))
        equal = two.replace('b = "y <= 1"', 'b = "y == 1"')
        self.assertTrue(is_stationary(equal, [1.0, 1.0]))
        other_side = two.replace('a = "x <= 1"', 'a = "x >= 1"')  # met, but it presses the other way
        self.assertFalse(is_stationary(other_side, [1.0, 1.0]))

    def test_many_rows_just_met_are_balanced_by_sparse_matrices(self):
        n = 620
        text = (
            f'[variables]\nu = {{ start = 0, lower = -9, upper = 9, shape = {n} }}\n[minimize]\nf = "sum(u)"\n'
            f'[constraints]\nfar = "sum(u) >= {2 * n}"\neach = "u <= 1"\n'
        )
        for is_sparse in (False, True):
            with self.subTest(is_sparse=is_sparse):
                self.assertTrue(is_stationary(text, np.ones(n), is_sparse=is_sparse))
                free = np.ones(n)
                free[7] = 0.4
                self.assertFalse(is_stationary(text, free, is_sparse=is_sparse))

    def test_the_rows_scale_is_that_of_the_method(self):
        text = one("1e6 * x >= 3e6", "x <= 1")
        self.assertTrue(is_stationary(text, [2.0], scale=[1e6, 1.0]))
        self.assertTrue(is_stationary(text, [3.0], scale=[1.0, 1.0]) or is_stationary(text, [2.9999], scale=[1.0, 1.0]))

    def test_where_derivatives_are_no_numbers_nothing_is_claimed(self):
        self.assertFalse(is_stationary(one("sqrt(x) >= 3"), [0.0]))
        self.assertFalse(is_stationary(one("log(x) >= 3"), [-1.0]))


if __name__ == "__main__":
    unittest.main()
