"""What surfaces are made of, each against its formula: kernels, products of powers, terms in their order, what is said
without a point, how uncertain it is, and documents that say the same elsewhere."""

import itertools
import json
import math
import unittest
from dataclasses import replace

import numpy as np

from ilvren.approximate import all_powers, approximated
from ilvren.approximate.fitted import folds, left_out_of, rms
from ilvren.approximate.form import FormError, surface_from, surface_to
from ilvren.approximate.kernels import KERNELS, SMOOTH, squared_distances
from ilvren.approximate.monomials import monomials
from ilvren.approximate.polynomial import _ordered, fitted_polynomial, ordered_terms
from ilvren.approximate.radial import fitted_radial
from ilvren.approximate.slopes import as_slopes, from_slopes
from ilvren.approximate.spread import FieldSpread, LeverSpread
from ilvren.approximate.surface import Expansion, Part, Surface, Trend
from tests.compact import only_in_whole


class Kernels(unittest.TestCase):
    def test_values_and_slopes_are_those_of_the_formulas(self):
        s = np.concatenate([[0.0], 10.0 ** np.linspace(-8, 2, 40)])
        r = np.sqrt(s + SMOOTH**2)
        expected = {
            "squared-exponential": np.exp(-s / 2),
            "matern-5/2": (1 + math.sqrt(5) * r + 5 * r**2 / 3) * np.exp(-math.sqrt(5) * r),
            "cubic": r**3,
            "multiquadric": -np.sqrt(1 + s),
        }
        self.assertEqual(set(expected), set(KERNELS))
        for name, kernel in KERNELS.items():
            np.testing.assert_allclose(kernel.value(s.copy()), expected[name], rtol=1e-12)
            h = 1e-6 * np.maximum(s, 1e-3)
            wide = (kernel.value(s + h) - kernel.value(np.maximum(s - h, 0.0))) / (s + h - np.maximum(s - h, 0.0))
            np.testing.assert_allclose(kernel.slope(s.copy())[5:], wide[5:], rtol=2e-4, atol=1e-9, err_msg=name)

    def test_correlations_are_positive_definite_and_the_others_beside_their_trend(self):
        rng = np.random.default_rng(1)
        for n, k in ((1, 12), (2, 25), (4, 30)):
            z = rng.uniform(-1, 1, (k, n))
            s = squared_distances(z, z, rng.uniform(0.3, 2.0, n))
            for name in ("squared-exponential", "matern-5/2"):
                matrix = KERNELS[name].value(s.copy())
                np.testing.assert_allclose(np.diag(matrix), 1.0, atol=1e-9)
                self.assertGreater(float(np.linalg.eigvalsh(matrix).min()), -1e-10)
            # Conditionally definite: of one sign where the trend's moments vanish.
            for name, degree in (("cubic", 1), ("multiquadric", 0)):
                basis = monomials(z, all_powers(n, degree))
                null = np.linalg.svd(basis.T)[2][len(basis[0]) :].T
                values = np.linalg.eigvalsh(null.T @ KERNELS[name].value(s.copy()) @ null)
                self.assertTrue((values > -1e-9).all() or (values < 1e-9).all(), name)

    def test_distances_by_products_are_those_one_by_one(self):
        rng = np.random.default_rng(2)
        one, other, lengths = rng.normal(size=(7, 3)), rng.normal(size=(5, 3)), np.array([0.5, 1.0, 4.0])
        expected = (((one[:, None] - other) / lengths) ** 2).sum(axis=2)
        np.testing.assert_allclose(squared_distances(one, other, lengths), expected, rtol=1e-12, atol=1e-13)
        own = squared_distances(one, one, lengths)
        self.assertTrue((own >= 0.0).all())
        np.testing.assert_allclose(np.diag(own), 0.0, atol=1e-13)


