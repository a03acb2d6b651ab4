"""Whether a problem's continuous relaxation is convex: proved by composition or by second derivatives, else not known.

By composition: see `formula.composition`. By second derivatives: a symmetric interval matrix with diagonal ends
l_i = H_ii > 0 below, scaled by D = diag(l_i^(−1/2)) so that every principal direction counts by itself, holds no matrix
with a negative eigenvalue where

    λ_min(D A D) − max_i Σ_{j≠i} R_ij / (l_i l_j)^(1/2) >= room                                          (1)

A and R being the middles and radii of the other entries, and the room what the eigenvalue's rounding can be. A variable
with l_i = 0 must have a row of zeros. Where all entries are numbers with few digits, definiteness is decided in exact
fractions instead (2), which singular matrices need.

Sources: J. Rohn, "Positive definiteness and stability of interval matrices", 1994, (1); symmetric elimination as in
G. Golub, C. Van Loan, "Matrix Computations", 4th ed., 2013, section 4.4, (2).
"""

from __future__ import annotations

from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from ilvren.formula import KINKED, Intervals, curvatures, fixed_nodes, gradient
from ilvren.problem import Problem, scalar_problem

__all__ = ["is_convex"]

FloatArray = NDArray[np.float64]

# Beyond so many free variables or rows the proof would take too long.
MOST_VARIABLES, MOST_ROWS = 60, 300
# The computed eigenvalue of a matrix with unit diagonal is off by less than this times n².
ROUNDING = 1e-15
# Numbers of so few binary digits were not rounded on the way; matrices of this size are decided in fractions.
FEW_DIGITS, MOST_EXACT = 2.0**26, 20


def is_convex(problem: Problem) -> bool:
    """Return whether it is proved that the objective and the feasible set, spaced and catalogue variables taken as
    continuous, are convex. False means: not known."""
    if problem.sources or len(problem.free) > MOST_VARIABLES or problem.row_count > MOST_ROWS:
        return False
    scalars = scalar_problem(problem)
    if scalars is None:
        return False
    problem, graph = scalars, scalars.graph
    roots = [block.node for block in problem.row_blocks]
    if problem.objective is not None:
        roots.append(problem.objective.node)
    entries = []
    if problem.objective is not None:
        entries.append((problem.objective.node, problem.objective.sign))
    for block in problem.row_blocks:
        entries += [(block.node, 1)] if np.isfinite(block.upper).any() else []
        entries += [(block.node, -1)] if np.isfinite(block.lower).any() else []
    boxes = {index: (block.lower.reshape(()), block.upper.reshape(())) for index, block in enumerate(problem.blocks)}
    known = Intervals(graph, roots, boxes, problem.parameter_values)
    if known.faults():
        return False
    composed = curvatures(graph, roots, known.boxes, set(fixed_nodes(graph, known.order)))
    left = [(node, sign) for node, sign in entries if not composed[node][0 if sign > 0 else 1]]
    # Second derivatives say nothing of kinks.
    if any(graph.nodes[n].operation in KINKED for n in graph.reachable([node for node, _ in left])):
        return False
    return all(_is_curved(problem, node, sign) for node, sign in left)


def _is_curved(problem: Problem, node: int, sign: int) -> bool:
    """Return whether sign · node is proved to have no negative curvature anywhere within the bounds."""
    graph = problem.graph
    free = set(problem.free)
    seconds = {
        (i, j): second
        for i, slope in gradient(graph, node).items()
        if i in free and not graph.is_constant(slope)
        for j, second in gradient(graph, slope).items()
        if j in free and j <= i
    }
    if not seconds:
        return True
    boxes = {index: (block.lower.reshape(()), block.upper.reshape(())) for index, block in enumerate(problem.blocks)}
    known = Intervals(graph, list(seconds.values()), boxes, problem.parameter_values)
    n = problem.size
    low, high = np.zeros((n, n)), np.zeros((n, n))
    for (i, j), second in seconds.items():
        ends = sorted(sign * float(end) for end in known.boxes[second])
        low[i, j] = low[j, i] = ends[0]
        high[i, j] = high[j, i] = ends[1]
    if not (np.isfinite(low).all() and np.isfinite(high).all()) or known.faults():
        return False
    return _is_semidefinite(low, high)


def _is_semidefinite(low: FloatArray, high: FloatArray) -> bool:
    """Return whether no matrix between `low` and `high` (n, n) has a negative eigenvalue, as far as that is proved."""
    used = np.flatnonzero((low != 0.0).any(axis=1) | (high != 0.0).any(axis=1))
    low, high = low[np.ix_(used, used)], high[np.ix_(used, used)]
    if len(used) <= MOST_EXACT and np.array_equal(low, high) and _has_few_digits(low):
        return _is_semidefinite_exactly(low)
    diagonal = np.diag(low)
    if not (diagonal > 0.0).all():
        flat = diagonal == 0.0
        across = np.maximum(np.abs(low), np.abs(high)) * (1.0 - np.eye(len(low)))
        if (diagonal < 0.0).any() or across[flat].any():
            return False
        kept = np.flatnonzero(~flat)
        low, high, diagonal = low[np.ix_(kept, kept)], high[np.ix_(kept, kept)], diagonal[kept]
    if not len(diagonal):
        return True
    scale = 1.0 / np.sqrt(diagonal)
    middle, radius = 0.5 * (low + high), 0.5 * (high - low)
    np.fill_diagonal(middle, diagonal)
    np.fill_diagonal(radius, 0.0)
    scaled, spread = (part * np.outer(scale, scale) for part in (middle, radius))
    if not np.isfinite(scaled).all():
        return False
    least = float(np.linalg.eigvalsh(scaled)[0]) - float(spread.sum(axis=1).max())  # (1)
    size = max(1.0, float(np.abs(scaled).max()))
    return least >= ROUNDING * size * len(diagonal) ** 2


def _has_few_digits(matrix: FloatArray) -> bool:
    mantissa, _ = np.frexp(matrix)
    digits = mantissa * FEW_DIGITS
    return bool((digits == np.round(digits)).all())


def _is_semidefinite_exactly(matrix: FloatArray) -> bool:
    """Eliminate symmetrically in fractions: a pivot must be positive, or 0 with a row of zeros."""  # (2)
    a = [[Fraction(float(x)) for x in row] for row in matrix]
    n = len(a)
    for k in range(n):
        pivot = a[k][k]
        if pivot < 0 or (pivot == 0 and any(a[k][j] != 0 for j in range(k + 1, n))):
            return False
        if pivot == 0:
            continue
        for i in range(k + 1, n):
            factor = a[i][k] / pivot
            for j in range(k + 1, n):
                a[i][j] -= factor * a[k][j]
    return True
