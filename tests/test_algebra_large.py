"""KKT factorizations, sparse multipliers, trust regions, limited memory, robust losses: against plain dense answers."""

import unittest

import numpy as np
from scipy.sparse import csr_array

from ilvren.algebra import (
    KktSystem,
    LimitedMemory,
    damped_bfgs,
    loss_values,
    signed_least_squares,
    solve_quadratic,
    sparse_signed_least_squares,
    trust_region_step,
)


def kkt(rng, n, m):
    h = rng.normal(size=(n, n))
    h = h + h.T
    top, bottom = rng.random(n), np.where(rng.random(m) < 0.5, 0.0, rng.random(m))
    jacobian = rng.normal(size=(m, n))
    matrix = np.block([[h + np.diag(top), jacobian.T], [jacobian, -np.diag(bottom)]])
    return h, top, jacobian, bottom, matrix


class Kkt(unittest.TestCase):
    def test_dense_and_sparse_agree_with_eigenvalues_and_solve(self):
        rng = np.random.default_rng(3)
        for trial in range(150):
            n, m = int(rng.integers(1, 14)), int(rng.integers(0, 6))
            h, top, jacobian, bottom, matrix = kkt(rng, n, m)
            values = np.linalg.eigvalsh(matrix)
            if np.abs(values).min() < 1e-8:
                continue
            is_descent = int((values > 0.0).sum()) == n
            rhs = rng.normal(size=n + m)
            exact = np.linalg.solve(matrix, rhs)
            dense = KktSystem(n, m, is_sparse=False).factored(h, top, jacobian, bottom)
            sparse = KktSystem(n, m, is_sparse=True).factored(csr_array(h), top, csr_array(jacobian), bottom)
            with self.subTest(trial=trial):
                self.assertEqual(dense.has_inertia, is_descent)
                if sparse.has_inertia:  # cautious: it may refuse, it never confirms a wrong inertia
                    self.assertTrue(is_descent)
                for factor in (dense, sparse):
                    found = factor.solve(rhs[:n], rhs[n:])
                    if found is not None:
                        np.testing.assert_allclose(np.concatenate(found), exact, rtol=1e-5, atol=1e-7)
                self.assertIsNotNone(dense.solve(rhs[:n], rhs[n:]))

    def test_folded_rows_give_the_same_solution(self):
        rng = np.random.default_rng(4)
        for _ in range(30):
            n, m = 12, 9
            h, top, jacobian, _, _ = kkt(rng, n, m)
            h = h @ h
            bottom = 10.0 ** rng.uniform(-6, 3, m)
            folded = rng.random(m) < 0.6
            plain = KktSystem(n, m, is_sparse=True).factored(csr_array(h), top, csr_array(jacobian), bottom)
            small = KktSystem(n, m, is_sparse=True, condensed=folded).factored(
                csr_array(h), top, csr_array(jacobian), bottom
            )
            self.assertEqual(plain.has_inertia, small.has_inertia)
            one, other = (f.solve(np.ones(n), np.ones(m)) for f in (plain, small))
            np.testing.assert_allclose(np.concatenate(one), np.concatenate(other), rtol=1e-6, atol=1e-9)

    def test_nonsense_is_no_factorization(self):
        for is_sparse in (False, True):
            wrap = csr_array if is_sparse else np.array
            bad = KktSystem(2, 1, is_sparse=is_sparse).factored(
                wrap(np.full((2, 2), np.nan)), np.ones(2), wrap(np.ones((1, 2))), np.zeros(1)
            )
            self.assertFalse(bad.has_inertia)
            self.assertIsNone(bad.solve(np.ones(2), np.ones(1)))


class LongChains(unittest.TestCase):
    def test_small_equations_beside_large_ones_are_solved_as_well(self):
        """A chain of 4,000 integrations with no curvature but that of its control: what stands on the diagonal for the
        factorization must not be left in the solution."""
        n = 4000
        h, places = 1.0 / n, np.arange(n)
        rows = np.concatenate([places, places[1:], places])
        columns = np.concatenate([places, places[:-1], n + places])
        jacobian = csr_array(
            (np.concatenate([np.ones(n), -np.ones(n - 1), np.full(n, -h)]), (rows, columns)), shape=(n, 2 * n)
        )
        curvature = csr_array((np.full(n, 2 * h), (n + places, n + places)), shape=(2 * n, 2 * n))
        factor = KktSystem(2 * n, n, is_sparse=True).factored(curvature, np.zeros(2 * n), jacobian, np.zeros(n))
        self.assertTrue(factor.has_inertia)
        rng = np.random.default_rng(2)
        top, bottom = rng.normal(size=2 * n), 1e-9 * rng.normal(size=n)
        top[:n] = 0.0
        found = factor.solve(top, bottom)
        self.assertIsNotNone(found)
        np.testing.assert_allclose(jacobian @ found[0], bottom, rtol=1e-3, atol=1e-14 * np.abs(found[0]).max())


