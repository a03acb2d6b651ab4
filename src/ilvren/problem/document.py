"""A document as TOML gives it: its sections, names, words and values, each refusal with its file and line."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, NoReturn

from ilvren.errors import ProblemError, nearest
from ilvren.formula import RESERVED_NAMES
from ilvren.problem.slips import key_advice

if TYPE_CHECKING:
    from ilvren.problem.entries import Source, Value

__all__ = ["NAME", "Document"]

NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")


class Document:
    """What is common to all that is read. `taken` names by the section that has them, `words` of all choices, numbered
    from 1, `reserved` names that sections of this file reserve."""

    def __init__(self, document: Mapping[str, object], source: Source) -> None:
        self.document = document
        self.source = source
        self.taken: dict[str, str] = {}
        self.words: dict[str, float] = {}  # of all choices, numbered from 1
        self.reserved: frozenset[str] = frozenset()  # names that sections of this file reserve

    def fail(self, path: tuple[str, ...], message: str, advice: str | None = None) -> NoReturn:
        """Raise ProblemError at the line of a key."""
        line = self.source.line(*path)
        raise ProblemError(
            message,
            file=self.source.file,
            line=line,
            where=".".join(path),
            text=self.source.positions.source(line),
            advice=advice,
        )

    def unknown_key(self, path: tuple[str, ...], key: str, known: Iterable[str], what: str) -> NoReturn:
        """Raise ProblemError for a key that is not `known`, with the one that is meant."""
        close = nearest(key, known)
        advice = key_advice(key, known) or (f'did you mean "{close}"?' if close else "known: " + ", ".join(known))
        self.fail(path, f'unknown {what} "{key}"', advice)

    def text_of(self, key: str) -> str:
        """Return a text at the top of the file, "" without. Raises ProblemError."""
        value = self.document.get(key, "")
        if not isinstance(value, str):
            self.fail((key,), f'"{key}" must be text')
        return value

    def section(self, name: str) -> Mapping[str, object]:
        """Return a section's entries, none without. Raises ProblemError."""
        content = self.document.get(name, {})
        if not isinstance(content, dict):
            self.fail((name,), f'"{name}" must be a section: write [{name}]')
        return content

    def check_name(self, section: str, name: str) -> None:
        """Take a name. Raises ProblemError for one that is none, reserved, or there already."""
        path = (section, name)
        if not NAME.fullmatch(name):
            self.fail(path, f'"{name}" is not a name', "names have ASCII letters, digits and _, and no digit first")
        if name in RESERVED_NAMES or name in self.reserved:
            self.fail(path, f'"{name}" is reserved: formulas know it already')
        if name in self.taken:
            self.fail(path, f'the name "{name}" is used twice, here and in [{self.taken[name]}]')
        self.taken[name] = section

    def checked_keys(self, path: tuple[str, ...], content: object, known: Iterable[str]) -> Mapping[str, object]:
        """Return a table whose keys are all `known`. Raises ProblemError."""
        if not isinstance(content, dict):
            self.fail(path, "must be a table: write [" + ".".join(path) + "]")
        for key in content:
            if key not in known:
                self.unknown_key((*path, key), key, known, "key")
        return content

    def timeout(self, path: tuple[str, ...], content: Mapping[str, object]) -> float | None:
        """Return the seconds that a call may take, None without a limit. Raises ProblemError."""
        value = content.get("timeout")
        if value is None:
            return None
        if isinstance(value, bool) or not isinstance(value, (int, float)) or not 0 < value < math.inf:
            self.fail((*path, "timeout"), '"timeout" is a number of seconds above 0')
        return float(value)

    def repeatable(self, path: tuple[str, ...], content: Mapping[str, object]) -> bool:
        """Return whether equal calls give equal values. Raises ProblemError."""
        value = content.get("repeatable", True)
        if not isinstance(value, bool):
            self.fail((*path, "repeatable"), '"repeatable" is true or false')
        return value

    def word(self, path: tuple[str, ...], content: Mapping[str, object], key: str) -> str:
        """Return a key's text, "" without. Raises ProblemError."""
        value = content.get(key, "")
        if not isinstance(value, str):
            self.fail((*path, key), f'"{key}" must be text')
        return value

    def value(self, path: tuple[str, ...], content: object) -> Value:
        """Return a number or the text of a formula; infinities pass (a bound may be one)."""
        if isinstance(content, str):
            if not content.strip():
                self.fail(path, "an empty formula")
            return content
        if isinstance(content, list):
            return tuple(self.value(path, item) for item in content)
        if isinstance(content, bool) or not isinstance(content, (int, float)):
            self.fail(path, f"a number or a formula in quotes is expected, not {content!r}")
        try:
            number = float(content)
        except OverflowError:
            self.fail(path, "a number too large for double precision")
        if math.isnan(number):
            self.fail(path, "nan is not a value")
        return number
