"""What a comparison needs of a run, from the ledger or from a result in memory."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.judge.comparing.foretold import Foretellings
from ilvren.records import dataclass
from ilvren.runs import flat_design, problem_of

if TYPE_CHECKING:
    from ilvren.ledger import EvaluationRecord, IterationRecord, Ledger, RunRecord
    from ilvren.problem import Problem
    from ilvren.runs import RunResult

__all__ = ["Track", "track_of_record", "track_of_result"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, kw_only=True)
class Track:
    """A run's history as arrays, one entry per computed point, and per iteration where the name says so.

    `objective` is internal (minimized), NaN where invalid; `iteration_points` (k, n) are full designs, NaN
    where long vectors were thinned. `foretold` is what surfaces said along the way, None where there were none.
    """

    id: str
    label: str | None
    method: str
    outcome: str
    problem: Problem
    settings: Mapping[str, object]
    counts: Mapping[str, int]
    total_seconds: float
    point: tuple[float, ...] | None
    final_objective: float | None
    final_violation: float
    evaluations: FloatArray
    gradients: FloatArray
    seconds: FloatArray
    objective: FloatArray
    violation: FloatArray
    iteration_evaluations: FloatArray
    iteration_stationarity: FloatArray
    iteration_violation: FloatArray
    iteration_points: FloatArray
    foretold: Foretellings | None = None

    @property
    def name(self) -> str:
        """Return the id with the label, for tables and legends."""
        return f"{self.id} ({self.label})" if self.label else self.id

    @property
    def feasibility(self) -> float:
        """Return the violation allowed in this run."""
        value = self.settings["feasibility"]
        assert isinstance(value, float)
        return value

    @property
    def is_feasible(self) -> NDArray[np.bool_]:
        """Return for each computed point whether it is feasible and has an objective. It is (k,)."""
        return (self.violation <= self.feasibility) & np.isfinite(self.objective)

    def costs(self, along: str, gradient_worth: float) -> FloatArray:
        """Return for each computed point what the run had cost by then: evaluations (gradients at their worth),
        iterations or seconds. They are (k,)."""
        if along == "seconds":
            return self.seconds
        if along == "iterations":
            return np.searchsorted(self.iteration_evaluations, self.evaluations).astype(float)
        return np.ceil(self.evaluations + gradient_worth * self.gradients)

    def best_so_far(self) -> FloatArray:
        """Return the best feasible internal objective up to each computed point, infinite before the first. It is
        (k,)."""
        return np.minimum.accumulate(np.where(self.is_feasible, self.objective, np.inf))


def track_of_record(ledger: Ledger, record: RunRecord) -> Track:
    """Return the track of a recorded run, finished or not."""
    result = record.result if record.state == "ended" and record.result else {}
    outcome = record.outcome or ("running" if ledger.is_alive(record) else "killed")
    if record.state == "running":
        outcome = "running" if ledger.is_alive(record) else "killed"
    evaluations = ledger.evaluations(record.number)
    variables, objectives = result.get("variables"), result.get("objectives")
    point = flat_design(variables) if isinstance(variables, dict) else None
    final = next(iter(objectives.values()), None) if isinstance(objectives, dict) else None
    violation = result.get("violation")
    counts = result.get("counts")
    if not isinstance(counts, dict):
        last = evaluations[-1] if evaluations else None
        counts = {
            "iterations": max(len(ledger.iterations(record.number)) - 1, 0),
            "evaluations": last.evaluations if last else 0,
            "gradients": last.gradients if last else 0,
        }
    return _track(
        run=record.id,
        label=record.label,
        method=record.method,
        outcome=outcome,
        problem=problem_of(record),
        settings=record.settings,
        counts=counts,
        seconds=record.seconds or (evaluations[-1].seconds if evaluations else 0.0),
        point=point,
        final=final if isinstance(final, float) else None,
        violation=float(violation) if isinstance(violation, (int, float)) else math.inf,
        evaluations=evaluations,
        iterations=ledger.iterations(record.number),
        rounds=result,
    )


def track_of_result(result: RunResult) -> Track:
    """Return the track of a result in memory."""
    return _track(
        run=result.id or result.method,
        label=None,
        method=result.method,
        outcome=result.outcome,
        problem=result.problem,
        settings=result.settings,
        counts=result.counts,
        seconds=result.seconds,
        point=result.point,
        final=result.objective,
        violation=result.violation,
        evaluations=result.evaluations,
        iterations=result.iterations,
        rounds=None if result.prediction is None else result.prediction.to_dict(),
    )


def _track(
    *,
    run: str,
    label: str | None,
    method: str,
    outcome: str,
    problem: Problem,
    settings: Mapping[str, object],
    counts: Mapping[str, int],
    seconds: float,
    point: tuple[float, ...] | None,
    final: float | None,
    violation: float,
    evaluations: Sequence[EvaluationRecord],
    iterations: Sequence[IterationRecord],
    rounds: object,
) -> Track:
    sign = problem.objective.sign if problem.objective else 1
    n = problem.size
    unknown = np.full(n, math.nan)  # of a history that was thinned

    def column(values: list[float | None]) -> FloatArray:
        return np.array([math.nan if value is None else value for value in values], dtype=float)

    return Track(
        id=run,
        label=label,
        method=method,
        outcome=outcome,
        problem=problem,
        settings=settings,
        counts=counts,
        total_seconds=seconds,
        point=point,
        final_objective=final,
        final_violation=violation,
        evaluations=column([e.evaluations for e in evaluations]),
        gradients=column([e.gradients for e in evaluations]),
        seconds=column([e.seconds for e in evaluations]),
        objective=sign * column([e.objective if problem.objective else 0.0 for e in evaluations]),
        violation=column([e.violation for e in evaluations]),
        iteration_evaluations=column([i.evaluations for i in iterations]),
        iteration_stationarity=column([i.stationarity for i in iterations]),
        iteration_violation=column([i.violation for i in iterations]),
        iteration_points=np.array([np.frombuffer(i.point) if i.is_whole else unknown for i in iterations]).reshape(
            -1, n
        ),
        foretold=_foretold(iterations, rounds),
    )


def _foretold(iterations: Sequence[IterationRecord], rounds: object) -> Foretellings | None:
    """Return what was predicted along a run: of its iterations, or of the rounds of a search on an approximation."""
    told = [(item.evaluations, item.foretold) for item in iterations if item.foretold is not None]
    if told:
        each = [(n, one.said, one.spread, one.actual) for n, one in told]
        return Foretellings.of(each, told[-1][1].surface)
    if isinstance(rounds, dict) and rounds.get("rounds"):
        each = [
            (k + 1, _value(one["predicted"]), math.nan, _value(one["actual"])) for k, one in enumerate(rounds["rounds"])
        ]
        return Foretellings.of(each, str(rounds["on"]))
    return None


def _value(value: object) -> float:
    return value if isinstance(value, float) else math.nan
