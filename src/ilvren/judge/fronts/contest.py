"""A contest of fronts: every series over its runs, on one or several problems, and what the data support.

Each run counts by its share of the hypervolume of the union of all fronts found on its problem; series are compared in
pairs of the same problem, start and seed, by what is missing to the whole (`judge.pairs`).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np

from ilvren.errors import RequestError
from ilvren.judge.comparing.paired_test import PairTest, paired_tests
from ilvren.judge.fronts.comparison import LEVELS, FrontComparison, FrontTrack, compare_fronts, track_of_front
from ilvren.records import dataclass
from ilvren.runs import Quartiles, plain

if TYPE_CHECKING:
    from ilvren.ledger import Ledger

__all__ = ["FrontContest", "FrontSeries", "contest_of_fronts"]

Key = tuple[int, int, int]
# Less than this missing to the whole is rounding.
LEAST_MISSING = 1e-12


@dataclass(frozen=True)
class FrontSeries:
    """One series: how many `runs`, quartiles of their shares, of the widest gaps and of the work, and by level how many
    runs reached it, with the median of the work that took."""

    name: str
    runs: int
    shares: Quartiles
    gaps: Quartiles
    work: Quartiles
    arrivals: Mapping[float, tuple[int, float]]

    def to_dict(self) -> dict[str, object]:
        """Return the JSON document."""
        return {
            "method": self.name,
            "runs": self.runs,
            "share": self.shares.to_dict(),
            "widest_gap": self.gaps.to_dict(),
            "work": self.work.to_dict(),
            "arrivals": {
                f"{level:g}": {"runs": n, "median": plain(cost)} for level, (n, cost) in self.arrivals.items()
            },
        }


@dataclass(frozen=True)
class FrontContest:
    """`comparisons` by problem; `series` summed up; `kinds` the tracks of each series on the first problem; `tests` of
    pairs; `missing` members that have not run; `is_one_run_each`: every series has one run, so that there is nothing to
    sum up."""

    name: str
    comparisons: tuple[FrontComparison, ...]
    series: tuple[FrontSeries, ...]
    kinds: tuple[tuple[str, tuple[FrontTrack, ...]], ...]
    tests: tuple[PairTest, ...]
    missing: int
    holds: bool

    @property
    def is_one_run_each(self) -> bool:
        """Return whether there is nothing to sum up."""
        return all(item.runs == 1 for item in self.series)

    def to_dict(self) -> dict[str, object]:
        """Return the JSON document."""
        found: dict[str, object] = {"group": self.name, "missing": self.missing}
        if len(self.comparisons) == 1:
            found |= self.comparisons[0].to_dict()
        else:
            found["problems"] = [item.to_dict() for item in self.comparisons]
        found["methods"] = [item.to_dict() for item in self.series]
        found["pairs"] = [item.to_dict() for item in self.tests]
        return found


def contest_of_fronts(
    ledger: Ledger, references: Sequence[str], reference: Mapping[str, float] | None = None
) -> FrontContest:
    """Sum up the fronts of runs and groups. Raises RequestError."""
    cases: dict[str, list[tuple[str, Key, FrontTrack]]] = {}
    missing, seen = 0, set[str]()
    for name in references:
        if not ledger.is_group(name):
            record = ledger.run(name)
            track = track_of_front(ledger, record)
            key = (0, 0, track.seed)
            if track.id in seen:
                raise RequestError(f"{track.id} is named twice")
            seen.add(track.id)
            series = track.label or f"{track.id} {track.method}" if len(references) > 1 else track.method
            cases.setdefault(record.problem_file, []).append((series, key, track))
            continue
        group = ledger.group(name)
        runs = ledger.group_runs(group)
        missing += len(group.plan["members"]) - len(runs)
        for place, record in runs.items():
            member = group.plan["members"][place]
            if record.result is None:
                missing += 1
                continue
            contender = group.plan["contenders"][member["contender"]]["name"]
            key = (member["problem"], member["start"], member["seed"])
            track = track_of_front(ledger, record)
            stored = group.plan["problems"][member["problem"]]["name"]
            cases.setdefault(f"{member['problem']} {stored}", []).append((contender, key, track))
    if not cases:
        raise RequestError("no run of these has ended")
    comparisons, shares = [], dict[str, list[tuple[Key, float, float, FrontTrack, Mapping[float, float | None]]]]()
    for own in cases.values():
        comparison = compare_fronts([track for *_, track in own], reference)
        comparisons.append(comparison)
        for (series, key, _), track, share, gap, arrivals in zip(
            own, comparison.tracks, comparison.shares, comparison.gaps, comparison.arrivals, strict=True
        ):
            shares.setdefault(series, []).append((key, share, gap, track, arrivals))
    summed = tuple(_series(name, found) for name, found in shares.items())
    costs: dict[str, dict[tuple[int, ...], float]] = {
        name: {key: max(1.0 - share, LEAST_MISSING) for key, share, *_ in found} for name, found in shares.items()
    }
    tests = tuple(paired_tests(costs, list(costs))) if any(item.runs > 1 for item in summed) else ()
    first = {id(track) for track in comparisons[0].tracks}
    kinds = tuple((name, tuple(t for *_, t, _ in found if id(t) in first)) for name, found in shares.items())
    holds = missing == 0 and all(t.outcome in ("settled", "converged") for c in comparisons for t in c.tracks)
    kinds = tuple((name, tracks) for name, tracks in kinds if tracks)
    return FrontContest(" ".join(references), tuple(comparisons), summed, kinds, tests, missing, holds)


def _series(
    name: str, found: Sequence[tuple[Key, float, float, FrontTrack, Mapping[float, float | None]]]
) -> FrontSeries:
    arrivals = {}
    for level in LEVELS:
        reached = [arrived[level] for *_, arrived in found if arrived[level] is not None]
        arrivals[level] = (len(reached), float(np.median([float(n or 0.0) for n in reached])) if reached else np.nan)
    return FrontSeries(
        name,
        len(found),
        Quartiles.of([share for _, share, *_ in found]),
        Quartiles.of([gap for _, _, gap, *_ in found if np.isfinite(gap)]),
        Quartiles.of([track.work for *_, track, _ in found]),
        arrivals,
    )
