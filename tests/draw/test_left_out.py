"""What figures, pages and tables leave out, they say."""

import html
import re
import unittest
from pathlib import Path

from tests.compact import WHOLE
from tests.drawing import unpainted
from tests.test_cli import InAFolder

COUNT = 46
MANY = (
    "[parameters]\nfar = 1.0\n[variables]\n"
    + "".join(f"v{k} = {{ start = {k % 3}, lower = -9, upper = 9 }}\n" for k in range(COUNT))
    + "[derived]\n"
    + "".join(f'd{k} = "v{k % COUNT} * {1 + k // COUNT} + far"\n' for k in range(COUNT + 20))
    + '[minimize]\nf = "'
    + " + ".join(f"(v{k} - far)^2" for k in range(COUNT))
    + '"\n[constraints]\n'
    + "".join(f'c{k} = "v{k} <= 0.5"\n' for k in range(14))
)
FRONT = (
    "[variables]\n"
    + "".join(f"v{k} = {{ start = 1, lower = 0, upper = 3 }}\n" for k in range(12))
    + '[minimize]\na = "'
    + " + ".join(f"v{k}^2" for k in range(12))
    + '"\nb = "'
    + " + ".join(f"(v{k} - 1)^2" for k in range(12))
    + '"\n'
)


def texts(path):
    """Return the texts of an SVG file, in one line."""
    found = re.findall(r"<text[^>]*>(.*?)</text>", Path(path).read_text(), re.DOTALL)
    return " ".join(html.unescape(re.sub(r"<[^>]*>", " ", text)).strip() for text in found)


class LeftOut(InAFolder):
    def setUp(self):
        super().setUp()
        unpainted(self)
        Path("many.toml").write_text(MANY)
        Path("front.toml").write_text(FRONT)

    def test_figures_count_what_they_do_not_show(self):
        self.call("run", "many.toml", "--sweep", "far=[0.8, 1]", "--method", "sqp", "--output", "s.svg", "--quiet")
        self.assertIn(f"6 of {COUNT} variables", texts("s.svg"))
        self.assertIn("10 of 14 active limits", texts("s.svg"))
        self.call(
            "sample", "many.toml", "--points", "30", "--plan", "random", "--label", "look", "--quiet", status=None
        )
        with self.subTest("parallel"):
            self.call("designs", "r1", "--figure", "parallel", "--output", "p.svg", "--quiet")
            self.assertRegex(texts("p.svg"), r"; \d+ of \d+ quantities")
        if WHOLE:
            self.call("designs", "r1", "--figure", "pairs", "--output", "q.svg", "--quiet")
            self.assertRegex(texts("q.svg"), r"; \d of \d+ quantities")
        with self.subTest("sensitivity"):
            self.call("sensitivity", "many.toml", "--output", "e.svg", "--quiet")
            self.assertRegex(texts("e.svg"), rf"; \d+ of \d+ outputs; the \d+ strongest of {COUNT}")
        with self.subTest("contest"):
            self.call("contest", "many.toml", "--method", "sqp", "--random-starts", "3", "--quiet")
            self.call("compare", "g2", "--figure", "designs", "--output", "c.svg", "--quiet")
            self.assertRegex(texts("c.svg"), rf"the \d+ variables of {COUNT} that differ most")

    def test_pages_count_it_too(self):
        self.call("run", "many.toml", "--method", "sqp", "--quiet")
        self.call("run", "many.toml", "--method", "interior-point", "--quiet")
        self.call("report", "r1", "r2", "--output", "r.md", "--quiet")
        said = (
            f"{COUNT - 40} more variables and {COUNT + 20 - 60} more derived values stand in `ilvren show RUN --json`."
        )
        self.assertIn(said, Path("r.md").read_text())
        if WHOLE:
            self.call("report", "r1", "r2", "--output", "r.html", "--quiet")
            self.assertIn(said, html.unescape(Path("r.html").read_text()))
        self.call("run", "many.toml", "--sweep", "far=[0.8, 1]", "--method", "sqp", "--quiet")
        self.call("report", "g1", "--output", "g.md", "--quiet")
        self.assertIn(f"{COUNT - 8} more variables stand in", Path("g.md").read_text())

    def test_fronts_of_many_variables(self):
        out = self.call("run", "front.toml", "--points", "6", "--evaluations", "300", status=None)[0]
        self.assertRegex(out, r"\d+ of 12 free variables; --json has all")
        self.call("report", "r1", "--output", "f.md", "--quiet")
        self.assertRegex(Path("f.md").read_text(), r"The first \d+ of 12 free variables\.")


if __name__ == "__main__":
    unittest.main()
