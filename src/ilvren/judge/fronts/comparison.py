"""Fronts side by side: how much each dominates, after how many evaluations, and where each is better.

With one reference point for all, the nadir of the union and a tenth of the range beyond,

    share of A       hypervolume of A over that of the union of all fronts                                     (1)
    C(A, B)          share of the members of B that a member of A dominates                                    (2)
    attained         of several runs of one kind: what half of them, and all of them, have reached at least    (3)

Sources: (1): E. Zitzler, L. Thiele, "Multiobjective optimization using evolutionary algorithms: a comparative case
study", 1998; (2): E. Zitzler, "Evolutionary algorithms for multiobjective optimization", 1999; (3): V. Grunert da
Fonseca, C. Fonseca, A. Hall, "Inferential performance assessment of stochastic optimisers and the attainment function",
2001.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import dominated_by, hypervolume, nondominated, spread_subset
from ilvren.errors import RequestError
from ilvren.problem import Problem, Sense, sense_of
from ilvren.records import dataclass
from ilvren.runs import objective_sizes, plain, problem_of, reference_from

if TYPE_CHECKING:
    from ilvren.ledger import Ledger, RunRecord

__all__ = [
    "LEVELS",
    "Better",
    "FrontComparison",
    "FrontTrack",
    "attained",
    "compare_fronts",
    "have_fronts",
    "track_of_front",
]

FloatArray = NDArray[np.float64]

# Shares of the union's hypervolume whose first arrival is told.
LEVELS = (0.9, 0.99, 0.999)
# Points of a history of the hypervolume, and members it is measured with: two objectives, more.
MOST_STEPS, MOST_MEMBERS, MOST_MEMBERS_OF_MANY = 120, 2000, 100
# A stretch of the first objective counts where it is this share of the range, the second differing by so much.
LEAST_STRETCH, LEAST_DIFFERENCE = 0.02, 2e-3
# How many evaluations one gradient counts for.
GRADIENT_WORTH = 3.0


@dataclass(frozen=True, kw_only=True)
class FrontTrack:
    """One run's front: its members' `values` (k, p), minimized, and the front it had at several moments: `costs` (s,)
    of evaluations and gradients, `shares` (s,) of the union's hypervolume, which are empty until compared."""

    id: str
    label: str
    method: str
    outcome: str
    problem: Problem
    sense: Sense
    values: FloatArray
    counts: Mapping[str, int]
    seconds: float
    seed: int
    all_values: FloatArray
    all_costs: FloatArray
    size_at_start: FloatArray
    costs: FloatArray
    shares: FloatArray

    @property
    def name(self) -> str:
        """Return what a table calls it."""
        return f"{self.id} {self.label}" if self.label else self.id

    @property
    def work(self) -> float:
        """Return evaluations, gradients added."""
        return self.counts.get("evaluations", 0) + GRADIENT_WORTH * self.counts.get("gradients", 0)


@dataclass(frozen=True)
class Better:
    """A stretch of the first objective, as written, over which one run reaches better values of the second."""

    run: str
    low: float
    high: float


@dataclass(frozen=True)
class FrontComparison:
    """`reference` and `union_volume` are what all are measured by; `shares` (1), `gaps` the widest gap of each front,
    `arrivals` {level: evaluations or None}, `coverage` [a][b] (2), `better` where each of two objectives is better."""

    tracks: tuple[FrontTrack, ...]
    reference: FloatArray
    union: FloatArray
    union_volume: float
    shares: tuple[float, ...]
    gaps: tuple[float, ...]
    arrivals: tuple[Mapping[float, float | None], ...]
    coverage: tuple[tuple[float, ...], ...]
    better: tuple[Better, ...]

    @property
    def sense(self) -> Sense:
        """Return the objectives."""
        return self.tracks[0].sense

    def to_dict(self) -> dict[str, object]:
        """Return the JSON document of `compare`."""
        names = self.sense.names
        written = self.sense.as_written(self.reference).tolist()
        return {
            "objectives": list(names),
            "reference_point": dict(zip(names, map(plain, written), strict=True)),
            "hypervolume": plain(self.union_volume),
            "runs": [
                {
                    "run": track.id,
                    "label": track.label,
                    "method": track.method,
                    "outcome": track.outcome,
                    "points": len(track.values),
                    "hypervolume": plain(share * self.union_volume),
                    "share": plain(share),
                    "widest_gap": plain(gap),
                    "counts": dict(track.counts),
                    "seconds": track.seconds,
                    "evaluations_to": {f"{level:g}": n for level, n in arrivals.items()},
                    "covers": {
                        other.id: plain(own) for other, own in zip(self.tracks, row, strict=True) if other is not track
                    },
                }
                for track, share, gap, arrivals, row in zip(
                    self.tracks, self.shares, self.gaps, self.arrivals, self.coverage, strict=True
                )
            ],
            "better": [{"run": b.run, "from": plain(b.low), "to": plain(b.high)} for b in self.better],
        }


