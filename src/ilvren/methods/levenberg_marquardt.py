"""Levenberg–Marquardt: least squares and robust fits, with bounds.

With residuals r, their losses ρ, Jacobian J and weights w_i = max(ρ''(r_i), 0), each iteration solves

    (J'WJ + μ D²) d = −J'ρ'(r)                                                                      (1)

over the parameters that no bound holds, D the largest column lengths of √W J so far. The projected step is taken when
the objective falls by a share γ of what the quadratic model predicts, and then

    μ ← μ max(1/3, 1 − (2γ − 1)³),     else μ ← μ ν, ν ← 2ν                                          (2)

Where so little is predicted that rounding hides it, a step is taken that halves the projected gradient. Parameters at
their bounds step by −g / max(1, μ D²).

Needs     residuals and their gradients: a [fit], or an objective that is a sum of squares.   Handles   bounds.
Cost      one Jacobian and mostly one value per iteration; arithmetic p n² (dense), linear in non-zeros (sparse).
Stops     when the conditions measured by the driver hold.   Weak   large residuals with strong curvature: slow.
Source    K. Levenberg, "A method for the solution of certain non-linear problems in least squares", 1944;
          D. W. Marquardt, 1963; J. J. Moré, "The Levenberg–Marquardt algorithm: implementation and theory", 1978,
          for D; H. B. Nielsen,
          "Damping parameter in Marquardt's method", 1999, for (2).
"""

from __future__ import annotations

import math
from collections.abc import Generator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import KktSystem, loss_values
from ilvren.methods.base import (
    SLOPES,
    VALUES,
    Assessment,
    Ending,
    Iterate,
    Method,
    Protocol,
    Reply,
    Request,
    Task,
    Want,
)
from ilvren.methods.pieces.descent import end_of, near_bounds
from ilvren.methods.pieces.escape import downhill_from_saddle
from ilvren.methods.pieces.options import option
from ilvren.methods.pieces.points import Point, is_lost, leads_nearer
from ilvren.records import dataclass

__all__ = ["METHOD", "LevenbergMarquardtOptions"]

FloatArray = NDArray[np.float64]

# Steps are taken above this share of the prediction; μ stays within these.
TAKEN, LEAST_DAMPING, MOST_DAMPING = 1e-4, 1e-15, 1e20
# What the largest column lengths so far are multiplied with where the damping cannot fall any more.
SHRINK = 0.3
# Columns shorter than this share of the longest are damped as if they were so long.
LEAST_COLUMN = 1e-10
# Looks for negative curvature at the end.
LOOKS = 5
ROUNDING = 10.0 * float(np.finfo(float).eps)


@dataclass(frozen=True)
class LevenbergMarquardtOptions:
    """Options of `levenberg-marquardt`."""

    damping: float = option(
        1e-3, low=1e-12, high=1e6, help="the first μ, relative to the curvature along each parameter"
    )


@dataclass(frozen=True)
class _Fit:
    """A point with its residuals r (p,) and their Jacobian J (p, n), None until asked for."""

    point: Point
    r: FloatArray
    j: Any


