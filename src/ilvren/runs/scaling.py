"""Between the problem as written and the task a method sees.

    z = x / D,   f̂ = f / F,   ĉ_i = c_i / R_i                                                       (1)

D the sizes of the variables at the start, rounded to powers of two so that going there and back is exact;
R_i the largest component of D·∇c_i there and F that of D·∇f, each kept within reason of the entry's own
size. Variables that are fixed or unused are left out.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods import HessianRequest, Known, Reply, Task
from ilvren.problem import Measures, Problem, objective_size
from ilvren.records import dataclass
from ilvren.runs.grids import scaled_grids

if TYPE_CHECKING:
    from ilvren.evaluate import Evaluation, Gate
    from ilvren.runs.settings import Settings

__all__ = ["Scaling"]

FloatArray = NDArray[np.float64]

# A gradient may shrink or stretch a row against its own size by this much.
MOST_STRETCH = 1e6
# So much smaller than its objective a gradient at the start may be to count: near an optimum it says nothing of sizes.
LEAST_SLOPE = 1e-3
# Designs that tell how large an objective is that is flat at the start, how far out in sizes they lie, and the share
# of the largest that counts.
FLAT_SAMPLES, FLAT_REACH, FLAT_SHARE = 500, 10.0, 1e-4
# The record names the factors of so many variables and rows.
MOST_FACTS = 1000


@dataclass(frozen=True, eq=False)
class Scaling:
    """The factors of (1), and which variables are `free`. `full_start` (n,) holds all variables."""

    free: NDArray[np.int64]
    full_start: FloatArray
    variables: FloatArray
    rows: FloatArray
    objective: float

    @classmethod
    def at(
        cls, problem: Problem, measures: Measures, start: Evaluation, *, is_on: bool, like: Scaling | None = None
    ) -> Scaling:
        """Return the scaling for runs from `problem.start`, where `start` was evaluated; the first variables have the
        sizes that they have in `like`."""
        full_start = np.array(problem.start)
        free = np.array(problem.free, dtype=np.int64)
        m = problem.row_count
        if not is_on:
            return cls(free, full_start, np.ones(len(free)), np.ones(m), 1.0)
        variables = np.exp2(np.round(np.log2(measures.variable_sizes(full_start)[free])))
        if like is not None:
            variables[: len(like.variables)] = like.variables
        rows, objective = measures.row_sizes.copy(), 1.0
        if start.has_finite_derivatives:
            assert start.gradient is not None
            assert start.jacobian is not None
            largest = _largest_in_rows(start.jacobian, free, variables)
            clipped = np.clip(largest, rows / MOST_STRETCH, rows * MOST_STRETCH)
            rows = np.where(largest > 0.0, clipped, rows)
            objective = float(np.abs(start.gradient[free] * variables).max(initial=0.0))
            size = objective_size(measures.objective_magnitude, start.objective, start.objective)
            known = measures.objective_magnitude is not None or start.objective != 0.0
            least = LEAST_SLOPE * size if known else size / MOST_STRETCH
            objective = max(objective, least) if objective > 0.0 else size
            objective = min(objective, MOST_STRETCH * size) if known else objective
        return cls(free, full_start, variables, rows, objective if 0.0 < objective < np.inf else 1.0)

    def less_flat(self, measures: Measures, values: Callable[[FloatArray], FloatArray]) -> Scaling:
        """Return the scaling for an objective that is all but flat at the start: its scale is at least a share of what
        the objective is at designs spread within the bounds, or over sizes; `values` gives it at designs (k, n)."""
        rng = np.random.default_rng(0)
        start = self.full_start[self.free]
        low, high = measures.lower[self.free], measures.upper[self.free]
        low = np.where(np.isfinite(low), low, start - FLAT_REACH * self.variables)
        high = np.where(np.isfinite(high), high, start + FLAT_REACH * self.variables)
        points = np.repeat(self.full_start[np.newaxis], FLAT_SAMPLES, axis=0)
        points[:, self.free] = low + rng.random((FLAT_SAMPLES, len(self.free))) * (high - low)
        found = values(points)
        largest = float(np.abs(found[np.isfinite(found)]).max(initial=0.0))
        return replace(self, objective=max(self.objective, FLAT_SHARE * largest))

    def task(
        self,
        problem: Problem,
        measures: Measures,
        settings: Settings,
        *,
        multipliers: tuple[FloatArray, FloatArray] | None = None,
        is_sparse: bool = False,
        has_curvature: bool = False,
        has_secants: bool = False,
        losses: NDArray[np.int64] | None = None,
        is_convex: bool = False,
        known: Known | None = None,
    ) -> Task:
        """Return the scaled task. `multipliers` are those of rows (m,) and bounds (n,) known from an earlier run."""
        free = self.free
        own = None
        if multipliers is not None:
            own = multipliers[0] * self.rows / self.objective, multipliers[1][free] * self.variables / self.objective
        return Task(
            start=self.full_start[free] / self.variables,
            lower=measures.lower[free] / self.variables,
            upper=measures.upper[free] / self.variables,
            row_lower=measures.row_lower / self.rows,
            row_upper=measures.row_upper / self.rows,
            row_sizes=measures.row_sizes / self.rows,
            feasibility=settings.feasibility,
            tolerance=settings.tolerance,
            seed=settings.seed,
            is_sparse=is_sparse,
            has_curvature=has_curvature,
            has_secants=has_secants,
            row_multipliers=own[0] if own else None,
            bound_multipliers=own[1] if own else None,
            losses=losses,
            residual_weight=1.0 / self.objective,
            is_convex=is_convex,
            unit=self.objective,
            known=None if known is None else self._known(known),
            seconds=settings.model_seconds,
            grids=scaled_grids(problem, self.free, self.variables),
            is_on_grid=problem.is_collocated,
        )

    def full(self, scaled: FloatArray, lower: FloatArray, upper: FloatArray) -> FloatArray:
        """Return the full designs (k, n) of scaled points (k, n_free), clipped so that rounding leaves no bound."""
        points = np.repeat(self.full_start[np.newaxis], len(scaled), axis=0)
        # As `clip` would, which takes several times as long for the few numbers of one design.
        points[:, self.free] = np.minimum(np.maximum(scaled * self.variables, lower[self.free]), upper[self.free])
        return points

    def values(self, objective: FloatArray, rows: FloatArray) -> Reply:
        """Return internal objectives (k,) and rows (k, m) as a method sees them."""
        return Reply(objective / self.objective, rows / self.rows)

    def reply(
        self, evaluations: list[Evaluation], *, derivatives: bool, residuals: list[tuple[FloatArray, Any]] | None = None
    ) -> Reply:
        """Return evaluations as a method sees them. Residuals are (r,), their Jacobians (r, n)."""
        f = np.array([evaluation.objective for evaluation in evaluations]) / self.objective
        c = np.array([evaluation.rows for evaluation in evaluations]).reshape(len(evaluations), -1) / self.rows
        r = None if residuals is None else np.array([own for own, _ in residuals])
        if not derivatives:
            return Reply(f, c, residuals=r)
        g = np.array([e.gradient[self.free] for e in evaluations if e.gradient is not None])
        j = [_stretched(e.jacobian, self.free, self.variables, 1.0 / self.rows) for e in evaluations]
        rj = None
        if residuals is not None:
            rj = [_stretched(own, self.free, self.variables, None) for _, own in residuals]
        return Reply(f, c, g * (self.variables / self.objective), j, r, rj)

    def multipliers_as_written(self, scaled: FloatArray) -> FloatArray:
        """Return multipliers (m,) of the internal objective and rows, both unscaled."""
        return scaled * (self.objective / self.rows)

    def second(self, gate: Gate, request: HessianRequest, point: FloatArray) -> Any:
        """Return the answer to a `HessianRequest` whose full design is `point`."""
        multipliers, weight = request.multipliers / self.rows, request.weight / self.objective
        if request.direction is not None:
            direction = np.zeros(len(point))
            direction[self.free] = request.direction * self.variables
            return gate.curvature_along(point, direction, multipliers, weight)[self.free] * self.variables
        hessian = gate.curvature(point, multipliers, weight)
        if isinstance(hessian, np.ndarray):
            if len(self.free) < len(point):
                hessian = hessian[np.ix_(self.free, self.free)]
            return hessian * self.variables * self.variables[:, np.newaxis]
        if len(self.free) < len(point):
            hessian = hessian[self.free]
        return _stretched(hessian, self.free, self.variables, self.variables)

    def _known(self, known: Known) -> Known:
        points = known.points[:, self.free] / self.variables
        return Known(points, known.objective / self.objective, known.rows / self.rows)

    def facts(self, problem: Problem) -> dict[str, object]:
        """Return the factors by name, for the record."""
        return {
            "variables": {
                problem.variables[i].name: float(size)
                for i, size in zip(self.free[:MOST_FACTS], self.variables[:MOST_FACTS], strict=True)
            },
            "constraints": {
                row.name: float(size)
                for row, size in zip(problem.rows[:MOST_FACTS], self.rows[:MOST_FACTS], strict=True)
            },
            "objective": self.objective,
        }


def _largest_in_rows(jacobian: Any, free: NDArray[np.int64], variables: FloatArray) -> FloatArray:
    """Return (m,): the largest |J_ij| D_j of each row over the free variables."""
    if isinstance(jacobian, np.ndarray):
        largest: FloatArray = np.abs(jacobian[:, free] * variables).max(axis=1, initial=0.0)
        return largest
    stretched = _stretched(jacobian, free, variables, None)
    found = np.zeros(stretched.shape[0])
    rows = np.repeat(np.arange(len(found)), np.diff(stretched.indptr))
    np.maximum.at(found, rows, np.abs(stretched.data))
    return found


def _stretched(matrix: Any, free: NDArray[np.int64], columns: FloatArray, rows: FloatArray | None) -> Any:
    """Return rows · matrix[:, free] · columns, of the same kind."""
    if isinstance(matrix, np.ndarray):
        found = matrix if len(free) == matrix.shape[1] else matrix[:, free]
        found = found * columns
        return found if rows is None else found * rows[:, np.newaxis]
    if len(free) < matrix.shape[1]:
        matrix = matrix[:, free]
    data = matrix.data * columns[matrix.indices]
    if rows is not None:
        data *= np.repeat(rows, np.diff(matrix.indptr))
    return type(matrix)((data, matrix.indices, matrix.indptr), shape=matrix.shape)
