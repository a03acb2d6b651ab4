"""The expression graph: numbered nodes, each made of an operation and earlier nodes.

Equal nodes are made once (common subexpressions), constants are folded, and a node's number is larger
than its operands', so that every pass is one loop over numbers and no formula can be too deep. Each
node carries a shape; scalars have shape ().
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import Any

from ilvren.errors import FormulaError
from ilvren.formula.operators import OPERATIONS
from ilvren.records import dataclass

__all__ = [
    "INPUTS",
    "MOST_ELEMENTS",
    "Detail",
    "Graph",
    "GraphNode",
    "Origin",
    "Shape",
    "ShapeMismatch",
    "TooLarge",
    "joint_shape",
]

Shape = tuple[int, ...]
Detail = tuple[object, ...] | None

# Nodes whose values come from outside. A "weight" stands for the multiplier of a result, a "tangent" for the
# direction in which a variable moves.
INPUTS = ("variable", "parameter", "weight", "tangent")
# An array of more is refused before it is made.
MOST_ELEMENTS = 50_000_000


@dataclass(frozen=True)
class Origin:
    """Where a node was first written: the entry's key path, its text and the span in it."""

    entry: str
    text: str
    span: tuple[int, int]


@dataclass(slots=True, eq=False)
class GraphNode:
    """`operation` over `operands`; or "constant" with its value; or one of INPUTS with its index.

    `detail` holds the plain values that an operation on arrays needs beside its operands (see `arrays`).
    Nodes are never changed; there are too many of them for a frozen class, which is slow to make.
    """

    operation: str
    operands: tuple[int, ...] = ()
    value: float = 0.0
    index: int = -1
    shape: Shape = ()
    detail: Detail = None

    @property
    def size(self) -> int:
        """Return the number of elements."""
        return math.prod(self.shape)


class TooLarge(FormulaError):
    """An array of more elements than are computed with; no text says yet where it stands."""

    def __init__(self, shape: Shape) -> None:
        super().__init__(f"{math.prod(shape)} values are more than this tool holds", text="", span=None)


class ShapeMismatch(Exception):
    """Two shapes that do not go together element by element."""

    def __init__(self, one: Shape, other: Shape) -> None:
        super().__init__(f"{one} and {other}")
        self.shapes = (one, other)


def joint_shape(one: Shape, other: Shape) -> Shape:
    """Return the shape of an element-wise result: scalars and lengths of one stretch. Raises ShapeMismatch."""
    if one == other or not other:
        return one
    if not one:
        return other
    if len(one) != len(other) or any(a != b and a != 1 and b != 1 for a, b in zip(one, other, strict=True)):
        raise ShapeMismatch(one, other)
    return tuple(b if a == 1 else a for a, b in zip(one, other, strict=True))


