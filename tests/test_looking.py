"""Looking before, while and after designs are evaluated: plans that are only shown, watched runs, repeated fronts."""

import csv
import json
import re
import unittest
from pathlib import Path

import numpy as np

from tests.compact import only_in_whole
from tests.kinds_of_problems import written
from tests.test_cli import InAFolder


class Plans(InAFolder):
    def test_a_plan_is_shown_written_and_read_back(self):
        written("members")
        out, _ = self.call("sample", "p.toml", "--points", 16, "--dry-run")
        self.assertIn("16 designs of Kind: members", out)
        self.assertIn("and 6 more designs; --output plan.csv writes all", out)
        for line in ("least distance", "largest hole", "unevenness", "nothing was evaluated"):
            self.assertIn(line, out)
        self.assertFalse(Path("ilvren.ledger").exists())
        self.call("sample", "p.toml", "--points", 16, "--dry-run", "--output", "plan.csv")
        with Path("plan.csv").open() as file:
            rows = list(csv.DictReader(file))
        self.assertEqual(list(rows[0]), ["wood", "tube", "n", "t"])
        self.assertLessEqual({row["wood"] for row in rows}, {"oak", "larch", "red beech"})
        self.assertLessEqual({float(row["tube"]) for row in rows}, {20.0, 30.0, 50.0})
        document = json.loads(self.call("sample", "p.toml", "--points", 16, "--dry-run", "--json")[0])
        self.assertEqual([design["wood"] for design in document["designs"]], [row["wood"] for row in rows])
        self.assertGreater(document["quality"]["least_distance"], 0.0)
        # The same designs, given as a file: words are read as they were written.
        self.call("sample", "p.toml", "--csv", "plan.csv", "--label", "again")
        told = json.loads(self.call("designs", "again", "--json")[0])
        found = {
            (d["variables"]["wood"], float(d["variables"]["tube"]), float(d["variables"]["n"])) for d in told["designs"]
        }
        self.assertEqual(found, {(row["wood"], float(row["tube"]), float(row["n"])) for row in rows})
        self.call("sample", "p.toml", "--points", 16, "--dry-run", "--output", "plan.png")
        self.assertGreater(Path("plan.png").stat().st_size, 5000)

    def test_how_long_models_will_take_is_told_from_the_record(self):
        written("python model")
        out, _ = self.call("sample", "p.toml", "--points", 8, "--dry-run")
        self.assertIn("how long a design takes is not on record", out)
        self.call("sample", "p.toml", "--points", 8, "--label", "first", "--quiet")
        out, _ = self.call("sample", "p.toml", "--points", 20, "--dry-run")
        self.assertRegex(out, r"about \S+ \S+ for 20 designs, by what r1 took")

    def test_plans_are_listed_with_their_options(self):
        out, _ = self.call("sample", "--list")
        document = json.loads(self.call("sample", "--list", "--json")[0])
        for name, facts in document.items():
            self.assertIn(name, out)
            for option in facts["options"]:
                self.assertIn(option, out)
        self.assertIn("latin-hypercube", document)


class Watching(InAFolder):
    def test_a_run_that_has_ended_is_followed_to_its_end(self):
        self.call("run", "pump.toml", "--method", "nelder-mead", "--evaluations", 30, "--quiet", status=1)
        out, _ = self.call("designs", "last", "--follow")
        lines = re.findall(r"(?m)^r1:(\d+)  \S+  violation", out)
        self.assertEqual(lines, [str(k) for k in range(1, len(lines) + 1)])
        self.assertEqual(len(lines), 30)
        self.assertRegex(out, "of 30; [0-9]+ of all meet the limits")

    def test_methods_tell_their_options_and_listings_all_of_them(self):
        out, _ = self.call("methods", "cma-es")
        for word in ("population", "restarts", "Weak"):
            self.assertIn(word, out)
        document = json.loads(self.call("methods", "--json")[0])
        listed = {item["name"] for item in document["methods"]}
        self.assertLessEqual({"sqp", "branch-and-bound", "nondominated-sorting"}, listed)
        self.assertIn('"cma-es"', self.call("methods", "cma-se", status=2)[1])


class Repeating(InAFolder):
    def test_repeated_fronts_are_told_by_what_they_dominate(self):
        written("several objectives")
        words = ("--repeats", 3, "--method", "nondominated-sorting", "--evaluations", 400)
        out, _ = self.call("run", "p.toml", *words, status=1)
        self.assertRegex(out, r"hypervolume|dominate")
        document = json.loads(self.call("run", "p.toml", *words, "--json", status=1)[0])
        self.assertEqual(len(document["runs"]), 3)

    @only_in_whole
    def test_repeated_searches_are_told_in_quartiles(self):
        out, _ = self.call(
            "run",
            "pump.toml",
            "--repeats",
            3,
            "--method",
            "differential-evolution",
            "--option",
            "horizon=1000",
            "--label",
            "four",
        )
        found = [float(v) for v in re.findall(r"(?m)^ r\d+ .*?(0\.909\d*)", out)]
        self.assertEqual(len(found), 3)
        np.testing.assert_allclose(found, 10 / 11, atol=1e-3)
        self.assertIn("four[2]", self.call("runs", "--full")[0])


if __name__ == "__main__":
    unittest.main()
