"""What a problem file is refused for: each has its own words, the line where it stands, and the text in question."""

import tempfile
import unittest
from pathlib import Path

from ilvren.errors import InputError
from ilvren.problem import load

PLAIN = """[parameters]
p = 2
list = [1, 2, 3]
[variables]
x = { start = 1, lower = 0, upper = 5 }
y = { start = 1, lower = 0, upper = 5 }
[derived]
d = "x + p"
[minimize]
f = "d^2 + y"
[constraints]
c = "x + y >= 1"
"""
TIMED = """[time]
to = 4
steps = 8
[states]
s = { rate = "-k * s + u", initial = 1 }
[controls]
u = { start = 0, lower = -1, upper = 1, pieces = 4 }
[signals]
g = "2 * s"
[variables]
k = { start = 1, lower = 0.1, upper = 5 }
[minimize]
f = "last(s)^2 + k"
[constraints]
c = "highest(s) <= 2"
"""
SCATTERED = """[variables]
x = { start = 1, lower = 0, upper = 5 }
w = { start = "oak", choices = ["oak", "ash"] }
[parameters]
p = 2.0
q = 1.0
many = [1, 2, 3]
[scatter]
p = { law = "normal", deviation = 0.1 }
q = { law = "uniform", half_width = 0.2 }
together = [["p", "q", 0.4]]
[minimize]
f = "expected(p * x + q) + sum(many)"
[constraints]
c = "chance(p * x <= 3) >= 0.9"
"""
PROGRAM = """[models.net]
command = ["./net", "deck.txt"]
files = ["net"]
[models.net.write."deck.txt"]
base = "base.txt"
put = { x = { after = "X" } }
[models.net.read]
loss = { file = "out.txt", after = "LOSS" }
[variables]
x = { start = 1, lower = 0, upper = 5 }
[minimize]
f = "net.loss"
"""
PYTHON = """[models.m]
python = "m.py:area"
outputs = ["a", "b"]
[variables]
x = { start = 1, lower = 0, upper = 5 }
[minimize]
f = "m.a + m.b"
"""
TABLED = """[tables.seen]
file = "seen.csv"
[variables]
x = { start = 1, lower = 0, upper = 5 }
[minimize]
f = "sum((x - seen.y)^2)"
"""
FITTED = """[tables.seen]
file = "seen.csv"
[variables]
x = { start = 1, lower = 0, upper = 5 }
[fit]
line = { residual = "x * seen.t - seen.y", sigma = 2 }
"""

