"""Answers that are known: of equations, measures, delays, samples and events; and what happens where there is none."""

import math
import unittest

import numpy as np

from ilvren.evaluate import Gate
from ilvren.problem import loads
from ilvren.runs import run
from ilvren.runs.refining import time_report
from tests.compact import only_in_whole
from tests.dynamics.kinds import text


def values(source: str, **files: str) -> dict:
    problem = loads(source, files=files)
    return Gate(problem).written.values(np.array(problem.start))


class KnownAnswers(unittest.TestCase):
    def test_decay_and_its_functions(self):
        found = values(text("""
[variables]
k = { start = 0.7, lower = 0.1, upper = 5 }
[states]
x = { rate = "-k * x", initial = 2 }
[derived]
end = "last(x)"
begin = "first(x)"
there = "at(x, 1.234)"
total = "integral(x)"
mean_ = "average(x)"
top = "highest(x)"
low = "lowest(x)"
half = "rise_time(x, 2, 1)"
[minimize]
cost = "end"
"""))  # fmt: skip
        end = 2 * math.exp(-2.1)
        wanted = {
            "end": end, "begin": 2.0, "there": 2 * math.exp(-0.7 * 1.234), "total": (2 - end) / 0.7,
            "mean_": (2 - end) / 2.1, "top": 2.0, "low": end, "half": math.log(2) / 0.7,
        }  # fmt: skip
        for name, value in wanted.items():
            with self.subTest(name=name):
                self.assertAlmostEqual(found[name], value, delta=1e-5)

    def test_answer_of_a_second_order_system(self):
        # Damping 0.3, natural frequency 2: overshoot exp(−πζ/√(1−ζ²)), its peak at π / (ω√(1−ζ²)).
        found = values(text("""
[variables]
z = { start = 0.3, lower = 0.1, upper = 0.9 }
[states]
y = { transfer = { of = "1", numerator = [4], denominator = [1, "4 * z", 4] } }
[derived]
over = "overshoot(y, 1)"
quick = "rise_time(y, 0, 1)"
settled = "settling_time(y, 1, 0.02)"
never = "settling_time(y, 0.2, 0.01)"
short = "rise_time(y, 0.5, 9)"
[minimize]
cost = "over"
""", to=8, steps=200))  # fmt: skip
        root = math.sqrt(1 - 0.09)
        self.assertAlmostEqual(found["over"], math.exp(-math.pi * 0.3 / root), delta=1e-4)
        self.assertAlmostEqual(found["quick"], (math.pi - math.acos(0.3)) / (2 * root), delta=1e-4)
        t = np.linspace(0, 8, 800_001)
        y = 1 - np.exp(-0.6 * t) * (np.cos(2 * root * t) + 0.3 / root * np.sin(2 * root * t))
        outside = t[np.abs(y - 1) > 0.02][-1]
        self.assertAlmostEqual(found["settled"], outside, delta=2e-4)
        self.assertAlmostEqual(found["never"], 8 * (1 + (abs(y[-1] - 0.2) - 0.01) / 0.01), delta=1e-2)
        self.assertAlmostEqual(found["short"], 8 * (1 + (9 - y.max()) / 8.5), delta=1e-3)

    def test_extremes_of_what_turns_jumps_and_is_a_vector(self):
        found = values(text("""
[variables]
k = { start = [1.0, 4.0], shape = 2, lower = 0.1, upper = 5 }
[controls]
u = { start = [0, 0.5, -1], lower = -1, upper = 1, pieces = 3 }
[states]
x = { shape = 2, rate = "v", initial = [1, 1] }
v = { shape = 2, rate = "-k * x", initial = [0, 0] }
ramp = { rate = 1, initial = 0 }
[derived]
swing = "highest(abs(v))"
low = "lowest(v)"
top = "highest(max(x[0], 2 - 2 * ramp))"
before = "highest(ramp + u)"
[minimize]
cost = "sum(swing)"
"""))  # fmt: skip
        np.testing.assert_allclose(found["swing"], [1, 2], atol=1e-4)
        np.testing.assert_allclose(found["low"], [-1, -2], atol=1e-4)
        self.assertAlmostEqual(found["top"], 2.0, delta=1e-9)
        self.assertAlmostEqual(found["before"], 2.5, delta=1e-9)  # where the jump down comes

    @only_in_whole
    def test_the_least_peak_is_found_where_many_moments_share_it(self):
        found = run(loads(text("""
[controls]
u = { start = 0.1, lower = -2, upper = 2, pieces = 6 }
[states]
x = { rate = "u - 0.5 * x", initial = 0 }
[minimize]
peak = "highest(abs(u))"
[constraints]
there = "last(x) == 1"
""")))  # fmt: skip
        self.assertEqual(found.outcome, "converged")
        self.assertAlmostEqual(found.objective, 0.5 / (1 - math.exp(-1.5)), delta=1e-5)

    @only_in_whole
    def test_a_start_that_runs_away_is_left_for_another(self):
        found = run(loads(text("""
[variables]
k = { start = 0.1, lower = 0, upper = 40 }
d = { start = 0.1, lower = 0, upper = 40 }
[states]
x = { rate = "v", initial = 1 }
v = { rate = "(9 - k) * x + (2 - d) * v", initial = 0 }
[minimize]
cost = "integral(x^2) + 0.001 * (k^2 + d^2)"
[constraints]
cap = "-0.4 <= x <= 1.1"
""", to=12)), second_look=0.0)  # fmt: skip
        self.assertEqual(found.outcome, "converged")
        self.assertLess(found.objective, 0.6523)
        self.assertLess(found.counts["evaluations"], 200)

    def test_blocks_that_feed_back_are_the_states_they_stand_for(self):
        head = "[variables]\ngain = { start = 1.7, lower = 0.1, upper = 5 }\n[states]\n"
        tail = '[signals]\nu = "gain * (1 - delayed(y, 0.3)) - 0.4 * y"\n[minimize]\ncost = "last(y) + integral(u^2)"\n'
        block = 'y = { transfer = { of = "0.8 * z", numerator = [2], denominator = [1, 0.5, 1] } }\n'
        other = 'z = { transfer = { of = "u", numerator = [1], denominator = [0.2, 1] } }\n'
        states = (
            'p = { rate = "1.6 * z - 0.5 * p - y", initial = 0 }\ny = { rate = "p", initial = 0 }\n'
            'z = { rate = "(u - z) / 0.2", initial = 0 }\n'
        )
        one, two = (values(text(head + body + tail))["cost"] for body in (block + other, states))
        self.assertAlmostEqual(one, two, delta=1e-4 * abs(two))
        through = block.replace("[2]", "[1, 0, 2]").replace("0.8 * z", "u")
        with self.assertRaisesRegex(Exception, "feeds itself|needs itself"):
            loads(text(head + through + tail))

    def test_lags_a_thousand_apart_in_one_block(self):
        found = values(text("""
[variables]
k = { start = 1.0, lower = 0.1, upper = 2 }
[states]
y = { transfer = { of = "k", numerator = [1], denominator = [1e-6, 1.111e-3, 0.11211, 1.1111, 1] } }
[minimize]
cost = "at(y, 2)"
"""))  # fmt: skip
        roots = np.roots([1e-6, 1.111e-3, 0.11211, 1.1111, 1])
        # y = 1 + Σ exp(p t) / (p a'(p)), a the denominator
        slope = np.polyval(np.polyder([1e-6, 1.111e-3, 0.11211, 1.1111, 1]), roots)
        exact = float(np.real(1 + (np.exp(2 * roots) / (roots * slope)).sum()))
        self.assertAlmostEqual(found["cost"], exact, delta=1e-4)

    @only_in_whole
    def test_a_loop_around_lags_of_four_decades(self):
        made = """
[time]
to = 8
[parameters]
k = 6
[states]
y = { transfer = { of = "u", numerator = [1], denominator = [1e-6, 1.111e-3, 0.11211, 1.111, 1] } }
s = { rate = "1 - y", initial = 0 }
[signals]
u = "k * (1 - y) + 3 * s"
[variables]
a = { start = 1, lower = 0, upper = 2 }
[minimize]
f = "a^2 + last(y)"
"""
        # The closed loop's response from its poles.
        open_loop = np.array([1e-6, 1.111e-3, 0.11211, 1.111, 1.0, 0.0])
        above = np.array([6.0, 3.0])
        closed = np.polyadd(open_loop, above)
        poles = np.roots(closed)
        parts = np.polyval(above, poles) / (poles * np.polyval(np.polyder(closed), poles))
        exact = 1.0 + float((parts * np.exp(8.0 * poles)).sum().real)
        self.assertAlmostEqual(Gate(loads(made)).written.values([0.0])["f"], exact, delta=1e-5)

    def test_delay_by_steps(self):
        # x' = −x(t − 1), x = 1 before: 1 − t, then + (t − 1)²/2, then − (t − 2)³/6.
        found = values(text("""
[variables]
lag = { start = 1, lower = 0.5, upper = 2 }
[states]
x = { rate = "-delayed(x, lag)", initial = 1 }
[derived]
there = "at(x, 2.5)"
[minimize]
cost = "last(x)"
"""))  # fmt: skip
        self.assertAlmostEqual(found["there"], 1 - 2.5 + 1.5**2 / 2 - 0.5**3 / 6, delta=1e-6)

    def test_samples_and_what_is_held_between_them(self):
        found = values(text("""
[variables]
g = { start = 0.5, lower = 0.1, upper = 1 }
[states]
count = { every = 1, next = "count + g", initial = 0 }
x = { rate = "count", initial = 0 }
[derived]
first_held = "first(count)"
held = "at(count, 1.5)"
[minimize]
cost = "last(x)"
"""))  # fmt: skip
        self.assertEqual((found["first_held"], found["held"]), (0.5, 1.0))
        self.assertAlmostEqual(found["cost"], 0.5 + 1.0 + 1.5, delta=1e-12)

    def test_knots_of_tables_and_pieces_are_met_exactly(self):
        found = values(
            text("""
[tables.need]
file = "need.csv"
[variables]
k = { start = 1, lower = 0, upper = 2 }
[controls]
u = { start = [1, 0, 2], lower = 0, upper = 3, pieces = 3 }
[states]
x = { rate = "k * interp(t, need.hour, need.flow) + u", initial = 0 }
[minimize]
cost = "last(x)"
""", steps=2),
            **{"need.csv": "hour,flow\n0,0\n0.7,2\n1.9,0\n3,0\n"},
        )  # fmt: skip
        self.assertAlmostEqual(found["cost"], 0.7 + 1.2 + 3.0, delta=1e-10)

    def test_switches_are_found_where_they_are(self):
        # x' = 1 below 1, then 0.25: reached at t = 1, so x(3) = 1.5 to rounding whatever the steps.
        found = values(text("""
[variables]
h = { start = 1, lower = 0.5, upper = 2 }
[states]
x = { rate = "where(x < h, 1, 0.25)", initial = 0 }
[minimize]
cost = "last(x)"
""", steps=7))  # fmt: skip
        self.assertAlmostEqual(found["cost"], 1.5, delta=1e-12)

    def test_a_measure_as_a_limit_is_searched_at_every_moment_and_told_as_itself(self):
        problem = loads(text("""
[variables]
k = { start = 2, lower = 0.5, upper = 20 }
[states]
x = { rate = "k * (1 - x)", initial = 0 }
[minimize]
cost = "k"
[constraints]
soon = "settling_time(x, 1, 0.05) <= 1.5"
"""))  # fmt: skip
        result = run(problem, second_look=0.0)
        self.assertEqual(result.outcome, "converged")
        self.assertAlmostEqual(result.variables["k"], math.log(20) / 1.5, delta=1e-5)
        self.assertAlmostEqual(float(result.derived["soon"]), 1.5, delta=1e-5)
        self.assertEqual(problem.rows[0].name, "soon@1.5")
        self.assertIsNotNone(result.time_error)
        self.assertLessEqual(result.time_error.estimate, result.time_error.limit)

    def test_limits_hold_between_the_moments_of_a_coarse_grid(self):
        problem = loads(text("""
[variables]
a = { start = 0.5, lower = 0, upper = 5 }
[states]
x = { rate = "a * cos(3 * t)", initial = 0 }
[maximize]
gain = "a"
[constraints]
cap = "x <= 1"
""", steps=4))  # fmt: skip
        result = run(problem)
        self.assertEqual(result.outcome, "converged")
        self.assertGreater(len(result.stages), 0)  # moments were added
        self.assertAlmostEqual(result.variables["a"], 3.0, delta=3e-4)

    def test_steps_grow_finer_for_a_design_that_needs_it(self):
        problem = loads(text("""
[variables]
w = { start = 1, lower = 0.5, upper = 60 }
[states]
x = { rate = "v", initial = 1 }
v = { rate = "-w^2 * x", initial = 0 }
[minimize]
cost = "last(x)"
"""))  # fmt: skip
        gate = Gate(problem)
        for w in (1.0, 7.0, 31.0):
            self.assertAlmostEqual(gate.written.values([w])["cost"], math.cos(3 * w), delta=1e-3)

    def test_roots_of_what_passes_zero(self):
        for rate, whole in (("sqrt(abs(x))", 1.0), ("where(x > 0, 1, -1) * sqrt(abs(x))", -1.0)):
            problem = loads(text(f"""
[variables]
a = {{ start = 1, lower = 0.5, upper = 3 }}
[states]
x = {{ rate = "-a", initial = 1.3 }}
y = {{ rate = "{rate}", initial = 0 }}
[minimize]
cost = "last(y)"
"""))  # fmt: skip
            gate = Gate(problem)
            for a in (0.9, 1.37):
                exact = (1.3**1.5 + whole * (3 * a - 1.3) ** 1.5) / (1.5 * a)
                self.assertAlmostEqual(gate.written.values([a])["cost"], exact, delta=2e-4)

    def test_a_jump_where_a_root_passes_zero_is_never_left_out_of_a_derivative(self):
        problem = loads(text("""
[variables]
a = { start = 1, lower = 0.5, upper = 3 }
[states]
x = { rate = "-a", initial = 1.3 }
y = { rate = "where(x > 0, 1, 4)", initial = 0 }
z = { rate = "sqrt(abs(x))", initial = 0 }
[minimize]
cost = "last(y) + last(z)"
"""))  # fmt: skip
        gate = Gate(problem)
        for a in (0.9, 1.37):
            exact = 12 - 3.9 / a + (1.3**1.5 + (3 * a - 1.3) ** 1.5) / (1.5 * a)
            self.assertAlmostEqual(gate.written.values([a])["cost"], exact, delta=4e-4)
            slope = 3.9 / a**2 + (3 * a - 1.3) ** 0.5 * 3 / a - (1.3**1.5 + (3 * a - 1.3) ** 1.5) / (1.5 * a**2)
            told = float(gate.written.gradient([a])[0])
            self.assertTrue(math.isnan(told) or abs(told - slope) < 1e-2, (told, slope))

    @only_in_whole
    def test_the_error_told_is_that_of_states_as_large_as_at_the_design(self):
        made = """
[time]
to = 2
[variables]
a = { start = 8, lower = -100, upper = 10 }
[states]
x = { rate = "a * x", initial = 1 }
[minimize]
f = "(100 * integral(x^2) - 1)^2"
"""
        problem = loads(made.replace('"(100 * integral(x^2) - 1)^2"', '"integral(x^2)"'))
        gate = Gate(problem)
        gate.written.values([8.0])  # where the integral is a million million times larger
        for a in (-20.0, -40.0, -90.0):
            exact = math.expm1(4.0 * a) / (2.0 * a)
            true = abs(gate.written.values([a])["f"] / exact - 1.0)
            report = time_report(problem, np.array([a]), gate.calls)
            self.assertLess(max(report.estimate / true, true / report.estimate), 5.0)
        result = run(loads(made))
        self.assertEqual((result.outcome, result.time_error.is_met), ("converged", True))
        self.assertAlmostEqual(result.variables["a"], -50.0, delta=1e-3)


