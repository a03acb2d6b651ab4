"""The front that a run reports: its members, the values that it lies between, and the volume that it dominates."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import hypervolume, spread_subset
from ilvren.errors import RequestError, nearest
from ilvren.problem import Measures, Problem, Sense, objective_size
from ilvren.records import dataclass
from ilvren.runs.conditions import active_sides
from ilvren.runs.limits import LimitStates, plain, told_by_block

if TYPE_CHECKING:
    from ilvren.evaluate import Gate
    from ilvren.runs.archive import Archive

__all__ = [
    "FEW_POINTS",
    "MANY_POINTS",
    "Front",
    "FrontDesign",
    "front_of",
    "objective_sizes",
    "own_limits",
    "points_asked",
    "reference_from",
    "refuse_reference",
]

FloatArray = NDArray[np.float64]

# Points of a front where nothing else is asked for: of two objectives, of more.
FEW_POINTS, MANY_POINTS = 60, 150
# The reference point lies so many ranges beyond the nadir.
BEYOND = 0.1
# More than three objectives: the volume of more designs than this is that of so many, spread over the front.
MOST_MEASURED = 60
# A design that another beats by less than this share of an objective's range, and nowhere by more, is not dominated
# for that: a limit met a little less closely gains as much.
SLACK, ROUNDING = 1e-5, 1e-12
# Of two members so near in one objective the one is kept that is clearly better in another, the ends apart.
NEARLY = 1e-6
# So many times farther than the members of an evenly filled front a design lies that fills a gap: where few are claimed
# of those asked for, and else.
GAP, WIDE_GAP, FEW = 1.2, 3.0, 0.7


@dataclass(frozen=True)
class FrontDesign:
    """One design of a front: its number in the run, the full design (n,), its objectives as written, and how its
    constraints stand."""

    number: int
    point: tuple[float, ...]
    objectives: Mapping[str, float]
    constraints: LimitStates
    violation: float


@dataclass(frozen=True)
class Front:
    """The members, sorted by the first objective; `ideal`, `nadir` and `reference_point` by objective, as written;
    `found` is how many designs nothing dominated, of which the members were chosen"""

    sense: Sense
    members: tuple[FrontDesign, ...]
    ideal: Mapping[str, float]
    nadir: Mapping[str, float]
    reference_point: Mapping[str, float]
    hypervolume: float
    found: int
    is_trimmed: bool = False

    @property
    def values(self) -> FloatArray:
        """Return the objectives (k, p), each to be minimized; none better than its goal."""
        names = self.sense.names
        rows = [[member.objectives[name] for name in names] for member in self.members]
        values = np.array(rows, dtype=float).reshape(-1, len(names)) * self.sense.signs
        return np.maximum(values, self.sense.goals)

    @property
    def share(self) -> float:
        """Return the hypervolume over that of the box between ideal and reference point."""
        names = [self.sense.names[k] for k in self.sense.levels[-1]]
        sides = [abs(self.reference_point[name] - self.ideal[name]) for name in names] if self.members else []
        whole = float(np.prod(sides)) if sides else 0.0
        return self.hypervolume / whole if whole > 0.0 else float("nan")

    def to_dict(self, problem: Problem, run: str) -> dict[str, object]:
        """Return what the run's document says of the front."""
        return {
            "ideal": {name: plain(value) for name, value in self.ideal.items()},
            "nadir": {name: plain(value) for name, value in self.nadir.items()},
            "reference_point": {name: plain(value) for name, value in self.reference_point.items()},
            "hypervolume": plain(self.hypervolume),
            "hypervolume_share": plain(self.share),
            "nondominated": self.found,
            "front": [
                {
                    "design": f"{run}:{member.number}" if run else member.number,
                    "objectives": {name: plain(value) for name, value in member.objectives.items()},
                    "variables": told_by_block(problem.blocks, [plain(x) for x in member.point]),
                    "constraints": member.constraints.document(),
                    "violation": plain(member.violation),
                    "verdict": None,
                }
                for member in self.members
            ],
        }


