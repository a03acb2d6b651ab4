"""Several objectives from the command line on: what a run says, verdicts on fronts, comparisons, goals, choices."""

import contextlib
import json
import tempfile
import unittest
from dataclasses import replace
from io import StringIO
from pathlib import Path

import numpy as np

from ilvren import loads, run
from ilvren.cli.main import main
from ilvren.cli.terminal import Terminal
from ilvren.errors import ProblemError
from ilvren.evaluate import Gate
from ilvren.explore.choosing import corners, exchange_rates, knee
from ilvren.judge.fronts.comparison import attained
from ilvren.judge.fronts.verification import verify_front
from ilvren.ledger import Ledger
from ilvren.problem import fronted
from tests.compact import WHOLE, only_in_whole
from tests.drawing import unpainted

BOX = "x = { start = 2, lower = -5, upper = 5 }\ny = { start = 2, lower = -5, upper = 5 }\n"
TWO = (
    f'title = "Two bowls"\n[variables]\n{BOX}[minimize]\na = {{ formula = "x^2 + y^2", unit = "EUR" }}\n'
    'b = { formula = "(x-3)^2 + (y-1)^2", unit = "kg" }\n[constraints]\nc = "y + x/4 >= 1.2"\n'
)


class InAFolder(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.enterContext(contextlib.chdir(folder.name))
        Path("two.toml").write_text(TWO)

    def ilvren(self, *words, status=0):
        out, err = StringIO(), StringIO()
        found = main(list(words), Terminal(out=out, err=err))
        self.assertEqual(found, status, err.getvalue() + out.getvalue()[-2000:])
        return out.getvalue() if found != 2 else err.getvalue()

    def json(self, *words, status=0):
        return json.loads(self.ilvren(*words, "--json", "--quiet", status=status))


class FromTheCommandLine(InAFolder):
    def test_the_document_of_a_run(self):
        found = self.json("run", "two.toml", "--points", "6")
        self.assertIsNone(found["objectives"])
        self.assertEqual(found["outcome"], "settled")
        self.assertEqual(len(found["front"]), 6)
        first = [member["objectives"]["a"] for member in found["front"]]
        self.assertEqual(first, sorted(first))
        self.assertAlmostEqual(found["ideal"]["a"], first[0], places=9)
        self.assertAlmostEqual(found["nadir"]["a"], first[-1], places=9)
        for name in ("a", "b"):
            room = found["nadir"][name] - found["ideal"][name]
            self.assertAlmostEqual(found["reference_point"][name], found["nadir"][name] + 0.1 * room, places=9)
        self.assertEqual(set(found["front"][0]["constraints"]), {"c"})
        address = found["front"][4]["design"]
        shown = self.json("show", address)
        self.assertAlmostEqual(shown["objectives"]["b"], found["front"][4]["objectives"]["b"], places=12)
        own = self.json("run", "two.toml", "--points", "6", "--reference-point", "a=100,b=100")
        self.assertGreater(own["hypervolume"], found["hypervolume"])

    @only_in_whole
    def test_a_search_on_an_approximation_evaluates_designs_along_the_front_truly(self):
        self.json("sample", "two.toml", "--points", "14")
        self.json("approximate", "r1", "--kind", "polynomial")
        found = self.json("run", "two.toml", "--on", "a1", "--points", "7")
        self.assertEqual(found["counts"]["evaluations"], 7)
        self.assertGreaterEqual(len(found["front"]), 5)
        for member in found["front"]:
            x, y = (member["variables"][name] for name in "xy")
            self.assertAlmostEqual(member["objectives"]["a"], x * x + y * y, places=9)
        if WHOLE:
            twice = self.json("run", "two.toml", "--on", "a1", "--points", "7", "--rounds", "2")
            self.assertIn("known already", twice["reason"])  # bowls are learnt exactly

    def test_every_command_on_a_front(self):
        unpainted(self)
        self.ilvren("run", "two.toml", "--points", "6", "--label", "one", "--quiet")
        self.ilvren("run", "two.toml", "--points", "6", "--method", "nondominated-sorting", "--evaluations", "300", "--quiet",
                    "--label", "other", status=1)  # fmt: skip
        self.assertIn("front of 6", self.ilvren("runs"))
        self.assertIn("(holds)", self.ilvren("verify", "one"))
        self.assertIn(
            "one is better", self.ilvren("compare", "one", "other", "--output", "both.png").replace("r1", "one")
        )
        table = self.json("designs", "one", "--keep", "b <= 3", "--top", "4")
        self.assertTrue(all(design["values"]["b"] <= 3.0 for design in table["designs"]))
        self.assertEqual([design["layer"] for design in table["designs"]], [1] * 4)
        for words in (
            ("designs", "one", "--figure", "front", "--output", "front.png"),
            ("designs", "one", "--output", "page.html"),
            ("report", "one", *(("other",) if WHOLE else ()), "--output", "report.html"),
            ("check", "two.toml"),
            ("diagnose", "one"),
            ("export", "one", "--output", "one.csv"),
        ):
            with self.subTest(words=words):
                self.ilvren(*words)
        best = table["designs"][0]["design"]
        if WHOLE:
            one, other = (table["designs"][k]["design"] for k in (1, 2))
            way = self.json("sample", "two.toml", "--at", one, "--at", other, "--between", "3")
            self.assertEqual(len(way["designs"]), 5)
        ends = self.json("run", "two.toml", "--method", "nondominated-sorting", "--from-ends", "--evaluations", "120", "--points", "4",
                         status=1)  # fmt: skip
        self.assertAlmostEqual(ends["ideal"]["b"], 0.0, places=6)
        self.assertIn("nothing goes there", self.ilvren("apply", best, "--starts", "--into", "copy", status=2))
        self.ilvren("apply", best, "--starts")
        self.ilvren("run", "two.toml", "--only", "a", "--hold", "b <= 2", "--from", best)
        self.assertIn("for one objective", self.ilvren("run", "two.toml", "--target", "1", status=2))
        self.assertIn("finds the best of one", self.ilvren("run", "two.toml", "--method", "sqp", status=2))
        self.assertIn("lacks b", self.ilvren("run", "two.toml", "--reference-point", "a=1", status=2))
        self.assertIn("has one", self.ilvren("run", "two.toml", "--only", "a", "--points", "4", status=2))
        self.assertIn("for a design of one", self.ilvren("verify", "one", "--worth", status=2))

    def test_conflicts_and_the_pay_off_table(self):
        found = self.json("show", "two.toml", "--ends")
        self.assertEqual(found["conflicts"][0]["objectives"], ["a", "b"])
        self.assertLess(found["conflicts"][0]["share"], 0.6)
        self.assertEqual(found["ends"]["a"]["outcome"], "converged")
        self.assertLess(found["ends"]["a"]["objectives"]["a"], found["ends"]["b"]["objectives"]["a"])

    def test_contests_and_repeats_of_fronts(self):
        words = ("--method", "nondominated-sorting", "--method", "boundary-intersection")
        found = self.json(
            "contest", "two.toml", words[0], f"{words[1]}:generations=8", *words[2:], "--repeats", "2", "--points", "8"
        )
        self.assertEqual([item["runs"] for item in found["methods"]], [2, 1])
        self.assertLessEqual(max(run["share"] for run in found["runs"]), 1.0 + 1e-9)
        unpainted(self)
        self.ilvren("compare", "g1", "--figure", "attainment", "--output", "attained.png")
        own = self.json("run", "two.toml", "--repeats", "2", *words[:2], "--option", "generations=20", "--points", "8")
        self.assertGreater(own["hypervolume_share"]["least"], 0.8)

    def test_goals_and_priorities(self):
        goal = TWO.replace('"x^2 + y^2", ', '"x^2 + y^2", goal = 4, ')
        Path("goal.toml").write_text(goal)
        found = self.json("run", "goal.toml", "--points", "4")
        values = [member["objectives"]["a"] for member in found["front"]]
        self.assertEqual(sum(value < 4.0 - 1e-5 for value in values), 0)  # better than the goal counts for nothing
        self.assertAlmostEqual(min(values), 4.0, places=4)
        self.ilvren("verify", "last")
        first = TWO.replace("[minimize]\n", '[minimize]\nfirst = { formula = "(x - 1)^2", priority = 1 }\n')
        first = first.replace('unit = "EUR"', 'priority = 2, unit = "EUR"').replace(
            'unit = "kg"', 'priority = 2, unit = "kg"'
        )
        Path("first.toml").write_text(first)
        found = self.json("run", "first.toml", "--points", "6", "--method", "boundary-intersection")
        self.assertLess(max(abs(member["variables"]["x"] - 1.0) for member in found["front"]), 3e-3)
        self.assertGreater(len({round(member["variables"]["y"], 2) for member in found["front"]}), 4)
        one = self.json("run", "goal.toml", "--only", "a")
        self.assertEqual(one["outcome"], "target")
        for text, words in (
            (TWO.replace('unit = "EUR"', "priority = 0"), "whole number from 1"),
            (TWO.replace('unit = "EUR"', 'goal = "x"'), "goal"),
            (first.replace("priority = 1", "priority = 3"), "only the last ones can trade off"),
        ):
            with self.assertRaises(ProblemError) as caught:
                loads(text)
            self.assertIn(words, str(caught.exception))


class Verdicts(InAFolder):
    def test_models_and_workers(self):
        Path("two.py").write_text("def f(x, y):\n    return {'a': x*x + y*y, 'b': (x-3)**2 + (y-1)**2}\n")
        model = f'[variables]\n{BOX}[models.m]\npython = "two.py:f"\noutputs = ["a", "b"]\n'
        Path("model.toml").write_text(model + '[minimize]\na = "m.a"\nb = "m.b"\n')
        self.json("run", "model.toml", "--points", "4")
        self.assertTrue(self.json("verify", "last")["holds"])
        words = ("--method", "nondominated-sorting", "--evaluations", "150", "--points", "8")
        alone, shared = (self.json("run", "model.toml", *words, *more, status=1) for more in ((), ("--workers", "2")))
        self.assertEqual(alone["hypervolume"], shared["hypervolume"])

    def test_planted_members_that_are_dominated_are_all_found(self):
        with Ledger("a.ledger") as ledger:
            run(loads(TWO), method="boundary-intersection", points=7, ledger=ledger)
            record = ledger.run("r1")
            self.assertTrue(verify_front(ledger, record).holds)
            rng = np.random.default_rng(3)
            planted = {1, 3, 5}
            for place in planted:
                variables = record.result["front"][place]["variables"]
                variables["y"] += 0.02 + 0.1 * rng.random()
            found = verify_front(ledger, record)
            words = {place for place, member in enumerate(found.members) if member.verdict == "dominated"}
            self.assertEqual(words, planted)
            self.assertEqual((found.verdict, found.holds), ("dominated", False))
            record.result["front"][0]["variables"]["y"] -= 1.0
            self.assertEqual(verify_front(ledger, record).verdict, "limits-broken")

    @only_in_whole
    def test_exchange_rates_are_slopes_of_the_front(self):
        # Along the segment between the bowls' centres x = 3t, y = t: da = 20 t dt, db = -20 (1 - t) dt.
        text = TWO.replace('[constraints]\nc = "y + x/4 >= 1.2"\n', "")
        with Ledger("b.ledger") as ledger:
            run(loads(text), method="boundary-intersection", points=9, ledger=ledger)
            found = verify_front(ledger, ledger.run("r1"))
        self.assertTrue(found.holds, found.reason)
        for member in found.members[1:-1]:
            t = (member.objectives["a"] / 10.0) ** 0.5
            self.assertAlmostEqual(member.rates["b"], -(1.0 - t) / t, delta=1e-3 / t)
            self.assertAlmostEqual(member.weights["a"] + member.weights["b"], 1.0, places=9)

    def test_a_small_front_is_proved_and_what_was_mended_holds(self):
        with Ledger("ilvren.ledger") as ledger:
            run(loads(TWO, file="two.toml"), method="boundary-intersection", points=5, ledger=ledger)
        found = self.json("verify", "r1", "--prove", "--seconds", "60")
        self.assertEqual((found["verdict"], found["bound"]["complete"]), ("front-proved", True))
        values = {member["objectives"]["a"]: member["objectives"]["b"] for member in found["members"]}
        for step in found["bound"]["steps"]:
            self.assertLessEqual(step["b"], values[step["a"]] + 1e-9)
        self.ilvren("run", "two.toml", "--method", "nondominated-sorting", "--evaluations", "700", "--points", "8",
                    "--quiet", status=1)  # fmt: skip
        mended = self.json("verify", "last", "--mend", status=1)["mended"]
        self.assertTrue(self.json("verify", mended)["holds"])


class AsRows(unittest.TestCase):
    def test_the_same_formulas_as_rows_and_as_an_objective_have_their_own_derivatives(self):
        bowls = TWO.split("[constraints]")[0]
        front, point = fronted(loads(bowls)), np.array([1.0, 2.0])
        both = Gate(front).evaluate(point, derivatives=True)
        np.testing.assert_allclose(both.jacobian, [[2.0, 4.0], [-4.0, 2.0]])
        first = front.objectives[0]
        single = replace(
            front, objective=first, objectives=(first,), row_blocks=(replace(front.row_blocks[1], first=0),)
        )
        own = Gate(single)
        found = own.evaluate(point, derivatives=True)
        np.testing.assert_allclose(found.gradient, [2.0, 4.0])
        np.testing.assert_allclose(found.jacobian, [[-4.0, 2.0]])
        np.testing.assert_allclose(own.curvature(point, np.array([0.5]), 1.0), np.eye(2))


class Choosing(unittest.TestCase):
    def test_knees_corners_and_rates(self):
        first = np.array([0.0, 1.0, 2.0, 3.0, 4.0, 10.0, 20.0])
        values = np.column_stack([first, [40.0, 30.0, 20.0, 10.0, 1.0, 0.5, 0.0]])
        self.assertEqual(knee(values), 4)
        self.assertEqual(corners(values), [4])
        np.testing.assert_allclose(exchange_rates(values)[[0, 2, -1]], [-10.0, -10.0, -0.05])
        concave = np.column_stack([np.sin(np.linspace(0, 1.5, 9)), np.cos(np.linspace(0, 1.5, 9))])
        self.assertIsNone(knee(concave))
        np.testing.assert_allclose(attained(values, np.array([-1.0, 0.0, 2.5])), [np.inf, 40.0, 20.0])


if __name__ == "__main__":
    unittest.main()
