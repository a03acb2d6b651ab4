"""What is wrong in a file over time is refused with its place and what to write instead."""

import unittest

from ilvren.errors import InputError
from ilvren.problem import loads
from tests.dynamics.kinds import text

GOOD = {
    "variables": "k = { start = 1, lower = 0, upper = 2 }",
    "states": 'x = { rate = "-k * x", initial = 1 }',
    "minimize": 'cost = "last(x)"',
}
# Changed sections → what the message must say.
WRONG = [
    ({"states": 'x = { rate = "-k * x", next = "x", initial = 1 }'}, '"rate" and "next"'),
    ({"states": 'x = { next = "x", initial = 1 }'}, '"every" and "next" go together'),
    ({"states": 'x = { rate = "-k * y", initial = 1 }'}, 'unknown name "y"'),
    ({"states": 'x = { rat = "-k * x", initial = 1 }'}, 'did you mean "rate"'),
    ({"states": 'x = { rate = "-k * last(x)", initial = 1 }'}, "needs itself|cannot say how"),
    ({"states": 'x = { rate = "-k * x" }'}, 'needs a "start"'),
    ({"states": 'x = { every = 0, next = "x", initial = 1 }'}, "a time above 0"),
    ({"states": 'x = { every = "k", next = "x", initial = 1 }'}, "no variable changes"),
    ({"states": 'x = { transfer = { of = "1", numerator = [1, 2, 3], denominator = [1, 2] } }'}, "higher degree"),
    ({"states": 'x = { rate = "-k * delayed(x, -1)", initial = 1 }'}, "would look ahead"),
    ({"minimize": 'cost = "x"'}, '"x" changes over time; here one number is needed'),
    ({"minimize": 'cost = "last(k)"'}, "this does not"),
    ({"minimize": 'cost = "at(x, 9)"'}, "lies outside the time"),
    ({"minimize": 'cost = "moves(x)"'}, "takes the name of a control"),
    ({"minimize": 'cost = "rise_time(x, x, 1)"'}, "one number is needed"),
    ({"minimize": 'cost = "last(x)"', "signals": 'a = "b"\nb = "a"'}, "needs itself: a -> b -> a|needs itself"),
    ({"signals": 't = "2"'}, "is reserved"),
    ({"derived": 'last = "2"'}, "is reserved"),
    ({"controls": 'u = { start = 1, pieces = 2.5 }'}, "whole number of pieces"),
    ({"controls": 'u = { start = 1, form = "curved" }'}, 'unknown form "curved"'),
    ({"time": 'to = 3\ntreatment = "collocations"'}, 'unknown treatment "collocations"'),
    ({"constraints": 'flat = "x == 1"'}, "index above 1"),
    ({"time": "to = -1"}, "ends before it begins"),
    ({"time": 'from = "k"\nto = 3'}, "may not depend on a variable"),
    ({"time": "to = 3\nsteps = 0"}, "whole number of intervals"),
    ({"time": "steps = 3"}, 'needs "to"'),
]  # fmt: skip


def file_of(changes: dict[str, str]) -> str:
    sections = {"time": "to = 3\nsteps = 12", **GOOD, **changes}
    return "\n".join(f"[{name}]\n{content}" for name, content in sections.items()) + "\n"


class Refused(unittest.TestCase):
    def test_the_good_file_is_good(self):
        self.assertEqual(loads(file_of({})).size, 1)

    def test_every_mistake_has_its_message(self):
        for changes, wanted in WRONG:
            with self.subTest(changes=changes):
                with self.assertRaises(InputError) as caught:
                    problem = loads(file_of(changes), file="wrong.toml")
                    problem.simulations[0]  # nothing is refused later than on loading
                told = f"{caught.exception} {caught.exception.advice}"
                self.assertRegex(told, wanted)
                self.assertIn("wrong.toml", told)

    def test_sections_need_each_other(self):
        with self.assertRaisesRegex(InputError, "without .states"):
            loads("[time]\nto = 3\n[variables]\nk = 1.0\n[minimize]\ncost = 'k^2'\n")
        with self.assertRaisesRegex(InputError, "without .time"):
            loads("[states]\nx = { rate = '-x', initial = 1 }\n[variables]\nk = 1.0\n[minimize]\ncost = 'k^2'\n")

    def test_names_of_functions_are_free_without_time(self):
        problem = loads("[variables]\nlast = 1.0\nat = 2.0\n[minimize]\nfirst = 'last^2 + at^2'\n")
        self.assertEqual(problem.size, 2)
        with self.assertRaisesRegex(InputError, "over time"):
            loads("[variables]\nx = 1.0\n[minimize]\ncost = 'last(x)'\n")

    def test_other_parameters_make_other_moments(self):
        problem = loads(text("""
[parameters]
lag = 0.5
[variables]
k = { start = 1, lower = 0, upper = 2 }
[states]
x = { rate = "-k * delayed(x, lag)", initial = 1 }
[minimize]
cost = "last(x)"
"""))  # fmt: skip
        other = problem.with_parameters(lag=0.25)
        self.assertIsNot(other.template, problem.template)
        self.assertIs(problem.with_parameters(lag=0.5).template, problem.template)
