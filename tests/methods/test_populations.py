"""Identities of the population methods: their constants, invariances and the places they may reach."""

import unittest

import numpy as np

from ilvren import loads, run
from ilvren.algebra import AllowedValues
from ilvren.methods import cma_es, particle_swarm, simulated_annealing
from ilvren.methods.differential_evolution import _archived, _Memory
from ilvren.methods.pieces import variation
from ilvren.methods.pieces.coding import Coding
from ilvren.methods.pieces.lagrangian import Lagrangian
from ilvren.methods.pieces.population import Population, rest_of
from tests.compact import only_in_whole, parted, some
from tests.driving import drive, task_of


def bowl(x):
    return ((x - 0.3) ** 2).sum(axis=1)


def cigar(x):
    return x[:, 0] ** 2 + 1e4 * (x[:, 1:] ** 2).sum(axis=1)


class CovarianceAdaptation(unittest.TestCase):
    def test_constants_are_those_of_the_tutorial(self):
        for n, count in ((2, 6), (10, 10), (40, 15), (10, 200)):
            rates = cma_es._Rates.of(n, count)
            positive = rates.weights[: rates.mu]
            self.assertAlmostEqual(positive.sum(), 1.0)
            self.assertTrue((np.diff(rates.weights) <= 1e-12).all())
            self.assertAlmostEqual(rates.mu_w, 1.0 / (positive**2).sum())
            self.assertLessEqual(rates.c_1 + rates.c_mu, 1.0 + 1e-12)
            # The negative weights may not make C lose its definiteness: (53) of the tutorial.
            self.assertLessEqual(
                -rates.weights[rates.mu :].sum(), (1 - rates.c_1 - rates.c_mu) / (n * rates.c_mu) + 1e-12
            )

    def test_only_the_order_of_the_values_counts(self):
        task = task_of([0.9, -0.4, 0.7])
        plain = drive("cma-es", task, cigar, most=600, restarts=0)
        bent = drive("cma-es", task, lambda x: cigar(x) ** 3, most=600, restarts=0)
        for one, other in zip(plain.requests, bent.requests, strict=False):
            np.testing.assert_array_equal(one, other)

    def test_an_ill_conditioned_valley_is_learnt(self):
        found = drive("cma-es", task_of(np.full(6, 0.8)), cigar, restarts=0)
        self.assertEqual(found.ending.claim, "settled")
        self.assertLess(found.best, 1e-9)
        self.assertLess(found.evaluations, 5000)

    def test_an_optimum_on_a_bound_and_one_on_a_limit_are_reached(self):
        found = drive("cma-es", task_of([0.5, 0.5], 0.4, 2.0), bowl, restarts=0)
        self.assertAlmostEqual(found.best, 0.02, places=7)
        self.assertTrue((found.points >= 0.4).all())
        task = task_of([0.9, 0.9], rows=1, row_lower=1.0, row_upper=np.inf)
        found = drive("cma-es", task, bowl, lambda x: x.sum(axis=1, keepdims=True), restarts=0)
        self.assertEqual(found.ending.claim, "settled")
        self.assertAlmostEqual(found.best, 0.08, places=5)

    @only_in_whole
    def test_equalities_are_met_by_learnt_multipliers(self):
        task = task_of([0.9, 0.9, 0.1], -3.0, 3.0, rows=1, row_lower=0.5, row_upper=0.5)
        found = drive("cma-es", task, bowl, lambda x: x[:, :1] * x[:, 1:2] + x[:, 2:], restarts=1)
        grid = np.linspace(-1, 1.2, 400)
        a, b = np.meshgrid(grid, grid)
        best = bowl(np.column_stack([a.ravel(), b.ravel(), (0.5 - a * b).ravel()])).min()
        self.assertLess(found.best, best + 1e-3)

    def test_later_searches_are_larger_and_begin_elsewhere(self):
        task = task_of([0.5, 0.5], -1.0, 1.0)
        found = drive("cma-es", task, lambda x: np.cos(9 * x).sum(axis=1) + bowl(x), most=8000, restarts=4)
        sizes = {item.path or "first": len(item.population) for item in found.iterates}
        self.assertGreater(len(sizes), 2)
        self.assertGreater(max(sizes.values()), 2 * sizes["first"])

    def test_the_lagrangian_counts_what_a_row_hides(self):
        task = task_of([0.0], rows=2, row_lower=-1.0, row_upper=1.0)
        lagrangian = Lagrangian(task, np.array([0.5, 0.0]), np.array([2.0, 3.0]))
        c = np.array([[1.5, 0.2], [0.0, -2.0]])
        # t = c + λ/ρ: 1.75 beyond 1 by 0.75; -2 below -1 by 1.
        np.testing.assert_allclose(lagrangian.values(np.zeros(2), c), [0.5 * 2 * 0.75**2, 0.5 * 3 * 1.0])
        np.testing.assert_allclose(lagrangian.renewed_multipliers(c[0]), [1.5, 0.0])
        np.testing.assert_allclose(lagrangian.misses(c[1]), [0.25, 1.0])


