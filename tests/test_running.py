"""What a run can be asked beside a method: a default, sources of derivatives, warm starts, sweeps, logs, figures,
diagnoses; from Python and as a user meets them."""

import json
import unittest
from pathlib import Path

import numpy as np

from ilvren import loads, run
from ilvren.errors import RequestError
from ilvren.evaluate import Gate
from ilvren.judge.diagnosing.conflict import find_conflict
from ilvren.ledger import Ledger
from ilvren.runs import Settings, choose, resume, sweep
from ilvren.runs.warm import warm_start
from tests.compact import WHOLE
from tests.problems import two_variables
from tests.test_cli import InAFolder

CONFLICT = """title = "Conflict"
[variables]
x = { start = 1, lower = 0, upper = 100 }
y = { start = 1, lower = 0, upper = 100 }
z = { start = 3 }
[minimize]
f = "x + y + z^2"
[constraints]
far = "x + y >= 30"
near = "x^2 + y^2 <= 9"
innocent = "z >= 2"
"""
LINE = """[parameters]
n = 40
[variables]
u = { start = 1, shape = "n", unit = "m" }
[minimize]
f = "sum(diff(u)^2) + 0.01 * sum((u - 2)^4)"
[constraints]
ends = "u[0] + u[-1] == 1"
"""
MODEL = "def heavy(x, y):\n    return {'w': (x - 1) ** 2 + 2 * (y - x) ** 2}\n"


