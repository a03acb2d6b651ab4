"""Quadratic programs, signed least squares and updates: the conditions that define their answers."""

import unittest

import numpy as np

from ilvren.algebra import (
    central,
    central_along,
    damped_bfgs,
    signed_least_squares,
    solve_quadratic,
    solve_relaxed,
)

NOTHING = np.zeros((0, 3))
EMPTY = (np.zeros(0), np.zeros(0))
FREE = (np.full(3, -np.inf), np.full(3, np.inf))


def random_program(rng, n, m):
    root = rng.normal(size=(n, n))
    low = np.where(rng.random(m) < 0.5, rng.normal(size=m) - 1.0, -np.inf)
    high = np.where(rng.random(m) < 0.5, rng.normal(size=m) + 1.5, np.inf)
    equal = rng.random(m) < 0.15
    inside = rng.normal(size=n) * 0.3
    rows = rng.normal(size=(m, n))
    low, high = np.minimum(low, rows @ inside), np.maximum(high, rows @ inside)
    low, high = np.where(equal, rows @ inside, low), np.where(equal, rows @ inside, high)
    bounds = (inside - rng.uniform(0, 1, n), inside + rng.uniform(0, 1, n))
    return root @ root.T + 0.1 * np.eye(n), rng.normal(size=n) * 3, rows, (low, high), bounds


class QuadraticPrograms(unittest.TestCase):
    def test_random_programs_meet_the_optimality_conditions(self):
        rng = np.random.default_rng(5)
        for trial in range(150):
            n, m = int(rng.integers(1, 9)), int(rng.integers(0, 14))
            b, g, rows, (low, high), bounds = random_program(rng, n, m)
            found = solve_quadratic(b, g, rows=rows, row_limits=(low, high), bounds=bounds)
            with self.subTest(trial=trial, n=n, m=m):
                self.assertEqual(found.outcome, "solved")
                d, u, w = found.step, found.row_multipliers, found.bound_multipliers
                np.testing.assert_allclose(b @ d + g, rows.T @ u + w, atol=1e-8)
                values = np.concatenate([rows @ d, d])
                low_all, high_all = np.concatenate([low, bounds[0]]), np.concatenate([high, bounds[1]])
                self.assertTrue((values >= low_all - 1e-8).all() and (values <= high_all + 1e-8).all())
                for value, lo, hi, multiplier in zip(values, low_all, high_all, np.concatenate([u, w]), strict=True):
                    if multiplier > 1e-9:
                        self.assertLess(abs(value - lo), 1e-7)
                    if multiplier < -1e-9:
                        self.assertLess(abs(value - hi), 1e-7)

    def test_conflicts_are_proved_and_relaxed(self):
        rows = np.array([[1.0, 1.0, 0.0], [1.0, 1.0, 0.0]])
        limits = (np.array([2.0, -np.inf]), np.array([np.inf, 1.0]))
        found = solve_quadratic(np.eye(3), np.zeros(3), rows=rows, row_limits=limits, bounds=FREE)
        self.assertEqual(found.outcome, "conflict")
        relaxed = solve_relaxed(np.eye(3), np.zeros(3), rows=rows, row_limits=limits, bounds=FREE, weight=1e8)
        np.testing.assert_allclose(rows @ relaxed.step, [1.5, 1.5], atol=1e-6)
        np.testing.assert_allclose(relaxed.misses, [0.5, 0.5], atol=1e-6)

    def test_dependent_limits_and_equalities(self):
        rows = np.array([[1.0, 0, 0], [2.0, 0, 0], [1.0, 0, 0], [0, 1.0, 0], [0, 2.0, 0]])
        limits = (np.array([1.0, 2.0, 1.0, 3.0, 6.0]), np.array([np.inf, np.inf, np.inf, 3.0, 6.0]))
        found = solve_quadratic(np.eye(3), np.zeros(3), rows=rows, row_limits=limits, bounds=FREE)
        self.assertEqual(found.outcome, "solved")
        np.testing.assert_allclose(found.step, [1.0, 3.0, 0.0], atol=1e-12)

    def test_nonsense_is_refused_and_indefinite_matrices_are_shifted(self):
        for hessian, gradient in ((np.full((3, 3), np.nan), np.ones(3)), (np.eye(3), np.array([1.0, np.inf, 0.0]))):
            found = solve_quadratic(hessian, gradient, rows=NOTHING, row_limits=EMPTY, bounds=FREE)
            self.assertEqual(found.outcome, "failed")
        found = solve_quadratic(
            np.zeros((3, 3)), np.ones(3), rows=NOTHING, row_limits=EMPTY, bounds=(-np.ones(3), np.ones(3))
        )
        np.testing.assert_allclose(found.step, -np.ones(3))


