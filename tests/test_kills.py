"""Runs of every method killed at random moments, and what workers do to a run: nothing but time."""

import json
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
import unittest
import unittest.mock
from pathlib import Path

import numpy as np

from ilvren import load, run
from ilvren.evaluate import Job, Recipe
from ilvren.evaluate.workers import ProcessPool
from ilvren.ledger import Ledger
from ilvren.methods.base import method_named
from ilvren.runs import resume
from tests.compact import chosen, some
from tests.driving import FITTING, single_names

MODEL = """import pathlib, time

def value(x, y, z):
    with (pathlib.Path(__file__).parent / "calls").open("a") as stream:
        stream.write("x")
    time.sleep(0.002)
    return {"a": x * x + y - 1.5, "b": x - y * z + 0.3, "c": z - 0.4 + 0.2 * x}
"""
PROBLEM = """[variables]
x = { start = 0.2, lower = -2, upper = 2 }
y = { start = 0.3, lower = -2, upper = 2 }
z = { start = 1.2, lower = -2, upper = 2 }
[models.m]
python = "model.py:value"
outputs = ["a", "b", "c"]
derivatives = "differences"
[minimize]
f = "m.a^2 + m.b^2 + m.c^2"
"""
BAD = """import os, sys, time

def value(x):
    print("to standard output")
    os.system("echo from a child")
    if x == 1.0:
        os._exit(7)
    if x == 2.0:
        os.kill(os.getpid(), 11)
    if x == 3.0:
        while True:
            pass
    if x == 4.0:
        import ctypes
        ctypes.PyDLL(None).sleep(60)  # holds Python's lock: no signal handler runs
    return {"z": x * x}
"""
BAD_PROBLEM = """[variables]
x = { start = 0.5, lower = -1, upper = 9 }
[models.m]
python = "bad.py:value"
outputs = ["z"]
timeout = 0.3
[minimize]
f = "m.z"
"""


def path_of(ledger, number):
    """Return what a run did, times left out."""
    evaluations = [record._replace(seconds=0.0) for record in ledger.evaluations(number)]
    iterations = [(i.number, i.point, i.objective, i.best, i.note) for i in ledger.iterations(number)]
    return evaluations, iterations, ledger.generations(number)


def asked(counts):
    """Return what a run asked for, whoever answered."""
    return {name: number for name, number in counts.items() if name != "calls"}


class Kills(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        (self.folder / "model.py").write_text(MODEL)
        (self.folder / "bad.py").write_text(BAD)
        (self.folder / "p.toml").write_text(PROBLEM)
        (self.folder / "bad.toml").write_text(BAD_PROBLEM)

    def calls(self):
        path = self.folder / "calls"
        return path.stat().st_size if path.exists() else 0

    def test_a_killed_run_of_any_method_goes_on_as_if_nothing_had_been(self):
        chance = random.Random(7)
        for number, method in enumerate(single_names()):
            if method_named(method).only_members or not chosen(number, 3, 7):
                continue
            with self.subTest(method=method), Ledger(self.folder / f"{method}.whole") as whole:
                evaluations = 24 if method in FITTING else 60
                run(self.folder / "p.toml", method=method, evaluations=evaluations, ledger=whole)
                most = len(whole.evaluations(1))
                (self.folder / "calls").unlink()
                ledger = self.folder / f"{method}.killed"
                killed_at = chance.randrange(2, max(int(0.8 * most), 3))
                process = subprocess.Popen(
                    [sys.executable, "-m", "ilvren", "run", str(self.folder / "p.toml"), "--method", method, "--evaluations", str(evaluations),
                     "--ledger", str(ledger), "--quiet"],
                    cwd=self.folder, stdout=subprocess.DEVNULL,
                )  # fmt: skip
                until = time.monotonic() + 30.0
                while process.poll() is None and self.calls() < killed_at and time.monotonic() < until:
                    time.sleep(0.001)
                process.send_signal(signal.SIGKILL)
                process.wait()
                with Ledger(ledger) as rest:
                    if rest.run("last").state == "running":
                        resume("last", rest)
                    self.assertEqual(path_of(rest, 1), path_of(whole, 1))
                    self.assertEqual(asked(rest.run("r1").result["counts"]), asked(whole.run("r1").result["counts"]))

    def test_an_iteration_its_generation_and_what_was_foretold_come_on_record_together(self):
        """Whenever a kill may come: a run that goes on takes an iteration that is on record for whole."""
        for method, table in (("cma-es", "generations"), ("expected-improvement", "foretold")):
            with (
                self.subTest(method=method),
                unittest.mock.patch("ilvren.ledger.store.WINDOW_SECONDS", -1.0),
                Ledger(self.folder / f"{method}.ledger") as ledger,
            ):
                plain, seen = ledger.flush, []

                def flush(plain=plain, ledger=ledger, seen=seen, table=table):
                    plain()
                    counts = [
                        {row[0] for row in ledger._db.execute(f"SELECT {own} FROM {name}")}
                        for name, own in (("iterations", "number"), (table, "iteration"))
                    ]
                    seen.append(counts)

                ledger.flush = flush
                result = run(self.folder / "p.toml", method=method, evaluations=30, ledger=ledger)
                last = seen[-1]
                self.assertGreater(len(last[1]), 2)
                self.assertGreater(len(seen), len(result.iterations))
                for iterations, others in seen:
                    self.assertEqual(others & iterations, last[1] & iterations)

    def test_any_number_of_workers_takes_the_same_path(self):
        for method in some(("sqp", "nelder-mead", "multistart", "differential-evolution", "mesh-adaptive-search"), 3):
            results = []
            for workers in (None, 2):
                with self.subTest(method=method, workers=workers):
                    result = run(self.folder / "p.toml", method=method, evaluations=70, workers=workers)
                    results.append(
                        ([(e.point, e.values) for e in result.evaluations], result.point, dict(result.counts))
                    )
                    self.assertEqual(results[-1], results[0])

    def test_models_that_crash_hang_or_print_are_answered_for(self):
        problem = load(self.folder / "bad.toml")
        points = [np.array([x]) for x in (0.5, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0)]
        with ProcessPool(Recipe.of(problem, is_sparse=False), 2) as pool:
            answers = dict(pool.answers([Job(point) for point in points]))
        self.assertEqual(len(answers), 7)
        for place, word in ((1, "status 7"), (2, "signal 11"), (3, "timeout of 0.3 s"), (4, "hung|timeout")):
            self.assertIsNone(answers[place].evaluation)
            self.assertRegex(answers[place].failure, word)
        self.assertEqual([answers[k].evaluation.objective for k in (0, 5, 6)], [0.25, 25.0, 36.0])

    def test_the_program_survives_and_reports_them_and_its_output_stays_clean(self):
        done = subprocess.run(
            [sys.executable, "-m", "ilvren", "run", "bad.toml", "--method", "genetic-algorithm", "--workers", "2",
             "--option", "population=20", "--evaluations", "30", "--json", "--start", "x=1"],
            cwd=self.folder, capture_output=True, text=True, check=False,
            env={**os.environ, "ILVREN_LEDGER": "w.ledger"},
        )  # fmt: skip
        self.assertEqual(json.loads(done.stdout)["counts"]["evaluations"], 30)
        self.assertIn('model "m" failed at', done.stderr)
        self.assertIn("status 7, twice at x = 1", done.stderr)


if __name__ == "__main__":
    unittest.main()
