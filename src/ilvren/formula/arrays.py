"""The operations on arrays, as NumPy functions: what `operators` is for plain floats.

An array may carry one more axis in front, the batch: many designs, or many directions, at once. Functions
of STRUCTURAL take the node's `detail` first and count axes from the end, so that they serve both cases.
ELEMENTWISE gives code templates over the names in CODE_SPACE.

    index     (rank, key)              a[key]; the key covers every axis
    scatter   (rank, key, shape)       zeros of `shape` with a at [key]
    take      (rank, places)           elements of the first axis at fixed places, as often as these stand there
    give_back (rank, places, length)   the reverse of take: what stands for each of `length` elements, added up
    sum       (rank, axis)             over one axis, or over all (axis None)
    expand    (rank, axis, shape)      the reverse of sum: repeated along the axis
    broadcast (rank, shape)            a scalar or lengths of one repeated to `shape`
    shrink    (rank, shape)            the reverse of broadcast: sums of what was repeated
    reshape   (rank, shape)            the same elements, row by row
    transpose (rank,)                  rows and columns exchanged
    join      (ranks, shape)           one after the other along the first axis
    cumsum    (rank, axis)             running sums
    dot       (rank, rank)             the product of vectors or matrices
    norm      (rank, axis)             the root of the sum of squares
    ramp      (n,)                     n even steps from 0 to 1
    peaked, cross_place, leave_place: see `places`
    interp, interp_slope, interp_vjp, interp_slope_vjp, lookup, lookup_vjp: see the functions
"""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.formula.level_values import level_value
from ilvren.formula.places import PLACES

__all__ = ["CODE_SPACE", "ELEMENTWISE", "LOOKUP_TOLERANCE", "STRUCTURAL", "index_key", "lifted", "normal_key"]

Array = NDArray[Any]

# A value equals a key of a lookup when they differ by at most this share of the key.
LOOKUP_TOLERANCE = 1e-9

ELEMENTWISE: dict[str, str] = {
    "neg": "(-{0})",
    "add": "({0} + {1})",
    "sub": "({0} - {1})",
    "mul": "({0} * {1})",
    "div": "({0} / {1})",
    "square": "square({0})",
    "pow": "power({0}, {1})",
    "pow_slope": "pow_slope({0}, {1})",
    "pow_log": "pow_log({0}, {1})",
    "mul_live": "mul_live({0}, {1})",
    "div_live": "div_live({0}, {1})",
    "unit": "unit({0}, {1})",
    "abs": "absolute({0})",
    "sign": "sign({0})",
    "heaviside": "heaviside({0}, {1})",
    "min": "minimum({0}, {1})",
    "max": "maximum({0}, {1})",
    "asin": "arcsin({0})",
    "acos": "arccos({0})",
    "atan": "arctan({0})",
    "atan2": "arctan2({0}, {1})",
    "hypot": "hypot({0}, {1})",
    "and": "logical_and({0}, {1})",
    "or": "logical_or({0}, {1})",
    "not": "logical_not({0})",
    "where": "where({0}, {1}, {2})",
    **{name: f"({{0}} {name} {{1}})" for name in ("<=", "<", ">=", ">", "==", "!=")},
    **{name: name + "({0})" for name in ("sqrt", "exp", "log", "log10", "sin", "cos", "tan", "sinh", "cosh", "tanh")},
    "erf": "erf({0})",
}


def pow_slope(x: Array, c: Array) -> Array:
    """Return c · x^(c−1), and 0 where c = 0. All have any one shape, or spread to it."""
    return np.where(np.equal(c, 0.0), 0.0, c * np.power(x, np.subtract(c, 1.0)))


def pow_log(x: Array, c: Array) -> Array:
    """Return x^c · log x, and 0 where x = 0 < c. All have any one shape, or spread to it."""
    return np.where(np.equal(x, 0.0) & np.greater(c, 0.0), 0.0, np.power(x, c) * np.log(x))


def mul_live(a: Array, factor: Array) -> Array:
    """Return a · factor, and 0 where a = 0: a derivative that no chosen branch uses stays out, whatever the factor. All
    have any one shape, or spread to it."""
    return np.where(np.equal(a, 0.0), 0.0, a * factor)


