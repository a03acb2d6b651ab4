"""When a run need not go on: conflicts that are proved, and methods without progress."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from ilvren import run
from ilvren.methods.base import Assessment, Ending, Iterate, Reply, Request, Task, method_named
from ilvren.methods.pieces.watching import watched
from ilvren.problem import loads
from ilvren.proofs import proved_conflict
from tests.compact import only_in_whole

CHAIN = """[parameters]
far = 6
[variables]
pull = { shape = 60, start = 0, lower = -1, upper = 1 }
place = { shape = 61, start = 0 }
[minimize]
effort = "sum(pull^2)"
[constraints]
moves = "diff(place) - 0.1*pull == 0"
begin = "place[0] == 0"
arrive = "place[60] >= far"
idle = "pull[0] <= 2"
"""


class Conflicts(unittest.TestCase):
    def test_a_chain_is_followed_to_its_end_and_no_farther(self) -> None:
        # 60 steps of 0.1 at most reach 6 exactly.
        self.assertIsNone(proved_conflict(loads(CHAIN)))
        conflict = proved_conflict(loads(CHAIN, set={"far": 6.01}))
        assert conflict is not None
        self.assertEqual(set(conflict.names), {"moves", "begin", "arrive"})

    def test_limits_apart_by_less_than_what_counts_as_feasible_do_not_conflict(self) -> None:
        for gap, outcome in ((1e-7, "converged"), (1e-4, "infeasible")):
            text = "[variables]\nx = { start = 3, lower = -9, upper = 9 }\n[minimize]\nf = 'x^2'\n[constraints]\n"
            result = run(loads(text + f"a = 'x + 0 * x >= 1'\nb = '2 * x <= {2 - 2 * gap!r}'\n"))
            with self.subTest(gap=gap):
                self.assertEqual(result.outcome, outcome, result.reason)

    @only_in_whole
    def test_a_run_ends_with_the_set_and_one_that_can_arrive_arrives(self) -> None:
        for method in ("automatic", "interior-point", "differential-evolution"):
            result = run(loads(CHAIN, set={"far": 6.5}), method=method, evaluations=2000)
            with self.subTest(method=method):
                self.assertEqual((result.outcome, set(result.conflict)), ("infeasible", {"moves", "begin", "arrive"}))
        self.assertEqual(run(loads(CHAIN, set={"far": 5})).outcome, "converged")


class Progress(unittest.TestCase):
    def requests_of(self, fall: float) -> tuple[int, Ending | None]:
        """Drive a method that asks for ever, f falling by so much at each request; stop it after 2000."""

        def endless(task, options):
            for k in range(10_000):
                yield Request(task.start[np.newaxis] + k)
                yield Iterate(task.start)
            return Ending("converged", "")

        none = np.zeros(0)
        task = Task(
            start=np.ones(3),
            lower=np.full(3, -np.inf),
            upper=np.full(3, np.inf),
            row_lower=none,
            row_upper=none,
            row_sizes=none,
        )
        method = watched(replace(method_named("bfgs"), run=endless))
        generator, answer, count = method.run(task, method.options()), None, 0
        try:
            while count < 2000:
                message = generator.send(answer)
                count += isinstance(message, Request)
                is_asked = isinstance(message, Request)
                answer = (
                    Reply(np.array([1.0 - fall * count]), np.zeros((1, 0))) if is_asked else Assessment(0.0, 1.0, False)
                )
        except StopIteration as end:
            return count, end.value
        return count, None

    def test_a_method_is_ended_without_progress_and_only_then(self) -> None:
        count, ending = self.requests_of(0.0)
        assert ending is not None
        self.assertEqual(ending.claim, "stalled")
        self.assertLess(count, 210)
        self.assertEqual(self.requests_of(1e-9), (2000, None))  # slow, but it adds up
        self.assertIsNotNone(self.requests_of(1e-14)[1])


if __name__ == "__main__":
    unittest.main()
