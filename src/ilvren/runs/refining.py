"""Runs over time, stage by stage: after each, what was found is looked at more finely than the method saw it.

Where a limit at every moment is broken between the moments of the grid, or the steps of the simulation were not chosen
for the design that was found, the problem of the next stage has more moments, and steps chosen along that design.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import field, replace
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from ilvren.evaluate import Gate
from ilvren.problem import Measures, Problem, Refinement, RowBlock, highest_near, objective_size, refined_problem
from ilvren.records import dataclass
from ilvren.runs.gridding import GridReport, grid_report, next_grid

if TYPE_CHECKING:
    from ilvren.evaluate import Evaluation

__all__ = [
    "MOST_STAGES",
    "REFINED",
    "Closer",
    "TimeReport",
    "finely_measured",
    "is_seen_at_moments",
    "left_open",
    "missed_between",
    "next_refinement",
    "time_report",
]

FloatArray = NDArray[np.float64]

# Outcomes whose design is worth a closer look.
REFINED = frozenset({"converged", "settled", "target", "stalled"})
# A limit that moves from moment to moment as fast as moments are added will not be caught.
MOST_STAGES = 8
# Moments added in one stage; and the grid's moments beyond which intervals are looked at in two parts, not in four.
MOST_ADDED, LARGE_GRID = 40, 1500
# Parts of every interval that are tried until measures are what they are between all steps; moments this near are one.
PARTS, APART = (2, 4, 8, 16, 32), 1e-7
# At so many moments is looked at least: what is measured may swing faster than the states do.
LEAST_LOOKED = 200
# A grid has no more moments for what is measured than so many, or so many times those of its file: what changes still
# jumps where states decide, and the moments of a grid never find that out.
MOST_MEASURED, TIMES_DECLARED = 800, 8
# Steps are made for errors smaller by ten, at most so often.
MOST_TIGHTER = 4
USUAL_TOLERANCE = 1e-4


@dataclass(frozen=True)
class TimeReport:
    """What simulating costs at a design: the largest estimated error of a state over its size, the limit, the steps and
    what takes them; whether they were halved because they were chosen along another design. On a grid the steps are its
    intervals, and `growth` is the most that a deviation grows."""

    estimate: float
    limit: float
    steps: int
    scheme: str
    is_halved: bool = False
    growth: float = 1.0
    grid: GridReport | None = field(default=None, repr=False, compare=False)

    @property
    def is_met(self) -> bool:
        """Return whether the error is within its limit."""
        return self.estimate <= self.limit

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        estimate: object = self.estimate if np.isfinite(self.estimate) else None
        found = {"estimate": estimate, "limit": self.limit, "steps": self.steps, "scheme": self.scheme}
        return found | ({"growth": self.growth} if self.grid is not None and np.isfinite(self.growth) else {})


def tolerance_of(problem: Problem) -> float:
    """Return the tolerance of what is computed over time."""
    return problem.refinement.tolerance or USUAL_TOLERANCE


def time_report(problem: Problem, point: FloatArray, calls: Sequence[Any] = ()) -> TimeReport | None:
    """Return what simulating costs at a design; None where it cannot be simulated, or nothing is."""
    if problem.is_collocated:
        told = grid_report(problem, point)
        return TimeReport(
            told.estimate,
            tolerance_of(problem),
            told.intervals,
            problem.refinement.scheme,
            growth=told.growth,
            grid=told,
        )
    found: list[TimeReport] = []
    simulations = problem.bound_simulations(calls)
    for simulation, inputs in zip(simulations, problem.simulation_inputs(point, calls), strict=True):
        error = simulation.time_error(inputs)
        if error is None:
            return None
        is_halved = simulation.point(inputs).halvings > 0
        found.append(TimeReport(error.estimate, tolerance_of(problem), error.steps, error.scheme, is_halved))
    if not found:
        return None
    worst = max(found, key=lambda item: item.estimate)
    return replace(worst, steps=sum(item.steps for item in found), is_halved=any(item.is_halved for item in found))


@dataclass(frozen=True)
class Missed:
    """What is seen of a design between the moments of the grid: by how much limits over time are broken there at most,
    over the row's size, and in which row; what is `measured` otherwise than at the moments (the name of an objective or
    a row), by which `change` over its size, and the two values as evaluated; and the moments (shares of the time, by
    case) at which more is to be looked at."""

    worst: float
    row: str
    moments: dict[str, tuple[float, ...]]
    measured: str = ""
    change: float = 0.0
    at_moments: float = math.nan
    between: float = math.nan

    @property
    def otherwise(self) -> str:
        """Return what is measured otherwise between the moments, in words."""
        if not math.isfinite(self.between):
            return f"{self.measured} has no value at some moment between those of the grid"
        return (
            f"{self.measured} is {self.at_moments:.6g} by the moments of the grid, {self.between:.6g} between them, too"
        )


def is_seen_at_moments(problem: Problem) -> bool:
    """Return whether there are limits over time or measures, which the grid's moments alone tell a method."""
    return bool(problem.template.measures) or any(block.times is not None for block in problem.row_blocks)


