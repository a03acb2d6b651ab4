"""Second-order conditions: the curvature of the Lagrangian along the directions that active limits leave.

All in variables divided by their sizes and an objective divided by its size. H is the Hessian of the Lagrangian by
central differences of exact gradients, with two step lengths, whose disagreement measures the error.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ilvren.evaluate import Gate
from ilvren.problem import Measures
from ilvren.runs import Conditions

__all__ = ["Curvature", "lagrangian_curvature"]

FloatArray = NDArray[np.float64]

# Steps of the differences as shares of a variable's size; near eps^(1/3), where their error is least.
STEPS = (1e-5, 4e-5)
# A curvature counts as zero below this share of the largest one, or below this multiple of its error.
ZERO_SHARE, ERROR_FACTOR = 1e-8, 10.0
# A multiplier below this share of the objective's slope counts as zero: its limit may be left either way.
WEAK_MULTIPLIER = 1e-6
RANK_TOLERANCE = 1e-8


@dataclass(frozen=True)
class Curvature:
    """`kind` is "strict", "saddle" or "unknown"; `least` the smallest curvature that decides and `noise` what
    counts as zero; `direction` (n,) is one of that curvature, in variables as written. `newton` (n_free,) is the step
    to the minimum of the model on the active limits and `promise` its gain, in sizes; None without a minimum. `outward`
    is the largest component that remains of the gradient across the active limits: no step along them removes it."""

    kind: str
    least: float
    noise: float
    direction: FloatArray
    freedom: int
    weak: int
    newton: FloatArray | None
    promise: float | None
    outward: float
    detail: str


def lagrangian_curvature(
    gate: Gate,
    measures: Measures,
    point: FloatArray,
    conditions: Conditions,
    *,
    sizes: FloatArray,
    objective_size: float,
) -> Curvature | None:
    """Return the curvature at `point` (n,), or None when derivatives nearby are not finite.

    `sizes` (n,) of the variables; those that `conditions` were measured in may differ.
    """
    free = np.array(gate.problem.free, dtype=np.int64)
    rest = conditions.rest / measures.variable_sizes(point)[free] * sizes[free]
    sizes = sizes[free]
    hessians = []
    for step in STEPS:
        hessian = _hessian(gate, measures, point, conditions, free, step * sizes)
        if hessian is None:
            return None
        hessians.append(hessian * np.outer(sizes, sizes) / objective_size)
    h = hessians[0]
    evaluation = gate.evaluate(point, derivatives=True)
    assert evaluation.gradient is not None
    assert evaluation.jacobian is not None
    normals, limits, multipliers, is_equality = _active(
        measures, point, evaluation.jacobian, evaluation.rows, conditions, free, sizes
    )
    slope = evaluation.gradient[free] * sizes / objective_size
    scale = max(float(np.abs(slope).max(initial=0.0)), 1e-300)
    strong = is_equality | (np.abs(multipliers) / objective_size > WEAK_MULTIPLIER * scale)
    narrow, wide = _null_space(normals), _null_space(normals[strong])
    noise = max(
        ZERO_SHARE * float(np.abs(h).max(initial=0.0)),
        ERROR_FACTOR * float(np.abs(hessians[1] - h).max(initial=0.0)),
        1e-14,
    )
    newton, promise = _newton(h, slope, normals, limits, narrow, noise)
    freedom, weak = narrow.shape[1], int((~strong).sum())
    kind, least, direction, detail = _decide(h, narrow, wide, normals[~strong], noise, conditions.are_unique)
    full = np.zeros(len(point))
    full[free] = direction * sizes
    across = rest - narrow @ (narrow.T @ rest)
    outward = float(np.abs(across).max(initial=0.0))
    return Curvature(kind, least, noise, full, freedom, weak, newton, promise, outward, detail)


def _hessian(
    gate: Gate,
    measures: Measures,
    point: FloatArray,
    conditions: Conditions,
    free: NDArray[np.int64],
    steps: FloatArray,
) -> FloatArray | None:
    """Return (n_free, n_free) differences of the gradient of f − u'c, one-sided at a bound."""
    multipliers = conditions.row_multipliers

    def slope(at: FloatArray) -> FloatArray | None:
        evaluation = gate.evaluate(at, derivatives=True)
        if not evaluation.has_finite_derivatives:
            return None
        assert evaluation.gradient is not None
        assert evaluation.jacobian is not None
        found: FloatArray = (evaluation.gradient - evaluation.jacobian.T @ multipliers)[free]
        return found

    columns = []
    for variable, step in zip(free, steps, strict=True):
        ahead, back = point.copy(), point.copy()
        ahead[variable] += step
        back[variable] -= step
        if ahead[variable] > measures.upper[variable]:
            ahead[variable] = point[variable]
        if back[variable] < measures.lower[variable]:
            back[variable] = point[variable]
        width = ahead[variable] - back[variable]
        if not width > 0.0:  # bounds closer than the step
            ahead[variable], back[variable] = measures.upper[variable], measures.lower[variable]
            width = ahead[variable] - back[variable]
        after, before = slope(ahead), slope(back)
        if after is None or before is None:
            return None
        columns.append((after - before) / width)
    hessian = np.array(columns, dtype=np.float64).reshape(len(free), len(free))
    symmetric: FloatArray = (hessian + hessian.T) / 2
    return symmetric


