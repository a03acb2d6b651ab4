"""A run's problem as a method sees it with kinks lifted: where it is evaluated, scaled and measured.

The variables keep the sizes that they have in the problem itself, so that a lifted point begins with the point that it
is taken from. First-order conditions are measured with every kink's unknown at the kink's own value: there they are the
conditions of the problem itself, none of whose directional derivatives within the limits may then be negative.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from ilvren.evaluate import Evaluation, Gate, measured
from ilvren.evaluate.forms import form_of
from ilvren.methods.base import Reply, Task
from ilvren.problem import Lifted, Measures
from ilvren.runs.assessing import Assessor
from ilvren.runs.claims import violation_is_stationary
from ilvren.runs.conditions import Conditions
from ilvren.runs.scaling import Scaling
from ilvren.runs.settings import Settings

__all__ = ["LiftedView"]

FloatArray = NDArray[np.float64]


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
        """Return `tight` as a method sees it; where a kink has no value its unknown is at its start."""
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
        found = self._assessor.conditions(*self._evaluated(point), multipliers)
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

    def violation_is_stationary(self, point: FloatArray) -> bool:
        """Return whether no direction lowers the violation at a design (n,)."""
        tight, evaluation = self._evaluated(point)
        return violation_is_stationary(self.problem, self.measures, tight, evaluation, self.scaling.rows)
