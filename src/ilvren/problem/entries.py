"""The entries of a problem file as declared: types and keys checked, formulas still text."""

from __future__ import annotations

from dataclasses import dataclass

from ilvren.problem.positions import Positions

__all__ = ["Declarations", "EntryDeclaration", "Source", "VariableDeclaration"]

# A number, or the text of a formula.
Value = float | str


@dataclass(frozen=True, slots=True)
class Source:
    """The text of a problem file, its name for messages, and the lines of its keys."""

    text: str
    file: str
    positions: Positions

    def line(self, *path: str) -> int | None:
        """Return the line of a key path, where the scanner found it."""
        return self.positions.line(path)


@dataclass(frozen=True, slots=True)
class VariableDeclaration:
    """What a file says of a variable; None where it says nothing."""

    name: str
    start: Value | None = None
    lower: Value | None = None
    upper: Value | None = None
    magnitude: Value | None = None
    spacing: Value | None = None
    catalogue: tuple[Value, ...] | None = None
    unit: str = ""
    about: str = ""


@dataclass(frozen=True, slots=True)
class EntryDeclaration:
    """A parameter, derived value, objective or constraint: `section` says which."""

    section: str
    name: str
    formula: Value
    unit: str = ""
    about: str = ""
    magnitude: Value | None = None

    @property
    def path(self) -> str:
        """Return the key path, as messages name it."""
        return f"{self.section}.{self.name}"


@dataclass(frozen=True, slots=True)
class Declarations:
    """All of a file. Names are unique over all sections."""

    source: Source
    title: str
    about: str
    variables: tuple[VariableDeclaration, ...]
    parameters: tuple[EntryDeclaration, ...]
    derived: tuple[EntryDeclaration, ...]
    objectives: tuple[EntryDeclaration, ...]
    constraints: tuple[EntryDeclaration, ...]