class Polynomials(unittest.TestCase):
    def test_products_of_powers_are_all_there_once_and_right(self):
        for n, degree in itertools.product((1, 2, 4), (0, 1, 2, 3)):
            powers = all_powers(n, degree)
            self.assertEqual(len(powers), math.comb(n + degree, degree))
            self.assertEqual(len(np.unique(powers, axis=0)), len(powers))
            self.assertTrue((powers.sum(axis=1) <= degree).all())
            self.assertTrue((np.diff(powers.sum(axis=1)) >= 0).all())
            z = np.random.default_rng(3).normal(size=(6, n))
            np.testing.assert_allclose(monomials(z, powers), np.prod(z[:, None] ** powers, axis=2), rtol=1e-12)

    def test_terms_are_taken_by_what_they_tell_beyond_those_before(self):
        """(1), column by column, with projections."""
        rng = np.random.default_rng(4)
        for _ in range(20):
            columns, y = rng.normal(size=(15, 6)), rng.normal(size=15)
            columns[:, 0] = 1.0
            found = ordered_terms(columns, y, 5)
            taken, q, r = [0], columns.copy(), y.copy()
            for step in range(5):
                if step:
                    worth = [-1.0 if j in taken else (q[:, j] @ r) ** 2 / (q[:, j] @ q[:, j]) for j in range(6)]
                    taken.append(int(np.argmax(worth)))
                best = q[:, taken[-1]] / np.linalg.norm(q[:, taken[-1]])
                r = r - best * (best @ r)
                q = q - np.outer(best, best @ q)
            self.assertEqual(found.order, taken)
            for count in range(1, 6):
                fit = np.linalg.lstsq(columns[:, taken[:count]], y, rcond=None)[0]
                said = found.along(columns)[:, count - 1]
                np.testing.assert_allclose(said, columns[:, taken[:count]] @ fit, atol=1e-9)

    def test_many_fits_at_once_are_each_alone_whatever_their_sizes(self):
        rng = np.random.default_rng(5)
        fits = []
        for size in (4, 9, 20):
            columns, y = rng.normal(size=(size, 7)), rng.normal(size=size)
            columns[:, 3] = columns[:, 1] if size == 9 else columns[:, 3]  # of two that are the same, one
            fits.append((columns, y, min(size - 1, 6)))
        together = _ordered([c.T @ c for c, _, _ in fits], [c.T @ y for c, y, _ in fits], [most for *_, most in fits])
        for (columns, y, most), found in zip(fits, together, strict=True):
            alone = ordered_terms(columns, y, most)
            self.assertEqual(found.order, alone.order)
            self.assertLessEqual(len(found.order), most)
            self.assertFalse({1, 3} <= set(found.order) and len(y) == 9)
            np.testing.assert_allclose(found.along(columns), alone.along(columns), rtol=1e-12, atol=1e-12)

    def test_a_polynomial_of_its_degree_is_found_and_told_without_each_point(self):
        rng = np.random.default_rng(6)
        z = rng.uniform(-1, 1, (40, 2))
        y = 0.3 - z[:, 0] + 2.0 * z[:, 0] * z[:, 1] ** 2
        found = fitted_polynomial(z, y, 3, np.random.default_rng(0))
        np.testing.assert_allclose(found.part.at(z), y, atol=1e-9)
        np.testing.assert_allclose(found.left_out, y, atol=1e-8)
        self.assertIsNone(fitted_polynomial(z[:2], y[:2], 1, np.random.default_rng(0)))

    def test_groups_of_points_are_a_partition_of_equal_sizes(self):
        for k, count in ((7, 3), (10, 10), (4, 9), (1, 1)):
            groups = folds(k, count, np.random.default_rng(k))
            self.assertEqual(sorted(np.concatenate(groups).tolist()), list(range(k)))
            self.assertLessEqual(max(map(len, groups)) - min(map(len, groups)), 1)


class LeftOut(unittest.TestCase):
    def test_what_is_said_without_a_point_is_a_fit_without_it(self):
        rng = np.random.default_rng(7)
        z, lengths = rng.uniform(-1, 1, (14, 2)), np.array([0.7, 1.2])
        y = np.sin(2 * z[:, 0]) + z[:, 1]
        matrix = KERNELS["matern-5/2"].value(squared_distances(z, z, lengths)) + 1e-6 * np.eye(14)
        basis = monomials(z, all_powers(2, 1))
        w, b, said = left_out_of(matrix, basis, y)
        np.testing.assert_allclose(matrix @ w + basis @ b, y, atol=1e-9)
        np.testing.assert_allclose(basis.T @ w, 0.0, atol=1e-8)
        for i in range(14):
            rest = np.delete(np.arange(14), i)
            own_w, own_b, _ = left_out_of(matrix[np.ix_(rest, rest)], basis[rest], y[rest])
            self.assertAlmostEqual(said[i], float(matrix[i, rest] @ own_w + basis[i] @ own_b), places=7)

    def test_singular_matrices_are_said_to_be(self):
        with self.assertRaises(np.linalg.LinAlgError):
            left_out_of(np.zeros((4, 4)), np.ones((4, 1)), np.arange(4.0))

    def test_an_error_that_is_no_number_is_the_worst(self):
        self.assertEqual(rms(np.array([3.0, -4.0])), math.sqrt(12.5))
        for bad in ([math.nan], [1e200, 1e200], [math.inf], []):
            self.assertEqual(rms(np.array(bad)), math.inf)

    def test_radial_functions_go_through_their_points_and_keep_straight_lines(self):
        rng = np.random.default_rng(8)
        z = rng.uniform(-1, 1, (20, 2))
        line = 2.0 - z[:, 0] + 0.5 * z[:, 1]
        far = np.array([[3.0, -3.0]])
        found = fitted_radial(z, line)
        np.testing.assert_allclose(found.part.at(far), 2.0 - 3.0 - 1.5, atol=1e-4)
        self.assertIsNone(fitted_radial(z[:4], line[:4]))


