"""The line search of `interior-point`: algorithm A-5 to A-7 of its paper, with second-order corrections.

Trial points w + α d, α halved, are accepted by the filter of pairs (θ = |r|₁, φ); multipliers of bounds go their own
length. Letters and source are those of `methods.interior_point`.
"""

from __future__ import annotations

import math
from collections.abc import Generator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Request
from ilvren.methods.pieces.barrier import (
    Stage,
    State,
    barrier_value,
    bound_steps,
    constraint_miss,
    dual_fraction_to_boundary,
    fraction_to_boundary,
    scaled_error,
)
from ilvren.methods.pieces.barrier_tests import Move
from ilvren.methods.pieces.filter_memory import Memory, accepts, least_length
from ilvren.methods.pieces.points import Point, evaluated, ratio
from ilvren.methods.pieces.primal_dual import Direction, NewtonMatrix, newton_solution

__all__ = ["ROUNDING", "line_searched", "towards_conditions"]

FloatArray = NDArray[np.float64]

# τ (paper).
LEAST_TAU = 0.99
# κ_Σ of the safeguard on z (paper).
SIGMA_SAFEGUARD = 1e10
# Second-order corrections: how many, and the share by which each must lower θ (paper).
MOST_CORRECTIONS, CORRECTED_SHARE = 4, 0.99
# A step that no trial shows to gain is taken where it leaves this share of the error in the conditions at most.
NEARER = 0.9
# Trial steps along one direction.
MOST_HALVINGS = 30
# Values are trusted to this many units of rounding.
ROUNDING = 10.0 * float(np.finfo(float).eps)


def line_searched(
    stage: Stage, state: State, newton: NewtonMatrix, found: Direction, memory: Memory, *, corrections: bool
) -> Generator[Request, Any, Move | None]:
    """Return the move to the accepted trial point of a backtracking search (A-5), None where there is none."""
    dw, dy, slope = found.dw, found.dy, found.slope
    n, w = stage.n, state.w
    tau = max(LEAST_TAU, 1.0 - state.mu)
    longest = fraction_to_boundary(state.gaps(stage), dw, tau)
    dz_low, dz_high = bound_steps(stage, state, dw, state.mu)
    theta, phi = constraint_miss(state.rest(stage)), barrier_value(stage, state, state.point, state.t)
    descent = float(slope @ dw)
    least = least_length(memory, theta, descent)
    slack = ROUNDING * max(abs(phi), abs(stage.objective(state.point.f, state.point.x, state.t)))
    alpha, count = longest, 0
    while (alpha > least or count == 0) and count < MOST_HALVINGS:
        at = np.clip(w + alpha * dw, stage.lower, stage.upper)
        if np.array_equal(at, w):
            break
        point = yield from evaluated(at[:n], derivatives=False)
        t = at[n:]
        new_theta, new_phi = constraint_miss(stage.rest(point.c, t)), barrier_value(stage, state, point, t)
        is_ok, is_f_type = accepts(memory, theta, phi, new_theta, new_phi, descent, alpha, slack)
        note = "full step" if count == 0 else f"step shortened to {alpha:.2g}"
        if not is_ok and count == 0 and corrections and new_theta >= theta and math.isfinite(new_theta):
            corrected = yield from _corrected(
                stage, state, newton, slope, memory, alpha, point, t, (theta, phi, descent, slack, tau)
            )
            if corrected is not None:
                point, t, is_f_type, dw = corrected
                note, is_ok = "full step with second-order correction", True
                new_phi = barrier_value(stage, state, point, t)
        if is_ok:
            there = yield from evaluated(point.x, derivatives=True)
            if there.has_derivatives:
                if not is_f_type:
                    memory.add(theta, phi)
                trial = _moved(stage, state, there, t, alpha * dy, (dz_low, dz_high), tau)
                length = float(np.abs(there.x - state.point.x).max(initial=0.0))
                gain_ratio = ratio(phi - new_phi, -alpha * descent)
                return Move(trial, length, note + _why(state, newton), gain_ratio)
        alpha *= 0.5
        count += 1
    return None


