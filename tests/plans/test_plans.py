"""What plans promise: balance, resolution, strata, spread; also with members and one variable."""

import itertools
import unittest

import numpy as np

from ilvren.plans import PlanError, Space, farthest, plan_named, plan_names, plan_options, quality
from ilvren.plans.fractional import resolution_of, two_level_columns
from ilvren.plans.latin import latin_shares
from ilvren.plans.optimal import polynomial_terms


def space(n, members=None, unordered=()):
    names = tuple(f"x{k}" for k in range(n))
    upper = np.arange(1.0, n + 1)
    own = tuple(members.get(k) if members else None for k in range(n))
    start = np.array([0.0 if each is None else each[0] for each in own])
    return Space(names, -np.ones(n), upper, own, start, frozenset(unordered))


def made(name, where, points=None, seed=0, **options):
    plan = plan_named(name)
    return plan.make(where, points, np.random.default_rng(seed), plan_options(plan, options)).designs


class Plans(unittest.TestCase):
    def test_every_plan_stays_within_the_box_and_on_members_and_is_the_same_again(self):
        members = {1: np.array([-1.0, 0.5, 2.0]), 3: np.array([-1.0, 4.0])}
        where = space(4, members, ("x1",))
        for name in plan_names():
            points = {"grid": 40, "latin-hypercube": 17, "d-optimal": 20}.get(name)
            with self.subTest(plan=name):
                designs = made(name, where, points)
                self.assertTrue(((designs >= where.lower) & (designs <= where.upper)).all())
                for place, own in members.items():
                    self.assertTrue(np.isin(designs[:, place], own).all())
                np.testing.assert_array_equal(designs, made(name, where, points))
                if points and name != "grid":
                    self.assertEqual(len(designs), points)

    def test_plans_of_one_variable(self):
        for name in ("latin-hypercube", "sobol", "random", "full-factorial", "one-at-a-time", "grid", "d-optimal"):
            self.assertGreaterEqual(len(made(name, space(1), 8 if name == "grid" else None)), 2, name)
        for name in ("fractional-factorial", "box-behnken"):
            with self.assertRaises(PlanError):
                made(name, space(1))

    def test_strata_of_a_latin_hypercube_are_taken_once(self):
        where = space(5)
        for count in (1, 2, 3, 20):
            shares = where.shares(made("latin-hypercube", where, count))
            for column in shares.T:
                self.assertEqual(sorted((column * count).astype(int).tolist()), list(range(count)))

    def test_a_latin_hypercube_is_spread_better_than_chance(self):
        where = space(4)
        spread = quality(where, made("latin-hypercube", where, 40))
        chance = [quality(where, made("random", where, 40, seed)).least for seed in range(20)]
        self.assertGreater(spread.least, max(chance))
        self.assertLess(spread.uneven, 0.7)

    def test_a_few_designs_are_exchanged_as_often_as_there_are_exchanges(self):
        """Of six designs of two variables all orders can be tried: few of them are spread better than what is found."""
        least = []
        for seed in range(6):
            x = latin_shares(2, 6, np.random.default_rng(seed), is_centred=True)
            self.assertEqual(sorted(np.round(x[:, 0] * 12).tolist()), [1, 3, 5, 7, 9, 11])
            self.assertEqual(sorted(np.round(x[:, 1] * 12).tolist()), [1, 3, 5, 7, 9, 11])
            least.append(min(np.linalg.norm(x[i] - x[j]) for i in range(6) for j in range(i)))
        every = []
        for order in itertools.permutations(range(6)):
            y = np.column_stack([np.arange(6), order]) / 6.0
            every.append(min(np.linalg.norm(y[i] - y[j]) for i in range(6) for j in range(i)))
        self.assertGreaterEqual(np.mean(least), np.quantile(every, 0.97))

    def test_more_designs_go_into_empty_strata(self):
        where, plan = space(3), plan_named("latin-hypercube")
        first = made("latin-hypercube", where, 10)
        more = plan.make_more(where, first, 10, np.random.default_rng(1), plan.options()).designs
        shares = where.shares(np.vstack([first, more]))
        for column in shares.T:
            self.assertGreaterEqual(len(set((column * 20).astype(int).tolist())), 17)

    def test_sequences_go_on_where_they_stopped(self):
        where = space(3)
        for name in ("sobol", "random"):
            plan = plan_named(name)
            whole = made(name, where, 64, seed=4)
            more = plan.make_more(where, whole[:32], 32, np.random.default_rng(4), plan.options()).designs
            np.testing.assert_allclose(more, whole[32:])

    def test_fractions_have_the_resolution_told(self):
        for n, base, resolution in ((5, 4, 5), (7, 4, 4), (7, 3, 3), (8, 4, 4), (15, 4, 3), (11, 5, 4), (9, 7, 5)):
            columns = two_level_columns(n, base, resolution)
            self.assertIsNotNone(columns, (n, base))
            self.assertEqual(resolution_of(columns), self.least_word(columns), (n, base))
            self.assertGreaterEqual(resolution_of(columns), resolution)
        self.assertIsNone(two_level_columns(5, 3, 5))
        designs = made("fractional-factorial", space(6), 16)
        levels = np.sign(designs - designs.mean(axis=0))
        np.testing.assert_array_equal(levels.T @ levels, 16 * np.eye(6))

    def least_word(self, columns):
        for count in range(1, len(columns) + 1):
            for chosen in itertools.combinations(columns, count):
                total = 0
                for column in chosen:
                    total ^= column
                if total == 0:
                    return count
        return 9

    def test_surfaces_tell_every_coefficient(self):
        for n in (3, 4, 6, 7):
            where = Space(tuple("abcdefg"[:n]), -np.ones(n), np.ones(n), (None,) * n, np.zeros(n))
            for name in ("central-composite", "box-behnken", "d-optimal"):
                terms = polynomial_terms(made(name, where), "quadratic")
                self.assertEqual(np.linalg.matrix_rank(terms), terms.shape[1], (name, n))

    def test_a_d_optimal_plan_of_straight_lines_is_as_sharp_as_corners(self):
        where = Space(tuple("abc"), -np.ones(3), np.ones(3), (None,) * 3, np.zeros(3))
        terms = polynomial_terms(made("d-optimal", where, 4, terms="linear"), "linear")
        self.assertAlmostEqual(abs(np.linalg.det(terms)), 16.0, places=6)  # Hadamard's bound
        with self.assertRaises(PlanError):
            made("d-optimal", where, 9)

    def test_members_without_order_are_all_taken_or_it_is_said(self):
        where = space(3, {1: np.array([-1.0, 0.5, 2.0])}, ("x1",))
        self.assertEqual(len(made("full-factorial", where)), 12)
        plan = plan_named("fractional-factorial")
        notes = plan.make(where, None, np.random.default_rng(0), plan.options()).notes
        self.assertTrue(any("not all members are taken of x1" in note for note in notes))

    def test_what_cannot_be_is_refused_in_words(self):
        for name, points, options in (
            ("full-factorial", 5, {}),
            ("fractional-factorial", 12, {}),
            ("central-composite", 9, {}),
            ("one-at-a-time", 3, {}),
            ("latin-hypercube", 5, {"centred": "perhaps"}),
            ("full-factorial", None, {"levels": "1"}),
            ("d-optimal", None, {"terms": "cubic"}),
            ("grid", None, {}),
        ):
            with self.subTest(plan=name, options=options), self.assertRaises(PlanError) as caught:
                made(name, space(3), points, **options)
            self.assertTrue(str(caught.exception))

    def test_quality_of_what_is_known(self):
        where = Space(("a", "b"), np.zeros(2), np.ones(2), (None, None), np.zeros(2))
        found = quality(where, np.array([[0.0, 0.0], [1.0, 1.0], [0.5, 0.5], [0.5, 0.5]]))
        self.assertAlmostEqual(found.least, np.sqrt(0.5))
        self.assertAlmostEqual(found.correlation, 1.0)
        self.assertEqual(found.repeated, 1)
        self.assertAlmostEqual(found.hole, np.sqrt(0.5), delta=0.03)
        candidates = np.array([[0.1, 0.1], [0.9, 0.9], [0.5, 0.5]])
        self.assertEqual(farthest(candidates, np.array([[0.0, 0.0]]), 2).tolist(), [1, 2])


if __name__ == "__main__":
    unittest.main()