def have_fronts(ledger: Ledger, references: Sequence[str]) -> bool:
    """Return whether the first of the runs has several objectives."""
    record = ledger.run(references[0])
    return len(problem_of(record).objectives) > 1


def track_of_front(ledger: Ledger, record: RunRecord) -> FrontTrack:
    """Return a run's front and how it came about. Raises RequestError where the run has not ended or has no front."""
    problem = problem_of(record)
    sense = sense_of(problem)
    if sense is None:
        raise RequestError(f"{record.id} has one objective, and others here have several", advice="compare them apart")
    if record.result is None:
        raise RequestError(f"{record.id} has not ended", advice=f"`ilvren resume {record.id}` brings it to an end")
    documents = record.result.get("front") or []
    assert isinstance(documents, list)
    values = [[float(own["objectives"][name]) for name in sense.names] for own in documents]
    kept = [r for r in ledger.evaluations(record.number) if r.is_whole]
    rows = np.array([np.frombuffer(r.values)[1:] for r in kept]).reshape(len(kept), problem.row_count)
    every = sense.minimized(rows)
    feasibility = float(str(record.settings["feasibility"]))
    usable = np.array([r.violation <= feasibility for r in kept], dtype=bool) & np.isfinite(every).all(axis=1)
    costs = np.array([r.evaluations + GRADIENT_WORTH * r.gradients for r in kept])
    counts = record.result["counts"]
    assert isinstance(counts, dict)
    minimized = np.maximum(np.array(values).reshape(-1, len(sense.names)) * sense.signs, sense.goals)
    return FrontTrack(
        id=record.id,
        label=record.label or "",
        method=record.method,
        outcome=record.outcome or record.state,
        problem=problem,
        sense=sense,
        values=minimized,
        counts=counts,
        seconds=record.seconds or 0.0,
        seed=int(str(record.settings.get("seed", 0))),
        all_values=every[usable],
        all_costs=costs[usable],
        size_at_start=objective_sizes(sense, every[:1], every[0]) if len(every) else np.ones(len(sense.names)),
        costs=np.zeros(0),
        shares=np.zeros(0),
    )


def compare_fronts(tracks: Sequence[FrontTrack], reference: Mapping[str, float] | None = None) -> FrontComparison:
    """Set fronts side by side. Raises RequestError for other objectives, and where no run found anything."""
    first = tracks[0]
    for track in tracks[1:]:
        own = [(item.name, item.sign) for item in track.sense.objectives]
        if own != [(item.name, item.sign) for item in first.sense.objectives]:
            raise RequestError(
                f"{first.id} and {track.id} do not trade off the same objectives",
                advice="compare runs whose objectives have the same names",
            )
    found = [track.values for track in tracks if len(track.values)]
    if not found:
        raise RequestError("none of these runs found a design that meets all limits")
    every = np.vstack(found)
    union = every[nondominated(every)]
    corner = reference_from(union, first.sense, reference, first.size_at_start)
    whole = _volume(union, corner)
    shares = [_volume(track.values, corner) / whole if whole else 0.0 for track in tracks]
    told = [_history(track, corner, whole) for track in tracks]
    arrivals = [{level: _arrival(costs, own, level) for level in LEVELS} for costs, own in told]
    made = tuple(_with_history(track, costs, own) for track, (costs, own) in zip(tracks, told, strict=True))
    coverage = tuple(
        tuple(
            float(dominated_by(b.values, a.values).mean()) if len(b.values) and len(a.values) else 0.0 for b in tracks
        )
        for a in tracks
    )
    low, high = union.min(axis=0), union.max(axis=0)
    extent = np.where(high > low, high - low, 1.0)
    gaps = tuple(_widest(track.values, extent) for track in tracks)
    better = _better(made, union) if union.shape[1] == 2 and len(tracks) > 1 else ()
    return FrontComparison(made, corner, union, whole, tuple(shares), gaps, tuple(arrivals), coverage, better)


