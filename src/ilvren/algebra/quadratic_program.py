"""Strictly convex quadratic programs by a dual active-set method.

    minimize    ½ d'Bd + g'd
    subject to  low_i <= a_i'd <= high_i                                                  (rows and bounds)

It starts at the unconstrained minimum and adds violated limits one at a time, each with a step that
keeps the multipliers of the active limits right-signed; a limit that no step can reach proves that the
limits conflict.

Source: D. Goldfarb, A. Idnani, "A numerically stable dual method for solving strictly convex quadratic
programs", 1983. The letters z (primal direction), r (dual direction), t₁, t₂ (step lengths) are theirs;
limits with two sides are one row here. Departs by factorizing the active normals anew at each step, which
costs more arithmetic than updating and loses no digits.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

__all__ = ["QuadraticSolution", "solve_quadratic", "solve_relaxed"]

FloatArray = NDArray[np.float64]

# A limit is missed when the miss exceeds this share of the numbers that make it up.
MISS_TOLERANCE = 1e-12
# A normal is dependent on the active ones when less than this share of its length is new.
DEPENDENT = 1e-10
# Added to a matrix that is not positive definite, relative to its largest entry, growing by tens.
FIRST_SHIFT = 1e-10


@dataclass(frozen=True)
class QuadraticSolution:
    """`step` (n,), `multipliers` of rows (m,) and of bounds (n,): positive at a lower limit, negative at
    an upper one. `outcome` is "solved", "conflict" (no point meets all limits) or "failed" (numbers broke down).
    For a relaxed program `misses` (m,) says by how much each row was relaxed."""

    step: FloatArray
    row_multipliers: FloatArray
    bound_multipliers: FloatArray
    outcome: str
    misses: FloatArray


def solve_quadratic(
    hessian: FloatArray,
    gradient: FloatArray,
    *,
    rows: FloatArray,
    row_limits: tuple[FloatArray, FloatArray],
    bounds: tuple[FloatArray, FloatArray],
) -> QuadraticSolution:
    """Solve the program. `hessian` (n, n) symmetric positive definite (shifted if it is not),
    `gradient` (n,), `rows` (m, n), `row_limits` and `bounds` pairs of (m,) and (n,) arrays."""
    n, m = len(gradient), len(rows)
    inverse_factor = _inverse_factor(hessian)  # columns of L⁻ᵀ, with B = L L'
    low = np.concatenate([bounds[0], row_limits[0]])
    high = np.concatenate([bounds[1], row_limits[1]])
    zeros = (np.zeros(n), np.zeros(m), np.zeros(n))
    if inverse_factor is None or not (np.isfinite(gradient).all() and np.isfinite(rows).all()):
        return QuadraticSolution(*zeros, "failed", np.zeros(m))
    found: tuple[FloatArray, FloatArray] | str
    try:
        found = _dual_active_set(inverse_factor, gradient, rows, low, high)
    except np.linalg.LinAlgError:  # numbers beyond what the factorizations can hold
        found = "failed"
    if isinstance(found, str):
        return QuadraticSolution(*zeros, found, np.zeros(m))
    step, multipliers = found
    step = np.clip(step, bounds[0], bounds[1])
    return QuadraticSolution(step, multipliers[n:], multipliers[:n], "solved", np.zeros(m))


def solve_relaxed(
    hessian: FloatArray,
    gradient: FloatArray,
    *,
    rows: FloatArray,
    row_limits: tuple[FloatArray, FloatArray],
    bounds: tuple[FloatArray, FloatArray],
    weight: float,
) -> QuadraticSolution:
    """Solve the program with every row relaxed by its own amount s, at a cost of ½·weight·s².

    It always has a solution when the bounds meet; bounds are never relaxed.
    """
    n, m = len(gradient), len(rows)
    wide_hessian = np.zeros((n + m, n + m))
    wide_hessian[:n, :n] = hessian
    # Slacks are measured in units of 1/√weight, so that their block of the matrix is the identity.
    wide_hessian[n:, n:] = np.eye(m)
    unit = 1.0 / math.sqrt(weight)
    endless = np.full(m, np.inf)
    solution = solve_quadratic(
        wide_hessian,
        np.concatenate([gradient, np.zeros(m)]),
        rows=np.hstack([rows, unit * np.eye(m)]),
        row_limits=row_limits,
        bounds=(np.concatenate([bounds[0], -endless]), np.concatenate([bounds[1], endless])),
    )
    return QuadraticSolution(
        solution.step[:n],
        solution.row_multipliers,
        solution.bound_multipliers[:n],
        solution.outcome,
        unit * np.abs(solution.step[n:]),
    )


def _inverse_factor(hessian: FloatArray) -> FloatArray | None:
    if not np.isfinite(hessian).all():
        return None
    largest = float(np.abs(hessian).max(initial=0.0)) or 1.0
    shift = 0.0
    for _ in range(12):
        try:
            factor = np.linalg.cholesky(hessian + shift * np.eye(len(hessian)))
            inverse: FloatArray = np.linalg.inv(factor).T
        except np.linalg.LinAlgError:
            pass
        else:
            if np.isfinite(inverse).all():
                return inverse
        shift = max(10.0 * shift, FIRST_SHIFT * largest)
    return None


def _dual_active_set(
    inverse_factor: FloatArray, gradient: FloatArray, rows: FloatArray, low: FloatArray, high: FloatArray
) -> tuple[FloatArray, FloatArray] | str:
    """Return (d, multipliers of [bounds, rows]), or "conflict" or "failed"."""
    n = len(gradient)
    normals = np.vstack([np.eye(n), rows])
    lengths = np.linalg.norm(normals, axis=1)
    is_equality = low == high
    d = -inverse_factor @ (inverse_factor.T @ gradient)
    active: list[int] = []
    sides: list[float] = []  # +1 at the lower limit, −1 at the upper
    u: list[float] = []
    finite_low, finite_high = np.isfinite(low), np.isfinite(high)
    size = np.where(finite_low, np.abs(low), 0.0)
    size = np.maximum(size, np.where(finite_high, np.abs(high), 0.0))
    skipped: set[int] = set()
    for _ in range(50 * (len(normals) + n) + 100):
        values = normals @ d
        slack = MISS_TOLERANCE * (size + lengths * float(np.linalg.norm(d)) + 1e-3 * lengths)
        miss = np.maximum(np.where(finite_low, low - values, -np.inf), np.where(finite_high, values - high, -np.inf))
        # Rows count by distance, not by their own scale; equalities come first.
        worth = np.where(miss > slack, miss / np.where(lengths > 0.0, lengths, 1e-300), 0.0)
        worth[active] = 0.0
        if skipped:
            worth[list(skipped)] = 0.0
        if not worth.any():
            multipliers = np.zeros(len(normals))
            multipliers[active] = np.array(u) * np.array(sides)
            return d, multipliers
        open_equalities = is_equality & (worth > 0.0)
        p = int(np.argmax(np.where(open_equalities, worth, -1.0) if open_equalities.any() else worth))
        side = 1.0 if low[p] - values[p] > values[p] - high[p] else -1.0
        if is_equality[p]:
            side = 1.0 if values[p] < low[p] else -1.0
        outcome, d = _add_limit(
            inverse_factor, normals, is_equality, d, (active, sides, u), (p, side, low[p] if side > 0 else high[p])
        )
        if outcome == "skip":
            skipped.add(p)
        elif outcome:
            return outcome
    return "failed"


def _add_limit(
    inverse_factor: FloatArray,
    normals: FloatArray,
    is_equality: NDArray[np.bool_],
    d: FloatArray,
    state: tuple[list[int], list[float], list[float]],
    limit: tuple[int, float, float],
) -> tuple[str, FloatArray]:
    """Steps 2(a) to 2(c) of the paper: make limit p active, dropping others on the way."""
    active, sides, u = state
    p, side, bound = limit
    normal = side * normals[p]
    own = 0.0
    turned = inverse_factor.T @ normal
    length = float(np.linalg.norm(turned))
    while True:
        if active:
            m = inverse_factor.T @ (normals[active] * np.array(sides)[:, None]).T
            q, upper = np.linalg.qr(m)
            inside = q.T @ turned
            rest = turned - q @ inside
            rest -= q @ (q.T @ rest)  # once more: the first pass leaves rounding along q
            r = np.linalg.solve(upper, inside)
        else:
            rest, r = turned, np.zeros(0)
        miss = side * bound - float(normal @ d)
        reach = float(rest @ rest)
        if not math.isfinite(reach):
            return "failed", d
        moves = math.sqrt(reach) > DEPENDENT * length and reach > 0.0
        t2 = miss / reach if moves else math.inf
        t1, leaving = math.inf, -1
        for place, index in enumerate(active):
            if not is_equality[index] and r[place] > 0.0 and u[place] / r[place] < t1:
                t1, leaving = u[place] / r[place], place
        t = min(t1, t2)
        if t == math.inf:
            # No step reaches it. A row that others make redundant to rounding is no conflict.
            scale = 1e-9 * (abs(bound) + float(np.linalg.norm(normals[p])) * (1.0 + float(np.linalg.norm(d))))
            return ("skip" if miss <= scale else "conflict"), d
        u[:] = [
            max(value - t * change, 0.0) if not is_equality[index] else value - t * change
            for value, change, index in zip(u, r, active, strict=True)
        ]
        own += t
        if moves:
            d = d + t * (inverse_factor @ rest)
        if t == t2:
            active.append(p)
            sides.append(side)
            u.append(own)
            return "", d
        del active[leaving], sides[leaving], u[leaving]
