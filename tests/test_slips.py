"""What people write by habit is answered with what is meant; tables are read as they are written."""

import unittest
from pathlib import Path

from ilvren.errors import InputError
from ilvren.problem import load, loads
from tests.test_cli import InAFolder

X = "[variables]\nx = { start = 1 }\n[minimize]\n"
SLIPS = {
    "[variables]\nx = 1\nx = 2\n": "name is there already",
    "[variables]\nx = 1\n[variables]\ny = 2\n": "section is there already",
    "[variables]\nx = { start = 1,5 }\n": "behind a point",
    "[variables]\nx = 1,5\n": "behind a point",
    "[variables]\nx = { start = 1, lower = 0\ny = 2\n": "ends on its line",
    "[variables]\nx = { start = 1 lower = 0 }\n": "commas stand between",
    "[variables]\nx = { start = 1, }\n": "no comma",
    "[variables\nx = 1\n": "ends with a bracket",
    "[variables]\nα = 1\n": "ASCII",
    "[variables]\nx = .5\n": "digits on both sides",
    "[variables]\nx = 01\n": "begin with 0",
    "[variables]\nx: 1\n": "equals sign",
    "[variables]\nx = { start = 1, fixed = True }\n": "small letters",
    X + 'f = "x\n"\n': "quote",
    X + "f = x^2\n": "formulas stand in quotes",
    X + 'f = "ln(x)"\n': '"log"',
    X + 'f = "2x"\n': r"2\*x",
    X + 'f = "pow(x, 2)"\n': r"x\^y",
    "[variables]\nx = { start = 1, min = 0 }\n": '"lower" here',
    "[variables]\nx = { start = 1, Maximum = 3 }\n": '"upper" here',
    "[variables]\nx = { init = 1 }\n": '"start" here',
}


class Slips(unittest.TestCase):
    def test_each_is_answered_with_what_is_meant(self):
        for text, expected in SLIPS.items():
            with self.subTest(text=text), self.assertRaises(InputError) as caught:
                loads(text)
            self.assertRegex(caught.exception.advice or "", expected)
            self.assertIsNotNone(caught.exception.line)


class Tables(InAFolder):
    def read(self, content, *keys, formula="sum(t.y) + 0*k"):
        """Return the value of f with a table as it is written, or the advice of the refusal."""
        Path("t.csv").write_bytes(content if isinstance(content, bytes) else content.encode())
        lines = "\n".join(('[variables]\nk = 1\n[tables.t]\nfile = "t.csv"', *keys, f'[minimize]\nf = "{formula}"\n'))
        Path("p.toml").write_text(lines)
        try:
            problem = load("p.toml")
        except InputError as error:
            return error
        return problem.named_values(problem.start)["f"][0]

    def test_tables_are_read_as_they_are_written(self):
        semicolons, missing = "# made by hand\nx;y\n1,5;2,5\n\n# later\n2,5;3,5\n", 'missing = ["", "n/a"]'
        keys = ('delimiter = ";"', 'decimal = ","', 'comment = "#"')
        self.assertEqual(self.read(semicolons, *keys), 6.0)
        self.assertEqual(self.read(semicolons.replace("\n", "\r\n"), *keys), 6.0)
        self.assertEqual(self.read("x\ty\n1\t2\n2\t3\n", 'delimiter = "\\t"'), 5.0)
        self.assertEqual(self.read("x   y\n1  2\n2  3\n", 'delimiter = " "'), 5.0)
        self.assertEqual(self.read("x,y\n1,2\n,5\n3,n/a\n4,3\n", missing), 5.0)
        self.assertEqual(self.read("x,y,word\n1,2,a\n2,3,b\n"), 5.0)  # text that no formula uses
        self.assertEqual(self.read('x,y\n"1\n2",2\n3,4\n'), 6.0)  # a cell of two lines

    def test_lines_that_are_left_out_are_counted(self):
        self.read("x,y\n1,2\n2,n/a\n3,4\n,5\n", 'missing = ["", "n/a"]')
        self.assertIn("t.csv: 2 lines with a missing value left out, 2 used", self.call("show", "p.toml")[0])

    def test_what_would_help_is_said_with_the_line(self):
        for content, advice, line in (
            ("x;y\n1;2\n2;3\n", 'delimiter = ";"', "t.csv:|no column"),
            ("x\ty\n1\t2\n", r'delimiter = "\\t"', "no column"),
            ("# c\nx,y\n1,2\n", 'comment = "#"', "t.csv:2|no column"),
            ("x,y\n1,2\n2,n/a\n", r'missing = \["n/a"\]', "t.csv:3"),
            ("x,y\n1,2\n2,\n", r'missing = \[""\]', "t.csv:3"),
            ('x,y\n1,2\n2,"3,5"\n', 'decimal = ","', "t.csv:3"),
            (b"x,y\n1,2\n2,\xf6\n", "UTF-8", "t.csv:3"),
        ):
            with self.subTest(content=content):
                found = self.read(content)
                self.assertIsInstance(found, InputError)
                self.assertRegex(found.advice or "", advice)
                self.assertRegex(str(found), line)

    def test_keys_are_checked(self):
        for keys in (
            ('delimiter = "::"',),
            ('decimal = "x"',),
            ("comment = 3",),
            ('missing = "n/a"',),
            ('decimal = ","',),
        ):
            with self.subTest(keys=keys):
                self.assertIsInstance(self.read("x,y\n1,2\n", *keys), InputError)
        self.assertIn("every line", str(self.read("x,y\n1,\n", 'missing = [""]')))


if __name__ == "__main__":
    unittest.main()
