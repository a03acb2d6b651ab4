"""What a run's outcome is: the method's claim, where what was measured bears it out."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.methods import LOW_AS_WRITTEN, Assessment, Ending
from ilvren.methods.pieces import LOW, RUNS_AWAY, far_out
from ilvren.records import dataclass
from ilvren.runs.start_troubles import MODEL_OPERATIONS, start_trouble, where_invalid
from ilvren.runs.stationary_violation import violation_is_stationary

if TYPE_CHECKING:
    from ilvren.evaluate import Evaluation, Gate
    from ilvren.problem import Measures, Problem
    from ilvren.runs.assessing import Assessing
    from ilvren.runs.incumbents import Incumbents
    from ilvren.runs.lifted_view import LiftedView
    from ilvren.runs.recording import Recorder
    from ilvren.runs.scaling import Scaling
    from ilvren.runs.stage import Stage

__all__ = ["Seen", "checked"]


@dataclass(frozen=True, eq=False, kw_only=True)
class Seen:
    """What a run has seen at its end: its best designs, its `start`, and the `last` iterate (n,) with what was measured
    there; None what it did not come to. `view` is the problem with its kinks lifted, where that was looked at;
    `is_front`: of several objectives trade-offs are looked for."""

    problem: Problem
    gate: Gate
    measures: Measures
    incumbents: Incumbents
    scaling: Scaling | None
    start: Evaluation | None
    last: tuple[NDArray[np.float64], Assessment] | None
    iterations: int
    view: LiftedView | None = None
    is_front: bool = False

    @classmethod
    def of(cls, stage: Stage, recorder: Recorder, assessing: Assessing) -> Seen:
        """Return what a stage has seen."""
        return cls(
            problem=stage.problem,
            gate=stage.gate,
            measures=stage.measures,
            incumbents=recorder.incumbents,
            scaling=stage.scaling,
            start=stage.start,
            last=assessing.last,
            iterations=len(recorder.iterations),
            view=stage.view,
            is_front=recorder.archive is not None,
        )


def checked(ending: Ending, seen: Seen) -> tuple[str, str]:
    """Return the outcome: the method's claim where measurements bear it out."""
    claim, reason = ending.claim, ending.reason
    if seen.is_front and claim == "converged":  # of a front, conditions are measured design by design, by `verify`
        claim = "settled"
    assessment = seen.last[1] if seen.last else None
    if claim == "converged":
        if assessment is not None and assessment.meets_conditions:
            return claim, reason
        claim, reason = "stalled", "the method holds it for converged, but the measured conditions do not"
    if claim == "invalid":
        # After some progress there was something finite to go on from.
        outcome = "stalled" if seen.iterations and seen.incumbents.feasible is not None else claim
        found = start_trouble(seen.problem, seen.gate)
        if outcome == "invalid" and found is not None and found[1].operation in MODEL_OPERATIONS:
            outcome = "model-failed"
        return outcome, reason + where_invalid(seen.problem, seen.gate)
    if claim == "infeasible" and ending.bound_is_proved and seen.incumbents.feasible is None:
        return claim, reason
    if claim == "infeasible":
        if seen.incumbents.feasible is not None:
            return "stalled", "feasible designs were found, but the method could not return to one"
        point = seen.last[0] if seen.last else np.array(seen.problem.start)
        least = seen.incumbents.least
        if not _is_stationary(seen, point) and not (least is not None and _is_stationary(seen, least.point)):
            return "no-feasible", reason
        return claim, reason
    if seen.incumbents.feasible is None:
        return "no-feasible", f"no design evaluated meets all limits ({reason})"
    if seen.is_front:
        return claim, reason
    return _checked_far_out(seen, claim, reason) if claim in ("unbounded", "settled") else (claim, reason)


def _is_stationary(seen: Seen, point: NDArray[np.float64]) -> bool:
    if seen.view is not None:
        return seen.view.violation_is_stationary(point)
    evaluation = seen.gate.evaluate(point, derivatives=True)
    rows = seen.scaling.rows if seen.scaling else seen.measures.row_sizes
    return violation_is_stationary(seen.problem, seen.measures, point, evaluation, rows)


def _checked_far_out(seen: Seen, claim: str, reason: str) -> tuple[str, str]:
    """Return what the best design says of a search that came to rest, or ran away: far out nothing comes to rest,
    and an objective that has hardly fallen may well level off."""
    best, scaling = seen.incumbents.feasible, seen.scaling
    if best is None or scaling is None:
        return claim, reason
    f = best.objective / scaling.objective
    start = scaling.full_start[scaling.free] / scaling.variables
    found = far_out(f, best.point[scaling.free] / scaling.variables, start, -LOW_AS_WRITTEN / scaling.objective)
    if found is not None:
        return found.claim, found.reason
    first = seen.start.objective / scaling.objective if seen.start is not None else math.nan
    if claim == "unbounded" and not (f < LOW or f - first < LOW):
        return "stalled", RUNS_AWAY
    return claim, reason
