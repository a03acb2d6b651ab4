"""Which line of a TOML text each key stands on.

The standard reader gives values without positions. This scanner follows table headers, keys, strings
and brackets; a key path it cannot place has no line, and a caller then names the path alone.
"""

from __future__ import annotations

import re

__all__ = ["Positions"]

_BARE = r"[A-Za-z0-9_-]+"
_KEY = re.compile(rf"\s*(?:(?P<bare>{_BARE})|\"(?P<basic>[^\"\\]*)\"|'(?P<literal>[^']*)')\s*(?P<next>[.=\]])")
_STRING = re.compile(r'"""(?:\\.|[^\\])*?"""|\'\'\'.*?\'\'\'|"(?:\\.|[^"\\\n])*"|\'[^\'\n]*\'', re.DOTALL)


class Positions:
    """The lines of the keys of one text. `line(path)` is counted from 1; `source(line)` is its text."""

    def __init__(self, text: str) -> None:
        self._source = text.splitlines()
        self._lines: dict[tuple[str, ...], int] = {}
        self._twice: set[tuple[str, ...]] = set()
        self._scan(text)

    def line(self, path: tuple[str, ...]) -> int | None:
        """Return the line of the longest known part of `path` that has at least two keys (or all of it)."""
        for length in range(len(path), 0, -1):
            part = path[:length]
            if part in self._lines and part not in self._twice and (length > 1 or length == len(path)):
                return self._lines[part]
        return None

    def source(self, line: int | None) -> str | None:
        """Return the text of a line without surrounding blanks."""
        if line is None or not 1 <= line <= len(self._source):
            return None
        return self._source[line - 1].strip()

    def _scan(self, text: str) -> None:
        header: tuple[str, ...] = ()
        at, line = 0, 1
        while at < len(text):
            end = text.find("\n", at)
            end = len(text) if end < 0 else end
            stripped = text[at:end].strip()
            if not stripped or stripped.startswith("#"):
                at, line = end + 1, line + 1
                continue
            if stripped.startswith("["):
                opening = text.index("[", at)
                opening += text.startswith("[[", opening)
                path, _ = self._keys(text, opening + 1, "]")
                if path:
                    header = path
                    self._note(header, line)
                at, line = end + 1, line + 1
                continue
            path, value_at = self._keys(text, at, "=")
            if path:
                self._note(header + path, line)
            after = self._end_of_value(text, value_at if path else at)
            line += text.count("\n", at, after) + 1
            at = after + 1

    def _note(self, path: tuple[str, ...], line: int) -> None:
        if path in self._lines:
            self._twice.add(path)
        self._lines[path] = line

    @staticmethod
    def _keys(text: str, at: int, closing: str) -> tuple[tuple[str, ...], int]:
        """Read `a.b."c"` up to `closing`; an empty path when the text is something else."""
        path: list[str] = []
        while True:
            found = _KEY.match(text, at)
            if found is None:
                return (), at
            path.append(next(part for part in found.group("bare", "basic", "literal") if part is not None))
            at = found.end()
            if found.group("next") == closing:
                return tuple(path), at
            if found.group("next") != ".":
                return (), at

    @staticmethod
    def _end_of_value(text: str, at: int) -> int:
        """Return the position of the line break that ends the value at `at`."""
        depth = 0
        while at < len(text):
            character = text[at]
            if character in "\"'":
                string = _STRING.match(text, at)
                at = string.end() if string else at + 1
                continue
            if character == "#":
                end = text.find("\n", at)
                at = len(text) if end < 0 else end
                continue
            depth += (character in "[{") - (character in "]}")
            if character == "\n" and depth <= 0:
                return at
            at += 1
        return len(text)
