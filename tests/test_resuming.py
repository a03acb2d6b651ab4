"""Killed and resumed: every method on every kind of model, with and without workers, follows the path it was on."""

from __future__ import annotations

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

from ilvren.errors import ProblemError, RequestError
from ilvren.ledger import Ledger
from ilvren.problem import Problem, load
from ilvren.runs import Iterated, RunResult, Settings, resume, resume_sweep, run, sweep
from tests.compact import WHOLE, only_in_whole, pairs
from tests.driving import affordable, single_names

MODEL = """import math, pathlib
LOG = pathlib.Path(__file__).with_name("calls")

def plain(x, y):
    with LOG.open("a") as stream:
        stream.write("call\\n")
    return {"a": 3.0 * (y - x * x), "b": 1.0 - x}
"""
HEAD = """[variables]
x = { start = START, lower = -2, upper = 2MORE }
y = { start = 1.3, lower = -2, upper = 2MORE }
"""
FORMULA = "[derived]\na = '3 * (y - x^2)'\nb = '1 - x'\n[minimize]\nf = 'a^2 + b^2'\n"
THROUGH = "[models.m]\npython = 'model.py:plain'\noutputs = { a = {}, b = {} }\nDERIVATIVES\n"
THROUGH += "[minimize]\nf = 'm.a^2 + m.b^2'\n"
KINDS = {
    "formula": FORMULA,
    "followed": THROUGH.replace("DERIVATIVES", ""),
    "differenced": THROUGH.replace("DERIVATIVES", "derivatives = 'differences'"),
}
# Enough for every method to be on its way, few enough for a test.
EVALUATIONS = 60 if WHOLE else 40


class _Killed(BaseException):
    """Stands for a kill: nothing of the run comes to an end."""


