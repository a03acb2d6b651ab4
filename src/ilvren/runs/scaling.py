"""Between the problem as written and the task a method sees.

    z = x / D,   f̂ = f / F,   ĉ_i = c_i / R_i                                                       (1)

D the sizes of the variables at the start, rounded to powers of two so that going there and back is exact;
R_i the largest component of D·∇c_i there and F that of D·∇f, each kept within reason of the entry's own
size. Variables that are fixed or unused are left out.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ilvren.evaluate import Evaluation
from ilvren.methods.base import Reply, Task
from ilvren.problem import Measures, Problem
from ilvren.runs.settings import Settings

__all__ = ["Scaling"]

FloatArray = NDArray[np.float64]

# A gradient may shrink or stretch a row against its own size by this much.
MOST_STRETCH = 1e6
# The record names the factors of so many variables and rows.
MOST_FACTS = 1000


@dataclass(frozen=True)
class Scaling:
    """The factors of (1), and which variables are `free`. `full_start` (n,) holds all variables."""

    free: NDArray[np.int64]
    full_start: FloatArray
    variables: FloatArray
    rows: FloatArray
    objective: float

    @classmethod
    def at(cls, problem: Problem, measures: Measures, start: Evaluation, *, is_on: bool) -> Scaling:
        """Return the scaling for runs from `problem.start`, where `start` was evaluated."""
        full_start = np.array(problem.start)
        free = np.array(problem.free, dtype=np.int64)
        m = problem.row_count
        if not is_on:
            return cls(free, full_start, np.ones(len(free)), np.ones(m), 1.0)
        variables = np.exp2(np.round(np.log2(measures.variable_sizes(full_start)[free])))
        rows, objective = measures.row_sizes.copy(), 1.0
        if start.has_finite_derivatives:
            assert start.gradient is not None
            assert start.jacobian is not None
            largest = np.abs(start.jacobian[:, free] * variables).max(axis=1, initial=0.0)
            clipped = np.clip(largest, rows / MOST_STRETCH, rows * MOST_STRETCH)
            rows = np.where(largest > 0.0, clipped, rows)
            objective = float(np.abs(start.gradient[free] * variables).max(initial=0.0))
            size = max(abs(start.objective), 1e-300)
            objective = min(max(objective, 1e-6 * size), 1e6 * size) if start.objective else objective
        return cls(free, full_start, variables, rows, objective if 0.0 < objective < np.inf else 1.0)

    def task(self, problem: Problem, measures: Measures, settings: Settings) -> Task:
        """Return the scaled task."""
        free = self.free
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
        )

    def full(self, scaled: FloatArray, lower: FloatArray, upper: FloatArray) -> FloatArray:
        """Return the full design (n,) of a scaled point, clipped so that rounding never leaves a bound."""
        point = self.full_start.copy()
        point[self.free] = np.clip(scaled * self.variables, lower[self.free], upper[self.free])
        return point

    def reply(self, evaluations: list[Evaluation], *, derivatives: bool) -> Reply:
        """Return evaluations as a method sees them."""
        f = np.array([evaluation.objective for evaluation in evaluations]) / self.objective
        c = np.array([evaluation.rows for evaluation in evaluations]).reshape(len(evaluations), -1) / self.rows
        if not derivatives:
            return Reply(f, c)
        g = np.array([e.gradient[self.free] for e in evaluations if e.gradient is not None])
        j = np.array([e.jacobian[:, self.free] for e in evaluations if e.jacobian is not None])
        return Reply(f, c, g * (self.variables / self.objective), j * self.variables / self.rows[:, np.newaxis])

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
