"""Methods that search by surfaces: few evaluations, what they foretold on record, and rough ground."""

import json
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from ilvren import load, loads, run
from ilvren.ledger import Ledger
from ilvren.methods.base import Assessment, Iterate, Reply, Request, method_named
from ilvren.methods.pieces.near_surfaces import Surfaces
from ilvren.runs.choice import choose, chosen_method
from ilvren.runs.settings import Settings
from tests.compact import WHOLE, only_in_whole
from tests.driving import drive, task_of
from tests.published import PUBLISHED
from tests.test_cli import InAFolder

METHODS = ("surface-trust-region", "expected-improvement")
MODEL = "def value(x, y):\n    return (x - 0.7) ** 2 + 3 * (y - x * x) ** 2\n"
PROBLEM = """
[variables]
x = { start = 0.2, lower = -1, upper = 1 }
y = { start = 0.9, lower = -1, upper = 1 }
[models.hill]
python = "hill.py:value"
outputs = ["height"]
derivatives = "differences"
[maximize]
gain = "500 - 1e4 * hill.height"
[constraints]
reach = "x + y <= 1.4"
"""


def valley(x):
    return 5.0 * (x[:, 1] - x[:, 0] ** 2) ** 2 + (1.0 - x[:, 0]) ** 2


class TrustRegion(unittest.TestCase):
    @only_in_whole
    def test_published_problems_are_solved_within_ten_evaluations_a_variable(self):
        near = []
        for case in [case for case in PUBLISHED if 2 <= len(case.starts) <= 6][:: 14 if WHOLE else 20]:
            n = len(case.starts)
            found = run(case.problem(), method="surface-trust-region", evaluations=10 * (n + 1))
            gain = abs(found.baseline_objective - case.best)
            is_close = found.objective - case.best <= 1e-3 * max(abs(case.best), gain, 1e-9)
            near.append(is_close and found.violation <= 1e-6)
        self.assertGreaterEqual(np.mean(near), 0.7)

    def test_near_surfaces_agree_with_what_they_come_from(self):
        task = replace(
            task_of([0.0, 0.0], -1.0, 1.0), row_lower=np.zeros(2), row_upper=np.ones(2), row_sizes=np.ones(2)
        )
        x = np.random.default_rng(0).uniform(-0.5, 0.5, (9, 2))
        values = np.column_stack([valley(x), 1.0 + x @ [2.0, -3.0], np.exp(5.0 * x[:, 0])])
        centre, radius = np.zeros(2), np.full(2, 0.3)
        found = Surfaces(task).fitted(x, values, centre, radius)
        self.assertLess((np.abs(found.values(x) - values).max(axis=0) / np.ptp(values, axis=0)).max(), 0.05)
        self.assertLess(found.said[1], 1e-8)  # a plane is told exactly
        z = np.array([0.3, -0.4])
        value, slopes = found.local(z)
        seen = [(found.local(z + s)[0] - found.local(z - s)[0]) / 2e-6 for s in 1e-6 * np.eye(2)]
        np.testing.assert_allclose(slopes, np.array(seen).T, atol=1e-5)
        np.testing.assert_allclose(value, found.values((centre + radius * z)[np.newaxis])[0], atol=1e-10)
        bend = [(found.local(z + s)[1][0] - found.local(z - s)[1][0]) / 2e-4 for s in 1e-4 * np.eye(2)]
        np.testing.assert_allclose(found.hessian(z, np.zeros(2)), np.array(bend), atol=1e-3)

    def test_values_that_are_missing_noisy_or_vast(self):
        def holed(x):
            return np.where(x[:, 0] + x[:, 1] > 0.9, np.nan, valley(x))

        def noisy(x):
            rough = 1e-3 * np.random.default_rng([*np.abs(1e6 * x[0]).astype(int)]).normal(size=len(x))
            return ((x - 0.3) ** 2).sum(axis=1) + rough

        def steep(x):
            return np.exp(200.0 * np.abs(x[:, 0] - 0.1)) + x[:, 1] ** 2

        for function, best, near in ((holed, 0.1765, 0.01), (noisy, 0.0, 0.02), (steep, 1.0, 1.0)):
            found = drive("surface-trust-region", task_of([-0.4, 0.5], -1.0, 1.0), function, most=150)
            with self.subTest(function=function.__name__):
                self.assertLess(found.best - best, near)

    def test_as_many_designs_are_asked_for_at_a_time_as_there_are_workers(self):
        task, method = task_of([-0.5, 0.5, 0.1], -1.0, 1.0), method_named("surface-trust-region")
        generator, answer, sizes, reached = method.run(task, method.options(batch=4)), None, [], np.inf
        while len(sizes) < 12:
            message = generator.send(answer)
            if isinstance(message, Request):
                sizes.append(len(message.points))
                self.assertEqual(len(np.unique(message.points, axis=0)), len(message.points))
                f = valley(message.points) + message.points[:, 2] ** 2
                reached = min(reached, f.min())
                answer = Reply(f, np.zeros((len(f), 0)))
            else:
                self.assertIsInstance(message, Iterate)
                answer = Assessment(0.0, None, False)
        self.assertEqual(sizes[0], 4)
        self.assertGreaterEqual(sizes.count(4), 8)
        self.assertLess(reached, 0.05)

    def test_costly_models_get_the_method_that_fits_their_limits(self):
        text = PROBLEM
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (folder / "hill.py").write_text(MODEL)
        for row, bounds, named in (
            ("", True, "expected-improvement"),
            ('line = "x - y == 0.1"', True, "surface-trust-region"),
            ("", False, "surface-trust-region"),
        ):
            own = text + row + "\n"
            own = own if bounds else own.replace(", lower = -1", "")
            (folder / "hill.toml").write_text(own)
            problem = load(folder / "hill.toml")
            chosen, _ = chosen_method(problem, Settings(method="automatic"), has_options=False)
            self.assertEqual(chosen.costly.name, named)
            self.assertIn("quadratic-interpolation", choose(problem).names)


