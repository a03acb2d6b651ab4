"""The sizes of variables of which nothing is declared: how far each must move to change something by its size.

With f̂ and R_j the sizes of the objective and the rows at the start, the move of variable i is

    1 / max(|∂f/∂x_i| / f̂, |∂c_j/∂x_i| / R_j)                                                        (1)

or, where the start is 0 and this is below 1, as near to 1 as the least of these slopes allows: rows that are met at 0
have no size to speak of. Where that is far longer than the variable and 1, or the slopes are zero, a slope says little
of what a step does: then steps are tried, shorter and shorter ones while they change more than a size, longer ones
while they change nothing.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.problem import Measures, Problem, objective_size

if TYPE_CHECKING:
    from ilvren.evaluate.evaluation import Evaluation
    from ilvren.evaluate.gate import Gate

__all__ = ["Values", "measured", "with_sizes"]

FloatArray = NDArray[np.float64]
# Designs (k, n) → internal objectives (k,), rows (k, m).
Values = Callable[[FloatArray], tuple[FloatArray, FloatArray]]

# A move beyond so many times the variable's own size and 1 is tried out; of so many variables at most, else it is cut.
DOUBTED, MOST_TRIED, MOST_TRIED_MODELS = 10.0, 200, 10
# How steps change from one trial to the next, and how many there are; a change below LITTLE asks for a longer one.
SHORTER, LONGER, TRIALS, LITTLE = 0.1, 10.0, 12, 0.1
# A start this small is tried out where there are no slopes: it may mean zero.
TINY_START = 1e-3
# An objective below this share of what its slopes make of it over a size of 1 is taken to be 0 by chance.
CANCELLED = 1e-6


def measured(problem: Problem, gate: Gate) -> Measures:
    """Return the measures of a problem with the sizes of its variables, evaluating its start at `gate`."""
    measures = Measures.of(problem)
    if not _needed(problem, measures).any():
        return measures
    start = gate.evaluate(np.array(problem.start), derivatives=True)

    def values(points: FloatArray) -> tuple[FloatArray, FloatArray]:
        if not problem.sources:
            return gate.batch_values(points)
        found = [gate.evaluate(point) for point in points]
        return np.array([e.objective for e in found]), np.array([e.rows for e in found])

    return with_sizes(problem, measures, start, values)


def with_sizes(problem: Problem, measures: Measures, start: Evaluation, values: Values) -> Measures:
    """Return the measures with the moves found from the evaluation of the start and, where needed, from `values`."""
    needed = _needed(problem, measures)
    if not needed.any() or not start.is_finite:
        return measures
    x = np.array(problem.start)
    slopes, gentle = np.zeros(problem.size), np.zeros(problem.size)
    has_slopes = start.has_finite_derivatives
    f_size = objective_size(measures.objective_magnitude, start.objective, start.objective)
    if has_slopes:
        assert start.gradient is not None
        # An objective that is 0 at the start, or all but 0 by what its slopes could make of it, has no size to go by.
        reach = float((np.abs(start.gradient) * np.maximum(np.abs(x), 1.0)).max(initial=0.0))
        if measures.objective_magnitude is None and not abs(start.objective) > CANCELLED * reach:
            f_size = np.inf
        by_objective = np.abs(start.gradient) / f_size
        steepest, gentlest = _column_sizes(start.jacobian, measures.row_sizes)
        slopes = np.maximum(by_objective, steepest)
        gentle = np.fmin(np.where(by_objective > 0.0, by_objective, np.inf), gentlest)
    with np.errstate(divide="ignore"):
        moves = np.where(needed & (slopes > 0.0), 1.0 / slopes, 0.0)
        lifted = np.minimum(1.0 / np.where(gentle > 0.0, gentle, np.inf), 1.0)
    moves = np.where((x == 0.0) & (moves < lifted), lifted, moves)
    moves = np.where(needed, moves, 0.0)
    own = np.maximum(np.abs(x), 1.0)
    open_ = needed & ((slopes == 0.0) | (moves > DOUBTED * own))
    if not has_slopes:
        open_ &= (x != 0.0) & (np.abs(x) < TINY_START)
    places = np.flatnonzero(open_)
    if len(places) > (MOST_TRIED_MODELS if problem.sources else MOST_TRIED):
        return measures.with_moves(np.where(open_, np.minimum(moves, own), moves))
    if len(places):
        first = np.where(moves[places] > 0.0, moves[places], own[places])
        moves[places] = _tried(values, start, (x, places, first), f_size, measures.row_sizes)
    return measures.with_moves(moves)


def _needed(problem: Problem, measures: Measures) -> NDArray[np.bool_]:
    needed = np.zeros(problem.size, dtype=bool)
    needed[problem.continuous_places] = True
    return needed & measures.has_only_starts


def _column_sizes(jacobian: Any, row_sizes: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Return (n,): the largest |J_ji| / R_j of each column, and the least that is not 0 (infinite without any)."""
    if isinstance(jacobian, np.ndarray):
        own = np.abs(jacobian) / row_sizes[:, np.newaxis]
        return own.max(axis=0, initial=0.0), np.where(own > 0.0, own, np.inf).min(axis=0, initial=np.inf)
    largest, least = np.zeros(jacobian.shape[1]), np.full(jacobian.shape[1], np.inf)
    rows = np.repeat(np.arange(jacobian.shape[0]), np.diff(jacobian.indptr))
    own = np.abs(jacobian.data) / row_sizes[rows]
    np.maximum.at(largest, jacobian.indices, own)
    np.minimum.at(least, jacobian.indices, np.where(own > 0.0, own, np.inf))
    return largest, least


def _tried(
    values: Values,
    start: Evaluation,
    steps: tuple[FloatArray, NDArray[np.int64], FloatArray],
    f_size: float,
    row_sizes: FloatArray,
) -> FloatArray:
    """Return the steps of the variables at `places` from x, `first` to begin with, after trying them; 0 where no step
    changes anything."""
    x, places, first = steps
    h, found = first.copy(), np.zeros(len(places))
    is_open, was_much = np.ones(len(places), dtype=bool), np.zeros(len(places), dtype=bool)
    for _ in range(TRIALS):
        now = np.flatnonzero(is_open)
        if not len(now):
            break
        points = np.repeat(x[np.newaxis], 2 * len(now), axis=0)
        points[np.arange(len(now)), places[now]] += h[now]
        points[len(now) + np.arange(len(now)), places[now]] -= h[now]
        f, c = values(points)
        change = np.abs(f - start.objective) / f_size
        change = np.maximum(change, (np.abs(c - start.rows) / row_sizes).max(axis=1, initial=0.0))
        change = np.where(np.isnan(change), np.inf, change).reshape(2, -1).max(axis=0)
        much, little = change > 1.0, change < LITTLE
        done = ~much & (~little | was_much[now])
        found[now] = np.where(done, h[now], found[now])
        was_much[now] |= much
        h[now] = np.where(much, SHORTER * h[now], LONGER * h[now])
        is_open[now] = ~done
    return found