# What is put in place of what, and words of the message. "@N" behind the words: the line; else that of the new text.
PLAIN_SLIPS = [
    ("lower = 0, upper = 5 }\ny", "lower = 6, upper = 5 }\ny", "lower 6 is above upper 5"),
    ("lower = 0, upper = 5 }\ny", "lower = -1.5e308, upper = 1.5e308 }\ny", "farther apart than numbers reach"),
    ("lower = 0, upper = 5 }\ny", "magnitude = -1, lower = 0, upper = 5 }\ny", "is not a positive number"),
    ("lower = 0, upper = 5 }\ny", "lower = 0, upper = 5, spacing = 0 }\ny", "is not a positive number"),
    ("lower = 0, upper = 5 }\ny", "upper = 5, spacing = 1 }\ny", 'counts from "lower", which is missing'),
    ("lower = 0, upper = 5 }\ny", "catalogue = [1, 2], lower = 0 }\ny", "excludes lower, upper and spacing"),
    ("lower = 0, upper = 5 }\ny", "catalogue = [2, 1] }\ny", "sorted from small to large, without repeats"),
    ("lower = 0, upper = 5 }\ny", "catalogue = [1, inf] }\ny", "finite numbers"),
    ("lower = 0, upper = 5 }\ny", "shape = [1, 2, 3] }\ny", "a shape is a length, or [rows, columns]"),
    ("lower = 0, upper = 5 }\ny", "shape = [90000, 90000] }\ny", "elements are more than this tool holds"),
    ("lower = 0, upper = 5 }\ny", "shape = 2.5 }\ny", "a whole number from 1, known before any run"),
    ("lower = 0, upper = 5 }\ny", "unit = 3 }\ny", "must be text"),
    ("lower = 0, upper = 5 }\ny", 'choices = ["oak", "oak"] }\ny', "lists different words"),
    (
        "x = { start = 1, lower",
        'x = { start = "elm", choices = ["oak", "ash"] }\nz = { start = 1, lower',
        "not among the choices",
    ),
    ("x = { start = 1,", "1x = { start = 1,", "names have ASCII letters, digits and _"),
    ("y = { start = 1,", "sin = { start = 1,", "is reserved"),
    ('d = "x + p"', 'd = "x + p"\np = "x"', "is used twice, here and in [parameters]"),
    ('d = "x + p"', 'd = "x + e"\ne = "d + 1"', "the value needs itself"),
    ('d = "x + p"', 'd = ""', "an empty formula"),
    ('d = "x + p"', "d = nan", "nan is not a value"),
    ('d = "x + p"', 'd = { formula = "x", value = 3 }', 'unknown key "value"'),
    ('d = "x + p"', 'd = { formula = "x", about = 3 }', "must be text"),
    ('d = "x + p"', 'd = "x + c"', "is a constraint, which has no value to use in a formula"),
    ('d = "x + p"', 'd = "dot(join(1, 2), join(1, 2, 3))"', "the last length of the first must be the first length"),
    ('d = "x + p"', 'd = "x + max(list[3:3])"', "of nothing: the argument has no element"),
    ('d = "x + p"', 'd = "x + sum(list[::0])"', "a step of 0 goes nowhere"),
    ('d = "x + p"', 'd = "x + evenly(1, list, 3)[0]"', "takes scalars, not"),
    ('d = "x + p"', 'd = "x + sum(evenly(1, 2, 1e9))"', "more than this tool holds"),
    ('d = "x + p"', 'd = "x + list[x]"', "index"),
    ('d = "x + p"', 'd = "x + list[]"', "expected an index, found"),
    ('d = "x + p"', 'd = "x + 1e999"', "a number too large for double precision"),
    ('d = "x + p"', 'd = "x + ()"', "expected a value, found"),
    ('d = "x + p"', 'd = "x + sum(list, 0, axis = 0)"', "two axes"),
    ('d = "x + p"', 'd = "x + atan2(1)"', "argument"),
    ('d = "x + p"', 'd = "max(x, y > 1)"', "a comparison inside a call"),
    ('d = "x + p"', 'd = "where(x, 1, 2)"', "expected a comparison, found"),
    ('d = "x + p"', f'd = "{"(" * 70}x{")" * 70}"', "nested more than"),
    ('d = "x + p"', 'd = "last(x)"', "[time]"),
    ('d = "x + p"', 'd = "expected(x)"', "[scatter]"),
    ("p = 2", 'p = "x"', "a parameter may use parameters only"),
    ("p = 2", 'p = "1 / 0"', "has no finite value"),
    ("list = [1, 2, 3]", "list = []", "an empty list"),
    ("list = [1, 2, 3]", "list = [[1, 2], [3]]", "its lines have different lengths"),
    ("list = [1, 2, 3]", "list = [[[1]]]", "more than two levels of lists"),
    ('c = "x + y >= 1"', 'c = "1 <= x <= y <= 3"', "comparisons"),
    ('c = "x + y >= 1"', 'c = "1 <= x >= 0"', "has no meaning as limits"),
    ('c = "x + y >= 1"', 'c = "x + y > 1"', "a limit includes its value"),
    ('c = "x + y >= 1"', 'c = "5 <= x + y <= 4"', "can never hold: its lower limit"),
    ('c = "x + y >= 1"', 'c = "x + list >= join(1, 2)"', "shapes"),
    ('f = "d^2 + y"', 'f = { formula = "d^2 + y", goal = inf }', "a goal is one finite number"),
    ('f = "d^2 + y"', 'f = { formula = "d^2 + y", priority = 0.5 }', "priority"),
    ('f = "d^2 + y"', 'f = { formula = "d^2 + y", magnitude = 0 }', "is not a positive number"),
    ('f = "d^2 + y"', 'f = "list * x"', "one number"),
    ('f = "d^2 + y"', 'f = "d^2 + yy"', 'unknown name "yy"'),
    ("[derived]", "[deriveed]", "deriveed"),
    ("[minimize]", "[minimize", "@9"),
    ("[derived]", "[cases.a]\nset = { nothing = 1 }\n[derived]", "nothing"),
    ("[derived]", "[cases.a]\nset = 3\n[derived]", "gives other values to parameters"),
    ("[derived]", '[confirm]\nq = "zz >= 1"\n[derived]', "zz"),
]
TIMED_SLIPS = [
    ("to = 4", "to = 0", "the time ends before it begins"),
    ("to = 4", 'from = "k"\nto = 4', "may not depend on a variable"),
    ("to = 4", 'to = "join(1, 2)"', "a time is one number, not"),
    ("to = 4\nsteps = 8", 'at = "join(0, 2, 1)"', "must grow from one to the next"),
    ("to = 4\nsteps = 8", 'at = "join(0)"', "two moments or more"),
    ("to = 4\nsteps = 8", 'at = "join(0, 1, 4)"\nsteps = 8', 'beside "at", which gives the moments itself'),
    ("to = 4\n", "", 'needs "to": when it ends'),
    ("steps = 8", "steps = 0", "steps"),
    ("steps = 8", 'treatment = "both"', "treatment"),
    ("initial = 1 }", "initial = 1, shape = [2, 0] }", "a length must be a whole number from 1"),
    ("initial = 1 }", "initial = 1, magnitude = -2 }", "a magnitude is a positive number"),
    ("initial = 1 }", "initial = [1, 2], shape = 3 }", "starts with"),
    ('rate = "-k * s + u"', 'every = 0.5, next = "s + join(1, 2)"', "its rate has length 2"),
    ('rate = "-k * s + u"', 'every = 1e-9, next = "s"', "samples are more than this tool takes"),
    ('rate = "-k * s + u"', 'transfer = { of = "u", numerator = [1, 0, 0], denominator = [1, 1] }', "higher degree"),
    ('rate = "-k * s + u"', 'transfer = { of = "u", numerator = [], denominator = [1, 1] }', "highest power first"),
    ('rate = "-k * s + u"', 'rate = "-k * s + qq"', 'unknown name "qq"'),
    ('g = "2 * s"', 'g = "2 * g"', "needs itself"),
    ('f = "last(s)^2 + k"', 'f = "s^2 + k"', "changes over time; here one number is needed"),
    ('f = "last(s)^2 + k"', 'f = "last(k)"', "change over time"),
    ('f = "last(s)^2 + k"', 'f = "sum(moves(k))"', "control"),
    ("pieces = 4 }", "pieces = 0 }", "a whole number of pieces"),
    ("pieces = 4 }", 'pieces = 4, form = "round" }', "form"),
    ("pieces = 4 }", 'form = "pointwise", before = 0 }', "a pointwise control has not"),
    ("pieces = 4 }", 'pieces = 1 }\n[derived]\nj = "sum(moves(u))"', "has one piece, which does not move"),
    ("[time]\nto = 4\nsteps = 8\n", "", "[states] without [time]"),
]
SCATTERED_SLIPS = [
    ('p = { law = "normal", deviation = 0.1 }', "p = 3", "scatters is a table such as"),
    ('p = { law = "normal", deviation = 0.1 }', "p = { deviation = 0.1 }", "needs a law"),
    ('p = { law = "normal", deviation = 0.1 }', 'p = { law = "nrmal", deviation = 0.1 }', "nrmal"),
    ('p = { law = "normal", deviation = 0.1 }', 'p = { law = "normal" }', "deviation"),
    ('p = { law = "normal", deviation = 0.1 }', 'p = { law = "normal", deviation = -1 }', "deviation"),
    ('p = { law = "normal", deviation = 0.1 }', 'p = { law = "normal", deviation = 1, relative = 1 }', "true or false"),
    (
        'p = { law = "normal", deviation = 0.1 }',
        'pp = { law = "normal", deviation = 1 }',
        "no variable and no parameter is named",
    ),
    ('p = { law = "normal", deviation = 0.1 }', 'w = { law = "normal", deviation = 1 }', "has words for values"),
    ('p = { law = "normal", deviation = 0.1 }', 'p = { law = "normal", deviation = 1, reach = 2 }', "one number"),
    ('p = { law = "normal", deviation = 0.1 }', 'p = { law = "data", values = 3 }', '"values" must be text'),
    ('[["p", "q", 0.4]]', '[["p", "q"]]', "two names and their rank correlation are expected"),
    ('[["p", "q", 0.4]]', '[["p", "x", 0.4]]', "does not scatter"),
    ('[["p", "q", 0.4]]', '[["p", "p", 0.4]]', "is correlated with itself"),
    ('[["p", "q", 0.4]]', '[["p", "q", 1.5]]', "lies between -1 and 1"),
    ('[["p", "q", 0.4]]', '[["p", "q", 0.4], ["q", "p", 0.1]]', "stand there twice"),
    ('c = "chance(p * x <= 3) >= 0.9"', 'c = "index(p * x) >= 2"', ""),
    ('c = "chance(p * x <= 3) >= 0.9"', 'c = "chance(p * x) >= 0.9"', "comparison"),
    ('c = "chance(p * x <= 3) >= 0.9"', 'c = "quantile(p * x, 3) >= 2"', ""),
]
PROGRAM_SLIPS = [
    ('files = ["net"]', 'files = ["net"]\ninputs = "x"', "gives formulas to names"),
    ('files = ["net"]', 'files = ["net"]\nenvironment = { A = [1] }', "gives texts to variables"),
    ('files = ["net"]', 'files = ["net", "../other"]', "needs a file that is not there"),
    (
        '[models.net.write."deck.txt"]\nbase = "base.txt"\nput = { x = { after = "X" } }',
        'write = "deck.txt"',
        "a section for each deck",
    ),
    ('base = "base.txt"', 'base = "base.txt"\ntemplate = "t.j2"', 'either a "template", or a "base" with "put"'),
    ('base = "base.txt"', 'template = "t.j2"', "a template names its values@6"),
    ('put = { x = { after = "X" } }', 'put = { x = { after = "X", line = 3 } }', "a place is given by one of"),
    ('put = { x = { after = "X" } }', "put = { x = { line = 1, field = 1, columns = [1, 2] } }", "not by both"),
    ('put = { x = { after = "X" } }', "put = { x = { line = 0, field = 1 } }", "a number from 1, or from the end"),
    (
        'put = { x = { after = "X" } }',
        "put = { x = { line = 1, columns = [9, 2] } }",
        "the first and the last character",
    ),
    ('put = { x = { after = "X" } }', 'put = { x = { pattern = "(" } }', "is no regular expression"),
    ('put = { x = { after = "X" } }', 'put = { x = { after = "X", which = "second" } }', "the number of an occurrence"),
    ('put = { x = { after = "X" } }', "put = { x = { after = 3 } }", "is a text"),
    ('loss = { file = "out.txt", after = "LOSS" }', 'loss = { after = "LOSS" }', 'needs a "file"'),
    (
        'loss = { file = "out.txt", after = "LOSS" }',
        'loss = { file = "o.json", pointer = "mass" }',
        "begins with a slash",
    ),
    (
        'loss = { file = "out.txt", after = "LOSS" }',
        'loss = { file = "o.csv", column = "a", row = "T" }',
        "the row with this cell",
    ),
    (
        'loss = { file = "out.txt", after = "LOSS" }',
        'loss = { file = "o.csv", column = "a" }',
        "needs a shape, a row, or take",
    ),
    (
        'loss = { file = "out.txt", after = "LOSS" }',
        'loss = { file = "o.csv", column = "a", take = "min", shape = 3 }',
        "has no shape",
    ),
    (
        'loss = { file = "out.txt", after = "LOSS" }',
        'loss = { file = "o.csv", column = "a", take = "min", delimiter = "ab" }',
        "is one character",
    ),
    (
        'command = ["./net", "deck.txt"]',
        'command = ["./net", "deck.txt"]\npython = "m.py:area"',
        'either a "command" or a "python"',
    ),
]
PYTHON_SLIPS = [
    ('python = "m.py:area"', 'python = "m.py"', "names a function in a file"),
    ('python = "m.py:area"', 'python = "m.py:aera"', "area"),
    ('python = "m.py:area"', 'python = "gone.py:area"', "gone.py"),
    ('python = "m.py:area"', "timeout = 3", 'needs "python"@1'),
    ('python = "m.py:area"', 'python = "m.py:area"\nrepeatable = 3', "true or false"),
    ('python = "m.py:area"', 'python = "m.py:area"\nderivatives = "supplied"', 'need "slopes"'),
    ('python = "m.py:area"', 'python = "m.py:area"\nderivatives = "suplied"', "supplied"),
    ('python = "m.py:area"', 'python = "m.py:area"\ninputs = { xx = "x" }', "has no argument"),
    ('python = "m.py:area"', 'python = "m.py:area"\napproximation = "a.json"', "either an"),
    ('outputs = ["a", "b"]', "outputs = { a = { shape = 3, band = -1 }, b = {} }", "how far an element looks"),
    ('f = "m.a + m.b"', 'f = "m.c"', "m.c"),
    ('f = "m.a + m.b"', 'f = "a + zz"', "zz"),
]
TABLE_SLIPS = [
    ('file = "seen.csv"', "lines = [0, 2]", 'needs a "file"@1'),
    ('file = "seen.csv"', 'file = "gone.csv"', "no such file"),
    ('file = "seen.csv"', 'file = "seen.csv"\nlines = [2, 1]', "lines [2, 1] of seen.csv"),
    ('file = "seen.csv"', 'file = "seen.csv"\nlines = 3', "half-open range of data lines"),
    ('file = "seen.csv"', 'file = "seen.csv"\ncolumns = { y = 3 }', "the header of a column"),
    ('file = "seen.csv"', 'file = "seen.csv"\ncolumns = { z = "deep" }', "has no column"),
    ('file = "seen.csv"', 'file = "seen.csv"\nmissing = 3', "the cells that stand for no value"),
    ('file = "seen.csv"', 'file = "seen.csv"\ndecimal = ","', "cannot stand before decimals and between cells"),
    ('file = "seen.csv"', 'file = "empty.csv"', "no data below its header"),
    ('file = "seen.csv"', 'file = "twice.csv"', "two columns named"),
    ("seen.y", "seen.z", "has no column"),
]
FIT_SLIPS = [
    ('line = { residual = "x * seen.t - seen.y", sigma = 2 }', "line = { sigma = 2 }", 'needs a "residual"'),
    ('line = { residual = "x * seen.t - seen.y", sigma = 2 }', 'line = { residual = "x", sigma = 0 }', "sigma"),
    ("[fit]", '[minimize]\nf = "x"\n[fit]', "keep one of them"),
    ("sigma = 2 }", 'sigma = 2, loss = "squared" }', "loss"),
]