def levenberg_marquardt(task: Task, options: LevenbergMarquardtOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    if task.losses is None:
        return Ending("invalid", "the objective is not a sum of squares")
    here = yield from _fitted(np.clip(task.start, task.lower, task.upper), derivatives=True)
    if not here.point.is_finite or not np.isfinite(here.r).all():
        return Ending("invalid", "a residual has no finite value at the start")
    if not here.point.has_derivatives:
        return Ending("invalid", "a derivative is not finite at the start")
    step, note, gain_ratio = math.nan, "the start", math.nan
    damping, growth, looks = options.damping, 2.0, 0
    lengths = np.zeros(len(task.start))
    while True:
        assessment: Assessment = yield Iterate(here.point.x, step, note, gain_ratio)
        ended = end_of(task, here.point, assessment)
        if ended is not None and ended.claim == "converged" and looks < LOOKS:
            # (1) never sees negative curvature: a symmetric start may end at a saddle.
            lower = yield from downhill_from_saddle(task, here.point, np.zeros(0))
            if lower is not None:
                step, note = float(np.abs(lower.x - here.point.x).max()), "left a saddle along negative curvature"
                here, looks, gain_ratio = (yield from _fitted(lower.x, derivatives=True)), looks + 1, math.nan
                damping, growth = options.damping, 2.0
                continue
        if ended is not None:
            return ended
        held = near_bounds(task, here.point)
        _, _, curvature = loss_values(here.r, task.losses)
        weights = task.residual_weight * np.maximum(curvature, 0.0)
        lengths = np.maximum(lengths, _column_lengths(here.j, weights))
        scale = np.maximum(lengths, LEAST_COLUMN * max(float(lengths.max(initial=0.0)), 1e-300))
        asked = False
        while True:
            direction = _direction(task, here, weights, np.sqrt(damping) * scale, held)  # (1)
            x = here.point.x
            if direction is not None:
                # Those held are no part of (1): μ shortens their steps as it does the others', once it is large.
                alone = -here.point.g / np.maximum(1.0, damping * scale**2)
                x = np.clip(x + np.where(held, alone, direction), task.lower, task.upper)
            s = x - here.point.x
            if not s.any() or damping > MOST_DAMPING:
                if assessment.meets_conditions:
                    return Ending("converged", "no step improves the fit any further")
                return Ending("stalled", "no step improves the fit, yet its gradient is not zero")
            moved = here.j @ s
            predicted = -(float(here.point.g @ s) + 0.5 * float(weights @ (moved * moved)))
            trial = yield from _fitted(x, derivatives=False)
            share = _share(here.point, trial.point, predicted)
            lost = share < TAKEN and not asked and is_lost(here.point, trial.point, predicted)
            if share >= TAKEN or lost:
                asked = asked or lost  # once: the first step is the one that promises most
                there = yield from _fitted(x, derivatives=True)
                if lost and leads_nearer(task, here.point, there.point):
                    share = 1.0
                if share >= TAKEN and there.point.has_derivatives:
                    break
            damping, growth = damping * growth, 2.0 * growth  # (2)
        note = "Gauss–Newton step" if damping <= 1e-6 else f"damped step, μ = {damping:.1g}"
        damping = damping * max(1.0 / 3.0, 1.0 - (2.0 * min(share, 1.0) - 1.0) ** 3)
        if damping < LEAST_DAMPING:  # columns were far longer at the start: the largest so far would hold it back
            damping, lengths = LEAST_DAMPING, SHRINK * lengths
        growth, step, gain_ratio = 2.0, float(np.abs(s).max()), share
        here = there


def _fitted(x: FloatArray, *, derivatives: bool) -> Generator[Request, Any, _Fit]:
    wants = frozenset({Want.RESIDUALS}) | (SLOPES if derivatives else VALUES)
    reply: Reply = yield Request(x[np.newaxis, :], wants)
    assert reply.residuals is not None
    r = reply.residuals[0]
    if reply.gradient is None or reply.jacobian is None or reply.residual_jacobian is None:
        return _Fit(Point(x, float(reply.objective[0]), reply.rows[0], x, None), r, None)
    point = Point(x, float(reply.objective[0]), reply.rows[0], reply.gradient[0], reply.jacobian[0], True)
    return _Fit(point, r, reply.residual_jacobian[0])


def _column_lengths(jacobian: Any, weights: FloatArray) -> FloatArray:
    """Return (n,): the lengths of the columns of √W J."""
    if isinstance(jacobian, np.ndarray):
        squares = weights @ (jacobian * jacobian)
    else:
        squares = jacobian.multiply(jacobian).T @ weights
    lengths: FloatArray = np.sqrt(np.asarray(squares))
    return np.where(np.isfinite(lengths), lengths, 0.0)


def _direction(
    task: Task, here: _Fit, weights: FloatArray, scale: FloatArray, held: NDArray[np.bool_]
) -> FloatArray | None:
    """Return the solution of (1), D including √μ, or None where the numbers break down. Dense: from the stacked
    least-squares problem, which loses no digits to J'J; sparse: from its KKT form."""
    n = len(scale)
    gradient = np.where(held, 0.0, here.point.g)
    if task.is_sparse:
        from scipy.sparse import csr_array

        bottom = 1.0 / np.maximum(weights, 1e-12 * max(float(weights.max(initial=0.0)), 1e-300))
        top = np.where(held, 1e12 * np.maximum(scale**2, 1.0), scale**2)
        factor = KktSystem(n, len(weights), is_sparse=True).factored(csr_array((n, n)), top, here.j, bottom)
        found = factor.solve(-gradient, np.zeros(len(weights)))
        return None if found is None else found[0]
    free = np.flatnonzero(~held)
    direction = np.zeros(n)
    if not len(free):
        return direction
    root = np.sqrt(weights)[:, np.newaxis] * here.j[:, free]
    stacked = np.vstack([root, np.diag(scale[free])])
    try:
        triangle: FloatArray = np.asarray(np.linalg.qr(stacked, mode="r"), dtype=np.float64)
        half = np.linalg.solve(triangle.T, -gradient[free])
        direction[free] = np.linalg.solve(triangle, half)
    except np.linalg.LinAlgError:
        return None
    return direction if np.isfinite(direction).all() else None


def _share(here: Point, trial: Point, predicted: float) -> float:
    """Return the share of the prediction that came true; what lies within rounding counts as true."""
    if not math.isfinite(trial.f) or not predicted > 0.0:
        return -math.inf
    slack = ROUNDING * max(abs(here.f), abs(trial.f))
    return (here.f - trial.f + slack) / (predicted + slack)


METHOD = Method(
    name="levenberg-marquardt",
    about="least squares and robust fits, with bounds",
    kind="gradient-based",
    needs="residuals",
    handles=frozenset({"bounds"}),
    options=LevenbergMarquardtOptions,
    run=levenberg_marquardt,
    takes_sparse=True,
    cost="one Jacobian of the residuals and about one value per iteration; arithmetic p n^2",
    weak="large residuals with strong curvature",
)
