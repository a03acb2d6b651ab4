"""The entries of a problem file as declared: types and keys checked, formulas still text."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ilvren.problem.scatter_plan import AS_USUAL, ScatterPlan

if TYPE_CHECKING:
    from ilvren.models.approximation import Group
    from ilvren.problem.positions import Positions

__all__ = [
    "CaseDeclaration",
    "ControlDeclaration",
    "DeckDeclaration",
    "Declarations",
    "EntryDeclaration",
    "FitDeclaration",
    "ModelDeclaration",
    "ProgramDeclaration",
    "ReadDeclaration",
    "ScatterDeclaration",
    "Source",
    "StateDeclaration",
    "TableDeclaration",
    "TimeCase",
    "TimeDeclaration",
    "TransferDeclaration",
    "Value",
    "VariableDeclaration",
    "formula_text",
]

# A number, the text of a formula, or a list of such.
Value = float | str | tuple["Value", ...]


@dataclass(frozen=True, slots=True)
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


@dataclass(frozen=True, slots=True)
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


@dataclass(frozen=True, slots=True)
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


@dataclass(frozen=True, slots=True)
class TableDeclaration:
    """A CSV file; `columns` gives names to headers that are none; `lines` a half-open range of data lines, `chosen`
    some of these lines, asked for outside the file."""

    name: str
    file: str
    lines: tuple[Value, ...] | None = None
    columns: Mapping[str, str] = field(default_factory=dict)
    chosen: tuple[int, int | None] | None = None


@dataclass(frozen=True, slots=True)
class DeckDeclaration:
    """A file written for each call, `target` in its folder: from the template `file`, or from a base with numbers
    replaced: `puts` {name: where}, as in `models.program.Put`."""

    target: str
    file: str
    is_template: bool
    puts: Mapping[str, Mapping[str, Any]]


@dataclass(frozen=True, slots=True)
class ReadDeclaration:
    """Where a value stands: `file`, and `place` as in `models.program.Reading`."""

    file: str
    place: Mapping[str, Any]
    unit: str = ""
    about: str = ""


@dataclass(frozen=True, slots=True)
class ProgramDeclaration:
    """What a model with a command says beside what all models say."""

    commands: tuple[tuple[str, ...], ...]
    decks: tuple[DeckDeclaration, ...]
    reads: Mapping[str, ReadDeclaration]
    slopes: Mapping[tuple[str, str], ReadDeclaration | float]
    files: tuple[str, ...]
    links: tuple[str, ...]
    environment: Mapping[str, str]
    failures: tuple[tuple[str, str], ...]
    success: tuple[int, ...]
    parallel: int | None
    keep: str


@dataclass(frozen=True, slots=True)
class ModelDeclaration:
    """A Python function, or a program (then `python` is "" and `program` says the rest): `python` is
    "file.py:function"; `inputs` {argument: formula}; `outputs` {name: shape or None}; `derivatives` how slopes are
    found, "" where that is not said: automatically, by differences where the function cannot be followed; `slopes` the
    function that gives them, "file.py:function"; `retries` how often a call that is slow or lost is made again;
    `repeatable`: the same inputs give the same; `units` {output: its unit}; `approximation` is the file of one that
    stands for it, `group` what was read of it: outputs that it has are formulas."""

    name: str
    python: str
    inputs: Mapping[str, Value]
    outputs: Mapping[str, Value | None]
    bands: Mapping[str, int]
    timeout: float | None = None
    depends: tuple[str, ...] = ()
    derivatives: str = ""
    slopes: str = ""
    retries: int = 1
    repeatable: bool = True
    program: ProgramDeclaration | None = None
    units: Mapping[str, str] = field(default_factory=dict)
    approximation: str = ""
    group: Group | None = None

    @property
    def told(self) -> str:
        """Return how messages show what it runs."""
        if self.program is not None:
            return "; ".join(" ".join(one) for one in self.program.commands)
        return self.python or self.approximation or "an approximation"


@dataclass(frozen=True, slots=True)
class FitDeclaration:
    """A residual to be made small: residual/sigma, under a loss; `has_sigma` where the file says how large sigma is."""

    name: str
    residual: str
    sigma: Value = 1.0
    loss: str = "square"
    about: str = ""
    has_sigma: bool = False


@dataclass(frozen=True, slots=True)
class TimeDeclaration:
    """[time]: when it begins and ends, so many intervals (`steps`) or the moments (`at`) to begin with, and how it is
    treated, "" where that is not said. `more` are moments that a run has added, as shares of the time; `grid` those
    that it has put in place of the steps, which are all there are where it `is_fixed`."""

    begin: Value | None = None
    end: Value | None = None
    unit: str = ""
    steps: Value | None = None
    at: Value | None = None
    treatment: str = ""
    more: tuple[float, ...] = ()
    grid: tuple[float, ...] = ()
    is_fixed: bool = False


@dataclass(frozen=True, slots=True)
class TransferDeclaration:
    """A linear block: coefficients in descending powers, of what it takes (`of`, a formula)."""

    of: str
    numerator: tuple[Value, ...]
    denominator: tuple[Value, ...]


@dataclass(frozen=True, slots=True)
class StateDeclaration:
    """What evolves: by a `rate`, as a linear block (`transfer`), or at samples (`every`) to `next`."""

    name: str
    rate: str | None = None
    transfer: TransferDeclaration | None = None
    every: Value | None = None
    next: str | None = None
    initial: Value | None = None
    start: Value | None = None
    lower: Value | None = None
    upper: Value | None = None
    magnitude: Value | None = None
    shape: Value | None = None
    unit: str = ""
    about: str = ""


@dataclass(frozen=True, slots=True)
class ControlDeclaration:
    """What may be chosen at every moment, in `pieces` of a `form` ("constant", "linear" or "pointwise")."""

    name: str
    start: Value | None = None
    lower: Value | None = None
    upper: Value | None = None
    magnitude: Value | None = None
    pieces: Value | None = None
    form: str = "constant"
    before: Value | None = None
    shape: Value | None = None
    unit: str = ""
    about: str = ""


@dataclass(frozen=True, slots=True)
class TimeCase:
    """What evolves in one case, when that differs from case to case."""

    case: str
    time: TimeDeclaration


@dataclass(frozen=True, slots=True)
class CaseDeclaration:
    """What a case changes: values of parameters, files of tables."""

    name: str
    set: Mapping[str, Value] = field(default_factory=dict)
    tables: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
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


@dataclass(frozen=True, slots=True)
class Declarations:
    """All of a file, or the `part` of it that is searched or that confirms, of a `whole`. Names are unique over all
    sections. `words` are those of all choices: the value of a choice is a word's place among them, from 1. `unaimed`
    are those that an aim made these of."""

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
    scatter: tuple[ScatterDeclaration, ...] = ()
    together: tuple[tuple[str, str, float], ...] = ()
    scatter_plan: ScatterPlan = AS_USUAL


def formula_text(value: Value) -> str:
    """Return a formula as text; a number is one, too."""
    if isinstance(value, str):
        return value
    if isinstance(value, tuple):
        return "[" + ", ".join(formula_text(item) for item in value[:6]) + (", …" if len(value) > 6 else "") + "]"
    return repr(value)
