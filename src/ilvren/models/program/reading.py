"""Values read from what a program leaves: where each stands is said once, in the problem file, and told with the value.

    after     the first number (or number `field`) behind a text, on its line or `within` so many lines
    pattern   the group of a regular expression, line by line
    line      `field` or `columns` of a line by its number, from the end where it is negative
    pointer   a place in a JSON document (RFC 6901)
    column    a column of a CSV file with a header: all of it, one `row` by a cell, or what is to be `take`n of it

Lines, fields and columns count from 1, as editors show them. What is missing is missing: no later number is taken.
"""

from __future__ import annotations

import csv
import io
import json
import math
import re
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.models.program.numbers import Field, as_number, fields, first_number
from ilvren.records import dataclass
from ilvren.regular import regular_text

__all__ = ["TAKES", "Found", "Missing", "Reading", "blank_pattern", "found_in", "nearest_lines", "read_values"]

FloatArray = NDArray[np.float64]

TAKES: Mapping[str, Callable[[FloatArray], float]] = {
    "min": lambda values: float(values.min()),
    "max": lambda values: float(values.max()),
    "mean": lambda values: float(values.mean()),
    "first": lambda values: float(values[0]),
    "last": lambda values: float(values[-1]),
}
# Nearest lines shown where a text is not found.
MOST_NEAR = 3


class Missing(Exception):
    """A value is not where it should be; the message says what is missing where."""


@dataclass(frozen=True, kw_only=True)
class Reading:
    """Where a value stands: `file` (or "stdout", "stderr"), and one of `after`, `pattern`, `line`, `pointer`, `column`
    with what goes with it; `shape` of a vector."""

    name: str
    file: str
    after: str = ""
    pattern: str = ""
    line: int = 0
    pointer: str | None = None
    column: str = ""
    field: int = 0
    columns: tuple[int, int] | None = None
    which: str | int = "first"
    within: int = 1
    row: Mapping[str, str] | None = None
    take: str = ""
    shape: tuple[int, ...] = ()
    delimiter: str = ","
    decimal: str = "."

    @property
    def size(self) -> int:
        """Return how many numbers it is."""
        return math.prod(self.shape)


@dataclass(frozen=True)
class Found:
    """A value (of its shape), and where its first number stood: file, line from 1 (0: not in lines), the line, and the
    characters [first, last) of the number."""

    value: FloatArray
    file: str
    line: int = 0
    text: str = ""
    first: int = 0
    last: int = 0

    @property
    def place(self) -> str:
        """Return the place as messages name it."""
        return f"{self.file}:{self.line}" if self.line else self.file


def read_values(readings: Sequence[Reading], folder: Path, streams: Mapping[str, str]) -> dict[str, Found]:
    """Return {name: value} of all readings in a folder; `streams` are the program's own outputs by name. Each file is
    read once. Raises Missing."""
    texts: dict[str, str] = dict(streams)
    found = {}
    for reading in readings:
        if reading.file not in texts:
            path = folder / reading.file
            try:
                texts[reading.file] = regular_text(path, errors="replace")
            except FileNotFoundError:
                raise Missing(f'"{reading.name}": the program has written no {reading.file}') from None
            except OSError as error:
                raise Missing(f'"{reading.name}": {reading.file} cannot be read: {error.strerror}') from None
        found[reading.name] = found_in(reading, texts[reading.file])
    return found


def found_in(reading: Reading, text: str) -> Found:
    """Return the value of one reading in the text of its file. Raises Missing."""
    if reading.pointer is not None:
        return _of_json(reading, text)
    if reading.column:
        return _of_table(reading, text)
    lines = text.splitlines()
    if reading.pattern:
        return _of_pattern(reading, lines)
    if reading.after:
        return _of_text(reading, lines)
    return _of_line(reading, lines)


def _fail(reading: Reading, what: str) -> Missing:
    return Missing(f'"{reading.name}" in {reading.file}: {what}')


def _number(reading: Reading, field: Field, line: int, text: str) -> float:
    value = as_number(field.text)
    if value is None or not math.isfinite(value):
        raise _fail(reading, f'line {line} has "{field.text[:40]}" there, which is no number: {text.strip()[:80]}')
    return value


