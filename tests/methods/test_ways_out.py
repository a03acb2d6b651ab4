"""Ways out of designs that first derivatives cannot leave, and methods begun anew in another scale: each piece driven
on functions whose answer is known."""

import itertools
import math
import unittest
from dataclasses import replace

import numpy as np
from scipy.sparse import csr_array

from ilvren.methods.base import Ending, HessianRequest, Iterate, Reply, Request, Task, Tight, method_named
from ilvren.methods.pieces import escape, looking_on
from ilvren.methods.pieces.points import Point, evaluated, hessian_product, projected_gradient
from ilvren.methods.pieces.rescaled import is_out_of_scale, rescaled
from ilvren.methods.pieces.scouting import front_in_turn
from tests.driving import task_of


class Model:
    """An objective and rows as functions of one point, differentiated by small central differences of their own; all
    requests are counted and kept."""

    def __init__(self, f, rows=lambda x: [], step=1e-5):
        self.f, self.rows, self.step, self.asked, self.hessians = f, rows, step, [], 0

    def both(self, x):
        return np.concatenate([[self.f(x)], np.asarray(self.rows(x), dtype=float)])

    def slopes(self, x):
        eye = self.step * np.eye(len(x))
        return np.array([(self.both(x + e) - self.both(x - e)) / (2 * self.step) for e in eye]).T

    def hessian(self, x, multipliers, weight=1.0):
        eye, h = np.eye(len(x)), 1e-4

        def lagrangian(at):
            own = self.both(at)
            return weight * own[0] - float(np.dot(multipliers, own[1:]))

        return np.array(
            [
                [
                    (lagrangian(x + h * (a + b)) - lagrangian(x + h * (a - b)) - lagrangian(x - h * (a - b))
                     + lagrangian(x - h * (a + b))) / (4 * h * h)
                    for b in eye
                ]
                for a in eye
            ]
        )  # fmt: skip

    def point(self, x):
        x = np.asarray(x, dtype=float)
        slopes, own = self.slopes(x), self.both(x)
        return Point(x, float(own[0]), own[1:], slopes[0], slopes[1:], True)

    def answer(self, message):
        if isinstance(message, Iterate):
            return None
        if isinstance(message, Tight):
            return message.point
        if isinstance(message, HessianRequest):
            self.hessians += 1
            found = self.hessian(message.point, message.multipliers, message.weight)
            return found if message.direction is None else found @ message.direction
        self.asked += list(message.points)
        own = np.array([self.both(x) for x in message.points])
        if not message.derivatives:
            return Reply(own[:, 0], own[:, 1:])
        slopes = [self.slopes(x) for x in message.points]
        return Reply(own[:, 0], own[:, 1:], np.array([s[0] for s in slopes]), [s[1:] for s in slopes])

    def drive(self, protocol):
        answer = None
        try:
            while True:
                answer = self.answer(protocol.send(answer))
        except StopIteration as end:
            return end.value


def ring(x):
    """Rows: |x|² is 1; its misses have a stationary point at 0."""
    return [float(x @ x)]


