"""Derivatives of a course, as it was computed: forward, backward, and twice.

A course is a chain of numbers: the rates at the stages k_i = F(τ_0 + c_i h, Y_i, …), Y_i = X_0 + h Σ a_ij k_j, the
states X_1 = X_0 + h Σ b_j k_j, the moments T_e of events, where gap(T_e, X_1, …) = 0, and what sampled states jump to.
By differentiating each link (internal differentiation: Bock 1981)

    dk_i = F_x dY_i + F_p dp + F_τ (dτ_0 + c_i dh),   dX_1 = dX_0 + h Σ b_j dk_j + dh Σ b_j k_j       (1)
    dT_e = −(gap_x dX_1 + gap_p dp) / (gap_x ∂X_1/∂T_e + gap_τ)                                     (2)

the derivatives are those of the numbers computed, to rounding. The backward sweep carries adjoints against (1) and (2).
With the adjoints κ of the stages, υ = F_xᵀκ, ξ of X_1 and μ of the gaps for weights w of the outputs, the second
derivatives of w·outputs are those of the Lagrangian of the chain along its linearisation Z (1):

    Σ κ·∇²F[Z, Z] + μ ∇²gap[Z, Z] + 2 dh (υ_i·Σ a_ij dk_j + ξ·Σ b_j dk_j) + what steps do with delayed states  (3)

Sources: H. Bock, "Numerical treatment of inverse problems in chemical reaction kinetics", 1981; E. Hairer, S. Nørsett,
G. Wanner, "Solving Ordinary Differential Equations I", 1993, II.6; A. Griewank, A. Walther, "Evaluating Derivatives",
2008, chapter 5 (3).
"""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.dynamics.course import Course, Given, March, segment_of
from ilvren.dynamics.lookback import Lookback
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.dynamics.columns import Columns

__all__ = ["Forward", "Linear", "backward", "forward", "second_products", "transitions"]

FloatArray = NDArray[np.float64]

# Numbers held at once by the local derivatives of a part of a course.
# Stages of a course up to which what is needed of delays is kept.
MOST_KEPT = 100_000
CHUNK = 4_000_000


