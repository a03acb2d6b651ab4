"""Least squares with signs: the multipliers of active limits, found independently of any method."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra.kkt import KktSystem

__all__ = ["signed_least_squares", "sparse_signed_least_squares"]

FloatArray = NDArray[np.float64]

# A dual component counts as positive above this share of its column's length times the target's.
DUAL_TOLERANCE = 1e-12
# Each sweep adds a column; columns may leave and return, but not for ever.
SWEEPS_PER_COLUMN = 3
# Steps of the sparse search, the curvature that stands in for independence, and u'z at its end over |t|².
SPARSE_ROUNDS, SPARSE_DAMPING, SPARSE_GAP = 60, 1e-12, 1e-18
# Of more columns than this all that promise something are begun with, less those that come out wrong, so often.
MANY, PRUNINGS = 30, 12


def signed_least_squares(
    matrix: FloatArray, target: FloatArray, signs: FloatArray, *, guess: NDArray[np.bool_] | None = None
) -> FloatArray:
    """Return u (k,) minimizing |matrix·u − target|₂ with u·sign ≥ 0 where a sign is not 0.

    `matrix` (n, k), `target` (n,), `signs` (k,) of −1, 0 (free), 1. Dependent columns are allowed. `guess` (k,) says
    which u are thought not to be 0.

    Source: C. L. Lawson, R. J. Hanson, "Solving Least Squares Problems", 1974, chapter 23; many columns at once after
    L. F. Portugal, J. J. Júdice, L. N. Vicente, Mathematics of Computation 63, 1994, pages 625–643.
    """
    n, k = matrix.shape
    if k == 0 or n == 0:
        return np.zeros(k)
    turned = matrix * np.where(signs < 0.0, -1.0, 1.0)
    lengths = np.linalg.norm(turned, axis=0)
    scale = np.where(lengths > 0.0, lengths, 1.0)
    turned = turned / scale
    free = signs == 0.0
    passive = free.copy()
    u: FloatArray = np.zeros(k)
    guess = turned.T @ target > 0.0 if guess is None and k > MANY else guess
    for _ in range(PRUNINGS if k > MANY else 1):  # one by one, many columns would take as many factorizations
        if guess is None or not (guess & ~free).any():
            break
        trial = np.zeros(k)
        trial[passive | guess] = _solve(turned[:, passive | guess], target)
        wrong = guess & ~free & (trial <= 0.0)
        if not wrong.any():
            passive, u = passive | guess, trial
            break
        guess = guess & ~wrong
    if passive.any() and not u.any():
        u[passive] = _solve(turned[:, passive], target)
    threshold = DUAL_TOLERANCE * max(float(np.linalg.norm(target)), 1e-300)
    barred = np.zeros(k, dtype=bool)
    for _ in range(SWEEPS_PER_COLUMN * k + 10):
        dual = turned.T @ (target - turned @ u)
        candidates = ~passive & ~barred & (dual > threshold)
        if not candidates.any():
            break
        entering = int(np.argmax(np.where(candidates, dual, -np.inf)))
        passive[entering] = True
        while True:
            trial = np.zeros(k)
            trial[passive] = _solve(turned[:, passive], target)
            negative = passive & ~free & (trial <= 0.0)
            if not negative.any():
                u = trial
                barred[:] = False
                break
            if negative[entering] and u[entering] == 0.0:
                # Rounding only: the column would leave at once. Bar it until something else changes.
                passive[entering] = False
                barred[entering] = True
                break
            ratios = np.full(k, np.inf)
            ratios[negative] = u[negative] / (u[negative] - trial[negative])
            u = np.asarray(u + float(ratios.min()) * (trial - u), dtype=np.float64)
            leaving = negative & ((u <= 0.0) | (ratios == ratios.min()))
            u[leaving] = 0.0
            passive &= ~leaving
    return u / scale * np.where(signs < 0.0, -1.0, 1.0)


def _solve(matrix: FloatArray, target: FloatArray) -> FloatArray:
    solution: FloatArray = np.asarray(np.linalg.lstsq(matrix, target, rcond=None)[0], dtype=np.float64)
    return solution


def sparse_signed_least_squares(
    matrix: Any, target: FloatArray, signs: FloatArray, guess: FloatArray | None = None
) -> FloatArray:
    """Return u (k,) as `signed_least_squares` does, for a sparse `matrix` N (n, k): nearly the least, always
    right-signed. `guess` (k,): where the search begins.

    A primal-dual interior point method on N'(Nu − t) = z, u z = μ, u ≥ 0, z ≥ 0 (only the first for free columns),
    whose steps (N'N + Z/U) du = N'(t − Nu) + μ/u are solved in the KKT form of `kkt`; then the columns that are
    plainly not 0 are solved for once more as equations.

    Source: S. J. Wright, "Primal-Dual Interior-Point Methods", 1997, chapter 5; with one centring rule, Mehrotra's.
    """
    from scipy.sparse import csr_array

    n, k = matrix.shape
    if k == 0 or n == 0 or not target.any():
        return np.zeros(k)
    turn = np.where(signs < 0.0, -1.0, 1.0)
    free = signs == 0.0
    lengths = np.sqrt(np.asarray((matrix.multiply(matrix)).sum(axis=0))).ravel()
    scale = np.where(lengths > 0.0, lengths, 1.0)
    columns = csr_array(matrix.tocsc() * (turn / scale)[np.newaxis, :])
    across = csr_array(columns.T)
    system, nothing, ones = KktSystem(n, k, is_sparse=True), csr_array((n, n)), np.ones(n)
    size = max(float(np.linalg.norm(target)), 1e-300)
    u = np.where(free, 0.0, size / math.sqrt(k)) if guess is None else guess * turn * scale
    u = np.where(free, u, np.maximum(u, 1e-3 * size / math.sqrt(k)))
    z = np.where(free, 0.0, size / math.sqrt(k))
    held = max(int((~free).sum()), 1)
    best, best_rest = np.zeros(k), size
    for _ in range(SPARSE_ROUNDS):
        rest = target - columns @ u
        if float(np.linalg.norm(rest)) < best_rest:
            best, best_rest = u, float(np.linalg.norm(rest))
        gap = float(u[~free] @ z[~free]) / held
        bottom = np.where(free, SPARSE_DAMPING, z / np.where(free, 1.0, u) + SPARSE_DAMPING)
        factor = system.factored(nothing, ones, across, bottom)
        slope = columns.T @ rest
        aimed = factor.solve(np.zeros(n), -slope)
        if aimed is None:
            break
        after = _gap_after(u, z, aimed[1], -z - z * aimed[1] / np.where(free, 1.0, u), free, held)
        mu = gap * min(1.0, after / gap) ** 3 if gap > 0.0 else 0.0
        found = factor.solve(np.zeros(n), -(slope + np.where(free, 0.0, mu / np.where(free, 1.0, u))))
        if found is None:
            break
        du = found[1]
        dz = np.where(free, 0.0, mu / np.where(free, 1.0, u) - z - z * du / np.where(free, 1.0, u))
        u = u + 0.995 * _longest(u, du, free) * du
        z = z + 0.995 * _longest(z, dz, free) * dz
        if gap <= SPARSE_GAP * size * size / held:
            break
    plain = free | (best > z)
    solved = _on_columns(columns, target, plain, free)
    if solved is not None and float(np.linalg.norm(target - columns @ solved)) <= best_rest:
        best = solved
    return best / scale * turn


def _longest(values: FloatArray, change: FloatArray, free: NDArray[np.bool_]) -> float:
    """Return the longest α ≤ 1 that keeps `values` from falling below 0."""
    down = ~free & (change < 0.0)
    return float(min(1.0, np.min(values[down] / -change[down], initial=np.inf)))


def _gap_after(
    u: FloatArray, z: FloatArray, du: FloatArray, dz: FloatArray, free: NDArray[np.bool_], held: int
) -> float:
    one = u + _longest(u, du, free) * du
    other = z + _longest(z, dz, free) * dz
    return max(float(one[~free] @ other[~free]) / held, 0.0)


def _on_columns(
    columns: Any, target: FloatArray, plain: NDArray[np.bool_], free: NDArray[np.bool_]
) -> FloatArray | None:
    """Return u with the `plain` columns solved for as equations, wrong signs set to 0."""
    from scipy.sparse import csr_array

    n, k = columns.shape
    own = csr_array(columns[:, np.flatnonzero(plain)].T)
    count = own.shape[0]
    if not count:
        return None
    system = KktSystem(n, count, is_sparse=True)
    found = system.factored(csr_array((n, n)), np.ones(n), own, np.full(count, SPARSE_DAMPING)).solve(
        target, np.zeros(count)
    )
    if found is None:
        return None
    u = np.zeros(k)
    u[plain] = found[1]
    return np.where(free, u, np.maximum(u, 0.0))