class LessViolated(unittest.TestCase):
    def test_the_middle_of_a_ring_is_left_and_a_design_that_is_best_around_is_not(self):
        for n in (1, 2, 5):
            model = Model(lambda x: 0.0, ring)
            task = task_of(np.zeros(n), -2.0, 2.0, rows=1, row_lower=1.0, row_upper=1.0)
            found = model.drive(escape.less_violated_nearby(task, model.point(np.zeros(n))))
            self.assertLess(abs(found.c[0] - 1.0), 1.0)
            self.assertTrue(found.has_derivatives)
            there = np.eye(n)[0]
            self.assertIsNone(model.drive(escape.less_violated_nearby(task, model.point(there))))

    def test_samples_keep_within_the_bounds_and_depend_on_seed_and_number_alone(self):
        task = task_of([0.1, 0.1], [-0.2, 0.0], [3.0, 0.4], rows=1, row_lower=1.0, row_upper=1.0)
        asked = []
        for own, number in ((task, 0), (task, 0), (task, 1), (replace(task, seed=8), 0)):
            model = Model(lambda x: 0.0, ring)
            model.drive(escape.less_violated_nearby(own, model.point([0.1, 0.1]), number))
            asked.append(np.array(model.asked[: 4 * 8]))
            self.assertTrue(((asked[-1] >= own.lower) & (asked[-1] <= own.upper)).all())
        np.testing.assert_array_equal(asked[0], asked[1])
        self.assertFalse(np.array_equal(asked[0], asked[2]))
        self.assertFalse(np.array_equal(asked[0], asked[3]))

    def test_designs_without_values_are_never_chosen(self):
        for bad in (math.nan, math.inf):
            model = Model(lambda x, bad=bad: bad if x[0] > 0.0 else 0.0, ring)
            task = task_of([0.0, 0.0], -2.0, 2.0, rows=1, row_lower=1.0, row_upper=1.0)
            here = Point(np.zeros(2), 0.0, np.zeros(1), np.zeros(2), np.zeros((1, 2)), True)
            found = model.drive(escape.less_violated_nearby(task, here))
            self.assertTrue(found is None or found.x[0] <= 0.0)
            points, misses = model.drive(escape.spread_by_violation(task))
            self.assertTrue((points[:, 0] <= 0.0).all())
            self.assertTrue(np.isfinite(misses).all())

    def test_a_spread_over_the_box_comes_in_order_of_its_violation(self):
        for lower, upper in ((-2.0, 2.0), (1e-3, 1e3), (-1e3, -1e-3), (0.0, 5.0)):
            model = Model(lambda x: 0.0, ring)
            task = task_of([lower, upper], lower, upper, rows=1, row_lower=1.0, row_upper=1.0)
            points, misses = model.drive(escape.spread_by_violation(task))
            np.testing.assert_allclose(misses, [np.linalg.norm(task.misses(np.array(ring(x)))) for x in points])
            self.assertTrue((np.diff(misses) >= 0.0).all())
            self.assertTrue(((points >= lower) & (points <= upper)).all())
            if upper / max(lower, 1e-3) > 1e4:  # a box of one sign is looked at by ratio too
                self.assertGreater(np.mean(points < 0.05 * upper), 0.25)

    def test_models_that_take_long_are_asked_for_few(self):
        counts = []
        for seconds in (None, 5.0):
            model = Model(lambda x: 0.0, ring)
            task = task_of(np.zeros(4), -2.0, 2.0, rows=1, row_lower=1.0, row_upper=1.0, seconds=seconds)
            model.drive(escape.spread_by_violation(task))
            counts.append(len(model.asked))
        self.assertEqual(counts, [100, 10])


class ValidNearby(unittest.TestCase):
    def test_the_nearest_side_of_an_edge_is_found(self):
        """log(x + y − 1) has values above a line alone."""
        model = Model(lambda x: math.log(x[0] + x[1] - 1.0) if x[0] + x[1] > 1.0 else math.nan)
        for start in ([0.45, 0.45], [0.0, 0.9], [-1.0, 1.5]):
            task = task_of(start, -5.0, 5.0)
            found = model.drive(escape.valid_nearby(task, np.array(start)))
            self.assertGreater(found.x.sum(), 1.0)
            self.assertTrue(found.has_derivatives)

    def test_where_nothing_has_values_there_is_none(self):
        model = Model(lambda x: math.nan)
        self.assertIsNone(model.drive(escape.valid_nearby(task_of([0.0, 0.0], -1.0, 1.0), np.zeros(2))))
        held = task_of([1.0], 1.0, 1.0)
        self.assertIsNone(model.drive(escape.valid_nearby(held, np.ones(1))))


