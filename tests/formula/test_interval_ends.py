"""Interval arithmetic where it is easily wrong: intervals that touch zero, are points, reach infinity or the ends of a
domain; every operation, and what a result implies for an operand."""

import itertools
import unittest

import numpy as np

from ilvren.formula.interval_arithmetic import elementwise, inverse, is_empty, meet, others, widened
from ilvren.formula.rules import RULES

ENDS = (-np.inf, -1e200, -3.0, -1.0, -0.5, -1e-200, 0.0, 1e-200, 0.25, 1.0, 2.0, 7.0, 1e200, np.inf)
INTERVALS = [pair for pair in itertools.combinations_with_replacement(ENDS, 2) if np.isfinite(pair).any()]
ONE = {
    "neg": np.negative, "square": np.square, "abs": np.abs, "sqrt": np.sqrt, "exp": np.exp, "log": np.log,
    "log10": np.log10, "sin": np.sin, "cos": np.cos, "tan": np.tan, "asin": np.arcsin, "acos": np.arccos,
    "atan": np.arctan, "sinh": np.sinh, "cosh": np.cosh, "tanh": np.tanh, "sign": np.sign,
}  # fmt: skip
TWO = {
    "add": np.add, "sub": np.subtract, "mul": np.multiply, "div": np.divide, "min": np.minimum, "max": np.maximum,
    "pow": np.power, "atan2": np.arctan2, "hypot": np.hypot, "<=": np.less_equal, "<": np.less,
    ">=": np.greater_equal, ">": np.greater, "==": np.equal, "!=": np.not_equal,
}  # fmt: skip


def box_of(pairs):
    low, high = np.array(pairs, dtype=float).T
    return low, high


def numbers_in(rng, pairs, count):
    """Return (intervals, count) finite numbers of each: its ends where they are finite, the rest between, near and
    far."""
    low, high = (np.clip(end, -1e250, 1e250) for end in box_of(pairs))
    share = rng.uniform(size=(len(pairs), count))
    with np.errstate(all="ignore"):
        even = low[:, None] + share * (high - low)[:, None]
        near = np.where(rng.random(share.shape) < 0.5, 1.0, -1.0) * 10.0 ** rng.uniform(-12, 12, share.shape)
    found = np.where(rng.random(share.shape) < 0.5, even, near)
    found[:, 0], found[:, 1], found[:, 2] = low, high, 0.0
    return np.clip(found, low[:, None], high[:, None])


