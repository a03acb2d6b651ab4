"""`ilvren sample`: designs of plans and of one's own, evaluated, interrupted, gone on with, added to."""

import csv
import json
import unittest
from pathlib import Path

import numpy as np

from ilvren.ledger import Ledger
from tests.compact import only_in_whole, some
from tests.test_cli import InAFolder

PIPE = """
[variables]
bore = { start = 0.2, lower = 0.1, upper = 0.4 }
wall = { start = 5, lower = 2, upper = 14, spacing = 0.5 }
kind = { start = "steel", choices = ["steel", "cast", "clay"] }
[tables.stock]
file = "stock.csv"
[minimize]
cost = "lookup(kind, stock.kind, stock.price) * wall * bore"
[constraints]
flow = "bore^2 >= 0.03"
stress = "bore / wall <= 0.06"
"""
STOCK = "kind,price\nsteel,3\ncast,2\nclay,1\n"
MODEL = """
import pathlib
def value(x, y):
    with open(pathlib.Path(__file__).with_name("calls.txt"), "a") as file:
        file.write("1")
    if x > 0.9:
        raise ValueError("no such pump")
    return {"out": (x - 0.3) ** 2 + y}
"""
MODELLED = """
[variables]
x = { start = 0.5, lower = 0, upper = 1 }
y = { start = 0.5, lower = 0, upper = 1 }
[models.pump]
python = "pump.py:value"
outputs = ["out"]
[minimize]
f = "pump.out"
[constraints]
band = "x + y <= 1.5"
high = "pump.out <= 0.8"
"""


