"""The barrier problem of interior point methods: its parts, its merit, its errors, and how far steps may go.

    minimize  φ(w) = f(x) + ρ't − μ Σ log(w − l) − μ Σ log(u − w)   subject to  r(w) = c(x) + A t − b = 0        (1)

with w = (x, t), t the slacks of inequalities (and, while feasibility is restored, the misses of all rows).

Source: A. Wächter, L. T. Biegler, "On the implementation of an interior-point filter line-search algorithm for
large-scale nonlinear programming", Mathematical Programming 106, 2006, pages 25–57; its letters are used.
"""

from __future__ import annotations

import math
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.methods.base import Task
    from ilvren.methods.pieces.points import Point

__all__ = [
    "Stage",
    "State",
    "average_gap",
    "barrier_value",
    "bound_steps",
    "constraint_miss",
    "dual_fraction_to_boundary",
    "fraction_to_boundary",
    "inside",
    "lagrangian_slope",
    "main_stage",
    "powered",
    "scaled_error",
]

FloatArray = NDArray[np.float64]

# Powers are taken of no more than this.
HUGE = 1e100
IntArray = NDArray[np.int64]

# s_max of the scaled error (paper), κ_d of the pull on variables with one bound (chosen: small enough for the last μ).
MOST_SCALED, ONE_SIDED = 100.0, 1e-4
# Every limit of a row may be missed by this share of what counts as feasible: feasible sets without inside get one.
RELAXED = 1e-2


@dataclass(frozen=True, kw_only=True)
class Stage:
    """A problem (1): bounds `lower`, `upper` of w; which row each t is attached to and with what coefficient (A); the
    prices ρ of t; right-hand sides b (m,); for (3) the weights ζD² around `centre`, `weight` 0 leaving out f."""

    task: Task
    lower: FloatArray
    upper: FloatArray
    attached: IntArray
    signs: FloatArray
    prices: FloatArray
    b: FloatArray
    weight: float = 1.0
    pull: FloatArray | None = None
    centre: FloatArray | None = None

    @property
    def n(self) -> int:
        """Return the number of variables."""
        return len(self.task.start)

    def rest(self, c: FloatArray, t: FloatArray) -> FloatArray:
        """Return r (m,)."""
        rest = self.spread(t)
        rest += c
        rest -= self.b
        return rest

    @cached_property
    def _run(self) -> slice | None:
        """Return the rows that have a t, where each has one alone and they follow each other."""
        attached = self.attached
        is_run = len(attached) > 0 and bool((np.diff(attached) == 1).all())
        return slice(int(attached[0]), int(attached[-1]) + 1) if is_run else None

    def spread(self, values: FloatArray) -> FloatArray:
        """Return A v (m,) of values of t."""
        if self._run is None:
            return np.asarray(np.bincount(self.attached, self.signs * values, len(self.b)), dtype=np.float64)
        spread = np.zeros(len(self.b))
        np.multiply(self.signs, values, out=spread[self._run])
        return spread

    def gathered(self, y: FloatArray) -> FloatArray:
        """Return A'y, for each t, of values of rows (m,)."""
        return self.signs * y[self.attached if self._run is None else self._run]

    def objective(self, f: float, x: FloatArray, t: FloatArray) -> float:
        """Return f, or what (3) has in its place, with the prices of t. Shapes: x (n,), t (slacks,)."""
        own = self.weight * f if self.weight else 0.0
        if self.pull is not None and self.centre is not None:
            own += 0.5 * float(self.pull @ (x - self.centre) ** 2)
        return own + float(self.prices @ t)

    def slope(self, g: FloatArray, x: FloatArray) -> FloatArray:
        """Return the gradient of `objective` by x and t. Shapes: g and x (n,), result (n + slacks,)."""
        own = self.weight * g if self.weight else np.zeros(self.n)
        if self.pull is not None and self.centre is not None:
            own = own + self.pull * (x - self.centre)
        return np.concatenate([own, self.prices])

    @cached_property
    def bounded(self) -> tuple[IntArray, IntArray]:
        """Return the places of w that have a lower bound, and an upper one. Each is (count,)."""
        return np.flatnonzero(np.isfinite(self.lower)), np.flatnonzero(np.isfinite(self.upper))

    @property
    def bound_count(self) -> int:
        """Return how many finite bounds there are."""
        return len(self.bounded[0]) + len(self.bounded[1])

    @cached_property
    def alone(self) -> FloatArray:
        """Return 1 for what has a lower bound alone, −1 for an upper one alone, else 0. It is (w,)."""
        return np.isfinite(self.lower).astype(float) - np.isfinite(self.upper)

    def barrier(self, w: FloatArray, mu: float) -> float:
        """Return the logarithmic terms of φ, infinite outside the bounds. w is (n + slacks,)."""
        has_low, has_high = self.bounded
        low, high = w[has_low] - self.lower[has_low], self.upper[has_high] - w[has_high]
        if (low <= 0.0).any() or (high <= 0.0).any():
            return math.inf
        logs = float(np.log(low).sum() + np.log(high).sum())
        alone = float(low[self.alone[has_low] > 0.0].sum() + high[self.alone[has_high] < 0.0].sum())
        return -mu * logs + ONE_SIDED * mu * alone

    def barrier_slope(self, gaps: tuple[FloatArray, FloatArray], mu: float) -> FloatArray:
        """Return the gradient of `barrier` where w has these distances from its bounds. All are (n + slacks,)."""
        low, high = gaps
        return np.asarray(mu / high - mu / low + (ONE_SIDED * mu) * self.alone, dtype=np.float64)


