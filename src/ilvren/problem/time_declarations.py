"""What a problem file declares over time: types and keys checked, formulas still text."""

from __future__ import annotations

from ilvren.problem.value import Value
from ilvren.records import dataclass

__all__ = [
    "DEFAULT_STEPS",
    "ControlDeclaration",
    "StateDeclaration",
    "TimeCase",
    "TimeDeclaration",
    "TransferDeclaration",
]

# Intervals of the grid where a file does not say how many.
DEFAULT_STEPS = 100
MOST_STEPS = 20_000


@dataclass(frozen=True)
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


@dataclass(frozen=True)
class TransferDeclaration:
    """A linear block: coefficients in descending powers, of what it takes (`of`, a formula)."""

    of: str
    numerator: tuple[Value, ...]
    denominator: tuple[Value, ...]


@dataclass(frozen=True, kw_only=True)
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


@dataclass(frozen=True, kw_only=True)
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


@dataclass(frozen=True)
class TimeCase:
    """What evolves in one case, when that differs from case to case."""

    case: str
    time: TimeDeclaration
