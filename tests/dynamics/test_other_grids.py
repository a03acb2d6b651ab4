"""From simulation to a grid of unknowns, from one grid to another, and from one window of time to the next: what was known
is read off its polynomials, and nothing that fits them is lost."""

import unittest

import numpy as np
from scipy.integrate import solve_ivp

from ilvren import loads
from ilvren.dynamics.schemes import SCHEMES
from ilvren.problem import regridding
from ilvren.problem.regridding import (
    carried,
    carried_along,
    carried_multipliers,
    collocated_problem,
    control_count,
    control_shares,
    kinked_rate,
    simulated_problem,
)
from tests.compact import only_in_whole

SWING = """
[variables]
k = {{ start = 2.0, lower = 0, upper = 9 }}
[time]
to = 4
steps = 5
[states]
a = {{ rate = "w", initial = 0.4 }}
w = {{ rate = "{rate}", initial = 0.0 }}
[controls]
u = {{ start = 0.1, lower = -6, upper = 6, form = "{form}"{pieces} }}
[minimize]
cost = "integral(u^2 + a^2)"
[constraints]
slow = "w <= 3"
"""
GRIDS = ((0.0, 0.1, 0.45, 0.7, 1.0), (0.0, 0.25, 0.3, 0.62, 0.8, 0.97, 1.0))


def swing(form="linear", rate="-k * sin(a) + u", pieces=4):
    return loads(SWING.format(form=form, rate=rate, pieces="" if form == "pointwise" else f", pieces = {pieces}"))


def block_of(problem, name):
    return next(block for block in problem.blocks if block.name == name)


def shares_of(problem, name):
    """Return where along the time the unknowns of a state stand."""
    axis = problem.template.built_axes[0]
    return next(item for item in axis.unknowns if item.name == name).taus


def put(problem, point, name, values):
    block = block_of(problem, name)
    point[block.first : block.first + block.size] = np.ravel(values)


def of(problem, point, name):
    block = block_of(problem, name)
    return point[block.first : block.first + block.size].reshape(block.shape)


class Grids(unittest.TestCase):
    def test_polynomials_that_a_scheme_holds_are_carried_exactly(self):
        rng = np.random.default_rng(4)
        for name, scheme in SCHEMES.items():
            degree = len(scheme.points) - 1
            made = [collocated_problem(swing(), name, {"": grid})[0] for grid in GRIDS]
            course = np.polynomial.Polynomial([0.0, *0.2 * rng.normal(size=degree)])  # it begins where it is held
            for before, after in (made, made[::-1]):
                with self.subTest(scheme=name):
                    point = np.array(before.start)
                    put(before, point, "k", 3.25)
                    put(before, point, "w@grid", course(shares_of(before, "w@grid")))
                    found = carried(before, point, after)
                    np.testing.assert_allclose(
                        of(after, found, "w@grid"), course(shares_of(after, "w@grid")), atol=1e-12
                    )
                    self.assertEqual(of(after, found, "k"), 3.25)

    @only_in_whole
    def test_onto_its_own_grid_nothing_changes_and_what_is_too_large_is_at_its_bound(self):
        rng = np.random.default_rng(5)
        for form in ("linear", "constant", "pointwise"):
            for name in SCHEMES:
                problem, _ = collocated_problem(swing(form), name)
                point = np.clip(rng.normal(size=problem.size), problem.joined("lower"), problem.joined("upper"))
                np.testing.assert_allclose(carried(problem, point, problem), point, atol=1e-13)
        put(problem, point, "k", 99.0)
        self.assertEqual(of(problem, carried(problem, point, problem), "k"), 9.0)

    def test_controls_are_read_as_what_they_are(self):
        few, many = (
            collocated_problem(swing(form, pieces=n), "radau")[0] for form, n in (("linear", 4), ("linear", 9))
        )
        point = np.array(few.start)
        at = control_shares(few, block_of(few, "u"))
        put(few, point, "u", np.abs(at - 0.5))  # a corner at one of its knots
        np.testing.assert_allclose(
            of(many, carried(few, point, many), "u"),
            np.abs(control_shares(many, block_of(many, "u")) - 0.5),
            atol=1e-12,
        )
        steps, finer = (collocated_problem(swing("constant", pieces=n), "radau")[0] for n in (4, 8))
        point = np.array(steps.start)
        put(steps, point, "u", [1.0, -2.0, 3.0, 5.0])
        np.testing.assert_array_equal(of(finer, carried(steps, point, finer), "u"), [1, 1, -2, -2, 3, 3, 5, 5])

    def test_controls_of_every_moment_follow_the_polynomials_of_their_scheme(self):
        for name, scheme in SCHEMES.items():
            degree = 1 if scheme.shares_ends else len(scheme.used) - 1
            made = [collocated_problem(swing("pointwise"), name, {"": grid})[0] for grid in GRIDS]
            before, after = made
            point = np.array(before.start)
            own, wanted = (control_shares(problem, block_of(problem, "u")) for problem in made)
            put(before, point, "u", 0.3 + own**degree)
            with self.subTest(scheme=name):
                np.testing.assert_allclose(
                    of(after, carried(before, point, after), "u"), 0.3 + wanted**degree, atol=1e-11
                )


