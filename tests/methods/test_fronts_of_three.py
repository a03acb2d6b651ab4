"""Fronts of three objectives by every method that goes along them: distances to three points, whose front is the triangle
between them, with and without a limit that cuts it."""

import unittest

import numpy as np

from ilvren import loads, run
from ilvren.algebra import nondominated
from tests.compact import WHOLE, some

CORNERS = np.array([[0.0, 0.0, 0.0], [2.0, 0.0, 0.5], [0.5, 1.5, 0.0]])
SCALE = np.array([1.0, 2.0, 1.0])
METHODS = ("boundary-intersection", "front-continuation", "epsilon-limits")
COUNT = 30 if WHOLE else 10


def values_of(points):
    """Return the objectives (k, 3) of designs (k, 3)."""
    return np.stack([((points - corner) ** 2 * SCALE).sum(axis=1) for corner in CORNERS], axis=1)


def problem(limit=""):
    text = "[variables]\nx = { start = [1.0, 1.0, 1.0], lower = -3, upper = 3 }\n[minimize]\n"
    for k, (a, b, c) in enumerate(CORNERS.tolist()):
        text += f"f{k} = '(x[0] - {a})^2 + 2 * (x[1] - {b})^2 + (x[2] - {c})^2'\n"
    return loads(text + (f"[constraints]\ncut = '{limit}'\n" if limit else ""))


class Triangles(unittest.TestCase):
    def test_members_are_mixtures_of_the_corners_spread_over_all_of_them(self):
        rng = np.random.default_rng(1)
        inside = rng.dirichlet([1.0, 1.0, 1.0], 2000) @ CORNERS
        extent = np.ptp(values_of(CORNERS), axis=0)
        for method in some(METHODS):
            with self.subTest(method=method):
                result = run(problem(), method=method, points=COUNT)
                self.assertEqual(result.outcome, "settled")
                points = np.array([member.point for member in result.front.members])
                self.assertGreaterEqual(len(points), COUNT - 1)
                weights, *_ = np.linalg.lstsq(
                    np.vstack([CORNERS.T, np.ones(3)]), np.column_stack([points, np.ones(len(points))]).T, rcond=None
                )
                np.testing.assert_allclose(weights.T @ CORNERS, points, atol=1e-3)
                self.assertGreater(weights.min(), -1e-3)
                self.assertTrue(nondominated(result.front.values).all())
                np.testing.assert_allclose(result.front.values, values_of(points), atol=1e-9)
                away = np.linalg.norm((values_of(inside)[:, None] - values_of(points)) / extent, axis=2).min(axis=1)
                self.assertLess(away.max(), 0.55)
                for corner in CORNERS:
                    self.assertLess(np.linalg.norm(points - corner, axis=1).min(), 1e-3)

    def test_with_a_limit_no_sample_that_meets_it_is_better_by_more_than_a_little(self):
        rng = np.random.default_rng(2)
        tries = rng.uniform([-0.2, -0.2, -0.1], [1.8, 1.6, 0.6], (200_000, 3))
        others = values_of(tries[tries[:, 0] + tries[:, 1] <= 1.2])
        for method in some(METHODS, 2, 1):
            with self.subTest(method=method):
                result = run(problem("x[0] + x[1] <= 1.2"), method=method, points=COUNT)
                points = np.array([member.point for member in result.front.members])
                self.assertGreaterEqual(len(points), COUNT - 2)
                self.assertLessEqual((points[:, 0] + points[:, 1]).max(), 1.2 + 1e-5)
                self.assertGreater((points[:, 0] + points[:, 1] > 1.2 - 1e-4).sum(), 1)  # the limit is a part of it
                for own in values_of(points):
                    better = (others < own - 2e-3).all(axis=1)
                    self.assertFalse(better.any(), own)


if __name__ == "__main__":
    unittest.main()
