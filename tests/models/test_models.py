"""Python models: one call per point, every source of derivatives, every way to fail told by name; loading runs nothing."""

import tempfile
import textwrap
import unittest
from pathlib import Path

import numpy as np

from ilvren import load, resume, run, verify
from ilvren.errors import ProblemError, RequestError
from ilvren.evaluate import Gate
from ilvren.ledger import Ledger
from tests.compact import only_in_whole

CODE = """
import math
import numpy as np

CALLS = []

def losses(flow, bore, length=100.0):
    CALLS.append((flow, bore))
    speed = 4 * flow / (np.pi * bore**2)
    friction = 0.03 * length / bore * speed**2 / 19.62
    return {"friction": friction, "speed": speed}

def partials(flow, bore, length):
    both = losses(flow, bore, length)
    f, s = both["friction"], both["speed"]
    return {
        "friction": {"flow": 2 * f / flow, "bore": -5 * f / bore * SKEW, "length": f / length},
        ("speed", "flow"): s / flow, ("speed", "bore"): -2 * s / bore, ("speed", "length"): 0.0,
    }

SKEW = 1.0

def skewed(flow, bore, length):
    out = partials(flow, bore, length)
    out["friction"]["bore"] *= 1.001
    return out

def with_abs(flow, bore):
    return {"friction": abs(flow - 5.0) * bore, "speed": flow}

def plain(flow, bore):
    return {"friction": math.sqrt(flow), "speed": bore}

def stored(flow, bore):
    out = np.zeros(2)
    out[0] = 40 * (flow - 0.02) ** 2 + bore
    return {"friction": out[0], "speed": 60 * flow}

def rounded(flow, bore):
    return {"friction": round(bore, 9) + flow, "speed": 60 * flow}

def formatted(flow, bore):
    name = f"{flow:.3f}"
    return {"friction": flow + bore + 0 * len(name), "speed": 60 * flow}

def tallied(flow, bore):
    whole = [flow * k for k in range(int(3 + bore))]
    return {"friction": sum(whole) + bore, "speed": 60 * flow}

def chain(level, k):
    up = np.concatenate([level[1:], level[-1:]])
    return {"bend": k * np.where(up > level, (up - level) ** 2, 0.1 * np.sin(level)) + level}

def raising(flow, bore):
    raise ValueError("no such bore")

def missing(flow, bore):
    return {"friction": 1.0}

def shaped(flow, bore):
    return {"friction": [1.0, 2.0], "speed": 1.0}

def words(flow, bore):
    return {"friction": "much", "speed": 1.0}

def broken(flow, bore):
    return {"friction": float("nan"), "speed": 1.0}

def slow(flow, bore):
    while True:
        pass

def noisy(flow, bore):
    rough = 1e-7 * math.sin(1e9 * flow + 3e8 * bore)
    return {"friction": flow**2 * bore * (1 + rough), "speed": flow}

def shifted(flow, bore):
    return {"friction": 1.0 + 3.0 * flow, "speed": 0.0}
"""
TEXT = """
[parameters]
length = 120.0
[variables]
flow = { start = 0.02, lower = 0.005, upper = 0.05 }
bore = { start = 0.1, lower = 0.05, upper = 0.3 }
[models.upper]
python = "hydraulics.py:losses"
inputs = { flow = "1.1 * flow" }
outputs = ["friction", "speed"]
[derived]
both = "upper.friction + 0 * speed"
[minimize]
cost = "900 * bore^1.3 + 2 * both"
[constraints]
band = "upper.speed <= 2.5"
need = "flow >= 0.015"
"""
VECTOR = """
[parameters]
n = 40
[variables]
level = { start = "0.3 * sin(evenly(0, 9, n))", shape = "n" }
k = { start = 1.0, lower = 0.5, upper = 2 }
[models.p]
python = "hydraulics.py:chain"
outputs = { bend = { shape = "n", band = 1 } }
[minimize]
f = "sum(p.bend^2) + (k - 1.3)^2"
[constraints]
c = "p.bend[1:] - 0.5 * level[:-1] >= -0.4"
"""


