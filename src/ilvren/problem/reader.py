"""TOML text → declarations: keys, types and names checked, each refusal with its file and line."""

from __future__ import annotations

import math
import re
import tomllib
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import NoReturn

from ilvren.errors import ProblemError, nearest
from ilvren.formula import RESERVED_NAMES
from ilvren.problem.entries import Declarations, EntryDeclaration, Source, Value, VariableDeclaration
from ilvren.problem.positions import Positions

__all__ = ["read_file", "read_text"]

# Formula files are kilobytes; beyond this it is some other file.
MOST_BYTES = 50_000_000

SECTIONS = ("variables", "parameters", "derived", "minimize", "maximize", "constraints")
LATER_SECTIONS = {
    "tables": "tables of data",
    "models": "Python models",
    "fit": "data fitting",
}
VARIABLE_KEYS = ("start", "lower", "upper", "magnitude", "spacing", "catalogue", "unit", "about")
_KEYS = {
    "parameters": ("value", "formula", "unit", "about"),
    "derived": ("formula", "unit", "about"),
    "minimize": ("formula", "unit", "about", "magnitude"),
    "maximize": ("formula", "unit", "about", "magnitude"),
    "constraints": ("formula", "unit", "about", "magnitude"),
}
_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")


def read_file(path: str | Path) -> Declarations:
    """Read a problem file. Raises ProblemError."""
    path = Path(path)
    try:
        if path.is_dir():
            raise ProblemError("is a folder, not a problem file", file=str(path))
        if path.stat().st_size > MOST_BYTES:
            raise ProblemError("is too large for a problem file", file=str(path))
        text = path.read_bytes().decode("utf-8-sig")
    except FileNotFoundError:
        close = nearest(path.name, _toml_names(path.parent))
        advice = f'did you mean "{path.parent / close}"?' if close else "`ilvren new FILE` writes a starter"
        raise ProblemError("no such file", file=str(path), advice=advice) from None
    except UnicodeDecodeError as error:
        raise ProblemError(f"is not UTF-8 text (byte {error.start})", file=str(path)) from None
    except OSError as error:
        raise ProblemError(f"cannot be read: {error.strerror}", file=str(path)) from None
    return read_text(text, file=str(path))


def _toml_names(folder: Path) -> list[str]:
    try:
        return [entry.name for entry in folder.iterdir() if entry.suffix == ".toml"]
    except OSError:
        return []


def read_text(text: str, *, file: str = "<text>") -> Declarations:
    """Read the text of a problem file; `file` is its name in messages. Raises ProblemError."""
    try:
        document = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise _not_toml(text, file, str(error)) from None
    except RecursionError:
        raise ProblemError("is nested too deep for TOML", file=file) from None
    if not document:
        raise ProblemError(
            "the file is empty", file=file, advice="`ilvren new FILE` writes a commented starter problem"
        )
    return _Reader(document, Source(text, file, Positions(text))).declarations()


def _not_toml(text: str, file: str, message: str) -> ProblemError:
    found = re.search(r"\(at line (\d+), column (\d+)\)", message)
    line = int(found.group(1)) if found else None
    lines = text.splitlines()
    if line is None and "end of document" in message:
        line = len(lines)
    source = lines[line - 1] if line and line <= len(lines) else None
    span = None
    if found and source is not None:
        column = min(int(found.group(2)) - 1, max(len(source) - 1, 0))
        span = (column, column + 1)
    reason = message.split(" (at ")[0]
    return ProblemError(
        f"is not valid TOML: {reason[:1].lower()}{reason[1:]}",
        file=file,
        line=line,
        text=source,
        span=span,
        advice='formulas stand in quotes: cost = "2 * bore"',
    )


