"""The pieces of the interior point method, each against the equation that defines it."""

import itertools
import math
import unittest
from dataclasses import replace

import numpy as np

from ilvren.algebra import KktSystem
from ilvren.methods.base import Assessment, HessianRequest, Reply
from ilvren.methods.pieces import barrier, barrier_choice, barrier_tests, filter_memory, primal_dual
from ilvren.methods.pieces.barrier import State, main_stage
from ilvren.methods.pieces.barrier_choice import BarrierChoice
from ilvren.methods.pieces.barrier_tests import EndTests, Move
from ilvren.methods.pieces.points import Point
from ilvren.methods.pieces.polish import polished
from tests.compact import only_in_whole
from tests.driving import task_of


def setUpModule():
    unittest.enterModuleContext(np.errstate(all="ignore"))  # as a run has it: distances to bounds may be infinite


class Quadratic:
    """f = x'Hx/2 + p'x and rows c = Jx + curve |x|²/2, with all derivatives."""

    def __init__(self, rng, n, m, *, convex=True, curve=0.0):
        root = rng.normal(size=(n, n))
        self.h = root @ root.T + np.eye(n) if convex else 0.5 * (root + root.T)
        self.p, self.j, self.curve = rng.normal(size=n), rng.normal(size=(m, n)), curve

    def f(self, x):
        return float(0.5 * x @ self.h @ x + self.p @ x)

    def c(self, x):
        return self.j @ x + 0.5 * self.curve * float(x @ x)

    def jacobian(self, x):
        return self.j + self.curve * x[np.newaxis]

    def point(self, x):
        return Point(x, self.f(x), self.c(x), self.h @ x + self.p, self.jacobian(x), True)

    def hessian(self, multipliers, weight=1.0):
        return weight * self.h - self.curve * float(np.sum(multipliers)) * np.eye(len(self.p))


def problem(seed, *, n=5, m=3, convex=True, curve=0.0, room=1.0):
    """Return (quadratic, stage, state) with equations, one-sided and two-sided rows, and bounds of every kind."""
    rng = np.random.default_rng(seed)
    made = Quadratic(rng, n, m, convex=convex, curve=curve)
    lower, upper = np.full(n, -np.inf), np.full(n, np.inf)
    lower[0], upper[1], lower[2], upper[2] = -room, 2.0 * room, -3.0 * room, 1.5 * room
    row_lower, row_upper = np.full(m, -np.inf), np.full(m, np.inf)
    for row in range(m):
        row_lower[row], row_upper[row] = [(0.5, 0.5), (-np.inf, 1.0), (-2.0, 3.0)][row % 3]
    task = replace(
        task_of(np.zeros(n), rows=m, has_curvature=True), lower=lower, upper=upper, row_lower=row_lower,
        row_upper=row_upper,
    )  # fmt: skip
    stage = main_stage(task)
    x = barrier.inside(rng.normal(size=n), lower, upper, 0.05)
    t = barrier.inside(made.c(x)[stage.attached], stage.lower[n:], stage.upper[n:], 0.05)
    z_low = np.where(np.isfinite(stage.lower), rng.uniform(0.1, 2.0, len(stage.lower)), 0.0)
    z_high = np.where(np.isfinite(stage.upper), rng.uniform(0.1, 2.0, len(stage.upper)), 0.0)
    return made, stage, State(made.point(x), t, rng.normal(size=m), z_low, z_high, 0.3)


def moved(made, state, dw, dy=0.0, alpha=1.0):
    """Return the state at w + α dw, y + α dy."""
    n = len(state.point.x)
    w = state.w + alpha * dw
    return State(made.point(w[:n]), w[n:], state.y + alpha * dy, state.z_low, state.z_high, state.mu)


