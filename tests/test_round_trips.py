"""Designs that are written to a file, and read from it again, are the same designs with the same values."""

import csv
import io
import json
import unittest
from pathlib import Path

import numpy as np

from ilvren.cli.main import main
from ilvren.cli.terminal import Terminal
from ilvren.explore.designs import designs_of
from ilvren.explore.sensitivity.studying import _quantity_names
from ilvren.ledger import Ledger
from ilvren.problem import load
from tests.compact import some
from tests.kinds_of_problems import KINDS, MIXED, alone
from tests.test_cli import InAFolder

# What scatters is searched and counted with other scenarios; a control's points are no columns of a file.
LEFT_OUT = ("control", "program", "scatter", "scattering members", "scattering front")
# Their usual method also evaluates designs between members, which no file may hold.
RELAXED = ("members", "members over time", "cases of vectors")


def rows_of(path):
    with Path(path).open(newline="") as file:
        return list(csv.DictReader(file))


class RoundTrips(InAFolder):
    def key(self, row, names):
        return tuple(row[name] if not self.is_number(row[name]) else round(float(row[name]), 9) for name in names)

    def is_number(self, text):
        try:
            float(text)
        except ValueError:
            return False
        return True

    def test_designs_of_every_kind(self):
        for kind in some(KINDS | MIXED, 3, 1):
            if kind in LEFT_OUT:
                continue
            alone(kind)
            with self.subTest(kind=kind):
                quiet = Terminal(io.StringIO(), io.StringIO(), quiet=True)
                more = ["--method", "mesh-adaptive-search"] if kind in RELAXED else []
                main(["run", "p.toml", "--evaluations", "25", "--second-look", "0", *more], quiet)
                self.call("designs", "r1", "--output", "d.csv", "--quiet")
                before = rows_of("d.csv")
                self.call("sample", "p.toml", "--csv", "d.csv", "--fresh", "--quiet", status=None)
                self.call("designs", "r2", "--output", "e.csv", "--quiet")
                after = rows_of("e.csv")
                problem = load("p.toml")
                names = [variable.name for variable in problem.variables]
                self.assertLessEqual(set(names), set(before[0]))
                one, other = ({self.key(row, names): row for row in rows} for rows in (before, after))
                self.assertEqual(set(one), set(other))
                told = [name for name in before[0] if name not in (*names, "design", "rank", "trouble")]
                self.assertLessEqual({item.name for item in problem.objectives}, set(told))
                for key, row in one.items():
                    for name in told:
                        a, b = row[name], other[key][name]
                        if self.is_number(a) and self.is_number(b):
                            np.testing.assert_allclose(
                                float(a), float(b), rtol=1e-7, atol=1e-9, err_msg=f"{name} {key}"
                            )
                        else:
                            self.assertEqual(a, b, name)

    def test_histories_of_every_kind_as_csv_and_json(self):
        for kind in some(KINDS, 3):
            alone(kind)
            with self.subTest(kind=kind):
                quiet = Terminal(io.StringIO(), io.StringIO(), quiet=True)
                main(["run", "p.toml", "--evaluations", "20"], quiet)
                self.call("export", "r1", "--output", "h.csv", "--quiet")
                self.call("export", "r1", "--output", "h.json", "--quiet")
                rows, document = rows_of("h.csv"), json.loads(Path("h.json").read_text())
                self.assertEqual(len(rows), len(document["iterations"]))
                for row, item in zip(rows, document["iterations"], strict=True):
                    self.assertEqual(int(row["evaluations"]), item["evaluations"])
                    self.assertEqual(row["note"], item["note"])
                counts = [int(row["evaluations"]) for row in rows]
                self.assertEqual(counts, sorted(counts))
                self.assertLessEqual(max(counts, default=0), 20 + 5)
                self.call("export", "r1", "--every", "evaluation", "--output", "e.csv", "--quiet")
                self.assertGreaterEqual(len(rows_of("e.csv")), 1)

    def test_names_that_a_study_takes_are_known_before_it(self):
        for kind in some(KINDS | MIXED, 3, 1):
            alone(kind)
            with self.subTest(kind=kind):
                quiet = Terminal(io.StringIO(), io.StringIO(), quiet=True)
                main(["sample", "p.toml", "--points", "3"], quiet)
                with Ledger("ilvren.ledger", read_only=True) as ledger:
                    table = designs_of(ledger, ["r1"])
                there = set()
                for name, values in table.values.items():
                    there |= {name} if values.ndim == 1 else {f"{name}[{k}]" for k in range(values.shape[1])}
                self.assertEqual(set(_quantity_names(table.problem)), there)


if __name__ == "__main__":
    unittest.main()
