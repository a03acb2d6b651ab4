"""The mathematics behind the searches: models, members, bounds, starts, restarts, and what they may claim."""

import itertools
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from ilvren import loads, run, verify
from ilvren.algebra import AllowedValues
from ilvren.errors import RequestError
from ilvren.ledger import Ledger
from ilvren.methods.base import method_named
from ilvren.methods.differential_evolution import _trials
from ilvren.methods.dividing_rectangles import _chosen, _Rectangles
from ilvren.methods.pieces.coding import Coding, spread
from ilvren.methods.pieces.quadratics import fitted, minimizer_of
from ilvren.methods.pieces.ranking import Level, better, order
from ilvren.problem import Measures, ValueGrid
from ilvren.proofs.convexity import is_convex
from ilvren.runs import Settings, repeat
from tests.compact import WHOLE, only_in_whole, some
from tests.driving import task_of
from tests.multimodal import MIXED, MULTIMODAL
from tests.problems import two_variables
from tests.published import PUBLISHED


def box(n, low=-1.0, high=1.0, grids=(), rows=0):
    return task_of(np.zeros(n), low, high, rows=rows, grids=grids)


class Models(unittest.TestCase):
    def test_interpolation_is_exact_and_a_full_set_gives_the_quadratic_itself(self):
        rng = np.random.default_rng(1)
        n = 4
        h = rng.normal(size=(n, n))
        h, g = h + h.T, rng.normal(size=n)

        def value(x):
            return 2.0 + x @ g + 0.5 * np.einsum("ki,ij,kj->k", x, h, x)

        for count in (n + 1, 2 * n + 1, 15, 30):
            x = rng.normal(size=(count, n))
            models = fitted(x, np.column_stack([value(x), x[:, 0]]), x[0], np.full(n, 0.7))
            np.testing.assert_allclose(models.values(x)[:, 0], value(x), atol=1e-8)
            np.testing.assert_allclose(models.values(x)[:, 1], x[:, 0], atol=1e-8)
            if count >= 15:
                y = rng.normal(size=(5, n))
                np.testing.assert_allclose(models.values(y)[:, 0], value(y), atol=1e-7)
            moved = models.moved(x[1], np.full(n, 0.2))
            np.testing.assert_allclose(moved.values(x), models.values(x), atol=1e-7)

    def test_the_least_point_of_a_model_meets_its_limits(self):
        rng = np.random.default_rng(2)
        for _ in range(20):
            x = rng.uniform(-1, 1, size=(6, 2))
            c = x @ rng.normal(size=2) + 0.3
            models = fitted(x, np.column_stack([((x - 0.4) ** 2).sum(axis=1), c]), np.zeros(2), np.ones(2))
            task = box(2, rows=1)
            point, _ = minimizer_of(models, task, np.full(2, -1.0), np.full(2, 1.0), np.zeros(2), np.zeros(1))
            found = models.values(point[np.newaxis])[0]
            grid = np.array(list(itertools.product(np.linspace(-1, 1, 41), repeat=2)))
            values = models.values(grid)
            if values[:, 1].min() > 0.0:
                continue
            self.assertLessEqual(found[1], 1e-6)
            self.assertLessEqual(found[0], values[values[:, 1] <= 0.0, 0].min() + 1e-6)


