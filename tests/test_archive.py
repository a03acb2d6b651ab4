"""The front of a run as it grows: what is kept is what a look at every pair of all designs would keep, whatever the order
and size of the batches; what live views are told of it."""

import unittest
from unittest import mock

import numpy as np

from ilvren import loads
from ilvren.problem import fronted, sense_of
from ilvren.runs import archive
from ilvren.runs.archive import Archive

HEAD = "[variables]\nx = { start = 1, lower = 0, upper = 9 }\n"


def sense(*entries):
    """Return the sense of objectives; each entry (section, rest of its table)."""
    names = "abcd"
    text = HEAD + "[constraints]\nfirst = 'x <= 9'\n"
    for section in ("minimize", "maximize"):
        own = [
            f"{names[k]} = {{ formula = 'x^{k + 1}'{rest} }}\n"
            for k, (where, rest) in enumerate(entries)
            if where == section
        ]
        text += f"[{section}]\n" + "".join(own) if own else ""
    return sense_of(fronted(loads(text)))


def minimized_one_by_one(own, rows):
    """Return the objectives to be minimized, from their definition."""
    found = []
    for objective, place in zip(own.objectives, own.rows, strict=True):
        sign = objective.sign
        values = sign * rows[:, place]
        found.append(values if objective.goal is None else np.maximum(values, sign * objective.goal))
    return np.array(found).T


def kept_of_all(values, is_feasible):
    """Return the numbers of the designs to be kept: feasible, no feasible one dominates them, the first of equals."""
    found, seen = [], set()
    use = [k for k in range(len(values)) if is_feasible[k] and np.isfinite(values[k]).all()]
    for k in use:
        is_beaten = any((values[j] <= values[k]).all() and (values[j] < values[k]).any() for j in use)
        if not is_beaten and tuple(values[k]) not in seen:
            seen.add(tuple(values[k]))
            found.append(k)
    return found


def filled(own, rows, violations, batches, feasibility=1e-6):
    """Return the archive of all designs, their number as their point, noted in batches that end at `batches`."""
    found, first = Archive(own, 1, feasibility), 0
    for last in [*batches, len(rows)]:
        part = slice(first, last)
        points = np.arange(first, last, dtype=float)[:, np.newaxis]
        found.note(points, rows[part], violations[part], first)
        first = last
    return found


class Kept(unittest.TestCase):
    def test_what_is_kept_is_what_every_pair_of_all_designs_says(self):
        rng = np.random.default_rng(11)
        senses = (
            sense(("minimize", ""), ("minimize", "")),
            sense(("minimize", ""), ("maximize", "")),
            sense(("minimize", ", goal = 3"), ("maximize", ", goal = 5"), ("minimize", "")),
            sense(("maximize", ""), ("minimize", ""), ("minimize", ""), ("maximize", ", goal = 4")),
        )
        for own in senses:
            for levels in (4, 9, 1000):  # few levels: many equal ones
                count = 160
                rows = rng.integers(0, levels, (count, 1 + len(own.objectives))).astype(float) * 8.0 / levels
                rows[rng.random(count) < 0.05, own.rows[0]] = np.nan
                rows[rng.random(count) < 0.05, own.rows[-1]] = np.inf
                violations = np.where(rng.random(count) < 0.3, rng.random(count), 0.0)
                violations[::9] = 0.9e-6
                violations[5::20] = np.nan
                expected = kept_of_all(minimized_one_by_one(own, rows), violations <= 1e-6)
                for batches in ((), range(1, count), np.sort(rng.choice(count, 9, replace=False))):
                    found = filled(own, rows, violations, list(batches))
                    self.assertEqual(sorted(found.numbers.tolist()), expected)
                    np.testing.assert_array_equal(found.points[:, 0], found.numbers)
                    np.testing.assert_array_equal(found.violations, violations[found.numbers])
                    np.testing.assert_array_equal(found.values, minimized_one_by_one(own, rows[found.numbers]))
                    self.assertFalse(found.is_trimmed)

    def test_objectives_with_priority_leave_what_is_best_in_them(self):
        own = sense(("minimize", ", priority = 1"), ("minimize", ", priority = 2"), ("maximize", ", priority = 2"))
        rows = np.array(
            [[0, 1, 5, 5], [0, 1, 4, 3], [0, 1, 6, 5], [0, 2, 0, 9], [0, 1, 5, 4], [0, 3, 0, 99]], dtype=float
        )
        found = filled(own, rows, np.zeros(len(rows)), [2, 4])
        self.assertEqual(found.foremost().numbers.tolist(), [0, 1])
        alike = sense(("minimize", ""), ("minimize", ""))
        whole = filled(alike, rows, np.zeros(len(rows)), [])
        self.assertIs(whole.foremost(), whole)

    def test_too_many_are_thinned_to_those_that_lose_least_and_it_is_said(self):
        own = sense(("minimize", ""), ("minimize", ""))
        t = np.linspace(0.0, 1.0, 200)
        rows = np.column_stack([np.zeros(200), t, (1.0 - t) ** 2])
        with mock.patch.object(archive, "MOST_KEPT", 60), mock.patch.object(archive, "TRIMMED", 40):
            found = filled(own, rows, np.zeros(200), range(20, 200, 20))
        self.assertTrue(found.is_trimmed)
        self.assertLessEqual(len(found), 60)
        kept = np.sort(found.values[:, 0])
        self.assertEqual((kept[0], kept[-1]), (0.0, 1.0))  # the ends stay
        self.assertLess(np.diff(kept).max(), 6 / 40)


