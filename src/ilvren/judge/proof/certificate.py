"""A certificate by intervals that a design is the only first-order point, and a strict minimum, in a box around it.

With A the active limits (equalities included), F the variables that no active bound holds, u multipliers of A, the
first-order points that press on all of A are the zeros of

    G(x, u) = ( ∇f(x)_F − J_A(x)_F' u ,  c_A(x) − limits )                                             (1)

Over a box X = x* ± r·sizes, for a list of r at once:

  - the rows that are not in A, and the bounds of F, stay strictly inactive on X, so that they have no multipliers;
  - with Y a left inverse of J_A(x*)_F', every u that balances ∇f anywhere in X lies in
        U = u* ± |Y (∇f(X) − J(X)'u*)| / (1 − |I − Y J(X)'|)                                            (2)
    and there inequalities press with a strict sign, active bounds too: so no first-order point of X leaves A;
  - with K(X, U) ∋ all Jacobians of (1), R ≈ K⁻¹ and ρ the radii of X, U
        |R G(x*, u*)| + |I − R K(X, U)| ρ < ρ                                                           (3)
    proves one zero in X × U and no other, and that every matrix in K(X, U) is regular. Being connected, they all have
    the inertia of the one in the middle: where that is (|F|, |A|, 0) the curvature of the Lagrangian is positive on
    the tangent space all over the box.

Sources: R. Krawczyk, "Newton-Algorithmen zur Bestimmung von Nullstellen mit Fehlerschranken", 1969, (3);
S. M. Robinson, "Strongly regular generalized equations", 1980; A. Neumaier, "Interval Methods for Systems of
Equations", 1990, chapter 5; (2): the same, chapter 4. The inertia: N. Gould, "On practical conditions for the
existence and uniqueness of solutions to the general equality quadratic programming problem", 1985.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.formula import BatchIntervals, BatchValues, gradient
from ilvren.problem import Problem, scalar_problem
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.judge.optimum.judged import JudgedDesign

__all__ = ["Certificate", "certified"]

FloatArray = NDArray[np.float64]
Ends = tuple[FloatArray, FloatArray]

# Beyond so many free variables or rows the second derivatives would take too long.
MOST_VARIABLES, MOST_ROWS, MOST_NODES = 40, 120, 60_000
# The radii tried, in sizes, all at once.
RADII = 10.0 ** np.arange(-0.5, -9.1, -0.5)
# Rounds in which U is widened until (3) holds, and by how much beyond what it needs.
ROUNDS, WIDER = 6, 1.2
# What sums of so few products lose to rounding, relative to the sum of their magnitudes.
ROUNDING = 1e-14
# An eigenvalue of this share of the largest has a certain sign.
CERTAIN_SIGN = 1e-12


@dataclass(frozen=True)
class Certificate:
    """`radius` in the variables' sizes, None where none could be given; `why` not, or `what` was shown, as a clause."""

    radius: float | None
    clause: str


def certified(case: JudgedDesign) -> Certificate:
    """Return the certificate of a design whose conditions have been measured."""
    problem = case.problem
    conditions = case.conditions
    if problem.sources:
        return Certificate(None, "a model's inside is not known to intervals")
    if conditions is None or not np.isfinite(conditions.row_multipliers).all():
        return Certificate(None, "there are no multipliers")
    if len(problem.free) > MOST_VARIABLES or problem.row_count > MOST_ROWS:
        what = f"{len(problem.free)} variables and {problem.row_count} rows are too many for intervals"
        return Certificate(None, what)
    written = scalar_problem(problem)
    if written is None:
        return Certificate(None, "formulas as long as these cannot be followed by intervals")
    try:
        setting = _Setting(case, written)
    except _Refused as refused:
        return Certificate(None, str(refused))
    with np.errstate(all="ignore"):
        return setting.tried()


class _Refused(Exception):
    pass


