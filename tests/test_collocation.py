"""The best control at every moment: optima that are known, what is told of them, and what may not be."""

import json
import math
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from ilvren import run, verify
from ilvren.dynamics.schemes import SCHEMES
from ilvren.errors import ProblemError, RequestError
from ilvren.problem import Refinement, loads
from ilvren.problem.between import limits_between
from ilvren.runs.courses_told import chattering
from ilvren.runs.receding import Receding, receded
from ilvren.runs.settings import Settings
from tests.compact import WHOLE, only_in_whole, some
from tests.test_cli import InAFolder

KNOWN = """
title = "known"
[time]
to = 4
unit = "h"
{more}
[states]
level = {{ rate = "flow", initial = 2, unit = "m" }}
[controls]
flow = {{ start = 0, form = "pointwise" }}
[minimize]
cost = {{ formula = "0.5 * integral(flow^2 + level^2)", unit = "EUR" }}
"""
HASTE = """
[variables]
T = { start = 3, lower = 0.1, upper = 20 }
[time]
to = "T"
[states]
x = { rate = "v", initial = 0 }
v = { rate = "push", initial = 0 }
[controls]
push = { start = 0, lower = -1, upper = 2, form = "pointwise" }
[minimize]
time = "T"
[constraints]
there = "last(x) == 3"
still = "last(v) == 0"
"""
# On fewer intervals than are usual, where what is told matters more than its last digits.
QUICK = HASTE.replace('to = "T"', 'to = "T"\nsteps = 10')
# Bryson and Denham's: the optimum is 4/(9 l).
EDGE = """
[time]
to = 1
[states]
x = { rate = "v", initial = 0, upper = 0.125 }
v = { rate = "a", initial = 1 }
[controls]
a = { start = 0, form = "pointwise" }
[minimize]
effort = "integral(a^2) / 2"
[constraints]
x_end = "last(x) == 0"
v_end = "last(v) == -1"
"""
TWO_WAYS = {
    "periodic": """
[time]
to = 6.283185307179586
steps = 40
[states]
x = { rate = "-x + u + cos(t)", start = 0.1 }
[controls]
u = { start = 0, lower = -2, upper = 2, form = "linear" }
[minimize]
cost = "integral((x - 1)^2 + 0.1 * u^2)"
[constraints]
around = "last(x) == first(x)"
""",
    "a vector, a linear block and moves": """
[parameters]
A = [[-1, 0.5], [0.2, -0.8]]
b = [1, 0]
c = [0, 1]
[time]
to = 3
steps = 30
[states]
x = { rate = "dot(A, x) + b * u + c * y", initial = [1, -1] }
y = { transfer = { of = "u", numerator = [1], denominator = [1, 0.6, 2] } }
[controls]
u = { start = 0, lower = -1, upper = 1, pieces = 15, before = 0 }
[minimize]
cost = "integral(sum(x^2) + 0.1 * (y - 0.2)^2) + 0.01 * sum(moves(u)^2)"
[constraints]
gentle = "-0.4 <= moves(u) <= 0.4"
""",
    "cases that evolve apart": """
[parameters]
k = 1
[time]
to = 3
steps = 30
[states]
x = { rate = "-k * x + u", initial = 1 }
[controls]
u = { start = 0, lower = -1, upper = 1, pieces = 15 }
[derived]
off = "integral((x - 0.3)^2 + 0.1 * u^2)"
[minimize]
cost = "worst(off)"
[cases.slow]
set = { k = 0.5 }
[cases.fast]
set = { k = 2 }
""",
    "a delay, a table and what is read between": """
[parameters]
ts = [0, 1, 2.5, 5]
ys = [0, 1, 0.2, 0.5]
[time]
to = 5
steps = 50
[states]
x = { rate = "-delayed(x, 1) + u + interp(t, ts, ys)", initial = 1 }
[controls]
u = { start = 0, lower = -1, upper = 1, pieces = 20 }
[minimize]
cost = "integral(x^2 + 0.5 * u^2) + at(x, 2.2)^2"
""",
}
ALGEBRA = """
[time]
to = 2
[states]
x = { rate = "-z + u", initial = 1 }
[controls]
z = { start = 1, form = "pointwise" }
u = { start = 0, lower = -1, upper = 1, pieces = 10 }
[minimize]
cost = "integral(x^2 + 0.1 * u^2)"
[constraints]
gives = "z == x / (1 + 0.2 * x)"
"""


