"""Changes along a course for directions of what the design gives: (1) and (2) of `linearised`, segment by segment."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.dynamics.course import segment_of
from ilvren.dynamics.linearised import Linear
from ilvren.records import dataclass

__all__ = [
    "Forward",
    "changes_at_ends",
    "delayed_change",
    "forward",
    "gathered_directions",
    "jump_delays",
    "kappa_maps",
    "move_sigmas",
    "response",
    "sigma_change",
    "transitions",
]

FloatArray = NDArray[np.float64]


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
    dx = gathered_directions(directions, linear.columns.first)
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
            d_end = gathered_directions(directions, linear.columns.moments[moving : moving + 1])[0]
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


def kappa_maps(linear: Linear) -> FloatArray:
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


def gathered_directions(directions: FloatArray, columns: NDArray[np.int64]) -> FloatArray:
    """Return (places, q): directions (inputs, q) at the columns (places,), 0 where a column is −1."""
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
        moved[places] = gathered_directions(directions, own)
    still = np.zeros(dx.shape[1])
    for _, lag, sigma, at, targets, flat, _ in jump_delays(linear, number):
        if place == 0:
            moved[targets] = dx[flat]
        else:
            moved[targets] = delayed_change(linear, lag, sigma, at, flat, still, found, directions)
    move_sigmas(linear, number, moved, directions)
    after = dx.copy()
    for state in states:
        after[state] = rows[order[state]] @ moved
    return after


def move_sigmas(linear: Linear, number: int, moved: FloatArray, directions: FloatArray) -> None:
    """Fill in how the moments some time before a jump move: with the lag alone. `moved` and `directions` are
    (inputs, q)."""
    tau = linear.course.jumps[number][1]
    for lag, place, slope in linear.time_parts:
        if lag >= 0 and tau > float(linear.given.lags[lag]):
            moved[place] = slope * sigma_change(linear, lag, np.zeros(directions.shape[1]), directions)


def jump_delays(linear: Linear, number: int) -> list[tuple[int, int, float, int, list[int], list[int], bool]]:
    """Return what a jump hands on through lags: (0, lag, σ, segment, places, states, whether it lies on the course)."""
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


def _past_change(linear: Linear, at: int, sigma: float, flat: list[int], found: Forward, dx: FloatArray) -> FloatArray:
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
            result[i] += slopes[i][:, places] @ _past_change(linear, at, sigma, flat, found, found.first[0])
            continue
        theta = (sigma - course.tau0[at]) / course.h[at]
        change = np.zeros((len(flat), q))
        d_sigma = moved(i, lag)
        d_start, d_h = np.zeros(q), np.zeros(q)
        if found is not None:
            change = _past_change(linear, at, sigma, flat, found, np.zeros((linear.n, q)))
            d_start, d_h = changes_at_ends(linear, at, found, q)
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
    dx = gathered_directions(directions, linear.columns.first)
    if linear.course.jumps and linear.course.jumps[0][0] == 0:
        dx = _jumped(linear, 0, dx, directions, -1, found)
    return dx


def changes_at_ends(linear: Linear, at: int, found: Forward, q: int) -> tuple[FloatArray, FloatArray]:
    """Return how a segment's begin and its length move with the directions, (q,) each."""
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
        total = total + row[places] @ delayed_change(linear, lag, sigma, at, flat, still, found, directions)
    for lag, at, slope in linear.time_parts:
        if lag >= 0 and tau > float(linear.given.lags[lag]):
            total = total + slope * row[at] * sigma_change(linear, lag, still, directions)
    return np.asarray(total)


def sigma_change(linear: Linear, lag: int, d_tau: FloatArray, directions: FloatArray) -> FloatArray:
    """Return how a moment a lag earlier moves (q,), where now moves by `d_tau` (q,)."""
    column = linear.columns.lags[lag]
    return d_tau - directions[column] if column >= 0 else d_tau


def delayed_change(
    linear: Linear, lag: int, sigma: float, at: int, flat: list[int], d_tau: FloatArray, moved: Forward,
    directions: FloatArray,
) -> FloatArray:  # fmt: skip
    """Return how delayed states move (states, q); their moment σ lies in segment `at`, −1 before the start."""
    if at < 0:
        return np.asarray(moved.first[0][flat])
    course, q = linear.course, directions.shape[1]
    theta = (sigma - course.tau0[at]) / course.h[at]
    change = _past_change(linear, at, sigma, flat, moved, moved.first[0])
    if linear.is_still:
        return change
    d_start, d_h = changes_at_ends(linear, at, moved, q)
    rate = course.tableau.weights(theta, 1) @ linear.k[at][:, flat]
    step = linear.weights(at, sigma) @ linear.k[at][:, flat]
    return np.asarray(
        change
        + rate[:, None] * (sigma_change(linear, lag, d_tau, directions) - d_start - theta * d_h)
        + step[:, None] * d_h
    )
