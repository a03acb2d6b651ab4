"""The probe and the report on a design: what is tried, what counts as better, what is found before a run."""

import unittest

import numpy as np

from ilvren import loads
from ilvren.errors import RequestError
from ilvren.evaluate import Gate
from ilvren.judge import design_report_at
from ilvren.judge.optimum.probe import gain_over, probe_around, restored
from ilvren.problem import Measures
from tests.problems import two_variables


def probe(text, point, prices=(), **changes):
    problem = loads(text)
    settings = {"radii": (1e-2, 1e-3), "feasibility": 1e-6, "least_gain": 1e-6, "directions": [], "samples": 40}
    return probe_around(
        Gate(problem),
        Measures.of(problem),
        np.array(point),
        sizes=np.ones(2),
        prices=np.array(prices or [0.0] * len(problem.rows)),
        **(settings | changes),
    )


class Probing(unittest.TestCase):
    def test_an_optimum_stands_and_a_slope_does_not(self):
        self.assertIsNone(probe(two_variables("x^2 + y^2"), (0.0, 0.0)).better)
        found = probe(two_variables("x^2 + y^2"), (1.0, 0.0))
        self.assertLess(found.better.objective, 1.0)
        self.assertAlmostEqual(found.better.gain, 1.0 - found.better.objective)

    def test_designs_tried_are_feasible_and_near(self):
        text = two_variables("x + y", "x^2 + y^2 == 2")
        found = probe(text, (1.0, 1.0))
        self.assertGreater(found.tried, 50)  # brought back onto the circle
        better = found.better.point
        self.assertAlmostEqual(float(better @ better), 2.0, places=5)
        self.assertLessEqual(float(np.abs(better - 1.0).max()), 3e-2)

    def test_known_derivatives_bring_designs_back_and_are_given_up_where_they_mislead(self):
        problem = loads(two_variables("x + y", "x^2 + y^2 == 2", "atan(40 * (x - y)) <= 1.7"))
        gate, measures = Gate(problem), Measures.of(problem)
        free, sizes = problem.continuous_places, np.ones(2)
        for start, near in (((1.01, 0.99), (1.0, 1.0)), ((1.3, 1.1), (0.2, -1.4))):
            known = gate.evaluate(np.array(near), derivatives=True)
            with_known = restored(gate, measures, np.array(start), free, sizes, 1e-9, near=lambda known=known: known)[0]
            alone = restored(gate, measures, np.array(start), free, sizes, 1e-9)[0]
            for point in (with_known, alone):
                self.assertLessEqual(measures.violation(point, gate.evaluate(point).rows), 1e-9)
            self.assertLess(float(np.abs(with_known - alone).max()), 0.3)

    def test_derivatives_of_the_design_serve_all_that_is_tried_around_it(self):
        gate = Gate(loads(two_variables("x + y", "x^2 + y^2 == 2")))
        before = gate.evaluate
        asked = []

        def counted(point, derivatives=False):
            asked.append(derivatives)
            return before(point, derivatives=derivatives)

        gate.evaluate = counted
        measures = Measures.of(gate.problem)
        found = probe_around(
            gate, measures, np.ones(2), sizes=np.ones(2), prices=np.zeros(1), radii=(1e-3,), feasibility=1e-6,
            least_gain=1e-6, directions=[], samples=40,
        )  # fmt: skip
        self.assertGreater(found.tried, 40)
        self.assertLess(sum(asked), 4)
        asked.clear()
        free = Gate(loads(two_variables("x + y")))  # nothing to be brought back to
        free.evaluate, before = counted, free.evaluate
        probe_around(
            free, Measures.of(free.problem), np.ones(2), sizes=np.ones(2), prices=np.zeros(0), radii=(1e-3,), feasibility=1e-6,
            least_gain=1e-6, directions=[], samples=40,
        )  # fmt: skip
        self.assertEqual(sum(asked), 0)

    def test_where_nothing_is_feasible_nearby_nothing_is_claimed(self):
        text = '[variables]\nx = { start = 0, lower = 0, upper = 0.0 }\ny = 1.0\n[minimize]\nf = "y"\n[constraints]\nc = "where(y == 1, 0, 1) <= 0"\n'
        self.assertEqual(probe(text, (0.0, 1.0)).tried, 0)

    def test_directions_given_are_tried(self):
        # A canyon so narrow that no random direction finds it.
        text = two_variables("1e9 * (y - 0.3 * x)^2 - x")
        along = np.array([1.0, 0.3])
        self.assertIsNone(probe(text, (0.0, 0.0)).better)
        self.assertIsNotNone(probe(text, (0.0, 0.0), directions=[along]).better)

    def test_gains_from_using_up_the_tolerance_are_taken_off(self):
        problem = loads(two_variables("100 * x", "x >= 1"))
        gate, measures = Gate(problem), Measures.of(problem)
        here, there = gate.evaluate(np.array([1.0, 0.0])), gate.evaluate(np.array([1.0 - 9e-7, 0.0]))
        self.assertAlmostEqual(gain_over(measures, here, there, np.zeros(1)), 9e-5)
        self.assertAlmostEqual(gain_over(measures, here, there, np.array([100.0])), 0.0, places=9)
        invalid = Gate(loads(two_variables("log(x)", "x >= 1"))).evaluate(np.array([-1.0, 0.0]))
        self.assertEqual(gain_over(measures, here, invalid, np.zeros(1)), -np.inf)


class DesignReport(unittest.TestCase):
    TEXT = """[variables]
bore = { start = 0.2, lower = 0.1, upper = 0.3 }
spare = 1.0
lifts = { start = 2, lower = 1, upper = 4, spacing = 1 }
[parameters]
top = 0.5
[derived]
twice = "2 * bore"
[minimize]
cost = "twice * lifts"
[constraints]
cap = "twice <= top"
fixed = "top <= 1"
"""

    def test_findings_before_any_run(self):
        found = design_report_at(loads(self.TEXT))
        words = " | ".join(found.findings)
        for word in ("nothing depends on: spare", '"fixed" depends on no variable'):
            self.assertIn(word, words)
        self.assertNotIn("missed", words)
        self.assertEqual((found.values["twice"], found.violation, found.is_elsewhere), (0.4, 0.0, False))

    def test_another_design_may_break_anything_and_is_told_so(self):
        found = design_report_at(loads(self.TEXT), {"bore": 0.4, "lifts": 2.5})
        words = " | ".join(found.findings)
        for word in ("missed here: cap, bore", "lifts = 2.5 is not one of its spaced values", "nearest is 2"):
            self.assertIn(word, words)
        self.assertEqual(found.notes, ("missed: upper limit", ""))
        self.assertAlmostEqual(found.violation, 1.5)  # half a step from the grid, over a whole one
        self.assertAlmostEqual(design_report_at(loads(self.TEXT), {"bore": 0.4}).violation, 0.6)
        self.assertTrue(found.is_elsewhere)

    def test_active_limits_are_named(self):
        found = design_report_at(loads(self.TEXT), {"bore": 0.25, "lifts": 1})
        self.assertIn("active here: cap, lifts", " | ".join(found.findings))

    def test_unknown_names_get_the_nearest(self):
        for at, word in (
            ({"boer": 1.0}, '"bore"'),
            ({"zzz": 1.0}, "bore, spare, lifts"),
            ({"bore": float("nan")}, "finite"),
        ):
            with self.subTest(at=at), self.assertRaises(RequestError) as caught:
                design_report_at(loads(self.TEXT), at)
            self.assertIn(word, f"{caught.exception} {caught.exception.advice}")
