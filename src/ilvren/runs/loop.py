"""The loop: drives a method's generator, answers its requests, judges its iterates, ends it.

What a user is told is decided here and from measurements; a method's word is only a claim.
"""

from __future__ import annotations

import math
import time
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import MachineError, ProblemError, RequestError
from ilvren.evaluate import Evaluation, Gate
from ilvren.ledger import EvaluationRecord, IterationRecord, Ledger, RequestRecord
from ilvren.methods.base import Bend, Ending, Iterate, Method, Reply, Request, Standing
from ilvren.problem import Measures, Problem, objective_size, sum_of_squares
from ilvren.runs.claims import MODEL_OPERATIONS, start_trouble, violation_is_stationary, where_invalid
from ilvren.runs.conditions import Conditions, conditions_with, first_order_conditions
from ilvren.runs.estimates import LOSS_NUMBERS, estimates_of
from ilvren.runs.events import Event, Iterated
from ilvren.runs.replay import Replay, packed_derivatives, request_hash, unpacked
from ilvren.runs.report import limit_states
from ilvren.runs.result import RunResult
from ilvren.runs.scaling import Scaling
from ilvren.runs.settings import Settings
from ilvren.runs.sources import with_source

__all__ = ["Loop", "is_large"]

FloatArray = NDArray[np.float64]
Listener = Callable[[Event], None]

# A method that goes on this many iterations without asking for anything new is going in circles.
MOST_IDLE = 200
# From so many free variables and rows on, Jacobians are sparse matrices for methods that take them.
SPARSE_SIZE = 400
# From so many variables on, iterates are measured with the method's own multipliers.
LARGE_SIZE = 500


def is_large(problem: Problem) -> bool:
    """Return whether derivatives of a problem are better held in sparse matrices."""
    return len(problem.free) + problem.row_count > SPARSE_SIZE


class _Stop(Exception):
    def __init__(self, outcome: str, reason: str) -> None:
        super().__init__(reason)
        self.outcome = outcome
        self.reason = reason


class _ProtocolError(Exception):
    """A method broke the protocol of `methods.base`."""


@dataclass
class _Best:
    """The best design evaluated so far under the rule for reported designs."""

    point: FloatArray
    evaluation: Evaluation
    violation: float


