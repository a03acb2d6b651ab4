"""Models in other processes: the same problem there, what they print, how often they are called, what is told."""

import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import numpy as np

from ilvren import load, run
from ilvren.evaluate import Gate, Job, Recipe
from ilvren.evaluate.worker import Bench
from ilvren.evaluate.workers import ProcessPool
from ilvren.models import ModelFailure
from ilvren.runs.sources import with_source
from tests.compact import some

MODEL = """import os, pathlib, time

HERE = pathlib.Path(__file__).parent

def bend(u, k):
    with (HERE / "calls").open("a") as stream:
        stream.write("x")
    if k > 90:
        raise ValueError("k is too large")
    if k > 80:
        time.sleep(5)
    os.system("echo a child speaks")
    print("the model speaks")
    return {"s": sum(v * v for v in u) * k, "w": [v - 0.1 * k for v in u]}

def slopes(u, k):
    n = len(u)
    return {("s", "u"): [2 * v * k for v in u], ("s", "k"): sum(v * v for v in u),
            ("w", "u"): [[float(i == j) for j in range(n)] for i in range(n)], ("w", "k"): [-0.1] * n}
"""
PROBLEM = """[variables]
u = { start = 0.4, lower = -2, upper = 2, shape = "n" }
[parameters]
n = 3
k = 2.0
[tables.data]
file = "data.csv"
[models.m]
python = "model.py:bend"
inputs = { u = "u", k = "k" }
outputs = { s = {}, w = { shape = "n" } }
timeout = 0.4
SOURCE
[minimize]
f = "m.s + sum(data.y) * sum(u)"
[constraints]
c = "m.w >= -1.5"
"""