class Linear:
    """The local derivatives along a course: computed for all segments, in parts."""

    def __init__(self, march: March, given: Given, course: Course, columns: Columns) -> None:
        self.march, self.given, self.course, self.columns = march, given, course, columns
        system = march.system
        self.system = system
        self.n, self.s = system.size, course.tableau.stages
        self.states = march.state_places
        self.h = np.array(course.h)
        self.tau0 = np.array(course.tau0)
        self.k = np.stack(course.k)
        self.moments = course.all_moments(march)  # (N, s, width)
        self.began, self.ended = np.array(course.began), np.array(course.ended)
        self.is_moved = (self.began >= 0) | (self.ended >= 0)
        # Nothing moves a moment: neither an event nor a lag that the design chooses.
        self.is_still = not self.is_moved.any() and not (columns.lags >= 0).any()
        self._keeps = len(self.h) * self.s <= MOST_KEPT
        self._kept_delays: dict[int, list[tuple[int, int, float, int, list[int], list[int], bool]]] = {}
        self._kept_weights: dict[tuple[int, float], FloatArray] = {}
        self.lookback = Lookback(march, given, course, columns, self.is_moved)
        count, width = self.moments.shape[0] * self.s, self.moments.shape[2]
        flat = np.ascontiguousarray(self.moments.reshape(count, width).T)
        self.slopes = system.slopes_many(flat).reshape(-1, self.s, self.n, width)
        self.a = self.slopes[:, :, :, self.states]  # F_x
        self._find_parts()
        self._rates_by_time()
        self._gap_slopes()
        self._jump_slopes()

    # ---- what else than states moves a moment -----------------------------------------------------

    def _find_parts(self) -> None:
        """Find for every number of a moment, but states, the column it follows: outer values everywhere, pieces of
        controls by segment."""
        march, layout, columns = self.march, self.march.layout, self.columns
        self.outer_places = march.outer_places[columns.outers >= 0]
        self.outer_columns = columns.outers[columns.outers >= 0]
        controls = self.system.evolution.controls
        middles = self.tau0 + 0.5 * self.h
        self.piece_parts: list[tuple[slice, NDArray[np.int64]]] = []  # (places, columns (N, s, elements))
        self.time_parts: list[tuple[int, int, float]] = []  # (lag, place, slope by the share of the time)
        stage_taus = self.tau0[:, None] + self.h[:, None] * np.clip(self.course.tableau.c, 1e-9, 1 - 1e-9)
        for lag, number, kind, own in layout.controls:
            control = controls[number]
            if kind == "theta":
                self.time_parts.append((lag, own.start, float(control.pieces)))
                continue
            if lag < 0:
                pieces = np.clip(np.floor(middles * control.pieces).astype(int), 0, control.pieces - 1)
                pieces = np.repeat(pieces[:, None], self.s, axis=1)
            else:
                at = np.maximum(stage_taus - self.given.lags[lag], 0.0)
                pieces = np.clip(np.floor(at * control.pieces).astype(int), 0, control.pieces - 1)
            wanted = pieces + (1 if kind == "high" else 0)
            self.piece_parts.append((own, columns.pieces[number][wanted]))
        for lag, place in layout.sigmas.items():
            self.time_parts.append((lag, place, 1.0))

    def _rates_by_time(self) -> None:
        """Find F_τ in all: by the share of the time itself, controls between their ends, and forcing."""
        self.by_tau = self.slopes[:, :, :, 0].copy()
        for lag, place, slope in self.time_parts:
            if lag < 0:
                self.by_tau += slope * self.slopes[:, :, :, place]
        march = self.march
        if self.system.forcing_count and self.is_moved.any():
            own = np.flatnonzero(self.is_moved)
            taus = self.moments[own][:, :, 0].ravel()
            first, second = self.system.forcing_slopes(taus)
            first = first.reshape(len(own), self.s, -1)
            self.by_tau[own] += np.einsum("nsiw,nsw->nsi", self.slopes[own][:, :, :, march._forcing], first)
            self.forcing_first = np.zeros((len(self.h), self.s, self.system.forcing_count))
            self.forcing_second = np.zeros_like(self.forcing_first)
            self.forcing_first[own] = first
            self.forcing_second[own] = second.reshape(len(own), self.s, -1)

    def _gap_slopes(self) -> None:
        course = self.course
        self.gap_slopes: dict[int, FloatArray] = {}
        own = [e for e, (branch, _) in enumerate(course.events) if branch >= 0]
        if own:
            flat = np.ascontiguousarray(np.stack([course.event_gap[e] for e in own]).T)
            found = self.system.gap_slopes_many(flat)
            first = self.system.forcing_slopes(flat[0])[0] if self.system.forcing_count else None
            for k, e in enumerate(own):
                row = found[k, course.events[e][0]].copy()
                by_tau = row[0]
                for lag, place, slope in self.time_parts:
                    if lag < 0:
                        by_tau += slope * row[place]
                if first is not None:
                    by_tau += float(row[self.march._forcing] @ first[k])
                for lag, place, slope in self.time_parts:
                    if lag >= 0 and flat[0, k] > float(self.given.lags[lag]):
                        by_tau += slope * row[place]
                for lag, (places, own_flat) in self.march.layout.delayed.items():
                    at, sigma = self.earlier(lag, float(flat[0, k]), self.segment_of_event(e))
                    if at >= 0:
                        by_tau += float(row[places] @ self.past_rate(at, sigma, own_flat))
                row[0] = by_tau
                self.gap_slopes[e] = row

    def _jump_slopes(self) -> None:
        self.jump_slopes: list[FloatArray] = []
        if self.course.jumps:
            flat = np.ascontiguousarray(np.stack([moment for _, _, moment, _ in self.course.jumps]).T)
            self.jump_slopes = list(self.system.jump_slopes_many(flat))

    # ---- the chain's right-hand sides -------------------------------------------------------------

    def driven(self, n: int, directions: FloatArray) -> FloatArray:
        """Return F_p dp (s, n, q) at the stages of segment n for directions (count, q)."""
        found = np.einsum("sio,oq->siq", self.slopes[n][:, :, self.outer_places], directions[self.outer_columns])
        for places, columns in self.piece_parts:
            own = columns[n]  # (s, elements)
            part = np.where((own >= 0)[:, :, None], directions[np.maximum(own, 0)], 0.0)
            found += np.einsum("sie,seq->siq", self.slopes[n][:, :, places], part)
        return np.asarray(found)

    def transposed_onto(self, n: int, kappa: FloatArray, into: FloatArray) -> None:
        """Add F_pᵀκ at the stages of segment n, for κ (s, n, q), to `into` (count, q)."""
        np.add.at(
            into,
            self.outer_columns,
            np.einsum("sio,siq->oq", self.slopes[n][:, :, self.outer_places], kappa),
        )
        for places, columns in self.piece_parts:
            own = columns[n]
            part = np.einsum("sie,siq->seq", self.slopes[n][:, :, places], kappa)
            is_kept = own >= 0
            np.add.at(into, own[is_kept], part[is_kept])

    def transposed_onto_all(self, own: NDArray[np.int64], kappa: FloatArray, into: FloatArray) -> None:
        """Add F_pᵀκ of some segments, for κ (segments, s, n), to `into` (count,)."""
        slopes = self.slopes[own]
        np.add.at(into, self.outer_columns, np.einsum("psio,psi->o", slopes[..., self.outer_places], kappa))
        for places, columns in self.piece_parts:
            part = np.einsum("psie,psi->pse", slopes[..., places], kappa)
            mine = columns[own]
            np.add.at(into, mine[mine >= 0], part[mine >= 0])

    def gap_row(self, event: int) -> tuple[FloatArray, float, list[tuple[int, float]]]:
        """Return a gap's derivatives by states (n,), by the share of the time, and [(column, derivative)]."""
        row, n = self.gap_slopes[event], self.segment_of_event(event)
        pairs = list(zip(self.outer_columns.tolist(), row[self.outer_places].tolist(), strict=True))
        for places, columns in self.piece_parts:
            pairs += [(int(c), float(v)) for c, v in zip(columns[n, -1], row[places], strict=True) if c >= 0]
        return row[self.states], float(row[0]), pairs

    def earlier(self, lag: int, tau: float, place: int) -> tuple[int, float]:
        """Return (segment, −1 for the beginning; share of the time) some time before the end of segment `place`."""
        sigma = tau - float(self.given.lags[lag])
        if sigma <= 0.0:
            return -1, 0.0
        return segment_of(self.course, sigma - 1e-9 * float(self.h[place])), sigma

    def past_rate(self, at: int, sigma: float, flat: list[int]) -> FloatArray:
        """Return the slope of states within a segment."""
        theta = (sigma - self.course.tau0[at]) / self.course.h[at]
        return np.asarray(self.course.tableau.weights(theta, 1) @ self.k[at][:, flat])

    def weights(self, at: int, sigma: float) -> FloatArray:
        """Return what the rates of a segment weigh in the states at a moment in it (s,)."""
        found = self._kept_weights.get((at, sigma))
        if found is None:
            found = self.course.tableau.weights((sigma - self.course.tau0[at]) / self.course.h[at])
            if self._keeps:
                self._kept_weights[at, sigma] = found
        return found

    def segment_of_event(self, event: int) -> int:
        """Return the segment that ends with an event."""
        return int(np.flatnonzero(self.ended == event)[0])

    def delay_of(self, n: int) -> list[tuple[int, int, float, int, list[int], list[int], bool]]:
        """Return for segment n its delayed states: (stage, lag, sigma, segment they are in or −1 for the beginning,
        places, flat states, whether the moment moves)."""
        if n not in self._kept_delays:
            found = self._delays(n)
            if not self._keeps:
                return found
            self._kept_delays[n] = found
        return self._kept_delays[n]

    def _delays(self, n: int) -> list[tuple[int, int, float, int, list[int], list[int], bool]]:
        found = []
        layout = self.march.layout
        for lag, (places, states) in layout.delayed.items():
            shift = float(self.given.lags[lag])
            inside = self.tau0[n] + self.h[n] * np.clip(self.course.tableau.c, 1e-9, 1 - 1e-9)
            for i, c in enumerate(self.course.tableau.c.tolist()):
                sigma = self.tau0[n] + c * self.h[n] - shift
                if inside[i] - shift <= 0.0:
                    found.append((i, lag, 0.0, -1, places, states, False))
                else:
                    place = segment_of(self.course, float(inside[i] - shift))
                    found.append((i, lag, max(float(sigma), 0.0), place, places, states, True))
        return found


@dataclass
class Forward:
    """Changes along a course: of the states at both ends of segments (N, n, q), the stages' rates (N, s, n, q), the
    moments of events (events, q), and what a moving event does to the states at the end of its segment."""

    first: FloatArray
    last: FloatArray
    k: FloatArray
    events: FloatArray
    before_jump: dict[int, FloatArray]


