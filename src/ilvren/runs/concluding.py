"""The result of a stage: which design is reported, how it stands, and all that a user should know beside it."""

from __future__ import annotations

import math
from dataclasses import field
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import ProblemError
from ilvren.evaluate import Gate
from ilvren.records import dataclass
from ilvren.runs.report import limit_states
from ilvren.runs.result import FoundOptimum, RunResult

if TYPE_CHECKING:
    from ilvren.evaluate import Evaluation
    from ilvren.methods import Ending
    from ilvren.runs.assessing import Assessing
    from ilvren.runs.fitted import Forecast
    from ilvren.runs.front import Front
    from ilvren.runs.recording import Recorder
    from ilvren.runs.shelf import RunShelf
    from ilvren.runs.stage import Stage

__all__ = ["Conclusion", "concluded"]

FloatArray = NDArray[np.float64]

# From so many variables and rows on, multipliers of a design take minutes where the method has none of its own.
HUGE_SIZE = 20_000


@dataclass(frozen=True)
class Conclusion:
    """How a stage ended: the `outcome` and why, the method's own `ending` where it came to one, how many evaluations
    there were when it `first` converged, and what went wrong with the machine (`trouble`). Where derivatives cannot be
    had, or would take many calls, `can_differentiate` is false. `shelf` has the calls of models on record."""

    outcome: str
    reason: str
    ending: Ending | None = None
    first_evaluations: int | None = None
    trouble: str | None = None
    can_differentiate: bool = True
    shelf: RunShelf | None = field(default=None, repr=False)


def concluded(end: Conclusion, stage: Stage, recorder: Recorder, assessing: Assessing) -> RunResult:
    """Return the result of a stage."""
    problem, gate, settings = stage.problem, stage.gate, stage.settings
    _note_start_if_nothing_else(stage, recorder)
    front = _front(end, stage, recorder)
    point, design = _reported(end.outcome, stage, recorder, assessing)
    if front is not None and front.members:
        from ilvren.methods.pieces import compromise

        point, design = np.array(front.members[compromise(front.values)].point), "compromise"
    has_derivatives = stage.method.needs_derivatives and end.can_differentiate and stage.view is None
    evaluation = gate.evaluate(point, derivatives=has_derivatives)
    if stage.start is None:
        stage.start = gate.evaluate(np.array(problem.start))
    ended_here = assessing.last is not None and np.array_equal(assessing.last[0], point)
    # Of a large problem the last multipliers measure any design well enough: better ones would take minutes.
    has_last = ended_here or problem.size + problem.row_count > HUGE_SIZE
    conditions = assessing.conditions(point, evaluation, assessing.last_iterate if has_last else None)
    is_valid = evaluation.is_finite
    bounds, rows = limit_states(
        problem, stage.measures, point, evaluation, conditions, feasibility=settings.feasibility
    )
    if front is not None:
        from ilvren.runs.front import own_limits

        rows = own_limits(problem, stage.measures, evaluation.rows, settings.feasibility)
    # Of a sample no call is made for the baseline alone.
    baseline_point = np.array(problem.start if stage.is_sample else problem.baseline)
    baseline = Gate(problem, calls=gate.calls).evaluate(baseline_point)
    counts, estimates = stage.counts, None
    if is_valid and has_derivatives and problem.residuals:
        from ilvren.runs.estimates import estimates_of

        estimates = estimates_of(problem, gate, point)
    facts = settings.to_dict()
    if settings.scaling and stage.scaling is not None:
        facts["scaling"] = stage.scaling.facts(problem)
    forecast: tuple[Forecast, ...] = ()
    if problem.residuals:
        from ilvren.runs.fitted import forecast_of

        forecast = forecast_of(problem, point, estimates, gate.calls)
    bound = _bound_as_written(end, stage)
    found = RunResult(
        id=f"r{stage.number}" if stage.number else "",
        problem=problem,
        method=(end.ending.method if end.ending else "") or stage.method.name,
        outcome=end.outcome,
        reason=end.reason,
        design=design,
        point=tuple(point.tolist()),
        objective=stage.as_written(evaluation.objective),
        baseline_objective=stage.as_written(baseline.objective),
        baseline_violation=_violation_of_baseline(stage, baseline_point, baseline),
        bounds=bounds,
        constraints=rows,
        violation=stage.measures.violation(point, evaluation.rows) if is_valid else math.inf,
        stationarity=conditions.stationarity if conditions and not math.isnan(conditions.stationarity) else None,
        counts={
            "iterations": max(len(recorder.iterations) - 1, 0),
            "evaluations": counts.evaluations,
            "gradients": counts.gradients,
            "hessians": counts.hessians,
            **({"calls": _calls_made(stage, end.shelf)} if problem.sources else {}),
        },
        seconds=stage.clock.seconds,
        seed=settings.seed,
        settings=facts,
        evaluations=tuple(recorder.evaluations[recorder.first[0] :]),
        iterations=tuple(recorder.iterations[recorder.first[1] :]),
        machine_trouble=end.trouble,
        estimates=estimates,
        optima=_optima_as_written(end, stage),
        bound=bound,
        bound_is_proved=bool(end.ending and end.ending.bound_is_proved),
        second_look=_second_look(end, stage),
        conflict=() if assessing.watch.conflict is None else assessing.watch.conflict.names,
        notes=(*_notes(stage), *_outside(stage, point)),
        derived=_quantities(stage, point) if is_valid else {},
        stages=stage.base.ended,
        forecast=forecast,
        front=front,
        multipliers=None if conditions is None else (conditions.row_multipliers, conditions.bound_multipliers),
    )
    if not problem.is_collocated:
        return found
    from ilvren.runs.shown import shown

    return shown(found)