class _Reader:
    def __init__(self, document: Mapping[str, object], source: Source) -> None:
        self.document = document
        self.source = source
        self.taken: dict[str, str] = {}

    def fail(self, path: tuple[str, ...], message: str, advice: str | None = None) -> NoReturn:
        line = self.source.line(*path)
        raise ProblemError(
            message,
            file=self.source.file,
            line=line,
            where=".".join(path),
            text=self.source.positions.source(line),
            advice=advice,
        )

    def declarations(self) -> Declarations:
        self.check_sections()
        variables = tuple(self.variable(name, content) for name, content in self.section("variables").items())
        entries = {
            section: tuple(self.entry(section, name, content) for name, content in self.section(section).items())
            for section in SECTIONS[1:]
        }
        objectives = entries["minimize"] + entries["maximize"]
        if not variables:
            path = ("variables",) if "variables" in self.document else ()
            self.fail(path, "the file has no variables", "write for example  x = { start = 1.0 }  below [variables]")
        if len(objectives) > 1:
            second = objectives[1]
            self.fail(
                (second.section, second.name),
                f'a second objective beside "{objectives[0].name}"; trade-offs between several objectives'
                " are not part of this version",
                "keep one objective and write the others as constraints, or weigh them in one formula",
            )
        if not objectives and not entries["constraints"]:
            self.fail(
                (),
                "neither an objective nor a constraint: nothing is asked",
                "add [minimize], [maximize] or [constraints]",
            )
        return Declarations(
            self.source,
            self.text_of("title"),
            self.text_of("about"),
            variables,
            entries["parameters"],
            entries["derived"],
            objectives,
            entries["constraints"],
        )

    def check_sections(self) -> None:
        for key in self.document:
            if key in LATER_SECTIONS:
                content = self.document[key]
                path = (key, next(iter(content))) if isinstance(content, dict) and content else (key,)
                self.fail(path, f"[{key}]: {LATER_SECTIONS[key]} are not part of this version")
            if key not in (*SECTIONS, "title", "about"):
                self.unknown_key((key,), key, (*SECTIONS, "title", "about"), "section")

    def unknown_key(self, path: tuple[str, ...], key: str, known: Iterable[str], what: str) -> NoReturn:
        close = nearest(key, known)
        advice = f'did you mean "{close}"?' if close else "known: " + ", ".join(known)
        self.fail(path, f'unknown {what} "{key}"', advice)

    def text_of(self, key: str) -> str:
        value = self.document.get(key, "")
        if not isinstance(value, str):
            self.fail((key,), f'"{key}" must be text')
        return value

    def section(self, name: str) -> Mapping[str, object]:
        content = self.document.get(name, {})
        if not isinstance(content, dict):
            self.fail((name,), f'"{name}" must be a section: write [{name}]')
        return content

    def check_name(self, section: str, name: str) -> None:
        path = (section, name)
        if not _NAME.fullmatch(name):
            self.fail(path, f'"{name}" is not a name', "names have ASCII letters, digits and _, and no digit first")
        if name in RESERVED_NAMES:
            self.fail(path, f'"{name}" is reserved: formulas know it already')
        if name in self.taken:
            self.fail(path, f'the name "{name}" is used twice, here and in [{self.taken[name]}]')
        self.taken[name] = section

    def variable(self, name: str, content: object) -> VariableDeclaration:
        self.check_name("variables", name)
        path = ("variables", name)
        if isinstance(content, (int, float, str)) and not isinstance(content, bool):
            content = {"start": content}
        if not isinstance(content, dict):
            self.fail(path, "a variable is a table such as { start = 1.0, lower = 0.0 }, or its start")
        if "shape" in content:
            self.fail((*path, "shape"), "vector variables are not part of this version", "give each element a name")
        for key in content:
            if key not in VARIABLE_KEYS:
                self.unknown_key((*path, key), key, VARIABLE_KEYS, "key")
        catalogue = content.get("catalogue")
        if isinstance(catalogue, str):
            self.fail(path, "a catalogue from a table: tables are not part of this version", "write the list")
        if catalogue is not None:
            if not isinstance(catalogue, list) or not catalogue:
                self.fail(path, "a catalogue is a list of numbers")
            catalogue = tuple(self.value((*path, "catalogue"), item) for item in catalogue)
        return VariableDeclaration(
            name,
            catalogue=catalogue,
            unit=self.word(path, content, "unit"),
            about=self.word(path, content, "about"),
            **{
                key: self.value((*path, key), content[key])
                for key in ("start", "lower", "upper", "magnitude", "spacing")
                if key in content
            },
        )

    def entry(self, section: str, name: str, content: object) -> EntryDeclaration:
        self.check_name(section, name)
        path = (section, name)
        if not isinstance(content, dict):
            content = {"formula": content}
        for key in content:
            if key not in _KEYS[section]:
                self.unknown_key((*path, key), key, _KEYS[section], "key")
        given = [key for key in ("formula", "value") if key in content]
        if len(given) != 1:
            self.fail(path, "needs a formula" if not given else 'has both "formula" and "value"')
        formula = self.value((*path, given[0]), content[given[0]])
        magnitude = content.get("magnitude")
        return EntryDeclaration(
            section,
            name,
            formula,
            self.word(path, content, "unit"),
            self.word(path, content, "about"),
            None if magnitude is None else self.value((*path, "magnitude"), magnitude),
        )

    def word(self, path: tuple[str, ...], content: Mapping[str, object], key: str) -> str:
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
            self.fail(path, "a list: vectors are not part of this version")
        if isinstance(content, bool) or not isinstance(content, (int, float)):
            self.fail(path, f"a number or a formula in quotes is expected, not {content!r}")
        try:
            number = float(content)
        except OverflowError:
            self.fail(path, "a number too large for double precision")
        if math.isnan(number):
            self.fail(path, "nan is not a value")
        return number
