"""What very many rows ask for: conditions with the method's own multipliers, equations of zeros, states told by arrays."""

import dataclasses
import unittest

import numpy as np
from scipy.sparse import csr_array

from ilvren import loads, run
from ilvren.algebra import AllowedValues, KktSystem
from ilvren.cli.tables.blocks import tallied, tally
from ilvren.evaluate import Gate
from ilvren.problem import Measures
from ilvren.runs.conditions import conditions_with

FAR = """
[variables]
x = {{ start = {start}, magnitude = 1e4 }}
[minimize]
f = {{ formula = "{slope} * x", magnitude = 1 }}
[constraints]
c = {{ formula = "x >= 0", magnitude = 1e-3 }}
"""


def conditions(start, slope, multiplier):
    problem = loads(FAR.format(start=start, slope=slope))
    point = np.array(problem.start)
    given = (problem, Measures.of(problem), point, Gate(problem).evaluate(point, derivatives=True))
    return conditions_with(*given, np.array([multiplier]), objective_size=1.0, feasibility=1e-6, tolerance=1e-6)


class Conditions(unittest.TestCase):
    def test_a_limit_not_reached_counts_where_it_is_worth_next_to_nothing_and_has_no_side(self):
        for start, slope, holds, side in (
            (1e-10, 1e-2, True, -1),  # reached
            (5e-8, 1e-2, True, -1),  # nearly reached, and worth 5e-10
            (1e-4, 1e-9, True, 0),  # a tenth of its size away, but worth 1e-13
            (1e-3, 1e-2, False, 0),  # going there is worth 1e-5
            (1e-9, 1e-2, True, -1),
        ):
            with self.subTest(start=start, slope=slope):
                found = conditions(start, slope, slope)
                self.assertEqual(found.meet(1e-6), holds)
                self.assertEqual(found.row_sides[0], side)
        # A multiplier of the wrong sign never counts, however small.
        self.assertGreater(conditions(1e-4, 1e-9, -1e-9).stationarity, 1e-6)
        # What is missing of a multiplier is measured, whatever was given.
        self.assertAlmostEqual(conditions(0.0, 1e-2, 0.4e-2).stationarity, 60.0, places=6)


class Equations(unittest.TestCase):
    def test_an_equation_of_zeros_does_not_hold_up_the_others(self):
        """Its exact solution is 0: whatever is left of it is all of its size."""
        rng = np.random.default_rng(2)
        n = 300
        jacobian = np.zeros((40, n))
        for row in range(39):
            jacobian[row, 5 + 7 * row : 9 + 7 * row] = rng.normal(size=4)
        jacobian[39, 0] = 1.0  # x_0 = 0, held against a force
        top, bottom = 10.0 ** rng.uniform(-4, 4, n), np.append(10.0 ** rng.uniform(-9, 2, 39), 0.0)
        matrix = np.block([[np.diag(top), jacobian.T], [jacobian, -np.diag(bottom)]])
        rhs = rng.normal(size=n + 40)
        rhs[0], rhs[-1] = 9.0, 0.0
        exact = np.linalg.solve(matrix, rhs)
        for condensed in (None, np.append(np.full(39, True), False)):
            system = KktSystem(n, 40, is_sparse=True, condensed=condensed)
            factor = system.factored(csr_array((n, n)), top, csr_array(jacobian), bottom)
            asked = []
            solve = factor._solve
            factor._solve = lambda part, solve=solve, asked=asked: asked.append(1) or solve(part)
            found = factor.solve(rhs[:n], rhs[n:])
            self.assertIsNotNone(found)
            np.testing.assert_allclose(np.concatenate(found), exact, rtol=1e-7, atol=1e-9)
            self.assertLessEqual(len(asked), 5)  # refined, not searched for by Krylov steps


class States(unittest.TestCase):
    def test_arrays_tell_what_each_state_tells(self):
        text = (
            "[variables]\nx = { start = 0, shape = 40, lower = -1, upper = 0.4 }\n"
            '[minimize]\nf = "sum((x - evenly(-2, 2, 40))^2)"\n'
            '[constraints]\nup = "x <= 0.3"\ntied = "x[0] == -0.7"\nleft = "sum(x) <= 1"\n'
        )
        result = run(loads(text))
        for states in (result.constraints, result.bounds):
            for given in (states.value, np.where(np.arange(len(states)) % 5 == 0, np.nan, states.value + 0.2)):
                own = type(states)(
                    states.blocks, given, (states.lower, states.upper), sizes=states.sizes, sides=states.sides,
                    prices=states.prices, are_unique=states.are_unique,
                )  # fmt: skip
                self.assertEqual(tallied(own.standing(1e-6)), tally([state.word(1e-6) for state in own]))
        dearest = result.constraints.dearest(2, 0.01)
        every = sorted(
            result.constraints.priced(),
            key=lambda s: -abs(s.price) * (abs(s.lower if s.side == "lower" else s.upper) or s.size),
        )
        self.assertGreater(len(every), 5)
        self.assertTrue({state.name for state in every[:2]} <= {state.name for state in dearest})
        self.assertLess(len(dearest), len(every))
        self.assertEqual(
            result.bounds.of_block(result.problem.blocks[0]).dearest(9, 0.01), list(result.bounds.priced())
        )

    def test_allowed_values_are_one_arithmetic(self):
        even, listed = AllowedValues(-1.0, 0.25, 9), AllowedValues(1.0, 0.5, 3, np.array([1.0, 1.5, 4.0]))
        for own in (even, listed):
            members = own.all()
            self.assertEqual(len(members), own.count)
            np.testing.assert_array_equal(own.indices(members), np.arange(own.count))
            between = np.linspace(members[0] - 3.0, members[-1] + 3.0, 101)
            nearest = members[np.abs(between[:, np.newaxis] - members).argmin(axis=1)]
            distance = np.abs(own.nearest(between) - between)
            np.testing.assert_allclose(distance, np.abs(nearest - between))
            np.testing.assert_allclose(own.over(4.0).all(), members / 4.0)
            self.assertEqual(own.indices(np.array([np.nan]))[0], own.indices(np.array([own.first]))[0])
        self.assertEqual(dataclasses.replace(even, is_unordered=True).over(2.0).is_unordered, True)


if __name__ == "__main__":
    unittest.main()
