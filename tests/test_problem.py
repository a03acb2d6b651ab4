"""Problem files: what is read, what is refused and where the message points, sizes and limits."""

import math
import tempfile
import unittest
from pathlib import Path

import numpy as np

from ilvren import load, loads
from ilvren.errors import InputError, ProblemError, RequestError
from ilvren.judge.standing.design_report import unused_parameters
from ilvren.problem import Measures, objective_size
from ilvren.problem.positions import Positions

VARIABLE = "[variables]\nx = { start = 1.0 }\n"
GOAL = '[minimize]\nf = "x"\n'

# text → (line, part of the message or advice)
REFUSED = {
    "": (None, "empty"),
    "x = [": (1, "TOML"),
    "[variables]\nx = { start = 1 }\n[minimize]\nf = x^2\n": (4, "quotes"),
    "[varables]\nx = 1.0\n": (1, '"variables"'),
    VARIABLE: (None, "neither an objective nor a constraint"),
    GOAL: (None, "no variables"),
    "[variables]\n" + GOAL: (1, "no variables"),
    "[variables]\nx = { start = 1.0, uper = 2 }\n" + GOAL: (2, '"upper"'),
    "[variables]\nx = { start = 5.0, lower = 0, upper = 2 }\n" + GOAL: (2, "the nearest allowed value is 2"),
    "[variables]\nx = { start = 1.0, lower = 3, upper = 2 }\n" + GOAL: (2, "lower 3 is above upper 2"),
    "[variables]\nx = { lower = 0 }\n" + GOAL: (2, 'needs a "start"'),
    "[variables]\nx = { start = true }\n" + GOAL: (2, "a number or a formula"),
    "[variables]\nx = { start = nan }\n" + GOAL: (2, "nan"),
    "[variables]\nx = { start = inf }\n" + GOAL: (2, "not finite"),
    "[variables]\nx = { start = 1, spacing = 1 }\n" + GOAL: (2, '"lower"'),
    "[variables]\nx = { start = 1.4, lower = 0, upper = 3, spacing = 1 }\n" + GOAL: (2, "nearest allowed value is 1"),
    "[variables]\nx = { catalogue = [1, 5, 2] }\n" + GOAL: (2, "sorted"),
    "[variables]\nx = { catalogue = [1, 2], lower = 0 }\n" + GOAL: (2, "excludes"),
    "[variables]\nx = { start = 1, magnitude = 0 }\n" + GOAL: (2, "positive"),
    '[variables]\nx = { start = 1, lower = "x" }\n' + GOAL: (2, "may not depend on a variable"),
    "[variables]\nx = { start = 1, shape = 3 }\n" + GOAL: (4, "an objective is one number"),
    "[variables]\nexp = 1.0\n" + GOAL: (2, "reserved"),
    "[variables]\n1x = 1.0\n" + GOAL: (2, "not a name"),
    VARIABLE + '[derived]\nx = "2"\n' + GOAL: (4, "used twice"),
    VARIABLE + '[derived]\na = "b"\nb = "c + 1"\nc = "a"\n' + GOAL: (4, "a -> b -> c -> a"),
    VARIABLE + '[minimize]\nf = "2 * bore"\n': (4, 'unknown name "bore"'),
    VARIABLE + '[minimize]\nflow = "f1ow + x"\n': (4, "unknown name"),
    VARIABLE + '[parameters]\np = "x"\n' + GOAL: (4, "parameters only"),
    VARIABLE + '[parameters]\np = "log(-1)"\n' + GOAL: (4, "no finite value"),
    VARIABLE + GOAL + '[constraints]\nc = "x < 1"\n': (6, 'write "<="'),
    VARIABLE + GOAL + '[constraints]\nc = "1 <= x <= 0"\n': (6, "never hold"),
    VARIABLE + GOAL + "[constraints]\nc = 3\n": (6, "needs a comparison"),
    VARIABLE + GOAL + '[constraints]\nc = "x <= 1"\nd = "c <= 1"\n': (7, "is a constraint"),
    VARIABLE + '[minimize]\nf = { formula = "x", units = "m" }\n': (4, '"unit"'),
    VARIABLE + '[minimize]\nf = { unit = "m" }\n': (4, "needs a formula"),
    VARIABLE + "[minimize]\nf = \"__import__('os')\"\n": (4, "no text"),
    VARIABLE + '[tables.a]\nfile = "a.csv"\n' + GOAL: (4, "no such file"),
}