class _Setting:
    """The first-order system of one design; see the head of this file."""

    def __init__(self, case: JudgedDesign, problem: Problem) -> None:
        assert case.conditions is not None
        assert problem.objective is not None
        conditions = case.conditions
        self.sign = float(problem.objective.sign)
        free = case.problem.continuous_places
        sides = conditions.bound_sides[free]
        is_held = np.abs(sides) == 1
        self.held, self.moving = free[is_held], free[~is_held]
        self.held_sides = sides[is_held]
        self.active = np.flatnonzero(conditions.row_sides)
        self.sides = conditions.row_sides[self.active]
        if len(self.active) > len(self.moving):
            raise _Refused("more limits are active than variables could hold")
        measures = case.measures
        self.lower, self.upper = measures.lower, measures.upper
        self.row_lower, self.row_upper = measures.row_lower, measures.row_upper
        self.limits = np.where(self.sides == 1, self.row_upper[self.active], self.row_lower[self.active])
        self.point = case.point.copy()
        self.point[self.held] = np.where(self.held_sides == -1, self.lower[self.held], self.upper[self.held])
        self.sizes = case.sizes
        self.u = conditions.row_multipliers[self.active].copy()
        self.rows = [block.node for block in problem.row_blocks]
        self._build(problem, [*self.moving.tolist(), *self.held.tolist()])

    def _build(self, problem: Problem, variables: list[int]) -> None:
        assert problem.objective is not None
        graph = problem.graph
        primary = [problem.objective.node, *self.rows]
        wanted = set(variables)
        self.slopes = [{i: n for i, n in gradient(graph, node).items() if i in wanted} for node in primary]
        moving = set(self.moving.tolist())
        active = {0, *(int(i) + 1 for i in self.active)}
        self.seconds: dict[int, dict[tuple[int, int], int]] = {}
        for number in active:
            own: dict[tuple[int, int], int] = {}
            for i, slope in self.slopes[number].items():
                if i in moving and not graph.is_constant(slope):
                    own |= {(i, j): s for j, s in gradient(graph, slope).items() if j in moving and j <= i}
                if len(graph.nodes) > MOST_NODES:
                    raise _Refused("second derivatives as long as these cannot be followed by intervals")
            self.seconds[number] = own
        nodes = [n for slopes in self.slopes for n in slopes.values()]
        nodes += [n for seconds in self.seconds.values() for n in seconds.values()]
        self.primary = primary
        self.intervals = BatchIntervals(graph, primary, nodes, problem.parameter_values)

    def tried(self) -> Certificate:
        """Try all radii; return the certificate of the largest that passes."""
        reach = RADII[:, np.newaxis] * self.sizes
        places = np.concatenate([self.moving, self.held])
        low, high = (np.repeat(self.point[np.newaxis], len(RADII), axis=0) for _ in range(2))
        low[:, places] -= reach[:, places]
        high[:, places] += reach[:, places]
        is_inside = ((low > self.lower) & (high < self.upper))[:, self.moving].all(axis=1)
        low, high = np.maximum(low, self.lower), np.minimum(high, self.upper)
        box = self.intervals.forward(low, high)
        thin = self.intervals.forward(self.point[np.newaxis], self.point[np.newaxis])
        why = np.full(len(RADII), "", dtype=object)
        why[~is_inside] = "a bound lies within the box, though the design is not at it"
        why[~box.is_twice & (why == "")] = "a formula may have a kink or leave its domain within the box"
        self._check_inactive(box, thin, low, high, why)
        for k in np.flatnonzero(why == ""):
            why[k] = self._why_not(int(k), box, thin, low[k], high[k])
            if not why[k]:
                return Certificate(float(RADII[k]), "")
        return Certificate(None, str(why[-1]))

    # ---- pieces -------------------------------------------------------------------------------

    def _check_inactive(
        self, box: BatchValues, thin: BatchValues, low: FloatArray, high: FloatArray, why: NDArray[np.object_]
    ) -> None:
        """Rows that are not active must be strictly so over the whole box, by values or by mean value forms."""
        count = len(low)
        inactive = np.setdiff1d(np.arange(len(self.rows)), self.active)
        for i in inactive.tolist():
            own_low, own_high = (np.broadcast_to(side, (count,)) for side in box.boxes[self.rows[i]])
            middle_low, middle_high = (np.broadcast_to(side, (1,))[0] for side in thin.boxes[self.rows[i]])
            rise = np.zeros(count)
            for j, node in self.slopes[i + 1].items():
                steepest = np.maximum(*(np.abs(np.broadcast_to(side, (count,))) for side in box.boxes[node]))
                rise += steepest * np.maximum(high[:, j] - self.point[j], self.point[j] - low[:, j])
            rise *= 1.0 + ROUNDING * 100
            own_low, own_high = np.fmax(own_low, middle_low - rise), np.fmin(own_high, middle_high + rise)
            is_strict = (own_low > self.row_lower[i]) & (own_high < self.row_upper[i])
            why[~is_strict & (why == "")] = "a limit that is not active may become so within the box"

    def _ends(self, values: BatchValues, node: int, k: int) -> tuple[float, float]:
        low, high = values.boxes[node]
        return float(low[k] if np.ndim(low) else low), float(high[k] if np.ndim(high) else high)

    def _gradient(self, values: BatchValues, k: int, variables: NDArray[np.int64]) -> Ends:
        low, high = self._row(values, 0, k, variables)
        return (low, high) if self.sign > 0 else (-high, -low)

    def _row(self, values: BatchValues, number: int, k: int, variables: NDArray[np.int64]) -> Ends:
        low, high = np.zeros(len(variables)), np.zeros(len(variables))
        for place, j in enumerate(variables.tolist()):
            if j in self.slopes[number]:
                low[place], high[place] = self._ends(values, self.slopes[number][j], k)
        return low, high

    def _jacobian(self, values: BatchValues, k: int, variables: NDArray[np.int64]) -> Ends:
        rows = [self._row(values, int(i) + 1, k, variables) for i in self.active]
        shape = (len(self.active), len(variables))
        return np.array([r[0] for r in rows]).reshape(shape), np.array([r[1] for r in rows]).reshape(shape)

    def _why_not(self, k: int, box: BatchValues, thin: BatchValues, low: FloatArray, high: FloatArray) -> str:
        """Return which of the conditions fails on box k, or nothing."""
        moving, m = self.moving, len(self.active)
        j_low, j_high = self._jacobian(box, k, moving)
        g_low, g_high = self._gradient(box, k, moving)
        if not all(np.isfinite(part).all() for part in (j_low, j_high, g_low, g_high)):
            return "derivatives within the box have no bounds"
        j_mid, j_rad = _middle(j_low, j_high)
        radius_u = np.zeros(m)
        if m:
            point_low, point_high = self._jacobian(thin, 0, moving)
            y = np.linalg.pinv((0.5 * (point_low + point_high)).T)
            off = _distance(y, j_mid.T, j_rad.T)
            rest_low, rest_high = _less(g_low, g_high, j_low, j_high, self.u)
            rest_mid, rest_rad = _middle(rest_low, rest_high)
            size = np.abs(y @ rest_mid) + np.abs(y) @ (rest_rad + ROUNDING * np.abs(rest_mid))
            spread = np.linalg.norm(off, ord=np.inf)
            if not spread < 1.0:
                return "the gradients of the active limits may become dependent within the box"
            # (I − |I − YJ'|)⁻¹ ≥ 0, by its series; the remainder is bounded by the largest component.
            radius_u = size + off @ size + spread**2 / (1.0 - spread) * size.max(initial=0.0)  # (2)
            is_pressed = np.where(self.sides == -1, self.u - radius_u > 0.0, self.u + radius_u < 0.0)
            if not (is_pressed | (self.sides == 2)).all():
                return "an active limit may stop pressing within the box"
        if len(self.held) and not self._held_press(k, box, radius_u):
            return "an active bound may stop pressing within the box"
        if not len(moving):
            return ""
        return self._regular(k, (box, thin), (j_mid, j_rad), radius_u, np.maximum(high - self.point, self.point - low))

    def _held_press(self, k: int, box: BatchValues, radius_u: FloatArray) -> bool:
        g_low, g_high = self._gradient(box, k, self.held)
        j_low, j_high = self._jacobian(box, k, self.held)
        low, high = _less(g_low, g_high, j_low, j_high, self.u, radius_u)
        return bool(np.where(self.held_sides == -1, low > 0.0, high < 0.0).all())

    def _regular(
        self,
        k: int,
        values: tuple[BatchValues, BatchValues],
        jacobian: Ends,
        radius_u: FloatArray,
        reach: FloatArray,
    ) -> str:
        box, thin = values
        moving, n, m = self.moving, len(self.moving), len(self.active)
        scale = self.sizes[moving]
        residual_low, residual_high = self._system(thin)
        radius_x = reach[moving]
        j_mid, j_rad = jacobian
        radius_u = np.maximum(radius_u, ROUNDING * np.abs(self.u))
        for _ in range(ROUNDS):
            h_low, h_high = self._hessian(box, k, radius_u)
            if not (np.isfinite(h_low).all() and np.isfinite(h_high).all()):
                return "second derivatives within the box have no bounds"
            h_mid, h_rad = _middle(h_low, h_high)
            middle, radius = np.zeros((n + m, n + m)), np.zeros((n + m, n + m))
            middle[:n, :n], radius[:n, :n] = h_mid, h_rad
            middle[:n, n:], radius[:n, n:] = -j_mid.T, j_rad.T
            middle[n:, :n], radius[n:, :n] = j_mid, j_rad
            try:
                inverse = np.linalg.inv(middle)
            except np.linalg.LinAlgError:
                return "the curvature on the active limits is zero"
            if not np.isfinite(inverse).all():
                return "the curvature on the active limits is zero"
            rho = np.concatenate([radius_x, radius_u])
            off = _distance(inverse, middle, radius)
            mid, rad = _middle(residual_low, residual_high)
            step = np.abs(inverse @ mid) + np.abs(inverse) @ (rad + ROUNDING * np.abs(mid))
            needed = (step + off @ rho) * (1.0 + 100 * ROUNDING)
            if (needed < rho).all():
                return self._inertia(h_mid, j_mid, scale)
            if not (needed[:n] < radius_x).all() and _ == 0 and not (off[:n, :n] @ radius_x < radius_x).all():
                return "the curvature may vanish within the box"
            radius_u = np.maximum(radius_u, WIDER * needed[n:])  # (3) for a wider U, which holds the one needed
        return "the design is not near enough to a first-order point for its box, or the curvature may vanish in it"

    def _inertia(self, h: FloatArray, j: FloatArray, scale: FloatArray) -> str:
        n, m = h.shape[0], j.shape[0]
        scaled = j * scale
        lengths = np.linalg.norm(scaled, axis=1, keepdims=True)
        scaled = scaled / np.where(lengths > 0.0, lengths, 1.0)
        curved = h * np.outer(scale, scale)
        largest = max(float(np.abs(curved).max(initial=0.0)), 1e-300)
        matrix = np.block([[curved / largest, scaled.T], [scaled, np.zeros((m, m))]])
        eigenvalues = np.linalg.eigvalsh(matrix)
        room = CERTAIN_SIGN * float(np.abs(eigenvalues).max(initial=0.0))
        if int((eigenvalues > room).sum()) == n and int((eigenvalues < -room).sum()) == m:
            return ""
        return "the curvature on the active limits is not positive"

    def _system(self, thin: BatchValues) -> Ends:
        """Return ends of G(x*, u*)."""
        g_low, g_high = self._gradient(thin, 0, self.moving)
        j_low, j_high = self._jacobian(thin, 0, self.moving)
        low, high = _less(g_low, g_high, j_low, j_high, self.u)
        rows = [self._ends(thin, self.rows[int(i)], 0) for i in self.active]
        gap_low = np.array([r[0] for r in rows]) - self.limits if rows else np.zeros(0)
        gap_high = np.array([r[1] for r in rows]) - self.limits if rows else np.zeros(0)
        return np.concatenate([low, gap_low]), np.concatenate([high, gap_high])

    def _hessian(self, box: BatchValues, k: int, radius_u: FloatArray) -> Ends:
        """Return ends (n, n) of the second derivatives of the Lagrangian over X × U."""
        n = len(self.moving)
        place = {j: p for p, j in enumerate(self.moving.tolist())}
        low, high, size = np.zeros((n, n)), np.zeros((n, n)), np.zeros((n, n))
        weights = [(0, self.sign, self.sign)]
        weights += [(int(i) + 1, -(u + r), -(u - r)) for i, u, r in zip(self.active, self.u, radius_u, strict=True)]
        for number, weight_low, weight_high in weights:
            for (i, j), node in self.seconds[number].items():
                ends = self._ends(box, node, k)
                products = [w * e for w in (weight_low, weight_high) for e in ends]
                a, b = place[i], place[j]
                for one, other in {(a, b), (b, a)}:
                    low[one, other] += min(products)
                    high[one, other] += max(products)
                    size[one, other] += max(map(abs, products))
        return low - ROUNDING * size, high + ROUNDING * size


