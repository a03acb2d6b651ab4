"""Enumeration: what brute force finds, bounds that are proved, limits and resuming on the same path."""

import itertools
import tempfile
import unittest
from pathlib import Path

import numpy as np

from ilvren import loads, resume, run, verify
from ilvren.algebra import AllowedValues
from ilvren.errors import RequestError
from ilvren.ledger import Ledger
from ilvren.methods.enumeration import designs
from tests.compact import WHOLE

TEXT = """[variables]
a = { start = 0, lower = -24, upper = 24, spacing = 1 }
b = { start = 0, lower = -24, upper = 24, spacing = 2 }
c = { start = 4, catalogue = [-7, 1, 4, 9.5] }
d = { shape = 2, start = 1, lower = 0, upper = 6, spacing = SPACING }
[minimize]
f = "(a - 3.3)^2 + abs(a * b - c) + 3 * sin(a * b) + (d[0] - b / 7)^2 + cos(3 * d[1]) * d[0] + 2"
[constraints]
g = "a + b + sum(d) >= 5"
""".replace("SPACING", "0.5" if WHOLE else "1")


class Enumeration(unittest.TestCase):
    def test_designs_are_counted_each_once(self):
        grids = [AllowedValues(0.0, 1.0, 3), AllowedValues(5.0, 0.5, 4)]
        found = [tuple(row) for row in designs(grids, np.arange(12))]
        self.assertEqual(found, list(itertools.product((0.0, 1.0, 2.0), (5.0, 5.5, 6.0, 6.5))))

    def test_the_best_of_all_is_found_and_proved(self):
        problem = loads(TEXT)
        result = run(problem)
        self.assertEqual((result.method, result.outcome), ("enumeration", "settled"))
        self.assertEqual(result.counts["evaluations"], 49 * 25 * 4 * (13 * 13 if WHOLE else 7 * 7))
        self.assertEqual((result.bound, result.bound_is_proved), (result.objective, True))
        other = run(problem, method="differential-evolution", evaluations=6_000)
        self.assertLessEqual(result.objective, other.objective)
        verdict = verify(result)
        self.assertEqual(verdict.verdict, "global-proved", verdict.reason)
        self.assertIn("828,100 designs" if WHOLE else "240,100 designs", verdict.reason)
        worse = verify(problem, at={"a": 3, "b": 0, "c": 1, "d": [6, 1]})
        self.assertEqual(worse.verdict, "improvable")

    def test_nothing_feasible_is_proved_too(self):
        result = run(loads(TEXT.replace(">= 5", ">= 500")))
        self.assertEqual((result.outcome, result.design), ("infeasible", "least-violation"))

    def test_a_limit_ends_it_and_it_goes_on_on_the_same_path(self):
        with tempfile.TemporaryDirectory() as folder, Ledger(Path(folder) / "runs.ledger") as ledger:
            whole = run(loads(TEXT), ledger=ledger)
            part = run(loads(TEXT), ledger=ledger, evaluations=120_000)
            self.assertEqual((part.outcome, part.counts["evaluations"]), ("exhausted", 120_000))
            rest = resume(part.id, ledger, evaluations=1_000_000)
            self.assertEqual((rest.point, rest.counts), (whole.point, whole.counts))
            self.assertLess(len(ledger.evaluations(1)), 30)  # only the best of each batch is recorded

    def test_continuous_variables_are_refused(self):
        with self.assertRaisesRegex(RequestError, "spaced and catalogue variables only"):
            run(loads('[variables]\nx = { start = 1 }\n[minimize]\nf = "x^2"\n'), method="enumeration")


if __name__ == "__main__":
    unittest.main()
