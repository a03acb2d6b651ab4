"""Least squares with signs: the multipliers of active limits, found independently of any method."""

from __future__ import annotations

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
# Rounds of the sparse search for signs, and the curvature that stands in for independence.
SPARSE_ROUNDS, SPARSE_DAMPING = 30, 1e-10


def signed_least_squares(
    matrix: FloatArray, target: FloatArray, signs: FloatArray, *, guess: NDArray[np.bool_] | None = None
) -> FloatArray:
    """Return u (k,) minimizing |matrix·u − target|₂ with u·sign ≥ 0 where a sign is not 0.

    `matrix` (n, k), `target` (n,), `signs` (k,) of −1, 0 (free), 1. Dependent columns are allowed. `guess` (k,) says
    which u are thought not to be 0.

    Source: C. L. Lawson, R. J. Hanson, "Solving Least Squares Problems", 1974, chapter 23 (NNLS).
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
    if guess is not None and (guess & ~free).any():
        trial = np.zeros(k)
        trial[passive | guess] = _solve(turned[:, passive | guess], target)
        if (trial[guess & ~free] > 0.0).all():
            passive, u = passive | guess, trial
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
    """Return u (k,) as `signed_least_squares` does, for a sparse `matrix` (n, k): nearly the least, always right-signed.

    Free and passive columns solve the normal equations in the form (r, u) of `kkt`; columns of wrong sign leave, columns
    with a promising dual enter, all at once, until nothing changes. `guess` (k,): the columns to begin with.

    Source: J. J. Júdice, F. M. Pires, "A block principal pivoting algorithm for large-scale strictly monotone linear
    complementarity problems", 1994.
    """
    from scipy.sparse import csr_array

    n, k = matrix.shape
    if k == 0 or n == 0:
        return np.zeros(k)
    turn = np.where(signs < 0.0, -1.0, 1.0)
    free = signs == 0.0
    lengths = np.sqrt(np.asarray((matrix.multiply(matrix)).sum(axis=0))).ravel()
    scale = np.where(lengths > 0.0, lengths, 1.0)
    columns = matrix.tocsc() * (turn / scale)[np.newaxis, :]
    columns = columns.tocsc()
    begun = np.ones(k, dtype=bool) if guess is None else guess * turn > 0.0
    passive = free | begun
    threshold = DUAL_TOLERANCE * max(float(np.linalg.norm(target)), 1e-300)
    best, best_rest = np.zeros(k), np.inf
    nothing = csr_array((n, n))
    for _ in range(SPARSE_ROUNDS):
        u = np.zeros(k)
        own = columns[:, passive]
        count = own.shape[1]
        system = KktSystem(n, count, is_sparse=True)
        found = system.factored(nothing, np.ones(n), csr_array(own.T), np.full(count, SPARSE_DAMPING)).solve(
            target, np.zeros(count)
        )
        if found is None:
            break
        u[passive] = found[1]
        right = np.where(free, u, np.maximum(u, 0.0))
        rest = target - columns @ right
        size = float(np.linalg.norm(rest))
        if size < best_rest:
            best, best_rest = right, size
        dual = columns.T @ rest
        wrong = passive & ~free & (u < 0.0)
        promising = ~passive & (dual > threshold)
        if not wrong.any() and not promising.any():
            break
        passive = (passive & ~wrong) | promising
    return best / scale * turn
