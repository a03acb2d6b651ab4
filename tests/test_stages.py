"""Runs of several stages: one run, whose task changes on the way and whose last objective is reported."""

import tempfile
import unittest
from pathlib import Path

from ilvren import load, run, verify
from ilvren.errors import RequestError
from ilvren.explore.designs import designs_of
from ilvren.judge.comparing.history import history_table
from ilvren.ledger import Ledger
from ilvren.runs import resume
from tests.compact import chosen, some
from tests.test_cli import InAFolder

MODEL = """
import pathlib
LOG = pathlib.Path(__file__).with_name("calls")
def bowl(x, y, width):
    with LOG.open("a") as stream:
        stream.write("call\\n")
    return {"a": ((x - 1) ** 2 + width**2) ** 0.5, "b": ((y + 0.5 * x) ** 2 + width**2) ** 0.5}
"""
HEAD = """
[parameters]
width = 1.0
push = 2
n = 2
[variables]
x = { start = 3, lower = -5, upper = 5 }
y = { start = 3, lower = -5, upper = 5 }
[derived]
spread = "sum(evenly(0, 1, n))"
"""
FORMULA = "a = 'sqrt((x - 1)^2 + width^2)'\nb = 'sqrt((y + 0.5 * x)^2 + width^2)'\n"
GOAL = "[minimize]\nf = 'a + 3 * b + (x * y - push)^2 / 10'\n[constraints]\nc = 'x + y >= -8'\n"
THROUGH = "a = 'm.a'\nb = 'm.b'\n[models.m]\npython = 'model.py:bowl'\noutputs = ['a', 'b']\n"
KINDS = {
    "formula": HEAD + FORMULA + GOAL,
    "followed": HEAD + THROUGH + GOAL,
    "differenced": HEAD + THROUGH + "derivatives = 'differences'\n" + GOAL,
}
STAGES = [{"width": 1.0}, {"width": 0.3}, {"width": 0.1, "push": 2.5}]


