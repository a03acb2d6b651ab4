"""First-order conditions at a design, measured on the unscaled problem, the same for every method.

With D the sizes of the variables and f̂ the size of the objective, the multipliers of the active limits solve

    minimize over right-signed u   | D (g − A'u) / f̂ |₂                                             (1)

where the rows of A are the gradients of active rows and the unit vectors of active bounds; the stationarity
is the largest component of what remains. A multiplier is the change of the (internal, minimized) objective
per unit by which its limit is moved up. For large problems (1) is solved with sparse matrices; what remains is
measured for the multipliers found, whatever they are, so it is never too small.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import field
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import signed_least_squares, sparse_signed_least_squares
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.evaluate import Evaluation
    from ilvren.problem import Measures, Problem

__all__ = ["Conditions", "active_sides", "conditions_with", "first_order_conditions"]

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]

# Singular values below this share of the largest make active gradients count as dependent.
RANK_TOLERANCE = 1e-8
# A miss counts whole where this or less is allowed.
USUAL_FEASIBILITY = 1e-6
# Beyond so many numbers of active gradients their rank is not computed by singular values, but the least one is
# estimated, by so many inverse iterations; then it must be larger to count.
MOST_RANKED, INVERSE_ITERATIONS, SPARSE_RANK_TOLERANCE = 1_000_000, 8, 1e-6
# A limit this near, in its size, counts as reached by a design of many variables that a method leaves a little inside.
NEARLY_REACHED = 1e-4
# A multiplier that would not change the objective by this share of its size over the limit's whole size is rounding.
ROUNDED_MULTIPLIER = 1e-12


@dataclass(frozen=True, eq=False)
class Conditions:
    """`stationarity` as the page on numbers defines it; `row_sides` (m,) and `bound_sides` (n,): 0 not active,
    −1 at the lower limit, 1 at the upper, 2 an equality; multipliers alike. `rest` (n_free,) is what remains of (1).
    `complementarity` is the largest |multiplier| times the distance from its limit, over f̂: what going exactly there
    would change; a miss counts in proportion to what is allowed."""

    stationarity: float
    complementarity: float
    row_sides: IntArray
    bound_sides: IntArray
    row_multipliers: FloatArray
    bound_multipliers: FloatArray
    rest: FloatArray
    _normals: Callable[[], Any] | None = field(default=None, repr=False, compare=False)

    def meet(self, tolerance: float) -> bool:
        """Return whether stationarity and complementarity are within a tolerance."""
        return self.stationarity <= tolerance and self.complementarity <= tolerance

    @cached_property
    def are_unique(self) -> bool:
        """Return whether the active gradients are independent, so that the multipliers are determined."""
        return self._normals is not None and _independent(self._normals())


def active_sides(values: FloatArray, lower: FloatArray, upper: FloatArray, slack: FloatArray) -> IntArray:
    """Return per value 0, −1 (at its lower limit to within `slack`), 1 (upper) or 2 (an equality). All are (k,)."""
    # Beyond a limit is at it, too: a missed limit still holds the design.
    at_lower = values - lower <= slack
    at_upper = upper - values <= slack
    sides: IntArray = np.where(at_lower, -1, np.where(at_upper, 1, 0))
    return np.where(lower == upper, 2, sides)


def first_order_conditions(
    problem: Problem,
    measures: Measures,
    point: FloatArray,
    evaluation: Evaluation,
    *,
    objective_size: float,
    feasibility: float,
    guess: Conditions | None = None,
) -> Conditions:
    """Measure the conditions at `point` (n,), whose `evaluation` must have finite derivatives.

    Fixed and unused variables do not count. `guess`, the conditions of a design nearby, saves work. Raises ValueError
    without derivatives.
    """
    if evaluation.gradient is None or evaluation.jacobian is None:
        raise ValueError("first-order conditions need derivatives")
    row_sides, bound_sides, free, scale = _setting(problem, measures, point, evaluation, objective_size, feasibility)
    rows = np.flatnonzero(row_sides)
    bounds = free[np.abs(bound_sides[free]) == 1]
    sides = np.concatenate([row_sides[rows], bound_sides[bounds]])
    signs = np.where(sides == 2, 0.0, -sides.astype(float))
    target = evaluation.gradient[free] * scale
    started = None
    if guess is not None:
        started = np.concatenate([guess.row_multipliers[rows], guess.bound_multipliers[bounds]])
    normals = _active_normals(evaluation.jacobian, row_sides, bound_sides, free, scale)
    fit = _multipliers if isinstance(normals, np.ndarray) else _sparse_multipliers
    found = fit(normals, target, signs, started)
    row_multipliers, bound_multipliers = np.zeros(len(row_sides)), np.zeros(len(point))
    if found is None:
        row_multipliers[:], bound_multipliers[:] = np.nan, np.nan
        return Conditions(math.nan, math.nan, row_sides, bound_sides, row_multipliers, bound_multipliers, target)
    row_multipliers[rows], bound_multipliers[bounds] = found[: len(rows)], found[len(rows) :]
    rest = target - normals @ found
    _drop_rounding(measures, point, (row_multipliers, bound_multipliers), objective_size)
    worst = float(np.abs(rest).max(initial=0.0))
    gap = _complementarity(
        measures, point, evaluation, (row_sides, bound_sides), (row_multipliers, bound_multipliers), feasibility
    )
    gap /= objective_size
    return Conditions(worst, gap, row_sides, bound_sides, row_multipliers, bound_multipliers, rest, lambda: normals)


def conditions_with(
    problem: Problem,
    measures: Measures,
    point: FloatArray,
    evaluation: Evaluation,
    multipliers: FloatArray,
    *,
    objective_size: float,
    feasibility: float,
    tolerance: float,
) -> Conditions:
    """Measure what remains of (1) for given `multipliers` (m,), as far as their signs are right; the bounds take what
    they may. Limits that are not quite reached count when they are within NEARLY_REACHED of their size and Σ
    |multiplier| · distance over all of them is at most `tolerance` times the size of the objective: no convex problem
    has more to gain. So do limits that are farther off, which stay not active, where going there is worth an equal
    share of that at most, and the limit's whole size no more than it all. Quick at any size."""
    row_sides, bound_sides, free, scale = _setting(problem, measures, point, evaluation, objective_size, feasibility)
    assert evaluation.gradient is not None
    allowed = tolerance * objective_size
    own, row_sides = _as_far_as_right(measures, evaluation.rows, multipliers, row_sides, allowed)
    rest = evaluation.gradient - evaluation.jacobian.T @ own
    gaps = np.where(rest > 0.0, point - measures.lower, measures.upper - point)
    if np.isfinite(gaps).any():
        close = gaps <= NEARLY_REACHED * measures.bound_sizes(point)
        close &= (measures.lower < measures.upper) & (bound_sides == 0)
        close &= np.abs(rest) * measures.variable_sizes(point) > ROUNDED_MULTIPLIER * objective_size
        close[close] = np.abs(rest[close]) * gaps[close] <= allowed / max(len(point), 1)
        bound_sides = np.where(close & (rest != 0.0), np.where(rest > 0.0, -1, 1), bound_sides)
    bound_multipliers = np.where((bound_sides != 2) & (bound_sides * rest < 0.0), rest, 0.0)
    rest = (rest - bound_multipliers)[free] * scale
    worst = float(np.abs(rest).max(initial=0.0))
    gap = _complementarity(measures, point, evaluation, (row_sides, bound_sides), (own, bound_multipliers), feasibility)
    _drop_rounding(measures, point, (own, bound_multipliers), objective_size)
    return Conditions(
        worst,
        gap / objective_size,
        row_sides,
        bound_sides,
        own,
        bound_multipliers,
        rest,
        lambda: _active_normals(evaluation.jacobian, row_sides, bound_sides, free, scale),
    )