class Optima(unittest.TestCase):
    def test_a_known_answer_by_every_scheme_with_its_costates(self):
        for scheme in some(SCHEMES):
            with self.subTest(scheme):
                result = run(loads(KNOWN.format(more=""), refinement=Refinement(scheme=scheme, tolerance=1e-5)))
                self.assertEqual(result.outcome, "converged")
                self.assertAlmostEqual(result.objective, 2.0 * math.tanh(4.0), delta=1e-4)
                told = result.courses[0]
                level = 2.0 * np.cosh(4.0 - told.times) / math.cosh(4.0)
                np.testing.assert_allclose(told.costates["level"], level * np.tanh(4.0 - told.times), atol=2e-4)
                self.assertAlmostEqual(told.end_price, 2.0 / math.cosh(4.0) ** 2, places=4)
                self.assertEqual([arc.kind for arc in told.arcs], ["free"])

    @only_in_whole
    def test_a_longer_time_is_worth_what_differences_say(self):
        # An average knows how long the time is, pieces grow with it, a bound moves.
        ways = {
            "average": ("integral(", "average("),
            "pieces": ('form = "pointwise"', "pieces = 6"),
            "bound": ("initial = 2,", 'initial = 2, lower = "0.3 + 0.1 * t",'),
        }
        for name, (old, new) in some(ways.items()):
            with self.subTest(name):
                text = (
                    KNOWN.format(more="").replace("to = 4", 'to = "T"').replace("0.5 * ", "") + "[parameters]\nT = 4\n"
                )
                problem = loads(text.replace(old, new), refinement=Refinement(scheme="radau"))
                self.assertIn(new, problem.source.text)
                found = [run(problem.with_parameters(T=T)) for T in (3.95, 4.0, 4.05)]
                slope = (found[2].objective - found[0].objective) / 0.1
                self.assertAlmostEqual(found[1].courses[0].end_price, slope, delta=2e-2 * abs(slope))

    @only_in_whole
    def test_a_free_end_and_a_switch_that_becomes_a_moment_of_the_grid(self):
        result = run(loads(HASTE))
        self.assertAlmostEqual(result.objective, math.sqrt(2.0 * 3.0 * 1.5), places=6)
        kinds = [(arc.kind, round(arc.begin, 4), round(arc.end, 4)) for arc in result.courses[0].arcs]
        self.assertEqual(kinds, [("upper", 0.0, 1.0), ("lower", 1.0, 3.0)])

    def test_a_limit_on_a_state_has_an_arc_and_a_price(self):
        result = run(loads(EDGE.replace("to = 1", "to = 1\nsteps = 16")))
        self.assertAlmostEqual(result.objective, 4.0 / (9.0 * 0.125), delta=2e-5)
        arcs = result.courses[0].arcs
        middle = next(arc for arc in arcs if arc.kind == "limit")
        self.assertEqual(middle.limit, "x's upper limit")
        self.assertAlmostEqual(middle.begin, 0.375, delta=0.05)
        # d(4/(9 l))/dl, all of it paid by the limit on x.
        block = next(item for item in result.constraints.blocks if item.name == "x")
        prices = result.constraints.prices[block.first : block.first + block.size]
        self.assertAlmostEqual(np.nansum(prices), -4.0 / (9.0 * 0.125**2), delta=0.3)
        self.assertNotIn("x@grid", result.variables)
        self.assertTrue(verify(result).holds)

    def test_a_grid_and_a_simulation_find_the_same(self):
        for name, text in some(TWO_WAYS.items()):
            with self.subTest(name):
                found = []
                for treatment in ("simulation", "collocation"):
                    result = run(loads(text.replace("[time]", f'[time]\ntreatment = "{treatment}"')), second_look=0.0)
                    self.assertEqual(result.outcome, "converged", result.reason)
                    self.assertEqual(bool(result.courses), treatment == "collocation")
                    self.assertLessEqual(result.time_error.estimate, 1e-4)
                    found.append(result.objective)
                self.assertAlmostEqual(found[0], found[1], delta=2e-5 * max(abs(found[0]), 1.0))

    def test_an_equation_gives_a_control_or_is_refused(self):
        plain = ALGEBRA.partition("[constraints]")[0].replace("-z + u", "-x / (1 + 0.2 * x) + u")
        plain = plain.replace('z = { start = 1, form = "pointwise" }\n', "")
        found = run(loads(ALGEBRA)).objective
        self.assertAlmostEqual(found, run(loads(plain)).objective, places=6)
        with self.assertRaisesRegex(ProblemError, "index above 1"):
            run(loads(ALGEBRA.replace("z == x / (1 + 0.2 * x)", "x + x^2 == 1")))

    def test_what_cannot_be_on_a_grid_says_why(self):
        sampled = KNOWN.format(more='treatment = "collocation"').replace(
            "[controls]", 'held = { every = 1, next = "held + level", initial = 0 }\n[controls]'
        )
        with self.assertRaisesRegex(ProblemError, '"held" changes at samples'):
            run(loads(sampled))
        with self.assertRaisesRegex(RequestError, "nelder-mead does not take"):
            run(loads(KNOWN.format(more=""), refinement=Refinement(scheme="radau")), method="nelder-mead")
        outside = KNOWN.format(more="").replace("initial = 2", "initial = 2, upper = 1")
        with self.assertRaisesRegex(ProblemError, "begins at 2, outside its bounds"):
            run(loads(outside, refinement=Refinement(scheme="radau")))

    def test_a_guess_that_runs_away_is_not_taken(self):
        text = KNOWN.format(more="").replace('rate = "flow"', 'rate = "9 * level + flow"')
        result = run(loads(text))
        self.assertEqual(result.outcome, "converged")
        p = 9.0 + math.sqrt(82.0)  # of Riccati's equation, long before the end
        self.assertAlmostEqual(result.objective, 0.5 * 4.0 * p, delta=2e-3)
        verdict = verify(result)
        self.assertTrue(verdict.holds)
        self.assertTrue(any(check.name == "time" and "feedback" in check.detail for check in verdict.checks))

    @only_in_whole
    def test_a_coarse_grid_does_not_hold(self):
        text = HASTE.replace('to = "T"', 'to = "T"\nsteps = 4').replace('rate = "v"', 'rate = "v - 0.3 * sin(4 * x)"')
        problem = loads(text, refinement=Refinement(scheme="trapezoid", tolerance=1e-3))
        whole = run(problem)
        self.assertGreater(len(whole.stages), 0)
        self.assertTrue(verify(whole).holds)
        crude = run(problem, evaluations=whole.stages[0].evaluations)  # stopped on its first grid
        verdict = verify(crude)
        self.assertFalse(verdict.holds)
        self.assertEqual({check.name: check.result for check in verdict.checks}.get("time", "fail"), "fail")

    def test_an_integral_that_a_coarse_grid_misses_does_not_hold(self):
        bump = "integral(flow^2 + level^2 + exp(-60 * (t - 1.3)^2))"
        text = KNOWN.format(more="steps = 10").replace("0.5 * integral(flow^2 + level^2)", bump)
        result = run(loads(text, refinement=Refinement(scheme="radau", tolerance=0.1)))  # its first grid will do
        checks = {check.name: check for check in verify(result).checks}
        self.assertRegex(checks["time"].detail, "added up: [0-9.]+e-0[4-9] .*; integrals to [0-9.]+e-0[23] of theirs")
        strict = replace(result.whole, refinement=replace(result.whole.refinement, tolerance=1e-3))
        checks = {check.name: check for check in verify(replace(result, whole=strict)).checks}
        self.assertEqual(checks["time"].result, "fail")
        self.assertIn("integrated comes to something else", checks["time"].detail)

    def test_a_limit_with_the_control_in_it_is_kept_between_the_points(self):
        text = """
        [time]
        to = 2
        steps = 6
        [states]
        x = { rate = "u - 0.2 * x + sin(3 * t)", initial = 0 }
        [controls]
        u = { start = 0, lower = -2, upper = 2, form = "pointwise" }
        [minimize]
        cost = "integral((x - 2)^2 + 0.01 * u^2)"
        [constraints]
        both = "x + u <= 1.8"
        """
        coarse = run(loads(text, refinement=Refinement(scheme="radau", tolerance=0.1)))  # its first grid will do
        strict = replace(coarse.whole, refinement=replace(coarse.whole.refinement, tolerance=1e-4))
        verdict = verify(replace(coarse, whole=strict))
        self.assertFalse(verdict.holds)
        self.assertEqual({check.name: check.result for check in verdict.checks}["moments"], "fail")
        fine = run(loads(text))
        self.assertGreater(len(fine.stages), 1)
        self.assertLess(
            max(
                item.miss.max()
                for item in limits_between(fine.whole, np.array(fine.full_point))
                if item.kind == "limit"
            ),
            1e-4,
        )

    def test_a_signal_that_measures_the_whole_time_is_beside_what_evolves(self):
        beside = ALGEBRA.replace("[minimize]", '[signals]\nspent = "integral(u^2) + 0 * x"\n[minimize]')
        plain, own = run(loads(ALGEBRA)), run(loads(beside))
        self.assertEqual(own.outcome, plain.outcome)
        self.assertAlmostEqual(own.objective, plain.objective, places=7)
        self.assertEqual(own.courses[0].times.tolist(), plain.courses[0].times.tolist())


