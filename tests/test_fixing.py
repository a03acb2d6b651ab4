"""Variables held at values, sweeps over them, and searches over words and looked-up members."""

from __future__ import annotations

import csv
import itertools
import json
import unittest
from pathlib import Path

import numpy as np

from ilvren.errors import RequestError
from ilvren.judge import verify
from ilvren.ledger import Ledger
from ilvren.problem import Aim, load, loads
from ilvren.runs import Settings, problem_of, resume, resume_sweep, run, sweep
from tests.compact import WHOLE, only_in_whole
from tests.test_cli import InAFolder

SHELF = """title = "Shelf"
[variables]
wood = { choices = ["oak", "larch", "red beech"], start = "oak" }
w = { start = 100, lower = 50, upper = 300, unit = "mm" }
h = { start = 30, lower = 10, upper = 60, spacing = 10, unit = "mm" }
tube = { start = 30, catalogue = [20, 30, 50], unit = "mm" }
t = { shape = [3], start = 2, lower = 1, upper = 5 }
[parameters]
load = 900
woods = ["oak", "larch", "red beech"]
sizes = [20, 30, 50]
[derived]
price = "lookup(wood, woods, join(4, 2.5, 3.2))"
strength = "lookup(wood, woods, join(60, 45, 55))"
post = "lookup(tube, sizes, join(1, 1.2, 4))"
[minimize]
cost = "price * w * h / 1000 + sum(t) / sum(1 / t) + post"
[constraints]
bend = "load * 1000 / (w * h^2 / 6) <= strength / 4"
stiff = "t[0] * tube >= 33"
"""