class Genes(unittest.TestCase):
    def setUp(self):
        self.grids = (None, AllowedValues(0.0, 1.0, 7), None, AllowedValues(-1.0, 1.0, 3, np.array([-1.0, 0.5, 4.0])))
        low, high = np.array([-2.0, 0.0, -2.0, -1.0]), np.array([2.0, 6.0, 2.0, 4.0])
        self.task = task_of([0.0, 1.0, 0.0, 0.5], low, high, grids=self.grids)
        self.coding = Coding.of(self.task)
        self.rng = np.random.default_rng(8)

    def test_children_keep_the_parents_mean_and_cross_members_whole(self):
        p = self.coding.rounded(self.rng.uniform(-1, 2, size=(200, 4)))
        q = self.coding.rounded(self.rng.uniform(-1, 2, size=(200, 4)))
        one, two = variation.crossed(self.coding, p, q, 1.0, 15.0, self.rng)
        np.testing.assert_allclose(one + two, p + q, atol=1e-12)
        for column in (1, 3):
            is_parents = (one[:, column] == p[:, column]) | (one[:, column] == q[:, column])
            self.assertTrue(is_parents.all())
        self.assertTrue(((one != p) & (one != q)).any())
        same_one, same_two = variation.crossed(self.coding, p, q, 0.0, 15.0, self.rng)
        np.testing.assert_array_equal(same_one, p)
        np.testing.assert_array_equal(same_two, q)

    def test_mutation_changes_its_share_and_members_to_members(self):
        codes = self.coding.rounded(np.tile([0.1, 3.0, -0.5, 1.0], (4000, 1)))
        changed = self.coding.rounded(variation.mutated(self.coding, codes.copy(), 0.25, 20.0, self.rng))
        share = (changed[:, 0] != codes[:, 0]).mean()
        self.assertAlmostEqual(share, 0.25, delta=0.04)
        self.assertEqual(set(changed[:, 1].tolist()), {0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0})
        far = np.abs(changed[:, 0] - codes[:, 0]).max()
        narrow = variation.mutated(self.coding, codes.copy(), 0.25, 1e4, self.rng)
        self.assertLess(np.abs(narrow[:, 0] - codes[:, 0]).max(), 0.1 * far)

    def test_steps_of_annealing_move_members_by_whole_steps(self):
        for _ in range(300):
            value = simulated_annealing._moved(self.coding, 3.0, 2.0, 1, self.rng)
            self.assertIn(value, (1.0, 2.0, 4.0, 5.0))
            self.assertLessEqual(abs(simulated_annealing._moved(self.coding, 1.9, 1.0, 0, self.rng) - 1.9), 1.0)

    def test_annealing_accepts_worse_ones_by_the_law_of_metropolis(self):
        here = simulated_annealing._Here(np.zeros(1), np.zeros(1), 1.0, 0.0)
        worse = simulated_annealing._Here(np.zeros(1), np.zeros(1), 1.5, 0.0)
        law = np.exp(-0.5 / 0.25)
        accepted = [
            simulated_annealing._is_accepted(worse, here, 0.25, 0.0, 1.0, chance) for chance in np.linspace(0, 1, 2001)
        ]
        self.assertAlmostEqual(np.mean(accepted), law, delta=1e-3)
        self.assertTrue(simulated_annealing._is_accepted(here, worse, 1e-9, 0.0, 1.0, 0.999))

    def test_a_particle_follows_the_best_of_those_that_inform_it(self):
        f = np.array([3.0, 1.0, 2.0, 9.0])
        own = Population(np.zeros((4, 1)), np.zeros((4, 1)), f, np.array([0.0, 5.0, 0.0, 0.0]))
        informs = np.array([[0, 3], [1, 3], [2, 0], [3, 3]])
        # The second is infeasible: it informs nobody better than the feasible ones.
        self.assertEqual(particle_swarm._leaders(own, informs, 0.0).tolist(), [2, 1, 2, 0])
        self.assertEqual(particle_swarm._leaders(own, informs, 9.0).tolist(), [2, 1, 2, 1])

    def test_the_memory_moves_to_what_succeeded(self):
        memory = _Memory(np.full(6, 0.5), np.full(6, 0.5))
        memory.renew(np.array([0.2, 0.8]), np.array([0.1, 0.9]), np.array([1.0, 3.0]))
        self.assertAlmostEqual(memory.f[0], (0.25 * 0.04 + 0.75 * 0.64) / (0.25 * 0.2 + 0.75 * 0.8))  # Lehmer mean
        self.assertEqual(memory.place, 1)
        f, c = memory.drawn(500, self.rng)
        self.assertTrue(((f > 0.0) & (f <= 1.0) & (c >= 0.0) & (c <= 1.0)).all())

    def test_the_archive_fills_and_then_forgets_at_random(self):
        archive = np.zeros((3, 2))
        grown = _archived(archive, np.ones((2, 2)), 4, self.rng)
        self.assertEqual((len(grown), grown[3:].sum()), (4, 2.0))
        self.assertEqual(len(_archived(grown, np.full((3, 2), 7.0), 4, self.rng)), 4)

    def test_rest_needs_values_and_designs_together(self):
        x = np.array([[0.0, 1.0], [1.0, 0.0]])
        flat = Population(x, x, np.array([1.0, 1.0]), np.zeros(2))
        first = Population(x, x, np.array([1.0, 5.0]), np.zeros(2))
        rest = rest_of(self.task, first)
        self.assertFalse(rest.is_reached(flat))
        near = x * 1e-9
        self.assertTrue(rest.is_reached(Population(near, near, np.array([1.0, 1.0]), np.zeros(2))))
        self.assertFalse(rest.is_reached(Population(near, near, np.array([1.0, 1.0]), np.array([0.0, 1.0]))))
        low, away = rest.runaway(Population(x, x, np.array([-1e20, 0.0]), np.zeros(2))), rest.runaway(flat)
        self.assertEqual((low.claim if low else "", away), ("unbounded", None))
        far = Population(x, x + 300.0, np.array([1.0, 5.0]), np.zeros(2))
        self.assertEqual(rest.runaway(far).claim, "stalled")


