"""Formulas of one moment written out for many moments at once: each node of the moment's graph becomes one of the
problem's, with the moments along a first axis. What no time changes keeps its shape, and meets the others by
broadcasting."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Any

from ilvren.formula import OPERATIONS, Graph, Shape, shaping

__all__ = ["Spread"]


class Spread:
    """The nodes of a moment's graph at `count` moments. `inputs` gives for a variable of that graph, by its number, the
    problem's node and whether it has the axis of moments; `still` the problem's node of each of its parameters."""

    def __init__(
        self,
        moment: Graph,
        graph: Graph,
        count: int,
        inputs: Callable[[int], tuple[int, bool]],
        still: dict[int, int],
    ) -> None:
        self.moment, self.graph, self.count = moment, graph, count
        self._inputs, self.still = inputs, still
        self._known: dict[int, tuple[int, bool]] = {}
        self._calls: dict[int, list[int]] = {}  # of a model, one for each moment

    def node(self, number: int) -> int:
        """Return the problem's node of shape (count, *shape) of a node of the moment."""
        found, is_timed = self.either(number)
        own = self.moment.shape(number)
        if is_timed:
            return found
        return self.graph.stretched(
            shaping.reshaped(self.graph, found, (1, *own)) if own else found, (self.count, *own)
        )

    def either(self, number: int) -> tuple[int, bool]:
        """Return the problem's node, and whether it has the axis of moments."""
        for k in self._order(number):
            if k not in self._known:
                before = len(self.graph.nodes)
                self._known[k] = self._made(k)
                origin = self.moment.origins.get(k)
                if origin is not None:
                    for made in range(before, len(self.graph.nodes)):
                        self.graph.origins.setdefault(made, origin)
        return self._known[number]

    def _order(self, number: int) -> Sequence[int]:
        """Return what a node is made of, itself last."""
        return self.moment.reachable([number])

    def _made(self, number: int) -> tuple[int, bool]:
        node, graph = self.moment.nodes[number], self.graph
        if node.operation == "constant":
            return graph.constant(node.value), False
        if node.operation == "parameter":
            return self.still[node.index], False
        if node.operation == "variable":
            return self._inputs(node.index)
        given = [self._known[operand] for operand in node.operands]
        shapes = [self.moment.shape(operand) for operand in node.operands]
        if node.operation == "call":
            return self._called(number, node, given, shapes), True
        if node.operation == "output":
            return self._outputs(node), True
        if not any(is_timed for _, is_timed in given):
            if node.operation in OPERATIONS:
                return graph.apply(node.operation, *(item for item, _ in given)), False
            return graph.arrange(node.operation, tuple(item for item, _ in given), node.shape, node.detail), False
        if node.operation in OPERATIONS:
            parts = [
                self._met(item, is_timed, own, node.shape) for (item, is_timed), own in zip(given, shapes, strict=True)
            ]
            found = graph.apply(node.operation, *parts)
            return (found, True) if graph.shape(found) else (self._all(found, ()), True)
        return self._structural(node, given, shapes), True

    def _called(self, number: int, node: Any, given: list[tuple[int, bool]], shapes: list[Shape]) -> int:
        """Call a model once for each moment."""
        graph, calls = self.graph, list[int]()
        for k in range(self.count):
            operands = [
                shaping.index(graph, item, (k, *((0, length, 1) for length in own))) if is_timed else item
                for (item, is_timed), own in zip(given, shapes, strict=True)
            ]
            calls.append(graph.arrange("call", tuple(operands), (), None, node.index))
        self._calls[number] = calls
        return calls[0]

    def _outputs(self, node: Any) -> int:
        graph, own = self.graph, node.shape
        parts = [graph.arrange("output", (call,), own, node.detail) for call in self._calls[node.operands[0]]]
        rows = tuple(shaping.reshaped(graph, part, (1, *own)) if own else part for part in parts)
        return shaping.join(graph, rows)

    def _met(self, item: int, is_timed: bool, own: Shape, shape: Shape) -> int:
        """Return an operand reshaped so that it meets others of a result of `shape` at every moment."""
        if is_timed:
            return shaping.reshaped(self.graph, item, (self.count, *(1,) * (len(shape) - len(own)), *own))
        return item if not own else shaping.reshaped(self.graph, item, (*(1,) * (1 + len(shape) - len(own)), *own))

    def _all(self, item: int, own: Shape) -> int:
        """Return a node that no time changes, repeated for all moments."""
        part = shaping.reshaped(self.graph, item, (1, *own)) if own else item
        return self.graph.stretched(part, (self.count, *own))

    def _timed(self, item: tuple[int, bool], own: Shape) -> int:
        return item[0] if item[1] else self._all(item[0], own)

    def _structural(self, node: Any, given: list[tuple[int, bool]], shapes: list[Shape]) -> int:
        graph, detail, n = self.graph, node.detail, self.count
        first = self._timed(given[0], shapes[0])
        match node.operation:
            case "index":
                return shaping.index(graph, first, ((0, n, 1), *detail[1]))
            case "sum":
                axis = detail[1]
                if axis is not None:
                    return shaping.total(graph, first, axis + 1)
                flat = shaping.reshaped(graph, first, (n, math.prod(shapes[0])))
                return shaping.total(graph, flat, 1)
            case "norm":
                axis = detail[1]
                if axis is not None:
                    return shaping.norm(graph, first, axis + 1)
                flat = shaping.reshaped(graph, first, (n, math.prod(shapes[0])))
                return shaping.norm(graph, flat, 1)
            case "cumsum":
                return shaping.cumsum(graph, first, detail[1] + 1)
            case "broadcast":
                return graph.stretched(self._met(first, True, shapes[0], node.shape), (n, *node.shape))
            case "expand":
                axis, own = detail[1], node.shape
                kept = (
                    [length if k != axis else 1 for k, length in enumerate(own)] if axis is not None else [1] * len(own)
                )
                return graph.stretched(shaping.reshaped(graph, first, (n, *kept)), (n, *own))
            case "reshape":
                return shaping.reshaped(graph, first, (n, *node.shape))
            case "transpose":
                return self._transposed(first, node.shape)
            case "join":
                return self._joined(node, given, shapes)
            case "dot":
                return self._product(given, shapes)
            case "interp" | "interp_slope" | "lookup":
                return graph.arrange(
                    node.operation, (first, given[1][0], given[2][0]), (n, *node.shape), (1 + len(shapes[0]),)
                )
        raise AssertionError(f"{node.operation} cannot be written for many moments")

    def _joined(self, node: Any, given: list[tuple[int, bool]], shapes: list[Shape]) -> int:
        """Join along the second axis: moved to the front and back."""
        graph, n = self.graph, self.count
        rows = node.shape[0]
        rest = math.prod(node.shape[1:])
        parts = []
        for item, own in zip(given, shapes, strict=True):
            length = own[0] if own else 1
            flat = shaping.reshaped(graph, self._timed(item, own), (n, length * rest))
            parts.append(shaping.transpose(graph, flat))
        joined = shaping.transpose(graph, shaping.join(graph, tuple(parts)))
        return shaping.reshaped(graph, joined, (n, rows, *node.shape[1:]))

    def _transposed(self, first: int, shape: Shape) -> int:
        """Return (n, a, b) from (n, b, a): row by row, since only matrices are turned as they are."""
        graph, n = self.graph, self.count
        if len(shape) < 2:
            return first
        rows = [
            shaping.transpose(graph, shaping.index(graph, first, ((0, n, 1), (0, shape[1], 1), k)))
            for k in range(shape[0])
        ]
        joined = shaping.transpose(graph, shaping.join(graph, tuple(rows)))
        return shaping.reshaped(graph, joined, (n, *shape))

    def _product(self, given: list[tuple[int, bool]], shapes: list[Shape]) -> int:
        graph, n = self.graph, self.count
        (a, a_timed), (b, b_timed) = given
        one, other = shapes
        if a_timed and not b_timed:
            if len(one) == 1:
                return shaping.dot(graph, a, b)
            flat = shaping.reshaped(graph, a, (n * one[0], one[1]))
            return shaping.reshaped(graph, shaping.dot(graph, flat, b), (n, one[0], *other[1:]))
        if b_timed and not a_timed and len(other) == 1:
            if len(one) == 1:
                return shaping.dot(graph, b, a)
            return shaping.dot(graph, b, shaping.transpose(graph, a))
        # Both, or a matrix that changes: products added up along the common axis.
        left = self._timed(given[0], one)
        right = self._timed(given[1], other)
        rows, columns, middle = (one[0] if len(one) == 2 else 1), (other[1] if len(other) == 2 else 1), one[-1]
        full = (n, rows, middle, columns)
        left = graph.stretched(shaping.reshaped(graph, left, (n, rows, middle, 1)), full)
        right = graph.stretched(shaping.reshaped(graph, right, (n, 1, middle, columns)), full)
        found = shaping.total(graph, graph.apply("mul", left, right), 2)
        return shaping.reshaped(graph, found, (n, *one[:-1], *other[1:]))