class Foretold(InAFolder):
    def setUp(self):
        super().setUp()
        Path("hill.py").write_text(MODEL)
        Path("hill.toml").write_text(PROBLEM)

    def test_predictions_are_told_as_the_objective_is_written_and_compared(self):
        for number, method in enumerate(METHODS, start=1):
            run(load("hill.toml"), method=method, evaluations=25, ledger="ilvren.ledger")
            with Ledger("ilvren.ledger", read_only=True) as ledger:
                objectives = [item.objective for item in ledger.evaluations(number)]
                told = [item.foretold for item in ledger.iterations(number) if item.foretold is not None]
                notes = [item.note for item in ledger.iterations(number)]
            self.assertGreater(len(told), 3)
            for one in told:
                self.assertLess(min(abs(one.actual - value) for value in objectives), 1e-6)
            self.assertLess(abs(told[-1].said - told[-1].actual), 5.0)  # of a range of 40,000
            self.assertTrue(any(note.startswith("predicted 4") and "actual 4" in note for note in notes))
        document = json.loads(self.call("compare", "r1", "r2", "--json")[0])
        for item in document["runs"]:
            told = item["predictions"]
            self.assertEqual(told["count"], len(told["along"]))
            self.assertLess(told["typical_error"]["second_half"], 500.0)
        self.assertIn("off, first half", self.call("compare", "r1", "r2")[0])
        self.call("compare", "r1", "--figure", "predictions", "--output", "p.png")
        self.assertGreater(Path("p.png").stat().st_size, 10_000)

    def test_a_search_on_an_approximation_has_its_rounds_compared_and_others_predict_nothing(self):
        self.call("sample", "hill.toml", "--points", "15", "--quiet")
        self.call("approximate", "r1", "--kind", "polynomial", "--quiet")
        self.call("run", "hill.toml", "--on", "a1", "--rounds", "2", "--quiet")
        told = json.loads(self.call("compare", "r2", "--json")[0])["runs"][0]["predictions"]
        self.assertEqual((told["surface"], told["within_twice_told"]), ("a1", None))
        run(loads('[variables]\nx = 3.0\n[minimize]\nf = "x^2"\n'), method="bfgs", ledger="ilvren.ledger")
        err = self.call("compare", "r3", "--figure", "predictions", "--output", "p.png", status=2)[1]
        self.assertIn("predicted anything", err)


if __name__ == "__main__":
    unittest.main()
