"""Figures that are made and not painted, for tests of what stands around them."""

import html
import unittest
import unittest.mock
from pathlib import Path

from matplotlib.text import Text
from PIL import Image

from tests.compact import WHOLE


def unpainted(test: unittest.TestCase) -> None:
    """Until the end of the test let figures have all their parts, and their files one white point instead of a picture,
    or the texts alone: painting takes most of the time of a page. All are painted by `make test-whole`."""

    def write(made, target, **_):
        if Path(target).suffix == ".svg":
            texts = "".join(
                f"<text>{html.escape(' '.join(text.get_text().split()))}</text>\n" for text in made.findobj(Text)
            )
            Path(target).write_text(f"<svg>\n{texts}</svg>\n")
        else:
            Image.new("RGB", (1, 1), "white").save(Path(target))

    if not WHOLE:
        test.enterContext(unittest.mock.patch("matplotlib.figure.Figure.savefig", write))