def div_live(a: Array, divisor: Array) -> Array:
    """Return a / divisor, and 0 where a = 0. All have any one shape, or spread to it."""
    return np.where(np.equal(a, 0.0), 0.0, np.divide(a, divisor))


def unit(a: Array, length: Array) -> Array:
    """Return a / length, and 0 where the length is 0: the average slope at the tip of a cone. All have any one shape,
    or spread to it."""
    is_tip = np.equal(length, 0.0)
    return np.where(is_tip, 0.0, np.divide(a, np.where(is_tip, 1.0, length)))


def heaviside(a: Array, b: Array) -> Array:
    """Return 1, 0 or 1/2: how much of max(a, b) follows a."""
    return 0.5 + 0.5 * np.sign(np.subtract(a, b))


def _erf(a: Array) -> Array:
    from scipy.special import erf  # heavy, and seldom needed

    found: Array = erf(a)
    return found


_NUMPY_NAMES = """
    absolute arccos arcsin arctan arctan2 cos cosh exp hypot log log10 logical_and logical_not logical_or maximum
    minimum power sign sin sinh sqrt square tan tanh where
"""
CODE_SPACE: dict[str, Callable[..., Any]] = {
    "pow_slope": pow_slope,
    "pow_log": pow_log,
    "mul_live": mul_live,
    "div_live": div_live,
    "unit": unit,
    "heaviside": heaviside,
    "erf": _erf,
    **{name: getattr(np, name) for name in _NUMPY_NAMES.split()},
}


def lifted(a: Array, rank: int) -> Array:
    """Return a batch of scalars (k,) as (k, 1, …) to meet arrays of `rank` axes."""
    return a.reshape(np.shape(a) + (1,) * rank)


def normal_key(key: tuple[Any, ...]) -> tuple[Any, ...]:
    """Return the key as NumPy takes it, behind any batch axis: entries are ints, or (start, stop, step)."""
    parts: list[Any] = [...]
    for part in key:
        if isinstance(part, tuple):
            start, stop, step = part
            part = slice(start, stop if stop >= 0 else None, step)
        parts.append(part)
    return tuple(parts)


def index_key(key: tuple[Any, ...]) -> tuple[Any, ...]:
    """Return the key for an array without a batch axis."""
    return normal_key(key)[1:]


def _lead(a: Array, rank: int) -> tuple[int, ...]:
    return np.shape(a)[: np.ndim(a) - rank]


def _axes(rank: int, axis: int | None) -> Any:
    return tuple(range(-rank, 0)) if axis is None else axis - rank


def _index(detail: Any, a: Array) -> Array:
    return a[normal_key(detail[1])]


def _scatter(detail: Any, a: Array) -> Array:
    rank, key, shape = detail
    out = np.zeros(_lead(a, rank) + shape)
    out[normal_key(key)] = a
    return out


@lru_cache(maxsize=512)
def _places(places: tuple[int, ...]) -> NDArray[np.intp]:
    return np.array(places, dtype=np.intp)


def _take(detail: Any, a: Array) -> Array:
    rank, places = detail
    return np.take(a, _places(places), axis=-rank)


def _give_back(detail: Any, a: Array) -> Array:
    rank, places, length = detail
    moved = np.moveaxis(a, -rank, 0)
    out = np.zeros((length, *moved.shape[1:]))
    np.add.at(out, _places(places), moved)
    return np.moveaxis(out, 0, -rank)


def _sum(detail: Any, a: Array) -> Array:
    rank, axis = detail
    return np.add.reduce(a, axis=_axes(rank, axis))


def _expand(detail: Any, a: Array) -> Array:
    rank, axis, shape = detail
    lead = _lead(a, rank)
    spread = np.reshape(a, lead + (1,) * len(shape)) if axis is None else np.expand_dims(a, axis - len(shape))
    return np.broadcast_to(spread, lead + shape)


def _broadcast(detail: Any, a: Array) -> Array:
    rank, shape = detail
    lead = _lead(a, rank)
    spread = a if rank else np.reshape(a, lead + (1,) * len(shape))
    return np.broadcast_to(spread, lead + shape)