def forward(linear: Linear, directions: FloatArray) -> Forward:
    """Return the changes along a course for directions (count, q) of what the design gives."""
    course, n, s = linear.course, linear.n, linear.s
    count, q = len(course), directions.shape[1]
    found = Forward(
        np.zeros((count, n, q)),
        np.zeros((count, n, q)),
        np.zeros((count, s, n, q)),
        np.zeros((len(course.events), q)),
        {},
    )
    dx = _gathered(directions, linear.columns.first)
    jumps = {place: k for k, (place, *_) in enumerate(course.jumps)}
    lookback = linear.lookback
    looks_back = bool(course.jumps) and bool(linear.march.layout.uses_lags)
    right_all = _driven_all(linear, directions)

    def jumped(place: int, dx: FloatArray) -> FloatArray:
        found.before_jump[place] = dx
        return _jumped(linear, jumps[place], dx, directions, linear.began[place], found)

    if 0 in jumps and count:
        dx = jumped(0, dx)
    for begin, end in lookback.blocks:
        own = begin + np.flatnonzero(lookback.is_still[begin:end])
        right = right_all[own]
        if lookback.looks:
            beginning = found.first[0] if begin else dx
            right = right + lookback.driven(linear.slopes, own, found.first, found.k, beginning)
        maps = _maps(linear, own, right)
        at = -1
        for place in range(begin, end):
            if place in jumps and place:
                dx = jumped(place, dx)
            if lookback.is_still[place]:
                at += 1
                found.first[place] = dx
                dx = maps.across[at] @ dx + maps.driven[at]
                found.last[place] = dx
                if looks_back:
                    found.k[place] = maps.k_by_state[at] @ found.first[place] + maps.k_driven[at]
            else:
                dx = _moved(linear, place, dx, right_all[place], directions, found)
        if not looks_back:
            found.k[own] = maps.k_by_state @ found.first[own][:, None] + maps.k_driven
    return found


def _moved(
    linear: Linear, place: int, dx: FloatArray, right: FloatArray, directions: FloatArray, found: Forward
) -> FloatArray:
    """Take into `found` the changes of a segment that moves, or looks at one that does; return those of the states at
    its end (n, q). `dx` are those at its start, `right` what drives its rates."""
    course, tableau, q = linear.course, linear.course.tableau, directions.shape[1]
    has_delay = bool(linear.march.layout.rate_lags)
    h, slopes = float(linear.h[place]), linear.a[place]
    d_tau0 = found.events[linear.began[place]] if linear.began[place] >= 0 else None
    ends_by = int(linear.ended[place])
    d_end = None
    if ends_by >= 0:
        branch, moving = course.events[ends_by]
        if branch < 0:
            d_end = _gathered(directions, linear.columns.moments[moving : moving + 1])[0]
            d_end = d_end * linear.columns.often[moving]
            found.events[ends_by] = d_end
        else:
            d_end = np.zeros(q)  # found from (2) below
    dh = None
    if d_tau0 is not None or d_end is not None:
        zero = np.zeros(q)
        start = zero if d_tau0 is None else d_tau0
        dh = (zero if d_end is None else d_end) - start
        moved = start[None, None, :] + tableau.c[:, None, None] * dh
        right = right + linear.by_tau[place][:, :, None] * moved
    if has_delay:
        right = right + _delayed(linear, place, found, directions, d_tau0, dh)
    dk, after = _stepped(linear, place, h, slopes, dx, right, dh)
    if ends_by >= 0 and course.events[ends_by][0] >= 0:
        # (2): as if the event stayed; then with its own move.
        one_k, one_after = response(linear, place)
        by_x, by_tau, pairs = linear.gap_row(ends_by)
        change = by_x @ after
        for column, slope in pairs:
            change = change + slope * directions[column]
        if has_delay:
            change = change + _delayed_gap(linear, place, ends_by, found, directions)
        bottom = float(by_x @ one_after[:, 0]) + by_tau
        moved_by = -change / bottom if bottom != 0.0 else np.full(q, np.nan)
        found.events[ends_by] = moved_by
        dk = dk + one_k * moved_by
        after = after + one_after * moved_by
    found.first[place], found.k[place], found.last[place] = dx, dk, after
    return np.asarray(after)


def transitions(linear: Linear) -> FloatArray:
    """Return what the states at the start of every segment do to those at its end (N, n, n), jumps included, moments of
    events held, and what is delayed left out."""
    right = np.zeros((len(linear.course), linear.s, linear.n, 0))
    found = _maps(linear, np.arange(len(linear.course)), right).across
    order = {flat: k for k, flat in enumerate(np.flatnonzero(linear.system.is_sampled).tolist())}
    for number, (place, _, _, states) in enumerate(linear.course.jumps):
        if place >= len(found):
            continue
        jump = np.eye(linear.n)
        for flat in states:
            jump[flat] = linear.jump_slopes[number][order[flat]][linear.states]
        found[place] = found[place] @ jump
    return found


@dataclass
class _Maps:
    """What segments do by themselves: rates of the stages by the states at the start (p, s, n, n) and by what drives
    them (p, s, n, q); the states at the end likewise, `across` (p, n, n) and `driven` (p, n, q)."""

    k_by_state: FloatArray
    k_driven: FloatArray
    across: FloatArray
    driven: FloatArray


def _maps(linear: Linear, own: NDArray[np.int64], right: FloatArray) -> _Maps:
    """Return (1) of segments `own` at once, their ends not moving, for right-hand sides (p, s, n, q)."""
    tableau, s, n = linear.course.tableau, linear.s, linear.n
    a, b, h, slopes = tableau.a, tableau.b, linear.h[own, None, None], linear.a[own]
    count, q = right.shape[0], right.shape[3]
    both = np.empty((count, s, n, n + q))
    if tableau.is_explicit:
        start = np.concatenate([np.eye(n), np.zeros((n, q))], axis=1)
        for i in range(s):
            dy = np.broadcast_to(start, (count, n, n + q))
            for j in range(i):
                if a[i, j] != 0.0:
                    dy = dy + (h * a[i, j]) * both[:, j]
            both[:, i] = slopes[:, i] @ dy
            both[:, i, :, n:] += right[:, i]
    else:
        given = np.concatenate([slopes, right], axis=3).reshape(count, s * n, n + q)
        matrix = -h * np.einsum("ij,piab->piajb", a, slopes).reshape(count, s * n, s * n)
        both = np.linalg.solve(matrix + np.eye(s * n), given).reshape(count, s, n, n + q)
    ends = h * np.tensordot(b, both, axes=(0, 1))
    return _Maps(both[..., :n], both[..., n:], ends[:, :, :n] + np.eye(n), ends[:, :, n:])


def _kappa_maps(linear: Linear) -> FloatArray:
    """Return κ of all segments at once by ξ (N, s, n, n): κ_j = h b_j ξ + h Σ_i a_ij F_xᵀ κ_i."""
    tableau, s, n = linear.course.tableau, linear.s, linear.n
    a, b, h, slopes = tableau.a, tableau.b, linear.h[:, None, None], linear.a
    count = len(h)
    if tableau.is_explicit:
        found, pulled = np.empty((count, s, n, n)), np.empty((count, s, n, n))
        for j in range(s - 1, -1, -1):
            own = np.broadcast_to(b[j] * np.eye(n), (count, n, n))
            for i in range(j + 1, s):
                if a[i, j] != 0.0:
                    own = own + a[i, j] * pulled[:, i]
            found[:, j] = h * own
            pulled[:, j] = np.swapaxes(slopes[:, j], 1, 2) @ found[:, j]
        return found
    matrix = -linear.h[:, None, None] * np.einsum("ij,piab->piajb", a, slopes).reshape(count, s * n, s * n)
    right = (linear.h[:, None, None, None] * b[None, :, None, None] * np.eye(n)).reshape(count, s * n, n)
    return np.linalg.solve(np.swapaxes(matrix + np.eye(s * n), 1, 2), right).reshape(count, s, n, n)


