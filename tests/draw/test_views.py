"""What figures show before anything is drawn: ranges, members, values of entries, where limits hold, what titles hold."""

import unittest
from unittest import mock

import numpy as np

from ilvren import loads
from ilvren.draw import view as module
from ilvren.draw.view import (
    cells,
    everywhere_feasible,
    feasible_at,
    is_plain,
    missed,
    rows_at,
    subject_of,
    title_of,
    view_of,
)
from ilvren.errors import RequestError
from ilvren.evaluate import Gate

TEXT = """title = "plate"
[variables]
x = { start = 1.0, lower = 0, upper = 4, unit = "m" }
free = { start = -2.0 }
half = { start = 3.0, lower = 1 }
tooth = { start = 12, catalogue = [10, 12, 17] }
step = { start = 0.5, lower = 0, upper = 200, spacing = 0.5 }
u = { start = [0.1, 0.2, 0.3], lower = -1, upper = 1 }
[derived]
area = { formula = "x * half", unit = "m^2" }
line = "u * x"
[minimize]
f = { formula = "area + free^2 + tooth + step", unit = "EUR" }
[constraints]
cap = "area <= 10"
each = "line <= 0.5"
tied = "free + half == 1"
"""


class Views(unittest.TestCase):
    def setUp(self):
        self.problem = loads(TEXT)
        self.gate = Gate(self.problem)
        self.point = np.array(self.problem.start)

    def view(self, name):
        return view_of(self.problem, name, self.point, ())

    def test_ranges_hold_the_bounds_with_a_margin_and_what_must_be_seen(self):
        x, free, half = (self.view(name) for name in ("x", "free", "half"))
        self.assertEqual((x.low, x.high), (-0.2, 4.2))
        self.assertTrue(free.low < -2.0 < free.high)
        self.assertAlmostEqual(free.low + free.high, -4.0)  # around what is known of it
        self.assertTrue(half.low < 1.0 and half.high > 3.0)
        self.assertEqual((x.label, free.label), ("x [m]", "free"))
        for own in (x, free, half):
            values = own.values(11)
            np.testing.assert_allclose(values, np.linspace(own.low, own.high, 11))
            self.assertTrue(own.is_continuous)

    def test_members_are_drawn_as_members(self):
        tooth, step = self.view("tooth"), self.view("step")
        np.testing.assert_array_equal(tooth.values(50), [10, 12, 17])
        values = step.values(40)
        self.assertLessEqual(len(values), 40)
        np.testing.assert_array_equal(values % 0.5, 0.0)
        self.assertEqual((values[0], values[-1]), (0.0, 200.0))
        self.assertFalse(tooth.is_continuous or step.is_continuous)
        self.assertEqual(cells([tooth, step], 40), 3 * len(values))

    def test_an_entry_is_what_its_formula_says_and_one_element_is_chosen(self):
        rng = np.random.default_rng(2)
        points = np.tile(self.point, (7, 1))
        points[:, 0], points[:, 2] = rng.uniform(0, 4, 7), rng.uniform(1, 5, 7)
        x, half = points[:, 0], points[:, 2]
        for name, expected, unit in (
            (None, x * half + 4.0 + 12 + 0.5, "EUR"),
            ("f", x * half + 4.0 + 12 + 0.5, "EUR"),
            ("area", x * half, "m^2"),
            ("line[1]", 0.2 * x, ""),
            ("each[2]", 0.3 * x, ""),
            ("tied", points[:, 1] + half, ""),
        ):
            subject = subject_of(self.problem, self.gate, name)
            np.testing.assert_allclose(subject.at(points), expected, rtol=1e-13)
            self.assertEqual(subject.unit, unit)
            self.assertFalse(subject.is_costly)
        self.assertEqual(subject_of(self.problem, self.gate, "area").label, "area [m^2]")
        slope = subject_of(self.problem, self.gate, "each[2]").slope(points[0])
        np.testing.assert_allclose(slope[[0, -1]], [0.3, points[0, 0]])
        self.assertIsNone(subject_of(self.problem, self.gate, "line[1]").slope(points[0]))
        for name, told in (
            ("line", "draw one: line[0] to line[2]"),
            ("line[3]", "its last is line[2]"),
            ("areo", 'did you mean "area"?'),
        ):
            with self.assertRaises(RequestError) as caught:
                subject_of(self.problem, self.gate, name)
            self.assertEqual(caught.exception.advice, told)

    def test_costly_designs_are_evaluated_once_in_a_figure(self):
        points = np.tile(self.point, (5, 1))
        points[:, 0] = [1.0, 2.0, 1.0, 3.0, 2.0]
        with mock.patch.object(module, "MOST_NUMBERS", 0):
            subject = subject_of(self.problem, self.gate, "area")
            self.assertTrue(subject.is_costly)
            with mock.patch.object(self.gate.written, "node_batch", wraps=self.gate.written.node_batch) as asked:
                values = subject.at(points)
                rows = subject.rows(points, np.array([0, 4]))
                again = subject.at(points[::-1])
            self.assertEqual([len(call.args[1]) for call in asked.call_args_list], [3])
        np.testing.assert_allclose(values, 3.0 * points[:, 0])
        np.testing.assert_allclose(again, values[::-1])
        np.testing.assert_allclose(rows, np.column_stack([values, np.full(5, 1.0)]), atol=1e-12)

    def test_limits_hold_where_each_of_them_does(self):
        subject = subject_of(self.problem, self.gate, None)
        points = np.tile(self.point, (60, 1))
        points[:, 0], points[:, 2] = np.linspace(0, 4, 60), 3.0
        rows, values, sizes = rows_at(subject, points, [self.view("x"), self.view("half")])
        self.assertEqual([row.name for row in rows][:2], ["cap", "each[0]"])
        holds = everywhere_feasible(rows, values, sizes)
        x = points[:, 0]
        np.testing.assert_array_equal(holds, (3 * x <= 10.0 + 1e-5) & (0.3 * x <= 0.5 + 1e-6))  # −2 + 3 == 1 holds
        for place in (0, 20, 59):
            self.assertEqual(feasible_at(subject, points[place]), bool(holds[place]))
        self.assertTrue(missed(np.array([np.nan]), rows[0], 1.0)[0])
        many = loads("[variables]\nx = { start = 0.5, shape = 9, lower = 0, upper = 1 }\n[minimize]\nf = 'sum(x)'\n"
                     "[constraints]\nc = 'x <= 0.7'\nsum_of = 'sum(x) <= 8'\n")  # fmt: skip
        own = Gate(many)
        cloud = np.tile(np.array(many.start), (30, 1))
        cloud[:, 4] = np.linspace(0, 1, 30)
        rows, values, _ = rows_at(subject_of(many, own, None), cloud, [view_of(many, "x[4]", cloud[0], ())])
        self.assertEqual([row.name for row in rows], ["c[4]", "sum_of"])  # the others do not change
        np.testing.assert_allclose(values[:, 0], cloud[:, 4])

    def test_titles_say_what_is_held(self):
        told = title_of(self.problem, self.point, ["x", "free"])
        self.assertEqual(told, "plate\nheld: half = 3, tooth = 12, step = 0.5, u[0] = 0.1 …")
        names = [variable.name for variable in self.problem.variables]
        self.assertEqual(title_of(self.problem, self.point, names), "plate")

    def test_numbers_that_read_well(self):
        for values, plain in (([1.0, 200.0], True), ([1e-3], False), ([1e9, 1.0], False), ([np.nan, np.inf], False)):
            self.assertEqual(is_plain(np.array(values)), plain)


if __name__ == "__main__":
    unittest.main()