def _shrink(detail: Any, a: Array) -> Array:
    rank, shape = detail
    if not shape:
        return np.add.reduce(a, axis=_axes(rank, None))
    own = np.shape(a)[np.ndim(a) - rank :]
    axes = tuple(place - rank for place in range(rank) if shape[place] == 1 and own[place] != 1)
    return np.sum(a, axis=axes, keepdims=True)


def _reshape(detail: Any, a: Array) -> Array:
    rank, shape = detail
    return np.reshape(a, _lead(a, rank) + shape)


def _transpose(detail: Any, a: Array) -> Array:
    return np.swapaxes(a, -1, -2)


def _join(detail: Any, *parts: Array) -> Array:
    ranks, shape = detail
    lead = np.broadcast_shapes(*(_lead(part, rank) for part, rank in zip(parts, ranks, strict=True)))
    spread = []
    for part, rank in zip(parts, ranks, strict=True):
        own = np.shape(part)[np.ndim(part) - rank :] if rank else (1,)
        part = part if rank else np.expand_dims(part, -1)
        spread.append(np.broadcast_to(part, lead + own))
    return np.concatenate(spread, axis=-len(shape))


def _cumsum(detail: Any, a: Array) -> Array:
    rank, axis = detail
    return np.cumsum(a, axis=axis - rank)


def _dot(detail: Any, a: Array, b: Array) -> Array:
    match detail:
        case (1, 1):
            return np.add.reduce(a * b, axis=-1)
        case (2, 1):
            if np.ndim(a) == 2:
                return b @ a.T
            return np.matmul(a, np.expand_dims(b, -1))[..., 0]
        case (1, 2):
            if np.ndim(b) == 2:
                return a @ b
            return np.matmul(np.expand_dims(a, -2), b)[..., 0, :]
    return np.matmul(a, b)


def _norm(detail: Any, a: Array) -> Array:
    rank, axis = detail
    return np.sqrt(np.add.reduce(np.square(a), axis=_axes(rank, axis)))


def _ramp(detail: Any) -> Array:
    return np.linspace(0.0, 1.0, detail[0])


def _place(at: Array, xs: Array) -> tuple[NDArray[np.intp], Array]:
    """Return for each `at` the segment j it lies in and its share t of it, held within the ends."""
    if len(xs) == 1:
        return np.zeros(np.shape(at), dtype=np.intp), np.asarray(at) * 0.0
    j = np.clip(np.searchsorted(xs, at, side="right") - 1, 0, len(xs) - 2)
    t = (at - xs[j]) / (xs[j + 1] - xs[j])
    return j, np.clip(t, 0.0, 1.0)


def _taken(ys: Array, j: NDArray[np.intp], rank: int) -> Array:
    """Return ys[j] along the last axis; either may have a batch axis, `rank` being that of j without it."""
    if np.ndim(ys) == 1:
        return ys[j]
    if np.ndim(j) == rank:
        return ys[:, j]
    flat = j.reshape(len(j), -1)
    return np.take_along_axis(ys, flat, axis=1).reshape(j.shape)


def _interp(detail: Any, at: Array, xs: Array, ys: Array) -> Array:
    """Piecewise linear through (xs, ys), held at the end values outside. detail: (rank of at,)."""
    j, t = _place(at, xs)
    first = _taken(ys, j, detail[0])
    if len(xs) == 1:
        return first + t
    return first + t * (_taken(ys, j + 1, detail[0]) - first)


def _slopes(at: Array, xs: Array, ys: Array, rank: int) -> Array:
    j, _ = _place(at, xs)
    if len(xs) == 1:
        return np.zeros(np.shape(at))
    return (_taken(ys, j + 1, rank) - _taken(ys, j, rank)) / (xs[j + 1] - xs[j])


def _interp_slope(detail: Any, at: Array, xs: Array, ys: Array) -> Array:
    """The derivative of interp by `at`: at a knot the average of both sides, 0 outside."""
    right = np.where((at >= xs[0]) & (at < xs[-1]), _slopes(at, xs, ys, detail[0]), 0.0)
    below = np.nextafter(at, -np.inf)
    left = np.where((at > xs[0]) & (at <= xs[-1]), _slopes(below, xs, ys, detail[0]), 0.0)
    return np.where(np.isnan(at), np.nan, 0.5 * (left + right))


