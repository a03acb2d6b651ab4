"""From a design and its evaluation to what is reported of every bound and row: margin, price, activity."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from ilvren.evaluate import Evaluation
from ilvren.problem import Measures, Problem
from ilvren.runs.conditions import Conditions, active_sides
from ilvren.runs.result import LimitState

__all__ = ["PRICED_STATIONARITY", "limit_states"]

FloatArray = NDArray[np.float64]

# Multipliers say what a limit is worth at an optimum; this far from one, or where a limit is missed, they do not.
PRICED_STATIONARITY = 1e-3

_SIDES = {0: "", -1: "lower", 1: "upper", 2: "equality"}


def limit_states(
    problem: Problem,
    measures: Measures,
    point: FloatArray,
    evaluation: Evaluation,
    conditions: Conditions | None,
    *,
    feasibility: float,
) -> tuple[tuple[LimitState, ...], tuple[LimitState, ...]]:
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

    is_priced = (
        conditions is not None
        and conditions.stationarity <= PRICED_STATIONARITY
        and measures.violation(point, evaluation.rows) <= feasibility
    )

    def state(
        name: str,
        unit: str,
        value: float,
        limits: tuple[float, float],
        size: float,
        side: int,
        multiplier: float | None,
    ) -> LimitState:
        low, high = limits
        margin = min(value - low, high - value)
        price = None
        if (
            is_priced
            and side
            and multiplier is not None
            and math.isfinite(multiplier)
            and problem.objective is not None
        ):
            price = sign * multiplier + 0.0
        return LimitState(
            name,
            value,
            low,
            high,
            margin,
            max(-margin, 0.0) / size if not math.isnan(margin) else math.inf,
            price,
            bool(side),
            _SIDES[side],
            unit,
            price is None or conditions is None or conditions.are_unique,
            size,
        )

    free = set(problem.free)
    bounds = tuple(
        state(
            variable.name,
            variable.unit,
            float(point[i]),
            (variable.lower, variable.upper),
            float(sizes[i]),
            int(bound_sides[i]),
            None if conditions is None or i not in free else float(conditions.bound_multipliers[i]),
        )
        for i, variable in enumerate(problem.variables)
    )
    rows = tuple(
        state(
            row.name,
            row.unit,
            float(evaluation.rows[i]),
            (row.lower, row.upper),
            float(measures.row_sizes[i]),
            int(row_sides[i]),
            None if conditions is None else float(conditions.row_multipliers[i]),
        )
        for i, row in enumerate(problem.rows)
    )
    return bounds, rows
