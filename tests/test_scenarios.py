"""Designs × parameter values in one call: the same as a problem bound anew for each set."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

import numpy as np

from ilvren.errors import RequestError
from ilvren.evaluate import AsWritten, Gate, scenario_values
from ilvren.problem import Problem, load, loads

SCALAR = """[parameters]
k = 2
cap = "3 * k"
idle = 7
[variables]
x = { start = 1, lower = 0.1, upper = 3 }
y = { start = 1, lower = 0.1, upper = 3 }
[derived]
mix = "k * x / (y - 0.5) + idle"
[minimize]
f = "mix + sqrt(x - k)"
[constraints]
top = "x * y + k <= cap"
band = "1 <= x + y <= 2 * k"
"""
VECTOR = """[parameters]
load = [1, 2, 4]
tilt = 0.5
n = 3
[variables]
u = { start = 0.3, shape = "n" }
s = 2
[derived]
bent = "cumsum(load * u) + tilt * s"
[maximize]
f = "min(bent) - norm(u - load) + dot(load, u) * where(tilt > 0.6, s, -s)"
[constraints]
each = "bent[1:] - tilt <= load[1:]"
total = "sum(load) * s >= tilt"
"""
TABLED = """[parameters]
xs = [0, 1, 2]
ys = [1, 4, 2]
scale = 1
[variables]
x = 0.7
[minimize]
f = "interp(x * scale, xs * scale, ys)"
"""


class ParametersAsABatch(unittest.TestCase):
    def compare(self, problem: Problem, points: np.ndarray, sets: dict[str, np.ndarray], names: list[str]) -> None:
        gate = Gate(problem)
        found = scenario_values(gate.written, points, sets, names)
        for number in range(len(found.objective)):
            own = problem.with_parameters(**{name: values[number] for name, values in sets.items()})
            there = Gate(own)
            point = points[number] if points.ndim == 2 else points
            values = there.written.values(point)
            with self.subTest(number=number):
                np.testing.assert_allclose(found.objective[number], values[problem.objective.name], rtol=1e-13)
                rows = np.concatenate([np.ravel(values[block.name]) for block in own.row_blocks] or [np.zeros(0)])
                np.testing.assert_allclose(found.rows[number], rows, rtol=1e-13)
                np.testing.assert_allclose(found.lower[number], own.joined_rows("lower"), rtol=1e-13)
                np.testing.assert_allclose(found.upper[number], own.joined_rows("upper"), rtol=1e-13)
                for name in names:
                    np.testing.assert_allclose(found.values[name][number], values[name], rtol=1e-13)

    def test_every_set_gives_what_a_problem_of_its_own_gives(self) -> None:
        rng = np.random.default_rng(3)
        for text, sets, names in (
            (SCALAR, {"k": rng.uniform(0.6, 3, 40)}, ["mix"]),
            (SCALAR, {"k": rng.uniform(0.6, 3, 40), "idle": rng.normal(size=40)}, ["mix"]),
            (VECTOR, {"load": rng.normal(size=(25, 3)), "tilt": rng.uniform(0, 1, 25)}, ["bent"]),
            (VECTOR, {"tilt": rng.uniform(0, 1, 25)}, ["bent", "f"]),
            (TABLED, {"scale": rng.uniform(0.5, 2, 9)}, []),
        ):
            problem = loads(text)
            count = len(next(iter(sets.values())))
            start = np.array(problem.start)
            with self.subTest(text=text, sets=sorted(sets)):
                self.compare(problem, start, sets, names)
                spread = np.clip(start + rng.normal(size=(count, problem.size)), 0.1, 3.0)
                self.compare(problem, spread, sets, names)

    def test_models_are_called_once_for_each_set(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "m.py").write_text(
                "def f(x, k):\n    if k > 2:\n        raise ValueError\n    return x * k\n"
            )
            path = Path(folder) / "p.toml"
            path.write_text(
                "[parameters]\nk = 1\n[variables]\nx = { start = 2 }\n[models.m]\npython = 'm.py:f'\noutputs = ['q']\n"
                "[minimize]\nf = 'm.q + k'\n"
            )
            gate = Gate(load(path))
            found = scenario_values(gate.written, np.array([3.0]), {"k": np.array([1.0, 2.5, 0.5])})
        np.testing.assert_array_equal(found.objective, [4.0, np.nan, 2.0])
        self.assertEqual((gate.calls[0].calls, gate.calls[0].failures), (3, 1))

    def test_what_makes_no_sense_is_refused(self) -> None:
        problem = loads(VECTOR)
        start = np.array(problem.start)
        for sets, word in (
            ({"n": np.array([3.0, 4.0])}, "shape"),
            ({"load": np.ones((2, 4))}, "shape"),
            ({"lod": np.ones(2)}, "load"),
            ({"tilt": np.ones(2), "load": np.ones((3, 3))}, "set"),
            ({"tilt": np.float64(1.0)}, "shape"),
            ({}, "at least one"),
        ):
            with self.subTest(sets=sorted(sets)), self.assertRaises(RequestError) as caught:
                scenario_values(AsWritten(problem), start, sets)
            self.assertIn(word, f"{caught.exception} {caught.exception.advice}")
        with self.assertRaises(RequestError):
            scenario_values(AsWritten(problem), np.zeros((5, 4)), {"tilt": np.ones(2)})


if __name__ == "__main__":
    unittest.main()