class Definitions(unittest.TestCase):
    def test_a_slack_for_each_row_that_is_no_equation_and_room_for_rounding_alone(self):
        _, stage, _ = problem(1, m=6)
        np.testing.assert_array_equal(stage.attached, [1, 2, 4, 5])
        np.testing.assert_array_equal(stage.b, [0.5, 0, 0, 0.5, 0, 0])
        room = barrier.RELAXED * stage.task.feasibility
        np.testing.assert_allclose(stage.upper[5:], np.array([1.0, 3.0, 1.0, 3.0]) + room, rtol=1e-15)
        np.testing.assert_allclose(stage.lower[5:], np.array([-np.inf, -2.0] * 2) - room, rtol=1e-15)
        c = np.arange(6.0)
        rest = stage.rest(c, c[stage.attached])
        np.testing.assert_array_equal(rest, [-0.5, 0.0, 0.0, 2.5, 0.0, 0.0])

    def test_rows_gather_what_slacks_spread(self):
        """y'(A v) = (A'y)'v, for rows in one run and for rows with equations between them."""
        for m in (2, 3, 7):
            _, stage, _ = problem(m, m=m)
            rng = np.random.default_rng(m)
            y, v = rng.normal(size=m), rng.normal(size=len(stage.attached))
            self.assertAlmostEqual(float(y @ stage.spread(v)), float(stage.gathered(y) @ v), places=12)

    def test_slopes_are_differences_of_values(self):
        for seed in range(6):
            made, stage, state = problem(seed, curve=0.3)
            pulled = replace(stage, weight=0.4, pull=np.arange(1.0, 6.0), centre=np.full(5, 0.2))
            for own in (stage, pulled):
                slope = own.slope(state.point.g, state.point.x) + own.barrier_slope(state.gaps(own), state.mu)
                for place, step in itertools.product(range(len(state.w)), [1e-6]):
                    dw = step * np.eye(len(state.w))[place]
                    ahead, behind = moved(made, state, dw), moved(made, state, -dw)
                    change = barrier.barrier_value(own, ahead, ahead.point, ahead.t) - barrier.barrier_value(
                        own, behind, behind.point, behind.t
                    )
                    self.assertAlmostEqual(change / (2.0 * step), slope[place], delta=1e-5 * max(1, abs(slope[place])))

    def test_the_barrier_is_infinite_on_the_bounds_beyond_them_and_for_no_number(self):
        _, stage, state = problem(2)
        for place, bound in ((0, -1.0), (0, -1.5), (1, 2.0), (2, 1.6)):
            w = state.w.copy()
            w[place] = bound
            self.assertEqual(stage.barrier(w, 0.1), math.inf)
        for f in (math.nan, math.inf):
            self.assertEqual(barrier.barrier_value(stage, state, replace(state.point, f=f), state.t), math.inf)
        self.assertLess(barrier.barrier_value(replace(stage, weight=0.0), state, replace(state.point, f=math.nan),
                        state.t), math.inf)  # fmt: skip
        self.assertEqual(barrier.constraint_miss(np.array([1.0, math.nan])), math.inf)
        self.assertEqual(barrier.constraint_miss(np.array([1.0, -2.0])), 3.0)

    def test_the_slope_of_the_lagrangian_is_that_of_its_value(self):
        made, stage, state = problem(3, curve=0.2)

        def value(at):
            own = stage.objective(at.point.f, at.point.x, at.t) + float(state.y @ stage.rest(at.point.c, at.t))
            return own - float(state.z_low @ at.w) + float(state.z_high @ at.w)

        slope = barrier.lagrangian_slope(stage, state)
        for place in range(len(state.w)):
            dw = 1e-6 * np.eye(len(state.w))[place]
            change = (value(moved(made, state, dw)) - value(moved(made, state, -dw))) / 2e-6
            self.assertAlmostEqual(change, slope[place], delta=1e-6 * max(1.0, abs(slope[place])))

    def test_moved_inside_means_strictly_and_no_further_than_asked(self):
        rng = np.random.default_rng(4)
        for lower, width, share in itertools.product((-1e9, -2.0, 0.0, 3.0, 1e6), (1e-9, 0.1, 5.0, 1e9), (1e-8, 0.1)):
            upper = lower + width
            if not upper > lower:
                continue
            x = np.concatenate([[lower, upper, lower - 1.0, upper + 1.0], lower + rng.random(20) * min(width, 10.0)])
            found = barrier.inside(x, np.full(len(x), lower), np.full(len(x), upper), share)
            with self.subTest(lower=lower, width=width, share=share):
                self.assertTrue((found > lower).all() and (found < upper).all())
                kept = np.clip(x, lower, upper)
                most = max(share * max(1.0, abs(lower), abs(upper)), 1e-15 * abs(lower))
                self.assertLessEqual(float(np.abs(found - kept).max()), 1.000001 * most + 0.5 * min(width, 1e-8))
        free = np.array([-5.0, 7.0])
        np.testing.assert_array_equal(barrier.inside(free, np.full(2, -np.inf), np.full(2, np.inf), 0.1), free)

    def test_the_fraction_to_the_boundary_is_the_longest_that_keeps_its_share(self):
        rng = np.random.default_rng(5)
        for trial in range(200):
            n = int(rng.integers(1, 6))
            low, high = rng.random(n) * 3.0, rng.random(n) * 3.0
            low[rng.random(n) < 0.3], high[rng.random(n) < 0.3] = 1e300, 1e300
            dw = rng.normal(size=n) * 10.0 ** rng.integers(-3, 3)
            if trial % 5 == 0:
                dw[0] = 0.0
            tau = float(rng.choice([0.9, 0.99, 1.0]))
            alpha = barrier.fraction_to_boundary((low, high), dw, tau)
            self.assertTrue(0.0 < alpha <= 1.0)
            slack = 1e-12
            left = np.minimum(
                (low + alpha * dw) - (1 - tau) * low + slack, (high - alpha * dw) - (1 - tau) * high + slack
            )
            self.assertTrue((left >= 0.0).all())
            if alpha < 1.0:
                more = 1.001 * alpha
                over = np.minimum((low + more * dw) - (1 - tau) * low, (high - more * dw) - (1 - tau) * high)
                self.assertTrue((over < 0.0).any())
            z, dz = rng.random(n), rng.normal(size=n)
            alpha = barrier.dual_fraction_to_boundary(z, dz, tau)
            self.assertTrue((z + alpha * dz >= (1 - tau) * z - slack).all())
            if alpha < 1.0:
                self.assertTrue((z + 1.001 * alpha * dz < (1 - tau) * z).any())
        self.assertEqual(barrier.fraction_to_boundary((np.zeros(0), np.zeros(0)), np.zeros(0), 0.99), 1.0)

    def test_powers_do_not_overflow_into_exceptions(self):
        self.assertEqual(barrier.powered(2.0, 3.0), 8.0)
        self.assertGreater(barrier.powered(1e300, 2.3), 1e200)
        self.assertGreater(barrier.powered(math.inf, 1.1), 1e100)