def towards_conditions(stage: Stage, state: State, found: Direction) -> Generator[Request, Any, Move | None]:
    """Return the full step, as `line_searched` does, where it brings the conditions of the barrier problem nearer,
    None elsewhere. At a feasible design no trial may be acceptable only because rounding hides what it gains: θ and φ
    are sums over all rows."""
    tau = max(LEAST_TAU, 1.0 - state.mu)
    alpha = fraction_to_boundary(state.gaps(stage), found.dw, tau)
    at = np.clip(state.w + alpha * found.dw, stage.lower, stage.upper)
    there = yield from evaluated(at[: stage.n], derivatives=True)
    if np.array_equal(at, state.w) or not (there.is_finite and there.has_derivatives):
        return None
    dz = bound_steps(stage, state, found.dw, state.mu)
    trial = _moved(stage, state, there, at[stage.n :], alpha * found.dy, dz, tau)
    if not scaled_error(stage, trial, state.mu) <= NEARER * scaled_error(stage, state, state.mu):
        return None
    length = float(np.abs(there.x - state.point.x).max(initial=0.0))
    return Move(trial, length, "full step for the conditions: rounding hides what it gains")


def _why(state: State, newton: NewtonMatrix) -> str:
    """Return what the step was made for, as clauses."""
    raised = f", curvature raised by {newton.shift:.0e} to descend" if newton.shift > 0.0 else ""
    return f" towards the barrier problem of {state.mu:.0e}{raised}"


def _moved(
    stage: Stage,
    state: State,
    there: Point,
    t: FloatArray,
    dy: FloatArray,
    dz: tuple[FloatArray, FloatArray],
    tau: float,
) -> State:
    """Return the next state: y with the primal step's length, z with its own, kept near μ over its distance."""
    share = min(dual_fraction_to_boundary(state.z_low, dz[0], tau), dual_fraction_to_boundary(state.z_high, dz[1], tau))
    moved = State(there, t, state.y + dy, state.z_low, state.z_high, state.mu)
    moved.z_low, moved.z_high = (
        _kept_near(z + share * d, gap, state.mu)
        for z, d, gap in zip((state.z_low, state.z_high), dz, moved.gaps(stage), strict=True)
    )
    return moved


def _kept_near(z: FloatArray, gap: FloatArray, mu: float) -> FloatArray:
    """Return z within κ_Σ of μ over the distance to the bound (equation 16 of the paper); 0 where there is none."""
    centre = mu / np.maximum(gap, 1e-300)
    return np.asarray(np.clip(z, centre / SIGMA_SAFEGUARD, SIGMA_SAFEGUARD * centre), dtype=np.float64)


def _corrected(
    stage: Stage,
    state: State,
    newton: NewtonMatrix,
    slope: FloatArray,
    memory: Memory,
    alpha: float,
    point: Point,
    t: FloatArray,
    known: tuple[float, float, float, float, float],
) -> Generator[Request, Any, tuple[Point, FloatArray, bool, FloatArray] | None]:
    """Second-order corrections: Newton steps on the rows at the trial point, with the same factorization."""
    theta, phi, descent, slack, tau = known
    n, w = stage.n, state.w
    rest = alpha * state.rest(stage) + stage.rest(point.c, t)
    last = theta
    for _ in range(MOST_CORRECTIONS):
        again = newton_solution(stage, state, newton, slope, rest)
        if again is None:
            return None
        share = fraction_to_boundary(state.gaps(stage), again[0], tau)
        at = np.clip(w + share * again[0], stage.lower, stage.upper)
        trial = yield from evaluated(at[:n], derivatives=False)
        new_theta, new_phi = constraint_miss(stage.rest(trial.c, at[n:])), barrier_value(stage, state, trial, at[n:])
        is_ok, is_f_type = accepts(memory, theta, phi, new_theta, new_phi, descent, alpha, slack)
        if is_ok:
            return trial, at[n:], is_f_type, again[0]
        if not new_theta <= CORRECTED_SHARE * last:
            return None
        last = new_theta
        rest = share * rest + stage.rest(trial.c, at[n:])
    return None
