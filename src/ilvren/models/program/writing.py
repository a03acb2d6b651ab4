"""Numbers replaced in place in a deck that works already: everything else stays to the last character.

A number keeps how it was written (decimals, exponent, sign) and where it ends, and takes the blanks before it or behind
it where it grows; never the one that keeps it apart from its neighbour. What does not fit is an error: a deck with a
number cut, or one that touches the next, is worse than none.
"""

from __future__ import annotations

import functools
import math
import re
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.models.program.numbers import Field, Written, as_number, fields, first_number
from ilvren.models.program.reading import blank_pattern
from ilvren.records import dataclass

__all__ = ["CannotWrite", "Put", "placed_at", "replaced"]

FloatArray = NDArray[np.float64]


class CannotWrite(Exception):
    """A number cannot be written into the deck; the message says which, where and why."""


@dataclass(frozen=True)
class Put:
    """Where the numbers of an input stand in a deck: `after` a text, the group of a `pattern`, or a `line` with `field`
    or `columns`; a vector fills successive numbers. The rest as in `reading.Reading`."""

    name: str
    after: str = ""
    pattern: str = ""
    line: int = 0
    field: int = 0
    columns: tuple[int, int] | None = None
    which: str | int = "first"


@dataclass(frozen=True)
class _Spot:
    line: int
    field: Field
    is_fixed: bool  # whether the characters given are its own, and no others


def placed_at(text: str, put: Put, count: int) -> list[tuple[int, str]]:
    """Return (line from 1, number as it stands there) of each number that a put of `count` numbers replaces. Raises
    CannotWrite."""
    return [(spot.line + 1, spot.field.text) for spot in _found_spots(text, put, count)]


def replaced(text: str, puts: Sequence[Put], values: Mapping[str, Any]) -> tuple[str, dict[str, FloatArray]]:
    """Return the deck with the values of all inputs in place, and the numbers as they are written there. Raises
    CannotWrite. Numbers are (elements,) of each input."""
    lines = list(_lines(text))
    changes: list[tuple[_Spot, str, str]] = []
    written: dict[str, FloatArray] = {}
    for put in puts:
        array = np.asarray(values[put.name], dtype=float)
        numbers = array.ravel().tolist()
        spots = _found_spots(text, put, len(numbers))
        told = []
        for spot, value in zip(spots, numbers, strict=True):
            new = _styled(put, spot, value)
            changes.append((spot, new, put.name))
            told.append(as_number(new.strip()))
        written[put.name] = np.array(told, dtype=float).reshape(array.shape)
    _refuse_twice(changes)
    # From the right to the left, so that places stay true where a line grows.
    for spot, new, name in sorted(changes, key=lambda item: (item[0].line, -item[0].field.first)):
        lines[spot.line] = _placed(lines[spot.line], spot, new, name)
    return "".join(lines), written


@functools.lru_cache(maxsize=64)
def _lines(text: str) -> tuple[str, ...]:
    return tuple(text.splitlines(keepends=True))


@functools.lru_cache(maxsize=1024)
def _found_spots(text: str, put: Put, count: int) -> tuple[_Spot, ...]:
    """Return the places of a put in a deck, which are looked for once."""
    return tuple(_spots(put, _lines(text), count))


def _refuse_twice(changes: Sequence[tuple[_Spot, str, str]]) -> None:
    seen: dict[tuple[int, int], str] = {}
    for spot, _, name in changes:
        key = spot.line, spot.field.last
        if key in seen:
            raise CannotWrite(f'"{name}" and "{seen[key]}" are put in the same place: line {spot.line + 1}')
        seen[key] = name


