"""Laws, what hangs together, sets, intervals and rare misses: against what is known."""

import math
import unittest

import numpy as np
from scipy import stats

from ilvren.scatter import (
    LAWS,
    dependence,
    design_points,
    importance_share,
    parted,
    scenario_normals,
    share_interval,
)
from tests.compact import only_in_whole, tries

WIDTHS = {
    "normal": {"deviation": 1.0},
    "lognormal": {"deviation": 1.5},
    "weibull": {"deviation": 1.3},
    "gumbel": {"deviation": 1.0},
    "uniform": {"half_width": 2.0},
    "triangular": {"low": -0.5, "high": 2.5},
    "data": {"values": [1.0, 4.0, 4.5, 9.0]},
}


class Laws(unittest.TestCase):
    def test_means_deviations_and_slopes_of_every_law(self):
        self.assertEqual(set(WIDTHS), set(LAWS))
        shares = (np.arange(200_000) + 0.5) / 200_000
        z = stats.norm.ppf(shares)
        at = np.linspace(-4.9, 4.9, 15)
        for name, law in LAWS.items():
            widths = {key: np.array(value) for key, value in WIDTHS[name].items()}
            value = np.array(4.0)
            with self.subTest(name):
                drawn = law.values(z, value, widths)
                self.assertAlmostEqual(drawn.mean(), float(law.mean(value, widths)), delta=1e-3)
                self.assertAlmostEqual(drawn.std(), float(law.deviation(value, widths)), delta=3e-3)
                if law.is_smooth:
                    h = 1e-5
                    change = (law.values(at + h, value, widths) - law.values(at - h, value, widths)) / (2.0 * h)
                    np.testing.assert_allclose(law.slopes(at, value, widths), change, rtol=1e-4)

    def test_tails_agree_with_other_work(self):
        z, value = np.array([-7.0, -3.0, 0.4, 3.0, 7.0]), np.array(4.0)
        weibull = LAWS["weibull"].values(z, value, {"deviation": np.array(1.3)})
        shape = stats.weibull_min.fit(LAWS["weibull"].values(scenario_normals(1, 5000, 0)[:, 0], value, {"deviation": np.array(1.3)}), floc=0)[0]  # fmt: skip
        scale = 4.0 / math.gamma(1.0 + 1.0 / shape)
        np.testing.assert_allclose(
            weibull[1:4], stats.weibull_min.isf(stats.norm.sf(z[1:4]), shape, scale=scale), rtol=0.01
        )
        self.assertTrue(np.isfinite(weibull).all() and (np.diff(weibull) > 0.0).all())
        beta = math.sqrt(6.0) / math.pi
        gumbel = LAWS["gumbel"].values(z, value, {"deviation": np.array(1.0)})
        exact = stats.gumbel_r.isf(stats.norm.sf(z), loc=4.0 - 0.5772156649 * beta, scale=beta)
        np.testing.assert_allclose(gumbel, exact, rtol=1e-5)

    def test_what_is_no_law_is_refused(self):
        for name, value, widths, word in (
            ("normal", 1.0, {"deviation": -0.1}, "from 0"),
            ("lognormal", -1.0, {"deviation": 0.1}, "not above 0"),
            ("weibull", 1.0, {"deviation": 30.0}, "20 times"),
            ("triangular", 1.0, {"low": 0.5, "high": 1.0}, "from 0 down"),
            ("data", 1.0, {"values": [1.0, math.nan]}, "no number"),
        ):
            reason = LAWS[name].refusal(np.array(value), {key: np.array(own) for key, own in widths.items()})
            self.assertIn(word, reason)


