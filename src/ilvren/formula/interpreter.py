"""Node-by-node evaluation by IEEE rules: slow, never raising, and able to say what happened where.

The compiled code is for speed; this is the reference it must agree with, what it falls back to when an
operation fails, and the source of "which sub-expression, with what arguments".
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from ilvren.formula.interpretation import Interpretation, Kink, Trouble
from ilvren.formula.operators import OPERATIONS, why_not_finite

if TYPE_CHECKING:
    from ilvren.formula.graph import Graph

__all__ = ["interpret"]


def interpret(
    graph: Graph,
    roots: Sequence[int],
    variables: Sequence[Any],
    parameters: Sequence[Any],
    *,
    weights: Sequence[Any] = (),
    models: Sequence[Any] = (),
) -> Interpretation:
    """Evaluate `roots`, keeping for each the first trouble on its way, and all kinks with their gaps.

    Inputs are floats, or arrays for those with a shape, by index.
    """
    nodes = graph.nodes
    if graph.has_arrays and any(nodes[n].shape or nodes[n].operation in _ARRAY_ONLY for n in graph.reachable(roots)):
        from ilvren.formula.array_interpreter import walk_with_troubles

        return walk_with_troubles(graph, roots, variables, parameters, weights, models)
    return _walk_scalars(graph, roots, variables, parameters, weights)


_ARRAY_ONLY = ("call", "index", "sum", "dot", "norm", "level", "interp", "lookup")


def _walk_scalars(
    graph: Graph, roots: Sequence[int], variables: Sequence[Any], parameters: Sequence[Any], weights: Sequence[Any]
) -> Interpretation:
    inputs = {"variable": variables, "parameter": parameters, "weight": weights}
    values: dict[int, float] = {}
    troubles: dict[int, Trouble | None] = {}
    kinks: list[Kink] = []
    for number, context in graph.schedule(roots):
        if any(bool(values.get(condition)) is not side for condition, side in context):
            continue
        node = graph.nodes[number]
        if node.operation == "constant":
            values[number], troubles[number] = node.value, None
            continue
        if node.operation in inputs:
            value = float(inputs[node.operation][node.index])
            values[number] = value
            troubles[number] = None if math.isfinite(value) else _trouble(graph, number, (), value)
            continue
        used = node.operands
        if node.operation == "where":
            used = (used[0], used[1] if values[used[0]] else used[2])
        arguments = tuple(values.get(operand, 0.0) for operand in node.operands)
        value = OPERATIONS[node.operation].value(*arguments)
        values[number] = value
        earlier = next((troubles[operand] for operand in used if troubles.get(operand)), None)
        if earlier is None and not math.isfinite(value):
            earlier = _trouble(graph, number, arguments, value)
        troubles[number] = earlier
        gap = _kink_gap(node.operation, arguments)
        if gap is not None:
            kinks.append(Kink(number, node.operation, gap, graph.origins.get(number)))
    return Interpretation(
        tuple(math.nan if troubles[root] else values[root] for root in roots),
        tuple(troubles[root] for root in roots),
        tuple(kinks),
    )


def _trouble(graph: Graph, number: int, arguments: tuple[float, ...], value: float) -> Trouble:
    operation = graph.nodes[number].operation
    reason = why_not_finite(operation, arguments, value) if operation in OPERATIONS else ""
    is_fixed = not graph.variables_of([number])
    return Trouble(operation, arguments, value, reason, graph.origins.get(number), is_fixed=is_fixed)


def _kink_gap(operation: str, arguments: tuple[float, ...]) -> float | None:
    """Return what changes sign where the operation changes its branch, or None when it has no branches."""
    if operation == "abs":
        return arguments[0]
    if operation in ("min", "max", "<=", "<", ">=", ">", "==", "!="):
        return arguments[0] - arguments[1]
    if operation == "hypot":
        return max(abs(argument) for argument in arguments)
    return None