class Remarks(unittest.TestCase):
    def test_chatter_is_found_and_steps_are_not(self):
        t = np.linspace(0.0, 10.0, 101)
        smooth = np.where(t < 3.0, 1.0, np.sin(t))
        self.assertIsNone(chattering(t, smooth))
        rung = smooth + np.where((t > 4.0) & (t < 7.0), 0.3 * (-1.0) ** np.arange(101), 0.0)
        begin, end = chattering(t, rung)
        self.assertTrue(3.8 <= begin < 4.3)
        self.assertTrue(6.7 < end <= 7.2)

    def test_an_end_that_runs_to_its_bound_is_told(self):
        text = HASTE.replace('there = "last(x) == 3"\nstill = "last(v) == 0"', 'slow = "last(v) <= 9"')
        result = run(loads(text))
        self.assertIn("lower bound", " ".join(result.courses[0].remarks))


class ClosedLoops(unittest.TestCase):
    @only_in_whole
    def test_a_window_that_sees_far_does_what_the_whole_would(self):
        problem = loads(KNOWN.format(more="steps = 20"))
        loop = receded(problem, Receding(6.0, 0.5, 4.0), Settings(method="interior-point"))
        self.assertEqual(loop.failed, 0)
        self.assertEqual(len(loop.steps), 8)
        # With a horizon of 6 h ahead at every moment the feedback is all but tanh(6) · level.
        np.testing.assert_allclose(loop.states["level"], 2.0 * np.exp(-loop.times), rtol=0.02, atol=0.01)
        self.assertLess(max(step.iterations for step in loop.steps[1:]), 6)

    def test_what_came_of_it_is_the_integral_along_the_plant_or_not_told(self):
        text = KNOWN.format(more="steps = 20")
        settings, asked = Settings(method="interior-point"), Receding(4.0, 0.5, 3.0)
        loop = receded(loads(text), asked, settings)
        flow, level = loop.controls["flow"], loop.states["level"]
        by_hand = 0.5 * np.trapezoid(flow**2 + level**2, loop.times)
        self.assertAlmostEqual(loop.objective, by_hand, delta=0.02 * by_hand)
        for other in ("sqrt(integral(flow^2 + level^2))", "average(flow^2 + level^2)", "last(level)^2"):
            loop = receded(
                loads(text.replace("0.5 * integral(flow^2 + level^2)", other)), Receding(4.0, 0.5, 0.5), settings
            )
            self.assertIsNone(loop.objective, other)

    @only_in_whole
    def test_another_plant_and_noise_are_followed(self):
        text = KNOWN.format(more="steps = 20").replace('rate = "flow"', 'rate = "flow + drift"')
        problem = loads(text.replace("[time]", "[parameters]\ndrift = 0\n[time]"))
        loop, again = (
            receded(
                problem,
                Receding(4.0, 0.5, until, {"drift": 0.3}, {"level": 0.01}),
                Settings(method="interior-point", seed=3),
            )
            for until in (6.0, 1.0)
        )
        level = again.states["level"]
        np.testing.assert_array_equal(loop.states["level"][: len(level)], level)
        self.assertAlmostEqual(loop.states["level"][-1], 0.3, delta=0.1)  # where flow = −level makes up for the drift
        with self.assertRaisesRegex(RequestError, "no parameter"):
            receded(problem, Receding(4.0, 0.5, 8.0, {"drif": 0.3}), Settings(method="interior-point"))
        with self.assertRaisesRegex(RequestError, "cannot advance"):
            receded(problem, Receding(1.0, 2.0, 8.0), Settings(method="interior-point"))


