"""`ilvren approximate` and what is done on approximations: nothing predicted is ever taken for evaluated."""

import json
import unittest
from pathlib import Path

import numpy as np

from ilvren import load, run
from ilvren.evaluate import Gate
from ilvren.explore.approximating import relearner
from ilvren.explore.designs import designs_of
from ilvren.ledger import Ledger
from ilvren.problem import on_document
from ilvren.runs import On, resume
from tests.compact import only_in_whole
from tests.test_cli import InAFolder

MODEL = """
import pathlib
def value(x, y, lean):
    with open(pathlib.Path(__file__).with_name("calls.txt"), "a") as file:
        file.write("1")
    if x + y > 1.7:
        raise ValueError("it buckles")
    return {"load": (x - 0.3) ** 2 + 2 * y * y + 0.2 * x * y + 0.1 * x**3, "both": [x + lean, y - x * x]}
"""
PROBLEM = """
[variables]
x = { start = 0.9, lower = 0, upper = 1 }
y = { start = 0.7, lower = 0, upper = 1 }
[parameters]
lean = 0.5
[models.frame]
python = "frame.py:value"
outputs = { load = { unit = "kN" }, both = { shape = 2 } }
derivatives = "differences"
[minimize]
f = "frame.load + 0.1 * x"
[constraints]
apart = "frame.both[1] >= 0.1"
"""
FORMULAS = """
[variables]
x = { start = 0.9, lower = 0, upper = 1 }
y = { start = 0.7, lower = 0, upper = 1 }
[derived]
bulge = "exp(x) * (1 + y^2)"
[minimize]
f = "(x - 0.4)^2 + bulge / 10"
[constraints]
low = "x + sin(3 * y) >= 0.5"
"""


# What was learnt so far in this process, with the files that came of it.
LEARNT = {}


