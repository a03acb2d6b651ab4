"""Designs on record: addresses, tables, filters, and what commands make of them."""

from __future__ import annotations

import csv
import json
import math
import re
import unittest
from pathlib import Path

import numpy as np

from ilvren.errors import RequestError
from ilvren.explore import designs_of
from ilvren.ledger import Ledger
from ilvren.problem import load, loads
from ilvren.runs import run
from ilvren.runs.addresses import addressed, split_address
from tests.test_cli import InAFolder

TEXT = """title = "A beam of the terrace"
[variables]
w = { start = 2, lower = 0.5, upper = 4, unit = "cm" }
h = { start = 3, lower = 0.5, upper = 6, unit = "cm" }
[derived]
area = { formula = "w * h", unit = "cm^2" }
ratio = "SECOND"
[minimize]
mass = "area + 0.1 * h"
[constraints]
stiff = "w * h^3 >= 24"
"""


MODEL = """def halves(w, h):
    if h > 5.5:
        raise ValueError("high")
    return {"q": h / w}
"""


class Designs(InAFolder):
    def setUp(self) -> None:
        super().setUp()
        Path("m.py").write_text(MODEL)

    def recorded(self, *, through_model: bool = False) -> Ledger:
        text = TEXT.replace("SECOND", "m.q" if through_model else "h / w")
        if through_model:
            text += "slim = 'ratio <= 9'\n[models.m]\npython = 'm.py:halves'\noutputs = { q = {} }\n"
        Path("beam.toml").write_text(text)
        ledger = Ledger("ilvren.ledger")
        self.addCleanup(ledger.close)
        run(load("beam.toml"), method="nelder-mead", evaluations=80, ledger=ledger)
        return ledger

    def test_ranks_filters_and_orders_are_those_of_the_numbers(self) -> None:
        ledger = self.recorded()
        table = designs_of(ledger, ["r1"])
        self.assertEqual(table.total, len({item.point for item in ledger.evaluations(1)}))
        feasible = [design.violation <= 1e-6 for design in table.designs]
        self.assertEqual(feasible, sorted(feasible, reverse=True))
        own = [design.objective for design, is_met in zip(table.designs, feasible, strict=True) if is_met]
        self.assertEqual(own, sorted(own))
        w, h = table.column("w"), table.column("h")
        np.testing.assert_allclose(table.column("area"), w * h, rtol=1e-15)
        kept = designs_of(ledger, ["r1"], keep=["area <= 7", "2 <= h <= 3.2", "stiff >= 24"], sort="h", descending=True)
        expected = (w * h <= 7) & (h >= 2) & (h <= 3.2) & (w * h**3 >= 24)
        self.assertEqual(len(kept.designs), int(expected.sum()))
        self.assertGreater(len(kept.designs), 0)
        self.assertTrue((np.diff(kept.column("h")) <= 0).all())
        best = designs_of(ledger, ["r1"], top=1).designs[0]
        self.assertEqual(addressed(ledger, best.address).point, best.point)

    def test_values_through_models_come_from_calls_on_record(self) -> None:
        ledger = self.recorded(through_model=True)
        before = len(ledger.calls(1))
        Path("m.py").write_text("raise RuntimeError('nothing is to be called')\n")
        changed = designs_of(ledger, ["r1"]).column("ratio")  # what the run saw, whatever the file is now
        Path("m.py").write_text(MODEL)
        table = designs_of(ledger, ["r1"])
        ratio = table.column("ratio")
        is_known = np.isfinite(ratio)
        np.testing.assert_allclose(ratio[is_known], (table.column("h") / table.column("w"))[is_known])
        self.assertGreater(int(is_known.sum()), 20)
        np.testing.assert_array_equal(changed, ratio)
        self.assertEqual([design.trouble == "invalid" for design in table.designs], [math.isnan(x) for x in ratio])
        self.assertEqual(len(ledger.calls(1)), before)
        ledger.flush()
        self.assertNotIn("changed", self.call("show", "r1")[1])
        Path("m.py").write_text(MODEL.replace("h / w", "2 * h / w"))
        self.assertIn("m.py", self.call("show", "r1")[1])  # never in silence by another model

    def test_each_design_is_told_under_the_parameters_of_its_run(self) -> None:
        text = TEXT.replace("SECOND", "k * h / w") + "[parameters]\nk = 1\n"
        Path("k.toml").write_text(text)
        with Ledger("ilvren.ledger") as ledger:
            for k in (1, 4):
                run(load("k.toml", set={"k": k}), method="nelder-mead", evaluations=20, ledger=ledger)
            run(load("k.toml").with_parameters(k=2), method="nelder-mead", evaluations=5, ledger=ledger)
            table = designs_of(ledger, ["r1", "r2"])
            factor = np.array([1.0 if design.address.startswith("r1:") else 4.0 for design in table.designs])
            np.testing.assert_allclose(
                table.column("ratio"), factor * table.column("h") / table.column("w"), rtol=1e-14
            )
            kept = designs_of(ledger, ["r1", "r2"], keep=["ratio >= 3.5"])
            self.assertEqual(len(kept.designs), int((table.column("ratio") >= 3.5).sum()))
            self.assertEqual((table.is_mixed, designs_of(ledger, ["r1"]).is_mixed), (True, False))
            run(loads(text.replace("area + 0.1 * h", "area")), method="nelder-mead", evaluations=5, ledger=ledger)
            with self.assertRaises(RequestError):
                designs_of(ledger, ["r1", "r4"])

    def test_what_is_no_address_or_condition_is_refused_with_a_way_on(self) -> None:
        ledger = self.recorded()
        for text, parts in (("r7:12", ("r7", 12)), ("r7", ("r7", None)), ("a:b", ("a:b", None)), ("dry:3", ("dry", 3))):
            self.assertEqual(split_address(text), parts)
        for text in ("r1:0", "r1:9999", "r2:1", "r2"):
            with self.subTest(text=text), self.assertRaises(RequestError):
                addressed(ledger, text)
        for given in ({"keep": ["aera <= 2"]}, {"keep": ["area < 2"]}, {"keep": ["area"]}, {"sort": "aera"}):
            with self.subTest(given=given), self.assertRaises(RequestError) as caught:
                designs_of(ledger, ["r1"], **given)
            self.assertTrue(caught.exception.advice or "expected" in str(caught.exception))

    def test_the_commands_take_addresses_and_write_every_form(self) -> None:
        self.recorded().flush()
        designs = json.loads(self.call("designs", "r1", "--keep", "area <= 8", "--json")[0])["designs"]
        first = designs[0]["design"]
        self.assertTrue(all(item["values"]["area"] <= 8 for item in designs))
        for suffix in ("csv", "json", "html", "png", "svg"):
            self.call("designs", "r1", "--output", f"d.{suffix}")
            self.assertGreater(Path(f"d.{suffix}").stat().st_size, 500)
        with Path("d.csv").open() as file:
            self.assertEqual(next(csv.DictReader(file))["rank"], "1")
        self.assertNotIn("//", re.sub("<script.*?</script>", "", Path("d.html").read_text(), flags=re.S))  # no fetching
        shown = json.loads(self.call("show", first, "--json")[0])
        self.assertEqual((shown["design"], shown["variables"]), (first, designs[0]["variables"]))
        self.assertEqual(shown["derived"]["area"], designs[0]["values"]["area"])
        result = json.loads(self.call("run", "beam.toml", "--from", first, "--json")[0])
        self.assertAlmostEqual(result["derived"]["area"], math.prod(result["variables"].values()), places=9)
        self.assertEqual(json.loads(self.call("verify", "r1:1", "--json", status=1)[0])["verdict"], "improvable")
        for words in ("designs r1 --output d.txt", "designs r9", "show r1:9999", "show r1 --set w=1"):
            with self.subTest(words=words):
                self.call(*words.split(), status=2)


if __name__ == "__main__":
    unittest.main()
