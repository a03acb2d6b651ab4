"""Strictly convex quadratic programs by a dual active-set method.

    minimize    ½ d'Bd + g'd
    subject to  low_i <= a_i'd <= high_i                                                  (rows and bounds)

It starts at the unconstrained minimum and adds violated limits one at a time, each with a step that
keeps the multipliers of the active limits right-signed; a limit that no step can reach proves that the
limits conflict.

Source: D. Goldfarb, A. Idnani, "A numerically stable dual method for solving strictly convex quadratic
programs", 1983. The letters z (primal direction), r (dual direction), t₁, t₂ (step lengths) are theirs;
limits with two sides are one row here. Departs by starting from a guess of the active limits, where one is given, as
far as it is independent and its multipliers have the right signs; and by factorizing anew when a limit leaves.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

__all__ = ["QuadraticSolution", "solve_quadratic", "solve_relaxed"]

FloatArray = NDArray[np.float64]

# A limit is missed when the miss exceeds this share of the numbers that make it up.
MISS_TOLERANCE = 1e-12
# A normal is dependent on the active ones when less than this share of its length is new.
DEPENDENT = 1e-10
# A guessed limit is left out when less than this share is new.
GUESS_DEPENDENT = 1e-7
# Added to a matrix that is not positive definite, relative to its largest entry, growing by tens.
FIRST_SHIFT = 1e-10


@dataclass(frozen=True, eq=False)
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
    guess: QuadraticSolution | None = None,
) -> QuadraticSolution:
    """Solve the program. `hessian` (n, n) symmetric positive definite (shifted if it is not),
    `gradient` (n,), `rows` (m, n), `row_limits` and `bounds` pairs of (m,) and (n,) arrays; `guess` the solution of a
    similar program: its active limits are tried first."""
    n, m = len(gradient), len(rows)
    inverse_factor = _inverse_factor(hessian)  # columns of L⁻ᵀ, with B = L L'
    low = np.concatenate([bounds[0], row_limits[0]])
    high = np.concatenate([bounds[1], row_limits[1]])
    zeros = (np.zeros(n), np.zeros(m), np.zeros(n))
    if inverse_factor is None or not (np.isfinite(gradient).all() and np.isfinite(rows).all()):
        return QuadraticSolution(*zeros, "failed", np.zeros(m))
    found: tuple[FloatArray, FloatArray] | str
    try:
        found = _dual_active_set(inverse_factor, gradient, rows, low, high, _active_of(guess, low == high))
    except np.linalg.LinAlgError:  # numbers beyond what the factorizations can hold
        found = "failed"
    if isinstance(found, str):
        return QuadraticSolution(*zeros, found, np.zeros(m))
    step, multipliers = found
    step = np.clip(step, bounds[0], bounds[1])
    return QuadraticSolution(step, multipliers[n:], multipliers[:n], "solved", np.zeros(m))


def _active_of(guess: QuadraticSolution | None, is_equality: NDArray[np.bool_]) -> list[tuple[int, float]]:
    """Return (number, side) of the limits that hold a solution, equalities first."""
    if guess is None or guess.outcome != "solved":
        return []
    u = np.concatenate([guess.bound_multipliers, guess.row_multipliers])
    if len(u) != len(is_equality):
        return []
    numbers = np.flatnonzero(u)
    order = numbers[np.argsort(~is_equality[numbers], kind="stable")]
    return [(int(number), 1.0 if u[number] > 0.0 else -1.0) for number in order]


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

    It always has a solution when the bounds meet; bounds are never relaxed. Shapes: hessian (n, n), gradient (n,), rows
    (m, n), limits (m,) each, bounds (n,) each.
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


@dataclass(eq=False)
class _ActiveSet:
    """Limits held as equations: their numbers, sides (+1 at the lower limit, −1 at the upper) and multipliers u, with
    M = F'N = QR for the normals N turned by their sides, F F' = B⁻¹; `inverse` is R⁻¹."""

    numbers: list[int]
    sides: list[float]
    u: FloatArray
    q: FloatArray
    inverse: FloatArray

    @classmethod
    def empty(cls, n: int) -> _ActiveSet:
        return cls([], [], np.zeros(0), np.zeros((n, 0)), np.zeros((0, 0)))

    def split(self, turned: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return (what of F'n⁺ is new, r) for a normal; orthogonalised twice: one pass leaves rounding along Q."""
        inside = self.q.T @ turned
        rest = turned - self.q @ inside
        again = self.q.T @ rest
        return rest - self.q @ again, self.inverse @ (inside + again)

    def add(self, number: int, side: float, multiplier: float, turned: FloatArray) -> None:
        rest, r = self.split(turned)
        length = float(np.linalg.norm(rest))
        k = len(self.numbers)
        inverse = np.zeros((k + 1, k + 1))
        inverse[:k, :k] = self.inverse
        inverse[:k, k] = -r / length
        inverse[k, k] = 1.0 / length
        self.inverse, self.q = inverse, np.column_stack([self.q, rest / length])
        self.numbers.append(number)
        self.sides.append(side)
        self.u = np.append(self.u, multiplier)

    def drop(self, place: int, factor: FloatArray, normals: FloatArray) -> None:
        del self.numbers[place], self.sides[place]
        self.u = np.delete(self.u, place)
        if not self.numbers:
            self.q, self.inverse = self.q[:, :0], np.zeros((0, 0))
            return
        self.q, upper = np.linalg.qr(factor.T @ (normals[self.numbers] * np.array(self.sides)[:, None]).T)
        self.inverse = np.linalg.inv(upper)


