"""The demos' models and the functions that searches are measured with: is what they say so?"""

import importlib.util
import math
import shutil
import tempfile
import unittest
from importlib import resources
from pathlib import Path

import numpy as np

from ilvren import load, loads, run
from ilvren.evaluate import Gate
from ilvren.methods import dividing_rectangles as rectangles
from ilvren.methods.base import Reply
from ilvren.methods.nelder_mead import _simplex_slope
from ilvren.methods.pieces.ranking import judged
from ilvren.models import Question
from tests.compact import WHOLE, only_in_whole
from tests.driving import drive, task_of
from tests.multimodal import MIXED, MULTIMODAL


def module(demo, name):
    path = resources.files("ilvren.demos").joinpath(demo, name)
    spec = importlib.util.spec_from_file_location(f"{demo}_{name[:-3]}", str(path))
    made = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(made)
    return made


def demo_file(demo, name):
    return str(resources.files("ilvren.demos").joinpath(demo, name))


class TheNetwork(unittest.TestCase):
    SIZES = np.array([125.0, 110.0, 75.0, 63.0, 75.0, 40.0])

    @classmethod
    def setUpClass(cls):
        # A copy: calls of a program leave folders beside the file.
        folder = cls.enterClassContext(tempfile.TemporaryDirectory())
        with resources.as_file(resources.files("ilvren.demos").joinpath("terrace_pipes")) as demo:
            copied = shutil.copytree(demo, Path(folder) / "demo", ignore=shutil.ignore_patterns("*.calls"))
        cls.problem = load(copied / "terrace-pipes.toml")

    def heads(self, sizes):
        outcome = self.problem.sources[0].asked(Question("values", tuple(np.array(size) for size in sizes)))
        self.assertTrue(outcome.is_done, outcome.trouble)
        return [float(value) for value in outcome.answer[:3]]

    def test_wider_pipes_leave_more_pressure_at_every_outlet(self):
        before = self.heads(self.SIZES)
        for place in (0, 1):
            wider = self.SIZES + 20.0 * (np.arange(6) == place)
            self.assertTrue(all(new >= old - 1e-9 for new, old in zip(self.heads(wider), before, strict=True)), place)

    def test_losses_of_a_branch_without_loop_follow_its_law(self):
        loss = 0.0
        for length, size, flow in ((240.0, 125.0, 0.0133), (120.0, 75.0, 0.0055)):
            loss += 10.67 * length / (135.0**1.852 * (0.9 * size / 1000.0) ** 4.871) * flow**1.852
        self.assertAlmostEqual(self.heads(self.SIZES)[0], 38.0 - loss - 6.0, places=4)

    def test_flow_beyond_the_table_is_told_in_the_listing(self):
        with self.assertRaisesRegex(AssertionError, "listing.txt:.*FLOW IN LOWER IS BEYOND THE TABLE"):
            self.heads([125.0, 110.0, 40.0, 90.0, 90.0, 63.0])

    @only_in_whole
    def test_no_cheaper_pipes_next_to_those_found_will_do(self):
        result = run(self.problem, evaluations=150 if WHOLE else 70)
        gate = Gate(self.problem)
        stock = (40.0, 50.0, 63.0, 75.0, 90.0, 110.0, 125.0, 140.0, 160.0, 200.0)
        for place, size in enumerate(result.point):
            if size == stock[0]:
                continue
            point = np.array(result.point)
            point[place] = stock[stock.index(size) - 1]
            values = gate.written.values(point)
            heads = min(values["at_lower"], values["at_near"], values["at_far"])
            self.assertFalse(heads >= 12 and values["speed"] <= 2, place)


class TheLoop(unittest.TestCase):
    def setUp(self):
        self.problem = load(demo_file("level_loop", "level-loop.toml"))
        self.gate = Gate(self.problem)

    def told(self, **at):
        point = [at.get(block.name, block.start[0]) for block in self.problem.blocks]
        return self.problem.quantities(point) | self.problem.signals(point)[0]

    @only_in_whole
    def test_the_integral_brings_the_level_to_its_target(self):
        found = self.told(gain=1.2, reset=600.0, ahead=0.0)
        self.assertAlmostEqual(found["level"][-1], 1.2, places=3)
        self.assertLess(found["rise"], found["settled"])

    @only_in_whole
    def test_more_gain_is_quicker_and_too_much_swings(self):
        rises = [float(self.told(gain=gain, reset=600.0)["rise"]) for gain in (0.5, 1.0, 2.0)]
        self.assertEqual(rises, sorted(rises, reverse=True))
        calm, wild = (float(self.told(gain=gain, reset=200.0)["travel"]) for gain in (1.0, 8.0))
        self.assertGreater(wild, 3 * calm)

    @only_in_whole
    def test_the_optimum_of_the_demo_rests_on_its_limits(self):
        result = run(self.problem)
        self.assertEqual(result.outcome, "converged")
        active = {state.name.partition("@")[0] for state in (*result.bounds, *result.constraints) if state.is_active}
        self.assertEqual(active, {"beyond", "ahead"})
        self.assertLessEqual(float(result.derived["beyond"]), 0.01 * (1 + 1e-3))


