"""A lower bound of a whole front of two objectives, by intervals.

For the members in order of the first objective, with values (a_i, b_i), intervals show of each step

    no feasible design with F_1 <= a_i has F_2 < β_i ,      no feasible design has F_1 < α                       (1)

so that nothing lies below the staircase of β_i from α on. It is proved that the front is one, to a tolerance τ of the
objectives' ranges, where all β_i >= b_i − τ and α >= a_1 − τ.

Source: E. Hansen, "Global optimization using interval analysis", 1992, on each problem of (1).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError
from ilvren.judge.fronts.members import member_problem
from ilvren.judge.optimum.judged import JudgedDesign
from ilvren.judge.proof.bound import proved, refusal
from ilvren.records import dataclass
from ilvren.runs import plain

if TYPE_CHECKING:
    from ilvren.judge.standing.verdict import Verdict
    from ilvren.problem import Problem, Sense

__all__ = ["FRONT_TOLERANCE", "FrontBound", "Step", "proved_front"]

FloatArray = NDArray[np.float64]

# τ: to this share of the ranges a front is proved.
FRONT_TOLERANCE = 1e-3


@dataclass(frozen=True)
class Step:
    """One step of (1), as written: up to the `first` objective's value the second is at least `second` (None: nothing
    is known); `is_proved` to the tolerance; a `better` design (n,) where the search found one."""

    first: float
    second: float | None
    is_proved: bool
    better: tuple[float, ...] = ()


@dataclass(frozen=True)
class FrontBound:
    """The steps in order of the first objective, the bound `least` on that one, the names, and the tolerance."""

    names: tuple[str, str]
    least: float | None
    steps: tuple[Step, ...]
    tolerance: float
    is_complete: bool

    def to_dict(self) -> dict[str, object]:
        """Return the JSON document."""
        return {
            "complete": self.is_complete,
            "tolerance": self.tolerance,
            "least": {self.names[0]: None if self.least is None else plain(self.least)},
            "steps": [
                {
                    self.names[0]: plain(step.first),
                    self.names[1]: None if step.second is None else plain(step.second),
                    "proved": step.is_proved,
                }
                for step in self.steps
            ],
        }


def proved_front(
    problem: Problem,
    sense: Sense,
    points: FloatArray,
    values: FloatArray,
    feasibility: float,
    *,
    seconds: float,
    tolerance: float = FRONT_TOLERANCE,
    told: Callable[[int, int], None] | None = None,
) -> FrontBound:
    """Return (1) for members (k, n) with objectives (k, 2), minimized, within so many seconds in all. Raises
    RequestError for more than two objectives and for what intervals cannot follow."""
    if len(sense.names) != 2:
        raise RequestError(
            f"--prove bounds fronts of two objectives, and this one has {len(sense.names)}",
            advice="--only and --hold make two of them, or one",
        )
    order = np.lexsort((values[:, 1], values[:, 0]))
    points, values = points[order], values[order]
    extent = np.ptp(values, axis=0)
    extent = np.where(extent > 0.0, extent, np.maximum(np.abs(values).max(axis=0), 1.0))
    written = sense.as_written(values)
    alone = replace(
        problem,
        objective=sense.objectives[0],
        objectives=(sense.objectives[0],),
        row_blocks=tuple(block for block in problem.row_blocks if not block.is_objective),
    )
    count = len(points) + 1
    found, _ = _bounded(alone, points[0], float(extent[0]), tolerance, feasibility, seconds / count)
    least = found.proof.bound if found.proof is not None else None
    complete = found.verdict == "global-proved"
    steps = []
    for place, point in enumerate(points):
        own = member_problem(problem, sense, written[place], 1, extent)
        found, better = _bounded(own, point, float(extent[1]), tolerance, feasibility, seconds / count)
        bound = found.proof.bound if found.proof is not None else None
        steps.append(Step(float(written[place, 0]), bound, found.verdict == "global-proved", better))
        complete &= steps[-1].is_proved
        if told is not None:
            told(place + 1, len(points))
    names = (sense.names[0], sense.names[1])
    return FrontBound(names, least, tuple(steps), tolerance, complete)


def _bounded(
    problem: Problem, point: FloatArray, size: float, tolerance: float, feasibility: float, seconds: float
) -> tuple[Verdict, tuple[float, ...]]:
    """Return what a proof says of a problem of one objective at a design, and the better design that it found."""
    case = JudgedDesign(
        problem=replace(problem, confirmation=None), point=point, tolerance=tolerance, feasibility=feasibility
    )
    case.size = size
    why = refusal(case)
    if why:
        raise RequestError(f"--prove: {why}")
    found = proved(case, case.verdict("unverified", ""), seconds=seconds)
    better = tuple(found.better.values()) if found.verdict == "improvable" else ()
    return found, better
