"""Exact first derivatives: reverse accumulation on the graph.

With the adjoint ā of a node a standing for d(output)/da, every node y = g(a, b, …) adds to its operands

    ā += ȳ · ∂g/∂a                                                                     (1)

from the output back to the variables, so that the whole gradient costs a small multiple of the value.
The adjoints are graph nodes again. What is added from inside a branch of a scalar `where` to a node outside
it is wrapped in the same `where`, so that only the branch chosen is differentiated; on arrays an adjoint is 0
for the elements whose branch is not chosen, and stays 0 whatever it is multiplied with (`mul_live`).

Source: A. Griewank, A. Walther, "Evaluating Derivatives", 2nd ed., 2008, chapter 3.
"""

from __future__ import annotations

from collections.abc import Container, Mapping
from typing import TYPE_CHECKING

from ilvren.formula import shaping
from ilvren.formula.levels import level_vjp
from ilvren.formula.operators import OPERATIONS
from ilvren.formula.partials import times_partial

if TYPE_CHECKING:
    from ilvren.formula.graph import Graph

__all__ = ["gradient", "weighted_gradient"]

Context = tuple[tuple[int, bool], ...]


def gradient(graph: Graph, output: int, among: Container[int] | None = None) -> dict[int, int]:
    """Return {variable index: node of d(output)/d(variable)} for the variables a scalar `output` depends on; of some
    alone where `among` has their indices.

    A derivative that is zero everywhere is left out.
    """
    return weighted_gradient(graph, {output: graph.constant(1.0)}, among)


def weighted_gradient(graph: Graph, seeds: Mapping[int, int], among: Container[int] | None = None) -> dict[int, int]:
    """Return {variable index: node} of the gradient of Σ weight · output, `seeds` being {output: its weight}.

    A weight has the shape of its output. A derivative that is zero everywhere is left out.
    """
    return _Reverse(graph, seeds, among).gradient()


class _Reverse:
    """One sweep from outputs to variables."""

    def __init__(self, graph: Graph, seeds: Mapping[int, int], among: Container[int] | None) -> None:
        self.graph = graph
        self.contexts = graph.contexts(seeds)
        self.order = sorted(self.contexts)
        nodes = graph.nodes
        self.is_array = graph.has_arrays and any(
            nodes[n].shape or nodes[n].operation in ("call", "output") for n in self.order
        )
        self.depends: set[int] = set()
        for number in self.order:
            node = nodes[number]
            if node.operation == "variable":
                if among is None or node.index in among:
                    self.depends.add(number)
            elif not self.depends.isdisjoint(node.operands):
                self.depends.add(number)
            if node.operation == "variable":
                self.contexts[number] = ()  # its adjoint is the result, which is wanted in every branch
        self.adjoints = dict(seeds)
        self.of_outputs: dict[int, dict[int, int]] = {}  # a model's call → {output: adjoint}

    def gradient(self) -> dict[int, int]:
        graph = self.graph
        found: dict[int, int] = {}
        for number in reversed(self.order):
            if number not in self.depends:
                continue
            before = len(graph.nodes)
            node = graph.nodes[number]
            if node.operation == "call":
                self._through_model(number)
            elif (adjoint := self.adjoints.get(number)) is not None:
                if node.operation == "variable":
                    found[node.index] = adjoint
                elif node.operation == "output":
                    assert node.detail is not None
                    self.of_outputs.setdefault(node.operands[0], {})[int(str(node.detail[0]))] = adjoint
                else:
                    self._through(number, adjoint)
            origin = graph.origins.get(number)
            if origin is not None:
                for made in range(before, len(graph.nodes)):
                    graph.origins.setdefault(made, origin)
        return {index: node for index, node in found.items() if not _is_zero(graph, node)}

    def _through(self, number: int, adjoint: int) -> None:
        graph, node = self.graph, self.graph.nodes[number]
        for place, operand in enumerate(node.operands):
            if operand not in self.depends:
                continue
            context = self.contexts[number]
            if node.operation == "where":
                if place == 0:
                    continue
                branch = (node.operands[0], place == 1)
                context = context if branch in context else (*context, branch)
                part: int | None = adjoint
                if self.is_array:
                    part = self._chosen(number, place, adjoint)
            else:
                part = adjoint_part(graph, number, place, adjoint, live=self.is_array and bool(context))
            if part is None:
                continue
            self._add(operand, self._leaving(part, context, operand))

    def _chosen(self, number: int, place: int, adjoint: int) -> int:
        """Return the adjoint where this branch of an array's `where` is chosen, else 0. Inside another branch an
        element not used has the adjoint 0 and keeps it, though its condition may be invalid."""
        graph, condition = self.graph, self.graph.nodes[number].operands[0]
        zero, one = graph.constant(0.0), graph.constant(1.0)
        if not self.contexts[number]:
            return graph.apply("where", condition, *((adjoint, zero) if place == 1 else (zero, adjoint)))
        mask = graph.apply("where", condition, *((one, zero) if place == 1 else (zero, one)))
        return graph.apply("mul_live", adjoint, mask)

    def _through_model(self, number: int) -> None:
        graph, adjoints = self.graph, self.of_outputs.get(number)
        if adjoints is None:
            return
        places = tuple(sorted(adjoints))
        for place, operand in enumerate(graph.nodes[number].operands):
            if operand in self.depends:
                given = (number, *(adjoints[k] for k in places))
                part = graph.arrange("model_vjp", given, graph.shape(operand), (place, places))
                self._add(operand, self._leaving(part, self.contexts[number], operand))

    def _leaving(self, part: int, context: Context, operand: int) -> int:
        """Return what goes from inside a branch to an operand outside, wrapped in the scalar conditions it leaves: so a
        model that only a branch not chosen needs is not called for its derivatives either."""
        left = context[len(self.contexts[operand]) :]
        if not left:
            return part
        return _inside(self.graph, part, tuple(branch for branch in left if not self.graph.shape(branch[0])))

    def _add(self, operand: int, part: int) -> None:
        part = shaping.shrink(self.graph, part, self.graph.shape(operand))
        known = self.adjoints.get(operand)
        self.adjoints[operand] = part if known is None else self.graph.apply("add", known, part)  # (1)


