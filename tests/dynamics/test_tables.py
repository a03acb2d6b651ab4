"""Runge–Kutta tables against the conditions that make them of their order, and what is built on them: written-out
steps, meshes, and states some time ago."""

import itertools
import math
import unittest

import numpy as np

from ilvren.dynamics.course import Course
from ilvren.dynamics.lookback import Behind
from ilvren.dynamics.mesh import Mesh
from ilvren.dynamics.stepping import explicit_step
from ilvren.dynamics.tableau import EXPLICIT, RADAU
from ilvren.problem import highest_near

BOTH = (EXPLICIT, RADAU)


def highest_through(taus, values):
    return highest_near(taus, values, int(np.nanargmax(values)))


def trees(order):
    """Return all rooted trees of so many nodes, each as the sorted tuple of the trees on its root."""
    if order == 1:
        return [()]
    found = set()
    for parts in partitions(order - 1):
        for chosen in itertools.product(*(trees(part) for part in parts)):
            found.add(tuple(sorted(chosen)))
    return sorted(found)


def partitions(n, most=None):
    most = n if most is None else most
    if n == 0:
        return [()]
    return [(first, *rest) for first in range(min(n, most), 0, -1) for rest in partitions(n - first, first)]


def size(tree):
    return 1 + sum(map(size, tree))


def density(tree):
    return size(tree) * math.prod(map(density, tree))


def stage_weights(a, tree):
    """Return Φ_i (s,) of a tree: what each stage contributes."""
    found = np.ones(len(a))
    for branch in tree:
        found = found * (a @ stage_weights(a, branch))
    return found


class Orders(unittest.TestCase):
    def test_there_are_as_many_trees_as_there_should_be(self):
        self.assertEqual([len(trees(order)) for order in (1, 2, 3, 4, 5)], [1, 1, 2, 4, 9])

    def test_all_conditions_up_to_the_order_hold_and_some_of_the_next_do_not(self):
        """Σ b_i Φ_i(tree) = 1 / γ(tree) for every tree (J. Butcher, 1963)."""
        for table in BOTH:
            for order in range(1, table.order + 1):
                for tree in trees(order):
                    self.assertAlmostEqual(table.b @ stage_weights(table.a, tree), 1.0 / density(tree), places=13)
            misses = [table.b @ stage_weights(table.a, tree) - 1.0 / density(tree) for tree in trees(table.order + 1)]
            self.assertGreater(max(map(abs, misses)), 1e-5, table.name)

    def test_each_stage_is_consistent_and_the_last_one_is_the_end(self):
        for table in BOTH:
            np.testing.assert_allclose(table.a.sum(axis=1), table.c, atol=1e-14)
            np.testing.assert_allclose(table.a[-1], table.b, atol=1e-15)
            self.assertEqual(table.c[-1], 1.0)
        self.assertTrue((np.triu(EXPLICIT.a) == 0.0).all())
        self.assertEqual((EXPLICIT.is_explicit, RADAU.is_explicit), (True, False))

    def test_the_error_weights_see_what_a_method_of_the_order_below_misses(self):
        """They are the difference of two methods: nothing up to order 4, something at order 5."""
        for order in range(1, 5):
            for tree in trees(order):
                self.assertAlmostEqual(EXPLICIT.error @ stage_weights(EXPLICIT.a, tree), 0.0, places=13)
        seen = [EXPLICIT.error @ stage_weights(EXPLICIT.a, tree) for tree in trees(5)]
        self.assertGreater(max(map(abs, seen)), 1e-4)

    def test_between_the_ends_the_polynomial_is_of_its_order(self):
        """Σ b_i(θ) Φ_i = θ^order / γ: up to order 4 of the explicit one, 3 of Radau's three points."""
        for table, order in ((EXPLICIT, 4), (RADAU, 3)):
            for theta, p in itertools.product((0.0, 0.1, 0.5, 0.9, 1.0), range(1, order + 1)):
                weights = table.weights(theta)
                for tree in trees(p):
                    found = weights @ stage_weights(table.a, tree)
                    self.assertAlmostEqual(found, theta**p / density(tree), places=11)
            np.testing.assert_allclose(table.weights(1.0), table.b, atol=1e-13)
            np.testing.assert_array_equal(table.weights(0.0), 0.0)

    def test_weights_at_many_moments_alone_and_differentiated_are_the_same_polynomial(self):
        for table in BOTH:
            shares = np.linspace(-0.2, 1.3, 31)
            many = table.weights_many(shares)
            for share, own in zip(shares.tolist(), many, strict=True):
                np.testing.assert_allclose(table.weights(share), own, atol=1e-13)
                np.testing.assert_allclose(table.weights_alone(share), own, atol=1e-13)
                for derivative in (1, 2):
                    h = 1e-5
                    ends = [table.weights(share + s * h, derivative - 1) for s in (1.0, -1.0)]
                    np.testing.assert_allclose(
                        table.weights(share, derivative), (ends[0] - ends[1]) / (2 * h), atol=2e-8
                    )

    def test_radau_damps_whatever_is_stiff_and_is_exact_at_its_points(self):
        """R(z) = 1 + z b'(I − zA)⁻¹ 1: at most 1 on the left half-plane, 0 at infinity."""

        def growth(z):
            return 1.0 + z * RADAU.b @ np.linalg.solve(np.eye(3) - z * RADAU.a, np.ones(3))

        for z in (-0.1, -1.0, -50.0, -1e6, 3j, -2.0 + 40.0j, -1e3 - 1e3j):
            self.assertLessEqual(abs(growth(z)), 1.0 + 1e-12)
        self.assertLess(abs(growth(-1e9)), 1e-8)
        self.assertAlmostEqual(abs(growth(0.01)), math.exp(0.01), places=12)
        slopes = np.array([RADAU.weights(c, 1) for c in RADAU.c])
        np.testing.assert_allclose(slopes, np.eye(3), atol=1e-12)