class NewtonSteps(unittest.TestCase):
    def full_system(self, made, stage, state, newton, mu):
        """Return the matrix and right-hand side of (2) as written, nothing eliminated, for w and y."""
        n, k, m = stage.n, len(stage.attached), len(stage.b)
        a = np.zeros((m, k))
        a[stage.attached, np.arange(k)] = stage.signs
        rows = np.hstack([state.point.j, a])
        hessian = np.zeros((n + k, n + k))
        hessian[:n, :n] = made.hessian(-state.y)
        top = hessian + np.diag(newton.sigma)
        slope = stage.slope(state.point.g, state.point.x) + stage.barrier_slope(state.gaps(stage), mu)
        matrix = np.block([[top, rows.T], [rows, np.zeros((m, m))]])
        return matrix, -np.concatenate([slope + rows.T @ state.y, state.rest(stage)]), top, rows

    def test_steps_solve_the_whole_system_and_the_matrix_has_the_inertia_of_descent(self):
        for seed, convex in itertools.product(range(8), (True, False)):
            made, stage, state = problem(seed, n=6, m=3, convex=convex, curve=0.1)
            system, _ = primal_dual.systems(stage, state)
            memory = filter_memory.memory_from(1.0)
            newton = primal_dual.newton_matrix(stage, state, system, made.hessian(-state.y), memory)
            self.assertIsNotNone(newton)
            matrix, right, top, rows = self.full_system(made, stage, state, newton, state.mu)
            found = primal_dual.direction(stage, state, newton, state.mu)
            self.assertLess(float(np.abs(matrix @ np.concatenate([found.dw, found.dy]) - right).max()), 1e-7)
            _, _, basis = np.linalg.svd(rows)
            along = basis[len(rows) :]
            self.assertGreater(float(np.linalg.eigvalsh(along @ top @ along.T).min()), 0.0)
            if convex:
                self.assertEqual(newton.shift, 0.0)
            zero = primal_dual.direction(stage, state, newton, 0.0)
            state.mu *= 0.25
            between = primal_dual.direction_between(stage, state, newton, zero)
            direct = primal_dual.direction(stage, state, newton, state.mu)
            for one, other in ((between.dw, direct.dw), (between.dy, direct.dy), (between.slope, direct.slope)):
                np.testing.assert_allclose(one, other, atol=1e-9 * max(1.0, float(np.abs(other).max())))

    def test_steps_of_the_bound_multipliers_solve_the_linearised_complementarity(self):
        _, stage, state = problem(11)
        dw = np.random.default_rng(1).normal(size=len(state.w))
        low, high = state.gaps(stage)
        dz_low, dz_high = barrier.bound_steps(stage, state, dw, 0.07)
        has_low, has_high = stage.bounded
        for has, gap, z, dz, sign in (
            (has_low, low, state.z_low, dz_low, 1),
            (has_high, high, state.z_high, dz_high, -1),
        ):
            left = gap[has] * dz[has] + sign * z[has] * dw[has]
            np.testing.assert_allclose(left, 0.07 - z[has] * gap[has], rtol=1e-12, atol=1e-13)

    def test_first_multipliers_are_those_of_least_squares_and_zero_where_they_are_nonsense(self):
        _, stage, state = problem(12, n=6, m=3)
        y = primal_dual.least_squares_multipliers(stage, state)
        n, k = stage.n, len(stage.attached)
        a = np.zeros((3, k))
        a[stage.attached, np.arange(k)] = stage.signs
        target = stage.slope(state.point.g, state.point.x) - state.z_low + state.z_high
        expected = np.linalg.lstsq(np.hstack([state.point.j, a]).T, -target, rcond=None)[0]
        np.testing.assert_allclose(y, expected, atol=1e-6)
        # A row whose gradient has all but vanished would need a multiplier of 1e9.
        tiny = state.point.j.copy()
        tiny[0] = 1e-9
        steep = replace(state.point, j=tiny, g=np.full(n, 5.0))
        bad = State(steep, state.t, state.y, state.z_low, state.z_high, state.mu)
        found = primal_dual.least_squares_multipliers(stage, bad)
        self.assertLessEqual(float(np.abs(found).max()), primal_dual.MOST_FIRST_MULTIPLIER)
        self.assertEqual(primal_dual.least_squares_multipliers(main_stage(task_of([1.0])), bad).size, 0)

    def test_no_matrix_of_numbers_that_break_down(self):
        made, stage, state = problem(13)
        system, _ = primal_dual.systems(stage, state)
        for entry in (math.nan, math.inf):
            hessian = made.hessian(-state.y)
            hessian[1, 1] = entry
            memory = filter_memory.memory_from(1.0)
            self.assertIsNone(primal_dual.newton_matrix(stage, state, system, hessian, memory))

    def test_the_error_is_nothing_at_a_solution_and_grows_with_what_is_missed(self):
        """minimize x²/2 − 3x, x <= 1: x = 1, z = 2."""
        task = task_of([0.0], -np.inf, 1.0, has_curvature=True)
        stage = main_stage(task)
        point = Point(np.array([1.0]), -2.5, np.zeros(0), np.array([-2.0]), np.zeros((0, 1)), True)
        state = State(point, np.zeros(0), np.zeros(0), np.zeros(1), np.array([2.0]), 1e-9)
        self.assertEqual(barrier.scaled_error(stage, state, 0.0), 0.0)
        state.z_high = np.array([1.5])
        self.assertAlmostEqual(barrier.scaled_error(stage, state, 0.0), 0.5)
        self.assertEqual(barrier.average_gap(stage, state), 0.0)
        away = State(replace(point, x=np.array([0.5]), g=np.array([-2.5])), np.zeros(0), np.zeros(0), np.zeros(1),
                     np.array([2.0]), 0.1)  # fmt: skip
        self.assertAlmostEqual(barrier.average_gap(stage, away), 1.0)
        self.assertAlmostEqual(barrier.scaled_error(stage, away, 0.0), 1.0)
        broken = State(replace(point, g=np.array([math.nan])), np.zeros(0), np.zeros(0), np.zeros(1), np.ones(1), 0.1)
        self.assertEqual(barrier.scaled_error(stage, broken, 0.0), math.inf)


