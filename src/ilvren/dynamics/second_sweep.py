"""Second derivatives of weighted outputs of a course.

With the adjoints κ of the stages, υ = F_xᵀκ, ξ of X_1 and μ of the gaps (`backward_sweep`) for weights w of the
outputs, the second derivatives of w·outputs are those of the Lagrangian of the chain along its linearisation Z, (1) of
`linearised`:

    Σ κ·∇²F[Z, Z] + μ ∇²gap[Z, Z] + 2 dh (υ_i·Σ a_ij dk_j + ξ·Σ b_j dk_j) + what steps do with delayed states  (3)

Source: A. Griewank, A. Walther, "Evaluating Derivatives", 2008, chapter 5.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ilvren.dynamics.backward_sweep import Backward
from ilvren.dynamics.forward_sweep import (
    Forward,
    changes_at_ends,
    delayed_change,
    gathered_directions,
    jump_delays,
    move_sigmas,
    sigma_change,
)
from ilvren.dynamics.linearised import CHUNK, Linear

__all__ = ["second_products"]

FloatArray = NDArray[np.float64]


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
    d_start, dh = changes_at_ends(linear, place, moved, q)
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
                    z[i, at] = slope * sigma_change(linear, lag, d_tau[i], directions)
    for i, lag, sigma, at, targets, flat, _ in linear.delay_of(place):
        z[i, targets] = delayed_change(linear, lag, sigma, at, flat, d_tau[i], moved, directions)
    if linear.system.forcing_count and linear.is_moved[place]:
        z[:, linear.march._forcing] = linear.forcing_first[place][:, :, None] * d_tau[:, None, :]
    return z, d_tau


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
    _, dh = changes_at_ends(linear, place, moved, q)
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
        z[places] = gathered_directions(directions, columns[place, -1])
    tau, more = float(linear.tau0[place] + linear.h[place]), np.zeros((q, q))
    for lag, at, slope in linear.time_parts:
        if lag < 0:
            z[at] = slope * d_tau
        elif tau > float(linear.given.lags[lag]):
            z[at] = slope * sigma_change(linear, lag, d_tau, directions)
    for lag, (targets, flat) in linear.march.layout.delayed.items():
        at, sigma = linear.earlier(lag, tau, place)
        z[targets] = delayed_change(linear, lag, sigma, at, flat, d_tau, moved, directions)
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
        z[places] = gathered_directions(directions, columns[min(place, len(columns) - 1), 0])
    q = directions.shape[1]
    still, more = np.zeros(q), np.zeros((q, q))
    weights = adjoints.jumps[number] @ linear.jump_slopes[number]
    for _, lag, sigma, at, targets, flat, _ in jump_delays(linear, number):
        if place == 0:
            z[targets] = before[flat]
            continue
        z[targets] = delayed_change(linear, lag, sigma, at, flat, still, moved, directions)
        if at >= 0:
            more = more + _bent_past(linear, lag, sigma, at, flat, weights[targets], still, moved, directions)
    move_sigmas(linear, number, z, directions)
    curved = linear.system.bends_many("jumps", moment[:, None], adjoints.jumps[number][None])[0]
    return np.asarray(z.T @ curved @ z + more)


def _bent_delays(linear: Linear, place: int, moved: Forward, adjoints: Backward, directions: FloatArray) -> FloatArray:
    """Return what moving lags and steps do to the delayed states of a segment, twice."""
    q = directions.shape[1]
    total = np.zeros((q, q))
    if linear.is_still:
        return total
    d_start, dh = changes_at_ends(linear, place, moved, q)
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
    d_start, d_h = changes_at_ends(linear, at, moved, q)
    d_sigma = sigma_change(linear, lag, d_tau, directions)
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
