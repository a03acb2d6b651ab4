"""Where a number stands in a deck or listing, as entries that find it again.

A place is told by the text before it on its line (words only: numbers there would change with the design) and the
number's place behind it; where there is no text, by line and field, or by columns where numbers touch; in JSON
documents by pointer, in CSV files by column and row. Every entry is tried: it finds this number and no other.
"""

from __future__ import annotations

import csv
import io
import json
import math
import re
from collections.abc import Iterator, Sequence
from decimal import Decimal
from typing import Any

from ilvren.models.program.numbers import NUMBER, Field, as_number, fields
from ilvren.models.program.reading import Missing, Reading, blank_pattern, found_in
from ilvren.models.program.writing import CannotWrite, Put, placed_at
from ilvren.records import dataclass

__all__ = ["Located", "entry_text", "in_order", "located", "nearest_numbers"]

# What may stand between a text and its number.
_SEPARATORS = " \t:=,;([<>|"
# A text that is no longer than SHORT_TEXT is lengthened where it can be: it may be clear today and not tomorrow; one of
# up to so many words and characters is taken whole.
SHORT_TEXT, MOST_WORDS, LONG_TEXT = 3, 4, 40
MOST_ABOVE = 2


@dataclass(frozen=True)
class Located:
    """A place of a number: `line` from 1 (0 in a JSON document), its `text`, the characters [first, last) there,
    whether it `is_exact` or the number to its digits only, and the facts of an entry for `put` (None where a deck of
    this kind takes none) and for `read`."""

    file: str
    line: int
    text: str
    first: int
    last: int
    is_exact: bool
    put: dict[str, Any] | None
    read: dict[str, Any]


def located(file: str, text: str, wanted: Sequence[str]) -> list[Located]:
    """Return all places of a number, or of several that follow each other, as written; exact ones first, of those that
    are right to their digits."""
    found = list(_in_json(file, text, wanted) or _in_table(file, text, wanted) or _in_lines(file, text, wanted))
    return in_order(found)


def in_order(places: Sequence[Located]) -> list[Located]:
    """Return places, the surest first."""
    return sorted(places, key=_doubt)


def _doubt(place: Located) -> tuple[bool, int]:
    """Return what makes a place less likely to be meant, or to be found again."""
    facts = place.read
    kinds = ("columns" in facts, "line" in facts, "which" in facts, "within" in facts)
    return not place.is_exact, sum(weight for weight, is_so in zip((8, 4, 2, 1), kinds, strict=True) if is_so)


def entry_text(facts: dict[str, Any], *, file: str = "") -> str:
    """Return an entry as TOML writes it in a line."""
    own = {"file": file, **facts} if file else facts
    return "{ " + ", ".join(f"{key} = {_toml(value)}" for key, value in own.items()) + " }"


def _toml(value: Any) -> str:
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{_key(key)} = {_toml(item)}" for key, item in value.items()) + " }"
    if isinstance(value, (list, tuple)):
        return "[" + ", ".join(_toml(item) for item in value) + "]"
    if isinstance(value, str):
        return json.dumps(value, ensure_ascii=False)
    return str(value)


def _key(name: str) -> str:
    return name if re.fullmatch(r"[A-Za-z0-9_-]+", name) else json.dumps(name, ensure_ascii=False)


def nearest_numbers(text: str, wanted: str, most: int = 3) -> list[str]:
    """Return the numbers of a text that are nearest to one, as they are written there."""
    value, known = float(wanted), dict[str, float]()
    for match in NUMBER.finditer(text):
        number = as_number(match.group())
        if number is not None:
            known[match.group()] = number
    order = sorted(known, key=lambda word: abs(known[word] - value))
    return order[:most]


def _agrees(found: float, wanted: str) -> tuple[bool, bool]:
    """Return whether a number is the one wanted to its digits, and whether exactly."""
    value = float(wanted)
    if found == value:
        return True, True
    exponent = Decimal(wanted).as_tuple().exponent
    half = 0.5 * 10.0**exponent if isinstance(exponent, int) else 0.0
    return abs(found - value) <= half * (1.0 + 1e-9), False


# ---- text by lines -------------------------------------------------------------------------------


def _tokens(line: str) -> list[Field]:
    """Return the numbers of a line, those that touch apart."""
    found = []
    for match in NUMBER.finditer(line):
        before = line[match.start() - 1 : match.start()]
        behind = line[match.end() : match.end() + 1]
        is_in_word = (
            before.isalpha() or before == "_" or (behind == "_") or (behind.isalpha() and "." not in match.group())
        )
        if not is_in_word:
            found.append(Field(match.group(), match.start(), match.end()))
    return found