class Ends(unittest.TestCase):
    def setUp(self):
        self.rng = np.random.default_rng(21)
        quiet = np.errstate(all="ignore")
        quiet.__enter__()
        self.addCleanup(quiet.__exit__, None, None, None)

    def held(self, operation, found, values):
        low, high = (np.broadcast_to(end, len(values))[:, np.newaxis] for end in found)
        wrong = ~((low <= values) & (values <= high)) & ~np.isnan(values)
        self.assertFalse(wrong.any(), (operation, np.argwhere(wrong)[:3].tolist()))

    def test_values_of_every_operation_on_one_interval(self):
        x = numbers_in(self.rng, INTERVALS, 60)
        for operation, function in ONE.items():
            self.held(operation, widened(elementwise(operation, [box_of(INTERVALS)])), function(x))

    def test_values_of_every_operation_on_two_intervals(self):
        pairs = [(a, b) for a in INTERVALS for b in INTERVALS]
        first, second = [a for a, _ in pairs], [b for _, b in pairs]
        x, y = numbers_in(self.rng, first, 12), numbers_in(self.rng, second, 12)
        for operation, function in TWO.items():
            found = widened(elementwise(operation, [box_of(first), box_of(second)]))
            values = function(x, y).astype(float)
            self.held(operation, found, np.where(y == 0.0, np.nan, values) if operation == "div" else values)

    def test_the_numbers_of_a_whole_power_are_those_of_products(self):
        x = numbers_in(self.rng, INTERVALS, 40)
        for exponent in (-3.0, -2.0, -1.0, 2.0, 3.0, 4.0, 7.0):
            power = [np.full(len(INTERVALS), exponent)] * 2
            found = widened(elementwise("pow", [box_of(INTERVALS), tuple(power)]))
            value = np.prod([x] * int(abs(exponent)), axis=0)
            self.held(f"pow {exponent:g}", found, value if exponent > 0 else 1.0 / value)

    def test_a_choice_holds_what_either_side_gives_where_both_are_possible(self):
        a, b = box_of([(0, 1)] * 3), box_of([(5, 6)] * 3)
        found = elementwise("where", [(np.array([1.0, 0.0, 0.0]), np.array([1.0, 0.0, 1.0])), a, b])
        np.testing.assert_array_equal(found, [[0, 5, 0], [1, 6, 6]])

    def test_every_operation_on_numbers_is_tried_here_or_in_formulas(self):
        """So that a new one is not forgotten: those left are slopes and truths, tried by their formulas."""
        left = {"erf", "heaviside", "mul_live", "div_live", "unit", "pow_slope", "pow_log", "where", "and", "or", "not"}
        whole = {name for name, rule in RULES.items() if (rule.interval, rule.written) == ("rule", "each")}
        self.assertEqual(whole, ONE.keys() | TWO.keys() | left)

    def test_what_a_result_implies_loses_no_operand_that_gives_it(self):
        """With y the values of operands drawn, in an interval around some of them: every operand whose value lies in it
        lies in what is implied."""
        pairs = [(a, b) for a in INTERVALS[::2] for b in INTERVALS[::3]]
        first, second = [a for a, _ in pairs], [b for _, b in pairs]
        x, y = numbers_in(self.rng, first, 12), numbers_in(self.rng, second, 12)
        told = 0
        for operation, function in (ONE | TWO).items():
            is_two = operation in TWO
            values = (function(x, y) if is_two else function(x)).astype(float)
            if operation in ("mul", "div", "pow"):  # a product that underflows has lost both its factors
                values = np.where((values == 0.0) & (x != 0.0) & (y != 0.0), np.nan, values)
            near = np.nan_to_num(values[:, 4:6], nan=1.0, posinf=1e300, neginf=-1e300)
            result = near.min(axis=1), near.max(axis=1)
            boxes = [box_of(first), box_of(second)][: 1 + is_two]
            for place in range(1 + is_two):
                implied = inverse(operation, place, result, boxes)
                if implied is None:
                    continue
                told += 1
                ends = meet(widened(implied), boxes[place])
                low, high = (np.broadcast_to(end, len(x))[:, None] for end in ends)
                operand = (x, y)[place]
                counts = (values >= result[0][:, None]) & (values <= result[1][:, None])
                slack = 1e-13 * np.abs(operand)  # the value itself was rounded
                wrong = counts & ~((low - slack <= operand) & (operand <= high + slack))
                if operation in ("add", "sub", "cosh", "exp"):  # where a value has lost its operand's digits
                    wrong &= np.abs(operand) > 0.05 * np.abs(values)
                where = np.argwhere(wrong)[:1]
                self.assertFalse(
                    wrong.any(), (operation, place, [(x[i, j], y[i, j], low[i], high[i]) for i, j in where])
                )
        self.assertGreater(told, 15)

    def test_the_rest_of_a_sum_for_each_of_its_terms(self):
        terms = np.array([1.0, -np.inf, 2.0]), np.array([4.0, 3.0, 2.5])
        low, high = others((np.full(3, 0.0), np.full(3, 10.0)), terms, 0)
        # y − Σ of the others: nothing is known above where another term has no lower end.
        np.testing.assert_allclose(low, [0 - 3 - 2.5, 0 - 4 - 2.5, 0 - 4 - 3])
        np.testing.assert_allclose(high, [np.inf, 10 - 1 - 2, np.inf])

    def test_ends_that_cross_by_a_rounding_are_no_contradiction(self):
        self.assertFalse(is_empty((np.array([1.0 + 1e-12]), np.array([1.0]))))
        self.assertTrue(is_empty((np.array([1.0 + 1e-6]), np.array([1.0]))))
        self.assertTrue(is_empty((np.array([np.inf]), np.array([-np.inf]))))


if __name__ == "__main__":
    unittest.main()