def _middle(low: FloatArray, high: FloatArray) -> Ends:
    """Return middle and radius, the radius rounded up."""
    middle = 0.5 * (low + high)
    return middle, np.maximum(high - middle, middle - low) * (1.0 + 1e-15) + 1e-300


def _distance(inverse: NDArray[Any], middle: FloatArray, radius: FloatArray) -> FloatArray:
    """Return an upper end of |I − R M| over all M in middle ± radius."""
    absolute = np.abs(inverse)
    found: FloatArray = np.abs(np.eye(len(inverse)) - inverse @ middle) + absolute @ radius
    found += ROUNDING * len(inverse) * (absolute @ np.abs(middle))
    return found


def _less(
    g_low: FloatArray,
    g_high: FloatArray,
    j_low: FloatArray,
    j_high: FloatArray,
    u: FloatArray,
    radius: FloatArray | None = None,
) -> Ends:
    """Return ends of g − J'u for u ± radius."""
    low, high, size = g_low.copy(), g_high.copy(), np.maximum(np.abs(g_low), np.abs(g_high))
    for number in range(len(u)):
        r = 0.0 if radius is None else radius[number]
        corners = [w * side[number] for w in (u[number] - r, u[number] + r) for side in (j_low, j_high)]
        most, least = np.maximum.reduce(corners), np.minimum.reduce(corners)
        low, high = low - most, high - least
        size = size + np.maximum(np.abs(most), np.abs(least))
    return low - ROUNDING * size, high + ROUNDING * size
