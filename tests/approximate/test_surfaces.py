"""Surfaces: their mathematics, what they say of themselves, and nonsense."""

import unittest

import numpy as np

from ilvren.approximate import (
    KERNELS,
    Field,
    approximated,
    conditioned,
    conditioned_effects,
    fitted_failing,
    searched_effects,
    surface_from,
    surface_to,
)
from ilvren.approximate.choosing import _with_slopes
from ilvren.approximate.effects import likelihood as likelihood_by_effects
from ilvren.approximate.fitted import left_out_of
from ilvren.approximate.gaussian import Pairs, likelihood
from ilvren.approximate.kernels import squared_distances
from ilvren.approximate.monomials import monomials
from ilvren.approximate.polynomial import all_powers, fitted_polynomial, ordered_terms
from ilvren.approximate.slopes import as_slopes
from ilvren.plans.latin import latin_shares
from tests.compact import WHOLE, only_in_whole, pairs, some


def spread_points(k, n, seed=0):
    return latin_shares(n, k, np.random.default_rng(seed))


def bumpy(x):
    return np.sin(5.0 * x[:, 0]) + x[:, 1] ** 2 + 0.3 * x[:, 0] * x[:, 1]


def wavy(z):
    """Return values and slopes."""
    a, b = z[:, 0], z[:, 1]
    slopes = np.zeros_like(z)
    slopes[:, 0], slopes[:, 1] = 3.0 * np.cos(3.0 * a + b), np.cos(3.0 * a + b) + 2.0 * b
    return np.sin(3.0 * a + b) + b**2, slopes


def owners_without(owners, point):
    """Return which point each row belongs to when one of them is left out."""
    kept = owners[owners != point]
    return kept - (kept > point)


