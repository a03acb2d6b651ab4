"""Adjoints along a course for weights of its outputs: they are carried against (1) and (2) of `linearised`.

Source: A. Griewank, A. Walther, "Evaluating Derivatives", 2008, chapter 3.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from ilvren.dynamics.forward_sweep import jump_delays, kappa_maps, response
from ilvren.dynamics.linearised import Linear
from ilvren.records import dataclass

__all__ = ["Backward", "backward"]

FloatArray = NDArray[np.float64]


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
    maps = kappa_maps(linear)
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
                    for _, _, _, at, _, _, _ in jump_delays(linear, number):
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
    for _, lag, sigma, at, targets, flat, _ in jump_delays(linear, number):
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
