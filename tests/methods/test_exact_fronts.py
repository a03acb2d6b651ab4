"""Methods that search for one point of a front after the other, on fronts that are known in closed form: bent either
way, along limits, and of values a hundred thousand millions apart."""

import unittest

import numpy as np

from ilvren import loads, run
from tests.compact import chosen

METHODS = ("front-continuation", "boundary-intersection", "epsilon-limits")
COUNT = 7
HEAD = "[variables]\nx = {{ start = 0.7, lower = {0}, upper = {1} }}\ny = {{ start = 0.4, lower = -2, upper = 3 }}\n"
BOWLS = '[minimize]\na = "{}(x^2 + y^2)"\nb = "{}((x - 2)^2 + (y - 1)^2)"\n'


def bowls(x, y):
    return x**2 + y**2, (x - 2) ** 2 + (y - 1) ** 2


def between(s):
    """Return the front of two bowls: the line between their lowest points."""
    return bowls(2 * s, s)


def along_bound(s):
    """Return it with x at most 1: from (1, 0.5) on, up the bound to the point nearest to the other."""
    return bowls(np.minimum(2 * s, 1.0), np.maximum(np.minimum(s, 0.5), s))


def along_equation(s):
    """Return it on x + y = 1: from (0.5, 0.5) to (1, 0)."""
    return bowls(0.5 + 0.5 * s, 0.5 - 0.5 * s)


# name → (lowest and highest x, the rest of the file, the front for shares s from 0 to 1).
FRONTS = {
    "a line between": ((-2, 3), BOWLS.format("", ""), between),
    "bent outwards": (
        (0, 1),
        '[minimize]\na = "x + y^2"\nb = "1 - x^2 + y^2"\n',
        lambda s: (s, 1 - s**2),
    ),
    "bent outwards, turned round": (
        (0, 1),
        '[maximize]\na = "-x - y^2"\nb = "x^2 - y^2 - 1"\n',
        lambda s: (-s, s**2 - 1),
    ),
    "a corner at a bound": ((-2, 1), BOWLS.format("", ""), along_bound),
    "on an equation": ((-2, 3), BOWLS.format("", "") + '[constraints]\nc = "x + y == 1"\n', along_equation),
    "of very different sizes": (
        (-2, 3),
        BOWLS.format("1e6 * ", "1e-5 * "),
        lambda s: (1e6 * between(s)[0], 1e-5 * between(s)[1]),
    ),
}


class KnownFronts(unittest.TestCase):
    def test_as_many_as_asked_for_on_the_front_and_spread_along_it(self):
        for number, (name, (room, text, front)) in enumerate(FRONTS.items()):
            known = np.column_stack(front(np.linspace(0.0, 1.0, 20_001)))
            extent = np.ptp(known, axis=0)
            for place, method in enumerate(METHODS):
                if "bent" not in name and not chosen(number, place, 3):
                    continue
                with self.subTest(front=name, method=method):
                    found = run(loads(HEAD.format(*room) + text), method=method, points=COUNT)
                    self.assertEqual((found.outcome, len(found.front.members)), ("settled", COUNT), found.reason)
                    values = np.array([[member.objectives[k] for k in "ab"] for member in found.front.members])
                    away = np.linalg.norm((values[:, None] - known) / extent, axis=2)
                    self.assertLess(away.min(axis=1).max(), 1e-3)  # each of them on it
                    ends = np.linalg.norm((values[:, None] - known[[0, -1]]) / extent, axis=2).min(axis=0)
                    self.assertLess(ends.max(), 1e-3)
                    # The longest way along it without one: no more than twice and a half of what evenly would be.
                    way = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(known / extent, axis=0), axis=1))])
                    stations = np.sort(way[away.argmin(axis=1)])
                    self.assertLess(np.diff(stations).max(), 2.5 * way[-1] / (COUNT - 1))

    def test_one_design_that_is_best_for_both_is_the_front(self):
        text = HEAD.format(-2, 3) + '[minimize]\na = "(x - 1)^2 + y^2"\nb = "2 * (x - 1)^2 + 3 * y^2"\n'
        for method in METHODS:
            found = run(loads(text), method=method, points=COUNT)
            self.assertEqual(len(found.front.members), 1)
            np.testing.assert_allclose(found.front.members[0].point, (1.0, 0.0), atol=1e-6)
            self.assertIn("one design", found.reason)


if __name__ == "__main__":
    unittest.main()