class Program(InAFolder):
    def test_run_verify_simulate_and_resume(self):
        Path("haste.toml").write_text(QUICK)
        document = json.loads(self.call("run", "haste.toml", "--json")[0])
        self.assertAlmostEqual(document["objectives"]["time"], 3.0, places=6)
        self.assertEqual(set(document["variables"]), {"T", "push"})
        self.assertEqual([arc["kind"] for arc in document["courses"][0]["arcs"]], ["upper", "lower"])
        self.assertLess(document["time_error"]["estimate"], 1e-4)
        checks = json.loads(self.call("verify", "r1", "--json")[0])["checks"]
        self.assertEqual({check["name"]: check["result"] for check in checks}["time"], "pass")
        signals = json.loads(self.call("simulate", "r1", "--json")[0])["signals"]
        self.assertAlmostEqual(signals["x"][-1], 3.0, places=6)
        self.call("run", "haste.toml", "--evaluations", "6", status=1)
        again = json.loads(self.call("resume", "r2", "--evaluations", "500", "--json")[0])
        self.assertEqual(again["variables"], document["variables"])
        self.assertEqual(again["counts"]["iterations"], document["counts"]["iterations"])
        _, err = self.call("run", "haste.toml", "--scheme", "gauss-legendr", status=2)
        self.assertIn("gauss-legendre", err)

    @only_in_whole
    def test_searches_around_a_design_stay_on_its_grid(self):
        Path("haste.toml").write_text(QUICK.replace("steps = 10", "steps = 5"))
        self.call("run", "haste.toml", "--quiet")
        asked = (*(("--worth", "--random-starts", "1") if WHOLE else ()), "--makeable", "T=0.5", "--json")
        verdict = json.loads(self.call("verify", "r1", *asked)[0])
        self.assertEqual(verdict["makeable"]["variables"]["T"], 3.0)
        self.assertAlmostEqual(verdict["makeable"]["objective"], 3.0, places=6)
        self.call("apply", "r1", "--starts", "--quiet")
        self.assertAlmostEqual(loads(Path("haste.toml").read_text()).blocks[0].start[0], 3.0, places=6)

    def test_what_cannot_be_reached_is_diagnosed_by_its_own_names(self):
        Path("haste.toml").write_text(
            '[variables]\nT = { start = 0.8, upper = 1 }\n[time]\nto = "T"\nsteps = 3\n[states]\n'
            'x = { rate = "push", initial = 0 }\n[controls]\n'
            'push = { start = 0, lower = -1, upper = 2, form = "pointwise" }\n[minimize]\ntime = "T"\n'
            '[constraints]\nthere = "last(x) == 3"\n'
        )
        self.call("run", "haste.toml", "--evaluations", "60", "--quiet", status=1)
        told = json.loads(self.call("diagnose", "r1", "--json", status=1)[0])
        conflict = next(item for item in told["symptoms"] if item["kind"] == "conflict")
        self.assertTrue(conflict["minimal"])
        self.assertRegex(conflict["text"], "the bounds of T, the bounds of push cannot hold together")

    @only_in_whole
    def test_a_contest_of_schemes_and_steps(self):
        Path("haste.toml").write_text(QUICK)
        ways = ("scheme=trapezoid", "scheme=gauss-legendre,steps=6", "scheme=simulation,steps=12")
        words = [word for way in ways for word in ("--method", f"interior-point:{way}")]
        told = json.loads(self.call("contest", "haste.toml", *words, "--workers", "1", "--json")[0])
        self.assertEqual([(method["runs"], method["solved"]) for method in told["methods"]], [(1, 1), (1, 1), (1, 0)])
        notes = self.call("compare", "r1", "r2", "r3")[0]
        self.assertRegex(notes, "r1: trapezoid, [0-9]+ intervals; r2: gauss-legendre, [0-9]+ intervals; r3: simulated")
        self.assertIn("push at 43.75 %", notes)
        _, err = self.call("contest", "haste.toml", "--method", "nelder-mead:scheme=radau", status=2)
        self.assertIn("nelder-mead does not take the many equations", err)

    def test_a_closed_loop_is_written(self):
        Path("known.toml").write_text(KNOWN.format(more=""))
        words = ("run", "known.toml", "--receding", "window=2, advance=0.5, until=3", "--output", "loop.csv", "--json")
        self.assertEqual(len(json.loads(self.call(*words)[0])["steps"]), 6)
        self.assertTrue(Path("loop.csv").read_text().startswith("t,level,flow"))
        _, err = self.call("run", "known.toml", "--receding", "window=2, advanced=0.5, until=3", status=2)
        self.assertIn('"advanced=0.5" is none of', err)


if __name__ == "__main__":
    unittest.main()