class Filter(unittest.TestCase):
    def test_what_the_filter_holds_is_never_accepted_again_and_it_keeps_no_more_than_it_needs(self):
        rng = np.random.default_rng(6)
        memory, every = filter_memory.memory_from(2.0), []
        for theta, phi in rng.random((400, 2)) * [2.0, 5.0]:
            if any(theta >= t and phi >= p for t, p in memory.filter):
                continue
            memory.add(float(theta), float(phi))
            every.append((theta, phi))
            for own in memory.filter:
                self.assertFalse(any(o is not own and o[0] <= own[0] and o[1] <= own[1] for o in memory.filter))
        for theta, phi in every:
            found = filter_memory.accepts(memory, 3.0, 9.0, theta, phi, -1e-9, 1.0, 0.0)
            self.assertEqual(found, (False, False), (theta, phi))
        least = min(theta for theta, _ in every)
        self.assertTrue(filter_memory.accepts(memory, 3.0, 9.0, 0.9 * least, 99.0, 0.0, 1.0, 0.0)[0])

    def test_a_step_for_the_barrier_function_needs_armijo_and_any_other_lowers_either(self):
        memory = filter_memory.memory_from(0.0)
        # (θ, φ, θ_new, φ_new, descent, α): accepted, for φ
        for case, expected in (
            ((0.0, 1.0, 0.0, 0.5, -1.0, 1.0), (True, True)),
            ((0.0, 1.0, 0.0, 0.99999, -1.0, 1.0), (False, True)),
            ((0.0, 1.0, 1e-6, 0.5, -1.0, 1.0), (True, True)),
            ((1.0, 1.0, 0.9, 5.0, -1e-3, 1.0), (True, False)),
            ((1.0, 1.0, 1.0, 0.9, -1e-3, 1.0), (True, False)),
            ((1.0, 1.0, 1.0, 1.0, -1e-3, 1.0), (False, False)),
            ((1.0, 1.0, 1e5, 0.0, -1.0, 1.0), (False, False)),
            ((1.0, 1.0, math.nan, 0.0, -1.0, 1.0), (False, False)),
            ((1.0, 1.0, 0.0, math.inf, -1.0, 1.0), (False, False)),
        ):
            self.assertEqual(filter_memory.accepts(memory, *case, 0.0), expected, case)

    def test_the_least_length_falls_with_the_violation_and_is_never_nothing(self):
        memory = filter_memory.memory_from(1e-6)
        lengths = [filter_memory.least_length(memory, theta, -1.0) for theta in (1.0, 1e-2, 1e-6, 1e-12, 0.0)]
        self.assertEqual(lengths, sorted(lengths, reverse=True))
        self.assertGreater(lengths[-1], 0.0)
        self.assertEqual(filter_memory.least_length(memory, 1.0, 1.0), 0.05 * 1e-5)
        self.assertGreater(filter_memory.least_length(memory, 1e-9, -1e300), 0.0)

    def test_curvature_is_forgotten_once(self):
        memory = filter_memory.memory_from(1.0)
        self.assertFalse(memory.forget_curvature())
        memory.matrix, memory.is_fresh = object(), False
        self.assertTrue(memory.forget_curvature())
        self.assertFalse(memory.forget_curvature())
        self.assertIsNone(memory.matrix)