def _in_lines(file: str, text: str, wanted: Sequence[str]) -> Iterator[Located]:
    lines = text.splitlines()
    numbers = [(k, token) for k, line in enumerate(lines) for token in _tokens(line)]
    for place, (k, token) in enumerate(numbers):
        run = numbers[place : place + len(wanted)]
        if len(run) < len(wanted):
            return
        agreed = [_agrees(as_number(one.text) or 0.0, word) for (_, one), word in zip(run, wanted, strict=True)]
        if all(is_there for is_there, _ in agreed):
            put, read = _entries(file, text, lines, k, token, len(wanted))
            yield Located(file, k + 1, lines[k], token.first, token.last, all(e for _, e in agreed), put, read)


def _entries(
    file: str, text: str, lines: list[str], k: int, token: Field, count: int
) -> tuple[dict[str, Any] | None, dict[str, Any]]:
    """Return facts for `put` and for `read` that find this number: the first of those that do."""
    shape = {} if count == 1 else {"shape": count}
    put: dict[str, Any] | None = None
    for facts in _candidates(lines, k, token):
        if put is None and "within" not in facts and _puts(text, facts, k, token, count):
            put = facts
        if _reads(file, text, facts | shape, k, token):
            return put if put is not None else _first_put(text, lines, k, token, count), facts | shape
    facts = {"line": k + 1, "columns": [token.first + 1, token.last]}
    return put or facts, facts


def _first_put(text: str, lines: list[str], k: int, token: Field, count: int) -> dict[str, Any] | None:
    for facts in _candidates(lines, k, token):
        if "within" not in facts and _puts(text, facts, k, token, count):
            return facts
    return None


def _candidates(lines: list[str], k: int, token: Field) -> Iterator[dict[str, Any]]:
    yield from _by_text(lines, k, token)
    own = fields(lines[k])
    for number, field in enumerate(own, start=1):
        if (field.first, field.last) == (token.first, token.last):
            yield {"line": k + 1, "field": number}
    yield {"line": k + 1, "columns": [token.first + 1, token.last]}


def _by_text(lines: list[str], k: int, token: Field) -> Iterator[dict[str, Any]]:
    """Yield entries by a text before the number: right before it, else at the beginning of its line, else above a line
    that begins with numbers; texts that stand in one place only first."""
    numbers = [other for other in _tokens(lines[k]) if other.first <= token.first]
    ends = [0, *(other.last for other in numbers)]
    labels = []  # (text, the number's place behind it)
    for place in range(len(numbers) - 1, -1, -1):
        words = lines[k][ends[place] : numbers[place].first].rstrip(_SEPARATORS)
        if words.strip(_SEPARATORS + "-+*/."):
            labels.append((words, len(numbers) - place))
    chosen = labels[:1] + (labels[-1:] if len(labels) > 1 else [])
    for label, field in chosen:
        yield from _unique(lines, label, {"field": field} if field > 1 else {})
    if not labels:
        for above in range(1, MOST_ABOVE + 1):
            if k - above >= 0 and lines[k - above].strip() and not _tokens(lines[k - above]):
                field = len(numbers)
                facts = {"field": field, "within": above + 1} if field > 1 else {"within": above + 1}
                yield from _unique(lines, lines[k - above], facts)
                break
    for label, field in chosen:
        yield from _counted(lines, k, label, {"field": field} if field > 1 else {})


def _words(label: str) -> list[str]:
    words = label.split()
    while words and not re.search(r"[^\W\d_]", words[-1]):  # signs and lines say nothing
        words = words[:-1]
    return words


def _unique(lines: list[str], label: str, facts: dict[str, Any]) -> Iterator[dict[str, Any]]:
    """Yield the entry by a label that stands nowhere else: whole where it is short, else the shortest end of it."""
    words, whole = _words(label), "\n".join(lines)
    is_short = len(words) <= MOST_WORDS and len(" ".join(words)) <= LONG_TEXT
    for count in (len(words),) if is_short else range(1, len(words) + 1):
        text = " ".join(words[-count:])
        if text and (len(text) > SHORT_TEXT or count == len(words)) and len(blank_pattern(text).findall(whole)) == 1:
            yield {"after": text, **facts}
            return


def _counted(lines: list[str], k: int, label: str, facts: dict[str, Any]) -> Iterator[dict[str, Any]]:
    """Yield the entry by a label that stands in several places, with its occurrence."""
    text = " ".join(_words(label))
    if text:
        places = [i for i, line in enumerate(lines) for _ in blank_pattern(text).finditer(line)]
        for number, place in enumerate(places, start=1):
            if place == k:
                which = "last" if number == len(places) and number > 2 else number
                yield {"after": text, "which": which, **facts}


def _reads(file: str, text: str, facts: dict[str, Any], k: int, token: Field) -> bool:
    try:
        found = found_in(_reading(file, facts), text)
    except Missing:
        return False
    return (found.line, found.first, found.last) == (k + 1, token.first, token.last)