class Graph:
    """A growing set of nodes, addressed by number."""

    def __init__(self) -> None:
        self.nodes: list[GraphNode] = []
        self.origins: dict[int, Origin] = {}
        self.compiled: dict[Any, Any] = {}  # what was made from this graph, for whoever needs it again
        self.has_arrays = False
        # model number → (CSR pattern of its outputs by its inputs, starts of the inputs, starts of the outputs)
        self.model_patterns: dict[int, tuple[Any, Any, Any]] = {}
        self._numbers: dict[tuple[object, ...], int] = {}
        self._constants: dict[str, int] = {}
        self._has_branches = False

    def arrange(
        self, operation: str, operands: tuple[int, ...], shape: Shape = (), detail: Detail = None, index: int = -1
    ) -> int:
        """Return the node of an operation whose shape and detail are known to the caller."""
        key = (operation, operands, index, shape, detail)
        number = self._numbers.get(key)
        if number is None:
            if shape and math.prod(shape) > MOST_ELEMENTS:
                raise TooLarge(shape)
            number = self._numbers[key] = len(self.nodes)
            self.nodes.append(GraphNode(operation, operands, 0.0, index, shape, detail))
            self.has_arrays = self.has_arrays or shape != () or operation in ("call", "output")
            self._has_branches = self._has_branches or operation == "where"
        return number

    def shape(self, number: int) -> Shape:
        """Return the shape of a node."""
        return self.nodes[number].shape

    def constant(self, value: float) -> int:
        """Return the node of a number."""
        key = repr(float(value))  # which tells 0.0 from -0.0: they compare equal but divide differently
        number = self._constants.get(key)
        if number is None:
            number = self._constants[key] = len(self.nodes)
            self.nodes.append(GraphNode("constant", value=float(value)))
        return number

    def input(self, kind: str, index: int, shape: Shape = ()) -> int:
        """Return the node of an input of one of the kinds INPUTS."""
        return self.arrange(kind, (), shape, None, index)

    def variable(self, index: int, shape: Shape = ()) -> int:
        """Return the node of variable number `index`."""
        return self.input("variable", index, shape)

    def parameter(self, index: int, shape: Shape = ()) -> int:
        """Return the node of parameter number `index`, whose value is set later."""
        return self.input("parameter", index, shape)

    def is_constant(self, number: int, value: float | None = None) -> bool:
        """Return whether a node is a constant (equal to `value`, when given)."""
        node = self.nodes[number]
        return node.operation == "constant" and (value is None or node.value == value)

    def apply(self, operation: str, *operands: int) -> int:
        """Return the node of an operation, folded or simplified where that changes no result.

        A fold that would give a non-finite number is left as an operation, so that it is found and
        named when it is evaluated. x·0 is not simplified: x may be infinite.
        """
        nodes = [self.nodes[number] for number in operands]
        shape: Shape = ()
        is_fixed = True
        for node in nodes:
            if node.shape:
                shape = joint_shape(shape, node.shape)
            if node.operation != "constant":
                is_fixed = False
        if operation == "where" and nodes[0].operation == "constant":
            return self.stretched(operands[1] if nodes[0].value else operands[2], shape)
        if is_fixed:
            folded = OPERATIONS[operation].value(*(node.value for node in nodes))
            if math.isfinite(folded):
                return self.constant(float(folded))
        simpler = self._simplify(operation, operands)
        if simpler is not None:
            return self.stretched(simpler, shape)
        return self.arrange(operation, operands, shape)

    def stretched(self, number: int, shape: Shape) -> int:
        """Return a node with its scalar or its lengths of one repeated to `shape`."""
        own = self.nodes[number].shape
        if own == shape:
            return number
        return self.arrange("broadcast", (number,), shape, (len(own), shape))

    def _simplify(self, operation: str, operands: tuple[int, ...]) -> int | None:
        if operation == "neg" and self.nodes[operands[0]].operation == "neg":
            return self.nodes[operands[0]].operands[0]
        if operation == "where" and operands[1] == operands[2]:
            return operands[1]
        if len(operands) != 2:
            return None
        a, b = operands
        if operation in ("mul_live", "div_live"):
            return a if self.is_constant(b, 1.0) else None
        match operation:
            case "add" | "sub" if self._is_zero(b):
                return a
            case "add" if self._is_zero(a):
                return b
            case "sub" if self._is_zero(a):
                return self.apply("neg", b)
            case "mul" | "div" | "pow" if self.is_constant(b, 1.0):
                return a
            case "mul" if self.is_constant(a, 1.0):
                return b
            case "mul" if self.is_constant(a, -1.0):
                return self.apply("neg", b)
            case "mul" if a == b:
                return self.apply("square", a)
            case "pow" if self.is_constant(b, 2.0):
                return self.apply("square", a)
            case "pow" if self.is_constant(b, 0.5):
                return self.apply("sqrt", a)
            case "pow" if self.is_constant(b, 0.0):
                return self.constant(1.0)
        return None

    def _is_zero(self, number: int) -> bool:
        node = self.nodes[number]
        if node.operation in ("broadcast", "expand"):
            node = self.nodes[node.operands[0]]
        return node.operation == "constant" and node.value == 0.0

    def reachable(self, roots: Iterable[int]) -> list[int]:
        """Return the numbers of all nodes that `roots` are made of, operands first."""
        nodes, seen = self.nodes, set(roots)
        waiting = list(seen)
        while waiting:
            for operand in nodes[waiting.pop()].operands:
                if operand not in seen:
                    seen.add(operand)
                    waiting.append(operand)
        return sorted(seen)

    def variables_of(self, roots: Iterable[int]) -> set[int]:
        """Return the indices of the variables that `roots` depend on."""
        return {
            self.nodes[number].index for number in self.reachable(roots) if self.nodes[number].operation == "variable"
        }

    def contexts(self, roots: Iterable[int]) -> dict[int, tuple[tuple[int, bool], ...]]:
        """Return for each node the branches inside which alone it is needed, outermost first.

        A branch is (condition node, which side). `where` evaluates only the side chosen, so a node that
        only one side uses belongs to that side; used twice, it belongs to what both uses share.
        """
        roots = list(roots)
        if not self._has_branches:
            return dict.fromkeys(self.reachable(roots), ())
        contexts: dict[int, tuple[tuple[int, bool], ...]] = dict.fromkeys(roots, ())
        for number in reversed(self.reachable(roots)):
            node = self.nodes[number]
            here = contexts[number]
            for place, operand in enumerate(node.operands):
                use = here
                if node.operation == "where" and place > 0:
                    branch = (node.operands[0], place == 1)
                    use = here if branch in here else (*here, branch)
                known = contexts.get(operand)
                contexts[operand] = use if known is None else _shared(known, use)
        return contexts

    def schedule(self, roots: Iterable[int]) -> list[tuple[int, tuple[tuple[int, bool], ...]]]:
        """Return (node, context) for all that `roots` need, in an order in which each can be evaluated:
        operands first, and before a node in a branch the condition of that branch."""
        roots = list(roots)
        contexts = self.contexts(roots)
        if not any(contexts.values()):
            return [(number, ()) for number in sorted(contexts)]
        order: list[int] = []
        seen: set[int] = set()
        waiting = [(root, False) for root in reversed(roots)]
        while waiting:
            number, is_ready = waiting.pop()
            if is_ready:
                order.append(number)
            elif number not in seen:
                seen.add(number)
                waiting.append((number, True))
                needed = [condition for condition, _ in contexts[number]]
                needed.extend(self.nodes[number].operands)
                waiting.extend((other, False) for other in reversed(needed) if other not in seen)
        return [(number, contexts[number]) for number in order]


def _shared(one: tuple[tuple[int, bool], ...], other: tuple[tuple[int, bool], ...]) -> tuple[tuple[int, bool], ...]:
    length = 0
    for a, b in zip(one, other, strict=False):
        if a != b:
            break
        length += 1
    return one[:length]
