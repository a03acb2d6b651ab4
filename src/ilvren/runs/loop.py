"""The loop: drives a method's generator, answers its requests, judges its iterates, ends it.

What a user is told is decided here and from measurements; a method's word is only a claim.
"""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import MachineError, ProblemError, RequestError
from ilvren.evaluate import Arrival, Counts, Evaluation, Gate, Workers, key_of, measured, with_sizes
from ilvren.ledger import EvaluationRecord, ForetoldRecord, IterationRecord, Ledger, RequestRecord, StageRecord
from ilvren.methods import (
    COSTLY_SECONDS,
    SLOPES,
    VALUES,
    Arrived,
    Assessment,
    Checkpoint,
    Ending,
    HessianRequest,
    Iterate,
    Known,
    Looked,
    Method,
    Optimum,
    Reply,
    Request,
    Task,
    Tight,
    Want,
)
from ilvren.methods.pieces import SAMPLE, compromise
from ilvren.problem import Measures, Problem, objective_size, sense_of, sum_of_squares
from ilvren.runs.archive import Archive
from ilvren.runs.assessing import Assessor
from ilvren.runs.checkpoints import RunCheckpoint, restore_calls
from ilvren.runs.ending import Seen, checked
from ilvren.runs.estimates import LOSS_NUMBERS, estimates_of
from ilvren.runs.events import Event, Iterated, LookedOn, Sampled
from ilvren.runs.fitted import forecast_of
from ilvren.runs.flight import Flight
from ilvren.runs.front import Front, front_of, own_limits, points_asked
from ilvren.runs.history import History
from ilvren.runs.hopeless import Watch
from ilvren.runs.incumbents import Incumbents
from ilvren.runs.lifted_view import LiftedView
from ilvren.runs.replay import Replay, packed_derivatives, request_hash, unpacked
from ilvren.runs.report import limit_states
from ilvren.runs.result import FoundOptimum, RunResult
from ilvren.runs.scaling import Scaling
from ilvren.runs.second_look import document
from ilvren.runs.shelf import RunShelf
from ilvren.runs.shown import shown
from ilvren.runs.stages import Base, StageEnd

if TYPE_CHECKING:
    from ilvren.proofs import Conflict
    from ilvren.runs.conditions import Conditions
    from ilvren.runs.settings import Settings

__all__ = ["Loop", "is_large"]

FloatArray = NDArray[np.float64]
Listener = Callable[[Event], None]

# A method that goes on this many iterations without asking for anything new is going in circles.
MOST_IDLE = 200
# From so many free variables and rows on, Jacobians are sparse matrices for methods that take them.
SPARSE_SIZE = 400
# Equations on a grid are sparse from few on.
LEAST_GRID = 60
# Requests for the values of so many designs of a problem of formulas are answered in one vectorised call.
LEAST_BATCH = 8
# Ends without a feasible design, after which a conflict of the limits is looked for.
HOPELESS = frozenset({"infeasible", "no-feasible", "stalled", "exhausted"})
# An objective of less than this at the start may be flat there, and nowhere else.
FLAT = 1e-9
# From so many variables and rows on, multipliers of a design take minutes where the method has none of its own.
HUGE_SIZE = 20_000
# No design of a model takes less than this, with all that is around it.
LEAST_SECONDS = 1e-4


def is_large(problem: Problem) -> bool:
    """Return whether derivatives of a problem are better held in sparse matrices."""
    least = LEAST_GRID if problem.is_collocated else SPARSE_SIZE
    return len(problem.free) + problem.row_count > least


class _Stop(Exception):
    def __init__(self, outcome: str, reason: str) -> None:
        super().__init__(reason)
        self.outcome = outcome
        self.reason = reason


class _ProtocolError(Exception):
    """A method broke the protocol of `methods.base`."""