def _gathered(directions: FloatArray, columns: NDArray[np.int64]) -> FloatArray:
    return np.where((columns >= 0)[:, None], directions[np.maximum(columns, 0)], 0.0)


def _driven_all(linear: Linear, directions: FloatArray) -> FloatArray:
    """Return F_p dp (N, s, n, q) of all segments at once."""
    found = linear.slopes[..., linear.outer_places] @ directions[linear.outer_columns]
    for places, columns in linear.piece_parts:
        part = np.where((columns >= 0)[..., None], directions[np.maximum(columns, 0)], 0.0)
        found = found + linear.slopes[..., places] @ part
    return np.asarray(found)


def _stepped(
    linear: Linear, place: int, h: float, slopes: FloatArray, dx: FloatArray, right: FloatArray, dh: FloatArray | None
) -> tuple[FloatArray, FloatArray]:
    """Return (dk (s, n, q), dX_1 (n, q)) of one segment, by (1)."""
    tableau, k = linear.course.tableau, linear.k[place]
    a, b, s, n = tableau.a, tableau.b, linear.s, linear.n
    if tableau.is_explicit:
        dk = np.empty((s, *dx.shape))
        flat = dk.reshape(s, -1)
        for i in range(s):
            dy = dx + h * (a[i, :i] @ flat[:i]).reshape(dx.shape) if i else dx
            if dh is not None and i:
                dy = dy + (a[i] @ k)[:, None] * dh
            dk[i] = slopes[i] @ dy + right[i]
    else:
        moved = right + slopes @ dx
        if dh is not None:
            moved = moved + slopes @ ((a @ k)[:, :, None] * dh)
        matrix = np.eye(s * n) - h * np.einsum("ij,iab->iajb", a, slopes).reshape(s * n, s * n)
        dk = np.linalg.solve(matrix, moved.reshape(s * n, -1)).reshape(s, n, -1)
    after = dx + h * (b @ dk.reshape(s, -1)).reshape(dx.shape)
    if dh is not None:
        after = after + (b @ k)[:, None] * dh
    return dk, after


def response(linear: Linear, place: int) -> tuple[FloatArray, FloatArray]:
    """Return how rates (s, n, 1) and the states at the end (n, 1) of a segment move with its end alone."""
    one = np.ones(1)
    right = linear.by_tau[place][:, :, None] * linear.course.tableau.c[:, None, None]
    if linear.march.layout.rate_lags:
        right = right + _delayed(linear, place, None, None, None, one)
    return _stepped(linear, place, float(linear.h[place]), linear.a[place], np.zeros((linear.n, 1)), right, one)


def _jumped(
    linear: Linear, number: int, dx: FloatArray, directions: FloatArray, began: int, found: Forward
) -> FloatArray:
    place, _, _, states = linear.course.jumps[number]
    rows = linear.jump_slopes[number]
    order = {flat: k for k, flat in enumerate(np.flatnonzero(linear.system.is_sampled).tolist())}
    moved = np.zeros((linear.system.width, dx.shape[1]))
    moved[linear.states] = dx
    moved[linear.outer_places] = directions[linear.outer_columns]
    for places, columns in linear.piece_parts:
        own = columns[min(place, len(columns) - 1), 0]
        moved[places] = _gathered(directions, own)
    still = np.zeros(dx.shape[1])
    for _, lag, sigma, at, targets, flat, _ in _jump_delays(linear, number):
        if place == 0:
            moved[targets] = dx[flat]
        else:
            moved[targets] = _delayed_change(linear, lag, sigma, at, flat, still, found, directions)
    _move_sigmas(linear, number, moved, directions)
    after = dx.copy()
    for state in states:
        after[state] = rows[order[state]] @ moved
    return after


def _move_sigmas(linear: Linear, number: int, moved: FloatArray, directions: FloatArray) -> None:
    """Fill in how the moments some time before a jump move: with the lag alone."""
    tau = linear.course.jumps[number][1]
    for lag, place, slope in linear.time_parts:
        if lag >= 0 and tau > float(linear.given.lags[lag]):
            moved[place] = slope * _d_sigma(linear, lag, np.zeros(directions.shape[1]), directions)


def _jump_delays(linear: Linear, number: int) -> list[tuple[int, int, float, int, list[int], list[int], bool]]:
    layout, course = linear.march.layout, linear.course
    place, tau, _, _ = course.jumps[number]
    found = []
    for lag, (places, states) in layout.delayed.items():
        sigma = tau - float(linear.given.lags[lag])
        if sigma <= 0.0:
            found.append((0, lag, 0.0, -1, places, states, False))
        else:
            at = segment_of(course, sigma + 1e-9 * float(linear.h[min(place, len(course) - 1)]))
            found.append((0, lag, sigma, min(at, place - 1), places, states, True))
    return found


def _past(linear: Linear, at: int, sigma: float, flat: list[int], found: Forward, dx: FloatArray) -> FloatArray:
    """Return the change of states at an earlier moment that does not move."""
    if at < 0:
        return found.first[0][flat] if len(found.first) and found.k.any() else dx[flat]
    rates = found.k[at][:, flat]
    step = (linear.weights(at, sigma) @ rates.reshape(len(rates), -1)).reshape(rates.shape[1:])
    return np.asarray(found.first[at][flat] + linear.course.h[at] * step)


def _delayed(
    linear: Linear,
    place: int,
    found: Forward | None,
    directions: FloatArray | None,
    d_tau0: FloatArray | None,
    dh: FloatArray | None,
) -> FloatArray:
    """Return what delayed states, and moments some time ago, add to the right-hand sides (s, n, q)."""
    course, tableau = linear.course, linear.course.tableau
    q = len(dh) if directions is None else directions.shape[1]  # type: ignore[arg-type]
    result = np.zeros((linear.s, linear.n, q))
    slopes = linear.slopes[place]

    def moved(i: int, lag: int) -> FloatArray:
        change = np.zeros(q)
        if d_tau0 is not None:
            change = change + d_tau0
        if dh is not None:
            change = change + tableau.c[i] * dh
        if directions is not None and linear.columns.lags[lag] >= 0:
            change = change - directions[linear.columns.lags[lag]]
        return change

    for i, lag, sigma, at, places, flat, _ in linear.delay_of(place):
        if at < 0:
            if found is not None:
                result[i] += slopes[i][:, places] @ _first_change(linear, place, found, directions)[flat]
            continue
        if linear.is_still and found is not None:
            result[i] += slopes[i][:, places] @ _past(linear, at, sigma, flat, found, found.first[0])
            continue
        theta = (sigma - course.tau0[at]) / course.h[at]
        change = np.zeros((len(flat), q))
        d_sigma = moved(i, lag)
        d_start, d_h = np.zeros(q), np.zeros(q)
        if found is not None:
            change = _past(linear, at, sigma, flat, found, np.zeros((linear.n, q)))
            d_start, d_h = _ends(linear, at, found, q)
        rate = np.asarray(tableau.weights(theta, 1) @ linear.k[at][:, flat])
        step = np.asarray(linear.weights(at, sigma) @ linear.k[at][:, flat])
        # x = X_0 + h Σ b_j(θ) k_j with θ = (σ − τ_0) / h
        change = change + rate[:, None] * (d_sigma - d_start - theta * d_h) + step[:, None] * d_h
        result[i] += slopes[i][:, places] @ change
    for lag, at_place, slope in linear.time_parts:
        if lag >= 0:
            for i in range(linear.s):
                if linear.tau0[place] + tableau.c[i] * linear.h[place] > float(linear.given.lags[lag]):
                    result[i] += slope * slopes[i][:, at_place : at_place + 1] * moved(i, lag)
    return result


