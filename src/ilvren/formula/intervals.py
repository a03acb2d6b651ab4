"""Interval arithmetic on the graph: what values every node can take within a box of variables, and bounds tightened.

Forward, each node gets an interval that holds all its values (wider than needed where a variable occurs twice).
Backward, what a node may be is carried to its operands (x + y <= c with y >= 1 gives x <= c − 1), until the
variables' own intervals shrink no more; an empty interval proves that no design within the box meets all limits.
Results are widened by a few roundings, so that a proof does not rest on the last digit.

Sources: R. Moore, "Interval Analysis", 1966; J. Cleary, "Logical arithmetic", 1987; F. Benhamou, F. Goualard,
L. Granvilliers, J.-F. Puget, "Revising hull and box consistency", 1999.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.formula.arrays import STRUCTURAL
from ilvren.formula.compile import fixed_nodes
from ilvren.formula.graph import Graph
from ilvren.formula.interpret import walk
from ilvren.formula.sparsity import Link, PatternTooLarge, link

__all__ = ["Box", "Intervals", "PossibleFault"]

Array = NDArray[np.float64]
# Lower and upper ends, of the node's shape.
Box = tuple[Array, Array]

# Widening of every result, relative and absolute.
RELATIVE, ABSOLUTE = 4e-16, 1e-300
MOST_ROUNDS = 12
# A round that shrinks no interval by more than this share ends the tightening.
LEAST_GAIN = 1e-3
# An interval counts as empty when its ends have crossed by more than this share: rounding may cross them a little.
CROSSED = 1e-9
# Matrices beyond this many entries are not followed.
MOST_PRODUCTS = 4_000_000

_MONOTONE = {
    "sqrt": np.sqrt, "exp": np.exp, "log": np.log, "log10": np.log10, "asin": np.arcsin, "atan": np.arctan,
    "sinh": np.sinh, "tanh": np.tanh,
}  # fmt: skip
_DOMAIN = {"sqrt": (0.0, math.inf), "log": (0.0, math.inf), "log10": (0.0, math.inf), "asin": (-1.0, 1.0),
           "acos": (-1.0, 1.0)}  # fmt: skip
_COMPARISONS = ("<=", "<", ">=", ">", "==", "!=")


@dataclass(frozen=True, slots=True)
class PossibleFault:
    """An operation whose argument can leave its domain: `low`, `high` are the ends of that argument, `element` where;
    `is_guarded` inside a branch of `where`, whose condition is not looked at here."""

    node: int
    operation: str
    low: float
    high: float
    element: tuple[int, ...]
    is_guarded: bool = False


class Intervals:
    """The intervals of some roots' nodes within bounds of the variables. `boxes` may be tightened by `contract`."""

    def __init__(
        self, graph: Graph, roots: Sequence[int], variables: Mapping[int, Box], parameters: Sequence[Any]
    ) -> None:
        self.graph = graph
        self.order = graph.reachable(roots)
        fixed = fixed_nodes(graph, self.order)
        known = [number for number in self.order if number in fixed]
        values = walk(graph, known, (), parameters).values
        self.boxes: dict[int, Box] = {}
        for number, value in zip(known, values, strict=True):
            array = np.asarray(value, dtype=float)
            self.boxes[number] = (array, array)
        self.varying = [number for number in self.order if number not in fixed]
        for number in self.varying:
            node = graph.nodes[number]
            if node.operation == "variable":
                self.boxes[number] = variables[node.index]
        self._contexts = graph.contexts(roots)
        self._links: dict[tuple[int, int], Link | None] = {}
        with np.errstate(all="ignore"):
            self.forward()

    def forward(self) -> None:
        """Compute every node's interval from its operands', keeping within what is known of it already."""
        for number in self.varying:
            if self.graph.nodes[number].operation == "variable":
                continue
            box = _widened(self._evaluated(number))
            known = self.boxes.get(number)
            self.boxes[number] = box if known is None else _meet(box, known)

    def contract(self, limits: Mapping[int, Box]) -> int | None:
        """Tighten all intervals under `limits` of some nodes. Return a node whose interval became empty, or None."""
        with np.errstate(all="ignore"):
            for _ in range(MOST_ROUNDS):
                before = self._widths()
                for number, box in limits.items():
                    self.boxes[number] = _meet(self.boxes[number], box)
                    if _is_empty(self.boxes[number]):
                        return number
                for number in reversed(self.varying):
                    empty = self._backward(number)
                    if empty is not None:
                        return empty
                self.forward()
                for number in self.varying:
                    if not self._contexts.get(number) and _is_empty(self.boxes[number]):
                        return number
                if not self._has_gained(before):
                    return None
        return None

    def _widths(self) -> dict[int, Array]:
        return {
            number: self.boxes[number][1] - self.boxes[number][0]
            for number in self.varying
            if self.graph.nodes[number].operation == "variable"
        }

    def _has_gained(self, before: Mapping[int, Array]) -> bool:
        after = self._widths()
        return any(bool((after[number] < (1.0 - LEAST_GAIN) * width).any()) for number, width in before.items())

    def faults(self) -> list[PossibleFault]:
        """Return the operations whose arguments can leave their domain somewhere within the intervals."""
        found = []
        for number in self.varying:
            fault = self._fault(number)
            if fault is not None:
                found.append(fault)
        return found

    # ---- forward --------------------------------------------------------------------------------

    def _evaluated(self, number: int) -> Box:
        node = self.graph.nodes[number]
        boxes = [self.boxes[operand] for operand in node.operands]
        if node.operation in ("call", "output"):
            return np.full(node.shape, -np.inf), np.full(node.shape, np.inf)
        if node.operation in STRUCTURAL:
            return self._structural(number, boxes)
        with np.errstate(all="ignore"):
            low, high = _elementwise(node.operation, boxes)
        return np.broadcast_to(low, node.shape), np.broadcast_to(high, node.shape)

    def _structural(self, number: int, boxes: list[Box]) -> Box:
        node = self.graph.nodes[number]
        function = STRUCTURAL[node.operation]
        match node.operation:
            case "norm":
                squares = _elementwise("square", boxes)
                low, high = (STRUCTURAL["sum"](node.detail, side) for side in squares)
                return np.sqrt(low), np.sqrt(high)
            case "dot":
                return self._dot(node.detail, boxes)
            case "interp" | "lookup":
                low, high = np.asarray(np.min(boxes[2][0])), np.asarray(np.max(boxes[2][1]))
                if node.operation == "interp" and boxes[1][0] is boxes[1][1] and boxes[2][0] is boxes[2][1]:
                    return _interpolated(node.detail, boxes)
                return np.full(node.shape, low), np.full(node.shape, high)
        return tuple(np.asarray(function(node.detail, *(box[side] for box in boxes))) for side in (0, 1))  # type: ignore[return-value]

    def _dot(self, detail: Any, boxes: list[Box]) -> Box:
        (a_low, a_high), (b_low, b_high) = boxes
        shape = np.shape(STRUCTURAL["dot"](detail, a_low, b_low))
        if a_low.size * (b_low.shape[-1] if detail[1] == 2 else 1) > MOST_PRODUCTS or detail == (2, 2):
            return np.full(shape, -np.inf), np.full(shape, np.inf)
        if detail == (1, 2):
            b_low, b_high, a_low, a_high = a_low, a_high, b_low.T, b_high.T
        low, high = _elementwise("mul", [(a_low, a_high), (b_low, b_high)])
        return low.sum(axis=-1), high.sum(axis=-1)

    # ---- backward -------------------------------------------------------------------------------

    def _backward(self, number: int) -> int | None:
        """Carry a node's interval to its operands. Return one whose interval became empty, or None."""
        node = self.graph.nodes[number]
        if node.operation in ("variable", "call", "output") or not node.operands or self._contexts.get(number):
            return None  # what a branch of `where` makes need not be valid unless it is chosen
        for place, operand in enumerate(node.operands):
            if operand not in self.boxes or self.graph.nodes[operand].operation in ("constant", "parameter"):
                continue
            box = self._implied(number, place)
            if box is None:
                continue
            met = _meet(self.boxes[operand], _widened(self._gathered(number, place, box)))
            self.boxes[operand] = met
            if _is_empty(met):
                return operand
        return None

    def _gathered(self, number: int, place: int, box: Box) -> Box:
        """Return what intervals by result element say of the operand's elements: the meet of all that look at it."""
        own = self.graph.shape(self.graph.nodes[number].operands[place])
        its = self._link(number, place)
        low, high = (np.broadcast_to(side, self.graph.shape(number)).ravel() for side in box)
        if its is None or (its.source is None and its.matrix is None and not its.everything):
            return low.reshape(own), high.reshape(own)
        if its.source is None:
            return np.full(own, -np.inf), np.full(own, np.inf)
        found_low, found_high = np.full(math.prod(own), -np.inf), np.full(math.prod(own), np.inf)
        used = its.source >= 0
        np.maximum.at(found_low, its.source[used], low[used])
        np.minimum.at(found_high, its.source[used], high[used])
        return found_low.reshape(own), found_high.reshape(own)

    def _link(self, number: int, place: int) -> Link | None:
        key = (number, place)
        if key not in self._links:
            try:
                self._links[key] = link(self.graph, number, place)
            except PatternTooLarge:
                self._links[key] = Link(everything=True)
        return self._links[key]

    def _implied(self, number: int, place: int) -> Box | None:
        """Return what operand `place` may be, by result element, given the node's interval and the other operands."""
        node = self.graph.nodes[number]
        y = self.boxes[number]
        boxes = [self.boxes[operand] for operand in node.operands]
        if node.operation in ("index", "scatter", "expand", "broadcast", "reshape", "transpose", "join"):
            return y
        if node.operation == "sum" and node.detail is not None:
            return self._implied_term(number, y, boxes[0])
        if node.operation == "dot":
            return self._implied_factor(number, place, y, boxes)
        if node.operation in STRUCTURAL:
            return None
        return _inverse(node.operation, place, y, boxes)

    def _implied_term(self, number: int, y: Box, a: Box) -> Box | None:
        """x_i = y − Σ of the others. Given by operand element: the result is turned into the operand's own interval."""
        detail: Any = self.graph.nodes[number].detail
        axis = detail[1]
        spread = [np.asarray(side) if axis is None else np.expand_dims(side, axis) for side in y]
        found = _others(spread, a, axis)
        operand = self.graph.nodes[number].operands[0]
        self.boxes[operand] = _meet(self.boxes[operand], _widened(found))
        return None

    def _implied_factor(self, number: int, place: int, y: Box, boxes: list[Box]) -> Box | None:
        detail: Any = self.graph.nodes[number].detail
        if detail not in ((1, 1), (2, 1)) or place != 1 or boxes[0][0] is not boxes[0][1]:
            return None
        a, x = boxes
        if a[0].size > MOST_PRODUCTS:
            return None
        terms = _elementwise("mul", [a, x])
        spread = [np.expand_dims(side, -1) for side in y]
        part = _others(spread, terms, terms[0].ndim - 1)
        found = _divided(part, a)
        if detail == (2, 1):
            found = (found[0].max(axis=0, initial=-np.inf), found[1].min(axis=0, initial=np.inf))
        operand = self.graph.nodes[number].operands[1]
        self.boxes[operand] = _meet(self.boxes[operand], _widened(found))
        return None

    # ---- domains --------------------------------------------------------------------------------

    def _fault(self, number: int) -> PossibleFault | None:
        node = self.graph.nodes[number]
        boxes = [self.boxes[operand] for operand in node.operands]
        bad: Any = None
        low, high = boxes[0] if boxes else (np.zeros(()), np.zeros(()))
        match node.operation:
            case "sqrt" | "asin" | "acos":
                bad = (low < _DOMAIN[node.operation][0]) | (high > _DOMAIN[node.operation][1])
            case "log" | "log10":
                bad = low <= 0.0
            case "div":
                low, high = boxes[1]
                bad = (low <= 0.0) & (high >= 0.0)
            case "pow":
                least, most = boxes[1]
                is_whole = (least == most) & (np.round(least) == least)
                bad = np.where(is_whole, (least < 0.0) & (low <= 0.0) & (high >= 0.0), (low < 0.0) | (
                    (low <= 0.0) & (least < 0.0)
                ))  # fmt: skip
            case "tan":
                bad = np.floor((low - math.pi / 2) / math.pi) != np.floor((high - math.pi / 2) / math.pi)
            case "interp":
                bad = (low < np.min(boxes[1][0])) | (high > np.max(boxes[1][1]))
            case "exp" | "sinh" | "cosh":
                bad = (high > 709.0) & np.isfinite(high)
        if bad is None or not np.any(bad):
            return None
        bad = np.broadcast_to(bad, node.shape)
        at = np.unravel_index(int(np.argmax(bad)), node.shape) if node.shape else ()
        first, last = (float(np.broadcast_to(side, node.shape)[at]) for side in (low, high))
        place = tuple(int(i) for i in at)
        return PossibleFault(number, node.operation, first, last, place, bool(self._contexts.get(number)))


