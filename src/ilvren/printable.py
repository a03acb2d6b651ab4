"""Text that is not our own, made harmless for whoever shows it: a terminal, a spreadsheet, a page of Markdown.

Titles, labels, units, words of models and quoted lines of files may hold anything: sequences that move the cursor, set
the window's title or write from right to left; cells that a spreadsheet computes; markup.
"""

from __future__ import annotations

import re

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator
    from typing import Any, TextIO

__all__ = ["CellWriter", "harmless_cell", "markdown_lines", "printable", "unmarked_cell"]

# Control characters but tab and line feed, marks of direction, other ends of lines, and halves of characters.
_UNPRINTABLE = re.compile(
    "[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ud800-\udfff\ufeff]"
)
# What a spreadsheet takes for a formula.
_COMPUTED = re.compile(r"\s*[=+\-@\t\r]")
_NUMBER = re.compile(r"\s*[+-]?(\d+\.?\d*|\.\d+)(e[+-]?\d+)?\s*|\s*[+-]?(inf|nan)\s*|[+-]", re.IGNORECASE)
# Spans of code stay; what begins a tag does not.
_MARKUP = re.compile(r"(`+[^`]*`+)|<(?=[A-Za-z/!?])")


def printable(text: str) -> str:
    """Return a text with what is no visible character replaced by a picture of it (␛ for escape), or by �."""
    return _UNPRINTABLE.sub(_picture, text) if _UNPRINTABLE.search(text) else text


def _picture(found: re.Match[str]) -> str:
    code = ord(found[0])
    if code < 0x20:
        return chr(0x2400 + code)
    return "\u2421" if code == 0x7F else "\ufffd"


def harmless_cell(value: Any) -> Any:
    """Return what stands in a cell: a text that a spreadsheet would compute gets an apostrophe before it."""
    if not isinstance(value, str):
        return value
    text = printable(value)
    return f"'{text}" if _COMPUTED.match(text) and not _NUMBER.fullmatch(text) else text


def unmarked_cell(text: str) -> str:
    """Return a cell that was read, without the apostrophe that `harmless_cell` put before it."""
    return text[1:] if text.startswith("'") and _COMPUTED.match(text[1:]) else text


def markdown_lines(lines: Iterable[str]) -> Iterator[str]:
    """Yield lines of Markdown in which nothing but our own signs is markup."""
    is_code = False
    for line in lines:
        if line.startswith("```"):
            is_code = not is_code
        own = printable(line)
        yield own if is_code else _MARKUP.sub(lambda found: found[1] or "&lt;", own)


class CellWriter:
    """Writes rows as CSV, with cells that are harmless."""

    def __init__(self, stream: TextIO, **form: Any) -> None:
        import csv

        self._writer = csv.writer(stream, **form)

    def writerow(self, row: Iterable[Any]) -> None:
        """Write one row."""
        self._writer.writerow([harmless_cell(value) for value in row])

    def writerows(self, rows: Iterable[Iterable[Any]]) -> None:
        """Write rows."""
        for row in rows:
            self.writerow(row)