class Saddles(unittest.TestCase):
    def test_the_way_down_from_a_saddle_is_taken(self):
        for curvature in (-2.0, -1e-3):
            model = Model(lambda x, own=curvature: x[0] ** 2 + 0.5 * own * x[1] ** 2 + x[1] ** 4)
            task = task_of([0.0, 0.0], -3.0, 3.0, has_curvature=True)
            found = model.drive(escape.downhill_from_saddle(task, model.point([0.0, 0.0]), np.zeros(0)))
            self.assertIsNotNone(found, curvature)
            self.assertLess(found.f, 0.0)

    def test_along_an_equation_the_curvature_of_the_lagrangian_counts(self):
        """x² + 2y² on the unit circle: (0, 1) is the worst design of it, with u = 2; f itself is convex."""
        model = Model(lambda x: x[0] ** 2 + 2.0 * x[1] ** 2, ring)
        task = task_of([0.0, 1.0], -3.0, 3.0, rows=1, row_lower=1.0, row_upper=1.0, has_curvature=True)
        found = model.drive(escape.downhill_from_saddle(task, model.point([0.0, 1.0]), np.array([2.0])))
        self.assertLess(found.f, 2.0 - 1e-6)
        self.assertLessEqual(task.violation(found.c), task.feasibility)
        best = model.drive(escape.downhill_from_saddle(task, model.point([1.0, 0.0]), np.array([1.0])))
        self.assertIsNone(best)

    def test_bounds_that_press_are_held_and_those_that_do_not_are_left(self):
        # f falls with x beyond 0 only to the second order; the bound at 0 presses with no force.
        model = Model(lambda x: -(x[0] ** 2) + (x[1] - 1.0) ** 2)
        task = task_of([0.0, 1.0], [0.0, -5.0], [2.0, 5.0], has_curvature=True)
        found = model.drive(escape.downhill_from_saddle(task, model.point([0.0, 1.0]), np.zeros(0)))
        self.assertGreater(found.x[0], 0.0)
        pressing = Model(lambda x: -(x[0] ** 2) + 5.0 * x[0] + (x[1] - 1.0) ** 2)
        self.assertIsNone(pressing.drive(escape.downhill_from_saddle(task, pressing.point([0.0, 1.0]), np.zeros(0))))

    def test_without_curvature_or_with_none_that_is_negative_nothing_is_asked(self):
        model = Model(lambda x: float(x @ x))
        task = task_of([0.0, 0.0], -3.0, 3.0, has_curvature=True)
        self.assertIsNone(model.drive(escape.downhill_from_saddle(task, model.point([0.0, 0.0]), np.zeros(0))))
        self.assertEqual((len(model.asked), model.hessians), (0, 1))
        blind = replace(task, has_curvature=False)
        self.assertIsNone(model.drive(escape.downhill_from_saddle(blind, model.point([0.0, 0.0]), np.zeros(0))))
        self.assertEqual(model.hessians, 1)

    def test_a_null_space_is_orthonormal_and_meets_no_normal(self):
        rng = np.random.default_rng(1)
        for n, m, rank in ((1, 0, 0), (4, 0, 0), (4, 2, 2), (5, 5, 3), (3, 3, 3), (3, 6, 2), (4, 2, 0)):
            normals = rng.normal(size=(m, rank)) @ rng.normal(size=(rank, n))
            basis = escape.null_space(normals)
            self.assertEqual(basis.shape, (n, n - rank))
            np.testing.assert_allclose(basis.T @ basis, np.eye(n - rank), atol=1e-12)
            self.assertLess(float(np.abs(normals @ basis).max(initial=0.0)), 1e-10)


class StopsAt:
    """A method that claims to have converged at its start, after the iterates it is told to show."""

    def __init__(self, offsets=((0.0,),)):
        self.offsets, self.starts = offsets, []

    def run(self, task, options):
        self.starts.append(task.start.copy())
        for offset in self.offsets if len(self.starts) == 1 else self.offsets[-1:]:
            yield from evaluated(task.start + np.array(offset), derivatives=True)
            yield Iterate(task.start + np.array(offset))
        return Ending("converged", "the gradient is zero")