def _active(
    measures: Measures,
    point: FloatArray,
    jacobian: FloatArray,
    rows: FloatArray,
    conditions: Conditions,
    free: NDArray[np.int64],
    sizes: FloatArray,
) -> tuple[FloatArray, FloatArray, FloatArray, NDArray[np.bool_]]:
    """Return of all active limits: inward normals (k, n_free) in sizes, of unit length; the distance to each
    limit along it; multipliers per unit normal; whether each is an equality."""
    normals, limits, multipliers, equality = [], [], [], []
    entries = [
        (
            jacobian[i, free] * sizes,
            side,
            rows[i],
            measures.row_lower[i],
            measures.row_upper[i],
            conditions.row_multipliers[i],
        )
        for i, side in enumerate(conditions.row_sides)
        if side
    ]
    for place, variable in enumerate(free):
        side = conditions.bound_sides[variable]
        if side:
            unit = np.zeros(len(free))
            unit[place] = sizes[place]
            entries.append(
                (
                    unit,
                    side,
                    point[variable],
                    measures.lower[variable],
                    measures.upper[variable],
                    conditions.bound_multipliers[variable],
                )
            )
    for normal, side, value, low, high, multiplier in entries:
        length = float(np.linalg.norm(normal))
        if not length > 0.0:
            continue
        sign = -1.0 if side == 1 else 1.0
        normals.append(sign * normal / length)
        limits.append(sign * ((high if side == 1 else low) - value) / length)
        multipliers.append(multiplier * length)
        equality.append(side == 2)
    return (
        np.array(normals).reshape(-1, len(free)),
        np.array(limits),
        np.array(multipliers),
        np.array(equality, dtype=bool),
    )


def _null_space(normals: FloatArray) -> FloatArray:
    """Return an orthonormal basis (n, k) of the directions that no normal (rows) has a part in."""
    n = normals.shape[1]
    if len(normals) == 0:
        return np.eye(n)
    _, values, basis = np.linalg.svd(normals)
    rank = int((values > RANK_TOLERANCE * values[0]).sum())
    null: FloatArray = basis[rank:].T
    return null


def _newton(
    h: FloatArray, slope: FloatArray, normals: FloatArray, limits: FloatArray, narrow: FloatArray, noise: float
) -> tuple[FloatArray | None, float | None]:
    """Return the Newton step on the active limits and the gain it promises, in sizes."""
    onto: FloatArray = np.zeros(len(slope))
    if len(normals):
        onto = np.asarray(np.linalg.lstsq(normals, limits, rcond=None)[0], dtype=np.float64)
    if narrow.shape[1] == 0:
        return onto, abs(float(slope @ onto))
    reduced = narrow.T @ h @ narrow
    values, vectors = np.linalg.eigh(reduced)
    if not values[0] > noise:
        return None, None
    along = vectors @ ((vectors.T @ (narrow.T @ (slope + h @ onto))) / values)
    step = onto - narrow @ along
    return step, 0.5 * float(along @ reduced @ along)


def _decide(
    h: FloatArray, narrow: FloatArray, wide: FloatArray, weak_normals: FloatArray, noise: float, are_unique: bool
) -> tuple[str, float, FloatArray, str]:
    nowhere = np.zeros(len(h))
    if wide.shape[1] == 0:
        return "strict", np.inf, nowhere, "the active limits leave no direction to move in"
    values, vectors = np.linalg.eigh(wide.T @ h @ wide)
    least, direction = float(values[0]), wide @ vectors[:, 0]
    if least > noise:
        return "strict", least, direction, "the objective curves upwards in every direction the active limits leave"
    if narrow.shape[1]:
        inner, inner_vectors = np.linalg.eigh(narrow.T @ h @ narrow)
        if inner[0] < -noise:
            least, direction = float(inner[0]), narrow @ inner_vectors[:, 0]
    if least < -noise:
        inward = weak_normals @ direction
        is_open = bool((inward >= -RANK_TOLERANCE).all() or (inward <= RANK_TOLERANCE).all())
        if is_open and are_unique:
            direction = direction if (inward >= -RANK_TOLERANCE).all() else -direction
            return "saddle", least, direction, "the objective improves along a direction that the limits leave open"
        why = "the multipliers are not unique" if not are_unique else "limits that are just met close that direction"
        return "unknown", least, direction, f"there is a direction of negative curvature, but {why}"
    return "unknown", least, direction, "the curvature is zero, to within its error, in some direction"
