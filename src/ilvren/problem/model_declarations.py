"""What a problem file declares of models: functions, programs and approximations."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field
from typing import TYPE_CHECKING, Any

from ilvren.problem.value import Value
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.models.approximation import Group

__all__ = ["DeckDeclaration", "ModelDeclaration", "ProgramDeclaration", "ReadDeclaration"]


@dataclass(frozen=True)
class DeckDeclaration:
    """A file written for each call, `target` in its folder: from the template `file`, or from a base with numbers
    replaced: `puts` {name: where}, as in `models.program.Put`."""

    target: str
    file: str
    is_template: bool
    puts: Mapping[str, Mapping[str, Any]]


@dataclass(frozen=True)
class ReadDeclaration:
    """Where a value stands: `file`, and `place` as in `models.program.Reading`."""

    file: str
    place: Mapping[str, Any]
    unit: str = ""
    about: str = ""


@dataclass(frozen=True, kw_only=True)
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


@dataclass(frozen=True, kw_only=True)
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
