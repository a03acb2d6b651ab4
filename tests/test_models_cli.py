"""Python models from the command line: calls counted, wrong slopes found, failures lived with, vectors exported."""

import csv
import json
from pathlib import Path

from ilvren import load, run, verify
from ilvren.ledger import Ledger
from tests.compact import only_in_whole
from tests.models.test_models import CODE, TEXT, VECTOR
from tests.test_cli import InAFolder

COUNTED = (
    CODE
    + """
import pathlib

def counted(flow, bore, length):
    with pathlib.Path(__file__).with_name("calls").open("a") as file:
        file.write("x")
    return losses(flow, bore, length)

def narrow(flow, bore, length):
    if bore > 0.13:
        raise ValueError("no pipe of this bore")
    return losses(flow, bore, length)
"""
)


class WithModels(InAFolder):
    def setUp(self):
        super().setUp()
        Path("hydraulics.py").write_text(COUNTED)

    def write(self, function="losses", more=""):
        text = TEXT.replace("hydraulics.py:losses", f"hydraulics.py:{function}")
        Path("p.toml").write_text(text.replace("outputs =", f"{more}\noutputs ="))

    def calls(self):
        path = Path("calls")
        count = len(path.read_text()) if path.exists() else 0
        path.unlink(missing_ok=True)
        return count

    def test_show_calls_a_model_once(self):
        self.write("counted")
        for words in ((), ("--json",), ("--output", "pattern.png")):
            self.call("show", "p.toml", *words)
            self.assertEqual(self.calls(), 1, words)
        document = json.loads(self.call("show", "p.toml", "--json")[0])
        (model,) = document["models"]
        self.assertEqual((model["name"], model["python"], model["calls"]), ("upper", "hydraulics.py:counted", 1))
        self.assertEqual(document["order"], ["upper", "both"])

    @only_in_whole
    def test_a_run_asks_for_each_point_once(self):
        self.write("counted", 'slopes = "hydraulics.py:partials"')
        document = json.loads(self.call("run", "p.toml", "--method", "nelder-mead", "--json")[0])
        # The baseline shown beside the result is the start of the run.
        self.assertEqual(self.calls(), document["counts"]["evaluations"])

    def test_check_names_the_wrong_slope_and_exits_by_it(self):
        self.write(more='slopes = "hydraulics.py:skewed"')
        out, _ = self.call("check", "p.toml", "--only", "derivatives", status=1)
        for word in ("cost by bore", "wrong", "1 to mend"):
            self.assertIn(word, out)
        self.assertNotIn("cost by flow", out)
        self.write(more='slopes = "hydraulics.py:partials"')
        self.assertIn("24 of 24 elements agree", self.call("check", "p.toml")[0])

    @only_in_whole
    def test_a_run_goes_on_around_failures(self):
        self.write("narrow")
        for method in ("sqp", "nelder-mead"):
            document = json.loads(self.call("run", "p.toml", "--method", method, "--json", "--start", "bore=0.129")[0])
            self.assertIn(document["outcome"], ("converged", "settled"))
            self.assertLessEqual(document["variables"]["bore"], 0.13)

    def test_changed_models_are_refused_unless_told(self):
        self.write()
        self.call("run", "p.toml", "--method", "sqp")
        Path("hydraulics.py").write_text(COUNTED.replace("0.03 * length", "0.04 * length"))
        _, err = self.call("verify", "last", status=2)
        self.assertIn("upper: hydraulics.py", err)
        self.assertIn("--as-now", err)
        self.assertIn("fail", self.call("verify", "last", "--as-now", status=1)[0])
        self.call("compare", "last")  # what is stored needs no model

    def test_a_table_in_the_file_s_own_folder(self):
        Path("data").mkdir()
        Path("data/pipes.csv").write_text("size,price\n90,8\n110,11\n160,21.5\n")
        Path("data/p.toml").write_text(
            '[tables.pipes]\nfile = "pipes.csv"\n[variables]\ntube = { start = 110, catalogue = "pipes.size" }\n'
            'x = { start = 1, lower = 0, upper = 3 }\n[minimize]\nf = "lookup(tube, pipes.size, pipes.price) + (x - 2)^2"\n'
        )
        self.assertIn("catalogue of 3", self.call("show", "data/p.toml")[0])
        out, _ = self.call("draw", "data/p.toml", "--variables", "tube", "--output", "t.png")
        self.assertIn("no local extreme", out)
        self.call("draw", "data/p.toml", "--variables", "tube,x", "--output", "t.png")
        self.call("draw", "data/p.toml", "--slices", "--output", "t.png")
        self.assertIn("4 of 4 elements agree", self.call("check", "data/p.toml", "--only", "derivatives")[0])
        err = self.call("run", "data/p.toml", "--method", "sqp", status=2)[1]
        self.assertIn("catalogue", err)
        out = self.call("show", "data/p.toml", "--at", "tube=100")[0]
        self.assertIn("no key equals 100", out)


