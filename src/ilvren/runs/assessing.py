"""What is made of a method's iterates: they are measured, kept, told, and their number is limited."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.methods import Assessment, Iterate
from ilvren.problem import objective_size
from ilvren.runs.assessor import Assessor
from ilvren.runs.stopping import ProtocolBroken, Stop

if TYPE_CHECKING:
    from ilvren.evaluate import Evaluation
    from ilvren.proofs import Conflict
    from ilvren.runs.conditions import Conditions
    from ilvren.runs.recording import Recorder
    from ilvren.runs.stage import Stage

__all__ = ["Assessing"]

FloatArray = NDArray[np.float64]

# A method that goes on this many iterations without asking for anything new is going in circles.
MOST_IDLE = 200

# A method that goes on this many iterations without asking for anything new is going in circles.
MOST_IDLE = 200


class Assessing:
    """Assesses the iterates of one stage. `last` is the last one's full design (n,) with what was measured there, and
    `last_iterate` what the method said of it; `watch` looks for limits that exclude each other."""

    def __init__(self, stage: Stage, recorder: Recorder) -> None:
        from ilvren.runs.hopeless import Watch

        self._stage = stage
        self._recorder = recorder
        self.watch = Watch(stage.problem, stage.settings.feasibility * stage.measures.row_sizes)
        self.last: tuple[FloatArray, Assessment] | None = None
        self.last_iterate: Iterate | None = None
        self.idle, self._work = 0, 0
        self._assessor: Assessor | None = None

    def assess(self, iterate: object) -> Assessment:
        """Return what is measured at an iterate, which is kept and told. Raises Stop where the iterations are used up
        or lead nowhere, ProtocolBroken for what is no iterate."""
        stage, recorder = self._stage, self._recorder
        if not isinstance(iterate, Iterate):
            raise ProtocolBroken(f"yielded {type(iterate).__name__}, neither a Request nor an Iterate")
        settings = stage.settings
        point = stage.full(np.asarray(iterate.point, dtype=float)[np.newaxis])[0]
        evaluation = stage.gate.known(point) or stage.gate.evaluate(point)
        violation = stage.measures.violation(point, evaluation.rows) if evaluation.is_finite else math.inf
        conditions = self.conditions(point, evaluation, iterate)
        meets = conditions is not None and conditions.meet(settings.tolerance) and violation <= settings.feasibility
        assessment = Assessment(violation, conditions.stationarity if conditions else None, meets)
        self.last, self.last_iterate = (point, assessment), iterate
        recorder.add_iteration(iterate, point, evaluation, assessment)
        if settings.iterations is not None and len(recorder.iterations) > settings.iterations:
            raise Stop("exhausted", f"{settings.iterations} iterations are used up")
        self.check_conflict_meanwhile()
        work = stage.counts.evaluations + stage.counts.gradients
        self.idle = self.idle + 1 if work == self._work else 0
        self._work = work
        if self.idle >= MOST_IDLE:
            raise Stop("stalled", f"{MOST_IDLE} iterations came back to designs already evaluated")
        return assessment

    def go_on_from(self, idle: int) -> None:
        """Go on with so many idle iterations, nothing new having been asked for since."""
        self.idle, self._work = idle, self._stage.counts.evaluations + self._stage.counts.gradients

    def conditions(
        self, point: FloatArray, evaluation: Evaluation, iterate: Iterate | None = None
    ) -> Conditions | None:
        """Return the conditions at a full design, with the multipliers of the iterate that it comes from; None where
        several objectives are traded off: of one design alone they say nothing."""
        stage = self._stage
        if self._recorder.archive is not None:
            return None
        if stage.view is not None:
            own = iterate.multipliers if iterate and iterate.lifted is not None else None
            return stage.view.conditions(point, own)
        if self._assessor is None:
            assert stage.start is not None
            first = stage.start.objective
            self._assessor = Assessor(stage.problem, stage.measures, stage.settings, stage.scaling, first)
        return self._assessor.conditions(point, evaluation, iterate.multipliers if iterate else None)

    def is_last_best(self) -> bool:
        """Return whether the last iterate meets the conditions, and no better design has been evaluated."""
        stage, best = self._stage, self._recorder.incumbents.feasible
        if self.last is None or not self.last[1].meets_conditions or best is None:
            return False
        f = stage.gate.evaluate(self.last[0]).objective
        assert stage.start is not None
        size = objective_size(stage.measures.objective_magnitude, f, stage.start.objective)
        return f <= best.objective + stage.settings.tolerance * size

    def check_conflict_at_start(self) -> None:
        """Stop where the start misses a limit and a quick proof shows that every design does."""
        stage = self._stage
        if stage.is_sample or stage.start is None:
            return
        violation = stage.measures.violation(np.array(stage.problem.start), stage.start.rows)
        _refuse(self.watch.at_start(violation, stage.settings.feasibility))

    def check_conflict_meanwhile(self) -> None:
        """Stop where nothing is feasible for long, and a proof shows that nothing is."""
        best = self._recorder.incumbents
        if best.feasible is None and best.least is not None and not self._stage.is_sample:
            _refuse(self.watch.after(best.least.violation))


def _refuse(conflict: Conflict | None) -> None:
    if conflict is not None:
        raise Stop("infeasible", f"proved: {conflict.sentence}")