@dataclass
class State:
    """Where (1) stands: the point with its derivatives, t, the multipliers y of r = 0 (of f + y'r) and z."""

    point: Point
    t: FloatArray
    y: FloatArray
    z_low: FloatArray
    z_high: FloatArray
    mu: float

    def __post_init__(self) -> None:
        self.w = np.concatenate([self.point.x, self.t])
        self._gaps: tuple[FloatArray, FloatArray] | None = None
        self._rest: FloatArray | None = None

    def gaps(self, stage: Stage) -> tuple[FloatArray, FloatArray]:
        """Return w − l and u − w, infinite where there is no bound. Both are (n + slacks,)."""
        if self._gaps is None:
            self._gaps = self.w - stage.lower, stage.upper - self.w
        return self._gaps

    def rest(self, stage: Stage) -> FloatArray:
        """Return r (m,)."""
        if self._rest is None:
            self._rest = stage.rest(self.point.c, self.t)
        return self._rest


def main_stage(task: Task) -> Stage:
    """Return the stage that solves the task itself: a slack for each row that is no equation."""
    is_free = task.row_lower < task.row_upper
    rows = np.flatnonzero(is_free)
    slack = RELAXED * task.feasibility * task.row_sizes[rows]
    b = np.where(is_free, 0.0, task.row_lower)
    return Stage(
        task=task,
        lower=np.concatenate([task.lower, task.row_lower[rows] - slack]),
        upper=np.concatenate([task.upper, task.row_upper[rows] + slack]),
        attached=rows,
        signs=np.full(len(rows), -1.0),
        prices=np.zeros(len(rows)),
        b=b,
    )


def inside(x: FloatArray, lower: FloatArray, upper: FloatArray, share: float) -> FloatArray:
    """Return x moved inside its bounds by a share of their size or of their distance. All are (n,)."""
    width = upper - lower
    low = np.where(
        np.isfinite(lower), lower + np.minimum(share * np.maximum(1.0, np.abs(lower)), share * width), -np.inf
    )
    high = np.where(
        np.isfinite(upper), upper - np.minimum(share * np.maximum(1.0, np.abs(upper)), share * width), np.inf
    )
    moved: FloatArray = np.minimum(np.maximum(x, low), high)
    # Bounds as close as rounding: the middle.
    return np.where((moved > lower) & (moved < upper), moved, 0.5 * (lower + upper))


