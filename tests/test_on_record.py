"""What a ledger says of runs is what stands in its tables, what stands there is what the problem gives, and any way of naming
a run finds it."""

import itertools
import json
import sqlite3
import unittest
from pathlib import Path

import numpy as np

from ilvren import load
from ilvren.errors import RequestError
from ilvren.evaluate import Gate
from ilvren.ledger import Ledger
from tests.test_cli import InAFolder


class OnRecord(InAFolder):
    def setUp(self):
        super().setUp()
        self.call("run", "pump.toml", "--quiet", "--label", "first")
        self.call("run", "pump.toml", "--quiet", "--method", "differential-evolution", "--seed", "3", "--evaluations", "400",
                  status=None)  # fmt: skip
        self.call("sample", "pump.toml", "--points", "12", "--quiet")
        self.ledger = Ledger("ilvren.ledger", read_only=True)
        self.ledger.__enter__()
        self.addCleanup(self.ledger.__exit__, None, None, None)
        self.db = sqlite3.connect("ilvren.ledger")
        self.addCleanup(self.db.close)

    def one(self, select, *values):
        return self.db.execute(select, values).fetchone()[0]

    def test_evaluations_are_those_of_the_tables_and_of_the_formulas(self):
        gate = Gate(load("pump.toml"))
        for run in (1, 2, 3):
            found = self.ledger.evaluations(run)
            rows = self.db.execute("SELECT number, point, objective, violation FROM evaluations WHERE run = ?"
                                   " ORDER BY number", (run,)).fetchall()  # fmt: skip
            self.assertEqual([item.number for item in found], [row[0] for row in rows])
            self.assertEqual(self.ledger.evaluation_numbers(run), (rows[0][0], rows[-1][0]))
            for item, (number, point, objective, violation) in list(zip(found, rows, strict=True))[
                :: max(len(rows) // 9, 1)
            ]:
                self.assertEqual((item.point, item.objective), (point, objective))
                self.assertEqual(item.violation, np.inf if violation is None else violation)
                x = np.frombuffer(point)
                self.assertEqual(len(x), 3)
                self.assertAlmostEqual(objective, x[0] * x[1] - 0.1 * x[0] ** 2, places=12)
                own = gate.evaluate(x)
                np.testing.assert_allclose(np.frombuffer(item.values), [own.objective, *own.rows], rtol=1e-12)
                alone = self.ledger.evaluation(run, number)
                self.assertEqual((alone.number, alone.point, alone.values), (number, item.point, item.values))
            self.assertIsNone(self.ledger.evaluation(run, rows[-1][0] + 1))

    def test_iterations_requests_and_generations_are_those_of_the_tables(self):
        for run in (1, 2):
            found = self.ledger.iterations(run)
            count = self.one("SELECT count(*) FROM iterations WHERE run = ?", run)
            self.assertEqual(
                [item.number for item in found],
                list(range(count)) if found[0].number == 0 else list(range(1, count + 1)),
            )
            self.assertTrue(all(a.evaluations <= b.evaluations for a, b in itertools.pairwise(found)))
            requests = self.ledger.requests(run)
            self.assertEqual(len(requests), self.one("SELECT count(*) FROM requests WHERE run = ?", run))
            best = [item.best for item in found if item.best is not None]
            self.assertEqual(best, sorted(best))  # what is maximized never falls
        generations = self.ledger.generations(2)
        self.assertTrue(generations)
        known = {item.number for item in self.ledger.evaluations(2)}
        for members in generations.values():
            self.assertTrue(set(members) <= known)
        sizes = [len(members) for members in generations.values()]
        self.assertEqual(sizes, sorted(sizes, reverse=True))  # this method's population shrinks
        self.assertEqual(self.ledger.generations(1), {})

    def test_any_way_of_naming_a_run_finds_it(self):
        self.assertEqual([record.id for record in self.ledger.runs()], ["r1", "r2", "r3"])
        for reference, run in (("r1", "r1"), ("first", "r1"), ("r2", "r2"), ("last", "r3"), ("r3", "r3")):
            self.assertEqual(self.ledger.run(reference).id, run)
        record = self.ledger.run("first")
        self.assertEqual(record.problem_text, Path("pump.toml").read_text())
        self.assertEqual((record.label, record.state, record.outcome), ("first", "ended", "converged"))
        told = json.loads(self.call("show", "first", "--json")[0])
        self.assertEqual(record.result["violation"], told["violation"])
        for reference, advice in (("r9", "r1"), ("frist", 'did you mean "first"?'), ("", "r3"), ("r" + "9" * 40, "r1")):
            with self.assertRaises(RequestError) as caught:
                self.ledger.run(reference)
            self.assertIn(f'holds no run "{reference}"', str(caught.exception))
            self.assertIn(advice, caught.exception.advice)

    def test_a_word_that_is_changed_in_the_file_is_noticed(self):
        self.ledger.__exit__(None, None, None)
        for change in (
            "UPDATE runs SET result = replace(result, '\"violation\"', '\"violatiom\"') WHERE number = 1",
            "UPDATE problems SET text = text || ' '",
            "UPDATE runs SET settings = '[]' WHERE number = 1",
            "UPDATE runs SET overrides = '{}' WHERE number = 1",
        ):
            with self.subTest(change=change):
                copy = sqlite3.connect("copy.ledger")
                self.db.backup(copy)
                copy.execute(change)
                copy.commit()
                copy.close()
                _, err = self.call("show", "r1", "--ledger", "copy.ledger", status=None)
                self.assertIn("r1", err)
                self.assertRegex(err, "not what was written|damaged")
                Path("copy.ledger").unlink()


if __name__ == "__main__":
    unittest.main()
