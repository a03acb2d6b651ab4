"""What every sampling plan is: bounds and grids in, designs out."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

__all__ = ["Plan", "PlanError", "Sampled", "Space", "option"]

FloatArray = NDArray[np.float64]


class PlanError(ValueError):
    """A plan that cannot be made as asked for; `advice` says what can."""

    def __init__(self, message: str, advice: str = "") -> None:
        super().__init__(message)
        self.advice = advice


def option(default: Any, *, help: str, low: float | None = None, high: float | None = None) -> Any:
    """Return a field of a plan's options, with what `--option` may set it to."""
    return field(default=default, metadata={"help": help, "low": low, "high": high})


@dataclass(frozen=True)
class Space:
    """What is sampled: the `names` of n variables, finite `lower` and `upper` (n,), the `members` that a variable can
    have (None: all between its bounds), the design at the `start` (n,), and the names of those whose members have no
    order, so that two of them say nothing of the others."""

    names: tuple[str, ...]
    lower: FloatArray
    upper: FloatArray
    members: tuple[FloatArray | None, ...]
    start: FloatArray
    unordered: frozenset[str] = frozenset()

    def skipped(self, levels: int) -> tuple[str, ...]:
        """Return a note on variables without an order of whose members so many levels leave some out."""
        short = [
            name
            for name, own in zip(self.names, self.members, strict=True)
            if name in self.unordered and own is not None and len(own) > levels
        ]
        return (f"not all members are taken of {', '.join(short[:6])}, which have no order",) if short else ()

    @property
    def size(self) -> int:
        """Return n."""
        return len(self.names)

    @property
    def is_discrete(self) -> NDArray[np.bool_]:
        """Return (n,): which variables have members."""
        return np.array([own is not None for own in self.members], dtype=bool)

    @property
    def counts(self) -> list[int | None]:
        """Return how many members each variable has, None for all between its bounds."""
        return [None if own is None else len(own) for own in self.members]

    def designs(self, shares: FloatArray) -> FloatArray:
        """Return the designs (k, n) at shares of the box (k, n): 0 the lower bound, 1 the upper; of members the one in
        whose equal part of the range a share lies."""
        found = self.lower + np.clip(shares, 0.0, 1.0) * (self.upper - self.lower)
        for place, own in enumerate(self.members):
            if own is not None:
                index = np.minimum(np.floor(np.clip(shares[:, place], 0.0, 1.0) * len(own)), len(own) - 1)
                found[:, place] = own[index.astype(int)]
        return np.asarray(np.clip(found, self.lower, self.upper))

    def shares(self, designs: FloatArray) -> FloatArray:
        """Return the shares of the box (k, n) of designs (k, n); of members the middle of their part."""
        width = np.where(self.upper > self.lower, self.upper - self.lower, 1.0)
        found = (designs - self.lower) / width
        for place, own in enumerate(self.members):
            if own is not None:
                index = np.abs(designs[:, place, None] - own[None]).argmin(axis=1)
                found[:, place] = (index + 0.5) / len(own)
        return np.asarray(found)

    def at_levels(self, levels: FloatArray) -> FloatArray:
        """Return the designs (k, n) at levels (k, n) between −1 and 1: of members the nearest one by its place."""
        found = self.lower + 0.5 * (np.clip(levels, -1.0, 1.0) + 1.0) * (self.upper - self.lower)
        for place, own in enumerate(self.members):
            if own is not None:
                index = np.rint(0.5 * (np.clip(levels[:, place], -1.0, 1.0) + 1.0) * (len(own) - 1))
                found[:, place] = own[index.astype(int)]
        return np.asarray(found)


@dataclass(frozen=True)
class Sampled:
    """The `designs` (k, n) of a plan, and what is to be said of it in `notes`."""

    designs: FloatArray
    notes: tuple[str, ...] = ()


@dataclass(frozen=True)
class Plan:
    """One plan. `make(space, points, rng, options)` returns it, `points` None for as many as it takes; `grows` also
    from designs that are there: `make_more(space, existing, points, rng, options)`."""

    name: str
    about: str
    when: str
    options: type
    make: Callable[[Space, int | None, np.random.Generator, Any], Sampled]
    make_more: Callable[[Space, FloatArray, int, np.random.Generator, Any], Sampled] | None = None
    is_random: bool = False

    @property
    def grows(self) -> bool:
        """Return whether more points keep the plan's quality."""
        return self.make_more is not None
