"""Comparison: gaps, first arrivals, and what is said of differing questions."""

import csv
import json
import math
import tempfile
import unittest
from pathlib import Path

from ilvren import compare, loads, run
from ilvren.errors import RequestError
from ilvren.judge.comparing.history import history_table, write_history
from ilvren.ledger import Ledger
from tests.problems import two_variables

TEXT = two_variables("(x - 1)^2 + 10 * (y - x^2)^2 + 5", "x + y >= 0.5", start=(-1.0, 2.0))


class Comparing(unittest.TestCase):
    def test_arrivals_are_those_counted_by_hand(self):
        runs = [run(loads(TEXT), method=name) for name in ("sqp", "nelder-mead")]
        found = compare(*runs, gradient_worth=4.0)
        best = min(e.objective for r in runs for e in r.evaluations if e.violation <= 1e-6)
        self.assertEqual(found.best, best)
        firsts = [next(e.objective for e in r.evaluations if e.violation <= 1e-6) for r in runs]
        scale = max(abs(best), abs(max(firsts) - best))
        for result, arrivals in zip(runs, found.arrivals, strict=True):
            for distance in (1e-3, 1e-6):
                hits = [
                    e.evaluations + 4 * e.gradients
                    for e in result.evaluations
                    if e.violation <= 1e-6 and e.objective - best <= distance * scale
                ]
                self.assertEqual(arrivals[distance], hits[0] if hits else None)

    def test_costs_may_be_iterations_or_seconds(self):
        result = run(loads(TEXT), method="sqp")
        by_name = {along: compare(result, along=along) for along in ("evaluations", "iterations", "seconds")}
        best = by_name["seconds"].best
        scale = by_name["seconds"].scale
        first = next(e for e in result.evaluations if e.violation <= 1e-6 and e.objective - best <= 1e-3 * scale)
        self.assertEqual(by_name["seconds"].arrivals[0][1e-3], first.seconds)
        iterations = sum(item.evaluations < first.evaluations for item in result.iterations)
        self.assertEqual(by_name["iterations"].arrivals[0][1e-3], iterations)
        self.assertIn("seconds_to", by_name["seconds"].to_dict()["runs"][0])
        for wrong in ({"along": "days"}, {"distances": ()}, {"distances": (0.0,)}):
            with self.assertRaises(RequestError):
                compare(result, **wrong)

    def test_problems_with_other_variables_and_other_settings(self):
        small = run(
            loads("[variables]\nx = { start = -1 }\n[minimize]\nf = '(x - 1)^2 + 5'\n"), method="bfgs", tolerance=1e-8
        )
        found = compare(run(loads(TEXT), method="sqp"), small)
        words = " | ".join(found.notes)
        for word in ("variables differ: 1 are shared", "tolerance", "the problem files differ"):
            self.assertIn(word, words)
        designs = {item["variable"]: item["values"] for item in found.to_dict()["designs"]}
        self.assertIsNone(designs["y"][1])

    def test_a_reference_that_nobody_reaches(self):
        result = run(loads(TEXT), method="sqp")
        found = compare(result, reference=1.0)
        self.assertEqual(list(found.arrivals[0].values()), [None, None])
        self.assertAlmostEqual(found.gap(found.tracks[0]), (result.objective - 1.0) / found.scale)

    def test_maximization_counts_upwards(self):
        text = two_variables("7 - x^2 - y^2", start=(2.0, 1.0), sense="maximize")
        found = compare(run(loads(text), method="sqp"), run(loads(text), method="nelder-mead", evaluations=8))
        self.assertAlmostEqual(found.best, 7.0)
        self.assertLess(abs(found.gap(found.tracks[0])), 1e-9)
        self.assertGreater(found.gap(found.tracks[1]), 1e-3)
        document = found.to_dict()
        self.assertIsNone(document["runs"][1]["evaluations_to"]["1e-6"])
        self.assertEqual(set(document["runs"][0]["evaluations_to"]), {"1e-3", "1e-6"})
        json.dumps(document, allow_nan=False)

    def test_what_the_violation_allowed_is_worth_is_no_distance_to_search(self):
        text = two_variables("x + 2 * y", "x * y >= 3", start=(2.0, 2.0), bounds=(0, 5))
        runs = [run(loads(text), method=name) for name in ("sqp", "nelder-mead")]
        points = [(e.objective, e.violation) for r in runs for e in r.evaluations if e.violation <= 1e-6]
        best, violation = min(points)
        kept = min(value for value, broken in points if broken <= 1e-9)
        self.assertLess(best, math.sqrt(24.0) - 1e-6)  # less than any design that keeps the limit
        found = compare(*runs, distances=(1e-7,))
        (note,) = found.notes
        gap = (kept - best) / found.scale
        for word in (f"{best:.10g} of nelder-mead", f"{violation:.2g}", f"{kept:.10g} of sqp", f"gap of {gap:.2g}"):
            self.assertIn(word, note)
        self.assertIsNone(found.arrivals[0][1e-7])  # which is what the note is about
        for plain in (compare(*runs), compare(*runs, distances=(1e-7,), reference=math.sqrt(24.0)), compare(runs[0])):
            self.assertEqual(plain.notes, ())

    def test_nothing_feasible_and_nothing_alike(self):
        hopeless = run(loads(two_variables("x", "x^2 <= -1")), method="sqp")
        found = compare(hopeless)
        self.assertIsNone(found.best)
        self.assertIsNone(found.gap(found.tracks[0]))
        with self.assertRaises(RequestError):
            compare(hopeless, run(loads(two_variables("x", "x >= 0", sense="maximize")), method="sqp"))
        with self.assertRaises(RequestError):
            compare()

    def test_differences_in_what_was_asked_are_told(self):
        text = '[variables]\nx = 3.0\n[parameters]\np = 1\n[minimize]\nf = "(x - p)^2 + 1"\n'
        runs = [
            run(loads(text), method="sqp"),
            run(loads(text, set={"p": 2.0}, start={"x": 5.0}), method="sqp", tolerance=1e-4, scaling=False),
        ]
        notes = " | ".join(compare(*runs).notes)
        for word in ("parameters set", "p=2", "starts set", "x=5", "tolerance", "without scaling"):
            self.assertIn(word, notes)

    def test_runs_of_a_ledger_finished_or_killed(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "l"
            run(loads(TEXT), method="sqp", ledger=path)
            run(loads(TEXT), method="sqp", ledger=path)
            with Ledger(path) as ledger:
                ledger._db.execute(
                    "UPDATE runs SET state = 'running', outcome = NULL, result = NULL, process = '0:0:x',"
                    " seal = NULL WHERE number = 2"
                )
                ledger._db.execute(
                    "UPDATE runs SET process = replace(process, ':x', ':' || ?) WHERE number = 2",
                    (__import__("os").uname().nodename,),
                )
            found = compare("r1", "last", ledger=path)
            self.assertEqual([track.outcome for track in found.tracks], ["converged", "killed"])
            self.assertEqual(found.arrivals[0], found.arrivals[1])
            with self.assertRaises(RequestError):
                compare("r1", "r1", ledger=path)


class Exporting(unittest.TestCase):
    def test_an_objective_called_as_another_column_keeps_its_values_and_no_iterations_have_columns(self):
        text = "[variables]\nx = { start = 3 }\n[minimize]\nseconds = 'x^2 + 7'\n"
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "l"
            for method, every, values in (("bfgs", "evaluation", [16.0]), ("nelder-mead", "iteration", [])):
                run(loads(text), method=method, evaluations=1, ledger=path)
                with Ledger(path, read_only=True) as ledger:
                    record = ledger.run("last")
                    rows = history_table(ledger, record, every=every)
                write_history(rows, record, f"{path}.csv", every=every)
                with path.with_suffix(".csv").open(newline="") as file:
                    lines = list(csv.DictReader(file))
                    file.seek(0)
                    self.assertIn("objective:seconds", next(csv.reader(file)))
                self.assertEqual([float(line["objective:seconds"]) for line in lines], values)

    def test_csv_and_json_say_the_same_and_lose_nothing(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "l"
            result = run(loads(TEXT), method="nelder-mead", ledger=path)
            with Ledger(path, read_only=True) as ledger:
                record = ledger.run("last")
                for every, kept in (("iteration", result.iterations), ("evaluation", result.evaluations)):
                    rows = history_table(ledger, record, every=every)
                    for suffix in (".csv", ".json"):
                        write_history(rows, record, str(path) + suffix, every=every)
                    with (path.with_suffix(".csv")).open(newline="") as file:
                        lines = list(csv.DictReader(file))
                    document = json.loads(path.with_suffix(".json").read_text())
                    self.assertEqual(len(lines), len(kept))
                    self.assertEqual(document[f"{every}s"], rows)
                    self.assertEqual([float(line["f"]) for line in lines], [item.objective for item in kept])
                    self.assertTrue(all(math.isfinite(float(line["variable:x"])) for line in lines))