def _reading(file: str, facts: dict[str, Any]) -> Reading:
    own = dict(facts)
    shape = own.pop("shape", ())
    if "columns" in own:
        own["columns"] = tuple(own["columns"])
    return Reading(name="x", file=file, shape=(shape,) if isinstance(shape, int) else tuple(shape), **own)


def _puts(text: str, facts: dict[str, Any], k: int, token: Field, count: int) -> bool:
    own = {**facts, "columns": tuple(facts["columns"])} if "columns" in facts else facts
    try:
        line, there = placed_at(text, Put("x", **own), count)[0]
    except CannotWrite:
        return False
    return line == k + 1 and there.strip() == token.text


# ---- JSON and CSV --------------------------------------------------------------------------------


def _in_json(file: str, text: str, wanted: Sequence[str]) -> list[Located]:
    if not text.lstrip().startswith(("{", "[")):
        return []
    try:
        document = json.loads(text)
    except ValueError:
        return []
    found = []
    for pointer, value in _leaves(document, ""):
        own = value if isinstance(value, list) else [value]
        if len(own) == len(wanted):
            agreed = [_agrees(float(item), word) for item, word in zip(own, wanted, strict=True)]
            if all(is_there for is_there, _ in agreed):
                facts = {"pointer": pointer} | ({"shape": len(wanted)} if len(wanted) > 1 else {})
                line = f"{pointer} = {json.dumps(value)}"
                at = len(line) - len(json.dumps(value))
                found.append(Located(file, 0, line, at, len(line), all(e for _, e in agreed), None, facts))
    return found


def _leaves(value: Any, pointer: str) -> Iterator[tuple[str, Any]]:
    if isinstance(value, dict):
        for key, item in value.items():
            yield from _leaves(item, f"{pointer}/{key.replace('~', '~0').replace('/', '~1')}")
    elif isinstance(value, list):
        if value and all(_is_number(item) for item in value):
            yield pointer, value
        for place, item in enumerate(value):
            yield from _leaves(item, f"{pointer}/{place}")
    elif _is_number(value):
        yield pointer, value


def _is_number(value: Any) -> bool:
    return isinstance(value, (int, float)) and not isinstance(value, bool) and math.isfinite(value)


def _in_table(file: str, text: str, wanted: Sequence[str]) -> list[Located]:
    """Return places in a CSV file with a header of names; [] for what is none."""
    lines = text.splitlines()
    delimiter = next((sign for sign in (",", ";", "\t") if lines and sign in lines[0]), "")
    if not delimiter:
        return []
    rows = list(csv.reader(io.StringIO(text), delimiter=delimiter))
    head = [cell.strip() for cell in rows[0]]
    is_table = len(rows) > 1 and all(len(row) in (0, len(head)) for row in rows) and len(set(head)) == len(head)
    if not is_table or any(not cell or as_number(cell) is not None for cell in head):
        return []
    more = {} if delimiter == "," else {"delimiter": delimiter}
    body = [row for row in rows[1:] if row]
    if len(wanted) > 1:
        return _columns(file, lines, head, body, wanted, more)
    found = []
    for number, row in enumerate(rows[1:], start=2):
        for place, cell in enumerate(row):
            value = as_number(cell.strip())
            agreed = (False, False) if value is None else _agrees(value, wanted[0])
            if agreed[0]:
                at = sum(len(own) + 1 for own in row[:place])
                facts = {"column": head[place], **_row_or_take(head, body, row, place), **more}
                whole = lines[number - 1] if number <= len(lines) else delimiter.join(row)
                found.append(Located(file, number, whole, at, at + len(cell), agreed[1], None, facts))
    return found


def _row_or_take(head: list[str], body: list[list[str]], row: list[str], place: int) -> dict[str, Any]:
    """Return what names one row: the cell of a column whose cells all differ, a word before a number."""
    order = sorted(range(len(head)), key=lambda column: (as_number(row[column].strip()) is not None, column))
    for column in order:
        cells = [own[column].strip() for own in body]
        if column != place and cells.count(row[column].strip()) == 1:
            return {"row": {head[column]: row[column].strip()}}
    return {"take": "last"} if row is body[-1] else {"take": "first"}


def _columns(
    file: str, lines: list[str], head: list[str], body: list[list[str]], wanted: Sequence[str], more: dict[str, Any]
) -> list[Located]:
    found = []
    for place, name in enumerate(head):
        values = [as_number(row[place].strip()) for row in body]
        if len(values) == len(wanted) and None not in values:
            agreed = [_agrees(value or 0.0, word) for value, word in zip(values, wanted, strict=True)]
            if all(is_there for is_there, _ in agreed):
                facts = {"column": name, "shape": len(wanted), **more}
                found.append(Located(file, 2, lines[1], 0, 0, all(e for _, e in agreed), None, facts))
    return found