class Slopes(unittest.TestCase):
    def test_rows_for_slopes_are_slopes_and_weights_go_back(self):
        """T v are slopes; w'(T v) = (T'w)'v."""
        rng = np.random.default_rng(9)
        z = rng.uniform(-1, 1, (5, 2))
        owners = np.concatenate([np.arange(5), [1, 1, 3, 3]])
        step = 1e-4
        more = np.array([z[1] + [step, 0], z[1] + [0, -step], z[3] + [-step, 0], z[3] + [0, step]])
        rows = np.vstack([z, more])
        values = np.exp(rows[:, 0]) * np.cos(rows[:, 1])
        found = as_slopes(values, rows, owners)
        np.testing.assert_array_equal(found[:5], values[:5])
        exact = [np.exp(z[1, 0]) * np.cos(z[1, 1]), -np.exp(z[1, 0]) * np.sin(z[1, 1]),
                 np.exp(z[3, 0]) * np.cos(z[3, 1]), -np.exp(z[3, 0]) * np.sin(z[3, 1])]  # fmt: skip
        np.testing.assert_allclose(found[5:], exact, rtol=1e-3)
        w = rng.normal(size=9)
        self.assertAlmostEqual(float(w @ found), float(from_slopes(w, rows, owners) @ values), places=8)
        np.testing.assert_array_equal(as_slopes(values, rows, None), values)


class Spreads(unittest.TestCase):
    def test_a_lever_is_that_of_least_squares(self):
        rng = np.random.default_rng(10)
        z, powers = rng.uniform(-1, 1, (12, 2)), all_powers(2, 1)
        f = monomials(z, powers)
        spread = LeverSpread(powers, np.linalg.qr(f)[1], 0.7)
        at = rng.uniform(-2, 2, (5, 2))
        g = monomials(at, powers)
        expected = 0.7 * np.sqrt(1.0 + np.einsum("ij,jk,ik->i", g, np.linalg.inv(f.T @ f), g))
        np.testing.assert_allclose(spread.at(at), expected, rtol=1e-10)

    def test_the_variance_left_in_a_field_vanishes_at_its_points_and_grows_away_from_them(self):
        rng = np.random.default_rng(11)
        z = rng.uniform(-1, 1, (10, 2))
        for kernel in ("squared-exponential", "matern-5/2"):
            spread = FieldSpread(kernel, np.array([0.8, 0.8]), z, all_powers(2, 0), 1e-9, 2.0)
            self.assertLess(float(spread.at(z).max()), 1e-2)
            along = spread.at(z[0] + np.linspace(0, 30, 12)[:, None] * np.array([1.0, 0.3]))
            self.assertGreater(along[-1], 1.9)
            key = KERNELS[kernel].value(squared_distances(z, z, spread.lengths)) + 1e-9 * np.eye(10)
            at = rng.uniform(-1, 1, (4, 2))
            r = KERNELS[kernel].value(squared_distances(z, at, spread.lengths))
            one = np.ones(10)
            u = one @ np.linalg.solve(key, r) - 1.0
            left = (
                1.0
                + 1e-9
                - np.einsum("ij,ij->j", r, np.linalg.solve(key, r))
                + u**2 / (one @ np.linalg.solve(key, one))
            )
            np.testing.assert_allclose(spread.at(at), 2.0 * np.sqrt(np.maximum(left, 0)), rtol=1e-4)