def missed_between(problem: Problem, point: FloatArray, calls: Sequence[Any] = ()) -> Missed:
    """Return which limits over time a design breaks between the moments of the grid, by more than the tolerance, and
    which measure (an extreme, a time at which something is reached) is another one when it is looked for there, too."""
    if not is_seen_at_moments(problem):
        return Missed(0.0, "", {})
    axes = problem.template.built_axes
    finer = refined_problem(
        problem, problem.refinement.with_more(_looked_at(problem, calls), problem.refinement.anchor)
    )
    gate = Gate(finer, calls=calls if len(calls) == len(finer.sources) else None)
    there = gate.evaluate(point)
    missed = _limits_missed(problem, finer, there.rows)
    unknown = next((block.name for block in finer.row_blocks if _is_unknown(block, there.rows)), "")
    if unknown:
        return replace(missed, measured=unknown, change=1.0)
    if not problem.template.measures:
        return missed
    here = _evaluated(problem, point, calls)
    name, change, one, other = _otherwise(problem, here, finer, there)
    missed = replace(missed, measured=name, change=change, at_moments=one, between=other)
    if not change > tolerance_of(problem):
        return missed
    more = _enough_moments(problem, point, calls, finer, there)
    cases = {axis.case for axis in axes}
    joined = {case: tuple(sorted({*missed.moments.get(case, ()), *more.get(case, ())})) for case in cases}
    return replace(missed, moments={case: own for case, own in joined.items() if own})


def finely_measured(problem: Problem, point: FloatArray, calls: Sequence[Any] = ()) -> Problem:
    """Return a problem with as many more moments as its measures need at a design (n,) to be what they are between
    them, too; the same where they are already, or where nothing over time is measured, or on a grid."""
    if problem.is_collocated or not problem.template.measures:
        return problem
    missed = missed_between(problem, point, calls)
    if not missed.change > tolerance_of(problem):
        return problem
    return refined_problem(problem, problem.refinement.with_more(missed.moments, problem.refinement.anchor))


