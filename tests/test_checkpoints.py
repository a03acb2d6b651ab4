"""A replay may begin at a checkpoint: then the method does not work again what it had, and the path is the same."""

import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from ilvren import load, run
from ilvren.ledger import Ledger
from ilvren.methods import quadratic_interpolation
from ilvren.methods.pieces.packing import packed_generator, unpacked_generator
from ilvren.runs import resume
from ilvren.runs.checkpoints import RunCheckpoint
from tests.compact import some

MODEL = """
import math

def bowl(x, y, z):
    if x < -1.9:
        raise ValueError("too far")
    return {"a": 3.0 * (y - x * x), "b": 1.0 - x + 0.3 * math.sin(3 * z)}
"""
HEAD = """
[variables]
x = { start = -1.7, lower = -2, upper = 2 }
y = { start = 1.3, lower = -2, upper = 2 }
z = { start = 0.6, lower = -1, upper = 1 }
"""
FORMULA = "[derived]\na = '3 * (y - x^2)'\nb = '1 - x + 0.3 * sin(3 * z)'\n[minimize]\nf = 'a^2 + b^2 + z^2'\n"
THROUGH = "[models.m]\npython = 'model.py:bowl'\noutputs = ['a', 'b']\n[minimize]\nf = 'm.a^2 + m.b^2 + z^2'\n"
ROWS = "[constraints]\nr = 'x + y + z <= 1.2'\ns = 'y * z >= -0.4'\n"


class Checkpoints(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        (self.folder / "model.py").write_text(MODEL)

    def problem(self, text):
        (self.folder / "a.toml").write_text(text)
        return load(self.folder / "a.toml")

    def test_a_run_goes_on_from_its_checkpoint_on_the_same_path(self):
        for number, text in some(list(enumerate((HEAD + FORMULA, HEAD + FORMULA + ROWS, HEAD + THROUGH + ROWS)))):
            with Ledger(self.folder / f"{number}.ledger") as ledger:
                whole = run(self.problem(text), method="quadratic-interpolation", ledger=ledger)
                for part, evaluations in enumerate(some((15, 27, 44), 3, number), start=2):
                    with self.subTest(number=number, evaluations=evaluations):
                        run(
                            self.problem(text),
                            method="quadratic-interpolation",
                            evaluations=evaluations,
                            ledger=ledger,
                        )
                        kept = ledger.checkpoint(part)
                        with mock.patch.object(
                            quadratic_interpolation, "_models", wraps=quadratic_interpolation._models
                        ) as models:
                            again = resume(f"r{part}", ledger, evaluations=1000)
                        self.assertEqual(
                            (again.point, again.outcome, dict(again.counts) | {"calls": 0}, again.notes),
                            (whole.point, whole.outcome, dict(whole.counts) | {"calls": 0}, whole.notes),
                        )
                        self.assertEqual(
                            [(i.number, i.objective, i.note) for i in ledger.iterations(part)],
                            [(i.number, i.objective, i.note) for i in ledger.iterations(1)],
                        )
                        begun = 0 if kept is None else RunCheckpoint.unpacked(kept).iterations
                        self.assertEqual(models.call_count, len(whole.iterations) - begun)
                        self.assertEqual(kept is None, evaluations == 15)

    def test_what_is_kept_is_given_back(self):
        rng = np.random.default_rng(3)
        rng.integers(10, size=3, dtype=np.int32)
        other = unpacked_generator(packed_generator(rng))
        self.assertEqual(rng.normal(size=5).tolist(), other.normal(size=5).tolist())
        kept = RunCheckpoint(
            {"a": np.arange(3.0), "note": np.array("radius 1e-3")}, 3, 9, 2, 0, 1, (4, -1.5, float("inf")), ({"n": []},)
        )
        found = RunCheckpoint.unpacked(kept.packed())
        self.assertEqual((found.requests, found.progress, found.calls), (3, (4, -1.5, float("inf")), ({"n": []},)))
        self.assertEqual((found.state["a"].tolist(), str(found.state["note"])), ([0.0, 1.0, 2.0], "radius 1e-3"))


if __name__ == "__main__":
    unittest.main()
