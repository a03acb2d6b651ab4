"""Looking on past a stationary design: an inflection meets all first-order conditions and is no optimum.

At a design x that a method has converged to, with multipliers u by signed least squares over the active limits, the
curvature Z'HZ of the Lagrangian along the active limits says how far x can be trusted. Where the least curvatures are
so small that they would not raise f by a share FLAT of its scale over a whole variable's size, designs are tried along
their directions, both ways, brought back to the limits that hold. Where the last steps shrank so slowly that they speak
of no curvature ahead, the way they led is followed further. From a clearly better design the method begins again.
"""

from __future__ import annotations

import itertools
from collections.abc import Generator
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import signed_least_squares
from ilvren.methods.base import SLOPES, Ending, HessianRequest, Iterate, Method, Protocol, Reply, Request, Task
from ilvren.methods.pieces.escape import null_space
from ilvren.methods.pieces.points import Point, evaluated, hessian_at

__all__ = ["looking", "looking_on"]

FloatArray = NDArray[np.float64]

# How often one run goes on, and problems of how many variables are examined by eigenvectors.
LOOKS, MOST_VARIABLES = 4, 100
# Curvature, in scaled variables and over the objective's scale, below which a direction is flat: without steps that
# would show by their lengths that there is some, and after such; directions tried.
FLAT, FLAT_AFTER_STEPS, MOST_DIRECTIONS = 0.1, 1e-6, 2
# Curvature below which slow steps along a direction are suspicious.
SLIGHT = 0.1
# Lengths tried along a flat direction, and along the way that steps led; in scaled variables.
LENGTHS, LENGTHS_ONWARD = (1.0, 0.3, 0.1, 0.03, 0.01), (1.0, 0.1, 0.01)
# Steps that shrink by less than this from one to the next speak of no curvature; a component counts that is more than a
# share of its step.
SLOW, SHARE = 0.2, 0.01
# Steps as short as this, in scaled variables, are the end of a quick approach or rounding.
LEAST_STEP = 1e-7
# A better design is better by so many tolerances; rounds that bring designs back to the limits that hold.
CLEARLY, RETURNS = 3.0, 5
# A variable this near its bound is at it.
AT_BOUND = 1e-8


def looking(method: Method) -> Method:
    """Return a gradient-based method that looks on; any other as it is."""
    if method.kind != "gradient-based":
        return method

    def run(task: Task, options: Any) -> Protocol:
        if task.grids or task.lifted is not None:  # lifted tasks are looked on by themselves
            return method.run(task, options)
        return looking_on(method, task, options)

    return replace(method, run=run)


def looking_on(method: Method, task: Task, options: Any) -> Protocol:
    """Run a method; where it has converged, look on, and go on from a better design."""
    first_f = None
    if not getattr(options, "exact", True):  # a method that was told to do without second derivatives
        task = replace(task, has_curvature=False, has_secants=False)
    for look in range(LOOKS + 1):
        trail: list[FloatArray] = []
        generator = method.run(task, options)
        try:
            message = next(generator)
            while True:
                if isinstance(message, Iterate):
                    trail = [*trail[-2:], message.point]
                    if look and len(trail) == 1:
                        message = replace(message, note="went on past a stationary design that is no optimum")
                message = generator.send((yield message))
        except StopIteration as end:
            ending: Ending = end.value
        finally:
            generator.close()
        if not isinstance(ending, Ending) or ending.claim != "converged" or look == LOOKS or not trail:
            return ending
        if first_f is None:
            reply: Reply = yield Request(task.start[np.newaxis], beyond=True)
            first_f = float(reply.objective[0])
        better = yield from _better_onward(task, trail, first_f)
        if better is None:
            return ending
        task = replace(task, start=better, row_multipliers=None, bound_multipliers=None)
    raise AssertionError("the last look returns")