class Populations(unittest.TestCase):
    def test_the_order_puts_feasible_designs_first_and_the_level_lifts_that_for_a_while(self):
        f, v = np.array([5.0, 1.0, 3.0, 0.0]), np.array([0.0, 0.2, 0.0, 0.1])
        self.assertEqual(order(f, v).tolist(), [2, 0, 3, 1])
        self.assertEqual(order(f, v, 0.15).tolist(), [3, 2, 0, 1])
        self.assertTrue(better(f[:1], v[:1], f[1:2], v[1:2])[0])
        self.assertFalse(better(f[:1], v[:1], f[1:2], v[1:2], 0.3)[0])
        level = Level.of(np.array([0.5, 1.0, 2.0, 3.0, 9.0]), 10.0)
        self.assertEqual([level.at(10.0), level.at(99.0)], [0.0, 0.0])
        self.assertGreater(level.at(0.0), level.at(3.0))

    def test_starts_are_spread_one_to_a_stratum_and_members_are_whole(self):
        grids = (None, AllowedValues(0.0, 0.5, 5), AllowedValues(-3.0, 1.0, 3, np.array([-3.0, 1.0, 7.0])))
        task = replace(
            task_of(np.zeros(3), grids=grids), lower=np.array([-2.0, 0.0, -3.0]), upper=np.array([2.0, 2.0, 7.0])
        )
        coding = Coding.of(task)
        codes = spread(coding, 21, np.random.default_rng(3))
        strata = np.floor((codes[1:, 0] + 2.0) / 4.0 * 20.0).astype(int)
        self.assertEqual(sorted(strata.tolist()), list(range(20)))
        points = coding.decoded(codes)
        self.assertTrue(set(points[:, 1].tolist()) <= {0.0, 0.5, 1.0, 1.5, 2.0})
        self.assertEqual(set(points[:, 2].tolist()), {-3.0, 1.0, 7.0})
        np.testing.assert_array_equal(task.allowed(np.array([[9.0, 0.8, 2.0]])), [[2.0, 1.0, 1.0]])

    def test_trials_stay_within_bounds_and_change_at_least_one_variable(self):
        coding, rng = Coding.of(box(5)), np.random.default_rng(4)
        codes = rng.uniform(-1, 1, size=(30, 5))
        for _ in range(50):
            trials = _trials(coding, codes, rng.uniform(-1, 1, size=(7, 5)), np.full(30, 0.9), np.zeros(30), rng)
            self.assertTrue(((trials >= -1.0) & (trials <= 1.0)).all())
            self.assertTrue(((trials != codes).sum(axis=1) <= 1).all())

    def test_potentially_optimal_rectangles_are_the_lower_right_hull(self):
        levels = np.array([[0, 0], [1, 0], [1, 1], [1, 1], [2, 1]])
        values = np.array([5.0, 4.0, 1.0, 3.0, 0.99])
        made = _Rectangles(np.zeros((5, 2)), levels, values, np.zeros(5))
        # The last is lower than the third by too little to promise a gain; the second lies above the hull's line.
        self.assertEqual(sorted(_chosen(made, values, 0.1).tolist()), [0, 2])
        self.assertIn(4, _chosen(made, values, 0.0).tolist())

    def test_every_individual_of_every_generation_is_on_record(self):
        problem = MULTIMODAL[0].problem()
        with tempfile.TemporaryDirectory() as folder:
            for method in ("differential-evolution", "genetic-algorithm", "particle-swarm", "cma-es"):
                with Ledger(Path(folder) / f"{method}.ledger") as ledger:
                    result = run(problem, method=method, evaluations=900, ledger=ledger)
                    points = {e.number: e.point for e in ledger.evaluations(1)}
                    kept = ledger.generations(1)
                    self.assertEqual(len(kept), len(result.iterations), method)
                    for members in kept.values():
                        self.assertTrue(all(number in points for number in members))
                    # Whatever was evaluated up to the last generation belongs to one (means and drawn starts apart).
                    seen = set().union(*(set(members) for members in kept.values()))
                    self.assertGreater(len(seen), 0.1 * len(points))