def _looked_at(problem: Problem, calls: Sequence[Any]) -> dict[str, tuple[float, ...]]:
    """Return moments between those of the grid, by case: parts of every interval, and where the steps of the simulation
    end, which are short where much happens."""
    axes = problem.template.built_axes
    count = sum(len(axis.taus) - 1 for axis in axes)
    parts = max(4, -(-LEAST_LOOKED // count)) if count < LARGE_GRID else 2
    found = {}
    for axis, simulation in zip(axes, problem.bound_simulations(calls), strict=True):
        own = simulation.mesh(0).taus
        own = own[:: len(own) // LARGE_GRID + 1]
        every = np.concatenate([_parts(np.asarray(axis.taus), parts), own])
        apart = np.abs(every[:, None] - np.asarray(axis.taus)).min(axis=1)
        found[axis.case] = tuple(np.unique(every[apart > APART]).tolist())
    return found


def _parts(taus: FloatArray, parts: int) -> FloatArray:
    """Return the moments that divide every interval into so many parts."""
    low, step = taus[:-1], np.diff(taus)
    return np.concatenate([low + step * k / parts for k in range(1, parts)])


def _evaluated(problem: Problem, point: FloatArray, calls: Sequence[Any]) -> Evaluation:
    return Gate(problem, calls=calls if len(calls) == len(problem.sources) else None).evaluate(point)


def _is_unknown(block: RowBlock, rows: FloatArray) -> bool:
    """Return whether a limit over time has no value somewhere, of rows (m,)."""
    return block.times is not None and not np.isfinite(rows[block.first : block.first + block.size]).all()


def _otherwise(
    problem: Problem, here: Evaluation, finer: Problem, there: Evaluation
) -> tuple[str, float, float, float]:
    """Return which objective or row that is no limit over time differs most between two grids, by how much over its
    size, and both values."""
    found = [("", 0.0, math.nan, math.nan)]
    if problem.objective is not None:
        size = objective_size(problem.objective.magnitude, there.objective, here.objective)
        one, other = (problem.objective.sign * own.objective for own in (here, there))
        found.append((problem.objective.name, abs(one - other) / size, one, other))
    sizes = Measures.of(problem).row_sizes
    others = {block.name: block for block in finer.row_blocks}
    for block in problem.row_blocks:
        other_block = others.get(block.name)
        if block.times is not None or other_block is None or other_block.size != block.size:
            continue
        mine = slice(block.first, block.first + block.size)
        rows, more = here.rows[mine], there.rows[other_block.first : other_block.first + block.size]
        for place, change in enumerate((np.abs(rows - more) / sizes[mine]).tolist()):
            found.append((block.row_name(place), change, float(rows[place]), float(more[place])))
    # What has a value at the moments alone is another one between them, whatever it is.
    known = [item if np.isfinite(item[1]) else (item[0], 1.0, item[2], item[3]) for item in found]
    return max(known, key=lambda item: item[1])


def _enough_moments(
    problem: Problem, point: FloatArray, calls: Sequence[Any], finest: Problem, there: Evaluation
) -> dict[str, tuple[float, ...]]:
    """Return the moments, as few as will do, at which measures are what they are at all that was looked at."""
    limit, looked = 0.5 * tolerance_of(problem), _looked_at(problem, calls)
    for parts in PARTS:
        more = {axis.case: tuple(_parts(np.asarray(axis.taus), parts).tolist()) for axis in problem.template.built_axes}
        if sum(map(len, more.values())) >= sum(map(len, looked.values())):
            break
        own = refined_problem(problem, problem.refinement.with_more(more, problem.refinement.anchor))
        if _otherwise(own, _evaluated(own, point, calls), finest, there)[1] <= limit:
            return more
    return looked


def _limits_missed(problem: Problem, finer: Problem, rows: FloatArray) -> Missed:
    """Return which limits over time are broken between the moments, by rows (m,) of a finer grid."""
    axes = problem.template.built_axes
    measures = Measures.of(finer)
    # Limits are of the size that they have on the grid itself.
    miss = np.maximum(measures.row_lower - rows, rows - measures.row_upper) / measures.row_sizes
    limit = tolerance_of(problem)
    worst, name = 0.0, ""
    found: dict[str, list[tuple[float, float]]] = {}
    for block in finer.row_blocks:
        if block.times is None:
            continue
        own = miss[block.first : block.first + block.size].reshape(len(block.times), -1)
        peak = own.max(axis=1)
        axis = next((item for item in axes if item.suffix and block.name.endswith(item.suffix)), axes[0])
        if not np.isfinite(peak).all():
            continue
        if peak.max(initial=0.0) > worst:
            worst = float(peak.max())
            place = int(np.argmax(peak))
            name = block.row_name(place * own.shape[1] + int(np.argmax(own[place])))
        shares = axis.shares_of(np.array(block.times))
        for k in range(len(peak)):
            before, after = peak[k - 1] if k else -np.inf, peak[k + 1] if k + 1 < len(peak) else -np.inf
            if peak[k] >= before and peak[k] >= after and peak[k] > -limit:
                tau, top = highest_near(shares, peak, k)
                worst = max(worst, top)
                if top > 0.5 * limit:
                    found.setdefault(axis.case, []).append((-top, tau))
    moments = {case: tuple(tau for _, tau in sorted(own)[:MOST_ADDED]) for case, own in found.items()}
    known = {axis.case: axis.taus for axis in axes}
    moments = {
        case: tuple(tau for tau in own if np.abs(known[case] - tau).min() > 1e-7) for case, own in moments.items()
    }
    return Missed(worst, name, {case: own for case, own in moments.items() if own})


def _may_grow(problem: Problem, missed: Missed) -> bool:
    """Return whether the grid may have the moments that measures ask for."""
    known = sum(len(axis.taus) for axis in problem.template.built_axes)
    own = known - sum(map(len, problem.refinement.more.values()))
    return known + sum(map(len, missed.moments.values())) <= max(MOST_MEASURED, TIMES_DECLARED * own)


def _unsettled(problem: Problem, missed: Missed) -> str:
    """Return what is to be said of a measure that more moments would change still."""
    count = sum(len(axis.taus) for axis in problem.template.built_axes)
    return (
        f"{missed.otherwise}, and {count:,} moments are not enough to tell: what is measured jumps where states decide,"
        " or swings faster than that; a measure of a state itself, or of an integral, can be told"
    )


def _broken(problem: Problem, missed: Missed, violation: float = 0.0) -> str:
    """Return which limit a design breaks between the moments of the grid by more than at them, which is a `violation`
    that is told anyway; "" for none."""
    if not missed.worst > violation + tolerance_of(problem):
        return ""
    return f"{missed.row} is broken between the moments of the grid, by {missed.worst:.1e} of its size"


def left_open(problem: Problem, point: FloatArray, violation: float) -> str:
    """Return what is otherwise between the moments of the grid than at them at the design (n,) of a run that ended
    before a closer look at it, with its `violation`; "" for nothing, and where that cannot be told."""
    missed = missed_between(problem, point)
    is_otherwise = bool(missed.measured) and missed.change > tolerance_of(problem)
    found = [_broken(problem, missed, violation), missed.otherwise if is_otherwise else ""]
    told = "; ".join(filter(None, found))
    return f"{told}: the run ended before it looked there" if told else ""


class Closer(NamedTuple):
    """How the next stage looks at a problem over time (None where nothing is gained by one), why, and what is to be
    said of what no closer look has settled."""

    refinement: Refinement | None
    told: str = ""
    unsettled: str = ""


def next_refinement(
    problem: Problem,
    point: FloatArray,
    calls: Sequence[Any] = (),
    *,
    report: TimeReport | None = None,
    finds_jumps: bool = True,
    multipliers: tuple[FloatArray, FloatArray] | None = None,
) -> Closer:
    """Return how the next stage looks at a problem over time. On a grid it may find where controls jump. `report` is
    what is known of simulating already, `multipliers` (m,) and (n,) are those of rows and bounds. `point` is (n,)."""
    report = report or time_report(problem, point, calls)
    if report is None:
        return Closer(None)
    if report.grid is not None:
        found = next_grid(problem, point, report.limit, report.grid, finds_jumps=finds_jumps, multipliers=multipliers)
        return Closer(*(found or (None,)))
    missed = missed_between(problem, point, calls)
    told = []
    own = problem.refinement
    limit = tolerance_of(problem)
    anchor = own.anchor
    tighter = own.tighter
    if not report.is_met or report.is_halved:
        here = tuple(point.tolist())
        if not report.is_met and not report.is_halved and own.anchor is not None:
            tighter += 1  # steps chosen near here are not fine enough
        if tighter <= MOST_TIGHTER and (here != own.anchor or tighter != own.tighter):
            anchor = here
            why = f"their error was {report.estimate:.1e}" if not report.is_met else "they had to be halved for it"
            told.append(f"steps chosen anew along this design ({why})")
    is_unsettled = missed.change > limit
    is_otherwise = is_unsettled and bool(missed.moments) and _may_grow(problem, missed)
    if (missed.worst > limit or is_otherwise) and missed.moments:
        count = sum(len(item) for item in missed.moments.values())
        moments = "moment" if count == 1 else "moments"
        why = missed.otherwise if is_otherwise else f"{missed.row} is broken between its moments by {missed.worst:.1e}"
        told.append(f"{count} {moments} added to the grid ({why})")
    if not told:
        return Closer(None, "", _unsettled(problem, missed) if is_unsettled else _broken(problem, missed))
    finer = own.with_more(missed.moments if missed.worst > limit or is_otherwise else {}, anchor)
    return Closer(replace(finer, tighter=min(tighter, MOST_TIGHTER)), "; ".join(told))
