"""Syntax tree → graph nodes, names being resolved by whoever knows them."""

from __future__ import annotations

import math
from collections.abc import Callable

from ilvren.formula.graph import Graph, Origin
from ilvren.formula.syntax import (
    Call,
    Comparison,
    Condition,
    Name,
    Negative,
    Node,
    Number,
    Power,
    Product,
    Sum,
)

__all__ = ["lower", "top_terms"]

Resolve = Callable[[Name], int]


def lower(tree: Node, graph: Graph, resolve: Resolve, *, entry: str = "", text: str = "") -> int:
    """Add `tree` to `graph` and return its node.

    `resolve` gives the node of a Name or raises. `entry` and `text` say where the formula stands; the
    first place that makes a node is remembered as its origin.
    """

    def build(node: Node) -> int:
        before = len(graph.nodes)
        number = _build(node)
        for made in range(before, len(graph.nodes)):
            graph.origins.setdefault(made, Origin(entry, text, node.span))
        return number

    def _build(node: Node) -> int:
        match node:
            case Number(value=value):
                return graph.constant(value)
            case Name(name="pi"):
                return graph.constant(math.pi)
            case Name():
                return resolve(node)
            case Negative(operand=operand):
                return graph.apply("neg", build(operand))
            case Sum(terms=terms):
                return _chain(terms, "add", "sub")
            case Product(factors=factors):
                return _chain(factors, "mul", "div")
            case Power(base=base, exponent=exponent):
                return graph.apply("pow", build(base), build(exponent))
            case Call(function=("min" | "max") as name, arguments=arguments):
                result = build(arguments[0])
                for argument in arguments[1:]:
                    result = graph.apply(name, result, build(argument))
                return result
            case Call(function=name, arguments=arguments):
                return graph.apply(name, *[build(argument) for argument in arguments])
            case Comparison(operator=operator, left=left, right=right):
                return graph.apply(operator, build(left), build(right))
            case Condition(word="not", parts=parts):
                return graph.apply("not", build(parts[0]))
            case Condition(word=word, parts=parts):
                result = build(parts[0])
                for part in parts[1:]:
                    result = graph.apply(word, result, build(part))
                return result

    def _chain(parts: tuple[tuple[bool, Node], ...], forward: str, backward: str) -> int:
        result = build(parts[0][1])
        start = parts[0][1].span[0]
        for is_forward, part in parts[1:]:
            operand = build(part)
            before = len(graph.nodes)
            result = graph.apply(forward if is_forward else backward, result, operand)
            if len(graph.nodes) > before:
                graph.origins.setdefault(result, Origin(entry, text, (start, part.span[1])))
        return result

    return build(tree)


def top_terms(tree: Node) -> tuple[Node, ...]:
    """Return the terms of a sum, or the tree itself when it is none."""
    return tuple(term for _, term in tree.terms) if isinstance(tree, Sum) else (tree,)