class BarrierParameter(unittest.TestCase):
    def choice(self, stage, *, is_free):
        memory = filter_memory.memory_from(1.0)
        memory.add(1.0, 1.0)
        return BarrierChoice(stage, memory, is_free=is_free), memory

    def test_a_fixed_barrier_is_lowered_when_its_problem_is_solved_and_the_filter_begins_anew(self):
        task = task_of([0.0], -np.inf, 1.0, has_curvature=True)
        stage = main_stage(task)
        for mu in (0.1, 1e-3, 1e-6):
            # The exact solution of the barrier problem of x²/2 − 3x, x <= 1: z (1 − x) = μ, x − 3 + z = 0.
            gap = 0.5 * (-2.0 + math.sqrt(4.0 + 4.0 * mu))
            x, z = 1.0 - gap, mu / gap
            point = Point(np.array([x]), 0.5 * x * x - 3 * x, np.zeros(0), np.array([x - 3.0]), np.zeros((0, 1)), True)
            state = State(point, np.zeros(0), np.zeros(0), np.zeros(1), np.array([z]), mu)
            choice, memory = self.choice(stage, is_free=False)
            choice.lower_where_solved(state, 1.0)
            self.assertLess(state.mu, mu)
            self.assertGreaterEqual(state.mu, barrier_choice.LAST_BARRIER)
            self.assertGreater(barrier.scaled_error(stage, state, state.mu), 9.0 * state.mu)
            self.assertEqual(memory.filter, [])
            unsolved = State(
                replace(point, g=np.array([5.0])), np.zeros(0), np.zeros(0), np.zeros(1), np.array([z]), mu
            )
            choice, memory = self.choice(stage, is_free=False)
            choice.lower_where_solved(unsolved, 1.0)
            self.assertEqual((unsolved.mu, len(memory.filter)), (mu, 1))

    def test_a_free_barrier_is_fixed_when_the_error_falls_no_longer(self):
        _, stage, state = problem(21)
        state.point = replace(state.point, g=np.full(5, 1e6))  # far from solved for any barrier
        choice, memory = self.choice(stage, is_free=True)
        for error in (5.0, 4.0, 3.0, 2.0, 1.0, 0.5):
            choice.lower_where_solved(state, error)
            self.assertTrue(choice.is_free)
        for _ in range(barrier_choice.PATIENCE + 2):
            choice.lower_where_solved(state, 0.6)
        self.assertFalse(choice.is_free)
        self.assertAlmostEqual(state.mu, 0.5 * barrier.average_gap(stage, state))
        self.assertEqual(memory.filter, [])

    def test_without_an_acceptable_step_it_is_kept_but_not_for_ever(self):
        _, stage, state = problem(22)
        choice, _ = self.choice(stage, is_free=True)
        kept = 0
        while choice.keep_for_a_while(state):
            kept += 1
            choice.is_free = True
        self.assertEqual(kept, barrier_choice.MOST_STUCK)
        fixed, _ = self.choice(stage, is_free=False)
        self.assertFalse(fixed.keep_for_a_while(state))

    def test_the_probe_aims_lower_the_better_the_step_for_no_barrier_is(self):
        made, stage, state = problem(23)
        system, _ = primal_dual.systems(stage, state)
        newton = primal_dual.newton_matrix(stage, state, system, made.hessian(-state.y), filter_memory.memory_from(1.0))
        choice, _ = self.choice(stage, is_free=True)
        before = barrier.average_gap(stage, state)
        aimed = choice.probe(state, newton)
        self.assertIsNotNone(aimed)
        self.assertTrue(0.0 < state.mu <= before)
        none, _ = self.choice(main_stage(task_of([1.0])), is_free=True)
        self.assertIsNone(none.probe(state, newton))
        for _ in range(60):
            choice.lower(state)
        self.assertEqual(state.mu, barrier_choice.LAST_BARRIER)


