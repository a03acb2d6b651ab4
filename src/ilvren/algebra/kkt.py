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
1977; R. J. Vanderbei, "Symmetric quasidefinite matrices", 1995; (2): M. Arioli, J. W. Demmel, I. S. Duff, "Solving
sparse linear systems with sparse backward error", 1989.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

__all__ = ["CHAINED", "KktFactor", "KktSystem"]

FloatArray = NDArray[np.float64]

# What stands on the diagonal where a zero would be factored, and the share of the largest entry that a pivot must have.
DELTA, LEAST_DIAGONAL = 1e-8, 1e-3
# Of long chains of equations, most of whose variables have no curvature: with these what is left to refine shrinks
# fastest.
CHAINED = (1e-6, 1e-10)
TINY_PIVOT = 1e-17
ROUNDING = float(np.finfo(float).eps)
# Dense matrices with a pivot below this, where the others are about one, may be singular but for rounding.
SMALL_PIVOT = 1e-12
# The least D of a row that is folded into H.
LEAST_CONDENSED = 1e-14
# Refinement ends at this error (2), or when a step no longer halves it; above REFINED_ENOUGH Krylov steps follow.
REFINED, REFINED_ENOUGH, MOST_REFINEMENTS = 1e-10, 1e-9, 12
# Where the error of a solution is below this, its own size is known, and within so many steps it should be.
SETTLED, FIRST_STEPS = 1e-3, 3
KRYLOV_STEPS, KRYLOV_REST = 25, 1e-10
# A solution with a larger error is none, unless its rest is below these shares of all of the right-hand side, and of
# the part that belongs to the rows.
ACCEPTED_ERROR, ACCEPTED_REST, ACCEPTED_SHARE = 1e-9, 1e-5, 1e-2


@dataclass(frozen=True, eq=False)
class _Tried:
    """A solution of (1), what it leaves of the right-hand side, and the largest backward error of any equation: small
    ones beside large ones count as much.        (2)"""

    found: FloatArray
    rest: FloatArray
    error: float