def _first_change(linear: Linear, place: int, found: Forward, directions: FloatArray | None) -> FloatArray:
    """Return the change of the states at the beginning, after what jumps there."""
    if place:
        return np.asarray(found.first[0])
    assert directions is not None
    dx = _gathered(directions, linear.columns.first)
    if linear.course.jumps and linear.course.jumps[0][0] == 0:
        dx = _jumped(linear, 0, dx, directions, -1, found)
    return dx


def _ends(linear: Linear, at: int, found: Forward, q: int) -> tuple[FloatArray, FloatArray]:
    start = found.events[linear.began[at]] if linear.began[at] >= 0 else np.zeros(q)
    end = found.events[linear.ended[at]] if linear.ended[at] >= 0 else np.zeros(q)
    return start, end - start


def _delayed_gap(linear: Linear, place: int, event: int, found: Forward, directions: FloatArray) -> FloatArray:
    """Return what delayed states and lags do to a gap, its moment held."""
    row = linear.gap_slopes[event]
    total: Any = 0.0
    tau = float(linear.tau0[place] + linear.h[place])
    still = np.zeros(directions.shape[1])
    for lag, (places, flat) in linear.march.layout.delayed.items():
        at, sigma = linear.earlier(lag, tau, place)
        total = total + row[places] @ _delayed_change(linear, lag, sigma, at, flat, still, found, directions)
    for lag, at, slope in linear.time_parts:
        if lag >= 0 and tau > float(linear.given.lags[lag]):
            total = total + slope * row[at] * _d_sigma(linear, lag, still, directions)
    return np.asarray(total)


# ---- backward -----------------------------------------------------------------------------------------


@dataclass
class Backward:
    """Adjoints: of what the design gives (count,), while they are found (count, 1), the stages' rates (N, s, n), the
    states at the ends of segments (N, n), of gaps (events,), and of jumps (number, sampled)."""

    given: FloatArray
    kappa: FloatArray
    last: FloatArray
    gaps: FloatArray
    jumps: list[FloatArray]


@dataclass
class _Later:
    """Adjoints that later segments give to earlier ones: to the states at their starts (N, n), their rates (N, s, n),
    the moments of events (events,), and the states at the beginning (n,)."""

    first: FloatArray
    k: FloatArray
    events: FloatArray
    beginning: FloatArray


def backward(linear: Linear, weights_first: FloatArray, weights_last: FloatArray) -> Backward:
    """Return the adjoints for weights (N, n) of the states at the starts and the ends of segments."""
    course, n, s = linear.course, linear.n, linear.s
    count, lookback = len(course), linear.lookback
    found = Backward(
        np.zeros((linear.columns.count, 1)),
        np.zeros((count, s, n)),
        np.zeros((count, n)),
        np.zeros(len(course.events)),
        [np.zeros(0)] * len(course.jumps),
    )
    later = _Later(np.zeros((count, n)), np.zeros((count, s, n)), np.zeros(len(course.events)), np.zeros(n))
    jumps_at = {place: k for k, (place, *_) in enumerate(course.jumps)}
    adjoint = np.zeros(n)
    is_fast = lookback.is_still.copy()
    looks_back = bool(course.jumps) and bool(linear.march.layout.uses_lags)
    maps = _kappa_maps(linear)
    back = np.eye(n) + np.einsum("psij,psik->pjk", linear.a, maps)  # Σ F_xᵀκ by ξ
    for begin, end in reversed(lookback.blocks):
        own = np.arange(begin, end)
        passed = np.zeros((end - begin, n))
        if lookback.looks:  # what later blocks take from this one is known by now
            more = _kappa_of(linear, own, later.k[own])
            passed = np.einsum("psij,psi->pj", linear.a[own], more) + later.first[own]
        for place in range(end - 1, begin - 1, -1):
            adjoint = adjoint + weights_last[place]
            if is_fast[place]:
                found.last[place] = adjoint
                adjoint = back[place] @ adjoint + weights_first[place] + passed[place - begin]
            else:
                adjoint = _moved_back(linear, place, adjoint, found, later) + weights_first[place]
            if place in jumps_at and place > 0:
                number = jumps_at[place]
                adjoint, found.jumps[number] = _jumped_back(linear, number, adjoint, found.given, later)
                if looks_back:  # what a jump takes from the block itself comes too late for `passed`
                    for _, _, _, at, _, _, _ in _jump_delays(linear, number):
                        if at >= begin:
                            is_fast[at] = False
        own = own[is_fast[begin:end]]
        kappa = np.einsum("psij,pj->psi", maps[own], found.last[own])
        if lookback.looks:
            kappa += more[own - begin]
            lookback.back(linear.slopes, own, kappa, later.first, later.k, later.beginning)
        found.kappa[own] = kappa
        linear.transposed_onto_all(own, kappa, found.given[:, 0])
    adjoint = adjoint + later.beginning
    if 0 in jumps_at and count:
        adjoint, found.jumps[0] = _jumped_back(linear, 0, adjoint, found.given, later)
    columns = linear.columns.first
    np.add.at(found.given[:, 0], columns[columns >= 0], adjoint[columns >= 0])
    return replace(found, given=found.given[:, 0])


