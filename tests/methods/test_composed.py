"""Methods made of methods: what each part is given, what the whole ends with, and who is asked to go on. Rankings and
codings that populations share, against their definitions."""

import itertools
import math
import unittest
from dataclasses import replace

import numpy as np
from scipy.sparse import csr_array

from ilvren.algebra import AllowedValues
from ilvren.methods.base import (
    SLOPES,
    VALUES,
    Assessment,
    Ending,
    HessianRequest,
    Iterate,
    Reply,
    Request,
    method_named,
)
from ilvren.methods.pieces import first_look, priorities, watching
from ilvren.methods.pieces.coding import Coding, spread
from ilvren.methods.pieces.ranking import Level, best_place, better, judged, order
from ilvren.methods.pieces.scalarizing import Scalar, ScalarView, Solved as ScalarSolved, scalarized_task, solving
from ilvren.methods.pieces.together import Child, together
from ilvren.methods.pieces.trade_offs import compromise
from ilvren.methods.pieces.turns import all_of, in_turn
from tests.driving import task_of

FEASIBLE, MISSED = Assessment(0.0, None, False), Assessment(1.0, None, False)


def scripted(name, points, claim, seen, *, base="sqp", show=True):
    """Return a method that asks for `points`, offsets of its start, shows the last of them, and ends with a claim;
    `seen` gets its task."""

    def run(task, options):
        seen.setdefault(name, []).append(task)
        for offset in points:
            yield Request(task.start[np.newaxis] + offset)
        if show:
            yield Iterate(task.start + points[-1])
        return Ending(claim, f"{name} says {claim}")

    return replace(method_named(base), name=name, run=run, options=lambda: None)


def driven(protocol, f, rows=lambda x: [], assessment=FEASIBLE):
    """Return (ending, iterates, points asked for)."""
    answer, shown, asked = None, [], []
    try:
        while True:
            message = protocol.send(answer)
            if isinstance(message, Iterate):
                shown.append(message)
                answer = assessment(message) if callable(assessment) else assessment
                continue
            asked += [tuple(x) for x in message.points]
            answer = reply_of(message, f, rows)
    except StopIteration as end:
        return end.value, shown, asked


def reply_of(message, f, rows=lambda x: []):
    values = np.array([f(x) for x in message.points], dtype=float)
    own = np.array([rows(x) for x in message.points], dtype=float).reshape(len(values), -1)
    if not message.derivatives:
        return Reply(values, own)
    n, m = message.points.shape[1], own.shape[1]
    return Reply(values, own, np.zeros((len(values), n)), [np.zeros((m, n))] * len(values))


def bowl(x):
    return float(x @ x)