class Told(unittest.TestCase):
    def test_the_share_of_the_box_and_the_largest_gap(self):
        own = sense(("minimize", ""), ("minimize", ""))
        rows = np.array([[0, 1, 10], [0, 2, 6], [0, 4, 4], [0, 5, 2]], dtype=float)
        now = filled(own, rows, np.zeros(4), []).now
        # scaled: (0, 1), (0.25, 0.5), (0.75, 0.25), (1, 0)
        self.assertEqual(now.points, 4)
        self.assertAlmostEqual(now.share, 0.5 * 0.5 + 0.25 * 0.75)
        self.assertAlmostEqual(now.gap, np.hypot(0.25, 0.5))

    def test_of_three_objectives_the_share_and_of_four_neither(self):
        rng = np.random.default_rng(2)
        three = sense(*[("minimize", "")] * 3)
        rows = np.column_stack([np.zeros(30), rng.random((30, 3))])
        found = filled(three, rows, np.zeros(30), [])
        low, high = found.values.min(axis=0), found.values.max(axis=0)
        tries = rng.random((40_000, 3)) * (high - low) + low
        beaten = (found.values[np.newaxis] <= tries[:, np.newaxis]).all(axis=2).any(axis=1)
        self.assertAlmostEqual(found.now.share, beaten.mean(), delta=0.01)
        self.assertTrue(np.isnan(found.now.gap))
        four = sense(*[("minimize", "")] * 4)
        rows = np.column_stack([np.zeros(30), rng.random((30, 4))])
        self.assertTrue(np.isnan(filled(four, rows, np.zeros(30), []).now.share))
        self.assertTrue(np.isnan(filled(four, rows[:1], np.zeros(1), []).now.share))

    def test_progress_is_where_the_volume_grew(self):
        own = sense(("minimize", ""), ("minimize", ""))
        found = Archive(own, 1, 1e-6)
        found.note_progress()
        self.assertEqual(found.progress_at, 0)

        def note(number, *values):
            rows = np.array([[0.0, *values]])
            found.note(np.zeros((1, 1)), rows, np.zeros(1), number)
            found.note_progress()
            return found.progress_at

        self.assertEqual(note(1, 0.0, 1.0), 1)
        self.assertEqual(note(2, 1.0, 0.0), 2)
        self.assertEqual(note(3, 2.0, 2.0), 2)  # dominated
        self.assertEqual(note(4, 0.4, 0.4), 4)
        self.assertEqual(note(5, 0.4 - 1e-9, 0.4), 4)  # better by nothing that counts
        self.assertEqual(note(6, -5.0, 0.9), 6)


if __name__ == "__main__":
    unittest.main()
