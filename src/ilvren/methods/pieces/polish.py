"""The end of an interior point method: the design is put exactly on the limits that hold it.

Once the barrier is small, the limits with z above their distance are taken as equations, and Newton's method is applied
to the conditions on these alone; limits that the step would break join, limits with a multiplier of wrong sign leave.

Departs from the sources of interior point methods, which end at a small barrier: this is Newton's method on the
Kuhn–Tucker equations of a guessed active set, and its result counts only as far as the driver measures it.
"""

from __future__ import annotations

import math
from collections.abc import Generator
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import KktSystem
from ilvren.methods.pieces.points import Point, evaluated, hessian_at

if TYPE_CHECKING:
    from ilvren.methods.base import HessianRequest, Request, Task
    from ilvren.methods.pieces.barrier import Stage, State

__all__ = ["polished"]

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]

# Polishing: rounds of choosing limits, what counts as broken or wrong-signed (shares of the tolerances), diagonals of
# rows that are held, and of what is taken out.
POLISH_ROUNDS, POLISH_STEPS, POLISH_SLACK, POLISH_SHIFT, HELD_OUT = 12, 3, 1e-3, 1e-13, 1e12
# How far an early step may lead, and which steps ask for a further one, over the largest variable.
EARLY_REACH, LONG = 0.2, 1e-6
# Rounds where each is a sparse factorization.
SPARSE_ROUNDS = 3


def polished(
    stage: Stage, state: State, system: KktSystem, *, is_exact: bool, is_early: bool = False
) -> Generator[Request | HessianRequest, Any, tuple[Point | None, FloatArray]]:
    """Take the limits with z above their distance as equations and make one Newton step on them; limits that it would
    break join, limits with a multiplier of wrong sign leave. Return the point, if it is finite and nearby, and the
    multipliers (m,) of the rows. An early one may be farther off, and further steps follow while they are long."""
    task, x = stage.task, state.point.x
    nowhere = (None, np.zeros(len(stage.b)))
    n = stage.n
    w = state.w
    at_low = np.isfinite(stage.lower) & (state.z_low > w - stage.lower)
    at_high = np.isfinite(stage.upper) & (state.z_high > stage.upper - w) & ~at_low
    sides = at_high.astype(np.int64) - at_low
    is_equality = task.row_lower == task.row_upper
    held, row_sides = sides[:n], np.where(is_equality, 2, 0)
    row_sides[stage.attached] = np.where(is_equality[stage.attached], 2, sides[n:])
    if task.is_sparse and np.count_nonzero(held) + np.count_nonzero(row_sides) > n:
        return nowhere  # limits that depend on each other, of which many rounds would have to choose
    hessian = None
    if task.has_curvature and is_exact:
        hessian = yield from hessian_at(x, -state.y, stage.weight)
    if hessian is None:
        return nowhere
    before = len(x) + len(stage.b) + 1
    for _ in range(SPARSE_ROUNDS if task.is_sparse else POLISH_ROUNDS):
        found = on_limits(task, state.point, hessian, system, held, row_sides)
        if found is None:
            return nowhere
        dx, multipliers, pressing = found
        rows = state.point.c + state.point.j @ dx
        slack = POLISH_SLACK * task.feasibility * task.row_sizes
        bad_rows = np.where(rows < task.row_lower - slack, -1, np.where(rows > task.row_upper + slack, 1, 0))
        bad_rows = np.where(row_sides == 0, bad_rows, 0)
        near = POLISH_SLACK * task.feasibility * np.maximum(1.0, np.abs(x))
        bad_bounds = np.where(x + dx < task.lower - near, -1, np.where(x + dx > task.upper + near, 1, 0))
        bad_bounds = np.where(held == 0, bad_bounds, 0)
        weak = POLISH_SLACK * task.tolerance
        wrong_rows = (np.abs(row_sides) == 1) & (multipliers * row_sides > weak)
        wrong_bounds = (held != 0) & (pressing * held > weak)
        amiss = sum(int(kind.astype(bool).sum()) for kind in (bad_rows, bad_bounds, wrong_rows, wrong_bounds))
        if not amiss:
            break
        if amiss >= before:  # limits that depend on each other: no choice of them is the right one
            return nowhere
        before = amiss
        row_sides = np.where(wrong_rows, 0, row_sides + bad_rows)
        held = np.where(wrong_bounds, 0, held + bad_bounds)
    share = EARLY_REACH if is_early else math.sqrt(task.tolerance)
    most = share * max(1.0, float(np.abs(x).max(initial=0.0)))
    if not np.abs(dx).max(initial=0.0) <= most:
        return nowhere
    at = np.clip(x + dx, task.lower, task.upper)
    at = np.where(held < 0, task.lower, np.where(held > 0, task.upper, at))
    point = yield from evaluated(at, derivatives=True)
    for _ in range(POLISH_STEPS):
        if not (point.is_finite and point.has_derivatives):
            return nowhere
        gap = np.where(row_sides == 1, task.row_upper, task.row_lower)
        is_long = is_early and bool(np.abs(dx).max(initial=0.0) > LONG * max(1.0, float(np.abs(x).max(initial=0.0))))
        if not is_long and not np.any(
            (row_sides != 0) & (np.abs(point.c - gap) > POLISH_SLACK * task.feasibility * task.row_sizes)
        ):
            break
        hessian = yield from hessian_at(point.x, multipliers, stage.weight)
        found = None if hessian is None else on_limits(task, point, hessian, system, held, row_sides)
        if found is None or not np.abs(found[0]).max(initial=0.0) <= most:
            break
        dx, multipliers = found[0], found[1]
        point = yield from evaluated(np.clip(point.x + found[0], task.lower, task.upper), derivatives=True)
    if not (point.is_finite and point.has_derivatives) or task.violation(point.c) > task.feasibility:
        return nowhere
    return point, multipliers


