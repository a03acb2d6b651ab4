"""A run's problem as a method sees it with kinks lifted: where it is evaluated, scaled and measured.

The variables keep the sizes that they have in the problem itself, so that a lifted point begins with the point that it
is taken from. First-order conditions are measured with every kink's unknown at the kink's own value: there they are the
conditions of the problem itself, none of whose directional derivatives within the limits may then be negative.
"""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.evaluate import Evaluation, Gate, form_of, measured
from ilvren.problem import Lifted, Measures, objective_size
from ilvren.runs.assessor import Assessor
from ilvren.runs.scaling import Scaling
from ilvren.runs.stationary_violation import violation_is_stationary

if TYPE_CHECKING:
    from ilvren.methods import Reply, Task
    from ilvren.runs.conditions import Conditions
    from ilvren.runs.settings import Settings

__all__ = ["LiftedView"]

FloatArray = NDArray[np.float64]


# So many times the size that it has at a design a kink had at the start, for that to say nothing any more.
VAST = 1e3


class LiftedView:
    """`measures` and `scaling` given are those of the problem itself."""

    def __init__(
        self, lifted: Lifted, measures: Measures, scaling: Scaling, settings: Settings, *, is_sparse: bool
    ) -> None:
        self.lifted = lifted
        self.problem = lifted.problem
        self.gate = Gate(self.problem, is_sparse=is_sparse)
        self._settings = settings
        self._n, self._m = lifted.own.size, lifted.own.row_count
        found = measured(self.problem, self.gate)
        sizes = found.row_sizes.copy()
        sizes[: self._m] = measures.row_sizes
        moves = np.concatenate([measures.moves, found.moves[self._n :]])
        self.measures = replace(found.with_moves(moves), row_sizes=sizes)
        start = self.gate.evaluate(np.array(self.problem.start), derivatives=True)
        self.scaling = Scaling.at(self.problem, self.measures, start, is_on=settings.scaling, like=scaling)
        self._form = form_of(lifted.own, lifted.kinks)
        self._assessor = Assessor(self.problem, self.measures, settings, self.scaling, start.objective)

    def task(self) -> Task:
        """Return the scaled task."""
        return self.scaling.task(
            self.problem,
            self.measures,
            self._settings,
            is_sparse=self.gate.is_sparse,
            has_curvature=self.gate.has_curvature,
        )

    def full(self, scaled: FloatArray) -> FloatArray:
        """Return the full lifted designs (k, n + q) of scaled points."""
        return self.scaling.full(scaled, self.measures.lower, self.measures.upper)

    def tight(self, point: FloatArray) -> FloatArray:
        """Return the lifted design (n + q,) of a design (n,), every unknown at its kink's value."""
        return self.lifted.with_kinks(point, self._form(self.lifted.own.split(point)))

    def scaled_tight(self, point: FloatArray) -> FloatArray:
        """Return `tight` as a method sees it; where a kink has no value its unknown is at its start. Both are (n,) of
        the lifted problem."""
        found = self.tight(point)
        found = np.where(np.isfinite(found), found, self.scaling.full_start)
        return found[self.scaling.free] / self.scaling.variables

    def reply(self, full: FloatArray, *, derivatives: bool) -> Reply:
        """Return what a method is told of full lifted designs (k, n + q)."""
        found = [self.gate.evaluate(point, derivatives=derivatives) for point in full]
        return self.scaling.reply(found, derivatives=derivatives)

    def _evaluated(self, point: FloatArray) -> tuple[FloatArray, Evaluation]:
        tight = self.tight(point)
        return tight, self.gate.evaluate(tight, derivatives=True)

    def conditions(self, point: FloatArray, multipliers: FloatArray | None = None) -> Conditions | None:
        """Return the conditions at a design (n,), cut to the problem's own variables and rows; `multipliers` (m + p,)
        are the method's own, scaled."""
        tight, evaluation = self._evaluated(point)
        self._assessor.measures = self._measures_at(tight, evaluation)
        found = self._assessor.conditions(tight, evaluation, multipliers)
        if found is None:
            return None
        return replace(
            found,
            row_sides=found.row_sides[: self._m],
            bound_sides=found.bound_sides[: self._n],
            row_multipliers=found.row_multipliers[: self._m],
            bound_multipliers=found.bound_multipliers[: self._n],
            rest=found.rest[: len(self.lifted.own.continuous_places)],
        )

    def _measures_at(self, tight: FloatArray, evaluation: Evaluation) -> Measures:
        """Return the measures at a lifted design: a kink that was vastly larger at the start has the size of what it is
        here, or of what moves something here."""
        n, m, measures = self._n, self._m, self.measures
        sizes = measures.variable_sizes(tight)[n:]
        if not evaluation.has_finite_derivatives or not len(sizes):
            return measures
        assert evaluation.gradient is not None
        assert evaluation.jacobian is not None
        slopes = np.abs(evaluation.gradient[n:])
        size = objective_size(measures.objective_magnitude, evaluation.objective, self._assessor.first_objective)
        with np.errstate(divide="ignore", invalid="ignore"):
            own = np.where(slopes > 0.0, size / slopes, np.inf)
            own = np.fmin(own, 1.0 / _largest(evaluation.jacobian[:, n:], 1.0 / measures.row_sizes, axis=0))
        own = np.maximum(np.abs(tight[n:]), np.where(np.isfinite(own), own, 0.0))
        own = np.where((own > 0.0) & (sizes > VAST * own), own, sizes)
        of_rows = _largest(evaluation.jacobian[m:][:, n:], own, axis=1)
        is_vast = (of_rows > 0.0) & (measures.row_sizes[m:] > VAST * of_rows)
        if not is_vast.any() and (own == sizes).all():
            return measures
        row_sizes = np.concatenate([measures.row_sizes[:m], np.where(is_vast, of_rows, measures.row_sizes[m:])])
        starts = np.concatenate([np.array(self.problem.start)[:n], own])
        moves = np.concatenate([measures.moves[:n], np.where(own < sizes, own, measures.moves[n:])])
        return replace(measures.with_moves(moves).with_starts(starts), row_sizes=row_sizes)

    def violation_is_stationary(self, point: FloatArray) -> bool:
        """Return whether no direction lowers the violation at a design (n,)."""
        tight, evaluation = self._evaluated(point)
        return violation_is_stationary(self.problem, self.measures, tight, evaluation, self.scaling.rows)


def _largest(matrix: Any, weights: FloatArray, *, axis: int) -> FloatArray:
    """Return the largest |entry| of each column (axis 0) or row (1), times weights (of rows; of columns)."""
    weights = weights[:, np.newaxis] if axis == 0 else weights[np.newaxis]
    if isinstance(matrix, np.ndarray):
        return np.asarray((np.abs(matrix) * weights).max(axis=axis, initial=0.0))
    return np.asarray(abs(matrix).multiply(weights).tocsr().max(axis=axis).toarray()).ravel()
