"""A problem with numbers in place: what every other package works on.

Internally an objective is minimized (`sign` turns a maximized one) and every constraint row reads
lower <= value <= upper, an equality where the two meet.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field

from ilvren.formula import Graph, Trouble, walk
from ilvren.problem.entries import Source

__all__ = ["NamedValue", "Objective", "Parameter", "Problem", "Row", "Variable"]

# Membership of a grid is tested to this share of a spacing (or of the member's size).
GRID_TOLERANCE = 1e-9


@dataclass(frozen=True, slots=True)
class Variable:
    """What may change. `spacing` counts from `lower`; `catalogue` lists all members, ascending."""

    name: str
    start: float
    lower: float = -math.inf
    upper: float = math.inf
    magnitude: float | None = None
    spacing: float | None = None
    catalogue: tuple[float, ...] | None = None
    unit: str = ""
    about: str = ""
    is_used: bool = True

    @property
    def is_fixed(self) -> bool:
        """Return whether it can only take one value."""
        return self.lower == self.upper

    @property
    def kind(self) -> str:
        """Return "continuous", "spaced" or "catalogue"."""
        if self.catalogue is not None:
            return "catalogue"
        return "continuous" if self.spacing is None else "spaced"

    def member(self, value: float) -> float:
        """Return the allowed value nearest to `value`, the lower one on a tie."""
        if self.catalogue is not None:
            return min(self.catalogue, key=lambda item: (abs(item - value), item))
        if self.spacing is None:
            return min(max(value, self.lower), self.upper)
        steps = math.ceil((value - self.lower) / self.spacing - 0.5 - GRID_TOLERANCE)
        if math.isfinite(self.upper):
            steps = min(steps, math.floor((self.upper - self.lower) / self.spacing + GRID_TOLERANCE))
        return self.lower + max(steps, 0) * self.spacing

    def allows(self, value: float) -> bool:
        """Return whether `value` lies within the bounds and on the grid."""
        if not math.isfinite(value):
            return False
        if self.kind == "continuous":
            return self.lower <= value <= self.upper
        unit = self.spacing if self.spacing is not None else max(abs(value), 1e-300)
        return abs(self.member(value) - value) <= GRID_TOLERANCE * unit


@dataclass(frozen=True, slots=True)
class Parameter:
    """A fixed number; `is_overridden` when it was set for this run."""

    name: str
    value: float
    unit: str = ""
    about: str = ""
    is_overridden: bool = False


@dataclass(frozen=True, slots=True)
class NamedValue:
    """A derived value: a name for a node of the graph."""

    name: str
    node: int
    unit: str = ""
    about: str = ""
    text: str = ""
    line: int | None = None


@dataclass(frozen=True, slots=True)
class Objective:
    """What is minimized (`sign` 1) or maximized (`sign` −1)."""

    name: str
    node: int
    sign: int
    unit: str = ""
    about: str = ""
    magnitude: float | None = None
    text: str = ""
    line: int | None = None


@dataclass(frozen=True, slots=True)
class Row:
    """One row of a constraint: lower <= value(node) <= upper. `terms` are its top-level terms."""

    name: str
    node: int
    lower: float
    upper: float
    terms: tuple[int, ...] = ()
    unit: str = ""
    about: str = ""
    magnitude: float | None = None
    text: str = ""
    line: int | None = None

    @property
    def is_equality(self) -> bool:
        """Return whether the two limits meet."""
        return self.lower == self.upper


@dataclass(frozen=True, slots=True)
class Problem:
    """A problem bound to its numbers.

    `baseline` is the design at the file's starts, `start` the one runs begin with; both have one value
    per variable. `parameter_values` follow `parameters`. `overrides` are what replaced parameters.
    """

    source: Source
    title: str
    about: str
    graph: Graph
    variables: tuple[Variable, ...]
    parameters: tuple[Parameter, ...]
    derived: tuple[NamedValue, ...]
    objective: Objective | None
    rows: tuple[Row, ...]
    baseline: tuple[float, ...]
    overrides: Mapping[str, float] = field(default_factory=dict)
    start_overrides: Mapping[str, float] = field(default_factory=dict)

    @property
    def start(self) -> tuple[float, ...]:
        """Return the design that runs begin with."""
        return tuple(variable.start for variable in self.variables)

    @property
    def parameter_values(self) -> tuple[float, ...]:
        """Return the values of the parameters, in order."""
        return tuple(parameter.value for parameter in self.parameters)

    @property
    def seeks_feasible(self) -> bool:
        """Return whether nothing is minimized: without an objective, or with a constant one."""
        return self.objective is None or not self.graph.variables_of([self.objective.node])

    @property
    def free(self) -> tuple[int, ...]:
        """Return the indices of the variables a run may change: used, and not fixed."""
        return tuple(i for i, v in enumerate(self.variables) if v.is_used and not v.is_fixed)

    def named_values(self, point: tuple[float, ...]) -> dict[str, tuple[float, Trouble | None]]:
        """Return {name: (value, trouble)} of every derived value, objective and row at a full design."""
        entries: list[tuple[str, int]] = [(value.name, value.node) for value in self.derived]
        if self.objective is not None:
            entries.append((self.objective.name, self.objective.node))
        entries.extend((row.name, row.node) for row in self.rows)
        seen = walk(self.graph, [node for _, node in entries], point, self.parameter_values)
        return {
            name: (value, trouble)
            for (name, _), value, trouble in zip(entries, seen.values, seen.troubles, strict=True)
        }
