"""Interval arithmetic on arrays: ends of results from ends of operands, and what a result implies for an operand.

A box is (lower ends, upper ends), arrays of one shape. Results are widened by a few roundings, so that a proof does not
rest on the last digit. Sources: see `intervals`.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.formula.arrays import STRUCTURAL
from ilvren.formula.rules import RULES

__all__ = [
    "DOMAIN",
    "Box",
    "divided",
    "elementwise",
    "interpolated",
    "inverse",
    "is_empty",
    "meet",
    "others",
    "widened",
]

Array = NDArray[np.float64]
# Lower and upper ends, of the node's shape.
Box = tuple[Array, Array]

# Widening of every result, relative and absolute.
RELATIVE, ABSOLUTE = 4e-16, 1e-300
# An interval counts as empty when its ends have crossed by more than this share: rounding may cross them a little.
CROSSED = 1e-9

_MONOTONE = {
    "sqrt": np.sqrt, "exp": np.exp, "log": np.log, "log10": np.log10, "asin": np.arcsin, "atan": np.arctan,
    "sinh": np.sinh, "tanh": np.tanh,
}  # fmt: skip
DOMAIN = {"sqrt": (0.0, math.inf), "log": (0.0, math.inf), "log10": (0.0, math.inf), "asin": (-1.0, 1.0),
           "acos": (-1.0, 1.0)}  # fmt: skip
_COMPARISONS = ("<=", "<", ">=", ">", "==", "!=")


def widened(box: Box, *, zero_is_exact: bool = False) -> Box:
    """Return a box widened by some roundings; with `zero_is_exact` an end at 0 has none."""
    low, high = (np.asarray(side, dtype=float) for side in box)
    low = np.where(np.isnan(low), -np.inf, low)
    high = np.where(np.isnan(high), np.inf, high)
    low_room, high_room = (np.where(np.isfinite(end), RELATIVE * np.abs(end) + ABSOLUTE, 0.0) for end in (low, high))
    if zero_is_exact:
        low_room, high_room = np.where(low == 0.0, 0.0, low_room), np.where(high == 0.0, 0.0, high_room)
    return low - low_room, high + high_room


def meet(one: Box, other: Box) -> Box:
    """Return what two boxes share; ends have any one shape."""
    return np.maximum(one[0], other[0]), np.minimum(one[1], other[1])


def is_empty(box: Box) -> bool:
    """Return whether a box is empty somewhere, by more than rounding."""
    low, high = box
    with np.errstate(all="ignore"):
        room = CROSSED * np.maximum(np.abs(low), np.abs(high))
        return bool((low > high + np.where(np.isfinite(room), room, 0.0)).any())


def _products(a: Box, b: Box) -> Box:
    with np.errstate(all="ignore"):
        corners = [x * y for x in a for y in b]
        low, high = _ends(corners)
        if (np.isnan(low) | (low == 0.0) | (high == 0.0)).any():
            # 0 · ∞ is 0 here: the factor 0 is exact. Underflow: a product of two numbers that are not 0 is none either.
            factors = [(x, y) for x in a for y in b]
            low, high = _ends([_corner(c, x, y) for c, (x, y) in zip(corners, factors, strict=True)])
    return low, high


def _corner(product: Array, x: Array, y: Array) -> Array:
    is_zero = (x == 0.0) | (y == 0.0)
    return np.where(is_zero, 0.0, np.where(product == 0.0, np.sign(x) * np.sign(y) * ABSOLUTE, product))


def _ends(corners: Sequence[Array]) -> Box:
    """Return the least and the largest of four arrays; NaN where one is."""
    p, q, r, s = corners
    return np.minimum(np.minimum(p, q), np.minimum(r, s)), np.maximum(np.maximum(p, q), np.maximum(r, s))


def divided(a: Box, b: Box) -> Box:
    """Return a box of quotients; everything where the divisor may be 0."""
    low, high = b
    with np.errstate(all="ignore"):
        inverse = (
            np.where(high == 0.0, -np.inf, 1.0 / high),
            np.where(low == 0.0, np.inf, 1.0 / low),
        )
    crosses = (low < 0.0) & (high > 0.0) | (low == 0.0) & (high == 0.0)
    found = _products(a, inverse)
    return np.where(crosses, -np.inf, found[0]), np.where(crosses, np.inf, found[1])


def others(y: Sequence[Array], terms: Box, axis: int | None) -> Box:
    """Return y − Σ of the other terms, for each term; `y` is spread along the axis. Ends have any one shape."""
    found = []
    for own, sums, side in ((y[0], terms[1], 0), (y[1], terms[0], 1)):
        finite = np.where(np.isfinite(sums), sums, 0.0)
        total = finite.sum(axis=axis, keepdims=axis is not None)
        infinite = (~np.isfinite(sums)).sum(axis=axis, keepdims=axis is not None)
        rest = total - finite
        # Rounding of the sum may reach every term.
        slack = 1e-15 * np.abs(finite).sum(axis=axis, keepdims=axis is not None)
        is_known = infinite - (~np.isfinite(sums)) == 0
        value = own - rest + (slack if side else -slack)
        found.append(np.where(is_known, value, np.inf if side else -np.inf))
    return found[0], found[1]


def elementwise(operation: str, boxes: Sequence[Box]) -> Box:
    """Return a box of all values of an operation on boxes of one shape."""
    a = boxes[0]
    low, high = a
    b = boxes[1] if len(boxes) > 1 else a
    match operation:
        case "neg":
            return -high, -low
        case "add":
            return low + b[0], high + b[1]
        case "sub":
            return low - b[1], high - b[0]
        case "mul":
            return _products(a, b)
        case "div":
            return divided(a, b)
        case "square":
            found = _even(a, np.square)
            return found[0], np.where((found[1] == 0.0) & ((low != 0.0) | (high != 0.0)), ABSOLUTE, found[1])
        case "abs":
            return _even(a, np.abs)
        case "cosh":
            return _even(a, np.cosh)
        case "min":
            return np.minimum(low, b[0]), np.minimum(high, b[1])
        case "max":
            return np.maximum(low, b[0]), np.maximum(high, b[1])
        case "pow":
            return _power(a, b)
        case "sin":
            return _wave(low - math.pi / 2, high - math.pi / 2)
        case "cos":
            return _wave(low, high)
        case "acos":
            return np.arccos(np.clip(high, -1.0, 1.0)), np.arccos(np.clip(low, -1.0, 1.0))
        case "erf":
            from scipy.special import erf

            return erf(low), erf(high)
        case "tan":
            breaks = np.floor((low - math.pi / 2) / math.pi) != np.floor((high - math.pi / 2) / math.pi)
            breaks |= ~np.isfinite(high - low)
            return np.where(breaks, -np.inf, np.tan(low)), np.where(breaks, np.inf, np.tan(high))
        case "hypot":
            first, second = _even(a, np.abs), _even(b, np.abs)
            return np.hypot(first[0], second[0]), np.hypot(first[1], second[1])
        case "heaviside":
            return np.where(low > b[1], 1.0, 0.0), np.where(high < b[0], 0.0, 1.0)
        case "mul_live":
            return _products(a, b)
        case "div_live":
            return divided(a, b)
        case "unit":
            found = divided(a, b)
            return np.maximum(found[0], -1.0), np.minimum(found[1], 1.0)
        case "pow_slope":
            lower = (b[0] - 1.0, b[1] - 1.0)
            lower = lower if np.array_equal(*b) else widened(lower)
            return _products(b, widened(_power(a, lower)))
        case "pow_log":
            logarithm = np.log(np.maximum(low, 0.0)), np.log(np.maximum(high, 0.0))
            found = _products(widened(_power(a, b)), widened(logarithm))
            is_safe = (low > 0.0) & np.isfinite(found[0]) & np.isfinite(found[1])
            return np.where(is_safe, found[0], -np.inf), np.where(is_safe, found[1], np.inf)
        case "atan2":
            shape = np.broadcast_shapes(np.shape(low), np.shape(b[0]))
            return np.full(shape, -math.pi), np.full(shape, math.pi)
        case "sign":
            return np.sign(low), np.sign(high)
        case "where":
            return _chosen(boxes)
        case "and":
            return np.minimum(low, b[0]), np.minimum(high, b[1])
        case "or":
            return np.maximum(low, b[0]), np.maximum(high, b[1])
        case "not":
            return 1.0 - high, 1.0 - low
    if operation in _MONOTONE:
        domain = DOMAIN.get(operation, (-np.inf, np.inf))
        return tuple(_MONOTONE[operation](np.clip(side, *domain)) for side in (low, high))  # type: ignore[return-value]
    if operation in _COMPARISONS:
        return _compared(operation, a, b)
    assert RULES[operation].interval == "open", operation
    shape = np.broadcast_shapes(*(np.shape(box[0]) for box in boxes))
    return np.full(shape, -np.inf), np.full(shape, np.inf)


def _even(a: Box, function: Any) -> Box:
    ends = [function(side) for side in a]
    crosses = (a[0] <= 0.0) & (a[1] >= 0.0)
    return np.where(crosses, function(np.zeros(())), np.minimum(*ends)), np.maximum(*ends)


def _wave(low: Array, high: Array) -> Box:
    """cos over [low, high]."""
    ends = [np.cos(low), np.cos(high)]
    has_top = np.floor(high / (2 * math.pi)) != np.floor(low / (2 * math.pi))
    has_bottom = np.floor((high - math.pi) / (2 * math.pi)) != np.floor((low - math.pi) / (2 * math.pi))
    wide = ~(high - low < 2 * math.pi)
    slack = 1e-15 * (1.0 + np.maximum(np.abs(low), np.abs(high)))  # the argument was shifted, and has its own rounding
    return (
        np.where(has_bottom | wide, -1.0, np.minimum(*ends) - slack),
        np.where(has_top | wide, 1.0, np.maximum(*ends) + slack),
    )


def _power(a: Box, b: Box) -> Box:
    low, high = a
    exponent = b[0]
    if not np.array_equal(b[0], b[1]):
        positive = np.maximum(low, 0.0)
        corners = [np.power(x, y) for x in (positive, np.maximum(high, 0.0)) for y in b]
        is_safe = low >= 0.0
        return (
            np.where(is_safe, np.fmin.reduce(corners), -np.inf),
            np.where(is_safe, np.fmax.reduce(corners), np.inf),
        )
    is_whole = np.round(exponent) == exponent
    is_even = is_whole & (np.mod(exponent, 2.0) == 0.0)
    base_low, base_high = np.where(is_whole, low, np.maximum(low, 0.0)), np.where(is_whole, high, np.maximum(high, 0.0))
    ends = [np.power(base_low, exponent), np.power(base_high, exponent)]
    least, most = np.fmin(*ends), np.fmax(*ends)
    crosses = (base_low <= 0.0) & (base_high >= 0.0)
    least = np.where(is_even & (exponent > 0.0) & crosses, 0.0, least)
    most = np.where((exponent < 0.0) & crosses, np.inf, most)
    least = np.where((exponent < 0.0) & crosses & ~is_even, -np.inf, least)
    return np.where(np.isnan(least), -np.inf, least), np.where(np.isnan(most), np.inf, most)


def _compared(operation: str, a: Box, b: Box) -> Box:
    """1 where it holds for sure, 0 where it cannot: (0, 1) when both are possible."""
    match operation:
        case "<=" | "<":
            surely, possibly = a[1] < b[0], a[0] <= b[1]
        case ">=" | ">":
            surely, possibly = a[0] > b[1], a[1] >= b[0]
        case "==":
            surely = (a[0] == a[1]) & (b[0] == b[1]) & (a[0] == b[0])
            possibly = (a[0] <= b[1]) & (b[0] <= a[1])
        case _:
            surely = (a[1] < b[0]) | (b[1] < a[0])
            possibly = ~((a[0] == a[1]) & (b[0] == b[1]) & (a[0] == b[0]))
    return np.asarray(surely, dtype=float), np.asarray(possibly, dtype=float)


def _chosen(boxes: Sequence[Box]) -> Box:
    (surely, possibly), a, b = boxes
    low = np.where(surely > 0.5, a[0], np.where(possibly < 0.5, b[0], np.minimum(a[0], b[0])))
    high = np.where(surely > 0.5, a[1], np.where(possibly < 0.5, b[1], np.maximum(a[1], b[1])))
    return low, high


def interpolated(detail: Any, boxes: Sequence[Box]) -> Box:
    """Piecewise linear: extremes are at the ends of the interval and at the knots within."""
    (low, high), (xs, _), (ys, _) = boxes
    ends = [STRUCTURAL["interp"](detail, side, xs, ys) for side in (low, high)]
    least, most = np.minimum(*ends), np.maximum(*ends)
    for x, y in zip(xs, ys, strict=True):
        inside = (low <= x) & (x <= high)
        least, most = np.where(inside, np.minimum(least, y), least), np.where(inside, np.maximum(most, y), most)
    return least, most


def inverse(operation: str, place: int, y: Box, boxes: Sequence[Box]) -> Box | None:
    """Return what operand `place` may be when the result lies in y, or None where nothing is said."""
    other = boxes[1 - place] if len(boxes) == 2 else boxes[0]
    match operation, place:
        case "neg", _:
            return -y[1], -y[0]
        case "add", _:
            return y[0] - other[1], y[1] - other[0]
        case "sub", 0:
            return y[0] + other[0], y[1] + other[1]
        case "sub", 1:
            return other[0] - y[1], other[1] - y[0]
        case "mul", _:
            is_away = (other[0] > 0.0) | (other[1] < 0.0)
            found = divided(y, other)
            return np.where(is_away, found[0], -np.inf), np.where(is_away, found[1], np.inf)
        case "div", 0:
            return _products(y, other)
        case "div", 1:
            is_away = (y[0] > 0.0) | (y[1] < 0.0)
            found = divided(other, y)
            return np.where(is_away, found[0], -np.inf), np.where(is_away, found[1], np.inf)
        case (("square" | "abs" | "cosh"), _):
            root, least = {"square": (np.sqrt, ABSOLUTE), "abs": (np.abs, 0.0), "cosh": (np.arccosh, 1.0)}[operation]
            top = root(np.maximum(y[1], least))
            return -top, top
        case "sqrt", _:
            return np.square(np.maximum(y[0], 0.0)), np.where(y[1] < 0.0, -np.inf, np.square(y[1]))
        case "exp", _:
            return np.log(np.maximum(y[0], 0.0)), np.log(np.maximum(y[1], ABSOLUTE))  # what underflows is 0
        case "log", _:
            return np.exp(y[0]), np.exp(y[1])
        case "log10", _:
            return np.power(10.0, y[0]), np.power(10.0, y[1])
        case "min", _:
            return np.asarray(y[0]), np.where(other[0] > y[1], y[1], np.inf)
        case "max", _:
            return np.where(other[1] < y[0], y[0], -np.inf), np.asarray(y[1])
        case "pow", 0 if np.array_equal(*boxes[1]):
            c = boxes[1][0]
            is_plain = (boxes[0][0] >= 0.0) & (c > 0.0)
            low, high = (np.power(np.maximum(side, 0.0), 1.0 / np.where(c == 0.0, 1.0, c)) for side in y)
            return np.where(is_plain, low, -np.inf), np.where(is_plain, high, np.inf)
    return None