class Elsewhere(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        (self.folder / "model.py").write_text(MODEL)
        (self.folder / "data.csv").write_text("x,y\n1,0.25\n2,0.5\n")

    def problem(self, source="", **parameters):
        path = self.folder / "p.toml"
        path.write_text(PROBLEM.replace("SOURCE", source))
        return load(path, set=parameters)

    def calls(self):
        path = self.folder / "calls"
        return len(path.read_text()) if path.exists() else 0

    def test_a_recipe_builds_the_same_problem_with_its_overrides_and_tables(self):
        problem = self.problem(n=4, k=3.0)
        again = Recipe.of(problem, is_sparse=False).problem()
        point = np.array([0.1, -0.2, 0.3, 0.7])
        one, two = Gate(again).evaluate(point), Gate(problem).evaluate(point)
        self.assertEqual((one.objective, one.rows.tolist()), (two.objective, two.rows.tolist()))
        self.assertEqual(again.size, 4)

    def test_files_that_a_machine_has_not_are_laid_out_there(self):
        problem = self.problem()
        recipe = Recipe.of(problem, is_sparse=False)
        expected = Gate(problem).evaluate(np.array([0.1, 0.2, 0.3])).objective
        (self.folder / "model.py").unlink()
        (self.folder / "data.csv").unlink()
        there = recipe.problem()
        self.assertNotEqual(there.sources[0].path.parent, self.folder)
        self.assertEqual(Gate(there).evaluate(np.array([0.1, 0.2, 0.3])).objective, expected)

    def test_every_source_of_derivatives_gives_elsewhere_what_it_gives_here(self):
        point = np.array([0.3, -0.4, 0.9])
        for source in ("automatic", "supplied", "complex-step", "differences"):
            extra = 'derivatives = "differences"\nslopes = "model.py:slopes"' if source == "supplied" else ""
            problem, _ = with_source(self.problem(extra), source)
            gate = Gate(problem)
            here = gate.evaluate(point, derivatives=True)
            steps = tuple(calls.steps for calls in gate.calls)
            answer = Bench(Recipe.of(problem, is_sparse=False)).done(Job(point, derivatives=True, steps=steps))
            with self.subTest(source=source):
                np.testing.assert_array_equal(answer.evaluation.gradient, here.gradient)
                np.testing.assert_array_equal(answer.evaluation.jacobian, here.jacobian)

    def test_the_calls_of_a_difference_are_shared_out(self):
        problem, _ = with_source(self.problem(), "differences")
        alone = Gate(problem).evaluate(np.array([0.3, -0.4, 0.9]), derivatives=True)
        shared, _ = with_source(self.problem(), "differences")
        with ProcessPool(Recipe.of(shared, is_sparse=False), 2) as pool:
            gate = Gate(shared, workers=pool)
            found = gate.evaluate(np.array([0.3, -0.4, 0.9]), derivatives=True)
            np.testing.assert_array_equal(found.gradient, alone.gradient)
            self.assertEqual(gate.counts.evaluations, 1 + gate.calls[0].difference_calls)
            gate.release()
        self.assertIsNone(gate.calls[0].elsewhere)

    def test_failures_are_counted_and_the_first_is_told(self):
        problem = self.problem(k=95.0)
        result = run(problem, method="particle-swarm", evaluations=45)
        self.assertIn(result.outcome, ("invalid", "model-failed"))
        (note,) = result.notes
        for word in ("failed at", "k is too large", "u = ["):
            self.assertIn(word, note)

    def test_a_call_beyond_its_timeout_is_tried_once_more_alone(self):
        problem = self.problem(k=85.0)
        gate = Gate(problem)
        evaluation = gate.evaluate(np.array(problem.start))
        self.assertFalse(evaluation.is_finite)
        self.assertEqual(self.calls(), 2)
        self.assertIn("timeout of 0.4 s, twice", gate.calls[0].first_failure)
        with ProcessPool(Recipe.of(problem, is_sparse=False), 1) as pool:
            ((_, answer),) = pool.answers([Job(np.array(problem.start))])
        self.assertEqual((self.calls(), answer.evaluation), (4, None))
        self.assertIn("twice", answer.failure)

    def test_a_model_and_its_children_do_not_speak_on_standard_output(self):
        self.problem()
        code = "import ilvren; print(ilvren.run('p.toml', method='sqp', workers=WORKERS).outcome)"
        for workers in some(("1", "None")):
            done = subprocess.run(
                [sys.executable, "-c", code.replace("WORKERS", workers)],
                cwd=self.folder, capture_output=True, text=True, check=True, env=dict(os.environ),
            )  # fmt: skip
            self.assertEqual(done.stdout, "converged\n")
            self.assertIn("a child speaks", done.stderr)
            self.assertIn("the model speaks", done.stderr)

    def test_whatever_a_model_does_to_its_process_is_told(self):
        """Endings, crashes, hangs in compiled code, exceptions of any kind: the design is invalid, the run goes on."""
        deeds = {
            "import os; os._exit(0)": "ended its process with status 0",
            "import sys; sys.exit(7)": "SystemExit",
            "import os, signal; os.kill(os.getpid(), signal.SIGSEGV)": "segmentation fault",
            "raise GeneratorExit('gone')": "GeneratorExit",
            "raise type('Mute', (Exception,), {'__str__': lambda self: 1 / 0})()": "Mute",
            "return {'q': 10**400}": "no numbers",
            "import ctypes; ctypes.CDLL(None).pause()": "timeout of 0.3 s",
        }
        text = "[variables]\nx = { start = 0.5, lower = -3, upper = 3 }\n[models.m]\npython = 'd.py:f'\n"
        text += "outputs = { q = {} }\ntimeout = 0.3\n[minimize]\nf = 'm.q'\n"
        for number, (deed, told) in enumerate(deeds.items()):
            (self.folder / "d.py").write_text(
                f"def f(x):\n    if x > 1.5:\n        {deed}\n    return {{'q': (x - 1) ** 2}}\n"
            )
            path = self.folder / f"d{number}.toml"
            path.write_text(text)
            with self.subTest(deed=deed):
                problem = load(path)
                gate = Gate(problem)
                found = [gate.evaluate(np.array([x])).objective for x in (2.0, 0.0, 2.5, 0.5)]
                self.assertEqual([str(x) for x in found], ["nan", "1.0", "nan", "0.25"])
                self.assertIn(told, gate.calls[0].first_failure)
                self.assertLess(run(problem, method="nelder-mead", evaluations=60).objective, 1e-3)

    def test_in_any_thread_a_model_is_held_to_its_timeout(self):
        """Where there are threads the process is a new one, not a copy; what hangs in it is ended."""
        code = (
            "import threading, ilvren\nfound = []\n"
            "def work(): found.append(ilvren.run('p.toml', method='nelder-mead', evaluations=20).outcome)\n"
            "threads = [threading.Thread(target=work) for _ in range(2)]\n"
            "[thread.start() for thread in threads]; [thread.join() for thread in threads]\nprint(found)\n"
        )
        self.problem(k=85.0)
        text = (
            (self.folder / "p.toml")
            .read_text()
            .replace("k = 2.0", "k = 85.0")
            .replace("timeout = 0.4", "timeout = 0.1")
        )
        (self.folder / "p.toml").write_text(text)
        done = subprocess.run(
            [sys.executable, "-c", code], cwd=self.folder, capture_output=True, text=True, check=True, timeout=60
        )
        self.assertEqual(done.stdout, "['model-failed', 'model-failed']\n")
        self.assertNotIn("Warning", done.stderr)

    def test_single_calls_elsewhere_fail_as_here(self):
        problem = self.problem(k=95.0)
        with ProcessPool(Recipe.of(problem, is_sparse=False), 1) as pool:
            (runner,) = Gate(problem, workers=pool).calls
            with self.assertRaisesRegex(ModelFailure, "k is too large"):
                runner.values([np.zeros(3), np.array(95.0)])
            self.assertEqual(runner.values([np.ones(3), np.array(2.0)])[0], 6.0)


if __name__ == "__main__":
    unittest.main()
