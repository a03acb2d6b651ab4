"""Symmetric indefinite systems of constrained Newton steps, factored with their inertia.

    [ H + S    J' ] [dx]   [r1]
    [ J       −D  ] [dy] = [r2]                                                            (1)

H (n, n) symmetric, S ≥ 0 a diagonal, J (m, n), D ≥ 0 a diagonal. A step of (1) descends when the matrix has n positive
and m negative eigenvalues. Dense matrices: LAPACK's Bunch–Kaufman factorization, the inertia from its 1×1 and 2×2
blocks. Sparse ones: SuperLU with a symmetric ordering and pivots taken from the diagonal, which gives the inertia
only where no structural zero is factored: every row of D is kept at least DELTA, every row of H + S as well, steps are
refined against the matrix as given, and a factorization is trusted only when the permutations of its rows and columns
agree. Rows with D > 0 and few non-zeros may be folded into H, as H + J'D⁻¹J, which is smaller and refined alike.

Source: J. R. Bunch, L. Kaufman, "Some stable methods for calculating inertia and solving symmetric linear systems",
1977; R. J. Vanderbei, "Symmetric quasidefinite matrices", 1995.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["KktFactor", "KktSystem"]

FloatArray = NDArray[np.float64]

# What stands on the diagonal where a zero would be factored, and the share of the largest entry that a pivot must have.
DELTA, LEAST_DIAGONAL = 1e-8, 1e-3
TINY_PIVOT = 1e-17
# The least D of a row that is folded into H.
LEAST_CONDENSED = 1e-14
# Refinement ends at this share of the right-hand side, or when a step no longer halves the rest.
REFINED, MOST_REFINEMENTS = 1e-12, 6
# A solution with a larger rest than this share is not one.
ACCEPTED_REST = 1e-5


class KktFactor:
    """A factorization of (1). `has_inertia`: n positive and m negative eigenvalues, and a trusted factorization;
    `is_singular`: a pivot all but vanished."""

    def __init__(self, system: KktSystem, hessian: Any, top: FloatArray, jacobian: Any, bottom: FloatArray) -> None:
        self._n, self._m = system.n, system.m
        self._hessian, self._jacobian = hessian, jacobian
        self._top, self._bottom = top, bottom
        self.has_inertia, self.is_singular = False, True
        self._solve: Any = None
        if system.is_sparse:
            self._factor_sparse(system, hessian, top, jacobian, bottom)
        else:
            self._factor_dense(hessian, top, jacobian, bottom)

    def _factor_dense(self, hessian: FloatArray, top: FloatArray, jacobian: FloatArray, bottom: FloatArray) -> None:
        from scipy.linalg.lapack import dsytrf, dsytrs

        n, m = self._n, self._m
        matrix = np.zeros((n + m, n + m), order="F")
        matrix[:n, :n] = hessian
        matrix[n:, :n] = jacobian
        places = np.arange(n + m)
        matrix[places, places] += np.concatenate([top, -bottom])
        if not np.isfinite(matrix).all():
            return
        # Near the end rows differ in size by many powers of ten: their diagonals, or largest entries, are made 1 first.
        size = np.maximum(np.abs(matrix[places, places]), np.abs(matrix).max(axis=1, initial=0.0) * LEAST_DIAGONAL)
        size = np.maximum(size, np.abs(matrix).max(axis=0, initial=0.0) * LEAST_DIAGONAL)
        scale = 1.0 / np.sqrt(np.where(size > 0.0, size, 1.0))
        factor, pivots, info = dsytrf(matrix * scale * scale[:, np.newaxis], lower=1)
        if info < 0:
            return
        positive, negative, least = _inertia(factor, pivots)
        self.is_singular = info > 0 or not least > TINY_PIVOT
        self.has_inertia = not self.is_singular and (positive, negative) == (n, m)
        self._solve = lambda rhs: scale * dsytrs(factor, pivots, scale * rhs, lower=1)[0]

    def _factor_sparse(
        self, system: KktSystem, hessian: Any, top: FloatArray, jacobian: Any, bottom: FloatArray
    ) -> None:
        from scipy.sparse.linalg import splu

        if system.condensed is None:
            matrix = system.assembled(hessian, top, jacobian, np.maximum(bottom, DELTA))
        else:
            matrix = self._condensed(system, hessian, top, jacobian, bottom)
        if not np.isfinite(matrix.data).all():
            return
        try:
            factor = splu(matrix, permc_spec="MMD_AT_PLUS_A", diag_pivot_thresh=0.0, options={"SymmetricMode": True})
        except RuntimeError:  # exactly singular
            return
        pivots = factor.U.diagonal()
        self.is_singular = not np.isfinite(pivots).all()
        is_symmetric = np.array_equal(factor.perm_r, factor.perm_c)
        self.has_inertia = is_symmetric and not self.is_singular and int((pivots > 0.0).sum()) == self._n
        self._solve = factor.solve if system.condensed is None else self._by_condensed(system, factor.solve)

    def _condensed(self, system: KktSystem, hessian: Any, top: FloatArray, jacobian: Any, bottom: FloatArray) -> Any:
        """Return the matrix with the condensed rows folded into H: H + J_I' D_I⁻¹ J_I."""
        from scipy.sparse import csr_array

        inner, kept = system.condensed, system.kept
        self._own = jacobian[inner]
        self._weights = 1.0 / np.maximum(bottom[inner], LEAST_CONDENSED)
        weighted = csr_array(
            (self._own.data * np.repeat(self._weights, np.diff(self._own.indptr)), self._own.indices, self._own.indptr),
            shape=self._own.shape,
        )
        folded = csr_array(hessian + csr_array(self._own.T) @ weighted)
        return system.assembled(folded, top, jacobian[kept], np.maximum(bottom[kept], DELTA))

    def _by_condensed(self, system: KktSystem, solve: Any) -> Any:
        """Return a function that solves (1) by its condensed form."""
        inner, kept, n = system.condensed, system.kept, self._n
        assert inner is not None
        own, weights = self._own, self._weights

        def solved(rhs: FloatArray) -> FloatArray:
            x, y = rhs[:n], rhs[n:]
            part = solve(np.concatenate([x + own.T @ (weights * y[inner]), y[kept]]))
            found = np.empty(len(rhs))
            found[:n] = part[:n]
            found[n + kept] = part[n:]
            found[n + inner] = weights * (own @ part[:n] - y[inner])
            return found

        return solved

    def solve(self, top: FloatArray, bottom: FloatArray) -> tuple[FloatArray, FloatArray] | None:
        """Return (dx, dy) of (1) for right-hand sides (n,) and (m,), refined against the matrix as given, or None where
        the numbers break down."""
        if self._solve is None:
            return None
        rhs = np.concatenate([top, bottom])
        goal = float(np.abs(rhs).max(initial=0.0))
        best, best_rest = None, np.inf
        found = np.zeros(len(rhs))
        rest = rhs
        for _ in range(MOST_REFINEMENTS):
            found = found + self._solve(rest)
            rest = rhs - self._times(found)
            left = float(np.abs(rest).max(initial=0.0))
            if not left < 0.5 * best_rest:
                if left < best_rest:
                    best, best_rest = found, left
                break
            best, best_rest = found, left
            if left <= REFINED * goal:
                break
        if best is None or not best_rest <= ACCEPTED_REST * max(goal, float(np.abs(best).max(initial=0.0)) * DELTA):
            return None
        return best[: self._n], best[self._n :]

    def _times(self, v: FloatArray) -> FloatArray:
        x, y = v[: self._n], v[self._n :]
        return np.concatenate(
            [self._hessian @ x + self._top * x + self._jacobian.T @ y, self._jacobian @ x - self._bottom * y]
        )