def _widened(box: Box) -> Box:
    low, high = (np.asarray(side, dtype=float) for side in box)
    low = np.where(np.isnan(low), -np.inf, low)
    high = np.where(np.isnan(high), np.inf, high)
    return (
        low - np.where(np.isfinite(low), RELATIVE * np.abs(low) + ABSOLUTE, 0.0),
        high + np.where(np.isfinite(high), RELATIVE * np.abs(high) + ABSOLUTE, 0.0),
    )


def _meet(one: Box, other: Box) -> Box:
    return np.maximum(one[0], other[0]), np.minimum(one[1], other[1])


def _is_empty(box: Box) -> bool:
    low, high = box
    with np.errstate(all="ignore"):
        room = CROSSED * np.maximum(np.abs(low), np.abs(high))
        return bool((low > high + np.where(np.isfinite(room), room, 0.0)).any())


def _products(a: Box, b: Box) -> Box:
    # 0 · ∞ is 0 here: the factor 0 is exact.
    with np.errstate(all="ignore"):
        corners = [np.nan_to_num(x * y, nan=0.0, posinf=np.inf, neginf=-np.inf) for x in a for y in b]
    return np.minimum.reduce(corners), np.maximum.reduce(corners)


def _divided(a: Box, b: Box) -> Box:
    low, high = b
    with np.errstate(all="ignore"):
        inverse = (
            np.where(high == 0.0, -np.inf, 1.0 / high),
            np.where(low == 0.0, np.inf, 1.0 / low),
        )
    crosses = (low < 0.0) & (high > 0.0) | (low == 0.0) & (high == 0.0)
    found = _products(a, inverse)
    return np.where(crosses, -np.inf, found[0]), np.where(crosses, np.inf, found[1])


