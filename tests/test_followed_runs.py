"""Runs that are interrupted and gone on with, or shared out among workers, take the same path: fits through models,
searches of a whole box, and problems of very many equations against their exact solution."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
from scipy.sparse import csr_array, diags_array, hstack, vstack
from scipy.sparse.linalg import spsolve

from ilvren import load, loads, resume, run
from ilvren.ledger import Ledger
from ilvren.problem import Refinement, checked_scenarios
from ilvren.runs import command_again
from tests.compact import only_in_whole, some

MODELS = """
import numpy as np

def cooling(rate, rest, t):
    return {"curve": rest + (4.0 - rest) * np.exp(-rate * np.asarray(t)) + 0.02 * np.sin(9.0 * np.asarray(t))}

def hills(x, y):
    return {"height": np.cos(3.0 * x) * np.cos(2.0 * y) - 0.1 * ((x - 1.0) ** 2 + (y + 0.5) ** 2)}
"""
FIT = """
[parameters]
t = "evenly(0, 3, 13)"
seen = [4.01, 3.1, 2.42, 2.03, 1.74, 1.49, 1.29, 1.2, 1.15, 1.1, 1.03, 1.04, 1.02]
[variables]
rate = { start = 3.0, lower = 0.01, upper = 9.0 }
rest = { start = 3.0, lower = 0.0, upper = 4.0 }
[models.body]
python = "bodies.py:cooling"
outputs = { curve = { shape = 13 } }
DERIVATIVES
[fit]
line = { residual = "body.curve - seen", sigma = 0.05 }
"""
BOX = """
[variables]
x = { start = -1.5, lower = -2, upper = 2 }
y = { start = 1.5, lower = -2, upper = 2 }
[models.land]
python = "bodies.py:hills"
outputs = { height = {} }
[maximize]
height = "land.height"
"""


def path_of(result):
    """Return what tells one path from another: the designs asked for, and the iterates."""
    return [record.point for record in result.evaluations], [record.point for record in result.iterations]


class Followed(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        (self.folder / "bodies.py").write_text(MODELS)
        for name, text in (("fit", FIT.replace("DERIVATIVES", "")), ("box", BOX)):
            (self.folder / f"{name}.toml").write_text(text)
        (self.folder / "differenced.toml").write_text(FIT.replace("DERIVATIVES", 'derivatives = "differences"'))

    def problem(self, name):
        return load(self.folder / f"{name}.toml")

    @only_in_whole
    def test_a_fit_goes_on_where_it_was_stopped(self):
        for name in ("fit", "differenced"):
            whole = run(self.problem(name), method="levenberg-marquardt")
            self.assertEqual(whole.outcome, "converged", whole.reason)
            self.assertLess(abs(whole.variables["rate"] - 1.4), 0.3)
            for stop in (1, 4):
                with self.subTest(name=name, stop=stop), Ledger(self.folder / f"{name}{stop}.ledger") as ledger:
                    first = run(self.problem(name), method="levenberg-marquardt", iterations=stop, ledger=ledger)
                    self.assertEqual(first.outcome, "exhausted")
                    again = resume("r1", ledger, iterations=500)
                    self.assertEqual(path_of(again), path_of(whole))
                    self.assertEqual(again.point, whole.point)
                    self.assertEqual(again.counts, whole.counts)
                    self.assertEqual(again.estimates.to_dict(), whole.estimates.to_dict())

    @only_in_whole
    def test_workers_change_no_path(self):
        cases = [("fit", "levenberg-marquardt", {}), ("differenced", "levenberg-marquardt", {})]
        cases.append(("box", "global", {"evaluations": 200, "seed": 3}))
        for name, method, given in some(cases):
            with self.subTest(name=name):
                alone = run(self.problem(name), method=method, **given)
                shared = run(self.problem(name), method=method, workers=2, **given)
                self.assertEqual(path_of(shared), path_of(alone))
                self.assertEqual(shared.to_dict()["variables"], alone.to_dict()["variables"])
                self.assertEqual((shared.outcome, shared.reason), (alone.outcome, alone.reason))
        self.assertGreater(shared.objectives["height"], 0.8904)  # the highest of many hills: 0.89059

    @only_in_whole
    def test_a_search_of_a_box_with_workers_is_gone_on_with(self):
        given = {"method": "global", "seed": 3, "workers": 2}
        whole = run(self.problem("box"), evaluations=200, **given)
        with Ledger(self.folder / "box.ledger") as ledger:
            run(self.problem("box"), evaluations=120, ledger=ledger, **given)
            again = resume("r1", ledger, evaluations=200, workers=2)
            self.assertEqual(path_of(again), path_of(whole))

    def test_the_command_that_makes_a_run_again_makes_the_same(self):
        with Ledger(self.folder / "again.ledger") as ledger:
            run(
                self.problem("box"), method="differential-evolution", seed=5, evaluations=90, ledger=ledger,
                options={"population": 30}, tolerance=1e-4, scaling=False,
            )  # fmt: skip
            words = command_again(ledger.run("r1"))
        for flags in (
            "--method differential-evolution", "--option population=30", "--seed 5", "--evaluations 90",
            "--tolerance 0.0001", "--no-scaling",
        ):  # fmt: skip
            self.assertIn(flags, words)
        self.assertNotIn("--feasibility", words)

    def test_the_command_again_asks_for_as_many_scenarios(self):
        text = """
