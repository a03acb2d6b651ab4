"""Syntax tree → graph nodes, names being resolved by whoever knows them; shapes are checked on the way."""

from __future__ import annotations

import math
from collections.abc import Callable

from ilvren.errors import FormulaError
from ilvren.formula import shaping
from ilvren.formula.graph import MOST_ELEMENTS, Graph, Origin, Shape, ShapeMismatch, TooLarge
from ilvren.formula.parser import SCATTER_FUNCTIONS, TIME_FUNCTIONS
from ilvren.formula.syntax import (
    Call,
    Comparison,
    Condition,
    Index,
    Name,
    Negative,
    Node,
    Number,
    Power,
    Product,
    Slice,
    Sum,
)

__all__ = ["lower", "shape_text", "top_terms"]

Resolve = Callable[[Name], int]
# node → its whole number, or None when it depends on a variable or is not whole.
Whole = Callable[[int], int | None]

# A shape beyond this many elements is a mistake, or more than memory holds.


def shape_text(shape: Shape) -> str:
    """Return a shape as messages name it: "a scalar", "length 3", "3 by 4"."""
    if not shape:
        return "a scalar"
    return f"length {shape[0]}" if len(shape) == 1 else " by ".join(map(str, shape))


def lower(
    tree: Node, graph: Graph, resolve: Resolve, *, entry: str = "", text: str = "", whole: Whole | None = None
) -> int:
    """Add `tree` to `graph` and return its node.

    `resolve` gives the node of a Name or raises. `entry` and `text` say where the formula stands; the
    first place that makes a node is remembered as its origin. `whole` evaluates sizes and indices. Raises
    FormulaError, with the span, for shapes that do not fit and indices out of range.
    """
    return _Lowering(graph, resolve, entry, text, whole or _literal(graph)).build(tree)


def _literal(graph: Graph) -> Whole:
    def value(node: int) -> int | None:
        found = graph.nodes[node]
        is_whole = found.operation == "constant" and found.value.is_integer()
        return int(found.value) if is_whole else None

    return value


