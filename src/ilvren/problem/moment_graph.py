"""The graph of one moment of what evolves over time: its inputs, and the values of the problem that no time changes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, NoReturn

from ilvren.dynamics import Input, State
from ilvren.formula import Graph, Shape, shaping
from ilvren.problem.entries import EntryDeclaration, Value, formula_text
from ilvren.problem.time_declarations import ControlDeclaration, StateDeclaration, TimeDeclaration

if TYPE_CHECKING:
    from ilvren.problem.template import Template

__all__ = ["MomentGraph"]


class MomentGraph:
    """The graph of one moment, and what stands in the problem's graph for it. `case` names the case it belongs to, ""
    for all."""

    def __init__(
        self,
        template: Template,
        time: TimeDeclaration,
        states: Sequence[StateDeclaration],
        controls: Sequence[ControlDeclaration],
        signals: Sequence[EntryDeclaration],
        case: str = "",
    ) -> None:
        self.template, self.time, self.case = template, time, case
        self.suffix = f"@{case}" if case else ""
        self.t_name = f"t{self.suffix}"
        self.state_declarations = list(states)
        self.control_declarations = {item.name: item for item in controls}
        self.signals = {item.name: item for item in signals}
        self.state_names = {item.name: k for k, item in enumerate(states)}
        self.entry = EntryDeclaration("time", "to", "")
        self.is_built = False
        self.graph = Graph()
        self.inputs: list[Input] = []
        self.still_nodes: list[int] = []  # the problem's nodes of its parameters
        self.outer_nodes: list[int] = []  # and of its outer values
        self._still_places: dict[int, int] = {}
        self.outer_places: dict[int, int] = {}
        self._input_nodes: dict[tuple[str, int, int], int] = {}
        self.names: dict[tuple[str, int], int] = {}
        self.states: list[State] = []
        self.first_nodes: list[int] = []
        self.structural: list[int] = []  # nodes whose values decide the grid

    def is_over_time(self, name: str) -> bool:
        """Return whether a name changes over time by itself: a state, a control, a signal, or the time."""
        return (
            name in self.state_names or name in self.control_declarations or name in self.signals or name == self.t_name
        )

    def fail(
        self, section: str, name: str, message: str, text: Value | None = None, advice: str | None = None
    ) -> NoReturn:
        """Raise ProblemError about an entry of these sections."""
        entry = EntryDeclaration(section, name, text if text is not None else "")
        self.template.fail(entry, message, text=None if text is None else formula_text(text), advice=advice)

    def main(self, section: str, name: str, value: Value) -> int:
        """Return the problem's node of a formula that no time changes."""
        if isinstance(value, tuple):
            return self._listed(section, name, value)
        entry = EntryDeclaration(section, name, value)
        return self.template.lower_entry(entry, self.template.parse(entry))

    def _listed(self, section: str, name: str, value: tuple[Value, ...]) -> int:
        parts = [self.main(section, name, item) for item in value]
        graph = self.template.graph
        shapes = {graph.shape(part) for part in parts}
        if len(shapes) > 1:
            self.fail(
                section, name, "the list is neither a vector nor a matrix: its lines have different lengths", value
            )
        inner = shapes.pop() if shapes else ()
        rows = tuple(shaping.reshaped(graph, part, (1, *inner)) if inner else part for part in parts)
        return shaping.join(graph, rows)

    def input_node(self, kind: str, of: int, shape: Shape, lag: int = -1) -> int:
        """Return the moment's node of an input, `lag` ago; it is taken in where it is new."""
        key = (kind, of, lag)
        if key not in self._input_nodes:
            self._input_nodes[key] = self.graph.variable(len(self.inputs), shape)
            self.inputs.append(Input(kind, of, shape, lag))
        return self._input_nodes[key]

    def state_input(self, number: int, lag: int = -1) -> int:
        """Return the moment's node of a state, `lag` ago."""
        return self.input_node("state", number, self.states[number].shape, lag)

    def outer(self, main: int) -> int:
        """Return the moment's node of a value of the problem that no time changes."""
        graph = self.template.graph
        node = graph.nodes[main]
        if node.operation == "constant":
            return self.graph.constant(node.value)
        if not self.template.depends(main) and not self.template.scatters(main):
            if main not in self._still_places:
                self._still_places[main] = len(self.still_nodes)
                self.still_nodes.append(main)
            return self.graph.parameter(self._still_places[main], node.shape)
        if main not in self.outer_places:
            if self.is_built:
                # What only measures use is no part of what evolves: it is a value beside.
                self.outer_places[main] = -1 - len(self.outer_places)
            else:
                self.outer_places[main] = len(self.outer_nodes)
                self.outer_nodes.append(main)
        return self.input_node("outer", self.outer_places[main], node.shape)
