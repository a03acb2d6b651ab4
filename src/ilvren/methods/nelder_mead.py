"""Adaptive simplex search inside an augmented Lagrangian: no derivatives, few variables, rough values.

The simplex has n + 1 designs. With c the mean of all but the worst, each iteration replaces the worst by a
point on the line through c, or draws all towards the best:

    reflect  c + α(c − worst)    expand  c + αβ(c − worst)    contract  c ± γ(…)    shrink by δ        (1)
    α = 1,  β = 1 + 2/n,  γ = 3/4 − 1/(2n),  δ = 1 − 1/n                                               (2)

Bounds are met by projection. The rows enter through the function the simplex minimizes,

    A(x) = f + ½ Σ ρ_i (t_i − [t_i])² ,   t_i = c_i + λ_i/ρ_i ,  [t] the nearest value within the limits  (3)

whose multipliers are renewed each time the simplex has settled: λ_i ← ρ_i (t_i − [t_i]), and ρ_i grows when
a row's miss has not fallen to a quarter                                                              (4)

A fresh simplex has its edges turned, and pointed against the slope of the last one                       (5)

Needs     values.   Handles   bounds, inequalities, equalities (weakly: they make A narrow).
Cost      1 to 2 values per iteration, n + 1 for a new simplex; arithmetic and memory n².
Stops     when the simplex and the spread of A are below the accuracy asked for, the rows are met, the
          multipliers rest, and a fresh simplex around the best design finds nothing better.
Weak      more than about ten variables; equality constraints cost many evaluations.
Source    J. A. Nelder, R. Mead, "A simplex method for function minimization", 1965; (2): F. Gao, L. Han,
          "Implementing the Nelder-Mead simplex algorithm with adaptive parameters", 2012; restarts:
          C. T. Kelley, "Detection and remediation of stagnation in the Nelder-Mead algorithm", 1999;
          (3), (4): M. J. D. Powell, 1969; R. T. Rockafellar, 1973.
Departs   by rebuilding a simplex whose edges have become dependent, as the projection onto bounds makes them.
"""

from __future__ import annotations

import math
from collections.abc import Generator
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Ending, Iterate, Method, Protocol, Reply, Request, Task
from ilvren.methods.pieces.lagrangian import Lagrangian
from ilvren.methods.pieces.options import option
from ilvren.records import dataclass

__all__ = ["METHOD", "NelderMeadOptions"]

FloatArray = NDArray[np.float64]

# A round may rebuild its simplex this often (and n times more), each time with edges of this share, when it has
# lost a dimension or when its best vertex has not gained the accuracy asked for in so many times n iterations.
MOST_REBUILDS, REBUILD_SHARE, IDLE_ROUNDS = 8, 0.25, 30
# A simplex is degenerate when its flattest direction is this small a share of its longest edge.
FLAT_SIMPLEX = 1e-5
# Accuracy of the inner search: A to this share of its size, designs to its root. Each round of (4) asks for
# a thirtieth. Rows need the last: their miss follows the root of the error in A.
FIRST_ACCURACY = 1e-2
LAST_ACCURACY, LAST_ACCURACY_WITH_ROWS = 1e-9, 1e-13
ACCURACY_STEP = 0.03
# Values below this count as zero beside others; no simplex gets smaller than rounding allows.
LEAST_SIZE = 1e-8
SMALLEST_EXTENT = 1e-11
# (4): the share to which a row's miss must fall for its weight to stay, and the growth when it does not.
FALL, GROWTH = 0.25, 10.0
MOST_WEIGHT = 1e12
NOISE_FACTOR = 10.0
# A round begins with edges of at least this: smaller ones creep along the curved valley that rows make of A.
LEAST_EDGE = 1e-3
MOST_ROUNDS = 60
# The rows are met when they miss by this share of what is allowed, and A may differ from f by this share
# of the tolerance: the restart that follows needs room.
MET_SHARE, GAP_SHARE = 0.5, 0.1
# A best vertex that misses its rows by this many sizes has run away; such a value is no end.
RUNAWAY_VIOLATION = 1e3
# A feasible value so many times the first simplex's spread and size below zero is no end, but a fall without one.
UNBOUNDED_FACTOR = 1e14
# A fresh simplex, this share of the first one, tests whether the search had only collapsed.
RESTART_SHARE = 0.1


