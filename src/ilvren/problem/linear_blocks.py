"""Linear blocks, given by their transfer functions, as states of one moment.

A block b(s) / a(s) of order n, with a_n = 1, has the states x_i' = x_{i+1}, x_n' = u − Σ a_i x_i and the output
Σ (b_i − a_i b_n) x_i + b_n u (controllable canonical form: T. Kailath, 1980, Linear Systems). Where b_n is 0 the output
needs its states alone, so that u may depend on it.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from ilvren.formula import shaping
from ilvren.problem.entries import EntryDeclaration
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.formula import Graph
    from ilvren.problem.moment_graph import MomentGraph
    from ilvren.problem.time_declarations import StateDeclaration

__all__ = ["LinearBlock", "block_output", "block_rate", "taken_block"]


@dataclass(frozen=True)
class LinearBlock:
    """A block: its state's number, its coefficients a (n + 1) and b (n + 1) as nodes of the moment, the problem's node
    of b_0, whether u has a part in its output at once, and the entry of u."""

    number: int
    a: tuple[int, ...]
    b: tuple[int, ...]
    b_0: int
    is_direct: bool
    of: EntryDeclaration

    @property
    def order(self) -> int:
        """Return how many states it has."""
        return len(self.a) - 1


def taken_block(moment: MomentGraph, state: StateDeclaration) -> LinearBlock:
    """Return a block; its output has a name at once where it needs its states alone."""
    transfer, main = state.transfer, moment.template.graph
    assert transfer is not None
    n = len(transfer.denominator) - 1
    a = [moment.main("states", state.name, item) for item in transfer.denominator[::-1]]
    b = [moment.main("states", state.name, item) for item in transfer.numerator[::-1]]
    top = a[-1]
    a = [main.apply("div", item, top) for item in a]
    b = [main.apply("div", item, top) for item in b] + [main.constant(0.0)] * (n + 1 - len(b))
    block = LinearBlock(
        moment.state_names[state.name],
        tuple(moment.outer(item) for item in a),
        tuple(moment.outer(item) for item in b),
        b[0],
        not main.is_constant(b[-1], 0.0),
        EntryDeclaration("states", state.name, transfer.of),
    )
    if not block.is_direct:
        moment.names[state.name, -1] = block_output(moment.graph, block, moment.state_input(block.number), None)
    return block


def block_rate(moment: MomentGraph, block: LinearBlock, state: StateDeclaration, u: int) -> int:
    """Return the rates of a block's states (n) by time, for what it takes, and add what they begin with. Raises
    ProblemError."""
    graph, main = moment.graph, moment.template.graph
    if graph.shape(u):
        moment.fail("states", state.name, "a linear block takes one number at every moment", block.of.formula)
    x = moment.state_input(block.number)
    parts = [shaping.index(graph, x, (i,)) for i in range(block.order)]
    last = u
    for i, part in enumerate(parts):
        last = graph.apply("sub", last, graph.apply("mul", block.a[i], part))
    rate = shaping.join(graph, (*parts[1:], last))
    moment.names.setdefault((state.name, -1), block_output(graph, block, x, u))
    first = [main.constant(0.0)] * block.order
    if state.initial is not None:
        level = moment.main("states", state.name, state.initial)
        if main.shape(level):
            moment.fail("states", state.name, "a linear block begins with one number", state.initial)
        if main.is_constant(block.b_0, 0.0):
            moment.fail(
                "states",
                state.name,
                "its numerator ends with 0: at rest its output is 0, and can be nothing else",
                state.initial,
            )
        first[0] = main.apply("div", level, block.b_0)
    moment.first_nodes.append(shaping.join(main, tuple(first)))
    return rate


def block_output(graph: Graph, block: LinearBlock, x: int, u: int | None) -> int:
    """Return a block's output from its states x (n); `u` None where it has no part in it."""
    parts: Sequence[int] = [shaping.index(graph, x, (i,)) for i in range(block.order)]
    result = graph.constant(0.0) if u is None else graph.apply("mul", block.b[block.order], u)
    for i, part in enumerate(parts):
        weight = graph.apply("sub", block.b[i], graph.apply("mul", block.a[i], block.b[block.order]))
        result = graph.apply("add", result, graph.apply("mul", weight, part))
    return result
