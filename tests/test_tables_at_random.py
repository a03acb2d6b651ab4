"""Tables of files at random: written with any delimiter, decimal sign, comment, quotes, blank lines and missing values, they
are the numbers that were written; what is wrong in them is told with its line."""

import csv
import io
import itertools
import unittest

import numpy as np

from ilvren.errors import ProblemError
from ilvren.evaluate import Gate
from ilvren.problem import loads

HEAD = '[variables]\nx = {{ start = 1, lower = 0, upper = 3 }}\n[tables]\nt = {{ file = "t.csv"{more} }}\n'
USE = '[derived]\na = "t.a * x"\nb = \'t.b\'\n[minimize]\nf = "sum(a)"\n'


def written(rng, delimiter, decimal, comment, missing, shape):
    """Return (the file, its whole lines of numbers (k, 3), the lines of the file that these stand in)."""
    names, whole, places = ["a", "b", "a column, with; signs"], [], []
    out = io.StringIO()
    writer = csv.writer(
        out, delimiter=delimiter, lineterminator="\n", quoting=int(rng.choice([csv.QUOTE_MINIMAL, csv.QUOTE_ALL]))
    )

    def beside():
        """Put in what holds no data, at times."""
        if comment and rng.random() < 0.3:
            out.write(f"{' ' * int(rng.integers(0, 3))}{comment} said {delimiter} beside\n")
        if rng.random() < 0.2:
            out.write("\n")

    beside()
    writer.writerow(names)
    for _ in range(shape):
        beside()
        numbers = (rng.normal(size=3) * 10.0 ** rng.integers(-6, 7)).tolist()
        forms = [rng.choice([repr, "{:.17g}".format, "{:.16e}".format]) for _ in numbers]
        cells = [form(value).replace(".", decimal) for form, value in zip(forms, numbers, strict=True)]
        if missing and rng.random() < 0.25:
            cells[int(rng.integers(0, 3))] = missing
        else:
            whole.append(numbers)
            places.append(out.getvalue().count("\n") + 1)
        writer.writerow([f" {cell}" if delimiter != " " and rng.random() < 0.3 else cell for cell in cells])
    return out.getvalue(), np.array(whole), places


def declared(delimiter, decimal, comment, missing):
    """Return the keys that say how a table is written."""
    more = "" if delimiter == "," else f", delimiter = {delimiter!r}".replace("'\\t'", '"\\t"')
    more += "" if decimal == "." else f', decimal = "{decimal}"'
    more += f', comment = "{comment}"' if comment else ""
    return more + (f', missing = ["{missing}"]' if missing else "")


class AtRandom(unittest.TestCase):
    def test_the_numbers_are_those_that_were_written(self):
        rng = np.random.default_rng(14)
        forms = itertools.product((",", ";", "\t", "|"), (".", ","), ("", "#", "%"), ("", "-", "n/a"))
        for delimiter, decimal, comment, missing in forms:
            if delimiter == decimal:
                continue
            text, whole, _ = written(rng, delimiter, decimal, comment, missing, 9)
            with self.subTest(delimiter=delimiter, decimal=decimal, comment=comment, missing=missing):
                head = HEAD.format(more=declared(delimiter, decimal, comment, missing))
                problem = loads(head + USE, files={"t.csv": text})
                found = Gate(problem).written.values(np.array([2.0]))
                np.testing.assert_array_equal(found["a"], 2.0 * whole[:, 0])
                np.testing.assert_array_equal(found["b"], whole[:, 1])

    def test_some_lines_and_other_names(self):
        rng = np.random.default_rng(15)
        text, whole, _ = written(rng, ",", ".", "#", "?", 12)
        more = ', comment = "#", missing = ["?"], lines = [2, 6], columns = { c = "a column, with; signs" }'
        problem = loads(HEAD.format(more=more) + USE.replace("t.b", "t.c"), files={"t.csv": text})
        found = Gate(problem).written.values(np.array([1.0]))
        np.testing.assert_array_equal(found["a"], whole[2:6, 0])
        np.testing.assert_array_equal(found["b"], whole[2:6, 2])

    def test_a_cell_that_is_no_number_is_told_with_its_line(self):
        rng = np.random.default_rng(16)
        for wrong in ("1.2.3", "1_000", "0x10", "nan", "inf", "", "12 m", "1e", "--1"):
            text, whole, places = written(rng, ";", ".", "#", "", 8)
            line = int(rng.integers(0, len(whole)))
            lines = text.split("\n")
            cells = lines[places[line] - 1].split(";")
            lines[places[line] - 1] = ";".join([wrong, *cells[1:]])
            with self.subTest(cell=wrong), self.assertRaises(ProblemError) as caught:
                loads(HEAD.format(more=declared(";", ".", "#", "")) + USE, files={"t.csv": "\n".join(lines)})
            message = str(caught.exception)
            self.assertIn(f"t.csv:{places[line]}: ", message)
            self.assertIn('column "a" is not a finite number', message)
            self.assertIn(f'"{wrong}"' if wrong else "an empty cell", message)

    def test_a_line_with_more_or_fewer_cells_is_told(self):
        rng = np.random.default_rng(17)
        for change in ("{0},9", "1"):
            text, _, places = written(rng, ",", ".", "", "", 6)
            lines = text.split("\n")
            lines[places[3] - 1] = change.format(lines[places[3] - 1])
            with self.assertRaises(ProblemError) as caught:
                loads(HEAD.format(more="") + USE, files={"t.csv": "\n".join(lines)})
            self.assertIn(
                f"t.csv:{places[3]} has {'4' if '9' in change else '1'} cells, the header 3", str(caught.exception)
            )


if __name__ == "__main__":
    unittest.main()