class LookingOn(unittest.TestCase):
    def looked(self, f, start, written=lambda x: [], offsets=None, **more):
        """Return how often a method was begun, where it began last, and its ending."""
        own = StopsAt(offsets or (np.zeros(len(start)),))
        method = replace(method_named("bfgs"), run=own.run)
        model = Model(f, written)
        ending = model.drive(looking_on.looking(method).run(task_of(start, has_curvature=True, **more), None))
        return len(own.starts), own.starts[-1], ending

    def test_an_inflection_is_no_optimum(self):
        for f, start in (
            (lambda x: 1.0 + x[0] ** 3, [0.0]),
            (lambda x: 1.0 + x[0] ** 3 + x[1] ** 2, [0.0, 0.0]),
            (lambda x: 1.0 + (x[0] + x[1]) ** 3 + (x[0] - x[1]) ** 2, [0.0, 0.0]),
        ):
            begun, at, ending = self.looked(f, start, lower=-2.0, upper=2.0)
            self.assertGreater(begun, 1)
            self.assertLess(f(at), f(np.zeros(len(start))))
            self.assertEqual(ending.claim, "converged")

    def test_a_minimum_is_left_alone_however_steep_or_with_rows(self):
        for f, start, written, more in (
            (lambda x: float(x @ x), [0.0, 0.0], lambda x: [], {}),
            (lambda x: 1e-3 + 1e4 * x[0] ** 2, [0.0], lambda x: [], {}),
            (lambda x: x[0] + x[1], [-(0.5**0.5)] * 2, ring, {"rows": 1, "row_lower": -np.inf, "row_upper": 1.0}),
        ):
            begun, at, _ = self.looked(f, start, written, lower=-2.0, upper=2.0, **more)
            self.assertEqual(begun, 1)
            np.testing.assert_array_equal(at, start)

    def test_an_inflection_along_a_curved_limit_is_left_along_it(self):
        """On the unit circle f = θ³ has an inflection at θ = 0."""
        begun, at, _ = self.looked(
            lambda x: 1.0 + math.atan2(x[1], x[0]) ** 3, [1.0, 0.0], ring, lower=-2.0, upper=2.0, rows=1, row_lower=1.0,
            row_upper=1.0,
        )  # fmt: skip
        self.assertGreater(begun, 1)
        self.assertLess(math.atan2(at[1], at[0]), 0.0)
        self.assertAlmostEqual(float(at @ at), 1.0, places=6)

    def test_slow_steps_are_followed_onward(self):
        """Steps that halve on a slope that is nearly flat stop short of the rest of the slope."""
        offsets = ([0.6], [0.3], [0.15], [0.0])
        begun, at, _ = self.looked(lambda x: x[0] ** 5, [0.0], offsets=offsets, lower=-2.0, upper=2.0)
        self.assertGreater(begun, 1)
        self.assertLess(at[0], 0.0)

    def test_it_never_goes_on_more_often_than_it_may(self):
        own = StopsAt((np.zeros(1),))
        method = replace(method_named("bfgs"), run=own.run)
        endless = Model(lambda x: -float(np.floor(x[0] * 100.0)), step=1e-9)
        endless.slopes = lambda x: np.zeros((1, 1))
        endless.hessian = lambda x, u, weight=1.0: np.zeros((1, 1))
        endless.drive(looking_on.looking(method).run(task_of([0.0], has_curvature=True), None))
        self.assertEqual(len(own.starts), looking_on.LOOKS + 1)

    def test_methods_of_values_are_not_touched_and_other_endings_pass(self):
        method = method_named("nelder-mead")
        self.assertIs(looking_on.looking(method), method)

        def stalled(task, options):
            yield from evaluated(task.start, derivatives=True)
            yield Iterate(task.start)
            return Ending("stalled", "no more")

        model = Model(lambda x: x[0] ** 3)
        looked = looking_on.looking(replace(method_named("bfgs"), run=stalled))
        self.assertEqual(model.drive(looked.run(task_of([0.0], has_curvature=True), None)).claim, "stalled")
        self.assertEqual(len(model.asked), 1)


