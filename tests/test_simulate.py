"""`simulate`: the same designs as a table, as CSV and as JSON; designs of runs, of other files, and such as have no
course."""

import csv
import json
import unittest
from pathlib import Path

import numpy as np

from tests.test_cli import InAFolder

SWING = """title = "swing"
[time]
to = 6
steps = 24
unit = "s"
[variables]
d = { start = 0.4, lower = 0.05, upper = 2, unit = "1/s" }
k = { start = 3.0, lower = 0.5, upper = 9 }
[states]
p = { rate = "q", initial = [0.0, 0.5], unit = "m" }
q = { rate = "k * (1 - p) - d * q", initial = [0.0, 0.0] }
[signals]
lead = { formula = "p[0]", unit = "m" }
[derived]
up = { formula = "rise_time(lead, 0.1, 0.9)", unit = "s" }
never = "rise_time(lead, 0.1, 9)"
calm = "settling_time(lead, 1, 0.02)"
[minimize]
f = "integral((lead - 1)^2) + 0.1 * d^2"
"""
RUNAWAY = """
[time]
to = 3
[variables]
a = { start = 0.1, lower = 0, upper = 5 }
[states]
x = { rate = "a * (1 + x^2)", initial = 0 }
[minimize]
f = "last(x)"
"""


def course(d, k):
    """Return lead at the moments of the grid, in closed form: a damped swing about 1 that begins at 0 with no speed."""
    t = np.linspace(0.0, 6.0, 25)
    w = np.sqrt(k - d * d / 4.0)
    return 1.0 - np.exp(-d * t / 2.0) * (np.cos(w * t) + d / (2.0 * w) * np.sin(w * t))


class Simulated(InAFolder):
    def setUp(self):
        super().setUp()
        Path("s.toml").write_text(SWING)
        Path("away.toml").write_text(RUNAWAY)

    def json(self, *words):
        return json.loads(self.call("simulate", *words, "--json")[0])

    def rows(self, *words):
        self.call("simulate", *words, "--output", "out.csv")
        with Path("out.csv").open() as file:
            return list(csv.DictReader(file))

    def test_the_table_the_file_and_the_document_are_the_course(self):
        told = self.json("s.toml", "--at", "d=0.6", "--at", "k=4")
        lead = np.array(told["signals"]["lead"])
        np.testing.assert_allclose(lead, course(0.6, 4.0), atol=1e-4)
        self.assertEqual(told["variables"], {"d": 0.6, "k": 4.0})
        rows = self.rows("s.toml", "--at", "d=0.6", "--at", "k=4")
        self.assertEqual([float(row["lead"]) for row in rows], lead.tolist())
        self.assertEqual(list(rows[0]), ["t", "p[0]", "p[1]", "q[0]", "q[1]", "lead"])
        p = np.array(told["signals"]["p"])
        np.testing.assert_array_equal([[float(row["p[0]"]), float(row["p[1]"])] for row in rows], p)
        shown = self.call("simulate", "s.toml", "--at", "d=0.6", "--at", "k=4")[0]
        self.assertIn("t [s]   lead [m]", shown)
        lines = [line.split() for line in shown.splitlines() if line.strip()[:1].isdigit()]
        told_lines = {float(words[0]): float(words[1]) for words in lines if len(words) == 2}
        self.assertGreater(len(told_lines), 12)
        for row in rows:
            if float(row["t"]) in told_lines:
                self.assertAlmostEqual(told_lines[float(row["t"])], float(row["lead"]), places=5)
        self.assertIn(f"{len(told_lines)} of {len(rows)} moments; 2 more names", shown)

    def test_measures_say_when_and_what_is_never_reached(self):
        told = {item["entry"]: item for item in self.json("s.toml", "--at", "d=2", "--at", "k=4")["measures"]}
        t = np.linspace(0.0, 6.0, 200_001)
        w = np.sqrt(3.0)
        lead = 1.0 - np.exp(-t) * (np.cos(w * t) + np.sin(w * t) / w)
        begin, end = (t[np.argmax(lead >= level)] for level in (0.1, 0.9))
        np.testing.assert_allclose(told["up"]["times"], [begin, end], atol=2e-3)
        self.assertAlmostEqual(told["calm"]["value"], t[np.flatnonzero(np.abs(lead - 1.0) > 0.02)[-1]], delta=2e-3)
        shown = self.call("simulate", "s.toml", "--at", "d=2", "--at", "k=4")[0]
        never = next(line for line in shown.splitlines() if line.strip().startswith("never"))
        self.assertTrue(never.rstrip().endswith("not reached"))
        self.assertEqual(told["never"]["times"], [])

    def test_designs_of_a_run_one_below_the_other(self):
        self.call("run", "s.toml", "--second-look", "0", "--quiet")
        best = json.loads(self.call("show", "r1", "--json")[0])["variables"]
        own = {name: item["value"] if isinstance(item, dict) else item for name, item in best.items()}
        alone = self.json("r1")
        np.testing.assert_allclose([alone["variables"][n] for n in ("d", "k")], [own["d"], own["k"]], rtol=1e-12)
        both = self.json("r1", "--at", "r1:1")["designs"]
        self.assertEqual([item["design"] for item in both], ["r1", "r1:1"])
        self.assertEqual(both[1]["variables"], {"d": 0.4, "k": 3.0})
        rows = self.rows("r1", "--at", "r1:1", "--signals", "lead")
        self.assertEqual({row["design"] for row in rows}, {"r1", "r1:1"})
        np.testing.assert_allclose([float(row["lead"]) for row in rows[25:]], course(0.4, 3.0), atol=1e-4)
        moved = self.json("r1", "--at", "k=5")
        self.assertEqual(moved["variables"]["k"], 5.0)
        Path("other.toml").write_text(SWING.replace("0.1 * d^2", "0.2 * d^2").replace("to = 6", "to = 3"))
        elsewhere = self.json("other.toml", "--at", "r1")  # by the names of its variables
        self.assertEqual(elsewhere["variables"], alone["variables"])
        self.assertEqual(elsewhere["signals"]["t"][-1], 3.0)
        _, err = self.call("simulate", "away.toml", "--at", "r1", status=2)
        self.assertIn("r1 has no variable of away.toml", err)

    def test_a_design_without_a_course_says_why_and_the_others_are_shown(self):
        out, _ = self.call("simulate", "away.toml", "--at", "a=3", status=None)
        self.assertIn('cannot be simulated: "x" grows without bound', out)
        told = json.loads(self.call("simulate", "away.toml", "--at", "a=3", "--json", status=None)[0])
        self.assertIn("grows without bound", told["trouble"])
        fine = self.json("away.toml", "--at", "a=0.3")
        self.assertIsNone(fine["trouble"])
        self.assertAlmostEqual(fine["values"]["f"], np.tan(0.9), places=3)

    def test_what_cannot_be_asked(self):
        for words, told in (
            (("s.toml", "--at", "zz=3"), 'no variable "zz"'),
            (("s.toml", "--at", "d=1", "--at", "d=2"), '"d" is given twice'),
            (("s.toml", "--set", "k=4"), 'no parameter "k"'),
            (("nofile.toml",), "no such file"),
            (("s.toml", "--signals", "leed"), 'nothing over time is named "leed"'),
            (("pump.toml",), "nothing that evolves over time"),
            (("s.toml", "--at", "r7"), "no such ledger"),
        ):
            with self.subTest(words=words):
                out, err = self.call("simulate", *words, status=2)
                self.assertEqual(out, "")
                self.assertIn(told, err)


if __name__ == "__main__":
    unittest.main()