class InTurn(unittest.TestCase):
    def run_of(self, *parts, task=None, assessment=FEASIBLE, f=bowl, rows=lambda x: []):
        seen = {}
        whole = in_turn([scripted(name, np.array(points, float), claim, seen) for name, points, claim in parts])
        task = task if task is not None else task_of([1.0, 1.0], -9.0, 9.0)
        return (*driven(whole.run(task, None), f, rows, assessment), seen)

    def test_the_first_that_ends_well_is_the_end(self):
        for claim in ("converged", "settled", "unbounded"):
            ending, _, _, seen = self.run_of(("a", [[0, 0]], claim), ("b", [[0, 0]], "converged"))
            self.assertEqual((ending.claim, ending.method, list(seen)), (claim, "a", ["a"]))

    def test_the_next_begins_where_the_last_stood_if_that_was_feasible(self):
        for assessment, expected in ((FEASIBLE, [1.5, 1.0]), (MISSED, [1.0, 1.0])):
            ending, shown, _, seen = self.run_of(
                ("a", [[0.5, 0.0]], "stalled"), ("b", [[0, 0]], "converged"), assessment=assessment
            )
            self.assertEqual(seen["b"][0].start.tolist(), expected)
            self.assertEqual((ending.claim, ending.method), ("converged", "b"))
            self.assertIn("a ended stalled before", ending.reason)
            self.assertEqual([item.path for item in shown], ["a", "b"])

    def test_an_invalid_start_is_left_for_a_valid_one_nearby(self):
        _, _, _, seen = self.run_of(
            ("a", [[0, 0]], "invalid"), ("b", [[0, 0]], "converged"), f=lambda x: bowl(x) if x[0] > 1.0 else math.nan
        )
        self.assertEqual(
            seen["b"][0].start.tolist(), [1.0, 1.0]
        )  # it showed an iterate: there is something to go on from
        seen = {}
        silent = scripted("a", np.zeros((1, 2)), "invalid", seen, show=False)
        whole = in_turn([silent, scripted("b", np.zeros((1, 2)), "converged", seen)])
        driven(whole.run(task_of([1.0, 1.0], -9.0, 9.0), None), lambda x: bowl(x) if x[0] > 1.0 else math.nan)
        self.assertGreater(seen["b"][0].start[0], 1.0)

    def test_a_conflict_needs_two_opinions_and_a_look_elsewhere(self):
        task = task_of([1.0, 1.0], -9.0, 9.0, rows=1)

        def missed(x):
            return [1.0 + bowl(x)]

        parts = (("a", [[0, 0]], "infeasible"), ("b", [[0, 0]], "infeasible"), ("c", [[0, 0]], "converged"))
        ending, shown, _, seen = self.run_of(*parts, task=task, assessment=MISSED, rows=missed)
        self.assertEqual((ending.claim, "c" in seen), ("infeasible", False))
        self.assertGreater(len(seen["a"]), 1)  # from elsewhere in the box, too
        self.assertIn("from elsewhere in the box", [item.path for item in shown])
        self.assertIn("back to where", shown[-1].note)
        convex = replace(task, is_convex=True)
        ending, _, _, seen = self.run_of(*parts, task=convex, assessment=MISSED, rows=missed)
        self.assertEqual((ending.claim, len(seen["a"])), ("infeasible", 1))

    def test_what_is_met_elsewhere_is_no_conflict(self):
        task = task_of([1.0, 1.0], -9.0, 9.0, rows=1)
        seen = {}

        def run(own, options):
            seen.setdefault("starts", []).append(own.start)
            yield Request(own.start[np.newaxis])
            yield Iterate(own.start)
            return Ending("infeasible" if len(seen["starts"]) == 1 else "converged", "")

        method = replace(method_named("sqp"), name="a", run=run, options=lambda: None)
        ending, _, _ = driven(in_turn([method]).run(task, None), bowl, lambda x: [bowl(x) - 3.0], MISSED)
        self.assertEqual(ending.claim, "converged")
        self.assertGreater(float(np.abs(seen["starts"][1] - [1.0, 1.0]).max()), 0.5)

    def test_a_second_opinion_on_a_conflict_is_not_asked_for_ever(self):
        endless = np.zeros((5000, 2))
        ending, _, asked, _ = self.run_of(
            ("a", [[0, 0]], "infeasible"), ("b", endless, "converged"),
            task=task_of([1.0, 1.0], -9.0, 9.0, rows=1, is_convex=True), rows=lambda x: [1.0], assessment=MISSED,
        )  # fmt: skip
        self.assertEqual(ending.claim, "infeasible")
        self.assertLess(len(asked), 200)

    def test_of_bad_endings_the_one_that_tells_most_is_told(self):
        for claims, expected in (
            (("stalled", "invalid"), 0),
            (("invalid", "stalled"), 1),
            (("infeasible", "stalled"), 0),
            (("stalled", "stalled"), 1),
            (("invalid", "invalid"), 0),
        ):
            parts = [(name, [[0, 0]], claim) for name, claim in zip("ab", claims, strict=True)]
            ending, _, _, _ = self.run_of(*parts, task=task_of([1.0, 1.0], -9.0, 9.0, is_convex=True))
            self.assertEqual((ending.method, ending.claim), ("ab"[expected], claims[expected]), claims)


class AllOf(unittest.TestCase):
    def run_of(self, *parts, **more):
        seen = {}
        methods = [scripted(name, np.array(points, float), claim, seen) for name, points, claim in parts]
        return (*driven(all_of("both", methods).run(task_of([1.0, 1.0], -9.0, 9.0, **more), None), bowl), seen)

    def test_the_last_begins_at_the_best_of_all(self):
        ending, _, _, seen = self.run_of(("a", [[0, 0], [-0.5, -0.5], [3, 3]], "settled"), ("b", [[0, 0]], "converged"))
        self.assertEqual(seen["b"][0].start.tolist(), [0.5, 0.5])
        self.assertEqual(ending.claim, "converged")
        self.assertIn("no proof", ending.reason)

    def test_an_end_at_a_worse_design_is_not_the_end_of_all(self):
        ending, _, _, _ = self.run_of(("a", [[-0.9, -0.9]], "settled"), ("b", [[2, 2]], "converged"))
        self.assertEqual(ending.claim, "settled")
        ending, _, _, _ = self.run_of(("a", [[0, 0]], "stalled"), ("b", [[2, 2]], "stalled"))
        self.assertEqual(ending.claim, "stalled")
        ending, _, _, seen = self.run_of(("a", [[0, 0]], "unbounded"), ("b", [[2, 2]], "converged"))
        self.assertEqual((ending.claim, "b" in seen), ("unbounded", False))


