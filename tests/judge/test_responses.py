"""Designs over time, told: where what is measured happens, and the limits on signals as curves, against closed forms."""

import json
import math
import unittest

import numpy as np

from ilvren import loads
from ilvren.errors import RequestError
from ilvren.judge.standing.responses import limit_curves, response_at, signal_names, tightest
from tests.compact import only_in_whole

# A swing with damping d and frequency 1 that settles at k: y = k (1 − e^(−d t)(cos(w t) + d/w sin(w t))), w² = 1 − d².
TEXT = """
[variables]
k = {{ start = 2.0, lower = 0.5, upper = 4.0 }}
d = {{ start = 0.3, lower = 0.1, upper = 0.9 }}
[time]
to = 20
steps = 200
[states]
y = {{ rate = "v", initial = 0.0 }}
v = {{ rate = "k - y - 2 * d * v", initial = 0.0 }}
[signals]
up = "2 * y"
[derived]
rise = "rise_time(y, 0.1 * k, 0.9 * k)"
calm = "settling_time(y, k, 0.05 * k)"
beyond = "overshoot(y, k)"
lowest_speed = "lowest(v)"
[minimize]
f = "d^2 + integral((y - k)^2)"
[constraints]
{limits}
"""
LIMITS = {
    "top": "y <= 3",
    "peak": "highest(up) <= 6.5",
    "slow": "v >= -1",
    "over": "overshoot(y, k) <= 0.4",
    "settled": "settling_time(y, k, 0.1) <= 9",
    "band": "-0.5 <= y <= 2.9",
    "late": "at(y, 20) <= 2.1",
    "both": "y + v <= 9",
}


def problem_with(*names):
    return loads(TEXT.format(limits="\n".join(f'{name} = "{LIMITS[name]}"' for name in names)))


def course(t, k=2.0, d=0.3):
    w = math.sqrt(1.0 - d * d)
    return k * (1.0 - np.exp(-d * t) * (np.cos(w * t) + d / w * np.sin(w * t)))


def speed(t, k=2.0, d=0.3):
    w = math.sqrt(1.0 - d * d)
    return k * np.exp(-d * t) * np.sin(w * t) / w


FINE = np.linspace(0.0, 20.0, 400_001)


