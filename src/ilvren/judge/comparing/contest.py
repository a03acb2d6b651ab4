"""Runs and groups of runs summed up by method: shares solved, costs to the target, failures, profiles, paired tests."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import field
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from ilvren.errors import RequestError
from ilvren.judge.comparing.comparison import DISTANCES, GRADIENT_WORTH, Comparison, compared, distance_text
from ilvren.judge.comparing.paired_test import PairTest, paired_tests
from ilvren.judge.comparing.profiles import ShareCurve, data_profile, performance_profile
from ilvren.judge.comparing.track import Track, track_of_record
from ilvren.ledger import GroupRecord, Ledger
from ilvren.notebooks import InNotebooks
from ilvren.records import dataclass
from ilvren.runs import Quartiles, plain

if TYPE_CHECKING:
    from ilvren.problem import Problem

__all__ = ["ContestRun", "ContestSummary", "MethodSummary", "contest_summary"]

Key = tuple[int, ...]
# What "solved" means unless asked otherwise: this close to the best known, relative.
SOLVED = 1e-4


@dataclass(frozen=True)
class ContestRun:
    """One run of a contest: its track, the `series` it counts for, and (problem, start, seed)."""

    track: Track
    series: str
    key: Key
    is_random: bool


@dataclass(frozen=True)
class MethodSummary:
    """A series over all its runs: how many, how many solved, quartiles of the cost to the target over all runs
    (infinite for those that never arrive), of the final gaps and of the seconds; outcomes, those of unsolved runs
    apart."""

    series: str
    runs: int
    solved: int
    costs: Quartiles
    gaps: Quartiles
    seconds: Quartiles
    outcomes: Mapping[str, int]
    failures: Mapping[str, int]
    arrivals: Mapping[float, tuple[int, float]] = field(default_factory=dict)

    @property
    def share(self) -> float:
        """Return the share solved."""
        return self.solved / self.runs if self.runs else 0.0

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        return {
            "method": self.series,
            "runs": self.runs,
            "solved": self.solved,
            "share": self.share,
            "cost_to_target": self.costs.to_dict(),
            "final_gap": self.gaps.to_dict(),
            "seconds": self.seconds.to_dict(),
            "outcomes": dict(self.outcomes),
            "failures": dict(self.failures),
            "arrivals": {
                distance_text(distance): {"runs": count, "median": plain(median)}
                for distance, (count, median) in self.arrivals.items()
            },
        }


@dataclass(frozen=True)
class Fixing:
    """What it costs that a problem `file` has variables `fixed` which another one, `of`, leaves free: the best
    objective of each, as written, and by how much the first is worse, also as a share of the other's size (NaN where
    that is 0)."""

    file: str
    of: str
    fixed: tuple[str, ...]
    best: float
    best_of: float
    cost: float
    share: float

    def to_dict(self) -> dict[str, object]:
        """Return its part of the JSON document."""
        return {
            "file": self.file,
            "of": self.of,
            "fixed": list(self.fixed),
            "best": self.best,
            "best_of": self.best_of,
            "cost": self.cost,
            "share": self.share if math.isfinite(self.share) else None,
        }


@dataclass(frozen=True, kw_only=True)
class ContestSummary(InNotebooks):
    """`comparisons` one a problem, with the `cases` of each in the order of its tracks; `methods` summed up; `tests` of
    pairs; `performance` and `data` profiles where there are several problems; `missing` members that have not run."""

    name: str
    cases: tuple[tuple[ContestRun, ...], ...]
    comparisons: tuple[Comparison, ...]
    methods: tuple[MethodSummary, ...]
    tests: tuple[PairTest, ...]
    performance: tuple[ShareCurve, ...]
    data: tuple[ShareCurve, ...]
    solved_within: float
    along: str
    gradient_worth: float
    missing: int = 0

    @property
    def holds(self) -> bool:
        """Return whether every member ran and ended as it was asked."""
        from ilvren.runs import HOLDS

        every = [track.outcome in HOLDS for comparison in self.comparisons for track in comparison.tracks]
        return self.missing == 0 and all(every)

    @property
    def fixings(self) -> tuple[Fixing, ...]:
        """Return what it costs where one of the problems is another one with variables fixed: the same variables and
        objective, of which fewer are free."""
        best: dict[tuple[str, tuple[int, ...]], tuple[Problem, float]] = {}
        for comparison in self.comparisons:
            for track in comparison.tracks:
                problem = track.problem
                if problem.objective is None or not track.is_feasible.any():
                    continue
                key = (problem.source.file, tuple(problem.free))
                least = float(track.objective[track.is_feasible].min())
                best[key] = (problem, min(least, best[key][1]) if key in best else least)
        every = list(best.values())
        found = [_fixing(*one, *other) for one in every for other in every]
        return tuple(item for item in found if item is not None)

    def to_dict(self) -> dict[str, object]:
        """Return the JSON document."""
        documents = [comparison.to_dict() for comparison in self.comparisons]
        runs: list[object] = []
        for document, cases in zip(documents, self.cases, strict=True):
            own = document["runs"]
            assert isinstance(own, list)
            runs += [{**run, "series": case.series, "start": case.key[1]} for run, case in zip(own, cases, strict=True)]
        return {
            "group": self.name,
            "along": self.along,
            "gradient_worth": self.gradient_worth,
            "solved_within": self.solved_within,
            "missing": self.missing,
            "methods": [item.to_dict() for item in self.methods],
            "pairs": [item.to_dict() for item in self.tests],
            "performance_profile": [item.to_dict() for item in self.performance],
            "data_profile": [item.to_dict() for item in self.data],
            "problems": [
                {
                    "problem": comparison.problem_name,
                    "best": document["best"],
                    "optima": document["optima"],
                    "allowance": comparison.allowance or None,
                }
                for comparison, document in zip(self.comparisons, documents, strict=True)
            ],
            "fixings": [item.to_dict() for item in self.fixings],
            "runs": runs,
        }


def _fixing(problem: Problem, least: float, whole: Problem, least_of: float) -> Fixing | None:
    """Return what fixing costs where `problem` is `whole` with variables fixed; the least objectives are internal."""
    objective, also = problem.objective, whole.objective
    names, all_names = ([variable.name for variable in item.variables] for item in (problem, whole))
    if names != all_names or objective is None or also is None or not set(problem.free) < set(whole.free):
        return None
    if (objective.name, objective.sign) != (also.name, also.sign):
        return None
    fixed = tuple(whole.variables[place].name for place in whole.free if place not in set(problem.free))
    cost = least - least_of
    share = cost / abs(least_of) if least_of != 0.0 else math.nan
    sign = objective.sign
    return Fixing(problem.source.file, whole.source.file, fixed, sign * least, sign * least_of, cost, share)


def contest_summary(
    references: Sequence[str],
    ledger: Ledger | str | Path,
    *,
    reference: float | None = None,
    gradient_worth: float = GRADIENT_WORTH,
    solved_within: float = SOLVED,
    distances: Sequence[float] = DISTANCES,
    along: str = "evaluations",
) -> ContestSummary:
    """Sum up groups and single runs by method. Runs of the same problem, by its title or file, are set side by side;
    several groups are told apart by their ids. Raises RequestError."""
    opened = ledger if isinstance(ledger, Ledger) else Ledger(ledger, read_only=True)
    try:
        cases, missing = _cases(references, opened)
    finally:
        if opened is not ledger:
            opened.close()
    if not cases:
        raise RequestError(f"{', '.join(references)}: no run has been recorded yet")
    by_problem: dict[int, list[ContestRun]] = {}
    for case in cases:
        by_problem.setdefault(case.key[0], []).append(case)
    if reference is not None and len(by_problem) > 1:
        raise RequestError("--reference is for one problem, and these are several")
    grouped = tuple(tuple(own) for _, own in sorted(by_problem.items()))
    wanted = tuple(dict.fromkeys((*distances, solved_within)))
    comparisons = tuple(
        compared(
            [case.track for case in own],
            reference=reference,
            gradient_worth=gradient_worth,
            distances=wanted,
            along=along,
        )
        for own in grouped
    )
    order = list(dict.fromkeys(case.series for case in cases))
    costs = _costs(grouped, comparisons, solved_within)
    sizes = {own[0].key[0]: len(own[0].track.problem.free) for own in grouped}
    several = len(grouped) > 1
    return ContestSummary(
        name=" ".join(references),
        cases=grouped,
        comparisons=comparisons,
        methods=tuple(_method(series, grouped, comparisons, solved_within, distances) for series in order),
        tests=tuple(paired_tests(_independent(costs), order)),
        performance=performance_profile(costs, order) if several else (),
        data=data_profile(costs, sizes, order) if several else (),
        solved_within=solved_within,
        along=along,
        gradient_worth=gradient_worth,
        missing=missing,
    )


def _cases(references: Sequence[str], ledger: Ledger) -> tuple[list[ContestRun], int]:
    groups = [name for name in references if ledger.is_group(name)]
    problems: dict[str, int] = {}
    starts: dict[tuple[float, ...], int] = {}
    found: list[ContestRun] = []
    missing = 0

    def key(track: Track, seed: int) -> Key:
        name = track.problem.title or track.problem.source.file
        problem = problems.setdefault(name, len(problems))
        start = starts.setdefault(track.problem.start[: track.problem.own_size], len(starts))
        return problem, start, seed

    seen: set[str] = set()
    for name in references:
        if not ledger.is_group(name):
            record = ledger.run(name)
            track = track_of_record(ledger, record)
            _once(record.id, seen)
            seed = record.settings.get("seed")
            found.append(
                ContestRun(track, track.name, key(track, seed if isinstance(seed, int) else 0), is_random=True)
            )
            continue
        group = ledger.group(name)
        if group.is_sweep:
            raise RequestError(
                f"{name} is a sweep: its runs are optima of different problems, not rivals",
                advice=f"`ilvren designs {name}` and `ilvren export {name}` list them",
            )
        _once(group.id, seen)
        own = ledger.group_runs(group)
        missing += len(group.plan["members"]) - len(own)
        for place, record in sorted(own.items()):
            track = track_of_record(ledger, record)
            member = group.plan["members"][place]
            series = group.plan["contenders"][member["contender"]]["name"]
            if len(groups) > 1:
                series = f"{group.id} {series}"
            found.append(ContestRun(track, series, key(track, member["seed"]), _is_random(group, member["contender"])))
    return found, missing


def _once(name: str, seen: set[str]) -> None:
    if name in seen:
        raise RequestError(f"{name} is named twice")
    seen.add(name)


def _is_random(group: GroupRecord, contender: int) -> bool:
    """Return whether a contender ran with several seeds."""
    own = [member for member in group.plan["members"] if member["contender"] == contender]
    return len({member["seed"] for member in own}) > 1


def _costs(
    grouped: Sequence[Sequence[ContestRun]], comparisons: Sequence[Comparison], within: float
) -> dict[str, dict[Key, float]]:
    """Return {series: {(problem, start, seed): cost to the target}}; what is the same for every seed stands for
    each."""
    found: dict[str, dict[Key, float]] = {}
    for cases, comparison in zip(grouped, comparisons, strict=True):
        seeds = sorted({case.key[2] for case in cases})
        for case, arrivals in zip(cases, comparison.arrivals, strict=True):
            arrived = arrivals[within]
            cost = math.inf if arrived is None else arrived
            own = found.setdefault(case.series, {})
            for seed in (case.key[2],) if case.is_random else seeds:
                own[*case.key[:2], seed] = cost
    return found


def _independent(costs: Mapping[str, Mapping[Key, float]]) -> dict[str, dict[Key, float]]:
    """Return costs of pairs that do not depend on each other: where there are several starts, the median over the seeds
    of each counts once; from one start every seed counts."""
    starts = {key[:2] for own in costs.values() for key in own}
    if len(starts) < 2:
        return {series: dict(own) for series, own in costs.items()}
    found: dict[str, dict[Key, float]] = {}
    for series, own in costs.items():
        by_start: dict[Key, list[float]] = {}
        for key, cost in own.items():
            by_start.setdefault(key[:2], []).append(cost)
        found[series] = {start: _quartiles(values).median for start, values in by_start.items()}
    return found


def _method(
    series: str,
    grouped: Sequence[Sequence[ContestRun]],
    comparisons: Sequence[Comparison],
    within: float,
    distances: Sequence[float],
) -> MethodSummary:
    costs: list[float] = []
    gaps: list[float] = []
    seconds: list[float] = []
    outcomes: Counter[str] = Counter()
    failures: Counter[str] = Counter()
    reached: dict[float, list[float]] = {distance: [] for distance in distances}
    for cases, comparison in zip(grouped, comparisons, strict=True):
        for case, arrivals in zip(cases, comparison.arrivals, strict=True):
            if case.series != series:
                continue
            arrived = arrivals[within]
            costs.append(math.inf if arrived is None else arrived)
            for distance, own in reached.items():
                there = arrivals[distance]
                own.append(math.inf if there is None else there)
            gap = comparison.gap(case.track)
            gaps.append(math.inf if gap is None else max(gap, 0.0))
            seconds.append(case.track.total_seconds)
            outcomes[case.track.outcome] += 1
            if arrived is None:
                failures[case.track.outcome] += 1
    solved = sum(map(math.isfinite, costs))
    first = {
        distance: (sum(map(math.isfinite, own)), _quartiles(own).median) for distance, own in reached.items() if own
    }
    return MethodSummary(
        series,
        len(costs),
        solved,
        _quartiles(costs),
        _quartiles(gaps),
        Quartiles.of(seconds),
        outcomes,
        failures,
        first,
    )


def _quartiles(values: Sequence[float]) -> Quartiles:
    """Return quartiles of numbers of which some are infinite, each a number of the list (the lower of two)."""
    ordered = np.sort(np.array(values, dtype=float))
    if not len(ordered):
        return Quartiles.of([])
    places = [math.ceil(share * len(ordered)) - 1 for share in (0.25, 0.5, 0.75)]
    lower, median, upper = (float(ordered[max(place, 0)]) for place in places)
    return Quartiles(float(ordered[0]), lower, median, upper, float(ordered[-1]))
