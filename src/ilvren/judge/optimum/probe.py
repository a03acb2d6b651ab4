"""Looking for a better feasible design near a given one, by trying."""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import cache
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import KktSystem
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.evaluate import Evaluation, Gate
    from ilvren.problem import Measures

__all__ = ["Better", "Probe", "gain_over", "probe_around", "restored"]

FloatArray = NDArray[np.float64]

# Steps back onto the limits after a move along them, by derivatives of their own; those of a design near by are of use
# while each step leaves this share of the violation at most.
RESTORATIONS, NEARER = 4, 0.1
# Designs tried around one of very many variables.
LARGE_SAMPLES = 12
# Beyond so many free variables one radius and so many random designs are enough beside those along every variable.
MANY, FEW_SAMPLES = 30, 12


@dataclass(frozen=True)
class Better:
    """A feasible design that beats another by `gain` (internal objective, net of what slack in the limits is worth)."""

    point: FloatArray
    objective: float
    gain: float
    violation: float


@dataclass(frozen=True)
class Probe:
    """How many feasible designs were tried within `radius` (a share of the variables' sizes), and the best of
    those that gained more than asked."""

    tried: int
    radius: float
    better: Better | None


def gain_over(measures: Measures, here: Evaluation, there: Evaluation, prices: FloatArray) -> float:
    """Return by how much `there` beats `here` (internal objective), less what its larger misses of the limits
    are worth at `prices` (m,): a design may not win by using up the tolerance."""
    if not there.is_finite:
        return -math.inf
    extra = np.maximum(measures.row_misses(there.rows) - measures.row_misses(here.rows), 0.0)
    worth = np.abs(np.nan_to_num(prices)) * extra
    return float(here.objective - there.objective - worth.sum())


def probe_around(
    gate: Gate,
    measures: Measures,
    point: FloatArray,
    *,
    sizes: FloatArray,
    prices: FloatArray,
    radii: tuple[float, ...],
    feasibility: float,
    least_gain: float,
    directions: list[FloatArray],
    samples: int,
    slack: float = 1e-3,
    seed: int = 0,
) -> Probe:
    """Try feasible designs around `point` (n,), in `sizes` (n,) of the variables: along `directions` (n,) of unit
    size, along every variable, and `samples` random ones, at every radius. Moves are brought back to limits they
    break, where derivatives allow, as far as `slack` times the feasibility, or the design's own misses."""
    free = gate.problem.continuous_places
    here = gate.evaluate(point)
    n = len(point)
    if gate.is_sparse:  # every variable alone would take longer than the run
        samples, radii, units = LARGE_SAMPLES, radii[:1], []
    elif len(free) > MANY:
        samples, radii, units = min(samples, FEW_SAMPLES), radii[:1], [np.eye(n)[i] for i in free]
    else:
        units = [np.eye(n)[i] for i in free]
    random = np.zeros((samples, n))
    draws = np.random.default_rng([seed, 5]).normal(size=(samples, len(free)))
    lengths = np.abs(draws).max(axis=1, keepdims=True) if len(free) else 1.0
    random[:, free] = draws / lengths
    moves = [sign * unit for unit in (*directions, *units) for sign in (1.0, -1.0)] + list(random)
    allowed = min(max(measures.violation(point, here.rows), slack * feasibility), feasibility)
    # Asked for once, and only where a design has to be brought back: a program may take its time for them.
    known = cache(lambda: gate.evaluate(point, derivatives=True))
    tried, best = 0, None
    for radius in radii:
        for move in moves:
            there = np.clip(point + radius * move * sizes, measures.lower, measures.upper)
            there, evaluation = restored(gate, measures, there, free, sizes, allowed, near=known)
            violation = measures.violation(there, evaluation.rows)
            if not violation <= allowed or not evaluation.is_finite or np.array_equal(there, point):
                continue
            if float((np.abs(there - point) / sizes).max()) > 3.0 * radius:
                continue  # the way back led elsewhere
            tried += 1
            gain = gain_over(measures, here, evaluation, prices)
            if gain > least_gain and (best is None or gain > best.gain):
                best = Better(there, evaluation.objective, gain, violation)
    return Probe(tried, max(radii), best)


def restored(
    gate: Gate,
    measures: Measures,
    point: FloatArray,
    free: NDArray[np.int64],
    sizes: FloatArray,
    allowed: float,
    *,
    near: Callable[[], Evaluation] | None = None,
) -> tuple[FloatArray, Evaluation]:
    """Return the point moved to meet its rows by a few least-norm Newton steps: first with the derivatives of a design
    that is `near`, asked for where a step is needed, and where these do not suffice with its own. Shapes: point and
    sizes (n,), free (f,)."""
    evaluation = gate.evaluate(point)
    turns, before = RESTORATIONS, math.inf
    while turns and evaluation.is_finite:
        violation = measures.violation(point, evaluation.rows)
        if violation <= allowed:
            break
        near = near if violation <= NEARER * before else None  # it is of no use here
        before = violation
        misses = evaluation.rows - np.clip(evaluation.rows, measures.row_lower, measures.row_upper)
        broken = np.flatnonzero(misses)
        slopes = None if near is None else near()
        if slopes is None or not slopes.has_finite_derivatives:
            near, turns = None, turns - 1
            slopes = evaluation = gate.evaluate(point, derivatives=True)
        if not slopes.has_finite_derivatives or not len(broken):
            break
        assert slopes.jacobian is not None
        step = _least_norm(slopes.jacobian, broken, free, sizes, -misses[broken])
        if step is None:
            break
        point = point.copy()
        point[free] += step * sizes[free]
        point = np.clip(point, measures.lower, measures.upper)
        evaluation = gate.evaluate(point)
    return point, evaluation


def _least_norm(
    jacobian: Any, broken: NDArray[np.int64], free: NDArray[np.int64], sizes: FloatArray, goal: FloatArray
) -> FloatArray | None:
    """Return the shortest step (n_free,), in sizes, that changes the broken rows by `goal`."""
    if isinstance(jacobian, np.ndarray):
        normals = jacobian[np.ix_(broken, free)] * sizes[free]
        if not np.isfinite(normals).all():
            return None
        return np.asarray(np.linalg.lstsq(normals, goal, rcond=None)[0], dtype=np.float64)
    from scipy.sparse import csr_array, diags_array

    normals = csr_array(jacobian[broken][:, free] @ diags_array(sizes[free]))
    k, n = normals.shape
    size = float(np.abs(normals.data).max(initial=1e-300))
    factor = KktSystem(n, k, is_sparse=True).factored(
        csr_array((n, n)), np.ones(n), normals, np.full(k, 1e-8 * size * size)
    )
    found = factor.solve(np.zeros(n), goal)
    return None if found is None else found[0]
