"""Ways out of designs that first derivatives cannot leave: stationary violations and saddles."""

from __future__ import annotations

import math
from collections.abc import Generator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import HessianRequest, Reply, Request, Task, Tight
from ilvren.methods.pieces.coding import Coding, spread
from ilvren.methods.pieces.points import Point, evaluated, hessian_at, tightened

__all__ = ["downhill_from_saddle", "less_violated_nearby", "null_space", "spread_by_violation", "valid_nearby"]

FloatArray = NDArray[np.float64]

# A design found by looking around must lower |v| by this share.
ESCAPE_SHARE = 1e-6
# How far to look, and at how many designs at most.
ESCAPE_RADII, MOST_DRAWS = (3.0, 1.0, 0.3, 0.03), 24
# Designs over the box that are looked at for a lower violation: so many, and so many for each variable; of models that
# take long, for each variable alone; at most. Of one side of zero, half of them by ratio, over so many decades.
FAR_DRAWS, FAR_DRAWS_PER_VARIABLE, MOST_FAR_DRAWS, DECADES = 20, 20, 200, 3.0
# How far from an invalid start a valid one is looked for, and at how many designs each.
START_RADII, START_DRAWS = (0.01, 0.1, 0.5, 2.0), 6
# Dense eigenvectors are computed up to so many variables.
MOST_DENSE = 400
# Curvature below this share of the largest counts as negative; a row is held when its multiplier is this large.
NEGATIVE_SHARE, HELD_MULTIPLIER = 1e-7, 1e-6
# A variable this near its bound is at it.
AT_BOUND = 1e-8
# Lengths tried along negative curvature, and rounds that bring the designs back to the rows that hold.
LENGTHS, RETURNS = (0.3, 0.1, 0.03, 0.01, 0.001), 6
# A design left for is better by this share of what the curvature promises, and by more than rounding.
PROMISE_SHARE, ROUNDING = 0.01, 1e-13


def less_violated_nearby(task: Task, here: Point, number: int = 0) -> Generator[Request, Any, Point | None]:
    """Return a point around with a clearly lower violation, or None. The sample depends on seed and number alone."""
    n = len(here.x)
    draws = np.random.default_rng([task.seed, 77, number]).normal(size=(min(2 * n + 4, MOST_DRAWS), n))
    draws /= np.linalg.norm(draws, axis=1, keepdims=True)
    points = np.vstack([here.x + radius * draws for radius in ESCAPE_RADII])
    points = np.clip(points, task.lower, task.upper)
    reply: Reply = yield Request(points)
    now = float(np.linalg.norm(task.misses(here.c)))
    found = [float(np.linalg.norm(task.misses(rows))) for rows in reply.rows]
    found = [v if math.isfinite(f) else math.inf for v, f in zip(found, reply.objective, strict=True)]
    best = int(np.argmin(found))
    if not found[best] <= (1.0 - ESCAPE_SHARE) * now:
        return None
    point = yield from evaluated(points[best], derivatives=True)
    return point if point.has_derivatives else None


def spread_by_violation(task: Task, number: int = 0) -> Generator[Request | Tight, Any, tuple[FloatArray, FloatArray]]:
    """Return designs over the box (k, n), those of the least |v| first, and |v| (k,); only those with finite values.
    They depend on seed and number alone."""
    n, box, rng = len(task.start), Coding.of(task), np.random.default_rng([task.seed, 79, number])
    count = 2 * n + 2 if task.seconds is not None else FAR_DRAWS + FAR_DRAWS_PER_VARIABLE * n
    points = spread(box, min(count, MOST_FAR_DRAWS) + 1, rng)[1:]
    low, high = box.box_lower, box.box_upper
    one_sided = (low >= 0.0) | (high <= 0.0)
    largest = np.where(low >= 0.0, high, low)
    least = np.where(low >= 0.0, low, high)
    share = (points - least) / np.where(largest == least, 1.0, largest - least)
    by_ratio = largest * 10.0 ** (DECADES * (share - 1.0))
    points[::2] = np.where(one_sided & (np.abs(by_ratio) >= np.abs(least)), by_ratio, points)[::2]
    points = np.clip(points, task.lower, task.upper)
    for place in range(len(points) if task.is_lifted else 0):
        points[place] = yield from tightened(task, points[place])
    reply: Reply = yield Request(points)
    found = np.array([float(np.linalg.norm(task.misses(rows))) for rows in reply.rows])
    found[~(np.isfinite(reply.objective) & np.isfinite(found))] = np.inf
    order = np.argsort(found, kind="stable")
    order = order[np.isfinite(found[order])]
    return points[order], found[order]


