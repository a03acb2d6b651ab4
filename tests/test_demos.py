"""The demos' answers, found a second way: by linear algebra, by scanning, by the conditions of the textbook."""

import tempfile
import unittest
from importlib import resources
from io import StringIO
from pathlib import Path

import numpy as np

from ilvren import check, load, run, verify
from ilvren.cli.main import main
from ilvren.cli.terminal import Terminal
from ilvren.evaluate import Gate
from tests.compact import WHOLE, only_in_whole


def demo(folder, name):
    return resources.files("ilvren.demos").joinpath(folder, name)


def readings():
    text = demo("pump_test", "readings.csv").read_text()
    return np.array([[float(cell) for cell in line.split(",")] for line in text.splitlines()[1:]]).T


class Answers(unittest.TestCase):
    def test_tank_day_keeps_its_levels_and_its_known_answer_is_met(self):
        problem = load(demo("tank_day", "tank-day.toml"))
        result = run(problem, second_look=0.0)
        self.assertTrue(not WHOLE or verify(result).holds)
        # Simulated with the same pump and the valve as it stands at the moments of the file.
        self.assertLess(result.objective, 21.0)
        kinds = {arc.kind for arc in result.courses[0].arcs if arc.control == "pump"}
        self.assertEqual(kinds, {"lower", "upper", "free", "limit"})
        exact = np.loadtxt(str(demo("tank_day", "exact.csv")), delimiter=",", skiprows=1)
        known = run(load(demo("tank_day", "known-answer.toml")))
        self.assertAlmostEqual(known.objective, 2.0 * np.tanh(4.0), places=6)
        t = known.courses[0].times
        worth = np.interp(t, exact[:, 0], exact[:, 1]) * np.tanh(4.0 - t)
        np.testing.assert_allclose(known.courses[0].costates["level"], worth, atol=2e-3)

    @only_in_whole
    def test_no_basin_nearby_calms_the_water_with_less_concrete(self):
        """By the model's own function and the costs written out, at designs around the one found."""
        result = run(load(demo("stilling_basin", "stilling-basin.toml")), method="sqp")
        space = {}
        exec(demo("stilling_basin", "basin.py").read_text(), space)  # noqa: S102

        def concrete(length, depth, sill, width):
            return 0.25 * (length * width + 2 * length * (depth + 1.6)) + width * sill * 0.4

        found = np.array(result.point)
        self.assertAlmostEqual(concrete(*found), result.objective, places=9)
        self.assertAlmostEqual(space["pool"](*found, flow=1.6, drop=3.0)["left"], 0.35, places=6)
        rng, calm = np.random.default_rng(4), 0
        for _ in range(120):
            other = np.clip(found + rng.normal(0, 0.03, 4), [2, 0.4, 0, 1], [9, 2, 0.6, 3])
            if concrete(*other) < result.objective * (1 - 1e-6):
                self.assertGreater(space["pool"](*other, flow=1.6, drop=3.0)["left"], 0.35)
                calm += 1
        self.assertGreater(calm, 20)

    def test_valley(self):
        result = run(load(demo("valley", "valley.toml")), method="sqp")
        np.testing.assert_allclose(result.point, (1.2, 1.152), atol=1e-6)

    def test_hum_has_many_optima_and_the_start_decides(self):
        problem = load(demo("hum", "hum.toml"))
        speeds = np.linspace(11.0, 41.0, 60_001)
        values = Gate(problem).written.batch(speeds[:, np.newaxis]).objective
        lows = speeds[1:-1][(values[1:-1] < values[:-2]) & (values[1:-1] < values[2:])]
        self.assertGreaterEqual(len(lows), 8)
        found = set()
        for low in lows:
            result = run(problem.with_starts([low]), method="sqp")
            self.assertLess(np.abs(lows - result.point[0]).min(), 1e-3)
            self.assertTrue(verify(result).holds)
            found.add(round(result.objective, 6))
        self.assertAlmostEqual(min(found), values.min(), places=6)

    def test_trench_is_a_quadratic_program_whose_conditions_hold(self):
        problem = load(demo("trench", "trench.toml"), set={"stations": 40})
        result = run(problem, method="sqp")
        self.assertEqual(result.outcome, "converged")
        gate, point = Gate(problem), np.array(result.point)
        prices = np.array([0.0 if state.price is None else state.price for state in result.constraints])
        # Stationarity with the prices told: gradient = J' · price, since digging is minimized and no variable is bounded.
        np.testing.assert_allclose(
            gate.written.gradient(point), gate.written.transposed_product(point, prices), atol=1e-6
        )
        levels, ground = point, problem.parameter_values[-1]
        self.assertTrue((ground - levels >= 0.9 - 1e-7).all())
        self.assertLessEqual(np.abs(np.diff(levels) / 5.0).max(), 0.05 + 1e-9)
        self.assertLessEqual(np.abs(np.diff(levels, 2) / 25.0).max(), 0.0025 + 1e-9)

    def test_cutwater_is_the_same_from_both_ends_and_keeps_its_room(self):
        problem = load(demo("cutwater", "cutwater.toml"))
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        ledger, sheet, figure = (str(Path(folder.name) / name) for name in ("a.ledger", "o.csv", "o.svg"))
        result = run(problem, ledger=ledger)
        x, y = np.array(result.point).reshape(2, 30)
        np.testing.assert_allclose(x, 1.8 - x[::-1], atol=1e-4)
        np.testing.assert_allclose(y, y[::-1], atol=1e-4)
        core = np.loadtxt(str(demo("cutwater", "core.csv")), delimiter=",", skiprows=1).T
        room = y[1:-1] - np.interp(x[1:-1], *core)
        self.assertGreaterEqual(room.min(), 0.03 - 1e-7)
        self.assertLess((room < 0.03 + 1e-6).sum(), 25)
        main(["export", "r1", "--of", "x,y", "--output", sheet, "--ledger", ledger, "--quiet"])
        np.testing.assert_allclose(np.loadtxt(sheet, delimiter=",", skiprows=1).T, [x, y], atol=1e-9)
        words = ["--of", "y", "--against", "x", "--every", "5", "--output", figure, "--ledger", ledger, "--quiet"]
        self.assertEqual(main(["draw", "r1", *words]), 0)
        self.assertIn("y against x of r1", Path(figure).read_text())
        refused = main(["draw", "r1", "--of", "y", "--against", "dx", *words[4:]], Terminal(*2 * [StringIO()]))
        self.assertEqual(refused, 2)

    def test_trench_grows_with_its_parameter_and_stays_sparse(self):
        for stations in (50, 5000):
            gate = Gate(load(demo("trench", "trench.toml"), set={"stations": stations}))
            plan = gate.written.jacobian_plan()
            self.assertEqual(plan.colour_count, 3)
            self.assertEqual(plan.pattern.nnz, stations + 2 * (stations - 1) + 3 * (stations - 2) + 1)
            self.assertEqual(gate.written.hessian_plan().colour_count, 1)

    def test_pump_test_by_likelihood_is_linear_least_squares_with_its_spread(self):
        flow, head, _ = readings()
        matrix = np.column_stack([np.ones_like(flow), flow, -(flow**2)])
        coefficients, *_ = np.linalg.lstsq(matrix, head, rcond=None)
        spread = np.sqrt(np.mean((head - matrix @ coefficients) ** 2))
        result = run(load(demo("pump_test", "likelihood.toml")), method="sqp")
        np.testing.assert_allclose(result.point, [*coefficients, spread], rtol=1e-4)

    @only_in_whole
    def test_pump_test_fit_meets_the_equations_of_its_losses(self):
        problem = load(demo("pump_test", "pump-test.toml"))
        result = run(problem, method="sqp")
        self.assertTrue(verify(result).holds)
        flow, head, power = readings()
        a, b, c, e, f, g = result.point
        r = (head - (a + b * flow - c * flow**2)) / 0.45
        curve, efficiency = a + b * flow - c * flow**2, e + f * flow - g * flow**2
        s = (power / (9.81 * flow / 1000 * curve / efficiency) - 1) / 0.012
        loss = np.where(np.abs(r) <= 1.345, 0.5 * r**2, 1.345 * np.abs(r) - 0.5 * 1.345**2)
        self.assertAlmostEqual(result.objective, float(loss.sum() + 0.5 * (s**2).sum()), places=9)
        self.assertEqual(int((np.abs(r) > 10).sum()), 1)  # the misread gauge stands out, and does not pull the curve
        plain = run(load(demo("pump_test", "likelihood.toml")), method="sqp")
        self.assertGreater(plain.point[3], 2 * 0.45)  # without a robust loss it inflates the spread

    def test_every_demo_passes_its_own_check(self):
        for folder, name in (
            ("rising_main", "rising-main.toml"),
            ("valley", "valley.toml"),
            ("hum", "hum.toml"),
            ("trench", "trench.toml"),
            ("pump_test", "pump-test.toml"),
            ("pump_test", "likelihood.toml"),
        ):
            with self.subTest(demo=name):
                report = check(load(demo(folder, name)), units=True)
                self.assertEqual([finding.text for finding in report.findings if finding.fails], [])
                self.assertEqual(report.derivatives.agreed, report.derivatives.compared)
