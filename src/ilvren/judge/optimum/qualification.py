"""Constraint qualifications: whether the active limits describe the feasible set to first order.

Independence: the gradients of the active limits are linearly independent; then multipliers are unique. Weaker, and
still enough for multipliers to exist (Mangasarian–Fromovitz): the gradients A_E of equalities are independent, and some
direction d leads strictly into all others,

    A_E d = 0,   A_I d >= 1     (unit inward normals; the linear program's point of least norm is taken)         (1)

The shorter d, the safer; |d| beyond MOST_LENGTH counts as none.

Source: O. L. Mangasarian, S. Fromovitz, "The Fritz John necessary optimality conditions in the presence of equality and
inequality constraints", 1967.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import solve_quadratic
from ilvren.records import dataclass

__all__ = ["Qualification", "qualification_of"]

FloatArray = NDArray[np.float64]

RANK_TOLERANCE = 1e-8
MOST_LENGTH = 1e6


@dataclass(frozen=True)
class Qualification:
    """`kind`: "independent", "inward" (dependent, but some direction leads into all limits), "fails" or "unknown";
    `rank` of `count` active gradients; `length` of the shortest inward direction, infinite where there is none."""

    kind: str
    rank: int
    count: int
    length: float

    @property
    def sentence(self) -> str:
        """Return what it means."""
        match self.kind:
            case "independent":
                return "the gradients of the active limits are independent"
            case "inward":
                return "the gradients of the active limits are dependent, but a direction leads into all of them"
            case "fails":
                return (
                    "to first order no direction leads into all active limits: multipliers need not exist"
                    if self.count
                    else "nothing is active"
                )
        return "the active gradients could not be examined"


def qualification_of(normals: FloatArray, is_equality: NDArray[np.bool_], zero_rows: int) -> Qualification:
    """Examine unit inward normals (k, n) of the active limits; `zero_rows` more have a gradient of zero."""
    count = len(normals) + zero_rows
    if not np.isfinite(normals).all():
        return Qualification("unknown", 0, count, math.inf)
    rank = _rank(normals)
    if rank == count:
        return Qualification("independent", rank, count, 0.0)
    equalities = normals[is_equality]
    if zero_rows or _rank(equalities) < len(equalities):
        return Qualification("fails", rank, count, math.inf)
    found = solve_quadratic(
        np.eye(normals.shape[1]),
        np.zeros(normals.shape[1]),
        rows=normals,
        row_limits=(np.where(is_equality, 0.0, 1.0), np.where(is_equality, 0.0, np.inf)),
        bounds=(np.full(normals.shape[1], -np.inf), np.full(normals.shape[1], np.inf)),
    )  # (1)
    length = float(np.linalg.norm(found.step)) if found.outcome == "solved" else math.inf
    if found.outcome == "failed":
        return Qualification("unknown", rank, count, math.inf)
    return Qualification("inward" if length <= MOST_LENGTH else "fails", rank, count, length)


def _rank(normals: FloatArray) -> int:
    if not normals.size:
        return 0
    values = np.linalg.svd(normals, compute_uv=False)
    return int((values > RANK_TOLERANCE * values[0]).sum())
