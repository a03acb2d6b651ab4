"""First-order conditions at a design, measured on the unscaled problem, the same for every method.

With D the sizes of the variables and f̂ the size of the objective, the multipliers of the active limits solve

    minimize over right-signed u   | D (g − A'u) / f̂ |₂                                             (1)

where the rows of A are the gradients of active rows and the unit vectors of active bounds; the stationarity
is the largest component of what remains. A multiplier is the change of the (internal, minimized) objective
per unit by which its limit is moved up.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import signed_least_squares
from ilvren.evaluate import Evaluation
from ilvren.problem import Measures, Problem

__all__ = ["Conditions", "active_sides", "first_order_conditions"]

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]

# Singular values below this share of the largest make active gradients count as dependent.
RANK_TOLERANCE = 1e-8


@dataclass(frozen=True)
class Conditions:
    """`stationarity` as the page on numbers defines it; `row_sides` (m,) and `bound_sides` (n,): 0 not active,
    −1 at the lower limit, 1 at the upper, 2 an equality; multipliers alike; `are_unique`: the active
    gradients are independent, so that the multipliers are determined. `rest` (n_free,) is what remains of (1)."""

    stationarity: float
    row_sides: IntArray
    bound_sides: IntArray
    row_multipliers: FloatArray
    bound_multipliers: FloatArray
    are_unique: bool
    rest: FloatArray


def active_sides(values: FloatArray, lower: FloatArray, upper: FloatArray, slack: FloatArray) -> IntArray:
    """Return per value 0, −1 (at its lower limit to within `slack`), 1 (upper) or 2 (an equality)."""
    at_lower = np.abs(values - lower) <= slack
    at_upper = np.abs(values - upper) <= slack
    # Beyond a limit is at it, too: a missed limit still holds the design.
    at_lower |= values < lower
    at_upper |= values > upper
    sides = np.where(at_lower, -1, np.where(at_upper, 1, 0))
    return np.where(lower == upper, 2, sides).astype(np.int64)


def first_order_conditions(
    problem: Problem,
    measures: Measures,
    point: FloatArray,
    evaluation: Evaluation,
    *,
    objective_size: float,
    feasibility: float,
) -> Conditions:
    """Measure the conditions at `point` (n,), whose `evaluation` must have finite derivatives.

    Fixed and unused variables do not count. Raises ValueError without derivatives.
    """
    if evaluation.gradient is None or evaluation.jacobian is None:
        raise ValueError("first-order conditions need derivatives")
    free = np.array(problem.free, dtype=np.int64)
    sizes = measures.variable_sizes(point)
    row_sides = active_sides(evaluation.rows, measures.row_lower, measures.row_upper, feasibility * measures.row_sizes)
    bound_sides = active_sides(point, measures.lower, measures.upper, feasibility * sizes)
    rows = np.flatnonzero(row_sides)
    bounds = free[np.isin(bound_sides[free], (-1, 1))]
    scale = sizes[free] / objective_size
    normals = np.zeros((len(free), len(rows) + len(bounds)))
    normals[:, : len(rows)] = (evaluation.jacobian[np.ix_(rows, free)] * scale).T
    places = {variable: place for place, variable in enumerate(free)}
    for column, variable in enumerate(bounds, start=len(rows)):
        normals[places[variable], column] = scale[places[variable]]
    sides = np.concatenate([row_sides[rows], bound_sides[bounds]])
    signs = np.where(sides == 2, 0.0, -sides.astype(float))
    target = evaluation.gradient[free] * scale
    found = _multipliers(normals, target, signs)
    if found is None:
        return Conditions(
            math.nan,
            row_sides,
            bound_sides,
            np.full(len(row_sides), np.nan),
            np.full(len(point), np.nan),
            False,
            target,
        )
    u, rest, are_unique = found
    row_multipliers, bound_multipliers = np.zeros(len(row_sides)), np.zeros(len(point))
    row_multipliers[rows], bound_multipliers[bounds] = u[: len(rows)], u[len(rows) :]
    return Conditions(
        float(np.abs(rest).max(initial=0.0)),
        row_sides,
        bound_sides,
        row_multipliers,
        bound_multipliers,
        are_unique,
        rest,
    )


def _multipliers(
    normals: FloatArray, target: FloatArray, signs: FloatArray
) -> tuple[FloatArray, FloatArray, bool] | None:
    """Return (multipliers, what remains, whether they are unique), or None where the numbers allow no answer."""
    if not (np.isfinite(target).all() and np.isfinite(normals).all()):
        return None
    try:
        u = signed_least_squares(normals, target, signs)
        return u, target - normals @ u, _independent(normals)
    except np.linalg.LinAlgError:
        return None


def _independent(normals: FloatArray) -> bool:
    if normals.shape[1] == 0:
        return True
    lengths = np.linalg.norm(normals, axis=0)
    if normals.shape[1] > normals.shape[0] or not (lengths > 0.0).all():
        return False
    values = np.linalg.svd(normals / lengths, compute_uv=False)
    return bool(values[-1] > RANK_TOLERANCE * values[0])
