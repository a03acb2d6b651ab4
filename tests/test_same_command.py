"""What is asked in one way or another is the same: flags and files, members and single runs, labels and numbers, the
program and the library."""

import csv
import io
import json
import unittest
from pathlib import Path

import numpy as np

import ilvren
from tests.compact import only_in_whole, some
from tests.test_cli import InAFolder

TEXT = """
[variables]
x = { start = 1.5, lower = 0, upper = 4 }
y = { start = 1.0, lower = 0, upper = 4 }
[parameters]
most = 3.0
[minimize]
f = "(x - 3)^2 + (y - 2)^2 + 0.1 * x * y"
[constraints]
cap = "x + y <= most"
"""


class SameCommand(InAFolder):
    def setUp(self):
        super().setUp()
        Path("p.toml").write_text(TEXT)

    def json(self, *words, status=0):
        return json.loads(self.call(*words, "--json", "--quiet", status=status)[0])

    def written(self, name, *changes):
        text = TEXT
        for old, new in changes:
            self.assertIn(old, text)
            text = text.replace(old, new)
        Path(name).write_text(text)
        return name

    def same(self, one, other, *, keys=("outcome", "variables", "objectives", "counts", "violation")):
        for key in keys:
            self.assertEqual(one[key], other[key], key)

    def test_a_flag_is_a_change_of_the_file(self):
        for flags, changes in (
            (("--set", "most=2.5"), [("most = 3.0", "most = 2.5")]),
            (("--start", "x=0.5", "--start", "y=3"), [("start = 1.5", "start = 0.5"), ("start = 1.0", "start = 3")]),
        ):
            for method in ("sqp", "nelder-mead", "interior-point"):
                asked = self.json("run", "p.toml", "--method", method, *flags)
                told = self.json("run", self.written("q.toml", *changes), "--method", method)
                self.same(asked, told)

    def test_what_is_fixed_is_a_variable_without_room(self):
        fixed = self.json("run", "p.toml", "--fix", "x=0.75", "--method", "sqp")
        narrow = self.written(
            "q.toml", ("start = 1.5, lower = 0, upper = 4", "start = 0.75, lower = 0.75, upper = 0.75")
        )
        own = self.json("run", narrow, "--method", "sqp")
        self.assertEqual(fixed["variables"]["x"], 0.75)
        self.assertAlmostEqual(fixed["objectives"]["f"], own["objectives"]["f"], places=9)
        self.assertAlmostEqual(fixed["variables"]["y"], own["variables"]["y"], places=7)

    @only_in_whole
    def test_numbers_words_and_last_name_the_same_run(self):
        self.call("run", "p.toml", "--label", "good", "--quiet")
        shown = [json.loads(self.call("show", name, "--json")[0]) for name in ("r1", "good", "last")]
        self.assertEqual(shown[0], shown[1])
        self.assertEqual(shown[0], shown[2])
        verdicts = [self.json("verify", name) for name in ("r1", "good", "last")]
        for verdict in verdicts[1:]:
            self.assertEqual(verdict["verdict"], verdicts[0]["verdict"])
            self.assertEqual(verdict["checks"], verdicts[0]["checks"])

    @only_in_whole
    def test_a_member_of_a_sweep_a_contest_or_repeats_is_the_run_it_would_be(self):
        swept = self.json("run", "p.toml", "--sweep", "most=[2, 3.5]", "--method", "sqp")
        for member, value in zip(swept["runs"], (2, 3.5), strict=True):
            own = self.json("run", "p.toml", "--set", f"most={value}", "--method", "sqp")
            self.assertAlmostEqual(member["objectives"]["f"], own["objectives"]["f"], places=7)
        repeats = self.json("run", "p.toml", "--repeats", "3", "--method", "particle-swarm", "--seed", "5",
                            "--evaluations", "200", status=1)  # fmt: skip
        for item, seed in zip(repeats["runs"], repeats["seeds"], strict=True):
            own = self.json("run", "p.toml", "--method", "particle-swarm", "--seed", str(seed),
                            "--evaluations", "200", status=1)  # fmt: skip
            self.assertEqual(item["objectives"], own["objectives"])
        contest = self.json("contest", "p.toml", "--method", "sqp", "--method", "nelder-mead", "--workers", "1")
        for item in contest["runs"]:
            own = self.json("run", "p.toml", "--method", item["method"])
            self.assertAlmostEqual(item["objectives"]["f"], own["objectives"]["f"], places=9)

    def test_the_library_and_the_program_find_the_same(self):
        for method in some(("sqp", "augmented-lagrangian", "cma-es"), 3):
            asked = self.json("run", "p.toml", "--method", method, "--seed", "3")
            result = ilvren.run(ilvren.load("p.toml"), method=method, seed=3)
            self.assertEqual(asked["outcome"], result.outcome)
            self.assertEqual(list(asked["variables"].values()), list(result.point))
            self.assertEqual(asked["objectives"]["f"], result.objective)
            self.assertEqual(asked["counts"]["evaluations"], result.counts["evaluations"])
        told = self.json("verify", "last")
        verdict = ilvren.verify("last", ledger="ilvren.ledger")
        self.assertEqual((told["verdict"], told["holds"]), (verdict.verdict, verdict.holds))

    def test_a_design_is_judged_alike_however_it_is_named(self):
        run = self.json("run", "p.toml", "--method", "sqp", "--label", "good")
        point = run["variables"]
        Path("d.csv").write_text("x,y\n" + ",".join(repr(point[name]) for name in "xy") + "\n")
        verdicts = [
            self.json("verify", "good"),
            self.json("verify", "p.toml", "--at", f"x={point['x']!r}", "--at", f"y={point['y']!r}"),
            self.json("verify", "p.toml", "--at", "d.csv"),
        ]
        for verdict in verdicts:
            self.assertEqual(verdict["verdict"], verdicts[0]["verdict"])
            own = {check["name"]: check["result"] for check in verdict["checks"]}
            for name in ("constraints", "stationarity", "curvature"):
                self.assertEqual(own[name], "pass", name)

    def test_tables_and_documents_tell_the_same_numbers(self):
        document = self.json("run", "p.toml", "--method", "sqp")
        told = self.call("show", "last")[0]
        for name, value in document["variables"].items():
            line = next(line for line in told.splitlines() if line.split()[:1] == [name])
            self.assertAlmostEqual(float(line.split()[1]), value, delta=1e-6)
        history = self.call("export", "last", "--output", "-")[0]
        rows = list(csv.DictReader(io.StringIO(history)))
        self.assertEqual(len(rows), document["counts"]["iterations"] + 1)
        last = rows[-1]
        self.assertAlmostEqual(float(last["f"]), document["objectives"]["f"], places=9)
        for name, value in document["variables"].items():
            self.assertAlmostEqual(float(last[f"variable:{name}"]), value, places=9)

    def test_designs_of_a_sample_are_evaluated_as_anywhere_else(self):
        found = self.json("sample", "p.toml", "--points", "9", "--seed", "2")
        self.assertEqual(len(found["designs"]), 9)
        gate = ilvren.load("p.toml")
        for item in found["designs"]:
            x, y = item["variables"]["x"], item["variables"]["y"]
            self.assertAlmostEqual(item["values"]["f"], (x - 3) ** 2 + (y - 2) ** 2 + 0.1 * x * y, places=12)
            self.assertAlmostEqual(item["values"]["cap"], x + y, places=12)
        self.assertEqual(gate.size, 2)
        again = self.json("sample", "p.toml", "--points", "9", "--seed", "2")
        self.assertEqual([d["variables"] for d in again["designs"]], [d["variables"] for d in found["designs"]])

    def test_a_run_begun_at_an_end_stays_there(self):
        first = self.json("run", "p.toml", "--method", "sqp", "--label", "first")
        second = self.json("run", "p.toml", "--from", "first", "--method", "interior-point")
        np.testing.assert_allclose(list(second["variables"].values()), list(first["variables"].values()), atol=1e-5)
        self.call("apply", "first", "--starts", "--quiet")
        problem = ilvren.load("p.toml")
        np.testing.assert_allclose(problem.start, list(first["variables"].values()), rtol=1e-15)

    def test_an_interrupted_way_is_the_whole_way(self):
        whole = self.json("run", "p.toml", "--method", "nelder-mead")
        self.json("run", "p.toml", "--method", "nelder-mead", "--evaluations", "17", "--label", "part", status=1)
        mended = self.json("resume", "part", "--evaluations", "10000")
        self.same(mended, whole, keys=("outcome", "variables", "objectives"))
        self.assertEqual(mended["counts"]["evaluations"], whole["counts"]["evaluations"])


if __name__ == "__main__":
    unittest.main()
