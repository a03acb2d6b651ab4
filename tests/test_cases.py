"""The same formulas under other parameters and tables: what is there once, what once for each case, and how it is named."""

import json
import unittest
from pathlib import Path

import numpy as np

from ilvren import load, loads, run
from ilvren.errors import FormulaError, ProblemError, RequestError
from ilvren.evaluate import Gate
from tests.compact import WHOLE
from tests.test_cli import InAFolder

MAST = """
[parameters]
wind = { value = 10, unit = "m/s" }
rho = 1.2
press = { value = "0.5 * rho * wind^2", unit = "Pa" }
[tables.loads]
file = "calm.csv"
[cases.calm]
[cases.storm]
set = { wind = 32 }
tables = { loads = "storm.csv" }
[cases.ice]
set = { wind = 15, rho = 2.5 }
[variables]
d = { start = 0.2, lower = 0.05, upper = 1, unit = "m" }
t = { start = 0.01, lower = 0.002, upper = 0.05, unit = "m" }
[derived]
side = "press * d * 10 + sum(loads.kN) * 100"
stress = "side * 5 / (pi * d^2 * t / 4) / 1e6"
area = "pi * d * t"
[minimize]
mass = "7850 * area * 10 + 0.001 * average(stress)"
[constraints]
strong = "stress <= 150"
slim = "d / t <= 60"
calmest = "stress@calm <= 0.6 * worst(stress) + 50"
"""


class Cases(InAFolder):
    def setUp(self):
        super().setUp()
        Path("calm.csv").write_text("kN\n1\n2\n")
        Path("storm.csv").write_text("kN\n6\n9\n")
        Path("mast.toml").write_text(MAST)

    def stress(self, wind, rho, loads, d=0.2, t=0.01):
        side = 0.5 * rho * wind**2 * d * 10 + sum(loads) * 100
        return side * 5 / (np.pi * d**2 * t / 4) / 1e6

    def test_values_are_those_of_each_case(self):
        problem = load("mast.toml")
        self.assertEqual([row.name for row in problem.rows],
                         ["strong@calm", "strong@storm", "strong@ice", "slim", "calmest"])  # fmt: skip
        values = Gate(problem).written.values(np.array(problem.start))
        calm, storm, ice = self.stress(10, 1.2, (1, 2)), self.stress(32, 1.2, (6, 9)), self.stress(15, 2.5, (1, 2))
        for name, value in (("strong@calm", calm), ("strong@storm", storm), ("strong@ice", ice)):
            self.assertAlmostEqual(values[name], value, places=9)
        self.assertAlmostEqual(values["mass"], 7850 * np.pi * 0.2 * 0.01 * 10 + 0.001 * (calm + storm + ice) / 3)
        self.assertAlmostEqual(values["calmest"], calm - 0.6 * storm - 50)

    def test_a_run_is_limited_by_the_worst_and_told_by_case(self):
        found = json.loads(self.call("run", "mast.toml", "--json")[0])
        self.assertEqual(found["outcome"], "converged")
        self.assertTrue(found["constraints"]["strong@storm"]["active"])
        self.assertFalse(found["constraints"]["strong@calm"]["active"])
        self.assertIn("stress@ice", found["derived"])
        self.assertIn("strong@storm", self.call("designs", "r1", "--keep", "stress@storm <= 150.001")[0])
        self.call("verify", "r1")
        if WHOLE:
            self.call("draw", "mast.toml", "--of", "stress@storm", "--output", "s.svg", "--quiet")

    def test_settings_reach_the_cases_that_do_not_say_so_themselves(self):
        problem = load("mast.toml", set={"rho": 2.0, "wind@storm": 20})
        values = {item.name: item.value for item in problem.parameters}
        self.assertEqual([values[f"rho@{case}"] for case in ("calm", "storm", "ice")], [2.0, 2.0, 2.5])
        self.assertEqual([values[f"wind@{case}"] for case in ("calm", "storm", "ice")], [10, 20, 15])
        again = loads(problem.source.text, file="mast.toml", set=problem.overrides)
        self.assertEqual([item.value for item in again.parameters[:6]], [item.value for item in problem.parameters[:6]])
        self.call("run", "mast.toml", "--set", "rho=2", "--quiet")
        self.assertIn("local-strict", self.call("verify", "r1")[0])

    def test_models_and_confirmations_by_case(self):
        Path("mast").write_text('#!/bin/sh\nawk "BEGIN { print \\"BENDS\\", $1 * $2 / $3 }"\n')
        Path("mast").chmod(0o755)
        text = (
            MAST
            + """
[models.own]
command = ["./mast", "{press}", "{d}", "{t}"]
files = ["mast"]
[models.own.read]
bends = { file = "stdout", after = "BENDS" }
[confirm]
stiff = "own.bends <= 1e9"
"""
        )
        text = text.replace('slim = "d / t <= 60"', 'slim = "d / t <= 60"\nbent = "bends <= 1e6"')
        problem = loads(text, file="mast.toml")
        self.assertEqual([source.name for source in problem.sources], ["own@calm", "own@storm", "own@ice"])
        values = Gate(problem).written.values(np.array(problem.start))
        self.assertAlmostEqual(values["bent@storm"], 0.5 * 1.2 * 32**2 * 0.2 / 0.01, delta=1)
        result = run(problem, evaluations=8)
        self.assertEqual(
            [state.name for state in result.confirmation.limits], ["stiff@calm", "stiff@storm", "stiff@ice"]
        )

    def test_experiments_of_a_fit(self):
        Path("a.csv").write_text("x,y\n1,3.1\n2,5.0\n3,7.1\n")
        Path("b.csv").write_text("x,y\n1,4.1\n2,6.0\n")
        text = """
[variables]
k = { start = 1.0, lower = 0, upper = 9 }
[parameters]
c = 1
[tables.data]
file = "a.csv"
[cases.first]
[cases.second]
set = { c = 2 }
tables = { data = "b.csv" }
[fit]
miss = "k * data.x + c - data.y"
"""
        x, y = np.array([1, 2, 3, 1, 2]), np.array([2.1, 4.0, 6.1, 2.1, 4.0])
        self.assertAlmostEqual(run(loads(text, file="mast.toml")).point[0], float(x @ y / (x @ x)), places=6)

    def test_what_is_refused(self):
        for old, new, told in (
            ("average(stress)", "stress", "varies from case to case"),
            ("stress@calm", "stress@clam", 'no case "clam"'),
            ("set = { wind = 32 }", "set = { wnd = 32 }", 'no parameter "wnd"'),
            ("worst(stress)", "worst(2 * stress)", "takes one name"),
            ("lower = 0.05", 'lower = "wind / 100"', "may not depend on a case"),
            ('slim = "d / t <= 60"', 'slim = "worst(nothing) <= 60"', 'unknown name "nothing"'),
        ):
            with self.subTest(new=new), self.assertRaisesRegex((ProblemError, FormulaError), told):
                loads(MAST.replace(old, new, 1), file="mast.toml")
        with self.assertRaisesRegex(RequestError, "every case has a value of its own"):
            loads(MAST.replace("[cases.calm]", "[cases.calm]\nset = { wind = 1 }"), file="mast.toml", set={"wind": 3})


if __name__ == "__main__":
    unittest.main()
