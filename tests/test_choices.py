"""Words as values, and values that others give: every method that takes members, and what is told of them."""

import json
import unittest
from pathlib import Path

import numpy as np

from ilvren import loads, run, verify
from ilvren.errors import ProblemError, RequestError
from ilvren.methods.base import method_named
from tests.driving import affordable, single_names
from tests.test_cli import InAFolder

WOODS = "name,e,price\nsteel,210,90\noak,11,20\nlarch,12,9\nash,13,12\nfir,9,8.9\n"
BEAM = """
[variables]
wood = { choices = ["oak", "fir", "steel", "larch", "ash"], start = "oak" }
h = { start = 0.2, lower = 0.02, upper = 0.3, unit = "m" }
joint = { choices = ["glued", "bolted"] }
[tables.woods]
file = "woods.csv"
[parameters]
kinds = ["bolted", "glued"]
loss = [1.0, 1.3]
bolts = [0.2, 0.0]
[minimize]
cost = "lookup(wood, woods.name, woods.price) * h * lookup(joint, kinds, loss) + lookup(joint, kinds, bolts)"
[constraints]
stiff = "lookup(wood, woods.name, woods.e) * h^3 * 1e3 >= 4"
"""


def best():
    found = {}
    for line in WOODS.splitlines()[1:]:
        name, e, price = line.split(",")
        h = max((4 / (1e3 * float(e))) ** (1 / 3), 0.02)
        for joint, loss, bolts in (("glued", 1.3, 0.0), ("bolted", 1.0, 0.2)):
            found[name, joint] = float(price) * h * loss + bolts
    return min(found.items(), key=lambda item: item[1])


class Choices(InAFolder):
    def setUp(self):
        super().setUp()
        Path("woods.csv").write_text(WOODS)
        Path("beam.toml").write_text(BEAM)
        self.problem = loads(BEAM, file="beam.toml")

    def test_every_method_for_members_finds_the_words(self):
        (wood, joint), cost = best()
        for name in single_names():
            method = method_named(name)
            if not {"catalogue", "inequalities"} <= method.handles or name in ("enumeration", "branch-and-bound"):
                continue
            if name in ("multistart", "perturb-and-descend"):
                continue
            with self.subTest(method=name):
                result = run(self.problem, method=name, evaluations=affordable(name, 3000), seed=3)
                self.assertAlmostEqual(result.objective, cost, delta=2e-2 * cost)
                if name in ("mesh-adaptive-search", "genetic-algorithm", "simulated-annealing"):
                    self.assertEqual((result.variables["wood"], result.variables["joint"]), (wood, joint))

    def test_all_other_words_are_neighbours(self):
        # From oak every word between it and larch is worse: a search along numbers would end there.
        result = run(self.problem)
        self.assertEqual(result.variables["wood"], best()[0][0])
        verdict = verify(result)
        self.assertTrue(verdict.holds, verdict.reason)
        self.assertIn("all 9 neighbours", verdict.reason)  # 4 + 1 singles, 4 pairs
        worse = verify(self.problem, at={"wood": 2.0, "joint": 1.0, "h": 0.1})
        self.assertFalse(worse.holds)

    def test_words_are_told_and_taken_everywhere(self):
        found = json.loads(self.call("run", "beam.toml", "--start", "wood=steel", "--json")[0])
        self.assertEqual(found["variables"]["wood"], best()[0][0])
        self.assertNotIn("wood", found["bounds"])
        designs = json.loads(self.call("designs", "r1", "--json")[0])["designs"]
        self.assertEqual({item["variables"]["joint"] for item in designs}, {"glued", "bolted"})
        self.assertIn("choice of 5: oak, fir, steel, larch, ash", self.call("show", "beam.toml")[0])
        self.assertIn(best()[0][0], self.call("designs", "r1")[0])
        self.call("apply", "r1", "--starts")
        self.assertIn(f'start = "{best()[0][0]}"', Path("beam.toml").read_text())
        again = loads(Path("beam.toml").read_text(), file="beam.toml")
        self.assertEqual(again.variables[0].words[round(again.baseline[0]) - 1], best()[0][0])
        self.assertIn('"oak"', self.call("run", "beam.toml", "--start", "wood=oaks", status=2)[1])

    def test_words_reach_decks_and_have_no_number(self):
        Path("own").write_text("#!/bin/sh\ncase $1 in fir) echo V 1;; *) echo V 2;; esac\n")
        Path("own").chmod(0o755)
        text = BEAM + (
            '[models.own]\ncommand = ["./own", "{wood}"]\nfiles = ["own"]\n'
            '[models.own.read]\nv = { file = "stdout", after = "V" }\n'
        )
        problem = loads(text.replace('cost = "', 'cost = "10 * own.v + '), file="beam.toml")
        self.assertEqual(run(problem, evaluations=400).variables["wood"], "fir")
        for old, new in (('cost = "', 'cost = "wood + '), ('stiff = "', 'stiff = "joint * ')):
            with self.assertRaisesRegex(ProblemError, "no number to compute with"):
                loads(BEAM.replace(old, new), file="beam.toml")
        with self.assertRaisesRegex(ProblemError, "does not go with"):
            loads(BEAM.replace('start = "oak"', "lower = 1"), file="beam.toml")
        with self.assertRaisesRegex(RequestError, "not among its choices"):
            loads(BEAM, file="beam.toml", start={"joint": "welded"})


class Linked(unittest.TestCase):
    TEXT = """
[variables]
a = { start = 1.0, lower = 0, upper = 5 }
v = { start = 1, lower = 0, upper = 3, shape = 3 }
c = { linked = "2 * a + 1", lower = 0, upper = "3 + 3", unit = "m" }
w = { linked = "v + a", upper = 4 }
[minimize]
f = "(a - 4)^2 + sum((w - 5)^2)"
"""

    def test_they_follow_and_their_bounds_are_limits(self):
        result = run(loads(self.TEXT))
        a, *v = result.point
        self.assertEqual(result.outcome, "converged")
        self.assertAlmostEqual(a, 2.5, places=6)
        np.testing.assert_allclose(v, 1.5, atol=1e-6)
        self.assertEqual([state.name for state in result.constraints], ["c", "w[0]", "w[1]", "w[2]"])
        self.assertLess(result.constraints[0].price, 0)

    def test_what_others_give_has_no_start(self):
        for old, new, told in (
            ("upper = 4", "start = 4", '"start" does not go with "linked"'),
            ("v + a", "w + a", "needs itself"),
            ("2 * a + 1", "2 * q + 1", 'unknown name "q"'),
        ):
            with self.assertRaisesRegex(ProblemError, told):
                loads(self.TEXT.replace(old, new))


if __name__ == "__main__":
    unittest.main()
