"""Exact first derivatives: reverse accumulation on the graph.

With the adjoint ā of a node a standing for d(output)/da, every node y = g(a, b, …) adds to its operands

    ā += ȳ · ∂g/∂a                                                                     (1)

from the output back to the variables, so that the whole gradient costs a small multiple of the value.
The adjoints are graph nodes again. What is added from inside a branch of `where` to a node outside it
is wrapped in the same `where`, so that only the branch chosen is differentiated.

Source: A. Griewank, A. Walther, "Evaluating Derivatives", 2nd ed., 2008, chapter 3.
"""

from __future__ import annotations

import math

from ilvren.formula.graph import Graph

__all__ = ["gradient"]


def gradient(graph: Graph, output: int) -> dict[int, int]:
    """Return {variable index: node of d(output)/d(variable)} for the variables `output` depends on.

    A derivative that is zero everywhere is left out.
    """
    contexts = graph.contexts([output])
    order = sorted(contexts)
    depends: set[int] = set()
    for number in order:
        node = graph.nodes[number]
        if node.operation == "variable" or any(operand in depends for operand in node.operands):
            depends.add(number)
        if node.operation == "variable":
            contexts[number] = ()  # its adjoint is the result, which is wanted in every branch
    adjoints = {output: graph.constant(1.0)}
    found: dict[int, int] = {}
    for number in reversed(order):
        adjoint = adjoints.get(number)
        if adjoint is None or number not in depends:
            continue
        node = graph.nodes[number]
        if node.operation == "variable":
            found[node.index] = adjoint
            continue
        for place, operand in enumerate(node.operands):
            if operand not in depends:
                continue
            context = contexts[number]
            if node.operation == "where":
                if place == 0:
                    continue
                branch = (node.operands[0], place == 1)
                context = context if branch in context else (*context, branch)
                part: int | None = adjoint
            else:
                part = _times_partial(graph, number, place, adjoint)
            if part is None:
                continue
            part = _inside(graph, part, context[len(contexts[operand]) :])
            known = adjoints.get(operand)
            adjoints[operand] = part if known is None else graph.apply("add", known, part)  # (1)
    return {index: node for index, node in found.items() if not graph.is_constant(node, 0.0)}


def _inside(graph: Graph, part: int, branches: tuple[tuple[int, bool], ...]) -> int:
    zero = graph.constant(0.0)
    for condition, is_first in reversed(branches):
        part = graph.apply("where", condition, *((part, zero) if is_first else (zero, part)))
    return part


def _times_partial(graph: Graph, number: int, place: int, adjoint: int) -> int | None:
    """Return adjoint · ∂node/∂operand[place], or None where that is zero everywhere."""
    node = graph.nodes[number]
    a = node.operands[0]
    b = node.operands[1] if len(node.operands) > 1 else -1
    apply, constant = graph.apply, graph.constant

    def times(factor: int) -> int:
        return apply("mul", adjoint, factor)

    def over(divisor: int) -> int:
        return apply("div", adjoint, divisor)

    match node.operation, place:
        case ("add", _) | ("sub", 0):
            return adjoint
        case ("neg", 0) | ("sub", 1):
            return apply("neg", adjoint)
        case "mul", _:
            return times(node.operands[1 - place])
        case "div", 0:
            return over(b)
        case "div", 1:
            return apply("neg", apply("mul", over(b), number))
        case "square", _:
            return times(apply("mul", constant(2.0), a))
        case "pow", 0 if graph.nodes[b].operation == "constant":
            c = graph.nodes[b].value
            return times(apply("mul", constant(c), apply("pow", a, constant(c - 1.0))))
        case "pow", 0:
            return times(apply("pow_slope", a, b))
        case "pow", 1:
            return times(apply("pow_log", a, b))
        case "pow_slope", 0:
            return times(apply("mul", b, apply("pow_slope", a, apply("sub", b, constant(1.0)))))
        case "pow_slope", 1:
            lower = apply("sub", b, constant(1.0))
            return times(apply("add", apply("pow", a, lower), apply("mul", b, apply("pow_log", a, lower))))
        case "pow_log", 0:
            lower = apply("sub", b, constant(1.0))
            return times(apply("add", apply("pow", a, lower), apply("mul", b, apply("pow_log", a, lower))))
        case "pow_log", 1:
            return times(apply("mul", number, apply("log", a)))
        case "abs", _:
            return times(apply("sign", a))
        case "max", _:
            return times(apply("share", node.operands[place], node.operands[1 - place]))
        case "min", _:
            return times(apply("share", node.operands[1 - place], node.operands[place]))
        case "sqrt", _:
            return over(apply("mul", constant(2.0), number))
        case "exp", _:
            return times(number)
        case "log", _:
            return over(a)
        case "log10", _:
            return over(apply("mul", constant(math.log(10.0)), a))
        case "sin", _:
            return times(apply("cos", a))
        case "cos", _:
            return apply("neg", times(apply("sin", a)))
        case "tan", _:
            return times(apply("add", constant(1.0), apply("square", number)))
        case "asin", _:
            return over(_root_of_one_minus_square(graph, a))
        case "acos", _:
            return apply("neg", over(_root_of_one_minus_square(graph, a)))
        case "atan", _:
            return over(apply("add", constant(1.0), apply("square", a)))
        case "sinh", _:
            return times(apply("cosh", a))
        case "cosh", _:
            return times(apply("sinh", a))
        case "tanh", _:
            return times(apply("sub", constant(1.0), apply("square", number)))
        case "erf", _:
            bell = apply("exp", apply("neg", apply("square", a)))
            return times(apply("mul", constant(2.0 / math.sqrt(math.pi)), bell))
        case "atan2", 0:
            return times(apply("div", b, _sum_of_squares(graph, a, b)))
        case "atan2", 1:
            return apply("neg", times(apply("div", a, _sum_of_squares(graph, a, b))))
        case "hypot", _:
            return times(apply("div", node.operands[place], number))
        case (("sign" | "share"), _):
            return None
    raise AssertionError(f"no derivative for {node.operation}")


def _root_of_one_minus_square(graph: Graph, a: int) -> int:
    # (1 − a)(1 + a) keeps digits near |a| = 1 that 1 − a² loses.
    one = graph.constant(1.0)
    product = graph.apply("mul", graph.apply("sub", one, a), graph.apply("add", one, a))
    return graph.apply("sqrt", product)


def _sum_of_squares(graph: Graph, a: int, b: int) -> int:
    return graph.apply("add", graph.apply("square", a), graph.apply("square", b))
