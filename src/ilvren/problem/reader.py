"""TOML text → declarations: keys, types and names checked, each refusal with its file and line."""

from __future__ import annotations

import json
import math
import re
import tomllib
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ilvren.errors import ProblemError, nearest
from ilvren.formula import SCATTER_FUNCTIONS
from ilvren.problem.document import NAME, Document
from ilvren.problem.entries import (
    CaseDeclaration,
    Declarations,
    EntryDeclaration,
    FitDeclaration,
    Source,
    TableDeclaration,
    TableForm,
    Value,
    VariableDeclaration,
)
from ilvren.problem.positions import Positions
from ilvren.problem.slips import toml_advice
from ilvren.regular import not_utf8, regular_bytes

if TYPE_CHECKING:
    from ilvren.problem.model_declarations import ModelDeclaration


__all__ = ["Reader", "read_file", "read_text"]

# Formula files are kilobytes; beyond this it is some other file.
MOST_BYTES = 50_000_000
# What may stand between the cells of a table.
DELIMITERS = (",", ";", "\t", "|", " ")

SECTIONS = ("variables", "parameters", "derived", "minimize", "maximize", "constraints", "confirm")
OTHER_SECTIONS = ("tables", "models", "fit", "cases", "time", "states", "controls", "signals", "scatter")
CASE_KEYS = ("set", "tables", "about")
VARIABLE_KEYS = ("choices", "start", "lower", "upper", "magnitude", "spacing", "catalogue", "shape", "unit", "about")
CHOICE_KEYS = ("choices", "start", "about")
LINKED_KEYS = ("linked", "lower", "upper", "magnitude", "unit", "about")
TABLE_KEYS = ("file", "lines", "columns", "delimiter", "decimal", "comment", "missing")
MODEL_KEYS = (
    "python",
    "inputs",
    "outputs",
    "timeout",
    "retries",
    "repeatable",
    "depends",
    "derivatives",
    "slopes",
)
APPROXIMATION_KEYS = ("approximation", "inputs")
OUTPUT_KEYS = ("shape", "band", "unit", "about")
FIT_KEYS = ("residual", "sigma", "loss", "about")
LOSSES = ("square", "huber", "cauchy")
DERIVATIVES = ("automatic", "supplied", "complex-step", "differences", "forward-differences")
_KEYS = {
    "parameters": ("value", "formula", "unit", "about"),
    "derived": ("formula", "unit", "about"),
    "minimize": ("formula", "unit", "about", "magnitude", "goal", "priority"),
    "maximize": ("formula", "unit", "about", "magnitude", "goal", "priority"),
    "constraints": ("formula", "unit", "about", "magnitude"),
    "confirm": ("formula", "unit", "about", "magnitude"),
}


def read_file(path: str | Path) -> Declarations:
    """Read a problem file. Raises ProblemError."""
    path = Path(path)
    try:
        if path.is_dir():
            raise ProblemError("is a folder, not a problem file", file=str(path))
        content = regular_bytes(path, MOST_BYTES)
        text = content.decode("utf-8-sig")
    except FileNotFoundError:
        close = nearest(path.name, _toml_names(path.parent))
        advice = f'did you mean "{path.parent / close}"?' if close else "`ilvren new FILE` writes a starter"
        raise ProblemError("no such file", file=str(path), advice=advice) from None
    except UnicodeDecodeError as error:
        raise not_utf8(content, error, str(path)) from None
    except OSError as error:
        raise ProblemError(f"cannot be read: {error.strerror}", file=str(path)) from None
    return read_text(text, file=str(path))


def _toml_names(folder: Path) -> list[str]:
    try:
        return [entry.name for entry in folder.iterdir() if entry.suffix == ".toml"]
    except OSError:
        return []


def read_text(text: str, *, file: str = "<text>", files: Mapping[str, str] | None = None) -> Declarations:
    """Read the text of a problem file; `file` is its name in messages, `files` the texts of its table files (those
    not given are read beside `file`). Raises ProblemError."""
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
    return Reader(document, Source(text, file, Positions(text), dict(files or {}))).declarations()


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
        advice=toml_advice(reason, source or "", span[0] if span else None),
    )


def _are_words(items: list[object]) -> bool:
    return bool(items) and all(isinstance(item, str) and item.strip() for item in items) and len({*items}) == len(items)


def _is_linked(content: object) -> bool:
    return isinstance(content, dict) and "linked" in content


