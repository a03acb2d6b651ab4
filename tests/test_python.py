"""The library as a Python program uses it: files, ledgers by path, listeners, and errors that carry facts."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
from benchmarks.evaluation import by_hand, demo_problem

import ilvren
from ilvren.errors import InputError, ProblemError, RequestError
from ilvren.evaluate import Gate
from ilvren.ledger import Ledger
from ilvren.runs import Ended, Iterated, Started
from tests.compact import only_in_whole
from tests.problems import two_variables

TEXT = two_variables("(x - 1)^2 + (y - 2)^2", "x + y <= 2", start=(0.0, 0.0))


class FromPython(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.file = Path(folder.name) / "problem.toml"
        self.file.write_text(TEXT)
        self.ledger = Path(folder.name) / "runs.ledger"

    @only_in_whole
    def test_the_whole_way_with_paths(self):
        smooth = ilvren.run(self.file, method="sqp", ledger=self.ledger, label="smooth")
        ilvren.run(str(self.file), method="nelder-mead", ledger=self.ledger, evaluations=30)
        self.assertEqual((smooth.id, smooth.outcome), ("r1", "converged"))
        np.testing.assert_allclose(smooth.point, (0.5, 1.5), atol=1e-6)
        table = ilvren.compare("smooth", "r2", ledger=self.ledger)
        self.assertAlmostEqual(table.best, 0.5, places=6)
        self.assertTrue(ilvren.verify("r1", ledger=self.ledger).holds)
        with Ledger(self.ledger) as ledger:
            mended = ilvren.resume("r2", ledger, evaluations=5000)
        self.assertEqual((mended.id, mended.outcome), ("r2", "settled"))
        self.assertTrue(ilvren.verify("r2", ledger=self.ledger).holds)

    def test_results_in_memory_and_in_the_ledger_say_the_same(self):
        problem = ilvren.load(self.file)
        alone = ilvren.run(problem, method="sqp")
        recorded = ilvren.run(problem, method="sqp", ledger=self.ledger)
        self.assertEqual(alone.point, recorded.point)
        self.assertEqual(alone.id, "")
        self.assertEqual(ilvren.compare(alone).arrivals, ilvren.compare("r1", ledger=self.ledger).arrivals)
        mine, theirs = ilvren.verify(alone), ilvren.verify("r1", ledger=self.ledger)
        self.assertEqual(
            [check.to_dict() for check in mine.checks][1:], [check.to_dict() for check in theirs.checks][1:]
        )
        self.assertIn("in a new process", theirs.checks[0].detail)  # a result in memory is evaluated here

    def test_listeners_hear_everything_in_order(self):
        events = []
        result = ilvren.run(self.file, method="sqp", listener=events.append)
        self.assertIsInstance(events[0], Started)
        self.assertEqual(events[-1], Ended("converged"))
        iterations = [event for event in events if isinstance(event, Iterated)]
        self.assertEqual([event.iteration for event in iterations], list(range(result.counts["iterations"] + 1)))
        self.assertEqual(iterations[-1].evaluations, result.counts["evaluations"])

    def test_errors_carry_facts(self):
        self.file.write_text(TEXT.replace("x + y <= 2", "x + z <= 2"))
        with self.assertRaises(ProblemError) as caught:
            ilvren.load(self.file)
        error = caught.exception
        self.assertEqual((error.file, error.line, error.where), (str(self.file), 7, "constraints.c0"))
        self.assertEqual(error.text[slice(*error.span)], "z")
        for call in (
            lambda: ilvren.run(ilvren.loads(TEXT), options={"exact": False}),
            lambda: ilvren.run(ilvren.loads(TEXT), method="sqp", colour=3),
            lambda: ilvren.verify("r1"),
            lambda: ilvren.compare("r1"),
            lambda: ilvren.verify("r1", ledger=self.ledger),
            lambda: ilvren.loads(TEXT, set={"nothing": 1.0}),
        ):
            with self.assertRaises(InputError):
                call()
        with self.assertRaises(AttributeError):
            _ = ilvren.optimise
        self.assertIsInstance(RequestError("x"), InputError)

    def test_the_hand_written_benchmark_computes_the_demo(self):
        gate = Gate(demo_problem())
        for point in np.random.default_rng(6).uniform([0.1, 3.0, 0.015], [0.3, 15.0, 0.04], size=(20, 3)):
            ours, (cost, rows, gradient, jacobian) = gate.evaluate(point, derivatives=True), by_hand(*point.tolist())
            np.testing.assert_allclose(ours.objective, cost, rtol=1e-12)
            np.testing.assert_allclose(ours.rows, rows, rtol=1e-12)
            np.testing.assert_allclose(ours.gradient, gradient, rtol=1e-9)
            np.testing.assert_allclose(ours.jacobian, jacobian, rtol=1e-9)
