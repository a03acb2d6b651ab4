"""Figures that a page holds."""

from __future__ import annotations

import io
import tempfile
from collections.abc import Callable
from pathlib import Path

from PIL import Image

from ilvren.records import dataclass

__all__ = ["Picture", "pictured"]

# Colours of a picture.
COLOURS = 128


@dataclass(frozen=True)
class Picture:
    """A figure as PNG, and what it shows, in words."""

    data: bytes
    shows: str


def pictured(drawn: Callable[[str], object], shows: str) -> Picture:
    """Return what a function draws into a file, in a few colours: a page of many pictures stays small."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "figure.tif"  # packed once only, below
        drawn(str(path))
        small = io.BytesIO()
        with Image.open(path) as image:
            # The median cut, which takes longest, is the one that keeps pale greys apart from white and grey.
            image.convert("RGB").quantize(COLOURS, Image.Quantize.MEDIANCUT).save(small, "PNG")
        return Picture(small.getvalue(), shows)