class NoAnswer(unittest.TestCase):
    def test_what_runs_away_is_invalid_and_says_when(self):
        problem = loads(text("""
[variables]
k = { start = 1.0, lower = 0.1, upper = 5 }
[states]
x = { rate = "k * x^2", initial = 1 }
[minimize]
cost = "last(x)"
"""))  # fmt: skip
        value, trouble = problem.named_values(problem.start)["cost"]
        self.assertTrue(math.isnan(value))
        self.assertRegex(trouble.reason, r'"x" grows without bound at t = [01]\.')
        self.assertAlmostEqual(Gate(problem).written.values([0.2])["cost"], 1 / (1 - 0.6), delta=1e-4)

    def test_rates_without_a_value(self):
        problem = loads(text("""
[variables]
k = { start = 1.0, lower = 0.1, upper = 5 }
[states]
x = { rate = "-k * sqrt(x)", initial = 1 }
y = { rate = "log(1 - t)", initial = 0 }
[minimize]
cost = "last(y) + k"
"""))  # fmt: skip
        value, trouble = problem.named_values(problem.start)["cost"]
        self.assertTrue(math.isnan(value))
        self.assertIn("has no finite rate at t = ", trouble.reason)

    def test_a_relay_without_a_band_is_not_believed(self):
        problem = loads(text("""
[variables]
h = { start = 0.5, lower = 0.1, upper = 1 }
[states]
x = { rate = "where(x < h, 1, -1)", initial = 0 }
[minimize]
cost = "last(x)"
"""))  # fmt: skip
        value, trouble = problem.named_values(problem.start)["cost"]
        self.assertTrue(math.isnan(value))
        self.assertIn("turns on and off without end", trouble.reason)

    def test_an_end_before_the_beginning(self):
        problem = loads(text("""
[variables]
end = { start = 1.0, lower = -1, upper = 5 }
[states]
x = { rate = "-x", initial = 1 }
[minimize]
cost = "last(x)"
""", to="end"))  # fmt: skip
        gate = Gate(problem)
        self.assertTrue(math.isnan(gate.written.values([-0.5])["cost"]))
        self.assertAlmostEqual(gate.written.values([2.0])["cost"], math.exp(-2), delta=1e-6)