class KktFactor:
    """A factorization of (1). `has_inertia`: n positive and m negative eigenvalues, and a trusted factorization;
    `is_singular`: a pivot all but vanished; `is_doubtful`: one is so small that rounding may have made it."""

    def __init__(
        self,
        system: KktSystem,
        hessian: Any,
        top: FloatArray,
        jacobian: Any,
        bottom: FloatArray,
        *,
        with_inertia: bool = True,
    ) -> None:
        self._n, self._m = system.n, system.m
        self._hessian, self._jacobian, self._across = hessian, jacobian, jacobian.T
        self._top, self._bottom = top, bottom
        self.has_inertia, self.is_singular, self.is_doubtful = False, True, False
        self._solve: Any = None
        self._magnitudes: tuple[Any, Any, Any] | None = None
        self._is_sparse = system.is_sparse
        if system.is_sparse:
            self._factor_sparse(system, hessian, top, jacobian, bottom, with_inertia=with_inertia)
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
        self.is_doubtful = not least > SMALL_PIVOT
        self.has_inertia = not self.is_singular and (positive, negative) == (n, m)
        self._solve = lambda rhs: scale * dsytrs(factor, pivots, scale * rhs, lower=1)[0]

    def _factor_sparse(
        self,
        system: KktSystem,
        hessian: Any,
        top: FloatArray,
        jacobian: Any,
        bottom: FloatArray,
        *,
        with_inertia: bool,
    ) -> None:
        from scipy.sparse.linalg import splu

        if system.condensed is None:
            own = np.maximum(bottom, system.deltas[1])
            matrix = system.assembled(hessian, _lifted(hessian, top, system.deltas[0]), jacobian, own)
        else:
            matrix = self._condensed(system, hessian, top, jacobian, bottom)
        if not np.isfinite(matrix.data).all():
            return
        try:
            factor = splu(matrix, permc_spec="MMD_AT_PLUS_A", diag_pivot_thresh=0.0, options={"SymmetricMode": True})
        except RuntimeError:  # exactly singular
            return
        self.is_singular = False
        if with_inertia:  # this copies both factors
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
        own = np.maximum(bottom[kept], system.deltas[1])
        return system.assembled(folded, _lifted(folded, top, system.deltas[0]), jacobian[kept], own)

    def _by_condensed(self, system: KktSystem, solve: Any) -> Any:
        """Return a function that solves (1) by its condensed form."""
        inner, kept, n = _run(system.condensed), _run(system.kept), self._n
        own, across, weights = self._own, self._own.T, self._weights

        def solved(rhs: FloatArray) -> FloatArray:
            x, y = rhs[:n], rhs[n:]
            top = across @ (weights * y[inner])
            top += x
            part = solve(np.concatenate([top, y[kept]]))
            found = np.empty(len(rhs))
            found[:n], rows = part[:n], found[n:]
            rows[kept] = part[n:]
            moved = own @ part[:n]
            moved -= y[inner]  # before the weights, which may be huge: what is left of it is small
            moved *= weights
            rows[inner] = moved
            return found

        return solved

    def solve(self, top: FloatArray, bottom: FloatArray) -> tuple[FloatArray, FloatArray] | None:
        """Return (dx, dy) of (1) for right-hand sides (n,) and (m,), refined against the matrix as given, or None where
        the numbers break down."""
        if self._solve is None:
            return None
        rhs = np.concatenate([top, bottom])
        best = self._refined(_Tried(np.zeros(len(rhs)), rhs, np.inf), rhs)
        if best.error > REFINED_ENOUGH and self._is_sparse:
            best = self._by_krylov(best, rhs)
        if not best.error < np.inf:
            return None
        found, rest = best.found, np.abs(best.rest)
        goal = max(float(np.abs(rhs).max(initial=0.0)), float(np.abs(found).max(initial=0.0)) * DELTA)
        own = float(rest[self._n :].max(initial=0.0)) <= ACCEPTED_SHARE * float(np.abs(bottom).max(initial=0.0))
        if not (best.error <= ACCEPTED_ERROR or (own and float(rest.max(initial=0.0)) <= ACCEPTED_REST * goal)):
            return None
        return found[: self._n], found[self._n :]

    def _refined(self, best: _Tried, rhs: FloatArray, enough: float = REFINED) -> _Tried:
        """Return `best` refined as far as it goes."""
        found, rest, least, sizes, unsettled = best.found, best.rest, np.inf, np.zeros(0), np.inf
        best = replace(best, error=np.inf)
        for step in range(MOST_REFINEMENTS):
            found = found + self._solve(rest)
            rest = rhs - self._times(found)
            if step == 0 and self._is_sparse and not best.found.any():
                continue  # what stands on the diagonal where a zero would be factored is always seen in it
            if unsettled > SETTLED:  # else nothing that counts in the sizes changes any more
                sizes = self._sizes(found) + np.abs(rhs)
            error = _largest_share(rest, sizes)
            # An error of about 1 says that some equation's right-hand side is still all left, not how much.
            is_halved = error < 0.5 * least or (error > SETTLED and step < FIRST_STEPS)
            unsettled = error
            if error < least:
                best, least = _Tried(found, rest, error), error
            if not is_halved or error <= enough:
                break
        return best

    def _by_krylov(self, best: _Tried, rhs: FloatArray) -> _Tried:
        """Return a better solution by GMRES with the factorization as preconditioner, where refinement stalls: what
        stands on the diagonal there is not small against all eigenvalues."""
        from scipy.sparse.linalg import LinearOperator, gmres

        shape = (len(rhs), len(rhs))
        matrix, inverse = (LinearOperator(shape, matvec=f, dtype=float) for f in (self._times, self._solve))
        size = float(np.linalg.norm(best.rest))
        if not (np.isfinite(size) and size > 0.0):
            return best
        step, _ = gmres(matrix, best.rest / size, M=inverse, rtol=KRYLOV_REST, restart=KRYLOV_STEPS, maxiter=1)
        if not np.isfinite(step).all():
            return best
        found = best.found + size * step
        rest = rhs - self._times(found)
        better = _Tried(found, rest, _largest_share(rest, self._sizes(found) + np.abs(rhs)))
        tried = [better] if better.error <= REFINED_ENOUGH else [self._refined(better, rhs, REFINED_ENOUGH), better]
        return min((*tried, best), key=lambda one: one.error if one.error < np.inf else np.inf)

    def _sizes(self, v: FloatArray) -> FloatArray:
        """Return |A| |v| of the matrix A of (1), no less than what rounding makes of an equation's zeros."""
        if self._magnitudes is None:
            jacobian = abs(self._jacobian)
            self._magnitudes = abs(self._hessian), jacobian, jacobian.T
        hessian, jacobian, across = self._magnitudes
        size = np.abs(v)
        x, y = size[: self._n], size[self._n :]
        sizes = np.concatenate([hessian @ x + np.abs(self._top) * x + across @ y, jacobian @ x + self._bottom * y])
        floor = ROUNDING * float(size.max(initial=0.0))
        return np.asarray(np.maximum(sizes, floor, out=sizes), dtype=np.float64)

    def _times(self, v: FloatArray) -> FloatArray:
        x, y = v[: self._n], v[self._n :]
        return np.concatenate(
            [self._hessian @ x + self._top * x + self._across @ y, self._jacobian @ x - self._bottom * y]
        )