def _better_onward(
    task: Task, trail: list[FloatArray], first_f: float
) -> Generator[Request | HessianRequest, Any, FloatArray | None]:
    reply: Reply = yield Request(trail[-1][np.newaxis], SLOPES, beyond=True)
    assert reply.gradient is not None
    assert reply.jacobian is not None
    here = Point(trail[-1], float(reply.objective[0]), reply.rows[0], reply.gradient[0], reply.jacobian[0], True)
    if task.is_sparse or not here.has_derivatives or not here.is_finite:
        return None
    scale = max(abs(here.f), abs(here.f - first_f)) if np.isfinite(first_f) else abs(here.f)
    slack = 10.0 * task.feasibility * task.row_sizes
    at_lower, at_upper = here.c - task.row_lower <= slack, task.row_upper - here.c <= slack
    rows = np.flatnonzero(at_lower | at_upper)
    near = AT_BOUND * np.maximum(1.0, np.abs(here.x))
    is_low, is_high = here.x <= task.lower + near, here.x >= task.upper - near
    free = np.flatnonzero(~(is_low | is_high))
    if not len(free):
        return None
    normals = here.j[np.ix_(rows, free)]
    basis = null_space(normals)
    if not basis.shape[1]:
        return None
    size = max(1.0, float(np.abs(here.x).max()))
    signs = np.where((at_lower & at_upper)[rows], 0.0, np.where(at_lower[rows], 1.0, -1.0))
    u = np.zeros(len(here.c))
    u[rows] = signed_least_squares(normals.T, here.g[free], signs)
    steps = [(after - before)[free] @ basis for before, after in itertools.pairwise(trail)]
    moves = [length * size * (basis @ way) for way in _onward(steps) for length in LENGTHS_ONWARD]
    if task.has_curvature and len(here.x) <= MOST_VARIABLES:
        hessian = yield from hessian_at(here.x, u)
        if hessian is None:
            return None
        values, vectors = np.linalg.eigh(basis.T @ hessian[np.ix_(free, free)] @ basis)
        slow = np.array([_is_slow([step @ vectors[:, [k]] for step in steps], steps) for k in range(len(values))])
        slow &= values * size**2 <= SLIGHT * scale
        flat = values * size**2 <= (FLAT if len(steps) < 2 else FLAT_AFTER_STEPS) * scale
        open_ = np.flatnonzero(flat | slow)[:MOST_DIRECTIONS]
        moves += [s * length * size * (basis @ vectors[:, k]) for k in open_ for length in LENGTHS for s in (1.0, -1.0)]
    if not moves:
        return None
    points = np.repeat(here.x[np.newaxis], len(moves), axis=0)
    points[:, free] += np.array([_within(task, here.x, free, move) for move in moves])
    wanted = CLEARLY * task.tolerance * scale
    held = rows[(u[rows] != 0.0) | (task.row_lower == task.row_upper)[rows]]
    return (yield from _best_brought_back(task, here, points, (rows, held), free, wanted))


def _onward(steps: list[FloatArray]) -> list[FloatArray]:
    """Return the direction in which the last steps led, where they shrank slowly."""
    lengths = [float(np.linalg.norm(step)) for step in steps]
    if len(lengths) < 2 or not lengths[1] > SLOW * lengths[0] > 0.0 or not lengths[1] > LEAST_STEP:
        return []
    return [steps[1] / lengths[1]]


def _is_slow(components: list[FloatArray], steps: list[FloatArray]) -> bool:
    """Return whether a component of the last steps shrinks slowly, and is more than rounding of theirs."""
    return bool(_onward(components)) and abs(float(components[1][0])) > SHARE * float(np.linalg.norm(steps[1]))


def _within(task: Task, x: FloatArray, free: NDArray[np.int64], move: FloatArray) -> FloatArray:
    """Return a move shortened so that it keeps within the bounds."""
    with np.errstate(divide="ignore", invalid="ignore"):
        room = np.where(move > 0.0, (task.upper - x)[free], (task.lower - x)[free]) / move
        room = np.where(move == 0.0, np.inf, room)
    return move * min(1.0, float(room.min(initial=np.inf)))


def _best_brought_back(
    task: Task,
    here: Point,
    points: FloatArray,
    active: tuple[NDArray[np.int64], NDArray[np.int64]],
    free: NDArray[np.int64],
    wanted: float,
) -> Generator[Request, Any, FloatArray | None]:
    """Return the best of the points that is feasible and better by what is wanted, after bringing them back to the
    active rows: to those that press from either side, to the others where they are missed."""
    rows, held = active
    normals = here.j[np.ix_(rows, free)]
    goal = np.clip(here.c, task.row_lower, task.row_upper)[rows]
    is_held = np.isin(rows, held)
    allowed = max(task.feasibility, task.violation(here.c))
    best, best_f = None, here.f - wanted
    for _ in range(RETURNS if len(rows) else 1):
        reply: Reply = yield Request(points, beyond=True)
        for point, f, c in zip(points, reply.objective, reply.rows, strict=True):
            if f < best_f and task.violation(c) <= allowed:
                best, best_f = point, float(f)
        if not len(rows):
            break
        off = np.where(np.isfinite(reply.rows[:, rows]), reply.rows[:, rows] - goal, 0.0)
        inside = (task.row_lower[rows] <= reply.rows[:, rows]) & (reply.rows[:, rows] <= task.row_upper[rows])
        off = np.where(inside & ~is_held, 0.0, off)
        points = points.copy()
        points[:, free] -= np.linalg.lstsq(normals, off.T, rcond=1e-10)[0].T
        points = np.clip(points, task.lower, task.upper)
    if best is None:
        return None
    there = yield from evaluated(best, derivatives=True, beyond=True)
    return best if there.has_derivatives else None
