"""One variable at a time: from the start to both ends of its range, or over more levels, the others held."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ilvren.plans.base import Plan, PlanError, Sampled, Space, option
from ilvren.records import dataclass

__all__ = ["ONE_AT_A_TIME", "OneOptions"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class OneOptions:
    """Options of `one-at-a-time`."""

    levels: int = option(2, low=2, high=1000, help="levels of each variable from bound to bound")


def one_at_a_time(space: Space, points: int | None, rng: np.random.Generator, options: OneOptions) -> Sampled:
    """Return the start, then each variable's levels, those at the start itself left out."""
    rows = [space.start]
    for place in range(space.size):
        levels = np.zeros((options.levels, space.size))
        levels[:, place] = np.linspace(-1.0, 1.0, options.levels)
        own = space.members[place]
        values = own if own is not None and space.names[place] in space.unordered else space.at_levels(levels)[:, place]
        for value in np.unique(values).tolist():
            if value != space.start[place]:
                row = space.start.copy()
                row[place] = value
                rows.append(row)
    if points is not None and points != len(rows):
        raise PlanError(
            f"one at a time is {len(rows)} designs, not {points}", "leave --points out, or --option levels=N"
        )
    return Sampled(np.array(rows), ("the start first; interactions cannot be seen",))


ONE_AT_A_TIME = Plan(
    "one-at-a-time",
    "each variable from the start to both ends of its range, the others held",
    "a first look at what a design does, a picture for each variable",
    OneOptions,
    one_at_a_time,
)