class Rescaled(unittest.TestCase):
    """f = 1e6 (x0 − 1e-7)² / 2 + …: another scale must change nothing that the driver is told or asked."""

    def parts(self):
        rng = np.random.default_rng(3)
        h, p, j = rng.normal(size=(3, 3)), rng.normal(size=3), rng.normal(size=(2, 3))
        h = h + h.T

        class Own(Model):
            def slopes(self, x):
                return 1e7 * np.vstack([h @ x + p, j])

            def hessian(self, x, multipliers, weight=1.0):
                return weight * 1e7 * h

        return Own(lambda x: 1e7 * float(0.5 * x @ h @ x + p @ x), lambda x: 1e7 * (j @ x))

    def test_a_method_sees_a_scaled_problem_and_the_driver_its_own(self):
        seen = {}

        def method(task: Task, options):
            seen["task"] = task
            point = yield from evaluated(task.start, derivatives=True)
            seen["point"] = point
            seen["hessian"] = yield HessianRequest(task.start, np.array([0.5, -2.0]))
            seen["product"] = yield HessianRequest(task.start, np.array([0.5, -2.0]), 1.0, np.array([1.0, 2.0, 3.0]))
            seen["tight"] = yield Tight(task.start + 0.25)
            yield Iterate(task.start, multipliers=np.array([0.5, -2.0]))
            return Ending("converged", "")

        model = self.parts()
        task = task_of([1e9, 1.0, 1.0], [-np.inf, -9.0, -9.0], [np.inf, 9.0, 9.0], rows=2, has_curvature=True)
        here = model.point([1e-3, 0.5, 0.25])
        told = []

        def answered(protocol):
            answer = None
            try:
                while True:
                    message = protocol.send(answer)
                    told.append(message)
                    answer = model.answer(message)
            except StopIteration as end:
                return end.value

        self.assertTrue(is_out_of_scale(here))
        self.assertEqual(answered(rescaled(method, task, None, here)).claim, "converged")
        inner, point = seen["task"], seen["point"]
        largest = [np.abs(point.g).max(), *np.abs(point.j).max(axis=1)]
        self.assertTrue(all(0.5 <= own <= 2.0 for own in largest), largest)
        d = here.x / inner.start
        self.assertNotEqual(d[0], 1.0)
        np.testing.assert_array_equal(d[1:], 1.0)
        np.testing.assert_array_equal(np.log2(d) % 1.0, 0.0)
        np.testing.assert_allclose(inner.lower * d, task.lower)
        for message in told:
            at = message.points[0] if isinstance(message, Request) else message.point
            offset = 0.25 * d if isinstance(message, Tight) else 0.0
            np.testing.assert_allclose(at, here.x + offset, rtol=1e-15)
        # The Hessian in the method's scale: differences of its own gradients.
        f = float(np.abs(d * here.g).max()) / largest[0]
        np.testing.assert_allclose(seen["hessian"], model.hessian(here.x, [0, 0]) * np.outer(d, d) / f, rtol=1e-12)
        np.testing.assert_allclose(seen["product"], seen["hessian"] @ [1.0, 2.0, 3.0], rtol=1e-12)
        np.testing.assert_allclose(seen["tight"], inner.start + 0.25, rtol=1e-15)
        # Multipliers: g = J'u in either scale.
        own = told[-1].multipliers
        scaled = point.g - point.j.T @ np.array([0.5, -2.0])
        np.testing.assert_allclose((here.g - here.j.T @ own) * d / f, scaled, rtol=1e-12)

    def test_sparse_matrices_are_scaled_alike(self):
        from ilvren.methods.pieces import rescaled as module

        rng = np.random.default_rng(4)
        matrix, factors, rows = rng.normal(size=(4, 3)), rng.random(3) + 0.5, rng.random(4) + 0.5
        for own, other in (
            (module._over_columns(csr_array(matrix), factors), module._over_columns(matrix, factors)),
            (module._over_rows(csr_array(matrix), rows), module._over_rows(matrix, rows)),
        ):
            np.testing.assert_allclose(own.toarray(), other, rtol=1e-15)
        np.testing.assert_array_equal(module._by_row(csr_array(matrix)), module._by_row(matrix))

    def test_no_factor_where_there_is_nothing_to_go_by(self):
        model = self.parts()
        flat = replace(model.point([1.0, 1.0, 1.0]), g=np.zeros(3), j=np.zeros((2, 3)))
        self.assertFalse(is_out_of_scale(flat))
        starts = []

        def method(task, options):
            starts.append(task)
            yield from evaluated(task.start, derivatives=True)
            return Ending("converged", "")

        model.drive(rescaled(method, task_of([1.0, 1.0, 1.0], rows=2), None, flat))
        np.testing.assert_array_equal(starts[0].row_sizes, 1.0)
        self.assertEqual(starts[0].unit, 1.0)


