"""Factored systems of Newton steps, dense, sparse and condensed, against NumPy's eigenvalues and solutions."""

import unittest

import numpy as np
from scipy.sparse import csr_array

from ilvren.algebra.kkt import KktSystem


def drawn(rng, n, m, curvature):
    """Return H (n, n), S (n,), J (m, n), D (m,), with few entries; H has eigenvalues of both signs below 0 curvature."""
    half = np.where(rng.random((n, n)) < 0.4, rng.normal(size=(n, n)), 0.0)
    hessian = 0.5 * (half + half.T) + curvature * np.eye(n)
    jacobian = np.where(rng.random((m, n)) < 0.5, rng.normal(size=(m, n)), 0.0)
    return hessian, rng.uniform(0.0, 2.0, n), jacobian, rng.uniform(1e-3, 2.0, m)


def whole(hessian, top, jacobian, bottom):
    return np.block([[hessian + np.diag(top), jacobian.T], [jacobian, -np.diag(bottom)]])


class Factored(unittest.TestCase):
    def factored(self, form, parts):
        hessian, top, jacobian, bottom = parts
        n, m = len(top), len(bottom)
        if form == "dense":
            return KktSystem(n, m, is_sparse=False).factored(hessian, top, jacobian, bottom)
        folded = np.arange(m) % 2 == 0 if form == "condensed" else None
        system = KktSystem(n, m, is_sparse=True, condensed=folded)
        return system.factored(csr_array(hessian), top, csr_array(jacobian), bottom)

    def test_solutions_and_inertia_are_those_of_the_whole_matrix(self):
        rng, wrong_signs = np.random.default_rng(31), 0
        for trial in range(60):
            n, m = int(rng.integers(1, 12)), int(rng.integers(0, 9))
            parts = drawn(rng, n, m, (-2.0, 0.0, 4.0)[trial % 3])
            matrix = whole(*parts)
            eigenvalues = np.linalg.eigvalsh(matrix)
            if np.abs(eigenvalues).min() < 1e-3:
                continue
            is_right = (int((eigenvalues > 0.0).sum()), int((eigenvalues < 0.0).sum())) == (n, m)
            wrong_signs += not is_right
            rhs = rng.normal(size=n + m)
            for form in ("dense", "sparse", "condensed"):
                with self.subTest(trial=trial, form=form):
                    factor = self.factored(form, parts)
                    if form == "dense":
                        self.assertEqual(factor.has_inertia, is_right)
                        self.assertFalse(factor.is_singular)
                    elif factor.has_inertia:  # a sparse one may be in doubt, and is never wrong
                        self.assertTrue(is_right)
                    found = factor.solve(rhs[:n], rhs[n:])
                    if form == "dense" or is_right:
                        self.assertIsNotNone(found)
                    if found is not None:
                        np.testing.assert_allclose(np.concatenate(found), np.linalg.solve(matrix, rhs), rtol=1e-6, atol=1e-7)  # fmt: skip
        self.assertGreater(wrong_signs, 10)

    def test_convex_ones_are_always_trusted(self):
        rng = np.random.default_rng(32)
        for trial in range(20):
            n, m = int(rng.integers(2, 12)), int(rng.integers(1, 9))
            hessian, top, jacobian, bottom = drawn(rng, n, m, 0.0)
            parts = hessian @ hessian.T + 0.1 * np.eye(n), top, jacobian, bottom
            for form in ("dense", "sparse", "condensed"):
                with self.subTest(trial=trial, form=form):
                    self.assertTrue(self.factored(form, parts).has_inertia)

    def test_singular_ones_and_no_numbers_are_told(self):
        nothing = np.zeros((2, 2)), np.zeros(2), np.zeros((1, 2)), np.zeros(1)
        for form in ("dense", "sparse"):
            with self.subTest(form):
                broken = self.factored(form, (np.array([[np.nan, 0.0], [0.0, 1.0]]), *nothing[1:]))
                self.assertFalse(broken.has_inertia)
                self.assertIsNone(broken.solve(np.ones(2), np.ones(1)))
        factor = self.factored("dense", nothing)
        self.assertTrue(factor.is_singular)
        self.assertFalse(factor.has_inertia)
        twice = np.array([[1.0, 2.0], [1.0, 2.0]])  # a row that stands twice
        self.assertFalse(self.factored("dense", (np.eye(2), np.zeros(2), twice, np.zeros(2))).has_inertia)


if __name__ == "__main__":
    unittest.main()
