"""Long vectors: thinned in memory and on record, and nothing that is said of a run changes for it."""

import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from ilvren import loads, run, verify
from ilvren.errors import RequestError
from ilvren.explore.designs import designs_of
from ilvren.judge.comparing.history import history_table
from ilvren.ledger import Ledger
from ilvren.runs import history, resume
from ilvren.runs.addresses import addressed
from ilvren.runs.warm import warm_start
from tests.test_cli import InAFolder

N = 1200
ROPE = f"""
[variables]
u = {{ start = "0.5 * evenly(0, 1, {N})", lower = -4, shape = {N}, magnitude = 1 }}
[minimize]
f = "50 * sum(diff(u)^2) + 5 * sum(u) / {N} + 0.5 * sum((u - 0.1)^2) / 3"
"""
HELD = ROPE + '[constraints]\nleft = "u[0] == 0"\nsteep = "diff(u) <= 0.05"\n'


class Histories(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        few = mock.patch.multiple(history, MOST_NUMBERS=8 * N)
        few.start()
        self.addCleanup(few.stop)

    def test_few_vectors_are_kept_and_the_best_and_last_are_among_them(self):
        for text, method in ((ROPE, "l-bfgs"), (HELD, "interior-point")):
            with self.subTest(method=method), Ledger(self.folder / f"{method}.ledger") as ledger:
                result = run(loads(text), method=method, iterations=40, ledger=ledger)
                for kept in (result.evaluations, ledger.evaluations(1)):
                    whole = [item for item in kept if item.is_whole]
                    self.assertLess(len(whole), 11)
                    self.assertGreater(len(kept), len(whole))
                    self.assertEqual([item.number for item in kept], list(range(1, len(kept) + 1)))
                    feasible = [item for item in kept if item.violation <= 1e-6]
                    best = min(feasible, key=lambda item: (item.objective, item.violation))
                    self.assertTrue(best.is_whole)
                    self.assertTrue(kept[0].is_whole and kept[-1].is_whole)
                    for item in whole:
                        values = (
                            loads(text).entry_values([loads(text).objective.node], np.frombuffer(item.point)).values
                        )
                        self.assertAlmostEqual(float(values[0]), item.objective, places=12)

    def test_a_thinned_run_resumes_on_its_path(self):
        with Ledger(self.folder / "a.ledger") as ledger:
            for text, method, few, many in ((ROPE, "l-bfgs", 25, 50), (HELD, "interior-point", 3, 90)):
                with self.subTest(method=method):
                    whole = run(loads(text), method=method, iterations=many, ledger=ledger)
                    part = run(loads(text), method=method, iterations=few, ledger=ledger)
                    again = resume(part.id, ledger, iterations=many)
                    self.assertEqual((again.point, again.counts), (whole.point, whole.counts))
                    number = int(part.id[1:])
                    self.assertEqual(
                        [(i.number, i.objective, i.violation) for i in ledger.evaluations(number)],
                        [(i.number, i.objective, i.violation) for i in ledger.evaluations(number - 1)],
                    )

    def test_what_reads_a_record_says_what_is_not_there(self):
        with Ledger(self.folder / "a.ledger") as ledger:
            result = run(loads(HELD), ledger=ledger)
            kept = ledger.evaluations(1)
            thinned = next(item for item in kept if not item.is_whole)
            with self.assertRaises(RequestError) as caught:
                addressed(ledger, f"r1:{thinned.number}")
            self.assertIn("thinned", caught.exception.message)
            table = designs_of(ledger, ["r1"])
            self.assertEqual(len(table.designs) + table.thinned, result.counts["evaluations"])
            self.assertGreater(table.thinned, 0)
            row = history_table(ledger, ledger.run("r1"), every="evaluation")[thinned.number - 1]
            self.assertIsNone(row["variable:u[0]"])
            self.assertEqual(row["f"], thinned.objective)
            verdict = verify(result)
            self.assertTrue(verdict.holds, verdict.reason)

    def test_a_large_record_keeps_prices_and_what_follows_from_the_design_is_left_out(self):
        with Ledger(self.folder / "a.ledger") as ledger:
            result = run(loads(HELD), ledger=ledger)
            record = ledger.run("r1").result
            self.assertEqual(set(record["constraints"]["steep"]), {"price"})
            warm = warm_start(loads(HELD), record, "r1")
            self.assertAlmostEqual(warm.row_multipliers[0], result.constraints[0].price, places=12)
            self.assertNotEqual(warm.row_multipliers[0], 0.0)
            np.testing.assert_array_equal(warm.problem.start, result.point)


class Told(InAFolder):
    def test_commands_on_a_thinned_run(self):
        Path("rope.toml").write_text(HELD)
        with mock.patch.multiple(history, MOST_NUMBERS=8 * N):
            self.call("run", "rope.toml", "--quiet")
        self.assertIn("long vectors were not kept", self.call("designs", "r1")[0])
        self.assertIn("thinned", self.call("show", "r1:4", status=2)[1])
        self.assertIn("local-strict", self.call("verify", "r1")[0])


if __name__ == "__main__":
    unittest.main()