class Together(unittest.TestCase):
    def children(self, counts, wants=None, **more):
        def run(number, count):
            total = 0.0
            for step in range(count):
                kind = VALUES if wants is None else wants[number]
                reply = yield Request(np.full((number + 1, 1), float(10 * number + step)), kind)
                total += float(reply.objective.sum())
                yield Iterate(np.array([float(10 * number + step)]))
            return Ending("settled", str(total))

        task = task_of([0.0])
        return [
            Child(path=str(number), protocol=run(number, count), task=task, **more)
            for number, count in enumerate(counts)
        ]

    def test_requests_go_out_in_one_batch_and_each_gets_its_own_answers(self):
        batches, shown, answer = [], [], None
        children = self.children((1, 3, 2))
        protocol = together(children)
        try:
            while True:
                message = protocol.send(answer)
                if isinstance(message, Iterate):
                    shown.append(message.path)
                    answer = FEASIBLE
                else:
                    batches.append(len(message.points))
                    answer = reply_of(message, lambda x: float(x[0]))
        except StopIteration:
            pass
        self.assertEqual(batches, [6, 5, 2])
        expected = [sum((number + 1) * (10 * number + step) for step in range(c)) for number, c in enumerate((1, 3, 2))]
        self.assertEqual([float(child.ending.reason) for child in children], expected)
        self.assertEqual(shown, ["0", "1", "2", "1", "2", "1"])
        self.assertEqual([child.best.f for child in children], [0.0, 10.0, 20.0])

    def test_values_and_derivatives_are_asked_for_apart_and_a_limit_ends_one_alone(self):
        children = self.children((2, 6), wants=(VALUES, SLOPES), most_requests=3)
        protocol, answer, kinds = together(children), None, []
        try:
            while True:
                message = protocol.send(answer)
                if isinstance(message, Iterate):
                    answer = FEASIBLE
                    continue
                kinds.append((message.derivatives, len(message.points)))
                answer = reply_of(message, lambda x: float(x[0]))
        except StopIteration:
            pass
        self.assertEqual(kinds, [(False, 1), (True, 2), (False, 1), (True, 2), (True, 2)])
        self.assertEqual([child.ending.claim for child in children], ["settled", "stalled"])

    def test_what_has_no_value_is_never_the_best(self):
        child = self.children((1,))[0]
        task = replace(task_of([0.0], rows=1), feasibility=1e-6)
        child.task = task
        request = Request(np.array([[0.0], [1.0], [2.0], [3.0]]))
        child.take(request, Reply(np.array([math.nan, 0.0, 5.0, 4.0]), np.array([[-1.0], [1.0], [0.0], [math.nan]])))
        self.assertEqual((child.best.x[0], child.worth()), (2.0, (0.0, 5.0)))
        child.take(Request(np.array([[9.0]])), Reply(np.array([-7.0]), np.array([[2.0]])))
        self.assertEqual(child.best.x[0], 2.0)