class Loop:
    """One run of one method on one problem. Call `drive` once."""

    def __init__(
        self,
        problem: Problem,
        method: Method,
        options: object,
        settings: Settings,
        *,
        ledger: Ledger | None = None,
        number: int = 0,
        replay: Replay | None = None,
        listener: Listener | None = None,
        multipliers: tuple[FloatArray, FloatArray] | None = None,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self.problem = problem
        self.method = method
        self.options = options
        self.settings = settings
        self.is_sparse = method.takes_sparse and is_large(problem)
        problem, by_differences = with_source(problem, settings.derivatives)
        self.problem = problem
        self.gate = Gate(problem, is_sparse=self.is_sparse, by_differences=by_differences)
        self.measures = Measures.of(problem)
        self._ledger = ledger
        self._number = number
        self._replay = replay or Replay()
        self._listener = listener
        self._multipliers = multipliers
        self._clock = clock
        self._began = clock()
        self._earlier = 0.0
        self._requests = 0
        self._scaling: Scaling | None = None
        self._start: Evaluation | None = None
        self._feasible: _Best | None = None
        self._least: _Best | None = None
        self._last: tuple[FloatArray, Standing] | None = None
        self._last_multipliers: FloatArray | None = None
        self._guess: Conditions | None = None
        self._finished_by = ""
        self.evaluations: list[EvaluationRecord] = []
        self.iterations: list[IterationRecord] = []
        self._trouble: str | None = None
        self._idle, self._known_work = 0, 0
        self._can_differentiate = True
        self._seeks_feasible = problem.seeks_feasible

    @property
    def run_id(self) -> str:
        """Return the id in the ledger, "" without one."""
        return f"r{self._number}" if self._number else ""

    # ---- the loop -----------------------------------------------------------------------------

    def drive(self) -> RunResult:
        """Run to an end and return the result. An interrupt ends the run, the best design being kept."""
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
        except MachineError as error:
            outcome, reason = "interrupted", str(error)
            self._trouble, self._ledger = str(error), None
        with np.errstate(all="ignore"):
            result = self._result(outcome, reason)
        if self._ledger is not None:
            try:
                self._ledger.end_run(self._number, outcome=outcome, seconds=result.seconds, result=result.to_dict())
            except MachineError as error:
                self._trouble = str(error)
                result = self._result("interrupted", str(error))
        return result

    def _run(self) -> tuple[str, str]:
        problem, settings = self.problem, self.settings
        wants_derivatives = self.method.needs_derivatives
        point = np.array(problem.start)
        self._start = self._evaluate_all(point[np.newaxis, :], derivatives=wants_derivatives)[0]
        if not problem.free:
            return self._nothing_to_change()
        self._scaling = Scaling.at(problem, self.measures, self._start, is_on=settings.scaling)
        task = self._scaling.task(
            problem,
            self.measures,
            settings,
            multipliers=self._multipliers,
            is_sparse=self.is_sparse,
            has_curvature=self.gate.has_curvature,
            losses=self._losses(),
        )
        generator = self.method.run(task, self.options)
        try:
            message: Request | Bend | Iterate = next(generator)
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
            self._finished_by = end.value.method
            return self._checked(end.value)
        finally:
            generator.close()

    def _nothing_to_change(self) -> tuple[str, str]:
        assert self._start is not None
        if not self._start.is_finite:
            return "invalid", "no variable can change anything, and this design has no finite values"
        if self._feasible is None:
            return "infeasible", "no variable can change anything, and this design misses a limit"
        self._last = (self._feasible.point, Standing(self._feasible.violation, 0.0, True))
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
            return self._answer(message)
        if isinstance(message, Bend):
            return self._bend(message)
        return self._judge(message)

    def _bend(self, bend: Bend) -> object:
        assert self._scaling is not None
        if not self.gate.has_curvature:
            raise _ProtocolError("asked for second derivatives of a problem with models")
        self._check_seconds()
        point = self._scaling.full(np.asarray(bend.point, dtype=float), self.measures.lower, self.measures.upper)
        return self._scaling.second(self.gate, bend, point)

    def _check_seconds(self) -> None:
        if self.settings.seconds is not None and self._seconds() >= self.settings.seconds:
            raise _Stop("exhausted", f"{self.settings.seconds:g} seconds are used up")

    def _answer(self, request: Request) -> Reply:
        assert self._scaling is not None
        points = np.asarray(request.points, dtype=float)
        if points.ndim != 2 or points.shape[1] != len(self._scaling.free):
            raise _ProtocolError(f"asked for points of shape {points.shape}, not (k, {len(self._scaling.free)})")
        full = np.array([self._scaling.full(p, self.measures.lower, self.measures.upper) for p in points])
        evaluations = self._evaluate_all(full, derivatives=request.derivatives)
        residuals = None
        if request.residuals:
            residuals = [self.gate.residuals(point, derivatives=request.derivatives) for point in full]
        return self._scaling.reply(evaluations, derivatives=request.derivatives, residuals=residuals)

    def _evaluate_all(self, points: FloatArray, *, derivatives: bool) -> list[Evaluation]:
        digest = request_hash(points, derivatives=derivatives)
        number, self._requests = self._requests, self._requests + 1
        if not self._replay.check(number, digest) and self._ledger is not None:
            self._ledger.add_request(self._number, RequestRecord(number, digest, len(points)))
        return [self._evaluate(point, number, derivatives=derivatives) for point in points]

    def _evaluate(self, point: FloatArray, request: int, *, derivatives: bool) -> Evaluation:
        known = self.gate.known(point, derivatives=derivatives)
        if known is not None:
            return known
        counts = self.gate.counts
        is_new = not self.gate.has_counted(point)
        limit = self.settings.evaluations
        if limit is not None and is_new and counts.evaluations >= limit:
            raise _Stop("exhausted", f"{limit} evaluations are used up")
        recorded = self._replay.answer(point, derivatives=derivatives)
        if recorded is None:
            self._check_seconds()
            seconds = self._seconds()
            evaluation = self.gate.evaluate(point, derivatives=derivatives)
        else:
            evaluation, seconds = self._recalled(point, recorded, derivatives=derivatives), recorded.seconds
            self.gate.adopt(point, evaluation, evaluations=recorded.evaluations)
            self._earlier = max(self._earlier, seconds)
            self._began = self._clock()
        self._note_evaluation(point, evaluation, request, took=self._seconds() - seconds)
        return evaluation

    def _recalled(self, point: FloatArray, record: EvaluationRecord, *, derivatives: bool) -> Evaluation:
        """Return what a record says of a design. Derivatives of formulas are not recorded but computed again."""
        if not derivatives or record.derivatives:
            n, m = self.problem.size, self.problem.row_count
            return unpacked(record, variables=n, rows=m, derivatives=derivatives, is_sparse=self.is_sparse)
        evaluation = self.gate.evaluate(point, derivatives=True)
        if _packed(evaluation) != record.values:
            raise RequestError(f"evaluation {record.number} is not what it was: the run cannot follow its own path")
        return evaluation

    def _seconds(self) -> float:
        return self._earlier + self._clock() - self._began

    def _as_written(self, evaluation: Evaluation) -> float | None:
        if self.problem.objective is None:
            return None
        return self.problem.objective.sign * evaluation.objective

    def _note_evaluation(self, point: FloatArray, evaluation: Evaluation, request: int, *, took: float) -> None:
        violation = self.measures.violation(point, evaluation.rows) if evaluation.is_finite else math.inf
        counts = self.gate.counts
        derivatives = None
        if evaluation.gradient is not None and evaluation.jacobian is not None:
            # Formulas give the same numbers again; a model is asked once.
            derivatives = packed_derivatives(evaluation) if self.problem.runners else b""
        record = EvaluationRecord(
            len(self.evaluations) + 1,
            request,
            point.tobytes(),
            _packed(evaluation),
            derivatives,
            self._as_written(evaluation),
            violation,
            counts.evaluations,
            counts.gradients,
            self._seconds(),
        )
        self.evaluations.append(record)
        if self._ledger is not None and record.number > self._replay.evaluations:
            self._ledger.add_evaluation(self._number, record, took=took)
        if not evaluation.is_finite:
            return
        here = _Best(point, evaluation, violation)
        if self._least is None or violation < self._least.violation:
            self._least = here
        if violation <= self.settings.feasibility:
            best = self._feasible
            if best is None or (evaluation.objective, violation) < (best.evaluation.objective, best.violation):
                self._feasible = here
            self._check_target(evaluation)

    def _check_target(self, evaluation: Evaluation) -> None:
        target = self.settings.target
        if self._seeks_feasible and not self.method.needs_derivatives and self._scaling is not None:
            raise _Stop("settled", "a feasible design is found, which is all that is asked")
        if target is None or self.problem.objective is None:
            return
        if evaluation.objective <= self.problem.objective.sign * target:
            raise _Stop("target", f"the target {target:g} is reached")

    def _judge(self, iterate: object) -> Standing:
        assert self._scaling is not None
        if not isinstance(iterate, Iterate):
            raise _ProtocolError(f"yielded {type(iterate).__name__}, neither a Request nor an Iterate")
        point = self._scaling.full(np.asarray(iterate.point, dtype=float), self.measures.lower, self.measures.upper)
        evaluation = self.gate.known(point) or self.gate.evaluate(point)
        violation = self.measures.violation(point, evaluation.rows) if evaluation.is_finite else math.inf
        conditions = self._conditions(point, evaluation, iterate.multipliers)
        stationarity = conditions.stationarity if conditions else None
        meets = (
            conditions is not None
            and conditions.meet(self.settings.tolerance)
            and violation <= self.settings.feasibility
        )
        standing = Standing(violation, stationarity, meets)
        self._last, self._last_multipliers = (point, standing), iterate.multipliers
        self._note_iteration(iterate, point, evaluation, standing)
        if self.settings.iterations is not None and len(self.iterations) > self.settings.iterations:
            raise _Stop("exhausted", f"{self.settings.iterations} iterations are used up")
        counts = self.gate.counts
        total = counts.evaluations + counts.gradients
        self._idle = self._idle + 1 if total == self._known_work else 0
        self._known_work = total
        if self._idle >= MOST_IDLE:
            raise _Stop("stalled", f"{MOST_IDLE} iterations came back to designs already evaluated")
        return standing

    def _note_iteration(self, iterate: Iterate, point: FloatArray, evaluation: Evaluation, standing: Standing) -> None:
        counts, seconds = self.gate.counts, self._seconds()
        best = None if self._feasible is None else self._as_written(self._feasible.evaluation)
        number = len(self.iterations)  # the first iterate is the start: iteration 0
        record = IterationRecord(
            number,
            iterate.path or self.method.name,
            counts.evaluations,
            counts.gradients,
            seconds,
            self._as_written(evaluation),
            best,
            standing.violation,
            standing.stationarity,
            iterate.step,
            iterate.note,
            point.tobytes(),
        )
        self.iterations.append(record)
        is_replay = number < self._replay.iterations
        if self._ledger is not None and not is_replay:
            self._ledger.add_iteration(self._number, record)
        if self._listener is not None:
            event = Iterated(
                number,
                counts.evaluations,
                counts.gradients,
                seconds,
                best,
                standing.violation,
                standing.stationarity,
                iterate.note,
                is_replay,
                self._as_written(evaluation) if evaluation.is_finite else None,
                iterate.step,
                iterate.held,
                iterate.path,
            )
            self._listener(event)

    def _conditions(
        self, point: FloatArray, evaluation: Evaluation, multipliers: FloatArray | None = None
    ) -> Conditions | None:
        if not evaluation.has_finite_derivatives:
            return None
        assert self._start is not None
        size = objective_size(self.measures.objective_magnitude, evaluation.objective, self._start.objective)
        feasibility = self.settings.feasibility
        given = (self.problem, self.measures, point, evaluation)
        tolerance = self.settings.tolerance
        quick = None
        if not self.problem.row_count:
            multipliers = np.zeros(0)  # bounds alone need none to be measured exactly
        if multipliers is not None and self._scaling is not None:
            own = self._scaling.multipliers_as_written(multipliers)
            quick = conditions_with(*given, own, objective_size=size, feasibility=feasibility, tolerance=tolerance)
            if self.problem.size > LARGE_SIZE:
                return quick  # better multipliers would cost more than the iteration
        found = first_order_conditions(*given, objective_size=size, feasibility=feasibility, guess=quick or self._guess)
        self._guess = found
        return quick if quick is not None and quick.meet(tolerance) and not found.meet(tolerance) else found

    # ---- the end ------------------------------------------------------------------------------

    def _checked(self, ending: Ending) -> tuple[str, str]:
        """Return the outcome: the method's claim where measurements bear it out."""
        claim, reason = ending.claim, ending.reason
        standing = self._last[1] if self._last else None
        if claim == "converged":
            if standing is not None and standing.meets_conditions:
                return claim, reason
            claim, reason = "stalled", "the method holds it for converged, but the measured conditions do not"
        if claim == "invalid":
            # After some progress there was something finite to go on from.
            outcome = "stalled" if self.iterations and self._feasible is not None else claim
            found = start_trouble(self.problem)
            if outcome == "invalid" and found is not None and found[1].operation in MODEL_OPERATIONS:
                outcome = "model-failed"
            return outcome, reason + where_invalid(self.problem, self.gate)
        if claim == "infeasible":
            if self._feasible is not None:
                return "stalled", "feasible designs were found, but the method could not return to one"
            point = self._last[0] if self._last else np.array(self.problem.start)
            evaluation = self.gate.evaluate(point, derivatives=True)
            rows = self._scaling.rows if self._scaling else self.measures.row_sizes
            if not violation_is_stationary(self.problem, self.measures, point, evaluation, rows):
                return "no-feasible", reason
            return claim, reason
        if self._feasible is None:
            return "no-feasible", f"no design evaluated meets all limits ({reason})"
        return claim, reason

    def _reported(self, outcome: str) -> tuple[FloatArray, str]:
        if outcome == "converged" and self._last is not None:
            return self._last[0], "final"
        if self._feasible is not None:
            return self._feasible.point, "best-feasible"
        if self._least is not None:
            return self._least.point, "least-violation"
        return np.array(self.problem.start), "least-violation"

    def _result(self, outcome: str, reason: str) -> RunResult:
        problem = self.problem
        point, design = self._reported(outcome)
        has_derivatives = self.method.needs_derivatives and self._can_differentiate
        evaluation = self.gate.evaluate(point, derivatives=has_derivatives)
        if self._start is None:
            self._start = self.gate.evaluate(np.array(problem.start))
        ended_here = self._last is not None and np.array_equal(self._last[0], point)
        conditions = self._conditions(point, evaluation, self._last_multipliers if ended_here else None)
        is_valid = evaluation.is_finite
        bounds, rows = limit_states(
            problem, self.measures, point, evaluation, conditions, feasibility=self.settings.feasibility
        )
        baseline_point = np.array(problem.baseline)
        baseline = Gate(problem).evaluate(baseline_point)
        counts = self.gate.counts
        settings = self.settings.to_dict()
        if self.settings.scaling and self._scaling is not None:
            settings["scaling"] = self._scaling.facts(problem)
        return RunResult(
            self.run_id,
            problem,
            self._finished_by or self.method.name,
            outcome,
            reason,
            design,
            tuple(point.tolist()),
            self._as_written(evaluation),
            self._as_written(baseline),
            self.measures.violation(baseline_point, baseline.rows) if baseline.is_finite else math.inf,
            bounds,
            rows,
            self.measures.violation(point, evaluation.rows) if is_valid else math.inf,
            conditions.stationarity if conditions and not math.isnan(conditions.stationarity) else None,
            {
                "iterations": max(len(self.iterations) - 1, 0),
                "evaluations": counts.evaluations,
                "gradients": counts.gradients,
                "hessians": counts.hessians,
            },
            self._seconds(),
            self.settings.seed,
            settings,
            tuple(self.evaluations),
            tuple(self.iterations),
            self._trouble,
            estimates_of(problem, self.gate, point) if is_valid and has_derivatives else None,
        )


def _packed(evaluation: Evaluation) -> bytes:
    return np.concatenate([[evaluation.objective], evaluation.rows]).tobytes()