class SignedLeastSquares(unittest.TestCase):
    def test_conditions_hold_on_random_systems(self):
        rng = np.random.default_rng(11)
        for trial in range(150):
            n, k = int(rng.integers(1, 8)), int(rng.integers(1, 9))
            a, b = rng.normal(size=(n, k)), rng.normal(size=n)
            if trial % 3 == 0 and k > 1:
                a[:, -1] = 2.0 * a[:, 0]  # dependent columns
            signs = rng.integers(-1, 2, k).astype(float)
            u = signed_least_squares(a, b, signs)
            slope = a.T @ (b - a @ u)
            with self.subTest(trial=trial):
                self.assertTrue((u * signs >= 0.0).all())
                moving = (signs == 0.0) | (np.abs(u) > 1e-10)
                self.assertLess(float(np.abs(slope[moving]).max(initial=0.0)), 1e-8)
                self.assertTrue((slope * signs <= 1e-8).all())  # no right-signed change lowers the residual

    def test_degenerate_shapes(self):
        self.assertEqual(signed_least_squares(np.zeros((3, 0)), np.ones(3), np.zeros(0)).tolist(), [])
        self.assertEqual(signed_least_squares(np.zeros((2, 1)), np.ones(2), np.ones(1)).tolist(), [0.0])


class Updates(unittest.TestCase):
    def test_secant_equation_symmetry_and_damping(self):
        rng = np.random.default_rng(2)
        for _ in range(50):
            root = rng.normal(size=(4, 4))
            b, s, y = root @ root.T + np.eye(4), rng.normal(size=4), rng.normal(size=4)
            new = damped_bfgs(b, s, y)
            np.testing.assert_allclose(new, new.T)
            self.assertGreater(float(np.linalg.eigvalsh(new)[0]), 0.0)
            if s @ y >= 0.2 * s @ b @ s:
                np.testing.assert_allclose(new @ s, y, atol=1e-9)
            else:
                self.assertAlmostEqual(float(s @ new @ s), 0.2 * float(s @ b @ s), places=8)

    def test_nonsense_leaves_the_matrix(self):
        b = np.eye(2)
        for s, y in (([0.0, 0.0], [1.0, 1.0]), ([1.0, 0.0], [np.nan, 1.0]), ([np.inf, 0.0], [1.0, 1.0])):
            with np.errstate(all="ignore"):
                self.assertIs(damped_bfgs(b, np.array(s), np.array(y)), b)


class Differences(unittest.TestCase):
    def test_central_ones_are_exact_of_quadratics_and_of_the_second_order(self):
        rng = np.random.default_rng(5)
        bends = rng.normal(size=(6, 6))
        for scale in (1e-6, 1.0, 1e8):
            x, direction = scale * rng.normal(size=6), np.where(np.arange(6) % 2, rng.normal(size=6), 0.0)
            found = central_along(lambda there: bends @ there**2, x, direction)
            np.testing.assert_allclose(found, 2.0 * bends @ (x * direction), rtol=1e-8, atol=1e-8 * scale)
        errors = [abs(central(lambda h: np.exp(1.0 + h), step) - np.e) for step in (1e-2, 5e-3)]
        self.assertAlmostEqual(errors[0] / errors[1], 4.0, delta=0.01)

    def test_a_direction_of_zeros_moves_nothing_and_one_of_few_is_measured_by_what_it_moves(self):
        np.testing.assert_array_equal(central_along(lambda x: x[:2], np.ones(3), np.zeros(3)), np.zeros(2))
        seen = []
        central_along(lambda x: seen.append(x) or x, np.array([1e9, 2.0]), np.array([0.0, 1.0]))
        self.assertLess(abs(seen[0][1] - 2.0), 1e-4)


class ManyColumns(unittest.TestCase):
    """Signed least squares that begin with many columns at once: the conditions of the least squares hold."""

    def test_conditions_hold_for_any_signs_and_dependent_columns(self):
        rng = np.random.default_rng(6)
        for trial in range(60):
            n, k = (int(x) for x in rng.integers(20, 90, 2))
            matrix = rng.normal(size=(n, k)) if trial % 3 else np.abs(rng.normal(size=(n, k)))
            if trial % 4 == 0:
                matrix[:, k // 2 :] = matrix[:, : k - k // 2]
            signs = rng.choice([-1.0, 0.0, 1.0], k)
            target = matrix @ np.where(signs, signs * np.maximum(rng.normal(size=k), 0.0), rng.normal(size=k))
            target += 0.3 * rng.normal(size=n)
            u = signed_least_squares(matrix, target, signs)
            self.assertTrue((u * signs >= 0.0).all())
            slope = matrix.T @ (target - matrix @ u)
            size = np.linalg.norm(matrix, axis=0) * np.linalg.norm(target) * 1e-6
            moving = (u != 0.0) | (signs == 0.0)
            self.assertTrue((np.abs(slope) <= size)[moving].all(), trial)
            self.assertTrue((slope * signs <= size)[~moving].all(), trial)

    def test_as_many_rows_as_columns_are_solved_at_once(self):
        k = 300
        matrix = np.eye(k) + 0.01 * np.abs(np.random.default_rng(7).normal(size=(k, k)))
        truth = np.where(np.arange(k) % 3, 1.0, 0.0)
        u = signed_least_squares(matrix, matrix @ truth, np.ones(k))
        np.testing.assert_allclose(u, truth, atol=1e-8)
        guessed = signed_least_squares(matrix, matrix @ truth, np.ones(k), guess=truth > 0.0)
        np.testing.assert_allclose(guessed, truth, atol=1e-8)
        nothing = signed_least_squares(matrix, -matrix @ np.ones(k), np.ones(k))
        np.testing.assert_array_equal(nothing, np.zeros(k))


if __name__ == "__main__":
    unittest.main()
