"""Builders of array nodes: each finds the shape and the detail of its result, and nothing more.

Reductions without rules of their own (prod, min, max) are trees of element-wise operations on slices, so that
derivatives, patterns and intervals need no further rule for them.
"""

from __future__ import annotations

import math
from itertools import pairwise
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from ilvren.formula.graph import Graph, Shape

__all__ = [
    "cumsum",
    "dot",
    "expand",
    "flattened",
    "give_back",
    "index",
    "join",
    "norm",
    "product_shape",
    "ramp",
    "reduced",
    "scatter",
    "shrink",
    "take",
    "total",
    "transpose",
]

# An int, or (start, stop, step) with a stop of −1 or less for "past the first element" when stepping down.
Key = tuple[int | tuple[int, int, int], ...]


def kept_shape(key: Key) -> Shape:
    """Return the shape that an index leaves."""
    return tuple(len(range(*part)) for part in key if isinstance(part, tuple))


def index(graph: Graph, a: int, key: Key) -> int:
    """a[key]; the key has an entry for every axis."""
    shape = graph.shape(a)
    if all(part == (0, n, 1) for part, n in zip(key, shape, strict=True)):
        return a
    node = graph.nodes[a]
    if node.operation == "broadcast" and node.detail is not None and node.detail[0] == 0:
        return graph.stretched(node.operands[0], kept_shape(key))
    return graph.arrange("index", (a,), kept_shape(key), (len(shape), key))


def scatter(graph: Graph, a: int, key: Key, shape: Shape) -> int:
    """Zeros of `shape` with a at [key]."""
    return graph.arrange("scatter", (a,), shape, (len(graph.shape(a)), key, shape))


def take(graph: Graph, a: int, places: tuple[int, ...]) -> int:
    """a[places] along the first axis: fixed places, in any order and as often as wanted."""
    shape = graph.shape(a)
    steps = {second - first for first, second in pairwise(places)}
    if len(places) == 1 or (len(steps) == 1 and min(steps) > 0):
        step = min(steps, default=1)
        return index(graph, a, ((places[0], places[-1] + 1, step), *((0, n, 1) for n in shape[1:])))
    return graph.arrange("take", (a,), (len(places), *shape[1:]), (len(shape), places))


def give_back(graph: Graph, a: int, places: tuple[int, ...], length: int) -> int:
    """The reverse of `take`: zeros of so many elements with all of a added at its places."""
    shape = graph.shape(a)
    return graph.arrange("give_back", (a,), (length, *shape[1:]), (len(shape), places, length))


def total(graph: Graph, a: int, axis: int | None = None) -> int:
    """The sum over one axis, or over all elements."""
    shape = graph.shape(a)
    if not shape:
        return a
    left = () if axis is None else shape[:axis] + shape[axis + 1 :]
    return graph.arrange("sum", (a,), left, (len(shape), None if not left else axis))


def expand(graph: Graph, a: int, axis: int | None, shape: Shape) -> int:
    """The reverse of `total`: repeated along the axis (all axes) to `shape`."""
    if not graph.shape(a):
        return graph.stretched(a, shape)
    return graph.arrange("expand", (a,), shape, (len(graph.shape(a)), axis, shape))


def shrink(graph: Graph, a: int, shape: Shape) -> int:
    """The reverse of broadcasting: sums of what was repeated from `shape`."""
    own = graph.shape(a)
    if own == shape:
        return a
    node = graph.nodes[a]
    if node.operation == "broadcast" and not shape and node.detail is not None and node.detail[0] == 0:
        return graph.apply("mul", graph.constant(float(math.prod(own))), node.operands[0])
    if not shape:
        return total(graph, a)
    return graph.arrange("shrink", (a,), shape, (len(own), shape))


def flattened(graph: Graph, a: int) -> int:
    """All elements in a row."""
    shape = graph.shape(a)
    return a if len(shape) == 1 else reshaped(graph, a, (math.prod(shape),))


def reshaped(graph: Graph, a: int, shape: Shape) -> int:
    """The same elements in another shape."""
    own = graph.shape(a)
    return a if own == shape else graph.arrange("reshape", (a,), shape, (len(own), shape))


def transpose(graph: Graph, a: int) -> int:
    """Rows and columns of a matrix exchanged."""
    shape = graph.shape(a)
    return a if len(shape) < 2 else graph.arrange("transpose", (a,), shape[::-1], (2,))


def join(graph: Graph, parts: tuple[int, ...]) -> int:
    """The parts one after the other along the first axis; a scalar counts as one element."""
    shapes = [graph.shape(part) or (1,) for part in parts]
    shape = (sum(own[0] for own in shapes), *shapes[0][1:])
    return graph.arrange("join", parts, shape, (tuple(len(graph.shape(part)) for part in parts), shape))


def cumsum(graph: Graph, a: int, axis: int) -> int:
    """Running sums along an axis."""
    shape = graph.shape(a)
    return graph.arrange("cumsum", (a,), shape, (len(shape), axis))


def product_shape(one: Shape, other: Shape) -> Shape | None:
    """Return the shape of a vector or matrix product, or None when the two do not fit."""
    if not 1 <= len(one) <= 2 or not 1 <= len(other) <= 2 or one[-1] != other[0]:
        return None
    return one[:-1] + other[1:]


def dot(graph: Graph, a: int, b: int) -> int:
    """The product of vectors or matrices, whose shapes fit."""
    one, other = graph.shape(a), graph.shape(b)
    return graph.arrange("dot", (a, b), one[:-1] + other[1:], (len(one), len(other)))


def norm(graph: Graph, a: int, axis: int | None) -> int:
    """The root of the sum of squares."""
    shape = graph.shape(a)
    if not shape:
        return graph.apply("abs", a)
    left = () if axis is None else shape[:axis] + shape[axis + 1 :]
    return graph.arrange("norm", (a,), left, (len(shape), None if not left else axis))


def ramp(graph: Graph, n: int) -> int:
    """n even steps from 0 to 1."""
    return graph.arrange("ramp", (), (n,), (n,))


def reduced(graph: Graph, operation: str, a: int, axis: int | None) -> int:
    """A reduction by an element-wise operation of two arguments, halving the axis until one is left."""
    if not graph.shape(a):
        return a
    if axis is None:
        a, axis = flattened(graph, a), 0
    while True:
        shape = graph.shape(a)
        n = shape[axis]
        if n == 1:
            return index(graph, a, _along(shape, axis, 0))
        half = n // 2
        first = index(graph, a, _along(shape, axis, (0, half, 1)))
        second = index(graph, a, _along(shape, axis, (half, 2 * half, 1)))
        both = graph.apply(operation, first, second)
        if n % 2 and n > 1:
            if half == 1 and len(shape) == 1:
                last = index(graph, a, (n - 1,))
                return graph.apply(operation, index(graph, both, (0,)), last)
            last = index(graph, a, _along(shape, axis, (n - 1, n, 1)))
            first = index(graph, both, _along(graph.shape(both), axis, (0, 1, 1)))
            rest = index(graph, both, _along(graph.shape(both), axis, (1, half, 1)))
            joined = graph.apply(operation, first, last)
            both = _joined_along(graph, joined, rest, axis) if half > 1 else joined
        a = both


def _along(shape: Shape, axis: int, part: int | tuple[int, int, int]) -> Key:
    return tuple(part if place == axis else (0, n, 1) for place, n in enumerate(shape))


def _joined_along(graph: Graph, a: int, b: int, axis: int) -> int:
    if axis == 0:
        return join(graph, (a, b))
    return transpose(graph, join(graph, (transpose(graph, a), transpose(graph, b))))
