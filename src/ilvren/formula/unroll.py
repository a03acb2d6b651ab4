"""Formulas of arrays written out element by element, as a graph of scalars: for what knows scalars only."""

from __future__ import annotations

from collections.abc import Sequence
from functools import reduce
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.formula.arrays import LOOKUP_TOLERANCE, STRUCTURAL
from ilvren.formula.graph import Graph, GraphNode
from ilvren.formula.rules import RULES

__all__ = ["TooLong", "unrolled"]

# Node numbers, in the shape of what they stand for.
Numbers = NDArray[np.int64]


class TooLong(Exception):
    """The formulas have too many elements, or an operation that cannot be written out."""


def unrolled(
    graph: Graph, roots: Sequence[int], parameters: Sequence[Any], starts: Sequence[int], most: int
) -> tuple[Graph, list[Numbers]]:
    """Return a graph of scalars and, for each root, the numbers of its elements. Parameters become constants; `starts`
    are the places of the variables' first elements, which number the new variables. Raises TooLong beyond `most` nodes.
    """
    made = Graph()
    found: dict[int, Numbers] = {}
    for number in graph.reachable(roots):
        node = graph.nodes[number]
        operands = [found[operand] for operand in node.operands]
        found[number] = _written(made, node, operands, parameters, starts)
        if len(made.nodes) > most:
            raise TooLong
    return made, [found[root] for root in roots]


def _written(
    made: Graph, node: GraphNode, operands: list[Numbers], parameters: Sequence[Any], starts: Sequence[int]
) -> Numbers:
    detail: Any = node.detail
    operation = node.operation
    if operation == "constant":
        return _constants(made, node.value)
    if operation == "parameter":
        return _constants(made, parameters[node.index])
    if operation == "variable":
        first = starts[node.index]
        count = node.size
        return np.array([made.variable(first + i) for i in range(count)], dtype=np.int64).reshape(node.shape)
    if operation in ("weight", "tangent") or RULES[operation].written == "not":
        raise TooLong
    if RULES[operation].written == "moved":
        return np.array(STRUCTURAL[operation](detail, *operands), dtype=np.int64)
    if operation == "ramp":
        return _constants(made, STRUCTURAL["ramp"](detail))
    if operation == "sum":
        return _reduced(made, operands[0], detail[1])
    if operation == "norm":
        squares = _each(made, "square", operands[0])
        return _each(made, "sqrt", _reduced(made, squares, detail[1]))
    if operation == "cumsum":
        return _running(made, operands[0], detail[1])
    if operation == "dot":
        return _product(made, *operands)
    if operation == "interp":
        return _interpolated(made, *operands)
    if operation == "lookup":
        return _looked_up(made, *operands)
    assert RULES[operation].written == "each", operation
    return _each(made, operation, *operands)


def _constants(made: Graph, value: Any) -> Numbers:
    array = np.asarray(value, dtype=float)
    return np.array([made.constant(float(item)) for item in array.ravel()], dtype=np.int64).reshape(array.shape)


def _each(made: Graph, operation: str, *operands: Numbers) -> Numbers:
    spread = np.broadcast_arrays(*operands)
    flat = [
        made.apply(operation, *(int(part) for part in parts))
        for parts in zip(*(a.ravel() for a in spread), strict=True)
    ]
    return np.array(flat, dtype=np.int64).reshape(spread[0].shape)


def _total(made: Graph, numbers: Sequence[int]) -> int:
    return reduce(lambda a, b: made.apply("add", a, b), numbers) if len(numbers) else made.constant(0.0)


def _reduced(made: Graph, a: Numbers, axis: int | None) -> Numbers:
    if axis is None:
        return np.array(_total(made, a.ravel().tolist()), dtype=np.int64)
    moved = np.moveaxis(a, axis, -1)
    flat = [_total(made, row.tolist()) for row in moved.reshape(-1, moved.shape[-1])]
    return np.array(flat, dtype=np.int64).reshape(moved.shape[:-1])


def _running(made: Graph, a: Numbers, axis: int) -> Numbers:
    moved = np.moveaxis(a.copy(), axis, -1)
    for row in moved.reshape(-1, moved.shape[-1]) if moved.ndim == 1 else list(moved):
        for place in range(1, len(row)):
            row[place] = made.apply("add", int(row[place - 1]), int(row[place]))
    return np.moveaxis(moved, -1, axis)


def _product(made: Graph, a: Numbers, b: Numbers) -> Numbers:
    left = a[np.newaxis] if a.ndim == 1 else a
    right = b[:, np.newaxis] if b.ndim == 1 else b
    cells = [
        [
            _total(made, [made.apply("mul", int(x), int(y)) for x, y in zip(row, column, strict=True)])
            for column in right.T
        ]
        for row in left
    ]
    found = np.array(cells, dtype=np.int64)
    if b.ndim == 1:
        found = found[:, 0]
    return found[0] if a.ndim == 1 else found


def _interpolated(made: Graph, at: Numbers, xs: Numbers, ys: Numbers) -> Numbers:
    """Σ of ramps: y_0 + Σ (y_{k+1} − y_k) / (x_{k+1} − x_k) · min(max(x − x_k, 0), x_{k+1} − x_k)."""
    zero = made.constant(0.0)
    flat = []
    for x in at.ravel().tolist():
        terms = [int(ys[0])]
        for k in range(len(xs) - 1):
            width = made.apply("sub", int(xs[k + 1]), int(xs[k]))
            rise = made.apply("div", made.apply("sub", int(ys[k + 1]), int(ys[k])), width)
            inside = made.apply("max", made.apply("sub", x, int(xs[k])), zero)
            terms.append(made.apply("mul", rise, made.apply("min", inside, width)))
        flat.append(_total(made, terms))
    return np.array(flat, dtype=np.int64).reshape(at.shape)


def _looked_up(made: Graph, value: Numbers, keys: Numbers, results: Numbers) -> Numbers:
    """A chain of choices. Where no key equals the value the last result stands: no such design is allowed anyway."""
    flat = []
    for v in value.ravel().tolist():
        found = int(results[-1])
        for key, result in zip(keys[:-1].tolist(), results[:-1].tolist(), strict=True):
            off = made.apply("abs", made.apply("sub", v, key))
            room = made.apply("mul", made.constant(LOOKUP_TOLERANCE), made.apply("abs", key))
            found = made.apply("where", made.apply("<=", off, room), result, found)
        flat.append(found)
    return np.array(flat, dtype=np.int64).reshape(value.shape)