def _moved_back(linear: Linear, place: int, adjoint: FloatArray, found: Backward, later: _Later) -> FloatArray:
    """Take into `found` the adjoints of a segment that moves, or looks at one that does, for that of the states at its
    end; return that of the states at its start."""
    course, tableau = linear.course, linear.course.tableau
    has_delay = bool(linear.march.layout.rate_lags)
    h, k, slopes = float(linear.h[place]), linear.k[place], linear.a[place]
    ended, given = int(linear.ended[place]), found.given
    if ended >= 0 and course.events[ended][0] >= 0:
        one_k, one_after = response(linear, place)
        by_x, by_tau, pairs = linear.gap_row(ended)
        whole = later.events[ended] + float(adjoint @ one_after[:, 0])
        whole += float((later.k[place] * one_k[:, :, 0]).sum())
        bottom = float(by_x @ one_after[:, 0]) + by_tau
        found.gaps[ended] = -whole / bottom if bottom != 0.0 else np.nan
        adjoint = adjoint + found.gaps[ended] * by_x
        for column, slope in pairs:
            given[column, 0] += found.gaps[ended] * slope
        if has_delay:
            _delayed_gap_back(linear, place, ended, float(found.gaps[ended]), given, later)
    found.last[place] = adjoint
    kappa = _stage_adjoints(linear, h, slopes, adjoint, later.k[place])
    found.kappa[place] = kappa
    upsilon = np.einsum("sij,si->sj", slopes, kappa)
    linear.transposed_onto(place, kappa[:, :, None], given)
    if linear.is_moved[place]:
        by_h = float(np.einsum("si,sj,ji->", upsilon, tableau.a, k)) + float(adjoint @ (tableau.b @ k))
        by_start = float(np.einsum("si,si->", linear.by_tau[place], kappa))
        by_h += float(np.einsum("s,si,si->", tableau.c, linear.by_tau[place], kappa))
        if ended >= 0:
            later.events[ended] += by_h
        if linear.began[place] >= 0:
            later.events[linear.began[place]] += by_start - by_h
    if has_delay:
        _delayed_back(linear, place, kappa, given, later)
    if ended >= 0 and course.events[ended][0] < 0:
        moving = course.events[ended][1]
        column = linear.columns.moments[moving]
        if column >= 0:
            given[column, 0] += linear.columns.often[moving] * later.events[ended]
    return np.asarray(adjoint + upsilon.sum(axis=0) + later.first[place])


def _kappa_of(linear: Linear, own: NDArray[np.int64], start: FloatArray) -> FloatArray:
    """Return κ (p, s, n) of segments `own` for what is added to them (p, s, n): κ_j = start_j + h Σ_i a_ij F_xᵀ κ_i."""
    tableau, s, n = linear.course.tableau, linear.s, linear.n
    h, slopes = linear.h[own, None], linear.a[own]
    if tableau.is_explicit:
        kappa, pulled = np.empty_like(start), np.empty_like(start)
        for j in range(s - 1, -1, -1):
            kappa[:, j] = start[:, j]
            if j + 1 < s:
                kappa[:, j] += h * np.einsum("i,pia->pa", tableau.a[j + 1 :, j], pulled[:, j + 1 :])
            pulled[:, j] = np.einsum("pba,pb->pa", slopes[:, j], kappa[:, j])
        return kappa
    matrix = -h[:, :, None] * np.einsum("ij,piab->piajb", tableau.a, slopes).reshape(len(own), s * n, s * n)
    turned = np.swapaxes(matrix + np.eye(s * n), 1, 2)
    return np.asarray(np.linalg.solve(turned, start.reshape(len(own), s * n, 1))).reshape(len(own), s, n)


def _stage_adjoints(linear: Linear, h: float, slopes: FloatArray, adjoint: FloatArray, more: FloatArray) -> FloatArray:
    """Return κ (s, n): κ_j = h b_j ξ + h Σ_i a_ij F_xᵀ κ_i + what delayed states add."""
    tableau, s, n = linear.course.tableau, linear.s, linear.n
    start = h * tableau.b[:, None] * adjoint + more
    if tableau.is_explicit:
        kappa = np.empty((s, n))
        pulled = np.zeros((s, n))
        for j in range(s - 1, -1, -1):
            kappa[j] = start[j] + h * (tableau.a[j + 1 :, j] @ pulled[j + 1 :] if j + 1 < s else 0.0)
            pulled[j] = slopes[j].T @ kappa[j]
        return kappa
    matrix = np.eye(s * n) - h * np.einsum("ij,iab->iajb", tableau.a, slopes).reshape(s * n, s * n)
    return np.linalg.solve(matrix.T, start.ravel()).reshape(s, n)


def _jumped_back(
    linear: Linear,
    number: int,
    adjoint: FloatArray,
    given: FloatArray,
    later: _Later,
) -> tuple[FloatArray, FloatArray]:
    place, _, _, states = linear.course.jumps[number]
    rows = linear.jump_slopes[number]
    order = {flat: k for k, flat in enumerate(np.flatnonzero(linear.system.is_sampled).tolist())}
    weights = np.zeros(len(rows))
    for state in states:
        weights[order[state]] = adjoint[state]
    moved = weights @ rows
    before = adjoint.copy()
    before[list(states)] = 0.0
    before = before + moved[linear.states]
    np.add.at(given[:, 0], linear.outer_columns, moved[linear.outer_places])
    for places, columns in linear.piece_parts:
        own = columns[min(place, len(columns) - 1), 0]
        np.add.at(given[:, 0], own[own >= 0], moved[places][own >= 0])
    for _, lag, sigma, at, targets, flat, _ in _jump_delays(linear, number):
        if place == 0:
            before[flat] += moved[targets]
            continue
        by_sigma = _earlier_back(linear, at, sigma, flat, moved[targets], later)
        if linear.columns.lags[lag] >= 0:
            given[linear.columns.lags[lag], 0] -= by_sigma
    tau = linear.course.jumps[number][1]
    for lag, at, slope in linear.time_parts:
        if lag >= 0 and tau > float(linear.given.lags[lag]) and linear.columns.lags[lag] >= 0:
            given[linear.columns.lags[lag], 0] -= slope * moved[at]
    return before, weights


def _past_back(
    linear: Linear,
    at: int,
    sigma: float,
    flat: list[int],
    adjoint: FloatArray,
    later: _Later,
) -> None:
    """Give an adjoint of states at an earlier moment to what they are made of."""
    if at < 0:
        later.beginning[flat] += adjoint
        return
    later.first[at][flat] += adjoint
    later.k[at][:, flat] += linear.course.h[at] * linear.weights(at, sigma)[:, None] * adjoint


def _delayed_gap_back(
    linear: Linear,
    place: int,
    event: int,
    weight: float,
    given: FloatArray,
    later: _Later,
) -> None:
    row = linear.gap_slopes[event]
    tau = float(linear.tau0[place] + linear.h[place])
    for lag, (places, flat) in linear.march.layout.delayed.items():
        at, sigma = linear.earlier(lag, tau, place)
        by_sigma = _earlier_back(linear, at, sigma, flat, weight * row[places], later)
        if linear.columns.lags[lag] >= 0:
            given[linear.columns.lags[lag], 0] -= by_sigma
    for lag, at, slope in linear.time_parts:
        if lag >= 0 and tau > float(linear.given.lags[lag]) and linear.columns.lags[lag] >= 0:
            given[linear.columns.lags[lag], 0] -= weight * slope * row[at]


def _earlier_back(
    linear: Linear,
    at: int,
    sigma: float,
    flat: list[int],
    adjoint: FloatArray,
    later: _Later,
) -> float:
    """Give an adjoint of states at an earlier moment to what they are made of; return that of the moment itself."""
    _past_back(linear, at, sigma, flat, adjoint, later)
    if at < 0 or linear.is_still:
        return 0.0
    course = linear.course
    theta = (sigma - course.tau0[at]) / course.h[at]
    rate = float(adjoint @ linear.past_rate(at, sigma, flat))
    step = float(adjoint @ (linear.weights(at, sigma) @ linear.k[at][:, flat]))
    by_h = step - theta * rate
    if linear.began[at] >= 0:
        later.events[linear.began[at]] += -rate - by_h
    if linear.ended[at] >= 0:
        later.events[linear.ended[at]] += by_h
    return rate


