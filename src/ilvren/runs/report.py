"""From a design and its evaluation to what is reported of every bound and row: margin, price, activity."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.runs.conditions import Conditions, active_sides
from ilvren.runs.limits import LimitStates

if TYPE_CHECKING:
    from ilvren.evaluate import Evaluation
    from ilvren.problem import Measures, Problem

__all__ = ["PRICED_STATIONARITY", "limit_states"]

FloatArray = NDArray[np.float64]

# Multipliers say what a limit is worth at an optimum; this far from one, or where a limit is missed, they do not.
PRICED_STATIONARITY = 1e-3


def limit_states(
    problem: Problem,
    measures: Measures,
    point: FloatArray,
    evaluation: Evaluation,
    conditions: Conditions | None,
    *,
    feasibility: float,
) -> tuple[LimitStates, LimitStates]:
    """Return the states of all bounds and of all rows. Prices need `conditions` that nearly hold at a feasible
    design; they are the change of the objective as written per unit by which the limit moves up."""
    sizes = measures.bound_sizes(point)
    sign = 1.0 if problem.objective is None else float(problem.objective.sign)
    if conditions is None:
        bound_sides = active_sides(point, measures.lower, measures.upper, feasibility * sizes)
        row_sides = active_sides(
            evaluation.rows, measures.row_lower, measures.row_upper, feasibility * measures.row_sizes
        )
    else:
        bound_sides, row_sides = conditions.bound_sides, conditions.row_sides
    for block in problem.blocks:
        if block.words:  # words have no bounds to lie at
            bound_sides = np.array(bound_sides)
            bound_sides[block.first : block.first + block.size] = 0

    is_priced = (
        conditions is not None
        and conditions.stationarity <= PRICED_STATIONARITY
        and measures.violation(point, evaluation.rows) <= feasibility
    )

    bound_prices = row_prices = None
    if is_priced and conditions is not None and problem.objective is not None:
        is_free = np.zeros(problem.size, dtype=bool)
        is_free[list(problem.free)] = True
        bound_prices = _prices(conditions.bound_multipliers, sign, (bound_sides != 0) & is_free)
        row_prices = _prices(conditions.row_multipliers, sign, row_sides != 0)
    are_unique = conditions is None or conditions.are_unique
    lower, upper = problem.joined("lower"), problem.joined("upper")
    bounds = LimitStates(
        problem.blocks,
        point,
        (lower, upper),
        sizes=sizes,
        sides=bound_sides,
        prices=bound_prices,
        are_unique=are_unique,
    )
    rows = LimitStates(
        problem.row_blocks,
        evaluation.rows,
        (problem.joined_rows("lower"), problem.joined_rows("upper")),
        sizes=measures.row_sizes,
        sides=row_sides,
        prices=row_prices,
        are_unique=are_unique,
    )
    return bounds, rows


def _prices(multipliers: FloatArray, sign: float, is_active: FloatArray) -> FloatArray:
    """Return (k,): the prices of active limits, NaN for the others."""
    return np.where(is_active & np.isfinite(multipliers), sign * multipliers + 0.0, np.nan)
