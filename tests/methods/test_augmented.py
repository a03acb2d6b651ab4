"""The augmented Lagrangian with factored Newton steps, on plain arrays and on a large problem."""

from __future__ import annotations

import unittest
from importlib.resources import files

import numpy as np

from ilvren import run
from ilvren.methods.base import Assessment, HessianRequest, Iterate, Reply, Request, Task
from ilvren.methods.pieces.augmented_newton import Augmented, newton_within_bounds
from ilvren.methods.pieces.points import Point
from ilvren.problem import load, loads
from tests.compact import only_in_whole


class FactoredSteps(unittest.TestCase):
    def minimized(self, seed: int) -> tuple[Task, Point, np.ndarray, np.ndarray, int]:
        """Minimize a random bounded quadratic, indefinite for odd seeds, plus ½ ρ (a'x − 1)² with the pieces alone."""
        rng = np.random.default_rng(seed)
        n, penalty = 12, 1e6
        square = rng.normal(size=(n, n))
        matrix = square @ square.T - (seed % 2) * 10.0 * np.eye(n)
        g, a = rng.normal(size=n), rng.normal(size=n)
        one = np.ones(1)
        task = Task(
            start=np.zeros(n),
            lower=np.full(n, -1.0),
            upper=np.full(n, 1.0),
            row_lower=one,
            row_upper=one,
            row_sizes=one,
            has_curvature=True,
        )

        def point(x: np.ndarray) -> Point:
            f = 0.5 * float(x @ matrix @ x) + float(g @ x)
            return Point(x, f, np.array([a @ x]), matrix @ x + g, a[np.newaxis], True)

        problem = Augmented(task, np.zeros(1), penalty)
        generator = newton_within_bounds(problem, point(task.start), 1e-7, "")
        message, steps = next(generator), 0
        try:
            while True:
                if isinstance(message, Iterate):
                    steps += 1
                    answer: object = Assessment(0.0, 1.0, False)
                elif isinstance(message, HessianRequest):
                    answer = matrix
                else:
                    assert isinstance(message, Request)
                    p = point(message.points[0])
                    answer = Reply(np.array([p.f]), p.c[np.newaxis], p.g[np.newaxis], [p.j])
                message = generator.send(answer)
        except StopIteration as end:
            reached = end.value[0]
        full = matrix + penalty * np.outer(a, a)
        return task, reached, full, full @ reached.x + g - penalty * a, steps

    def test_bounded_quadratics_with_a_stiff_penalty_take_a_few_steps(self) -> None:
        for seed in range(8):
            task, reached, full, slope, steps = self.minimized(seed)
            with self.subTest(seed=seed):
                free = (reached.x > task.lower + 1e-9) & (reached.x < task.upper - 1e-9)
                self.assertLess(np.abs(slope[free]).max(initial=0.0), 1e-6)
                self.assertTrue((slope[reached.x <= task.lower + 1e-9] >= 0.0).all())
                self.assertTrue((slope[reached.x >= task.upper - 1e-9] <= 0.0).all())
                self.assertGreater(np.linalg.eigvalsh(full[np.ix_(free, free)]).min(initial=1.0), 0.0)
                self.assertLess(steps, 40)

    @only_in_whole
    def test_a_long_trench_takes_hundreds_of_gradients_not_thousands(self) -> None:
        trench = load(str(files("ilvren") / "demos" / "trench" / "trench.toml"), set={"stations": 300})
        found, reference = (run(trench, method=name) for name in ("augmented-lagrangian", "interior-point"))
        self.assertEqual(found.outcome, "converged", found.reason)
        self.assertAlmostEqual(found.objective / reference.objective, 1.0, places=6)
        self.assertLess(found.counts["gradients"], 300)

    def test_a_saddle_is_left(self) -> None:
        text = "[variables]\nx = { start = 0, lower = -2, upper = 2 }\ny = { start = 1 }\n"
        text += "[minimize]\nf = 'x^4 - x^2 + y^2'\n[constraints]\nc = 'y + x*y >= 0.1'\n"
        result = run(loads(text), method="augmented-lagrangian")
        self.assertEqual(result.outcome, "converged")
        self.assertLess(result.objective, -0.2)


if __name__ == "__main__":
    unittest.main()