@dataclass(frozen=True)
class NelderMeadOptions:
    """Options of `nelder-mead`."""

    first_size: float = option(
        0.1, low=1e-6, high=1.0, help="edge of the first simplex, as a share of each variable's size"
    )
    restarts: int = option(3, low=0, high=100, help="most fresh simplexes tried after the search has settled")


@dataclass
class _Simplex:
    """Designs (n + 1, n), best first once sorted, with f (n + 1,) and rows (n + 1, m)."""

    x: FloatArray
    f: FloatArray
    c: FloatArray


def _renewed(lagrangian: Lagrangian, c: FloatArray, misses_before: FloatArray, noise: float) -> Lagrangian:
    """Return A with the multipliers of (4) at rows `c`; `noise` is the error that A was minimized to."""
    # A miss that the inner search could not see is no reason for a greater weight.
    task, weights = lagrangian.task, lagrangian.weights
    unseen = np.maximum(np.sqrt(2.0 * noise / weights), MET_SHARE * task.feasibility * task.row_sizes)
    slow = lagrangian.misses(c) > np.maximum(FALL * misses_before, unseen)
    grown = np.where(slow, np.minimum(GROWTH * weights, MOST_WEIGHT), weights)
    return replace(lagrangian, multipliers=lagrangian.renewed_multipliers(c), weights=grown)  # (4)