class Members(unittest.TestCase):
    def test_designs_between_members_are_evaluated_but_never_reported(self):
        text = (
            "[variables]\nn = { start = 1, lower = 0, upper = 6, spacing = 1 }\nx = { start = 1.5, lower = 0, upper = 4 }\n"
            '[minimize]\nf = "(n - 2.5)^2 + (x - n / 2)^2"\n'
        )
        result = run(loads(text), method="branch-and-bound")
        self.assertTrue(any(np.frombuffer(e.point)[0] % 1.0 for e in result.evaluations))
        self.assertIn(result.variables["n"], (2.0, 3.0))
        self.assertAlmostEqual(result.objective, 0.25, places=9)
        self.assertEqual((result.bound_is_proved, result.gap), (True, 0.0))
        measures = Measures.of(loads(text))
        self.assertEqual(measures.violation(np.array([2.5, 1.0]), np.zeros(0)), 1.5)
        # Nearer to a member than any feasibility, and yet none.
        self.assertGreater(measures.violation(np.array([2.0 + 5e-8, 1.0]), np.zeros(0)), 1.0)
        self.assertEqual(measures.violation(np.array([2.0 + 5e-10, 1.0]), np.zeros(0)), 0.0)

    def test_branch_and_bound_agrees_with_enumeration(self):
        rng = np.random.default_rng(5)
        for _ in range(6 if WHOLE else 3):
            a, b = rng.normal(size=(3, 3)), rng.uniform(1, 6, size=3)
            h = a @ a.T + 0.1 * np.eye(3)
            names = ["i", "j", "k"]
            terms = " + ".join(
                f"({h[p, q]:.17g}) * ({names[p]} - ({b[p]:.17g})) * ({names[q]} - ({b[q]:.17g}))"
                for p in range(3)
                for q in range(3)
            )
            text = "[variables]\n" + "".join(
                f"{m} = {{ start = 0, lower = 0, upper = 7, spacing = 1 }}\n" for m in names
            )
            text += f'[minimize]\nf = "{terms}"\n[constraints]\nc = "i + j + k <= 10"\n'
            problem = loads(text)
            result = run(problem, method="branch-and-bound")
            points = np.array([p for p in itertools.product(range(8), repeat=3) if sum(p) <= 10], dtype=float)
            best = min(float((p - b) @ h @ (p - b)) for p in points)
            self.assertAlmostEqual(result.objective, best, places=7)
            self.assertTrue(result.bound_is_proved)
            self.assertTrue(verify(result).holds)

    def test_convexity_is_claimed_only_where_it_is(self):
        for formula, row, expected in (
            ("x^2 + exp(y)", "x + y <= 3", True),
            ("x^2 + y^2", "x^2 + y^2 <= 3", True),
            ("x^2 + y^2", "x^2 + y^2 >= 3", False),
            ("x^2 + y^2", "x * y == 1", False),
            ("x^2 - 0.001 * y^2", "x + y <= 3", False),
            ("abs(x) + y", "x + y <= 3", True),
            ("-abs(x) + y", "x + y <= 3", False),
            ("1 + 1e4 * x^2 - 1e-6 * y^2", "x + y <= 3", False),
            ("1e9 * x^2 + 1e-9 * y^2", "x + y <= 3", True),
            ("x^2 + y^2 - 2 * x * y", "x + y <= 3", True),
            ("x^2 + y^2 - 2.000001 * x * y", "x + y <= 3", False),
            ("(0.1 * x + 0.3 * y)^2", "log(x + 3) >= 0.1 * y", True),
            ("x^4 - x^2 + y", "x + y <= 3", False),
        ):
            with self.subTest(formula=formula, row=row):
                self.assertEqual(is_convex(loads(two_variables(formula, row, bounds=(-2, 2)))), expected)

    @only_in_whole
    def test_a_neighbouring_member_that_is_better_is_shown(self):
        text = MIXED[0][1].replace("shell  = { start = 1.0", "shell  = { start = 1.25")
        result = run(loads(text), method="mesh-adaptive-search", evaluations=60)
        verdict = verify(result)
        self.assertFalse(verdict.holds)
        best = run(loads(MIXED[0][1]))
        self.assertAlmostEqual(best.objective, MIXED[0][2], places=3)
        self.assertEqual(verify(best).verdict, "global-proved")

    def test_members_of_a_problem_are_met_exactly(self):
        text = '[variables]\na = { start = 0.1, lower = 0.1, upper = 9.1, spacing = 0.3 }\n[minimize]\nf = "a"\n'
        problem = loads(text)
        grid = ValueGrid(problem)
        exact = problem.variables[0].member(3.4)
        points = np.array([[exact * (1 + 1e-12)], [3.55]])
        self.assertEqual(grid.straightened(points)[0, 0], exact)
        self.assertEqual(grid.misses(points)[0], 0.0)
        self.assertGreater(grid.misses(points)[1], 0.3)


