"""Which kinks can be lifted, and what stands in their place."""

from __future__ import annotations

import unittest

import numpy as np

from ilvren.evaluate import Gate
from ilvren.problem import Problem, lifted_of, loads


def problem_of(objective: str, *, limits: str = "", sense: str = "minimize") -> Problem:
    rows = f"\n[constraints]\n{limits}" if limits else ""
    return loads(
        "[variables]\nx = { start = 0.3, lower = -2, upper = 3 }\ny = { start = -0.7 }\n"
        f'v = {{ shape = 5, start = [3, -1, 2, 0.5, -4] }}\n[{sense}]\nf = "{objective}"{rows}'
    )


# objective → unknowns and rows in all; None: nothing can be lifted
CASES = {
    "max(x, y)": (1, 2),
    "abs(x) + 2*abs(y - x)": (2, 4),
    "max(x, y, x + y, 3)": (1, 4),
    "max(v)": (1, 5),
    "max(abs(v))": (1, 10),
    "max(abs(v - x)) + min(1, 2)": (1, 10),
    "sum(abs(v))": (5, 10),
    "sum(max(v - y, 0))": (5, 10),
    "-min(x, y)": (1, 2),
    "max(x, 0)^2": (1, 2),
    "exp(max(x, y))": (1, 2),
    "(x + 2)*abs(y)": (1, 2),  # x + 2 is never negative within the bounds
    "max(abs(x), abs(y) + max(v))": (3, 10),
    "1 / min(x + 3, y^2 + 1)": (1, 2),
    "max(x, y) / 2 + max(x, y) * 3": (1, 2),
    "min(x, y)": None,
    "-abs(x)": None,
    "x*abs(y)": None,  # x has either sign
    "max(x, y)^2": None,  # falls where the larger is negative
    "max(x, y) - 2*max(x, y)": None,
    "where(x > 0, max(x, y), y)": None,
    "where(max(x, y) > 1, 0, 1)": None,
    "sin(max(x, y))": None,
}


class WhatIsLifted(unittest.TestCase):
    def test_unknowns_and_rows(self) -> None:
        for objective, expected in CASES.items():
            with self.subTest(objective=objective):
                problem = problem_of(objective)
                lifted = lifted_of(problem)
                found = None
                if lifted is not None:
                    own = lifted.problem
                    found = (own.size - problem.size, own.row_count - problem.row_count)
                self.assertEqual(found, expected)

    def test_a_kink_that_cannot_be_lifted_leaves_the_others(self) -> None:
        lifted = lifted_of(problem_of("max(x, y) + min(x, y) + abs(y)"))
        assert lifted is not None
        self.assertFalse(lifted.is_smooth)
        self.assertEqual(lifted.problem.size - lifted.own.size, 2)

    def test_rows_press_by_their_limits(self) -> None:
        for limit, is_lifted in (
            ("max(x, y) <= 1", True),
            ("max(x, y) >= 1", False),
            ("min(x, y) >= 1", True),
            ("abs(x + y) == 1", False),
            ("0 <= abs(x) <= 1", False),
            ("x - abs(y) >= 0", True),
        ):
            with self.subTest(limit=limit):
                self.assertEqual(lifted_of(problem_of("x", limits=f'c = "{limit}"')) is not None, is_lifted)
        self.assertIsNotNone(lifted_of(problem_of("min(x, y)", sense="maximize")))
        self.assertIsNone(lifted_of(problem_of("max(x, y)", sense="maximize")))


class WhatStandsInTheirPlace(unittest.TestCase):
    def test_values_agree_and_limits_hold_exactly_with_the_kinks_at_their_values(self) -> None:
        rng = np.random.default_rng(3)
        for objective, expected in CASES.items():
            if expected is None:
                continue
            problem = problem_of(objective, limits='c = "max(v) - min(v) + abs(x) <= 9"')
            lifted = lifted_of(problem)
            assert lifted is not None
            gate, own = Gate(lifted.problem), Gate(problem)
            for _ in range(5):
                point = np.clip(rng.normal(size=problem.size), *(problem.joined(side) for side in ("lower", "upper")))
                there, here = gate.evaluate(lifted.point_at(point)), own.evaluate(point)
                with self.subTest(objective=objective):
                    self.assertAlmostEqual(there.objective, here.objective, delta=1e-12 * (1 + abs(here.objective)))
                    self.assertAlmostEqual(there.rows[0], here.rows[0], delta=1e-12)
                    self.assertGreaterEqual(float(there.rows[1:].min()), 0.0)
                    # The kink's own value is the least that its limits allow: one of them is met exactly.
                    self.assertLessEqual(float(there.rows[1:].min()), 0.0)


if __name__ == "__main__":
    unittest.main()
