"""Intervals of scalar formulas over many boxes at once: each node gets lower and upper ends (k,), one per box.

The arithmetic is that of `interval_arithmetic`; results are widened outwards after every operation, by more for the
functions of the mathematical library, whose last digits are not guaranteed. Backward, limits of some nodes are carried
to the variables, as in `intervals`, for all boxes together.

Sources: see `intervals`.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.formula.compile import fixed_nodes
from ilvren.formula.interpreter import interpret
from ilvren.formula.interval_arithmetic import Box, elementwise, inverse, meet
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.formula.graph import Graph

__all__ = ["BatchIntervals", "BatchValues"]

FloatArray = NDArray[np.float64]

# Outward widening: of the four operations and roots, which are rounded correctly, and of library functions.
EXACT = frozenset({"add", "sub", "mul", "div", "neg", "abs", "min", "max", "square", "sqrt", "sign", "where", "hypot"})
RELATIVE, LIBRARY_RELATIVE, ABSOLUTE = 4e-16, 4e-15, 1e-300
# Of a root y^(1/c): the rounding of 1/c counts as often as y has powers of e, 710 at most.
ROOT_RELATIVE = 1e-12
# Results that no rounding touches: truths, signs, and what is only chosen.
UNROUNDED = frozenset(
    {"<=", "<", ">=", ">", "==", "!=", "and", "or", "not", "sign", "heaviside", "neg", "abs", "min", "max"}
)
_COMPARISONS = frozenset({"<=", "<", ">=", ">", "==", "!="})
# A crossing of ends by less than this share is rounding.
CROSSED = 1e-12


@dataclass(frozen=True)
class BatchValues:
    """Ends (k,) of every node; `is_smooth` (k,): no branch is undecided and no domain can be left within the box, so
    that the mean value theorem holds; `is_empty` (k,): no design within the box meets the limits."""

    boxes: dict[int, Box]
    is_smooth: NDArray[np.bool_]
    is_twice: NDArray[np.bool_]
    is_empty: NDArray[np.bool_]


class BatchIntervals:
    """Some roots of a graph of scalars. `primary` are the nodes that values are asked of (their branches and domains
    count for smoothness); derivative nodes may be among the `roots` as well."""

    def __init__(self, graph: Graph, primary: Sequence[int], roots: Sequence[int], parameters: Sequence[Any]) -> None:
        self.graph = graph
        self.order = graph.reachable([*primary, *roots])
        fixed = fixed_nodes(graph, self.order)
        known = [number for number in self.order if number in fixed]
        values = interpret(graph, known, (), parameters).values
        self._fixed = {number: float(value) for number, value in zip(known, values, strict=True)}
        self.varying = [number for number in self.order if number not in fixed]
        self._primary = set(graph.reachable(primary))
        self._primary_order = [number for number in self.varying if number in self._primary]
        self._guarded = {number for number, context in graph.contexts(primary).items() if context}

    def forward(self, lows: FloatArray, highs: FloatArray, *, only_primary: bool = False) -> BatchValues:
        """Return the intervals over boxes with ends (k, n)."""
        order = self._primary_order if only_primary else self.varying
        with np.errstate(all="ignore"):
            boxes = self._inputs(lows, highs, order)
            for number in order:
                if self.graph.nodes[number].operation != "variable":
                    boxes[number] = self._evaluated(number, boxes)
            smooth, twice = self._smoothness(boxes, len(lows))
        return BatchValues(boxes, smooth, twice, np.zeros(len(lows), dtype=bool))

    def contracted(
        self, lows: FloatArray, highs: FloatArray, limits: Mapping[int, tuple[float, float]], rounds: int
    ) -> tuple[FloatArray, FloatArray, NDArray[np.bool_]]:
        """Return boxes tightened under limits of some primary nodes, and which are empty. Shapes: lows and highs (k,
        n), empty (k,)."""
        lows, highs = lows.copy(), highs.copy()
        empty = np.zeros(len(lows), dtype=bool)
        order = self._primary_order
        with np.errstate(all="ignore"):
            for _ in range(rounds):
                boxes = self._inputs(lows, highs, order)
                for number in order:
                    if self.graph.nodes[number].operation != "variable":
                        boxes[number] = self._evaluated(number, boxes)
                for number, (low, high) in limits.items():
                    if number in boxes:
                        boxes[number] = meet(boxes[number], (np.asarray(low), np.asarray(high)))
                        empty |= _crossed(boxes[number])
                for number in reversed(order):
                    self._backward(number, boxes, empty)
                for number in order:
                    node = self.graph.nodes[number]
                    if node.operation == "variable":
                        lows[:, node.index] = np.maximum(lows[:, node.index], boxes[number][0])
                        highs[:, node.index] = np.minimum(highs[:, node.index], boxes[number][1])
        empty |= (lows > highs + CROSSED * np.maximum(np.abs(lows), np.abs(highs))).any(axis=1)
        swapped = lows > highs
        lows[swapped], highs[swapped] = highs[swapped], lows[swapped]
        return lows, highs, empty

    def _inputs(self, lows: FloatArray, highs: FloatArray, order: Sequence[int]) -> dict[int, Box]:
        boxes: dict[int, Box] = {}
        for number, value in self._fixed.items():
            end = np.asarray(value)
            boxes[number] = (end, end)
        for number in order:
            node = self.graph.nodes[number]
            if node.operation == "variable":
                boxes[number] = (lows[:, node.index], highs[:, node.index])
        return boxes

    def _evaluated(self, number: int, boxes: Mapping[int, Box]) -> Box:
        node = self.graph.nodes[number]
        own = [boxes[operand] for operand in node.operands]
        match node.operation:
            case "mul" if node.operands[0] == node.operands[1]:
                low, high = elementwise("square", own[:1])
            case _:
                low, high = elementwise(node.operation, own)
        if node.operation in UNROUNDED:
            return np.asarray(low, dtype=float), np.asarray(high, dtype=float)
        share = RELATIVE if node.operation in EXACT else LIBRARY_RELATIVE
        low = np.asarray(low - (share * np.abs(low) + ABSOLUTE), dtype=float)
        high = np.asarray(high + (share * np.abs(high) + ABSOLUTE), dtype=float)
        is_lost = np.isnan(low), np.isnan(high)  # already, or as ∞ − share · ∞
        if is_lost[0].any() or is_lost[1].any():
            return np.where(is_lost[0], -np.inf, low), np.where(is_lost[1], np.inf, high)
        return low, high

    def _backward(self, number: int, boxes: dict[int, Box], empty: NDArray[np.bool_]) -> None:
        node = self.graph.nodes[number]
        if node.operation == "variable" or number in self._guarded:
            return
        for place, operand in enumerate(node.operands):
            if operand not in boxes or operand in self._fixed:
                continue
            implied = inverse(node.operation, place, boxes[number], [boxes[o] for o in node.operands])
            if implied is None:
                continue
            low, high = (np.asarray(side, dtype=float) for side in implied)
            share = ROOT_RELATIVE if node.operation == "pow" else LIBRARY_RELATIVE
            low = np.where(np.isfinite(low), low - share * np.abs(low) - ABSOLUTE, -np.inf)
            high = np.where(np.isfinite(high), high + share * np.abs(high) + ABSOLUTE, np.inf)
            met = meet(boxes[operand], (low, high))
            if operand not in self._guarded:
                empty |= _crossed(met)
            boxes[operand] = met

    def _smoothness(self, boxes: Mapping[int, Box], count: int) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
        """Return where the mean value theorem holds, and where second derivatives exist."""
        smooth, twice = np.ones(count, dtype=bool), np.ones(count, dtype=bool)
        for number in self._primary_order:
            node = self.graph.nodes[number]
            if node.operation in ("variable", "add", "sub", "mul", "neg", "square", "exp", "sin", "cos", "where"):
                continue
            low, high = boxes[node.operands[0]]
            other = boxes[node.operands[1]] if len(node.operands) > 1 else (low, high)
            match node.operation:
                case "abs":
                    twice &= (low > 0.0) | (high < 0.0)
                case "min" | "max":
                    twice &= (low > other[1]) | (high < other[0])
                case "hypot":
                    twice &= (low > 0.0) | (high < 0.0) | (other[0] > 0.0) | (other[1] < 0.0)
                case "sqrt" | "log" | "log10":
                    smooth &= low > 0.0
                case "asin" | "acos":
                    smooth &= (low > -1.0) & (high < 1.0)
                case "div":
                    smooth &= (other[0] > 0.0) | (other[1] < 0.0)
                case "pow":
                    is_whole = (other[0] == other[1]) & (np.round(other[0]) == other[0])
                    smooth &= (low > 0.0) | (is_whole & ((other[0] >= 0.0) | (high < 0.0)))
                case "tan":
                    tangent = boxes[number]
                    smooth &= np.isfinite(tangent[0]) & np.isfinite(tangent[1])
                case "sign":
                    smooth &= (low > 0.0) | (high < 0.0)
                case "atan2":
                    smooth &= other[0] > 0.0
                case operation if operation in _COMPARISONS or operation in ("and", "or", "not"):
                    truth = boxes[number]
                    smooth &= truth[0] == truth[1]
                case "atan" | "sinh" | "cosh" | "tanh" | "erf":
                    pass
                case _:
                    smooth &= False
        return smooth, twice & smooth


def _crossed(box: Box) -> NDArray[np.bool_]:
    low, high = box
    room = CROSSED * np.maximum(np.abs(low), np.abs(high))
    crossed: NDArray[np.bool_] = low > high + np.where(np.isfinite(room), room, 0.0)
    return crossed
