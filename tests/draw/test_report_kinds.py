"""A report of every kind of run: what each has beside a design."""

import re
import unittest
from pathlib import Path

from ilvren.ledger import Ledger
from ilvren.runs import command_again
from tests.compact import WHOLE
from tests.drawing import unpainted
from tests.kinds_of_problems import written
from tests.test_cli import InAFolder


class Kinds(InAFolder):
    def setUp(self):
        super().setUp()
        unpainted(self)

    def report(self, *references, again=False):
        """Return the text of a report in Markdown, after its page was written, too; `again` for a kind whose page was
        looked at before. The compact form looks at the pages of some."""
        pages = "" if again or not (WHOLE or len(self._testMethodName) % 2) else self.page(*references)
        self.call("report", *references, "--output", "text.md")
        text = Path("text.md").read_text()
        for picture in re.findall(r"!\[.*?\]\((.*?)\)", text):
            self.assertGreater(Path(picture).stat().st_size, 2000 if WHOLE else 60)
        for head in re.findall(r"(?m)^## (.*)$", text):
            if pages and head not in ("Histories", "The problem"):
                self.assertIn(head, pages)
        return text

    def page(self, *references):
        """Return the text of a page, which is small and links to nothing."""
        self.call("report", *references, "--output", "page.html")
        page = Path("page.html").read_text()
        self.assertLess(len(page), 1_500_000)
        self.assertEqual(re.findall(r"https?://(?!www\.w3\.org)", page), [])
        return page

    def test_over_time(self):
        written("over time")
        self.call("run", "p.toml", "--quiet")
        text = self.report("r1")
        self.assertIn("## Over time", text)
        self.assertRegex(text, r"r1: error over time \S+ of 1\.0e-04 allowed")
        self.assertRegex(text, r"\| top \| highest of heat \| r1 \| 1")
        self.assertIn("![heat over time](text-1.png)", text)

    def test_a_fit(self):
        written("fit")
        self.call("run", "p.toml", "--quiet")
        text = self.report("r1")
        self.assertIn("## The fit of r1", text)
        self.assertIn("5 residuals, 3 degrees of freedom", text)
        # The line through five readings by hand: slope 1.96, level 1.1.
        self.assertRegex(text, r"\| a \|  \| 1\.1 \| 0\.1")
        self.assertRegex(text, r"\| b \|  \| 1\.96 \|")
        self.assertEqual(text.count("(text-1.png)"), 1)

    def test_a_sweep_over_a_parameter_and_one_over_a_variable(self):
        self.call("run", "pump.toml", "--sweep", "p=[1, 2]", "--quiet", "--set", "p=1.5")
        self.call("run", "pump.toml", "--sweep", "x=[0.25, 0.5]", "--quiet")
        text = self.report("g1")
        self.assertIn("p at 2 of 2 values; 2 runs ended as asked", text)
        self.assertRegex(text, r"\| r2 \| 2 \| converged \| 0\.90909")
        self.assertIn("cap upper", text)
        self.assertIn("ilvren run pump.toml --sweep 'p=[1, 2]' --set p=1.5", text)
        text = self.report("g2")
        self.assertRegex(text, r"\| r4 \| 0\.5 \| converged \|")
        self.assertIn("one for each", self.call("report", "g1", "r1", "--output", "x.html", status=2)[1])

    def test_what_drives_what_is_told_from_the_record(self):
        told, _ = self.call("sensitivity", "pump.toml", "--kind", "variance", "--evaluations", 60, "--of", "gain")
        text = self.report("last")
        share = re.search(r"(?m)^ x +(\S+) ", told)[1]
        found = re.search(r"\| gain \| x \| (\S+) % \|", text)[1]
        self.assertAlmostEqual(float(found) / 100.0, float(share), places=2)
        self.call("sensitivity", "pump.toml", "--kind", "elementary-effects", "--evaluations", 30, "--seed", 5)
        if WHOLE:
            self.assertIn("mean \\|effect\\|", self.report("last", again=True))
        with Ledger("ilvren.ledger") as ledger:
            again = command_again(ledger.run("last"))
        self.assertEqual(again, "ilvren sensitivity pump.toml --kind elementary-effects --evaluations 30 --seed 5")

    def test_moves_and_stages(self):
        self.call("propose", "pump.toml", "--change", "gain=-10%", "--accept")
        text = self.report("last")
        self.assertIn("## The move of r1", text)
        self.assertIn("Proposed from pump.toml for gain=-10%", text)
        self.call("run", "pump.toml", "--stage", "p=3", "--stage", "p=2", "--quiet")
        self.assertRegex(self.report("last", again=True), r"\| 1 \| p = 3.* \| converged \|")


if __name__ == "__main__":
    unittest.main()
