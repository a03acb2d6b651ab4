"""The optimum against what a sweep varies, as arrays: of a sweep that was just made, or of one on record."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError
from ilvren.ledger import GroupRecord, Ledger, RunRecord
from ilvren.problem import Problem
from ilvren.records import dataclass
from ilvren.runs import HOLDS, Sweep, problem_of, swept_unit

__all__ = ["SweepCurve", "curve_of_group", "curve_of_sweep"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, eq=False, kw_only=True)
class SweepCurve:
    """`over` what is swept, its `unit` and `values` (k,), of a choice its `words`; per member the run, its outcome,
    whether it `holds`, the `objective` as written (k,), NaN without one; `scalars` {variable: (k,)}; `active` {name and
    side of a limit: whether it is active (k,)}. `problem` is that of the first member."""

    problem: Problem
    over: str
    unit: str
    words: tuple[str, ...]
    values: FloatArray
    runs: tuple[str, ...]
    outcomes: tuple[str, ...]
    holds: NDArray[np.bool_]
    objective: FloatArray
    scalars: Mapping[str, FloatArray]
    active: Mapping[str, NDArray[np.bool_]]

    def shown(self, place: int) -> float | str:
        """Return a member's value as it is told: the word of a choice, else the number."""
        value = float(self.values[place])
        return self.words[round(value) - 1] if self.words else value


def curve_of_sweep(found: Sweep) -> SweepCurve:
    """Return the curve of a sweep that was made."""
    results = [member.result for member in found.members]
    active: dict[str, list[bool]] = {}
    for number, result in enumerate(results):
        for state in (*result.constraints, *result.bounds):
            if state.is_active and state.side != "equality" and state.lower < state.upper:
                name = f"{state.name.partition('[')[0]} {state.side}"
                active.setdefault(name, [False] * len(results))[number] = True
    blocks = [block for block in results[0].problem.blocks if not block.shape and block.name != found.over]
    scalars = {block.name: np.array([result.point[block.first] for result in results]) for block in blocks}
    objectives = [np.nan if result.objective is None else result.objective for result in results]
    return SweepCurve(
        problem=results[0].problem,
        over=found.over,
        unit=found.unit,
        words=found.words,
        values=np.array([member.value for member in found.members], dtype=float),
        runs=tuple(result.id for result in results),
        outcomes=tuple(result.outcome for result in results),
        holds=np.array([result.holds for result in results], dtype=bool),
        objective=np.array(objectives, dtype=float),
        scalars=scalars,
        active={name: np.array(own) for name, own in active.items()},
    )


def curve_of_group(ledger: Ledger, group: GroupRecord) -> SweepCurve:
    """Return the curve of a sweep on record: of each value the run that ended it, the better of two where one began
    once more. Raises RequestError where no run has a result."""
    values = group.plan["values"]
    records = ledger.group_runs(group)
    members = []
    for place, value in enumerate(values):
        # One that did not end well from its neighbour has begun once more, behind all the others.
        tried = [records[own] for own in (len(values) + place, place) if own in records]
        ended = [record for record in tried if record.result is not None]
        if ended:
            members.append((float(value), next((r for r in ended if r.outcome in HOLDS), ended[-1])))
    if not members:
        raise RequestError(f"{group.id} has no run that has ended", advice=f"`ilvren resume {group.id}` goes on")
    problem = problem_of(members[0][1])
    over = str(group.plan["parameter"])
    active: dict[str, NDArray[np.bool_]] = {}
    for number, (_, record) in enumerate(members):
        for name in _active_names(record):
            active.setdefault(name, np.zeros(len(members), dtype=bool))[number] = True
    unit, words = swept_unit(problem, over)
    return SweepCurve(
        problem=problem,
        over=over,
        unit=unit,
        words=words,
        values=np.array([value for value, _ in members]),
        runs=tuple(record.id for _, record in members),
        outcomes=tuple(record.outcome or "" for _, record in members),
        holds=np.array([record.outcome in HOLDS for _, record in members]),
        objective=np.array([_objective(record) for _, record in members], dtype=float),
        scalars={
            block.name: np.array(
                [_of(record, "variables").get(block.name, np.nan) for _, record in members], dtype=float
            )
            for block in problem.blocks
            if not block.shape and not block.is_grid and block.name != over
        },
        active=active,
    )


def _of(record: RunRecord, key: str) -> Mapping[str, Any]:
    found = (record.result or {}).get(key)
    return found if isinstance(found, Mapping) else {}


def _objective(record: RunRecord) -> float:
    found = next(iter(_of(record, "objectives").values()), None)
    return float("nan") if found is None else float(found)


def _active_names(record: RunRecord) -> Sequence[str]:
    """Return "NAME side" of the active limits of a run's design, vectors by their names."""
    found = []
    for section in ("constraints", "bounds"):
        for name, state in _of(record, section).items():
            parts = [np.ravel(np.array(state[key], dtype=object)) for key in ("value", "lower", "upper", "active")]
            for value, low, high, active in zip(*np.broadcast_arrays(*parts), strict=True):
                if not active or low == high:
                    continue
                to_low = abs(value - low) if low is not None else float("inf")
                to_high = abs(high - value) if high is not None else float("inf")
                found.append(f"{name} {'lower' if to_low <= to_high else 'upper'}")
    return list(dict.fromkeys(found))