def asked(result):
    """Return the counts of what a run asked for, whoever answered."""
    return {name: number for name, number in result.counts.items() if name != "calls"}


class Models(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        (self.folder / "hydraulics.py").write_text(CODE)

    def problem(self, text=TEXT, *, function=None, more=""):
        if function:
            text = text.replace('"hydraulics.py:losses"', f'"hydraulics.py:{function}"')
        text = text.replace("outputs =", more + "\noutputs =") if more else text
        path = self.folder / "p.toml"
        path.write_text(textwrap.dedent(text))
        return load(path)

    def test_loading_runs_nothing_and_a_point_is_one_call(self):
        (self.folder / "hydraulics.py").write_text(CODE + "\nraise RuntimeError('this file was run')\n")
        problem = self.problem()
        (self.folder / "hydraulics.py").write_text(CODE)
        gate = Gate(problem)
        (calls,) = gate.calls
        point = np.array(problem.start)
        gate.evaluate(point)
        gate.written.values(point)
        problem.named_values(point, gate.calls)
        self.assertEqual(calls.calls, 1)
        gate.evaluate(point + [0.0, 1e-3])
        self.assertEqual(calls.calls, 2)

    def test_every_source_of_derivatives_gives_the_same(self):
        sources = {
            "automatic": ("", 1e-12),
            "supplied": ('slopes = "hydraulics.py:partials"', 1e-12),
            "complex-step": ('derivatives = "complex-step"', 1e-12),
            "differences": ('derivatives = "differences"', 1e-7),
            "forward-differences": ('derivatives = "forward-differences"', 1e-6),
        }
        point = np.array([0.021, 0.12])
        expected = None
        for name, (more, accuracy) in sources.items():
            with self.subTest(source=name):
                gate = Gate(self.problem(more=more))
                found = gate.evaluate(point, derivatives=True)
                together = np.vstack([found.gradient, found.jacobian])
                expected = together if expected is None else expected
                np.testing.assert_allclose(together, expected, rtol=accuracy, atol=accuracy)
                self.assertEqual(
                    gate.counts.evaluations > 1, name in ("complex-step", "differences", "forward-differences")
                )
        h = 1e-7
        values = [Gate(self.problem()).evaluate(point + [0, s * h]).objective for s in (1, -1)]
        self.assertAlmostEqual(expected[0, 1], (values[0] - values[1]) / (2 * h), places=4)

    def test_sparse_derivatives_of_a_vector_model(self):
        """Exact and coloured ones agree although the branches of the model change from point to point."""
        rng = np.random.default_rng(2)
        dense, random = None, np.append(rng.normal(size=40), 1.2)
        for more in ("", 'derivatives = "differences"'):
            gate = Gate(self.problem(VECTOR, more=more))
            points = [np.array(gate.problem.start), random]
            found = [gate.written.jacobian(point) for point in points]
            self.assertLess(found[0].nnz, 39 * 5)
            self.assertEqual(gate.calls[0].is_followed, not more, gate.calls[0].notes)
            if dense is not None:
                for mine, other in zip(found, dense, strict=True):
                    np.testing.assert_allclose(mine.toarray(), other, atol=1e-6)
            dense = [matrix.toarray() for matrix in found]
            if more:
                self.assertLess(gate.counts.evaluations, 40)  # three groups and k, not 41 inputs, both ways
            direction = rng.normal(size=41)
            np.testing.assert_allclose(
                gate.written.jacobian_product(points[1], direction), dense[1] @ direction, atol=1e-5
            )
        hessian = Gate(self.problem(VECTOR)).written.hessian(points[1], np.ones(39)).toarray()
        np.testing.assert_allclose(hessian, hessian.T, atol=1e-4)

    def test_a_band_that_is_too_narrow_is_noticed(self):
        for source in ("differences", "forward-differences", "complex-step"):
            for width, expected in ((1, 0), (0, 1)):
                with self.subTest(source=source, width=width):
                    text = VECTOR.replace("band = 1", f"band = {width}")
                    gate = Gate(self.problem(text, more=f'derivatives = "{source}"'))
                    gate.written.gradient(np.array(gate.problem.start))
                    notes = gate.calls[0].notes
                    self.assertEqual(len(notes), expected, notes)
                    self.assertTrue(all("band" in note for note in notes))

    def test_noise_does_not_drown_differences(self):
        gate = Gate(self.problem(function="noisy", more='derivatives = "differences"'))
        point = np.array([0.021, 0.12])
        slope = gate.written.gradient(point)
        self.assertAlmostEqual(slope[0] / (2 * 2 * 1.1**2 * 0.021 * 0.12), 1.0, places=2)

    def test_differences_do_not_drown_where_an_input_nearly_vanishes(self):
        for source, accuracy in (("differences", 1e-4), ("forward-differences", 1e-2)):
            for tiny in (1e-8, 1e-13, 1e-20, 0.0):
                for seen_before in (True, False):
                    with self.subTest(source=source, tiny=tiny, seen_before=seen_before):
                        gate = Gate(self.problem(function="shifted", more=f'derivatives = "{source}"'))
                        if seen_before:
                            gate.written.gradient(np.array(gate.problem.start))
                        slope = gate.written.gradient(np.array([tiny, 0.12]))[0]
                        self.assertAlmostEqual(slope / (2 * 3 * 1.1), 1.0, delta=accuracy)

    def test_failures_name_model_output_and_design(self):
        for function, words in {
            "raising": ('model "upper" raised ValueError (hydraulics.py:', "no such bore", "flow = 0.022, bore = 0.1"),
            "missing": ('returned no "speed" (it returned friction)',),
            "shaped": ('returned "friction" with shape (2,), declared is ()',),
            "words": ('returned no numbers as "friction"',),
            "broken": ('returned nan as "friction"', "bore = 0.1"),
        }.items():
            with self.subTest(function=function):
                result = run(self.problem(function=function), method="nelder-mead")
                self.assertEqual(result.outcome, "model-failed")
                for word in words:
                    self.assertIn(word, result.reason)
        result = run(self.problem(function="slow", more="timeout = 0.05"), method="nelder-mead")
        self.assertIn("timeout of 0.05 s", result.reason)

    def test_what_cannot_be_followed_is_named_and_what_loses_a_complex_step_is_noticed(self):
        result = run(self.problem(function="plain", more='derivatives = "automatic"'), method="sqp")
        self.assertEqual(result.outcome, "model-failed")
        for word in ("automatically", "math", 'derivatives = "differences"', "p.toml:", "hydraulics.py:"):
            self.assertIn(word, result.reason)
        result = run(self.problem(function="plain", more='derivatives = "complex-step"'), method="sqp")
        for word in ("must be real number", 'derivatives = "differences"', "hydraulics.py:"):
            self.assertIn(word, result.reason)
        problem = self.problem(function="with_abs", more='derivatives = "complex-step"')
        gate = Gate(problem)
        gate.evaluate(np.array(problem.start), derivatives=True)
        self.assertIn("disagree", gate.calls[0].notes[0])

    def test_what_cannot_be_followed_gets_differences_by_itself(self):
        for function in ("plain", "stored", "rounded", "formatted", "tallied"):
            with self.subTest(function=function):
                problem = self.problem(function=function)
                result = run(problem, second_look=0.0)  # whose measure is the time that a design takes
                self.assertEqual(result.outcome, "converged", result.reason)
                (note,) = result.notes
                self.assertRegex(note, r"hydraulics\.py:\d+\).*its derivatives are differences")
                exact = run(self.problem(function=function, more='derivatives = "differences"'), second_look=0.0)
                self.assertEqual((result.point, asked(result)), (exact.point, asked(exact)))
                self.assertTrue(verify(result).holds)

    def test_every_choice_of_a_method_runs_on_processes_as_it_does_here(self):
        for method in ("automatic", "global"):
            with self.subTest(method=method):
                given = {"method": method, "evaluations": 60, "seed": 3}
                here = run(self.problem(function="plain"), **given)
                there = run(self.problem(function="plain"), workers=2, **given)
                self.assertEqual((there.point, there.outcome), (here.point, here.outcome))

    @only_in_whole
    def test_every_source_resumes_on_its_path(self):
        for function, more in (
            ("plain", ""),
            ("plain", 'derivatives = "differences"'),
            ("plain", 'derivatives = "forward-differences"'),
            ("losses", 'derivatives = "complex-step"'),
            ("losses", ""),
        ):
            with self.subTest(function=function, more=more):
                whole = run(self.problem(function=function, more=more), method="sqp")
                ledger_path = self.folder / f"{function}{len(more)}.ledger"
                with Ledger(ledger_path) as ledger:
                    run(self.problem(function=function, more=more), method="sqp", iterations=1, ledger=ledger)
                    again = resume("last", ledger, iterations=99)
                self.assertEqual((again.point, asked(again)), (whole.point, asked(whole)))

    def test_refusals_at_load(self):
        for old, new, words in (
            (":losses", ":lossses", 'no function "lossses"'),
            ("inputs = { flow", "inputs = { flo", 'no argument "flo"'),
            ("hydraulics.py", "hydraulic.py", "no such file"),
            ("both = ", "length2 = ", 'unknown name "both"'),
            ("upper.speed", "upper.sped", 'unknown name "upper.sped"'),
            ("[models.upper]", '[models.upper]\ndepends = ["gone.csv"]', "not there"),
            ("[models.upper]", '[models.upper]\nderivatives = "magic"', "magic"),
            ("[models.upper]", "[models.upper]\nretries = -1", "retries"),
            ("[models.upper]", '[models.upper]\nrepeatable = "no"', "repeatable"),
            ("[models.upper]", '[models.upper]\nderivatives = "supplied"', "slopes"),
        ):
            with self.subTest(new=new), self.assertRaises(ProblemError) as caught:
                self.problem(TEXT.replace(old, new, 1))
            self.assertIn(words, caught.exception.message)
            self.assertIsNotNone(caught.exception.line)
        with self.assertRaises(ProblemError) as caught:
            self.problem(TEXT.replace('"1.1 * flow"', '"1.1 * flow + upper.speed"'))
        self.assertIn("needs itself", caught.exception.message)

    def test_a_branch_not_chosen_calls_no_model(self):
        text = TEXT.replace('"upper.speed <= 2.5"', '"flow <= 9"').replace("+ 2 * both", "+ where(bore > 1, both, 0)")
        problem = self.problem(text)
        gate = Gate(problem)
        gate.evaluate(np.array(problem.start), derivatives=True)
        self.assertEqual(gate.calls[0].calls, 0)

    def test_replay_asks_no_model_and_a_changed_file_is_refused(self):
        problem = self.problem()
        with Ledger(self.folder / "ilvren.ledger") as ledger:
            first = run(problem, method="sqp", iterations=3, ledger=ledger)
            again = resume("last", ledger, iterations=50)
            whole = run(self.problem(), method="sqp")
            self.assertEqual(again.point, whole.point)
            self.assertEqual(asked(again), asked(whole))
            self.assertLessEqual(again.counts["calls"], whole.counts["calls"])
            self.assertGreater(again.counts["calls"], first.counts["calls"])
            self.assertEqual(first.outcome, "exhausted")
            self.assertTrue(verify("last", ledger=ledger).holds)
            (self.folder / "hydraulics.py").write_text(CODE.replace("0.03 * length", "0.05 * length"))
            for work in (lambda: verify("last", ledger=ledger), lambda: resume("last", ledger, iterations=99)):
                with self.assertRaises(RequestError) as caught:
                    work()
                self.assertTrue("have changed" in str(caught.exception) or "has ended" in str(caught.exception))
            verify("last", ledger=ledger, as_now=True)