def points_asked(problem: Problem, points: int | None) -> int:
    """Return how many points a front is to have."""
    if points is not None:
        return points
    return FEW_POINTS if len(problem.objectives) == 2 else MANY_POINTS


def refuse_reference(problem: Problem, given: Mapping[str, float] | None) -> None:
    """Raise RequestError for a reference point that does not name each objective once."""
    if given is None:
        return
    names = [item.name for item in problem.objectives]
    for name in given:
        if name not in names:
            close = nearest(name, names)
            advice = f'did you mean "{close}"?' if close else f"its objectives: {', '.join(names)}"
            raise RequestError(f'--reference-point {name}: the file has no objective "{name}"', advice=advice)
    missing = [name for name in names if name not in given]
    if missing:
        whole = ",".join(f"{name}=…" for name in names)
        raise RequestError(
            f"--reference-point lacks {', '.join(missing)}", advice=f"all objectives: --reference-point {whole}"
        )


def reference_from(
    values: FloatArray, sense: Sense, given: Mapping[str, float] | None, sizes: FloatArray
) -> FloatArray:
    """Return the reference point (p,), minimized: the one given, as written, else the nadir of values (k, p) and a
    tenth of the range beyond; `sizes` (p,) stand in for a range of zero."""
    if given is not None:
        return np.array([given[name] for name in sense.names], dtype=float) * sense.signs
    high, low = values.max(axis=0), values.min(axis=0)
    return np.asarray(high + BEYOND * np.where(high > low, high - low, sizes), dtype=np.float64)


def objective_sizes(sense: Sense, values: FloatArray, starts: FloatArray) -> FloatArray:
    """Return the sizes (p,) of the objectives at the first of values (k, p); `starts` (p,) are those of the start."""
    first = values[0]
    return np.array(
        [
            objective_size(item.magnitude, value, start)
            for item, value, start in zip(sense.objectives, first.tolist(), starts.tolist(), strict=True)
        ]
    )


def front_of(
    problem: Problem,
    gate: Gate,
    measures: Measures,
    archive: Archive,
    *,
    count: int,
    claimed: FloatArray | None = None,
    reference: Mapping[str, float] | None = None,
    feasibility: float = 1e-6,
    numbers: Callable[[FloatArray], int] = lambda point: 0,
) -> Front:
    """Return the front of at most `count` members: the full designs (k, n) that a method has `claimed`, as far as
    nothing that was evaluated clearly dominates them, and what fills the gaps between them; where it claimed none, of
    everything evaluated. `numbers` gives the number of a design's evaluation, 0 where that is not known."""
    sense = archive.sense
    names = sense.names
    chosen = _chosen(archive, gate, claimed, count)
    values = chosen.values
    if not len(values):
        return Front(sense, (), {}, {}, {}, 0.0, 0)
    order = np.lexsort((*values.T[::-1],)) if sense.signs[0] > 0 else np.lexsort((*values.T[::-1],))[::-1]
    values = values[order]
    start = gate.evaluate(np.array(problem.start))
    starts = sense.minimized(start.rows) if start.is_finite else values[0]
    corner = reference_from(values, sense, reference, objective_sizes(sense, values, starts))
    members = []
    for place in order.tolist():
        point = chosen.points[place]
        rows = gate.evaluate(point).rows
        members.append(
            FrontDesign(
                numbers(point) or int(chosen.numbers[place]),
                tuple(point.tolist()),
                dict(zip(names, sense.written(rows).tolist(), strict=True)),
                own_limits(problem, measures, rows, feasibility),
                measures.violation(point, rows),
            )
        )
    low, high = values.min(axis=0), values.max(axis=0)
    written = [dict(zip(names, sense.as_written(side).tolist(), strict=True)) for side in (low, high, corner)]
    last = list(sense.levels[-1])  # what comes first in priority is no part of the trade-off
    measured = values[:, last]
    measured = measured if len(last) <= 3 else measured[spread_subset(measured, MOST_MEASURED)]
    volume = hypervolume(measured, corner[last])
    return Front(sense, tuple(members), written[0], written[1], written[2], volume, len(archive), archive.is_trimmed)