class Searches(unittest.TestCase):
    @only_in_whole
    def test_multistart_tells_the_distinct_optima(self):
        problem = loads(two_variables("(x^2 - 1)^2 + (y^2 - 1)^2 + 0.1 * x + 0.05 * y", bounds=(-2, 2)))
        result = run(problem, method="multistart", options={"starts": 24})
        self.assertEqual(len(result.optima), 4)
        self.assertEqual([o.objective for o in result.optima], sorted(o.objective for o in result.optima))
        self.assertEqual(sum(o.often for o in result.optima), 24)
        self.assertAlmostEqual(result.optima[0].objective, result.objective, places=9)
        for local in ("nelder-mead", "bfgs", "interior-point"):
            again = run(problem, method="multistart", options={"starts": 8, "local": local})
            self.assertAlmostEqual(again.objective, result.objective, places=5)

    def test_the_global_choice_finds_published_optima(self):
        for case in some((MULTIMODAL[1], MULTIMODAL[7], MULTIMODAL[15]), 3, 1):
            with self.subTest(case=f"{case.name} {case.n}"):
                result = run(case.problem(), method="global", seed=1, evaluations=50_000)
                self.assertLess(result.objective - case.best, 1e-4 * max(1.0, abs(case.best)))

    @only_in_whole
    def test_methods_without_derivatives_solve_published_problems_within_their_evaluations(self):
        for method, each, least in (("quadratic-interpolation", 40, 0.8), ("mesh-adaptive-search", 300, 0.8)):
            hits = []
            for case in [case for case in PUBLISHED if len(case.starts) <= 4][:: 9 if WHOLE else 40]:
                n = len(case.starts)
                result = run(case.problem(), method=method, evaluations=each * (n + 1))
                gain = abs(result.baseline_objective - case.best)
                is_close = result.objective - case.best <= 1e-4 * max(abs(case.best), gain, 1e-9)
                hits.append(is_close and result.violation <= 1e-6)
            self.assertGreaterEqual(np.mean(hits), least, method)

    def test_patience_and_target_end_any_search(self):
        problem = MULTIMODAL[0].problem()
        for method in ("particle-swarm", "mesh-adaptive-search", "simulated-annealing"):
            tired = run(problem, method=method, patience=150)
            self.assertEqual(tired.outcome, "stalled" if tired.outcome != "settled" else "settled")
            if tired.outcome == "stalled":
                self.assertIn("150 evaluations", tired.reason)
            reached = run(problem, method=method, target=15.0)
            self.assertEqual(reached.outcome, "target")
            self.assertLessEqual(reached.objective, 15.0)

    def test_repeats_sum_up_what_seeds_do(self):
        problem = MULTIMODAL[0].problem()
        found = repeat(problem, 5, Settings(method="particle-swarm", target=1.5, evaluations=400))
        self.assertEqual([r.seed for r in found.runs], [0, 1, 2, 3, 4])
        self.assertEqual(found.share, sum(r.outcome == "target" for r in found.runs) / 5)
        values = sorted(r.objective for r in found.runs)
        self.assertEqual((found.objectives().least, found.objectives().median), (values[0], values[2]))
        self.assertEqual(found.to_dict()["success_share"], found.share)
        with self.assertRaisesRegex(RequestError, "draws nothing at random"):
            repeat(problem, 3, Settings(method="dividing-rectangles"))

    def test_a_method_that_works_with_another_shares_its_needs(self):
        with self.assertRaisesRegex(RequestError, "stands alone"):
            run(MULTIMODAL[0].problem(), method="multistart", options={"local": "perturb-and-descend"})
        with self.assertRaisesRegex(RequestError, "sum of squares"):
            run(MULTIMODAL[0].problem(), method="multistart", options={"local": "levenberg-marquardt"})
        self.assertEqual(method_named("multistart").needs, "values")


if __name__ == "__main__":
    unittest.main()
