"""Receding horizons as a user meets them: what comes of a loop, a plant that differs, noise, refusals."""

import json
import unittest
from pathlib import Path

import numpy as np

from tests.test_cli import InAFolder

# The best control of x' = u for the integral of x² + u² over a long time is u = −x, and x falls as exp(−t).
LOOP = """title = "Level"
[time]
to = 4
steps = 16
unit = "h"
[parameters]
leak = 0.0
[states]
level = { rate = "pump - leak", initial = 1, lower = -0.2, unit = "m" }
[controls]
pump = { start = 0, lower = -3, upper = 3, form = "pointwise", unit = "m/h" }
[minimize]
cost = { formula = "integral(level^2 + pump^2)", unit = "EUR" }
"""


class ClosedLoops(InAFolder):
    def setUp(self):
        super().setUp()
        Path("level.toml").write_text(LOOP)
        self.words = ("run", "level.toml", "--receding", "window=4, advance=0.25, until=1")

    def test_the_loop_follows_the_known_law(self):
        found = json.loads(self.call(*self.words, "--json")[0])
        t, level = (np.array(found["signals"][name]) for name in ("t", "level"))
        np.testing.assert_allclose(level, np.exp(-t), atol=5e-3)
        self.assertEqual([step["begin"] for step in found["steps"]], np.arange(0, 1, 0.25).tolist())
        self.assertEqual(found["failed"], 0)
        # ∫ 2 exp(−2t) over two hours is 1 − exp(−4).
        self.assertAlmostEqual(found["objective"], 1.0 - np.exp(-2.0), places=2)

    def test_a_plant_that_leaks_is_told_with_what_it_misses(self):
        out, _ = self.call(*self.words, "--plant", "leak=0.5", "--output", "loop.png")
        self.assertIn("the plant: leak = 0.5", out)
        self.assertRegex(out, r"what came of it: the integrals in cost add up to \S+ EUR along the plant")
        self.assertIn("4 steps, median", out)
        self.assertTrue(Path("loop.png").read_bytes().startswith(b"\x89PNG"))
        # The loop settles where the leak is all that the planned pump gives: u = −x = leak.
        found = json.loads(self.call(*self.words, "--plant", "leak=0.5", "--json")[0])
        rest = json.loads(
            self.call("run", "level.toml", "--receding", "window=4, advance=0.5, until=6", "--plant", "leak=0.1",
                      "--json")[0])["signals"]["level"][-1]  # fmt: skip
        self.assertAlmostEqual(rest, -0.1, places=1)
        self.assertLess(found["signals"]["level"][-1], np.exp(-2.0))

    def test_noise_has_a_seed(self):
        words = (*self.words, "--noise", "level=0.05", "--json")
        one, same, other = (json.loads(self.call(*words, "--seed", seed)[0])["signals"]["level"] for seed in (1, 1, 2))
        self.assertEqual(one, same)
        self.assertNotEqual(one, other)
        self.assertIn("measured with deviations: level 0.05", self.call(*self.words, "--noise", "level=0.05")[0])

    def test_what_makes_no_loop_is_refused(self):
        for words, told in (
            (("--receding", "window=4"), "advance"),
            (("--receding", "window=4, advance=9, until=2"), "advance"),
            (("--receding", "window=0, advance=1, until=2"), "window"),
            (("--receding", "window=four, advance=1, until=2"), "window"),
            (("--receding", "window=4, advance=1, until=2", "--plant", "leek=1"), "leek"),
            (("--receding", "window=4, advance=1, until=2", "--noise", "pump=1"), "pump"),
            (("--receding", "window=4, advance=1, until=2", "--repeats", "2"), "makes several"),
            (("--plant", "leak=1"), "--receding"),
        ):
            with self.subTest(words):
                self.assertIn(told, self.call("run", "level.toml", *words, status=2)[1])
        self.call("run", "pump.toml", "--receding", "window=4, advance=1, until=2", status=2)


if __name__ == "__main__":
    unittest.main()
