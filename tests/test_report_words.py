"""The report's mathematics and words: what is written must mean what the formula means."""

import re
import unittest
import xml.etree.ElementTree as Tree

import numpy as np

from ilvren import loads
from ilvren.draw.report.mathematics import formula_markup, limits_markup
from ilvren.draw.report.numbers import number
from ilvren.draw.report.section import sentence
from ilvren.evaluate import Gate


def linear(text):
    """Read MathML back as a formula in one line, fractions and powers with explicit brackets."""
    return _read(Tree.fromstring(text))


def _read(node):
    parts = [_read(child) for child in node]
    match node.tag:
        case "mfrac":
            return f"(({parts[0]})/({parts[1]}))"
        case "msup":
            return f"(({parts[0]})^({parts[1]}))"
        case "msqrt":
            return f"sqrt({''.join(parts)})"
        case "msub":
            return f"{parts[0]}[{parts[1]}]"
        case "mo" | "mi" | "mn" | "mtext":
            return {"·": "*", "−": "-", "≤": "<=", "≥": ">=", "=": "==", "π": "pi"}.get(node.text, node.text)
    return "".join(parts)


class Mathematics(unittest.TestCase):
    def value(self, text):
        problem = loads(f"[variables]\na = 1.7\nb = -0.6\nc = 2.3\n[minimize]\nf = '{text}'\n")
        return Gate(problem).evaluate(np.array(problem.start)).objective

    def test_what_is_shown_computes_the_same(self):
        """Brackets are where they are needed: the picture, read back, gives the formula's own value."""
        for text in (
            "a + b * c",
            "(a + b) * c",
            "a - (b - c)",
            "a - b - c",
            "a / b / c",
            "a / (b / c)",
            "a * b / (c * (a + b))",
            "(a + c) / (a - b)",
            "-a ^ 2",
            "(-a) ^ 2",
            "(a * c) ^ 2",
            "a ^ (c + 1)",
            "2 ^ c ^ 2",
            "sqrt(a + c) * exp(-b)",
            "1 / a",
            "1 / (a + b) + 4 * pi * c",
            "a * -b",
            "3 - -b",
            "1e-7 * a + 2.5e9 / c",
            "a * (b - 1) * (c + 2)",
        ):
            with self.subTest(text=text):
                self.assertAlmostEqual(self.value(linear(formula_markup(text))), self.value(text), places=9)

    def test_limits_indices_and_conditions(self):
        self.assertEqual(linear(limits_markup("0.5 <= a + b <= 1.6")), "0.5<=a+b<=1.6")
        self.assertEqual(linear(limits_markup("a == 3")), "a==3")
        self.assertEqual(linear(formula_markup("level[1:] - level[0]")), "level[1:]-level[0]")
        self.assertIn("not ", "".join(Tree.fromstring(formula_markup("where(not (a > 1), b, c)")).itertext()))
        self.assertEqual(linear(formula_markup("abs(a - b)")), "|a-b|")

    def test_what_cannot_be_read_is_shown_as_it_stands(self):
        self.assertEqual(formula_markup("a ** <b>"), "<code>a ** &lt;b&gt;</code>")
        self.assertEqual(limits_markup("a <"), "<code>a &lt;</code>")


class Words(unittest.TestCase):
    def test_numbers_and_sentences(self):
        self.assertEqual([number(v) for v in (None, float("nan"), float("inf"), -float("inf"))], ["–", "–", "∞", "−∞"])
        self.assertEqual((number(123117.9776, 8), number(0.5)), ("123117.98", "0.5"))
        self.assertEqual(sentence("no feasible design can be better"), "No feasible design can be better.")
        self.assertTrue(re.fullmatch(r"1\.23e-08", number(1.23e-8)))
