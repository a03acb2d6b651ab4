"""One member of a front as a problem of one objective: the others are to stay at most where they are.

A design x is on the front where, for one objective k, it solves

    minimize F_k    subject to    the limits,  F_i <= F_i(x) for i ≠ k                                           (1)

A weighted sum would call designs on concave parts saddles; (1) does not. The multipliers of its limits are the weights
of the objectives, relative to that of k, which is taken to be the objective whose weight w is largest in

    minimize over w >= 0, Σ w = 1, right-signed u    | D (Σ w_i ∇F_i / s_i − A'u) |                              (2)

with the sizes D and s, and A the gradients of the limits that are active.

Sources: (1): Y. Haimes, L. Lasdon, D. Wismer, 1971; V. Chankong, Y. Haimes, "Multiobjective decision making", 1983;
(2): H. Kuhn, A. Tucker, "Nonlinear programming", 1951.
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import signed_least_squares
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.evaluate import Evaluation
    from ilvren.problem import Measures, Problem, Sense

__all__ = ["Weights", "member_problem", "weights_at"]

FloatArray = NDArray[np.float64]

# The equation Σ w = 1 of (2) weighs so much more than the others.
SUM_WEIGHT = 1e3
# A limit is active within this share of its size.
ACTIVE = 1e-6


@dataclass(frozen=True)
class Weights:
    """What (2) finds: `weights` (p,) of the objectives over their sizes, and the largest component of what remains,
    `rest`."""

    weights: FloatArray
    rest: float

    @property
    def main(self) -> int:
        """Return the objective k of (1)."""
        return int(np.argmax(self.weights))


def member_problem(
    problem: Problem,
    sense: Sense,
    values: FloatArray,
    main: int,
    sizes: FloatArray,
    capped: Collection[int] | None = None,
) -> Problem:
    """Return (1) for a member with objectives `values` (p,), as written: objective `main` alone, the others, or those
    `capped`, as limits whose misses are measured in `sizes` (p,)."""
    blocks = []
    first = 0
    place = 0
    for block in problem.row_blocks:
        if not block.is_objective:
            blocks.append(replace(block, first=first))
            first += block.size
            continue
        own, value = place, float(values[place])
        place += 1
        if own == main or (capped is not None and own not in capped):
            continue
        low, high = (-np.inf, value) if block.objective_sign > 0 else (value, np.inf)
        blocks.append(
            replace(
                block,
                first=first,
                lower=np.array([low]),
                upper=np.array([high]),
                magnitude=np.array([sizes[own]]),
                objective_sign=0,
            )
        )
        first += 1
    chosen = sense.objectives[main]
    return replace(problem, objective=chosen, objectives=(chosen,), row_blocks=tuple(blocks))


def weights_at(
    problem: Problem,
    sense: Sense,
    measures: Measures,
    point: FloatArray,
    evaluation: Evaluation,
    sizes: FloatArray,
    feasibility: float,
    traded: Collection[int],
) -> Weights:
    """Return (2) at a design (n,) of a problem of `fronted`; `sizes` (p,) are those of the objectives. The sum is that
    of the objectives that are `traded` off; better than their goals have no weight, and of those that come first in
    priority the weights are those of limits."""
    p = len(sense.rows)
    is_traded = np.isin(np.arange(p), list(traded))
    nothing = Weights(is_traded / max(int(is_traded.sum()), 1), np.nan)
    if not evaluation.has_finite_derivatives:
        return nothing
    jacobian: Any = evaluation.jacobian
    jacobian = jacobian if isinstance(jacobian, np.ndarray) else jacobian.toarray()
    free = np.array(problem.free, dtype=np.int64)
    scale = measures.variable_sizes(point)[free]
    slopes = (sense.signs / sizes)[:, np.newaxis] * jacobian[sense.rows][:, free] * scale
    own = np.setdiff1d(np.arange(problem.row_count), sense.rows)
    room = max(feasibility, ACTIVE) * measures.row_sizes[own]
    low = evaluation.rows[own] - measures.row_lower[own] <= room
    high = measures.row_upper[own] - evaluation.rows[own] <= room
    rows = np.flatnonzero(low | high)
    normals = jacobian[own[rows]][:, free] * scale
    lengths = np.maximum(np.linalg.norm(normals, axis=1), 1e-300)
    bound_room = ACTIVE * measures.bound_sizes(point)[free]
    at_low = point[free] - measures.lower[free] <= bound_room
    at_high = measures.upper[free] - point[free] <= bound_room
    bounds = np.flatnonzero(at_low | at_high)
    units = np.zeros((len(bounds), len(free)))
    units[np.arange(len(bounds)), bounds] = 1.0
    both = np.concatenate([low[rows] & high[rows], at_low[bounds] & at_high[bounds]])
    is_low = np.concatenate([low[rows], at_low[bounds]])
    signs = np.where(both, 0.0, np.where(is_low, 1.0, -1.0))
    matrix = np.vstack([slopes, -normals / lengths[:, np.newaxis], -units])  # (p + k, n)
    matrix = np.hstack([matrix, np.zeros((len(matrix), 1))])
    matrix[:p, -1] = np.where(is_traded, SUM_WEIGHT, 0.0)
    counts = sense.written(evaluation.rows) * sense.signs > sense.goals
    matrix[:p][~counts] = 0.0
    target = np.zeros(len(free) + 1)
    target[-1] = SUM_WEIGHT
    found = signed_least_squares(matrix.T, target, np.concatenate([np.ones(p), signs]))
    weights = np.where(is_traded & counts, np.maximum(found[:p], 0.0), 0.0)
    total = float(weights.sum())
    if not (np.isfinite(total) and total > 0.0):
        return nothing
    rest = float(np.abs((matrix[:, :-1].T @ found) / total).max(initial=0.0))
    return Weights(weights / total, rest)
