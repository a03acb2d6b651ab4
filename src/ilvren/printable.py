"""Text that is not our own, made harmless for whoever shows it: a terminal, a spreadsheet, a page of Markdown.

Titles, labels, units, words of models and quoted lines of files may hold anything: sequences that move the cursor, set
the window's title or write from right to left; cells that a spreadsheet computes; markup.
"""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Collection, Iterable, Iterator
    from typing import Any, TextIO

__all__ = ["CellWriter", "apart_from", "harmless_cell", "markdown_lines", "printable", "unmarked_cell"]


class _Pictures(dict[int, str]):
    """What stands for characters that act: controls but tab and line feed (␛ for escape), marks of direction, other
    ends of lines, and halves of characters. Without regular expressions, whose module takes as long as `--help`."""

    def __missing__(self, code: int) -> str:
        if 0xD800 <= code <= 0xDFFF:
            return "\ufffd"
        raise LookupError(code)  # it stands for itself


_PICTURES = _Pictures({code: chr(0x2400 + code) for code in range(0x20) if chr(code) not in "\t\n"})
_PICTURES[0x7F] = "\u2421"
for _first, _last in (
    (0x80, 0x9F),
    (0x61C, 0x61C),
    (0x200E, 0x200F),
    (0x2028, 0x202E),
    (0x2066, 0x2069),
    (0xFEFF, 0xFEFF),
):
    _PICTURES.update(dict.fromkeys(range(_first, _last + 1), "\ufffd"))

# What a spreadsheet takes for a formula, and what is a number all the same.
_COMPUTED = r"\s*[=+\-@\t\r]"
_NUMBER = r"(?i)\s*[+-]?(\d+\.?\d*|\.\d+)(e[+-]?\d+)?\s*|\s*[+-]?(inf|nan)\s*|[+-]"
# Spans of code stay; what begins a tag does not.
_MARKUP = r"(`+[^`]*`+)|<(?=[A-Za-z/!?])"


def printable(text: str) -> str:
    """Return a text with what is no visible character replaced by a picture of it (␛ for escape), or by �."""
    return text if text.isprintable() else text.translate(_PICTURES)


def harmless_cell(value: Any) -> Any:
    """Return what stands in a cell: a text that a spreadsheet would compute gets an apostrophe before it."""
    if not isinstance(value, str):
        return value
    import re

    text = printable(value)
    return f"'{text}" if re.match(_COMPUTED, text) and not re.fullmatch(_NUMBER, text) else text


def unmarked_cell(text: str) -> str:
    """Return a cell that was read, without the apostrophe that `harmless_cell` put before it."""
    import re

    return text[1:] if text.startswith("'") and re.match(_COMPUTED, text[1:]) else text


def markdown_lines(lines: Iterable[str]) -> Iterator[str]:
    """Yield lines of Markdown in which nothing but our own signs is markup."""
    import re

    is_code = False
    for line in lines:
        if line.startswith("```"):
            is_code = not is_code
        own = printable(line)
        yield own if is_code else re.sub(_MARKUP, lambda found: found[1] or "&lt;", own)


def apart_from(taken: Collection[str], names: Iterable[str], kind: str) -> list[str]:
    """Return the names of columns, their kind before those that other columns of the file have: `variable:seconds`."""
    return [f"{kind}:{name}" if name in taken else name for name in names]


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
