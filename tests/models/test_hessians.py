"""Second derivatives through models: formulas' own are exact, and only what models add is estimated."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from ilvren import load, run, verify
from ilvren.evaluate import Gate
from ilvren.methods.base import Ending, Iterate, Task
from ilvren.methods.pieces.estimated import estimated_while_useful
from ilvren.models.hessians import Secants, differenced_along, differenced_hessian

CODE = """
import numpy as np

def price(total, peak):
    return {"c": 3.0 * total**1.3 + 0.5 * np.exp(peak / 3.0) + 0.2 * total * peak}

def wave(z):
    return {"w": 3.0 * z**2 + np.roll(z, 1) * z}
"""
MODELS = """
[models.m]
python = "inner.py:price"
inputs = { total = "x * y + 1", peak = "first" }
outputs = ["c"]
[models.v]
python = "inner.py:wave"
inputs = { z = "z * x" }
outputs = { w = { shape = 3 } }
[derived]
c = "m.c"
w = "v.w"
"""
FORMULAS = """
c = "3 * (x * y + 1)^1.3 + 0.5 * exp(first / 3) + 0.2 * (x * y + 1) * first"
w = "3 * (z * x)^2 + join(z[2] * x, z[0:2] * x) * z * x"
"""
REST = """
[variables]
x = { start = 1.2, lower = 0.5, upper = 3 }
y = { start = 0.7, lower = 0.1, upper = 4 }
z = { start = [0.5, 0.6, 0.9], lower = -4, upper = 4 }
[minimize]
f = "c + 10 * (y - x^2)^2 + sum(w * exp(z)) + x^4"
[constraints]
r = "c * y + x <= 30"
s = "sum(w^2) >= 2"
"""
LARGE = """
[variables]
x = { start = 0.5, lower = 0.01, upper = 5, shape = 600 }
[models.m]
python = "inner.py:price"
inputs = { total = "x[0] * x[9] + 1", peak = "x[5]" }
outputs = ["c"]
[minimize]
f = "m.c + sum(diff(x)^2) + 100 * sum((x - 1.2)^4) / 600"
[constraints]
r = "x[1:] * x[:-1] >= 0.2"
"""


class Bends(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        (self.folder / "inner.py").write_text(CODE)

    def problem(self, text):
        file = self.folder / "problem.toml"
        file.write_text(text)
        return load(file)

    def both(self):
        """Return the same problem through models and in formulas."""
        derived = MODELS + 'first = "w[0]"\n'
        return self.problem(derived + REST), self.problem(f'[derived]\nfirst = "w[0]"\n{FORMULAS}{REST}')

    def test_hessians_are_those_of_the_same_formulas(self):
        """A model feeds another here, and both stand in the objective and in the rows."""
        through, plain = (Gate(problem) for problem in self.both())
        rng = np.random.default_rng(4)
        for _ in range(5):
            point, weights, way = rng.uniform(0.6, 1.5, 5), rng.normal(size=2), rng.normal(size=5)
            exact = plain.written.hessian(point, weights, weight=0.7).toarray()
            found = through.written.hessian(point, weights, weight=0.7).toarray()
            size = np.abs(exact).max()
            self.assertLess(np.abs(found - exact).max(), 1e-7 * size)
            product = through.written.hessian_product(point, way, weights, weight=0.7)
            self.assertLess(np.abs(product - exact @ way).max(), 1e-7 * size)

    def test_secants_find_what_is_quadratic(self):
        """SR1 is exact after as many independent steps as inputs, whatever the weights and the order."""
        rng = np.random.default_rng(2)
        bends = [b + b.T for b in rng.normal(size=(3, 4, 4))]
        slopes = rng.normal(size=(3, 4))

        def jacobian(u):
            return slopes + np.array([b @ u for b in bends])

        secants = Secants()
        for u in rng.normal(size=(6, 4)):
            secants.visit(u, jacobian(u))
        for weights in rng.normal(size=(4, 3)):
            u, exact = rng.normal(size=4), sum(w * b for w, b in zip(weights, bends, strict=True))
            size = np.abs(exact).max()
            self.assertLess(np.abs(secants.matrix(u, jacobian(u), weights) - exact).max(), 1e-6 * size)
            self.assertLess(np.abs(differenced_hessian(jacobian, u, weights) - exact).max(), 1e-7 * size)
            way = rng.normal(size=4)
            self.assertLess(np.abs(differenced_along(jacobian, u, weights, way) - exact @ way).max(), 1e-7 * size)

    def test_nonsense_is_left_out(self):
        secants = Secants()
        self.assertTrue(np.isnan(secants.matrix(np.ones(2), np.full((1, 2), np.nan), np.ones(1))).all())
        secants.visit(np.ones(2), np.ones((1, 2)))
        secants.visit(np.full(2, 2.0), np.array([[np.inf, 1.0]]))
        self.assertEqual(secants.count, 1)
        self.assertTrue(np.isfinite(secants.matrix(np.ones(2), np.ones((1, 2)), np.zeros(1))).all())
        self.assertTrue((differenced_along(lambda u: np.ones((1, 2)), np.ones(2), np.ones(1), np.zeros(2)) == 0).all())

    def test_they_spare_evaluations_and_end_at_the_same_design(self):
        through, plain = self.both()
        for method, option in (
            ("sqp", {"exact": "no"}),
            ("interior-point", {"exact": "no"}),
            ("augmented-lagrangian", {"inner": "l-bfgs"}),
        ):
            with self.subTest(method=method):
                known, found, without = (
                    run(plain, method=method),
                    run(through, method=method),
                    run(through, method=method, options=option),
                )
                self.assertEqual(found.outcome, "converged", found.reason)
                self.assertGreater(found.counts["hessians"], 0)
                self.assertEqual(without.counts["hessians"], 0)
                self.assertAlmostEqual(found.objective, known.objective, delta=1e-6 * abs(known.objective))
                self.assertLess(found.counts["gradients"], without.counts["gradients"])

    def test_a_method_that_gets_no_further_goes_on_without(self):
        seen = []

        def method(task, options):
            seen.append((task.has_secants, float(task.start[0])))
            yield Iterate(task.start + 1.0)
            return Ending("stalled" if task.has_secants else "settled", "")

        none = np.zeros(0)
        task = Task(
            start=np.zeros(1),
            lower=np.zeros(1),
            upper=np.ones(1),
            row_lower=none,
            row_upper=none,
            row_sizes=none,
            has_secants=True,
        )
        for given, expected in (
            (task, [(True, 0.0), (False, 1.0)]),
            (replace(task, has_secants=False), [(False, 0.0)]),
        ):
            seen.clear()
            with self.assertRaises(StopIteration) as end:
                generator = estimated_while_useful(method)(given, None)
                while True:
                    next(generator)
            self.assertEqual((end.exception.value.claim, seen), ("settled", expected))

    def test_a_large_problem_with_a_small_model_is_solved_and_judged(self):
        result = run(self.problem(LARGE))
        self.assertEqual((result.outcome, result.method), ("converged", "interior-point"), result.reason)
        self.assertLess(result.counts["evaluations"], 60)
        verdict = verify(result)
        self.assertEqual(verdict.verdict, "local-strict", verdict.reason)
        moved = np.array(result.point)
        moved[100:200] += 0.2
        self.assertFalse(verify(replace(result, point=tuple(moved.tolist()), evaluations=(), objective=None)).holds)


if __name__ == "__main__":
    unittest.main()
