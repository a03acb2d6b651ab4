"""Published problems with kinks: solved exactly by lifting, judged as what they are, on a path that resumes."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

import ilvren
from ilvren.ledger import Ledger
from ilvren.problem import lifted_of, loads
from ilvren.runs import resume
from tests.compact import only_in_whole, some
from tests.kinked import KINKED_PROBLEMS

# The rational fit has local optima with poles on either side; wherever a run ends is one of them.
MULTIMODAL = frozenset({"exponential"})


class PublishedKinks(unittest.TestCase):
    def test_the_default_and_the_constrained_methods_find_the_known_optimum(self) -> None:
        for item in some(KINKED_PROBLEMS, 4):
            problem = loads(item.text)
            for method in ("automatic", "interior-point"):
                if item.name in MULTIMODAL or (method != "automatic" and item.name == "kowalik-osborne"):
                    continue
                with self.subTest(problem=item.name, method=method):
                    result = ilvren.run(problem, method=method, second_look=0)
                    self.assertEqual(result.outcome, "converged", result.reason)
                    assert result.objective is not None
                    self.assertAlmostEqual(result.objective, item.optimum, delta=2e-6 * max(1.0, abs(item.optimum)))
                    self.assertLess(result.counts["evaluations"], 150)

    def test_the_optimum_holds_and_a_design_beside_it_does_not(self) -> None:
        for item in some(KINKED_PROBLEMS[:6], 3, 1):
            problem = loads(item.text)
            result = ilvren.run(problem)
            with self.subTest(problem=item.name):
                self.assertEqual(ilvren.verify(result).verdict, "local-strict")
                aside = {name: value + 0.01 for name, value in result.variables.items()}
                self.assertFalse(ilvren.verify(problem, at=aside).holds)

    def test_results_speak_of_the_users_own_names_only(self) -> None:
        problem = loads(
            "[variables]\nx = { start = 2 }\ny = { start = 1, lower = 0.25 }\n[minimize]\nf = 'max(x, -x, y - x)'\n"
            "[constraints]\nwide = 'abs(x) + y <= 3'\nreach = 'x + y >= 1'"
        )
        found = ilvren.run(problem).to_dict()
        self.assertEqual(list(found["variables"]), ["x", "y"])
        self.assertEqual(list(found["constraints"]), ["wide", "reach"])
        # Largest of x and y − x under x + y >= 1, y >= 1/4: x = 1/3, y = 2/3, and 1/3 more for each unit of reach.
        self.assertAlmostEqual(found["objectives"]["f"], 1 / 3, delta=1e-6)
        self.assertAlmostEqual(found["constraints"]["reach"]["price"], 1 / 3, delta=1e-5)

    @only_in_whole
    def test_kinks_that_can_be_lifted_in_part_only(self) -> None:
        cases = (("abs(abs(abs(x)-2)-1) + abs(y)", 0.0), ("max(x, y) + min(x, -y) + x^2 + y^2", -0.5))
        for objective, least in some(cases):
            text = f"[variables]\nx = {{ start = -1.3 }}\ny = {{ start = 5 }}\n[minimize]\nf = '{objective}'\n"
            lifted = lifted_of(loads(text))
            assert lifted is not None
            self.assertFalse(lifted.is_smooth)
            for method in ("automatic", "sqp", "interior-point"):
                result = ilvren.run(loads(text), method=method, second_look=1.0)
                with self.subTest(objective=objective, method=method):
                    self.assertNotEqual(result.outcome, "invalid")
                    assert result.objective is not None
                    if method == "automatic":
                        self.assertAlmostEqual(result.objective, least, delta=1e-5)

    def test_an_interrupted_run_resumes_on_its_path(self) -> None:
        item = next(item for item in KINKED_PROBLEMS if item.name == "rosen-suzuki")
        whole = ilvren.run(loads(item.text))
        with tempfile.TemporaryDirectory() as folder:
            ledger = Ledger(Path(folder) / "one.ledger")
            self.addCleanup(ledger.close)
            first = ilvren.run(loads(item.text), ledger=ledger, evaluations=7)
            self.assertEqual(first.outcome, "exhausted")
            again = resume("last", ledger, evaluations=1000)
        self.assertEqual(again.point, whole.point)
        self.assertEqual(again.counts, whole.counts)


if __name__ == "__main__":
    unittest.main()
