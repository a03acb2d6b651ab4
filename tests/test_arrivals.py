"""Replies in the order of arrival: workers kept busy, the order on record, a replay told the same."""

import tempfile
import unittest
from collections.abc import Iterator, Sequence
from pathlib import Path

import numpy as np

from ilvren import load, loads, run
from ilvren.evaluate import Gate
from ilvren.evaluate.jobs import Answer, Job
from ilvren.ledger import Ledger
from ilvren.methods.base import Arrived, Ending, Iterate, Method, Request, method_named
from ilvren.methods.pieces.turns import NoOptions
from ilvren.runs import Settings, resume
from ilvren.runs.loop import Loop
from tests.compact import some

MODEL = """
import pathlib, time
LOG = pathlib.Path(__file__).with_name("calls")
def f(x, y, z):
    with LOG.open("a") as stream:
        stream.write("call\\n")
    time.sleep(0.06 if round(1e6 * abs(x + y + z)) % 5 == 0 else 0.001)
    return {"a": abs(x - 0.3) + 2 * abs(y + 0.2 * x) + (z - 0.1) ** 2}
"""
TEXT = """
[variables]
x = { start = -1.5, lower = -2, upper = 2 }
y = { start = 1.3, lower = -2, upper = 2 }
z = { start = 1.3, lower = -2, upper = 2 }
"""
THROUGH = TEXT + "[models.m]\npython = 'model.py:f'\noutputs = ['a']\n[minimize]\nf = 'm.a'\n"
FORMULA = TEXT + "[minimize]\nf = 'abs(x - 0.3) + 2 * abs(y + 0.2 * x) + (z - 0.1)^2'\n"
OPTIONS = {"as_they_come": "yes", "at_once": "3"}


class LastFirst:
    """A pool of which the job that was sent last is ready first."""

    count = 3

    def __init__(self, problem):
        self.gate = Gate(problem)

    def answers(self, jobs: Sequence[Job]) -> Iterator[tuple[int, Answer]]:
        done = set()
        while len(done) < len(jobs):
            place = max(set(range(len(jobs))) - done)
            done.add(place)
            yield place, Answer(evaluation=self.gate.evaluate(jobs[place].point))

    def close(self):
        pass


def driven(protocol, *, evaluations=None, workers=None):
    """Run a generator function as a method on the formula problem."""
    method = Method(
        name="toy",
        about="",
        kind="global",
        needs="values",
        handles=frozenset({"bounds"}),
        options=NoOptions,
        run=protocol,
    )
    problem = loads(FORMULA)
    settings = Settings(method="toy", evaluations=evaluations, scaling=False)
    return Loop(
        problem, method, options=NoOptions(), settings=settings, workers=LastFirst(problem) if workers else None
    ).drive()


class Arrivals(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        (self.folder / "model.py").write_text(MODEL)
        (self.folder / "a.toml").write_text(THROUGH)

    def test_what_comes_first_is_told_first_and_everything_once(self):
        for workers in (False, True):
            told = []

            def protocol(task, options, told=told):
                points = np.linspace(0.0, 1.0, 5)[:, np.newaxis] * np.ones(3)
                arrived = yield Request(points[:3], in_arrival_order=True)
                told.append((arrived, points))
                arrived = yield Request(points[3:], in_arrival_order=True)
                told.append((arrived, points))
                for _ in range(3):
                    told.append(((yield Request(points[:0], in_arrival_order=True)), points))
                yield Iterate(points[0])
                return Ending("settled", "")

            with self.subTest(workers=workers):
                result = driven(protocol, workers=workers)
                self.assertEqual(result.outcome, "settled")
                tickets = [arrived.tickets for arrived, _ in told]
                self.assertEqual(tickets, [(2,), (4,), (3,), (1,), (0,)] if workers else [(k,) for k in range(5)])
                gate = Gate(loads(FORMULA))
                for arrived, points in told:
                    self.assertIsInstance(arrived, Arrived)
                    self.assertEqual(arrived.reply.objective[0], gate.evaluate(points[arrived.tickets[0]]).objective)

    def test_a_design_asked_for_twice_is_answered_twice_and_counted_once(self):
        def twice(task, options):
            points = np.array([[0.1] * 3, [0.2] * 3, [0.1] * 3, [0.1] * 3])
            yield Request(points, in_arrival_order=True)
            for _ in range(3):
                yield Request(points[:0], in_arrival_order=True)
            yield Request(np.array([[0.3] * 3]), in_arrival_order=True)
            yield Iterate(points[0])
            return Ending("settled", "")

        for workers in (False, True):
            with self.subTest(workers=workers):
                result = driven(twice, workers=workers)
                self.assertEqual((result.outcome, result.counts["evaluations"]), ("settled", 4))  # the start is one

    def test_limits_hold_and_the_protocol_is_policed(self):
        def many(task, options):
            points = np.random.default_rng(1).uniform(-1, 1, size=(9, 3))
            yield Request(points, in_arrival_order=True)
            while True:
                yield Request(points[:0], in_arrival_order=True)

        def mixed(task, options):
            yield Request(np.zeros((2, 3)) + [[0.1], [0.2]], in_arrival_order=True)
            yield Request(np.ones((1, 3)))

        def idle(task, options):
            yield Request(np.zeros((0, 3)), in_arrival_order=True)

        for workers in (False, True):
            with self.subTest(workers=workers):
                result = driven(many, evaluations=6, workers=workers)
                self.assertEqual((result.outcome, result.counts["evaluations"]), ("exhausted", 6))
                for wrong in (mixed, idle):
                    with self.assertRaisesRegex(TypeError, "way"):
                        driven(wrong, workers=workers)

    def test_a_run_in_any_order_resumes_on_the_path_it_took(self):
        """Whoever was quicker then is told first now, and no call on record is made again."""
        given = {"method": "mesh-adaptive-search", "options": OPTIONS}
        for workers in some((2, 1)):
            with self.subTest(workers=workers), Ledger(self.folder / f"{workers}.ledger") as ledger:
                (self.folder / "calls").unlink(missing_ok=True)
                problem = load(self.folder / "a.toml")
                run(problem, evaluations=50, ledger=ledger, workers=workers, **given)
                before, shown = ledger.evaluations(1), ledger.iterations(1)
                result = resume("r1", ledger, evaluations=80, workers=workers)
                after, later = ledger.evaluations(1), ledger.iterations(1)
                self.assertEqual([(r.number, r.point) for r in before], [(r.number, r.point) for r in after[:50]])
                self.assertEqual([i.point for i in shown], [i.point for i in later[: len(shown)]])
                self.assertEqual(result.counts["evaluations"], 80)
                made = (self.folder / "calls").read_text().count("call")
                # Those that were under way when the first part ended were made, and lost with it.
                self.assertLessEqual(made, 80 + 2 * (workers > 1) * 3)
                self.assertLess(result.objective, 0.5)

    def test_a_search_whose_replies_come_last_first_finds_the_optimum(self):
        problem = loads(FORMULA)
        method = method_named("mesh-adaptive-search")
        settings = Settings(method=method.name, evaluations=20_000)
        for workers in (None, LastFirst(problem)):
            with self.subTest(workers=workers is not None):
                options = method.options(as_they_come=True, at_once=5, last_reach=1e-6)
                result = Loop(problem, method, options=options, settings=settings, workers=workers).drive()
                self.assertEqual(result.outcome, "settled", result.reason)
                self.assertLess(result.objective, 1e-2)


if __name__ == "__main__":
    unittest.main()