class Marks(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.problem = problem_with("top", "late")
        cls.response = response_at(cls.problem, cls.problem.start, "r1")
        cls.marks = {mark.entry: mark for mark in cls.response.marks}

    def test_signals_are_the_course(self):
        own = self.response.signals
        np.testing.assert_allclose(own["y"], course(own["t"]), atol=1e-5)
        np.testing.assert_allclose(own["up"], 2.0 * own["y"], atol=1e-12)
        self.assertEqual(self.response.trouble, "")
        self.assertTrue(self.response.report.is_met)
        over = course(FINE).max() - 3.0  # of a limit of size 3
        self.assertAlmostEqual(self.response.violation, max(over, 0.0) / 3.0, delta=1e-3)

    def test_what_is_measured_happens_where_it_is_told(self):
        y = course(FINE)
        begin, end = (FINE[np.argmax(y >= level * 2.0)] for level in (0.1, 0.9))
        rise = self.marks["rise"]
        np.testing.assert_allclose(rise.times, (begin, end), atol=2e-3)
        self.assertAlmostEqual(rise.value, end - begin, delta=1e-3)
        away = FINE[np.flatnonzero(np.abs(y - 2.0) > 0.1)[-1]]
        calm = self.marks["calm"]
        self.assertAlmostEqual(calm.value, away, delta=2e-3)
        self.assertEqual(calm.times, (calm.value,))
        beyond = self.marks["beyond"]
        self.assertAlmostEqual(beyond.value, y.max() / 2.0 - 1.0, places=4)
        self.assertAlmostEqual(beyond.times[0], math.pi / math.sqrt(1.0 - 0.09), delta=2e-3)
        lowest = self.marks["lowest_speed"]
        self.assertAlmostEqual(lowest.value, speed(FINE).min(), places=4)
        self.assertAlmostEqual(lowest.times[0], FINE[np.argmin(speed(FINE))], delta=2e-3)

    @only_in_whole
    def test_where_nothing_happens_no_time_is_told(self):
        still = response_at(self.problem, [2.0, 0.9], "r2")  # a rise and a calm, but hardly beyond
        marks = {mark.entry: mark for mark in still.marks}
        self.assertAlmostEqual(marks["beyond"].value, course(FINE, d=0.9).max() / 2.0 - 1.0, places=4)
        never = response_at(loads(TEXT.format(limits="").replace("to = 20", "to = 1").replace("[constraints]", "")),
                            [2.0, 0.3], "r3")  # fmt: skip
        marks = {mark.entry: mark for mark in never.marks}
        self.assertEqual((marks["rise"].times, marks["calm"].times, marks["beyond"].times), ((), (), ()))
        self.assertGreater(marks["rise"].value, 1.0)  # not reached: longer than there is time

    def test_the_document_is_plain(self):
        told = json.loads(json.dumps(self.response.to_dict()))
        self.assertEqual(told["variables"], {"k": 2.0, "d": 0.3})
        self.assertEqual({item["entry"] for item in told["measures"]}, {"rise", "calm", "beyond", "lowest_speed"})
        self.assertAlmostEqual(told["values"]["beyond"], self.marks["beyond"].value)
        self.assertEqual(len(told["signals"]["y"]), len(told["signals"]["t"]))
        self.assertIsNone(told["trouble"])


class Limits(unittest.TestCase):
    def curves(self, *names):
        problem = problem_with(*names)
        response = response_at(problem, problem.start, "r1")
        return response, {(curve.entry, curve.is_upper): curve for curve in limit_curves(response)}

    def test_limits_on_signals_are_curves_and_those_on_formulas_are_not(self):
        _, found = self.curves("top", "slow", "band", "both", "late")
        levels = {key: set(np.unique(curve.values).tolist()) for key, curve in found.items()}
        self.assertEqual(
            levels, {("top", True): {3.0}, ("slow", False): {-1.0}, ("band", False): {-0.5}, ("band", True): {2.9}}
        )

    def test_limits_on_measures_are_curves_of_the_signal_they_measure(self):
        _, found = self.curves("peak", "over", "settled")
        self.assertEqual((found["peak", True].signal, found["over", True].signal), ("up", "y"))
        np.testing.assert_allclose(found["peak", True].values, 6.5)
        np.testing.assert_allclose(found["over", True].values, 2.0 * 1.4)  # the target and 0.4 of the way there
        upper, lower = found["settled", True], found["settled", False]
        for curve, level in ((upper, 2.1), (lower, 1.9)):
            at = curve.times >= 9.0 - 1e-9
            np.testing.assert_allclose(curve.values[at], level)
            self.assertFalse(np.isfinite(curve.values[curve.times < 9.0 - 1e-9]).any())

    def test_the_tightest_moment_of_each(self):
        response, found = self.curves("top", "slow", "over", "settled")
        peak, trough = math.pi / math.sqrt(0.91), FINE[np.argmin(speed(FINE))]
        time, value, room = tightest(found["top", True], response)
        self.assertAlmostEqual(time, peak, delta=0.1)
        self.assertAlmostEqual(room, 3.0 - course(FINE).max(), delta=1e-2)
        self.assertAlmostEqual(value + room, 3.0)
        time, value, room = tightest(found["slow", False], response)
        self.assertAlmostEqual(time, trough, delta=0.1)
        self.assertAlmostEqual(room, speed(FINE).min() + 1.0, delta=1e-2)
        after = FINE >= 9.0
        rooms = [tightest(found["settled", side], response)[2] for side in (True, False)]
        self.assertAlmostEqual(min(rooms), (0.1 - np.abs(course(FINE) - 2.0)[after]).min(), delta=5e-3)


class Names(unittest.TestCase):
    def test_what_may_be_asked_for(self):
        problem = problem_with("top")
        self.assertEqual(signal_names(problem, None), ["y", "v", "up"])
        self.assertEqual(signal_names(problem, " up, y"), ["up", "y"])
        for given, advice in (("yy", 'did you mean "y"?'), ("what_is_this", "what changes over time: y, v, up")):
            with self.assertRaises(RequestError) as caught:
                signal_names(problem, given)
            self.assertEqual(caught.exception.advice, advice)
        self.assertRaises(RequestError, signal_names, problem, " , ")
        still = loads("[variables]\nx = 1.0\n[minimize]\nf = 'x^2'\n")
        self.assertRaises(RequestError, response_at, still, [1.0], "r1")


if __name__ == "__main__":
    unittest.main()
