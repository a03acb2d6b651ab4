"""CSV files of data: their columns become named vectors."""

from __future__ import annotations

import csv
import re
from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import ProblemError, RequestError, nearest
from ilvren.records import dataclass
from ilvren.regular import not_utf8, regular_bytes

if TYPE_CHECKING:
    from ilvren.problem.entries import Source, TableDeclaration, TableForm

__all__ = ["Table", "read_table"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Table:
    """The data lines of a file by column; `text` is the whole file, `lines` says where each stands in
    it. A column is read as numbers when it is used."""

    declaration: TableDeclaration
    text: str
    columns: dict[str, list[str]]
    lines: tuple[int, ...]
    fail: Callable[..., ProblemError]
    words: tuple[str, ...] = ()
    left_out: int = 0  # lines with a missing value

    def no_column(self, name: str) -> tuple[str, str]:
        """Return what to say of a column that is not there, and an advice."""
        close = nearest(name, self.columns)
        form = _form_advice(list(self.columns), self.declaration)
        advice = f'did you mean "{close}"?' if close else form or "its columns: " + ", ".join(list(self.columns)[:12])
        return f'the table "{self.declaration.name}" has no column "{name}"', advice

    def column(self, name: str) -> FloatArray:
        """Return a column as numbers. Raises ProblemError, naming the line of the file. It is (lines,)."""
        if name not in self.columns:
            raise self.fail(*self.no_column(name))
        cells = self.columns[name]
        if any(cell in self.words for cell in cells):  # keys of a choice; a word that is none equals nothing
            numbers = {word: place + 1.0 for place, word in enumerate(self.words)}
            return np.array([numbers.get(cell, -1.0 - place) for place, cell in enumerate(cells)])
        found, decimal = np.empty(len(cells)), self.declaration.form.decimal
        for place, cell in enumerate(self.columns[name]):
            try:
                found[place] = float("no number" if "_" in cell else cell.replace(decimal, "."))
            except ValueError:
                found[place] = np.nan
            if not np.isfinite(found[place]):
                line = self.lines[place]
                told = f'"{cell}"' if cell.strip() else "an empty cell"
                message = f'{self.declaration.file}:{line}: {told} in column "{name}" is not a finite number'
                raise self.fail(message, _advice_for(cell, self.declaration.form))
        return found


def _advice_for(cell: str, form: TableForm) -> str | None:
    """Return which key would read a cell that is no number, None where none is known."""
    if form.decimal == "." and re.fullmatch(r"[+-]?\d*,\d+(e[+-]?\d+)?", cell, re.IGNORECASE):
        return 'decimals stand behind a comma: decimal = ","'
    if re.fullmatch(r"|-+|\?|n/?a|nan|none|null|missing", cell, re.IGNORECASE):
        return f'lines without a value are left out by missing = ["{cell}"]'
    return None


def _form_advice(header: list[str], declaration: TableDeclaration) -> str | None:
    """Return which key would read a header that is one cell."""
    form, text = declaration.form, declaration.form.delimiter.join(header)
    if text[:1] in ("#", "%", "!") and not form.comment:
        return f'lines that begin with {text[:1]} are no data with comment = "{text[:1]}"'
    if len(header) == 1:
        for sign, told in ((";", ";"), ("\t", "\\t"), ("|", "|"), (",", ",")):
            if sign in text and sign != form.delimiter:
                return f'the columns are separated by "{told}": delimiter = "{told}"'
    return None


def _chosen(declaration: TableDeclaration, data: list[tuple[int, list[str]]]) -> list[tuple[int, list[str]]]:
    """Return some of a table's lines. Raises RequestError where they go beyond it."""
    assert declaration.chosen is not None
    first, end = declaration.chosen
    if max(first, (end or 0) - 1) >= len(data):
        told = f"{first}:{'' if end is None else end}"
        name = declaration.name.split("@")[0]
        raise RequestError(
            f"--lines {name}={told}: {declaration.file} has {len(data)} lines here",
            advice=f"lines count from 0: {name}=0:{len(data)} are all of them",
        )
    return data[first:end]


def read_table(
    source: Source, declaration: TableDeclaration, lines: tuple[int, int] | None, words: tuple[str, ...] = ()
) -> Table:
    """Read a table of a problem file, from `source.files` or from disk beside it. Raises ProblemError."""

    def fail(message: str, advice: str | None, *key: str) -> ProblemError:
        path = ("tables", declaration.name.partition("@")[0])
        line = source.line(*path, *(key or ("file",))) or source.line(*path)
        return ProblemError(
            message,
            file=source.file,
            line=line,
            where=".".join((*path, *key)),
            text=source.positions.source(line),
            advice=advice,
        )

    text = source.files.get(declaration.file)
    if text is None:
        path = source.beside(declaration.file)
        try:
            content = regular_bytes(path)
            text = content.decode("utf-8-sig")
        except FileNotFoundError:
            near = nearest(path.name, [item.name for item in path.parent.glob("*.csv")])
            raise fail(f"no such file: {path}", f'did you mean "{near}"?' if near else None) from None
        except UnicodeDecodeError as error:
            raise not_utf8(content, error, str(path)) from None
        except OSError as error:
            raise fail(f"{path} cannot be read: {error.strerror}", None) from None
    try:
        numbered = _numbered(text, declaration.form)
    except csv.Error as error:
        raise fail(f"{declaration.file} is not a CSV file: {error}", None) from None
    if len(numbered) < 2:
        raise fail(f"{declaration.file} has no data below its header", None)
    headers = [cell.strip() for cell in numbered[0][1]]
    missing = set(declaration.form.missing)
    data = [(number, row) for number, row in numbered[1:] if not any(cell.strip() in missing for cell in row)]
    left_out = len(numbered) - 1 - len(data)
    if not data:
        raise fail(f"{declaration.file}: every line has a missing value", None)
    if lines is not None:
        first, last = lines
        if not 0 <= first < last <= len(data):
            raise fail(
                f"lines [{first}, {last}] of {declaration.file}, which has {len(data)} data lines", None, "lines"
            )
        data = data[first:last]
    if declaration.chosen is not None:
        data = _chosen(declaration, data)
    for number, row in data:
        if len(row) != len(headers):
            told = f"{declaration.file}:{number} has {len(row)} cells, the header {len(headers)}"
            raise fail(told, _form_advice(headers, declaration))
    twice = next((header for header in headers if headers.count(header) > 1), None)
    if twice is not None:
        raise fail(f'{declaration.file} has two columns named "{twice}"', None)
    columns = {header: [row[place].strip() for _, row in data] for place, header in enumerate(headers)}
    for name, header in declaration.columns.items():
        if header not in columns:
            close = nearest(header, headers)
            raise fail(
                f'{declaration.file} has no column "{header}"',
                f'did you mean "{close}"?' if close else "its columns: " + ", ".join(headers[:12]),
                "columns",
            )
        columns[name] = columns[header]
    return Table(declaration, text, columns, tuple(number for number, _ in data), fail, words, left_out)


def _numbered(text: str, form: TableForm) -> list[tuple[int, list[str]]]:
    """Return the lines that hold something, with their numbers. Raises csv.Error."""
    kept = [
        "\n" if form.comment and line.lstrip().startswith(form.comment) else f"{line}\n" for line in text.split("\n")
    ]
    reader = csv.reader(kept, strict=True, delimiter=form.delimiter, skipinitialspace=form.delimiter == " ")
    found = []
    before = 0
    for row in reader:
        number, before = before + 1, reader.line_num
        if any(cell.strip() for cell in row):
            found.append((number, row))
    return found