def _others(y: Sequence[Array], terms: Box, axis: int | None) -> Box:
    """Return y − Σ of the other terms, for each term; `y` is spread along the axis."""
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


def _elementwise(operation: str, boxes: Sequence[Box]) -> Box:
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
            return _divided(a, b)
        case "square":
            return _even(a, np.square)
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
        domain = _DOMAIN.get(operation, (-np.inf, np.inf))
        return tuple(_MONOTONE[operation](np.clip(side, *domain)) for side in (low, high))  # type: ignore[return-value]
    if operation in _COMPARISONS:
        return _compared(operation, a, b)
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


def _interpolated(detail: Any, boxes: Sequence[Box]) -> Box:
    """Piecewise linear: extremes are at the ends of the interval and at the knots within."""
    (low, high), (xs, _), (ys, _) = boxes
    ends = [STRUCTURAL["interp"](detail, side, xs, ys) for side in (low, high)]
    least, most = np.minimum(*ends), np.maximum(*ends)
    for x, y in zip(xs, ys, strict=True):
        inside = (low <= x) & (x <= high)
        least, most = np.where(inside, np.minimum(least, y), least), np.where(inside, np.maximum(most, y), most)
    return least, most


def _inverse(operation: str, place: int, y: Box, boxes: Sequence[Box]) -> Box | None:
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
            found = _divided(y, other)
            return np.where(is_away, found[0], -np.inf), np.where(is_away, found[1], np.inf)
        case "div", 0:
            return _products(y, other)
        case "div", 1:
            is_away = (y[0] > 0.0) | (y[1] < 0.0)
            found = _divided(other, y)
            return np.where(is_away, found[0], -np.inf), np.where(is_away, found[1], np.inf)
        case (("square" | "abs" | "cosh"), _):
            top = {"square": np.sqrt, "abs": np.abs, "cosh": np.arccosh}[operation](
                np.maximum(y[1], operation == "cosh")
            )
            return -top, top
        case "sqrt", _:
            return np.square(np.maximum(y[0], 0.0)), np.where(y[1] < 0.0, -np.inf, np.square(y[1]))
        case "exp", _:
            return np.log(np.maximum(y[0], 0.0)), np.log(np.maximum(y[1], 0.0))
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
