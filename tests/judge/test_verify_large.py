"""Verdicts on problems with sparse derivatives: as sure as on small ones, and no surer."""

import unittest
from dataclasses import replace

import numpy as np

from ilvren import loads, run, verify
from tests.compact import only_in_whole, some

N = 450


def rope(weight, *, start="0.5 * evenly(0, 1, 450)", rows=""):
    """Return a hanging rope in heights u: stiffness against weight, a floor, both ends held."""
    return loads(
        f'[parameters]\nw = {weight}\nv = "{start}"\n'
        f'[variables]\nu = {{ start = "v", lower = -0.4, shape = {N}, magnitude = 1 }}\n'
        f'[minimize]\nf = "50 * sum(diff(u)^2) + w * sum(u) / {N} + 1"\n'
        f'[constraints]\nleft = "u[0] == 0"\nright = "u[-1] == 0.5"\nsteep = "diff(u) <= 0.05"\n{rows}'
    )


class Large(unittest.TestCase):
    def test_an_optimum_is_strict_and_its_neighbours_are_not(self):
        for weight in some((0.1, 5.0, 60.0)):
            result = run(rope(weight))
            self.assertEqual(result.outcome, "converged", result.reason)
            with self.subTest(weight=weight):
                found = verify(result)
                self.assertEqual(found.verdict, "local-strict", found.reason)
                moved = np.array(result.point)
                moved[100:200] += 1e-3
                off = replace(result, point=tuple(moved.tolist()), evaluations=(), objective=None)
                self.assertFalse(verify(off).holds)

    def test_a_saddle_is_never_called_an_optimum(self):
        """A rope that buckles: straight is stationary, and any bow is better."""
        text = (
            f"[variables]\nu = {{ start = 0, lower = -5, upper = 5, shape = {N} }}\n"
            f'[minimize]\nf = "1 + sum((u^2 - 1)^2) / {N} + 0.001 * sum(diff(u)^2)"\n[constraints]\nlevel = "sum(u) == 0"\n'
            f'idle = "diff(u) <= 100"\n'
        )
        result = run(loads(text), method="interior-point")
        verdict = verify(result)
        if abs(result.objective - 2.0) < 1e-9:
            self.assertFalse(verdict.holds, verdict.reason)
        else:
            self.assertLess(result.objective, 2.0)

    @only_in_whole
    def test_a_run_stopped_early_is_improvable(self):
        result = run(rope(5.0), iterations=3)
        self.assertEqual(result.outcome, "exhausted")
        self.assertFalse(verify(result).holds)


if __name__ == "__main__":
    unittest.main()