class FixingTest(InAFolder):
    def setUp(self) -> None:
        super().setUp()
        Path("shelf.toml").write_text(SHELF)

    def test_a_fixed_problem_is_the_file_with_equal_bounds(self) -> None:
        text = SHELF.replace("start = 100, lower = 50, upper = 300", "start = 160, lower = 160, upper = 160")
        text = text.replace('"larch", "red beech"], start', '"larch", "red beech"], start', 1)
        given = loads(text)
        fixed = load("shelf.toml", aim=Aim(fix={"w": 160, "t[1]": 1.5, "wood": "larch", "tube": 50}))
        self.assertEqual(given.variables[1].lower, fixed.variables[1].upper)
        names = [fixed.variables[place].name for place in fixed.free]
        self.assertEqual(names, ["h", "t[0]", "t[2]"])
        self.assertEqual([variable.name for _, variable in fixed.grid], ["h"])
        self.assertEqual(fixed.start[:4], (2.0, 160.0, 30.0, 50.0))
        # Another start leaves what is fixed where it is.
        moved = fixed.with_starts([1.0, 99.0, 20.0, 20.0, 2.0, 4.0, 2.0])
        self.assertEqual(moved.start, (2.0, 160.0, 20.0, 50.0, 2.0, 1.5, 2.0))
        self.assertEqual(fixed.with_parameters(load=800.0).start, fixed.start)
        whole = load("shelf.toml", aim=Aim(fix={"t": [1, 2, 3]}))
        self.assertEqual(whole.start[4:], (1.0, 2.0, 3.0))
        self.assertEqual(load("shelf.toml", aim=Aim(fix={"t": 3})).start[4:], (3.0, 3.0, 3.0))

    def test_values_that_nothing_allows_are_refused_with_the_nearest(self) -> None:
        for fix, words in (
            ({"w": 20}, r"its bounds are \[50, 300\]"),
            ({"h": 15}, "no member of its spacing"),
            ({"tube": 40}, "no member of its catalogue"),
            ({"wood": "larhc"}, "not among its choices"),
            ({"w": "oak"}, "not a number"),
            ({"t": [1, 2]}, "length 2"),
            ({"t[0]": [1, 2, 3]}, "a scalar"),
            ({"t[3]": 1}, "no variable"),
            ({"load": 900}, "no variable"),
            ({"w": float("nan")}, "its bounds"),
        ):
            with self.subTest(fix), self.assertRaisesRegex(RequestError, words):
                load("shelf.toml", aim=Aim(fix=fix))
        err = self.call("run", "shelf.toml", "--fix", "h=44", status=2)[1]
        self.assertIn("The nearest allowed value is 40", err)
        err = self.call("run", "shelf.toml", "--fix", "wood=beech", status=2)[1]
        self.assertIn('"red beech"', err)
        err = self.call("run", "shelf.toml", "--fix", "w=100", "--start", "w=120", status=2)[1]
        self.assertIn("outside its bounds [100, 100]", err)

    @only_in_whole
    def test_what_is_fixed_goes_with_the_run(self) -> None:
        words = ("--fix", "wood=larch", "--fix", "h=50", "--fix", "tube=50", "--fix", "t[2]=2", "--method", "sqp")
        out = json.loads(self.call("run", "shelf.toml", *words, "--json")[0])
        self.assertEqual(
            (out["variables"]["wood"], out["variables"]["h"], out["variables"]["t"][2]), ("larch", 50.0, 2.0)
        )
        self.assertAlmostEqual(out["variables"]["w"], 900e3 * 6 / 2500 / (45 / 4), places=3)
        with Ledger("ilvren.ledger") as ledger:
            record = ledger.run("r1")
            self.assertEqual(problem_of(record).aim.fix, {"wood": "larch", "h": 50.0, "tube": 50.0, "t[2]": 2.0})
            again = resume("r1", ledger, anyhow=True)
            self.assertEqual(again.to_record()["variables"], record.result["variables"])
            # Of the problem with those fixed it is the optimum; of the whole it is not.
            self.assertTrue(verify(again).holds)
        self.assertIn(
            "--fix wood=larch --fix h=50.0", self.call("report", "r1", "--output", "r.md") and Path("r.md").read_text()
        )
        self.call(
            "run",
            "shelf.toml",
            "--known",
            "r1",
            "--method",
            "differential-evolution",
            "--evaluations",
            "60",
            "--quiet",
            status=1,
        )
        for command in (("check",), ("verify", "--at", "w=200"), ("draw", "--output", "d.png")):
            with self.subTest(command):
                found = self.call(command[0], "shelf.toml", "--fix", "w=20", *command[1:], status=2)[1]
                self.assertIn("its bounds are", found)

    def test_what_was_fixed_is_told_beside_others_and_written_into_the_file(self) -> None:
        for label, w in (("one", "120"), ("two", "150")):
            words = ("--fix", f"w={w}", "--fix", "wood=larch", "--fix", "h=60", "--fix", "tube=50", "--label", label)
            self.call("run", "shelf.toml", *words, "--method", "sqp", "--quiet", status=None)
        self.call(
            "run", "shelf.toml", "--hold", "cost <= 90", "--label", "held", "--method", "branch-and-bound", "--quiet"
        )
        out = self.call("compare", "one", "two", "held", status=None)[0]
        self.assertIn("asked beside the file: r1: --fix w=120.0", " ".join(out.split()))
        self.assertIn("r3: --hold 'cost <= 90'", " ".join(out.split()))
        self.call("apply", "two", "--starts")
        written = load("shelf.toml")
        self.assertEqual(written.start[:4], (2.0, 150.0, 60.0, 50.0))
        self.assertEqual((written.variables[1].lower, written.variables[1].upper), (50.0, 300.0))

    def test_sweeps_over_members_words_values_and_elements(self) -> None:
        base = load("shelf.toml", aim=Aim(fix={"h": 60, "tube": 50}))
        found = sweep(base, "wood", None, Settings(method="sqp"))
        self.assertEqual([found.shown(member.value) for member in found.members], ["oak", "larch", "red beech"])
        self.assertEqual([member.is_warm for member in found.members], [False, True, True])
        for member, (price, strength) in zip(found.members, ((4, 60), (2.5, 45), (3.2, 55)), strict=True):
            w = max(900e3 * 6 / 3600 / (strength / 4), 50.0)
            self.assertAlmostEqual(member.result.objective, price * w * 60 / 1000 + 1.0 + 4.0, places=4)
        words = sweep(base, "wood", ["larch", "oak"], Settings(method="sqp"))
        self.assertEqual([member.value for member in words.members], [2.0, 1.0])
        free = load("shelf.toml", aim=Aim(fix={"wood": "oak", "tube": 50}))
        spaced = sweep(free.with_parameters(load=100.0), "h", None, Settings(method="sqp", evaluations=50))
        self.assertEqual([member.value for member in spaced.members], [10.0, 20.0, 30.0, 40.0, 50.0, 60.0])
        element = sweep(base, "t[1]", [1.0, 4.0], Settings(method="branch-and-bound"))
        self.assertEqual([member.result.point[5] for member in element.members], [1.0, 4.0])
        with self.assertRaisesRegex(RequestError, "no member of its spacing"):
            sweep(free, "h", [20.0, 15.0], Settings(method="sqp"))
        for name, values, words in (
            ("w", None, "which values"),
            ("t", [1.0], "not one number"),
            ("h", [50.0], "it is fixed at 60"),
            ("tube", [15.0], "it is fixed"),
            ("wood", ["fir"], "not among"),
            ("nothing", [1.0], "no parameter or variable"),
            ("load", None, "which values"),
        ):
            with self.subTest(name), self.assertRaisesRegex(RequestError, f"(?s){words}") as caught:
                sweep(base, name, values, Settings(method="sqp"))
            self.assertIsNotNone(caught.exception.advice)

    def test_a_sweep_over_words_is_told_in_words_and_resumes(self) -> None:
        words = ("--method", "branch-and-bound", "--quiet")
        out = self.call("run", "shelf.toml", "--sweep", "wood=[larch, 'red beech']", "--output", "s.csv", *words)[0]
        self.assertRegex(out, r"r1 +larch +\d")
        self.assertIn("red beech", Path("s.csv").read_text())
        self.call("export", "g1", "--output", "e.csv")
        rows = list(csv.DictReader(Path("e.csv").read_text().splitlines()))
        self.assertEqual([row["wood"] for row in rows[:2]], ["larch", "red beech"])
        self.assertEqual([row["variable:wood"] for row in rows[:2]], ["larch", "red beech"])
        told = json.loads(self.call("compare", "r1", "r2", "--json")[0])
        self.assertIn(["larch", "red beech"], [item["values"] for item in told["designs"]])
        self.assertIn("r1: --fix wood=larch", " ".join(told["notes"]))
        document = json.loads(self.call("run", "shelf.toml", "--sweep", "tube=[20, 50]", "--json", *words)[0])
        self.assertEqual(document["values"], [20.0, 50.0])
        with Ledger("ilvren.ledger") as ledger:
            again = resume_sweep(ledger, "g1")
        self.assertEqual([again.shown(member.value) for member in again.members], ["larch", "red beech"])
        if WHOLE:
            self.call("run", "shelf.toml", "--sweep", "tube=[20]", "--output", "s.png", *words)
            self.assertGreater(Path("s.png").stat().st_size, 10_000)