class Approximating(InAFolder):
    def setUp(self):
        super().setUp()
        Path("frame.py").write_text(MODEL)
        Path("frame.toml").write_text(PROBLEM)
        Path("plain.toml").write_text(FORMULAS)

    def json(self, *words, status=0):
        return json.loads(self.call(*words, "--json", status=status)[0])

    def calls(self):
        return len(Path("calls.txt").read_text()) if Path("calls.txt").exists() else 0

    def learn(self, points=16, *words, kind="polynomial"):
        """Sample and approximate; what was learnt so before is taken from there."""
        asked = (points, kind, words)
        if asked not in LEARNT:
            self.json("sample", "frame.toml", "--points", points, "--label", "look")
            told = self.json("approximate", "look", "--kind", kind, *words)
            LEARNT[asked] = told, {own.name: own.read_bytes() for own in Path().iterdir() if own.is_file()}
        told, files = LEARNT[asked]
        for name, content in files.items():
            Path(name).write_bytes(content)
        return told

    @only_in_whole
    def test_outputs_of_models_are_learnt_and_what_is_told_is_recorded(self):
        found = self.learn(16, "--test-points", 4, kind="automatic")
        self.assertEqual(set(found["of"]), {"frame.load", "frame.both[0]", "frame.both[1]"})
        told = found["of"]["frame.load"]
        listed = self.json("designs", "look")["designs"]
        self.assertEqual(told["tested"]["points"] + told["points"], sum(d["values"]["f"] is not None for d in listed))
        self.assertLess(told["tested"]["error"], 0.05)
        self.assertLess(told["error"], 0.1)
        self.assertGreater(told["matters"]["y"], told["matters"]["x"])
        self.assertEqual(found["of"]["frame.both[0]"]["kind"], "polynomial")
        with Ledger("ilvren.ledger", read_only=True) as ledger:
            record = ledger.approximation("a1")
            problem = on_document(load("frame.toml"), record.document)
            gate = Gate(problem)
            x = np.array([0.35, 0.61])
            surface = json.loads(record.document)["groups"][0]
            self.assertEqual(surface["held"], [{"name": "lean", "lower": 0.5, "upper": 0.5, "unit": ""}])
            numeric = [
                (gate.written.values(x + s)["f"] - gate.written.values(x - s)["f"]) / 2e-5 for s in 1e-5 * np.eye(2)
            ]
            np.testing.assert_allclose(gate.written.gradient(x), numeric, rtol=1e-4)
        self.assertEqual(self.calls(), 16)

    @only_in_whole
    def test_a_search_calls_the_model_for_its_best_design_alone(self):
        self.learn()
        before = self.calls()
        found = self.json("run", "frame.toml", "--on", "a1")
        self.assertEqual(self.calls(), before + 1)
        self.assertEqual((found["outcome"], found["on"], found["counts"]["evaluations"]), ("settled", "a1", 1))
        self.assertAlmostEqual(found["actual"]["f"], found["objectives"]["f"])
        self.assertLess(abs(found["deviation"]["f"]), 0.02)
        listed = self.json("designs", found["run"])["designs"]
        self.assertEqual([item["values"]["f"] for item in listed], [found["actual"]["f"]])
        true = run(load("frame.toml"), method="quadratic-interpolation")
        self.assertLess(found["objectives"]["f"], true.objective + 0.02)

    def test_rounds_learn_from_what_was_evaluated_and_resume_where_they_were(self):
        self.learn(8, "--of", "load,both")
        whole = self.json("run", "frame.toml", "--on", "a1", "--rounds", "3")
        first, last = whole["rounds"][0], whole["rounds"][-1]
        self.assertLess(abs(last["predicted"] - last["actual"]), abs(first["predicted"] - first["actual"]) + 1e-9)
        stop = min(len(whole["rounds"]) - 1, 2)
        self.assertGreaterEqual(stop, 1)
        with Ledger("ilvren.ledger") as ledger:
            record = ledger.approximation("a1")
            again, seen = relearner(ledger, record), []

            def interrupted(more):
                seen.append(len(more))
                if len(seen) == stop:
                    raise KeyboardInterrupt
                return again(more)

            with self.assertRaises(KeyboardInterrupt):
                run(load("frame.toml"), on=On("a1", (record.document,), 3, relearn=interrupted), ledger=ledger)
            calls = self.calls()
            result = resume("last", ledger, relearn=again)
            for one, other in zip(result.prediction.to_dict()["rounds"], whole["rounds"], strict=True):
                self.assertAlmostEqual(one["predicted"], other["predicted"], places=8)
                self.assertAlmostEqual(one["actual"], other["actual"], places=8)
            self.assertLessEqual(self.calls(), calls + len(whole["rounds"]))

    def test_predicted_designs_are_never_taken_for_evaluated(self):
        self.learn()
        before = self.calls()
        found = self.json("sample", "frame.toml", "--on", "a1", "--points", "60")
        self.assertEqual(self.calls(), before)
        self.assertTrue(all("predicted" in item["trouble"] for item in found["designs"]))
        self.assertIn("(predicted)", self.call("runs")[0])
        best = found["designs"][0]["design"]
        verdict = self.json("verify", best, status=1)
        self.assertNotIn(verdict["verdict"], ("local-strict", "first-order", "global-proved"))
        self.call("run", "frame.toml", "--on", "a1", "--label", "good")
        from ilvren import verify

        predicted = run(on_document(load("frame.toml"), self.document()), method="sqp")
        self.assertEqual(verify(predicted).verdict, "unverified")
        self.assertIn("predicted", self.call("approximate", found["run"], status=2)[1])

    def test_designs_are_added_where_it_is_least_sure_and_told(self):
        first = self.learn(8, kind="radial-basis")
        before = self.calls()
        out, err = self.call(
            "approximate", "look", "--infill", "2", "--error", "1e-9", "--kind", "radial-basis", "--json"
        )
        found = json.loads(out)
        self.assertEqual(self.calls(), before + 2)
        self.assertEqual(err.count("more designs"), 2)
        self.assertLess(found["of"]["frame.load"]["error"], first["of"]["frame.load"]["error"])
        self.call("approximate", "look", "--infill", "4", "--error", "100")
        self.assertEqual(self.calls(), before + 2)  # it was good enough as it was
        self.assertIn("--infill", self.call("approximate", "look", "--error", "0.1", status=2)[1])

    def test_measured_values_are_taken_as_they_are_and_serve_nobody_else(self):
        rng = np.random.default_rng(2)
        rows = [(x, y, 5.0 + x - 2.0 * y, x, y) for x, y in rng.random((12, 2)).round(3)]
        rows += [(*rows[0][:2], rows[0][2] + 2.0, rows[0][3], rows[0][4])]
        lines = [
            "x,y,load,frame.both[0],both[1],who",
            *(",".join(map(str, (*row, "me"))) for row in rows),
            "0.4,0.6,,,,me",
        ]
        Path("readings.csv").write_text("\n".join(lines) + "\n")
        out, err = self.call("sample", "frame.toml", "--csv", "readings.csv", "--measured", "--json")
        self.assertEqual(self.calls(), 0)
        self.assertIn("averaged", err)
        found = {(d["variables"]["x"], d["variables"]["y"]): d for d in json.loads(out)["designs"]}
        self.assertEqual(len(found), 13)
        self.assertAlmostEqual(found[rows[0][:2]]["values"]["frame.load"], rows[0][2] + 1.0)
        self.assertAlmostEqual(found[rows[3][:2]]["values"]["f"], rows[3][2] + 0.1 * rows[3][0])
        self.assertIn("measured", found[0.4, 0.6]["trouble"])
        learnt = self.json("approximate", "last", "--kind", "polynomial")
        self.assertEqual(learnt["of"]["frame.load"]["points"], 12)
        run(load("frame.toml"), method="nelder-mead", evaluations=3, ledger="ilvren.ledger")
        self.assertGreater(self.calls(), 0)  # what was measured is no answer of the model
        for words, said in {
            ("sample", "frame.toml", "--measured"): "--csv",
            ("sample", "plain.toml", "--csv", "readings.csv", "--measured"): "no models",
        }.items():
            self.assertIn(said, self.call(*words, status=2)[1])

    @only_in_whole
    def test_a_model_that_is_there_for_each_case_is_one(self):
        Path("cases.toml").write_text(
            PROBLEM.replace("apart =", "apart_all =")
            + "[cases.calm]\nset = { lean = 0.1 }\n[cases.storm]\nset = { lean = 0.9 }\n"
        )
        text = (
            Path("cases.toml")
            .read_text()
            .replace("frame.load + 0.1 * x", "worst(top)")
            .replace("[models.frame]", "[derived]\ntop = 'frame.load + 0.1 * x + 0.1 * frame.both[0]'\n[models.frame]")
        )
        Path("cases.toml").write_text(text)
        self.json("sample", "cases.toml", "--points", "12")
        found = self.json("approximate", "last", "--kind", "polynomial")
        self.assertEqual(set(found["of"]), {"frame.load", "frame.both[0]", "frame.both[1]"})
        self.assertEqual(found["region"]["lean"], [0.1, 0.9])
        self.assertGreater(found["of"]["frame.both[0]"]["points"], 20)  # of both cases
        on = self.json("run", "cases.toml", "--on", "a1")
        self.assertLess(abs(on["deviation"]["f"]), 0.05)

    def test_words_have_no_order_and_members_are_numbers(self):
        Path("stock.csv").write_text("kind,price\nsteel,3\ncast,1\nclay,2\n")
        Path("words.toml").write_text(
            "[variables]\na = { start = 2, lower = 0.5, upper = 4 }\nn = { start = 2, lower = 1, upper = 6, spacing = 1 }\n"
            'kind = { start = "steel", choices = ["steel", "cast", "clay"] }\n[tables.stock]\nfile = "stock.csv"\n'
            '[minimize]\ncost = "lookup(kind, stock.kind, stock.price) * (a + n) + 6 / a"\n'
        )
        self.json("sample", "words.toml", "--points", "36")
        found = self.json("approximate", "last", "--kind", "polynomial")
        self.assertEqual(set(found["of"]["cost"]["matters"]), {"a", "n", "kind=steel", "kind=cast", "kind=clay"})
        self.assertLess(found["of"]["cost"]["error"], 0.2)
        on = self.json("run", "words.toml", "--on", "a1")
        self.assertEqual((on["variables"]["kind"], on["variables"]["n"]), ("cast", 1.0))

    def document(self):
        with Ledger("ilvren.ledger", read_only=True) as ledger:
            return ledger.approximation("a1").document

    def test_where_models_fail_is_learnt_and_kept_away_from(self):
        found = self.learn(40)
        self.assertIn("chance of failure", " ".join(found["notes"]))
        problem = on_document(load("frame.toml"), self.document())
        works = Gate(problem).written.entry_batch("frame_works", np.array([[0.2, 0.3], [0.98, 0.97]]))[:, 0]
        self.assertLess(works[0], 0.2)
        self.assertGreater(works[1], 0.5)

    def test_an_approximation_is_a_model_of_other_problems_and_says_where_it_guesses(self):
        self.learn()
        self.call("export", "a1", "--output", "frame.json")
        Path("other.toml").write_text(
            '[variables]\nu = { start = 1, lower = 0, upper = 4 }\n[models.fast]\napproximation = "frame.json"\n'
            'inputs = { x = "u / 2", y = "0.2", lean = "0.5" }\n[minimize]\ng = "load"\n'
        )
        problem = load("other.toml")
        self.assertEqual(problem.sources, ())
        inside, outside = (Gate(problem).written.values([u])["g"] for u in (1.0, 4.0))
        x, y = 0.5, 0.2
        self.assertAlmostEqual(inside, (x - 0.3) ** 2 + 2 * y * y + 0.2 * x * y + 0.1 * x**3, delta=0.01)
        self.assertTrue(np.isfinite(outside))
        verdict = self.json("verify", "other.toml", "--at", "u=4", status=1)
        check = next(item for item in verdict["checks"] if item["name"] == "region")
        self.assertEqual(check["result"], "fail")
        found = self.json("run", "other.toml")
        self.assertEqual(found["outcome"], "converged")
        self.assertAlmostEqual(found["variables"]["u"], 2 * (0.26 / 1.0), delta=0.1)

    def test_formulas_are_learnt_too_limits_with_them(self):
        self.json("sample", "plain.toml", "--points", "18")
        found = self.json("approximate", "last", "--kind", "radial-basis")
        self.assertEqual(set(found["of"]), {"f", "low"})
        true, on = run(load("plain.toml")), self.json("run", "plain.toml", "--on", "a1", "--rounds", "4")
        self.assertAlmostEqual(on["objectives"]["f"], true.objective, delta=0.02)
        only = self.json("approximate", "r1", "--of", "bulge", "--kind", "polynomial")
        self.assertEqual(only["of"]["bulge"]["kind"], "polynomial")

    def test_a_document_is_evaluated_elsewhere_in_thirty_lines(self):
        self.learn(10, kind="gaussian-process")
        group = json.loads(self.document())["groups"][0]

        def said(surface, x):  # as docs/approximations.md has it
            z = (np.array(x) - surface["centre"]) / surface["half"]
            total = 0.0
            for part in surface["parts"]:
                p = np.prod(z ** np.array(part["powers"]), axis=1) @ np.array(part["coefficients"])
                if "kernel" in part:
                    s = (((z - np.array(part["centres"])) / part["lengths"]) ** 2).sum(axis=1)
                    r = np.sqrt(5 * (s + 1e-12))
                    kernel = {
                        "squared-exponential": np.exp(-s / 2),
                        "matern-5/2": (1 + r + r * r / 3) * np.exp(-r),
                        "cubic": (s + 1e-12) ** 1.5,
                        "multiquadric": -np.sqrt(1 + s),
                    }
                    p += kernel[part["kernel"]] @ np.array(part["weights"])
                p = part["middle"] + part["deviation"] * p
                total += part["weight"] * (np.exp(p) if part["transform"] == "log" else p)
            return total

        problem = on_document(load("frame.toml"), self.document())
        told = problem.quantities([0.4, 0.3])
        self.assertAlmostEqual(said(group["outputs"]["load"]["surface"], [0.4, 0.3]), float(told["frame.load"]), 9)

    def test_mistakes_have_one_message_each(self):
        self.learn()
        self.call("export", "a1", "--output", "frame.json")
        good = json.loads(Path("frame.json").read_text())
        for name, change in {
            "no.json": {"form": "other"},
            "half.json": {"groups": [{**good["groups"][0], "inputs": []}]},
            "odd.json": {"groups": [{**good["groups"][0], "outputs": {"load": {"surface": {"centre": [0]}}}}]},
        }.items():
            Path(name).write_text(json.dumps({**good, **change}))
            Path("bad.toml").write_text(
                f'[variables]\nx = 0.5\n[models.m]\napproximation = "{name}"\n[minimize]\nf = "m.load"\n'
            )
            self.assertIn(f"{name} ", self.call("show", "bad.toml", status=2)[1])
        for words, said in {
            ("run", "frame.toml", "--on", "a7"): "approximation",
            ("run", "frame.toml", "--rounds", "2"): "--on",
            ("approximate", "look", "--of", "loed"): "load",
            ("approximate", "look", "--test-points", "14"): "at least",
            ("approximate", "r9"): "r9",
            ("sample", "frame.toml", "--on", "b"): "approximation",
        }.items():
            with self.subTest(words=words):
                self.assertIn(said, self.call(*words, status=2)[1])

    @only_in_whole
    def test_figures_and_pages_are_written(self):
        self.learn(10, "--output", "p.png", kind="radial-basis")
        self.call("approximate", "look", "--output", "p.html", "--of", "load")
        self.call("draw", "frame.toml", "--on", "a1", "--of", "frame.load", "--slices", "--output", "s.svg")
        self.assertGreater(Path("p.png").stat().st_size, 10_000)
        self.assertIn("frame.load", Path("p.html").read_text())
        self.assertIn("holds 90 % of points", Path("s.svg").read_text())
        with Ledger("ilvren.ledger", read_only=True) as ledger:
            self.assertEqual([record.id for record in ledger.approximations()], ["a1", "a2"])
            self.assertEqual(len(designs_of(ledger, ["look"]).designs), 10)


if __name__ == "__main__":
    unittest.main()