class WrittenOut(unittest.TestCase):
    def plain(self, f, t, h, x, moment, forcing, states, forced, thetas):
        """The same step by matrices."""
        width = len(moment)
        k = np.zeros((EXPLICIT.stages, len(states)))
        for i in range(EXPLICIT.stages):
            s = t + EXPLICIT.c[i] * h
            own = list(moment)
            own[0] = s
            y = np.array(x) + h * (EXPLICIT.a[i, :i] @ k[:i])
            for place, value in zip(states, y, strict=True):
                own[place] = value
            for column, place in enumerate(forced):
                own[place] = forcing[i][column]
            for place, pieces in thetas.items():
                own[place] = s * pieces - moment[place]
            self.assertEqual(len(own), width)
            k[i] = f(*own)
        return k, np.array(x) + h * EXPLICIT.b @ k

    def test_it_is_the_step_that_the_table_says(self):
        rng = np.random.default_rng(1)
        for n, forced_count, theta_count in itertools.product((1, 2, 3), (0, 1, 2), (0, 1)):
            width = 1 + n + forced_count + theta_count + 2
            places = rng.permutation(np.arange(1, width)).tolist()
            states, forced = sorted(places[:n]), sorted(places[n : n + forced_count])
            thetas = dict.fromkeys(places[n + forced_count : n + forced_count + theta_count], 3)
            weights = rng.normal(size=(n, width))

            def f(*moment, weights=weights):
                return tuple(float(v) for v in np.sin(weights @ np.array(moment)))

            step = explicit_step(EXPLICIT, width, states, forced, thetas)
            moment = rng.normal(size=width).tolist()
            x, forcing = rng.normal(size=n).tolist(), rng.normal(size=(EXPLICIT.stages, forced_count)).tolist()
            rates, last = step(f, 0.3, 0.05, x, moment, forcing)
            k, expected = self.plain(f, 0.3, 0.05, x, moment, forcing, states, forced, thetas)
            np.testing.assert_allclose(np.array(rates).reshape(k.shape), k, rtol=1e-13, atol=1e-14)
            np.testing.assert_allclose(last, expected, rtol=1e-13, atol=1e-14)

    def test_halving_the_step_leaves_a_thirty_second_of_the_error(self):
        step = explicit_step(EXPLICIT, 2, [1], [], {})

        def after(count):
            x, t = [1.0], 0.0
            for _ in range(count):
                _, x = step(lambda t, x: (-x * math.cos(3.0 * t),), t, 1.0 / count, x, [0.0, 0.0], [])
                t += 1.0 / count
            return abs(x[0] - math.exp(-math.sin(3.0) / 3.0))

        ratios = [after(count) / after(2 * count) for count in (8, 16, 32)]
        for ratio in ratios:
            self.assertAlmostEqual(math.log2(ratio), 5.0, delta=0.6)


