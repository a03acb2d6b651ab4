"""Where numbers stand in listings and decks: every entry that is proposed finds that very number again, and no other."""

import json
import tomllib
import unittest

import numpy as np

from ilvren.models.program.decks import Put
from ilvren.models.program.locating import Located, entry_text, in_order, located, nearest_numbers
from ilvren.models.program.reading import Reading, found_in
from ilvren.models.program.writing import placed_at

WORDS = [
    "FLOW",
    "HEAD",
    "SPEED",
    "LOSS",
    "NODE",
    "PIPE",
    "at",
    "of",
    "total",
    "middle",
    "upper",
    "near",
    "far",
    "[m]",
    "(kPa)",
    "mean:",
    "=",
]


def reading(file, facts):
    """Return an entry as a problem file would give it: written as TOML and read back."""
    own = tomllib.loads("x = " + entry_text(facts))["x"]
    shape = own.pop("shape", ())
    own = {key: tuple(value) if key == "columns" else value for key, value in own.items()}
    return Reading(name="x", file=file, shape=(shape,) if isinstance(shape, int) else tuple(shape), **own)


def listing(rng):
    """Return a text of labelled numbers, some of which are there more than once."""
    lines = []
    for _ in range(int(rng.integers(3, 14))):
        parts = []
        for _ in range(int(rng.integers(1, 5))):
            parts += list(rng.choice(WORDS, int(rng.integers(0, 3))))
            parts.append(f"{rng.choice([1.5, -2.25, 12.0, 3e-4, rng.normal() * 100]):.6g}")
        lines.append((" " * int(rng.integers(1, 4))).join(parts))
    return "\n".join(lines) + "\n"


class Texts(unittest.TestCase):
    def test_every_entry_finds_its_own_number_again(self):
        rng, seen, puts = np.random.default_rng(8), 0, 0
        for _ in range(120):
            text = listing(rng)
            numbers = [word for line in text.splitlines() for word in line.split() if word[-1].isdigit()]
            wanted = str(rng.choice(numbers))
            places = located("a.txt", text, [wanted])
            self.assertTrue(places, (wanted, text))
            # As many places as the number is written, each at its own.
            here = [place for place in places if place.is_exact]
            self.assertEqual(len(here), sum(float(word) == float(wanted) for word in numbers), (wanted, text))
            for place in places:
                found = found_in(reading("a.txt", place.read), text)
                self.assertEqual((found.line, found.first, found.last), (place.line, place.first, place.last), text)
                self.assertAlmostEqual(
                    float(np.ravel(found.value)[0]), float(text.splitlines()[place.line - 1][place.first : place.last])
                )
                seen += 1
                if place.put is not None:
                    own = {key: tuple(value) if key == "columns" else value for key, value in place.put.items()}
                    line, there = placed_at(text, Put("x", **own), 1)[0]
                    self.assertEqual((line, float(there)), (place.line, float(there)))
                    puts += 1
        self.assertGreater(seen, 200)
        self.assertGreater(puts, 150)

    def test_several_numbers_in_a_row_are_one_place(self):
        text = "ROW 1  0.25 0.5 0.75\nROW 2  0.25 0.5 1.75\n"
        (place,) = located("a.txt", text, ["0.25", "0.5", "1.75"])
        self.assertEqual(place.line, 2)
        np.testing.assert_array_equal(found_in(reading("a.txt", place.read), text).value, [0.25, 0.5, 1.75])
        self.assertEqual(located("a.txt", text, ["0.5", "0.25"]), [])

    def test_digits_decide_what_agrees(self):
        text = "A 1.338\nB 1.3381\nC 1.34\n"
        self.assertEqual([place.line for place in located("a.txt", text, ["1.338"])], [1, 2])
        self.assertEqual([place.is_exact for place in located("a.txt", text, ["1.338"])], [True, False])
        self.assertEqual([place.line for place in located("a.txt", text, ["1.34"])], [3, 1, 2])
        self.assertEqual(nearest_numbers(text, "1.337"), ["1.338", "1.3381", "1.34"])

    def test_surer_places_come_first(self):
        sure = Located("a", 9, "", 0, 1, True, None, {"after": "FLOW"})
        counted = Located("a", 1, "", 0, 1, True, None, {"after": "FLOW", "which": 2})
        fixed = Located("a", 2, "", 0, 1, True, None, {"line": 3, "columns": [1, 4]})
        rounded = Located("a", 3, "", 0, 1, False, None, {"after": "FLOW"})
        self.assertEqual(in_order([rounded, fixed, counted, sure]), [sure, counted, fixed, rounded])


class Documents(unittest.TestCase):
    def test_numbers_in_json_have_pointers_that_lead_to_them(self):
        document = {"a": {"b/c": [1.5, {"~": 2.5}], "on": True}, "list": [0.5, 0.75], "": 7}
        text = json.dumps(document)
        for wanted in (["1.5"], ["2.5"], ["7"], ["0.5", "0.75"], ["0.75"]):
            for place in located("a.json", text, wanted):
                value = np.ravel(found_in(reading("a.json", place.read), text).value)
                np.testing.assert_array_equal(value, [float(word) for word in wanted])
            self.assertTrue(located("a.json", text, wanted), wanted)
        self.assertEqual(located("a.json", text, ["1.00"]), [])  # true is no number

    def test_cells_of_tables_are_named_by_row_and_column(self):
        for sign in (",", ";", "\t"):
            table = sign.join(["node", "head", "flow"]) + "\n"
            for row in (("near", "12.5", "0.5"), ("far", "11.25", "0.5"), ("last", "12.5", "0.75")):
                table += sign.join(row) + "\n"
            for wanted, count in ((["11.25"], 1), (["12.5"], 2), (["0.5"], 2), (["12.5", "11.25", "12.5"], 1)):
                places = located("a.csv", table, wanted)
                self.assertEqual(len(places), count, (sign, wanted))
                for place in places:
                    value = np.ravel(found_in(reading("a.csv", place.read), table).value)
                    np.testing.assert_array_equal(value, [float(word) for word in wanted])
        twice = "node,head\nnear,1\nnear,2\n"
        self.assertEqual(located("a.csv", twice, ["2"])[0].read, {"column": "head", "take": "last"})


if __name__ == "__main__":
    unittest.main()
