"""How a unit is written: names with whole or simple powers, multiplied and divided.

    unit   = factor { ( "*" | "·" | " " | "/" ) factor }
    factor = "1" | name [ power ] | "(" unit ")" [ power ]
    power  = ( "^" | "**" ) ( number | "(" number [ "/" number ] ")" ) | "²" | "³" …

Every "/" divides by the one factor behind it: kg/m/s is kg/(m s). The text is read here, so that nothing but single
names ever reaches the library that knows them.
"""

from __future__ import annotations

import re
from fractions import Fraction

__all__ = ["UnitTextError", "unit_factors"]

MOST_TEXT, MOST_FACTORS, MOST_POWER, DEEPEST = 120, 16, 12, 8
_TOKEN = re.compile(
    r"\s*(?:(?P<name>(?:[^\W\d⁰¹²³⁴-⁹]|°)[^\W⁰¹²³⁴-⁹]*|[%‰€$£])|(?P<number>\d+(?:\.\d+)?)|(?P<sign>\*\*|[*·⋅/^()\-+])|(?P<raised>[⁻⁰¹²³⁴-⁹]+))"
)
_RAISED = str.maketrans("⁻⁰¹²³⁴⁵⁶⁷⁸⁹", "-0123456789")

Factors = dict[str, Fraction]


class UnitTextError(ValueError):
    """A text that is no unit; the message says why."""


def unit_factors(text: str) -> Factors:
    """Return {name: power} of a unit; {} for "1". Raises UnitTextError."""
    if len(text) > MOST_TEXT:
        raise UnitTextError(f"it has {len(text)} characters, and {MOST_TEXT} at most make a unit")
    reader = _Reader(text)
    found = reader.product(0)
    if reader.here is not None:
        raise UnitTextError(f'"{reader.here[1]}" stands where nothing more is expected')
    return {name: power for name, power in found.items() if power}


class _Reader:
    def __init__(self, text: str) -> None:
        self.tokens: list[tuple[str, str]] = []
        place, text = 0, text.rstrip()
        while place < len(text):
            match = _TOKEN.match(text, place)
            if match is None:
                raise UnitTextError(f'"{text[place:].lstrip()[:1]}" is no part of a unit')
            kind = str(match.lastgroup)
            if kind == "name" and self.tokens and self.tokens[-1][0] == "number" and match.start(kind) == place:
                raise UnitTextError(f'"{self.tokens[-1][1]}{match[kind]}" is no part of a unit')
            self.tokens.append((kind, match[kind]))
            place = match.end()
        self.place = 0
        self.count = 0

    @property
    def here(self) -> tuple[str, str] | None:
        return self.tokens[self.place] if self.place < len(self.tokens) else None

    def take(self, *signs: str) -> str:
        """Return the sign that stands here, if it is one of these, and go on behind it; "" else."""
        if self.here is not None and self.here[0] == "sign" and self.here[1] in signs:
            self.place += 1
            return self.tokens[self.place - 1][1]
        return ""

    def product(self, depth: int) -> Factors:
        found = self.factor(depth)
        while self.here is not None and self.here[1] != ")":
            sign = -1 if self.take("/") else 1
            if sign > 0:
                self.take("*", "·", "⋅")
            for name, power in self.factor(depth).items():
                found[name] = found.get(name, Fraction(0)) + sign * power
        if any(abs(power) > MOST_POWER for power in found.values()):
            raise UnitTextError(f"powers up to {MOST_POWER} are understood")
        return found

    def factor(self, depth: int) -> Factors:
        self.count += 1
        if self.count > MOST_FACTORS or depth > DEEPEST:
            raise UnitTextError(f"{MOST_FACTORS} factors at most make a unit")
        if self.take("("):
            found = self.product(depth + 1)
            if not self.take(")"):
                raise UnitTextError('a ")" is missing')
        elif self.here is None:
            raise UnitTextError("a name is missing at its end")
        else:
            kind, word = self.here
            self.place += 1
            if kind == "number" and word == "1":
                found = {}
            elif kind == "number":
                raise UnitTextError(f"the number {word} is no part of a unit: it belongs into the formula")
            elif kind != "name":
                raise UnitTextError(f'"{word}" stands where a name is expected')
            else:
                found = {word: Fraction(1)}
        power = self.power()
        return {name: own * power for name, own in found.items()}

    def power(self) -> Fraction:
        if self.here is not None and self.here[0] == "raised":
            self.place += 1
            try:
                return self._within(Fraction(int(self.tokens[self.place - 1][1].translate(_RAISED))))
            except ValueError:
                raise UnitTextError("a raised sign without a number") from None
        if not self.take("^", "**"):
            return Fraction(1)
        if not self.take("("):
            return self._within(self.signed())
        top = self.signed()
        bottom = self.signed() if self.take("/") else Fraction(1)
        if not self.take(")"):
            raise UnitTextError('a ")" is missing')
        if not bottom:
            raise UnitTextError("a power divides by 0")
        return self._within(top / bottom)

    def signed(self) -> Fraction:
        sign = self.take("-", "+")
        if self.here is None or self.here[0] != "number":
            raise UnitTextError("a power is a number")
        self.place += 1
        value = Fraction(self.tokens[self.place - 1][1])
        return -value if sign == "-" else value

    def _within(self, power: Fraction) -> Fraction:
        if abs(power) > MOST_POWER or power.denominator > MOST_POWER:
            raise UnitTextError(f"powers up to {MOST_POWER} are understood")
        return power
