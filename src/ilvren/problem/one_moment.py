"""One moment of what evolves over time: its graph, whose inputs are the share of the time that has passed, the states,
the controls, and values that no time changes; and the names that its formulas use."""

from __future__ import annotations

import math
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from ilvren.dynamics import Control, State
from ilvren.errors import FormulaError
from ilvren.formula import (
    TIME_FUNCTIONS,
    Call,
    Name,
    Node,
    Shape,
    interpret,
    lower,
    rebuilt,
    shape_text,
    tangents,
)
from ilvren.problem.declared_shapes import shape_of
from ilvren.problem.entries import EntryDeclaration, formula_text
from ilvren.problem.horizon import Horizon, horizon_of
from ilvren.problem.linear_blocks import LinearBlock, block_output, block_rate, taken_block
from ilvren.problem.moment_graph import MomentGraph
from ilvren.problem.time_declarations import MOST_STEPS, StateDeclaration

if TYPE_CHECKING:
    pass

__all__ = ["OneMoment"]


class OneMoment(MomentGraph):
    """The formulas of one moment. `case` names the case they belong to, "" for all."""

    horizon: Horizon  # known once it is being built

    def __init__(self, *given: Any) -> None:
        super().__init__(*given)
        self.trees = {name: self.template.parse(item) for name, item in self.signals.items()}
        self._open: list[str] = []
        self.blocks: dict[str, LinearBlock] = {}
        self.calls: dict[tuple[str, int], dict[str, int]] = {}  # of models that rates call
        self.lag_nodes: list[int] = []
        self.controls: list[Control] = []
        self.control_places: dict[str, int] = {}

    def begin_moment(self) -> None:
        """Take in the time, the states with their rates, and the controls."""
        self.entry = EntryDeclaration("time", "to", formula_text(self.time.end if self.time.end is not None else "at"))
        self.horizon = horizon_of(self)
        graph = self.graph
        tau = self.input_node("tau", 0, ())
        begin, self.duration_node = self.outer(self.horizon.begin), self.outer(self.horizon.duration)
        self.names[self.t_name, -1] = graph.apply("add", begin, graph.apply("mul", tau, self.duration_node))
        for k, state in enumerate(self.state_declarations):
            self._declare(k, state)
        for state in self.state_declarations:
            if state.transfer is not None:
                self.blocks[state.name] = taken_block(self, state)
        rates = [self._rate(state) for state in self.state_declarations]
        self.states = [replace(old, **new) for old, new in zip(self.states, rates, strict=True)]
        for name in self.control_declarations:
            self._control_place(name)

    def _declare(self, number: int, state: StateDeclaration) -> None:
        template = self.template
        entry = EntryDeclaration("states", state.name, "")
        shape: Shape = ()
        if state.transfer is not None:
            shape = (len(state.transfer.denominator) - 1,)
        elif state.shape is not None:
            shape = shape_of(template, entry, f"{state.name}.shape", state.shape)
        else:
            listed = state.initial if isinstance(state.initial, tuple) else state.start
            if isinstance(listed, tuple):
                shape = template.graph.shape(self._listed("states", state.name, listed))
        size = None
        if state.magnitude is not None and state.transfer is None:
            node = self.main("states", state.name, state.magnitude)
            if template.depends(node):
                self.fail("states", state.name, '"magnitude" may not depend on a variable', state.magnitude)
            size = template.number(entry, node, template.values, '"magnitude"')
            if not np.all(np.asarray(size) > 0.0):
                self.fail("states", state.name, "a magnitude is a positive number", state.magnitude)
        self.states.append(State(state.name, shape, None, size=size))
        node = self.input_node("state", number, shape)
        if state.transfer is None:
            self.names[state.name, -1] = node

    def _rate(self, state: StateDeclaration) -> dict[str, Any]:
        graph, k = self.graph, self.state_names[state.name]
        shape = self.states[k].shape
        if state.transfer is not None:
            block = self.blocks[state.name]
            with self.underway(state.name):
                u = self.moment(block.of, self.template.parse(block.of))
            return {"rate": self.graph.apply("mul", self.duration_node, block_rate(self, block, state, u))}
        shape = self._first_value(state, shape)
        text = state.rate if state.rate is not None else state.next
        assert text is not None
        entry = EntryDeclaration("states", state.name, text)
        node = self.moment(entry, self.template.parse(entry))
        own = graph.shape(node)
        if own != shape and (own and shape):
            self.fail(
                "states",
                state.name,
                f"what it becomes has {shape_text(own)}, the state {shape_text(shape)}",
                text,
            )
        if own and not shape:
            self.fail(
                "states", state.name, f"its rate has {shape_text(own)}: give the state that shape", text, "shape = …"
            )
        node = graph.stretched(node, shape)
        if state.rate is not None:
            return {"rate": graph.apply("mul", self.duration_node, node)}
        return {"next": node, "every": self._sampled_every(state)}

    def _first_value(self, state: StateDeclaration, shape: Shape) -> Shape:
        """Add what a state begins with, and return its shape."""
        main = self.template.graph
        if state.initial is None:
            self.first_nodes.append(self.template.nodes[f"{state.name}.first"])
            return shape
        first = self.main("states", state.name, state.initial)
        own = main.shape(first)
        if own not in ((), shape) and shape:
            self.fail("states", state.name, f"starts with {shape_text(own)}, and is {shape_text(shape)}", state.initial)
        self.first_nodes.append(main.stretched(first, shape or own))
        return shape or own

    def _sampled_every(self, state: StateDeclaration) -> float:
        """Return how far apart the samples of a state are."""
        assert state.every is not None
        every = self.main("states", state.name, state.every)
        if self.template.depends(every) or self.template.graph.shape(every):
            self.fail("states", state.name, '"every" is one number that no variable changes', state.every)
        value = float(self.template.number(self.entry, every, self.template.values, '"every"'))
        if not value > 0.0:
            self.fail("states", state.name, f"samples are {value:g} apart: a time above 0 is needed", state.every)
        if self.horizon.is_free_end:
            self.fail("states", state.name, "a sampled state needs a fixed end of the time", state.every)
        if self.horizon.duration_value / value > MOST_STEPS:
            self.fail(
                "states",
                state.name,
                f"{self.horizon.duration_value / value:.3g} samples are more than this tool takes",
                state.every,
            )
        self.structural.append(every)
        return value

    def _control_place(self, name: str) -> int:
        if name in self.control_places:
            return self.control_places[name]
        declared, template = self.control_declarations[name], self.template
        shape = template.nodes[name]
        own = template.graph.shape(shape)
        pieces = own[0] - (declared.form != "constant")
        self.control_places[name] = len(self.controls)
        self.controls.append(Control(name, own[1:], pieces, declared.form != "constant"))
        return self.control_places[name]

    def moment(self, entry: EntryDeclaration, tree: Node, lag: int = -1) -> int:
        """Return the moment's node of a formula, `lag` ago. Raises ProblemError."""
        extra: dict[str, int] = {}

        def replaced(node: Node) -> Node | None:
            if not (isinstance(node, Call) and node.function in TIME_FUNCTIONS):
                return None
            name = f"#{len(extra)}"
            if node.function == "delayed":
                extra[name] = self._delayed(entry, node, lag)
            else:
                if not self.is_built:
                    raise FormulaError(
                        f'"{node.function}" is known when all has evolved, and cannot say how',
                        text=formula_text(entry.formula),
                        span=node.span,
                        advice="in rates, delayed(s, lag) looks back; a further state can add something up",
                    )
                extra[name] = self.outer(self.template.measure(entry, node))
            return Name(name, node.span)

        def resolve(word: Name) -> int:
            if word.name in extra:
                return extra[word.name]
            return self.named(entry, word, lag)

        text = formula_text(entry.formula)
        try:
            own = rebuilt(tree, replaced)
            return lower(own, self.graph, resolve, entry=entry.path, text=text, whole=self._whole)
        except FormulaError as error:
            self.template.fail_at(entry, error)

    def named(self, entry: EntryDeclaration, word: Name, lag: int) -> int:
        """Return the moment's node of a name, `lag` ago."""
        name = word.name
        key = (name, lag)
        if key in self.names:
            return self.names[key]
        tree, own = self._written(name)
        if tree is not None and own is not None:
            if name in self._open:
                cycle = " -> ".join([*self._open[self._open.index(name) :], name])
                self.template.fail(own, f"the value needs itself: {cycle}")
            with self.underway(name):
                self.names[key] = self.moment(own, tree, lag)
            return self.names[key]
        owner: object = self.template.axis_of(name)
        if owner is self and self.template.model_of(name):
            return self._model_output(entry, word, lag)
        found: int | None = None
        if name == self.t_name:
            sigma = self.input_node("sigma", 0, (), lag)
            found = self.graph.apply(
                "add", self.outer(self.horizon.begin), self.graph.apply("mul", sigma, self.duration_node)
            )
        elif name in self.blocks:
            found = self._block_output(entry, word, lag)
        elif name in self.state_names:
            found = self.state_input(self.state_names[name], lag)
        elif name in self.control_declarations:
            found = self._control(name, lag)
        if found is not None:
            self.names[key] = found
            return found
        return self.outer(self.template.resolved(entry, word))

    @contextmanager
    def underway(self, name: str) -> Iterator[None]:
        """Note that a name's formula is being taken in, so that one that needs itself is seen."""
        self._open.append(name)
        try:
            yield
        finally:
            self._open.pop()

    def _block_output(self, entry: EntryDeclaration, word: Name, lag: int) -> int:
        """Return the moment's node of a linear block's output, `lag` ago."""
        block, u = self.blocks[word.name], None
        x = self.state_input(block.number, lag)
        if block.is_direct:
            if word.name in self._open:  # its output is on the way
                self.template.fail(entry, f'"{word.name}" feeds itself without a delay or a state between',
                                   span=word.span, text=formula_text(entry.formula))  # fmt: skip
            with self.underway(word.name):
                u = self.moment(block.of, self.template.parse(block.of), lag)
        return block_output(self.graph, block, x, u)

    def _model_output(self, entry: EntryDeclaration, word: Name, lag: int) -> int:
        """Return the moment's node of an output of a model that is called at every moment."""
        from ilvren.problem.model_entries import model_source

        template = self.template
        model = template.model_of(word.name)
        if (model, lag) not in self.calls:
            if model in self._open:
                self.template.fail(entry, f"the value needs itself: {model}")
            with self.underway(model):
                nodes = [self.moment(own, template.parse(own), lag) for own in template.inputs[model].values()]
            names = list(template.inputs[model])
            shapes = tuple((name, self.graph.shape(node)) for name, node in zip(names, nodes, strict=True))
            number, outputs = model_source(template, model, shapes)
            call = self.graph.arrange("call", tuple(nodes), (), None, number)
            self.calls[model, lag] = {
                name: self.graph.arrange("output", (call,), shape, (place,))
                for place, (name, shape) in enumerate(outputs)
            }
        output = word.name.partition(".")[2] or word.name
        if output not in self.calls[model, lag]:
            raise FormulaError(
                f'model "{model}" has no output "{output}"', text=formula_text(entry.formula), span=word.span
            )
        return self.calls[model, lag][output]

    def _written(self, name: str) -> tuple[Node | None, EntryDeclaration | None]:
        """Return the formula of a signal, or of a derived value over time."""
        if name in self.signals:
            return self.trees[name], self.signals[name]
        return self.template.derived_over_time(name)

    def _control(self, name: str, lag: int) -> int:
        place = self._control_place(name)
        control, graph = self.controls[place], self.graph
        if not control.is_linear:
            return self.input_node("value", place, control.shape, lag)
        low = self.input_node("low", place, control.shape, lag)
        high = self.input_node("high", place, control.shape, lag)
        theta = self.input_node("theta", place, (), lag)
        return graph.apply("add", low, graph.apply("mul", theta, graph.apply("sub", high, low)))

    def _delayed(self, entry: EntryDeclaration, call: Call, lag: int) -> int:
        signal, given = call.arguments
        own = EntryDeclaration(entry.section, entry.name, entry.formula, written_in=entry.written_in)
        node = self.template.lower_entry(own, given)
        main = self.template.graph
        if main.shape(node):
            raise FormulaError("a lag is one number", text=formula_text(entry.formula), span=given.span)
        if not self.template.depends(node):
            value = float(self.template.number(own, node, self.template.values, "a lag"))
            if value < 0.0:
                raise FormulaError(
                    f"a lag of {value:g} would look ahead", text=formula_text(entry.formula), span=given.span
                )
            if value == 0.0:
                return self.moment(entry, signal, lag)
            self.structural.append(node)
        share = main.apply("div", node, self.horizon.duration)
        if lag >= 0:
            share = main.apply("add", self.lag_nodes[lag], share)
        if self.is_built and share not in self.lag_nodes:
            raise FormulaError(
                "a delay that no rate uses stands in [signals]", text=formula_text(entry.formula), span=call.span
            )
        if share not in self.lag_nodes:
            self.lag_nodes.append(share)
        return self.moment(entry, signal, self.lag_nodes.index(share))

    def _whole(self, node: int) -> int | None:
        """Return the whole number that a node of the moment gives, or None."""
        if self.graph.shape(node) or self.graph.variables_of([node]):
            return None
        still = [
            interpret(self.template.graph, [main], (), self.template.values).values[0] for main in self.still_nodes
        ]
        value = interpret(self.graph, [node], (), still).values[0]
        if not math.isfinite(value) or abs(value - round(value)) > 1e-9 * max(abs(value), 1.0):
            return None
        for number in self.graph.reachable([node]):
            item = self.graph.nodes[number]
            if item.operation == "parameter":
                self.structural.append(self.still_nodes[item.index])
        found: int = round(float(value))
        return found

    def is_chosen_here(self, node: int) -> bool:
        """Return whether a control that is chosen at every moment changes a node of the moment."""
        pointwise = {name for name, item in self.control_declarations.items() if item.form == "pointwise"}
        own = {self.control_places[name] for name in pointwise if name in self.control_places}
        inputs = [self.inputs[number] for number in self.graph.variables_of([node])]
        return any(item.of in own and item.kind in ("value", "low", "high") for item in inputs)

    def slope(self, node: int) -> int | None:
        """Return the moment's node of the derivative of a node by the share of the time; None where that is not had: of
        what was some time ago."""
        graph = self.graph
        seeds: dict[int, int] = {0: graph.constant(1.0)}
        for number in sorted(graph.variables_of([node])):
            item = self.inputs[number]
            if item.lag >= 0:
                return None
            if item.kind == "state":
                rate = self.states[item.of].rate
                if rate is not None:
                    if any(self.inputs[k].lag >= 0 for k in graph.variables_of([rate])):
                        return None
                    seeds[number] = rate
            elif item.kind == "theta":
                seeds[number] = graph.constant(float(self.controls[item.of].pieces))
        found = tangents(graph, [node], seeds)[0]
        return found if found is not None else graph.stretched(graph.constant(0.0), graph.shape(node))

    def jumps_at_ends(self, node: int) -> bool:
        """Return whether something over time may jump at an end of a piece or at a sample."""
        for number in self.graph.variables_of([node]):
            item = self.inputs[number]
            if item.kind == "value" or (item.kind == "state" and self.states[item.of].rate is None):
                return True
        return False