def on_limits(
    task: Task, here: Point, hessian: Any, system: KktSystem, held: IntArray, row_sides: IntArray
) -> tuple[FloatArray, FloatArray, FloatArray] | None:
    """Return (dx, multipliers of rows, of bounds) of the Newton step with the limits at `held` and `row_sides` as
    equations. Held variables are taken out by large diagonals, and free rows, so that the pattern stays; sparse
    matrices are made without them, which is smaller."""
    is_held, is_active = held != 0, row_sides != 0
    dx_held = np.where(held < 0, task.lower - here.x, np.where(held > 0, task.upper - here.x, 0.0))
    goal = np.where((row_sides == -1) | (row_sides == 2), task.row_lower, np.where(is_active, task.row_upper, here.c))
    target = -here.g - hessian @ dx_held
    rest = np.where(is_active, goal - here.c - here.j @ dx_held, 0.0)
    top, chosen = np.where(is_held, HELD_OUT, 0.0), np.arange(len(rest))
    if system.is_sparse:
        chosen = np.flatnonzero(is_active)
        system = KktSystem(system.n, len(chosen), is_sparse=True, deltas=system.deltas)
    bottom = np.where(is_active, POLISH_SHIFT, HELD_OUT)[chosen]
    factor = system.factored(hessian, top, here.j[chosen], bottom, with_inertia=False)
    found = factor.solve(np.where(is_held, 0.0, target), rest[chosen])
    if found is None or not (np.isfinite(found[0]).all() and np.isfinite(found[1]).all()):
        return None
    dx = np.where(is_held, dx_held, found[0])
    multipliers = np.zeros(len(rest))
    multipliers[chosen] = np.where(is_active[chosen], -found[1], 0.0)
    pressing = np.where(is_held, here.g + hessian @ dx - here.j.T @ multipliers, 0.0)
    return dx, multipliers, pressing
