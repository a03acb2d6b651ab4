"""[models.NAME] with a command: keys and types of what is written, run and read. Nothing is run or looked up here."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from pathlib import PurePosixPath
from typing import TYPE_CHECKING, Any

from ilvren.models.program import KEEPS, TAKES
from ilvren.problem.entries import Value
from ilvren.problem.model_declarations import DeckDeclaration, ModelDeclaration, ProgramDeclaration, ReadDeclaration

if TYPE_CHECKING:
    from ilvren.problem.document import Document

__all__ = ["PROGRAM_KEYS", "read_program"]

PROGRAM_KEYS = (
    "command",
    "files",
    "link",
    "inputs",
    "write",
    "read",
    "slopes",
    "timeout",
    "retries",
    "parallel",
    "environment",
    "failed",
    "success",
    "keep",
    "repeatable",
    "derivatives",
)
DECK_KEYS = ("template", "base", "put")
PUT_KEYS = ("after", "pattern", "line", "field", "columns", "which")
READ_KEYS = (
    "file",
    "after",
    "pattern",
    "line",
    "pointer",
    "column",
    "field",
    "columns",
    "which",
    "within",
    "row",
    "take",
    "shape",
    "unit",
    "about",
    "delimiter",
    "decimal",
)
# What a place may be found by, and what each of them takes beside it.
_WAYS = {
    "after": ("field", "which", "within"),
    "pattern": ("which",),
    "line": ("field", "columns"),
    "pointer": (),
    "column": ("row", "take", "delimiter", "decimal"),
}
_PUT_WAYS = {"after": ("field", "which"), "pattern": ("which",), "line": ("field", "columns")}
_FAILED_KEYS = ("file", "pattern")
_PROGRAM_DERIVATIVES = ("differences", "forward-differences")
_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")

Path = tuple[str, ...]


def read_program(reader: Document, name: str, content: Mapping[str, object]) -> ModelDeclaration:
    """Return the declaration of a model that is a program. Raises ProblemError."""
    path = ("models", name)
    for key in content:
        if key not in PROGRAM_KEYS:
            reader.unknown_key((*path, key), key, PROGRAM_KEYS, "key of a model with a command")
    own = _Program(reader, path)
    commands = own.commands(content.get("command"))
    decks = own.decks(content.get("write", {}))
    shapes, reads = own.reads(content.get("read"))
    slopes = own.slopes(content.get("slopes", {}), shapes)
    word = reader.word(path, content, "derivatives") or ("supplied" if slopes else "differences")
    if word not in (*_PROGRAM_DERIVATIVES, *(("supplied",) if slopes else ())):
        reader.unknown_key(
            (*path, "derivatives"), word, _PROGRAM_DERIVATIVES, "source of derivatives of a model with a command"
        )
    keep = reader.word(path, content, "keep") or "failed"
    if keep not in KEEPS:
        reader.unknown_key((*path, "keep"), keep, KEEPS, "word for the folders that stay")
    inputs = content.get("inputs", {})
    if not isinstance(inputs, dict):
        reader.fail((*path, "inputs"), '"inputs" gives formulas to names: { peak = "max(rise)" }')
    program = ProgramDeclaration(
        commands=commands,
        decks=decks,
        reads=reads,
        slopes=slopes,
        files=own.names((*path, "files"), content.get("files", [])),
        links=own.names((*path, "link"), content.get("link", [])),
        environment=own.environment(content.get("environment", {})),
        failures=own.failures(content.get("failed", [])),
        success=own.success(content.get("success", [0])),
        parallel=own.whole("parallel", content.get("parallel"), 1, "most calls at the same time"),
        keep=keep,
    )
    return ModelDeclaration(
        name=name,
        python="",
        inputs={key: reader.value((*path, "inputs"), item) for key, item in inputs.items()},
        outputs=shapes,
        bands={},
        timeout=reader.timeout(path, content),
        depends=(),
        derivatives=word,
        slopes="",
        retries=own.whole("retries", content.get("retries", 0), 0, "how often a failed call is tried again") or 0,
        repeatable=reader.repeatable(path, content),
        program=program,
        units={key: read.unit for key, read in reads.items()},
    )


class _Program:
    def __init__(self, reader: Document, path: Path) -> None:
        self.reader = reader
        self.path = path

    def commands(self, content: object) -> tuple[tuple[str, ...], ...]:
        path = (*self.path, "command")
        lists = [content] if isinstance(content, list) and content and isinstance(content[0], str) else content
        if not (isinstance(lists, list) and lists and all(_is_command(one) for one in lists)):
            what = (
                '"command" is a list of a program and its arguments: ["./network", "deck.txt"], or a list of such lists'
            )
            advice = "there is no shell: each argument is an item of its own" if isinstance(content, str) else None
            self.reader.fail(path, what, advice)
        return tuple(tuple(one) for one in lists)

    def names(self, path: Path, content: object) -> tuple[str, ...]:
        if not isinstance(content, list) or not all(isinstance(item, str) and item for item in content):
            self.reader.fail(path, f'"{path[-1]}" lists the names of files')
        return tuple(content)

    def environment(self, content: object) -> dict[str, str]:
        path = (*self.path, "environment")
        if not isinstance(content, dict) or not all(isinstance(value, (str, int, float)) for value in content.values()):
            self.reader.fail(path, '"environment" gives texts to variables: { THREADS = "1" }')
        return {key: str(value) for key, value in content.items()}

    def failures(self, content: object) -> tuple[tuple[str, str], ...]:
        path = (*self.path, "failed")
        found = []
        for item in content if isinstance(content, list) else [content]:
            item = self.reader.checked_keys(path, item, _FAILED_KEYS)
            file, pattern = self.reader.word(path, item, "file"), self.reader.word(path, item, "pattern")
            if not file or not pattern:
                self.reader.fail(path, '"failed" needs a file and a pattern: { file = "listing.txt", pattern = "…" }')
            self.expression(path, pattern)
            found.append((file, pattern))
        return tuple(found)

    def success(self, content: object) -> tuple[int, ...]:
        numbers = content if isinstance(content, list) else [content]
        if not numbers or not all(isinstance(item, int) and not isinstance(item, bool) for item in numbers):
            self.reader.fail((*self.path, "success"), '"success" lists the statuses of a call that worked: [0, 2]')
        return tuple(numbers)

    def whole(self, key: str, content: object, least: int, what: str) -> int | None:
        if content is None:
            return None
        if isinstance(content, bool) or not isinstance(content, int) or content < least:
            self.reader.fail((*self.path, key), f'"{key}" is a whole number from {least}: {what}')
        return content

    def inside(self, path: Path, name: str) -> str:
        own = PurePosixPath(name)
        if not name or own.is_absolute() or ".." in own.parts or name.endswith("/"):
            self.reader.fail(path, f'"{name}" is outside the folder of a call', "files are written and read inside it")
        return str(own)

    def expression(self, path: Path, pattern: str, groups: int | None = None) -> None:
        try:
            compiled = re.compile(pattern)
        except re.error as error:
            self.reader.fail(path, f"the pattern /{pattern}/ is no regular expression: {error}")
        if groups is not None and compiled.groups != groups:
            advice = r"the number stands in the group: 'MASS\s+(\S+)'; (?: … ) groups without taking"
            self.reader.fail(path, f"the pattern /{pattern}/ has {compiled.groups} groups, one is needed", advice)

    # ---- writing --------------------------------------------------------------------------------

    def decks(self, content: object) -> tuple[DeckDeclaration, ...]:
        path = (*self.path, "write")
        if not isinstance(content, dict):
            self.reader.fail(path, f'write a section for each deck: [{".".join(path)}."deck.txt"]')
        return tuple(self.deck((*path, target), target, facts) for target, facts in content.items())

    def deck(self, path: Path, target: str, content: object) -> DeckDeclaration:
        content = self.reader.checked_keys(path, content, DECK_KEYS)
        target = self.inside(path, target)
        template, base = self.reader.word(path, content, "template"), self.reader.word(path, content, "base")
        if bool(template) == bool(base):
            own = (*path, "template") if template else path
            self.reader.fail(own, 'a deck has either a "template", or a "base" with "put"')
        if template:
            if "put" in content:
                self.reader.fail((*path, "put"), '"put" replaces numbers of a "base"; a template names its values')
            return DeckDeclaration(target, template, True, {})
        puts = content.get("put")
        if not isinstance(puts, dict) or not puts:
            self.reader.fail(path, 'a "base" needs "put": { speed = { after = "SHAFT SPEED" } }')
        return DeckDeclaration(
            target, base, False, {name: self.put((*path, "put", name), facts) for name, facts in puts.items()}
        )

    def put(self, path: Path, content: object) -> dict[str, Any]:
        content = self.reader.checked_keys(path, content, PUT_KEYS)
        return self.place(path, content, _PUT_WAYS)

    def place(self, path: Path, content: Mapping[str, object], ways: Mapping[str, tuple[str, ...]]) -> dict[str, Any]:
        given = [way for way in ways if way in content]
        if len(given) != 1:
            has = " and ".join(f'"{way}"' for way in given) or "none"
            self.reader.fail(path, f"a place is given by one of {', '.join(ways)}; here: {has}")
        way = given[0]
        common = ("file", "shape", "unit", "about")
        for key in content:
            if key not in (way, *ways[way], *common):
                with_it = ", ".join(ways[way]) or "nothing"
                self.reader.fail((*path, key), f'"{key}" does not go with "{way}", which takes {with_it}')
        found: dict[str, Any] = {}
        checks: dict[str, Callable[[Path, object], Any]] = {
            "after": self._text,
            "pattern": self._pattern,
            "line": self._line,
            "field": self._count,
            "within": self._count,
            "columns": self._columns,
            "which": self._which,
            "pointer": self._pointer,
            "column": self._text,
            "row": self._row,
            "take": self._take,
            "delimiter": self._character,
            "decimal": self._character,
        }
        for key, check in checks.items():
            if key in content:
                found[key] = check((*path, key), content[key])
        if way == "line":
            if "field" in found and "columns" in found:
                self.reader.fail(path, 'a number in a line is given by its "field" or by its "columns", not by both')
            if "columns" not in found:
                found.setdefault("field", 1)
        return found

    # ---- one key of a place -----------------------------------------------------------------------

    def _text(self, path: Path, value: object) -> str:
        if not isinstance(value, str) or not value.strip():
            self.reader.fail(path, f'"{path[-1]}" is a text')
        return value

    def _pattern(self, path: Path, value: object) -> str:
        text = self._text(path, value)
        self.expression(path, text, 1)
        return text

    def _line(self, path: Path, value: object) -> int:
        if isinstance(value, bool) or not isinstance(value, int) or value == 0:
            self.reader.fail(path, '"line" is a number from 1, or from the end: -1, -2 …')
        return value

    def _count(self, path: Path, value: object) -> int:
        if isinstance(value, bool) or not isinstance(value, int) or value < 1:
            self.reader.fail(path, f'"{path[-1]}" is a whole number from 1')
        return value

    def _columns(self, path: Path, value: object) -> tuple[int, int]:
        is_pair = isinstance(value, list) and len(value) == 2 and all(type(item) is int for item in value)
        if not is_pair or not 1 <= value[0] <= value[1]:  # type: ignore[index]
            self.reader.fail(path, '"columns" are the first and the last character: [11, 20]')
        assert isinstance(value, list)
        return value[0], value[1]

    def _which(self, path: Path, value: object) -> str | int:
        if value in ("first", "last"):
            return str(value)
        if isinstance(value, bool) or not isinstance(value, int) or value < 1:
            self.reader.fail(path, '"which" is "first", "last" or the number of an occurrence, from 1')
        return value

    def _pointer(self, path: Path, value: object) -> str:
        if not isinstance(value, str) or (value and not value.startswith("/")):
            self.reader.fail(path, 'a pointer is "" or begins with a slash: "/pipes/mass" (RFC 6901)')
        return value

    def _row(self, path: Path, value: object) -> dict[str, str]:
        if (
            not isinstance(value, dict)
            or not value
            or not all(isinstance(v, (str, int, float)) for v in value.values())
        ):
            self.reader.fail(path, '"row" is the row with this cell: { node = "T3" }')
        return {key: str(cell) for key, cell in value.items()}

    def _take(self, path: Path, value: object) -> str:
        if not isinstance(value, str) or value not in TAKES:
            self.reader.unknown_key(path, str(value), TAKES, "way to take one number of a column")
        return value

    def _character(self, path: Path, value: object) -> str:
        if not isinstance(value, str) or len(value) != 1:
            self.reader.fail(path, f'"{path[-1]}" is one character')
        return value

    # ---- reading --------------------------------------------------------------------------------

    def reads(self, content: object) -> tuple[dict[str, Value | None], dict[str, ReadDeclaration]]:
        path = (*self.path, "read")
        if not isinstance(content, dict) or not content:
            self.reader.fail(
                path if content is not None else self.path,
                f"needs [{'.'.join(path)}]: what comes out, and where it stands",
                'for example  loss = { file = "listing.txt", after = "TOTAL HEAD LOSS" }',
            )
        shapes: dict[str, Value | None] = {}
        found = {}
        for name, facts in content.items():
            if not _NAME.fullmatch(name):
                self.reader.fail((*path, name), f'"{name}" is not a name')
            found[name], shapes[name] = self.reading((*path, name), facts)
        return shapes, found

    def reading(self, path: Path, content: object) -> tuple[ReadDeclaration, Value | None]:
        content = self.reader.checked_keys(path, content, READ_KEYS)
        file = self.reader.word(path, content, "file")
        if not file:
            self.reader.fail(path, 'needs a "file"; "stdout" and "stderr" are the program\'s own output')
        place = self.place(path, content, _WAYS)
        shape = self.reader.value((*path, "shape"), content["shape"]) if "shape" in content else None
        if shape is not None and ("take" in place or "row" in place):
            self.reader.fail((*path, "shape"), 'one "row", or one number "take"n of a column, has no shape')
        if "column" in place and shape is None and not ("take" in place or "row" in place):
            self.reader.fail(
                path, f'a column is a vector: "{place["column"]}" needs a shape, a row, or take = "min", "max" …'
            )
        unit, about = self.reader.word(path, content, "unit"), self.reader.word(path, content, "about")
        return ReadDeclaration(self.inside((*path, "file"), file), place, unit, about), shape

    def slopes(self, content: object, shapes: Mapping[str, object]) -> dict[tuple[str, str], ReadDeclaration | float]:
        path = (*self.path, "slopes")
        if not isinstance(content, dict):
            self.reader.fail(
                path, '"slopes" says where derivatives stand: { loss = { trunk = { file = …, after = … } } }'
            )
        found: dict[tuple[str, str], ReadDeclaration | float] = {}
        for output, by in content.items():
            if output not in shapes:
                self.reader.unknown_key((*path, output), output, shapes, "output")
            if not isinstance(by, dict):
                self.reader.fail((*path, output), "slopes of an output are given by input: { trunk = { file = … } }")
            for name, place in by.items():
                if isinstance(place, (int, float)) and not isinstance(place, bool):
                    found[output, name] = float(place)
                    continue
                read, shape = self.reading((*path, output, name), place)
                if shape is not None:
                    self.reader.fail(
                        (*path, output, name), "slopes have the shape of the output and of the input: leave it out"
                    )
                found[output, name] = read
        return found


def _is_command(one: object) -> bool:
    return isinstance(one, list) and bool(one) and all(isinstance(item, str) for item in one) and bool(one[0].strip())
