"""Polls on a mesh, models through values, several methods at once, and nodes of a tree."""

import itertools
import unittest
from dataclasses import replace

import numpy as np

from ilvren import loads, run
from ilvren.algebra import AllowedValues
from ilvren.methods import mesh_adaptive_search as mesh, quadratic_interpolation as interpolation
from ilvren.methods.base import Ending, Iterate, Reply, Request, method_named
from ilvren.methods.branch_and_bound import _between, _neighbours
from ilvren.methods.pieces.coding import Coding
from ilvren.methods.pieces.measured import stands
from ilvren.methods.pieces.restricted import restricted
from ilvren.methods.pieces.together import Child, Seen, together
from tests.compact import only_in_whole
from tests.driving import drive, task_of


def kinked(x):
    return np.abs(x[:, 0] - 0.3) + 2 * np.abs(x[:, 1] + 0.2 - 0.5 * x[:, 0])


def stepped(x):
    return np.floor(8 * np.abs(x - 0.31)).sum(axis=1) + 0.01 * (x**2).sum(axis=1)


class Polls(unittest.TestCase):
    def test_directions_are_orthogonal_pairs_on_the_mesh_and_differ_each_time(self):
        coding, rng = Coding.of(task_of(np.zeros(5), -1.0, 1.0)), np.random.default_rng(1)
        sizes = np.full(5, 2.0)
        seen = []
        for frame in (0.1, 0.01):
            steps = mesh._polls(coding, np.zeros(5), frame, sizes, np.zeros(5), rng)
            self.assertEqual(steps.shape, (10, 5))
            self.assertTrue(np.allclose(np.sort(steps, axis=0), -np.sort(-steps, axis=0)[::-1]))
            grid = frame**2 * sizes
            np.testing.assert_allclose(steps / grid, np.rint(steps / grid), atol=1e-6)
            unit = steps / np.linalg.norm(steps, axis=1, keepdims=True)
            product = np.abs(unit @ unit.T)
            self.assertLess(product[(product < 0.9)].max(), 0.25)  # orthogonal but for the rounding
            self.assertEqual(np.linalg.matrix_rank(steps), 5)
            seen.append(unit[0])
        self.assertGreater(np.abs(seen[0] - seen[1]).max(), 1e-3)

    def test_polls_along_the_last_success_come_first(self):
        coding = Coding.of(task_of(np.zeros(3), -1.0, 1.0))
        last = np.array([0.1, 0.0, -0.2])
        steps = mesh._polls(coding, np.zeros(3), 0.1, np.ones(3), last, np.random.default_rng(2))
        along = steps @ last
        self.assertTrue((np.diff(along) <= 1e-12).all())

    def test_kinks_and_jumps_are_no_obstacle(self):
        for function, best in ((kinked, 0.0), (stepped, 0.01 * 2 * 0.186**2)):
            found = drive("mesh-adaptive-search", task_of([-0.7, 0.9], -1.0, 1.0), function, most=900)
            self.assertEqual(found.ending.claim, "settled")
            self.assertLess(found.best - best, 1e-4)

    def test_the_barrier_lets_the_search_cross_infeasible_ground(self):
        # From an infeasible start, over a ring, to the least point inside.
        task = task_of([1.8, 1.5], -2.0, 2.0, rows=1)
        found = drive("mesh-adaptive-search", task, lambda x: (x - 0.2).sum(axis=1) ** 2 + x[:, 0] ** 2,
                      lambda x: (x**2).sum(axis=1, keepdims=True) - 1.0)  # fmt: skip
        self.assertEqual(found.ending.claim, "settled")
        self.assertLess(found.best, 1e-6)

    def test_the_state_follows_dominance(self):
        seen, state = mesh._Seen.empty(1, 0), mesh._State()
        for f, h in ((5.0, 1.0), (6.0, 0.5), (4.0, 0.0), (3.0, 0.4), (3.5, 0.0)):
            seen.add(np.array([f]), f, np.zeros(0), h)
        words = [mesh._take_in(replace_count(seen, k), state, k - 1) for k in range(1, 6)]
        self.assertEqual(words, ["dominating", "improving", "dominating", "improving", "dominating"])
        self.assertEqual((seen.f[state.feasible], seen.f[state.missing]), (3.5, 3.0))

    def test_larger_batches_reach_the_same_with_more_values(self):
        one = drive("mesh-adaptive-search", task_of([-0.7, 0.9], -1.0, 1.0), kinked, at_once=1, models=False)
        many = drive("mesh-adaptive-search", task_of([-0.7, 0.9], -1.0, 1.0), kinked, at_once=8, models=False)
        self.assertLess(max(one.best, many.best), 1e-4)
        self.assertGreater(max(map(len, many.requests)), 3)
        self.assertEqual(max(map(len, one.requests)), 1)