def own_limits(problem: Problem, measures: Measures, rows: FloatArray, feasibility: float) -> LimitStates:
    """Return how the constraints of a design with rows (m,) stand, without prices: on a front these belong to what is
    traded off."""
    blocks = [block for block in problem.row_blocks if not block.is_objective]
    count = sum(block.size for block in blocks)
    lower, upper, sizes = measures.row_lower[:count], measures.row_upper[:count], measures.row_sizes[:count]
    sides = active_sides(rows[:count], lower, upper, feasibility * sizes)
    return LimitStates(blocks, rows[:count], (lower, upper), sizes=sizes, sides=sides, prices=None, are_unique=True)


@dataclass(frozen=True)
class _Chosen:
    """Designs (k, n) with their objectives (k, p), minimized, and the numbers (k,) of their evaluations."""

    points: FloatArray
    values: FloatArray
    numbers: NDArray[np.int64]


def _chosen(archive: Archive, gate: Gate, claimed: FloatArray | None, count: int) -> _Chosen:
    """Return the members: those claimed that stand, and what lies in the gaps between them."""
    sense = archive.sense
    archive = archive.foremost()
    if claimed is None or not len(claimed) or not len(archive):
        own = spread_subset(archive.values, count)
        return _Chosen(archive.points[own], archive.values[own], archive.numbers[own])
    points = np.unique(claimed, axis=0)
    values = sense.minimized(np.array([gate.evaluate(point).rows for point in points]))
    low, high = archive.values.min(axis=0), archive.values.max(axis=0)
    extent = np.where(high > low, high - low, 1.0)
    best = np.vstack([archive.values, values[np.isfinite(values).all(axis=1)]])
    stands = np.isfinite(values).all(axis=1) & sense.foremost(np.vstack([best, values]))[len(best) :]
    stands &= ~_clearly_dominated(values / extent, archive.values / extent)
    points, values = points[stands], values[stands]
    if len(values) > count:
        own = spread_subset(values, count)
        points, values = points[own], values[own]
    filled = _in_gaps(values / extent, archive.values / extent, count)
    found = _Chosen(
        np.vstack([points, archive.points[filled]]),
        np.vstack([values, archive.values[filled]]),
        np.concatenate([np.zeros(len(points), dtype=np.int64), archive.numbers[filled]]),
    )
    kept = ~_clearly_dominated(found.values / extent, found.values / extent, NEARLY)
    kept[np.argmin(found.values, axis=0)] = True
    return _Chosen(found.points[kept], found.values[kept], found.numbers[kept])


def _clearly_dominated(values: FloatArray, others: FloatArray, least: float = ROUNDING) -> NDArray[np.bool_]:
    """Return which values (k, p), over the ranges of the front, another is below by more than SLACK somewhere and above
    by no more than `least` anywhere."""
    found = np.zeros(len(values), dtype=bool)
    for place, own in enumerate(values):
        gain = own - others
        found[place] = bool(((gain >= -least).all(axis=1) & (gain.max(axis=1) > SLACK)).any())
    return found


def _in_gaps(values: FloatArray, others: FloatArray, count: int) -> NDArray[np.int64]:
    """Return the places of others (l, p), in ranges of the front, that lie farthest from the values (k, p), as long as
    they are farther away than the members of an evenly filled front would be."""
    room = count - len(values)
    objectives = others.shape[1]
    factor = GAP if len(values) < FEW * count else WIDE_GAP
    least = factor / max(count, 1) ** (1.0 / (objectives - 1)) if objectives > 1 else np.inf
    far = np.full(len(others), np.inf)
    for own in values:
        far = np.minimum(far, np.linalg.norm(others - own, axis=1))
    chosen: list[int] = []
    while room > len(chosen) and len(others):
        place = int(np.argmax(far))
        if not far[place] > least:
            break
        chosen.append(place)
        far = np.minimum(far, np.linalg.norm(others - others[place], axis=1))
    return np.array(chosen, dtype=np.int64)