class Ends(unittest.TestCase):
    MET, NOT = Assessment(0.0, 0.0, True), Assessment(0.0, 1.0, False)

    def at_end(self, outer=None, mu=1e-12):
        _, stage, state = problem(31)
        state.mu = mu
        return EndTests(stage, outer), state, stage

    def test_converged_needs_the_methods_own_conditions_and_the_measured_ones(self):
        tests, state, _ = self.at_end()
        self.assertIsNone(tests.ended(state, self.NOT, 0.0))
        self.assertIsNone(tests.ended(state, self.MET, 1.0))
        state.mu = 0.1
        self.assertIsNone(tests.ended(state, self.MET, 0.0))
        state.mu = 1e-12
        self.assertEqual(tests.ended(state, self.MET, 0.0).claim, "converged")

    def test_measured_conditions_that_hold_for_long_are_enough(self):
        tests, state, _ = self.at_end()
        for _ in range(barrier_tests.MOST_LINGERING):
            self.assertIsNone(tests.ended(state, self.MET, 1.0))
        self.assertEqual(tests.ended(state, self.MET, 1.0).claim, "converged")
        tests, state, _ = self.at_end()
        for _ in range(3 * barrier_tests.MOST_LINGERING):
            self.assertIsNone(tests.ended(state, self.MET, 1.0))
            self.assertIsNone(tests.ended(state, self.NOT, 1.0))

    def test_an_error_that_falls_no_longer_is_an_end_and_none_that_falls(self):
        tests, state, _ = self.at_end()
        error = 1.0
        for _ in range(3 * barrier_tests.MOST_IDLE):
            error *= 0.98
            self.assertIsNone(tests.ended_first(state, self.NOT, error))
        ended = [tests.ended_first(state, self.NOT, error) for _ in range(barrier_tests.MOST_IDLE + 1)]
        self.assertEqual([own is None for own in ended], [True] * barrier_tests.MOST_IDLE + [False])
        self.assertEqual(ended[-1].claim, "stalled")

    def test_steps_of_rounding_end_as_what_was_measured_says(self):
        for assessment, expected in ((self.MET, "converged"), (self.NOT, "stalled")):
            tests, state, stage = self.at_end()
            at = stage.lower[stage.n :].clip(-1e6)
            state = State(replace(state.point, c=state.point.c * 0 + 0.5), at * 0 + 0.5, state.y, state.z_low,
                          state.z_high, 1e-12)  # fmt: skip
            still = Move(state, 1e-15)
            for _ in range(barrier_tests.MOST_STILL):
                self.assertIsNone(tests.ended_still(state, still, assessment))
            self.assertEqual(tests.ended_still(state, still, assessment).claim, expected)
            tests, _, _ = self.at_end()
            self.assertEqual(tests.ended_tiny(state, assessment).claim, expected)
            state.mu = 0.1
            tests, _, _ = self.at_end()
            self.assertEqual([tests.ended_tiny(state, assessment) for _ in range(3)], [None] * 3)
            self.assertEqual(tests.ended_tiny(state, assessment).claim, expected)

    def test_without_a_step_the_words_follow_what_holds(self):
        tests, state, _ = self.at_end()
        memory = filter_memory.memory_from(1.0)
        self.assertEqual(tests.ended_without_step(state, self.MET, 1e-9, memory).claim, "converged")
        self.assertEqual(tests.ended_without_step(state, self.NOT, 1e-12, memory).claim, "stalled")
        self.assertIsNone(tests.ended_without_step(state, self.NOT, 1.0, memory))
        self.assertIsNone(tests.ended_without_step(state, self.MET, 1.0, memory))
        restoring, state, _ = self.at_end(lambda point, t: False)
        self.assertEqual(restoring.ended_without_step(state, self.NOT, 1e-9, memory).claim, "conflict")
        self.assertEqual(restoring.ended_without_step(state, self.NOT, 1.0, memory).claim, "stalled")
        memory.matrix, memory.is_fresh = object(), False
        self.assertIsNone(restoring.ended_without_step(state, self.NOT, 1.0, memory))

    def test_a_restoration_ends_where_its_caller_is_content(self):
        tests, state, _ = self.at_end(lambda point, t: True)
        self.assertEqual(tests.ended_first(state, self.NOT, 1.0).claim, "restored")
        tests, state, _ = self.at_end(lambda point, t: False)
        self.assertEqual(tests.ended_first(state, self.NOT, 0.0).claim, "conflict")
        tests, state, _ = self.at_end(lambda point, t: False)
        error, ended = 1.0, None
        for _ in range(barrier_tests.MOST_IN_RESTORATION + 1):
            self.assertIsNone(ended)
            error *= 0.98
            ended = tests.ended_first(state, self.NOT, 1.0 + error)
            if ended is not None and ended.claim == "stalled":
                break
        self.assertEqual(ended.claim, "stalled")


