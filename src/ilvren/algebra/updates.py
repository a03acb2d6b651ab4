"""Quasi-Newton updates of a matrix that stands for second derivatives."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    from ilvren.algebra.kkt import KktFactor

__all__ = ["LimitedMemory", "damped_bfgs"]

FloatArray = NDArray[np.float64]

# Powell's constant: the least share of s'Bs that the curvature s'r may be.
LEAST_CURVATURE = 0.2


def damped_bfgs(matrix: FloatArray, step: FloatArray, change: FloatArray) -> FloatArray:
    """Return the damped BFGS update of a positive definite `matrix` B (n, n).

    With s = `step` (n,) and y = `change` of the gradient of the Lagrangian (n,):

        r  = θ y + (1 − θ) B s,   θ = 1 if s'y ≥ 0.2 s'Bs, else 0.8 s'Bs / (s'Bs − s'y)
        B⁺ = B − (B s)(B s)' / s'Bs + r r' / s'r

    so that s'r ≥ 0.2 s'Bs > 0 and B⁺ stays positive definite. A step or change that is not finite, or
    too short to carry curvature, leaves B as it is.

    Source: M. J. D. Powell, "A fast algorithm for nonlinearly constrained optimization calculations", 1978.
    """
    product = matrix @ step
    along = float(step @ product)
    curvature = float(step @ change)
    if not (math.isfinite(along) and math.isfinite(curvature)) or along <= 0.0:
        return matrix
    if curvature < LEAST_CURVATURE * along:
        theta = (1.0 - LEAST_CURVATURE) * along / (along - curvature)
        change = theta * change + (1.0 - theta) * product
        curvature = float(step @ change)
    updated = matrix - np.outer(product, product) / along + np.outer(change, change) / curvature
    if not np.isfinite(updated).all():
        return matrix
    return (updated + updated.T) / 2


class LimitedMemory:
    """A BFGS matrix B = σI − Ψ M⁻¹ Ψ' from the last few pairs (s, y), each damped as `damped_bfgs` does.

        Ψ = [σS  Y],   M = [[σ S'S, L], [L', −D]],   L the strictly lower part of S'Y, D its diagonal        (1)

    Source: R. H. Byrd, J. Nocedal, R. B. Schnabel, "Representations of quasi-Newton matrices and their use in limited
    memory methods", 1994.
    """

    def __init__(
        self, n: int, pairs: tuple[tuple[FloatArray, FloatArray], ...] = (), scale: float = 1.0, memory: int = 8
    ) -> None:
        self.n, self.pairs, self.scale, self.memory = n, pairs, scale, memory
        if pairs:
            s = np.array([pair[0] for pair in pairs]).T
            y = np.array([pair[1] for pair in pairs]).T
            products = s.T @ y
            lower = np.tril(products, -1)
            self._wide = np.hstack([scale * s, y])
            self._middle = np.block([[scale * (s.T @ s), lower], [lower.T, -np.diag(np.diag(products))]])

    def times(self, v: FloatArray) -> FloatArray:
        """Return B v. `v` and result are (n,)."""
        product = self.scale * v
        if self.pairs:
            product = product - self._wide @ np.linalg.solve(self._middle, self._wide.T @ v)
        return product

    def updated(self, step: FloatArray, change: FloatArray) -> LimitedMemory:
        """Return B with a pair more, the oldest forgotten; B itself where the pair carries no curvature. Both are
        (n,)."""
        product = self.times(step)
        along, curvature = float(step @ product), float(step @ change)
        if not (math.isfinite(along) and math.isfinite(curvature)) or not along > 0.0:
            return self
        scale = self.scale
        if curvature > 0.0:
            scale = min(max(float(change @ change) / curvature, 1e-8), 1e8)
        if curvature < LEAST_CURVATURE * along:
            theta = (1.0 - LEAST_CURVATURE) * along / (along - curvature)
            change = theta * change + (1.0 - theta) * product
        return LimitedMemory(self.n, (*self.pairs, (step, change))[-self.memory :], scale, self.memory)

    def solve(self, factor: KktFactor, top: FloatArray, bottom: FloatArray) -> tuple[FloatArray, FloatArray] | None:
        """Return the solution of a KKT system with B in place of H, `factor` being the one with σI: (1) by the formula
        of Sherman, Morrison and Woodbury. Shapes: top and the first part (n,), bottom and the second (m,)."""
        found = factor.solve(top, bottom)
        if found is None or not self.pairs:
            return found
        nothing = np.zeros(len(bottom))
        columns = [factor.solve(column, nothing) for column in self._wide.T]
        if any(column is None for column in columns):
            return None
        xs = np.array([column[0] for column in columns if column is not None]).T
        ys = np.array([column[1] for column in columns if column is not None]).T
        try:
            inner = np.linalg.solve(self._middle - self._wide.T @ xs, self._wide.T @ found[0])
        except np.linalg.LinAlgError:
            return None
        return found[0] + xs @ inner, found[1] + ys @ inner