class Multipliers(unittest.TestCase):
    def test_sparse_is_as_good_as_dense_and_right_signed(self):
        rng = np.random.default_rng(1)
        for _ in range(60):
            n, k = int(rng.integers(2, 15)), int(rng.integers(1, 12))
            matrix, target = rng.normal(size=(n, k)), rng.normal(size=n)
            if k > 3:
                matrix[:, 1] = 2.0 * matrix[:, 0]  # dependent
            signs = rng.choice([-1.0, 0.0, 1.0], k)
            dense = signed_least_squares(matrix, target, signs)
            sparse = sparse_signed_least_squares(csr_array(matrix), target, signs)
            self.assertTrue((sparse * signs >= 0.0).all())
            left = [float(np.linalg.norm(target - matrix @ u)) for u in (dense, sparse)]
            self.assertLessEqual(left[1] - left[0], 1e-7)

    def test_a_guess_changes_no_answer(self):
        rng = np.random.default_rng(2)
        for _ in range(100):
            matrix, target = rng.normal(size=(6, 5)), rng.normal(size=6)
            signs = rng.choice([-1.0, 0.0, 1.0], 5)
            plain = signed_least_squares(matrix, target, signs)
            for guess in (rng.random(5) < 0.5, plain != 0.0):
                np.testing.assert_allclose(signed_least_squares(matrix, target, signs, guess=guess), plain, atol=1e-9)


class QuadraticPrograms(unittest.TestCase):
    def test_any_guess_leads_to_the_same_solution(self):
        rng = np.random.default_rng(5)
        for _ in range(60):
            n, m = 6, 8
            root = rng.normal(size=(n, n))
            program = {
                "rows": rng.normal(size=(m, n)),
                "row_limits": (-rng.random(m), rng.random(m)),
                "bounds": (np.full(n, -1.0), np.full(n, 0.4)),
            }
            hessian, gradient = root @ root.T + 0.1 * np.eye(n), 3.0 * rng.normal(size=n)
            cold = solve_quadratic(hessian, gradient, **program)
            other = solve_quadratic(hessian, gradient + rng.normal(size=n), **program)
            for guess in (cold, other):
                warm = solve_quadratic(hessian, gradient, guess=guess, **program)
                self.assertEqual(warm.outcome, "solved")
                np.testing.assert_allclose(warm.step, cold.step, atol=1e-8)
            stationary = hessian @ cold.step + gradient - program["rows"].T @ cold.row_multipliers
            np.testing.assert_allclose(stationary, cold.bound_multipliers, atol=1e-8)


class TrustRegion(unittest.TestCase):
    def test_no_point_of_the_ball_is_better(self):
        rng = np.random.default_rng(6)
        for trial in range(80):
            n = int(rng.integers(1, 7))
            h = rng.normal(size=(n, n))
            h, g, radius = h + h.T, rng.normal(size=n), float(10.0 ** rng.uniform(-2, 1))
            step, _, _ = trust_region_step(h, g, radius)
            self.assertLessEqual(float(np.linalg.norm(step)), radius * 1.002)
            value = float(g @ step + 0.5 * step @ h @ step)
            tries = rng.normal(size=(300, n))
            tries *= (radius * rng.random(300) ** (1 / n) / np.linalg.norm(tries, axis=1))[:, None]
            best = (tries @ g + 0.5 * np.einsum("ij,jk,ik->i", tries, h, tries)).min()
            with self.subTest(trial=trial):
                self.assertLessEqual(value, best + 5e-3 * abs(best))

    def test_the_hard_case_follows_the_lowest_curvature_to_the_radius(self):
        step, is_at_radius, is_negative = trust_region_step(np.diag([-2.0, 1.0]), np.array([0.0, 1.0]), 3.0)
        self.assertTrue(is_at_radius and is_negative)
        self.assertAlmostEqual(float(np.linalg.norm(step)), 3.0, places=9)
        self.assertAlmostEqual(float(step[1]), -1.0 / 3.0, places=9)


class Updates(unittest.TestCase):
    def test_limited_memory_is_bfgs_while_nothing_is_forgotten(self):
        """From the same σI the compact form and the updates one by one are the same matrix."""
        rng = np.random.default_rng(7)
        n = 6
        pairs = []
        root = rng.normal(size=(n, n))
        curvature = root @ root.T + np.eye(n)
        for _ in range(4):
            step = rng.normal(size=n)
            pairs.append((step, curvature @ step))
        compact = LimitedMemory(n, tuple(pairs), scale=2.0)
        plain = 2.0 * np.eye(n)
        for step, change in pairs:
            plain = damped_bfgs(plain, step, change)
        v = rng.normal(size=n)
        np.testing.assert_allclose(compact.times(v), plain @ v, rtol=1e-9)
        jacobian = rng.normal(size=(2, n))
        factor = KktSystem(n, 2, is_sparse=False).factored(np.zeros((n, n)), np.full(n, 2.0), jacobian, np.zeros(2))
        x, y = compact.solve(factor, v, np.ones(2))
        np.testing.assert_allclose(plain @ x + jacobian.T @ y, v, atol=1e-8)
        np.testing.assert_allclose(jacobian @ x, 1.0, atol=1e-8)

    def test_pairs_without_curvature_change_nothing(self):
        matrix = LimitedMemory(3)
        self.assertIs(matrix.updated(np.zeros(3), np.ones(3)), matrix)
        self.assertIs(matrix.updated(np.full(3, np.nan), np.ones(3)), matrix)


class Losses(unittest.TestCase):
    def test_slopes_and_bends_are_derivatives_of_the_values(self):
        r = np.linspace(-6.0, 6.0, 241)
        for loss in (0, 1, 2):
            losses = np.full(len(r), loss)
            h = 1e-6
            ahead, behind = loss_values(r + h, losses), loss_values(r - h, losses)
            smooth = np.abs(np.abs(r) - 1.345) > 0.01
            _, slope, bend = loss_values(r, losses)
            np.testing.assert_allclose(((ahead[0] - behind[0]) / (2 * h))[smooth], slope[smooth], atol=1e-7)
            np.testing.assert_allclose(((ahead[1] - behind[1]) / (2 * h))[smooth], bend[smooth], atol=1e-7)


if __name__ == "__main__":
    unittest.main()
