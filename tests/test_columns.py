"""Files of designs and runs, whatever what they hold is called: no column hides another, and each is read back."""

import csv
import json
import unittest
from pathlib import Path

from tests.kinds_of_problems import written
from tests.test_cli import InAFolder

# Every name is one of a column that some file has of its own.
NAMES = """
[parameters]
start = 2
[variables]
design = { start = 1, lower = 0, upper = 3 }
run = { start = 1, lower = 0, upper = 3 }
evaluations = { start = 1, lower = 0, upper = 3 }
[minimize]
violation = "(design - 1.2)^2 + start * (run - 0.4)^2 + (evaluations - 2)^2 + 3"
[constraints]
trouble = "design + run >= 2"
"""


class Columns(InAFolder):
    def setUp(self):
        super().setUp()
        Path("p.toml").write_text(NAMES)

    def read(self, path):
        with Path(path).open(newline="") as file:
            rows = list(csv.reader(file))
        self.assertEqual(len(set(rows[0])), len(rows[0]), rows[0])
        return [dict(zip(rows[0], row, strict=True)) for row in rows[1:]]

    def test_designs_are_told_as_they_are_and_read_back(self):
        out = self.call("sample", "p.toml", "--points", "5", "--label", "look")[0]
        told = json.loads(self.call("designs", "look", "--json")[0])["designs"]
        lowest = min(design["values"]["violation"] for design in told)
        self.assertGreaterEqual(lowest, 3.0)
        self.assertRegex(out, rf"(?m)^ violation +{lowest:.6g} ")
        self.call("designs", "look", "--output", "d.csv")
        rows = self.read("d.csv")
        for row, design in zip(rows, told, strict=True):
            self.assertEqual(row["design"], design["design"])
            self.assertEqual(float(row["objective:violation"]), design["values"]["violation"])
            self.assertEqual(float(row["value:trouble"]), design["values"]["trouble"])
            self.assertEqual(float(row["violation"]), design["violation"])
            self.assertEqual(float(row["variable:design"]), design["variables"]["design"])
        again = json.loads(self.call("sample", "p.toml", "--csv", "d.csv", "--json")[0])["designs"]
        self.assertEqual([own["variables"] for own in again], [own["variables"] for own in told])
        out = self.call("verify", "p.toml", "--at", "d.csv", "--row", "3", status=None)[0]
        self.assertIn(f"violation = {told[2]['values']['violation']:.6g}", out)

    def test_sweeps_tell_what_they_are_over(self):
        for name, head in (("start", "start"), ("run", "variable:run")):
            out = self.call("run", "p.toml", "--sweep", f"{name}=[1, 2]", "--output", "s.csv", "--label", name)[0]
            self.assertIn("2 runs", out)
            rows = self.read("s.csv")
            self.assertEqual([float(row[head]) for row in rows], [1.0, 2.0])
            self.assertTrue(all(float(row["objective:violation"]) > 3.0 for row in rows))
        self.call("export", "g1", "--output", "g.csv")
        self.assertEqual([row["parameter:start"] for row in self.read("g.csv")], ["1.0", "2.0"])
        self.call("export", "g2", "--output", "g.csv")
        self.assertEqual([row["variable:run"] for row in self.read("g.csv")], ["1.0", "2.0"])

    def test_words_of_choices_are_taken_at_a_design_and_from_a_file(self):
        written("members")
        for word in ("larch", "oak"):
            shown = json.loads(self.call("show", "p.toml", "--at", f"wood={word}", "--json")[0])
            self.assertEqual(shown["variables"]["wood"], word)
        self.assertIn('mean "larch"', self.call("verify", "p.toml", "--at", "wood=lerch", status=2)[1])
        self.assertIn("only choices take words", self.call("show", "p.toml", "--at", "t=oak", status=2)[1].lower())
        self.call("sample", "p.toml", "--points", "4", "--quiet")
        self.call("designs", "r1", "--output", "d.csv")
        rows = self.read("d.csv")
        for number in (1, 4):
            out = self.call("verify", "p.toml", "--at", "d.csv", "--row", number, status=None)[0]
            self.assertIn(f"cost = {float(rows[number - 1]['cost']):.6g}", out)


if __name__ == "__main__":
    unittest.main()