class Unused(unittest.TestCase):
    def test_parameters_that_nothing_names_are_told(self):
        text = (
            '[variables]\nx = { start = 1, upper = "p" }\n[parameters]\np = 1\nq = 2\nr = "q * 2"\nn = 3\nm = 2\nunused = 4\n'
            '[derived]\nd = "sum(evenly(0, 1, n))"\n[minimize]\nf = "(x - r)^2"\n[constraints]\nc = "x <= m"\n'
        )
        self.assertEqual(unused_parameters(loads(text)), ["unused"])


class Refusals(unittest.TestCase):
    def test_every_refusal_names_the_line_and_the_way_out(self):
        for text, (line, word) in REFUSED.items():
            with self.subTest(text=text), self.assertRaises(InputError) as caught:
                loads(text, file="some.toml")
            error = caught.exception
            with self.subTest(text=text):
                self.assertEqual((error.file, error.line), ("some.toml", line))
                self.assertIn(word, f"{error.message} {error.advice}")

    def test_files_that_are_none(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "pump.toml"
            path.write_bytes(b"\xff\xfe\x00")
            for name, word in (("pump.toml", "UTF-8"), ("pum.toml", "no such file"), (".", "a folder")):
                with self.subTest(name=name), self.assertRaises(InputError) as caught:
                    load(Path(folder) / name)
                self.assertIn(word, caught.exception.message)

    def test_overrides_are_checked_like_the_file(self):
        text = '[variables]\nx = { start = 1, lower = 0, upper = "top" }\n[parameters]\ntop = 4\n[minimize]\nf = "x"\n'
        self.assertEqual(loads(text, set={"top": 2.0}, start={"x": 2.0}).variables[0].upper, 2.0)
        for overrides in (
            {"set": {"tops": 1.0}},
            {"start": {"y": 1.0}},
            {"start": {"x": 9.0}},
            {"set": {"top": math.inf}},
        ):
            with self.subTest(**overrides), self.assertRaises(RequestError):
                loads(text, **overrides)
        with self.assertRaises(InputError):
            loads(text, set={"top": -1.0})  # now lower is above upper


class Reading(unittest.TestCase):
    def test_constraints_become_rows(self):
        for formula, expected in {
            "x <= 3": [("c", -math.inf, 3.0, 2.0)],
            "3 >= x": [("c", -math.inf, 3.0, 2.0)],
            "1 <= x": [("c", 1.0, math.inf, 2.0)],
            "x == p": [("c", 5.0, 5.0, 2.0)],
            "0 <= x <= p": [("c", 0.0, 5.0, 2.0)],
            "p >= x >= 0": [("c", 0.0, 5.0, 2.0)],
            "x <= y": [("c", -math.inf, 0.0, -5.0)],
            "y >= x^2": [("c", 0.0, math.inf, 3.0)],
            "x <= y <= 9": [("c.low", -math.inf, 0.0, -5.0), ("c.high", -math.inf, 9.0, 7.0)],
        }.items():
            with self.subTest(formula=formula):
                problem = loads(f'[variables]\nx = 2.0\ny = 7.0\n[parameters]\np = 5\n[constraints]\nc = "{formula}"\n')
                values = problem.named_values(problem.start)
                found = [(row.name, row.lower, row.upper, values[row.name][0]) for row in problem.rows]
                self.assertEqual(found, expected)

    def test_starts_without_a_start(self):
        problem = loads(
            "[variables]\na = { lower = 1, upper = 4 }\nb = { lower = 1, upper = 4, spacing = 1 }\n"
            'c = { catalogue = [1, 2, 10] }\nd = { lower = 0, upper = 1, spacing = 0.3 }\n[minimize]\nf = "a+b+c+d"\n'
        )
        self.assertEqual(problem.start[:3], (2.5, 2.0, 2.0))
        self.assertAlmostEqual(problem.variables[3].upper, 0.9)  # the last member not above upper
        self.assertEqual([v.kind for v in problem.variables], ["continuous", "spaced", "catalogue", "spaced"])

    def test_membership_is_exact(self):
        tenth = loads('[variables]\nx = { start = 0.7, lower = 0, upper = 1, spacing = 0.1 }\n[minimize]\nf = "x"\n')
        variable = tenth.variables[0]
        self.assertTrue(variable.allows(0.1 + 0.2))
        self.assertFalse(variable.allows(0.35))
        self.assertEqual(variable.member(0.35), 0.3 if 0.1 * 3 == 0.3 else 0.1 * 3)

    def test_names_are_ordinary_and_order_is_free(self):
        problem = loads(
            '[variables]\nlambda = 2.0\nclass = 3.0\nunused = 1.0\n[minimize]\nif = "while"\n'
            '[derived]\nwhile = "def * class"\ndef = "lambda + pi - pi"\n'
        )
        self.assertEqual(problem.named_values(problem.start)["if"], (6.0, None))
        self.assertEqual([v.is_used for v in problem.variables], [True, True, False])
        self.assertEqual(problem.free, (0, 1))

    def test_a_long_chain_of_derived_values(self):
        chain = "\n".join(f'd{i} = "d{i + 1} + 1"' for i in range(3000))
        problem = loads(VARIABLE + f'[derived]\n{chain}\nd3000 = "x"\n[minimize]\nf = "d0"\n')
        self.assertEqual(problem.named_values((1.0,))["f"][0], 3001.0)

    def test_lines_are_found_or_left_out_but_never_wrong(self):
        text = 'title = "a # b"\n[variables] # x = 1\n"x" = """\ny = 2\n"""\nz.start = [\n 1,\n]\n[a.b]\nc = 1 # [d]\n'
        positions = Positions(text)
        for path, line in {
            ("title",): 1,
            ("variables",): 2,
            ("variables", "x"): 3,
            ("variables", "y"): None,  # inside a string
            ("variables", "z", "start"): 6,
            ("a", "b", "c"): 10,
            ("d",): None,
        }.items():
            with self.subTest(path=path):
                self.assertEqual(positions.line(path), line)


class Sizes(unittest.TestCase):
    def test_size_of_a_row(self):
        for formula, size in {
            "x <= 1e-7": 1e-7,  # no floor of 1
            "-3 <= x <= 2": 3.0,
            "0 <= x <= 2": 2.0,
            "20 * x - 7 <= 0": 20.0,
            "x == y": 4.0,
            "x - x + 0 * y <= 0": 1.0,
        }.items():
            with self.subTest(formula=formula):
                problem = loads(f'[variables]\nx = 1.0\ny = 4.0\n[constraints]\nc = "{formula}"\n')
                self.assertEqual(Measures.of(problem).row_sizes.tolist(), [size])

    def test_size_of_variables_and_objective(self):
        problem = loads(
            "[variables]\na = { start = 2, lower = 0, upper = 8 }\nb = { start = -3 }\nc = { start = 0 }\n"
            'd = { start = 5, magnitude = 7 }\n[minimize]\nf = "a+b+c+d"\n'
        )
        sizes = Measures.of(problem).variable_sizes(np.array([1.0, 5.0, 0.0, 1.0]))
        self.assertEqual(sizes.tolist(), [8.0, 5.0, 1.0, 7.0])
        self.assertEqual(objective_size(None, 200.0, 500.0), 200.0)
        self.assertEqual(objective_size(None, 1e-3, 500.0), 1.0)
        self.assertEqual(objective_size(None, 1e-9, 1e-8), 9e-9)
        self.assertEqual(objective_size(3.0, 200.0, math.nan), 3.0)

    def test_violation_counts_rows_bounds_and_nan(self):
        problem = loads('[variables]\nx = { start = 1, lower = 0, upper = 2 }\n[constraints]\nc = "x^2 <= 4"\n')
        measures = Measures.of(problem)
        for x, row, expected in ((1.0, 1.0, 0.0), (1.0, 6.0, 0.5), (3.0, 4.0, 0.5), (1.0, math.nan, math.inf)):
            self.assertEqual(measures.violation(np.array([x]), np.array([row])), expected)


READINGS = "Flow [l/s],head,note\n1,10.5,a\n2,9.0,b\n3,6.5,\n4,x,d\n"
FITTED = """
[tables.r]
file = "r.csv"
lines = [0, "3"]
columns = { flow = "Flow [l/s]" }
[variables]
a = { start = 10, lower = 0, upper = 30 }
b = { start = 1, lower = 0, upper = 9 }
[fit]
head = { residual = "r.head - a + b * r.flow", sigma = 0.5 }
"""


class VectorsAndTables(unittest.TestCase):
    def test_shapes_come_from_keys_lists_and_parameters(self):
        problem = loads(
            '[parameters]\nn = 3\ntop = [1.0, "n", 5]\ngrid = [[1, 2], [3, 4]]\n'
            '[variables]\nu = { start = "top / 2", lower = 0, upper = "top", shape = "n" }\nw = { start = [0.5, 1.5], magnitude = 2 }\n'
            'm = { start = "grid", shape = [2, 2] }\nidle = { start = 0, shape = 4 }\n'
            '[minimize]\nf = "sum(u) + sum(w) + sum(m) + idle[2]"\n[constraints]\nc = "0 <= u <= top"\nd = "m[0] >= w"\n'
        )
        self.assertEqual([block.shape for block in problem.blocks], [(3,), (2,), (2, 2), (4,)])
        self.assertEqual(problem.start[:9], (0.5, 1.5, 2.5, 0.5, 1.5, 1.0, 2.0, 3.0, 4.0))
        names = [variable.name for variable in problem.variables]
        self.assertEqual((names[2], names[6], names[-1]), ("u[2]", "m[0,1]", "idle[3]"))
        self.assertEqual([names[place] for place in problem.free][-2:], ["m[1,1]", "idle[2]"])
        self.assertEqual([row.name for row in problem.rows], ["c[0]", "c[1]", "c[2]", "d[0]", "d[1]"])
        self.assertEqual(problem.rows[1].upper, 3.0)
        self.assertEqual(problem.with_parameters(n=3, top=[2, 2, 2]).rows[0].upper, 2.0)
        with self.assertRaises(ProblemError):
            problem.with_parameters(n=4)  # top keeps its three elements

    def test_tables_fits_and_lookups(self):
        problem = loads(FITTED, files={"r.csv": READINGS})
        self.assertEqual(problem.objective.name, "fit")
        value, _ = problem.named_values(problem.start)["fit"]
        self.assertAlmostEqual(value, 0.5 * sum(((h - 10 + q) / 0.5) ** 2 for q, h in ((1, 10.5), (2, 9.0), (3, 6.5))))
        robust = loads(FITTED.replace("sigma = 0.5", 'sigma = 0.5, loss = "huber"'), files={"r.csv": READINGS})
        self.assertLess(robust.named_values(robust.start)["fit"][0], value)
        sized = loads(
            "[parameters]\nsizes = [90, 110, 160]\nprice = [8, 11, 21.5]\n[variables]\n"
            'tube = { start = 110, catalogue = "sizes" }\n[minimize]\nf = "lookup(tube, sizes, price)"\n'
        )
        self.assertEqual(sized.named_values(sized.start)["f"][0], 11.0)
        value, trouble = sized.named_values((120.0,))["f"]
        self.assertTrue(math.isnan(value))
        self.assertEqual(trouble.reason, "no key equals 120; the nearest is 110")

    def test_refusals_of_tables_and_shapes(self):
        for old, new, words in (
            ("r.flow", "r.flw", 'no column "flw"'),
            ('lines = [0, "3"]', "lines = [0, 4]", 'r.csv:5: "x" in column "head"'),
            ('lines = [0, "3"]', "lines = [0, 9]", "which has 4 data lines"),
            ("Flow [l/s]", "Flow", 'no column "Flow"'),
            ('file = "r.csv"', 'file = "gone.csv"', "no such file"),
            ("[fit]", '[minimize]\nf = "a"\n[fit]', "beside [fit]"),
            ("sigma = 0.5", "sigma = 0", "must be positive"),
            ("sigma = 0.5", 'sigma = "a"', "may not depend on a variable"),
            ("sigma = 0.5", 'loss = "hubr"', "unknown loss"),
            ("b * r.flow", "b * join(1, 2)", "length 3 and length 2"),
            ("lower = 0, upper = 9", "lower = [0, 1], upper = 9", "length 2 and length 3"),
        ):
            with self.subTest(new=new), self.assertRaises(ProblemError) as caught:
                loads(FITTED.replace(old, new, 1), files={"r.csv": READINGS})
            self.assertIn(words, caught.exception.message)
            self.assertIsNotNone(caught.exception.line)
