"""Runge–Kutta methods as tables, in exact fractions where there are such.

    k_i = F(τ_0 + c_i h, X_0 + h Σ_j a_ij k_j),    X_1 = X_0 + h Σ_j b_j k_j                          (1)
    x(τ_0 + θh) = X_0 + h Σ_j k_j Σ_m P_jm θ^(m+1)                                                  (2)

`error` are weights of the k_j whose sum, times h, estimates the error of a step; Radau's is found otherwise.

Sources: J. Dormand, P. Prince, "A family of embedded Runge–Kutta formulae", 1980; L. Shampine, "Some practical
Runge–Kutta formulas", 1986 (2); E. Hairer, G. Wanner, "Solving Ordinary Differential Equations II", 1996, IV.8 (Radau).
"""

from __future__ import annotations

from fractions import Fraction
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

__all__ = ["EXPLICIT", "RADAU", "Tableau"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Tableau:
    """`a` (s, s), `b`, `c` (s,), `dense` P (s, m), of an order; `error` (s,) where the error is a sum of rates."""

    name: str
    order: int
    a: FloatArray
    b: FloatArray
    c: FloatArray
    dense: FloatArray
    error: FloatArray | None

    @property
    def stages(self) -> int:
        """Return s."""
        return len(self.c)

    @property
    def is_explicit(self) -> bool:
        """Return whether each stage needs those before it alone."""
        return self.error is not None

    @cached_property
    def rows(self) -> list[list[float]]:
        """Return the rows of `a`, of an explicit method up to the diagonal."""
        return [row[:i].tolist() for i, row in enumerate(self.a)]

    def weights(self, share: float, derivative: int = 0) -> FloatArray:
        """Return what (2) weighs the k_j with at θ = `share` (s,), or its derivative by θ."""
        rows = self._dense_rows[derivative]
        terms = [share] if derivative == 0 else [1.0]
        for _ in range(1, rows.shape[1]):
            terms.append(terms[-1] * share)
        return np.asarray(rows @ terms)

    def weights_alone(self, share: float) -> list[float]:
        """Return what (2) weighs the k_j with at one θ, on plain floats."""
        found = []
        for row in self._dense_lists:
            total = 0.0
            for factor in row:
                total = total * share + factor
            found.append(total * share)
        return found

    @cached_property
    def _dense_lists(self) -> list[list[float]]:
        """Return the rows of P, the highest power first."""
        return [row[::-1].tolist() for row in self.dense]

    def weights_many(self, shares: FloatArray) -> FloatArray:
        """Return what (2) weighs the k_j with at many θ (m, s)."""
        return np.asarray(shares[:, None] ** np.arange(1.0, self.dense.shape[1] + 1.0) @ self.dense.T)

    @cached_property
    def _dense_rows(self) -> tuple[FloatArray, FloatArray, FloatArray]:
        """Return P, and what weighs θ^0, θ^1, … in the first and second derivatives of (2)."""
        powers = np.arange(1.0, self.dense.shape[1] + 1.0)
        first = self.dense * powers
        return self.dense, first, (first * (powers - 1.0))[:, 1:]


def _table(rows: str) -> list[list[float]]:
    return [[float(Fraction(item)) for item in row.split()] for row in rows.strip().splitlines()]


def _dormand_prince() -> Tableau:
    rows = _table("""
        1/5
        3/40 9/40
        44/45 -56/15 32/9
        19372/6561 -25360/2187 64448/6561 -212/729
        9017/3168 -355/33 46732/5247 49/176 -5103/18656
        35/384 0 500/1113 125/192 -2187/6784 11/84
    """)
    a = np.zeros((7, 7))
    for place, row in enumerate(rows, start=1):
        a[place, : len(row)] = row
    b = a[6].copy()
    c = np.array(_table("0 1/5 3/10 4/5 8/9 1 1")[0])
    error = np.array(_table("71/57600 0 -71/16695 71/1920 -17253/339200 22/525 -1/40")[0])
    dense = np.array(
        _table("""
        1 -8048581381/2820520608 8663915743/2820520608 -12715105075/11282082432
        0 0 0 0
        0 131558114200/32700410799 -68118460800/10900136933 87487479700/32700410799
        0 -1754552775/470086768 14199869525/1410260304 -10690763975/1880347072
        0 127303824393/49829197408 -318862633887/49829197408 701980252875/199316789632
        0 -282668133/205662961 2019193451/616988883 -1453857185/822651844
        0 40617522/29380423 -110615467/29380423 69997945/29380423
    """)
    )
    return Tableau("dormand-prince", 5, a, b, c, dense, error)


def _radau() -> Tableau:
    """Return the method of three Radau points: k is a polynomial through them, integrated."""
    root = np.sqrt(6.0)
    c = np.array([(4.0 - root) / 10.0, (4.0 + root) / 10.0, 1.0])
    # Row m of `powers` holds c_j^m; a polynomial with values k_j at c_j has coefficients k @ inverse.
    inverse = np.linalg.inv(np.vander(c, increasing=True).T)  # (j, m)
    dense = inverse / np.arange(1, 4)
    a = np.array([[dense[j] @ (ci ** np.arange(1, 4)) for j in range(3)] for ci in c])
    return Tableau("radau", 5, a, a[2].copy(), c, dense, None)


EXPLICIT = _dormand_prince()
RADAU = _radau()