def _found(reading: Reading, numbers: Sequence[float], line: int, text: str, field: Field) -> Found:
    if len(numbers) != reading.size:
        raise _fail(reading, f"{len(numbers)} numbers from line {line} on, {reading.size} are expected")
    value = np.array(numbers, dtype=float).reshape(reading.shape)
    return Found(value, reading.file, line, text, field.first, field.last)


def _chosen(reading: Reading, occurrences: Sequence[Any], what: str, lines: Sequence[str]) -> Any:
    """Return the occurrence that `which` names."""
    if not occurrences:
        near = nearest_lines(reading.after or reading.pattern, lines)
        told = "; nearest: " + " | ".join(near) if near else ""
        raise _fail(reading, f"{what} is not there{told}")
    if reading.which == "first":
        return occurrences[0]
    if reading.which == "last":
        return occurrences[-1]
    number = int(reading.which)
    if number > len(occurrences):
        times = "once" if len(occurrences) == 1 else f"{len(occurrences)} times"
        raise _fail(reading, f"{what} is there {times}, its occurrence {number} is asked for")
    return occurrences[number - 1]


def nearest_lines(wanted: str, lines: Sequence[str]) -> list[str]:
    """Return the lines of a text most like a wanted one."""
    import difflib

    stripped = list(dict.fromkeys(line.strip()[:100] for line in lines if line.strip()))
    return difflib.get_close_matches(wanted, stripped, n=MOST_NEAR, cutoff=0.3)


def blank_pattern(text: str) -> re.Pattern[str]:
    """Return the expression of a text in which blanks stand for any blanks."""
    return re.compile(r"\s+".join(re.escape(part) for part in text.split()))


def _of_text(reading: Reading, lines: Sequence[str]) -> Found:
    expression = blank_pattern(reading.after)
    places = [(k, match.end()) for k, line in enumerate(lines) for match in expression.finditer(line)]
    place, start = _chosen(reading, places, f'"{reading.after}"', lines)
    wanted, skip = reading.size, max(reading.field, 1) - 1
    numbers: list[tuple[int, Field]] = []
    # A vector may go on over the next lines; else the number stands within so many.
    last = len(lines) if reading.shape else min(place + reading.within, len(lines))
    for k in range(place, last):
        at = start if k == place else 0
        while len(numbers) < wanted + skip:
            field = first_number(lines[k], at)
            if field is None:
                break
            numbers.append((k, field))
            at = field.last
        if len(numbers) >= wanted + skip or (reading.shape and k > place and not lines[k].strip()):
            break
    own = numbers[skip : skip + wanted]
    if len(own) < wanted:
        behind = lines[place][start:].strip()[:60] or "the end of the line"
        raise _fail(reading, f'no number follows "{reading.after}" in line {place + 1}, but {behind}')
    k, field = own[0]
    values = [_number(reading, item, at + 1, lines[at]) for at, item in own]
    return _found(reading, values, k + 1, lines[k], field)


def _of_pattern(reading: Reading, lines: Sequence[str]) -> Found:
    expression = re.compile(reading.pattern)
    places = [(k, match) for k, line in enumerate(lines) for match in expression.finditer(line)]
    chosen = places if reading.shape else [_chosen(reading, places, f"/{reading.pattern}/", lines)]
    if not chosen:
        _chosen(reading, places, f"/{reading.pattern}/", lines)
    fields_ = [(k, Field(match.group(1) or "", match.start(1), match.end(1))) for k, match in chosen]
    values = [_number(reading, field, k + 1, lines[k]) for k, field in fields_]
    k, field = fields_[0]
    return _found(reading, values, k + 1, lines[k], field)


