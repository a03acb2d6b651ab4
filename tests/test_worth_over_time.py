"""What is told of a course on a grid: what limits and states are worth against closed forms, and arcs of controls."""

import json
import math
import re
import unittest
from pathlib import Path

import numpy as np

from ilvren import loads, run
from ilvren.runs.courses_told import _joined, _switched
from tests.compact import WHOLE, only_in_whole
from tests.test_cli import InAFolder
from tests.test_collocation import EDGE

MIRRORED = (("upper = 0.125", "lower = -0.125"), ("initial = 1", "initial = -1"), ("last(v) == -1", "last(v) == 1"))
TURNED = (("[minimize]", "[maximize]"), ("integral(a^2) / 2", "-integral(a^2) / 2"))
LIMIT = 0.125  # l: the optimum is 4/(9 l), the costates at the beginning 2/(9 l²) and 2/(3 l)
SLOPE = 4.0 / (9.0 * LIMIT**2)
# Full one way or the other as the sine has it, which turns between the moments of the grid.
SWITCHING = """
[time]
to = 5
steps = 200
unit = "min"
[states]
x = { rate = "u", initial = 0, unit = "m" }
[controls]
u = { start = 0, lower = -1, upper = 2, form = "pointwise", unit = "m/min" }
[minimize]
cost = { formula = "integral(u * sin(8 * pi * t + 0.3))", unit = "EUR" }
"""
ONE_JUMP = """
[time]
to = 6
[states]
x = { rate = "v", initial = 1 }
v = { rate = "u - 0.2 * v - x", initial = 0 }
[controls]
u = { start = 0, lower = -1, upper = 1, form = "pointwise" }
[minimize]
cost = "integral(x * cos(3 * t) + 0.3 * v) + last(x)"
"""
SWING = """
[variables]
T = { start = 8, lower = 1, upper = 20 }
[time]
to = "T"
[states]
x = { rate = "v", initial = 4 }
v = { rate = "u - x", initial = 3 }
[controls]
u = { start = 0, lower = -1, upper = 1, form = "pointwise" }
[minimize]
time = "T"
[constraints]
there = "last(x) == 0"
still = "last(v) == 0"
"""


def changed(text, *changes):
    for old, new in changes:
        assert old in text, old
        text = text.replace(old, new)
    return text


class Limits(InAFolder):
    def told(self, text):
        """Return what a run on a problem prints, and its numbers by state under "a unit more of"."""
        Path("p.toml").write_text(changed(text, ("to = 1", "to = 1\nsteps = 8")))  # the arcs end on the grid
        out = self.call("run", "p.toml", "--quiet")[0]
        table = out.partition(" a unit more of ")[2].partition("\n\n")[0]
        rows = {row.split()[0]: row.split()[1:] for row in table.splitlines()[2:]}
        return out, rows

    def test_a_limit_at_all_times_and_states_at_the_beginning_are_worth_what_the_closed_form_says(self):
        for what, changes, sentence, sign in (
            ("from above", (), "raising x's upper limit by 0.001 at all times lowers effort by", 1.0),
            ("from below", MIRRORED, "raising x's lower limit by 0.001 at all times raises effort by", -1.0),
            ("of a maximum", TURNED, "raising x's upper limit by 0.001 at all times raises effort by", -1.0),
        ):
            with self.subTest(what):
                out, rows = self.told(changed(EDGE, *changes))
                self.assertAlmostEqual(float(re.search(sentence + r" ([\d.]+)", out)[1]), 1e-3 * SLOPE, delta=5e-5)
                self.assertAlmostEqual(float(rows["x"][0]), sign * 2.0 / (9.0 * LIMIT**2), delta=2e-2)
                self.assertAlmostEqual(float(rows["v"][0]), sign * 2.0 / (3.0 * LIMIT), delta=5e-3)

    def test_a_limit_that_holds_nothing_is_worth_nothing(self):
        out, rows = self.told(changed(EDGE, ("upper = 0.125", "upper = 0.5")))
        self.assertNotIn("at all times", out)
        # Then a = −2 throughout: λ_v is 2, λ_x nothing.
        self.assertLess(abs(float(rows["x"][0])), 1e-6)
        self.assertAlmostEqual(float(rows["v"][0]), 2.0, places=4)