class Surfaces(unittest.TestCase):
    def surface(self, transform="none"):
        rng = np.random.default_rng(12)
        centres = rng.uniform(-1, 1, (6, 2))
        parts = tuple(
            Part(
                "gaussian-process" if k else "polynomial",
                Trend(all_powers(2, 2), 0.2 * rng.normal(size=6)),
                Expansion(("matern-5/2", "squared-exponential")[k], np.array([0.6, 1.4]), centres, 0.3 * rng.normal(size=6)),
                transform=transform, middle=0.3, deviation=0.5, weight=(0.25, 0.75)[k],
            )
            for k in range(2)
        )  # fmt: skip
        return Surface(np.array([5.0, -1.0]), np.array([2.0, 0.5]), parts)

    def test_slopes_of_parts_are_those_of_their_values(self):
        z = np.random.default_rng(13).uniform(-1, 1, (8, 2))
        for transform in ("none", "log"):
            for part in self.surface(transform).parts:
                for j in range(2):
                    e = 1e-6 * np.eye(2)[j]
                    wide = (part.at(z + e) - part.at(z - e)) / 2e-6
                    np.testing.assert_allclose(part.slopes_at(z)[:, j], wide, rtol=1e-6, atol=1e-8)

    def test_a_mixture_is_the_weighted_sum_and_its_spread_that_of_squares(self):
        surface = self.surface()
        x = np.array([[4.0, -1.2], [6.5, -0.8]])
        z = (x - surface.centre) / surface.half
        expected = 0.25 * surface.parts[0].at(z) + 0.75 * surface.parts[1].at(z)
        np.testing.assert_allclose(surface.at(x), expected, rtol=1e-12)
        self.assertEqual((surface.kind, surface.terms), ("combination", 24))
        np.testing.assert_allclose(surface.spread_at(x), 0.5, rtol=1e-12)
        self.assertEqual(replace(surface, parts=surface.parts[:1]).kind, "polynomial")

    def test_a_document_says_the_same_to_the_last_digit(self):
        x = np.random.default_rng(14).uniform(3, 7, (20, 2))
        for transform in ("none", "log"):
            surface = self.surface(transform)
            again = surface_from(json.loads(json.dumps(surface_to(surface))), 2)
            np.testing.assert_array_equal(again.at(x), surface.at(x))
            np.testing.assert_array_equal(again.spread_at(x), surface.spread_at(x))

    def test_documents_that_are_none_name_the_place(self):
        good = surface_to(self.surface())
        for change, word in (
            ({"centre": [1.0]}, "centre"),
            ({"half": [0.0, "x"]}, "half"),
            ({"parts": []}, "parts"),
            ({"parts": [{**good["parts"][0], "powers": [[1, 2, 3]]}]}, "powers"),
            ({"parts": [{**good["parts"][0], "kernel": "other"}]}, "kernel"),
            ({"parts": [{**good["parts"][0], "weights": [1.0]}]}, "weights"),
        ):
            with self.subTest(change=change), self.assertRaises(FormError) as caught:
                surface_from({**good, **change}, 2, "p.json")
            self.assertIn(word, str(caught.exception))

    @only_in_whole
    def test_units_of_inputs_and_outputs_change_nothing_but_the_numbers(self):
        rng = np.random.default_rng(15)
        x = rng.uniform(0, 1, (24, 2))
        y = np.exp(x[:, 0]) + x[:, 1] ** 2
        at = rng.uniform(0, 1, (10, 2))
        for kind in ("polynomial", "radial-basis", "gaussian-process"):
            plain = approximated(x, y, kind)
            other = approximated(1000.0 * x + 7.0, -8.0 * y, kind)
            np.testing.assert_allclose(
                other.surface.at(1000.0 * at + 7.0) / -8.0, plain.surface.at(at), rtol=1e-4, err_msg=kind
            )
            self.assertAlmostEqual(other.told.error, plain.told.error, delta=0.05 * plain.told.error + 1e-9)

    def test_too_few_points_and_a_constant(self):
        with self.assertRaises(ValueError):
            approximated(np.zeros((2, 1)), np.zeros(2))
        flat = approximated(np.linspace(0, 1, 12)[:, None], np.full(12, 3.5))
        np.testing.assert_array_equal(flat.surface.at(np.array([[0.3], [9.0]])), 3.5)


if __name__ == "__main__":
    unittest.main()
