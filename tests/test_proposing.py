"""Proposed moves: the smallest that give a change, what stands in the way, and nothing predicted shown as evaluated."""

import json
import unittest
from pathlib import Path

import numpy as np

from ilvren import load, loads, run
from ilvren.errors import RequestError
from ilvren.evaluate import Gate
from ilvren.explore.proposing import Change, proposal_at, trusted_share
from ilvren.ledger import Ledger
from tests.test_cli import InAFolder

PLANE = """
[variables]
x = { start = 1.0, lower = 0, upper = 10, magnitude = 2 }
y = { start = 2.0, lower = 0, upper = 10, magnitude = 1 }
v = { start = 0.0, lower = -1, upper = 1, shape = 24 }
[derived]
level = "3 * x - y + 4 * v[11]"
weight = "x^2 + y^2"
[minimize]
cost = "10 + x + 2 * y + sum(v)"
[constraints]
room = "x + y <= 3.5"
"""


class Moves(unittest.TestCase):
    def setUp(self):
        self.problem = loads(PLANE)

    def proposed(self, *changes, **more):
        return proposal_at(self.problem, self.problem.start, [Change(*change) for change in changes], **more)

    def test_the_smallest_scaled_move_gives_the_change(self):
        found = self.proposed(("level", 0.5, False), hold=["v"])
        self.assertEqual(found.shares, (1.0,))
        moved = found.point - np.array(self.problem.start)
        # Along the scaled gradient (6, -1) of the level: what is in the metric of sizes the shortest.
        scaled = moved[:2] / [2.0, 1.0]
        np.testing.assert_allclose(scaled, 0.5 * np.array([6.0, -1.0]) / 37.0, atol=1e-6)
        self.assertFalse(moved[2:].any())
        level = next(item for item in found.quantities if item.name == "level")
        self.assertAlmostEqual(float(level.predicted[0] - level.now[0]), 0.5, places=6)

    def test_predictions_are_those_of_derivatives(self):
        found = self.proposed(("cost", -0.05, True))
        gate = Gate(self.problem)
        gradient = gate.written.gradient(np.array(self.problem.start))
        moved = found.point - np.array(self.problem.start)
        cost = next(item for item in found.quantities if item.name == "cost")
        self.assertAlmostEqual(float(cost.predicted[0] - cost.now[0]), float(gradient @ moved), places=9)
        self.assertAlmostEqual(float(cost.predicted[0] / cost.now[0]), 0.95, places=6)

    def test_limits_are_kept_and_named_where_they_stand_in_the_way(self):
        found = self.proposed(("cost", 3.0, False), hold=["v"], most=5.0)
        self.assertLess(found.shares[0], 1.0)
        x, y = found.point[:2]
        self.assertLessEqual(x + y, 3.5 + 1e-9)
        self.assertEqual(found.in_the_way[0][0], "room")
        held = self.proposed(("level", 0.5, False), hold=["v", "x"], most=0.1)
        self.assertIn("--most for y", [name for name, _ in held.in_the_way])
        self.assertAlmostEqual(held.point[1], 1.9, places=6)

    def test_a_quantity_can_be_held(self):
        found = self.proposed(("cost", -0.3, False), hold=["level", "weight"])
        moved = {item.name: float(item.predicted[0] - item.now[0]) for item in found.quantities if len(item.now) == 1}
        self.assertAlmostEqual(moved["level"], 0.0, places=8)
        self.assertAlmostEqual(moved["weight"], 0.0, places=8)
        self.assertAlmostEqual(moved["cost"], -0.3, places=5)

    def test_changes_that_exclude_each_other_are_told(self):
        found = self.proposed(("cost", -0.5, False), ("x + 2 * y + sum(v)", 0.5, False), ("level", 0.2, False))
        self.assertFalse(found.is_whole)
        self.assertEqual(found.conflicts, (("cost=-0.5", "x + 2 * y + sum(v)=+0.5"),))

    def test_smooth_vectors_move_smoothly_and_less_at_once(self):
        rough = self.proposed(("level", 1.0, False), hold=["x", "y"], most=1.0)
        smooth = self.proposed(("level", 1.0, False), hold=["x", "y"], most=1.0, smooth=["v"])
        self.assertEqual(smooth.shares, (1.0,))
        bend = [float(np.abs(np.diff(item.point[2:], 2)).max()) for item in (rough, smooth)]
        self.assertLess(bend[1], 0.2 * bend[0])
        self.assertGreater(np.count_nonzero(np.abs(smooth.point[2:]) > 1e-3), 8)

    def test_mistakes_are_told(self):
        for changes, more, told in (
            ([("cots", -1.0, False)], {}, "nothing named"),
            ([("v", -1.0, False)], {}, "has 24 elements"),
            ([("cost", -1.0, False)], {"smooth": ["x"]}, "no vector variable"),
            ([("v[0]", 0.1, True)], {}, "a change of nothing"),
        ):
            with self.assertRaisesRegex(RequestError, told):
                self.proposed(*changes, **more)

    def test_trust_falls_with_what_was_wrong(self):
        self.assertEqual(trusted_share(-1.0, -1.0), 2.0)
        self.assertAlmostEqual(trusted_share(-1.0, -0.8), 0.5)
        self.assertLess(trusted_share(-1.0, +1.0), 0.1)


class Commands(InAFolder):
    def test_what_is_accepted_is_evaluated_and_recorded_beside_what_was_predicted(self):
        Path("plane.toml").write_text(PLANE)
        out, _ = self.call("propose", "plane.toml", "--change", "weight=-10%", "--hold", "v")
        self.assertIn("a prediction: nothing was evaluated at it", out)
        self.assertFalse(Path("ilvren.ledger").exists())
        words = ("--change", "weight=-10%", "--hold", "v", "--accept", "--json")
        found = json.loads(self.call("propose", "plane.toml", *words)[0])
        x, y = found["variables"]["x"], found["variables"]["y"]
        self.assertAlmostEqual(found["accepted"]["actual"]["weight"], x * x + y * y)
        self.assertNotAlmostEqual(found["quantities"]["weight"]["predicted"], x * x + y * y, places=6)
        with Ledger("ilvren.ledger") as ledger:
            record = ledger.run("r1")
            self.assertEqual(record.overrides["proposal"]["from"], "plane.toml")
            self.assertEqual(record.result["counts"]["evaluations"], 1)
        again = json.loads(self.call("propose", "r1", *words)[0])
        self.assertEqual(again["from"], "r1")
        self.assertLess(again["accepted"]["actual"]["weight"], found["accepted"]["actual"]["weight"])
        self.call("propose", "r1:1", "--change", "cost=+50", status=1)
        self.assertIn("with its sign", self.call("propose", "r1", "--change", "cost=3", status=2)[1])

    def test_a_picture_of_a_vector_before_and_after(self):
        Path("plane.toml").write_text(PLANE)
        self.call("propose", "plane.toml", "--change", "level=+1", "--smooth", "v", "--output", "v.svg")
        self.assertIn("v as proposed", Path("v.svg").read_text())

    def test_the_method_does_it_by_itself(self):
        Path("plane.toml").write_text(PLANE.replace("sum(v)", "sum((v - 0.3)^2) + weight"))
        result = run(load("plane.toml"), method="proposals")
        self.assertEqual(result.outcome, "converged")
        other = run(load("plane.toml"), method="sqp")
        self.assertAlmostEqual(result.objective, other.objective, places=6)
        moves = [item.note for item in result.iterations[1:]]
        self.assertTrue(all("promised" in note for note in moves), moves)


if __name__ == "__main__":
    unittest.main()