class DefaultMethod(InAFolder):
    def test_the_choice_follows_the_problem(self):
        fit = '[variables]\na = { start = 1 }\n[parameters]\nt = [1, 2, 3]\n[fit]\nr = { residual = "a * t - 2" }\n'
        wide = '[variables]\nx = { start = 1, shape = 6000 }\n[minimize]\nf = "sum(cosh(x))"\n'
        rows = '[variables]\nx = { start = 1, shape = 300 }\n[minimize]\nf = "sum(x^2)"\n[constraints]\nc = "diff(x) <= 1"\n'
        for text, first in (
            (two_variables("exp(x) + y^2 + x^2 + x*y"), "newton"),
            (two_variables("exp(x) + y^2", "x + y >= 1"), "sqp"),
            (two_variables("(x - 1)^2 + (y - x^2)^2"), "levenberg-marquardt"),
            (fit, "levenberg-marquardt"),
            (wide, "l-bfgs"),
            (rows, "interior-point"),
        ):
            problem = loads(text)
            choice = choose(problem)
            self.assertEqual(choice.names[0], first, text)
            result = run(problem)
            self.assertTrue(result.holds, f"{text}: {result.reason}")
            self.assertEqual(result.method, first)
        self.assertIn("nelder-mead", choose(loads(two_variables("abs(x) + y^2"))).names)
        self.assertNotIn("newton", choose(loads(two_variables("exp(x) + y^2")), "differences").names)

    def test_infeasible_is_said_after_a_proof_or_after_two_methods_agree(self):
        proved = run(loads(CONFLICT))
        self.assertEqual((proved.outcome, proved.conflict), ("infeasible", ("far", "near")))
        self.assertEqual(proved.counts["evaluations"], 1)
        result = run(loads(two_variables("x^2 + y^2", "x - y >= 1", "y - x >= 0.5")))
        self.assertEqual(result.conflict, ())
        self.assertEqual(result.outcome, "infeasible")
        paths = {item.path for item in result.iterations}
        self.assertEqual(paths, {"sqp", "interior-point", "from elsewhere in the box"})

    def test_an_interrupted_default_run_resumes_on_its_path(self):
        text = two_variables("max(x^2 + y^4, (2-x)^2 + (2-y)^2, 2*exp(y-x))", "x + y <= 5")
        whole = run(loads(text))
        with Ledger("own.ledger") as ledger:
            part = run(loads(text), ledger=ledger, evaluations=whole.counts["evaluations"] // 2)
            self.assertEqual(part.outcome, "exhausted")
            rest = resume("last", ledger, evaluations=100_000)
        self.assertEqual(rest.point, whole.point)
        self.assertEqual(rest.counts["evaluations"], whole.counts["evaluations"])


class Sources(InAFolder):
    def test_differences_cost_evaluations_and_find_the_same_design(self):
        text = two_variables("(x - 2)^2 + 2 * (y + 1)^2 + exp(x * y)", "x^2 + y^2 <= 3", "x >= y")
        exact, differenced = (run(loads(text), method="sqp", derivatives=word) for word in ("automatic", "differences"))
        self.assertTrue(differenced.holds)
        np.testing.assert_allclose(differenced.point, exact.point, atol=1e-5)
        self.assertGreater(differenced.counts["evaluations"], 3 * exact.counts["evaluations"])
        self.assertEqual(differenced.counts["hessians"], 0)

    def test_differences_are_near_the_exact_derivatives_everywhere(self):
        rng = np.random.default_rng(2)
        text = "[variables]\nx = { start = 1e-3, lower = 0, upper = 5 }\ny = { start = 2e4 }\n" + (
            '[minimize]\nf = "exp(x) * sin(y / 3e3) + y^2 / 1e8"\n[constraints]\nc = "x * y <= 1e4"\nd = "x^3 >= -1"\n'
        )
        problem = loads(text)
        exact, near = Gate(problem), Gate(problem, by_differences=True)
        points = [np.array([x, y]) for x in (0.0, 1e-6, 2.0, 5.0) for y in rng.normal(size=3) * 2e4]
        for point in points:
            one, other = exact.evaluate(point, derivatives=True), near.evaluate(point, derivatives=True)
            scale = np.maximum(np.abs(one.jacobian), 1e-3)
            self.assertLess(float((np.abs(one.jacobian - other.jacobian) / scale).max()), 1e-5)
            np.testing.assert_allclose(other.gradient, one.gradient, rtol=1e-5, atol=1e-8)
        self.assertGreater(near.counts.evaluations, 4 * len(points))

    def test_a_source_that_is_not_there_is_refused(self):
        Path("m.toml").write_text(
            "[variables]\nx = { start = 0 }\ny = { start = 0 }\n[models.heavy]\n"
            'python = "m.py:heavy"\noutputs = ["w"]\n[minimize]\nf = "w"\n'
        )
        Path("m.py").write_text(MODEL)
        for word in ("automatic", "complex-step", "differences"):
            out, _ = self.call("run", "m.toml", "--derivatives", word, "--json")
            found = json.loads(out)
            self.assertEqual(found["outcome"], "converged")
            self.assertAlmostEqual(found["variables"]["y"], 1.0, places=4)
        for file, word, told in (
            ("m.toml", "supplied", "slopes"),
            ("pump.toml", "complex-step", "is for models"),
            ("pump.toml", "diferences", 'did you mean "differences"'),
        ):
            _, err = self.call("run", file, "--derivatives", word, status=2)
            self.assertIn(told.lower(), err.lower())
        self.assertFalse(Path("ilvren.ledger").exists() and len(Ledger("ilvren.ledger").runs()) > 3)


class WarmStarts(InAFolder):
    def test_a_run_from_its_own_end_needs_nothing_more(self):
        for method in ("sqp", "interior-point", "augmented-lagrangian"):
            cold = json.loads(self.call("run", "pump.toml", "--method", method, "--json")[0])
            warm = json.loads(self.call("run", "pump.toml", "--method", method, "--from", "last", "--json")[0])
            near = json.loads(
                self.call("run", "pump.toml", "--method", method, "--from", cold["run"], "--set", "p=2.1", "--json")[0]
            )
            with self.subTest(method=method):
                self.assertEqual(warm["outcome"], "converged")
                self.assertLessEqual(warm["counts"]["iterations"], 2)
                self.assertLessEqual(near["counts"]["iterations"], cold["counts"]["iterations"])
                self.assertEqual(near["outcome"], "converged")

    def test_names_decide_what_is_taken_and_given_starts_win(self):
        problem = loads(two_variables("x^2 + y^2", "x + y >= 3"))
        end = run(problem, method="sqp").to_dict()
        other = loads('[variables]\ny = { start = 9 }\nq = { start = 4 }\n[minimize]\nf = "y^2 + q^2"\n')
        warm = warm_start(other, end, "r1")
        self.assertEqual(warm.taken, ("y",))
        self.assertEqual(warm.problem.start, (1.5, 4.0))
        self.assertIsNone(warm.multipliers)
        np.testing.assert_allclose(warm_start(problem, end, "r1").row_multipliers, [3.0], atol=1e-6)
        with self.assertRaisesRegex(RequestError, "no variable of this problem"):
            warm_start(loads('[variables]\nw = { start = 1 }\n[minimize]\nf = "w^2"\n'), end, "r1")
        self.call("run", "pump.toml")
        out, _ = self.call(
            "run", "pump.toml", "--from", "last", "--start", "x=0.25", "--evaluations", "1", "--json", status=1
        )
        self.assertEqual(json.loads(out)["variables"]["x"], 0.25)
        self.assertIn("no run", self.call("run", "pump.toml", "--from", "r99", status=2)[1])

    def test_a_warm_run_resumes_on_its_path(self):
        problem = loads(two_variables("100 * (y - x^2)^2 + (1 - x)^2", "x + y <= 1", start=(-1.2, 1.0)))
        with Ledger("own.ledger") as ledger:
            first = run(problem, method="interior-point", ledger=ledger)
            moved = loads(problem.source.text.replace("<= 1", "<= 0.8"))
            whole = run(moved, method="interior-point", ledger=ledger, origin=first.id)
            part = run(moved, method="interior-point", ledger=ledger, origin=first.id, evaluations=3)
            self.assertEqual(part.outcome, "exhausted")
            self.assertEqual(resume(part.id, ledger, evaluations=1000).point, whole.point)


class Sweeps(InAFolder):
    def test_each_member_starts_from_its_neighbour(self):
        problem = loads(Path("pump.toml").read_text())
        values = np.linspace(1.0, 3.0, 9)
        found = sweep(problem, "p", values.tolist(), Settings(method="sqp"))
        self.assertTrue(found.holds)
        self.assertEqual([member.is_warm for member in found.members], [False] + [True] * 8)
        for member in found.members:
            alone = run(problem.with_parameters(p=member.value), method="sqp")
            self.assertAlmostEqual(member.result.objective, alone.objective, places=7)
        cold = sum(run(problem.with_parameters(p=v), method="sqp").counts["evaluations"] for v in values.tolist())
        self.assertLess(sum(member.result.counts["evaluations"] for member in found.members), cold)

    def test_a_member_that_fails_warm_is_tried_cold_and_the_rest_goes_on(self):
        text = (
            '[variables]\nx = { start = 2, lower = -5, upper = 5 }\n[parameters]\np = 1\n[minimize]\nf = "(x - p)^2"\n'
        )
        text += '[constraints]\nc = "x * p >= 1"\nd = "x^2 <= 9 * p^2"\n'
        found = sweep(loads(text), "p", [1.0, 0.1, 2.0], Settings(method="automatic"))
        self.assertEqual([member.result.holds for member in found.members], [True, False, True])
        self.assertFalse(found.holds)

    def test_the_command_prints_a_table_draws_and_writes(self):
        out, _ = self.call("run", "pump.toml", "--sweep", "p=evenly(1, 3, 5)", "--output", "s.png", "--label", "s")
        self.assertEqual(out.count("converged"), 5)
        self.assertIn("from its neighbour", out)
        self.assertGreater(Path("s.png").stat().st_size, 10_000)
        document = json.loads(self.call("run", "pump.toml", "--sweep", "p=[1, 2]", "--json", "--output", "s.csv")[0])
        self.assertEqual(document["values"], [1.0, 2.0])
        self.assertEqual(len(Path("s.csv").read_text().splitlines()), 3)
        self.assertIn("s[3]", self.call("runs", "--full")[0])
        for words, told in (
            (("--sweep", "q=[1]"), 'no parameter or variable "q"'),
            (("--sweep", "p"), "which values?"),
            (("--sweep", "=1"), "expected NAME=VALUES"),
            (("--sweep", "p=evn(1, 2, 3)"), "unknown function"),
            (("--sweep", "p=[1, nan]"), "--sweep"),
            (("--sweep", "p=[1]", "--step-log"), "is for one run"),
            (("--output", "x.png"), "--output needs"),
        ):
            self.assertIn(told, self.call("run", "pump.toml", *words, status=2)[1])


class Watching(InAFolder):
    def test_the_step_log_has_a_line_an_iteration_with_its_reason(self):
        out, _ = self.call("run", "pump.toml", "--method", "sqp", "--step-log")
        heads = next(line for line in out.splitlines() if line.startswith("  step  "))
        lines = [line for line in out.splitlines() if line[:6].strip().isdigit()]
        result = json.loads(self.call("run", "pump.toml", "--method", "sqp", "--json")[0])
        self.assertEqual(len(lines), result["counts"]["iterations"] + 1)
        order = "what it was", "promise kept", "moved by", "violation", "stationarity", "objective", "evaluations"
        self.assertEqual(sorted(order, key=heads.index), list(order))
        self.assertTrue(lines[0].split("  ")[-1].strip() == "1" and "the start" in lines[0])
        self.assertRegex(lines[-1], r"full step of the quadratic model, held by \d limits?.* \d+ %")
        out, err = self.call("run", "pump.toml", "--method", "sqp", "--step-log", "--json")
        json.loads(out)
        self.assertIn("promise kept", err)

    def test_designs_of_a_vector_are_drawn(self):
        Path("line.toml").write_text(LINE)
        _, err = self.call("run", "line.toml", "--draw-every", "2", "--output", "designs.svg")
        self.assertIn("designs.svg", err)
        self.assertIn("iteration", Path("designs.svg").read_text())
        for words in (("pump.toml", "--draw-every", "2"), ("line.toml", "--draw-every", "0")):
            self.assertIn("--draw-every", self.call("run", *words, status=2)[1])


class Diagnoses(InAFolder):
    def diagnosed(self, text, *words, status=1):
        Path("bad.toml").write_text(text)
        self.call("run", "bad.toml", *words, status=status)
        return json.loads(self.call("diagnose", "last", "--json", status=status)[0])

    def test_a_conflict_names_the_guilty_and_only_them(self):
        found = self.diagnosed(CONFLICT)
        conflict = next(item for item in found["symptoms"] if item["kind"] == "conflict")
        self.assertEqual(conflict["limits"], ["far", "near"])
        self.assertEqual(conflict["line"], 9)
        missed = [item["name"] for item in found["symptoms"] if item["kind"] == "missed"]
        self.assertEqual(missed, ["far"])  # what the start misses, where the run ended
        text = self.call("diagnose", "last", status=1)[0]
        self.assertIn("bad.toml:9", text)
        self.assertIn("ilvren check bad.toml --only conflicts", text)
        self.assertNotIn("innocent", text)

    def test_a_conflict_that_needs_a_search_is_found_and_commands_keep_what_was_given(self):
        text = (
            '[parameters]\nroom = 2.0\nn = N\n[variables]\nu = { start = 1, shape = "n" }\n[minimize]\nf = "sum(u^2)"\n'
            '[constraints]\nsteep = "diff(u) >= 0.5"\nends = "u[-1] - u[0] <= room"\n'
        ).replace("N", "30" if WHOLE else "12")
        found = self.diagnosed(text, "--set", "room=3", "--start", "u=0.25", "--method", "sqp")
        missed = [item for item in found["symptoms"] if item["kind"] == "missed"]
        self.assertLessEqual(len(missed), 2)
        conflict = next(item for item in found["symptoms"] if item["kind"] == "conflict")
        self.assertIn("ends", conflict["limits"])
        runs = [item["command"] for item in found["advice"] if item["command"].startswith("ilvren run")]
        self.assertTrue(runs)
        for command in runs:
            self.assertIn("--set room=3", command)
            self.assertTrue("--start u=0.25" in command or "--from r1" in command)

    def test_bounds_take_part_and_planted_conflicts_are_found(self):
        rng = np.random.default_rng(3)
        for trial in range(6):
            names = [f"v{i}" for i in range(5)]
            normal = rng.normal(size=5)
            form = " + ".join(f"({a!r}) * {name}" for a, name in zip(normal.tolist(), names, strict=True))
            rows = [f'a = "{form} >= 1"', f'b = "{form} <= -1"'] if trial % 2 else [f'a = "{form} >= 1e3"']
            rows += [f'ok{i} = "v{i} + v{(i + 1) % 5} <= 4"' for i in range(5)]
            text = "\n".join(
                ["[variables]", *(f"{name} = {{ start = 0.1, lower = -2, upper = 2 }}" for name in names)]
                + ["[minimize]", f'f = "{" + ".join(f"{n}^2" for n in names)}"', "[constraints]", *rows]
            )
            problem = loads(text)
            conflict = find_conflict(problem, np.array(problem.start), 1e-6)
            blamed = {problem.rows[place].name for place in conflict.rows}
            with self.subTest(trial=trial):
                self.assertTrue(conflict.is_minimal)
                self.assertEqual(blamed, {"a", "b"} if trial % 2 else {"a"})
                self.assertEqual(bool(conflict.bounds), not trial % 2)

    def test_limits_that_do_not_conflict_are_said_not_to(self):
        text = CONFLICT.replace("<= 9", "<= 900")
        found = self.diagnosed(text, "--method", "sqp", "--evaluations", "1")
        conflict = next(item for item in found["symptoms"] if item["kind"] == "conflict")
        self.assertEqual(conflict["limits"], [])
        commands = [item["command"] for item in found["advice"]]
        self.assertEqual(len(commands), len(set(commands)))
        self.assertTrue(any(item["command"].startswith("ilvren resume") for item in found["advice"]))

    def test_invalid_designs_kinks_and_scaling_are_told(self):
        invalid = self.diagnosed(two_variables("log(x) + y^2", start=(-1.0, 1.0)))
        told = [item for item in invalid["symptoms"] if item["kind"] == "invalid"]
        self.assertIn("log", told[1]["text"])
        minimax = two_variables("max(x^2 + y^4, (2-x)^2 + (2-y)^2, 2*exp(y-x))")
        kink = self.diagnosed(minimax, "--method", "bfgs")
        self.assertIn("kink", {item["kind"] for item in kink["symptoms"]})
        self.assertIn("--method sqp", " ".join(item["command"] for item in kink["advice"]))
        kink = self.diagnosed(
            two_variables("where(x > 0, x, -x) + where(y > x, y - x, x - y) + 0.1 * x^2"), "--method", "bfgs"
        )
        self.assertIn("kink", {item["kind"] for item in kink["symptoms"]})
        self.assertIn("nelder-mead", " ".join(item["command"] for item in kink["advice"]))
        steep = two_variables("1e7 * (x - 1)^4 + 1e-3 * (y - 1)^4", start=(3.0, 3.0))
        scaling = self.diagnosed(steep, "--method", "gradient-descent", "--iterations", "3")
        facts = next(item for item in scaling["symptoms"] if item["kind"] == "scaling" and "before" in item)
        self.assertGreater(facts["before"], 1e4)

    def test_a_run_that_holds_has_nothing_to_cure(self):
        found = self.diagnosed(two_variables("x^2 + y^2 + x"), status=0)
        self.assertEqual(found["advice"][0]["command"], "ilvren verify r1")


if __name__ == "__main__":
    unittest.main()
