"""Newton's steps of an interior point method: the matrix (2) of `interior_point` factored with its inertia, and solved.

The slacks t are eliminated, and δ raised until the inertia is that of a descent direction (algorithm IC of the paper).

Source: A. Wächter, L. T. Biegler, "On the implementation of an interior-point filter line-search algorithm for
large-scale nonlinear programming", Mathematical Programming 106, 2006, pages 25–57; its letters are used.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import CHAINED, KktFactor, KktSystem, LimitedMemory
from ilvren.methods.pieces.barrier import (
    Stage,
    State,
)
from ilvren.methods.pieces.filter_memory import Memory
from ilvren.records import dataclass

__all__ = [
    "LARGE_EARLY",
    "MOST_FIRST_MULTIPLIER",
    "Direction",
    "NewtonMatrix",
    "direction",
    "direction_between",
    "least_squares_multipliers",
    "newton_matrix",
    "newton_solution",
    "systems",
]

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]

# δ: first, least, most, and how it grows and shrinks (paper); δc when the rows depend on each other.
FIRST_SHIFT, LEAST_SHIFT, MOST_SHIFT = 1e-4, 1e-20, 1e40
SHIFT_UP_FIRST, SHIFT_UP, SHIFT_DOWN = 100.0, 8.0, 1.0 / 3.0
# Where the first δ tried is enough time and again, it falls faster and faster, down to this share at once.
LEAST_EASED = 1e-4
ROW_SHIFT = 1e-9
# Multipliers of the start larger than this are nonsense of a poor start: zero is better (paper).
MOST_FIRST_MULTIPLIER = 1e3
# Rows with so few non-zeros are folded into the Hessian, as long as that makes so many times more of them at most.
MOST_FOLDED, FOLDED_FILL = 12, 6
# Beyond so many variables each costs too much to be tried more than twice.
LARGE_EARLY = 20_000


def least_squares_multipliers(stage: Stage, state: State) -> FloatArray:
    """Return y that makes the gradient of the Lagrangian of (1) least, 0 where that is nonsense. It is (m,)."""
    m = len(stage.b)
    if not m:
        return np.zeros(0)
    target = stage.slope(state.point.g, state.point.x) - state.z_low + state.z_high
    n = stage.n
    system = KktSystem(n, m, is_sparse=stage.task.is_sparse, condensed=_condensed_rows(stage, state))
    bottom, shifted = stage.spread(stage.signs), stage.spread(target[n:])
    factor = system.factored(_nothing(stage), np.ones(n), state.point.j, bottom + ROW_SHIFT, with_inertia=False)
    found = factor.solve(-target[:n], shifted)
    if found is None or not np.abs(found[1]).max(initial=0.0) <= MOST_FIRST_MULTIPLIER:
        return np.zeros(m)
    return found[1]


def _nothing(stage: Stage) -> Any:
    """Return a Hessian of zeros."""
    if not stage.task.is_sparse:
        return np.zeros((stage.n, stage.n))
    from scipy.sparse import csr_array

    return csr_array((stage.n, stage.n))


def systems(stage: Stage, state: State) -> tuple[KktSystem, KktSystem]:
    """Return what factors the matrix of (2), its rows folded into the Hessian where that is quicker, and the one of
    polishing."""
    n, m, is_sparse = stage.n, len(stage.b), stage.task.is_sparse
    deltas = CHAINED if stage.task.is_on_grid and n > LARGE_EARLY else None
    system = KktSystem(n, m, is_sparse=is_sparse, condensed=_condensed_rows(stage, state), deltas=deltas)
    return system, KktSystem(n, m, is_sparse=is_sparse, deltas=deltas)


def _condensed_rows(stage: Stage, state: State) -> NDArray[np.bool_] | None:
    """Return which rows are better folded into the Hessian: those with slacks, when all of them have few non-zeros."""
    if not stage.task.is_sparse:
        return None
    counts = np.diff(state.point.j.indptr)
    chosen = np.zeros(len(stage.b), dtype=bool)
    chosen[stage.attached] = True
    chosen &= counts <= MOST_FOLDED
    return chosen if int((counts[chosen] ** 2).sum()) <= FOLDED_FILL * (int(counts.sum()) + stage.n) else None


@dataclass(frozen=True, eq=False)
class NewtonMatrix:
    """The matrix of (2) factored: `sigma` the diagonals Σ + δ of x and t (for x without H), `shift` δ; the direction
    `tried` for `mu` showed that it can be solved."""

    factor: KktFactor
    sigma: FloatArray
    low_rank: LimitedMemory | None
    shift: float
    mu: float = 0.0
    tried: Direction | None = None


@dataclass(frozen=True, eq=False)
class Direction:
    """A direction of (2): dw, dy, and ∇φ that it was computed for."""

    dw: FloatArray
    dy: FloatArray
    slope: FloatArray


def newton_matrix(stage: Stage, state: State, system: KktSystem, hessian: Any, memory: Memory) -> NewtonMatrix | None:
    """Return the matrix of (2) factored with δ as small as the inertia allows; None when the numbers break down."""
    n = stage.n
    low, high = state.gaps(stage)
    sigma = state.z_low / low + state.z_high / high
    if stage.pull is not None:
        sigma[:n] += stage.pull
    low_rank = hessian if isinstance(hessian, LimitedMemory) else None
    if low_rank is not None:
        hessian = _nothing(stage)
        sigma[:n] += low_rank.scale
    shift, is_first = 0.0, False
    while True:
        shifted = sigma + shift
        bottom = stage.spread(stage.signs / shifted[n:])
        # Equations as they are where their steps can be refined so far; with δc where they depend on each other: what
        # δc leaves of them is δc times the change of their multipliers, which may be large.
        for row_shift in (0.0, ROW_SHIFT):
            own = np.asarray(np.where(bottom > 0.0, bottom, row_shift), dtype=np.float64)
            newton = factor = None  # the last one makes room
            factor = system.factored(hessian, shifted[:n], state.point.j, own)
            if not factor.has_inertia or (row_shift == 0.0 and factor.is_doubtful and not (bottom > 0.0).all()):
                continue
            newton = NewtonMatrix(factor, shifted, low_rank, shift)
            tried = direction(stage, state, newton, state.mu)
            if tried is not None:
                newton = replace(newton, mu=state.mu, tried=tried)
                memory.shift = shift if shift > 0.0 else memory.shift
                memory.eased = memory.eased + 1 if shift > 0.0 and is_first else 0
                return newton
            if (bottom > 0.0).all():
                break
        if shift == 0.0:
            lowered = max(SHIFT_DOWN ** (1 + memory.eased), LEAST_EASED)
            shift = FIRST_SHIFT if memory.shift == 0.0 else max(LEAST_SHIFT, lowered * memory.shift)
            is_first = True
        else:
            shift *= SHIFT_UP_FIRST if memory.shift == 0.0 else SHIFT_UP
            is_first = False
        if not shift < MOST_SHIFT:
            memory.shift = 0.0
            return None


def direction(stage: Stage, state: State, newton: NewtonMatrix, mu: float) -> Direction | None:
    """Return the direction of (2) for a value of μ."""
    slope = stage.slope(state.point.g, state.point.x) + stage.barrier_slope(state.gaps(stage), mu)
    found = newton_solution(stage, state, newton, slope, state.rest(stage))
    return None if found is None else Direction(*found, slope)


def direction_between(stage: Stage, state: State, newton: NewtonMatrix, aimed: Direction | None) -> Direction | None:
    """Return the direction of (2) for the present μ: it is linear in μ, so that those for another one and for 0,
    `aimed`, give it."""
    tried, mu = newton.tried, state.mu
    if tried is not None and newton.mu == mu:
        return tried
    if tried is None or aimed is None or not newton.mu > 0.0 or not mu <= newton.mu:
        return direction(stage, state, newton, mu)
    share = mu / newton.mu

    def between(zero: FloatArray, one: FloatArray) -> FloatArray:
        return (1.0 - share) * zero + share * one

    return Direction(between(aimed.dw, tried.dw), between(aimed.dy, tried.dy), between(aimed.slope, tried.slope))


def newton_solution(
    stage: Stage, state: State, newton: NewtonMatrix, slope: FloatArray, rest: FloatArray
) -> tuple[FloatArray, FloatArray] | None:
    """Return (dw, dy) of (2) with t eliminated, for ∇φ = `slope` and r = `rest`."""
    n = stage.n
    factor, low_rank, attached = newton.factor, newton.low_rank, newton.sigma[n:]
    slope_x = slope[:n] + state.point.j.T @ state.y
    slope_t = slope[n:] + stage.gathered(state.y)
    right = stage.spread(slope_t / attached)
    right -= rest
    found = factor.solve(-slope_x, right) if low_rank is None else low_rank.solve(factor, -slope_x, right)
    if found is None or not (np.isfinite(found[0]).all() and np.isfinite(found[1]).all()):
        return None
    dx, dy = found
    dt = -(slope_t + stage.gathered(dy)) / attached
    return np.concatenate([dx, dt]), dy