def nelder_mead(task: Task, options: NelderMeadOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    simplex = yield from _new_simplex(task, task.start, options.first_size)
    if not (np.isfinite(simplex.f) & np.isfinite(simplex.c).all(axis=1)).any():
        return Ending("invalid", "no design of the first simplex has finite values")
    lagrangian = _first_lagrangian(task, simplex)
    misses = np.full(len(task.row_lower), np.inf)
    has_rows = len(task.row_lower) > 0
    least = LAST_ACCURACY_WITH_ROWS if has_rows else LAST_ACCURACY
    accuracy = FIRST_ACCURACY if has_rows else least
    restarts, settled_value = options.restarts, math.inf
    for round_number in range(1, MOST_ROUNDS + 1):
        before = simplex.x[0].copy()
        ended = yield from _settle(task, lagrangian, simplex, accuracy, round_number)
        if ended == "unbounded":
            return Ending("unbounded", "the objective falls without end at feasible designs")
        if ended == "runaway":  # the rows weigh too little against the objective: start this round again
            lagrangian = replace(lagrangian, weights=np.minimum(GROWTH * lagrangian.weights, MOST_WEIGHT))
            simplex = yield from _new_simplex(task, before, options.first_size)
            continue
        best, here = simplex.x[0].copy(), lagrangian.values(simplex.f[:1], simplex.c[:1])[0]
        is_met = task.violation(simplex.c[0]) <= MET_SHARE * task.feasibility
        size = max(abs(float(simplex.f[0])), LEAST_SIZE)
        if accuracy <= least and is_met and lagrangian.gap(simplex.c[0]) <= GAP_SHARE * task.tolerance * size:
            if settled_value - here <= task.tolerance * size or restarts == 0:
                return Ending(
                    "settled", "the simplex has shrunk to the accuracy asked for and a restart finds nothing better"
                )
            settled_value, restarts = min(settled_value, here), restarts - 1
            edge = RESTART_SHARE * options.first_size
        else:
            noise = NOISE_FACTOR * accuracy * size
            lagrangian, misses = _renewed(lagrangian, simplex.c[0], misses, noise), lagrangian.misses(simplex.c[0])
            accuracy = max(ACCURACY_STEP * accuracy, least)
            settled_value = math.inf
            edge = min(max(10.0 * math.sqrt(accuracy), LEAST_EDGE), options.first_size)
        slope = _simplex_slope(simplex.x, lagrangian.values(simplex.f, simplex.c))
        simplex = yield from _new_simplex(task, best, edge, turned=round_number, slope=slope)
    return Ending("stalled", "the rows' multipliers did not come to rest")


METHOD = Method(
    name="nelder-mead",
    about="adaptive simplex search without derivatives, rows by an augmented Lagrangian",
    kind="derivative-free",
    needs="values",
    handles=frozenset({"bounds", "inequalities", "equalities"}),
    options=NelderMeadOptions,
    run=nelder_mead,
    most_variables=500,
    cost="1 to 2 values per iteration, n + 1 for a new simplex",
    weak="more than about ten variables; equality constraints",
    is_random=True,
)


def _first_lagrangian(task: Task, simplex: _Simplex) -> Lagrangian:
    """Start with multipliers 0 and weights that make a miss weigh like the objective's changes."""
    m = len(task.row_lower)
    finite = simplex.f[np.isfinite(simplex.f)]
    spread = float(finite.max() - finite.min()) if len(finite) else 1.0
    values = abs(float(finite[0])) if len(finite) else 0.0
    size = max(spread, 1e-3 * values, 1e-12)
    floor = min(-UNBOUNDED_FACTOR * max(spread, values, 1e-12), task.low)
    return Lagrangian(task, np.zeros(m), np.clip(10.0 * size / task.row_sizes**2, 1e-10, 1e10), floor)


def _new_simplex(
    task: Task, centre: FloatArray, size: float, *, turned: int = 0, slope: FloatArray | None = None
) -> Generator[Request, Reply, _Simplex]:
    """Return a simplex with edges of `size` along the axes from `centre`, inward where a bound is near.

    With `turned` an orthogonal change of axes, drawn from the seed and this number, replaces the axes; with `slope`
    (n,) they are oriented downhill (5).
    """
    n = len(centre)
    axes = np.eye(n)
    if turned and n > 1:
        axes = np.linalg.qr(np.random.default_rng([task.seed, 11, turned]).normal(size=(n, n)))[0]
    if slope is not None:
        axes = axes * np.where(axes @ slope > 0.0, -1.0, 1.0)[:, np.newaxis]
    points = [centre]
    for axis in axes:
        forward = np.clip(centre + size * axis, task.lower, task.upper)
        backward = np.clip(centre - size * axis, task.lower, task.upper)
        ahead, back = (float(np.linalg.norm(point - centre)) for point in (forward, backward))
        points.append(forward if ahead >= back else backward)
    x = np.array(points)
    if _is_flat(x):  # projection has folded it: fall back to the axes, turned inward
        inward = np.where(centre + size <= task.upper, size, -size)
        x = np.clip(np.vstack([centre, centre + np.diag(inward)]), task.lower, task.upper)
    reply: Reply = yield Request(x)
    return _Simplex(x, reply.objective.copy(), reply.rows.copy())


def _simplex_slope(x: FloatArray, values: FloatArray) -> FloatArray | None:
    """Return the slope of the linear function through the simplex, where it is fixed and finite."""
    if not np.isfinite(values).all() or _is_flat(x):
        return None
    slope: FloatArray = np.linalg.solve(x[1:] - x[0], values[1:] - values[0])
    return slope if np.isfinite(slope).all() else None


def _is_flat(x: FloatArray) -> bool:
    edges = x[1:] - x[0]
    lengths = np.linalg.norm(edges, axis=1)
    longest = float(lengths.max(initial=0.0))
    if not longest > 0.0:
        return True
    return float(np.linalg.svd(edges / longest, compute_uv=False)[-1]) < FLAT_SIMPLEX


def _settle(
    task: Task, lagrangian: Lagrangian, simplex: _Simplex, accuracy: float, round_number: int
) -> Generator[Request | Iterate, Reply, str]:
    """Run (1) on `simplex` in place until its size and the spread of A are below `accuracy`, relative.

    Return "settled", or "runaway" or "unbounded" when A falls without end.
    """
    n = simplex.x.shape[1]
    alpha, beta, gamma, delta = 1.0, 1.0 + 2.0 / n, 0.75 - 0.5 / n, 1.0 - 1.0 / n  # (2)
    if n == 1:
        beta, gamma, delta = 2.0, 0.5, 0.5
    values = lagrangian.values(simplex.f, simplex.c)
    runaway = RUNAWAY_VIOLATION * (1.0 + min(task.violation(c) for c in simplex.c))
    rebuilds, idle, best_value = 0, 0, math.inf
    while True:
        order = np.argsort(values, kind="stable")
        simplex.x, simplex.f, simplex.c = simplex.x[order], simplex.f[order], simplex.c[order]
        values = values[order]
        extent = float(np.abs(simplex.x[1:] - simplex.x[0]).max())
        here = f"round {round_number}" if len(task.row_lower) else "simplex"
        yield Iterate(simplex.x[0], extent, here)
        spread = float(values[-1] - values[0])
        x_size = max(1.0, float(np.abs(simplex.x[0]).max()))
        violation = task.violation(simplex.c[0])
        if violation > runaway:
            return "runaway"
        if values[0] < lagrangian.floor and violation <= task.feasibility:
            return "unbounded"
        if extent <= math.sqrt(accuracy) * x_size and spread <= accuracy * max(abs(float(values[0])), LEAST_SIZE):
            return "settled"
        if extent <= SMALLEST_EXTENT * x_size:
            return "settled"
        idle = 0 if values[0] < best_value - accuracy * max(abs(best_value), LEAST_SIZE) else idle + 1
        best_value = min(best_value, float(values[0]))
        if idle and idle % (2 * n) == 0 and (idle >= IDLE_ROUNDS * n or _is_flat(simplex.x)):
            # It has lost a dimension, or creeps: turn to a fresh simplex, smaller each time, so that this ends.
            rebuilds, idle = rebuilds + 1, 0
            if rebuilds > MOST_REBUILDS + n:
                return "settled"
            edge = max(REBUILD_SHARE * extent, 10.0 * SMALLEST_EXTENT)
            slope = _simplex_slope(simplex.x, values)
            fresh = yield from _new_simplex(task, simplex.x[0], edge, turned=1000 + rebuilds, slope=slope)
            simplex.x, simplex.f, simplex.c = fresh.x, fresh.f, fresh.c
            values = lagrangian.values(simplex.f, simplex.c)
            continue
        centroid = simplex.x[:-1].mean(axis=0)
        away = centroid - simplex.x[-1]

        def at(length: float, centroid: FloatArray = centroid, away: FloatArray = away) -> FloatArray:
            return np.clip(centroid + length * away, task.lower, task.upper)

        reflected = yield from _valued(lagrangian, at(alpha))  # (1)
        if reflected[1] < values[0]:
            expanded = yield from _valued(lagrangian, at(alpha * beta))
            chosen = expanded if expanded[1] < reflected[1] else reflected
        elif reflected[1] < values[-2]:
            chosen = reflected
        else:
            outside = reflected[1] < values[-1]
            contracted = yield from _valued(lagrangian, at(alpha * gamma if outside else -gamma))
            limit = reflected[1] if outside else values[-1]
            if not contracted[1] < limit:
                simplex.x[1:] = simplex.x[0] + delta * (simplex.x[1:] - simplex.x[0])
                reply: Reply = yield Request(simplex.x[1:].copy())
                simplex.f[1:], simplex.c[1:] = reply.objective, reply.rows
                values = lagrangian.values(simplex.f, simplex.c)
                continue
            chosen = contracted
        simplex.x[-1], values[-1] = chosen[0], chosen[1]
        simplex.f[-1], simplex.c[-1] = chosen[2], chosen[3]


def _valued(
    lagrangian: Lagrangian, x: FloatArray
) -> Generator[Request, Reply, tuple[FloatArray, float, float, FloatArray]]:
    reply: Reply = yield Request(x[np.newaxis, :])
    value = float(lagrangian.values(reply.objective, reply.rows)[0])
    return x, value, float(reply.objective[0]), reply.rows[0]
