"""Whether a problem's continuous relaxation is convex: proved by intervals of second derivatives, else not known.

A symmetric matrix whose diagonal is at least that of A, and whose other entries lie in A ± R, has no eigenvalue below
λ_min(A) − max_i Σ_{j≠i} R_ij.                                                                          (1)

Source: J. Rohn, "Positive definiteness and stability of interval matrices", 1994.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ilvren.formula import gradient
from ilvren.formula.intervals import Intervals
from ilvren.problem import Problem, scalar_problem
from ilvren.runs.choice import KINKED

__all__ = ["is_convex"]

FloatArray = NDArray[np.float64]

# Beyond so many free variables or rows the proof would take too long.
MOST_VARIABLES, MOST_ROWS = 60, 300
# What rounding may make of an eigenvalue 0, relative to the largest entry.
ROUNDING = 1e-10


def is_convex(problem: Problem) -> bool:
    """Return whether it is proved that the objective and the feasible set, spaced and catalogue variables taken as
    continuous, are convex. False means: not known."""
    if problem.runners or len(problem.free) > MOST_VARIABLES or problem.row_count > MOST_ROWS:
        return False
    scalars = scalar_problem(problem)
    if scalars is None:
        return False
    problem, graph = scalars, scalars.graph
    roots = [block.node for block in problem.row_blocks]
    if problem.objective is not None:
        roots.append(problem.objective.node)
    # Second derivatives say nothing of kinks.
    if any(graph.nodes[number].operation in KINKED for number in graph.reachable(roots)):
        return False
    if problem.objective is not None and not _is_curved(problem, problem.objective.node, problem.objective.sign):
        return False
    for block in problem.row_blocks:
        if np.isfinite(block.upper).any() and not _is_curved(problem, block.node, 1):
            return False
        if np.isfinite(block.lower).any() and not _is_curved(problem, block.node, -1):
            return False
    return True


def _is_curved(problem: Problem, node: int, sign: int) -> bool:
    """Return whether sign · node has no negative curvature anywhere within the bounds."""
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
    boxes = {index: (block.lower, block.upper) for index, block in enumerate(problem.blocks)}
    boxes = {index: (low.reshape(()), high.reshape(())) for index, (low, high) in boxes.items()}
    known = Intervals(graph, list(seconds.values()), boxes, problem.parameter_values)
    n = problem.size
    low, high = np.zeros((n, n)), np.zeros((n, n))
    for (i, j), second in seconds.items():
        ends = sorted(sign * float(end) for end in known.boxes[second])
        low[i, j] = low[j, i] = ends[0]
        high[i, j] = high[j, i] = ends[1]
    if not (np.isfinite(low).all() and np.isfinite(high).all()) or known.faults():
        return False
    middle, radius = 0.5 * (low + high), 0.5 * (high - low)
    np.fill_diagonal(middle, np.diag(low))
    np.fill_diagonal(radius, 0.0)
    least = float(np.linalg.eigvalsh(middle)[0]) - float(radius.sum(axis=1).max())  # (1)
    return least >= -ROUNDING * float(np.abs(middle).max())
