"""What may change: one element, and a declared variable of any shape."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import field

import numpy as np
from numpy.typing import NDArray

from ilvren.formula import Shape
from ilvren.records import dataclass

__all__ = ["GRID_TOLERANCE", "MOST_STEPS", "Variable", "VariableBlock", "element_name"]

FloatArray = NDArray[np.float64]

# Steps of a spacing that numbers of this machine tell apart.
MOST_STEPS = 2.0**52
# Membership of a grid is tested to this share of a spacing (or of the member's size).
GRID_TOLERANCE = 1e-9


def element_name(name: str, shape: Shape, place: int) -> str:
    """Return the name of an element by its place in a block: "bore", "level[17]", "grid[1,2]"."""
    if not shape:
        return name
    if len(shape) == 1:
        return f"{name}[{place}]"
    return f"{name}[{','.join(str(int(i)) for i in np.unravel_index(place, shape))}]"


def _shown(value: float, words: tuple[str, ...]) -> float | str:
    has_word = math.isfinite(value) and 1 <= round(value) <= len(words)
    return words[round(value) - 1] if has_word else value


@dataclass(frozen=True, kw_only=True)
class Variable:
    """What may change: one element. `spacing` counts from `lower`; `catalogue` lists all members, ascending;
    those of a choice are places in `words`, from 1."""

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
    words: tuple[str, ...] = ()

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

    def shown(self, value: float) -> float | str:
        """Return a value as it is told: the word of a choice, else the number."""
        return _shown(value, self.words)

    def member(self, value: float) -> float:
        """Return the allowed value nearest to `value`, the lower one on a tie."""
        if self.is_fixed:
            return self.lower
        if self.catalogue is not None:
            return min(self.catalogue, key=lambda item: (abs(item - value), item))
        if self.spacing is None:
            return min(max(value, self.lower), self.upper)
        # Beyond MOST_STEPS numbers no longer tell neighbours apart. What is no number counts as the first.
        most = math.floor(min((self.upper - self.lower) / self.spacing, MOST_STEPS) + GRID_TOLERANCE)
        ahead = min(max(0.0, (value - self.lower) / self.spacing), MOST_STEPS)
        return self.lower + min(max(math.ceil(ahead - 0.5 - GRID_TOLERANCE), 0), most) * self.spacing

    def allows(self, value: float) -> bool:
        """Return whether `value` lies within the bounds and on the grid."""
        if not math.isfinite(value):
            return False
        if self.kind == "continuous":
            return self.lower <= value <= self.upper
        unit = self.spacing if self.spacing is not None else max(abs(value), 1e-300)
        return abs(self.member(value) - value) <= GRID_TOLERANCE * unit


@dataclass(frozen=True, eq=False, kw_only=True)
class VariableBlock:
    """A declared variable of any shape. `start`, `lower`, `upper`, `magnitude` (NaN where not given), `is_used` are
    flat (size,); `first` is the place of its first element in a design. `is_grid`: unknowns of a state over time, at
    `times`, which are no part of what is chosen."""

    name: str
    shape: Shape
    first: int
    start: FloatArray
    lower: FloatArray
    upper: FloatArray
    magnitude: FloatArray
    spacing: float | None = None
    catalogue: tuple[float, ...] | None = None
    unit: str = ""
    about: str = ""
    is_used: NDArray[np.bool_] = field(default_factory=lambda: np.ones(1, dtype=bool))
    line: int | None = None
    words: tuple[str, ...] = ()
    times: tuple[float, ...] | None = None
    time_names: tuple[str, ...] = ()
    is_grid: bool = False

    @property
    def size(self) -> int:
        """Return the number of elements."""
        return len(self.start)

    def element_name(self, place: int) -> str:
        """Return the name of an element; of unknowns on a grid with its time."""
        if self.times is None:
            return element_name(self.name, self.shape, place)
        size = math.prod(self.shape[1:])
        own = self.name.removesuffix("@grid")
        return element_name(f"{own}@{self.time_names[place // size]}", self.shape[1:], place % size)

    @property
    def kind(self) -> str:
        """Return "continuous", "spaced" or "catalogue"."""
        if self.catalogue is not None:
            return "catalogue"
        return "continuous" if self.spacing is None else "spaced"

    @property
    def choices(self) -> tuple[str, ...]:
        """Return the words it can be, none where it is a number."""
        return tuple(self.words[round(member) - 1] for member in self.catalogue or ()) if self.words else ()

    def element(self, place: int) -> Variable:
        """Return one element."""
        magnitude = float(self.magnitude[place])
        return Variable(
            name=self.element_name(place),
            start=float(self.start[place]),
            lower=float(self.lower[place]),
            upper=float(self.upper[place]),
            magnitude=None if math.isnan(magnitude) else magnitude,
            spacing=self.spacing,
            catalogue=self.catalogue,
            unit=self.unit,
            about=self.about,
            is_used=bool(self.is_used[place]),
            words=self.words,
        )

    def shown(self, value: float) -> float | str:
        """Return a value as it is told: the word of a choice, else the number."""
        return _shown(value, self.words)

    def __iter__(self) -> Iterator[Variable]:
        return (self.element(place) for place in range(self.size))
