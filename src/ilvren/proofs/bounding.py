"""Lower bounds of the objective over the feasible designs of many boxes at once, by interval arithmetic.

For designs that meet all limits and multipliers u of the right signs, f(x) >= L(x) = f(x) − Σ u_i (c_i(x) − limit_i),
and over a box B with any p in B

    L(x) >= L(p) + Σ_j [∇L]_j(B) (x_j − p_j)                       (mean value form)           (1)

with p_j at the end from which a slope of one sign rises. u is fitted to each box, so that near every design that meets
the first-order conditions (1) is off by the square of the box's width only. Where the interval Hessian of L over B is
positive semi-definite, L is convex there and lies above its tangent plane at any p, here a Newton point:

    L(x) >= L(p) + ∇L(p)'(x − p)                                                               (2)

Semi-definiteness: with the middle Hm = V Λ V', T = V Λ^(−1/2), the radius R, it suffices that the row sums of
|T'| R |T| are at most 1 (J. Rohn, "Positive definiteness and stability of interval matrices", 1994).

Sources: R. Moore, "Interval Analysis", 1966; E. Hansen, G. W. Walster, "Global Optimization Using Interval Analysis",
2nd ed., 2004 (bounds of first order, monotonicity); O. Mangasarian, "Nonlinear Programming", 1969 (Lagrangian bounds).
"""

from __future__ import annotations

import itertools
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.formula import BatchIntervals, BatchValues, gradient
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.problem import Problem

__all__ = ["Bounder", "Boxes"]

FloatArray = NDArray[np.float64]

# Rounds of tightening by limits, before and after the bounds of first order.
ROUNDS = 2
# A share of the cutoff's size, far below any tolerance: rounding of sums made here.
ROUNDING = 1e-13
# An eigenvalue is known to some roundings of the largest. So a matrix counts as definite only where its least one is
# this share of the largest, and the test keeps this slack: a hundred times what those roundings can make of it.
LEAST_EIGENVALUE, EIGEN_SLACK = 1e-10, 1e-3
# Newton steps towards the least of a convex L.
NEWTON_STEPS = 3


@dataclass(frozen=True)
class Boxes:
    """Boxes with ends (k, n), the proved `bound` (k,) of the objective over their feasible designs, infinite where
    there
    are none, and `smear` (k, n): how much each variable's width matters."""

    lows: FloatArray
    highs: FloatArray
    bound: FloatArray
    smear: FloatArray


