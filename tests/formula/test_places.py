"""Places on cubics between moments: found where a dense look finds them, one design at a time or many."""

import unittest

import numpy as np

from ilvren.formula.places import PLACES


def signal(rng):
    """Return (values at low and high ends, slopes there) of seven intervals, and a dense look at them."""
    s = rng.normal(size=8)
    d = rng.normal(size=8) * 1.5
    low, high, u, v = s[:-1], s[1:], d[:-1], d[1:]
    theta = np.linspace(0, 1, 4001)
    b, c = 3 * (high - low) - 2 * u - v, u + v - 2 * (high - low)
    dense = low[:, None] + theta * (u[:, None] + theta * (b[:, None] + theta * c[:, None]))
    return (low, high, u, v), dense, theta


class Places(unittest.TestCase):
    def test_where_a_level_is_first_reached(self):
        rng = np.random.default_rng(5)
        for _ in range(60):
            given, dense, theta = signal(rng)
            level = rng.normal()
            place, at, is_found = PLACES["cross_place"]((), *given, level)
            reached = np.flatnonzero(np.maximum(given[0], given[1]) >= level)
            if is_found and given[0][int(place)] < level:
                self.assertAlmostEqual(np.interp(at, theta, dense[int(place)]), level, delta=1e-5)
            if len(reached):
                self.assertLessEqual(place, reached[0])
            self.assertGreaterEqual(is_found, float(len(reached) > 0))

    def test_where_a_band_is_last_left(self):
        rng = np.random.default_rng(6)
        for _ in range(60):
            given, *_ = signal(rng)
            given = tuple(part * np.exp(-0.5 * np.arange(7)) if k != 1 else part for k, part in enumerate(given))
            low, high, u, v = given
            high = np.append(low[1:], high[-1] * 0.02)
            given = (low, high, u, v)
            place, at, is_above, is_back, is_never = PLACES["leave_place"]((), *given, -0.3, 0.3)
            outside = np.flatnonzero((np.abs(low) > 0.3) | (np.abs(high) > 0.3))
            if len(outside):
                self.assertGreaterEqual(place, outside[-1])
                self.assertEqual(is_back + is_never, 1.0)
            if is_back:
                b, c = 3 * (high - low) - 2 * u - v, u + v - 2 * (high - low)
                k = int(place)
                value = low[k] + at * (u[k] + at * (b[k] + at * c[k]))
                if abs(high[k]) <= 0.3:
                    self.assertAlmostEqual(value, 0.3 if is_above else -0.3, delta=1e-9)

    def test_many_at_once_are_what_each_is_alone(self):
        rng = np.random.default_rng(7)
        many = [signal(rng)[0] for _ in range(9)]
        stacked = [np.stack([one[k] for one in many]) for k in range(4)]
        for name, levels in (("peaked", ()), ("cross_place", (0.4,)), ("leave_place", (-0.5, 0.5))):
            together = PLACES[name]((), *stacked, *levels)
            for own, one in zip(together, many, strict=True):
                np.testing.assert_array_equal(own, PLACES[name]((), *one, *levels))

    def test_what_is_not_finite_stays_so(self):
        bad = np.array([1.0, np.nan, 2.0])
        for name, levels in (("peaked", ()), ("cross_place", (0.4,)), ("leave_place", (-0.5, 0.5))):
            self.assertTrue(np.isnan(PLACES[name]((), bad, bad, bad, bad, *levels)).all(), name)


if __name__ == "__main__":
    unittest.main()