[parameters]
load = 3.0
[scatter]
load = { law = "normal", deviation = 0.3 }
[variables]
x = { start = 5, lower = 0, upper = 9 }
[minimize]
f = "expected((x - load)^2)"
"""
        (self.folder / "s.toml").write_text(text)
        with Ledger(self.folder / "s.ledger") as ledger:
            for scenarios in (None, 300):
                refinement = Refinement(scatter=checked_scenarios(scenarios))
                result = run(load(self.folder / "s.toml", refinement=refinement), method="sqp", ledger=ledger)
                words = command_again(ledger.run(result.id))
                self.assertEqual("--scenarios 300" in words, scenarios == 300)
                self.assertEqual("--scenarios" in words, scenarios == 300)


class ManyEquations(unittest.TestCase):
    def test_a_chain_of_equations_is_solved_exactly(self):
        """Tracking along 10,400 linear equations in 20,801 unknowns: its optimum solves one sparse system."""
        n, h = 10_400, 1e-3
        text = f"""
[parameters]
n = {n}
aim = "sin(evenly(0, 6, n + 1))"
[variables]
x = {{ shape = "n + 1", start = 0.0 }}
u = {{ shape = "n", start = 0.0, lower = -50, upper = 50 }}
[minimize]
miss = "sum((x - aim)^2) / 2 + 0.05 * sum(u^2)"
[constraints]
chain = "x[1:] == x[:-1] + {h} * (u - x[:-1])"
"""
        result = run(loads(text), method="interior-point", seconds=90)
        self.assertEqual(result.outcome, "converged", result.reason)
        ahead = diags_array([np.full(n, h - 1.0), np.ones(n)], offsets=[0, 1], shape=(n, n + 1))
        rows = csr_array(hstack([ahead, -h * diags_array(np.ones(n))]))
        weights = diags_array(np.concatenate([np.ones(n + 1), np.full(n, 0.1)]))
        aim = np.sin(np.linspace(0.0, 6.0, n + 1))
        system = vstack([hstack([weights, rows.T]), hstack([rows, csr_array((n, n))])]).tocsc()
        exact = spsolve(system, np.concatenate([aim, np.zeros(2 * n)]))[: 2 * n + 1]
        self.assertLess(np.abs(exact[n + 1 :]).max(), 50.0)  # no bound holds
        np.testing.assert_allclose(result.point, exact, atol=1e-5)


if __name__ == "__main__":
    unittest.main()
