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
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.formula.arrays import STRUCTURAL
from ilvren.formula.compile import fixed_nodes
from ilvren.formula.interpreter import interpret
from ilvren.formula.interval_arithmetic import (
    DOMAIN,
    Box,
    divided,
    elementwise,
    interpolated,
    inverse,
    is_empty,
    meet,
    others,
    widened,
)
from ilvren.formula.rules import RULES
from ilvren.formula.sparsity import Link, PatternTooLarge, use
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.formula.graph import Graph

__all__ = ["MOST_LOOKED_AT", "Box", "Intervals", "PossibleFault"]

Array = NDArray[np.float64]

MOST_ROUNDS = 12
# Along a chain of elements knowledge moves by one a round: so many rounds more for each element of the longest vector,
# as long as all of them look at no more than so many elements.
CHAIN_ROUNDS, MOST_LOOKED_AT = 3, 60_000_000
# A round that shrinks no interval by more than this share ends the tightening.
LEAST_GAIN = 1e-3
# Operations whose result is 0 only where it is exactly 0 (underflow is looked after, where it can occur).
EXACT_ZEROS = frozenset({"add", "sub", "mul", "neg", "abs", "min", "max", "square", "sqrt", "sign", "where"})
# Matrices beyond this many entries are not followed.
MOST_PRODUCTS = 4_000_000