def _spread(amount: Array, j: NDArray[np.intp], rank: int, length: int) -> Array:
    """Return zeros (…, length) with every amount added at its j."""
    lead = np.broadcast_shapes(_lead(amount, rank), _lead(j, rank))
    own = np.broadcast_shapes(np.shape(amount), np.shape(j))
    count = math.prod(lead)
    amounts = np.broadcast_to(amount, own).reshape(count, -1)
    places = np.broadcast_to(j, own).reshape(count, -1) + length * np.arange(count)[:, np.newaxis]
    found = np.bincount(places.ravel(), weights=amounts.ravel(), minlength=count * length)
    return found.reshape(*lead, length)


def _interp_vjp(detail: Any, adjoint: Array, at: Array, xs: Array) -> Array:
    """The derivative of interp by ys, times an adjoint. detail: (rank of at,)."""
    j, t = _place(at, xs)
    rank, length = detail[0], len(xs)
    if length == 1:
        return _spread(adjoint + 0.0 * t, j, rank, 1)
    return _spread(adjoint * (1.0 - t), j, rank, length) + _spread(adjoint * t, j + 1, rank, length)


def _interp_slope_vjp(detail: Any, amount: Array, at: Array, xs: Array) -> Array:
    """The derivative of interp_slope by ys, times an amount. detail: (rank of at,)."""
    rank, length = detail[0], len(xs)
    if length == 1:
        return np.zeros((*_lead(amount, rank), 1))
    out = np.zeros(1)
    for place, inside in (
        (at, (at >= xs[0]) & (at < xs[-1])),
        (np.nextafter(at, -np.inf), (at > xs[0]) & (at <= xs[-1])),
    ):
        j, _ = _place(place, xs)
        part = np.where(inside, 0.5 * amount / (xs[j + 1] - xs[j]), 0.0)
        out = out + _spread(part, j + 1, rank, length) - _spread(part, j, rank, length)
    return out


def _found(value: Array, keys: Array) -> tuple[NDArray[np.intp], NDArray[np.bool_]]:
    order = np.argsort(keys, kind="stable")
    ascending = keys[order]
    right = np.clip(np.searchsorted(ascending, value), 0, len(keys) - 1)
    left = np.maximum(right - 1, 0)
    near = np.where(np.abs(ascending[left] - value) <= np.abs(ascending[right] - value), left, right)
    is_equal = np.abs(ascending[near] - value) <= LOOKUP_TOLERANCE * np.abs(ascending[near])
    return order[near], is_equal


def _lookup(detail: Any, value: Array, keys: Array, results: Array) -> Array:
    """The result at the key that equals the value; NaN where none does. detail: (rank of value,)."""
    j, is_equal = _found(value, keys)
    return np.where(is_equal, _taken(results, j, detail[0]), np.nan)


def _lookup_vjp(detail: Any, adjoint: Array, value: Array, keys: Array) -> Array:
    """The derivative of lookup by its results, times an adjoint. detail: (rank of value,)."""
    j, is_equal = _found(value, keys)
    return _spread(np.where(is_equal, adjoint, np.nan), j, detail[0], len(keys))


STRUCTURAL: dict[str, Callable[..., Array]] = {
    "index": _index,
    "scatter": _scatter,
    "take": _take,
    "give_back": _give_back,
    "sum": _sum,
    "expand": _expand,
    "broadcast": _broadcast,
    "shrink": _shrink,
    "reshape": _reshape,
    "transpose": _transpose,
    "join": _join,
    "cumsum": _cumsum,
    "dot": _dot,
    "norm": _norm,
    "level": level_value,
    "ramp": _ramp,
    "interp": _interp,
    "interp_slope": _interp_slope,
    "interp_vjp": _interp_vjp,
    "interp_slope_vjp": _interp_slope_vjp,
    "lookup": _lookup,
    "lookup_vjp": _lookup_vjp,
    **PLACES,
}
