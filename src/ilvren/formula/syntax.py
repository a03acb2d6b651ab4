"""The syntax tree of a formula: plain values that know their span in the text.

Sums and products are kept with all their terms in one node, so that a long formula is wide, not deep,
and the top-level terms of a constraint can be read off.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace

from ilvren.records import dataclass

__all__ = [
    "Call",
    "Comparison",
    "Condition",
    "Index",
    "Name",
    "Negative",
    "Node",
    "Number",
    "Power",
    "Product",
    "Slice",
    "Sum",
    "children",
    "names_in",
    "rebuilt",
]

Span = tuple[int, int]


@dataclass(frozen=True)
class Number:
    """A literal."""

    value: float
    span: Span


@dataclass(frozen=True)
class Name:
    """A name of the file, `pi`, or a dotted name such as `upper.friction`."""

    name: str
    span: Span


@dataclass(frozen=True)
class Negative:
    """−operand."""

    operand: Node
    span: Span


@dataclass(frozen=True)
class Sum:
    """first ± second ± …; each term is (is_added, node) and the first is always added."""

    terms: tuple[tuple[bool, Node], ...]
    span: Span


@dataclass(frozen=True)
class Product:
    """first */ second */ …; each factor is (is_multiplied, node) and the first is always multiplied."""

    factors: tuple[tuple[bool, Node], ...]
    span: Span


@dataclass(frozen=True)
class Power:
    """base ^ exponent."""

    base: Node
    exponent: Node
    span: Span


@dataclass(frozen=True)
class Call:
    """function(arguments…), `axis` being the one argument that may be named."""

    function: str
    arguments: tuple[Node, ...]
    span: Span
    axis: Node | None = None


@dataclass(frozen=True)
class Slice:
    """start:stop:step inside an index, each None when left out."""

    start: Node | None
    stop: Node | None
    step: Node | None
    span: Span


@dataclass(frozen=True)
class Index:
    """base[subscript, …]; a subscript is a formula of a whole number, or a Slice."""

    base: Node
    subscripts: tuple[Node | Slice, ...]
    span: Span


@dataclass(frozen=True)
class Comparison:
    """left operator right, inside a condition."""

    operator: str
    left: Node
    right: Node
    span: Span


@dataclass(frozen=True)
class Condition:
    """`and`, `or` of several conditions, or `not` of one."""

    word: str
    parts: tuple[Node, ...]
    span: Span


Node = Number | Name | Negative | Sum | Product | Power | Call | Index | Comparison | Condition


def children(node: Node) -> tuple[Node, ...]:
    """Return the nodes directly below `node`."""
    match node:
        case Number() | Name():
            return ()
        case Negative(operand=operand):
            return (operand,)
        case Sum(terms=terms):
            return tuple(term for _, term in terms)
        case Product(factors=factors):
            return tuple(factor for _, factor in factors)
        case Power(base=base, exponent=exponent):
            return (base, exponent)
        case Call(arguments=arguments, axis=axis):
            return arguments if axis is None else (*arguments, axis)
        case Index(base=base, subscripts=subscripts):
            return (base, *(part for subscript in subscripts for part in _parts(subscript)))
        case Comparison(left=left, right=right):
            return (left, right)
        case Condition(parts=parts):
            return parts


def _parts(subscript: Node | Slice) -> tuple[Node, ...]:
    if not isinstance(subscript, Slice):
        return (subscript,)
    return tuple(part for part in (subscript.start, subscript.stop, subscript.step) if part is not None)


def names_in(node: Node) -> Iterator[Name]:
    """Yield every Name of a tree, in the order of the text."""
    waiting = [node]
    while waiting:
        node = waiting.pop()
        if isinstance(node, Name):
            yield node
        waiting.extend(reversed(children(node)))


def rebuilt(node: Node, replaced: Callable[[Node], Node | None]) -> Node:
    """Return a tree in which every outermost node that `replaced` gives another for is that one."""
    found = replaced(node)
    if found is not None:
        return found

    def own(part: Node) -> Node:
        return rebuilt(part, replaced)

    match node:
        case Number() | Name():
            return node
        case Negative() | Index():
            if isinstance(node, Negative):
                return replace(node, operand=own(node.operand))
            return replace(
                node, base=own(node.base), subscripts=tuple(_subscript(part, own) for part in node.subscripts)
            )
        case Sum(terms=terms):
            return replace(node, terms=tuple((flag, own(term)) for flag, term in terms))
        case Product(factors=factors):
            return replace(node, factors=tuple((flag, own(factor)) for flag, factor in factors))
        case Power(base=base, exponent=exponent):
            return replace(node, base=own(base), exponent=own(exponent))
        case Call(arguments=arguments, axis=axis):
            return replace(node, arguments=tuple(map(own, arguments)), axis=None if axis is None else own(axis))
        case Comparison(left=left, right=right):
            return replace(node, left=own(left), right=own(right))
        case Condition(parts=parts):
            return replace(node, parts=tuple(map(own, parts)))


def _subscript(part: Node | Slice, own: Callable[[Node], Node]) -> Node | Slice:
    if not isinstance(part, Slice):
        return own(part)
    start, stop, step = (None if end is None else own(end) for end in (part.start, part.stop, part.step))
    return Slice(start, stop, step, part.span)