class LookedUpTest(unittest.TestCase):
    @only_in_whole
    def test_words_and_looked_up_members_are_searched_one_by_one(self) -> None:
        """The optimum is that of all combinations, each solved by itself, on problems drawn at random."""
        rng = np.random.default_rng(22)
        for trial in range(2 if WHOLE else 1):
            prices, loads_ = rng.uniform(1, 9, 3), rng.uniform(1, 4, 4)
            text = f"""[variables]
kind = {{ choices = ["a", "b", "c"] }}
size = {{ catalogue = [1, 2, 4, 8], start = 8 }}
n = {{ start = 1, lower = 1, upper = {3 if WHOLE else 2}, spacing = 1 }}
x = {{ start = 5, lower = 0.1, upper = 20 }}
[parameters]
kinds = ["a", "b", "c"]
sizes = [1, 2, 4, 8]
[derived]
price = "lookup(kind, kinds, join({", ".join(map(str, prices))}))"
push = "lookup(size, sizes, join({", ".join(map(str, loads_))}))"
[minimize]
f = "price * x + n * push + 30 / (x * n) + size / price"
[constraints]
c = "x * n * push >= 12"
"""
            problem = loads(text)
            found = run(problem)
            self.assertEqual(found.method, "branch-and-bound")
            best = np.inf
            for kind, size, n in itertools.product("abc", (1, 2, 4, 8), range(1, 4 if WHOLE else 3)):
                one = loads(text, aim=Aim(fix={"kind": kind, "size": size, "n": n}))
                result = run(one, method="sqp")
                best = min(best, result.objective) if result.holds else best
            with self.subTest(trial):
                self.assertAlmostEqual(found.objective / best, 1.0, places=5)

    def test_too_many_combinations_are_said(self) -> None:
        text = "[variables]\n" + "".join(f"c{i} = {{ catalogue = [1, 2, 3, 4, 5, 6], start = 1 }}\n" for i in range(6))
        text += 'x = { start = 1, lower = 0, upper = 3 }\n[parameters]\nk = [1, 2, 3, 4, 5, 6]\nv = [5, 3, 4, 1, 2, 6]\n[minimize]\nf = "(x - 1)^2 + '
        text += " + ".join(f"lookup(c{i}, k, v)" for i in range(6)) + '"\n'
        self.assertEqual(run(loads(text), method="branch-and-bound").outcome, "stalled")
        found = run(loads(text))
        self.assertEqual(found.method, "mesh-adaptive-search")
        self.assertAlmostEqual(found.objective, 6.0, places=4)


if __name__ == "__main__":
    unittest.main()
