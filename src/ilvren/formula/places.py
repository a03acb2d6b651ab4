"""Where something over time has peaks, first reaches a level, or last leaves a band: places, which have no slope.

What is over time is given at both ends of intervals, with its slopes there times the interval's length: a cubic in each
(Hermite). With low s, high e, slopes u and v, and Δ = e − s,

    p(θ) = s + uθ + (3Δ − 2u − v) θ² + (u + v − 2Δ) θ³,    0 <= θ <= 1                                 (1)

Formulas take the numbers at a place and work out the value there, with its derivatives; a place changes by leaps, and
`gaps` tells how near it is to one.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["PLACES", "gaps"]

Array = NDArray[Any]

HALVINGS = 60


def _cubic(s: Array, e: Array, u: Array, v: Array) -> tuple[Array, Array]:
    return 3.0 * (e - s) - 2.0 * u - v, u + v - 2.0 * (e - s)


def _value(s: Array, e: Array, u: Array, v: Array, theta: Array) -> Array:
    b, c = _cubic(s, e, u, v)
    return np.asarray(s + theta * (u + theta * (b + theta * c)))


def _peaks(s: Array, e: Array, u: Array, v: Array) -> tuple[Array, Array, Array]:
    """Return of each interval the largest value, where it is, and whether inside."""
    b, c = _cubic(s, e, u, v)
    inside = (u > 0.0) & (v < 0.0)
    with np.errstate(all="ignore"):
        theta = u / (np.sqrt(np.maximum(b * b - 3.0 * c * u, 0.0)) - b)
    theta = np.where(inside & (theta > 0.0) & (theta < 1.0), theta, np.where(e > s, 1.0, 0.0))
    return (
        np.asarray(np.where(inside, np.maximum(_value(s, e, u, v, theta), np.maximum(s, e)), np.maximum(s, e))),
        theta,
        inside,
    )


def _peaked(detail: Any, s: Array, e: Array, u: Array, v: Array) -> Array:
    """Of every interval whether it has a peak inside. One that leaves an interval goes on in the next, and what the two
    take of it meets there with its slope: nothing has a kink for it."""
    s, e, u, v = np.broadcast_arrays(s, e, u, v)
    found = np.where((u > 0.0) & (v < 0.0), 1.0, 0.0)
    found[np.isnan(s + e + u + v).any(axis=-1)] = np.nan
    return found


def _crossing(s: Array, e: Array, u: Array, v: Array, level: Array, low: Array, high: Array) -> Array:
    """Return θ in [low, high] where (1) is at a level: on one side of it at `low`, on the other at `high`."""
    side = np.sign(_value(s, e, u, v, high) - level)
    for _ in range(HALVINGS):
        middle = 0.5 * (low + high)
        is_beyond = (_value(s, e, u, v, middle) - level) * side > 0.0
        low, high = np.where(is_beyond, low, middle), np.where(is_beyond, middle, high)
    return np.asarray(0.5 * (low + high))


def _picked(at: Array, *arrays: Array) -> tuple[Array, ...]:
    own = np.expand_dims(at, -1)
    return tuple(np.take_along_axis(np.broadcast_to(a, (*at.shape, a.shape[-1])), own, -1)[..., 0] for a in arrays)


def _cross_place(detail: Any, s: Array, e: Array, u: Array, v: Array, level: Array) -> Array:
    """(interval, θ, whether there is one) at which a level is first reached from below."""
    s, e, u, v = np.broadcast_arrays(s, e, u, v)
    level = np.asarray(level, dtype=float)
    lead = np.broadcast_shapes(s.shape[:-1], level.shape)
    s, e, u, v = (np.broadcast_to(a, (*lead, a.shape[-1])) for a in (s, e, u, v))
    level = np.broadcast_to(level, lead)
    top, theta, _ = _peaks(s, e, u, v)
    reaches = top >= level[..., np.newaxis]
    at = np.argmax(reaches, axis=-1)
    is_found = reaches.any(axis=-1)
    s1, e1, u1, v1, far = _picked(at, s, e, u, v, theta)
    place = np.where(s1 >= level, 0.0, _crossing(s1, e1, u1, v1, level, np.zeros(lead), np.where(far > 0.0, far, 1.0)))
    found = np.stack([at.astype(float), place, is_found.astype(float)], axis=-1)
    found[np.isnan(top).any(axis=-1)] = np.nan
    return found


def _leave_place(detail: Any, s: Array, e: Array, u: Array, v: Array, under: Array, over: Array) -> Array:
    """(interval, θ, whether above, whether it comes back inside, whether it is outside at the end) of the last moment
    outside a band."""
    s, e, u, v = np.broadcast_arrays(s, e, u, v)
    under, over = np.asarray(under, dtype=float), np.asarray(over, dtype=float)
    lead = np.broadcast_shapes(s.shape[:-1], under.shape, over.shape)
    s, e, u, v = (np.broadcast_to(a, (*lead, a.shape[-1])) for a in (s, e, u, v))
    under, over = np.broadcast_to(under, lead), np.broadcast_to(over, lead)
    top, theta, _ = _peaks(s, e, u, v)
    bottom, trough, _ = _peaks(-s, -e, -u, -v)
    above, below = top > over[..., np.newaxis], -bottom < under[..., np.newaxis]
    outside = above | below
    count = outside.shape[-1]
    at = count - 1 - np.argmax(outside[..., ::-1], axis=-1)
    is_any = outside.any(axis=-1)
    s1, e1, u1, v1, far_up, far_down, is_up, is_down = _picked(at, s, e, u, v, theta, trough, above, below)
    # Where both happen within one interval, the later one.
    is_above = is_up & ~(is_down & (far_down > far_up))
    level = np.where(is_above, over, under)
    last = np.where(is_above, e1 > over, e1 < under)
    is_never = is_any & last & (at == count - 1)
    far = np.where(is_above, far_up, far_down)
    place = np.where(last, 1.0, _crossing(s1, e1, u1, v1, level, np.ones(lead), np.where(far < 1.0, far, 0.0)))
    found = np.stack(
        [at.astype(float), place, is_above.astype(float), (is_any & ~is_never).astype(float), is_never.astype(float)],
        axis=-1,
    )
    found[np.isnan(top).any(axis=-1)] = np.nan
    return found


PLACES: dict[str, Callable[..., Array]] = {
    "peaked": _peaked,
    "cross_place": _cross_place,
    "leave_place": _leave_place,
}


def gaps(operation: str, given: tuple[Array, ...]) -> Array:
    """Return for every interval what changes its sign where a place leaps: for those with a peak inside how far that is
    from deciding, 1 for all others. Shapes: the operation's arguments, result (intervals,)."""
    s, e, u, v = np.broadcast_arrays(*(np.asarray(a, dtype=float) for a in given[:4]))
    top, _, inside = _peaks(s, e, u, v)
    ones = np.ones(s.shape)
    if operation == "peaked":
        return ones
    if operation == "cross_place":
        return np.where(inside, top - given[4], ones)
    bottom, _, dips = _peaks(-s, -e, -u, -v)
    return np.concatenate([np.where(inside, top - given[5], ones), np.where(dips, -bottom - given[4], ones)])