class Watched(unittest.TestCase):
    def steps(self, values, rows=None, points=None, **more):
        """Return the ending of a watched method that asks for one design after the other, and how many it asked for."""
        asked = []

        def run(task, options):
            for step in range(100_000):
                asked.append(step)
                x = np.zeros((1, 1)) if points is None else np.full((1, 1), points(step))
                yield Request(x)
            return Ending("converged", "")

        method = watching.watched(replace(method_named("bfgs"), run=run))
        task = task_of([1.0], rows=0 if rows is None else 1, **more)
        protocol, answer = method.run(task, None), None
        try:
            while len(asked) < 5000:
                protocol.send(answer)
                step = asked[-1]
                own = np.zeros((1, 0)) if rows is None else np.array([[rows(step)]])
                answer = Reply(np.array([values(step)]), own)
        except StopIteration as end:
            return end.value, len(asked)
        return None, len(asked)

    def test_no_progress_is_an_end_after_so_many_requests(self):
        for values, rows in (
            (lambda k: 1.0, None),
            (lambda k: math.nan, None),
            (lambda k: 1.0 - 1e-14 * k, None),
            (lambda k: -float(k), lambda k: 1.0),  # f falls, but where the limit is missed
        ):
            ending, asked = self.steps(values, rows)
            self.assertEqual(ending.claim, "stalled")
            self.assertLessEqual(asked, watching.PATIENCE + 3)

    def test_progress_of_either_kind_goes_on(self):
        self.assertIsNone(self.steps(lambda k: 1.0 / (k + 1))[0])
        self.assertGreater(self.steps(lambda k: 0.0, lambda k: 0.9 ** (k // 100))[1], 4000)

    def test_far_out_with_little_gain_runs_away(self):
        ending, _ = self.steps(lambda k: -math.log(1.0 + k), points=lambda k: 1e7 * (k + 1.0))
        self.assertIn("runs away", ending.reason)
        self.assertIsNone(self.steps(lambda k: -(1.05**k), points=lambda k: 1e7 * (k + 1.0))[0])

    def test_methods_of_values_are_left_as_they_are(self):
        method = method_named("cma-es")
        self.assertIs(watching.watched(method), method)


class Priorities(unittest.TestCase):
    def test_each_level_is_held_at_its_best_for_those_that_follow(self):
        tasks = []

        def run(task, options):
            tasks.append(task)
            yield Request(np.array([[0.0], [1.0], [2.0]]))
            yield Iterate(np.array([0.0]))
            return Ending("settled", "done")

        method = priorities.by_priority(replace(method_named("nondominated-sorting"), run=run))
        task = replace(
            task_of([0.0], -9.0, 9.0, rows=3, row_lower=-np.inf, row_upper=np.inf),
            objectives=(0, 1, 2), signs=(1.0, -1.0, 1.0), goals=(-np.inf,) * 3, levels=((1,), (0,), (2,)), points=9,
        )  # fmt: skip
        # Rows (x − 1)², 5 − x, x: the second is maximized first.
        ending, shown, _ = driven(
            method.run(task, None), lambda x: 0.0, lambda x: [(x[0] - 1.0) ** 2, 5.0 - x[0], x[0]]
        )
        self.assertEqual([own.objectives for own in tasks], [(1,), (0,), (2,)])
        self.assertEqual([own.points for own in tasks], [priorities.FEW_POINTS] * 2 + [9])
        self.assertAlmostEqual(tasks[1].row_lower[1], 5.0 * (1.0 - priorities.SLACK), places=12)
        self.assertEqual(tasks[0].row_lower[1], -np.inf)
        self.assertLess(abs(tasks[2].row_upper[0] - 1.0), 1e-6)  # the best (x − 1)² where 5 − x is held at 5: x = 0
        self.assertEqual([item.path.split("/")[0] for item in shown], ["priority 1", "priority 2", "priority 3"])
        self.assertEqual(ending.claim, "settled")

    def test_a_level_that_ends_badly_is_the_last(self):
        seen = {}
        base = scripted("a", np.zeros((1, 1)), "stalled", seen, base="nondominated-sorting")
        task = replace(
            task_of([0.0], rows=2, row_lower=-np.inf, row_upper=np.inf),
            objectives=(0, 1), signs=(1.0, 1.0), goals=(-np.inf,) * 2, levels=((0,), (1,)),
        )  # fmt: skip
        ending, _, _ = driven(priorities.by_priority(base).run(task, None), lambda x: 0.0, lambda x: [1.0, 1.0])
        self.assertEqual((ending.claim, len(seen["a"])), ("stalled", 1))


class FirstLook(unittest.TestCase):
    def begun(self, start, rows):
        seen = {}
        method = first_look.looking_first(scripted("a", np.zeros((3, 1)), "converged", seen))
        task = task_of([start], 0.0, 100.0, rows=1)
        driven(method.run(task, None), lambda x: 0.0, rows)
        return [own.start[0] for own in seen["a"]]

    def test_a_vast_miss_is_left_and_another_is_not(self):
        vast = self.begun(99.0, lambda x: [math.exp(x[0]) - 1e3])
        self.assertEqual(len(vast), 2)
        self.assertLess(vast[1], 60.0)
        self.assertEqual(self.begun(2.0, lambda x: [math.exp(x[0]) - 1e3]), [2.0])
        self.assertEqual(self.begun(99.0, lambda x: [math.nan]), [99.0])
        everywhere = self.begun(99.0, lambda x: [1e9])
        self.assertEqual(everywhere, [99.0, 99.0])  # nothing is better: it begins where it was told to


class Rankings(unittest.TestCase):
    def test_the_order_is_that_of_the_definition_and_agrees_with_pairs(self):
        rng = np.random.default_rng(1)
        for trial in range(60):
            k = int(rng.integers(1, 9))
            f, v = rng.integers(0, 4, k).astype(float), rng.integers(0, 3, k).astype(float) * 0.5
            f[rng.random(k) < 0.1] = np.inf
            for level in (0.0, 0.5):
                own = order(f, v, level)
                for a, b in itertools.pairwise(own):
                    self.assertFalse(bool(better(f[b], v[b], f[a], v[a], level)), (f, v, level))
            best = best_place(f, v)
            self.assertFalse(better(f, v, f[best], v[best]).any(), trial)

    def test_values_that_are_no_numbers_are_the_worst_of_all(self):
        task = task_of([0.0], rows=2, row_upper=[0.0, 1.0])
        reply = Reply(np.array([1.0, math.nan, 3.0, 4.0]), np.array([[0, 0], [0, 0], [math.nan, 0], [2.0, 4.0]], float))
        f, v = judged(task, reply)
        np.testing.assert_array_equal(f, [1.0, np.inf, np.inf, 4.0])
        np.testing.assert_array_equal(v, [0.0, np.inf, np.inf, 5.0])
        free = judged(task_of([0.0]), Reply(np.array([1.0, math.inf, -math.inf]), np.zeros((3, 0))))
        np.testing.assert_array_equal(free[1], [0.0, np.inf, np.inf])

    def test_the_level_shrinks_to_nothing_in_its_time(self):
        level = Level.of(np.array([5.0, 1.0, 2.0, 3.0, 4.0, np.inf]), 10)
        self.assertEqual(level.at(0), 1.0)
        found = [level.at(step) for step in range(14)]
        self.assertTrue(all(b < a or b == 0.0 for a, b in itertools.pairwise(found)))
        self.assertEqual(found[10:], [0.0] * 4)
        self.assertEqual(Level.of(np.full(3, np.inf), 5).at(0), 0.0)

    def test_the_compromise_is_nearest_to_the_ideal_whatever_the_units(self):
        values = np.array([[0.0, 9.0], [2.0, 3.0], [9.0, 0.0]])
        self.assertEqual(compromise(values), 1)
        self.assertEqual(compromise(values * [1e6, 1e-6] + [5.0, -7.0]), 1)
        self.assertEqual(compromise(np.array([[1.0, 1.0]])), 0)


class Codings(unittest.TestCase):
    def task(self):
        grids = (None, AllowedValues(0.0, 0.5, 11), AllowedValues(1.0, 1.0, 3, np.array([1.0, 4.0, 9.0])),
                 AllowedValues(1.0, 1.0, 4, is_unordered=True), None)  # fmt: skip
        lower, upper = np.array([-1.0, 0.0, 1.0, 1.0, -np.inf]), np.array([2.0, 5.0, 9.0, 4.0, np.inf])
        return replace(task_of([0.5, 2.5, 4.0, 2.0, 7.0]), lower=lower, upper=upper, grids=grids)

    def test_codes_and_designs_go_back_and_forth(self):
        coding = Coding.of(self.task())
        np.testing.assert_array_equal(coding.start, [0.5, 5.0, 1.0, 1.0, 7.0])
        np.testing.assert_array_equal(coding.decoded(coding.start[np.newaxis])[0], self.task().start)
        codes = np.random.default_rng(2).normal(size=(200, 5)) * 8.0
        points = coding.decoded(codes.copy())
        self.assertTrue(((points >= self.task().lower) & (points <= self.task().upper)).all())
        self.assertLessEqual(set(points[:, 2]), {1.0, 4.0, 9.0})
        self.assertTrue((points[:, 1] % 0.5 == 0.0).all())
        rounded = coding.rounded(codes)
        self.assertTrue((rounded[:, 1:4] % 1.0 == 0.0).all())
        np.testing.assert_array_equal(coding.decoded(rounded.copy())[:, 1:4], points[:, 1:4])

    def test_first_designs_have_one_in_each_stratum_and_the_start_first(self):
        coding = Coding.of(task_of([0.3, 0.3], [0.0, -2.0], [1.0, 6.0]))
        found = spread(coding, 21, np.random.default_rng(3))
        np.testing.assert_array_equal(found[0], [0.3, 0.3])
        for column, (low, width) in enumerate(((0.0, 1.0), (-2.0, 8.0))):
            strata = np.floor((found[1:, column] - low) / width * 20.0)
            self.assertEqual(sorted(strata), list(range(20)))
        self.assertEqual(len(spread(coding, 1, np.random.default_rng(3))), 1)

    def test_open_boxes_are_drawn_in_a_finite_one_around_the_start(self):
        for lower, upper, start in (
            (-np.inf, np.inf, 7.0),
            (0.0, np.inf, 1e6),
            (-np.inf, 3.0, -5.0),
            (-1e300, 1e300, 2.0),
        ):
            coding = Coding.of(task_of([start], lower, upper))
            low, high = coding.box_lower[0], coding.box_upper[0]
            self.assertTrue(np.isfinite([low, high]).all() and low <= start <= high and high > low)
            self.assertTrue(low >= lower and high <= upper)

    def test_other_members_of_a_choice_are_others_and_all_of_them(self):
        coding = Coding.of(self.task())
        np.testing.assert_array_equal(coding.is_unordered, [False, False, False, True, False])
        rng = np.random.default_rng(4)
        codes = np.zeros(4000) + 2.0
        found = coding.elsewhere(codes, np.full(4000, 3), rng)
        counts = np.bincount(found.astype(int), minlength=4)
        self.assertEqual(counts[2], 0)
        self.assertLess(float(np.abs(counts[[0, 1, 3]] / 4000 - 1 / 3).max()), 0.04)


class Scalarized(unittest.TestCase):
    """Objectives F_i = |x − a_i|² as rows 0 and 2 of three, the second of them maximized as written."""

    A, B = np.array([0.0, 0.0]), np.array([3.0, 1.0])

    def rows(self, x):
        return [(x - self.A) @ (x - self.A), x[0] + x[1], -((x - self.B) @ (x - self.B))]

    def slopes(self, x):
        return np.array([2 * (x - self.A), [1.0, 1.0], -2 * (x - self.B)])

    def task(self, sparse=False):
        task = task_of([1.0, 1.0], -9.0, 9.0, rows=3, row_lower=-np.inf, row_upper=[np.inf, 5.0, np.inf])
        return replace(task, objectives=(0, 2), signs=(1.0, -1.0), is_sparse=sparse, has_curvature=True)

    def reply(self, points, sparse=False):
        jacobian = [self.slopes(x) for x in points]
        return Reply(
            np.zeros(len(points)), np.array([self.rows(x) for x in points]), np.zeros((len(points), 2)),
            [csr_array(j) for j in jacobian] if sparse else jacobian,
        )  # fmt: skip

    def scalar(self, reach=(1.0, 2.0), price=1.0, weights=(0.1, 0.2), ceiling=(1.0, 2.0)):
        return Scalar(np.array(weights), np.array(ceiling), np.array(reach), np.ones(2), price)

    def objectives(self, x):
        return np.array([self.rows(x)[0], -self.rows(x)[2]])

    def test_the_least_extra_unknown_meets_every_ceiling_with_one_at_its_limit(self):
        rng = np.random.default_rng(5)
        scalar = self.scalar()
        for values in rng.normal(size=(50, 2)) * 4.0:
            t = scalar.shortfall(values)
            left = scalar.ceiling + scalar.reach * t - values
            self.assertGreaterEqual(float(left.min()), -1e-12)
            self.assertLess(float(left.min()), 1e-12)
            self.assertAlmostEqual(scalar.worth(values[np.newaxis])[0], values @ scalar.weights + t)
        hard = self.scalar(reach=(0.0, 1.0))
        self.assertEqual(hard.shortfall(np.array([2.0, 0.0])), np.inf)
        self.assertEqual(hard.worth(np.array([[2.0, 0.0], [0.5, 5.0]])).tolist(), [np.inf, 0.05 + 1.0 + 3.0])

    def test_first_derivatives_are_those_of_the_values(self):
        for sparse, scalar in itertools.product(
            (False, True), (self.scalar(), self.scalar(price=0.0, reach=(0.0, 0.0)))
        ):
            view, n = ScalarView(self.task(sparse), scalar), 3 if scalar.has_extra else 2
            x = np.array([0.7, -0.4, 0.3])[:n]
            own = view.reply(x[np.newaxis], self.reply(x[np.newaxis, :2], sparse))
            for place in range(n):
                e = 1e-6 * np.eye(n)[place]
                ends = [view.reply((x + s * e)[np.newaxis], self.reply((x + s * e)[np.newaxis, :2])) if not sparse else
                        ScalarView(self.task(), scalar).reply((x + s * e)[np.newaxis], self.reply((x + s * e)[np.newaxis, :2]))
                        for s in (1.0, -1.0)]  # fmt: skip
                self.assertAlmostEqual((ends[0].objective[0] - ends[1].objective[0]) / 2e-6, own.gradient[0][place], 5)
                matrix = own.jacobian[0].toarray() if sparse else own.jacobian[0]
                np.testing.assert_allclose((ends[0].rows[0] - ends[1].rows[0]) / 2e-6, matrix[:, place], atol=1e-5)

    def test_second_derivatives_are_those_of_the_lagrangian(self):
        """∇²(w f − μ'c) of (1): the rows that are objectives have 2 I and −2 I."""
        scalar, x = self.scalar(), np.array([0.7, -0.4, 0.3])
        view = ScalarView(self.task(), scalar)
        mu = np.array([0.3, 0.5, 0.25])  # the limit row, then both ceilings

        def asked(direction):
            protocol = view.hessian(HessianRequest(x, mu, 2.0, direction))
            message = next(protocol)
            self.assertEqual(message.weight, 0.0)
            np.testing.assert_array_equal(message.point, x[:2])
            hessian = -(2.0 * message.multipliers[0] - 2.0 * message.multipliers[2]) * np.eye(2)
            self.assertEqual(message.multipliers[1], 0.3)
            try:
                protocol.send(hessian if direction is None else hessian @ message.direction)
            except StopIteration as end:
                return end.value
            return self.fail("no end")

        expected = np.zeros((3, 3))
        # w (0.1 F1 + 0.2 F2) − 0.5 F1 − 0.25 F2, each F with 2 I
        expected[:2, :2] = 2.0 * (2.0 * 0.3 - 0.75) * np.eye(2)
        np.testing.assert_allclose(asked(None), expected, atol=1e-14)
        direction = np.array([1.0, -2.0, 5.0])
        np.testing.assert_allclose(asked(direction), expected @ direction, atol=1e-14)

    def test_a_start_with_its_shortfall_meets_all_ceilings(self):
        scalar, start = self.scalar(), np.array([2.0, 2.0])
        own = scalarized_task(self.task(), scalar, start, self.objectives(start))
        view = ScalarView(self.task(), scalar)
        rows = view.reply(own.start[np.newaxis], self.reply(start[np.newaxis])).rows[0]
        self.assertLessEqual(own.violation(rows), 1e-12)
        self.assertEqual((len(own.start), len(own.row_lower)), (3, 3))
        self.assertEqual(own.objectives, ())

    def test_a_method_of_one_objective_finds_the_front_between_the_ends(self):
        """Weights alone: the best of w F1 + (1 − w) F2 lies at w A + (1 − w) B."""
        for w in (0.0, 0.3, 1.0):
            scalar = Scalar(np.array([w, 1 - w]), np.full(2, np.inf), np.zeros(2), np.ones(2))
            found = ScalarSolved(scalar)
            start = np.array([1.0, 1.0])
            protocol = solving(self.task(), scalar, start, self.objectives(start), method_named("sqp"), found)
            answer = None
            try:
                while True:
                    message = protocol.send(answer)
                    if isinstance(message, HessianRequest):
                        own = -(2.0 * message.multipliers[0] - 2.0 * message.multipliers[2]) * np.eye(2)
                        answer = own if message.direction is None else own @ message.direction
                    else:
                        answer = self.reply(message.points)
            except StopIteration:
                pass
            np.testing.assert_allclose(found.x, w * self.A + (1 - w) * self.B, atol=1e-6)
            np.testing.assert_allclose(found.values, self.objectives(found.x), rtol=1e-12)
            self.assertTrue(found.is_met)


if __name__ == "__main__":
    unittest.main()