class LocalSearchAtTheEnd(unittest.TestCase):
    @only_in_whole
    def test_three_active_limits_on_five_variables_are_met_exactly(self):
        text = (
            "[variables]\nx = { start = 1, lower = -5, upper = 5, shape = 5 }\n[minimize]\n"
            "f = '(x[0]-3)^2 + (x[1]-2)^2 + (x[2]+1)^2 + 2*(x[3]-1)^2 + (x[4]-2)^2 + x[0]*x[1]'\n[constraints]\n"
            "p = 'x[0]^2 + x[1]^2 + x[2]^2 <= 4'\nq = 'x[0] + x[3] + x[4] <= 2'\nr = 'x[1]*x[3] + x[4]^2 <= 1'\n"
        )
        best = run(loads(text), method="sqp").objective
        for method in some(("differential-evolution", "genetic-algorithm", "particle-swarm", "cma-es"), 4, 3):
            for seed in (0,):
                result = run(loads(text), method=method, seed=seed, evaluations=4000)
                with self.subTest(method=method, seed=seed):
                    self.assertLessEqual(result.violation, 1e-6)
                    self.assertAlmostEqual(result.objective, best, delta=1e-6 * max(1.0, abs(best)))
            alone = run(loads(text), method=method, evaluations=600, options={"finish": False})
            self.assertNotIn("local search", " ".join(item.note for item in alone.iterations))


class EveryPopulation(unittest.TestCase):
    METHODS = ("differential-evolution", "genetic-algorithm", "particle-swarm", "cma-es", "simulated-annealing")

    def test_an_optimum_on_limits_is_reached_feasibly(self):
        task = task_of([0.5, 0.5], -1.0, 1.0, rows=2, row_upper=0.0)

        def rows(x):
            return np.column_stack([0.5 - x[:, 0] - x[:, 1], x[:, 0] ** 2 - x[:, 1]])

        for name in parted(self.METHODS, self._testMethodName):
            with self.subTest(method=name):
                found = drive(name, task, lambda x: x[:, 0] + 2 * x[:, 1], rows, most=12_000)
                best = (np.sqrt(3) - 1) / 2  # where both limits meet
                self.assertAlmostEqual(found.best, best + 2 * best**2, delta=2e-3)

    def test_first_designs_begin_with_the_start_and_fill_the_box(self):
        for name in self.METHODS[:3]:
            first = drive(name, task_of([0.25, -0.5], -1.0, 1.0), bowl, most=1).requests[0]
            np.testing.assert_array_equal(first[0], [0.25, -0.5])
            self.assertGreater(np.ptp(first[:, 0]), 1.8)

    def test_a_larger_first_generation_is_made_when_asked_for(self):
        found = drive(
            "genetic-algorithm", task_of([0.0], -1.0, 1.0), bowl, most=400, population=20, first_generation=90
        )
        self.assertEqual([len(points) for points in found.requests[:2]], [90, 18])

    def test_flat_ground_ends(self):
        for name in parted(
            (*self.METHODS, "dividing-rectangles", "mesh-adaptive-search", "quadratic-interpolation"),
            self._testMethodName,
        ):
            found = drive(name, task_of([0.1, 0.2], -1.0, 1.0), lambda x: np.full(len(x), 3.0), most=30_000)
            self.assertIsNotNone(found.ending, name)


if __name__ == "__main__":
    unittest.main()
