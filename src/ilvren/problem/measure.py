"""The numbers that everything shares: sizes, violation, and what is active. Signs are internal."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import misses
from ilvren.problem.grid import ValueGrid
from ilvren.records import dataclass

if TYPE_CHECKING:
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


@dataclass(frozen=True, eq=False, kw_only=True)
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
    grid: ValueGrid
    _moves: FloatArray

    @classmethod
    def of(cls, problem: Problem) -> Measures:
        """Measure a problem at its baseline."""
        return cls(
            lower=problem.joined("lower"),
            upper=problem.joined("upper"),
            row_lower=problem.joined_rows("lower"),
            row_upper=problem.joined_rows("upper"),
            row_sizes=_row_sizes(problem),
            _magnitudes=problem.joined("magnitude"),
            _starts=np.array(problem.start),
            objective_magnitude=problem.objective.magnitude if problem.objective else None,
            grid=ValueGrid(problem),
            _moves=np.zeros(problem.size),
        )

    def with_moves(self, moves: FloatArray) -> Measures:
        """Return the measures that know of moves (n,) that change something; 0 where nothing is known."""
        return replace(self, _moves=moves)

    def with_starts(self, starts: FloatArray) -> Measures:
        """Return the measures that take other values (n,) for the starts that sizes are made of."""
        return replace(self, _starts=starts)

    @property
    def moves(self) -> FloatArray:
        """Return the moves (n,) that change something by its size; 0 where nothing is known."""
        return self._moves

    @property
    def has_only_starts(self) -> NDArray[np.bool_]:
        """Return (n,): nothing is declared of a variable's size, so that the start is all that is known of it."""
        with np.errstate(invalid="ignore"):
            width = self.upper - self.lower
        return ~np.isfinite(self._magnitudes) & ~np.isfinite(width)

    def variable_sizes(self, point: FloatArray) -> FloatArray:
        """Return (n,): `magnitude`, else the width of the bounds, else the largest of |x|, |start| and the move that
        changes something by its size, else 1."""
        return self._sizes(np.maximum(np.maximum(np.abs(point), np.abs(self._starts)), self._moves))

    def bound_sizes(self, point: FloatArray) -> FloatArray:
        """Return (n,): in what misses of bounds and distances from them are measured: like `variable_sizes`, but with
        the bound itself in place of a move, which may be far longer."""
        bound = np.fmax(*(np.where(np.isfinite(side), np.abs(side), 0.0) for side in (self.lower, self.upper)))
        known = np.maximum(np.maximum(np.abs(point), np.abs(self._starts)), bound)
        return self._sizes(np.where(known > 0.0, known, np.minimum(self._moves, 1.0)))

    def _sizes(self, without_width: FloatArray) -> FloatArray:
        with np.errstate(invalid="ignore"):
            width = self.upper - self.lower
        size = np.where(np.isfinite(width), width, without_width)
        size = np.where(np.isfinite(self._magnitudes), self._magnitudes, size)
        return np.where((size > 0.0) & np.isfinite(size), size, 1.0)

    def row_misses(self, rows: FloatArray) -> FloatArray:
        """Return (m,): by how much each row misses its nearer limit, in its own unit; infinite for NaN."""
        return misses(rows, self.row_lower, self.row_upper)

    def violation(self, point: FloatArray, rows: FloatArray) -> float:
        """Return the largest miss of a row or bound, each divided by its size, or of a member, by its spacing. Shapes:
        point (n,), rows (m,)."""
        worst = 0.0
        if len(rows):
            worst = float(np.maximum.reduce(self.row_misses(rows) / self.row_sizes))
        miss = np.maximum(self.lower - point, point - self.upper)
        if not np.maximum.reduce(miss, initial=0.0) <= 0.0:  # NaN counts as a miss
            miss = np.where(np.isnan(miss), np.inf, np.maximum(miss, 0.0))
            worst = max(worst, float(np.max(miss / self.bound_sizes(point))))
        return max(worst, float(self.grid.misses(point[np.newaxis])[0])) if self.grid else worst

    def violations(self, points: FloatArray, rows: FloatArray) -> FloatArray:
        """Return `violation` (k,) of many designs (k, n) with their rows (k, m)."""
        worst = np.asarray((self.row_misses(rows) / self.row_sizes).max(axis=1, initial=0.0), dtype=np.float64)
        miss = np.maximum(self.lower - points, points - self.upper)
        for place in np.flatnonzero(~(miss <= 0.0).all(axis=1)):
            worst[place] = self.violation(points[place], rows[place])
        return np.fmax(worst, self.grid.misses(points))


def _row_sizes(problem: Problem) -> FloatArray:
    """Return (m,): `magnitude`, else the larger finite limit, else the largest term at the baseline, else 1."""
    if not problem.row_blocks:
        return np.zeros(0)
    lower, upper = problem.joined_rows("lower"), problem.joined_rows("upper")
    limits = [np.where(np.isfinite(limit), np.abs(limit), 0.0) for limit in (lower, upper)]
    sizes = np.nan_to_num(problem.joined_rows("magnitude"))
    sizes = np.where(sizes > 0.0, sizes, np.maximum(*limits))
    if (sizes == 0.0).any():
        sizes = np.where(sizes > 0.0, sizes, _largest_terms(problem, sizes))
    return np.where(sizes > 0.0, sizes, 1.0)


def _largest_terms(problem: Problem, sizes: FloatArray) -> FloatArray:
    """Return (m,): the largest absolute value among the top-level terms of each row at the baseline, 0 for none."""
    open_blocks = [b for b in problem.row_blocks if (sizes[b.first : b.first + b.size] == 0.0).any()]
    terms = [term for block in open_blocks for term in block.terms]
    values = iter(problem.entry_values(terms, problem.baseline).values)
    found = np.zeros(len(sizes))
    for block in open_blocks:
        own = np.zeros(block.shape)
        for _ in block.terms:
            value = np.abs(next(values))
            own = np.maximum(own, np.where(np.isfinite(value), value, 0.0))
        found[block.first : block.first + block.size] = own.ravel()
    return found