def _delayed_back(
    linear: Linear,
    place: int,
    kappa: FloatArray,
    given: FloatArray,
    later: _Later,
) -> None:
    tableau = linear.course.tableau
    slopes = linear.slopes[place]
    began, ended = int(linear.began[place]), int(linear.ended[place])

    def moved(i: int, lag: int, adjoint: float) -> None:
        if linear.columns.lags[lag] >= 0:
            given[linear.columns.lags[lag], 0] -= adjoint
        c = float(tableau.c[i])
        if began >= 0:
            later.events[began] += adjoint * (1.0 - c)
        if ended >= 0:
            later.events[ended] += adjoint * c

    for i, lag, sigma, at, places, flat, _ in linear.delay_of(place):
        nu = slopes[i][:, places].T @ kappa[i]
        moved(i, lag, _earlier_back(linear, at, sigma, flat, nu, later))
    for lag, at_place, slope in linear.time_parts:
        if lag >= 0:
            for i in range(linear.s):
                if linear.tau0[place] + tableau.c[i] * linear.h[place] > float(linear.given.lags[lag]):
                    moved(i, lag, slope * float(slopes[i][:, at_place] @ kappa[i]))


# ---- twice --------------------------------------------------------------------------------------------


def second_products(linear: Linear, moved: Forward, adjoints: Backward, directions: FloatArray) -> FloatArray:
    """Return the second derivatives (q, q) of the weighted outputs along directions (count, q), by (3)."""
    q = directions.shape[1]
    total = np.zeros((q, q))
    count = len(linear.course)
    width = linear.moments.shape[2]
    step = max(1, CHUNK // max(linear.s * width * max(q, width), 1))
    for first in range(0, count, step):
        own = range(first, min(first + step, count))
        total += _bent_stages(linear, own, moved, adjoints, directions)
    for place in np.flatnonzero(linear.is_moved).tolist():
        total += _bent_step(linear, place, moved, adjoints)
    for event, (branch, _) in enumerate(linear.course.events):
        if branch >= 0:
            total += _bent_gap(linear, event, moved, adjoints, directions)
    for number in range(len(linear.course.jumps)):
        total += _bent_jump(linear, number, moved, adjoints, directions)
    return total


def _stage_changes(linear: Linear, place: int, moved: Forward, directions: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Return the changes (s, width, q) of all numbers of the stages' moments, and dτ (s, q)."""
    tableau, q = linear.course.tableau, directions.shape[1]
    s, width = linear.s, linear.moments.shape[2]
    z = np.zeros((s, width, q))
    h = float(linear.h[place])
    d_start, dh = _ends(linear, place, moved, q)
    dy = moved.first[place] + h * np.einsum("ij,jnq->inq", tableau.a, moved.k[place])
    dy = dy + np.einsum("ij,jn->in", tableau.a, linear.k[place])[:, :, None] * dh
    d_tau = d_start + tableau.c[:, None] * dh
    z[:, 0] = d_tau
    z[:, linear.states] = dy
    z[:, linear.outer_places] = directions[linear.outer_columns]
    for places, columns in linear.piece_parts:
        own = columns[place]
        z[:, places] = np.where((own >= 0)[:, :, None], directions[np.maximum(own, 0)], 0.0)
    for lag, at, slope in linear.time_parts:
        if lag < 0:
            z[:, at] = slope * d_tau
        else:
            for i in range(s):
                if linear.tau0[place] + tableau.c[i] * h > float(linear.given.lags[lag]):
                    z[i, at] = slope * _d_sigma(linear, lag, d_tau[i], directions)
    for i, lag, sigma, at, targets, flat, _ in linear.delay_of(place):
        z[i, targets] = _delayed_change(linear, lag, sigma, at, flat, d_tau[i], moved, directions)
    if linear.system.forcing_count and linear.is_moved[place]:
        z[:, linear.march._forcing] = linear.forcing_first[place][:, :, None] * d_tau[:, None, :]
    return z, d_tau


def _d_sigma(linear: Linear, lag: int, d_tau: FloatArray, directions: FloatArray) -> FloatArray:
    column = linear.columns.lags[lag]
    return d_tau - directions[column] if column >= 0 else d_tau


def _delayed_change(
    linear: Linear, lag: int, sigma: float, at: int, flat: list[int], d_tau: FloatArray, moved: Forward,
    directions: FloatArray,
) -> FloatArray:  # fmt: skip
    if at < 0:
        return np.asarray(moved.first[0][flat])
    course, q = linear.course, directions.shape[1]
    theta = (sigma - course.tau0[at]) / course.h[at]
    change = _past(linear, at, sigma, flat, moved, moved.first[0])
    if linear.is_still:
        return change
    d_start, d_h = _ends(linear, at, moved, q)
    rate = course.tableau.weights(theta, 1) @ linear.k[at][:, flat]
    step = linear.weights(at, sigma) @ linear.k[at][:, flat]
    return np.asarray(
        change
        + rate[:, None] * (_d_sigma(linear, lag, d_tau, directions) - d_start - theta * d_h)
        + step[:, None] * d_h
    )


def _bent_stages(linear: Linear, own: range, moved: Forward, adjoints: Backward, directions: FloatArray) -> FloatArray:
    q, s, width = directions.shape[1], linear.s, linear.moments.shape[2]
    part, lookback = slice(own.start, own.stop), linear.lookback
    z = np.zeros((len(own), s, width, q))
    dy = moved.first[part][:, None] + linear.h[part][:, None, None, None] * np.einsum(
        "ij,pjnq->pinq", linear.course.tableau.a, moved.k[part]
    )
    z[:, :, linear.states] = dy
    z[:, :, linear.outer_places] = directions[linear.outer_columns]
    for places, columns in linear.piece_parts:
        mine = columns[part]
        z[:, :, places] = np.where((mine >= 0)[..., None], directions[np.maximum(mine, 0)], 0.0)
    for look in lookback.looks:
        mine = np.arange(own.start, own.stop)
        z[:, :, look.places] = lookback.changes(look, mine, moved.first, moved.k, moved.first[0])
    moving = np.flatnonzero(~lookback.is_still[part]).tolist()
    for place in moving:
        z[place] = _stage_changes(linear, own.start + place, moved, directions)[0]
    flat = np.ascontiguousarray(linear.moments[own.start : own.stop].reshape(-1, width).T)
    kappa = adjoints.kappa[own.start : own.stop].reshape(-1, linear.n)
    curved = linear.system.bends_many("rates", flat, kappa)
    changes = z.reshape(-1, width, q)
    total = np.einsum("pvq,pvr->qr", changes, curved @ changes)
    if linear.system.forcing_count and linear.is_moved[own.start : own.stop].any():
        # The forcing is itself curved in the time, which moves here.
        d_tau = changes[:, 0]
        weight = np.einsum("pi,piw->pw", kappa, linear.slopes[own.start : own.stop].reshape(-1, linear.n, width)[
            :, :, linear.march._forcing])  # fmt: skip
        bent = (weight * linear.forcing_second[own.start : own.stop].reshape(-1, linear.system.forcing_count)).sum(1)
        total = total + np.einsum("p,pq,pr->qr", bent, d_tau, d_tau)
    if linear.march.layout.rate_lags:
        for place in moving:
            total = total + _bent_delays(linear, own.start + place, moved, adjoints, directions)
    return np.asarray(total)


def _bent_step(linear: Linear, place: int, moved: Forward, adjoints: Backward) -> FloatArray:
    """Return what dh does together with the stages' rates, in (3)."""
    tableau, q = linear.course.tableau, moved.events.shape[1]
    _, dh = _ends(linear, place, moved, q)
    upsilon = np.einsum("sij,si->sj", linear.a[place], adjoints.kappa[place])
    dk = moved.k[place]
    both = np.einsum("in,ij,jnq->q", upsilon, tableau.a, dk) + np.einsum(
        "n,j,jnq->q", adjoints.last[place], tableau.b, dk
    )
    return np.outer(dh, both) + np.outer(both, dh)


def _bent_gap(linear: Linear, event: int, moved: Forward, adjoints: Backward, directions: FloatArray) -> FloatArray:
    place = linear.segment_of_event(event)
    course, q = linear.course, directions.shape[1]
    moment = course.event_gap[event]
    z = np.zeros((len(moment), q))
    d_tau = moved.events[event]
    z[0] = d_tau
    z[linear.states] = moved.last[place]
    z[linear.outer_places] = directions[linear.outer_columns]
    for places, columns in linear.piece_parts:
        z[places] = _gathered(directions, columns[place, -1])
    tau, more = float(linear.tau0[place] + linear.h[place]), np.zeros((q, q))
    for lag, at, slope in linear.time_parts:
        if lag < 0:
            z[at] = slope * d_tau
        elif tau > float(linear.given.lags[lag]):
            z[at] = slope * _d_sigma(linear, lag, d_tau, directions)
    for lag, (targets, flat) in linear.march.layout.delayed.items():
        at, sigma = linear.earlier(lag, tau, place)
        z[targets] = _delayed_change(linear, lag, sigma, at, flat, d_tau, moved, directions)
        if at >= 0:
            nu = adjoints.gaps[event] * linear.gap_slopes[event][targets]
            more = more + _bent_past(linear, lag, sigma, at, flat, nu, d_tau, moved, directions)
    weights = np.zeros((1, linear.system.mode_count))
    branch = course.events[event][0]
    weights[0, branch] = adjoints.gaps[event]
    extra = 0.0
    if linear.system.forcing_count:
        first, second = linear.system.forcing_slopes(moment[:1])
        z[linear.march._forcing] = first[0][:, None] * d_tau
        slopes = linear.system.gap_slopes_many(moment[:, None])[0, branch]
        extra = adjoints.gaps[event] * float(slopes[linear.march._forcing] @ second[0])
    curved = linear.system.bends_many("gaps", moment[:, None], weights)[0]
    return np.asarray(z.T @ curved @ z + extra * np.outer(d_tau, d_tau) + more)


def _bent_jump(linear: Linear, number: int, moved: Forward, adjoints: Backward, directions: FloatArray) -> FloatArray:
    place, _, moment, _ = linear.course.jumps[number]
    z = np.zeros((len(moment), directions.shape[1]))
    before = moved.before_jump[place]
    z[linear.states] = before
    z[linear.outer_places] = directions[linear.outer_columns]
    for places, columns in linear.piece_parts:
        z[places] = _gathered(directions, columns[min(place, len(columns) - 1), 0])
    q = directions.shape[1]
    still, more = np.zeros(q), np.zeros((q, q))
    weights = adjoints.jumps[number] @ linear.jump_slopes[number]
    for _, lag, sigma, at, targets, flat, _ in _jump_delays(linear, number):
        if place == 0:
            z[targets] = before[flat]
            continue
        z[targets] = _delayed_change(linear, lag, sigma, at, flat, still, moved, directions)
        if at >= 0:
            more = more + _bent_past(linear, lag, sigma, at, flat, weights[targets], still, moved, directions)
    _move_sigmas(linear, number, z, directions)
    curved = linear.system.bends_many("jumps", moment[:, None], adjoints.jumps[number][None])[0]
    return np.asarray(z.T @ curved @ z + more)


def _bent_delays(linear: Linear, place: int, moved: Forward, adjoints: Backward, directions: FloatArray) -> FloatArray:
    """Return what moving lags and steps do to the delayed states of a segment, twice."""
    q = directions.shape[1]
    total = np.zeros((q, q))
    if linear.is_still:
        return total
    d_start, dh = _ends(linear, place, moved, q)
    for i, lag, sigma, at, places, flat, _ in linear.delay_of(place):
        if at >= 0:
            nu = linear.slopes[place][i][:, places].T @ adjoints.kappa[place, i]
            d_tau = d_start + linear.course.tableau.c[i] * dh
            total += _bent_past(linear, lag, sigma, at, flat, nu, d_tau, moved, directions)
    return total


def _bent_past(
    linear: Linear, lag: int, sigma: float, at: int, flat: list[int], nu: FloatArray, d_tau: FloatArray,
    moved: Forward, directions: FloatArray,
) -> FloatArray:  # fmt: skip
    """Return the second derivatives of x = X_0 + h Σ b_j(θ) k_j, θ = (σ − τ_0) / h, weighted with nu."""
    course, tableau, q = linear.course, linear.course.tableau, directions.shape[1]
    d_start, d_h = _ends(linear, at, moved, q)
    d_sigma = _d_sigma(linear, lag, d_tau, directions)
    if not (d_sigma.any() or d_start.any() or d_h.any()):
        return np.zeros((q, q))
    h, theta = course.h[at], (sigma - course.tau0[at]) / course.h[at]
    k, dk = linear.k[at][:, flat] @ nu, np.einsum("siq,i->sq", moved.k[at][:, flat], nu)
    w0, w1, w2 = (tableau.weights(theta, d) for d in range(3))
    d_theta = (d_sigma - d_start - theta * d_h) / h
    pair = np.outer(d_h, w0 @ dk) + np.outer(h * d_theta, w1 @ dk) + (w1 @ k) * np.outer(d_h, d_theta)
    # d²θ = −(dθ ⊗ dh + dh ⊗ dθ) / h
    twist = -(np.outer(d_theta, d_h) + np.outer(d_h, d_theta)) / h
    own = h * (w2 @ k) * np.outer(d_theta, d_theta) + h * (w1 @ k) * twist
    return np.asarray(pair + pair.T + own)