class KktSystem:
    """The shape of a family of systems (1): n variables, m rows, dense or sparse. Sparse patterns may differ from one
    system to the next; where they do not, their places in the matrix are found once."""

    def __init__(self, n: int, m: int, *, is_sparse: bool, condensed: NDArray[np.bool_] | None = None) -> None:
        """`condensed` (m,) names rows with few non-zeros and D > 0 always, which are folded into H where that is the
        smaller matrix."""
        self.n, self.m, self.is_sparse = n, m, is_sparse
        use = is_sparse and condensed is not None and condensed.any()
        self.condensed = np.flatnonzero(condensed) if use and condensed is not None else None
        self.kept = np.flatnonzero(~condensed) if use and condensed is not None else np.arange(m)
        self._key: tuple[Any, ...] = ()
        self._pattern: Any = None
        self._order: NDArray[np.int64] = np.zeros(0, dtype=np.int64)

    def factored(self, hessian: Any, top: FloatArray, jacobian: Any, bottom: FloatArray) -> KktFactor:
        """Return the factorization for H, the diagonals `top` (n,) = S and `bottom` (m,) = D, and J."""
        return KktFactor(self, hessian, top, jacobian, bottom)

    def assembled(self, hessian: Any, top: FloatArray, jacobian: Any, bottom: FloatArray) -> Any:
        """Return the sparse matrix of (1) in CSC form."""
        key = (hessian.indptr, hessian.indices, jacobian.indptr, jacobian.indices)
        is_known = bool(self._key) and all(a is b or np.array_equal(a, b) for a, b in zip(self._key, key, strict=True))
        if not is_known:
            self._learn(hessian, jacobian)
            self._key = key
        values = np.concatenate([hessian.data, jacobian.data, jacobian.data, top, -bottom])
        data = np.bincount(self._order, values, len(self._pattern.indices))
        matrix = self._pattern.copy()
        matrix.data = data
        return matrix

    def _learn(self, hessian: Any, jacobian: Any) -> None:
        """Find where in the matrix each number of H, J, J', S and D belongs."""
        from scipy.sparse import csc_array

        n, m = self.n, jacobian.shape[0]
        h_rows = np.repeat(np.arange(n), np.diff(hessian.indptr))
        j_rows = np.repeat(np.arange(n, n + m), np.diff(jacobian.indptr))
        diagonal = np.arange(n + m)
        rows = np.concatenate([h_rows, j_rows, jacobian.indices, diagonal])
        columns = np.concatenate([hessian.indices, jacobian.indices, j_rows, diagonal])
        pattern = csc_array((np.ones(len(rows)), (rows, columns)), shape=(n + m, n + m))
        pattern.sort_indices()
        numbers = columns.astype(np.int64) * (n + m) + rows
        kept = np.repeat(np.arange(n + m), np.diff(pattern.indptr)).astype(np.int64) * (n + m) + pattern.indices
        self._order = np.searchsorted(kept, numbers)
        self._pattern = pattern


def _inertia(factor: FloatArray, pivots: NDArray[np.int32]) -> tuple[int, int, float]:
    """Return how many eigenvalues are positive and negative, and the least pivot against the largest of its block
    column, from LAPACK's lower factor."""
    diagonal = np.diag(factor)
    is_single = pivots > 0
    positive = int((diagonal[is_single] > 0.0).sum())
    negative = int((diagonal[is_single] < 0.0).sum())
    pairs = int((~is_single).sum()) // 2  # a 2×2 block of this factorization has one eigenvalue of each sign
    least = float(np.abs(diagonal[is_single]).min(initial=np.inf))
    largest = float(np.abs(factor).max(initial=0.0))
    return positive + pairs, negative + pairs, least / max(largest, 1e-300) if least < np.inf else 1.0