@dataclass(frozen=True)
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
        values = interpret(graph, known, (), parameters).values
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
        self._links: dict[tuple[int, int], Link] = {}
        with np.errstate(all="ignore"):
            self.forward()

    def forward(self) -> None:
        """Compute every node's interval from its operands', keeping within what is known of it already."""
        for number in self.varying:
            if self.graph.nodes[number].operation == "variable":
                continue
            operation = self.graph.nodes[number].operation
            exact = operation in EXACT_ZEROS or RULES[operation].interval == "moved"
            box = widened(self._evaluated(number), zero_is_exact=exact)
            known = self.boxes.get(number)
            self.boxes[number] = box if known is None else meet(box, known)

    def contract(self, limits: Mapping[int, Box], most_looked_at: int = MOST_LOOKED_AT) -> int | None:
        """Tighten all intervals under `limits` of some nodes, looking at no more than about so many elements. Return a
        node whose interval became empty, or None."""
        with np.errstate(all="ignore"):
            for _ in range(self._most_rounds(most_looked_at)):
                before = self._widths()
                for number, box in limits.items():
                    self.boxes[number] = meet(self.boxes[number], box)
                    if is_empty(self.boxes[number]):
                        return number
                for number in reversed(self.varying):
                    empty = self._backward(number)
                    if empty is not None:
                        return empty
                self.forward()
                for number in self.varying:
                    if not self._contexts.get(number) and is_empty(self.boxes[number]):
                        return number
                if not self._has_gained(before):
                    return None
        return None

    def _most_rounds(self, most_looked_at: int) -> int:
        sizes = [self.graph.nodes[number].size for number in self.varying]
        chain = CHAIN_ROUNDS * max((size for size in sizes if size > 1), default=0)
        return max(MOST_ROUNDS, min(MOST_ROUNDS + chain, most_looked_at // max(sum(sizes), 1)))

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
        if RULES[node.operation].interval == "open":
            return np.full(node.shape, -np.inf), np.full(node.shape, np.inf)
        if node.operation in STRUCTURAL:
            return self._structural(number, boxes)
        with np.errstate(all="ignore"):
            low, high = elementwise(node.operation, boxes)
        return np.broadcast_to(low, node.shape), np.broadcast_to(high, node.shape)

    def _structural(self, number: int, boxes: list[Box]) -> Box:
        node = self.graph.nodes[number]
        function = STRUCTURAL[node.operation]
        match node.operation:
            case "norm":
                squares = elementwise("square", boxes)
                low, high = _added("sum", node.detail, squares)
                return np.sqrt(np.maximum(low, 0.0)), np.sqrt(high)
            case "sum" | "cumsum" | "shrink":
                return _added(node.operation, node.detail, boxes[0])
            case "dot":
                return self._dot(node.detail, boxes)
            case "interp" | "lookup":
                low, high = np.asarray(np.min(boxes[2][0])), np.asarray(np.max(boxes[2][1]))
                if node.operation == "interp" and boxes[1][0] is boxes[1][1] and boxes[2][0] is boxes[2][1]:
                    return interpolated(node.detail, boxes)
                return np.full(node.shape, low), np.full(node.shape, high)
        assert RULES[node.operation].interval == "moved", node.operation
        return tuple(np.asarray(function(node.detail, *(box[side] for box in boxes))) for side in (0, 1))  # type: ignore[return-value]

    def _dot(self, detail: Any, boxes: list[Box]) -> Box:
        (a_low, a_high), (b_low, b_high) = boxes
        shape = np.shape(STRUCTURAL["dot"](detail, a_low, b_low))
        if a_low.size * (b_low.shape[-1] if detail[1] == 2 else 1) > MOST_PRODUCTS or detail == (2, 2):
            return np.full(shape, -np.inf), np.full(shape, np.inf)
        if detail == (1, 2):
            b_low, b_high, a_low, a_high = a_low, a_high, b_low.T, b_high.T
        products = widened(elementwise("mul", [(a_low, a_high), (b_low, b_high)]))
        return _added("sum", (products[0].ndim, products[0].ndim - 1), products)

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
            met = meet(self.boxes[operand], widened(self._gathered(number, place, box)))
            self.boxes[operand] = met
            if is_empty(met):
                return operand
        return None

    def _gathered(self, number: int, place: int, box: Box) -> Box:
        """Return what intervals by result element say of the operand's elements: the meet of all that look at it."""
        own = self.graph.shape(self.graph.nodes[number].operands[place])
        its = self._link(number, place)
        low, high = (np.broadcast_to(side, self.graph.shape(number)).ravel() for side in box)
        if its.source is None and its.matrix is None and not its.everything:
            return low.reshape(own), high.reshape(own)
        if its.source is None:
            return np.full(own, -np.inf), np.full(own, np.inf)
        found_low, found_high = np.full(math.prod(own), -np.inf), np.full(math.prod(own), np.inf)
        used = its.source >= 0
        np.maximum.at(found_low, its.source[used], low[used])
        np.minimum.at(found_high, its.source[used], high[used])
        return found_low.reshape(own), found_high.reshape(own)

    def _link(self, number: int, place: int) -> Link:
        key = (number, place)
        if key not in self._links:
            try:
                self._links[key] = use(self.graph, number, place)
            except PatternTooLarge:
                self._links[key] = Link(everything=True)
        return self._links[key]

    def _implied(self, number: int, place: int) -> Box | None:
        """Return what operand `place` may be, by result element, given the node's interval and the other operands."""
        node = self.graph.nodes[number]
        y = self.boxes[number]
        boxes = [self.boxes[operand] for operand in node.operands]
        if node.operation in ("index", "scatter", "take", "expand", "broadcast", "reshape", "transpose", "join"):
            return y
        if node.operation == "sum" and node.detail is not None:
            return self._implied_term(number, y, boxes[0])
        if node.operation == "dot":
            return self._implied_factor(number, place, y, boxes)
        if node.operation in STRUCTURAL:
            return None
        return inverse(node.operation, place, y, boxes)

    def _implied_term(self, number: int, y: Box, a: Box) -> Box | None:
        """x_i = y − Σ of the others. Given by operand element: the result is turned into the operand's own interval."""
        detail: Any = self.graph.nodes[number].detail
        axis = detail[1]
        spread = [np.asarray(side) if axis is None else np.expand_dims(side, axis) for side in y]
        found = others(spread, a, axis)
        operand = self.graph.nodes[number].operands[0]
        self.boxes[operand] = meet(self.boxes[operand], widened(found))
        return None

    def _implied_factor(self, number: int, place: int, y: Box, boxes: list[Box]) -> Box | None:
        detail: Any = self.graph.nodes[number].detail
        if detail not in ((1, 1), (2, 1)) or place != 1 or boxes[0][0] is not boxes[0][1]:
            return None
        a, x = boxes
        if a[0].size > MOST_PRODUCTS:
            return None
        terms = elementwise("mul", [a, x])
        spread = [np.expand_dims(side, -1) for side in y]
        part = others(spread, terms, terms[0].ndim - 1)
        found = divided(part, a)
        if detail == (2, 1):
            found = (found[0].max(axis=0, initial=-np.inf), found[1].min(axis=0, initial=np.inf))
        operand = self.graph.nodes[number].operands[1]
        self.boxes[operand] = meet(self.boxes[operand], widened(found))
        return None

    # ---- domains --------------------------------------------------------------------------------

    def _fault(self, number: int) -> PossibleFault | None:
        node = self.graph.nodes[number]
        boxes = [self.boxes[operand] for operand in node.operands]
        bad: Any = None
        low, high = boxes[0] if boxes else (np.zeros(()), np.zeros(()))
        match node.operation:
            case "sqrt" | "asin" | "acos":
                bad = (low < DOMAIN[node.operation][0]) | (high > DOMAIN[node.operation][1])
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


def _added(operation: str, detail: Any, terms: Box) -> Box:
    """Return a sum of intervals. n terms in any order are off by at most n roundings of the sum of their magnitudes."""
    function = STRUCTURAL[operation]
    low, high = (np.asarray(function(detail, side)) for side in terms)
    count = max(terms[0].size, 1)
    sizes = np.asarray(function(detail, np.maximum(np.abs(terms[0]), np.abs(terms[1]))))
    slack = np.where(np.isfinite(sizes), 1.2e-16 * count * sizes, 0.0)
    return low - slack, high + slack
