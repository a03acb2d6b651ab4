"""Proofs: bounds hold for every design sampled, published optima are proved, and what is not best is not."""

import unittest

import numpy as np

from ilvren import loads, run, verify
from ilvren.evaluate import Gate
from ilvren.formula.unroll import TooLong, unrolled
from ilvren.judge.verifying.verification import VerifyOptions
from ilvren.problem import scalar_problem
from ilvren.proofs.bounding import Bounder
from tests.compact import WHOLE, only_in_whole, some
from tests.multimodal import MIXED, MULTIMODAL
from tests.problems import two_variables
from tests.published import PUBLISHED

PROOF = VerifyOptions(prove=True, prove_seconds=20.0)


def box_of(problem):
    """Return the bounds, five to each side of the start where there are none."""
    low, high, start = problem.joined("lower"), problem.joined("upper"), np.array(problem.start)
    return np.where(np.isfinite(low), low, start - 5.0), np.where(np.isfinite(high), high, start + 5.0)


class Bounds(unittest.TestCase):
    def test_no_feasible_design_sampled_is_below_a_bound_or_lost(self):
        rng = np.random.default_rng(1)
        compared = 0
        for item in some((*PUBLISHED[::2], *MULTIMODAL), 3):
            problem = scalar_problem(item.problem())
            if not 0 < len(problem.free) <= 5:
                continue
            bounder, gate = Bounder(problem), Gate(problem)
            low, high = box_of(problem)
            for scale in (1.0, 0.03):
                middle = low + rng.uniform(size=(6, len(low))) * (high - low)
                ends = np.maximum(middle - scale * (high - low), low), np.minimum(middle + scale * (high - low), high)
                with np.errstate(all="ignore"):
                    found = bounder.bound(ends[0][:, bounder.free], ends[1][:, bounder.free], np.inf)
                    convex = bounder.convex_bound(ends[0][:, bounder.free], ends[1][:, bounder.free])
                for box in range(6):
                    points = np.repeat(np.array(problem.start)[np.newaxis], 200, axis=0)
                    drawn = ends[0][box] + rng.uniform(size=(200, len(low))) * (ends[1][box] - ends[0][box])
                    points[:, bounder.free] = drawn[:, bounder.free]
                    with np.errstate(all="ignore"):
                        values, rows = gate.batch_values(points)
                    meets = (rows >= bounder.row_lower) & (rows <= bounder.row_upper)
                    feasible = meets.all(axis=1) & np.isfinite(values)
                    if not feasible.any():
                        continue
                    compared += 1
                    least = values[feasible].min() + 1e-9 * abs(values[feasible].min())
                    own = points[feasible][:, bounder.free]
                    with self.subTest(problem=item.name, scale=scale, box=box):
                        self.assertLessEqual(found.bound[box], least)
                        self.assertLessEqual(convex[box], least)
                        self.assertTrue(
                            (own >= found.lows[box] - 1e-9).all() and (own <= found.highs[box] + 1e-9).all()
                        )
        self.assertGreater(compared, 200 if WHOLE else 60)


class Proofs(unittest.TestCase):
    def test_published_optima_are_proved(self):
        proved = ("hs1", "hs7", "hs11", "hs22", "hs34", "hs65", "hs71", "Beale 1958")
        for item in some([item for item in PUBLISHED if item.name in proved], 4):
            with self.subTest(problem=item.name):
                found = verify(run(item.problem()), extra=PROOF)
                self.assertEqual(found.verdict, "global-proved", found.reason)
                assert found.proof is not None
                self.assertLessEqual(found.proof.bound, item.best + 1e-6 * max(1.0, abs(item.best)))
                self.assertGreaterEqual(found.proof.bound, item.best - 3e-6 * max(1.0, abs(item.best)))

    def test_a_local_optimum_is_found_out(self):
        quartic = loads(two_variables("x^4 - 4 * x^2 + 0.5 * x + y^2", start=(1.3, 0.0)))
        at = dict(zip("xy", run(quartic, method="bfgs").point, strict=True))
        for problem, design in (
            (quartic, at),
            (loads(two_variables("abs(x^2 - 1) + 0.1 * x + y^2")), {"x": 1, "y": 0}),
        ):
            with self.subTest(problem=problem.source.text):
                self.assertTrue(verify(problem, at=design).holds)
                found = verify(problem, at=design, extra=PROOF)
                self.assertEqual((found.verdict, found.holds), ("improvable", False))
                self.assertLess(found.better_objective, found.objective - 0.1)

    def test_where_time_is_short_the_box_is_shown_and_nothing_claimed(self):
        item = next(item for item in PUBLISHED if item.name == "hs38")
        found = verify(run(item.problem()), extra=VerifyOptions(prove=True, prove_seconds=0.02))
        self.assertEqual(found.verdict, "local-strict")
        self.assertEqual(next(check.result for check in found.checks if check.name == "proof"), "unknown")
        self.assertEqual(set(found.proof.box), {"x1", "x2", "x3", "x4"})

    def test_without_bounds_the_proof_says_within_what(self):
        item = next(item for item in PUBLISHED if item.name == "hs61")
        found = verify(run(item.problem()), extra=PROOF)
        self.assertEqual(found.verdict, "global-proved")
        self.assertEqual(set(found.proof.assumed), {"x1", "x2", "x3"})
        self.assertIn("as long as", found.reason)

    @only_in_whole
    def test_members_and_vectors(self):
        name, text, best = MIXED[0]
        result = run(loads(text))
        self.assertAlmostEqual(result.objective, best, delta=1e-3)
        self.assertEqual(verify(result, extra=PROOF).verdict, "global-proved", name)
        rastrigin = MULTIMODAL[0].problem(start=0.25)
        trapped = run(rastrigin, method="bfgs")
        self.assertGreater(trapped.objective, 0.5)
        self.assertEqual(verify(trapped, extra=PROOF).verdict, "improvable")

    def test_models_are_refused_with_a_reason(self):
        many = "[variables]\nx = { start = 1, shape = 20 }\n[minimize]\nf = 'sum(x^4 + x^2)'\n"
        found = verify(run(loads(many)), extra=PROOF)
        detail = next(check.detail for check in found.checks if check.name == "proof")
        self.assertIn("20 free variables", detail)


class Unrolled(unittest.TestCase):
    def test_values_are_those_of_the_arrays(self):
        text = """[variables]
x = { start = [0.3, 0.7, 1.1], shape = 3 }
m = { start = [[1.0, 2.0, 0.5], [0.2, 0.4, 3.0]], shape = [2, 3] }
[parameters]
knots = [0, 1, 2]
heights = [0, 3, 1]
[minimize]
f = "sum(dot(m, x)) + norm(x) + interp(x[0] + 0.4, knots, heights) + prod(x) + max(x) + sum(cumsum(x) * x[::-1])"
[constraints]
rows = "dot(m, x) <= 10"
one = "where(x[0] > x[1], sum(x), mean(x^2)) <= 5"
"""
        problem = loads(text)
        scalar = scalar_problem(problem)
        self.assertFalse(scalar.graph.has_arrays)
        rng = np.random.default_rng(3)
        for _ in range(5):
            point = rng.uniform(0.1, 1.4, problem.size)
            one, other = Gate(problem).evaluate(point), Gate(scalar).evaluate(point)
            np.testing.assert_allclose(
                np.append(other.rows, other.objective), np.append(one.rows, one.objective), 1e-12
            )
        with self.assertRaises(TooLong):
            unrolled(problem.graph, [problem.objective.node], problem.parameter_values, [0, 3], 10)
