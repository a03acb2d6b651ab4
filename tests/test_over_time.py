"""What evolves over time from the command line: simulated, tuned, fitted, gone on with, judged."""

import csv
import io
import json
import math
from pathlib import Path

import numpy as np

from ilvren import load, loads, run, verify
from ilvren.cli.main import main
from ilvren.cli.terminal import Terminal
from ilvren.evaluate import Gate
from ilvren.ledger import Ledger
from tests.compact import WHOLE, some
from tests.test_cli import InAFolder

COARSE = """
[time]
to = 3
steps = 4
unit = "s"
[variables]
a = { start = 0.5, lower = 0, upper = 5 }
b = { start = 0.5, lower = 0, upper = 5 }
[states]
x = { rate = "a * cos(3 * t) - b * x", initial = 0, unit = "m" }
[signals]
twice = { formula = "2 * x", unit = "m" }
[derived]
end = "last(twice)"
[maximize]
gain = "a - 0.1 * (b - 1)^2 - 0.01 * a^2"
[constraints]
cap = "x <= 1"
"""
DRAINING = """
[time]
to = 6
[tables.readings]
file = "dry.csv"
[parameters]
inflow = 0.05
[variables]
loss = { start = 0.2, lower = 0.01, upper = 2 }
[states]
level = { rate = "(inflow - loss * sqrt(level)) / 1.8", start = 2 }
[fit]
gauge = { residual = "at(level, readings.hour) - readings.level", sigma = 0.01 }
[cases.dry]
set = { inflow = 0.05 }
[cases.wet]
set = { inflow = 0.3 }
tables = { readings = "wet.csv" }
"""
DRAG = """
import numpy as np
def drag(v, k):
    return {"force": k * v * np.sqrt(v * v + 0.01)}
"""
CART = """
[time]
to = 2
steps = 5
[variables]
k = { start = 0.3, lower = 0.05, upper = 2 }
[models.drag]
python = "drag.py:drag"
inputs = { v = "speed" }
outputs = ["force"]
[states]
speed = { rate = "1 - drag.force", initial = 0 }
[signals]
felt = "drag.force"
[minimize]
cost = "(last(speed) - 1.2)^2"
"""


