"""How a design measures up to first-order conditions, with the multipliers that a method gives or with better ones."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.problem import Measures, Problem, objective_size
from ilvren.records import dataclass
from ilvren.runs.conditions import Conditions, conditions_with, first_order_conditions

if TYPE_CHECKING:
    from ilvren.evaluate import Evaluation
    from ilvren.runs.scaling import Scaling
    from ilvren.runs.settings import Settings

__all__ = ["LARGE_SIZE", "Assessor"]

FloatArray = NDArray[np.float64]

# From so many variables on, iterates are measured with the method's own multipliers; from so many variables and rows
# on, those that are not within so many times the tolerance.
LARGE_SIZE, MEDIUM_SIZE, NEAR = 500, 200, 1e3


@dataclass
class Assessor:
    """Measures designs of one problem; `first_objective` is the internal objective at the start. What it found last
    saves work at the next."""

    problem: Problem
    measures: Measures
    settings: Settings
    scaling: Scaling | None
    first_objective: float
    _last: Conditions | None = None

    def conditions(
        self, point: FloatArray, evaluation: Evaluation, multipliers: FloatArray | None = None
    ) -> Conditions | None:
        """Return the conditions at a full design (n,), None without finite derivatives; `multipliers` (m,) are the
        method's own, scaled."""
        if not evaluation.has_finite_derivatives:
            return None
        feasibility, tolerance = self.settings.feasibility, self.settings.tolerance
        size = objective_size(self.measures.objective_magnitude, evaluation.objective, self.first_objective)
        given = (self.problem, self.measures, point, evaluation)
        quick = None
        if not self.problem.row_count:
            multipliers = np.zeros(0)  # bounds alone need none to be measured exactly
        if multipliers is not None and self.scaling is not None:
            own = self.scaling.multipliers_as_written(multipliers)
            quick = conditions_with(*given, own, objective_size=size, feasibility=feasibility, tolerance=tolerance)
            is_medium = self.problem.size + self.problem.row_count > MEDIUM_SIZE
            is_settled = quick.meet(tolerance) or not quick.meet(NEAR * tolerance)
            if self.problem.size > LARGE_SIZE or (is_medium and is_settled):
                return quick  # better multipliers would cost more than the iteration
        found = first_order_conditions(*given, objective_size=size, feasibility=feasibility, guess=quick or self._last)
        self._last = found
        return quick if quick is not None and quick.meet(tolerance) and not found.meet(tolerance) else found
