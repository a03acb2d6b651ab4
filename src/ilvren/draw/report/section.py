"""A part of a page: sentences, a table, pictures."""

from __future__ import annotations

from ilvren.draw.report.picture import Picture
from ilvren.records import dataclass

__all__ = ["Section", "sentence"]


@dataclass(frozen=True)
class Section:
    """A part of a report: `sentences`, a table (`heads`, those of numbers with ">" before them; `rows`), pictures."""

    title: str
    sentences: tuple[str, ...] = ()
    heads: tuple[str, ...] = ()
    rows: tuple[tuple[str, ...], ...] = ()
    pictures: tuple[Picture, ...] = ()


def sentence(text: str) -> str:
    """Return a clause as a sentence."""
    return f"{text[:1].upper()}{text[1:]}."