class Resuming(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        (self.folder / "model.py").write_text(MODEL)

    def problem(self, kind: str, *, has_members: bool) -> Problem:
        head = HEAD.replace("START", "-1").replace("MORE", ", spacing = 0.25" if has_members else "")
        head = head.replace("1.3", "1.25") if has_members else head
        path = self.folder / f"{kind}{has_members}.toml"
        path.write_text(head + KINDS[kind])
        return load(path)

    def calls(self) -> int:
        """Return how often the model was called since this was last asked."""
        log = self.folder / "calls"
        count = len(log.read_text().splitlines()) if log.exists() else 0
        log.unlink(missing_ok=True)
        return count

    def killed(
        self, problem: Problem, settings: Settings, ledger: Ledger, whole: RunResult, workers: int | None
    ) -> None:
        """Begin a run that ends as if killed at an iteration, what was pending being written, as a moment later; one of
        so few iterations in the middle of its evaluations."""
        after = len(whole.iterations) // 2
        if after < 1:
            limit = whole.counts["evaluations"] // 2
            run(problem, replace(settings, evaluations=limit), ledger=ledger, workers=workers)
            return

        def listener(event: object) -> None:
            if isinstance(event, Iterated) and event.iteration >= after:
                raise _Killed

        try:
            run(problem, settings, ledger=ledger, listener=listener, workers=workers)
        except _Killed:
            ledger.flush()
        else:
            self.fail(f"{settings.method} made no {after} iterations")

    def check(self, method: str, kind: str, workers: int | None) -> None:
        evaluations = affordable(method, EVALUATIONS) if method in single_names() else EVALUATIONS
        settings = Settings(method=method, evaluations=evaluations, seed=5, second_look=0.0)
        name = f"{method}-{kind}-{workers}.ledger"
        problem = self.problem(kind, has_members=False)
        with Ledger(self.folder / f"whole-{name}") as ledger:
            try:
                whole = run(problem, settings, workers=workers, ledger=ledger)
            except RequestError:  # a method for members alone
                problem = self.problem(kind, has_members=True)
                whole = run(problem, settings, workers=workers, ledger=ledger)
        made = self.calls()
        with Ledger(self.folder / name) as ledger:
            self.killed(problem, settings, ledger, whole, workers)
            before = self.calls()
            again = resume("last", ledger, evaluations=evaluations, workers=workers)
            on_record = ledger.calls(1)
        self.assertEqual(path_of(again), path_of(whole))
        if kind != "formula":
            self.assertGreater(before, 0)
            made_in_two = before + self.calls()
            if len(whole.iterations) < 2:  # stopped at a limit, it has asked for slopes where it stopped
                self.assertGreaterEqual(made_in_two, made)
            else:
                self.assertEqual(made_in_two, made)
            self.assertEqual(len(on_record), made_in_two)  # no call on record is made again
            self.assertEqual(len(on_record), len({record.digest for record in on_record}))

    def test_every_method_on_every_kind_of_model(self) -> None:
        for method, kind in pairs((*single_names(), "automatic", "global"), KINDS, 3):
            with self.subTest(method=method, kind=kind):
                self.check(method, kind, None)

    @only_in_whole
    def test_with_workers(self) -> None:
        methods = ("sqp", "particle-swarm", "levenberg-marquardt", "multistart")
        for method, kind in pairs(methods, ("followed", "differenced"), 8):
            with self.subTest(method=method, kind=kind):
                self.check(method, kind, 2)

    def test_runs_share_what_their_models_answered(self) -> None:
        settings = Settings(method="nelder-mead", evaluations=40)
        problem = self.problem("followed", has_members=False)
        with Ledger(self.folder / "shared.ledger") as ledger:
            one, first = run(problem, settings, ledger=ledger), self.calls()
            two, second = run(problem, settings, ledger=ledger), self.calls()
            fresh = run(problem, Settings(method="nelder-mead", evaluations=40, fresh=True), ledger=ledger)
        self.assertEqual((first, second, self.calls()), (one.counts["calls"], 0, fresh.counts["calls"]))
        self.assertEqual(two.counts["calls"], 0)
        self.assertEqual(path_of(two), path_of(one))
        self.assertEqual(path_of(fresh), path_of(one))

    def test_a_model_that_is_not_repeatable_is_followed_call_by_call_and_shared_with_nobody(self) -> None:
        noisy = MODEL.replace("import math", "import random, math").replace(
            "1.0 - x}", "1.0 - x + 1e-3 * random.random()}"
        )
        (self.folder / "model.py").write_text(noisy)
        for kind in ("followed", "differenced"):
            text = HEAD.replace("START", "-1").replace("MORE", "") + KINDS[kind]
            path = self.folder / f"noisy-{kind}.toml"
            path.write_text(text.replace("outputs =", "repeatable = false\noutputs ="))
            problem, settings = load(path), Settings(method="nelder-mead", evaluations=60)
            with self.subTest(kind=kind), Ledger(self.folder / f"noisy-{kind}.ledger") as ledger:
                first = run(problem, replace(settings, evaluations=25), ledger=ledger)
                self.calls()
                again = resume("r1", ledger, evaluations=60)
                self.assertEqual([e.values for e in again.evaluations[:25]], [e.values for e in first.evaluations])
                self.assertEqual(self.calls(), again.counts["calls"] - first.counts["calls"])
                other = run(problem, settings, ledger=ledger)
                self.assertEqual(self.calls(), other.counts["calls"])
                self.assertNotEqual([e.values for e in other.evaluations], [e.values for e in again.evaluations])

    def test_a_run_goes_on_with_a_changed_model_when_told(self) -> None:
        for kind in ("followed", "differenced"):
            (self.folder / "model.py").write_text(MODEL)
            problem = self.problem(kind, has_members=False)
            with self.subTest(kind=kind), Ledger(self.folder / f"as-now-{kind}.ledger") as ledger:
                first = run(problem, method="bfgs", iterations=2, ledger=ledger)
                (self.folder / "model.py").write_text(MODEL.replace("1.0 - x", "1.25 - x"))
                with self.assertRaises(RequestError):
                    resume("r1", ledger, iterations=99)
                again = resume("r1", ledger, iterations=99, as_now=True)
                count = len(first.evaluations)
                self.assertEqual([e.values for e in again.evaluations[:count]], [e.values for e in first.evaluations])
                self.assertGreater(len(again.evaluations), count)
                self.assertEqual(len(ledger.call_sources(1)), 2)  # what it was, and what it is

    def test_what_has_changed_is_shared_with_nobody(self) -> None:
        """A file that the model imports decides what it answers; one that it reads without saying so, nobody knows."""
        (self.folder / "aid.py").write_text("K = 1.0\n")
        (self.folder / "data.txt").write_text("1.0")
        problem, settings = self.problem("followed", has_members=False), Settings(method="nelder-mead", evaluations=30)
        reading = MODEL.replace("    return", "    LOG.with_name('data.txt').read_text()\n    return")
        for text, change, shared, told in (
            (MODEL.replace("import math", "import aid, math"), ("aid.py", "K = 2.0\n"), True, False),
            (reading, ("data.txt", "2.0"), False, True),
        ):
            (self.folder / "model.py").write_text(text)
            with self.subTest(change=change[0]), Ledger(self.folder / f"{change[0]}.ledger") as ledger:
                first = run(problem, settings, ledger=ledger)
                again = run(problem, settings, ledger=ledger)
                (self.folder / change[0]).write_text(change[1])
                last = run(problem, settings, ledger=ledger)
                counts = [result.counts["calls"] for result in (first, again, last)]
                self.assertEqual(counts, [counts[0], 0 if shared else counts[0], counts[0]])
                self.assertEqual(any("data.txt" in note for note in first.notes), told)

    def test_a_killed_sweep_goes_on_with_what_it_has(self) -> None:
        text = HEAD.replace("START", "-1").replace("MORE", "") + KINDS["differenced"].replace("m.b^2", "k * m.b^2")
        (self.folder / "k.toml").write_text("[parameters]\nk = 1\n" + text)
        problem, settings = load(self.folder / "k.toml"), Settings(method="bfgs")
        values = [1.0, 4.0, 2.0]
        with Ledger(self.folder / "whole.ledger") as ledger:
            whole = sweep(problem, "k", values, settings, ledger=ledger)
        made, seen = self.calls(), []

        def listener(event: object) -> None:
            seen.append(isinstance(event, Iterated) and event.iteration)
            if seen.count(2) == 2:  # in the second run
                raise _Killed

        with Ledger(self.folder / "killed.ledger") as ledger:
            with self.assertRaises(_Killed):
                sweep(problem, "k", values, settings, ledger=ledger, listener=listener)
            ledger.flush()
            first = ledger.run("r1")
            again = resume_sweep(ledger, "g1")
            self.assertEqual(ledger.run("r1"), first)
            self.assertEqual(sorted(ledger.group("g1").runs), [0, 1, 2])
        self.assertEqual([path_of(m.result) for m in again.members], [path_of(m.result) for m in whole.members])
        self.assertEqual([m.is_warm for m in again.members], [m.is_warm for m in whole.members])
        self.assertEqual(self.calls(), made)

    def test_a_resume_that_cannot_be_leaves_the_run_as_it_was(self) -> None:
        problem = self.problem("differenced", has_members=False)
        with Ledger(self.folder / "as-it-was.ledger") as ledger:
            run(problem, method="bfgs", iterations=2, ledger=ledger)
            before = ledger.run("r1")
            (self.folder / "model.py").write_text(MODEL + "raise RuntimeError('not now')\n")
            for as_now, error in ((False, RequestError), (True, ProblemError)):
                with self.assertRaises(error):
                    resume("r1", ledger, iterations=9, as_now=as_now)
                self.assertEqual(ledger.run("r1"), before)
            (self.folder / "model.py").write_text(MODEL)
            self.assertEqual(resume("r1", ledger, iterations=99).outcome, "converged")


def path_of(result: RunResult) -> tuple[object, ...]:
    """Return all that must not depend on where a run was interrupted."""
    counts = {name: number for name, number in result.counts.items() if name != "calls"}
    steps = [(item.evaluations, item.objective, item.point) for item in result.iterations]
    return result.outcome, result.point, counts, steps, [item.point for item in result.evaluations]


if __name__ == "__main__":
    unittest.main()