class Begun(unittest.TestCase):
    def test_unknowns_begin_along_the_simulation_of_the_start(self):
        problem, is_simulated = collocated_problem(swing(), "hermite-simpson", {"": GRIDS[1]})
        self.assertTrue(is_simulated)
        told = solve_ivp(
            lambda t, y: (y[1], -2.0 * np.sin(y[0]) + 0.1),
            (0, 4),
            (0.4, 0.0),
            rtol=1e-10,
            atol=1e-12,
            dense_output=True,
        )
        taus = problem.template.built_axes[0].taus
        at = np.searchsorted(shares_of(problem, "a@grid"), taus - 1e-12)
        for k, name in enumerate(("a@grid", "w@grid")):  # at the ends of intervals the simulation was looked at
            values = of(problem, np.array(problem.start), name)
            np.testing.assert_allclose(values[at], told.sol(4 * taus)[k], atol=0.05)
        self.assertEqual(problem.baseline, problem.start)

    def test_a_start_that_runs_away_is_no_guess(self):
        problem, is_simulated = collocated_problem(swing(rate="40 * w^2 + 1 + u"), "radau")
        self.assertFalse(is_simulated)
        np.testing.assert_array_equal(of(problem, np.array(problem.start), "a@grid"), 0.4)

    def test_there_and_back_the_design_is_the_same(self):
        problem = swing().with_starts(np.array([3.0, 0.5, -0.5, 1.0, 2.0, -1.0]))
        grid, _ = collocated_problem(problem, "radau")
        back = simulated_problem(grid)
        np.testing.assert_array_equal(back.start, problem.start)
        self.assertEqual([block.name for block in back.blocks], ["k", "u"])
        self.assertIs(simulated_problem(problem), problem)

    def test_what_a_file_holds(self):
        self.assertEqual([control_count(swing(form, pieces=6)) for form in ("linear", "constant")], [7, 6])
        self.assertEqual(control_count(swing("pointwise")), np.inf)
        self.assertEqual(kinked_rate(swing()), "")
        for rate in ("-abs(a) + u", "where(w > 0, -1, 1) + u", "min(u, a)"):
            self.assertEqual(kinked_rate(swing(rate=rate)), "w")
        self.assertEqual(kinked_rate(swing(rate="u * abs(t - 2)")), "")  # a corner of the clock is known beforehand


class Onwards(unittest.TestCase):
    def test_the_next_window_begins_a_share_later_and_holds_the_last_values(self):
        for name in SCHEMES:
            before, _ = collocated_problem(swing(), name)
            after = before
            point = np.array(before.start)
            taus = shares_of(before, "a@grid")
            put(before, point, "a@grid", 1.0 + 2.0 * taus)
            at = control_shares(before, block_of(before, "u"))
            put(before, point, "u", at)
            found = carried_along(before, point, after, 0.3)
            expected = 1.0 + 2.0 * np.minimum(taus + 0.3, 1.0)
            expected[0] = of(after, found, "a@grid")[0]
            np.testing.assert_allclose(of(after, found, "a@grid"), expected, atol=1e-12)
            self.assertEqual(expected[0], 0.4)  # what is measured where the window begins
            np.testing.assert_allclose(of(after, found, "u"), np.minimum(at + 0.3, 1.0), atol=1e-12)
            self.assertEqual(of(after, found, "k"), of(before, point, "k"))


class Multipliers(unittest.TestCase):
    def test_prices_over_time_are_per_length_of_the_time(self):
        """A price of 1 + 2 τ per length, of a limit and of a state's bound: read on another grid it is the same."""
        before, after = (collocated_problem(swing(), "trapezoid", {"": grid})[0] for grid in GRIDS)

        def priced(problem):
            rows, bounds = np.zeros(problem.row_count), np.zeros(problem.size)
            for block, target in [*((b, rows) for b in problem.row_blocks), *((b, bounds) for b in problem.blocks)]:
                places = regridding._places(problem, block)
                if places is not None and block.name != "u":
                    shares, lengths = places
                    target[block.first : block.first + block.size] = (1.0 + 2.0 * shares) * lengths
            return rows, bounds

        found, expected = carried_multipliers(before, priced(before), after), priced(after)
        for block in after.row_blocks:
            own = slice(block.first, block.first + block.size)
            last = -1 if block.is_grid else None  # beyond the last interval of the coarse grid nothing is known: held
            np.testing.assert_allclose(
                found[0][own][:last], expected[0][own][:last], rtol=0.2 if block.is_grid else 1e-9
            )
        own = block_of(after, "a@grid")
        np.testing.assert_allclose(found[1][own.first :][: own.size], expected[1][own.first :][: own.size], rtol=1e-9)
        # of a limit at moments the whole is kept, too: the trapezoid weights add up to the time
        whole = [sum(m[0][b.first : b.first + b.size].sum() for b in p.row_blocks if not b.is_grid)
                 for m, p in ((priced(before), before), (found, after))]  # fmt: skip
        self.assertAlmostEqual(whole[0], whole[1], places=9)


if __name__ == "__main__":
    unittest.main()
