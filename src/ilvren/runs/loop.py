"""The loop: drives a method's generator through one stage of a run, and ends it.

What a user is told is decided from measurements; a method's word is only a claim. Requests are answered in `answering`,
iterates assessed in `assessing`, both kept by `recording`; the end is judged in `ending` and told by `concluding`.
"""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import MachineError, ProblemError
from ilvren.evaluate import Counts, Gate, Workers, measured, with_sizes
from ilvren.ledger import StageRecord
from ilvren.methods import (
    COSTLY_SECONDS,
    SLOPES,
    VALUES,
    Assessment,
    Checkpoint,
    Ending,
    HessianRequest,
    Iterate,
    Request,
    Task,
    Tight,
)
from ilvren.problem import Measures, Problem, lifted_of
from ilvren.runs.answering import Answering
from ilvren.runs.assessing import Assessing
from ilvren.runs.concluding import Conclusion, concluded
from ilvren.runs.ending import Seen, checked
from ilvren.runs.events import LookedOn
from ilvren.runs.recording import Recorder
from ilvren.runs.replay import Replay
from ilvren.runs.scaling import Scaling
from ilvren.runs.stage import Stage
from ilvren.runs.stages import Base, StageEnd
from ilvren.runs.stopping import Clock, ProtocolBroken, Stop

if TYPE_CHECKING:
    from ilvren.ledger import Ledger
    from ilvren.methods import Known, Method
    from ilvren.runs.events import Event
    from ilvren.runs.result import RunResult
    from ilvren.runs.settings import Settings
    from ilvren.runs.shelf import RunShelf

__all__ = ["Loop", "is_large"]

FloatArray = NDArray[np.float64]

# From so many free variables and rows on, Jacobians are sparse matrices for methods that take them.
SPARSE_SIZE = 400
# Equations on a grid are sparse from few on.
LEAST_GRID = 60
# Ends without a feasible design, after which a conflict of the limits is looked for.
HOPELESS = frozenset({"infeasible", "no-feasible", "stalled", "exhausted"})
# An objective of less than this at the start may be flat there, and nowhere else.
FLAT = 1e-9
# No design of a model takes less than this, with all that is around it.
LEAST_SECONDS = 1e-4


def is_large(problem: Problem) -> bool:
    """Return whether derivatives of a problem are better held in sparse matrices."""
    least = LEAST_GRID if problem.is_collocated else SPARSE_SIZE
    return len(problem.free) + problem.row_count > least