class Mathematics(unittest.TestCase):
    def test_the_likelihood_has_the_slope_that_differences_see(self):
        x = 2.0 * spread_points(25, 3) - 1.0
        y = bumpy(x) + 0.1 * np.random.default_rng(1).normal(size=25)
        theta = np.array([-0.3, 0.2, 0.9, -4.0])
        for name in ("squared-exponential", "matern-5/2"):
            for degree in (0, 1):
                basis = monomials(x, all_powers(3, degree))
                _, gradient = likelihood(x, y, basis, KERNELS[name], theta)
                for j, step in enumerate(np.eye(4) * 1e-5):
                    high, low = (likelihood(x, y, basis, KERNELS[name], theta + s)[0] for s in (step, -step))
                    self.assertAlmostEqual(gradient[j], (high - low) / 2e-5, delta=1e-5 * max(1.0, abs(gradient[j])))
                paired = likelihood(x, y, basis, KERNELS[name], theta, pairs=Pairs.of(x))  # the way for few points
                self.assertAlmostEqual(paired[0], likelihood(x, y, basis, KERNELS[name], theta)[0])
                np.testing.assert_allclose(paired[1], gradient, rtol=1e-8, atol=1e-10)

    def test_what_is_said_without_a_point_is_what_a_fit_without_it_says(self):
        x = spread_points(12, 2)
        y = bumpy(x)
        lengths = np.array([0.4, 0.7])
        for name, kernel in KERNELS.items():
            matrix = kernel.value(squared_distances(x, x, lengths)) + 1e-3 * np.eye(12)
            basis = monomials(x, all_powers(2, 1))
            left_out = left_out_of(matrix, basis, y)[2]
            for i in (0, 5, 11):
                rest = np.delete(np.arange(12), i)
                w, b, _ = left_out_of(matrix[np.ix_(rest, rest)], basis[rest], y[rest])
                with self.subTest(kernel=name, point=i):
                    self.assertAlmostEqual(left_out[i], float(basis[i] @ b + matrix[i, rest] @ w), places=7)

    def test_what_is_said_without_a_point_has_no_share_of_its_slopes_either(self):
        z = 2.0 * spread_points(10, 2) - 1.0
        y, slopes = wavy(z)
        rows, values, owners = _with_slopes(z, y, slopes)
        field = Field("squared-exponential", all_powers(2, 1), np.array([0.8, 1.1]), 1e-6)
        said = conditioned(rows, values, field, owners).left_out
        for i in (0, 4, 9):
            rest = np.delete(np.arange(10), i)
            own = conditioned(*_with_slopes(z[rest], y[rest], slopes[rest])[:2], field, owners_without(owners, i))
            self.assertAlmostEqual(said[i], float(own.part.at(z[i : i + 1])[0]), places=5)
        part = conditioned(rows, values, field, owners).part
        np.testing.assert_allclose(part.slopes_at(z), slopes, atol=5e-3)  # and the surface has the slopes it was given

    def test_likelihoods_of_slopes_and_of_main_effects_have_the_slope_that_differences_see(self):
        z = 2.0 * spread_points(14, 2) - 1.0
        y, slopes = wavy(z)
        rows, values, owners = _with_slopes(z, y, slopes)
        basis, told = as_slopes(np.ones((len(rows), 1)), rows, owners), as_slopes(values, rows, owners)
        cases = {
            "slopes": (lambda t: likelihood(rows, told, basis, KERNELS["matern-5/2"], t, owners), [-0.2, 0.3, -4.0]),
            "effects": (lambda t: likelihood_by_effects(z, y, t), [-0.4, 0.1, -5.0, -1.0]),
        }
        for name, (function, theta) in cases.items():
            _, gradient = function(np.array(theta))
            for j, step in enumerate(np.eye(len(theta)) * 1e-5):
                seen = (function(theta + step)[0] - function(theta - step)[0]) / 2e-5
                with self.subTest(case=name, place=j):
                    self.assertAlmostEqual(gradient[j], seen, delta=3e-3 * max(1.0, abs(seen)))

    def test_slopes_of_every_kind_of_part_are_those_that_differences_see(self):
        x = spread_points(30, 2)
        values = (bumpy(x), np.exp(4.0 * x[:, 0] + x[:, 1]))  # the second one by its logarithm
        for kind, y in pairs(("polynomial", "gaussian-process", "radial-basis"), values, 3):
            with self.subTest(kind=kind):
                part = approximated(x, y, kind).surface.parts[0]
                z = np.random.default_rng(4).uniform(-0.9, 0.9, (6, 2))
                seen = [(part.at(z + step) - part.at(z - step)) / 2e-4 for step in 1e-4 * np.eye(2)]
                np.testing.assert_allclose(part.slopes_at(z), np.array(seen).T, rtol=1e-4, atol=1e-5 * np.ptp(y))

    def test_main_effects_are_told_from_few_points(self):
        def curves(z):
            return (np.sin(3.0 * z) + z**2).sum(axis=1)

        z, new = 2.0 * spread_points(50, 5) - 1.0, np.random.default_rng(3).uniform(-1.0, 1.0, (300, 5))
        found = conditioned_effects(z, curves(z), searched_effects(z, curves(z)))
        self.assertLess(np.abs(found.at(new)[0] - curves(new)).max(), 0.05 * np.ptp(curves(z)))
        self.assertGreater(found.at(3.0 * new)[1].mean(), 2.0 * found.at(0.5 * new)[1].mean())  # unsure far out

    def test_terms_are_ordered_as_least_squares_would_order_them(self):
        rng = np.random.default_rng(3)
        columns, y = rng.normal(size=(30, 8)), rng.normal(size=30)
        path = ordered_terms(columns, y, 5)
        for step in range(1, 5):
            held = columns[:, path.order[:step]]
            left = {}
            for j in set(range(8)) - set(path.order[:step]):
                tried = np.column_stack([held, columns[:, j]])
                left[j] = np.linalg.lstsq(tried, y, rcond=None)[1][0]
            self.assertEqual(path.order[step], min(left, key=left.get))
        said = path.along(columns)
        fit = columns[:, path.order[:3]] @ np.linalg.lstsq(columns[:, path.order[:3]], y, rcond=None)[0]
        np.testing.assert_allclose(said[:, 2], fit, atol=1e-10)

    def test_a_polynomial_is_found_by_its_own_terms(self):
        z = 2.0 * spread_points(60, 4) - 1.0
        y = 1.0 + 2.0 * z[:, 0] - z[:, 1] * z[:, 2] + 0.5 * z[:, 3] ** 3
        part = fitted_polynomial(z, y, 3, np.random.default_rng(0)).part
        self.assertLessEqual(len(part.trend.coefficients), 6)
        np.testing.assert_allclose(part.at(z), y, atol=1e-9)