def _note_start_if_nothing_else(stage: Stage, recorder: Recorder) -> None:
    """A run that ended before anything was evaluated (a model that cannot be differentiated) reports its start for
    what it is: feasible, where it is."""
    best = recorder.incumbents
    if best.least is not None or best.feasible is not None:
        return
    start = np.array(stage.problem.start)
    evaluation = stage.gate.evaluate(start)
    if evaluation.is_finite:
        violation = stage.measures.violation(start, evaluation.rows)
        best.note(start[np.newaxis], np.array([evaluation.objective]), np.array([violation]), 0)


def _reported(outcome: str, stage: Stage, recorder: Recorder, assessing: Assessing) -> tuple[FloatArray, str]:
    best = recorder.incumbents
    if outcome == "converged" and assessing.last is not None:
        return assessing.last[0], "final"
    if best.feasible is not None:
        return best.feasible.point, "best-feasible"
    if best.least is not None:
        return best.least.point, "least-violation"
    return np.array(stage.problem.start), "least-violation"


def _front(end: Conclusion, stage: Stage, recorder: Recorder) -> Front | None:
    """Return the front of several objectives."""
    if recorder.archive is None:
        return None
    from ilvren.runs.front import front_of, points_asked

    claimed = end.ending.front if end.ending is not None else None
    return front_of(
        stage.problem,
        stage.gate,
        stage.measures,
        recorder.archive,
        count=points_asked(stage.problem, stage.settings.points),
        claimed=None if claimed is None else stage.full(claimed),
        reference=stage.settings.reference_point,
        feasibility=stage.settings.feasibility,
        numbers=recorder.number_of,
    )


def _violation_of_baseline(stage: Stage, point: FloatArray, baseline: Evaluation) -> float:
    """Return by how much the baseline misses limits; of unknowns on a grid the guess meets no equation exactly."""
    if not baseline.is_finite:
        return math.inf
    rows = baseline.rows
    if stage.problem.is_collocated:
        rows = np.array(rows)
        rows[stage.problem.own_row_count :] = 0.0
    return stage.measures.violation(point, rows)


def _quantities(stage: Stage, point: FloatArray) -> dict[str, object]:
    """Return the derived values and outputs of models at a design: those on the way to it, or kept."""
    try:
        return stage.problem.quantities(point, stage.gate.calls)
    except ProblemError:  # one of a model that nothing asked for, and that cannot be called
        return {}


def _calls_made(stage: Stage, shelf: RunShelf | None) -> int:
    """Return how many calls of models the run has made, before it was interrupted and since."""
    return sum(calls.calls for calls in stage.gate.calls) if shelf is None else shelf.count


def _notes(stage: Stage) -> tuple[str, ...]:
    """Return what a user should know of the models: where derivatives came from, how often they failed."""
    found = []
    for calls in stage.gate.calls:
        found += calls.notes
        if calls.failures:
            where = f"failed at {calls.failures} point{'s' if calls.failures > 1 else ''}"
            first = calls.first_failure.removeprefix(f'model "{calls.source.name}" ').removeprefix(": ")
            found.append(f'model "{calls.source.name}" {where}, taken as invalid; the first: {first}')
    return tuple(found)


def _outside(stage: Stage, point: FloatArray) -> tuple[str, ...]:
    """Return the notes on a design that lies outside what approximations have learnt."""
    problem = stage.problem
    if problem.template is None or not problem.template.learnt:
        return ()
    from ilvren.problem import outside_of  # few problems have approximations

    told = outside_of(problem, point)
    return (f"outside what its approximations have learnt, where they guess: {'; '.join(told)}",) if told else ()


def _second_look(end: Conclusion, stage: Stage) -> dict[str, object] | None:
    looked = end.ending.looked if end.ending is not None else None
    if looked is None:
        return None
    from ilvren.runs.second_look import document

    first = end.first_evaluations if not looked.is_convex else None
    return document(looked, 0 if first is None else stage.counts.evaluations - first)


def _optima_as_written(end: Conclusion, stage: Stage) -> tuple[FoundOptimum, ...]:
    if end.ending is None or not end.ending.optima or stage.scaling is None:
        return ()
    sign = stage.problem.objective.sign if stage.problem.objective is not None else 1
    optima, unit = end.ending.optima, stage.scaling.objective
    full = stage.full(np.array([item.point for item in optima]))
    return tuple(
        FoundOptimum(tuple(point.tolist()), sign * unit * item.f, item.often, item.from_starts)
        for point, item in zip(full, optima, strict=True)
    )


def _bound_as_written(end: Conclusion, stage: Stage) -> float | None:
    if end.ending is None or stage.scaling is None or not math.isfinite(end.ending.bound):
        return None
    return stage.as_written(stage.scaling.objective * end.ending.bound)