class Bounder:
    """Bounds for one problem of scalar formulas."""

    def __init__(self, problem: Problem) -> None:
        assert problem.objective is not None
        graph = problem.graph
        self.problem = problem
        self.sign = float(problem.objective.sign)
        self.rows = [block.node for block in problem.row_blocks]
        self.objective = problem.objective.node
        self.row_lower, self.row_upper = problem.joined_rows("lower"), problem.joined_rows("upper")
        self.free = problem.free_places
        primary = [self.objective, *self.rows]
        place = {variable: column for column, variable in enumerate(self.free.tolist())}
        self.slopes = [_by_place(gradient(graph, node), place) for node in primary]
        slope_nodes = [node for slopes in self.slopes for node in slopes.values()]
        self.first = BatchIntervals(graph, primary, slope_nodes, problem.parameter_values)
        self.seconds = [
            {
                (i, j): second
                for i, slope in slopes.items()
                for j, second in _by_place(gradient(graph, slope), place).items()
                if j <= i
            }
            for slopes in self.slopes
        ]
        second_nodes = [node for seconds in self.seconds for node in seconds.values()]
        self.second = BatchIntervals(graph, primary, [*slope_nodes, *second_nodes], problem.parameter_values)
        self._fixed = np.array(problem.start)
        self.domain = problem.joined("lower")[self.free], problem.joined("upper")[self.free]

    def bound(self, lows: FloatArray, highs: FloatArray, cutoff: float) -> Boxes:
        """Tighten boxes (k, n_free) and bound the internal objective over them; designs at or above `cutoff` need not
        be kept."""
        full = self._full(lows), self._full(highs)
        limits = {node: (low, high) for node, low, high in self._limits(cutoff)}
        lows, highs, empty = self.first.contracted(*full, limits, ROUNDS)
        lows, highs, off = self._snapped(lows, highs)
        empty |= off
        values = self.first.forward(lows, highs)
        bound, _ = self._internal(values)
        empty |= ~self._rows_possible(values)
        open_ = np.flatnonzero(~empty & (bound < cutoff))
        smear = np.zeros((len(lows), len(self.free)))
        if len(open_):
            better, own_smear, own_lows, own_highs, own_empty = self._first_order(
                lows[open_], highs[open_], _rows_of(values, open_), cutoff
            )
            bound = bound.copy()
            bound[open_] = np.maximum(bound[open_], better)
            smear[open_] = own_smear
            lows[open_], highs[open_] = own_lows, own_highs
            empty[open_[own_empty]] = True
        bound = np.where(empty, np.inf, bound)
        return Boxes(lows[:, self.free], highs[:, self.free], bound, smear)

    def convex_bound(self, lows: FloatArray, highs: FloatArray) -> FloatArray:
        """Return the bound (2) of boxes (k, n_free), −inf where L is not shown to be convex."""
        full_low, full_high = self._full(lows), self._full(highs)
        values = self.second.forward(full_low, full_high)
        k, n = lows.shape
        bound = np.full(k, -np.inf)
        middle = 0.5 * (full_low + full_high)
        slope, row_slopes = self._slopes_at(middle)
        multipliers = self._multipliers(slope, row_slopes, values, lows, highs)
        h_low, h_high = self._hessian(values, multipliers, k, n)
        finite = values.is_twice & np.isfinite(h_low).all(axis=(1, 2)) & np.isfinite(h_high).all(axis=(1, 2))
        chosen = np.flatnonzero(finite)
        if not len(chosen):
            return bound
        mid, radius = 0.5 * (h_low + h_high)[chosen], 0.5 * (h_high - h_low)[chosen]
        eigenvalues, vectors = np.linalg.eigh(mid)
        positive = eigenvalues[:, 0] > LEAST_EIGENVALUE * np.maximum(np.abs(eigenvalues).max(axis=1), 1e-300)
        scaled = vectors / np.sqrt(np.maximum(eigenvalues, 1e-300))[:, np.newaxis, :]
        spread = np.abs(scaled).transpose(0, 2, 1) @ radius @ np.abs(scaled)
        is_convex = positive & (spread.sum(axis=2).max(axis=1) <= 1.0 - EIGEN_SLACK)
        chosen, mid = chosen[is_convex], mid[is_convex]
        if not len(chosen):
            return bound
        point = middle[chosen]
        u = multipliers[chosen]
        low, high = full_low[chosen], full_high[chosen]
        for _ in range(NEWTON_STEPS):
            slope, row_slopes = self._slopes_at(point)
            total = slope - np.einsum("km,kmn->kn", u, row_slopes)
            step = np.linalg.solve(mid, -total[:, :, np.newaxis])[:, :, 0]
            point = point.copy()
            point[:, self.free] = np.clip(
                point[:, self.free] + np.nan_to_num(step), low[:, self.free], high[:, self.free]
            )
        thin = self.first.forward(point, point)
        value, slope_low, slope_high = self._lagrangian(thin, u)
        bound[chosen] = _along(value, slope_low, slope_high, point[:, self.free], lows[chosen], highs[chosen])  # (2)
        return bound

    # ---- pieces -------------------------------------------------------------------------------

    def _full(self, part: FloatArray) -> FloatArray:
        found = np.repeat(self._fixed[np.newaxis], len(part), axis=0)
        found[:, self.free] = part
        return found

    def _limits(self, cutoff: float) -> list[tuple[int, float, float]]:
        limits = [(node, low, high) for node, low, high in zip(self.rows, self.row_lower, self.row_upper, strict=True)]
        merged: dict[int, tuple[float, float]] = {}
        for node, low, high in limits:
            before = merged.get(node, (-np.inf, np.inf))
            merged[node] = (max(before[0], float(low)), min(before[1], float(high)))
        if self.objective not in merged and np.isfinite(cutoff):
            merged[self.objective] = (-np.inf, cutoff) if self.sign > 0 else (-cutoff, np.inf)
        return [(node, low, high) for node, (low, high) in merged.items()]

    def _snapped(self, lows: FloatArray, highs: FloatArray) -> tuple[FloatArray, FloatArray, NDArray[np.bool_]]:
        """Draw the ends of spaced and catalogue variables in to members; say which boxes hold none."""
        off = np.zeros(len(lows), dtype=bool)
        for place, variable in self.problem.grid:
            if place not in set(self.free.tolist()):
                continue
            if variable.catalogue is not None:
                listed = np.array(variable.catalogue, dtype=float)
                reach = 1e-9 * np.maximum(np.abs(listed), 1e-300)
                first = np.searchsorted(listed + reach, lows[:, place])
                last = np.searchsorted(listed - reach, highs[:, place], side="right") - 1
                off |= first > last
                lows[:, place] = listed[np.clip(first, 0, len(listed) - 1)]
                highs[:, place] = listed[np.clip(last, 0, len(listed) - 1)]
            else:
                assert variable.spacing is not None
                low = (
                    variable.lower
                    + np.ceil((lows[:, place] - variable.lower) / variable.spacing - 1e-9) * variable.spacing
                )
                high = (
                    variable.lower
                    + np.floor((highs[:, place] - variable.lower) / variable.spacing + 1e-9) * variable.spacing
                )
                off |= low > high
                lows[:, place], highs[:, place] = np.minimum(low, high), np.maximum(low, high)
        return lows, highs, off

    def _internal(self, values: BatchValues) -> tuple[FloatArray, FloatArray]:
        low, high = (np.broadcast_to(side, values.is_empty.shape) for side in values.boxes[self.objective])
        return (low, high) if self.sign > 0 else (-high, -low)

    def _rows_possible(self, values: BatchValues) -> NDArray[np.bool_]:
        possible = np.ones(len(values.is_empty), dtype=bool)
        for node, lower, upper in zip(self.rows, self.row_lower, self.row_upper, strict=True):
            low, high = values.boxes[node]
            possible &= (high >= lower) & (low <= upper)
        return possible

    def _first_order(
        self, lows: FloatArray, highs: FloatArray, values: BatchValues, cutoff: float
    ) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray, NDArray[np.bool_]]:
        """Return the bound (1), the smear, tightened boxes and which are empty."""
        k = len(lows)
        free = self.free
        middle = np.where(np.isfinite(lows) & np.isfinite(highs), 0.5 * (lows + highs), np.clip(0.0, lows, highs))
        slope, row_slopes = self._slopes_at(middle)
        half = 0.5 * (highs - lows)[:, free]
        smear = self._smear(values, half)
        multipliers = self._multipliers(slope, row_slopes, values, lows[:, free], highs[:, free])
        bound = np.full(k, -np.inf)
        box_low, box_high = lows[:, free], highs[:, free]
        usable = values.is_smooth & np.isfinite(half).all(axis=1)
        for u in (np.zeros_like(multipliers), multipliers) if len(self.rows) else (multipliers,):
            total_low, total_high = self._lagrangian_slopes(values, u)
            point = middle.copy()
            ends = np.where(total_low >= 0.0, box_low, np.where(total_high <= 0.0, box_high, middle[:, free]))
            point[:, free] = ends
            value, _, _ = self._lagrangian(self.first.forward(point, point, only_primary=True), u, slopes=False)
            found = _along(value, total_low, total_high, ends, box_low, box_high)  # (1)
            bound = np.where(usable & ~np.isnan(found), np.maximum(bound, found), bound)
        lows, highs, empty = lows.copy(), highs.copy(), np.zeros(k, dtype=bool)
        thin = self.first.forward(middle, middle, only_primary=True)
        for number in range(len(self.rows) + 1):
            node = self.objective if number == 0 else self.rows[number - 1]
            target = (
                ((-np.inf, cutoff) if self.sign > 0 else (-cutoff, np.inf))
                if number == 0
                else (self.row_lower[number - 1], self.row_upper[number - 1])
            )
            g_low, g_high = self._slopes(values, number, k)
            centre = tuple(np.broadcast_to(side, (k,)) for side in thin.boxes[node])
            empty |= _newton(lows, highs, middle, free, centre, (g_low, g_high), target, usable)
        return bound, smear, lows, highs, empty

    def _slopes_at(self, points: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return internal slopes (k, n_free) and (k, m, n_free) at points, for guidance only: middles of thin
        intervals."""
        thin = self.first.forward(points, points)
        k = len(points)
        slope = self.sign * 0.5 * np.add(*self._slopes(thin, 0, k))
        row_slopes = np.zeros((k, len(self.rows), len(self.free)))
        for number in range(len(self.rows)):
            row_slopes[:, number] = 0.5 * np.add(*self._slopes(thin, number + 1, k))
        return slope, row_slopes

    def _slopes(self, values: BatchValues, number: int, k: int) -> tuple[FloatArray, FloatArray]:
        """Return ends (k, n_free) of the slopes of the objective as written (0) or of a row."""
        low, high = np.zeros((k, len(self.free))), np.zeros((k, len(self.free)))
        for column, node in self.slopes[number].items():
            low[:, column], high[:, column] = values.boxes[node]
        return low, high

    def _lagrangian_slopes(self, values: BatchValues, u: FloatArray) -> tuple[FloatArray, FloatArray]:
        k = len(values.is_empty)
        low, high = self._slopes(values, 0, k)
        low, high = (low, high) if self.sign > 0 else (-high, -low)
        for number in range(len(self.rows)):
            g_low, g_high = self._slopes(values, number + 1, k)
            own = u[:, number : number + 1]
            one, other = -own * g_low, -own * g_high
            is_used = own != 0.0
            low = np.where(is_used, low + np.minimum(one, other), low)
            high = np.where(is_used, high + np.maximum(one, other), high)
        slack = 1e-15 * (1 + len(self.rows)) * (np.abs(low) + np.abs(high))
        return low - slack, high + slack

    def _lagrangian(
        self, thin: BatchValues, u: FloatArray, *, slopes: bool = True
    ) -> tuple[FloatArray, FloatArray, FloatArray]:
        """Return a lower end of L (k,), and ends of its slopes, from intervals at points."""
        value, _ = self._internal(thin)
        value = value.copy()
        total = np.abs(value)
        for number, node in enumerate(self.rows):
            own = u[:, number]
            low, high = (np.broadcast_to(side, own.shape) for side in thin.boxes[node])
            # u > 0 presses at the lower limit: u (c − lower) >= 0 of every feasible design; u < 0 at the upper.
            limit = np.where(own > 0.0, self.row_lower[number], self.row_upper[number])
            part = np.maximum(own * (low - limit), own * (high - limit))
            value = np.where(own != 0.0, value - part, value)
            total += np.where(own != 0.0, np.abs(part), 0.0)
        value -= 1e-15 * (1 + len(self.rows)) * total
        if not slopes:
            return value, value, value
        return value, *self._lagrangian_slopes(thin, u)

    def _smear(self, values: BatchValues, half: FloatArray) -> FloatArray:
        """Return (k, n_free): each variable's share in what the objective and the rows that may be active change over
        the box, summed."""
        k = len(half)
        smear = np.zeros_like(half)
        for number in range(len(self.rows) + 1):
            low, high = self._slopes(values, number, k)
            with np.errstate(all="ignore"):
                change = np.minimum(np.maximum(np.abs(low), np.abs(high)) * half, 1e100)
                share = change / np.maximum(change.sum(axis=1, keepdims=True), 1e-300)
            if number:
                inside = values.boxes[self.rows[number - 1]]
                surely = (inside[0] >= self.row_lower[number - 1]) & (inside[1] <= self.row_upper[number - 1])
                share = np.where(np.broadcast_to(surely, (k,))[:, np.newaxis], 0.0, share)
            smear += np.nan_to_num(share)
        return smear

    def _multipliers(
        self, slope: FloatArray, row_slopes: FloatArray, values: BatchValues, box_low: FloatArray, box_high: FloatArray
    ) -> FloatArray:
        """Return multipliers (k, m) that make ∇f − A'u small, of the right signs, for rows that may be active in each
        box. Any of the right signs would do: these make the bound good."""
        k, m = len(slope), len(self.rows)
        u = np.zeros((k, m))
        if m == 0:
            return u
        low, high = np.zeros((k, m)), np.zeros((k, m))
        for number, node in enumerate(self.rows):
            low[:, number], high[:, number] = values.boxes[node]
        at_lower = (low <= self.row_lower) & np.isfinite(self.row_lower)
        at_upper = (high >= self.row_upper) & np.isfinite(self.row_upper)
        a = np.where((at_lower | at_upper)[:, :, np.newaxis], row_slopes, 0.0)
        lengths = np.linalg.norm(a, axis=2)
        a = np.nan_to_num(a / np.where(lengths > 0.0, lengths, 1.0)[:, :, np.newaxis])
        slope = np.nan_to_num(slope)
        # What a bound of the variables takes up need not be balanced by rows.
        at_first, at_last = box_low <= self.domain[0], box_high >= self.domain[1]
        counts = np.ones_like(slope)
        for _ in range(2):
            u = _signed_fit(a * counts[:, np.newaxis, :], slope * counts, u, at_lower, at_upper)
            rest = slope - np.einsum("kmn,km->kn", a, u)
            counts = np.where(at_first & (rest > 0.0) | at_last & (rest < 0.0), 0.0, 1.0)
        return np.where(lengths > 0.0, u / np.where(lengths > 0.0, lengths, 1.0), 0.0)

    def _hessian(self, values: BatchValues, u: FloatArray, k: int, n: int) -> tuple[FloatArray, FloatArray]:
        low, high = np.zeros((k, n, n)), np.zeros((k, n, n))
        for number, seconds in enumerate(self.seconds):
            weight = np.full(k, self.sign) if number == 0 else -u[:, number - 1]
            for (i, j), node in seconds.items():
                one, other = (weight * np.broadcast_to(side, (k,)) for side in values.boxes[node])
                own_low = np.where(weight == 0.0, 0.0, np.minimum(one, other))
                own_high = np.where(weight == 0.0, 0.0, np.maximum(one, other))
                low[:, i, j] += own_low
                high[:, i, j] += own_high
                if i != j:
                    low[:, j, i] += own_low
                    high[:, j, i] += own_high
        slack = 1e-14 * (np.abs(low) + np.abs(high))
        return low - slack, high + slack


def _signed_fit(
    a: FloatArray, slope: FloatArray, u: FloatArray, at_lower: NDArray[np.bool_], at_upper: NDArray[np.bool_]
) -> FloatArray:
    """Return u (k, m) with |slope − a'u|² small by coordinate descent, each u kept to its sign."""
    u = u.copy()
    m = u.shape[1]
    gram = np.einsum("kmn,kln->kml", a, a)
    target = np.einsum("kmn,kn->km", a, slope)
    for _ in range(4 + 6 * min(m, 8)):
        for number in range(m):
            own = gram[:, number, number]
            rest = target[:, number] - np.einsum("kl,kl->k", gram[:, number], u) + own * u[:, number]
            value = np.where(own > 1e-12, rest / np.where(own > 1e-12, own, 1.0), 0.0)
            value = np.where(at_lower[:, number], value, np.minimum(value, 0.0))
            u[:, number] = np.where(at_upper[:, number], value, np.maximum(value, 0.0))
    return u


def _by_place(found: dict[int, int], place: dict[int, int]) -> dict[int, int]:
    return {place[variable]: node for variable, node in found.items() if variable in place}


def _rows_of(values: BatchValues, chosen: NDArray[np.int64]) -> BatchValues:
    """Return the values of some boxes only."""

    def part(side: FloatArray) -> FloatArray:
        return side[chosen] if np.ndim(side) else side

    boxes = {number: (part(low), part(high)) for number, (low, high) in values.boxes.items()}
    return BatchValues(boxes, values.is_smooth[chosen], values.is_twice[chosen], values.is_empty[chosen])


def _along(
    value: FloatArray, low: FloatArray, high: FloatArray, point: FloatArray, box_low: FloatArray, box_high: FloatArray
) -> FloatArray:
    """Return value + the least of Σ [slope]_j (x_j − p_j) over the box."""
    back, ahead = box_low - point, box_high - point  # <= 0 and >= 0
    with np.errstate(invalid="ignore"):
        falling = np.where(back < 0.0, high * back, 0.0)
        rising = np.where(ahead > 0.0, low * ahead, 0.0)
    terms = np.minimum(np.minimum(falling, rising), 0.0)
    total = terms.sum(axis=1)
    found: FloatArray = value + total - ROUNDING * (np.abs(value) + np.abs(total))
    return found


def _newton(
    lows: FloatArray,
    highs: FloatArray,
    middle: FloatArray,
    free: NDArray[np.int64],
    centre: tuple[FloatArray, ...],
    slopes: tuple[FloatArray, FloatArray],
    target: tuple[float, float],
    usable: NDArray[np.bool_],
) -> NDArray[np.bool_]:
    """Tighten the boxes in place by target ∋ c(m) + Σ [∇c]_j (x_j − m_j), solved for each variable whose slope has one
    sign; return which are empty."""
    empty = np.zeros(len(lows), dtype=bool)
    back, ahead = (lows - middle)[:, free], (highs - middle)[:, free]
    corners = [slopes[0] * back, slopes[0] * ahead, slopes[1] * back, slopes[1] * ahead]
    with np.errstate(all="ignore"):
        corners = [np.where((back == 0.0) & (ahead == 0.0), 0.0, corner) for corner in corners]
        least, most = np.fmin.reduce(corners), np.fmax.reduce(corners)
        total_least, total_most = least.sum(axis=1), most.sum(axis=1)
        usable = usable & np.isfinite(total_least) & np.isfinite(total_most)
        scale = ROUNDING * (np.abs(total_least) + np.abs(total_most) + np.abs(centre[0]) + np.abs(centre[1]))
        empty |= usable & ((centre[0] + total_least - scale > target[1]) | (centre[1] + total_most + scale < target[0]))
        for column, place in enumerate(free.tolist()):
            need_low = target[0] - centre[1] - (total_most - most[:, column]) - scale
            need_high = target[1] - centre[0] - (total_least - least[:, column]) + scale
            g_low, g_high = slopes[0][:, column], slopes[1][:, column]
            one_sign = usable & ((g_low > 0.0) | (g_high < 0.0))
            quotients = [need / g for need, g in itertools.product((need_low, need_high), (g_low, g_high))]
            step_low, step_high = np.fmin.reduce(quotients), np.fmax.reduce(quotients)
            slack = ROUNDING * (np.abs(step_low) + np.abs(step_high) + np.abs(middle[:, place]))
            new_low = np.where(one_sign & np.isfinite(step_low), middle[:, place] + step_low - slack, -np.inf)
            new_high = np.where(one_sign & np.isfinite(step_high), middle[:, place] + step_high + slack, np.inf)
            low, high = np.maximum(lows[:, place], new_low), np.minimum(highs[:, place], new_high)
            gone = low > high
            empty |= gone
            lows[:, place], highs[:, place] = np.where(gone, lows[:, place], low), np.where(gone, highs[:, place], high)
    return empty