def _guessed(
    factor: FloatArray,
    normals: FloatArray,
    lengths: FloatArray,
    is_equality: NDArray[np.bool_],
    d: FloatArray,
    limits: tuple[FloatArray, FloatArray],
    guess: list[tuple[int, float]],
) -> tuple[_ActiveSet, FloatArray]:
    """Return an active set and its minimum: what of the guess is independent and has multipliers of right sign."""
    held = _ActiveSet.empty(len(d))
    low, high = limits
    for number, side in guess:
        limit = low[number] if side > 0 else high[number]
        turned = factor.T @ (side * normals[number])
        if not math.isfinite(limit) or len(held.numbers) >= len(d):
            continue
        rest, _ = held.split(turned)
        if float(np.linalg.norm(rest)) > GUESS_DEPENDENT * float(np.linalg.norm(turned)):
            held.add(number, side, 0.0, turned)
    while held.numbers:
        sides = np.array(held.sides)
        limit = np.where(sides > 0, low[held.numbers], high[held.numbers])
        gap = sides * (limit - normals[held.numbers] @ d)
        part = held.inverse.T @ gap
        held.u = held.inverse @ part
        wrong = np.where(is_equality[held.numbers], 0.0, held.u)
        if not wrong.min() < 0.0:
            return held, d + factor @ (held.q @ part)
        held.drop(int(np.argmin(wrong)), factor, normals)
    return held, d


def _dual_active_set(
    inverse_factor: FloatArray,
    gradient: FloatArray,
    rows: FloatArray,
    low: FloatArray,
    high: FloatArray,
    guess: list[tuple[int, float]],
) -> tuple[FloatArray, FloatArray] | str:
    """Return (d, multipliers of [bounds, rows]), or "conflict" or "failed"."""
    n = len(gradient)
    normals = np.vstack([np.eye(n), rows])
    lengths = np.sqrt((normals * normals).sum(axis=1))
    is_equality = low == high
    d = -inverse_factor @ (inverse_factor.T @ gradient)
    held = _ActiveSet.empty(n)
    if guess:
        held, d = _guessed(inverse_factor, normals, lengths, is_equality, d, (low, high), guess)
    size = np.maximum(np.where(np.isfinite(low), np.abs(low), 0.0), np.where(np.isfinite(high), np.abs(high), 0.0))
    fixed_slack = MISS_TOLERANCE * (size + 1e-3 * lengths)
    distance = np.where(lengths > 0.0, lengths, 1e-300)
    skipped: set[int] = set()
    for _ in range(50 * (len(normals) + n) + 100):
        values = normals @ d
        slack = fixed_slack + MISS_TOLERANCE * lengths * math.sqrt(float(d @ d))
        miss = np.maximum(low - values, values - high)
        # Rows count by distance, not by their own scale; equalities come first.
        worth = np.where(miss > slack, miss / distance, 0.0)
        worth[held.numbers] = 0.0
        if skipped:
            worth[list(skipped)] = 0.0
        if not worth.any():
            multipliers = np.zeros(len(normals))
            multipliers[held.numbers] = held.u * np.array(held.sides)
            return d, multipliers
        open_equalities = is_equality & (worth > 0.0)
        p = int(np.argmax(np.where(open_equalities, worth, -1.0) if open_equalities.any() else worth))
        side = 1.0 if low[p] - values[p] > values[p] - high[p] else -1.0
        if is_equality[p]:
            side = 1.0 if values[p] < low[p] else -1.0
        limit = low[p] if side > 0 else high[p]
        outcome, d = _add_limit(inverse_factor, normals, is_equality, d, held, (p, side, limit))
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
    held: _ActiveSet,
    limit: tuple[int, float, float],
) -> tuple[str, FloatArray]:
    """Steps 2(a) to 2(c) of the paper: make limit p active, dropping others on the way."""
    p, side, bound = limit
    normal = side * normals[p]
    own = 0.0
    turned = inverse_factor.T @ normal
    length = math.sqrt(float(turned @ turned))
    while True:
        rest, r = held.split(turned)
        miss = side * bound - float(normal @ d)
        reach = float(rest @ rest)
        if not math.isfinite(reach):
            return "failed", d
        moves = math.sqrt(reach) > DEPENDENT * length and reach > 0.0
        t2 = miss / reach if moves else math.inf
        t1, leaving = math.inf, -1
        for place, number in enumerate(held.numbers):
            if r[place] > 0.0 and not is_equality[number] and held.u[place] / r[place] < t1:
                t1, leaving = held.u[place] / r[place], place
        t = min(t1, t2)
        if t == math.inf:
            # No step reaches it. A row that others make redundant to rounding is no conflict.
            scale = 1e-9 * (abs(bound) + float(np.linalg.norm(normals[p])) * (1.0 + float(np.linalg.norm(d))))
            return ("skip" if miss <= scale else "conflict"), d
        changed = held.u - t * r
        held.u = np.where(is_equality[held.numbers], changed, np.maximum(changed, 0.0)) if len(changed) else changed
        own += t
        if moves:
            d = d + t * (inverse_factor @ rest)
        if t == t2:
            held.add(p, side, own, turned)
            return "", d
        held.drop(leaving, inverse_factor, normals)
