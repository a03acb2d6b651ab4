"""Smooth pieces of formulas with branches: what they are where each branch near a design is taken to one side.

A formula made with abs, min, max and comparisons is, near any design, one of finitely many smooth formulas, each valid
where its gaps have the signs that choose it. Replacing every branch by the side chosen gives that formula and its gaps.

Source: A. Griewank, A. Walther, "First- and second-order optimality conditions for piecewise smooth objective
functions", 2016, from which only the enumeration of the sign patterns is taken.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from ilvren.formula.graph import INPUTS, Graph

__all__ = ["SPLIT", "smooth_piece"]

# Branch operations that have two smooth sides; their gap is the first operand, or the difference of both.
SPLIT = frozenset({"abs", "min", "max", "<=", "<", ">=", ">", "==", "!="})
# The comparison's value where its gap is positive, and where it is negative.
_TRUTH = {"<=": (0, 1), "<": (0, 1), ">=": (1, 0), ">": (1, 0), "==": (0, 0), "!=": (1, 1)}


def smooth_piece(graph: Graph, roots: Sequence[int], sides: Mapping[int, bool]) -> tuple[list[int], dict[int, int]]:
    """Return the roots with every branch node of `sides` replaced by the side chosen (true: its gap is at least 0), and
    {branch node: node of its gap}, for scalar graphs."""
    made: dict[int, int] = {}
    gaps: dict[int, int] = {}
    for number in graph.reachable(roots):
        node = graph.nodes[number]
        if node.operation == "constant" or node.operation in INPUTS:
            made[number] = number
            continue
        operands = [made[operand] for operand in node.operands]
        if number in sides:
            gaps[number] = operands[0] if node.operation == "abs" else graph.apply("sub", *operands)
            made[number] = _side(graph, node.operation, operands, is_positive=sides[number])
        else:
            made[number] = graph.apply(node.operation, *operands)
        origin = graph.origins.get(number)
        if origin is not None:
            graph.origins.setdefault(made[number], origin)
    return [made[root] for root in roots], gaps


def _side(graph: Graph, operation: str, operands: Sequence[int], *, is_positive: bool) -> int:
    match operation:
        case "abs":
            return operands[0] if is_positive else graph.apply("neg", operands[0])
        case "max":
            return operands[0] if is_positive else operands[1]
        case "min":
            return operands[1] if is_positive else operands[0]
    return graph.constant(float(_TRUTH[operation][0 if is_positive else 1]))
