"""Partial derivatives of the element-wise operations, times an amount: what both directions of accumulation need.

Each gives nodes of the same graph, so that derivatives of derivatives come from the same rules.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from ilvren.formula.graph import Graph

__all__ = ["times_partial"]


def times_partial(graph: Graph, number: int, place: int, amount: int, *, live: bool = False) -> int | None:
    """Return amount · ∂node/∂operand[place], or None where that is zero everywhere.

    With `live` the amount may be 0 for elements that no chosen branch uses, and 0 it stays, whatever the partial.
    """
    node = graph.nodes[number]
    a = node.operands[0]
    b = node.operands[1] if len(node.operands) > 1 else -1
    apply, constant = graph.apply, graph.constant

    def times(factor: int) -> int:
        return apply("mul_live" if live else "mul", amount, factor)

    def over(divisor: int) -> int:
        return apply("div_live" if live else "div", amount, divisor)

    match node.operation, place:
        case ("add", _) | ("sub", 0):
            return amount
        case ("neg", 0) | ("sub", 1):
            return apply("neg", amount)
        case "mul", _:
            return times(node.operands[1 - place])
        case "div", 0:
            return over(b)
        case "div", 1:
            return apply("neg", apply("mul_live" if live else "mul", over(b), number))
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
            # x^c · log² x, which is 0 where x = 0 < c, as a square.
            return times(apply("square", apply("pow_log", a, apply("mul", constant(0.5), b))))
        case "abs", _:
            return times(apply("sign", a))
        case "max", _:
            return times(apply("heaviside", node.operands[place], node.operands[1 - place]))
        case "min", _:
            return times(apply("heaviside", node.operands[1 - place], node.operands[place]))
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
            return times(apply("unit", node.operands[place], number))
        case "unit", 0:
            return times(apply("unit", constant(1.0), b))
        case "unit", 1:
            return apply("neg", times(apply("unit", number, b)))
        case "mul_live", 0:
            return apply("mul_live", amount, b)
        case "mul_live", 1:
            return apply("mul_live", a, amount)
        case "div_live", 0:
            return apply("div_live", amount, b)
        case "div_live", 1:
            return apply("neg", apply("mul_live", a, apply("div", amount, apply("square", b))))
        case (("sign" | "heaviside" | "<=" | "<" | ">=" | ">" | "==" | "!=" | "and" | "or" | "not"), _):
            return None
    raise AssertionError(f"no derivative for {node.operation}")


def _root_of_one_minus_square(graph: Graph, a: int) -> int:
    # (1 − a)(1 + a) keeps digits near |a| = 1 that 1 − a² loses.
    one = graph.constant(1.0)
    product = graph.apply("mul", graph.apply("sub", one, a), graph.apply("add", one, a))
    return graph.apply("sqrt", product)


def _sum_of_squares(graph: Graph, a: int, b: int) -> int:
    return graph.apply("add", graph.apply("square", a), graph.apply("square", b))