def _with_history(track: FrontTrack, costs: FloatArray, shares: FloatArray) -> FrontTrack:
    from dataclasses import replace

    return replace(track, costs=costs, shares=shares)


def _volume(values: FloatArray, corner: FloatArray) -> float:
    most = MOST_MEMBERS if values.shape[1] <= 3 else MOST_MEMBERS_OF_MANY
    if len(values) > most:
        values = values[spread_subset(values, most)]
    return hypervolume(values, corner)


def _history(track: FrontTrack, corner: FloatArray, whole: float) -> tuple[FloatArray, FloatArray]:
    """Return (costs, shares of the union's hypervolume) of all that a run had evaluated so far, at several moments."""
    count = len(track.all_values)
    if not count or not whole:
        return np.zeros(0), np.zeros(0)
    ends = np.unique(np.round(np.geomspace(1, count, MOST_STEPS)).astype(int))
    front = track.all_values[:0]
    costs, shares = [], []
    begin = 0
    for end in ends.tolist():
        part = np.vstack([front, track.all_values[begin:end]])
        front = part[nondominated(part)]
        begin = end
        costs.append(float(track.all_costs[end - 1]))
        shares.append(_volume(front, corner) / whole)
    return np.array(costs), np.array(shares)


def _arrival(costs: FloatArray, shares: FloatArray, level: float) -> float | None:
    reached = np.flatnonzero(shares >= level)
    return float(costs[reached[0]]) if len(reached) else None


def _widest(values: FloatArray, extent: FloatArray) -> float:
    """Return the widest gap between neighbours (two objectives), or from a member to its nearest (more)."""
    if len(values) < 2:
        return float("nan")
    scaled = values / extent
    if values.shape[1] == 2:
        order = np.lexsort((scaled[:, 1], scaled[:, 0]))
        return float(np.linalg.norm(np.diff(scaled[order], axis=0), axis=1).max())
    distance = np.linalg.norm(scaled[:, np.newaxis] - scaled[np.newaxis], axis=2)
    np.fill_diagonal(distance, np.inf)
    return float(distance.min(axis=1).max())


def attained(values: FloatArray, at: FloatArray) -> FloatArray:
    """Return (m,): the least second objective that a front (k, 2) reaches with a first one of at most `at` (m,);
    infinite where it has none."""
    order = np.lexsort((values[:, 1], values[:, 0]))
    first, best = values[order, 0], np.minimum.accumulate(values[order, 1])
    place = np.searchsorted(first, at, side="right")
    return np.where(place > 0, best[np.maximum(place - 1, 0)], np.inf) if len(values) else np.full(len(at), np.inf)


def _better(tracks: Sequence[FrontTrack], union: FloatArray) -> tuple[Better, ...]:
    """Return the stretches of the first objective over which one run alone is best, each front being taken as a line
    between its members."""
    low, high = union.min(axis=0), union.max(axis=0)
    extent = np.where(high > low, high - low, 1.0)
    at = np.linspace(low[0], high[0], 401)
    lines = np.array([_line(track.values, at) for track in tracks])
    order = np.argsort(lines, axis=0)
    best, second = order[0], order[1]
    columns = np.arange(len(at))
    with np.errstate(invalid="ignore"):
        ahead = (lines[second, columns] - lines[best, columns]) / extent[1]
    clear = np.where(np.isfinite(lines[best, columns]) & ~(ahead <= LEAST_DIFFERENCE), best, -1)
    found, begin = [], 0
    for place in range(1, len(at) + 1):
        if place < len(at) and clear[place] == clear[begin]:
            continue
        if clear[begin] >= 0 and at[place - 1] - at[begin] >= LEAST_STRETCH * extent[0]:
            sign = tracks[0].sense.signs[0]
            ends = sorted((float(sign * at[begin]), float(sign * at[place - 1])))
            found.append(Better(tracks[int(clear[begin])].id, ends[0], ends[1]))
        begin = place
    return tuple(found)


def _line(values: FloatArray, at: FloatArray) -> FloatArray:
    """Return the second objective along a front (k, 2), straight between its members, infinite outside of them."""
    if not len(values):
        return np.full(len(at), np.inf)
    order = np.lexsort((values[:, 1], values[:, 0]))
    first, second = values[order, 0], values[order, 1]
    found = np.interp(at, first, second)
    return np.where((at < first[0]), np.inf, found)
