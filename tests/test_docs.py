"""The docs say what the program does: generated pages are current, every word is found, examples run."""

import contextlib
import importlib.util
import io
import re
import unittest
from dataclasses import fields
from pathlib import Path

from ilvren.cli.commands import COMMANDS, GROUPS
from ilvren.formula import RESERVED_NAMES
from ilvren.judge.standing.verdict import MEANINGS
from ilvren.methods.base import method_named, method_names
from ilvren.runs.result import OUTCOMES

ROOT = Path(__file__).parent.parent
DOCS = ROOT / "docs"


def generator():
    """Return docs/generate.py as a module."""
    spec = importlib.util.spec_from_file_location("generate", DOCS / "generate.py")
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


class Docs(unittest.TestCase):
    def test_generated_pages_are_current(self):
        for path, text in generator().pages().items():
            with self.subTest(page=path):
                self.assertEqual((DOCS / path).read_text(), text, "run `make docs`")

    def test_every_word_is_explained(self):
        words = (DOCS / "words.md").read_text() + (DOCS / "guide.md").read_text()
        for word in (*OUTCOMES, *MEANINGS):
            self.assertIn(f"`{word}`", words)
        format_page = (DOCS / "problem-file.md").read_text()
        for name in RESERVED_NAMES:
            self.assertRegex(format_page, rf"\b{name}\b")
        for name in method_names():
            page = (DOCS / "methods" / f"{name}.md").read_text()
            for option in fields(method_named(name).options):
                self.assertIn(f"`{option.name}`", page)
        self.assertEqual(sorted(name for group in GROUPS.values() for name in group), sorted(COMMANDS))

    def test_links_lead_somewhere(self):
        for page in (*DOCS.rglob("*.md"), ROOT / "README.md"):
            for target in re.findall(r"\]\(([^)#:]+)\)", page.read_text()):
                self.assertTrue((page.parent / target).exists(), f"{page.name}: {target}")

    def test_every_picture_is_shown_in_the_readme(self):
        readme = (ROOT / "README.md").read_text()
        for picture in (DOCS / "screenshots").glob("*.png"):
            self.assertIn(picture.name, readme)

    def example(self, number):
        """Return the lines that a Python example of the page prints."""
        code = re.findall(r"```python\n(.*?)```", (DOCS / "python.md").read_text(), re.DOTALL)[number]
        out = io.StringIO()
        with contextlib.redirect_stdout(out):
            exec(compile(code, "python.md", "exec"), {})  # noqa: S102
        return out.getvalue().splitlines()

    def test_the_python_examples_run(self):
        lines = self.example(1)
        self.assertEqual(lines[0], "[0.15 0.15 0.15 0.15]")
        self.assertEqual(
            lines[2:],
            ["8 non-zeros of (4, 5)", "True", "(1000,) (1000, 4)", "50", "True 100 derivatives agree with differences"],
        )
        lines = self.example(0)
        self.assertTrue(lines[0].startswith("converged 12.0 "))
        self.assertAlmostEqual(float(lines[1]), 4 / 6, places=5)
        self.assertEqual(lines[-1], "local-strict True")

    def test_the_examples_of_the_format_page_load(self):
        from ilvren import loads

        text = re.search(r"```toml\n(.*?)```", (DOCS / "problem-file.md").read_text(), re.DOTALL).group(1)
        self.assertEqual(len(loads(text).rows), 42)
        text = re.search(r"```toml\n(.*?)```", (ROOT / "README.md").read_text(), re.DOTALL).group(1)
        self.assertEqual(len(loads(text).variables), 2)
