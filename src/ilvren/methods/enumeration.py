"""Enumeration: every design of a problem whose variables are all spaced or from catalogues, where these are few.

With N_i members of variable i, the designs are numbered 0 … Π N_i − 1 in mixed radix (1), the last variable changing
fastest, and evaluated in that order, very many in one vectorised request. The best feasible one is the optimum, since
there is no other design; where none is feasible, none exists.

Needs     values.   Handles   spaced and catalogue variables only, any limits.
Cost      Π N_i values; memory: one batch.
Stops     when all are evaluated.   Weak   its cost doubles with every further variable of two members.
Source    (1): D. E. Knuth, "The Art of Computer Programming, Volume 2", 1969, section 4.1; the method is as old as
          counting.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import AllowedValues
from ilvren.methods.base import Ending, Iterate, Method, Protocol, Reply, Request, Task
from ilvren.methods.pieces.options import option
from ilvren.records import dataclass

__all__ = ["METHOD", "EnumerationOptions"]

FloatArray = NDArray[np.float64]

# Designs in one batch, and batches from one iterate to the next.
BATCH, BATCHES_TOLD = 50_000, 4


@dataclass(frozen=True)
class EnumerationOptions:
    """Options of `enumeration`."""

    designs: int = option(10_000_000, low=1, high=1_000_000_000, help="most designs that are tried")


def enumeration(task: Task, options: EnumerationOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    grids = [grid for grid in task.grids if grid is not None]
    if len(grids) < len(task.start):
        return Ending("invalid", "some variables are continuous: their designs cannot be counted")
    total = math.prod(grid.count for grid in grids)
    if total > options.designs:
        return Ending("stalled", f"there are {total:,} designs, more than the {options.designs:,} that may be tried")
    best, best_f, least, least_v = None, math.inf, task.start, math.inf
    for number, first in enumerate(range(0, total, BATCH)):
        points = np.clip(designs(grids, np.arange(first, min(first + BATCH, total))), task.lower, task.upper)
        reply: Reply = yield Request(points, scan=True)
        f = np.where(np.isnan(reply.objective), np.inf, reply.objective)
        v = task.violations(reply.rows)
        feasible = np.where(v <= task.feasibility, f, np.inf)
        place, nearest = int(np.argmin(feasible)), int(np.argmin(np.where(np.isfinite(f), v, np.inf)))
        if feasible[place] < best_f:
            best, best_f = points[place], float(feasible[place])
        if v[nearest] < least_v and math.isfinite(f[nearest]):
            least, least_v = points[nearest], float(v[nearest])
        if number % BATCHES_TOLD == 0 or first + BATCH >= total:
            told = f"{min(first + BATCH, total):,} of {total:,} designs evaluated"
            yield Iterate(least if best is None else best, math.nan, told)
    if task.objectives:  # those that nothing dominates were kept by whoever drives this
        if best is None:
            return Ending("infeasible", f"none of the {total:,} designs is feasible", bound_is_proved=True)
        return Ending("settled", f"all {total:,} designs were evaluated: the front is whole")
    if best is None:
        why = f"none of the {total:,} designs is feasible: all were evaluated"
        return Ending("infeasible", why, bound=math.inf, bound_is_proved=True)
    reason = f"all {total:,} designs were evaluated, and none is better"
    return Ending("settled", reason, bound=best_f, bound_is_proved=True)


def designs(grids: list[AllowedValues], numbers: NDArray[np.int64]) -> FloatArray:
    """Return the designs (k, n) of these numbers (1)."""
    columns, rest = [], numbers
    for grid in reversed(grids):
        rest, own = np.divmod(rest, grid.count)
        columns.append(grid.values(own.astype(float)))
    return np.column_stack(columns[::-1])


METHOD = Method(
    name="enumeration",
    about="every design of a few whole numbers or catalogues: the optimum, proved",
    kind="discrete",
    needs="values",
    handles=frozenset({"bounds", "inequalities", "equalities", "spaced", "catalogue"}),
    options=EnumerationOptions,
    run=enumeration,
    cost="as many values as there are designs, in large batches",
    weak="more than some million designs; continuous variables",
    only_members=True,
)
