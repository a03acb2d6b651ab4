"""The entries of a problem file as declared: types and keys checked, formulas still text."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ilvren.problem.scatter_plan import AS_USUAL, ScatterPlan
from ilvren.problem.value import Value, formula_text
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.problem.model_declarations import ModelDeclaration
    from ilvren.problem.positions import Positions
    from ilvren.problem.time_declarations import ControlDeclaration, StateDeclaration, TimeCase, TimeDeclaration

__all__ = [
    "CaseDeclaration",
    "Declarations",
    "EntryDeclaration",
    "FitDeclaration",
    "ScatterDeclaration",
    "Source",
    "TableDeclaration",
    "TableForm",
    "Value",
    "VariableDeclaration",
    "formula_text",
]


@dataclass(frozen=True)
class Source:
    """The text of a problem file, its name for messages, and the lines of its keys. `files` are the texts of
    the table files it reads, by the name written; what is not there is read from disk, beside the problem file."""

    text: str
    file: str
    positions: Positions
    files: Mapping[str, str] = field(default_factory=dict)

    def line(self, *path: str) -> int | None:
        """Return the line of a key path, where the scanner found it."""
        return self.positions.line(path)

    def beside(self, name: str) -> Path:
        """Return the path of a file that the problem file names."""
        return Path(self.file).parent / name


@dataclass(frozen=True, kw_only=True)
class VariableDeclaration:
    """What a file says of a variable; None where it says nothing."""

    name: str
    start: Value | None = None
    lower: Value | None = None
    upper: Value | None = None
    magnitude: Value | None = None
    spacing: Value | None = None
    catalogue: Value | None = None
    shape: Value | None = None
    unit: str = ""
    about: str = ""
    choices: tuple[str, ...] = ()


@dataclass(frozen=True)
class EntryDeclaration:
    """A parameter, derived value, objective or constraint: `section` says which; `written_in` where the file has it,
    when that is elsewhere. An objective may have a `goal`, beyond which nothing counts, and a `priority`, lower numbers
    first."""

    section: str
    name: str
    formula: Value
    unit: str = ""
    about: str = ""
    magnitude: Value | None = None
    written_in: str = ""
    goal: Value | None = None
    priority: int | None = None

    @property
    def path(self) -> str:
        """Return the key path, as messages name it."""
        return f"{self.written_in or self.section}.{self.name}"


@dataclass(frozen=True)
class TableForm:
    """How a table file is written: what stands between cells, the sign before decimals, what begins a line that is no
    data ("" for none), and the cells that stand for no value: lines with one are left out."""

    delimiter: str = ","
    decimal: str = "."
    comment: str = ""
    missing: tuple[str, ...] = ()


@dataclass(frozen=True)
class TableDeclaration:
    """A CSV file; `columns` gives names to headers that are none; `lines` a half-open range of data lines, `chosen`
    some of these lines, asked for outside the file."""

    name: str
    file: str
    lines: tuple[Value, ...] | None = None
    columns: Mapping[str, str] = field(default_factory=dict)
    chosen: tuple[int, int | None] | None = None
    form: TableForm = TableForm()


@dataclass(frozen=True)
class FitDeclaration:
    """A residual to be made small: residual/sigma, under a loss; `has_sigma` where the file says how large sigma is."""

    name: str
    residual: str
    sigma: Value = 1.0
    loss: str = "square"
    about: str = ""
    has_sigma: bool = False


@dataclass(frozen=True)
class CaseDeclaration:
    """What a case changes: values of parameters, files of tables."""

    name: str
    set: Mapping[str, Value] = field(default_factory=dict)
    tables: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class ScatterDeclaration:
    """How a variable or a parameter scatters: its `law`, and `widths` {name: number or formula}, shares of the value
    where `is_relative`. Elements of a vector scatter each for itself, all by the same amount where it `is_common`, or
    alike over about `reach` places; `column` are the cells "table.column" of the law `data`. Widths are
    `scale` times what the file says."""

    name: str
    law: str
    widths: Mapping[str, Value]
    is_relative: bool = False
    is_common: bool = False
    reach: Value | None = None
    column: str = ""
    scale: float = 1.0


@dataclass(frozen=True, kw_only=True)
class Declarations:
    """All of a file, or the `part` of it that is searched or that confirms, of a `whole`. Names are unique over all
    sections. `words` are those of all choices: the value of a choice is a word's place among them, from 1. `unaimed`
    are those that an aim made these of; `fixed` {variable, or one element: value} may not change."""

    source: Source
    title: str
    about: str
    variables: tuple[VariableDeclaration, ...]
    parameters: tuple[EntryDeclaration, ...]
    derived: tuple[EntryDeclaration, ...]
    objectives: tuple[EntryDeclaration, ...]
    constraints: tuple[EntryDeclaration, ...]
    tables: tuple[TableDeclaration, ...] = ()
    models: tuple[ModelDeclaration, ...] = ()
    fit: tuple[FitDeclaration, ...] = ()
    confirm: tuple[EntryDeclaration, ...] = ()
    part: str = ""
    whole: Declarations | None = None
    words: tuple[str, ...] = ()
    cases: tuple[CaseDeclaration, ...] = ()
    time: TimeDeclaration | None = None
    states: tuple[StateDeclaration, ...] = ()
    controls: tuple[ControlDeclaration, ...] = ()
    signals: tuple[EntryDeclaration, ...] = ()
    time_tolerance: float = 1e-4
    time_tighter: int = 0
    time_scheme: str = ""
    time_cases: tuple[TimeCase, ...] = ()
    unaimed: Declarations | None = None
    fixed: Mapping[str, Any] = field(default_factory=dict)
    scatter: tuple[ScatterDeclaration, ...] = ()
    together: tuple[tuple[str, str, float], ...] = ()
    scatter_plan: ScatterPlan = AS_USUAL
