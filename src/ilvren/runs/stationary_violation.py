"""Whether a violation of the limits really cannot be lowered any further, whatever a method claims."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.problem import Measures, Problem

if TYPE_CHECKING:
    from ilvren.evaluate import Evaluation

__all__ = ["violation_is_stationary"]

FloatArray = NDArray[np.float64]

# An "infeasible" claim is believed when the violation's own gradient is this small a share of what its
# parts could add up to.
VIOLATION_STATIONARY = 1e-3
# What counts as a miss there, in the row's scale and against the largest; up to so many rows just met are balanced by
# dense matrices, more of them by sparse ones.
CLEAR_MISS, CLEAR_SHARE, MOST_HELD = 1e-9, 1e-5, 500


def violation_is_stationary(
    problem: Problem, measures: Measures, point: FloatArray, evaluation: Evaluation, row_scale: FloatArray
) -> bool:
    """Return whether no direction within the bounds lowers the violation at `point` to first order, as Σ v² or Σ |v|, v
    being the signed misses in the scale (m,) of the rows that the method worked in."""
    if not (evaluation.has_finite_derivatives and np.isfinite(evaluation.rows).all()):
        return False
    nearest_value = np.clip(evaluation.rows, measures.row_lower, measures.row_upper)
    v = (evaluation.rows - nearest_value) / row_scale
    clear = max(CLEAR_MISS, CLEAR_SHARE * float(np.abs(v).max(initial=0.0)))
    signs = np.sign(np.where(np.abs(v) > clear, v, 0.0))
    return _pressure_vanishes(problem, measures, point, evaluation, row_scale, v) or _pressure_vanishes(
        problem, measures, point, evaluation, row_scale, signs, held=True
    )


def _scaled_normals(jacobian: Any, row_scale: FloatArray, sizes: FloatArray) -> Any:
    """Return the gradients of rows, scaled: dense where they are few, else as sparse as they come."""
    if jacobian.shape[0] > MOST_HELD:
        from scipy.sparse import csr_array, diags_array

        return (diags_array(1.0 / row_scale) @ csr_array(jacobian) @ diags_array(sizes)).tocsr()
    dense = jacobian if isinstance(jacobian, np.ndarray) else jacobian.toarray()
    return dense / row_scale[:, np.newaxis] * sizes


def _pressure_vanishes(
    problem: Problem,
    measures: Measures,
    point: FloatArray,
    evaluation: Evaluation,
    row_scale: FloatArray,
    weights: FloatArray,
    *,
    held: bool = False,
) -> bool:
    """Return whether Σ weight · gradient of the scaled rows, projected onto the bounds, is small against its parts.
    With `held`, rows just met may press against it with up to the weight 1 each."""
    from ilvren.algebra import signed_least_squares, sparse_signed_least_squares

    sizes = measures.variable_sizes(point)
    free = problem.free_places
    slope = sizes * (evaluation.jacobian.T @ (weights / row_scale))
    possible = sizes * (abs(evaluation.jacobian).T @ np.abs(weights / row_scale))
    near = VIOLATION_STATIONARY * 1e-2 * sizes
    at_low, at_high = point <= measures.lower + near, point >= measures.upper - near
    if held:
        slack = VIOLATION_STATIONARY * row_scale
        at_lower = np.abs(evaluation.rows - measures.row_lower) <= slack
        at_upper = np.abs(evaluation.rows - measures.row_upper) <= slack
        just_met = np.flatnonzero((weights == 0.0) & (at_lower | at_upper))
        if len(just_met):
            normals = _scaled_normals(evaluation.jacobian[just_met], row_scale[just_met], sizes)
            open_places = free[~(at_low | at_high)[free]]
            signs = np.where((at_lower & at_upper)[just_met], 0.0, np.where(at_lower[just_met], -1.0, 1.0))
            if isinstance(normals, np.ndarray):
                u = signed_least_squares(normals[:, open_places].T, -slope[open_places], signs)
            else:
                u = sparse_signed_least_squares(normals[:, open_places].T.tocsr(), -slope[open_places], signs)
            u = np.clip(u, -1.0, 1.0)
            slope = slope + normals.T @ u
            possible = possible + abs(normals).T @ np.abs(u)
    slope = np.where(at_low & (slope > 0.0) | at_high & (slope < 0.0), 0.0, slope)
    possible = possible + float(np.abs(weights).max(initial=0.0))
    return bool((np.abs(slope) <= VIOLATION_STATIONARY * possible)[free].all())