class OverTime(InAFolder):
    def setUp(self):
        super().setUp()
        Path("p.toml").write_text(COARSE)

    def call_status(self, *words):
        """Run a command in process and return (standard output, standard error, status)."""
        out, err = io.StringIO(), io.StringIO()
        status = main([str(word) for word in words], Terminal(out, err))
        return out.getvalue(), err.getvalue(), status

    def test_simulate_as_table_file_and_figure(self):
        out = self.call("simulate", "p.toml", "--at", "a=2", "--output", "s.csv")[0]
        self.assertIn("twice [m]", out)
        with Path("s.csv").open() as file:
            rows = list(csv.DictReader(file))
        self.assertEqual([float(row["t"]) for row in rows], [0, 0.75, 1.5, 2.25, 3])
        self.assertEqual(float(rows[2]["twice"]), 2 * float(rows[2]["x"]))
        document = json.loads(self.call("simulate", "p.toml", "--at", "a=2", "--json")[0])
        self.assertEqual(document["signals"]["x"], [float(row["x"]) for row in rows])
        self.assertLessEqual(document["time_error"]["estimate"], document["time_error"]["limit"])
        self.call("simulate", "p.toml", "--signals", "x", "--output", "s.png")
        self.assertGreater(Path("s.png").stat().st_size, 10_000)
        _, err, status = self.call_status("simulate", "p.toml", "--signals", "xx")
        self.assertEqual(status, 2)
        self.assertIn('nothing over time is named "xx"', err)

    def test_show_tells_what_evolves(self):
        document = json.loads(self.call("show", "p.toml", "--json")[0])
        self.assertEqual(document["over_time"]["x"], {"kind": "state", "unit": "m", "uses": ["a", "t", "b", "x"]})
        self.assertEqual(document["constraints"]["cap"]["times"], [0.0, 0.75, 1.5, 2.25, 3.0])
        self.assertNotIn("[time]", json.dumps(document["parameters"]))

    def test_a_run_in_stages_is_gone_on_with_as_if_it_had_not_stopped(self):
        whole = json.loads(self.call("run", "p.toml", "--second-look", "0", "--json")[0])
        self.assertEqual(whole["outcome"], "converged")
        self.assertGreaterEqual(len(whole["stages"]), 2)
        self.assertIn("moment", whole["stages"][0]["finer"])
        for limit in range(2, whole["counts"]["evaluations"], 3 if WHOLE else 40):
            self.call_status("run", "p.toml", "--evaluations", str(limit), "--label", f"l{limit}")
            _, _, status = self.call_status("resume", f"l{limit}", "--evaluations", "1000")
            self.assertEqual(status, 0)
            with Ledger("ilvren.ledger", read_only=True) as ledger:
                result = ledger.run(f"l{limit}").result
            self.assertEqual(result["variables"], whole["variables"])
            self.assertEqual(result["counts"], whole["counts"])

    def test_a_limit_without_a_value_between_the_moments_does_not_hold(self):
        """At the grid's moments the cosine is 1; between them the root is that of numbers below 0."""
        for treatment in ("simulation", "collocation"):
            for limit in some(
                ("sqrt(cos(t * 3.141592653589793) + 0.5) + x <= 4", "sqrt(1.5 + 0 * t) + x <= 4"),
                2,
                treatment == "simulation",
            ):
                text = (
                    f'[time]\nto = 10\nsteps = 5\ntreatment = "{treatment}"\n[variables]\nk = {{ start = 1.0, lower = 0.5, upper = 3 }}\n'
                    '[states]\nx = { rate = "-k * x", initial = 1 }\n[minimize]\nf = "(k - 1)^2"\n'
                    f'[constraints]\nd = "{limit}"\n'
                )
                with self.subTest(treatment, limit=limit):
                    result = run(loads(text), method="sqp" if treatment == "simulation" else "interior-point")
                    verdict = verify(result)
                    moments = next((check for check in verdict.checks if check.name == "moments"), None)
                    if "cos" in limit:
                        self.assertFalse(verdict.holds)
                        self.assertTrue(moments is None or moments.result == "fail")
                    elif treatment == "simulation":
                        self.assertEqual(moments.result, "pass")

    def test_what_was_found_is_judged_between_the_moments_and_afresh(self):
        self.call("run", "p.toml", "--second-look", "0")
        verdict = verify("last", ledger="ilvren.ledger")
        self.assertTrue(verdict.holds, verdict.reason)
        checks = {check.name: check for check in verdict.checks}
        self.assertEqual((checks["time"].result, checks["moments"].result), ("pass", "pass"))
        # On the coarse grid alone the best design looks far better than it is.
        broken = verify("p.toml", at={"a": 5.0, "b": 0.79})
        self.assertEqual(broken.verdict, "limits-broken")
        self.assertIn("between the moments", broken.reason)

    def test_unstable_systems_are_not_scolded(self):
        Path("u.toml").write_text(
            COARSE.replace("a * cos(3 * t) - b * x", "9 * x + a - 1").replace('cap = "x <= 1"', 'cap = "a <= 4"')
        )
        verdict = verify("u.toml", at={"a": 1.0})
        time = next(check for check in verdict.checks if check.name == "time")
        self.assertEqual(time.result, "unknown")
        self.assertIn("needs feedback", time.detail)

    def test_designs_on_the_way_are_drawn(self):
        self.call("run", "p.toml", "--label", "way", "--second-look", "0")
        document = json.loads(
            self.call(
                "draw", "p.toml", "--signals", "x", "--run", "way", "--every", "2", "--output", "w.png", "--json"
            )[0]
        )
        self.assertGreater(sum(item["past"] for item in document["designs"]), 1)
        self.assertEqual(document["designs"][-1]["past"], False)

    def test_every_method_runs_on_it(self):
        for method in some(
            ("differential-evolution", "nelder-mead", "interior-point", "quadratic-interpolation", "l-bfgs"), 3
        ):
            with self.subTest(method=method):
                text = COARSE.replace('[constraints]\ncap = "x <= 1"', "") if method == "l-bfgs" else COARSE
                Path("m.toml").write_text(text)
                document = json.loads(
                    self.call_status("run", "m.toml", "--method", method, "--evaluations", "150", "--json")[0]
                )
                self.assertIn(document["outcome"], ("converged", "settled", "exhausted", "stalled"))
                self.assertLessEqual(document["violation"], 1e-6)

    def test_a_fit_of_two_experiments(self):
        rng = np.random.default_rng(5)
        for name, inflow, begin in (("dry", 0.05, 2.6), ("wet", 0.3, 1.1)):
            t = np.linspace(0.25, 6, 12)  # the sums of steps round more than the last gain is
            level, at, rows = begin, 0.0, ["hour,level"]
            for moment in t:
                while at < moment - 1e-12:
                    step = min(1e-3, moment - at)
                    level += step * (inflow - 0.35 * math.sqrt(level)) / 1.8
                    at += step
                rows.append(f"{moment},{level + rng.normal(0, 0.01)}")
            Path(f"{name}.csv").write_text("\n".join(rows) + "\n")
        Path("fit.toml").write_text(DRAINING)
        result = run(load("fit.toml"), ledger="ilvren.ledger")
        self.assertEqual(result.outcome, "converged")
        errors = result.estimates.error_of()
        for name, true in (("loss", 0.35), ("level@dry.first", 2.6), ("level@wet.first", 1.1)):
            self.assertLessEqual(abs(result.variables[name] - true), 4 * errors[name])
        self.assertEqual(result.estimates.undetermined, ())
        both = DRAINING.replace("/ 1.8", "/ area").replace("inflow -", "-").replace("[states]", "area = 1.5\n[states]")
        Path("both.toml").write_text(both)
        result = run(load("both.toml"))
        self.assertEqual([sorted(item) for item in result.estimates.undetermined], [["area", "loss"]])

    def test_a_model_in_rates(self):
        Path("drag.py").write_text(DRAG)
        Path("cart.toml").write_text(CART)
        problem = load("cart.toml")
        gate = Gate(problem)
        slope = gate.written.gradient([0.3])[0]
        ahead, behind = (gate.written.batch(np.array([[0.3 + h]])).objective[0] for h in (1e-5, -1e-5))
        self.assertAlmostEqual(slope, (ahead - behind) / 2e-5, delta=1e-8)
        speed, felt = (problem.signals([0.3], gate.calls)[0][name] for name in ("speed", "felt"))
        np.testing.assert_allclose(felt, 0.3 * speed * np.sqrt(speed**2 + 0.01), rtol=1e-12)
        result = run(problem, ledger="ilvren.ledger", second_look=0.0)
        self.assertAlmostEqual(result.objective, 0.0, delta=1e-9)

    def test_curves_against_measured_ones(self):
        Path("ref.csv").write_text("t,x\n" + "".join(f"{t},{math.sin(3 * t) / 3}\n" for t in (0.2, 1.01, 2.9)))
        Path("r.toml").write_text(COARSE.replace("- b * x", "- 0 * b * x"))
        out = self.call_status("verify", "r.toml", "--at", "a=1", "--reference-file", "ref.csv", "--json")[0]
        agreement = json.loads(out)["reference"][0]
        self.assertEqual((agreement["name"], agreement["points"]), ("x", 3))
        self.assertLess(agreement["deviation"], 1e-6)

    def test_check_says_what_cannot_be_from_the_start(self):
        text = """
[time]
to = 5
unit = "s"
[variables]
a = { start = 1.0, lower = 0, upper = 3, unit = "m/s" }
[states]
x = { rate = "-a", initial = 2, unit = "m" }
y = { rate = "RATE", initial = 0, unit = "m" }
[signals]
both = { formula = "x + y", unit = "s" }
[minimize]
f = "last(y)"
[constraints]
low = "x >= 3"
tidy = "settling_time(x, 0, 0.1) <= a"
"""
        Path("start.toml").write_text(text.replace("RATE", "sqrt(x)"))
        out, _ = self.call("check", "start.toml", "--only", "domain")
        self.assertIn("nothing can be simulated", out)
        self.assertIn("at t = 2 s", out)
        Path("start.toml").write_text(text.replace("RATE", "0.5 * x"))
        out, _ = self.call("check", "start.toml", "--units", "--only", "conflicts", status=1)
        for told in ("low@0 is 2 whatever the design", "the rate must be m/s", "signals.both", "constraints.tidy"):
            self.assertIn(told, out)
        self.assertEqual(out.count("units of different kinds"), 3)
