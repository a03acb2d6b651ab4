"""Full factorials and grids: every combination of some levels of each variable.

`full-factorial` takes the ends of every range (or `levels` of them, evenly), and all members where there are no more
than that; `grid` as many even levels as the points asked for allow.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from ilvren.plans.base import Plan, PlanError, Sampled, Space, option
from ilvren.records import dataclass

__all__ = ["FULL", "GRID", "FullOptions", "GridOptions"]

FloatArray = NDArray[np.float64]

# More designs than this are never meant.
MOST_DESIGNS = 1_000_000


@dataclass(frozen=True)
class FullOptions:
    """Options of `full-factorial`."""

    levels: int = option(2, low=2, high=1000, help="levels of each variable, evenly from bound to bound")


@dataclass(frozen=True)
class GridOptions:
    """`grid` has none: the points decide."""


def _combined(space: Space, levels: list[int]) -> FloatArray:
    """Return all combinations of so many even levels of each variable, the last variable changing fastest."""
    total = math.prod(levels)
    if total > MOST_DESIGNS:
        told = " x ".join(str(count) for count in levels)
        raise PlanError(
            f"{told} levels are {total:,} designs", "fewer levels, or latin-hypercube, which takes any number"
        )
    axes = [np.linspace(-1.0, 1.0, count) if count > 1 else np.zeros(1) for count in levels]
    grid = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(total, space.size)
    return np.unique(space.at_levels(grid), axis=0) if space.is_discrete.any() else space.at_levels(grid)


def full_factorial(space: Space, points: int | None, rng: np.random.Generator, options: FullOptions) -> Sampled:
    """Return every combination of `levels`."""
    levels = [
        options.levels if count is None else count if name in space.unordered else min(count, options.levels)
        for name, count in zip(space.names, space.counts, strict=True)
    ]
    designs = _combined(space, levels)
    if points is not None and len(designs) != points:
        told = " x ".join(str(count) for count in levels)
        raise PlanError(
            f"a full factorial of {told} levels has {len(designs)} designs, not {points}",
            "leave --points out; grid takes the levels that the points allow",
        )
    return Sampled(designs, (f"levels: {' x '.join(str(count) for count in levels)}",))


def grid(space: Space, points: int | None, rng: np.random.Generator, options: GridOptions) -> Sampled:
    """Return a grid of at most `points` designs, of as nearly equal numbers of levels as that allows."""
    if points is None:
        raise PlanError("a grid needs --points: the levels follow from it")
    levels = [1] * space.size
    while True:  # raise the least level that there is room for
        order = sorted(range(space.size), key=lambda place: (levels[place], place))
        for place in order:
            count = space.counts[place]
            if count is not None and levels[place] >= count:
                continue
            if math.prod(levels) // levels[place] * (levels[place] + 1) <= points:
                levels[place] += 1
                break
        else:
            break
    notes = [f"levels: {' x '.join(str(count) for count in levels)}"]
    if min(levels) == 1:
        short = [name for name, count in zip(space.names, levels, strict=True) if count == 1]
        notes.append(f"too few points for two levels of every variable: {', '.join(short[:6])} at the middle alone")
    return Sampled(_combined(space, levels), tuple(notes))


FULL = Plan(
    "full-factorial",
    "every combination of the ends of the ranges, or of more levels",
    "few variables; effects and all their interactions",
    FullOptions,
    full_factorial,
)
GRID = Plan(
    "grid",
    "every combination of as many even levels as the points allow",
    "two or three variables, to be drawn",
    GridOptions,
    grid,
)