class Meshes(unittest.TestCase):
    def mesh(self, **more):
        given = {"taus": np.array([0.0, 0.1, 0.4, 1.0]), "grid": np.array([0, 2, 3]), "samples": {1: (0,), 2: (1, 0)},
                 "breaks": frozenset({2}), "sizes": np.array([2.0, 50.0]), "declared": np.array([False, True])}  # fmt: skip
        return Mesh(**{**given, **more})

    def test_halves_keep_everything_at_its_moment(self):
        whole = self.mesh()
        half = whole.halved()
        np.testing.assert_array_equal(half.taus[::2], whole.taus)
        np.testing.assert_allclose(np.diff(half.taus), np.repeat(np.diff(whole.taus) / 2.0, 2))
        np.testing.assert_array_equal(half.taus[half.grid], whole.taus[whole.grid])
        self.assertEqual({half.taus[k]: v for k, v in half.samples.items()},
                         {whole.taus[k]: v for k, v in whole.samples.items()})  # fmt: skip
        self.assertEqual([half.taus[k] for k in half.breaks], [whole.taus[k] for k in whole.breaks])
        self.assertAlmostEqual(half.longest, whole.longest / 2.0)

    def test_declared_sizes_stand_and_others_follow_the_design(self):
        mesh = self.mesh()
        np.testing.assert_array_equal(mesh.sizes_of(np.array([7.0, 7.0])), [7.0, 50.0])
        np.testing.assert_array_equal(mesh.sizes_of(np.array([0.0, 0.0])), [2.0, 50.0])
        np.testing.assert_array_equal(mesh.sizes_of(np.array([1e-9, 3.0]), 1e-3), [2e-3, 50.0])
        np.testing.assert_array_equal(mesh.sizes_of(np.array([[1.0, 1.0], [3.0, 3.0]])), [[1.0, 50.0], [3.0, 50.0]])


class Peaks(unittest.TestCase):
    def test_of_a_parabola_the_vertex_is_exact_wherever_the_moments_lie(self):
        rng = np.random.default_rng(7)
        for _ in range(50):
            taus = np.unique(np.concatenate([[0.0, 1.0], rng.random(8)]))
            top, bend, height = rng.uniform(0.25, 0.75), rng.uniform(0.5, 9.0), rng.normal()
            values = height - bend * (taus - top) ** 2
            at, found = highest_through(taus, values)
            k = int(np.argmax(values))
            if 0 < k < len(taus) - 1:
                self.assertAlmostEqual(at, top, places=9)
                self.assertAlmostEqual(found, height, places=9)
            else:
                self.assertEqual((at, found), (taus[k], values[k]))

    def test_halving_the_distance_leaves_an_eighth_of_the_error(self):
        errors = []
        for count in (41, 81, 161, 321):
            taus = np.linspace(0.0, 1.0, count)
            errors.append(abs(highest_through(taus, np.exp(-taus) * np.sin(5.0 * taus + 0.3))[1] - self.exact()))
        self.assertLess(errors[-1], errors[0] / 300.0)

    def exact(self):
        t = (math.atan(5.0) - 0.3) / 5.0
        return math.exp(-t) * math.sin(5.0 * t + 0.3)

    def test_ends_jumps_and_what_is_no_number_are_taken_as_they_stand(self):
        taus = np.array([0.0, 0.5, 0.5, 1.0])
        self.assertEqual(highest_through(taus, np.array([0.0, 1.0, 3.0, 2.0])), (0.5, 3.0))
        self.assertEqual(highest_through(taus, np.array([9.0, 1.0, 3.0, 2.0])), (0.0, 9.0))
        self.assertEqual(highest_through(np.array([0.0, 0.4, 1.0]), np.array([math.nan, 5.0, 1.0])), (0.4, 5.0))
        self.assertEqual(highest_through(np.array([0.0, 0.4, 1.0]), np.array([2.0, 2.0, 2.0]))[1], 2.0)


