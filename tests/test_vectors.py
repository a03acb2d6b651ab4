"""Vector problems the whole way, with solutions known by construction; and the real program on files."""

import json
import os
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

import numpy as np

from ilvren import check, loads, run, verify
from ilvren.ledger import Ledger
from tests.compact import only_in_whole
from tests.models.test_models import CODE

PROJECTION = """
[parameters]
target = {target}
lean = {lean}
reach = {reach}
[variables]
u = {{ start = 0.1, lower = -1, upper = 1, shape = {n} }}
[minimize]
distance = "sum((u - target)^2) / 2 + 0.3 * dot(lean, u)"
[constraints]
plane = "dot(lean, u) <= reach"
"""


def projected(target, lean, reach):
    """Return the nearest point to target − 0.3·lean within the box and the half-space, by bisection on the multiplier."""
    low, high = 0.0, 1e6

    def at(price):
        return np.clip(target - (0.3 + price) * lean, -1.0, 1.0)

    if lean @ at(0.0) <= reach:
        return at(0.0), 0.0
    for _ in range(200):
        middle = 0.5 * (low + high)
        low, high = (middle, high) if lean @ at(middle) > reach else (low, middle)
    return at(high), high


class KnownSolutions(unittest.TestCase):
    @only_in_whole
    def test_projections_onto_box_and_plane(self):
        rng = np.random.default_rng(8)
        for n in (1, 2, 7, 30):
            target, lean = 1.5 * rng.normal(size=n), rng.normal(size=n)
            reach = float(lean @ np.clip(target - 0.3 * lean, -1, 1)) - 0.2
            text = PROJECTION.format(target=target.tolist(), lean=lean.tolist(), reach=reach, n=n)
            with self.subTest(n=n):
                result = run(loads(text), method="sqp")
                expected, price = projected(target, lean, reach)
                self.assertEqual(result.outcome, "converged")
                np.testing.assert_allclose(result.point, expected, atol=1e-6)
                self.assertAlmostEqual(-result.constraints[0].price, price, places=4)
                self.assertTrue(verify(result).holds)
                self.assertIsInstance(result.to_dict()["variables"]["u"], list)

    def test_equations_for_every_element(self):
        """A tridiagonal nonlinear system: as many rows as elements, no objective."""
        n = 25
        text = (
            f"[variables]\nu = {{ start = -1, shape = {n} }}\n[constraints]\n"
            'inner = "(3 - 2 * u[1:-1]) * u[1:-1] - u[:-2] - 2 * u[2:] + 1 == 0"\n'
            'first = "(3 - 2 * u[0]) * u[0] - 2 * u[1] + 1 == 0"\nlast = "(3 - 2 * u[-1]) * u[-1] - u[-2] + 1 == 0"\n'
        )
        result = run(loads(text), method="sqp")
        self.assertEqual(result.outcome, "converged")
        u = np.concatenate([[0.0], result.point, [0.0]])
        residual = (3 - 2 * u[1:-1]) * u[1:-1] - u[:-2] - 2 * u[2:] + 1
        np.testing.assert_allclose(residual, 0.0, atol=1e-6)
        self.assertEqual(verify(result).verdict, "global-proved")

    def test_matrices(self):
        """The nearest matrix of given row sums: every row is shifted by the same amount."""
        given = np.array([[1.0, 2.0, 3.0], [0.0, -1.0, 4.0]])
        text = (
            f"[parameters]\nm = {given.tolist()}\nwanted = [3, 6]\n[variables]\nx = {{ start = 0, shape = [2, 3] }}\n"
            '[minimize]\nfar = "sum((x - m)^2)"\n[constraints]\nrows = "sum(x, 1) == wanted"\n'
        )
        result = run(loads(text), method="sqp")
        expected = given + (np.array([3.0, 6.0]) - given.sum(axis=1))[:, np.newaxis] / 3
        np.testing.assert_allclose(np.array(result.variables["x"]), expected, atol=1e-6)
        self.assertEqual([state.name for state in result.constraints], ["rows[0]", "rows[1]"])

    def test_scalars_and_vectors_say_the_same(self):
        """The same problem written with two scalars and with one vector: the same path, to rounding."""
        scalar = '[variables]\na = -1.2\nb = 1.0\n[minimize]\nf = "100 * (b - a^2)^2 + (1 - a)^2"\n'
        vector = "[variables]\nu = { start = [-1.2, 1.0] }\n[minimize]\n"
        vector += 'f = "100 * sum((u[1:] - u[:-1]^2)^2) + sum((1 - u[:-1])^2)"\n'
        one, other = (run(loads(text), method="sqp") for text in (scalar, vector))
        self.assertEqual(dict(one.counts), dict(other.counts))
        np.testing.assert_allclose(one.point, other.point, rtol=1e-9)


