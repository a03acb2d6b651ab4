"""The least curvature on the critical cone: directions that strong limits leave, on the open side of weak ones.

    minimize  d'Hd   over  d in span(Z), w_i'd >= 0, |d| = 1                              (1)

Its minimum lies inside one face of the cone, where some of the w_i'd are zero; there it is an eigenvector of H within
that face. So the faces are gone through one by one: an eigenvector counts when it lies in the cone, either way round.
An eigenvalue that repeats leaves its eigenvectors open: then the face's subspace as a whole is taken, to be cautious.

Source: on copositivity by faces, J. W. Gaddum, "Linear inequalities and quadratic forms", 1958.
"""

from __future__ import annotations

import itertools

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

__all__ = ["MOST_WEAK", "ConeCurvature", "least_on_cone"]

FloatArray = NDArray[np.float64]

# 2^k faces are gone through for k weak limits.
MOST_WEAK = 10
# A component of a unit direction along a unit normal below this counts as zero.
ON_THE_EDGE = 1e-9
# Eigenvalues closer than this share of the largest count as one that repeats.
REPEATED = 1e-7
RANK_TOLERANCE = 1e-8


@dataclass(frozen=True)
class ConeCurvature:
    """`least` d'Hd, its unit `direction` (n,); `is_certain` is false where the direction may lie outside the cone."""

    least: float
    direction: FloatArray
    is_certain: bool


def least_on_cone(h: FloatArray, basis: FloatArray, weak: FloatArray) -> ConeCurvature:
    """Solve (1) for H (n, n), orthonormal Z (n, k) and unit w_i as rows (l, n), at most MOST_WEAK of them."""
    best = ConeCurvature(np.inf, np.zeros(len(h)), is_certain=True)
    for size in range(len(weak) + 1):
        for face in itertools.combinations(range(len(weak)), size):
            z = _within(basis, weak[list(face)])
            if z.shape[1] == 0:
                continue
            others = np.delete(weak, list(face), axis=0)
            values, vectors = np.linalg.eigh(z.T @ h @ z)
            scale = REPEATED * max(float(np.abs(values).max()), 1e-300)
            for place, value in enumerate(values.tolist()):
                if value >= best.least:
                    break
                direction = z @ vectors[:, place]
                inward = others @ direction
                repeats = bool((np.abs(np.delete(values, place) - value) <= scale).any())
                if (inward >= -ON_THE_EDGE).all() or (inward <= ON_THE_EDGE).all():
                    direction = direction if (inward >= -ON_THE_EDGE).all() else -direction
                    best = ConeCurvature(value, direction, is_certain=True)
                    break
                if repeats:
                    best = ConeCurvature(value, direction, is_certain=False)
                    break
    return best


def _within(basis: FloatArray, normals: FloatArray) -> FloatArray:
    """Return an orthonormal basis of the part of span(`basis`) that no normal has a part in."""
    if not len(normals):
        return basis
    _, values, vectors = np.linalg.svd(normals @ basis)
    rank = int((values > RANK_TOLERANCE * max(float(values[0]) if len(values) else 0.0, 1e-300)).sum())
    if len(values) and values[0] < RANK_TOLERANCE:
        rank = 0  # the normals say nothing within the basis
    found: FloatArray = basis @ vectors[rank:].T
    return found