class VectorRuns(InAFolder):
    def setUp(self):
        super().setUp()
        Path("hydraulics.py").write_text(COUNTED)
        Path("v.toml").write_text(VECTOR.replace("n = 40", "n = 6"))
        Path("f.toml").write_text(
            "[parameters]\ngoal = [1, 2, 3]\n[variables]\nu = { start = 0, lower = -5, upper = 5, shape = 3 }\n"
            '[minimize]\nf = "sum((u - goal)^2) + 10 * sum((u[1:] - u[:-1]^2)^2)"\n'
        )

    def test_histories_name_every_element(self):
        self.call("run", "f.toml", "--method", "sqp")
        self.call("export", "r1", "--output", "h.csv")
        with Path("h.csv").open() as file:
            rows = list(csv.DictReader(file))
        self.assertEqual(
            [key for key in rows[0] if key.startswith("variable:")], [f"variable:u[{i}]" for i in range(3)]
        )
        final = json.loads(self.call("run", "f.toml", "--method", "sqp", "--json")[0])["variables"]["u"]
        self.assertEqual([float(rows[-1][f"variable:u[{i}]"]) for i in range(3)], final)

    def test_lists_go_in_and_come_out(self):
        self.call("run", "f.toml", "--method", "sqp", "--set", "goal=[1, 1, 1]", "--start", "u=[0.5, 0.5, 0.5]")
        self.call("run", "f.toml", "--method", "sqp")
        out, _ = self.call("compare", "r1", "r2")
        self.assertIn("parameters set: r1: goal=[3 values]; r2: none", out)
        self.assertIn("holds", self.call("verify", "r1")[0])
        out, _ = self.call("draw", "f.toml", "--run", "r2", "--variables", "u[0],u[2]", "--output", "p.svg")
        self.assertIn("u[2]", Path("p.svg").read_text())
        for words, part in (
            (("--set", "goal=[1, 2]"), "length 2"),
            (("--set", "goal=[1, oops]"), "a list of numbers"),
            (("--start", "u=[9, 0, 0]"), "outside its bounds"),
            (("--set", "goal=[[[1]]]"), "more than two levels"),
        ):
            err = self.call("run", "f.toml", "--method", "sqp", *words, status=2)[1]
            self.assertIn(part, err)

    @only_in_whole
    def test_formulas_are_computed_again_on_replay_and_models_are_recorded(self):
        for name, is_model in (("f.toml", False), ("v.toml", True)):
            problem = load(name)
            with Ledger(f"{name}.ledger") as ledger:
                run(problem, method="sqp", iterations=3, ledger=ledger)
                stored = [record.derivatives for record in ledger.evaluations(1) if record.derivatives is not None]
                self.assertEqual(set(stored), {b""})  # formulas give the same again, from the calls on record
                self.assertEqual(bool(ledger.calls(1)), is_model)
            self.call("resume", "last", "--ledger", f"{name}.ledger", "--iterations", "200")
            whole = run(load(name), method="sqp")
            with Ledger(f"{name}.ledger", read_only=True) as ledger:
                document = ledger.run("last").result
            self.assertEqual(document["variables"], whole.to_dict()["variables"])
            self.assertEqual(document["counts"], dict(whole.counts))
            self.assertTrue(verify(whole).holds)