class SomeTimeAgo(unittest.TestCase):
    def course(self, ends, function, slope):
        """Return a course along a known function, with its true rates at the stages."""
        course = Course(tableau=EXPLICIT)
        for low, high in itertools.pairwise(ends):
            h = high - low
            course.tau0.append(low)
            course.h.append(h)
            course.first.append(np.array(function(low)))
            course.last.append(np.array(function(high)))
            course.k.append(np.array([slope(low + c * h) for c in EXPLICIT.c]))
        return course

    def test_states_behind_are_those_of_the_polynomials(self):
        # Of a polynomial of degree 3 the rates at the stages give the course exactly.
        def f(t):
            return [1.0 + t - 2.0 * t**2 + 0.5 * t**3, -3.0 * t**2]

        def slope(t):
            return [1.0 - 4.0 * t + 1.5 * t**2, -6.0 * t]

        course = self.course([0.0, 0.2, 0.5, 0.9], f, slope)
        behind, beginning = Behind(course), np.array([8.0, 9.0])
        sigmas = np.array([-0.3, 0.0, 0.1, 0.2, 0.35, 0.7, 0.9])
        found = behind.states(sigmas, sigmas, beginning)
        np.testing.assert_array_equal(found[:2], [beginning, beginning])
        np.testing.assert_allclose(found[2:], [f(s) for s in sigmas[2:]], atol=1e-13)
        for place, sigma in ((0, 0.1), (1, 0.35), (2, 0.7)):
            np.testing.assert_allclose(behind.alone(place, sigma, [1, 0]), f(sigma)[::-1], atol=1e-13)

    def test_what_the_course_gains_later_is_seen_and_jumps_have_two_sides(self):
        course = self.course([0.0, 0.5], lambda t: [t], lambda t: [1.0])
        behind = Behind(course)
        self.assertAlmostEqual(behind.states(np.array([0.25]), np.array([0.25]), np.zeros(1))[0, 0], 0.25)
        after = self.course([0.5, 1.0], lambda t: [10.0 + t], lambda t: [1.0])
        for name in ("tau0", "h", "first", "last", "k"):
            getattr(course, name).extend(getattr(after, name))
        sides = behind.states(np.array([0.5, 0.5]), np.array([0.5 - 1e-9, 0.5 + 1e-9]), np.zeros(1))
        np.testing.assert_allclose(sides[:, 0], [0.5, 10.5])
        for _ in range(200):  # arrays grow with it
            t = course.tau0[-1] + course.h[-1]
            more = self.course([t, t + 0.5], lambda t: [t], lambda t: [1.0])
            for name in ("tau0", "h", "first", "last", "k"):
                getattr(course, name).extend(getattr(more, name))
            end = t + 0.25
            self.assertAlmostEqual(behind.states(np.array([end]), np.array([end]), np.zeros(1))[0, 0], end)


if __name__ == "__main__":
    unittest.main()
