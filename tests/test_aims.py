"""Several objectives made one: the numbers, what is told of the others, and that every command that asks for one works
on what is made and refuses what is not."""

from __future__ import annotations

import json
import math
from pathlib import Path

import numpy as np

from ilvren import verify
from ilvren.errors import ProblemError, RequestError
from ilvren.evaluate import Gate, Recipe
from ilvren.ledger import Ledger
from ilvren.problem import Aim, loads, scalarized
from ilvren.runs import resume, run
from ilvren.runs.stored import problem_of
from tests.test_cli import InAFolder

TEXT = """[parameters]
k = 2
[variables]
x = { start = 1, lower = 0.1, upper = 3 }
y = { start = 1, lower = 0.1, upper = 3 }
[minimize]
cost = { formula = "x^2 + k * y", unit = "EUR", magnitude = 2 }
loss = "1 / x + 1 / y"
[maximize]
room = "x * y"
[constraints]
total = "x + y <= 4"
"""


class Aims(InAFolder):
    def test_what_is_made_is_the_sum_the_one_and_the_largest_miss(self) -> None:
        several = loads(TEXT)
        self.assertEqual(
            ([item.name for item in several.objectives], several.objective), (["cost", "loss", "room"], None)
        )
        point = np.array([0.7, 1.9])
        cost, loss, room = 0.7**2 + 2 * 1.9, 1 / 0.7 + 1 / 1.9, 0.7 * 1.9
        for aim, expected in (
            (Aim(weigh={"cost": 1, "loss": 20, "room": 3}), cost + 20 * loss - 3 * room),
            (Aim(weigh={"room": 2.5}), -2.5 * room),
            (Aim(only="room"), -room),
            (Aim(only="loss", hold=("room >= 1",)), loss),
            (Aim(near={"cost": 3, "room": 2}, weigh={"room": 4}), max(cost - 3, -4 * (room - 2))),
        ):
            with self.subTest(aim=aim):
                made = scalarized(several, aim)
                found = Gate(made).evaluate(point, derivatives=True)
                self.assertAlmostEqual(found.objective, expected, places=12)
                self.assertEqual(len(made.row_blocks), 1 + len(aim.hold))
                told = {item.name for item in made.derived} | {made.objective.name}
                self.assertLessEqual({"cost", "loss", "room"}, told)
                again = made.with_parameters(k=5)
                self.assertEqual((again.aim, [item.name for item in again.objectives]), (aim, [made.objective.name]))
                there = Recipe.of(made, is_sparse=False).problem()
                self.assertEqual(Gate(there).evaluate(point).objective, found.objective)

    def test_runs_on_what_is_made_are_ordinary_ones(self) -> None:
        made = scalarized(loads(TEXT), Aim(weigh={"cost": 1, "loss": 4}, hold=("room >= 1",)))
        by_hand = loads(TEXT.split("[minimize]")[0] + "[minimize]\nf = 'x^2 + k*y + 4*(1/x + 1/y)'\n[constraints]\n"
                        "total = 'x + y <= 4'\nheld = 'x * y >= 1'\n")  # fmt: skip
        expected = run(by_hand, method="sqp")
        with Ledger("a.ledger") as ledger:
            found = run(made, method="sqp", ledger=ledger, iterations=2)
            self.assertEqual(found.outcome, "exhausted")
            found = resume("last", ledger, iterations=99)
            self.assertEqual(problem_of(ledger.run("r1")).aim, made.aim)
            self.assertTrue(verify("r1", ledger=ledger).holds)
        np.testing.assert_allclose(found.point, expected.point, rtol=1e-6)
        self.assertAlmostEqual(float(found.derived["cost"]), found.point[0] ** 2 + 2 * found.point[1], places=12)

    def test_what_cannot_be_made_is_refused_by_name(self) -> None:
        several = loads(TEXT)
        for aim, word in (
            (Aim(weigh={"los": 1}), '"loss"'),
            (Aim(only="cots"), '"cost"'),
            (Aim(only="cost", weigh={"loss": 1}), "--weigh"),
            (Aim(weigh={"cost": -1}), "from 0"),
            (Aim(weigh={"cost": 0}), "0"),
            (Aim(weigh={"cost": math.nan}), "from 0"),
        ):
            with self.subTest(aim=aim), self.assertRaises(RequestError) as caught:
                scalarized(several, aim)
            self.assertIn(word, f"{caught.exception} {caught.exception.advice}")
        with self.assertRaises(ProblemError) as located:
            scalarized(several, Aim(only="cost", hold=("rom >= 1",)))
        self.assertIn("room", str(located.exception.advice))

    def test_commands_ask_for_one_objective_and_work_on_it(self) -> None:
        Path("t.toml").write_text(TEXT)
        shown = json.loads(self.call("show", "t.toml", "--json")[0])
        self.assertEqual(shown["objectives"], {"cost": 3.0, "loss": 2.0, "room": 1.0})
        one = ("--weigh", "cost=1,loss=4")
        of_one = ("run", "t.toml", "--method", "sqp")
        for words, advice in (
            (("verify", "t.toml", "--at", "x=1"), "--weigh cost=1,loss=1,room=1"),
            (("draw", "t.toml", "--output", "f.png"), "--weigh cost=1,loss=1,room=1"),
            (of_one, "nondominated-sorting"),
            (("contest", *of_one[1:]), "nondominated-sorting"),
        ):
            with self.subTest(words=words):
                _, err = self.call(*words, status=2)
                self.assertIn(advice, err)
                self.call(*words, *one, status=1 if words[0] == "verify" else 0)
        result = json.loads(self.call("run", "t.toml", "--only", "room", "--hold", "cost <= 4", "--json")[0])
        self.assertEqual(list(result["objectives"]), ["room"])
        self.assertAlmostEqual(result["constraints"]["held"]["value"], 4.0, places=5)
        self.assertAlmostEqual(result["derived"]["cost"], result["constraints"]["held"]["value"], places=12)

    def test_commands_to_paste_ask_for_the_same(self) -> None:
        Path("t.toml").write_text(TEXT)
        self.call("run", "t.toml", "--weigh", "cost=1,loss=2.5", "--hold", "room >= 9", status=1)
        commands = [
            line.strip() for line in self.call("diagnose", "last", status=1)[0].splitlines() if "t.toml" in line
        ]
        runs = [line for line in commands if "ilvren run" in line or "ilvren check" in line]
        self.assertTrue(runs)
        for line in runs:
            self.assertIn("--weigh cost=1,loss=2.5 --hold 'room >= 9'", line)
        self.assertEqual(Aim(only="cost").flags(with_only=False), ["--weigh", "cost=1"])
        self.assertEqual(Aim(only="cost").flags(), ["--only", "cost"])
