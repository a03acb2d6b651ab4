"""The numbers that everything shares: sizes, violation, and what is active. Signs are internal."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ilvren.formula import walk
from ilvren.problem.model import Problem

__all__ = ["Measures", "objective_size"]

FloatArray = NDArray[np.float64]


def objective_size(magnitude: float | None, value: float, start_value: float) -> float:
    """Return the size of an objective at a point: `magnitude`, else max(|f|, min(1, |f(start) − f|)).

    A difference that is not finite counts as large; where all is zero the size is 1.
    """
    if magnitude is not None:
        return magnitude
    change = abs(start_value - value)
    change = min(1.0, change) if math.isfinite(change) else 1.0
    size = max(abs(value), change) if math.isfinite(value) else 1.0
    return size or 1.0


@dataclass(frozen=True)
class Measures:
    """Sizes and limits of a problem as arrays, over all variables (n,) and rows (m,)."""

    lower: FloatArray
    upper: FloatArray
    row_lower: FloatArray
    row_upper: FloatArray
    row_sizes: FloatArray
    _magnitudes: FloatArray
    _starts: FloatArray
    objective_magnitude: float | None

    @classmethod
    def of(cls, problem: Problem) -> Measures:
        """Measure a problem at its baseline."""
        variables, rows = problem.variables, problem.rows
        return cls(
            np.array([v.lower for v in variables]),
            np.array([v.upper for v in variables]),
            np.array([r.lower for r in rows]),
            np.array([r.upper for r in rows]),
            _row_sizes(problem),
            np.array([math.nan if v.magnitude is None else v.magnitude for v in variables]),
            np.array(problem.start),
            problem.objective.magnitude if problem.objective else None,
        )

    def variable_sizes(self, point: FloatArray) -> FloatArray:
        """Return (n,): `magnitude`, else the width of the bounds, else max(|x|, |start|), else 1."""
        with np.errstate(invalid="ignore"):
            width = self.upper - self.lower
        size = np.where(np.isfinite(width), width, np.maximum(np.abs(point), np.abs(self._starts)))
        size = np.where(np.isfinite(self._magnitudes), self._magnitudes, size)
        return np.where((size > 0.0) & np.isfinite(size), size, 1.0)

    def row_misses(self, rows: FloatArray) -> FloatArray:
        """Return (m,): by how much each row misses its nearer limit, in its own unit; infinite for NaN."""
        miss = np.maximum(np.maximum(self.row_lower - rows, rows - self.row_upper), 0.0)
        return np.where(np.isnan(miss), np.inf, miss)

    def violation(self, point: FloatArray, rows: FloatArray) -> float:
        """Return the largest miss of a row or bound, each divided by its size."""
        worst = 0.0
        if len(rows):
            worst = float(np.max(self.row_misses(rows) / self.row_sizes))
        miss = np.maximum(self.lower - point, point - self.upper)
        if not (miss <= 0.0).all():  # NaN counts as a miss
            miss = np.where(np.isnan(miss), np.inf, np.maximum(miss, 0.0))
            worst = max(worst, float(np.max(miss / self.variable_sizes(point))))
        return worst


def _row_sizes(problem: Problem) -> FloatArray:
    terms = [term for row in problem.rows for term in row.terms]
    values = walk(problem.graph, terms, problem.baseline, problem.parameter_values).values
    at = 0
    sizes = []
    for row in problem.rows:
        own = [abs(value) for value in values[at : at + len(row.terms)] if math.isfinite(value)]
        at += len(row.terms)
        limits = [abs(limit) for limit in (row.lower, row.upper) if limit and math.isfinite(limit)]
        candidates = [row.magnitude or 0.0, max(limits, default=0.0), max(own, default=0.0), 1.0]
        sizes.append(next(size for size in candidates if size > 0.0))
    return np.array(sizes)