class Nothing(unittest.TestCase):
    def test_vectors_of_one_element_and_constraints_without_rows(self):
        text = (
            "[variables]\nu = { start = 0.4, lower = 0, upper = 2, shape = 1 }\nw = { start = 0.5, lower = 0.5, upper = 0.5, shape = 3 }\n"
            '[minimize]\nf = "sum((u - 1)^2) + max(u) + norm(u) + prod(u) + sum(w)"\n'
            '[constraints]\nnone = "u[1:] - u[:-1] >= 0"\nc = "u >= w[0]"\n'
        )
        for method in ("sqp", "nelder-mead"):
            result = run(loads(text), method=method)
            self.assertTrue(result.holds)
            self.assertAlmostEqual(result.point[0], 0.5, places=5)
            self.assertEqual(result.to_dict()["constraints"]["none"]["value"] if method == "sqp" else [], [])
        self.assertTrue(check(loads(text)).holds)


class TheProgram(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.environment = {key: value for key, value in os.environ.items() if key != "ILVREN_LEDGER"}

    def call(self, *words):
        return subprocess.run(
            [sys.executable, "-m", "ilvren", *words],
            cwd=self.folder,
            env=self.environment,
            capture_output=True,
            text=True,
            timeout=120,
            check=False,
        )

    @only_in_whole
    def test_what_a_model_prints_keeps_out_of_the_document(self):
        (self.folder / "talk.py").write_text('def f(x):\n    print("thinking")\n    return {"y": (x - 2) ** 2 + 1}\n')
        (self.folder / "p.toml").write_text(
            '[variables]\nx = 1.0\n[models.m]\npython = "talk.py:f"\noutputs = ["y"]\n[minimize]\nz = "y"\n'
        )
        done = self.call("run", "p.toml", "--method", "sqp", "--json")
        document = json.loads(done.stdout)
        self.assertEqual((done.returncode, document["outcome"]), (0, "converged"))
        self.assertAlmostEqual(document["variables"]["x"], 2.0, places=5)
        self.assertIn("thinking", done.stderr)

    @only_in_whole
    def test_a_killed_run_with_a_model_goes_on_without_asking_it_again(self):
        slow = CODE + "\nimport time, pathlib\ndef waiting(flow, bore, length):\n"
        slow += '    with pathlib.Path(__file__).with_name("calls").open("a") as file: file.write("x")\n'
        slow += "    time.sleep(0.02)\n    return losses(flow, bore, length)\n"
        (self.folder / "hydraulics.py").write_text(slow)
        (self.folder / "p.toml").write_text(
            "[variables]\nflow = { start = 0.02, lower = 0.005, upper = 0.05 }\nbore = { start = 0.1, lower = 0.05, upper = 0.3 }\n"
            "[parameters]\nlength = 120\n"
            '[models.upper]\npython = "hydraulics.py:waiting"\noutputs = ["friction", "speed"]\n'
            '[minimize]\ncost = "900 * bore^1.3 + 2 * friction"\n[constraints]\nband = "upper.speed <= 2.5"\nneed = "flow >= 0.015"\n'
        )
        words = [
            sys.executable,
            "-m",
            "ilvren",
            "run",
            "p.toml",
            "--method",
            "nelder-mead",
            "--evaluations",
            "80",
            "--quiet",
        ]
        process = subprocess.Popen(words, cwd=self.folder, env=self.environment, stdout=subprocess.DEVNULL)
        calls = self.folder / "calls"
        while not calls.exists() or len(calls.read_text()) < 20:
            time.sleep(0.02)
        process.send_signal(signal.SIGKILL)
        process.wait()
        before = len(calls.read_text())
        self.assertEqual(self.call("resume", "last", "--quiet").returncode, 1)
        with Ledger(self.folder / "ilvren.ledger", read_only=True) as ledger:
            result = ledger.run("last").result
        counted = result["counts"]["evaluations"]
        self.assertEqual((result["outcome"], counted), ("exhausted", 80))
        asked = len(calls.read_text())
        # Calls of more than 10 ms are on record at once: every point is asked for once; one that was being computed
        # when the kill came may be asked for again, and the
        # baseline shown beside the result is a point of the run.
        self.assertLessEqual(asked, counted + 2)
        self.assertGreater(asked, before)

    def test_faults_of_shapes_and_models_get_one_message(self):
        (self.folder / "p.toml").write_text(
            '[variables]\nu = { start = 0, shape = 3 }\n[parameters]\nv = [1, 2]\n[minimize]\nf = "sum(u + v)"\n'
        )
        done = self.call("show", "p.toml")
        self.assertEqual(done.returncode, 2)
        self.assertIn("p.toml:6: minimize.f: the shapes do not fit: length 3 and length 2", done.stderr)
        self.assertIn("        sum(u + v)\n            ^^^^^\n", done.stderr)
        (self.folder / "m.py").write_text("def f(x):\n    return {'y': x\n")
        (self.folder / "p.toml").write_text(
            '[variables]\nx = 1.0\n[models.m]\npython = "m.py:f"\noutputs = ["y"]\n[minimize]\nz = "y"\n'
        )
        done = self.call("run", "p.toml", "--method", "sqp")
        self.assertEqual(done.returncode, 2)
        self.assertIn("is not valid Python", done.stderr)
        self.assertNotIn("Traceback", done.stderr)
