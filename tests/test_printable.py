"""Text that is not our own reaches no terminal, spreadsheet or page as anything but text."""

import contextlib
import csv
import io
import json
import re
import unittest
from pathlib import Path

from ilvren.cli.main import main
from ilvren.cli.terminal import Terminal
from ilvren.explore import read_designs
from ilvren.printable import harmless_cell, markdown_lines, printable, unmarked_cell
from ilvren.problem import load
from tests.compact import some
from tests.test_cli import InAFolder
from tests.test_terminal import Screen

ACTING = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]")
COLOURS = re.compile(r"\x1b\[[0-9;]*m")
EVIL = """title = "\\u001b]0;owned\\u0007\\u001b[2J $\\\\frac{$ <script>x</script> \\u202e \\u009b"
[variables]
x = { start = 1, lower = 0, upper = 4, unit = "\\u001b[8mm", about = "\\u001b[2J" }
w = { start = "=1+1", choices = ["=1+1", "@b", "c"] }
[parameters]
kinds = ["=1+1", "@b", "c"]
prices = [2, 1, 3]
[minimize]
f = { formula = "(x-2)^2 + 1 + lookup(w, kinds, prices)", unit = "=1+1" }
[constraints]
c = { formula = "x <= 1.5", about = "@SUM(A1)\\u0007" }
"""


class Words(unittest.TestCase):
    def test_every_character_that_acts_is_pictured_and_no_other(self):
        for code in range(0x2FFF):
            text = chr(code)
            if ACTING.match(text):
                self.assertFalse(ACTING.search(printable(text)), hex(code))
                self.assertEqual(len(printable(text)), 1)
            elif text.isprintable() or text in "\n\t":
                self.assertEqual(printable(text), text)

    def test_cells_that_compute_are_marked_and_numbers_are_not(self):
        for text in ("=1+1", "+cmd", "-2+3", "@sum", "\t=1", " =1", "-a"):
            self.assertEqual(harmless_cell(text), "'" + text)
            self.assertEqual(unmarked_cell(harmless_cell(text)), text)
        for value in ("-3.5", "+1e-7", "-", "-inf", "a=b", "'tis", 3.0, None, "x [m]"):
            self.assertEqual(harmless_cell(value), value)
            self.assertEqual(unmarked_cell(str(value)), str(value))

    def test_markup_in_markdown_is_text_but_for_code(self):
        lines = ["a <b> `x <b y`", "x < 3", "```sh", "run <file>", "```", "<img src=x>"]
        expected = ["a &lt;b> `x <b y`", "x < 3", "```sh", "run <file>", "```", "&lt;img src=x>"]
        self.assertEqual(list(markdown_lines(lines)), expected)


class Everywhere(InAFolder):
    def test_no_command_lets_it_through(self):
        Path("p.toml").write_text(EVIL)
        run = ["run", "p.toml", "--method", "mesh-adaptive-search", "--evaluations", "60", "--label", "\x1b[2Jl"]
        commands = (
            *([name, "p.toml"] for name in ("show", "check", "sample", "draw", "sensitivity")),
            run, ["runs"], ["verify", "last"], ["compare"], ["designs", "last"], ["diagnose", "last"], ["runs", "--json"],
            ["show", "p.toml", "--json"], ["run", "\x1b[2J.toml"], ["run", "p.toml", "--method", "\x1b[2J"],
            ["report", "last", "--output", "r.md"], ["designs", "last", "--output", "d.csv"],
            ["draw", "p.toml", "--output", "d.svg"], ["export", "last", "--output", "e.csv"],
        )  # fmt: skip
        for words in commands:
            for stream in some((io.StringIO, Screen), 2, len(words) % 2):
                out, err = stream(), stream()
                with self.subTest(words=words, stream=stream.__name__), contextlib.suppress(SystemExit):
                    self.assertIn(main(words, Terminal(out, err)), (0, 1, 2), err.getvalue())
                    said = COLOURS.sub("", out.getvalue() + err.getvalue())
                    said = said.replace("\r\x1b[K", "").replace("\r", "")  # lines of progress, redrawn
                    self.assertIsNone(ACTING.search(said), ascii(said))
                    self.assertNotIn("\x1b[8m", out.getvalue() + err.getvalue())
        for name in ("r.md", "d.csv", "d.svg", "e.csv"):
            self.assertIsNone(ACTING.search(Path(name).read_text().replace("\r\n", "\n")), name)
        self.assertNotIn("<script>", Path("r.md").read_text())
        self.assertIn(r"\x1b[2J", str(json.loads(self.call("show", "p.toml", "--json")[0])))  # as it is, escaped

    def test_designs_written_are_read_again(self):
        Path("p.toml").write_text(EVIL)
        with Path("d.csv").open("w", newline="") as file:
            csv.writer(file).writerows([["x", "w"], ["1.5", "'@b"], ["2", "c"]])
        designs = read_designs(load("p.toml"), "d.csv").designs
        self.assertEqual(designs.tolist(), [[1.5, 2.0], [2.0, 3.0]])


if __name__ == "__main__":
    unittest.main()