class Loop:
    """One stage of one method on one problem, whose models are differentiated as it says; with `by_differences` the
    formulas are differenced, too. Call `drive` once."""

    def __init__(
        self,
        problem: Problem,
        method: Method,
        *,
        options: object,
        settings: Settings,
        by_differences: bool = False,
        ledger: Ledger | None = None,
        number: int = 0,
        replay: Replay | None = None,
        listener: Callable[[Event], None] | None = None,
        multipliers: tuple[FloatArray, FloatArray] | None = None,
        workers: Workers | None = None,
        known: Known | None = None,
        base: Base | None = None,
        confirms: bool = True,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        base = base or Base()
        calls = problem.calls()
        is_old_style = bool(calls and replay and replay.evaluations and not replay.has_calls)
        self._shelf = _shelf_of(problem, base, ledger, number, settings) if calls and not is_old_style else None
        for own in calls if self._shelf is not None else ():
            own.shelf = self._shelf
        is_sparse = method.takes_sparse and is_large(problem)
        self._stage = Stage(
            problem=problem,
            method=method,
            options=options,
            settings=settings,
            gate=Gate(problem, is_sparse=is_sparse, by_differences=by_differences, workers=workers, calls=calls),
            is_sparse=is_sparse,
            by_differences=by_differences,
            base=base,
            replay=replay or Replay(),
            clock=Clock(base.seconds, clock),
            ledger=ledger,
            number=number,
            listener=listener,
            multipliers=multipliers,
            known=known,
            confirms=confirms,
            is_old_style=is_old_style,
            requests=base.requests,
        )
        self._recorder = Recorder(self._stage)
        self._answering = Answering(self._stage, self._recorder)
        self._assessing = Assessing(self._stage, self._recorder)
        self._ending: Ending | None = None
        self._is_beyond = False  # whether the method has converged and looks on
        self._first_evaluations: int | None = None  # until it first did
        self._trouble: str | None = None
        self._can_differentiate = True

    # ---- what others see --------------------------------------------------------------------------

    @property
    def problem(self) -> Problem:
        """Return the problem that is solved."""
        return self._stage.problem

    @property
    def settings(self) -> Settings:
        """Return the settings, with what was measured at the start."""
        return self._stage.settings

    @property
    def gate(self) -> Gate:
        """Return the gate to the problem's values."""
        return self._stage.gate

    @property
    def measures(self) -> Measures:
        """Return the sizes that everything is measured in."""
        return self._stage.measures

    @property
    def counts(self) -> Counts:
        """Return what the run has counted, in its earlier stages, too."""
        return self._stage.counts

    def base_after(self, result: RunResult, values: Mapping[str, Any], finer: str = "") -> Base:
        """Return what the next stage begins with, where this one set `values` and ended with `result`; `finer` says how
        the next one looks at the problem."""
        stage, evaluations = self._stage, self.gate.counts.evaluations
        told = StageEnd(values, result.outcome, result.reason, result.objective, result.violation, evaluations, finer)
        ended = (*stage.base.ended, told)
        return Base(stage.requests, self.counts, stage.clock.seconds, self._recorder.history, self._shelf, ended)

    def begin_stage(self, number: int) -> None:
        """Record that a stage of the run begins here."""
        stage, (evaluations, iterations) = self._stage, self._recorder.first
        if stage.ledger is not None:
            stage.ledger.begin_stage(stage.number, StageRecord(number, stage.requests, evaluations + 1, iterations))

    def given_up(self, outcome: str, reason: str, trouble: str | None) -> RunResult:
        """Report the start for what it is: the run was stopped in an earlier stage, at this design; by `trouble` of the
        machine, where there is any: then nothing can be recorded."""
        self._trouble = trouble
        self._can_differentiate = False  # values tell where it stands; derivatives could take many calls
        try:
            with np.errstate(all="ignore"):
                result = self._concluded(outcome, reason)
            before = self._stage.base.counts  # telling where it stands is no evaluation that the run asked for
            own = {"evaluations": before.evaluations, "gradients": before.gradients, "hessians": before.hessians}
            result = replace(result, counts={**result.counts, **own})
            return result if trouble is not None else self.close(result)
        finally:
            self.gate.release()

    def close(self, result: RunResult) -> RunResult:
        """Confirm the design that the last stage ends with, record the end of the run, and return its result."""
        stage, result = self._stage, self._confirmed(result)
        if stage.ledger is None:
            return result
        try:
            stage.ledger.end_run(
                stage.number, outcome=result.outcome, seconds=result.seconds, result=result.to_record()
            )
        except MachineError as error:
            self._trouble = str(error)
            return self._concluded("interrupted", str(error))
        return replace(result, notes=(*result.notes, stage.ledger.rescued)) if stage.ledger.rescued else result

    # ---- the way of a stage -----------------------------------------------------------------------

    def drive(self, *, is_last: bool = True) -> RunResult:
        """Run to an end and return the result; of the last stage, it is recorded as the run's. An interrupt ends the
        run, the best design being kept."""
        try:
            with np.errstate(all="ignore"):  # methods judge what is not finite; NumPy need not warn
                outcome, reason = self._proved_hopeless(*self._outcome())
                result = self._concluded(outcome, reason)
            return self.close(result) if is_last else result
        finally:
            self._answering.flight.end()
            self.gate.release()

    def _outcome(self) -> tuple[str, str]:
        """Return how the stage ended, and why."""
        try:
            return self._begun() or self._driven()
        except Stop as stop:
            return stop.outcome, stop.reason
        except ProblemError as error:  # a model that cannot be imported, or not be differentiated as asked
            place = f" ({error.file}:{error.line})" if error.file and error.line else ""
            advice = f"; {error.advice}" if error.advice else ""
            self._can_differentiate = False
            return "model-failed", f"{error.message}{place}{advice}"
        except KeyboardInterrupt:
            for calls in self.gate.calls:
                calls.is_stopped = True
            return "interrupted", "stopped by the user; `ilvren resume` continues the run"
        except MachineError as error:
            self._trouble, self._stage.ledger = str(error), None
            return "interrupted", str(error)

    def _begun(self) -> tuple[str, str] | None:
        """Evaluate the start and find the sizes of all; return the outcome where that is the end already."""
        stage, answering = self._stage, self._answering
        point, began = np.array(stage.problem.start)[np.newaxis], stage.clock.now()
        if stage.method.costly is not None:
            answering.evaluated(point, VALUES)
            self._note_seconds(stage.clock.now() - began)
            if (stage.settings.model_seconds or 0.0) >= COSTLY_SECONDS:
                stage.method = stage.method.costly
                stage.options = stage.method.options()
        wants = SLOPES if stage.method.needs_derivatives else VALUES
        stage.start = answering.evaluated(point, wants)[0]
        self._note_seconds(stage.clock.now() - began)
        if not stage.problem.free:
            return self._nothing_to_change()
        self._assessing.check_conflict_at_start()
        stage.measures = self._with_sizes()
        stage.scaling = Scaling.at(stage.problem, stage.measures, stage.start, is_on=stage.settings.scaling)
        if stage.settings.scaling and stage.scaling.objective < FLAT and not stage.problem.sources:
            stage.scaling = stage.scaling.less_flat(stage.measures, lambda points: answering.tried(points)[0])
        return None

    def _driven(self) -> tuple[str, str]:
        """Drive the method to its end and return what became of it, and why."""
        stage = self._stage
        generator = stage.method.run(self._task(), stage.options)
        try:
            message: Request | HessianRequest | Tight | Iterate | Checkpoint = next(generator)
            while True:
                try:
                    answer = self._replied(message)
                except ProtocolBroken as error:
                    frame = getattr(generator, "gi_frame", None)
                    place = f"{frame.f_code.co_filename}:{frame.f_lineno}" if frame else stage.method.name
                    raise TypeError(f"{place}: method {stage.method.name} {error}") from None
                message = generator.send(answer)
        except StopIteration as end:
            if not isinstance(end.value, Ending):
                raise TypeError(f"method {stage.method.name} ended without an Ending") from None
            self._ending = end.value
            return checked(end.value, Seen.of(stage, self._recorder, self._assessing))
        finally:
            generator.close()

    def _replied(self, message: object) -> object:
        """Return what a method is sent for what it has yielded."""
        if isinstance(message, (Request, HessianRequest)):
            return self._answered(message)
        if isinstance(message, Checkpoint):
            from ilvren.runs.following import keep_checkpoint

            keep_checkpoint(message, self._stage, self._recorder, self._assessing)
            return None
        if isinstance(message, Tight):
            if self._stage.view is None:
                raise ProtocolBroken("asked for a design of a task without lifted kinks")
            return self._stage.view.scaled_tight(self._stage.full(message.point[np.newaxis])[0])
        return self._assessing.assess(message)

    def _answered(self, request: Request | HessianRequest) -> object:
        """Answer a request; one that looks on after the conditions are met ends well when the limits are used up."""
        stage = self._stage
        if isinstance(request, Request):
            self._is_beyond = request.beyond
            if request.beyond and self._first_evaluations is None:
                self._first_evaluations = self.counts.evaluations
            if request.beyond and stage.listener is not None:
                stage.listener(LookedOn(self.counts.evaluations, self._recorder.best_as_written))
        try:
            if isinstance(request, Request):
                return self._answering.answer(request)
            return self._answering.hessian(request)
        except Stop as stop:
            if not (self._is_beyond and stop.outcome == "exhausted" and self._assessing.is_last_best()):
                raise
            reason = f"first-order conditions hold; {stop.reason} in looking further, nothing better being found"
            raise Stop("converged", reason) from None

    # ---- the beginning ----------------------------------------------------------------------------

    def _note_seconds(self, took: float) -> None:
        """Note once what one design of the models takes, as a power of ten: an input of the method, kept for replay."""
        stage, settings = self._stage, self._stage.settings
        is_of_use = settings.look_scale or settings.method == "automatic"
        if not stage.problem.sources or settings.model_seconds is not None or not is_of_use:
            return
        quickest = sum(calls.quickest for calls in self.gate.calls)  # the first call has imports and much else in it
        seconds = 10.0 ** round(math.log10(max(quickest if math.isfinite(quickest) else took, LEAST_SECONDS)))
        stage.settings = replace(settings, model_seconds=seconds)
        if stage.ledger is not None:
            stage.ledger.note_settings(stage.number, stage.settings.to_dict())

    def _with_sizes(self) -> Measures:
        """Return the measures with the variables' sizes. Formulas are asked for slopes by themselves, so that the sizes
        are the same for every method; of models only a method that needs derivatives has them."""
        stage = self._stage
        assert stage.start is not None
        if stage.is_sample:  # nothing is measured in them
            return stage.measures
        if stage.problem.sources or stage.start.gradient is not None:
            return with_sizes(stage.problem, stage.measures, stage.start, self._answering.tried)
        return measured(stage.problem, Gate(stage.problem, is_sparse=is_large(stage.problem)))

    def _nothing_to_change(self) -> tuple[str, str]:
        best, start = self._recorder.incumbents.feasible, self._stage.start
        assert start is not None
        if not start.is_finite:
            return "invalid", "no variable can change anything, and this design has no finite values"
        if best is None:
            return "infeasible", "no variable can change anything, and this design misses a limit"
        self._assessing.last = best.point, Assessment(best.violation, 0.0, True)
        return "converged", "no variable can change anything, and this design is feasible"

    def _task(self) -> Task:
        """Return the task as the method sees it, with the one that has its kinks lifted where there is one."""
        stage, problem, method, scaling = self._stage, self.problem, self._stage.method, self._stage.scaling
        assert scaling is not None
        task = scaling.task(
            problem,
            stage.measures,
            stage.settings,
            multipliers=stage.multipliers,
            is_sparse=stage.is_sparse,
            has_curvature=self.gate.has_curvature,
            has_secants=self.gate.has_secants,
            losses=self._losses(),
            is_convex=method.relaxes and _is_convex(problem),
            known=stage.known,
        )
        if self._recorder.archive is not None:
            task = self._of_several(task, scaling)
        lifted = lifted_of(problem) if method.needs_derivatives and not stage.by_differences else None
        if lifted is not None:
            from ilvren.runs.lifted_view import LiftedView

            is_sparse = method.takes_sparse and is_large(lifted.problem)
            stage.view = LiftedView(lifted, stage.measures, scaling, stage.settings, is_sparse=is_sparse)
            task = replace(task, lifted=stage.view.task())
        keeps = method.keeps_checkpoints and not method.needs_derivatives and stage.ledger is not None
        found = None
        if stage.replay.checkpoint is not None and keeps:
            from ilvren.runs.following import gone_ahead

            found = gone_ahead(stage.replay.checkpoint, stage, self._recorder, self._assessing)
        return replace(task, takes_checkpoints=keeps, checkpoint=found)

    def _of_several(self, task: Task, scaling: Scaling) -> Task:
        """Return the task with the objectives that are traded off."""
        from ilvren.problem import sense_of
        from ilvren.runs.front import points_asked

        sense = sense_of(self.problem)
        assert sense is not None
        return replace(
            task,
            objectives=tuple(sense.rows.tolist()),
            signs=tuple(sense.signs.tolist()),
            goals=tuple((sense.goals / scaling.rows[sense.rows]).tolist()),
            levels=sense.levels,
            points=points_asked(self.problem, self.settings.points),
            ends_first=self.settings.ends_first,
        )

    def _losses(self) -> NDArray[np.int64] | None:
        """Return the number of each residual's loss, where the objective is a sum of squares or losses."""
        from ilvren.problem import sum_of_squares

        if self._stage.method.needs != "residuals":
            return None
        from ilvren.runs.estimates import LOSS_NUMBERS

        graph = self.problem.graph
        parts = [
            np.full(math.prod(graph.shape(item.node)), LOSS_NUMBERS[item.loss], dtype=np.int64)
            for item in sum_of_squares(self.problem)
        ]
        return np.concatenate(parts) if parts else None

    # ---- the end ----------------------------------------------------------------------------------

    def _proved_hopeless(self, outcome: str, reason: str) -> tuple[str, str]:
        """Return the outcome, or a proof that no design meets all limits, where none was found."""
        watch = self._assessing.watch
        is_open = outcome in HOPELESS and not self._stage.is_sample and self._recorder.incumbents.feasible is None
        # Whoever limits a run does not wait for a thorough proof.
        conflict = watch.at_end(is_thorough=outcome != "exhausted") if is_open else None
        return (outcome, reason) if conflict is None else ("infeasible", f"proved: {conflict.sentence}")

    def _concluded(self, outcome: str, reason: str) -> RunResult:
        end = Conclusion(
            outcome, reason, self._ending, self._first_evaluations, self._trouble, self._can_differentiate, self._shelf
        )
        return concluded(end, self._stage, self._recorder, self._assessing)

    def _confirmed(self, result: RunResult) -> RunResult:
        """Evaluate [confirm] at the design the run ends with, where that is feasible and will be used as it is."""
        stage, feasibility = self._stage, self.settings.feasibility
        if stage.problem.confirmation is None or not stage.confirms or not result.violation <= feasibility:
            return result
        if result.outcome == "interrupted":
            return result
        from ilvren.runs.confirming import confirmed

        ledger, number, is_fresh = stage.ledger, stage.number, self.settings.fresh
        try:
            found = confirmed(stage.problem, result.point, feasibility, ledger=ledger, number=number, is_fresh=is_fresh)
        except KeyboardInterrupt:  # the search has ended, and is on record; verify confirms as well
            return result
        return replace(result, confirmation=found)


def _shelf_of(problem: Problem, base: Base, ledger: Ledger | None, number: int, settings: Settings) -> RunShelf | None:
    """Return where calls of models are found that were made before: that of earlier stages, or of the ledger."""
    if base.shelf is not None or ledger is None or not number:
        return base.shelf
    from ilvren.runs.shelf import RunShelf

    return RunShelf(ledger, number, problem, is_fresh=settings.fresh)


def _is_convex(problem: Problem) -> bool:
    from ilvren.proofs import is_convex

    return is_convex(problem)
