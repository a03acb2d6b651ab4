"""Words as values, and values that others give: every method that takes members, and what is told of them."""

import json
import unittest
from pathlib import Path

import numpy as np

from ilvren import loads, run, verify
from ilvren.errors import ProblemError, RequestError
from ilvren.methods.base import method_named
from ilvren.problem import load
from ilvren.runs import flat_design
from tests.compact import only_in_whole, parted
from tests.driving import affordable, single_names
from tests.kinds_of_problems import written
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
        for name in parted(single_names(), self._testMethodName):
            method = method_named(name)
            if not {"catalogue", "inequalities"} <= method.handles or name in ("enumeration", "branch-and-bound"):
                continue
            if name in ("multistart", "perturb-and-descend"):
                continue
            with self.subTest(method=name):
                result = run(self.problem, method=name, evaluations=affordable(name, 2000), seed=3)
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


class Together(InAFolder):
    """Choices with what else a problem may have: several objectives, stages, scatter."""

    def json(self, *words, status=0):
        return json.loads(self.call(*words, "--json", status=status)[0])

    def test_fronts_tell_words_and_are_verified_and_mended_by_them(self):
        written("front of members")
        front = self.json("run", "p.toml", "--points", "3", "--evaluations", "40", status=None)["front"]
        words = {member["variables"]["wood"] for member in front}
        self.assertLessEqual(words, {"oak", "larch", "red beech"})
        verdict = self.json("verify", "r1", status=None)
        self.assertEqual(len(verdict["members"]), len(front))
        self.call("report", "r1", "--output", "r.md", "--quiet")
        row = next(line for line in Path("r.md").read_text().splitlines() if line.startswith("| r1:"))
        self.assertTrue(any(f"| {word} |" in row for word in words), row)

    @only_in_whole
    def test_stages_begin_at_the_words_of_the_one_before(self):
        written("members")
        text = Path("p.toml").read_text().replace("[parameters]", "[parameters]\nneed = 150")
        Path("p.toml").write_text(text.replace(">= 150", ">= need"))
        found = self.json("run", "p.toml", "--stage", "need=60", "--stage", "need=150", "--evaluations", "3000")
        alone = self.json("run", "p.toml")
        self.assertEqual(len(found["stages"]), 1)
        self.assertAlmostEqual(found["objectives"]["cost"], alone["objectives"]["cost"], places=5)

    @only_in_whole
    def test_what_scatters_beside_them_is_counted_in_stages(self):
        written("scattering members")
        found = self.json("run", "p.toml", "--evaluations", "300", "--scenarios", "50", status=None)
        self.assertIn(found["variables"]["wood"], ("oak", "larch", "red beech"))
        self.assertGreaterEqual(found["constraints"]["holds"]["value"], 0.95 - 1e-6)
        # By hand: the cheapest wood of those that hold, each as thick as it must be.
        thick = {wood: (5.0 + 1.645 * 0.5) / s for wood, s in (("oak", 3.0), ("larch", 1.5), ("red beech", 2.4))}
        costs = {wood: price * thick[wood] for wood, price in (("oak", 4.0), ("larch", 2.5), ("red beech", 3.2))}
        self.assertAlmostEqual(found["objectives"]["cost"], min(costs.values()), delta=0.2)

    def test_a_number_for_a_choice_is_answered_with_its_own_words(self):
        Path("woods.csv").write_text(WOODS)
        Path("p.toml").write_text(BEAM)
        said = self.call("run", "p.toml", "--fix", "joint=1", status=2)[1]
        self.assertIn("glued", said)
        self.assertNotIn("larch", said)

    def test_words_of_a_document_are_numbers_of_a_design(self):
        written("members")
        blocks = load("p.toml").blocks
        told = {"wood": "red beech", "tube": 30.0, "n": 2.0, "t": 1.5}
        self.assertEqual(flat_design(told, blocks), (3.0, 30.0, 2.0, 1.5))
        self.assertEqual(flat_design({"wood": 2.0, "u": [1, [2, 3]][1]}, blocks), (2.0, 2.0, 3.0))


if __name__ == "__main__":
    unittest.main()