def _spots(put: Put, lines: Sequence[str], count: int) -> list[_Spot]:
    if put.line:
        return _in_line(put, lines, count)
    expression = re.compile(put.pattern) if put.pattern else blank_pattern(put.after)
    what = f"/{put.pattern}/" if put.pattern else f'"{put.after}"'
    places = [(k, match) for k, line in enumerate(lines) for match in expression.finditer(line)]
    if put.pattern and count > 1:
        chosen = places[:count]
    else:
        number = {"first": 1, "last": len(places)}.get(str(put.which), put.which)
        if not places or not isinstance(number, int) or number > len(places):
            times = "not there" if not places else f"there {len(places)} times"
            raise CannotWrite(f'"{put.name}": {what} is {times}')
        chosen = [places[number - 1]]
    if put.pattern:
        if len(chosen) < count:
            raise CannotWrite(f'"{put.name}": {what} is there {len(chosen)} times, {count} numbers are to be put')
        return [_checked(put, _Spot(k, Field(m.group(1), m.start(1), m.end(1)), False)) for k, m in chosen]
    (k, match), skip = chosen[0], max(put.field, 1) - 1
    found: list[_Spot] = []
    at = match.end()
    while len(found) < count + skip and k < len(lines):
        field = first_number(lines[k], at)
        if field is not None:
            found.append(_Spot(k, field, False))
            at = field.last
        elif count > 1 and found and k + 1 < len(lines) and lines[k + 1].strip():
            k, at = k + 1, 0
        else:
            break
    if len(found) < count + skip:
        raise CannotWrite(f'"{put.name}": {len(found)} numbers follow {what} in line {chosen[0][0] + 1}')
    return found[skip:]


def _in_line(put: Put, lines: Sequence[str], count: int) -> list[_Spot]:
    place = put.line - 1 if put.line > 0 else len(lines) + put.line
    if not 0 <= place < len(lines):
        raise CannotWrite(f'"{put.name}": there is no line {put.line}, the deck has {len(lines)}')
    line = lines[place]
    if put.columns is not None:
        first, last = put.columns
        piece = line.rstrip("\r\n")[first - 1 : last]
        if as_number(piece.strip()) is None:
            raise CannotWrite(f'"{put.name}": line {place + 1} has "{piece}" in columns {first} to {last}, no number')
        return [_Spot(place, Field(piece, first - 1, first - 1 + len(piece)), True)]
    own = fields(line.rstrip("\r\n"))[put.field - 1 : put.field - 1 + count]
    if len(own) < count:
        raise CannotWrite(f'"{put.name}": line {place + 1} has {len(fields(line))} fields: {line.strip()[:80]}')
    return [_checked(put, _Spot(place, field, False)) for field in own]


def _checked(put: Put, spot: _Spot) -> _Spot:
    if as_number(spot.field.text) is None:
        raise CannotWrite(f'"{put.name}": line {spot.line + 1} has "{spot.field.text[:40]}" there, which is no number')
    return spot


def _styled(put: Put, spot: _Spot, value: float) -> str:
    """Return a number as the one in its place is written."""
    if not math.isfinite(value):
        raise CannotWrite(f'"{put.name}" is {value}, which no deck takes')
    there = spot.field.text.strip()
    new = Written.of(there).text(value)
    if new is None:
        raise CannotWrite(
            f'"{put.name}" = {value:g} is no whole number, and line {spot.line + 1} has {there} there;'
            f" write {there}.000 in the deck where fractions are allowed"
        )
    return new


def _placed(line: str, spot: _Spot, new: str, name: str) -> str:
    """Return the line with a number in place of another: ending where that ended, blanks before it taken as needed,
    then those behind it."""
    first, last = spot.field.first, spot.field.last
    if spot.is_fixed:
        if len(new) > last - first:
            raise CannotWrite(f'"{name}": {new} does not fit columns {first + 1} to {last} of line {spot.line + 1}')
        return line[:first] + new.rjust(last - first) + line[last:]
    before = len(line[:first]) - len(line[:first].rstrip(" "))
    body = line.rstrip("\r\n")
    behind = len(body[last:]) - len(body[last:].lstrip(" "))
    more = len(new) - (last - first)
    if more <= 0:
        pad = " " * -more
        is_left = before <= 1 and behind > 1
        return line[:first] + (new + pad if is_left else pad + new) + line[last:]
    opens, closes = "=,:;([\"'<>", ",;)]\"'<>"
    is_delimited = (first > 0 and line[first - 1] in opens) or (0 < last < len(body) and body[last] in closes)
    taken = min(more, before if before == first else max(before - 1, 0))
    rest = more - taken
    # At the end of a line there is nothing to touch; blanks behind are taken but for one.
    free = rest if last == len(body) else min(rest, max(behind - 1, 0))
    if rest > free and not is_delimited:
        raise CannotWrite(
            f'"{name}": {new} does not fit in place of {spot.field.text} in line {spot.line + 1}: {body.strip()[:80]}'
        )
    return line[: first - taken] + new + line[last + (free if last < len(body) else 0) :]
