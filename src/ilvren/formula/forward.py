"""Forward accumulation on the graph: how values move when variables move along given directions.

With ẏ the change of a node y = g(a, b, …) for changes ȧ, ḃ of its operands,

    ẏ = ∂g/∂a · ȧ + ∂g/∂b · ḃ + …                                                     (1)

from the variables on. With a batch of directions in front of ȧ one evaluation gives many products J·d at
once. Applied to the nodes of a gradient (see `reverse`) it gives products of a Hessian.

Source: A. Griewank, A. Walther, "Evaluating Derivatives", 2nd ed., 2008, chapters 3 and 5.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from ilvren.formula import shaping
from ilvren.formula.levels import level_moved
from ilvren.formula.partials import times_partial
from ilvren.formula.rules import RULES

if TYPE_CHECKING:
    from ilvren.formula.graph import Graph

__all__ = ["tangents"]


def tangents(graph: Graph, roots: Sequence[int], seeds: Mapping[int, int]) -> list[int | None]:
    """Return the node of each root's change, None where it never changes; `seeds` is {variable index: its change}."""
    moved: dict[int, int] = {}
    for number in graph.reachable(roots):
        node = graph.nodes[number]
        if node.operation == "variable":
            if node.index in seeds:
                moved[number] = seeds[node.index]
        elif node.operation == "call":
            pass  # its outputs look at its operands themselves
        elif node.operation == "output":
            found = _through_model(graph, number, moved)
            if found is not None:
                moved[number] = found
        elif node.operation == "model_vjp" or any(operand in moved for operand in node.operands):
            before = len(graph.nodes)
            found = _through(graph, number, moved)
            if found is not None:
                moved[number] = graph.stretched(found, node.shape)
            origin = graph.origins.get(number)
            if origin is not None:
                for made in range(before, len(graph.nodes)):
                    graph.origins.setdefault(made, origin)
    return [moved.get(root) for root in roots]


def _through(graph: Graph, number: int, moved: Mapping[int, int]) -> int | None:
    node = graph.nodes[number]
    changes = [moved.get(operand) for operand in node.operands]
    zero = graph.constant(0.0)
    if RULES[node.operation].linear:
        assert changes[0] is not None
        return graph.arrange(node.operation, (changes[0],), node.shape, node.detail)
    if node.operation == "where":
        return graph.apply("where", node.operands[0], *(zero if change is None else change for change in changes[1:]))
    if node.operation == "model_vjp":
        return _model_hvp(graph, number, moved)
    if node.operation == "join":
        parts = [
            graph.stretched(zero, graph.shape(operand)) if change is None else change
            for operand, change in zip(node.operands, changes, strict=True)
        ]
        return shaping.join(graph, tuple(parts))
    terms = [_term(graph, number, place, change) for place, change in enumerate(changes) if change is not None]
    found = [term for term in terms if term is not None]
    if not found:
        return None
    result = found[0]
    for term in found[1:]:
        result = graph.apply("add", result, term)  # (1)
    return result


def _term(graph: Graph, number: int, place: int, change: int) -> int | None:
    """Return ∂node/∂operand[place] · change."""
    node = graph.nodes[number]
    operands = list(node.operands)
    same = (node.shape, node.detail)
    match node.operation:
        case "dot":
            operands[place] = change
            return shaping.dot(graph, operands[0], operands[1])
        case "norm":
            assert node.detail is not None
            a, axis = operands[0], node.detail[1]
            length = shaping.expand(graph, number, axis, graph.shape(a))  # type: ignore[arg-type]
            slope = graph.apply("unit", a, length)
            return shaping.total(graph, graph.apply("mul", slope, change), axis)  # type: ignore[arg-type]
        case "level":
            return level_moved(graph, number, place, change)
        case "interp" if place == 0:
            return graph.apply("mul", graph.arrange("interp_slope", node.operands, *same), change)
        case "interp" | "lookup" | "interp_slope" if place == 2:
            return graph.arrange(node.operation, (operands[0], operands[1], change), *same)
        case "interp_vjp" | "lookup_vjp" | "interp_slope_vjp" if place == 0:
            return graph.arrange(node.operation, (change, operands[1], operands[2]), *same)
        case "interp_vjp" if place == 1:
            amount = graph.apply("mul", operands[0], change)
            return graph.arrange("interp_slope_vjp", (amount, operands[1], operands[2]), *same)
        case "lookup" | "lookup_vjp" | "interp_slope" | "interp_slope_vjp" | "peaked" | "cross_place" | "leave_place":
            return None
        case "model_jvp" | "model_hvp":
            raise AssertionError("no model gives derivatives beyond the second")
    return times_partial(graph, number, place, change)


def _model_hvp(graph: Graph, number: int, moved: Mapping[int, int]) -> int | None:
    """Return the change of an adjoint that came through a model, Jᵀw: Jᵀẇ + (Σ_k w_k ∇²v_k)·u̇."""
    node = graph.nodes[number]
    call, adjoints = node.operands[0], node.operands[1:]
    assert node.detail is not None
    place, outputs = node.detail[0], node.detail[1]
    assert isinstance(outputs, tuple)
    parts = []
    changes = {output: moved[adjoint] for output, adjoint in zip(outputs, adjoints, strict=True) if adjoint in moved}
    if changes:
        given = (call, *changes.values())
        parts.append(graph.arrange("model_vjp", given, node.shape, (place, tuple(changes))))
    inputs = graph.nodes[call].operands
    places = tuple(k for k, operand in enumerate(inputs) if operand in moved)
    if places:
        given = (call, *adjoints, *(moved[inputs[k]] for k in places))
        parts.append(graph.arrange("model_hvp", given, node.shape, (place, outputs, places)))
    if len(parts) == 2:
        return graph.apply("add", parts[0], parts[1])
    return parts[0] if parts else None


def _through_model(graph: Graph, number: int, moved: Mapping[int, int]) -> int | None:
    node = graph.nodes[number]
    call = node.operands[0]
    inputs = graph.nodes[call].operands
    places = tuple(place for place, operand in enumerate(inputs) if operand in moved)
    if not places or node.detail is None:
        return None
    given = (call, *(moved[inputs[place]] for place in places))
    return graph.arrange("model_jvp", given, node.shape, (node.detail[0], places))
