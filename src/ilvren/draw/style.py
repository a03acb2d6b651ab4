"""What all figures share: size, lines that differ in print without colour, colours that differ for everyone."""

from __future__ import annotations

import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import matplotlib as mpl

mpl.use("Agg")

import matplotlib.pyplot as plt
from matplotlib.axis import Axis
from matplotlib.text import Text
from matplotlib.ticker import FixedFormatter

from ilvren.printable import printable

__all__ = ["DPI", "HATCHES", "LINES", "SIZE", "figure", "ramp", "save", "shades"]

# Width and height in inches at DPI: 1280 x 800 pixels.
SIZE, DPI = (12.8, 8.0), 100

# (colour, dashes, marker): each pair differs in lightness, dashes and marker, so that grey print tells them apart.
LINES = (
    ("#00508c", "-", "o"),
    ("#d1690e", "--", "s"),
    ("#2c7a4b", "-.", "^"),
    ("#8c2d8c", ":", "D"),
    ("#7a5c00", (0, (5, 1, 1, 1, 1, 1)), "v"),
    ("#444444", (0, (1, 1)), "x"),
)
HATCHES = ("/", "\\", "-", "|", "x", ".", "+", "o")

_STYLE: Any = {
    "font.size": 11.5,
    "axes.spines.top": False,
    "axes.spines.right": False,
    "axes.grid": True,
    "grid.color": "#dddddd",
    "grid.linewidth": 0.7,
    "axes.axisbelow": True,
    "legend.frameon": False,
    "svg.fonttype": "none",
    "hatch.linewidth": 0.6,
}


def shades(index: int) -> str:
    """Return the colour of constraint number `index`."""
    return ("#b03030", "#6a4fb3", "#1f7a7a", "#9a6b00", "#3b6ea5", "#a03b7a")[index % 6]


# From deep water over leaves to dry sand: lightness rises evenly, so that grey print keeps the order.
_RAMP = ("#0a2540", "#00508c", "#1f7a7a", "#62a15a", "#b9c26a", "#f2e3b3")


def ramp(*, is_reversed: bool = False, for_lines: bool = False) -> Any:
    """Return the colours of what runs from low to high (heights, generations, profiles), dark to light; for lines none
    is so light that it is lost on white."""
    colours = _RAMP[:-1] if for_lines else _RAMP
    colours = colours[::-1] if is_reversed else colours
    return mpl.colors.LinearSegmentedColormap.from_list("terraces", colours)


@contextmanager
def figure(rows: int = 1, columns: int = 1, **options: Any) -> Iterator[tuple[Any, Any]]:
    """Give a figure of the common size and its axes, and close it afterwards."""
    with mpl.rc_context(_STYLE):
        made, axes = plt.subplots(rows, columns, figsize=SIZE, dpi=DPI, layout="constrained", **options)
        try:
            yield made, axes
        finally:
            plt.close(made)


def save(made: Any, path: str) -> None:
    """Write a figure; the kind follows from the suffix. Nothing is left behind when writing fails."""
    _take_literally(made)
    target = Path(path)
    metadata = {"Date": None} if target.suffix.lower() == ".svg" else None
    with warnings.catch_warnings():
        warnings.filterwarnings("ignore", "Glyph", UserWarning)  # a box in its place says as much
        made.savefig(target, metadata=metadata)


def _take_literally(made: Any) -> None:
    """Let texts that a problem brings along (titles, units, words) be no formulas to typeset; powers on axes stay."""
    for text in _texts(made):
        text.set_text(_literal(text.get_text()))
    for axes in made.axes:
        for axis in (axes.xaxis, axes.yaxis):
            formatter = axis.get_major_formatter()
            if isinstance(formatter, FixedFormatter):
                formatter.seq = [_literal(str(word)) for word in formatter.seq]


def _texts(artist: Any) -> Iterator[Text]:
    """Give the texts of a figure but for those of ticks, which their formatters write."""
    if isinstance(artist, Axis):
        yield from (artist.label, artist.offsetText)
        return
    if isinstance(artist, Text):
        yield artist
    for child in artist.get_children():
        yield from _texts(child)


def _literal(text: str) -> str:
    return text if "\\mathdefault" in text else printable(text).replace("\\$", "$").replace("$", "\\$")