class KktSystem:
    """The shape of a family of systems (1): n variables, m rows, dense or sparse. Sparse patterns may differ from one
    system to the next; where they do not, their places in the matrix are found once."""

    def __init__(
        self,
        n: int,
        m: int,
        *,
        is_sparse: bool,
        condensed: NDArray[np.bool_] | None = None,
        deltas: tuple[float, float] | None = None,
    ) -> None:
        """`condensed` (m,) names rows with few non-zeros and D > 0 always, which are folded into H where that is the
        smaller matrix; `deltas` stand where a zero of H + S or of D would be factored."""
        self.n, self.m, self.is_sparse, self.deltas = n, m, is_sparse, deltas or (DELTA, DELTA)
        use = is_sparse and condensed is not None and condensed.any()
        self.condensed = np.flatnonzero(condensed) if use and condensed is not None else None
        self.kept = np.flatnonzero(~condensed) if use and condensed is not None else np.arange(m)
        self._key: tuple[Any, ...] = ()
        self._pattern: tuple[Any, Any] = (None, None)
        self._order: Any = None

    def factored(
        self, hessian: Any, top: FloatArray, jacobian: Any, bottom: FloatArray, *, with_inertia: bool = True
    ) -> KktFactor:
        """Return the factorization for H, the diagonals `top` (n,) = S and `bottom` (m,) = D, and J. Without inertia
        that of a sparse matrix takes half the memory."""
        return KktFactor(self, hessian, top, jacobian, bottom, with_inertia=with_inertia)

    def assembled(self, hessian: Any, top: FloatArray, jacobian: Any, bottom: FloatArray) -> Any:
        """Return the sparse matrix of (1) in CSC form. Shapes: top (n,), bottom (m,), Jacobian (m, n), the matrix (n +
        m, n + m)."""
        from scipy.sparse import csc_array

        key = (hessian.indptr, hessian.indices, jacobian.indptr, jacobian.indices)
        is_known = bool(self._key) and all(a is b or np.array_equal(a, b) for a, b in zip(self._key, key, strict=True))
        if not is_known:
            self._learn(hessian, jacobian)
            self._key = key
        values = np.concatenate([hessian.data, jacobian.data, jacobian.data, top, -bottom])
        data = np.bincount(self._order, values, len(self._pattern[0]))
        return csc_array((data, *self._pattern), shape=(len(self._pattern[1]) - 1,) * 2)

    def _learn(self, hessian: Any, jacobian: Any) -> None:
        """Find where in the matrix each number of H, J, J', S and D belongs: its entries in order are numbered, and
        those that stand in one place share its number."""
        n, m = self.n, jacobian.shape[0]
        size = n + m
        h_rows = np.repeat(np.arange(n, dtype=np.int32), np.diff(hessian.indptr))
        j_rows = np.repeat(np.arange(n, size, dtype=np.int32), np.diff(jacobian.indptr))
        diagonal = np.arange(size, dtype=np.int32)
        numbers = np.concatenate([hessian.indices, jacobian.indices, j_rows, diagonal]).astype(np.int64)
        numbers *= size
        numbers += np.concatenate([h_rows, j_rows, jacobian.indices, diagonal])
        sequence = np.argsort(numbers, kind="stable").astype(np.int32)
        numbers = numbers[sequence]
        is_first = np.append(True, numbers[1:] != numbers[:-1])
        self._order = np.empty(len(sequence), dtype=np.int32)
        self._order[sequence] = np.cumsum(is_first, dtype=np.int32) - np.int32(1)
        numbers = numbers[is_first]
        indptr = np.searchsorted(numbers, np.arange(size + 1, dtype=np.int64) * size).astype(np.int32)
        self._pattern = (numbers % size).astype(np.int32), indptr


def _run(places: Any) -> Any:
    """Return places without gaps as a slice, which takes no copies; others as they are."""
    is_run = len(places) > 0 and places[-1] - places[0] == len(places) - 1
    return slice(int(places[0]), int(places[-1]) + 1) if is_run else places


def _largest_share(rest: FloatArray, sizes: FloatArray) -> float:
    return float((np.abs(rest) / np.where(sizes > 0.0, sizes, 1.0)).max(initial=0.0))


def _lifted(hessian: Any, top: FloatArray, delta: float) -> FloatArray:
    """Return S with a delta added where the diagonal of H + S is none or nearly so: no structural zero is factored."""
    return np.where(np.abs(hessian.diagonal() + top) < delta, top + delta, top)


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