def _is_zero(graph: Graph, number: int) -> bool:
    node = graph.nodes[number]
    return graph.is_constant(node.operands[0] if node.operation == "broadcast" else number, 0.0)


def _inside(graph: Graph, part: int, branches: Context) -> int:
    zero = graph.constant(0.0)
    for condition, is_first in reversed(branches):
        part = graph.apply("where", condition, *((part, zero) if is_first else (zero, part)))
    return part


def adjoint_part(graph: Graph, number: int, place: int, adjoint: int, *, live: bool) -> int | None:
    """Return what an adjoint of a node adds to that of its operand (before shrinking), or None for nothing."""
    node = graph.nodes[number]
    if node.operation in OPERATIONS:
        return times_partial(graph, number, place, adjoint, live=live)
    detail = node.detail or ()
    a = node.operands[0]
    own = graph.shape(node.operands[place])
    match node.operation:
        case "index":
            return shaping.scatter(graph, adjoint, detail[1], own)  # type: ignore[arg-type]
        case "scatter":
            return shaping.index(graph, adjoint, detail[1])  # type: ignore[arg-type]
        case "take":
            return shaping.give_back(graph, adjoint, detail[1], own[0])  # type: ignore[arg-type]
        case "give_back":
            return shaping.take(graph, adjoint, detail[1])  # type: ignore[arg-type]
        case "sum":
            return shaping.expand(graph, adjoint, detail[1], own)  # type: ignore[arg-type]
        case "expand":
            return shaping.total(graph, adjoint, detail[1])  # type: ignore[arg-type]
        case "broadcast":
            return shaping.shrink(graph, adjoint, own)
        case "shrink":
            return graph.stretched(adjoint, own)
        case "reshape":
            return shaping.reshaped(graph, adjoint, own)
        case "transpose":
            return shaping.transpose(graph, adjoint)
        case "join":
            return _piece(graph, number, place, adjoint)
        case "cumsum":
            return _summed_back(graph, adjoint, detail[1])  # type: ignore[arg-type]
        case "dot":
            return _dot_vjp(graph, number, place, adjoint)
        case "norm":
            axis = detail[1]
            length = shaping.expand(graph, number, axis, own)  # type: ignore[arg-type]
            amount = shaping.expand(graph, adjoint, axis, own)  # type: ignore[arg-type]
            return graph.apply("mul_live" if live else "mul", amount, graph.apply("unit", a, length))
        case "level":
            return level_vjp(graph, number, place, adjoint)
        case "interp" if place == 0:
            slope = graph.arrange("interp_slope", node.operands, node.shape, node.detail)
            return graph.apply("mul_live" if live else "mul", adjoint, slope)
        case "interp":
            return graph.arrange("interp_vjp", (adjoint, a, node.operands[1]), own, node.detail)
        case "lookup" if place == 0:
            return None
        case "peaked" | "cross_place" | "leave_place":
            return None
        case "lookup":
            return graph.arrange("lookup_vjp", (adjoint, a, node.operands[1]), own, node.detail)
    return times_partial(graph, number, place, adjoint, live=live)


def _piece(graph: Graph, number: int, place: int, adjoint: int) -> int:
    node = graph.nodes[number]
    first = sum((graph.shape(part) or (1,))[0] for part in node.operands[:place])
    own = graph.shape(node.operands[place])
    rest = tuple((0, n, 1) for n in node.shape[1:])
    return shaping.index(graph, adjoint, ((first, first + own[0], 1) if own else first, *rest))


def _summed_back(graph: Graph, adjoint: int, axis: int) -> int:
    shape = graph.shape(adjoint)
    back = tuple((n - 1, -1, -1) if place == axis else (0, n, 1) for place, n in enumerate(shape))
    return shaping.index(graph, shaping.cumsum(graph, shaping.index(graph, adjoint, back), axis), back)


def _dot_vjp(graph: Graph, number: int, place: int, adjoint: int) -> int:
    a, b = graph.nodes[number].operands
    ranks = (len(graph.shape(a)), len(graph.shape(b)))
    own = graph.shape(a if place == 0 else b)
    if ranks == (1, 1):
        return graph.apply("mul", adjoint, b if place == 0 else a)
    if (ranks == (2, 1) and place == 0) or (ranks == (1, 2) and place == 1):
        row, column = (adjoint, b) if place == 0 else (a, adjoint)  # an outer product
        return graph.apply("mul", shaping.expand(graph, row, 1, own), shaping.expand(graph, column, 0, own))
    if place == 0:
        return (
            shaping.dot(graph, adjoint, shaping.transpose(graph, b))
            if ranks[0] == 2
            else shaping.dot(graph, b, adjoint)
        )
    return shaping.dot(graph, shaping.transpose(graph, a), adjoint)