class Honesty(unittest.TestCase):
    def test_told_errors_and_intervals_hold_for_points_never_seen(self):
        # Of ten seeds each, the medians of what is told by what is true are 1.3, 0.4 (a pole beside the box), 4 (a kink).
        covered = []
        for seed, k, low, high, function in some(
            (
                (0, 24, 0.4, 4.0, lambda x: np.sin(9.0 * x[:, 0]) * np.cos(4.0 * x[:, 1]) + x[:, 1]),
                (1, 30, 0.2, 4.0, lambda x: np.exp(3.0 * x[:, 0]) / (0.1 + x[:, 1])),
                (2, 24, 0.4, 8.0, lambda x: np.abs(x[:, 0] - 0.4) + x[:, 1]),
            )
        ):
            x, new = spread_points(k, 2, seed), np.random.default_rng(seed + 100).random((800, 2))
            made = approximated(x, function(x), seed=seed)
            errors = made.surface.at(new) - function(new)
            true = float(np.sqrt(np.mean(errors**2)) / function(x).std())
            self.assertTrue(low < made.told.error / true < high, (seed, made.told.error, true))
            covered.append(np.mean(np.abs(errors) <= made.half_width(new)))
        self.assertTrue(0.8 <= np.mean(covered) <= 0.99, covered)

    def test_slopes_make_surfaces_better_and_what_is_told_stays_true(self):
        z, new = 2.0 * spread_points(16, 3) - 1.0, np.random.default_rng(9).uniform(-1.0, 1.0, (500, 3))
        y, slopes = wavy(z)
        slopes[::5] = np.nan  # not known everywhere
        errors = []
        for given in (None, slopes):
            made = approximated(z, y, slopes=given)
            errors.append(float(np.sqrt(np.mean((made.surface.at(new) - wavy(new)[0]) ** 2)) / y.std()))
        self.assertLess(errors[1], 0.5 * errors[0])
        again = surface_from(surface_to(made.surface), 3)
        np.testing.assert_allclose(again.spread_at(new), made.surface.spread_at(new), rtol=1e-6)
        self.assertTrue(0.3 < made.told.error / errors[1] < 4.0, (made.told.error, errors))

    @only_in_whole
    def test_noise_is_not_learnt_and_is_told(self):
        x = spread_points(40, 2)
        noise = np.random.default_rng(5).normal(size=40)
        made = approximated(x, noise)
        self.assertGreater(made.told.error, 0.85)  # nothing can be said of it, and that is said
        half = approximated(x, bumpy(x) + 0.3 * noise)
        new = np.random.default_rng(6).random((500, 2))
        self.assertLess(np.sqrt(np.mean((half.surface.at(new) - bumpy(new)) ** 2)), 0.3)

    def test_a_chance_of_failure_tells_the_sides_apart(self):
        x = spread_points(60, 2)
        failed = x[:, 0] + 0.2 * x[:, 1] > 0.6
        found = fitted_failing(x, failed, np.full(2, 0.5), np.full(2, 0.5))
        new = np.random.default_rng(7).random((500, 2))
        away = np.abs(new[:, 0] + 0.2 * new[:, 1] - 0.6) > 0.1
        right = (found.at(new) > 0.5) == (new[:, 0] + 0.2 * new[:, 1] > 0.6)
        self.assertGreater(right[away].mean(), 0.97)
        self.assertTrue((found.at(10.0 * new) <= 1.0).all() and (found.at(10.0 * new) >= 0.0).all())


class Nonsense(unittest.TestCase):
    def test_every_kind_is_safe_on_it_and_is_itself_after_a_document(self):
        rng = np.random.default_rng(8)
        x = spread_points(14, 2)
        cases = {
            "constant": (x, np.full(14, 3.0)),
            "one input": (x[:, :1], np.sin(4.0 * x[:, 0])),
            "huge": (1e200 * x, 1e250 * bumpy(x)),
            "tiny": (x, 1e-280 * bumpy(x)),
            "repeated": (np.vstack([x, x]), np.concatenate([bumpy(x), bumpy(x) + 0.01])),
            "a line": (np.column_stack([x[:, 0], 2.0 * x[:, 0]]), x[:, 0]),
            "few": (x[:5], bumpy(x[:5])),
            "a jump": (x, np.where(x[:, 0] > 0.5, 1e6, 1.0)),
            "many inputs": (rng.random((14, 20)), rng.random(14)),
        }
        kinds = ("automatic", "polynomial", "gaussian-process", "radial-basis")
        for number, (name, (points, values)) in some(list(enumerate(cases.items()))):
            for kind in kinds if WHOLE else kinds[number // 2 % 4 :][:1]:
                with self.subTest(case=name, kind=kind):
                    made = approximated(points, values, kind)
                    said = made.surface.at(points)
                    self.assertTrue(np.isfinite(said).all())
                    self.assertTrue((made.surface.spread_at(points) >= 0.0).all())
                    again = surface_from(surface_to(made.surface), points.shape[1])
                    np.testing.assert_array_equal(again.at(points), said)
                    np.testing.assert_allclose(again.spread_at(points), made.surface.spread_at(points))
        with self.assertRaises(ValueError):
            approximated(x[:4], bumpy(x[:4]))