def _of_line(reading: Reading, lines: Sequence[str]) -> Found:
    place = reading.line - 1 if reading.line > 0 else len(lines) + reading.line
    if not 0 <= place < len(lines):
        raise _fail(reading, f"there is no line {reading.line}: it has {len(lines)}")
    text = lines[place]
    if reading.columns is not None:
        first, last = reading.columns
        piece = text[first - 1 : last]
        own = piece.strip()
        start = first - 1 + len(piece) - len(piece.lstrip())
        chosen = [Field(own, start, start + len(own))]
    else:
        all_fields = fields(text)
        first = reading.field - 1
        chosen = all_fields[first : first + reading.size]
    if len(chosen) < reading.size:
        raise _fail(reading, f"line {place + 1} has {len(fields(text))} fields: {text.strip()[:80]}")
    values = [_number(reading, field, place + 1, text) for field in chosen]
    return _found(reading, values, place + 1, text, chosen[0])


def _of_json(reading: Reading, text: str) -> Found:
    assert reading.pointer is not None
    try:
        at: Any = json.loads(text)
    except json.JSONDecodeError as error:
        raise _fail(reading, f"it is no JSON document ({error.msg}, line {error.lineno})") from None
    for part in reading.pointer.split("/")[1:]:
        key = part.replace("~1", "/").replace("~0", "~")
        if isinstance(at, list) and key.isdigit() and int(key) < len(at):
            at = at[int(key)]
        elif isinstance(at, dict) and key in at:
            at = at[key]
        else:
            has = (
                ", ".join(map(str, at)) if isinstance(at, dict) else f"{len(at)} items" if isinstance(at, list) else at
            )
            raise _fail(reading, f'no "{key}" on the way of {reading.pointer}; there: {str(has)[:80]}')
    try:
        value = np.array(at, dtype=float)
    except (TypeError, ValueError):
        raise _fail(reading, f"{reading.pointer} is {str(at)[:60]!r}, no number") from None
    if isinstance(at, (str, bool)) or not np.isfinite(value).all():
        raise _fail(reading, f"{reading.pointer} is {str(at)[:60]!r}, no number")
    if value.shape != reading.shape and value.size != reading.size:
        raise _fail(reading, f"{reading.pointer} has the shape {value.shape}, {reading.shape} is expected")
    return Found(value.reshape(reading.shape), reading.file)


def _of_table(reading: Reading, text: str) -> Found:
    rows = list(csv.reader(io.StringIO(text), delimiter=reading.delimiter))
    head = [cell.strip() for cell in rows[0]] if rows else []
    wanted = {reading.column, *(reading.row or {})}
    gone = next((name for name in wanted if name not in head), None)
    if gone is not None:
        raise _fail(reading, f'no column "{gone}"; its columns: {", ".join(head)[:100]}')
    place = head.index(reading.column)
    own = [(number, row) for number, row in enumerate(rows[1:], start=2) if any(cell.strip() for cell in row)]
    for name, cell in (reading.row or {}).items():
        own = [(n, row) for n, row in own if head.index(name) < len(row) and row[head.index(name)].strip() == cell]
    if reading.row and len(own) != 1:
        told = " and ".join(f"{name} = {cell}" for name, cell in reading.row.items())
        raise _fail(reading, f"{len(own)} rows with {told}, one is expected")
    values = []
    for number, row in own:
        cell = row[place].strip() if place < len(row) else ""
        value = as_number(cell.replace(reading.decimal, ".") if reading.decimal != "." else cell)
        if value is None:
            raise _fail(reading, f'line {number} has "{cell[:40]}" as {reading.column}, which is no number')
        values.append(value)
    if not values:
        raise _fail(reading, "it has no rows")
    if reading.take:
        values = [TAKES[reading.take](np.array(values))]
    line, row = own[0]
    return _found(reading, values, line, *_cell(reading, text, line, row, place))


def _cell(reading: Reading, text: str, line: int, row: Sequence[str], place: int) -> tuple[str, Field]:
    """Return the line of a row, and where its cell stands in it, when that can be told."""
    lines = text.splitlines()
    whole = lines[line - 1] if line <= len(lines) else ""
    if whole != reading.delimiter.join(row):  # quoted cells, or cells of several lines
        return whole or reading.delimiter.join(row), Field("", 0, 0)
    first = sum(len(cell) + 1 for cell in row[:place])
    first += len(row[place]) - len(row[place].lstrip())
    own = row[place].strip()
    return whole, Field(own, first, first + len(own))