class Reader(Document):
    """Reads the declarations of a document."""

    def declarations(self) -> Declarations:
        """Return all that the file declares. Raises ProblemError."""
        self.check_sections()
        if "scatter" in self.document:
            self.reserved |= frozenset(SCATTER_FUNCTIONS)
        section = self.section("variables")
        linked = {name: self.linked(name, own) for name, own in section.items() if _is_linked(own)}
        over_time = None
        if any(name in self.document for name in ("time", "states", "controls", "signals")):
            from ilvren.problem.time_reader import read_time  # few files have things that evolve

            over_time = read_time(self)
        variables = tuple(self.variable(name, own) for name, own in section.items() if name not in linked)
        entries = {
            section: tuple(self.entry(section, name, content) for name, content in self.section(section).items())
            for section in SECTIONS[1:]
        }
        objectives = entries["minimize"] + entries["maximize"]
        self.check_priorities(objectives)
        for own in linked.values():
            entries["derived"] += own[:1]
            entries["constraints"] += own[1:]
        if not variables and not (over_time and over_time.has_variables):
            path = ("variables",) if "variables" in self.document else ()
            self.fail(path, "the file has no variables", "write for example  x = { start = 1.0 }  below [variables]")
        fit = tuple(self.residual(name, content) for name, content in self.section("fit").items())
        if fit and objectives:
            first = objectives[0]
            self.fail(
                (first.section, first.name),
                "an objective beside [fit], which declares one itself",
                "keep one of them; other residuals and terms can be written into the objective's formula",
            )
        bounded = over_time is not None and over_time.has_limits
        if not objectives and not fit and not entries["constraints"] and not bounded:
            self.fail(
                (),
                "neither an objective nor a constraint: nothing is asked",
                "add [minimize], [maximize] or [constraints]",
            )
        found = Declarations(
            source=self.source,
            title=self.text_of("title"),
            about=self.text_of("about"),
            variables=variables,
            parameters=entries["parameters"],
            derived=entries["derived"],
            objectives=objectives,
            constraints=entries["constraints"],
            tables=tuple(self.table(name, content) for name, content in self.section("tables").items()),
            models=tuple(self.model(name, content) for name, content in self.section("models").items()),
            fit=fit,
            confirm=entries["confirm"],
            words=tuple(self.words),
            cases=tuple(self.case(name, content) for name, content in self.section("cases").items()),
        )
        found = found if over_time is None else over_time.added(found)
        if "scatter" in self.document:
            from ilvren.problem.scatter_reader import read_scatter  # few files say how things scatter

            found = read_scatter(self, found)
        return found

    def check_sections(self) -> None:
        """Raise ProblemError for a section that is not known."""
        for key in self.document:
            if key not in (*SECTIONS, *OTHER_SECTIONS, "title", "about"):
                self.unknown_key((key,), key, (*SECTIONS, *OTHER_SECTIONS, "title", "about"), "section")

    def variable(self, name: str, content: object) -> VariableDeclaration:
        """Return a variable's declaration. Raises ProblemError."""
        self.check_name("variables", name)
        path = ("variables", name)
        if isinstance(content, (int, float, str)) and not isinstance(content, bool):
            content = {"start": content}
        if not isinstance(content, dict):
            self.fail(path, "a variable is a table such as { start = 1.0, lower = 0.0 }, or its start")
        for key in content:
            if key not in VARIABLE_KEYS:
                self.unknown_key((*path, key), key, VARIABLE_KEYS, "key")
        if "choices" in content:
            return self.choice(name, path, content)
        catalogue = content.get("catalogue")
        if catalogue is not None and (not isinstance(catalogue, (list, str)) or not catalogue):
            self.fail(path, "a catalogue is a list of numbers, or the name of one")
        given: dict[str, Any] = {
            key: self.value((*path, key), content[key]) for key in VARIABLE_KEYS[1:-2] if key in content
        }
        return VariableDeclaration(
            name=name,
            unit=self.word(path, content, "unit"),
            about=self.word(path, content, "about"),
            **given,
        )

    def choice(self, name: str, path: tuple[str, ...], content: Mapping[str, object]) -> VariableDeclaration:
        """Return a variable whose values are words: a catalogue of their numbers."""
        for key in content:
            if key not in CHOICE_KEYS:
                told = "words have no order, no bounds and no unit"
                self.fail((*path, key), f'"{key}" does not go with "choices": {told}')
        choices = content["choices"]
        if not isinstance(choices, list) or not _are_words(choices):
            self.fail((*path, "choices"), '"choices" lists different words: ["oak", "larch"]')
        start = content.get("start", choices[0])
        if start not in choices:
            close = nearest(str(start), choices)
            advice = f'did you mean "{close}"?' if close else "its choices: " + ", ".join(choices)
            self.fail((*path, "start"), f'"{start}" is not among the choices', advice)
        for word in choices:
            self.words.setdefault(word, float(len(self.words) + 1))
        return VariableDeclaration(
            name=name,
            start=self.words[str(start)],
            catalogue=tuple(sorted(self.words[word] for word in choices)),
            about=self.word(path, content, "about"),
            choices=tuple(choices),
        )

    def linked(self, name: str, content: object) -> tuple[EntryDeclaration, ...]:
        """Return a variable that is given by others: its value, and its bounds as a constraint."""
        self.check_name("variables", name)
        path = ("variables", name)
        assert isinstance(content, dict)
        for key in content:
            if key not in LINKED_KEYS:
                known = ", ".join(LINKED_KEYS)
                self.fail((*path, key), f'"{key}" does not go with "linked": others give its value', f"known: {known}")
        unit, about = self.word(path, content, "unit"), self.word(path, content, "about")
        value = self.value((*path, "linked"), content["linked"])
        if isinstance(value, tuple):
            self.fail(path, '"linked" is a name or a formula of variables')
        entry = EntryDeclaration("derived", name, value, unit, about, None, "variables")
        low, high = (self.bound((*path, key), content.get(key)) for key in ("lower", "upper"))
        if not low and not high:
            return (entry,)
        sides = [f"{low} <= " if low else "", name, f" <= {high}" if high else ""]
        magnitude = None if "magnitude" not in content else self.value((*path, "magnitude"), content["magnitude"])
        limit = EntryDeclaration("constraints", name, "".join(sides), unit, about, magnitude, "variables")
        return entry, limit

    def bound(self, path: tuple[str, ...], content: object) -> str:
        """Return a bound as a formula, "" for one that is none."""
        if content is None:
            return ""
        value = self.value(path, content)
        if isinstance(value, tuple):
            self.fail(path, "a linked variable has one bound for all its elements: a number or a formula")
        if isinstance(value, float) and math.isinf(value):
            return ""
        return f"({value})" if isinstance(value, str) else repr(value).removesuffix(".0")

    def table(self, name: str, content: object) -> TableDeclaration:
        """Return a table's declaration. Raises ProblemError."""
        self.check_name("tables", name)
        path = ("tables", name)
        content = self.checked_keys(path, content, TABLE_KEYS)
        if not self.word(path, content, "file"):
            self.fail(path, 'needs a "file": a CSV file with a header')
        lines = content.get("lines")
        if lines is not None:
            if not isinstance(lines, list) or len(lines) != 2:
                self.fail((*path, "lines"), '"lines" is a half-open range of data lines such as [0, 60]')
            lines = tuple(self.value((*path, "lines"), item) for item in lines)
        columns = content.get("columns", {})
        if not isinstance(columns, dict):
            self.fail((*path, "columns"), '"columns" gives names to headers: { flow = "Flow [l/s]" }')
        for key, header in columns.items():
            if not NAME.fullmatch(key) or not isinstance(header, str):
                self.fail((*path, "columns"), f'"{key}" = {header!r}: a name and the header of a column are expected')
        return TableDeclaration(
            name, self.word(path, content, "file"), lines, columns, form=self.table_form(path, content)
        )

    def table_form(self, path: tuple[str, ...], content: Mapping[str, Any]) -> TableForm:
        """Return how a table file is written."""
        given = {key: content[key] for key in ("delimiter", "decimal", "comment", "missing") if key in content}
        for key, wanted in (("delimiter", DELIMITERS), ("decimal", (".", ","))):
            if key in given and given[key] not in wanted:
                self.fail((*path, key), f'"{key}" is one of ' + ", ".join(json.dumps(sign) for sign in wanted))
        if not isinstance(given.get("comment", ""), str):
            self.fail((*path, "comment"), '"comment" is what begins a line that is no data, such as "#"')
        missing = given.get("missing", [])
        if not isinstance(missing, list) or not all(isinstance(word, str) for word in missing):
            self.fail((*path, "missing"), '"missing" lists the cells that stand for no value: ["", "n/a"]')
        form = TableForm(**{**given, "missing": tuple(missing)})
        if form.delimiter == form.decimal:
            self.fail((*path, "decimal"), f'"{form.decimal}" cannot stand before decimals and between cells')
        return form

    def model(self, name: str, content: object) -> ModelDeclaration:
        """Return a model's declaration. Raises ProblemError."""
        from ilvren.problem.model_declarations import ModelDeclaration

        self.check_name("models", name)
        path = ("models", name)
        if isinstance(content, dict) and "command" in content:
            from ilvren.problem.program_reader import read_program  # few files have programs

            if "python" in content:
                self.fail((*path, "python"), 'a model has either a "command" or a "python" function')
            return read_program(self, name, content)
        if isinstance(content, dict) and "approximation" in content:
            return self.approximation(name, content)
        content = self.checked_keys(path, content, MODEL_KEYS)
        if "python" not in content:
            self.fail(
                path,
                'needs "python" (a function in a file), "command" (a program with its arguments) or "approximation"'
                " (a file that `ilvren export a1` wrote)",
            )
        for key in ("python", "slopes"):
            text = self.word(path, content, key)
            if (key == "python" or text) and not re.fullmatch(r"[^:]+\.py:[A-Za-z_]\w*", text):
                self.fail((*path, key), f'"{key}" names a function in a file: "hydraulics.py:losses"')
        inputs = self.model_inputs(path, content)
        outputs, bands = self.outputs((*path, "outputs"), content.get("outputs"))
        retries = content.get("retries", 1)
        if isinstance(retries, bool) or not isinstance(retries, int) or retries < 0:
            self.fail(
                (*path, "retries"), '"retries" is a whole number from 0: how often a call that was lost is made again'
            )
        depends = content.get("depends", [])
        if not isinstance(depends, list) or not all(isinstance(item, str) for item in depends):
            self.fail((*path, "depends"), '"depends" lists the names of files')
        slopes = self.word(path, content, "slopes")
        derivatives = self.word(path, content, "derivatives") or ("supplied" if slopes else "")
        if derivatives and derivatives not in DERIVATIVES:
            self.unknown_key((*path, "derivatives"), derivatives, DERIVATIVES, "source of derivatives")
        if derivatives == "supplied" and not slopes:
            self.fail((*path, "derivatives"), 'supplied derivatives need "slopes": the function that gives them')
        return ModelDeclaration(
            name=name,
            python=self.word(path, content, "python"),
            inputs=inputs,
            outputs=outputs,
            bands=bands,
            timeout=self.timeout(path, content),
            depends=tuple(depends),
            derivatives=derivatives,
            slopes=slopes,
            retries=retries,
            repeatable=self.repeatable(path, content),
            units=self.output_units((*path, "outputs"), content.get("outputs")),
        )

    def model_inputs(self, path: tuple[str, ...], content: Mapping[str, object]) -> dict[str, Value]:
        """Return what a model is given, {its name: value}. Raises ProblemError."""
        inputs = content.get("inputs", {})
        if not isinstance(inputs, dict):
            self.fail((*path, "inputs"), '"inputs" gives formulas to arguments: { flow = "2 * q" }')
        return {key: self.value((*path, "inputs"), item) for key, item in inputs.items()}

    def approximation(self, name: str, content: Mapping[str, object]) -> ModelDeclaration:
        """Return a model that an approximation stands for; what it gives is found when its file is read."""
        from ilvren.problem.model_declarations import ModelDeclaration

        path = ("models", name)
        for key in ("python", "command"):
            if key in content:
                self.fail((*path, key), f'a model has either an "approximation" or a "{key}"')
        self.checked_keys(path, content, APPROXIMATION_KEYS)
        file = self.word(path, content, "approximation")
        if not file:
            self.fail((*path, "approximation"), '"approximation" names a file that `ilvren export a1` wrote')
        return ModelDeclaration(
            name=name, python="", inputs=self.model_inputs(path, content), outputs={}, bands={}, approximation=file
        )

    def outputs(self, path: tuple[str, ...], content: object) -> tuple[dict[str, Value | None], dict[str, int]]:
        """Return the shapes of a model's outputs, and how far their elements look to both sides. Raises
        ProblemError."""
        if isinstance(content, list) and all(isinstance(item, str) for item in content):
            content = {str(item): {} for item in content}
        if not isinstance(content, dict) or not content:
            self.fail(path, 'needs "outputs": a list of names, or { friction = {}, profile = { shape = 40 } }')
        shapes: dict[str, Value | None] = {}
        bands = {}
        for name, facts in content.items():
            if not NAME.fullmatch(name):
                self.fail(path, f'"{name}" is not a name')
            facts = self.checked_keys((*path, name), facts, OUTPUT_KEYS)
            shapes[name] = self.value((*path, name), facts["shape"]) if "shape" in facts else None
            band = facts.get("band")
            if band is not None:
                if isinstance(band, bool) or not isinstance(band, int) or band < 0:
                    self.fail((*path, name), '"band" is a whole number: how far an element looks to both sides')
                bands[name] = band
        return shapes, bands

    def output_units(self, path: tuple[str, ...], content: object) -> dict[str, str]:
        """Return the units of a model's outputs. Raises ProblemError."""
        found = content.items() if isinstance(content, dict) else ()
        return {name: self.word((*path, name), facts, "unit") for name, facts in found if isinstance(facts, dict)}

    def case(self, name: str, content: object) -> CaseDeclaration:
        """Return a case's declaration. Raises ProblemError."""
        self.check_name("cases", name)
        path = ("cases", name)
        content = self.checked_keys(path, content, CASE_KEYS)
        given, tables = content.get("set", {}), content.get("tables", {})
        if not isinstance(given, dict):
            self.fail((*path, "set"), '"set" gives other values to parameters: { draw = 0.031 }')
        if not isinstance(tables, dict) or not all(isinstance(file, str) for file in tables.values()):
            self.fail((*path, "tables"), '"tables" gives other files to tables: { demand = "storm.csv" }')
        return CaseDeclaration(name, {key: self.value((*path, "set"), item) for key, item in given.items()}, tables)

    def residual(self, name: str, content: object) -> FitDeclaration:
        """Return a fit's declaration. Raises ProblemError."""
        self.check_name("fit", name)
        path = ("fit", name)
        content = {"residual": content} if isinstance(content, str) else content
        content = self.checked_keys(path, content, FIT_KEYS)
        loss = self.word(path, content, "loss") or "square"
        if loss not in LOSSES:
            self.unknown_key((*path, "loss"), loss, LOSSES, "loss")
        residual = self.word(path, content, "residual")
        if not residual.strip():
            self.fail(path, 'needs a "residual": a formula that is zero where the model fits')
        sigma = self.value((*path, "sigma"), content.get("sigma", 1.0))
        return FitDeclaration(name, residual, sigma, loss, self.word(path, content, "about"), "sigma" in content)

    def entry(self, section: str, name: str, content: object) -> EntryDeclaration:
        """Return the declaration of a parameter, a derived value, an objective or a constraint. Raises ProblemError."""
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
        given_value = content[given[0]]
        if section == "parameters" and isinstance(given_value, list) and self.words:
            given_value = [self.words.get(item, item) if isinstance(item, str) else item for item in given_value]
        formula = self.value((*path, given[0]), given_value)
        if isinstance(formula, tuple) and section != "parameters":
            self.fail(path, "a list stands in [parameters]; formulas use it by its name")
        magnitude = content.get("magnitude")
        return EntryDeclaration(
            section,
            name,
            formula,
            self.word(path, content, "unit"),
            self.word(path, content, "about"),
            None if magnitude is None else self.value((*path, "magnitude"), magnitude),
            goal=None if "goal" not in content else self.value((*path, "goal"), content["goal"]),
            priority=None if "priority" not in content else self.priority((*path, "priority"), content["priority"]),
        )

    def check_priorities(self, objectives: Sequence[EntryDeclaration]) -> None:
        """Refuse objectives that trade off before others that come later: one design must go on to these."""
        given = [1 if item.priority is None else item.priority for item in objectives]
        for own, item in zip(given, objectives, strict=True):
            others = [other.name for p, other in zip(given, objectives, strict=True) if p == own and other is not item]
            if others and own < max(given):
                self.fail(
                    (item.section, item.name),
                    f"has the priority of {others[0]}, and others come after them: only the last ones can trade off",
                    "give each objective that comes first a priority of its own",
                )

    def priority(self, path: tuple[str, ...], given: object) -> int:
        """Return a priority: a whole number from 1."""
        if isinstance(given, bool) or not isinstance(given, int) or given < 1:
            self.fail(path, f"a priority is a whole number from 1 (the first), not {given!r}")
        return given
