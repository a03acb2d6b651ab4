"""Numbers as programs print them, in lines of text: where they stand, and how they are written.

A number is what a Fortran or C program writes as one: `12`, `-0.5`, `.5`, `1.234E+02`, `1.234D+02`, also `1.234+102`
(an exponent of three digits without its letter), with blanks, commas, brackets or an equals sign before it, and
maybe a unit behind. `NaN`, `Inf` and `****` are none: where one of them stands, there is no number, and a later one is
not taken for it.
"""

from __future__ import annotations

import re

from ilvren.records import dataclass

__all__ = ["Field", "Written", "as_number", "fields", "first_number"]

_MANTISSA = r"(?:\d+\.?\d*|\.\d+)"
NUMBER = re.compile(rf"[+-]?{_MANTISSA}(?:[eEdD][+-]?\d+|[+-]\d{{3}})?")
# What stands where a number should, and says that there is none.
_NO_NUMBER = re.compile(r"[+-]?(?:nan|inf(?:inity)?|n/?a|none|null|-{2,}|\*+|#+)(?![\w])", re.IGNORECASE)
_BETWEEN = re.compile(r"[\s:=,;(\[<>]*")


@dataclass(frozen=True)
class Field:
    """A piece of a line: its text and the characters [`first`, `last`) where it stands, counted from 0."""

    text: str
    first: int
    last: int


@dataclass(frozen=True)
class Written:
    """How a number is written: `decimals` after the point (-1: no point), the exponent's `letter` ("" for none; "+"
    where only its sign stands), digits of the exponent, and whether a plus stands before it."""

    decimals: int
    letter: str
    exponent: int
    has_plus: bool

    @classmethod
    def of(cls, text: str) -> Written:
        """Return how a number's text is written."""
        parts = re.fullmatch(rf"([+-]?)({_MANTISSA})(?:([eEdD])([+-]?)(\d+)|([+-])(\d{{3}}))?", text)
        assert parts is not None, text
        mantissa, letter = parts[2], parts[3] or ("+" if parts[6] else "")
        decimals = len(mantissa) - mantissa.index(".") - 1 if "." in mantissa else -1
        return cls(decimals, letter, len(parts[5] or parts[7] or ""), parts[1] == "+")

    def text(self, value: float) -> str | None:
        """Return a finite number written this way, None where that cannot be: a fraction where no point stands."""
        sign = "+" if self.has_plus else ""
        if not self.letter:
            if self.decimals < 0:
                return f"{value:{sign}.0f}" if value == round(value) else None
            return f"{value:{sign}.{self.decimals}f}"
        mantissa, exponent = f"{value:{sign}.{max(self.decimals, 0)}e}".split("e")
        power = int(exponent)
        digits = f"{abs(power):0{self.exponent}d}"
        letter = "" if self.letter == "+" else self.letter
        return f"{mantissa}{letter}{'-' if power < 0 else '+'}{digits}"


def as_number(text: str) -> float | None:
    """Return the number that a text is, None where it is none."""
    if not NUMBER.fullmatch(text):
        return None
    plain = text.replace("d", "e").replace("D", "e")
    if not re.search("[eE]", plain):
        plain = re.sub(r"(?<=[\d.])([+-]\d{3})$", r"e\1", plain)
    return float(plain)


def fields(line: str) -> list[Field]:
    """Return the fields of a line: separated by commas where it has any (blanks around them being no part), else by
    blanks."""
    if "," in line:
        found, at = [], 0
        for part in line.rstrip("\r\n").split(","):
            own = part.strip()
            first = at + (len(part) - len(part.lstrip())) if own else at
            found.append(Field(own, first, first + len(own)))
            at += len(part) + 1
        return found
    return [Field(match.group(), match.start(), match.end()) for match in re.finditer(r"\S+", line)]


def first_number(line: str, start: int = 0) -> Field | None:
    """Return the first number of a line from a character on, None where something that is no number stands in its place
    (`n/a`, `****`), or none follows. A digit within a word (`T3`) is no number."""
    at = start
    while at < len(line):
        between = _BETWEEN.match(line, at)
        assert between is not None
        at = between.end()
        if at >= len(line):
            return None
        if _NO_NUMBER.match(line, at):
            return None
        match = NUMBER.match(line, at)
        # "12.4kg" is a number with its unit, "2nd" and "3A" are words.
        if match is not None and ("." in match.group() or not line[match.end() : match.end() + 1].isalnum()):
            return Field(match.group(), match.start(), match.end())
        word = re.compile(r"[^\s:=,;(\[<>]+").match(line, at)
        at = word.end() if word is not None else at + 1
    return None