class Sampling(InAFolder):
    def setUp(self):
        super().setUp()
        Path("pipe.toml").write_text(PIPE)
        Path("stock.csv").write_text(STOCK)

    def sample(self, *words, status=0):
        return json.loads(self.call("sample", *words, "--json", "--quiet", status=status)[0])

    def error(self, *words):
        return self.call(*words, status=2)[1]

    def test_a_sample_is_a_run_and_every_design_has_an_address(self):
        found = self.sample("pipe.toml", "--points", "24", "--label", "look")
        self.assertEqual((found["run"], len(found["designs"]), found["plan"]), ("r1", 24, "latin-hypercube"))
        for item in found["designs"]:
            own = item["variables"]
            price = {"steel": 3, "cast": 2, "clay": 1}[own["kind"]]
            self.assertAlmostEqual(item["values"]["cost"], price * own["wall"] * own["bore"])
            self.assertEqual(item["violation"] > 1e-6, own["bore"] ** 2 < 0.03 or own["bore"] / own["wall"] > 0.06)
        self.assertIn("24 designs", self.call("designs", "look")[0])
        self.assertIn("cost", self.call("show", "pipe.toml", "--at", "look:7")[0])
        self.call("verify", "look:7", "--quiet", status=1)
        self.assertIn("search from its best design", self.call("diagnose", "look")[0])
        self.call("export", "look", "--output", "look.csv", "--quiet")
        self.assertEqual(len(Path("look.csv").read_text().splitlines()), 25)

    def test_a_dry_run_evaluates_nothing_and_its_plan_is_what_is_sampled(self):
        planned = self.sample("pipe.toml", "--points", "9", "--seed", "3", "--dry-run", "--output", "plan.csv")
        self.assertFalse(Path("ilvren.ledger").exists())
        self.assertLess(planned["quality"]["unevenness"], 1.0)
        done = self.sample("pipe.toml", "--points", "9", "--seed", "3")
        order = sorted(done["designs"], key=lambda item: int(item["design"].split(":")[1]))
        for item, plan in zip(order, planned["designs"], strict=True):
            self.assertEqual(item["variables"]["bore"], plan["bore"])
        with open("plan.csv") as file:
            self.assertEqual(next(csv.reader(file)), ["bore", "wall", "kind"])

    def test_designs_of_ones_own_and_of_other_runs(self):
        Path("own.csv").write_text("wall,bore,junk\n5,0.3,1\n\n9.5,0.2,2\n")
        found = self.sample("pipe.toml", "--csv", "own.csv")
        self.assertEqual({item["variables"]["wall"] for item in found["designs"]}, {5, 9.5})
        picked = self.sample("pipe.toml", "--at", "r1:2")
        self.assertEqual(picked["designs"][0]["variables"]["wall"], 9.5)
        for text, told in (
            ("wall,bore\n5,0.9\n", "bad.csv:2: bore = 0.9 lies outside"),
            ("wall,bore\n5.2,0.3\n", "bad.csv:2: wall = 5.2 is no member; the nearest is 5"),
            ("kind,bore\nwood,0.3\n", '"wood" is none of steel, cast, clay'),
            ("wall,bore\n5\n", "bad.csv:2: 1 values, where the first line has 2 names"),
            ("bor\n0.2\n", 'Did you mean "bore"?'),
            ("bore\n", "no designs"),
        ):
            Path("bad.csv").write_text(text)
            with self.subTest(text=text):
                self.assertIn(told, self.error("sample", "pipe.toml", "--csv", "bad.csv"))

    @only_in_whole
    def test_a_sample_within_cheap_limits(self):
        found = self.sample("pipe.toml", "--points", "15", "--feasible")
        self.assertEqual(found["counts"], {"designs": 15, "feasible": 15})
        bores = np.array([item["variables"]["bore"] for item in found["designs"]])
        self.assertGreater(np.ptp(bores), 0.15)
        for number, plan in enumerate(some(("latin-hypercube", "sobol", "random"), 3), start=2):
            self.sample("pipe.toml", "--points", "16", "--feasible", "--plan", plan)
            whole = self.sample(f"r{number}", "--more", "16")
            self.assertEqual(whole["counts"], {"designs": 32, "feasible": 32}, plan)

    def test_more_designs_join_a_sample_and_none_is_evaluated_twice(self):
        Path("pump.py").write_text(MODEL)
        Path("pump.toml").write_text(MODELLED)
        first = self.sample("pump.toml", "--points", "12", "--feasible")
        whole = self.sample("r1", "--more", "6")
        self.assertEqual((whole["run"], len(whole["designs"])), ("r1", 18))
        self.assertEqual(len(Path("calls.txt").read_text()), 18)
        before = {item["design"]: item["variables"] for item in first["designs"]}
        after = {item["design"]: item["variables"] for item in whole["designs"]}
        self.assertEqual({name: after[name] for name in before}, before)
        troubled = [item for item in whole["designs"] if item["variables"]["x"] > 0.9]
        self.assertTrue(all("no such pump" in item["trouble"] for item in troubled))
        self.assertTrue(all(item["variables"]["x"] + item["variables"]["y"] <= 1.5 for item in whole["designs"]))
        with Ledger("ilvren.ledger") as ledger:
            self.assertEqual(ledger.run("r1").outcome, "settled")

    def test_workers_and_limits_change_nothing(self):
        Path("pump.py").write_text(MODEL)
        Path("pump.toml").write_text(MODELLED)
        one = self.sample("pump.toml", "--points", "10", "--fresh")
        two = self.sample("pump.toml", "--points", "10", "--fresh", "--workers", "2")
        values = [
            sorted((d["variables"]["x"], str(d["values"]["f"])) for d in found["designs"]) for found in (one, two)
        ]
        self.assertEqual(*values)

    def test_requests_that_make_no_sense(self):
        Path("open.toml").write_text('[variables]\nx = { start = 1, lower = 0 }\n[minimize]\nf = "x"\n')
        for words, told in (
            (("open.toml",), '"x" has no upper bound'),
            (("pipe.toml", "--plan", "sobl"), 'Did you mean "sobol"?'),
            (("pipe.toml", "--points", "0"), "--points must be at least 1"),
            (("pipe.toml", "--csv", "a.csv", "--points", "3"), "--csv says which designs"),
            (("pipe.toml", "--option", "levels=3"), 'has no option "levels"'),
            (("nothing.toml",), "nothing.toml"),
            ((), "say which problem"),
        ):
            with self.subTest(words=words):
                self.assertIn(told, self.error("sample", *words))
        self.sample("pipe.toml", "--plan", "full-factorial")
        self.assertIn("more designs would be another plan", self.error("sample", "r1", "--more", "3"))


if __name__ == "__main__":
    unittest.main()
