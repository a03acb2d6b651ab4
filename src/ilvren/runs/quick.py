"""One problem solved in process, with nothing recorded: for windows that are solved again and again.

The method's own multipliers are taken at their word as far as they measure up: first-order conditions hold where no
component of

    ∇f − J'y                                                                                            (1)

is larger than the tolerance, in scaled variables over the objective's scale, but for those that a bound takes up with
the right sign, where multipliers of rows have the signs of the limits they press on and vanish elsewhere.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.evaluate import Gate, measured
from ilvren.methods import Assessment, Ending, HessianRequest, Iterate, Method, Request, Task, Tight, Want
from ilvren.problem import Measures, Problem
from ilvren.records import dataclass
from ilvren.runs.scaling import Scaling

if TYPE_CHECKING:
    from ilvren.runs.settings import Settings

__all__ = ["QuickAnswer", "QuickScales", "quickly_solved"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class QuickScales:
    """What further problems of the same shape are measured and scaled by: those of the first."""

    measures: Measures
    scaling: Scaling


@dataclass(frozen=True)
class QuickAnswer:
    """How it ended: the full design, its internal objective, the largest miss of a row over its size, the multipliers
    of rows and bounds (internal, unscaled), the iterations, and the scales that it was solved in."""

    outcome: str
    point: FloatArray
    objective: float
    violation: float
    multipliers: tuple[FloatArray, FloatArray] | None
    iterations: int
    scales: QuickScales


def quickly_solved(
    problem: Problem,
    method: Method,
    options: object,
    settings: Settings,
    multipliers: tuple[FloatArray, FloatArray] | None = None,
    scales: QuickScales | None = None,
) -> QuickAnswer:
    """Solve a problem of formulas by one method. Multipliers are (m,) and (n,)."""
    with np.errstate(all="ignore"):
        return _Quick(problem, method, options, settings, multipliers, scales).answer()


class _Quick:
    def __init__(
        self,
        problem: Problem,
        method: Method,
        options: object,
        settings: Settings,
        multipliers: tuple[FloatArray, FloatArray] | None,
        scales: QuickScales | None,
    ) -> None:
        self.problem, self.settings = problem, settings
        self.gate = Gate(problem, is_sparse=method.takes_sparse)
        point = np.array(problem.start)
        if scales is None:
            measures = measured(problem, self.gate)
            start = self.gate.evaluate(point, derivatives=True)
            scales = QuickScales(measures, Scaling.at(problem, measures, start, is_on=settings.scaling))
        own = Measures.of(problem).with_moves(scales.measures.moves)
        free = np.array(problem.free, dtype=np.int64)
        self.measures = own
        self.scaling = Scaling(free, point, scales.scaling.variables, scales.scaling.rows, scales.scaling.objective)
        self.scales = QuickScales(scales.measures, self.scaling)
        self.task = self.scaling.task(
            problem,
            own,
            settings,
            multipliers=multipliers,
            is_sparse=method.takes_sparse,
            has_curvature=self.gate.has_curvature,
        )
        self._method, self._options = method, options
        self._last: tuple[FloatArray, Any] = point, None
        self._iterations = -1

    def answer(self) -> QuickAnswer:
        generator = self._method.run(self.task, self._options)
        outcome = "stalled"
        try:
            message = next(generator)
            while True:
                message = generator.send(self._replied(message))
        except StopIteration as end:
            if isinstance(end.value, Ending):
                outcome = end.value.claim
        except _Enough as enough:
            outcome = enough.outcome
        finally:
            generator.close()
        point, iterate = self._last
        evaluation = self.gate.evaluate(point, derivatives=True)
        violation = self._violation(point, evaluation.rows)
        assessment = self._assessment(point, iterate)
        if outcome == "converged" and not assessment.meets_conditions:
            outcome = "stalled"
        known = None
        if iterate is not None and iterate.multipliers is not None and len(iterate.multipliers):
            rows = iterate.multipliers[: self.problem.row_count] * (self.scaling.objective / self.scaling.rows)
            rest = evaluation.gradient - evaluation.jacobian.T @ rows
            known = rows, np.where(np.isfinite(rest), rest, 0.0)
        return QuickAnswer(
            outcome, point, evaluation.objective, violation, known, max(self._iterations, 0), self.scales
        )

    def _replied(self, message: object) -> object:
        if isinstance(message, Request):
            full = self._full(np.asarray(message.points, dtype=float))
            slopes = Want.SLOPES in message.wants
            found = [self.gate.evaluate(point, derivatives=slopes) for point in full]
            return self.scaling.reply(found, derivatives=slopes)
        if isinstance(message, HessianRequest):
            point = self._full(np.asarray(message.point, dtype=float)[np.newaxis])[0]
            return self.scaling.second(self.gate, message, point)
        assert not isinstance(message, Tight)
        assert isinstance(message, Iterate)
        self._iterations += 1
        point = self._full(np.asarray(message.point, dtype=float)[np.newaxis])[0]
        self._last = point, message
        limit = self.settings.iterations
        if limit is not None and self._iterations > limit:
            raise _Enough("exhausted")
        return self._assessment(point, message)

    def _full(self, scaled: FloatArray) -> FloatArray:
        return self.scaling.full(scaled, self.measures.lower, self.measures.upper)

    def _violation(self, point: FloatArray, rows: FloatArray) -> float:
        return self.measures.violation(point, rows) if np.isfinite(rows).all() else math.inf

    def _assessment(self, point: FloatArray, iterate: Any) -> Assessment:
        """Return how a design stands by (1)."""
        evaluation = self.gate.evaluate(point, derivatives=True)
        violation = self._violation(point, evaluation.rows)
        if iterate is None or iterate.multipliers is None or not evaluation.has_finite_derivatives:
            return Assessment(violation, None, False)
        task: Task = self.task
        reply = self.scaling.reply([evaluation], derivatives=True)
        assert reply.gradient is not None
        assert reply.jacobian is not None
        y = np.asarray(iterate.multipliers)[: len(task.row_lower)]
        c, feasible = reply.rows[0], task.feasibility * task.row_sizes
        presses = np.where(c <= task.row_lower + feasible, 1, 0) + np.where(c >= task.row_upper - feasible, 2, 0)
        wrong = np.where(presses == 0, np.abs(y), np.where(presses == 1, -y, np.where(presses == 2, y, 0.0)))
        rest = reply.gradient[0] - reply.jacobian[0].T @ y
        x = point[self.scaling.free] / self.scaling.variables
        near = task.feasibility * np.maximum(1.0, np.abs(x))
        at_low, at_high = x <= task.lower + near, x >= task.upper - near
        left = np.where(at_low & at_high, 0.0, np.where(at_low, -rest, np.where(at_high, rest, np.abs(rest))))
        # A multiplier where nothing presses counts by what going to the limit would change.
        room = np.minimum(np.abs(c - task.row_lower), np.abs(c - task.row_upper))
        slack = np.where(presses == 0, wrong * np.where(np.isfinite(room), room, 0.0), np.maximum(wrong, 0.0))
        size = max(float(np.abs(reply.gradient[0]).max(initial=0.0)), 1.0)
        stationarity = max(float(left.max(initial=0.0)), float(slack.max(initial=0.0))) / size
        meets = stationarity <= self.settings.tolerance and violation <= self.settings.feasibility
        return Assessment(violation, stationarity, meets)


class _Enough(Exception):
    def __init__(self, outcome: str) -> None:
        super().__init__(outcome)
        self.outcome = outcome
