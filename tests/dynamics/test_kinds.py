"""What must hold of every kind of problem over time: derivatives are those of the numbers computed."""

import unittest
from functools import cache

import numpy as np

from ilvren.dynamics.forward_sweep import forward
from ilvren.evaluate import Gate
from ilvren.problem import loads, refined_problem
from tests.compact import WHOLE, only_in_whole, some
from tests.dynamics.kinds import KINDS

# The steps of these look across ends of other steps, where what is computed has no second derivative.
ONCE = {"delayed by the design", "delayed until a free end"}


@cache
def fine_of(text):
    """Return the problem, and the same to a far smaller error over time."""
    problem = loads(text)
    return problem, refined_problem(problem, problem.refinement.__class__(tolerance=1e-9))


def differences(function, point, step=1e-5):
    """Return (outputs, n): central differences of fourth order."""
    columns = []
    for place, value in enumerate(point):
        h = step * max(abs(value), 0.1)
        moved = []
        for k in (2, 1, -1, -2):
            other = point.copy()
            other[place] += k * h
            moved.append(np.asarray(function(other), dtype=float))
        columns.append((8.0 * (moved[1] - moved[2]) - (moved[0] - moved[3])) / (12.0 * h))
    return np.array(columns).T


class EveryKind(unittest.TestCase):
    @only_in_whole
    def test_first_derivatives_are_those_of_the_same_steps(self):
        for name, text in some(KINDS.items(), 4, 2):
            with self.subTest(kind=name):
                problem = loads(text)
                gate, point = Gate(problem), np.array(problem.start)
                exact = gate.written.gradient(point)
                self.assertTrue(np.isfinite(exact).all())
                measured = differences(lambda x, g=gate.written: g.batch(x[None]).objective, point)[0]
                self.assertLessEqual(np.abs(exact - measured).max(), 3e-8 * (1.0 + np.abs(exact).max()))
                if problem.row_count:
                    jacobian = gate.written.jacobian(point).toarray()
                    measured = differences(lambda x, g=gate.written: g.batch(x[None]).rows[0], point)
                    self.assertLessEqual(np.abs(jacobian - measured).max(), 3e-8 * (1.0 + np.abs(jacobian).max()))

    def test_first_derivatives_are_the_true_ones_to_the_time_tolerance(self):
        for name, text in some(KINDS.items(), 6):
            with self.subTest(kind=name):
                problem, fine = fine_of(text)
                own, reference = (Gate(p).written.gradient(np.array(p.start)) for p in (problem, fine))
                # A derivative by a lag is made of slopes within steps, which know less than states at their ends.
                most = 1e-3 if "lag =" in text else 1e-4
                self.assertLessEqual(np.abs(own - reference).max(), most * (1.0 + np.abs(reference).max()))

    def test_second_derivatives_are_exact(self):
        for name, text in some(KINDS.items(), 4, 1):
            if name in ONCE:
                continue
            with self.subTest(kind=name):
                problem = loads(text)
                gate, point = Gate(problem), np.array(problem.start)
                weights = np.linspace(-1.0, 1.0, problem.row_count)
                exact = gate.written.hessian(point, weights).toarray()

                def slope(x, g=gate.written, w=weights):
                    return g.gradient(x) - g.transposed_product(x, w)

                measured = differences(slope, point)
                self.assertLessEqual(np.abs(exact - measured).max(), 1e-6 * (1.0 + np.abs(exact).max()))

    def test_the_backward_sweep_is_the_forward_one_transposed(self):
        for name, text in some(KINDS.items()):
            with self.subTest(kind=name):
                problem = loads(text)
                simulation = problem.simulations[0]
                inputs = problem.simulation_inputs(problem.start)[0]
                design = simulation.point(inputs)
                weights = np.random.default_rng(2).normal(size=design.jacobian.shape[0])
                given = np.array([item[2] for own in design.places for item in own])
                if given.any():
                    continue  # moments that lie on a step's end are pulled by the forward sweep
                pulled, direct = design.adjoints(weights).given, weights @ design.jacobian
                self.assertLessEqual(
                    np.abs(pulled - direct)[design.moving].max(initial=0.0), 1e-10 * (1.0 + np.abs(direct).max())
                )

    @only_in_whole
    def test_many_designs_at_once_are_what_each_is_alone(self):
        for name, text in some(KINDS.items(), 3):
            with self.subTest(kind=name):
                problem = loads(text)
                together, alone = Gate(problem), Gate(loads(text))
                start = np.array(problem.start)
                designs = start * np.linspace(0.8, 1.3, 11)[:, None] + 0.01 * np.sin(
                    np.arange(11 * len(start))
                ).reshape(11, -1)
                found = together.written.batch(designs)
                for design, objective, rows in zip(designs, found.objective, found.rows, strict=True):
                    own = alone.evaluate(design)
                    self.assertAlmostEqual(objective, own.objective, delta=1e-9 * (1.0 + abs(own.objective)))
                    np.testing.assert_allclose(rows, own.rows, rtol=1e-9, atol=1e-9)

    def test_no_direction_moves_nothing(self):
        problem = loads(KINDS["saturated"])
        design = problem.simulations[0].point(problem.simulation_inputs(problem.start)[0])
        still = forward(design.linear, np.zeros((int(problem.simulations[0].starts[-1]), 1)))
        self.assertEqual(float(np.abs(still.last).max()), 0.0)

    @only_in_whole
    def test_the_error_told_is_the_true_one(self):
        told = []
        for name, text in some(KINDS.items(), 4, 3):
            if name == "delayed and stiff" and not WHOLE:
                continue  # as long as all the others
            problem, fine = fine_of(text)
            coarse = refined_problem(problem, problem.refinement.__class__(tolerance=1e-2))
            simulation = coarse.simulations[0]
            inputs = coarse.simulation_inputs(coarse.start)[0]
            error = simulation.time_error(inputs)
            outputs = simulation.point(inputs).outputs
            grid = next(k for k, probe in enumerate(simulation.evolution.probes) if len(probe.taus) > 5)
            count = len(simulation.evolution.states)
            first = grid * count
            sizes = simulation.mesh(0).sizes
            exact = fine.simulations[0].point(fine.simulation_inputs(fine.start)[0]).outputs
            apart = max(
                float(np.abs(outputs[first + k] - exact[first + k]).max()) / float(np.max(sizes)) for k in range(count)
            )
            if apart > 1e-11:
                told.append((name, error.estimate / apart))
        good = [name for name, ratio in told if 0.2 <= ratio <= 5.0]
        self.assertGreater(len(told), 4 if WHOLE else 2)
        self.assertGreaterEqual(len(good), 0.7 * len(told), told)