# Where the functions are least.
KNOWN = {
    "Rastrigin": lambda n: [0.0] * n,
    "Ackley": lambda n: [0.0] * n,
    "Griewank": lambda n: [0.0] * n,
    "Schwefel": lambda n: [420.968746] * n,
    "Levy": lambda n: [1.0] * n,
    "Hartmann": lambda n: [0.20169, 0.150011, 0.476874, 0.275332, 0.311652, 0.6573],
    "six humps": lambda n: [0.0898420, -0.7126564],
    "Branin": lambda n: [math.pi, 2.275],
    "Goldstein and Price": lambda n: [0.0, -1.0],
    "egg holder": lambda n: [512.0, 404.231805],
    "Shekel": lambda n: [4.000747, 3.99951, 4.00075, 3.99951],
}


class TheFunctions(unittest.TestCase):
    def test_values_at_the_published_optima_are_the_published_values(self):
        for case in MULTIMODAL:
            if case.name not in KNOWN:
                continue
            gate = Gate(case.problem())
            x = np.array(KNOWN[case.name](case.n))
            with self.subTest(case=case.name, n=case.n):
                self.assertTrue(((x >= case.lower) & (x <= case.upper)).all())
                self.assertAlmostEqual(gate.evaluate(x).objective, case.best, delta=2e-4 * max(1.0, abs(case.best)))
                self.assertGreaterEqual(gate.evaluate(x).objective, case.best - 1e-4)
                around = x + 1e-2 * np.random.default_rng(3).uniform(-1, 1, size=(50, case.n))
                inside = np.clip(around, case.lower, case.upper)
                self.assertGreaterEqual(gate.batch_values(inside)[0].min(), case.best - 2e-4 * max(1.0, abs(case.best)))

    def test_best_known_mixed_designs_have_their_values(self):
        known = {
            "pressure vessel": (0.8125, 0.4375, 42.0984456, 176.6365958),
            "coil spring": (0.283, 1.2230410, 9.0),
            "gears": (19.0, 16.0, 49.0, 43.0),
        }
        for name, text, best in MIXED:
            found = Gate(loads(text)).evaluate(np.array(known[name])).objective
            self.assertAlmostEqual(found / best, 1.0, places=3, msg=name)


class Divisions(unittest.TestCase):
    def test_rectangles_fill_the_box_whatever_was_divided(self):
        task = task_of([0.0, 0.0, 0.0], -1.0, 1.0)
        generator = rectangles.dividing_rectangles(task, rectangles.DividingRectanglesOptions(smallest=1e-12))
        message, rng = next(generator), np.random.default_rng(4)
        kept = {}
        original = rectangles._divide

        def watched(joined, *rest):
            original(joined, *rest)
            kept["levels"] = joined.levels.copy()

        rectangles._divide = watched
        try:
            for _ in range(40):
                if hasattr(message, "points"):
                    reply = Reply(rng.normal(size=len(message.points)), np.zeros((len(message.points), 0)))
                    message = generator.send(reply)
                else:
                    message = generator.send(None)
        finally:
            rectangles._divide = original
            generator.close()
        volumes = (3.0 ** -kept["levels"].astype(float)).prod(axis=1)
        self.assertAlmostEqual(float(volumes.sum()), 1.0, places=12)
        self.assertTrue((np.ptp(kept["levels"], axis=1) <= 1).all())

    def test_two_runs_are_the_same_and_infeasible_ground_is_left(self):
        task = task_of([0.0, 0.0], -1.0, 1.4, rows=1)

        def rows(x):
            return 0.6 - x.sum(axis=1, keepdims=True)

        one, two = (drive("dividing-rectangles", task, lambda x: (x**2).sum(axis=1), rows, most=3000) for _ in range(2))
        np.testing.assert_array_equal(one.points, two.points)
        self.assertLess(one.best - 0.18, 6e-3)

    def test_the_worth_of_a_design_that_misses_a_limit_is_above_all_that_meet_them(self):
        made = rectangles._Rectangles(
            np.zeros((4, 1)),
            np.zeros((4, 1), dtype=np.int64),
            np.array([3.0, -9.0, 5.0, 2.5]),
            np.array([0.0, 1.0, 0.0, 0.1]),
        )
        worth = made.worth()
        self.assertEqual(worth[[0, 2]].tolist(), [3.0, 5.0])
        self.assertGreater(worth[[1, 3]].min(), 3.0)
        none_met = rectangles._Rectangles(made.centres, made.levels, made.f, np.array([2.0, 1.0, 4.0, 0.1]))
        self.assertEqual(none_met.worth().tolist(), [2.0, 1.0, 4.0, 0.1])


class Slopes(unittest.TestCase):
    def test_the_slope_of_a_simplex_is_that_of_a_plane(self):
        rng = np.random.default_rng(5)
        x, g = rng.normal(size=(4, 3)), np.array([1.0, -2.0, 0.5])
        np.testing.assert_allclose(_simplex_slope(x, 7.0 + x @ g), g, atol=1e-9)
        self.assertIsNone(_simplex_slope(np.zeros((4, 3)), np.zeros(4)))
        self.assertIsNone(_simplex_slope(x, np.array([1.0, np.inf, 0.0, 0.0])))

    def test_a_miss_within_what_is_allowed_is_none(self):
        task = task_of([0.0], rows=2, row_upper=1.0)
        f, v = judged(task, Reply(np.array([1.0, 2.0, np.nan]), np.array([[1.0 + 9e-7, 0.0], [1.5, 1.25], [0.0, 0.0]])))
        self.assertEqual(v.tolist(), [0.0, 0.75, np.inf])
        self.assertEqual(f.tolist(), [1.0, 2.0, np.inf])


if __name__ == "__main__":
    unittest.main()
