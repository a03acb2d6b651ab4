"""What local verdicts rest on: qualifications, the critical cone, smooth pieces, and the smoothness of models."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from ilvren import load, loads, run, verify
from ilvren.formula.pieces import smooth_piece
from ilvren.judge.optimum.critical_cone import least_on_cone
from ilvren.judge.optimum.qualification import qualification_of
from tests.problems import two_variables


class Cones(unittest.TestCase):
    def test_the_least_curvature_is_that_of_many_directions(self):
        rng = np.random.default_rng(4)
        for trial in range(25):
            n, count = int(rng.integers(2, 5)), int(rng.integers(0, 4))
            h = rng.normal(size=(n, n))
            h = h + h.T
            weak = rng.normal(size=(count, n))
            weak /= np.linalg.norm(weak, axis=1, keepdims=True) if count else 1.0
            found = least_on_cone(h, np.eye(n), weak)
            draws = rng.normal(size=(40_000, n))
            draws /= np.linalg.norm(draws, axis=1, keepdims=True)
            inside = draws[(draws @ weak.T >= 0.0).all(axis=1)]
            with self.subTest(trial=trial):
                seen = np.einsum("kn,nm,km->k", inside, h, inside).min(initial=np.inf)
                self.assertLessEqual(found.least, seen + 1e-9)
                if found.is_certain and np.isfinite(found.least):
                    self.assertTrue((weak @ found.direction >= -1e-8).all())
                    self.assertAlmostEqual(found.direction @ h @ found.direction, found.least, places=9)
                    self.assertGreater(found.least, seen - 0.6 * np.abs(h).max())

    def test_closed_cones_have_no_direction(self):
        closed = np.array([[1.0, 0.0], [-1.0, 0.0], [0.0, 1.0], [0.0, -1.0]])
        self.assertEqual(least_on_cone(np.diag([-1.0, -2.0]), np.eye(2), closed).least, np.inf)
        self.assertFalse(least_on_cone(-np.eye(2), np.eye(2), closed).is_certain)  # an eigenvalue that repeats


class Qualifications(unittest.TestCase):
    def test_the_kinds(self):
        inequality, equality = np.zeros(2, dtype=bool), np.ones(2, dtype=bool)
        for rows, kind, flags, zeros in (
            ([[1.0, 0.0], [0.0, 1.0]], "independent", inequality, 0),
            ([[1.0, 0.0], [1.0, 0.0]], "inward", inequality, 0),
            ([[1.0, 0.0], [-1.0, 0.0]], "fails", inequality, 0),
            ([[1.0, 0.0], [1.0, 0.0]], "fails", equality, 0),
            ([[1.0, 0.0], [0.0, 1.0]], "fails", inequality, 1),
            ([[np.nan, 0.0], [0.0, 1.0]], "unknown", inequality, 0),
        ):
            self.assertEqual(qualification_of(np.array(rows), flags, zeros).kind, kind, rows)
        self.assertEqual(qualification_of(np.zeros((0, 3)), np.zeros(0, dtype=bool), 0).kind, "independent")


class Pieces(unittest.TestCase):
    def test_a_piece_is_the_formula_on_its_side(self):
        problem = loads(two_variables("abs(x - y) + max(x, 2 * y) * where(x < 1, x, y^2)"))
        graph, root = problem.graph, problem.objective.node
        rng = np.random.default_rng(2)
        for _ in range(40):
            point = rng.uniform(-2.0, 3.0, 2)
            seen = problem.entry_values([root], point)
            sides = {kink.node: bool(kink.gap >= 0.0) for kink in seen.kinks}
            (piece,), gaps = smooth_piece(graph, [root], sides)
            self.assertFalse(
                {graph.nodes[n].operation for n in graph.reachable([piece])} & {"abs", "max", "where", "<"}
            )
            values = problem.entry_values([piece, *gaps.values()], point).values
            self.assertEqual(values[0], seen.values[0])
            self.assertEqual([value >= 0.0 for value in values[1:]], list(sides.values()))

    def test_kinks_of_vectors_and_too_many_of_them(self):
        text = "[variables]\nx = {{ start = 0.0, shape = {n} }}\n[minimize]\nf = 'sum(abs(x)) + sum(x^2) + x[0] / 2'\n"
        self.assertEqual(verify(loads(text.format(n=3)), at={}).verdict, "local-strict")
        self.assertEqual(verify(loads(text.format(n=12)), at={}).verdict, "local-strict")  # lifted
        bent = text.format(n=12).replace("sum(abs(x))", "sum(where(x > 0, x, -x))")
        self.assertEqual(verify(loads(bent), at={}).verdict, "probe-only")
        self.assertEqual(verify(loads(text.format(n=3).replace("/ 2", "* 2")), at={}).verdict, "improvable")


class Models(unittest.TestCase):
    CODE = """
def bowl(x, y):
    return (x - 0.3) ** 2 + (y + 0.2) ** 2 + 1.0
def kinked(x, y):
    return abs(x - 0.3) + (y + 0.2) ** 2 + 1.0
def jumping(x, y):
    return (x - 0.3) ** 2 + (y + 0.2) ** 2 + (1.0 if x >= 0.3 else 1.5)
def wrong(x, y):
    return {"f": {"x": 2 * (x - 0.3) + 0.4 * (x - 0.3), "y": 2.5 * (y + 0.2)}}
"""

    def verdict(self, function, more="", at=(0.3, -0.2)):
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "m.py").write_text(self.CODE)
            path = Path(folder) / "p.toml"
            path.write_text(
                "[variables]\nx = { start = 0.9, lower = -2, upper = 2 }\ny = { start = 0.4, lower = -2, upper = 2 }\n"
                f'[models.m]\npython = "m.py:{function}"\noutputs = ["f"]\n{more}\n[minimize]\ncost = "m.f"\n'
            )
            return verify(load(path), at=dict(zip("xy", at, strict=True)))

    def test_kinks_and_jumps_inside_are_felt(self):
        self.assertEqual(self.verdict("bowl").verdict, "local-strict")
        found = self.verdict("kinked")
        self.assertEqual(found.verdict, "probe-only")
        self.assertIn("has a kink here when x moves", found.reason)
        found = self.verdict("jumping")
        self.assertEqual(found.verdict, "probe-only")
        self.assertIn("jumps", found.reason)
        self.assertEqual(self.verdict("kinked", at=(0.5, -0.2)).verdict, "improvable")

    def test_slopes_that_a_model_gets_wrong_are_not_believed(self):
        supplied = 'derivatives = "supplied"\nslopes = "m.py:wrong"'
        self.assertFalse(self.verdict("bowl", supplied, at=(0.8, 0.3)).holds)
        detail = next(c.detail for c in self.verdict("bowl", supplied, at=(0.8, 0.3)).checks if c.name == "derivatives")
        self.assertIn("by differences", detail)

    def test_a_run_through_a_model_is_judged_by_a_new_process(self):
        text = "[variables]\nx = { start = 0.9 }\n[minimize]\nf = '(x - 1)^2'\n"
        with tempfile.TemporaryDirectory() as folder:
            ledger = Path(folder) / "l"
            result = run(loads(text), ledger=ledger)
            found = verify(result.id, ledger=ledger)
        self.assertIn("in a new process agrees with the record", found.checks[0].detail)
        self.assertEqual(found.verdict, "local-strict")
