"""What notebooks show, and the example notebook."""

import ast
import html.parser
import re
import unittest
from pathlib import Path

import numpy as np

import ilvren
from ilvren.explore import designs_of
from ilvren.explore.scatter import scatter
from ilvren.ledger import Ledger
from ilvren.problem import load
from ilvren.runs import Settings, repeat, run
from tests.compact import only_in_whole
from tests.drawing import unpainted
from tests.test_cli import InAFolder
from tests.test_fronts import TWO

ROOT = Path(__file__).parent.parent
DEMOS = ROOT / "src" / "ilvren" / "demos"


class Piece(html.parser.HTMLParser):
    """What a piece of HTML holds: its texts by tag, and what was opened and not closed."""

    def __init__(self, text):
        super().__init__()
        self.open, self.texts, self.images = [], {}, 0
        self.feed(text)

    def handle_starttag(self, tag, attrs):
        self.images += tag == "img"
        if tag not in ("img", "br"):
            self.open.append(tag)

    def handle_endtag(self, tag):
        assert self.open.pop() == tag, tag

    def handle_data(self, data):
        if self.open and data.strip():
            self.texts.setdefault(self.open[-1], []).append(data.strip())


class Notebooks(InAFolder):
    def shown(self, result):
        text = result._repr_html_()
        self.assertNotRegex(text, r"https?://(?!www\.w3\.org)")
        piece = Piece(text)
        self.assertEqual(piece.open, [])
        return piece

    def test_the_example_runs_cell_by_cell_and_every_cell_shows_something(self):
        cells = re.split(r"(?m)^# %%.*\n", (ROOT / "docs" / "notebook.py").read_text())
        space, shown = {}, []
        for cell in filter(str.strip, cells):
            tree = ast.parse(cell)
            if not tree.body:
                continue  # words
            last = tree.body.pop()
            exec(compile(tree, "cell", "exec"), space)  # noqa: S102
            shown.append(self.shown(eval(compile(ast.Expression(last.value), "cell", "eval"), space)))  # noqa: S307
        self.assertEqual(len(shown), 7)
        problem, check, result, comparison, verdict, volumes, depths = shown
        self.assertIn("sheet", problem.texts["mi"])
        self.assertIn("Holds: nothing found", check.texts["p"][0])
        # The least sheet for 20 m^3 with depth/diameter <= 0.45 lies on both limits: d^3 = 80 / (0.45 pi).
        diameter = (80.0 / (0.45 * np.pi)) ** (1 / 3)
        cells = result.texts["td"]
        self.assertAlmostEqual(float(cells[cells.index("diameter") + 1]), diameter, places=5)
        self.assertEqual([piece.images for piece in (result, comparison, volumes, depths)], [1, 1, 1, 1])
        self.assertIn("pass", verdict.texts["td"])
        self.assertEqual([x for x in volumes.texts["td"] if x in ("10", "15", "20", "25", "30")][:2], ["10", "15"])

    def test_fronts_scatter_repeats_and_designs_have_pages(self):
        unpainted(self)
        front = self.shown(run(ilvren.loads(TWO), Settings(method="boundary-intersection", points=3)))
        self.assertEqual((front.images, front.texts["th"]), (1, ["a [EUR]", "b [kg]"]))
        made = load(DEMOS / "as_made" / "as-made.toml")
        scattered = self.shown(scatter(made, np.array(made.start), design="start", scenarios=50))
        self.assertEqual(scattered.images, 1)
        again = self.shown(repeat(ilvren.loads("[variables]\nx = { lower = -1, upper = 3 }\n[minimize]\nf = 'x^2'"), 3,
                                  Settings(method="cma-es")))  # fmt: skip
        self.assertIn("100 % of 3 seeds reached what they were asked.", again.texts["p"])
        self.call("run", "pump.toml", "--quiet", "--method", "nelder-mead")
        with Ledger("ilvren.ledger") as ledger:
            table = designs_of(ledger, ["r1"])
        told = self.shown(table)
        self.assertEqual(sum(bool(re.fullmatch(r"r1:\d+", cell)) for cell in told.texts["td"]), 40)
        self.assertIn("The first 40 of", " ".join(told.texts["p"]))

    @only_in_whole
    def test_what_is_left_out_of_long_tables_is_counted(self):
        many = "".join(f"v{k} = {{ start = {k % 3}, lower = -9, upper = 9 }}\n" for k in range(60))
        squares = " + ".join(f"(v{k} - 1)^2" for k in range(60))
        Path("many.toml").write_text(f'[variables]\n{many}[minimize]\nf = "{squares}"\n')
        problem = load("many.toml")
        self.assertIn("The first 40 of 60", self.shown(problem).texts["p"][-1])
        with Ledger("many.ledger") as ledger:
            result = run(problem, method="bfgs", ledger=ledger)
            ledger.flush()
            table = designs_of(ledger, [result.id])
            self.assertTrue(any("The first 40 of 60" in text for text in self.shown(result).texts["p"]))
            told = self.shown(table).texts["p"]
            self.assertTrue(any("8 of 61 quantities" in text for text in told), told)
            counted = [text for text in told if "The first 40 of" in text]
            self.assertEqual(bool(counted), len(table.designs) > 40)

    @only_in_whole
    def test_titles_are_only_text(self):
        problem = ilvren.loads('title = "<script>alert(1)</script>"\n[variables]\nx = 1\n[minimize]\nf = "x^2"')
        self.assertNotIn("<script>", problem._repr_html_() + ilvren.run(problem)._repr_html_())


if __name__ == "__main__":
    unittest.main()