def replace_count(seen, count):
    """Return the same designs as if only the first `count` had been seen."""
    return replace(seen, count=count)


class Interpolation(unittest.TestCase):
    def test_lagrange_polynomials_are_one_at_their_own_design_and_zero_at_the_others(self):
        rng = np.random.default_rng(3)
        for count in (7, 9, 10):
            designs = interpolation._Set(rng.uniform(-1, 1, (count, 3)), np.zeros(count), np.zeros((count, 0)))
            table = interpolation._lagrange(designs, designs.x, 0.5)
            np.testing.assert_allclose(table, np.eye(count), atol=1e-7)

    @only_in_whole
    def test_a_quadratic_takes_little_more_than_its_first_set(self):
        rng = np.random.default_rng(4)
        for n in (2, 4, 6):
            a = rng.normal(size=(n, n))
            h = a @ a.T + np.eye(n)
            centre = rng.uniform(-1, 1, n)
            task = task_of(np.zeros(n), -3.0, 3.0)

            def value(x, h=h, centre=centre):
                return 0.5 * np.einsum("ki,ij,kj->k", x - centre, h, x - centre)

            found = drive("quadratic-interpolation", task, value, most=12 * (n + 1))
            self.assertLess(found.best, 1e-6 * value(np.zeros((1, n)))[0])

    def test_limits_are_reached_from_their_values_alone(self):
        task = task_of([0.5, 0.5], -2.0, 2.0, rows=1, row_lower=0.0, row_upper=0.0)
        found = drive(
            "quadratic-interpolation",
            task,
            lambda x: x[:, 0] + x[:, 1],
            lambda x: (x**2).sum(axis=1, keepdims=True) - 1.0,
        )
        self.assertEqual(found.ending.claim, "settled")
        self.assertAlmostEqual(found.best, -np.sqrt(2), places=5)

    def test_designs_without_values_are_passed_by(self):
        def edge(x):
            return np.where(x[:, 0] < -0.05, np.nan, (x[:, 0] - 0.4) ** 2 + x[:, 1] ** 2)

        found = drive("quadratic-interpolation", task_of([0.0, 0.6]), edge)
        self.assertEqual(found.ending.claim, "settled")
        self.assertLess(found.best, 1e-8)

    def test_it_stays_within_bounds_that_leave_no_room(self):
        found = drive("quadratic-interpolation", task_of([0.5, 0.5], 0.5 - 1e-7, 0.5 + 1e-7), kinked, most=200)
        self.assertTrue((np.abs(found.points - 0.5) <= 1e-7 + 1e-15).all())


def counting(start, times, log):
    """A method that asks for some points, two at a time, and ends."""

    def run(task, options):
        for k in range(times):
            reply = yield Request(np.array([[start + k], [start - k]]))
            log.append((start, reply.objective.tolist()))
            assessment = yield Iterate(np.array([start + k]), path="deep" if k else "")
            assert assessment is not None
        return Ending("settled", "done")

    return run(None, None)


class Together(unittest.TestCase):
    def test_requests_go_in_one_batch_and_answers_to_those_who_asked(self):
        log = []
        task = task_of([0.0])
        children = [
            Child(path=f"c[{k}]", protocol=counting(10.0 * k, times, log), task=task)
            for k, times in enumerate((1, 3, 2))
        ]
        generator = together(children)
        message, batches, paths = next(generator), [], []
        try:
            while True:
                if isinstance(message, Iterate):
                    paths.append(message.path)
                    message = generator.send("assessment")
                else:
                    batches.append(message.points[:, 0].tolist())
                    message = generator.send(Reply(2.0 * message.points[:, 0], np.zeros((len(message.points), 0))))
        except StopIteration:
            pass
        self.assertEqual([len(batch) for batch in batches], [6, 4, 2])
        self.assertEqual(log[:3], [(0.0, [0.0, 0.0]), (10.0, [20.0, 20.0]), (20.0, [40.0, 40.0])])
        self.assertEqual(paths[-1], "c[1]/deep")
        self.assertTrue(all(child.ending.claim == "settled" for child in children))
        self.assertEqual([child.best.f for child in children], [0.0, 16.0, 38.0])

    def test_a_child_that_never_ends_is_ended(self):
        def endless():
            while True:
                yield Request(np.zeros((1, 1)))

        child = Child(path="x", protocol=endless(), task=task_of([0.0]), most_requests=5)
        generator = together([child])
        next(generator)
        with self.assertRaises(StopIteration):
            for _ in range(10):
                generator.send(Reply(np.zeros(1), np.zeros((1, 0))))
        self.assertEqual(child.ending.claim, "stalled")

    def test_starts_run_as_if_alone(self):
        task = task_of([0.4, -0.3], -1.0, 1.0)
        found = drive("multistart", task, kinked, starts=3, at_once=3, local="nelder-mead")
        self.assertEqual(found.ending.claim, "settled")
        self.assertEqual(sum(item.often for item in found.ending.optima), 3)
        apart = drive("multistart", task, kinked, starts=3, at_once=1, local="nelder-mead")
        self.assertEqual(
            [(o.point.tolist(), o.f) for o in found.ending.optima],
            [(o.point.tolist(), o.f) for o in apart.ending.optima],
        )

    def test_held_variables_stay_where_they_are(self):
        task = task_of([0.5, 0.2, -0.4], -1.0, 1.0)
        task = replace(task, lower=np.array([-1.0, 0.2, -1.0]), upper=np.array([1.0, 0.2, 1.0]))
        method = method_named("quadratic-interpolation")
        held = replace(method, run=lambda own, options: restricted(own, own.start, lambda t: method.run(t, options)))
        found = drive(held, task, lambda x: ((x - 0.1) ** 2).sum(axis=1))
        self.assertTrue((found.points[:, 1] == 0.2).all())
        self.assertAlmostEqual(found.best, 0.01, places=8)