class Loop:
    """One run of one method on one problem. Call `drive` once."""

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
        listener: Listener | None = None,
        multipliers: tuple[FloatArray, FloatArray] | None = None,
        workers: Workers | None = None,
        known: Known | None = None,
        base: Base | None = None,
        confirms: bool = True,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        base = base or Base()
        self._base = base
        self.method = method
        self.options = options
        self.settings = settings
        self.is_sparse = method.takes_sparse and is_large(problem)
        self.problem = problem
        calls = problem.calls()
        self._shelf: RunShelf | None = None
        # Runs of older ledgers have the derivatives of models on record, not the calls.
        self._is_old_style = bool(calls and replay and replay.evaluations and not replay.has_calls)
        if calls and not self._is_old_style:
            self._shelf = base.shelf
            if self._shelf is None and ledger is not None and number:
                self._shelf = RunShelf(ledger, number, problem, is_fresh=settings.fresh)
        if self._shelf is not None:
            for own in calls:
                own.shelf = self._shelf
        self.gate = Gate(problem, is_sparse=self.is_sparse, by_differences=by_differences, workers=workers, calls=calls)
        # A model that is differentiated in one call is best left to one worker; differences are shared out.
        self._is_whole = not all(own.is_differenced for own in calls)
        self.measures = Measures.of(problem)
        self._ledger = ledger
        self._number = number
        self._replay = replay or Replay()
        self._listener = listener
        self._multipliers = multipliers
        self._known = known
        self._confirms = confirms
        self._clock = clock
        self._began = clock()
        self._earlier = base.seconds
        self._requests = base.requests
        self._scaling: Scaling | None = None
        self._start: Evaluation | None = None
        self._incumbents = Incumbents(settings.feasibility, settings.tolerance)
        self._numbers: dict[bytes, int] = {}
        self._optima: tuple[Optimum, ...] = ()
        self._bound: tuple[float, bool] = (math.nan, False)
        self._last: tuple[FloatArray, Assessment] | None = None
        self._last_iterate: Iterate | None = None
        self._assessor: Assessor | None = None
        self._view: LiftedView | None = None
        self._by_differences = by_differences
        self._finished_by = ""
        self._looked: Looked | None = None
        self._watch = Watch(problem, settings.feasibility * self.measures.row_sizes)
        self._is_sample = method.kind == SAMPLE
        self._is_beyond = False  # whether the method has converged and looks on
        self._first_evaluations: int | None = None  # until it first did
        # Runs of older ledgers are followed by the replies on record, which are kept whole.
        rows = self.problem.row_count
        thinned = None if self._is_old_style else ledger
        self._history = base.history or History(variables=problem.size, rows=rows, ledger=thinned, run=number)
        self.evaluations, self.iterations = self._history.evaluations, self._history.iterations
        self._first = len(self.evaluations), len(self.iterations)
        self._incumbents.progress_at = self._first[0]
        self._trouble: str | None = None
        self._flight = Flight(self.gate)
        self._idle, self._known_work = 0, 0
        self._can_differentiate = True
        self._seeks_feasible = problem.seeks_feasible
        self._sense = sense_of(problem)
        self._archive = Archive(self._sense, problem.size, settings.feasibility) if self._sense is not None else None
        self._claimed: FloatArray | None = None

    @property
    def run_id(self) -> str:
        """Return the id in the ledger, "" without one."""
        return f"r{self._number}" if self._number else ""

    @property
    def counts(self) -> Counts:
        """Return what the run has counted, in its earlier stages, too."""
        own, before = self.gate.counts, self._base.counts
        return Counts(
            own.evaluations + before.evaluations, own.gradients + before.gradients, own.hessians + before.hessians
        )

    def base_after(self, result: RunResult, values: Mapping[str, Any], finer: str = "") -> Base:
        """Return what the next stage begins with, where this one set `values` and ended with `result`; `finer` says how
        the next one looks at the problem."""
        evaluations = self.gate.counts.evaluations
        told = StageEnd(values, result.outcome, result.reason, result.objective, result.violation, evaluations, finer)
        ended = (*self._base.ended, told)
        return Base(self._requests, self.counts, self._seconds(), self._history, self._shelf, ended)

    def begin_stage(self, number: int) -> None:
        """Record that a stage of the run begins here."""
        if self._ledger is not None:
            first = StageRecord(number, self._requests, self._first[0] + 1, self._first[1])
            self._ledger.begin_stage(self._number, first)

    def given_up(self, outcome: str, reason: str, trouble: str | None) -> RunResult:
        """Report the start for what it is: the run was stopped in an earlier stage, at this design; by `trouble` of the
        machine, where there is any: then nothing can be recorded."""
        self._trouble = trouble
        self._can_differentiate = False  # values tell where it stands; derivatives could take many calls
        try:
            with np.errstate(all="ignore"):
                result = self._result(outcome, reason)
            before = self._base.counts  # telling where it stands is no evaluation that the run asked for
            own = {"evaluations": before.evaluations, "gradients": before.gradients, "hessians": before.hessians}
            result = replace(result, counts={**result.counts, **own})
            return result if trouble is not None else self._ended(result)
        finally:
            self.gate.release()

    def close(self, result: RunResult) -> RunResult:
        """Take a stage that was driven as not the last for the last."""
        return self._ended(result)

    def _ended(self, result: RunResult) -> RunResult:
        """Confirm the design, record the end of the run, and return its result."""
        result = self._confirmed(result)
        if self._ledger is None:
            return result
        outcome, seconds = result.outcome, result.seconds
        try:
            self._ledger.end_run(self._number, outcome=outcome, seconds=seconds, result=result.to_record())
        except MachineError as error:
            self._trouble = str(error)
            return self._result("interrupted", str(error))
        return result

    def _confirmed(self, result: RunResult) -> RunResult:
        """Evaluate [confirm] at the design the run ends with, where that is feasible and will be used as it is."""
        feasibility = self.settings.feasibility
        if self.problem.confirmation is None or not self._confirms or not result.violation <= feasibility:
            return result
        if result.outcome == "interrupted":
            return result
        from ilvren.runs.confirming import confirmed

        ledger, number = self._ledger, self._number
        fresh = self.settings.fresh
        try:
            found = confirmed(self.problem, result.point, feasibility, ledger=ledger, number=number, is_fresh=fresh)
        except KeyboardInterrupt:  # the search has ended, and is on record; verify confirms as well
            return result
        return replace(result, confirmation=found)

    # ---- the loop -----------------------------------------------------------------------------

    def drive(self, *, is_last: bool = True) -> RunResult:
        """Run to an end and return the result; of the last stage, it is recorded as the run's. An interrupt ends the
        run, the best design being kept."""
        try:
            return self._driven(is_last=is_last)
        finally:
            self._flight.end()
            self.gate.release()

    def _driven(self, *, is_last: bool) -> RunResult:
        try:
            with np.errstate(all="ignore"):  # methods judge what is not finite; NumPy need not warn
                outcome, reason = self._run()
        except _Stop as stop:
            outcome, reason = stop.outcome, stop.reason
        except ProblemError as error:  # a model that cannot be imported, or not be differentiated as asked
            place = f" ({error.file}:{error.line})" if error.file and error.line else ""
            advice = f"; {error.advice}" if error.advice else ""
            outcome, reason = "model-failed", f"{error.message}{place}{advice}"
            self._can_differentiate = False
        except KeyboardInterrupt:
            outcome, reason = "interrupted", "stopped by the user; `ilvren resume` continues the run"
            for calls in self.gate.calls:
                calls.is_stopped = True
        except MachineError as error:
            outcome, reason = "interrupted", str(error)
            self._trouble, self._ledger = str(error), None
        with np.errstate(all="ignore"):
            is_thorough = outcome != "exhausted"  # whoever limits a run does not wait for it
            if (
                outcome in HOPELESS
                and not self._is_sample
                and self._incumbents.feasible is None
                and self._watch.at_end(is_thorough=is_thorough) is not None
            ):
                assert self._watch.conflict is not None
                outcome, reason = "infeasible", f"proved: {self._watch.conflict.sentence}"
            result = self._result(outcome, reason)
        return self._ended(result) if is_last else result

    def _run(self) -> tuple[str, str]:
        problem, settings = self.problem, self.settings
        point, began = np.array(problem.start), self._clock()
        if self.method.costly is not None:
            self._evaluate_all(point[np.newaxis, :], VALUES)
            self._note_seconds(self._clock() - began)
            if (self.settings.model_seconds or 0.0) >= COSTLY_SECONDS:
                self.method = self.method.costly
                self.options = self.method.options()
        wants_derivatives = self.method.needs_derivatives
        self._start = self._evaluate_all(point[np.newaxis, :], SLOPES if wants_derivatives else VALUES)[0]
        self._note_seconds(self._clock() - began)
        if not problem.free:
            return self._nothing_to_change()
        if not self._is_sample:
            self._check_conflict(self._watch.at_start(self._violation_at_start(), settings.feasibility))
        self.measures = self._with_sizes()
        self._scaling = Scaling.at(problem, self.measures, self._start, is_on=settings.scaling)
        if settings.scaling and self._scaling.objective < FLAT and not self.problem.sources:
            self._scaling = self._scaling.less_flat(self.measures, lambda points: self._tried(points)[0])
        task = self._task()
        keeps = self.method.keeps_checkpoints and not self.method.needs_derivatives and self._ledger is not None
        task = replace(task, takes_checkpoints=keeps)
        if self._replay.checkpoint is not None and keeps:
            task = replace(task, checkpoint=self._gone_ahead(self._replay.checkpoint))
        generator = self.method.run(task, self.options)
        try:
            message: Request | HessianRequest | Tight | Iterate | Checkpoint = next(generator)
            while True:
                try:
                    answer = self._replied(message)
                except _ProtocolError as error:
                    frame = getattr(generator, "gi_frame", None)
                    place = f"{frame.f_code.co_filename}:{frame.f_lineno}" if frame else self.method.name
                    raise TypeError(f"{place}: method {self.method.name} {error}") from None
                message = generator.send(answer)
        except StopIteration as end:
            if not isinstance(end.value, Ending):
                raise TypeError(f"method {self.method.name} ended without an Ending") from None
            self._finished_by, self._looked = end.value.method, end.value.looked
            self._optima, self._bound = end.value.optima, (end.value.bound, end.value.bound_is_proved)
            self._claimed = None if end.value.front is None else self._full(end.value.front)
            seen = Seen(
                self.problem,
                self.gate,
                self.measures,
                self._incumbents,
                self._scaling,
                self._start,
                self._last,
                len(self.iterations),
                self._view,
                self._sense is not None,
            )
            return checked(end.value, seen)
        finally:
            generator.close()

    def _note_seconds(self, took: float) -> None:
        """Note once what one design of the models takes, as a power of ten: an input of the method, kept for replay."""
        is_of_use = self.settings.look_scale or self.settings.method == "automatic"
        if not self.problem.sources or self.settings.model_seconds is not None or not is_of_use:
            return
        quickest = sum(calls.quickest for calls in self.gate.calls)  # the first call has imports and much else in it
        seconds = 10.0 ** round(math.log10(max(quickest if math.isfinite(quickest) else took, LEAST_SECONDS)))
        self.settings = replace(self.settings, model_seconds=seconds)
        if self._ledger is not None:
            self._ledger.note_settings(self._number, self.settings.to_dict())

    def _violation_at_start(self) -> float:
        assert self._start is not None
        return self.measures.violation(np.array(self.problem.start), self._start.rows)

    def _check_conflict(self, conflict: Conflict | None) -> None:
        if conflict is not None and not self._is_sample:
            raise _Stop("infeasible", f"proved: {conflict.sentence}")

    def _task(self) -> Task:
        """Return the task as the method sees it, with the one that has its kinks lifted where there is one."""
        assert self._scaling is not None
        problem, method = self.problem, self.method
        task = self._scaling.task(
            problem,
            self.measures,
            self.settings,
            multipliers=self._multipliers,
            is_sparse=self.is_sparse,
            has_curvature=self.gate.has_curvature,
            has_secants=self.gate.has_secants,
            losses=self._losses(),
            is_convex=method.relaxes and _is_convex(problem),
            known=self._known,
        )
        if self._sense is not None:
            task = replace(
                task,
                objectives=tuple(self._sense.rows.tolist()),
                signs=tuple(self._sense.signs.tolist()),
                goals=tuple((self._sense.goals / self._scaling.rows[self._sense.rows]).tolist()),
                levels=self._sense.levels,
                points=points_asked(problem, self.settings.points),
                ends_first=self.settings.ends_first,
            )
        lifted = problem.lifted if method.needs_derivatives and not self._by_differences else None
        if lifted is None:
            return task
        is_sparse = method.takes_sparse and is_large(lifted.problem)
        self._view = LiftedView(lifted, self.measures, self._scaling, self.settings, is_sparse=is_sparse)
        return replace(task, lifted=self._view.task())

    def _with_sizes(self) -> Measures:
        """Return the measures with the variables' sizes. Formulas are asked for slopes by themselves, so that the sizes
        are the same for every method; of models only a method that needs derivatives has them."""
        assert self._start is not None
        if self._is_sample:  # nothing is measured in them
            return self.measures
        if self.problem.sources or self._start.gradient is not None:
            return with_sizes(self.problem, self.measures, self._start, self._tried)
        return measured(self.problem, Gate(self.problem, is_sparse=is_large(self.problem)))

    def _tried(self, points: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return values that find the variables' sizes. Formulas cost next to nothing and are not counted."""
        if not self.problem.sources:
            return self.gate.batch_values(points)
        found = self._evaluate_all(points, VALUES)
        return np.array([item.objective for item in found]), np.array([item.rows for item in found])

    def _nothing_to_change(self) -> tuple[str, str]:
        assert self._start is not None
        if not self._start.is_finite:
            return "invalid", "no variable can change anything, and this design has no finite values"
        best = self._incumbents.feasible
        if best is None:
            return "infeasible", "no variable can change anything, and this design misses a limit"
        self._last = (best.point, Assessment(best.violation, 0.0, True))
        return "converged", "no variable can change anything, and this design is feasible"

    def _losses(self) -> NDArray[np.int64] | None:
        """Return the number of each residual's loss, where the objective is a sum of squares or losses."""
        if self.method.needs != "residuals":
            return None
        graph = self.problem.graph
        parts = [
            np.full(math.prod(graph.shape(item.node)), LOSS_NUMBERS[item.loss], dtype=np.int64)
            for item in sum_of_squares(self.problem)
        ]
        return np.concatenate(parts) if parts else None

    def _replied(self, message: object) -> object:
        if isinstance(message, Request):
            if message.beyond and self._first_evaluations is None:
                self._first_evaluations = self.counts.evaluations
            self._is_beyond = message.beyond
            if message.beyond and self._listener is not None:
                self._listener(LookedOn(self.counts.evaluations, self._best_as_written()))
        if isinstance(message, (Request, HessianRequest)):
            try:
                return self._answer(message) if isinstance(message, Request) else self._hessian(message)
            except _Stop as stop:
                if self._is_beyond and stop.outcome == "exhausted" and self._is_last_best():
                    reason = (
                        f"first-order conditions hold; {stop.reason} in looking further, nothing better being found"
                    )
                    raise _Stop("converged", reason) from None
                raise
        if isinstance(message, Checkpoint):
            self._keep_checkpoint(message)
            return None
        if isinstance(message, Tight):
            if self._view is None:
                raise _ProtocolError("asked for a design of a task without lifted kinks")
            return self._view.scaled_tight(self._full(message.point[np.newaxis])[0])
        return self._judge(message)

    def _keep_checkpoint(self, checkpoint: Checkpoint) -> None:
        """Record where a replay may begin."""
        if self._ledger is None or self._requests < len(self._replay.requests):
            return
        kept = RunCheckpoint(
            checkpoint.state,
            self._requests,
            len(self.evaluations),
            len(self.iterations),
            self.counts.hessians,
            self._idle,
            self._incumbents.progress,
            RunCheckpoint.of_calls(self.gate.calls),
        )
        self._ledger.keep_checkpoint(self._number, kept.packed())

    def _gone_ahead(self, checkpoint: RunCheckpoint) -> Mapping[str, NDArray[Any]] | None:
        """Take what is on record up to a checkpoint as done, and return the method's state there; None where the record
        does not reach so far, or vectors that are needed were thinned."""
        evaluations, iterations = self._replay.recorded
        done = evaluations[len(self.evaluations) : checkpoint.evaluations]
        shown = iterations[len(self.iterations) : checkpoint.iterations]
        is_whole = all(record.is_whole for record in done) and all(record.is_whole for record in shown[-1:])
        if len(evaluations) < checkpoint.evaluations or len(iterations) < checkpoint.iterations or not is_whole:
            return None
        restore_calls(self.gate.calls, checkpoint.calls)
        left = list(shown)
        for record in done:
            while left and left[0].evaluations < record.evaluations:
                self._shown_again(left.pop(0))
            point, values = np.frombuffer(record.point), np.frombuffer(record.values)
            evaluation = Evaluation(float(values[0]), values[1:].copy())
            self.gate.adopt(point, evaluation, evaluations=record.evaluations - self._base.counts.evaluations)
            self._earlier, self._began = max(self._earlier, record.seconds), self._clock()
            self._note_evaluation(point, evaluation, record.request, took=0.0, is_recorded=True, number=record.number)
        for item in left:
            self._shown_again(item)
        self._incumbents.progress = checkpoint.progress
        self._requests, self._idle = checkpoint.requests, checkpoint.idle
        self._known_work = self.counts.evaluations + self.counts.gradients
        return checkpoint.state

    def _shown_again(self, record: IterationRecord) -> None:
        """Take an iteration on record as shown."""
        self._history.add_iteration(record)
        point = np.frombuffer(record.point)
        self._last = (point, Assessment(record.violation, record.stationarity, False))
        if self._incumbents.feasible is None and self._incumbents.least is not None:
            self._check_conflict(self._watch.after(self._incumbents.least.violation))

    def _is_last_best(self) -> bool:
        """Return whether the last iterate meets the conditions, and no better design has been evaluated."""
        if self._last is None or not self._last[1].meets_conditions or self._incumbents.feasible is None:
            return False
        f = self.gate.evaluate(self._last[0]).objective
        assert self._start is not None
        size = objective_size(self.measures.objective_magnitude, f, self._start.objective)
        return f <= self._incumbents.feasible.objective + self.settings.tolerance * size

    def _hessian(self, request: HessianRequest) -> object:
        assert self._scaling is not None
        if not (self.gate.has_curvature or self.gate.has_secants):
            raise _ProtocolError("asked for second derivatives of a problem with models")
        self._check_seconds()
        scaled = np.asarray(request.point, dtype=float)[np.newaxis]
        if request.lifted and self._view is not None:
            lifted = self._view.full(scaled)[0]
            self.gate.count_derivatives(lifted[: self.problem.size], second=True)
            return self._view.scaling.second(self._view.gate, request, lifted)
        return self._scaling.second(self.gate, request, self._full(scaled)[0])

    def _check_seconds(self) -> None:
        if self.settings.seconds is not None and self._seconds() >= self.settings.seconds:
            raise _Stop("exhausted", f"{self.settings.seconds:g} seconds are used up")

    def _answer(self, request: Request) -> Reply | Arrived:
        assert self._scaling is not None
        points = np.asarray(request.points, dtype=float)
        scaling = self._view.scaling if request.lifted and self._view is not None else self._scaling
        n = len(scaling.free)
        if points.ndim != 2 or points.shape[1] != n:
            raise _ProtocolError(f"asked for points of shape {points.shape}, not (k, {n})")
        if request.lifted and self._view is not None:
            return self._lifted_reply(self._view, self._view.full(points), derivatives=request.derivatives)
        full = self._full(points)
        if request.in_arrival_order:
            return self._arrived(full)
        if self._flight.open:
            raise _ProtocolError(f"asked for designs while {len(self._flight.open)} others were under way")
        if request.scan and not self.problem.sources:
            return self._scan(full)
        if len(full) >= LEAST_BATCH and not (request.derivatives or request.residuals or self.problem.sources):
            return self._scaling.values(*self._batch(full))
        evaluations = self._evaluate_all(full, request.wants)
        residuals = None
        if request.residuals:
            residuals = [self.gate.residuals(point, derivatives=request.derivatives) for point in full]
        return self._scaling.reply(evaluations, derivatives=request.derivatives, residuals=residuals)

    def _arrived(self, points: FloatArray) -> Arrived:
        """Put designs (k, n) under way and return the first that is back of all that are; on replay the one that
        was."""
        assert self._scaling is not None
        flight, number = self._flight, self._requests
        self._begin_request(points, VALUES)
        flight.add(points)
        if not flight.open:
            raise _ProtocolError("waits for designs, and none is under way")
        tickets = self._replay.arrivals.get(number)
        if tickets is None:
            tickets = (self._first_back(number),)
            if self._ledger is not None:
                self._ledger.add_arrival(self._number, number, tickets)
        found = [self._evaluate(flight.points[ticket], number, derivatives=False) for ticket in tickets]
        for ticket in tickets:
            flight.close(ticket)
        self._check_goals()
        return Arrived(tickets, self._scaling.reply(found, derivatives=False, residuals=None))

    def _first_back(self, request: int) -> int:
        """Return the ticket of the design that is back first: one that is known, or what a worker has made, which is
        taken as evaluated; without workers the oldest."""
        flight = self._flight
        for ticket in flight.open:
            point = flight.points[ticket]
            if self.gate.known(point) is not None or self._replay.answer(point, derivatives=False) is not None:
                return ticket
        if self.gate.workers is None:
            return next(iter(flight.open))
        self._check_seconds()
        limit = self.settings.evaluations
        room = len(flight.open) if limit is None else limit - self.counts.evaluations - flight.sent
        waiting = [ticket for ticket in flight.open if ticket not in flight.under_way]
        flight.send(waiting[: max(room, 0)])
        arrived = flight.arrived()
        if arrived is None:
            raise _Stop("exhausted", f"{limit} evaluations are used up")
        ticket, arrival = arrived
        point = flight.points[ticket]
        if self.gate.known(point) is None:
            self.gate.take(point, arrival)
            self._note_evaluation(point, arrival.evaluation, request, took=arrival.seconds)
        return ticket

    def _lifted_reply(self, view: LiftedView, lifted: FloatArray, *, derivatives: bool) -> Reply:
        """Answer a request for lifted designs (k, n + q): the designs that they begin with are counted and recorded."""
        own = lifted[:, : self.problem.size]
        self._evaluate_all(own, VALUES)
        if derivatives:
            for point in own:
                self.gate.count_derivatives(point)
        return view.reply(lifted, derivatives=derivatives)

    def _full(self, scaled: FloatArray) -> FloatArray:
        """Return the full designs (k, n) of scaled points, exactly on the grid where they are within rounding of it."""
        assert self._scaling is not None
        return self.measures.grid.straightened(self._scaling.full(scaled, self.measures.lower, self.measures.upper))

    def _begin_request(self, points: FloatArray, wants: frozenset[Want]) -> int:
        """Check a request against the record, or record it, and return its number."""
        number, self._requests = self._requests, self._requests + 1
        if not self._replay.check(number, points, wants) and self._ledger is not None:
            digest = request_hash(points, wants)
            self._ledger.add_request(self._number, RequestRecord(number, digest, len(points)))
        return number

    def _evaluate_all(self, points: FloatArray, wants: frozenset[Want]) -> list[Evaluation]:
        """Return the evaluations of designs (k, n), point by point, or by the workers."""
        number, derivatives = self._begin_request(points, wants), Want.SLOPES in wants
        if (
            self.gate.workers is not None
            and (len(points) > 1 or (derivatives and self._is_whole))
            and (not derivatives or self._has_steps())
        ):
            found = self._by_workers(points, number, derivatives=derivatives)
        else:
            found = [self._evaluate(point, number, derivatives=derivatives) for point in points]
        self._check_goals()
        return found

    def _by_workers(self, points: FloatArray, request: int, *, derivatives: bool) -> list[Evaluation]:
        """Let the workers compute what is neither kept nor on record, each result being recorded as it arrives; then
        take all in order, so that the path is the same with any number of workers."""
        numbers, open_points = self._to_compute(points, derivatives=derivatives)
        keys, arrived = list(open_points), dict[bytes, Arrival]()
        if keys:
            self._check_seconds()
        try:
            for place, arrival in self.gate.by_workers(list(open_points.values()), derivatives=derivatives):
                key = keys[place]
                arrived[key] = arrival
                if self._ledger is not None:
                    early = self._record(open_points[key], arrival.evaluation, request, numbers[key])
                    self._ledger.add_evaluation(self._number, early, took=arrival.seconds)
                self._check_seconds()
        except BaseException:
            for key, arrival in arrived.items():  # whatever stops this, what has arrived counts
                self._take(open_points[key], arrival, request, numbers[key])
            raise
        found = []
        for point in points:
            key = key_of(point)
            if key in arrived and self.gate.known(point, derivatives=derivatives) is None:
                self._take(point, arrived[key], request, numbers[key])
            found.append(self._evaluate(point, request, derivatives=derivatives))
        return found

    def _has_steps(self) -> bool:
        """Return whether the sources of derivatives and the difference steps of all models are chosen: once, here, so
        that they are the same in every worker."""
        return all(calls.is_decided for calls in self.gate.calls)

    def _take(self, point: FloatArray, arrival: Arrival, request: int, number: int) -> None:
        self.gate.take(point, arrival)
        self._note_evaluation(point, arrival.evaluation, request, took=0.0, number=number)

    def _to_compute(self, points: FloatArray, *, derivatives: bool) -> tuple[dict[bytes, int], dict[bytes, FloatArray]]:
        """Return the number that the evaluation of each new design will have, and the designs that must be computed,
        as far as the limit on evaluations allows."""
        limit = self.settings.evaluations
        room = math.inf if limit is None else limit - self.counts.evaluations
        numbers: dict[bytes, int] = {}
        found: dict[bytes, FloatArray] = {}
        for point in points:
            key = key_of(point)
            if key in numbers or self.gate.known(point, derivatives=derivatives) is not None:
                continue
            room -= not self.gate.has_counted(point)
            if room < 0:
                break
            numbers[key] = len(self.evaluations) + 1 + len(numbers)
            if self._replay.answer(point, derivatives=derivatives) is None:
                found[key] = point
        return numbers, found

    def _batch(self, points: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return objective (k,) and rows (k, m) of designs of a problem of formulas, in one vectorised call."""
        request = self._begin_request(points, VALUES)
        keys = [key_of(point) for point in points]
        places: dict[bytes, int] = {}
        kept: dict[bytes, Evaluation] = {}
        for place, key in enumerate(keys):
            known = self.gate.known_by(key)
            if known is not None:
                kept[key] = known
            else:
                places.setdefault(key, place)
        objective, rows = np.zeros(len(points)), np.zeros((len(points), self.problem.row_count))
        if places:
            self._compute_batch(points, places, request, objective, rows)
        for place, key in enumerate(keys):
            if key in kept:
                objective[place], rows[place] = kept[key].objective, kept[key].rows
            elif places[key] != place:
                objective[place], rows[place] = objective[places[key]], rows[places[key]]
        self._check_goals()
        return objective, rows

    def _scan(self, full: FloatArray) -> Reply:
        """Return the values at very many designs (k, n) of formulas: computed at once, again on replay, and only the
        best is recorded; a limit lets the first of them count."""
        assert self._scaling is not None
        request = self._begin_request(full, VALUES)
        self._check_seconds()
        limit = self.settings.evaluations
        known = self.gate.counted_among(full)
        room = len(full) if limit is None else max(int(limit - self.counts.evaluations) + known, 0)
        objective, rows = self.gate.batch_values(full)
        taken = min(room, len(full))
        if taken and self._archive is not None:
            self._scan_front(self._archive, full[:taken], objective[:taken], rows[:taken], request)
        elif taken:
            best = self._best_of(full[:taken], objective[:taken], rows[:taken])
            self.gate.count_more(taken - known)
            if best is not None and self.gate.known(full[best]) is None:
                self.gate.count_more(-1)
                self._note_evaluation(full[best], Evaluation(float(objective[best]), rows[best]), request, took=0.0)
                self.gate.take_batch([key_of(full[best])], objective[[best]], rows[[best]])
        if taken < len(full):
            raise _Stop("exhausted", f"{limit} evaluations are used up")
        self._check_goals()
        return self._scaling.values(objective, rows)

    def _scan_front(
        self, archive: Archive, points: FloatArray, objective: FloatArray, rows: FloatArray, request: int
    ) -> None:
        """Count all of the designs scanned, and record those that join the front."""
        violations = self.measures.violations(points, rows)
        violations[~np.isfinite(rows).all(axis=1)] = math.inf
        places = archive.joining(rows, violations)
        if not len(places) and self._incumbents.feasible is None and len(points):
            places = np.array([int(np.argmin(violations))])
        fresh = [int(place) for place in places if self.gate.known(points[place]) is None]
        self.gate.count_more(len(points) - self.gate.counted_among(points) - len(fresh))
        keys = {key_of(points[place]): place for place in fresh}
        if keys:
            own = np.array(list(keys.values()), dtype=np.int64)
            self._note_batch(points[own], objective[own], rows[own], list(keys), request, self._seconds())

    def _best_of(self, points: FloatArray, objective: FloatArray, rows: FloatArray) -> int | None:
        """Return the place of the best design that is reportable, or of the least violation; None where none is."""
        violation = self.measures.violations(points, rows)
        is_valid = np.isfinite(objective) & np.isfinite(rows).all(axis=1)
        feasible = np.flatnonzero(is_valid & (violation <= self.settings.feasibility))
        if len(feasible):
            return int(feasible[np.argmin(objective[feasible])])
        valid = np.flatnonzero(is_valid)
        return int(valid[np.argmin(violation[valid])]) if len(valid) else None

    def _compute_batch(
        self, points: FloatArray, places: dict[bytes, int], request: int, objective: FloatArray, rows: FloatArray
    ) -> None:
        """Compute, count and record the designs at `places`, as far as the limits allow; the rest raises _Stop."""
        own = np.fromiter(places.values(), dtype=np.int64, count=len(places))
        new = np.array([not self.gate.has_counted_key(key) for key in places])
        limit = self.settings.evaluations
        room = len(own) if limit is None else int(limit - self.counts.evaluations)
        allowed = len(own) if int(new.sum()) <= room else int(np.searchsorted(np.cumsum(new), room, side="right"))
        recorded = [self._replay.values_of(points[place].tobytes()) for place in own.tolist()]
        began = self._seconds()
        if any(values is None for values in recorded):
            self._check_seconds()
        # All of them, also those beyond a limit and those on record: the last bits could depend on the company.
        objective[own], rows[own] = self.gate.batch_values(points[own])
        for place, values in zip(own.tolist(), recorded, strict=True):
            if values is not None:
                objective[place], rows[place] = values[0], values[1:]
        taken = own[:allowed]
        if len(taken):
            self._note_batch(points[taken], objective[taken], rows[taken], list(places)[:allowed], request, began)
        if allowed < len(own):
            raise _Stop("exhausted", f"{limit} evaluations are used up")

    def _note_batch(
        self, points: FloatArray, objective: FloatArray, rows: FloatArray, keys: list[bytes], request: int, began: float
    ) -> None:
        """Keep, count and record a computed batch."""
        violation = self.measures.violations(points, rows)
        violation[~np.isfinite(objective) | ~np.isfinite(rows).all(axis=1)] = math.inf
        written: list[float | None] = [None] * len(keys)
        if self.problem.objective is not None:
            written = (self.problem.objective.sign * objective).tolist()
        counts, gradients = self.gate.take_batch(keys, objective, rows)
        packed = np.column_stack([objective, rows])
        first, seconds = len(self.evaluations) + 1, self._seconds()
        records = [
            EvaluationRecord(number, request, point.tobytes(), values.tobytes(), None, f, v, count, gradients, seconds)
            for number, (point, values, f, v, count) in enumerate(
                zip(points, packed, written, violation.tolist(), counts, strict=True), start=first
            )
        ]
        for key, record in zip(keys, records, strict=True):
            self._numbers.setdefault(key, record.number)
        if self._ledger is not None:
            fresh = [record for record in records if not self._replay.knows(record.point)]
            self._ledger.add_evaluations(self._number, fresh, took=(seconds - began) / len(keys))
        if np.isfinite(violation).any():
            self._incumbents.note(points, objective, violation, first)
            if self._archive is not None:
                self._archive.note(points, rows, violation, first)
        for record in records:
            self._history.add_evaluation(record, spared=self._incumbents.numbers)

    def _evaluate(self, point: FloatArray, request: int, *, derivatives: bool) -> Evaluation:
        known = self.gate.known(point, derivatives=derivatives)
        if known is not None:
            return known
        counts = self.counts
        is_new = not self.gate.has_counted(point)
        limit = self.settings.evaluations
        if limit is not None and is_new and counts.evaluations >= limit:
            raise _Stop("exhausted", f"{limit} evaluations are used up")
        recorded = self._replay.answer(point, derivatives=derivatives)
        if recorded is None:
            self._check_seconds()
            seconds = self._seconds()
            evaluation = self.gate.evaluate(point, derivatives=derivatives)
        elif self.problem.sources and self._replay.has_calls:
            evaluation, seconds = self.gate.evaluate(point, derivatives=derivatives), recorded.seconds
            if not self._agrees(evaluation, recorded):
                raise RequestError(
                    f"evaluation {recorded.number} is not what it was: its models' calls give others now"
                )
            self._earlier, self._began = max(self._earlier, seconds), self._clock()
        else:
            evaluation, seconds = self._recalled(point, recorded, derivatives=derivatives), recorded.seconds
            before = self._base.counts.evaluations
            self.gate.adopt(point, evaluation, evaluations=recorded.evaluations - before)
            self._earlier = max(self._earlier, seconds)
            self._began = self._clock()
        self._note_evaluation(
            point, evaluation, request, took=self._seconds() - seconds, is_recorded=recorded is not None
        )
        return evaluation

    def _recalled(self, point: FloatArray, record: EvaluationRecord, *, derivatives: bool) -> Evaluation:
        """Return what a record says of a design. Derivatives of formulas are not recorded but computed again."""
        if derivatives and not self._has_steps():
            # Chosen where they were chosen then: at the first derivatives. These calls are counted as recorded.
            Gate(self.problem, is_sparse=self.is_sparse, calls=self.gate.calls).evaluate(point, derivatives=True)
        if record.is_whole and (not derivatives or record.derivatives):
            n, m = self.problem.size, self.problem.row_count
            return unpacked(record, variables=n, rows=m, derivatives=derivatives, is_sparse=self.is_sparse)
        evaluation = self.gate.evaluate(point, derivatives=derivatives)
        if not self._agrees(evaluation, record):
            raise RequestError(f"evaluation {record.number} is not what it was: the run cannot follow its own path")
        return evaluation

    def _agrees(self, evaluation: Evaluation, record: EvaluationRecord) -> bool:
        """Return whether an evaluation is the one on record; where long vectors were thinned, by its objective."""
        if record.is_whole:
            return _packed(evaluation) == record.values
        return not evaluation.is_finite or self._as_written(evaluation.objective) == record.objective

    def _seconds(self) -> float:
        return self._earlier + self._clock() - self._began

    def _as_written(self, objective: float) -> float | None:
        if self.problem.objective is None:
            return None
        return self.problem.objective.sign * objective

    def _record(self, point: FloatArray, evaluation: Evaluation, request: int, number: int) -> EvaluationRecord:
        violation = self.measures.violation(point, evaluation.rows) if evaluation.is_finite else math.inf
        counts = self.counts
        derivatives = None
        if evaluation.gradient is not None and evaluation.jacobian is not None:
            # Formulas give the same numbers again, from the calls of models on record; older ledgers have no calls.
            derivatives = packed_derivatives(evaluation) if self._is_old_style else b""
        key, values = self._kept_bytes(point), _packed(evaluation)
        before = self.evaluations[-1] if self.evaluations else None
        if before is not None and before.point == key:  # first its values, then its derivatives: kept once
            key, values = before.point, before.values if before.values == values else values
        return EvaluationRecord(
            number,
            request,
            key,
            values,
            derivatives,
            self._as_written(evaluation.objective),
            violation,
            counts.evaluations,
            counts.gradients,
            self._seconds(),
        )

    def _note_evaluation(
        self,
        point: FloatArray,
        evaluation: Evaluation,
        request: int,
        *,
        took: float,
        is_recorded: bool = False,
        number: int | None = None,
    ) -> None:
        record = self._record(point, evaluation, request, len(self.evaluations) + 1 if number is None else number)
        self._numbers.setdefault(key_of(point), record.number)
        if self._ledger is not None and not is_recorded:
            self._ledger.add_evaluation(self._number, record, took=took)
        if evaluation.is_finite:
            one = np.array([evaluation.objective]), np.array([record.violation])
            self._incumbents.note(point[np.newaxis], *one, record.number)
            if self._archive is not None:
                self._archive.note(point[np.newaxis], evaluation.rows[np.newaxis], one[1], record.number)
        self._history.add_evaluation(record, spared=self._incumbents.numbers)
        if self._is_sample and self._listener is not None:
            front = None if self._archive is None else len(self._archive)
            self._listener(Sampled(self.counts.evaluations, self._best_as_written(), self._seconds(), front))

    def _check_goals(self) -> None:
        """Stop where the target is reached, a feasible design is all that is asked, or patience is at its end."""
        best = self._incumbents.feasible
        if best is not None and not self._is_sample:
            if self._seeks_feasible and not self.method.needs_derivatives and self._scaling is not None:
                raise _Stop("settled", "a feasible design is found, which is all that is asked")
            target, objective = self.settings.target, self.problem.objective
            if objective is not None and objective.is_reached(objective.sign * best.objective):
                raise _Stop("target", f"the goal {objective.goal:g} of {objective.name} is reached")
            if target is not None and objective is not None and best.objective <= objective.sign * target:
                raise _Stop("target", f"the target {target:g} is reached")
        patience = self.settings.patience
        if patience is not None and len(self.evaluations) - self._progress_at() >= patience:
            raise _Stop(
                "stalled", f"no progress in the last {patience} evaluations, which is all that --patience allows"
            )

    def _progress_at(self) -> int:
        """Return the number of the evaluation that was the last to come nearer to what is looked for."""
        if self._archive is None or not len(self._archive):
            return self._incumbents.progress_at
        self._archive.note_progress()
        return max(self._archive.progress_at, self._first[0])

    def _judge(self, iterate: object) -> Assessment:
        assert self._scaling is not None
        if not isinstance(iterate, Iterate):
            raise _ProtocolError(f"yielded {type(iterate).__name__}, neither a Request nor an Iterate")
        point = self._full(np.asarray(iterate.point, dtype=float)[np.newaxis])[0]
        evaluation = self.gate.known(point) or self.gate.evaluate(point)
        violation = self.measures.violation(point, evaluation.rows) if evaluation.is_finite else math.inf
        conditions = self._conditions(point, evaluation, iterate)
        stationarity = conditions.stationarity if conditions else None
        meets = (
            conditions is not None
            and conditions.meet(self.settings.tolerance)
            and violation <= self.settings.feasibility
        )
        assessment = Assessment(violation, stationarity, meets)
        self._last, self._last_iterate = (point, assessment), iterate
        self._note_iteration(iterate, point, evaluation, assessment)
        if self.settings.iterations is not None and len(self.iterations) > self.settings.iterations:
            raise _Stop("exhausted", f"{self.settings.iterations} iterations are used up")
        counts = self.counts
        total = counts.evaluations + counts.gradients
        if self._incumbents.feasible is None and self._incumbents.least is not None:
            self._check_conflict(self._watch.after(self._incumbents.least.violation))
        self._idle = self._idle + 1 if total == self._known_work else 0
        self._known_work = total
        if self._idle >= MOST_IDLE:
            raise _Stop("stalled", f"{MOST_IDLE} iterations came back to designs already evaluated")
        return assessment

    def _best_as_written(self) -> float | None:
        return None if self._incumbents.feasible is None else self._as_written(self._incumbents.feasible.objective)

    def _kept_bytes(self, point: FloatArray) -> bytes:
        """Return a design's bytes, those of its evaluation where that is one of the last: long vectors are kept
        once."""
        key = point.tobytes()
        return next((record.point for record in self.evaluations[:-4:-1] if record.point == key), key)

    def _note_iteration(
        self, iterate: Iterate, point: FloatArray, evaluation: Evaluation, assessment: Assessment
    ) -> None:
        counts, seconds = self.counts, self._seconds()
        best = self._best_as_written()
        number = len(self.iterations)  # the first iterate is the start: iteration 0
        foretold = self._foretold(iterate)
        note = iterate.note if foretold is None else "; ".join(filter(None, (_foretold_words(foretold), iterate.note)))
        record = IterationRecord(
            number,
            iterate.path or self.method.name,
            counts.evaluations,
            counts.gradients,
            seconds,
            self._as_written(evaluation.objective),
            best,
            assessment.violation,
            assessment.stationarity,
            iterate.step,
            note,
            self._kept_bytes(point),
            foretold,
        )
        is_replay = number < self._replay.iterations
        if self._ledger is not None and not is_replay:
            self._ledger.add_iteration(self._number, record)
            if iterate.population is not None:
                self._ledger.add_generation(self._number, number, self._members(iterate.population))
        self._history.add_iteration(record)
        if self._listener is not None:
            event = Iterated(
                number,
                counts.evaluations,
                counts.gradients,
                seconds,
                best,
                assessment.violation,
                assessment.stationarity,
                note,
                is_replay,
                self._as_written(evaluation.objective) if evaluation.is_finite else None,
                iterate.step,
                iterate.gain_ratio,
                iterate.path,
                self._incumbents.top if self._archive is None else (),
                None if self._archive is None else self._archive.now,
            )
            self._listener(event)

    def _foretold(self, iterate: Iterate) -> ForetoldRecord | None:
        """Return what a surface said, in the objective as written."""
        told, objective = iterate.foretold, self.problem.objective
        if told is None or objective is None or self._scaling is None:
            return None
        unit = self._scaling.objective
        said, actual = (objective.sign * unit * value for value in (told.said, told.actual))
        return ForetoldRecord(said, unit * told.spread, actual, told.surface)

    def _members(self, population: FloatArray) -> tuple[int, ...]:
        """Return the numbers of the evaluations of a population's designs."""
        full = self._full(np.asarray(population, dtype=float))
        return tuple(self._numbers.get(key_of(point), 0) for point in full)

    def _conditions(
        self, point: FloatArray, evaluation: Evaluation, iterate: Iterate | None = None
    ) -> Conditions | None:
        """Return the conditions at a full design, with the multipliers of the iterate that it comes from; None where
        several objectives are traded off: of one design alone they say nothing."""
        if self._sense is not None:
            return None
        if self._view is not None:
            return self._view.conditions(point, iterate.multipliers if iterate and iterate.lifted is not None else None)
        if self._assessor is None:
            assert self._start is not None
            self._assessor = Assessor(self.problem, self.measures, self.settings, self._scaling, self._start.objective)
        return self._assessor.conditions(point, evaluation, iterate.multipliers if iterate else None)

    # ---- the end ------------------------------------------------------------------------------

    def _note_start_if_nothing_else(self) -> None:
        """A run that ended before anything was evaluated (a model that cannot be differentiated) reports its start for
        what it is: feasible, where it is."""
        if self._incumbents.least is not None or self._incumbents.feasible is not None:
            return
        start = np.array(self.problem.start)
        evaluation = self.gate.evaluate(start)
        if evaluation.is_finite:
            violation = self.measures.violation(start, evaluation.rows)
            self._incumbents.note(start[np.newaxis], np.array([evaluation.objective]), np.array([violation]), 0)

    def _reported(self, outcome: str) -> tuple[FloatArray, str]:
        if outcome == "converged" and self._last is not None:
            return self._last[0], "final"
        if self._incumbents.feasible is not None:
            return self._incumbents.feasible.point, "best-feasible"
        if self._incumbents.least is not None:
            return self._incumbents.least.point, "least-violation"
        return np.array(self.problem.start), "least-violation"

    def _result(self, outcome: str, reason: str) -> RunResult:
        problem = self.problem
        self._note_start_if_nothing_else()
        front = self._front()
        point, design = self._reported(outcome)
        if front is not None and front.members:
            point, design = np.array(front.members[compromise(front.values)].point), "compromise"
        has_derivatives = self.method.needs_derivatives and self._can_differentiate and self._view is None
        evaluation = self.gate.evaluate(point, derivatives=has_derivatives)
        if self._start is None:
            self._start = self.gate.evaluate(np.array(problem.start))
        ended_here = self._last is not None and np.array_equal(self._last[0], point)
        # Of a large problem the last multipliers measure any design well enough: better ones would take minutes.
        has_last = ended_here or problem.size + problem.row_count > HUGE_SIZE
        conditions = self._conditions(point, evaluation, self._last_iterate if has_last else None)
        is_valid = evaluation.is_finite
        bounds, rows = limit_states(
            problem, self.measures, point, evaluation, conditions, feasibility=self.settings.feasibility
        )
        if front is not None:
            rows = own_limits(problem, self.measures, evaluation.rows, self.settings.feasibility)
        # Of a sample no call is made for the baseline alone.
        baseline_point = np.array(problem.start if self._is_sample else problem.baseline)
        baseline = Gate(problem, calls=self.gate.calls).evaluate(baseline_point)
        counts = self.counts
        estimates = estimates_of(problem, self.gate, point) if is_valid and has_derivatives else None
        settings = self.settings.to_dict()
        if self.settings.scaling and self._scaling is not None:
            settings["scaling"] = self._scaling.facts(problem)
        found = RunResult(
            self.run_id,
            problem,
            self._finished_by or self.method.name,
            outcome,
            reason,
            design,
            tuple(point.tolist()),
            self._as_written(evaluation.objective),
            self._as_written(baseline.objective),
            self._violation_of_baseline(baseline_point, baseline),
            bounds,
            rows,
            self.measures.violation(point, evaluation.rows) if is_valid else math.inf,
            conditions.stationarity if conditions and not math.isnan(conditions.stationarity) else None,
            {
                "iterations": max(len(self.iterations) - 1, 0),
                "evaluations": counts.evaluations,
                "gradients": counts.gradients,
                "hessians": counts.hessians,
                **({"calls": self._calls_made()} if problem.sources else {}),
            },
            self._seconds(),
            self.settings.seed,
            settings,
            tuple(self.evaluations[self._first[0] :]),
            tuple(self.iterations[self._first[1] :]),
            self._trouble,
            estimates,
            self._optima_as_written(),
            self._bound_as_written(),
            self._bound[1],
            self._second_look(),
            () if self._watch.conflict is None else self._watch.conflict.names,
            (*self._notes(), *self._outside(point)),
            self._quantities(point) if is_valid else {},
            self._base.ended,
            forecast=forecast_of(problem, point, estimates, self.gate.calls),
            front=front,
            multipliers=None if conditions is None else (conditions.row_multipliers, conditions.bound_multipliers),
        )
        return shown(found)

    def _violation_of_baseline(self, point: FloatArray, baseline: Evaluation) -> float:
        """Return by how much the baseline misses limits; of unknowns on a grid the guess meets no equation exactly."""
        if not baseline.is_finite:
            return math.inf
        rows = baseline.rows
        if self.problem.is_collocated:
            rows = np.array(rows)
            rows[self.problem.own_row_count :] = 0.0
        return self.measures.violation(point, rows)

    def _front(self) -> Front | None:
        """Return the front of several objectives."""
        if self._archive is None:
            return None
        return front_of(
            self.problem,
            self.gate,
            self.measures,
            self._archive,
            count=points_asked(self.problem, self.settings.points),
            claimed=self._claimed,
            reference=self.settings.reference_point,
            feasibility=self.settings.feasibility,
            numbers=lambda point: self._numbers.get(key_of(point), 0),
        )

    def _quantities(self, point: FloatArray) -> dict[str, object]:
        """Return the derived values and outputs of models at a design: those on the way to it, or kept."""
        try:
            return self.problem.quantities(point, self.gate.calls)
        except ProblemError:  # one of a model that nothing asked for, and that cannot be called
            return {}

    def _calls_made(self) -> int:
        """Return how many calls of models the run has made, before it was interrupted and since."""
        return sum(calls.calls for calls in self.gate.calls) if self._shelf is None else self._shelf.count

    def _notes(self) -> tuple[str, ...]:
        """Return what a user should know of the models: where derivatives came from, how often they failed."""
        found = []
        for calls in self.gate.calls:
            found += calls.notes
            if calls.failures:
                where = f"failed at {calls.failures} point{'s' if calls.failures > 1 else ''}"
                first = calls.first_failure.removeprefix(f'model "{calls.source.name}" ').removeprefix(": ")
                found.append(f'model "{calls.source.name}" {where}, taken as invalid; the first: {first}')
        return tuple(found)

    def _outside(self, point: FloatArray) -> tuple[str, ...]:
        """Return the notes on a design that lies outside what approximations have learnt."""
        if self.problem.template is None or not self.problem.template.learnt:
            return ()
        from ilvren.problem import outside_of  # few problems have approximations

        told = outside_of(self.problem, point)
        return (f"outside what its approximations have learnt, where they guess: {'; '.join(told)}",) if told else ()

    def _second_look(self) -> dict[str, object] | None:
        if self._looked is None:
            return None
        first = self._first_evaluations if not self._looked.is_convex else None
        return document(self._looked, 0 if first is None else self.counts.evaluations - first)

    def _optima_as_written(self) -> tuple[FoundOptimum, ...]:
        sign = self.problem.objective.sign if self.problem.objective is not None else 1
        if self._scaling is None:
            return ()
        full = self._full(np.array([item.point for item in self._optima]).reshape(-1, len(self._scaling.free)))
        return tuple(
            FoundOptimum(tuple(point.tolist()), sign * self._scaling.objective * item.f, item.often, item.from_starts)
            for point, item in zip(full, self._optima, strict=True)
        )

    def _bound_as_written(self) -> float | None:
        if self._scaling is None or not math.isfinite(self._bound[0]):
            return None
        return self._as_written(self._scaling.objective * self._bound[0])


def _is_convex(problem: Problem) -> bool:
    from ilvren.proofs import is_convex

    return is_convex(problem)


def _packed(evaluation: Evaluation) -> bytes:
    return np.concatenate([[evaluation.objective], evaluation.rows]).tobytes()


def _foretold_words(told: ForetoldRecord) -> str:
    """Say what was predicted, by which surface, and what came of it."""
    came = f"{told.actual:.6g}" if math.isfinite(told.actual) else "none"
    return f"predicted {told.said:.6g} ± {told.spread:.2g}, actual {came}: {told.surface}"