class _Lowering:
    def __init__(self, graph: Graph, resolve: Resolve, entry: str, text: str, whole: Whole) -> None:
        self.graph = graph
        self.resolve = resolve
        self.entry = entry
        self.text = text
        self.whole = whole

    def fail(self, message: str, span: tuple[int, int], advice: str | None = None) -> FormulaError:
        return FormulaError(message, text=self.text, span=span, advice=advice)

    def build(self, node: Node) -> int:
        before = len(self.graph.nodes)
        try:
            number = self._build(node)
        except ShapeMismatch as error:
            one, other = map(shape_text, error.shapes)
            raise self.fail(
                f"the shapes do not fit: {one} and {other}",
                node.span,
                "equal shapes, scalars and lengths of one go together",
            ) from None
        except TooLarge as error:
            raise self.fail(error.message, node.span) from None
        for made in range(before, len(self.graph.nodes)):
            self.graph.origins.setdefault(made, Origin(self.entry, self.text, node.span))
        return number

    def _build(self, node: Node) -> int:
        graph, build = self.graph, self.build
        match node:
            case Number(value=value):
                return graph.constant(value)
            case Name(name="pi"):
                return graph.constant(math.pi)
            case Name():
                return self.resolve(node)
            case Negative(operand=operand):
                return graph.apply("neg", build(operand))
            case Sum(terms=terms):
                return self._chain(terms, "add", "sub")
            case Product(factors=factors):
                return self._chain(factors, "mul", "div")
            case Power(base=base, exponent=exponent):
                return graph.apply("pow", build(base), build(exponent))
            case Index():
                return self._index(node)
            case Call():
                return self._call(node)
            case Comparison(operator=operator, left=left, right=right):
                return graph.apply(operator, build(left), build(right))
            case Condition(word="not", parts=parts):
                return graph.apply("not", build(parts[0]))
            case Condition(word=word, parts=parts):
                result = build(parts[0])
                for part in parts[1:]:
                    result = graph.apply(word, result, build(part))
                return result

    def _chain(self, parts: tuple[tuple[bool, Node], ...], forward: str, backward: str) -> int:
        result = self.build(parts[0][1])
        start = parts[0][1].span[0]
        for is_forward, part in parts[1:]:
            operand = self.build(part)
            before = len(self.graph.nodes)
            span = (start, part.span[1])
            try:
                result = self.graph.apply(forward if is_forward else backward, result, operand)
            except ShapeMismatch as error:
                one, other = map(shape_text, error.shapes)
                raise self.fail(
                    f"the shapes do not fit: {one} and {other}",
                    span,
                    "equal shapes, scalars and lengths of one go together",
                ) from None
            except TooLarge as error:
                raise self.fail(error.message, span) from None
            if len(self.graph.nodes) > before:
                self.graph.origins.setdefault(result, Origin(self.entry, self.text, span))
        return result

    # ---- calls ----------------------------------------------------------------------------------

    def _call(self, call: Call) -> int:
        graph = self.graph
        name = call.function
        if name in TIME_FUNCTIONS:
            raise self.fail(
                f'"{name}" is a function of what evolves over time',
                call.span,
                "it stands in files with [time] and [states]",
            )
        if name in SCATTER_FUNCTIONS:
            raise self.fail(
                f'"{name}" is a function of what scatters',
                call.span,
                "it stands in files with [scatter], outside of other such functions",
            )
        a = [self.build(argument) for argument in call.arguments]
        axis = self._axis(call, graph.shape(a[0]))
        match name:
            case "min" | "max" if len(a) == 1:
                self._not_empty(call, a[0])
                return shaping.reduced(graph, name, a[0], axis)
            case "min" | "max":
                result = a[0]
                for argument in a[1:]:
                    result = graph.apply(name, result, argument)
                return result
            case "prod":
                self._not_empty(call, a[0])
                return shaping.reduced(graph, "mul", a[0], axis)
            case "sum":
                return shaping.total(graph, a[0], axis)
            case "mean":
                self._not_empty(call, a[0])
                shape = graph.shape(a[0])
                count = math.prod(shape) if axis is None else shape[axis]
                return graph.apply("div", shaping.total(graph, a[0], axis), graph.constant(float(count)))
            case "norm":
                return shaping.norm(graph, a[0], axis)
            case "cumsum":
                return shaping.cumsum(graph, a[0], self._one_axis(call, graph.shape(a[0]), axis))
            case "diff":
                return self._diff(call, a[0], axis)
            case "dot":
                return self._dot(call, a[0], a[1])
            case "transpose":
                return shaping.transpose(graph, a[0])
            case "join":
                return self._join(call, a)
            case "evenly":
                return self._evenly(call, a)
            case "interp" | "lookup":
                return self._table(call, a)
        return graph.apply(name, *a)

    def _axis(self, call: Call, shape: Shape) -> int | None:
        if call.axis is None:
            return None
        axis = self.whole(self.build(call.axis))
        if axis is None or not -len(shape) <= axis < len(shape):
            known = "a scalar has no axis" if not shape else f"axes are 0 to {len(shape) - 1}"
            raise self.fail(f"no such axis of {shape_text(shape)}", call.axis.span, known)
        return axis % len(shape)

    def _one_axis(self, call: Call, shape: Shape, axis: int | None) -> int:
        if not shape:
            raise self.fail(f'"{call.function}" needs a vector or a matrix, not a scalar', call.span)
        if len(shape) > 1 and axis is None:
            raise self.fail(f'"{call.function}" of {shape_text(shape)} needs an axis', call.span, "add axis = 0 or 1")
        return axis or 0

    def _not_empty(self, call: Call, a: int) -> None:
        if 0 in self.graph.shape(a):
            raise self.fail(f'"{call.function}" of nothing: the argument has no element', call.span)

    def _diff(self, call: Call, a: int, axis: int | None) -> int:
        shape = self.graph.shape(a)
        axis = self._one_axis(call, shape, axis)
        n = shape[axis]
        whole = [(0, length, 1) for length in shape]
        upper, under = (
            (*whole[:axis], part, *whole[axis + 1 :]) for part in ((min(1, n), n, 1), (0, max(n - 1, 0), 1))
        )
        graph = self.graph
        return graph.apply("sub", shaping.index(graph, a, upper), shaping.index(graph, a, under))

    def _dot(self, call: Call, a: int, b: int) -> int:
        one, other = self.graph.shape(a), self.graph.shape(b)
        if shaping.product_shape(one, other) is None:
            raise self.fail(
                f"the shapes do not fit for dot: {shape_text(one)} and {shape_text(other)}",
                call.span,
                "the last length of the first must be the first length of the second",
            )
        return shaping.dot(self.graph, a, b)

    def _join(self, call: Call, a: list[int]) -> int:
        shapes = [self.graph.shape(part) or (1,) for part in a]
        for shape, argument in zip(shapes, call.arguments, strict=True):
            if shape[1:] != shapes[0][1:] or len(shape) != len(shapes[0]):
                raise self.fail(
                    f"the shapes do not fit for join: {shape_text(shapes[0])} and {shape_text(shape)}", argument.span
                )
        return shaping.join(self.graph, tuple(a))

    def _evenly(self, call: Call, a: list[int]) -> int:
        graph = self.graph
        for part, argument in zip(a, call.arguments, strict=True):
            if graph.shape(part):
                raise self.fail(f'"evenly" takes scalars, not {shape_text(graph.shape(part))}', argument.span)
        n = self.whole(a[2])
        if n is not None and n > MOST_ELEMENTS:
            raise self.fail(f"{n} values are more than this tool holds", call.arguments[2].span)
        if n is None or n < 1:
            raise self.fail(
                "the number of values must be a whole number from 1, known before any run", call.arguments[2].span
            )
        if n == 1:
            return shaping.join(graph, (a[0],))
        step = graph.apply("mul", graph.apply("sub", a[1], a[0]), shaping.ramp(graph, n))
        return graph.apply("add", a[0], step)

    def _table(self, call: Call, a: list[int]) -> int:
        graph, name = self.graph, call.function
        shapes = [graph.shape(part) for part in a]
        for place in (1, 2):
            if len(shapes[place]) != 1 or not shapes[place][0]:
                raise self.fail(
                    f'"{name}" needs a vector here, not {shape_text(shapes[place])}', call.arguments[place].span
                )
        if shapes[1] != shapes[2]:
            one, other = map(shape_text, shapes[1:])
            raise self.fail(f"the shapes do not fit: {one} and {other}", call.span)
        if graph.variables_of([a[1]]):
            what = "points of interp" if name == "interp" else "keys of lookup"
            raise self.fail(f"the {what} may not depend on a variable", call.arguments[1].span)
        return graph.arrange(name, tuple(a), shapes[0], (len(shapes[0]),))

    # ---- indices ----------------------------------------------------------------------------------

    def _index(self, node: Index) -> int:
        base = self.build(node.base)
        shape = self.graph.shape(base)
        if len(node.subscripts) > len(shape):
            what = "a scalar has no elements to pick" if not shape else f"too many indices for {shape_text(shape)}"
            raise self.fail(what, node.span)
        key = [self._subscript(part, n) for part, n in zip(node.subscripts, shape, strict=False)]
        key += [(0, n, 1) for n in shape[len(key) :]]
        return shaping.index(self.graph, base, tuple(key))

    def _subscript(self, part: Node | Slice, n: int) -> int | tuple[int, int, int]:
        if not isinstance(part, Slice):
            place = self._whole(part)
            if not -n <= place < n:
                raise self.fail(
                    f"index {place} is out of range for {shape_text((n,))}",
                    part.span,
                    f"indices are 0 to {n - 1}" if n else "it has no elements",
                )
            return place % n
        start, stop, step = (
            None if bound is None else self._whole(bound) for bound in (part.start, part.stop, part.step)
        )
        for bound, tree in ((start, part.start), (stop, part.stop)):
            if bound is not None and tree is not None and not -n <= bound <= n:
                raise self.fail(f"index {bound} is out of range for {shape_text((n,))}", tree.span)
        if step == 0 and part.step is not None:
            raise self.fail("a step of 0 goes nowhere", part.step.span)
        return slice(start, stop, step).indices(n)

    def _whole(self, tree: Node) -> int:
        value = self.whole(self.build(tree))
        if value is None:
            raise self.fail("an index must be a whole number, known before any run", tree.span)
        return value


def top_terms(tree: Node) -> tuple[Node, ...]:
    """Return the terms of a sum, or the tree itself when it is none."""
    return tuple(term for _, term in tree.terms) if isinstance(tree, Sum) else (tree,)