def valid_nearby(task: Task, x: FloatArray) -> Generator[Request, Any, Point | None]:
    """Return the nearest of some designs around an invalid start that has finite values and derivatives, or None. They
    depend on the seed alone; the first ones lie towards the inside of the bounds."""
    n = len(x)
    draws = np.random.default_rng([task.seed, 78]).normal(size=(len(START_RADII), START_DRAWS, n))
    size = np.maximum(1.0, np.abs(x))
    middle = np.where(np.isfinite(task.upper - task.lower), 0.5 * (task.lower + task.upper), x)
    for radius, own in zip(START_RADII, draws, strict=True):
        points = np.vstack([x + radius * (middle - x), x + radius * size * own])
        points = np.unique(np.clip(points, task.lower, task.upper), axis=0)
        reply: Reply = yield Request(points)
        is_valid = np.isfinite(reply.objective) & np.isfinite(reply.rows).all(axis=1)
        if is_valid.any():
            distance = np.abs((points - x) / size).max(axis=1)
            best = int(np.argmin(np.where(is_valid, distance, np.inf)))
            point = yield from evaluated(points[best], derivatives=True)
            if point.has_derivatives:
                return point
    return None


def downhill_from_saddle(
    task: Task, here: Point, multipliers: FloatArray
) -> Generator[Request | HessianRequest, Any, Point | None]:
    """Return a better feasible point along a direction of negative curvature of the Lagrangian that the active limits
    leave open, or None where there is none. `multipliers` (m,) of the rows."""
    n = len(here.x)
    if not task.has_curvature or task.is_sparse or n > MOST_DENSE:
        return None
    hessian = yield from hessian_at(here.x, multipliers)
    if hessian is None:
        return None
    slack = task.feasibility * task.row_sizes
    is_active = (here.c - task.row_lower <= slack) | (task.row_upper - here.c <= slack)
    is_equality = task.row_lower == task.row_upper
    slope = here.g - here.j.T @ multipliers
    near = AT_BOUND * np.maximum(1.0, np.abs(here.x))
    is_held = (here.x <= task.lower + near) | (here.x >= task.upper - near)
    strong = HELD_MULTIPLIER * max(1.0, float(np.abs(here.g).max(initial=0.0)))
    # With all active limits held; then without those that press with no force, which a design may leave.
    for is_kept, is_fixed in (
        (is_active, is_held),
        (is_active & (is_equality | (np.abs(multipliers) > strong)), is_held & (np.abs(slope) > strong)),
    ):
        free = np.flatnonzero(~is_fixed)
        normals = here.j[np.ix_(np.flatnonzero(is_kept), free)]
        basis = null_space(normals) if len(free) else np.zeros((0, 0))
        if not basis.shape[1]:
            continue
        values, vectors = np.linalg.eigh(basis.T @ hessian[np.ix_(free, free)] @ basis)
        if values[0] < -NEGATIVE_SHARE * max(float(np.abs(hessian).max()), 1e-300):
            break
    else:
        return None
    direction = np.zeros(n)
    direction[free] = basis @ vectors[:, 0]
    lengths = np.array([sign * length for length in LENGTHS for sign in (1.0, -1.0)])
    lengths = lengths * max(1.0, float(np.linalg.norm(here.x)))
    points = np.clip(here.x + lengths[:, np.newaxis] * direction, task.lower, task.upper)
    limits = np.clip(here.c, task.row_lower, task.row_upper)[is_kept]
    return (yield from _best_returned(task, here, points, is_kept, limits, free, normals, (float(values[0]), lengths)))


def _best_returned(
    task: Task,
    here: Point,
    points: FloatArray,
    is_active: NDArray[np.bool_],
    limits: FloatArray,
    free: NDArray[np.int64],
    normals: FloatArray,
    promise: tuple[float, FloatArray],
) -> Generator[Request, Any, Point | None]:
    """Bring `points` back to the active rows and return the best one that is feasible and better, or None."""
    allowed = max(task.feasibility, task.violation(here.c))
    best, best_f = None, math.inf
    curvature, lengths = promise
    for _ in range(RETURNS if is_active.any() else 1):
        reply: Reply = yield Request(points)
        for point, f, c, length in zip(points, reply.objective, reply.rows, lengths, strict=True):
            wanted = max(-0.5 * PROMISE_SHARE * curvature * min(length**2, 1e-2), ROUNDING * abs(here.f))
            if f < min(best_f, here.f - wanted) and task.violation(c) <= allowed:
                best, best_f = point, float(f)
        if best is not None or not is_active.any():
            break
        misses = np.where(np.isfinite(reply.rows[:, is_active]), reply.rows[:, is_active] - limits, 0.0)
        back = np.linalg.lstsq(normals, misses.T, rcond=1e-10)[0].T
        points = points.copy()
        points[:, free] -= back
        points = np.clip(points, task.lower, task.upper)
    if best is None:
        return None
    point = yield from evaluated(best, derivatives=True)
    return point if point.has_derivatives else None


def null_space(normals: FloatArray) -> FloatArray:
    """Return an orthonormal basis (n, k) of the directions that no normal (rows) has a part in."""
    n = normals.shape[1]
    if not len(normals):
        return np.eye(n)
    _, values, basis = np.linalg.svd(normals)
    rank = int((values > 1e-9 * values[0]).sum()) if values[0] > 0.0 else 0
    found: FloatArray = basis[rank:].T
    return found