class Together(unittest.TestCase):
    def test_ranks_are_correlated_as_asked_and_slopes_follow(self):
        pairs = [("a", "b", 0.6), ("b", "c", -0.4)]
        places = {"line": (np.arange(6.0)[:, np.newaxis], 2.0)}
        hangs = dependence({"a": 1, "b": 1, "c": 1, "line": 6}, pairs, places)
        own = scenario_normals(hangs.dimension, 20_000, 1)
        z = hangs.normals(own)
        for one, other, rank in [*pairs, ("a", "c", None)]:
            found = stats.spearmanr(z[one][:, 0], z[other][:, 0])[0]
            self.assertAlmostEqual(found, 0.0 if rank is None else rank, delta=0.02)
        self.assertAlmostEqual(np.corrcoef(z["line"][:, 1], z["line"][:, 3])[0, 1], math.exp(-1.0), delta=0.02)
        slopes = {name: np.full((1, z[name].shape[1]), k + 1.0) for k, name in enumerate(z)}
        by_hand = hangs.normals(np.eye(hangs.dimension))
        expected = sum((by_hand[name] * slopes[name]).sum(axis=1) for name in slopes)
        np.testing.assert_allclose(hangs.vjp(slopes)[0], expected, atol=1e-12)

    def test_impossible_correlations_are_refused(self):
        sizes = {"a": 1, "b": 1, "c": 1, "v": 3}
        told = dependence(sizes, [("a", "b", 0.9), ("b", "c", 0.9), ("a", "c", -0.9)], {})
        self.assertIn("contradicts itself", told)
        self.assertIn("v in 3", dependence(sizes, [("a", "v", 0.2)], {}))


class Shares(unittest.TestCase):
    @only_in_whole
    def test_intervals_cover_the_truth(self):
        for limit in (0.5, 1.6, 2.6, 3.4):  # shares of 31 % to 0.03 %
            truth, covered = stats.norm.sf(limit), 0
            for seed in range(tries(100)):
                z = scenario_normals(3, 1000, seed)
                told = share_interval(parted(z.sum(axis=1) / math.sqrt(3.0) > limit))
                covered += told.low <= truth <= told.high
            self.assertGreaterEqual(covered, 0.88 * tries(100), limit)

    def test_rare_misses_of_planes_and_of_limits_that_bend(self):
        def plane(u):
            return 4.2 - float(u.sum()) / 2.0, np.full(4, -0.5)

        (point,) = design_points(plane, 4)
        self.assertAlmostEqual(point.index, 4.2, places=6)
        truth, covered = stats.norm.sf(4.2), 0
        for seed in range(20):
            told = importance_share(lambda u: 4.2 - u.sum(axis=1) / 2.0, [point], 500, seed)
            self.assertLess(abs(told.share / truth - 1.0), 0.2)
            covered += told.low <= truth <= told.high
        self.assertGreaterEqual(covered, 16)

        def bowl(u):  # misses on both sides: u_1² beyond 16 + u_2
            return 16.0 + float(u[1]) - float(u[0] ** 2), np.array([-2.0 * u[0], 1.0])

        found = design_points(bowl, 2, [np.array([1.0, 0.0])])
        self.assertEqual(len(found), 2)
        t = np.linspace(-8.0, 8.0, 40_001)
        truth = np.trapezoid(stats.norm.pdf(t) * 2.0 * stats.norm.sf(np.sqrt(16.0 + t)), t)
        told = importance_share(lambda u: 16.0 + u[:, 1] - u[:, 0] ** 2, found, 800, 0)
        self.assertLess(abs(told.share / truth - 1.0), 0.2)

    def test_what_is_missed_at_the_origin_is_counted(self):
        (point,) = design_points(lambda u: (-3.5 - float(u[0]), np.array([-1.0, 0.0])), 2)
        self.assertAlmostEqual(point.index, -3.5, places=6)
        told = importance_share(lambda u: -3.5 - u[:, 0], [point], 500, 0)
        self.assertTrue(told.low <= stats.norm.cdf(3.5) <= told.high)

    def test_no_claim_where_nothing_is_found(self):
        for flat in (lambda u: (1.0, np.zeros(2)), lambda u: (math.nan, np.full(2, math.nan))):
            (point,) = design_points(flat, 2)
            self.assertFalse(point.is_found)


if __name__ == "__main__":
    unittest.main()
