"""Second-order conditions: the curvature of the Lagrangian along the directions that active limits leave.

All in variables divided by their sizes and an objective divided by its size. H is the Hessian of the Lagrangian: exact
for formulas; through models by central differences of gradients, or in large problems of the models' first derivatives
alone, with two step lengths, whose disagreement measures the error.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import KktSystem, solve_quadratic
from ilvren.judge.optimum.critical_cone import MOST_WEAK, least_on_cone
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.evaluate import Gate
    from ilvren.problem import Measures
    from ilvren.runs import Conditions

__all__ = ["Curvature", "active_normals", "lagrangian_curvature", "lagrangian_hessians"]

FloatArray = NDArray[np.float64]

# Steps of the differences as shares of a variable's size; near eps^(1/3), where their error is least.
STEPS = (1e-5, 4e-5)
# A curvature counts as zero below this share of the largest one, or below this multiple of its error.
ZERO_SHARE, ERROR_FACTOR = 1e-8, 10.0
# A multiplier below this share of the objective's slope counts as zero: its limit may be left either way.
WEAK_MULTIPLIER = 1e-6
RANK_TOLERANCE = 1e-8
# What stands on the diagonal of active limits in a large KKT matrix: the smaller, the sharper the proof.
ACTIVE_SHIFT = 1e-8
# The model's curvatures are raised to this share of the largest, so that it has a step at all.
LEAST_CURVATURE = 1e-10
# Curvature added across the active limits, in turn, relative to the largest.
ACROSS_WEIGHTS = (0.0, 1.0, 10.0, 1e3)


@dataclass(frozen=True, kw_only=True)
class Curvature:
    """`kind` is "strict", "saddle" or "unknown"; `least` the smallest curvature that decides and `noise` what
    counts as zero; `direction` (n,) is one of that curvature, in variables as written. `moved` is the largest
    component of the step to the best design of the quadratic model within all linearised limits and `promise` what it
    gains, in sizes; both infinite where the model has no such step. `step` (n,) is that step as written."""

    kind: str
    least: float
    noise: float
    direction: FloatArray
    freedom: int
    weak: int
    moved: float
    promise: float
    detail: str
    step: FloatArray | None = None


def lagrangian_curvature(
    gate: Gate,
    measures: Measures,
    point: FloatArray,
    conditions: Conditions,
    *,
    sizes: FloatArray,
    objective_size: float,
) -> Curvature | None:
    """Return the curvature at `point` (n,), or None when derivatives nearby are not finite, or so large that the
    numbers break down.

    `sizes` (n,) of the variables; those that `conditions` were measured in may differ.
    """
    if gate.is_sparse:
        return _sparse_curvature(gate, measures, point, conditions, sizes, objective_size)
    try:
        free = gate.problem.continuous_places
        sizes = sizes[free]
        found = lagrangian_hessians(gate, measures, point, conditions, free, sizes)
        if found is None:
            return None
        hessians = [hessian * np.outer(sizes, sizes) / objective_size for hessian in found]
        if not np.isfinite(hessians).all():
            return None
        h = hessians[0]
        evaluation = gate.evaluate(point, derivatives=True)
        assert evaluation.gradient is not None
        assert evaluation.jacobian is not None
        normals, multipliers, is_equality, _ = active_normals(evaluation.jacobian, conditions, free, sizes)
        slope = evaluation.gradient[free] * sizes / objective_size
        scale = max(float(np.abs(slope).max(initial=0.0)), 1e-300)
        strong = is_equality | (np.abs(multipliers) / objective_size > WEAK_MULTIPLIER * scale)
        narrow, wide = _null_space(normals), _null_space(normals[strong])
        noise = max(
            ZERO_SHARE * float(np.abs(h).max(initial=0.0)),
            ERROR_FACTOR * float(np.abs(hessians[-1] - h).max(initial=0.0)),
            1e-14,
        )
        moved, promise, d = _model_step(gate, measures, point, free, sizes, _convex(h, normals, slope), slope)
        freedom, weak = narrow.shape[1], int((~strong).sum())
        kind, least, direction, detail = _decide(h, wide, normals[~strong], noise, conditions.are_unique)
        full, step = np.zeros(len(point)), np.zeros(len(point))
        full[free] = direction * sizes
        if d is not None:
            step[free] = d * sizes
        return Curvature(
            kind=kind,
            least=least,
            noise=noise,
            direction=full,
            freedom=freedom,
            weak=weak,
            moved=moved,
            promise=promise,
            detail=detail,
            step=None if d is None else step,
        )
    except np.linalg.LinAlgError:
        return None


def _sparse_curvature(
    gate: Gate,
    measures: Measures,
    point: FloatArray,
    conditions: Conditions,
    sizes: FloatArray,
    objective_size: float,
) -> Curvature | None:
    """Judge a large problem by the inertia of its KKT matrix: with H less the noise on the diagonal, n positive and k
    negative eigenvalues prove that H is positive definite along the k strongly active limits. Never says "saddle":
    where the inertia is another, the curvature is not known."""
    from scipy.sparse import csr_array, diags_array, vstack

    found = gate.curvatures(point, conditions.row_multipliers)
    if not found:
        return None
    hessian = found[0]
    evaluation = gate.evaluate(point, derivatives=True)
    assert evaluation.gradient is not None
    scale = diags_array(sizes)
    h = csr_array(scale @ hessian @ scale) * (1.0 / objective_size)
    if not np.isfinite(h.data).all():
        return None
    largest = float(np.abs(h.data).max(initial=0.0))
    error = 0.0
    if len(found) > 1:  # a row's sum bounds what the estimates' disagreement can do to an eigenvalue
        apart = abs(csr_array(scale @ (found[1] - hessian) @ scale)) * (1.0 / objective_size)
        error = float(np.asarray(apart.sum(axis=1)).max(initial=0.0))
    noise = max(ZERO_SHARE * largest, ERROR_FACTOR * error, 1e-14)
    slope = evaluation.gradient * sizes / objective_size
    strong = WEAK_MULTIPLIER * max(float(np.abs(slope).max(initial=0.0)), 1e-300)
    normals = csr_array(evaluation.jacobian @ scale)
    lengths = np.sqrt(np.asarray(normals.multiply(normals).sum(axis=1)).ravel())
    pressing = np.abs(conditions.row_multipliers) * lengths / objective_size > strong
    rows = np.flatnonzero(((conditions.row_sides == 2) | (conditions.row_sides != 0) & pressing) & (lengths > 0.0))
    is_fixed = np.ones(len(point), dtype=bool)
    is_fixed[gate.problem.continuous_places] = False
    press_bound = np.abs(conditions.bound_multipliers) * sizes / objective_size > strong
    held = np.flatnonzero(is_fixed | (np.isin(conditions.bound_sides, (-1, 1)) & press_bound))
    units = csr_array((np.ones(len(held)), (np.arange(len(held)), held)), shape=(len(held), len(point)))
    matrix = csr_array(vstack([diags_array(1.0 / lengths[rows]) @ normals[rows], units], format="csr"))
    k = matrix.shape[0]
    factor = KktSystem(len(point), k, is_sparse=True).factored(
        h, np.full(len(point), -noise), matrix, np.full(k, ACTIVE_SHIFT)
    )
    weak = (
        int((conditions.row_sides != 0).sum() + (np.abs(conditions.bound_sides) == 1).sum()) - k + int(is_fixed.sum())
    )
    freedom = max(len(point) - k, 0)
    nowhere = np.zeros(len(point))
    if not factor.has_inertia:
        detail = "the curvature of so many variables could not be shown to be positive along the active limits"
        return Curvature(
            kind="unknown",
            least=0.0,
            noise=noise,
            direction=nowhere,
            freedom=freedom,
            weak=max(weak, 0),
            moved=math.inf,
            promise=math.inf,
            detail=detail,
        )
    # The Newton step on the strongly active limits tells how far the optimum may lie.
    rest = slope - (normals.T @ (conditions.row_multipliers / objective_size))
    rest = np.where(conditions.bound_sides != 0, 0.0, rest)
    goal = np.where(
        conditions.row_sides == -1, measures.row_lower, np.where(conditions.row_sides == 0, 0.0, measures.row_upper)
    )
    goal = np.where(conditions.row_sides == 2, measures.row_lower, goal)
    gaps = np.concatenate([(goal[rows] - evaluation.rows[rows]) / lengths[rows], np.zeros(len(held))])
    newton = factor.solve(-rest, gaps)
    moved = math.inf if newton is None else float(np.abs(newton[0]).max(initial=0.0))
    promise = math.inf if newton is None else abs(float(rest @ newton[0]))
    detail = "the objective curves upwards in every direction the active limits leave"
    step = None if newton is None else newton[0] * sizes
    return Curvature(
        kind="strict",
        least=noise,
        noise=noise,
        direction=nowhere,
        freedom=freedom,
        weak=max(weak, 0),
        moved=moved,
        promise=promise,
        detail=detail,
        step=step,
    )


def lagrangian_hessians(
    gate: Gate,
    measures: Measures,
    point: FloatArray,
    conditions: Conditions,
    free: NDArray[np.int64],
    sizes: FloatArray,
) -> list[FloatArray] | None:
    """Return the exact Hessian, or two estimates of it; None where derivatives are not finite. Shapes: point and sizes
    (n,), free (f,), each Hessian (f, f)."""
    if gate.has_curvature:
        exact = gate.curvature(point, conditions.row_multipliers, 1.0)
        exact = exact if isinstance(exact, np.ndarray) else exact.toarray()
        return [exact[np.ix_(free, free)]]
    found = [_hessian(gate, measures, point, conditions, free, step * sizes) for step in STEPS]
    return None if any(item is None for item in found) else [item for item in found if item is not None]


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


def active_normals(
    jacobian: FloatArray,
    conditions: Conditions,
    free: NDArray[np.int64],
    sizes: FloatArray,
) -> tuple[FloatArray, FloatArray, NDArray[np.bool_], int]:
    """Return of all active limits: inward normals (k, n_free) in sizes, of unit length; multipliers per unit normal;
    whether each is an equality; and how many more have a gradient of zero. `sizes` (n_free,)."""
    entries = [
        (jacobian[i, free] * sizes, side, conditions.row_multipliers[i])
        for i, side in enumerate(conditions.row_sides)
        if side
    ]
    for place, variable in enumerate(free):
        if conditions.bound_sides[variable]:
            unit = np.zeros(len(free))
            unit[place] = sizes[place]
            entries.append((unit, conditions.bound_sides[variable], conditions.bound_multipliers[variable]))
    normals, multipliers, equality, zero_rows = [], [], [], 0
    for normal, side, multiplier in entries:
        length = float(np.linalg.norm(normal))
        if not length > 0.0:
            zero_rows += 1
        else:
            normals.append((-normal if side == 1 else normal) / length)
            multipliers.append(multiplier * length)
            equality.append(side == 2)
    found = np.array(normals).reshape(len(normals), len(free))
    return found, np.array(multipliers), np.array(equality, dtype=bool), zero_rows


def _null_space(normals: FloatArray) -> FloatArray:
    """Return an orthonormal basis (n, k) of the directions that no normal (rows) has a part in."""
    n = normals.shape[1]
    if len(normals) == 0:
        return np.eye(n)
    _, values, basis = np.linalg.svd(normals)
    rank = int((values > RANK_TOLERANCE * values[0]).sum())
    null: FloatArray = basis[rank:].T
    return null


def _model_step(
    gate: Gate,
    measures: Measures,
    point: FloatArray,
    free: NDArray[np.int64],
    sizes: FloatArray,
    convex: FloatArray,
    slope: FloatArray,
) -> tuple[float, float, FloatArray | None]:
    """Return (largest component, gain, d) of the step d, in sizes, that minimizes slope'd + ½ d'Hd within the
    linearised limits, H being `convex`; infinities when there is none."""
    evaluation = gate.evaluate(point, derivatives=True)
    assert evaluation.jacobian is not None
    found = solve_quadratic(
        convex,
        slope,
        rows=evaluation.jacobian[:, free] * sizes / measures.row_sizes[:, np.newaxis],
        row_limits=(
            (measures.row_lower - evaluation.rows) / measures.row_sizes,
            (measures.row_upper - evaluation.rows) / measures.row_sizes,
        ),
        bounds=((measures.lower - point)[free] / sizes, (measures.upper - point)[free] / sizes),
    )
    if found.outcome != "solved":
        return math.inf, math.inf, None
    d = found.step
    gain = -float(slope @ d) - 0.5 * float(d @ convex @ d)
    return float(np.abs(d).max(initial=0.0)), max(gain, 0.0), d


def _convex(h: FloatArray, normals: FloatArray, slope: FloatArray) -> FloatArray:
    """Return H made positive definite: by curvature across the active limits, which changes nothing along them, as
    far as that does it; then by raising what is still too low."""
    # A model without curvature, as of a linear program, takes its scale from the slope.
    largest = max(float(np.abs(h).max(initial=0.0)), float(np.abs(slope).max(initial=0.0)), 1e-12)
    convex = h
    for weight in ACROSS_WEIGHTS:
        convex = h + weight * largest * (normals.T @ normals)
        if np.linalg.eigvalsh(convex).min(initial=np.inf) > LEAST_CURVATURE * largest:
            return convex
    values, vectors = np.linalg.eigh(convex)
    raised: FloatArray = (vectors * np.maximum(values, LEAST_CURVATURE * largest)) @ vectors.T
    return raised


def _decide(
    h: FloatArray, wide: FloatArray, weak_normals: FloatArray, noise: float, are_unique: bool
) -> tuple[str, float, FloatArray, str]:
    nowhere = np.zeros(len(h))
    if wide.shape[1] == 0:
        return "strict", np.inf, nowhere, "the active limits leave no direction to move in"
    values, vectors = np.linalg.eigh(wide.T @ h @ wide)
    least, direction, is_certain = float(values[0]), wide @ vectors[:, 0], not len(weak_normals)
    if least > noise:
        return "strict", least, direction, "the objective curves upwards in every direction the active limits leave"
    if len(weak_normals) and len(weak_normals) <= MOST_WEAK:
        cone = least_on_cone(h, wide, weak_normals)
        if not np.isfinite(cone.least):
            return "strict", np.inf, nowhere, "limits that are just met close every direction that is left"
        least, direction, is_certain = cone.least, cone.direction, cone.is_certain
        if least > noise:
            return (
                "strict",
                least,
                direction,
                "the objective curves upwards wherever limits that are just met let it go",
            )
    if least < -noise:
        if is_certain and are_unique:
            return "saddle", least, direction, "the objective improves along a direction that the limits leave open"
        why = "the multipliers are not unique" if is_certain else "limits that are just met may close that direction"
        return "unknown", least, direction, f"there is a direction of negative curvature, but {why}"
    return "unknown", least, direction, "the curvature is zero, to within its error, in some direction"