class Jumps(unittest.TestCase):
    """Intervals of one length that a control, from −1 to 2, goes through: what is told of those between its bounds."""

    WEIGHTS = np.array([0.375, 0.5, 0.125])
    HIGH, LOW = [2.0, 2.0, 2.0], [-1.0, -1.0, -1.0]

    def told(self, *parts):
        """Return (kind, end) of the arcs of parts (kind, values)."""
        pieces = [(float(k), k + 1.0, (kind, "")) for k, (kind, _) in enumerate(parts)]
        found = _switched(pieces, np.array([values for _, values in parts]), self.WEIGHTS)
        self.assertEqual([found[0][0], *(piece[0] for piece in found[1:])], [0.0, *(piece[1] for piece in found[:-1])])
        return [(arc.kind, arc.end) for arc in _joined("u", found)]

    def test_a_jump_is_where_the_average_says_and_nothing_else_is_one(self):
        high, low = ("upper", self.HIGH), ("lower", self.LOW)
        for between, expected in (
            ([("singular", [2.0, -1.0, -1.0])], 1.375),
            ([("free", [2.0, 2.0, -1.0])], 1.875),
            ([("singular", [0.5, -1.0, -1.0])], 1.1875),  # one between the bounds, as a limit at the end may need
            (
                [("singular", [2.0, 2.0, 0.5]), ("singular", [0.5, -1.0, -1.0])],
                2.125,
            ),
            ([("free", [2.0, 0.7, -1.0])], None),  # nothing says that it is linear in it
            ([("singular", [0.5, 0.6, 0.5])] * 5, None),  # too long for a jump
        ):
            with self.subTest(between=between):
                found = self.told(high, *between, low, low)
                if expected is None:
                    self.assertEqual([kind for kind, _ in found], ["upper", between[0][0], "lower"])
                else:
                    self.assertEqual([kind for kind, _ in found], ["upper", "lower"])
                    self.assertAlmostEqual(found[0][1], expected)
        self.assertEqual(self.told(low, low, ("singular", [-1.0, -1.0, 1.3])), [("lower", 3.0)])  # worth nothing there
        self.assertEqual(len(self.told(low, ("singular", [0.3, -1.0, 1.3]))), 2)


class Arcs(InAFolder):
    def test_each_begins_where_the_one_before_ends_and_a_list_cut_short_says_so(self):
        Path("p.toml").write_text(SWITCHING)
        out = self.call("run", "p.toml", "--quiet")[0]
        rows = [line.split() for line in out.splitlines() if re.match(r" u +\d", line)]
        self.assertEqual(len(rows), 24)
        self.assertIn("24 of 41 arcs; --json has all", out)
        self.assertRegex(out, r"control +from \[min\] +to \[min\] +what it does")
        (told,) = json.loads(self.call("run", "p.toml", "--quiet", "--json")[0])["courses"]
        self.assertEqual(len(told["arcs"]), 41)
        turns = [0.0, *((k - 0.3 / math.pi) / 8.0 for k in range(1, 41)), 5.0]
        for number, arc in enumerate(told["arcs"]):
            self.assertAlmostEqual(arc["from"], turns[number], delta=1e-3)
            self.assertAlmostEqual(arc["to"], turns[number + 1], delta=1e-3)
            self.assertEqual(arc["kind"], ("lower", "upper")[number % 2])
        for row, arc in zip(rows, told["arcs"], strict=False):
            self.assertAlmostEqual(float(row[1]), arc["from"], places=4)

    @only_in_whole
    def test_jumps_lie_where_the_prices_of_the_bounds_change_their_signs(self):
        # Followed by Runge and Kutta's method, of all controls with one jump the one at 2.8275 is best: −2.901104.
        result = run(loads(ONE_JUMP))
        self.assertAlmostEqual(result.objective, -2.901104, delta=2e-5)
        (first, last) = result.courses[0].arcs
        self.assertEqual((first.kind, last.kind, last.end), ("upper", "lower", 6.0))
        self.assertAlmostEqual(first.end, 2.8275, delta=2e-3)

    @unittest.skipUnless(WHOLE, "another of the kind, which takes longer")
    def test_a_swing_is_brought_to_rest_by_pushes_half_a_period_long(self):
        result = run(loads(SWING))
        self.assertAlmostEqual(result.objective, 8.308546, delta=1e-4)  # by the conditions at both ends, solved
        arcs = result.courses[0].arcs
        self.assertEqual([arc.kind for arc in arcs], ["lower", "upper"] * 2)
        for arc in arcs[1:3]:
            self.assertAlmostEqual(arc.end - arc.begin, math.pi, delta=0.02)


if __name__ == "__main__":
    unittest.main()