class Refusals(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        for name, text in {
            "m.py": "def area(x):\n    return {'a': x, 'b': x * x}\n",
            "net": "#!/bin/sh\n",
            "base.txt": "X 1.0\n",
            "t.j2": "{{ x }}\n",
            "seen.csv": "t,y\n0,1\n1,2\n2,4\n",
            "empty.csv": "t,y\n",
            "twice.csv": "y,y\n1,2\n",
        }.items():
            (self.folder / name).write_text(text)

    def loaded(self, text):
        path = self.folder / "p.toml"
        path.write_text(text)
        return load(path)

    def refused(self, base, slips):
        self.loaded(base)  # which is right as it stands
        for old, new, words in slips:
            with self.subTest(slip=new[-60:], words=words):
                self.assertIn(old, base)
                text = base.replace(old, new, 1)
                words, _, line = words.partition("@")
                with self.assertRaises(InputError) as caught:
                    self.loaded(text)
                error = caught.exception
                self.assertIn(words, f"{error} {error.advice} {error.text}")
                first = text[: text.index(new)].count("\n") + 1 if new else 0
                lines = [int(line)] if line else range(first, first + new.count("\n") + 1)
                if new:
                    self.assertIn(error.line, lines, error)
                self.assertTrue(str(error).startswith(str(self.folder)), error)

    def test_of_plain_files(self):
        self.refused(PLAIN, PLAIN_SLIPS)

    def test_over_time(self):
        self.refused(TIMED, TIMED_SLIPS)

    def test_of_what_scatters(self):
        self.refused(SCATTERED, SCATTERED_SLIPS)

    def test_of_programs(self):
        self.refused(PROGRAM, PROGRAM_SLIPS)

    def test_of_models_in_python(self):
        self.refused(PYTHON, PYTHON_SLIPS)

    def test_of_tables(self):
        self.refused(TABLED, TABLE_SLIPS)

    def test_of_fits(self):
        self.refused(FITTED, FIT_SLIPS)


if __name__ == "__main__":
    unittest.main()