class Nodes(unittest.TestCase):
    def test_neighbours_and_distances_among_members(self):
        task = replace(
            task_of([0.0, 0.0], 0.0, 9.0),
            grids=(AllowedValues(0.0, 0.5, 19), AllowedValues(1.0, 1.0, 3, np.array([1.0, 4.0, 9.0]))),
        )
        self.assertEqual(_neighbours(task, 0, 1.3), (1.0, 1.5))
        self.assertEqual(_neighbours(task, 1, 5.0), (4.0, 9.0))
        self.assertEqual(_neighbours(task, 1, 0.0), (1.0, 1.0))
        between = _between(task, np.array([1.25, 4.0 + 1e-9]), task.lower, task.upper)
        np.testing.assert_allclose(between, [0.5, 0.0])

    def test_standing_is_measured_with_the_best_multipliers(self):
        task = task_of([0.0, 0.0], 0.0, 1.0, rows=1, row_lower=-np.inf, row_upper=1.0)
        at_corner = Seen(np.array([0.0, 1.0]), -1.0, np.array([1.0]), np.array([2.0, -3.0]), np.array([[1.0, 1.0]]))
        self.assertTrue(stands(task, at_corner).meets_conditions)
        uphill = replace(at_corner, g=np.array([-4.0, -3.0]))
        self.assertFalse(stands(task, uphill).meets_conditions)

    def test_mixed_convex_problems_end_with_the_bound_at_the_optimum(self):
        rng = np.random.default_rng(6)
        for _ in range(4):
            a, b = rng.uniform(0.5, 2.0, size=2), rng.uniform(0.5, 5.5, size=3)
            text = (
                "[variables]\ni = { start = 0, lower = 0, upper = 6, spacing = 1 }\n"
                "j = { start = 2, catalogue = [0, 2, 3.5, 6] }\nx = { start = 0, lower = 0, upper = 6 }\n"
                f'[minimize]\nf = "(i - {b[0]:.6f})^2 + {a[0]:.6f} * (j - {b[1]:.6f})^2 + {a[1]:.6f} * (x - {b[2]:.6f})^2"\n'
                '[constraints]\nc = "i + 2 * j + x <= 9"\n'
            )
            result = run(loads(text), method="branch-and-bound")
            best = np.inf
            for i, j in itertools.product(range(7), (0, 2, 3.5, 6)):
                if i + 2 * j <= 9:
                    x = min(b[2].round(6), 9 - i - 2 * j)
                    best = min(best, (i - b[0].round(6)) ** 2 + a[0].round(6) * (j - b[1].round(6)) ** 2
                               + a[1].round(6) * (x - b[2].round(6)) ** 2)  # fmt: skip
            self.assertAlmostEqual(result.objective, best, places=6)
            self.assertLessEqual(result.bound, result.objective + 1e-9)
            self.assertTrue(result.bound_is_proved)

    def test_members_that_no_design_can_have_are_told(self):
        text = (
            "[variables]\ni = { start = 0, lower = 0, upper = 6, spacing = 2 }\nx = { start = 0, lower = 0, upper = 1 }\n"
            '[minimize]\nf = "i + x"\n[constraints]\nc = "i + 0.2 * x == 3"\n'
        )
        result = run(loads(text), method="branch-and-bound")
        self.assertEqual(result.outcome, "no-feasible")
        self.assertEqual(result.design, "least-violation")


if __name__ == "__main__":
    unittest.main()
