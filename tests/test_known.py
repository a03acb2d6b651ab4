"""Runs that build on designs known from other runs."""

import tempfile
import unittest
from pathlib import Path

from ilvren import loads, run
from ilvren.errors import RequestError
from ilvren.ledger import Ledger
from ilvren.methods.base import method_named
from ilvren.runs import resume
from tests.driving import single_names

TEXT = """
[parameters]
depth = 20
[variables]
x = { start = 4, lower = -5, upper = 5 }
y = { start = -4, lower = -5, upper = 5 }
k = { start = 3, catalogue = [1, 2, 3, 5] }
[minimize]
f = "(x^2 + y - 11)^2 + (x + y^2 - 7)^2 + depth * (2 - cos(2*pi*x) - cos(2*pi*y)) + k"
[constraints]
c = "x + y >= -8"
"""


class KnownDesigns(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.ledger = self.enterContext(Ledger(Path(folder.name) / "a.ledger"))

    def test_the_first_designs_contain_the_best_known_one(self):
        # A method for continuous variables builds on a run with the member held.
        held = TEXT.replace("start = 3, catalogue = [1, 2, 3, 5]", "lower = 1, upper = 1")
        known = {
            text: run(loads(text), method="differential-evolution", evaluations=2000, ledger=self.ledger)
            for text in (TEXT, held)
        }
        for method in map(method_named, single_names()):
            if not method.takes_known:
                continue
            text = TEXT if "catalogue" in method.handles else held
            with self.subTest(method=method.name):
                few = run(
                    loads(text), method=method.name, evaluations=150, seed=7, known=[known[text].id], ledger=self.ledger
                )
                self.assertLessEqual(few.objective, known[text].objective)
                self.assertIn(known[text].point, {tuple(p) for p in self.designs(few)})
                self.assertIn(few.point, {tuple(p) for p in self.designs(few)})

    def designs(self, result):
        import numpy as np

        return [np.frombuffer(item.point).tolist() for item in result.evaluations]

    def test_a_run_on_known_designs_resumes_on_its_path_whatever_they_grew_to(self):
        run(loads(TEXT), method="particle-swarm", evaluations=120, ledger=self.ledger)
        whole = run(loads(TEXT), method="genetic-algorithm", evaluations=500, known=["r1"], ledger=self.ledger)
        run(loads(TEXT), method="genetic-algorithm", evaluations=230, known=["r1"], ledger=self.ledger)
        resume("r1", self.ledger, evaluations=900)
        again = resume("r3", self.ledger, evaluations=500)
        self.assertEqual((again.point, again.counts), (whole.point, whole.counts))

    def test_values_of_another_problem_are_refused(self):
        run(loads(TEXT), method="particle-swarm", evaluations=60, ledger=self.ledger)
        for problem, method, words in (
            (loads(TEXT, set={"depth": 10}), "particle-swarm", "parameters"),
            (loads(TEXT.replace("11", "12")), "particle-swarm", "text"),
            (loads(TEXT, start={"k": 1}), "mesh-adaptive-search", "does not build on known ones"),
        ):
            with self.subTest(words=words), self.assertRaises(RequestError) as caught:
                run(problem, method=method, known=["r1"], ledger=self.ledger)
            self.assertIn(words, caught.exception.message)
        self.assertEqual(len(self.ledger.runs()), 1)


if __name__ == "__main__":
    unittest.main()
