"""The compact forms of the tests leave out combinations, and none of what is combined; numbers as pages tell them."""

import math
import unittest
import unittest.mock

from ilvren.draw.report.numbers import number
from tests import compact


class Compact(unittest.TestCase):
    def test_each_of_the_one_and_each_of_the_other_are_tried(self):
        for rows, columns, of in ((1, 1, 1), (5, 4, 2), (12, 33, 3), (3, 3, 3), (20, 2, 2)):
            with unittest.mock.patch.object(compact, "WHOLE", False):
                found = compact.pairs(range(rows), range(columns), of)
            with self.subTest(rows=rows, columns=columns, of=of):
                self.assertEqual({a for a, _ in found}, set(range(rows)))
                self.assertEqual({b for _, b in found}, set(range(columns)))
                self.assertLessEqual(len(found), math.ceil(rows * columns / of) + max(rows, columns))

    def test_the_whole_is_every_pair_once(self):
        with unittest.mock.patch.object(compact, "WHOLE", True):
            found = compact.pairs("abc", "xy", 2)
        self.assertEqual(found, [(a, b) for a in "abc" for b in "xy"])

    def test_where_there_are_too_few_of_the_other_some_of_the_one_would_be_missed(self):
        with unittest.mock.patch.object(compact, "WHOLE", False):
            self.assertEqual([a for a, _ in compact.pairs(range(4), ["alone"], 2)], [0, 2])

    def test_parts_of_a_list_are_all_of_it_by_names_of_any_length(self):
        with unittest.mock.patch.object(compact, "WHOLE", False):
            parts = [compact.parted(range(7), "n" * length) for length in (8, 9, 10)]
            self.assertEqual(sorted(item for part in parts for item in part), list(range(7)))
            self.assertEqual([compact.tries(count) for count in (1, 7, 400)], [1, 3, 134])
        with unittest.mock.patch.object(compact, "WHOLE", True):
            self.assertEqual((compact.parted("abc", "name"), compact.tries(7)), (list("abc"), 7))


class Numbers(unittest.TestCase):
    def test_numbers_words_and_what_is_neither(self):
        for value, expected in (
            (1.23456789, "1.234568"),
            (0.0, "0"),
            (1e21, "1e+21"),
            ("red beech", "red beech"),
            (None, "–"),
            (math.nan, "–"),
            (math.inf, "∞"),
            (-math.inf, "−∞"),
        ):
            self.assertEqual(number(value), expected)
        self.assertEqual(number(math.pi, 3), "3.14")


if __name__ == "__main__":
    unittest.main()