def _as_far_as_right(
    measures: Measures, rows: FloatArray, multipliers: FloatArray, row_sides: IntArray, allowed: float
) -> tuple[FloatArray, IntArray]:
    """Return the multipliers (m,) of rows that count, 0 the others, and the sides (m,) of rows with those that are
    nearly reached; what limits that are not reached are worth, multiplier · distance, is `allowed` in all."""
    given = np.where(np.isfinite(multipliers), multipliers, 0.0)
    counts = (row_sides == 2) | (row_sides * given < 0.0)
    off = np.flatnonzero(~counts & (given != 0.0))
    if not len(off):
        return given, row_sides
    size, is_lower = np.abs(given[off]), given[off] > 0.0
    distance = np.where(is_lower, rows[off] - measures.row_lower[off], measures.row_upper[off] - rows[off])
    distance = np.maximum(distance, 0.0)
    near = distance <= NEARLY_REACHED * measures.row_sizes[off]
    if float(size[near] @ distance[near]) > allowed:
        near[:] = False
    is_slight = size * np.maximum(distance * len(given), measures.row_sizes[off]) <= allowed
    counts[off] = near | is_slight
    row_sides = row_sides.copy()
    row_sides[off[near]] = np.where(is_lower[near], -1, 1)
    return np.where(counts, given, 0.0), row_sides


def _drop_rounding(
    measures: Measures, point: FloatArray, multipliers: tuple[FloatArray, FloatArray], objective_size: float
) -> None:
    """Set multipliers to 0 in place that are nothing but rounding: they are no prices."""
    for u, sizes in zip(multipliers, (measures.row_sizes, measures.variable_sizes(point)), strict=True):
        u[np.abs(u) * sizes <= ROUNDED_MULTIPLIER * objective_size] = 0.0