class Points(unittest.TestCase):
    def test_products_with_the_hessian_agree_with_and_without_curvature(self):
        model = Model(lambda x: math.exp(x[0]) * x[1] ** 2, lambda x: [x[0] * x[1]])
        here, u = model.point([0.3, -0.7]), np.array([1.5])
        expected = model.hessian(here.x, u)
        for direction, task in itertools.product(
            ([1.0, 0.0], [0.3, -2.0]), (task_of([0, 0], rows=1, has_curvature=True), task_of([0, 0], rows=1))
        ):
            found = model.drive(hessian_product(task, here, np.array(direction), u))
            np.testing.assert_allclose(found, expected @ direction, atol=1e-3)
        task = task_of([0, 0], rows=1)
        np.testing.assert_array_equal(model.drive(hessian_product(task, here, np.zeros(2), u)), 0.0)
        stuck = task_of([0, 0], [0.3, -0.7], [0.3, -0.7], rows=1)
        self.assertTrue(np.isnan(model.drive(hessian_product(stuck, here, np.ones(2), u))).all())

    def test_the_projected_gradient_leaves_out_what_points_out_of_the_box(self):
        task = task_of([0.0] * 5, -1.0, 1.0)
        x, g = np.array([-1.0, -1.0, 1.0, 1.0, 0.0]), np.array([2.0, -2.0, 2.0, -2.0, 2.0])
        np.testing.assert_array_equal(projected_gradient(task, x, g), [0.0, -2.0, 2.0, 0.0, 2.0])


class InTurn(unittest.TestCase):
    def method(self, name, points, claim, seen):
        def run(task, options):
            seen[name] = task.known
            yield Request(np.array(points, dtype=float))
            yield Iterate(np.array(points[0], dtype=float))
            return Ending(claim, f"{name} {claim}")

        return replace(method_named("nondominated-sorting"), name=name, run=run)

    def drive(self, *parts):
        seen, paths = {}, []
        chosen = front_in_turn([(self.method(name, points, claim, seen), None) for name, points, claim in parts])
        task = replace(task_of([0.0, 0.0], -9.0, 9.0, rows=2, row_upper=np.inf), objectives=(0, 1), signs=(1.0, 1.0))
        protocol, answer = chosen.run(task, None), None
        try:
            while True:
                message = protocol.send(answer)
                if isinstance(message, Iterate):
                    paths.append(message.path)
                    answer = None
                else:
                    answer = Reply(np.zeros(len(message.points)), message.points.copy())
        except StopIteration as end:
            return end.value, seen, paths

    FIRST, SECOND = [[0.0, 3.0], [1.0, 1.0], [2.0, 2.0]], [[3.0, 0.0], [0.5, 2.0]]

    def test_what_one_finds_is_known_to_the_next_as_a_front(self):
        ending, seen, paths = self.drive(
            ("a", self.FIRST, "settled"), ("b", self.SECOND, "settled"), ("c", [[9, 9]], "settled")
        )
        self.assertIsNone(seen["a"])
        self.assertEqual(sorted(map(tuple, seen["b"].points.tolist())), [(0.0, 3.0), (1.0, 1.0)])
        np.testing.assert_array_equal(seen["b"].rows, seen["b"].points)
        known = sorted(map(tuple, seen["c"].points.tolist()))
        self.assertEqual(known, [(0.0, 3.0), (0.5, 2.0), (1.0, 1.0), (3.0, 0.0)])
        self.assertEqual((ending.method, ending.claim, paths), ("c", "settled", ["a", "b", "c"]))

    def test_it_ends_as_the_last_that_found_something_and_says_what_the_others_came_to(self):
        ending, _, _ = self.drive(("a", self.FIRST, "settled"), ("b", self.SECOND, "stalled"))
        self.assertEqual((ending.method, ending.claim), ("a", "settled"))
        self.assertIn("b stalled", ending.reason)
        ending, _, _ = self.drive(("a", self.FIRST, "stalled"), ("b", self.SECOND, "infeasible"))
        self.assertEqual((ending.method, ending.claim), ("b", "infeasible"))

    def test_a_fall_without_end_ends_at_once(self):
        ending, seen, _ = self.drive(("a", self.FIRST, "unbounded"), ("b", self.SECOND, "settled"))
        self.assertEqual((ending.claim, list(seen)), ("unbounded", ["a"]))

    def test_the_whole_handles_what_all_of_it_handle(self):
        one, other = method_named("nondominated-sorting"), method_named("front-continuation")
        both = front_in_turn([(one, None), (other, None)])
        self.assertEqual(both.handles, one.handles & other.handles)
        self.assertEqual(both.needs_derivatives, one.needs_derivatives or other.needs_derivatives)
        self.assertEqual(both.takes_sparse, one.takes_sparse and other.takes_sparse)
        self.assertIs(front_in_turn([(one, None)]), one)


if __name__ == "__main__":
    unittest.main()