class Polishing(unittest.TestCase):
    def solved(self, made, stage, state, **more):
        """Return what polishing comes to, its requests answered."""
        system = KktSystem(stage.n, len(stage.b), is_sparse=False)
        protocol, answer = polished(stage, state, system, is_exact=True, **more), None
        try:
            while True:
                message = protocol.send(answer)
                if isinstance(message, HessianRequest):
                    answer = made.hessian(message.multipliers, message.weight)
                    continue
                points = [made.point(x) for x in message.points]
                answer = Reply(
                    np.array([p.f for p in points]), np.array([p.c for p in points]), np.array([p.g for p in points]),
                    [p.j for p in points],
                )  # fmt: skip
        except StopIteration as end:
            return end.value

    def near_the_end(self, seed, mu=1e-9):
        """Return a convex problem and a state near its solution, found by Newton's method on the barrier problems."""
        made, stage, state = problem(seed, room=0.1)
        system, _ = primal_dual.systems(stage, state)
        memory = filter_memory.memory_from(1.0)
        for _ in range(80):
            state.mu = max(mu, 0.2 * state.mu)
            newton = primal_dual.newton_matrix(stage, state, system, made.hessian(-state.y), memory)
            found = primal_dual.direction(stage, state, newton, state.mu)
            dz_low, dz_high = barrier.bound_steps(stage, state, found.dw, state.mu)
            dz_low[~np.isfinite(stage.lower)] = dz_high[~np.isfinite(stage.upper)] = 0.0
            alpha = barrier.fraction_to_boundary(state.gaps(stage), found.dw, 0.95)
            dual = min(barrier.dual_fraction_to_boundary(state.z_low, dz_low, 0.95),
                       barrier.dual_fraction_to_boundary(state.z_high, dz_high, 0.95))  # fmt: skip
            there = moved(made, state, found.dw, found.dy, alpha)
            state = State(there.point, there.t, there.y, state.z_low + dual * dz_low, state.z_high + dual * dz_high,
                          state.mu)  # fmt: skip
        return made, stage, state

    @only_in_whole
    def test_it_ends_on_the_limits_that_hold_the_design_with_their_multipliers(self):
        """The Kuhn–Tucker conditions of the quadratic program, checked one by one."""
        on_limits = 0
        for seed in range(10):
            made, stage, state = self.near_the_end(seed)
            task = stage.task
            point, u = self.solved(made, stage, state)
            self.assertIsNotNone(point, seed)
            self.assertLessEqual(task.violation(point.c), task.feasibility)
            self.assertTrue(((point.x >= task.lower) & (point.x <= task.upper)).all())
            rest = point.g - point.j.T @ u
            at_low, at_high = point.x == task.lower, point.x == task.upper
            on_limits += int(at_low.sum() + at_high.sum())
            self.assertLess(float(np.abs(rest[~(at_low | at_high)]).max(initial=0.0)), 1e-8)
            self.assertTrue((rest[at_low] >= -1e-8).all() and (rest[at_high] <= 1e-8).all())
            for c, low, high, own in zip(point.c, task.row_lower, task.row_upper, u, strict=True):
                if low != high:
                    self.assertFalse(own > 1e-8 and c > low + 1e-8)
                    self.assertFalse(own < -1e-8 and c < high - 1e-8)
        self.assertGreater(on_limits, 3)

    def test_no_curvature_no_polish_and_no_jump_far_away(self):
        made, stage, state = self.near_the_end(1)
        flat = replace(stage, task=replace(stage.task, has_curvature=False))
        self.assertIsNone(self.solved(made, flat, state)[0])
        away = moved(made, state, np.concatenate([np.full(5, 0.3), np.zeros(2)]))
        self.assertIsNone(self.solved(made, stage, away)[0])


if __name__ == "__main__":
    unittest.main()