class Stages(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        (self.folder / "model.py").write_text(MODEL)

    def problem(self, kind, **values):
        (self.folder / "a.toml").write_text(KINDS[kind])
        return load(self.folder / "a.toml", set=values)

    def test_each_stage_solves_its_own_problem_and_the_last_is_reported(self):
        for kind in KINDS:
            with self.subTest(kind=kind):
                result = run(self.problem(kind), method="sqp", stages=STAGES)
                alone = run(self.problem(kind, width=0.1, push=2.5), method="sqp")
                self.assertAlmostEqual(result.objective, alone.objective, places=6)
                for told, values in zip(result.stages, STAGES, strict=False):
                    own = run(self.problem(kind, **{"push": 2, **values}), method="sqp")
                    self.assertEqual((told.outcome, told.set), ("converged", values))
                    self.assertAlmostEqual(told.objective, own.objective, places=6)
                self.assertEqual(result.problem.overrides, {"width": 0.1, "push": 2.5})
                last = result.counts["evaluations"] - sum(told.evaluations for told in result.stages)
                self.assertGreater(last, 0)
                verdict = verify(result)
                self.assertTrue(verdict.holds, verdict.reason)

    def test_stopped_anywhere_it_resumes_on_its_path(self):
        methods = ("sqp", "interior-point", "quadratic-interpolation", "differential-evolution")
        for number, kind in enumerate(KINDS):
            for place, method in enumerate(methods):
                if not chosen(number, place, 4) or (method == "differential-evolution" and kind != "formula"):
                    continue
                with self.subTest(kind=kind, method=method), Ledger(self.folder / f"{kind}{method}.ledger") as ledger:
                    given = {"method": method, "stages": STAGES, "ledger": ledger, "fresh": True}
                    if method == "differential-evolution":
                        given["options"] = {"population": 12, "horizon": 500}
                    whole = run(self.problem(kind), **given)
                    total = whole.counts["evaluations"]
                    for number, share in enumerate(some((0.15, 0.6), 2, place % 2), start=2):
                        log = self.folder / "calls"
                        log.unlink(missing_ok=True)
                        run(self.problem(kind), evaluations=max(int(share * total), 1), **given)
                        again = resume(f"r{number}", ledger, evaluations=total + 10)
                        # The design that a stop is reported at takes a call of the last stage's problem.
                        counts = [dict(one.counts) | {"calls": 0} for one in (again, whole)]
                        self.assertEqual((again.point, counts[0]), (whole.point, counts[1]))
                        self.assertEqual(again.stages, whole.stages)
                        shown = [
                            [(i.number, i.objective, i.note) for i in ledger.iterations(k, every_stage=True)]
                            for k in (1, number)
                        ]
                        self.assertEqual(*shown)
                        self.assertEqual(ledger.stages(1), ledger.stages(number))
                        if kind == "formula":
                            continue
                        made = log.read_text().count("call")
                        self.assertEqual(made, sum(ledger.call_counts(number).values()))

    def test_objectives_of_stages_are_never_compared(self):
        with Ledger(self.folder / "a.ledger") as ledger:
            whole = run(self.problem("formula"), method="sqp", stages=STAGES, ledger=ledger)
            part = run(self.problem("formula"), method="sqp", stages=STAGES, evaluations=4, ledger=ledger)
            self.assertEqual((part.outcome, len(part.stages)), ("exhausted", 1))
            self.assertEqual((part.counts["evaluations"], part.stages[0].evaluations), (4, 4))
            self.assertIn("stage 1 of 3 (width = 1.0)", part.reason)
            final = self.problem("formula", width=0.1, push=2.5)
            objective = final.entry_values([final.objective.node], part.point).values[0]
            self.assertAlmostEqual(part.objective, float(objective), places=12)
            self.assertEqual(designs_of(ledger, ["r2"]).total, 0)
            table = designs_of(ledger, ["r1"])
            first = ledger.stages(1)[-1].first_evaluation
            self.assertEqual(min(int(d.address.partition(":")[2]) for d in table.designs), first)
            self.assertAlmostEqual(min(d.objective for d in table.designs), whole.objective, places=12)
            rows = history_table(ledger, ledger.run("r1"), every="evaluation")
            self.assertEqual(sorted({row["stage"] for row in rows}), [1, 2, 3])

    def test_refusals(self):
        for stages, words in (
            ([{"wide": 1}], 'stage 1: wide=…: the file has no parameter "wide"'),
            ([{"width": 1}, {}], "stage 2 sets no parameter"),
        ):
            with self.subTest(words=words), self.assertRaises(RequestError) as caught:
                run(self.problem("formula"), stages=stages)
            self.assertIn(words, caught.exception.message)
        text = KINDS["formula"].replace("x = { start", "z = { start = 0, shape = 'n' }\nx = { start")
        (self.folder / "b.toml").write_text(text)
        with self.assertRaisesRegex(RequestError, "changes which variables"):
            run(load(self.folder / "b.toml"), stages=[{"n": 3}])


class Told(InAFolder):
    def test_commands(self):
        Path("a.toml").write_text(KINDS["formula"])
        out, err = self.call("run", "a.toml", "--stage", "width=1", "--stage", "width=0.1,push=2.5")
        self.assertIn("stage 2 of 2: width = 0.1, push = 2.5", err)
        self.assertRegex(out, r"1 +width = 1(\.0)? +converged")
        self.assertIn("local-strict", self.call("verify", "r1")[0])
        self.assertIn("earlier stages", self.call("designs", "r1")[0])
        self.call("verify", "r1:1", status=1)
        self.call("run", "a.toml", "--stage", "width=1", "--sweep", "push=[1, 2]", status=2)
        self.assertIn("NAME=VALUE", self.call("run", "a.toml", "--stage", "width", status=2)[1])


if __name__ == "__main__":
    unittest.main()