def constraint_miss(rest: FloatArray) -> float:
    """Return θ of r (m,), infinite where a row is invalid."""
    theta = float(np.abs(rest).sum())
    return theta if math.isfinite(theta) else math.inf


def barrier_value(stage: Stage, state: State, point: Point, t: FloatArray) -> float:
    """Return φ of (1), infinite where it is invalid. t is (slacks,)."""
    if not math.isfinite(point.f) and stage.weight:
        return math.inf
    w = np.concatenate([point.x, t])
    phi = stage.objective(point.f, point.x, t) + stage.barrier(w, state.mu)
    return phi if math.isfinite(phi) else math.inf


def scaled_error(stage: Stage, state: State, mu: float) -> float:
    """Return the scaled error E_μ of the conditions of (1)."""
    slope = lagrangian_slope(stage, state)
    complementarity = [
        gap[has] * z[has] - mu
        for gap, z, has in zip(state.gaps(stage), (state.z_low, state.z_high), stage.bounded, strict=True)
    ]
    total = float(np.abs(state.z_low).sum() + np.abs(state.z_high).sum())
    k = max(stage.bound_count, 1)
    scale_gap = max(MOST_SCALED, total / k) / MOST_SCALED
    count = max(k + len(state.y), 1)
    scale_slope = max(MOST_SCALED, (total + float(np.abs(state.y).sum())) / count) / MOST_SCALED
    rest = np.abs(state.rest(stage))
    worst = max(
        float(np.abs(slope).max(initial=0.0)) / scale_slope,
        # A row is met in its own size, which may be far smaller than what its gradient scales it by.
        float((rest / np.minimum(stage.task.row_sizes, 1.0)).max(initial=0.0)),
        *(float(np.abs(gap).max(initial=0.0)) / scale_gap for gap in complementarity),
    )
    return worst if math.isfinite(worst) else math.inf


def average_gap(stage: Stage, state: State) -> float:
    """Return the average of z (w − l) and z (u − w)."""
    (low, high), (has_low, has_high) = state.gaps(stage), stage.bounded
    total = float(low[has_low] @ state.z_low[has_low] + high[has_high] @ state.z_high[has_high])
    return total / max(stage.bound_count, 1)


def lagrangian_slope(stage: Stage, state: State) -> FloatArray:
    """Return the gradient of the Lagrangian of (1) with z in place of the barrier's own. It is (n + slacks,)."""
    slope = stage.slope(state.point.g, state.point.x)
    slope = slope - state.z_low + state.z_high
    slope[: stage.n] += state.point.j.T @ state.y
    slope[stage.n :] += stage.gathered(state.y)
    return slope


def fraction_to_boundary(gaps: tuple[FloatArray, FloatArray], dw: FloatArray, tau: float) -> float:
    """Return the longest α ≤ 1 that keeps the share 1 − τ of every distance to a bound. All are (n + slacks,)."""
    low, high = gaps
    with np.errstate(divide="ignore", invalid="ignore"):
        most = max(np.fmax.reduce(dw / high, initial=0.0), -np.fmin.reduce(dw / low, initial=0.0))
    return 1.0 if most <= tau else float(tau / most)


def dual_fraction_to_boundary(z: FloatArray, dz: FloatArray, tau: float) -> float:
    """Return the longest α ≤ 1 that keeps the share 1 − τ of every z. Both are (n + slacks,)."""
    down = dz < 0.0
    return float(min(1.0, np.min(tau * z[down] / -dz[down], initial=np.inf)))


def bound_steps(stage: Stage, state: State, dw: FloatArray, mu: float) -> tuple[FloatArray, FloatArray]:
    """Return (dz_l, dz_u) of the linearised complementarity."""
    low, high = state.gaps(stage)
    return (mu - state.z_low * dw) / low - state.z_low, (mu + state.z_high * dw) / high - state.z_high


def powered(value: float, power: float) -> float:
    """Return value^power for value ≥ 0, without the exception Python makes of an overflow."""
    return math.pow(min(value, HUGE), power)
