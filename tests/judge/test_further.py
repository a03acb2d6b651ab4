"""What a verification does beyond its own checks, and how far its word depends on what was asked."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

from ilvren import loads, run, verify
from ilvren.errors import RequestError
from ilvren.judge import VerifyOptions
from ilvren.judge.verifying.recording import record_better
from ilvren.ledger import Ledger
from tests.compact import only_in_whole
from tests.problems import two_variables

WELLS = two_variables("(x^2 - 1)^2 + 0.3 * x + y^2", bounds=(-2, 2), start=(0.9, 0.4))
TWINS = two_variables("(x^2 - 1)^2 + y^2", bounds=(-2, 2), start=(0.9, 0.4))


def check(verdict, name):
    return next(item for item in verdict.checks if item.name == name)


class OtherMethods(unittest.TestCase):
    def test_what_another_method_finds_is_told_apart(self):
        for text, start, method, result, words in (
            (two_variables("(x - 1)^2 + y^2"), {}, "nelder-mead", "pass", "the same design"),
            (WELLS, {"x": 0.9}, "multistart", "fail", "a better design"),
            (WELLS, {"x": -1.2}, "bfgs", "unknown", "ends at a worse design"),
            (TWINS, {"x": -1.2}, "bfgs", "pass", "the same objective at another design"),
        ):
            design = run(loads(text, start=start), method="bfgs")
            # The other method begins where the file does.
            judged = replace(design, problem=loads(text))
            found = check(verify(judged, extra=VerifyOptions(method=method)), "other-method")
            with self.subTest(method=method, words=words):
                self.assertEqual(found.result, result, found.detail)
                self.assertIn(words, found.detail)

    def test_a_method_that_finds_nothing_feasible_says_nothing(self):
        text = two_variables("x + y", "x * y >= 4", "x + y <= 4.0001", bounds=(0, 9), start=(0.1, 8.0))
        design = run(loads(text, start={"x": 2.0, "y": 2.0}))
        verdict = verify(replace(design, problem=loads(text)), extra=VerifyOptions(method="dividing-rectangles"))
        self.assertIn(check(verdict, "other-method").result, ("pass", "unknown"))
        self.assertTrue(verdict.holds)


class RandomStarts(unittest.TestCase):
    @only_in_whole
    def test_they_find_the_other_well_and_count_what_they_reach(self):
        trapped = run(loads(WELLS), method="bfgs")
        found = verify(trapped, extra=VerifyOptions(random_starts=6))
        self.assertEqual((found.verdict, check(found, "random-starts").result), ("improvable", "fail"))
        self.assertLess(found.better["x"], 0.0)
        best = run(loads(WELLS, start={"x": -1.0}), method="bfgs")
        good = check(verify(best, extra=VerifyOptions(random_starts=6)), "random-starts")
        self.assertEqual(good.result, "pass")
        self.assertIn("6 random starts: 6 end at feasible designs", good.detail)
        again = check(verify(best, extra=VerifyOptions(random_starts=6)), "random-starts")
        self.assertEqual(good.detail, again.detail)  # the same seed, the same starts

    def test_the_better_design_is_kept_as_a_run(self):
        with tempfile.TemporaryDirectory() as folder, Ledger(Path(folder) / "l") as ledger:
            first = run(loads(WELLS), method="bfgs", ledger=ledger)
            found = verify(first.id, ledger=ledger, extra=VerifyOptions(random_starts=6))
            kept = record_better(found, ledger)
            self.assertEqual(kept.better_run, "r2")
            self.assertLess(ledger.run("r2").result["objectives"]["f"], first.objective - 0.1)
            self.assertEqual(kept.to_dict()["better"]["run"], "r2")


class Tolerances(unittest.TestCase):
    def test_the_word_and_the_tolerance(self):
        """A design off by a little holds for a tolerance that allows it, and says how little is missing."""
        problem = loads(two_variables("(x - 1)^2 + y^2 + 1"))
        for off, tolerance, holds in ((1e-4, 1e-6, True), (3e-3, 1e-6, False), (3e-3, 1e-4, True), (0.0, 1e-9, True)):
            with self.subTest(off=off, tolerance=tolerance):
                found = verify(problem, at={"x": 1.0 + off, "y": 0.0}, tolerance=tolerance)
                self.assertEqual(found.holds, holds, found.reason)
                if holds:
                    self.assertLessEqual(check(found, "sensitivity").value, tolerance)
        close = verify(problem, at={"x": 1.0 + 8e-4, "y": 0.0}, tolerance=1e-6)
        self.assertEqual(check(close, "sensitivity").result, "unknown")
        self.assertIn("would change the verdict", check(close, "sensitivity").detail)

    def test_the_miss_allowed_is_what_is_asked_for(self):
        problem = loads(two_variables("x^2 + y^2", "x >= 1"))
        design = {"x": 0.9995, "y": 0.0}
        self.assertEqual(verify(problem, at=design).verdict, "limits-broken")
        self.assertEqual(verify(problem, at=design, feasibility=1e-3, tolerance=1e-3).verdict, "local-strict")
        for wrong in ({"feasibility": 0.0}, {"tolerance": 2.0}):
            with self.assertRaises(RequestError):
                verify(problem, at=design, **wrong)

    def test_a_design_must_be_named_somehow(self):
        with self.assertRaises(RequestError):
            verify("r1")
        with self.assertRaises(RequestError) as caught:
            verify(loads(WELLS), at={"z": 1.0})
        self.assertIn('"z"', str(caught.exception))
