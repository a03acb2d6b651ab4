"""Numbers in decks and listings: read where they stand, written as they were, and never half."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from ilvren.models.program import CannotWrite, Missing, Put, Reading, read_values, replaced
from ilvren.models.program.numbers import Written, as_number, first_number

LISTING = """\
 RUN 12  NODE T3
 TOTAL HEAD LOSS  =   12.40 M      MASS 8.25kg
 MIN PRESSURE AT T3   1.234D+01
 MIN PRESSURE AT T4   ****
 MIN PRESSURE AT T5   -3.5E-02
 SHAFT SPEED / POWER
     1450.0     3.75
 LEVELS
   1.0  2.0  3.0
   4.0  5.0

 step 1 residual NaN 0.5
 END 7
"""
DECK = """\
* pump deck
SPEED=1450.0,HEAD=12.5
  0.164    6.000  bore wall
RISE  4.0  9.5 12.0
1234.5671.0000E+02
COUNT 12
PRESSURE +0.1234D+02 bar
"""


class Numbers(unittest.TestCase):
    def test_numbers_and_what_is_none(self):
        for text, value in (
            ("12", 12.0),
            ("-.5", -0.5),
            ("1.234D+02", 123.4),
            ("1.5d-3", 0.0015),
            ("1.234+102", 1.234e102),
            ("+7.", 7.0),
            ("1e5", 1e5),
            ("12-3", None),
            ("T3", None),
            ("nan", None),
            ("", None),
        ):
            with self.subTest(text=text):
                self.assertEqual(as_number(text), value)
        for line, value in (
            ("x = 12.4kg", "12.4"),
            ("T3 at 2nd place: 7", "7"),
            ("loss n/a 5", None),
            ("loss **** 5", None),
            ("NaN 0.5", None),
            ("none", None),
            ("(3, 4)", "3"),
            ("nano 5", "5"),
        ):
            with self.subTest(line=line):
                found = first_number(line)
                self.assertEqual(None if found is None else found.text, value)

    def test_every_style_is_written_back_to_the_same_text(self):
        for text in ("12", "-0.500", "+7.25", "1.2340D+02", "9.9E-003", "1.50+102", "-1.000e+00"):
            with self.subTest(text=text):
                self.assertEqual(Written.of(text).text(as_number(text)), text)
        self.assertIsNone(Written.of("12").text(12.4))


class ReadingListings(unittest.TestCase):
    def read(self, text=LISTING, file="stdout", **more):
        return read_values([Reading(name="v", file=file, **more)], Path("."), {file: text})["v"]

    def test_values_with_their_places(self):
        for more, value, line in (
            ({"after": "TOTAL  HEAD LOSS"}, 12.4, 2),
            ({"after": "MASS"}, 8.25, 2),
            ({"pattern": r"MIN PRESSURE AT T3\s+(\S+)"}, 12.34, 3),
            ({"pattern": r"MIN PRESSURE AT \w+\s+(\S+)", "which": "last"}, -0.035, 5),
            ({"pattern": r"MIN PRESSURE AT \w+\s+(\S+)", "which": 3}, -0.035, 5),
            ({"after": "SHAFT SPEED / POWER", "field": 2, "within": 2}, 3.75, 7),
            ({"line": -1, "field": 2}, 7.0, 13),
            ({"line": 7, "columns": (1, 11)}, 1450.0, 7),
        ):
            with self.subTest(more=more):
                found = self.read(**more)
                self.assertEqual((float(found.value), found.line), (value, line))
                self.assertEqual(as_number(found.text[found.first : found.last]), value)
        self.assertEqual(self.read(after="LEVELS", shape=(5,)).value.tolist(), [1.0, 2.0, 3.0, 4.0, 5.0])

    def test_what_is_missing_is_missing(self):
        for more, words in (
            ({"after": "MIN PRESSURE AT T4"}, "no number follows"),
            ({"after": "TOTAL HEAD LOST"}, "nearest"),
            ({"after": "SHAFT SPEED / POWER"}, "no number follows"),
            ({"after": "residual"}, "no number follows"),
            ({"after": "LEVELS", "shape": (6,)}, "no number follows"),
            ({"pattern": r"AT T4\s+(\S+)"}, "no number"),
            ({"pattern": "MIN", "which": 4}, "3 times"),
            ({"line": 40, "field": 1}, "no line 40"),
            ({"line": 1, "field": 9}, "fields"),
        ):
            with self.subTest(more=more), self.assertRaises(Missing) as caught:
                self.read(**more)
            self.assertIn(words, str(caught.exception))

    def test_files_of_other_kinds(self):
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            (folder / "totals.json").write_text('{"pipes": [{"mass/kg": 8.5, "bad": "x", "all": [1, 2]}]}')
            (folder / "nodes.csv").write_text("node,pressure\nT1,2.5\nT3,0.75\n")

            def read(file, **more):
                return read_values([Reading(name="v", file=file, **more)], folder, {})["v"].value.tolist()

            self.assertEqual(read("totals.json", pointer="/pipes/0/mass~1kg"), 8.5)
            self.assertEqual(read("totals.json", pointer="/pipes/0/all", shape=(2,)), [1.0, 2.0])
            self.assertEqual(read("nodes.csv", column="pressure", shape=(2,)), [2.5, 0.75])
            self.assertEqual(read("nodes.csv", column="pressure", row={"node": "T3"}), 0.75)
            self.assertEqual(read("nodes.csv", column="pressure", take="mean"), 1.625)
            for file, more, words in (
                ("gone.txt", {"after": "x"}, "has written no gone.txt"),
                ("totals.json", {"pointer": "/pipes/1"}, 'no "1"'),
                ("totals.json", {"pointer": "/pipes/0/bad"}, "no number"),
                ("nodes.csv", {"column": "pressures"}, "its columns: node, pressure"),
                ("nodes.csv", {"column": "pressure", "row": {"node": "T9"}}, "0 rows"),
                ("nodes.csv", {"column": "pressure", "shape": (3,)}, "3 are expected"),
                ("nodes.csv", {"pointer": "/a"}, "no JSON document"),
            ):
                with self.subTest(file=file, more=more), self.assertRaises(Missing) as caught:
                    read(file, **more)
                self.assertIn(words, str(caught.exception))


class WritingDecks(unittest.TestCase):
    def test_everything_else_stays(self):
        for put, value, old, new in (
            ({"after": "SPEED"}, 990.0, "SPEED=1450.0,HEAD", "SPEED= 990.0,HEAD"),
            ({"after": "HEAD"}, 112.5, "HEAD=12.5\n", "HEAD=112.5\n"),
            ({"line": 3, "field": 1}, 0.2, "  0.164    6.000", "  0.200    6.000"),
            ({"line": 3, "field": 2}, 16.0, "0.164    6.000", "0.164   16.000"),
            ({"line": 5, "columns": (1, 8)}, -0.5, "1234.567", "  -0.500"),
            ({"line": 5, "columns": (9, 18)}, 0.0025, "1.0000E+02", "2.5000E-03"),
            ({"after": "COUNT"}, 7, "COUNT 12", "COUNT  7"),
            ({"pattern": r"PRESSURE (\S+)"}, -3.0, "+0.1234D+02 bar", "-3.0000D+00 bar"),
        ):
            with self.subTest(put=put):
                found, written = replaced(DECK, [Put("v", **put)], {"v": value})
                self.assertEqual(found, DECK.replace(old, new))
                self.assertEqual(float(written["v"]), float(value))

    def test_vectors_and_several_at_once(self):
        puts = [Put("rise", after="RISE"), Put("speed", after="SPEED"), Put("wall", line=3, field=2)]
        found, written = replaced(DECK, puts, {"rise": np.array([5.04, 10.0, 8.0]), "speed": 1.0, "wall": 7.12345})
        self.assertIn("RISE  5.0 10.0  8.0\n", found)
        self.assertIn("0.164    7.123  bore", found)
        self.assertEqual(written["rise"].tolist(), [5.0, 10.0, 8.0])
        self.assertEqual(float(written["wall"]), 7.123)
        self.assertEqual([len(line) for line in found.splitlines()], [len(line) for line in DECK.splitlines()])

    def test_what_does_not_fit_is_an_error(self):
        for put, value, words in (
            ({"line": 5, "columns": (1, 8)}, 123456.0, "does not fit columns 1 to 8"),
            ({"line": 4, "field": 4}, 1e9, None),  # at the end of a line there is room
            ({"line": 3, "field": 1}, 1e9, "does not fit in place of 0.164"),
            ({"after": "COUNT"}, 12.5, "no whole number"),
            ({"after": "COUNTS"}, 1.0, "not there"),
            ({"line": 1, "field": 2}, 1.0, "no number"),
            ({"line": 3, "field": 9}, 1.0, "fields"),
            ({"after": "SPEED"}, float("nan"), "no deck takes"),
        ):
            with self.subTest(put=put, value=value):
                if words is None:
                    self.assertIn("9.5 1000000000.0\n", replaced(DECK, [Put("v", **put)], {"v": value})[0])
                    continue
                with self.assertRaises(CannotWrite) as caught:
                    replaced(DECK, [Put("v", **put)], {"v": value})
                self.assertIn(words, str(caught.exception))
        with self.assertRaisesRegex(CannotWrite, "same place"):
            replaced(DECK, [Put("a", after="COUNT"), Put("b", line=6, field=2)], {"a": 1, "b": 2})


if __name__ == "__main__":
    unittest.main()
