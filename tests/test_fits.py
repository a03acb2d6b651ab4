"""Fits on some lines of their readings, what they say of the others, and where their estimates go."""

import json
import tracemalloc
from dataclasses import replace
from pathlib import Path

import numpy as np
from scipy.stats import t as student

from ilvren import load, run
from ilvren.evaluate import Gate
from ilvren.problem import Aim, Refinement, refined_problem, with_lines
from ilvren.runs.estimates import estimates_of
from ilvren.runs.fitted import Forecast, fitted_entries
from tests.test_cli import InAFolder

STRAIGHT = """
[tables.seen]
file = "seen.csv"
lines = [1, 31]
[variables]
rise = { start = 1.0, unit = "m" }
level = 0.0
[fit]
line = { residual = "seen.y - level - rise * seen.x"SIGMA }
other = { residual = "0.01 * level"SIGMA }
"""
DUTY = """# what is designed with it
[parameters]
rise = { value = 1, unit = "m" }    # from the fit
twice = "2 * rise"
[variables]
x = { start = 1.0, lower = 0.0, upper = 9.0 }
[minimize]
f = "(x - rise)^2 + twice"
"""


class Fits(InAFolder):
    def setUp(self):
        super().setUp()
        rng = np.random.default_rng(4)
        self.x = np.linspace(0.0, 4.0, 32)
        self.y = 2.0 + 3.0 * self.x + 0.1 * rng.standard_normal(32)
        self.y[26:] += 0.8  # what the lines before do not tell
        lines = [f"{x!r},{y!r}" for x, y in zip(self.x.tolist(), self.y.tolist(), strict=True)]
        Path("seen.csv").write_text("x,y\n" + "\n".join(lines) + "\n")
        self.write("")

    def write(self, sigma):
        Path("line.toml").write_text(STRAIGHT.replace("SIGMA", sigma))

    def test_the_band_is_that_of_a_straight_line(self):
        x, y = self.x[1:31], self.y[1:31]
        for sigma in ("", ", sigma = 0.1"):
            self.write(sigma)
            problem = load("line.toml", aim=Aim(lines={"seen": (4, 20)}))
            result = run(problem)
            wide = np.column_stack([x, np.ones(30)])
            own = np.vstack([wide[4:20], [0.0, 0.01]]) * (10.0 if sigma else 1.0)
            readings = np.append(y[4:20] * (10.0 if sigma else 1.0), 0.0)
            best, *_ = np.linalg.lstsq(own, readings, rcond=None)
            left = readings - own @ best
            s, freedom = (1.0, 0) if sigma else (np.sqrt(left @ left / 15.0), 15)
            factor = student.ppf(0.975, freedom) if freedom else 1.959963984540054
            inverse = np.linalg.inv(own.T @ own)
            scaled = wide * (10.0 if sigma else 1.0)
            band = factor * s * np.sqrt(1.0 + np.einsum("ij,jk,ik->i", scaled, inverse, scaled))
            entry, other = fitted_entries(problem, np.array(result.point), result.estimates)
            np.testing.assert_allclose(entry.band, band * (0.1 if sigma else 1.0), rtol=1e-6)
            np.testing.assert_allclose(entry.readings - entry.model, entry.residuals, atol=1e-12)
            np.testing.assert_allclose(entry.model, wide @ best, rtol=1e-6)
            self.assertEqual((entry.along, entry.is_used.sum(), len(other.residuals)), ("seen.x", 16, 1))
            (told,) = result.forecast
            beyond = np.r_[0:4, 20:30]
            off = np.abs(y - wide @ best)[beyond]
            self.assertEqual((told.used, told.beyond, told.within), (16, 14, int((off <= entry.band[beyond]).sum())))
            self.assertAlmostEqual(told.error_beyond, float(np.sqrt(np.mean(off**2))), 6)
            self.assertFalse(told.carries_over)

    def test_what_the_lines_do_not_tell_has_no_band(self):
        text = Path("line.toml").read_text()
        Path("line.toml").write_text(
            text.replace("level -", "where(seen.x > 2, level, 1) -").replace("0.01 * level", "0.1")
        )
        problem = load("line.toml", aim=Aim(lines={"seen": (0, 10)}))
        result = run(problem)
        told = next(item for item in result.forecast if item.name == "line")
        self.assertEqual((told.beyond, told.banded), (20, int((self.x[11:31] <= 2.0).sum())))
        self.assertIn("no band", self.call("run", "line.toml", "--lines", "seen=:10")[0])
        Path("line.toml").write_text(Path("line.toml").read_text().replace("lines = [1, 31]", "lines = [0, 16]"))
        result = run(load("line.toml", aim=Aim(lines={"seen": (0, 10)})))
        told = next(item for item in result.forecast if item.name == "line")
        self.assertEqual((told.banded, told.carries_over), (6, True))
        result = run(load("line.toml", aim=Aim(lines={"seen": (10, 16)})))
        told = next(item for item in result.forecast if item.name == "line")
        self.assertEqual(told.banded, 10)
        self.assertIsNone(Forecast("line", beyond=3).carries_over)

    def test_many_readings_take_memory_in_proportion(self):
        count = 6000
        Path("seen.csv").write_text("x,y\n" + "".join(f"{k},{2 * k + (-1) ** k}\n" for k in range(count)))
        Path("line.toml").write_text(STRAIGHT.replace("SIGMA", "").replace("lines = [1, 31]\n", ""))
        problem = load("line.toml")
        gate = Gate(problem)
        gate.residuals(np.array(problem.start), derivatives=True)
        tracemalloc.start()
        estimates = estimates_of(problem, gate, np.array(problem.start))
        peak = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
        self.assertEqual(estimates.residuals, count + 1)
        self.assertLess(peak, 400 * 8 * count)  # a matrix of readings by readings has 6000 times that

    def test_an_aim_is_taken_once_however_often_a_problem_is_made_again(self):
        aim = Aim(hold=("rise <= 5",), lines={"seen": (0, 8)})
        problem = replace(load("line.toml", aim=aim), refusal="not yours")
        again = refined_problem(problem, Refinement(tighter=1))
        self.assertEqual((len(again.rows), again.refusal, again.aim), (1, "not yours", aim))
        self.assertEqual(len(with_lines(again, {}).template.tables["seen"].columns["x"]), 30)

    def test_lines_from_the_command_line(self):
        out, _ = self.call("run", "line.toml", "--lines", "seen=:20")
        self.assertIn("does not carry over", out)
        self.call("verify", "last")
        self.call("draw", "last", "--fit", "--output", "fit.svg")
        entries = json.loads(self.call("draw", "last", "--fit", "--output", "fit.svg", "--json")[0])["entries"]
        self.assertEqual([sum(entry["used"]) for entry in entries], [20, 1])
        self.assertIn("forecast", Path("fit.svg").read_text())
        for words, told in (
            ("seem=0:9", '"seen"'),
            ("seen=0:31", "30 lines"),
            ("seen=9:9", "no line"),
            ("seen=5", "0:200"),
        ):
            _, err = self.call("run", "line.toml", "--lines", words, status=2)
            self.assertIn(told, err)

    def test_estimates_become_parameters_of_another_problem(self):
        self.call("run", "line.toml")
        Path("duty.toml").write_text(DUTY)
        out, _ = self.call("apply", "last", "--parameters", "duty.toml")
        rise = load("duty.toml").parameters[0].value
        self.assertAlmostEqual(rise, 3.0, delta=0.5)
        self.assertEqual(Path("duty.toml").read_text(), DUTY.replace("value = 1,", f"value = {rise!r},"))
        self.assertEqual(Path("duty.toml.1").read_text(), DUTY)
        self.assertIn("no parameter there: level", out)
        for old, new, told in (
            ('"m"', '"mm"', "in mm there"),
            ("value = 1", 'value = "1 + 1"', "formula"),
            ("rise =", "ride =", "none"),
        ):
            bad = DUTY.replace(old, new).replace("2 * rise", "2").replace("x - rise", "x - 1")
            Path("duty.toml").write_text(bad)
            self.assertIn(told, self.call("apply", "last", "--parameters", "duty.toml", status=2)[1])
            self.assertEqual(Path("duty.toml").read_text(), bad)

    def test_starts_of_controls_and_of_first_values(self):
        text = "[time]\nto = 2\n[controls]\nu = { start = 0.5, lower = -2, upper = 2, pieces = 3 }\n[states]\n"
        text += 'x = { rate = "u - x", start = 1, lower = 0.5 }\n[minimize]\nj = "integral(x^2 + 0.1 * u^2)"\n'
        Path("hold.toml").write_text(text)
        result = run("hold.toml", ledger="ilvren.ledger")
        self.call("apply", "last", "--starts")
        np.testing.assert_array_equal(load("hold.toml").start, result.point)