def _complementarity(
    measures: Measures,
    point: FloatArray,
    evaluation: Evaluation,
    sides: tuple[IntArray, IntArray],
    multipliers: tuple[FloatArray, FloatArray],
    feasibility: float,
) -> float:
    """Return the largest |multiplier| · distance from the limit."""
    worst, share = 0.0, min(1.0, USUAL_FEASIBILITY / feasibility)
    limits = ((measures.row_lower, measures.row_upper), (measures.lower, measures.upper))
    for values, (low, high), sides_of, multipliers_of in zip(
        (evaluation.rows, point), limits, sides, multipliers, strict=True
    ):
        places = np.flatnonzero((multipliers_of != 0.0) & (sides_of != 0))
        side, value = sides_of[places], values[places]
        margin = np.where(side == 1, high[places] - value, value - low[places])
        margin = np.where(side == 2, -np.abs(margin), margin)
        distance = np.where(margin > 0.0, margin, -share * margin)
        worst = max(worst, float(np.max(np.abs(multipliers_of[places]) * distance, initial=0.0)))
    return worst


def _setting(
    problem: Problem,
    measures: Measures,
    point: FloatArray,
    evaluation: Evaluation,
    objective_size: float,
    feasibility: float,
) -> tuple[IntArray, IntArray, IntArray, FloatArray]:
    """Return the sides of rows and bounds, the free variables, and their sizes over that of the objective."""
    free = problem.continuous_places  # members are held: between them there is nothing
    sizes = measures.variable_sizes(point)
    row_sides = active_sides(evaluation.rows, measures.row_lower, measures.row_upper, feasibility * measures.row_sizes)
    reach = feasibility * measures.bound_sizes(point)
    bound_sides = active_sides(point, measures.lower, measures.upper, reach)
    return row_sides, bound_sides, free, sizes[free] / objective_size


def _active_normals(
    jacobian: Any, row_sides: IntArray, bound_sides: IntArray, free: IntArray, scale: FloatArray
) -> Any:
    """Return the gradients (n_free, k) of active rows, then of active bounds, each variable times its scale."""
    rows, places = np.flatnonzero(row_sides), np.flatnonzero(np.abs(bound_sides[free]) == 1)
    if isinstance(jacobian, np.ndarray):
        normals: FloatArray = np.zeros((len(free), len(rows) + len(places)))
        normals[:, : len(rows)] = (jacobian[np.ix_(rows, free)] * scale).T
        normals[places, len(rows) + np.arange(len(places))] = scale[places]
        return normals
    from scipy.sparse import csr_array, diags_array, hstack

    own = jacobian[rows]
    own = own if len(free) == jacobian.shape[1] else own[:, free]
    units = csr_array((scale[places], (places, np.arange(len(places)))), shape=(len(free), len(places)))
    return hstack([(own @ diags_array(scale)).T, units], format="csr")


def _multipliers(
    normals: FloatArray, target: FloatArray, signs: FloatArray, guess: FloatArray | None
) -> FloatArray | None:
    """Return the multipliers, or None where the numbers allow no answer."""
    if not (np.isfinite(target).all() and np.isfinite(normals).all()):
        return None
    try:
        return signed_least_squares(normals, target, signs, guess=None if guess is None else guess != 0.0)
    except np.linalg.LinAlgError:
        return None


def _sparse_multipliers(
    normals: Any, target: FloatArray, signs: FloatArray, guess: FloatArray | None
) -> FloatArray | None:
    if not (np.isfinite(target).all() and np.isfinite(normals.data).all()):
        return None
    return sparse_signed_least_squares(normals, target, signs, guess)


def _independent(normals: Any) -> bool:
    n, k = normals.shape
    if k == 0:
        return True
    if k > n:
        return False
    if not isinstance(normals, np.ndarray):
        if n * k > MOST_RANKED:
            return _independent_sparse(normals)
        normals = normals.toarray()
    lengths = np.linalg.norm(normals, axis=0)
    if not (lengths > 0.0).all():
        return False
    values = np.linalg.svd(normals / lengths, compute_uv=False)
    return bool(values[-1] > RANK_TOLERANCE * values[0])


def _independent_sparse(normals: Any) -> bool:
    """Estimate the least singular value of unit columns by inverse iteration on their products."""
    from scipy.sparse import csc_array, diags_array
    from scipy.sparse.linalg import splu

    lengths = np.sqrt(np.asarray(normals.multiply(normals).sum(axis=0)).ravel())
    if not (np.isfinite(lengths).all() and (lengths > 0.0).all()):
        return False
    unit = normals @ diags_array(1.0 / lengths)
    products = csc_array(unit.T @ unit)
    k = products.shape[0]
    try:
        factor = splu(products + diags_array(np.full(k, SPARSE_RANK_TOLERANCE**2 * 1e-2)).tocsc())
    except RuntimeError:
        return False
    v = np.random.default_rng(0).normal(size=k)
    for _ in range(INVERSE_ITERATIONS):
        v = factor.solve(v / np.linalg.norm(v))
        if not np.isfinite(v).all():
            return False
    return bool(1.0 / np.linalg.norm(v) > SPARSE_RANK_TOLERANCE**2)
