"""What evolves over time, as part of a problem: the formulas of one moment, the call that simulates them, and names
over time written out at the moments of the grid.

An axis is one time with all that evolves along it: a graph of one moment, whose inputs are the share of the time that
has passed, the states, the controls, and values that no time changes; and one call in the problem's graph, which is
given what the design decides and tells the states at its probes' moments (see `dynamics`). Cases that change what
evolves have an axis each.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any, NoReturn

import numpy as np
from numpy.typing import NDArray

from ilvren.dynamics import Control, Evolution, Input, Probe, Simulation, State
from ilvren.errors import FormulaError
from ilvren.formula import (
    TIME_FUNCTIONS,
    Call,
    Graph,
    Name,
    Node,
    Shape,
    interpret,
    lower,
    names_in,
    rebuilt,
    shape_text,
    shaping,
    tangents,
)
from ilvren.problem.entries import EntryDeclaration, Value, formula_text
from ilvren.problem.spreading import Spread
from ilvren.problem.texts import calls_of_time
from ilvren.problem.time_declarations import DEFAULT_STEPS, ControlDeclaration, StateDeclaration, TimeDeclaration
from ilvren.problem.time_measures import Measures
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.problem.template import Template

__all__ = ["Axis", "Moments"]

FloatArray = NDArray[np.float64]

MOST_STEPS = 20_000
# Moments nearer than this share of the time are one.
SAME = 1e-9


@dataclass(frozen=True)
class Moments:
    """Moments at which something over time is written out: the probe that tells the states there, the node of the times
    (count,), and the shares of the time where these are fixed."""

    probe: int
    times: int
    count: int
    taus: tuple[float, ...] = ()
    is_left: tuple[bool, ...] = ()


class Axis:
    """One time and what evolves along it; `case` names the case it belongs to, "" for all."""

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
        self.key = "[time]" if not case else f"[time]@{case}"
        self.suffix = f"@{case}" if case else ""
        self.t_name = f"t{self.suffix}"
        self.state_declarations = list(states)
        self.control_declarations = {item.name: item for item in controls}
        self.signals = {item.name: item for item in signals}
        self.state_names = {item.name: k for k, item in enumerate(states)}
        self.trees = {name: template.parse(item) for name, item in self.signals.items()}
        self.index = -1
        self.is_built = False
        # Of the moment's graph.
        self.graph = Graph()
        self.inputs: list[Input] = []
        self.still_nodes: list[int] = []  # the problem's nodes of its parameters
        self.outer_nodes: list[int] = []  # and of its outer values
        self._still_places: dict[int, int] = {}
        self._outer_places: dict[int, int] = {}
        self._input_nodes: dict[tuple[str, int, int], int] = {}
        self.names: dict[tuple[str, int], int] = {}
        self._open: list[str] = []
        # Of linear blocks: state, denominator, numerator, what it takes.
        self.transfers: dict[str, tuple[int, list[int], list[int], EntryDeclaration]] = {}
        self._blocks: dict[str, tuple[list[int], list[int]]] = {}  # their coefficients as nodes of the problem
        self.calls: dict[tuple[str, int], dict[str, int]] = {}  # of models that rates call
        self.lag_nodes: list[int] = []
        self.states: list[State] = []
        self.first_nodes: list[int] = []
        self.controls: list[Control] = []
        self.control_places: dict[str, int] = {}
        self.probes: list[Probe] = []
        self.moving_nodes: list[int] = []  # times of moving probes, as shares
        self.integrals: dict[int, int] = {}  # node of the moment → state
        self._moments: dict[tuple[object, ...], Moments] = {}
        self._spreads: dict[tuple[int, int], Spread] = {}
        self.structural: list[int] = []  # nodes whose values decide the grid
        self.entry: EntryDeclaration = EntryDeclaration("time", "to", "")

    @property
    def default_steps(self) -> int:
        """Return how many intervals there are to begin with where the file does not say."""
        return DEFAULT_STEPS

    @property
    def pointwise(self) -> frozenset[str]:
        """Return the names of the controls whose values stand at moments that the axis finds."""
        return frozenset()

    def bounds_of(self, state: StateDeclaration) -> bool:
        """Take a state's bounds as those of unknowns, where its states are such; return whether they are."""
        return False

    def obstacle(self) -> str:
        """Return why states of this file cannot be unknowns on a grid, "" where they can."""
        for state in self.state_declarations:
            if state.next is not None:
                return f'"{state.name}" changes at samples'
        if self.calls:
            return f'the model "{next(iter(self.calls))[0]}" stands in a rate'
        if any(self.template.depends(lag) for lag in self.lag_nodes):
            return "how long a delay is depends on the design or on a free end"
        if self.moving_nodes:
            return "a moment at which something is asked for depends on the design or on a free end"
        return ""

    # ---- names ------------------------------------------------------------------------------------

    def is_over_time(self, name: str) -> bool:
        """Return whether a name changes over time by itself: a state, a control, a signal, or the time."""
        return (
            name in self.state_names or name in self.control_declarations or name in self.signals or name == self.t_name
        )

    def free_names(self, tree: Node) -> list[str]:
        """Return the names a tree uses outside functions of time."""
        found: list[str] = []
        waiting = [tree]
        while waiting:
            node = waiting.pop()
            if isinstance(node, Name):
                found.append(node.name)
            elif isinstance(node, Call) and node.function in TIME_FUNCTIONS and node.function != "delayed":
                waiting.extend(reversed(node.arguments[1:]))
            else:
                from ilvren.formula import children

                waiting.extend(reversed(children(node)))
        return found

    def own_trees(self) -> list[Node]:
        """Return the trees of all that says how the states evolve and when: what must be built before the call."""
        parse, found = self.template.parse, list[Node]()

        def add(section: str, name: str, value: Value | None) -> None:
            for item in _texts(value):
                found.append(parse(EntryDeclaration(section, name, item)))

        for key in ("begin", "end", "steps", "at"):
            add("time", key, getattr(self.time, key))
        for state in self.state_declarations:
            for key in ("rate", "next", "every", "initial", "shape", "magnitude"):
                add("states", state.name, getattr(state, key))
            if state.transfer is not None:
                add("states", state.name, (state.transfer.of, *state.transfer.numerator, *state.transfer.denominator))
        for control in self.control_declarations.values():
            for key in ("pieces", "shape", "before"):
                add("controls", control.name, getattr(control, key))
        return found

    # ---- building ---------------------------------------------------------------------------------

    def build(self, trees: Sequence[tuple[EntryDeclaration, Node]]) -> None:
        """Make the moment's graph and the call. `trees` are all formulas of the problem: what functions of time they
        take decides which integrals evolve, too, and which moments are told."""
        template = self.template
        self.entry = EntryDeclaration("time", "to", formula_text(self.time.end if self.time.end is not None else "at"))
        self._horizon()
        self._input("tau", 0, ())
        self.tau = self._input_nodes["tau", 0, -1]
        graph = self.graph
        begin, duration = self.outer(self.begin), self.outer(self.duration)
        self.names[self.t_name, -1] = graph.apply("add", begin, graph.apply("mul", self.tau, duration))
        self.duration_node = duration
        for k, state in enumerate(self.state_declarations):
            self._declare(k, state)
        for state in self.state_declarations:
            if state.transfer is not None:
                self._declare_transfer(state)
        rates = [self._rate(state) for state in self.state_declarations]
        self.states = [replace(old, **new) for old, new in zip(self.states, rates, strict=True)]
        for control in self.control_declarations.values():
            self._control_place(control.name)
        moving: list[Node] = []
        for entry, tree in trees:
            try:
                self._collect(entry, tree, moving)
            except FormulaError as error:
                template.fail_at(entry, error)
        self._grid()
        self._arrange()
        self.is_built = True

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

    def _horizon(self) -> None:
        template, graph, time = self.template, self.template.graph, self.time
        self.at_node: int | None = None
        if time.at is not None:
            self.at_node = self.main("time", "at", time.at)
            if len(graph.shape(self.at_node)) != 1 or graph.shape(self.at_node)[0] < 2:
                self.fail(
                    "time",
                    "at",
                    f'"at" takes a vector of two moments or more, not {shape_text(graph.shape(self.at_node))}',
                    time.at,
                )
            if template.depends(self.at_node):
                self.fail("time", "at", "the moments may not depend on a variable", time.at)
            moments = np.asarray(template.number(self.entry, self.at_node, template.values, '"at"'))
            if not (np.diff(moments) > 0.0).all():
                self.fail("time", "at", "the moments must grow from one to the next", time.at)
            self.structural.append(self.at_node)
        ends = []
        for key, value, place in (("from", time.begin, 0), ("to", time.end, -1)):
            if value is None and key == "from" and self.at_node is None:
                value = 0.0
            if value is None:
                assert self.at_node is not None
                n = graph.shape(self.at_node)[0]
                node = shaping.index(graph, self.at_node, (place % n,))
            else:
                node = self.main("time", key, value)
            if graph.shape(node):
                self.fail("time", key, f"a time is one number, not {shape_text(graph.shape(node))}", value)
            ends.append(node)
        self.begin = ends[0]
        if template.depends(self.begin):
            self.fail("time", "from", "when it begins may not depend on a variable", time.begin)
        self.is_free_end = template.depends(ends[1])
        self.duration = graph.apply("sub", ends[1], ends[0])
        self.begin_value = float(template.number(self.entry, self.begin, template.values, '"from"'))
        self.duration_value = math.nan
        if not self.is_free_end:
            self.duration_value = (
                float(template.number(self.entry, ends[1], template.values, '"to"')) - self.begin_value
            )
            if not self.duration_value > 0.0:
                self.fail(
                    "time", "to", f"the time ends before it begins: it lasts {self.duration_value:g}", self.time.end
                )

    def _input(self, kind: str, of: int, shape: Shape, lag: int = -1) -> int:
        key = (kind, of, lag)
        if key not in self._input_nodes:
            self._input_nodes[key] = self.graph.variable(len(self.inputs), shape)
            self.inputs.append(Input(kind, of, shape, lag))
        return self._input_nodes[key]

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
        if main not in self._outer_places:
            if self.is_built:
                # What only measures use is no part of what evolves: it is a value beside.
                self._outer_places[main] = -1 - len(self._outer_places)
            else:
                self._outer_places[main] = len(self.outer_nodes)
                self.outer_nodes.append(main)
        return self._input("outer", self._outer_places[main], node.shape)

    def _declare(self, number: int, state: StateDeclaration) -> None:
        template = self.template
        entry = EntryDeclaration("states", state.name, "")
        shape: Shape = ()
        if state.transfer is not None:
            shape = (len(state.transfer.denominator) - 1,)
        elif state.shape is not None:
            shape = template.shape_of(entry, f"{state.name}.shape", state.shape)
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
        node = self._input("state", number, shape)
        if state.transfer is None:
            self.names[state.name, -1] = node

    def _rate(self, state: StateDeclaration) -> dict[str, Any]:
        graph, k = self.graph, self.state_names[state.name]
        shape = self.states[k].shape
        if state.transfer is not None:
            return self._transfer(state)
        if state.initial is not None:
            first = self.main("states", state.name, state.initial)
            own = self.template.graph.shape(first)
            if own and not shape:
                shape = own
            if own not in ((), shape):
                self.fail(
                    "states", state.name, f"starts with {shape_text(own)}, and is {shape_text(shape)}", state.initial
                )
            first = self.template.graph.stretched(first, shape)
        else:
            first = self.template.nodes[f"{state.name}.first"]
        self.first_nodes.append(first)
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
        assert state.every is not None
        every = self.main("states", state.name, state.every)
        if self.template.depends(every) or self.template.graph.shape(every):
            self.fail("states", state.name, '"every" is one number that no variable changes', state.every)
        value = float(self.template.number(entry, every, self.template.values, '"every"'))
        if not value > 0.0:
            self.fail("states", state.name, f"samples are {value:g} apart: a time above 0 is needed", state.every)
        if self.is_free_end:
            self.fail("states", state.name, "a sampled state needs a fixed end of the time", state.every)
        if self.duration_value / value > MOST_STEPS:
            self.fail(
                "states",
                state.name,
                f"{self.duration_value / value:.3g} samples are more than this tool takes",
                state.every,
            )
        self.structural.append(every)
        return {"next": node, "every": value}

    def _declare_transfer(self, state: StateDeclaration) -> None:
        """Take in a linear block: x_i' = x_{i+1}, x_n' = u − Σ a_i x_i, output Σ (b_i − a_i b_n) x_i + b_n u. Where b_n
        is 0 the output needs its states alone, so that u may depend on it."""
        transfer, template, k = state.transfer, self.template, self.state_names[state.name]
        assert transfer is not None
        n = len(transfer.denominator) - 1
        a_main = [self.main("states", state.name, item) for item in transfer.denominator[::-1]]
        b_main = [self.main("states", state.name, item) for item in transfer.numerator[::-1]]
        main = template.graph
        top = a_main[-1]
        a_main = [main.apply("div", item, top) for item in a_main]
        b_main = [main.apply("div", item, top) for item in b_main] + [main.constant(0.0)] * (n + 1 - len(b_main))
        a, b = [self.outer(item) for item in a_main], [self.outer(item) for item in b_main]
        self.transfers[state.name] = (k, a, b, EntryDeclaration("states", state.name, transfer.of))
        self._blocks[state.name] = (a_main, b_main)
        if main.is_constant(b_main[-1], 0.0):
            x = self._input_nodes["state", k, -1]
            parts = [shaping.index(self.graph, x, (i,)) for i in range(n)]
            self.names[state.name, -1] = self._output(parts, a, b, None)

    def _transfer(self, state: StateDeclaration) -> dict[str, Any]:
        """Return the rates of a linear block, and what else a state is made of."""
        transfer, graph, template, main = state.transfer, self.graph, self.template, self.template.graph
        assert transfer is not None
        k, a, b, entry = self.transfers[state.name]
        _, b_main = self._blocks[state.name]
        n = len(a) - 1
        self._open.append(state.name)
        u = self.moment(entry, template.parse(entry))
        self._open.pop()
        if graph.shape(u):
            self.fail("states", state.name, "a linear block takes one number at every moment", transfer.of)
        x = self._input_nodes["state", k, -1]
        parts = [shaping.index(graph, x, (i,)) for i in range(n)]
        last = u
        for i in range(n):
            last = graph.apply("sub", last, graph.apply("mul", a[i], parts[i]))
        rate = shaping.join(graph, (*parts[1:], last))
        self.names.setdefault((state.name, -1), self._output(parts, a, b, u))
        zero = main.constant(0.0)
        first = [zero] * n
        if state.initial is not None:
            level = self.main("states", state.name, state.initial)
            if main.shape(level):
                self.fail("states", state.name, "a linear block begins with one number", state.initial)
            if main.is_constant(b_main[0], 0.0):
                self.fail(
                    "states",
                    state.name,
                    "its numerator ends with 0: at rest its output is 0, and can be nothing else",
                    state.initial,
                )
            first[0] = main.apply("div", level, b_main[0])
        self.first_nodes.append(shaping.join(main, tuple(first)))
        return {"rate": graph.apply("mul", self.duration_node, rate)}

    def _output(self, x: Sequence[int], a: Sequence[int], b: Sequence[int], u: int | None) -> int:
        """Return a block's output; `u` None where it has no part in it."""
        graph, n = self.graph, len(x)
        result = graph.constant(0.0) if u is None else graph.apply("mul", b[n], u)
        for i in range(n):
            weight = graph.apply("sub", b[i], graph.apply("mul", a[i], b[n]))
            result = graph.apply("add", result, graph.apply("mul", weight, x[i]))
        return result

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

    # ---- formulas of a moment ---------------------------------------------------------------------

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
            self._open.append(name)
            self.names[key] = self.moment(own, tree, lag)
            self._open.pop()
            return self.names[key]
        if self.template.axis_of(name) is self and self.template.model_of(name):
            return self._model_output(entry, word, lag)
        found: int | None = None
        if name == self.t_name:
            sigma = self._input("sigma", 0, (), lag)
            found = self.graph.apply("add", self.outer(self.begin), self.graph.apply("mul", sigma, self.duration_node))
        elif name in self.transfers:
            k, a, b, of = self.transfers[name]
            x = self._input("state", k, self.states[k].shape, lag)
            parts = [shaping.index(self.graph, x, (i,)) for i in range(self.states[k].shape[0])]
            has_part = not self.template.graph.is_constant(self._blocks[name][1][-1], 0.0)
            if has_part and name in self._open:  # its output is on the way
                self.template.fail(entry, f'"{name}" feeds itself without a delay or a state between', span=word.span,
                                   text=formula_text(entry.formula))  # fmt: skip
            if has_part:
                self._open.append(name)
            found = self._output(parts, a, b, self.moment(of, self.template.parse(of), lag) if has_part else None)
            if has_part:
                self._open.pop()
        elif name in self.state_names:
            k = self.state_names[name]
            found = self._input("state", k, self.states[k].shape, lag)
        elif name in self.control_declarations:
            found = self._control(name, lag)
        if found is not None:
            self.names[key] = found
            return found
        return self.outer(self.template.resolved(entry, word))

    def _model_output(self, entry: EntryDeclaration, word: Name, lag: int) -> int:
        """Return the moment's node of an output of a model that is called at every moment."""
        from ilvren.problem.model_entries import model_source

        template = self.template
        model = template.model_of(word.name)
        if (model, lag) not in self.calls:
            if model in self._open:
                self.template.fail(entry, f"the value needs itself: {model}")
            self._open.append(model)
            nodes = [self.moment(own, template.parse(own), lag) for own in template.inputs[model].values()]
            self._open.pop()
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
            return self._input("value", place, control.shape, lag)
        low = self._input("low", place, control.shape, lag)
        high = self._input("high", place, control.shape, lag)
        theta = self._input("theta", place, (), lag)
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
        share = main.apply("div", node, self.duration)
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

    # ---- integrals and probes ---------------------------------------------------------------------

    def _collect(self, entry: EntryDeclaration, tree: Node, moving: list[Node]) -> None:
        """Add what the functions of time in a formula need to evolve or to be told."""
        for call in calls_of_time(tree):
            if not self.takes(call):
                continue
            if call.function in ("integral", "average"):
                self._integral(entry, call.arguments[0])
            elif call.function == "at":
                self.at_moments(entry, call)
            elif call.function == "delayed":
                self.moment(entry, call)
            for argument in call.arguments:
                self._collect(entry, argument, moving)

    def takes(self, call: Call) -> bool:
        """Return whether a function of time is about something of this axis."""
        names = [word.name for argument in call.arguments[:1] for word in names_in(argument)]
        return self in self.template.axes_of(names)

    def _integral(self, entry: EntryDeclaration, tree: Node) -> int:
        """Return the state that adds up a formula over the time."""
        node = self.moment(entry, tree)
        if node not in self.integrals:
            graph, shape = self.graph, self.graph.shape(node)
            self.integrals[node] = len(self.states)
            name = f"the integral in {entry.name}"
            self.states.append(State(name, shape, graph.apply("mul", self.duration_node, node)))
            self._input("state", len(self.states) - 1, shape)
            self.first_nodes.append(self.template.graph.stretched(self.template.graph.constant(0.0), shape))
        return self.integrals[node]

    def integral(self, entry: EntryDeclaration, tree: Node) -> int:
        """Return the problem's node of the integral of a formula."""
        node = self.moment(entry, tree)
        state = self.integrals[node]
        end = self.ends[1]
        shape = self.states[state].shape
        told = self.output(end.probe, state)
        return shaping.index(self.template.graph, told, (0, *((0, n, 1) for n in shape)))

    def at_moments(self, entry: EntryDeclaration, call: Call) -> Moments:
        """Return the moments of at(s, when)."""
        template = self.template
        when = template.lower_entry(entry, call.arguments[1])
        shape = template.graph.shape(when)
        if len(shape) > 1:
            raise template.complaint(entry, "moments are one number or a vector", call.arguments[1])
        key = ("at", when)
        if key in self._moments:
            return self._moments[key]
        count = shape[0] if shape else 1
        if template.depends(when) or self.is_free_end:
            main = template.graph
            share = main.apply("div", main.apply("sub", when, self.begin), self.duration)
            place = len(self.moving_nodes)
            self.moving_nodes.append(share)
            times = when if shape else shaping.join(main, (when,))
            self.probes.append(Probe(moving=place, count=count))
            self._moments[key] = Moments(len(self.probes) - 1, times, count)
            return self._moments[key]
        values = np.atleast_1d(np.asarray(template.number(entry, when, template.values, "a moment"), dtype=float))
        taus = (values - self.begin_value) / self.duration_value
        if (taus < -SAME).any() or (taus > 1.0 + SAME).any():
            bad = float(values[(taus < -SAME) | (taus > 1.0 + SAME)][0])
            end = self.begin_value + self.duration_value
            raise template.complaint(
                entry, f"the moment {bad:.12g} lies outside the time, which goes from {self.begin_value:g} to {end:g}",
                call.arguments[1],
            )  # fmt: skip
        self.structural.append(when)
        taus = np.clip(taus, 0.0, 1.0)
        self._moments[key] = self.fixed_moments(key, taus, taus >= 1.0)
        return self._moments[key]

    def fixed_moments(self, key: tuple[object, ...], taus: FloatArray, is_left: NDArray[np.bool_]) -> Moments:
        """Return moments at fixed shares of the time, from the left where `is_left`."""
        if key not in self._moments:
            main = self.template.graph
            own = self.template.data(f"{self.key} {len(self._moments)}", taus)
            times = main.apply("add", self.begin, main.apply("mul", own, self.duration))
            self.probes.append(Probe(tuple(taus.tolist()), tuple(is_left.tolist())))
            self._moments[key] = Moments(
                len(self.probes) - 1, times, len(taus), tuple(taus.tolist()), tuple(is_left.tolist())
            )
        return self._moments[key]

    def _grid(self) -> None:
        """Choose the moments at which what is over time is looked at."""
        template, time = self.template, self.time
        parts: list[FloatArray] = [np.array([0.0, 1.0]), np.array(time.more)]
        if self.at_node is not None:
            moments = np.asarray(template.number(self.entry, self.at_node, template.values, '"at"'))
            if self.is_free_end:
                self.fail("time", "at", "the moments of a free end are shares of the time: write steps", time.at)
            taus = (moments - self.begin_value) / self.duration_value
            parts.append(taus[(taus >= 0.0) & (taus <= 1.0)])
        elif not time.grid:
            steps = self.default_steps
            if time.steps is not None:
                node = self.main("time", "steps", time.steps)
                whole = template.whole(node)
                if whole is None or not 1 <= whole <= MOST_STEPS:
                    self.fail(
                        "time",
                        "steps",
                        f"a whole number of intervals from 1 to {MOST_STEPS} is needed, known before any run",
                        time.steps,
                    )
                steps = whole
            parts.append(np.linspace(0.0, 1.0, steps + 1))
        required = len(parts) if self.at_node is None else 0
        jumps: list[FloatArray] = [np.zeros(0)]
        for control in self.controls:
            ends = np.arange(control.pieces + 1) / control.pieces
            parts.append(ends)
            if not control.is_linear:
                jumps.append(ends[1:-1])
        for state in self.states:
            if state.every is not None:
                count = math.ceil(self.duration_value / state.every * (1.0 - 1e-12))
                taus = np.arange(count) * state.every / self.duration_value
                parts.append(taus)
                jumps.append(taus[1:])
        if not self.is_free_end:
            parts.append(self._knots())
            for probe in self.probes:
                if probe.moving < 0:
                    parts.append(np.asarray(probe.taus))
            lags = [node for node in self.lag_nodes if not template.depends(node)]
            for node in lags:
                lag = float(template.number(self.entry, node, template.values, "a lag"))
                if 0.0 < lag < 1.0:
                    later = np.concatenate([np.array([lag]), *[own + lag for own in jumps]])
                    parts.append(later[later < 1.0])
        self.required = _merged(np.concatenate([parts[0], *parts[required:]]))
        if time.grid:
            parts.append(np.array(time.grid))
        self.taus = np.array(time.grid) if time.is_fixed else _merged(np.concatenate(parts))
        self.jump_taus = np.unique(np.concatenate(jumps))
        is_last = self.taus >= 1.0
        self.grid = self.fixed_moments(("grid",), self.taus, is_last)
        self.ends = (
            self.fixed_moments(("first",), np.array([0.0]), np.array([False])),
            self.fixed_moments(("last",), np.array([1.0]), np.array([True])),
        )
        at_jump = np.array([bool((np.abs(self.jump_taus - tau) <= SAME).any()) for tau in self.taus.tolist()])
        order = [
            (float(tau), side)
            for tau, jump in zip(self.taus, at_jump, strict=True)
            for side in ((True, False) if jump else (False,))
        ]
        taus, sides = np.array([tau for tau, _ in order]), np.array([side for _, side in order])
        sides = sides | (taus >= 1.0)
        self.sides = self.fixed_moments(("sides",), taus, sides) if at_jump.any() else self.grid
        if at_jump.any():
            self.lefts = self.fixed_moments(("lefts",), self.taus[1:], np.ones(len(self.taus) - 1, dtype=bool))
        else:
            self.lefts = self.grid

    def has_same_moments(self, values: list[Any]) -> bool:
        """Return whether other values of the parameters leave the grid as it is, in shares of the time: it lasts as
        long, and where it begins elsewhere no fixed moment moves against it."""
        template = self.template
        begin = float(template.number(self.entry, self.begin, values, '"from"'))
        if self.is_free_end:
            return begin == self.begin_value
        duration = float(template.number(self.entry, self.duration, values, '"to"'))
        if begin == self.begin_value and duration == self.duration_value:
            return True
        if abs(duration - self.duration_value) > SAME * self.duration_value or self.at_node is not None:
            return False
        if any(isinstance(key, tuple) and key[:1] == ("at",) for key in self._moments):
            return False
        here, there = self._knots(), self._knots(values, begin)
        return len(here) == len(there) and bool(np.allclose(here, there, rtol=0.0, atol=SAME))

    def _knots(self, values: list[Any] | None = None, begin: float | None = None) -> FloatArray:
        """Return the knots of tables that are read at the time itself, as shares; of other parameters, where given."""
        numbers = self.template.values if values is None else values
        first = self.begin_value if begin is None else begin
        found = [np.zeros(0)]
        times = {self.names[self.t_name, -1]}
        for node in self.graph.nodes:
            if node.operation == "interp" and node.operands[0] in times:
                xs = self.graph.nodes[node.operands[1]]
                if xs.operation == "parameter":
                    main = self.still_nodes[xs.index]
                    moments = np.asarray(self.template.number(self.entry, main, numbers, "a table's moments"))
                    taus = (moments - first) / self.duration_value
                    found.append(taus[(taus > SAME) & (taus < 1.0 - SAME)])
                    if values is None and main not in self.structural:
                        self.structural.append(main)
        knots = np.concatenate(found)
        return knots if len(knots) <= MOST_STEPS else np.zeros(0)

    def _arrange(self) -> None:
        """Add the call to the problem's graph."""
        template, main = self.template, self.template.graph
        self.index = -1 - len(template.built_axes)
        self._tell_moving_lags()
        pieces = [template.nodes[control.name] for control in self.controls]
        self.operands = (
            *self.outer_nodes,
            *pieces,
            *self.first_nodes,
            *self.lag_nodes,
            *self.moving_nodes,
            self.begin,
            self.duration,
        )
        self.call = main.arrange("call", self.operands, (), None, self.index)
        self.evolving = tuple(self.inputs)  # inputs that are added later are of measures alone
        for control in self.controls:
            declared = self.control_declarations[control.name]
            if declared.before is not None:
                self.main("controls", control.name, declared.before)

    def evolution(self) -> Evolution:
        """Return what evolves, with all probes that were asked for."""
        return Evolution(
            graph=self.graph,
            inputs=self.evolving,
            states=tuple(self.states),
            controls=tuple(self.controls),
            outers=tuple(self.template.graph.shape(node) for node in self.outer_nodes),
            lag_count=len(self.lag_nodes),
            probes=tuple(self.probes),
            grid=tuple(self.taus.tolist()),
            tolerance=self.template.declarations.time_tolerance,
            tighter=self.template.declarations.time_tighter,
        )

    def simulation(self, values: Sequence[Any], anchor: Sequence[Any] | None) -> Simulation:
        """Return the simulation for values of the parameters; its mesh is chosen along the design `anchor`, given by
        blocks."""
        main = self.template.graph
        still = [np.asarray(interpret(main, [node], (), values).values[0]) for node in self.still_nodes]
        shapes = [main.shape(node) for node in self.operands]
        is_moving = [self.template.depends(node) for node in self.operands]
        begun = None
        if anchor is not None and not any(main.nodes[k].operation == "call" for k in main.reachable(self.operands)):
            begun = [np.asarray(value) for value in interpret(main, self.operands, anchor, values).values]
        return Simulation(self.evolution(), still, shapes, is_moving, begun, self.time.unit)

    # ---- written out at moments -------------------------------------------------------------------

    def output(self, probe: int, state: int) -> int:
        """Return the problem's node of a state at the moments of a probe."""
        own = self.probes[probe]
        count = own.count if own.moving >= 0 else len(own.taus)
        shape = (count, *self.states[state].shape)
        return self.template.graph.arrange("output", (self.call,), shape, (probe * len(self.states) + state,))

    def spread(self, node: int, moments: Moments) -> int:
        """Return a node of the moment written out at moments (count, *shape)."""
        key = (moments.probe, moments.times)
        if key not in self._spreads:
            self._spreads[key] = Spread(
                self.graph,
                self.template.graph,
                moments.count,
                lambda number: self._told(number, moments),
                dict(enumerate(self.still_nodes)),
            )
        spread = self._spreads[key]
        for place, main in enumerate(self.still_nodes):
            spread.still[place] = main
        return spread.node(node)

    def _told(self, number: int, moments: Moments) -> tuple[int, bool]:
        """Return the problem's node of an input of the moment at moments, and whether it changes from one to
        another."""
        item, main = self.inputs[number], self.template.graph
        if item.kind == "outer":
            return next(node for node, place in self._outer_places.items() if place == item.of), False
        if item.lag >= 0:
            return self._told_earlier(item, moments)
        match item.kind:
            case "tau":
                share = main.apply("div", main.apply("sub", moments.times, self.begin), self.duration)
                return share, True
            case "state":
                return self.output(moments.probe, item.of), True
        return self._told_control(item, moments), True

    def _told_earlier(self, item: Input, moments: Moments) -> tuple[int, bool]:
        main, lag = self.template.graph, self.lag_nodes[item.lag]
        share = main.apply("div", main.apply("sub", moments.times, self.begin), self.duration)
        earlier = main.apply("max", main.apply("sub", share, lag), main.constant(0.0))
        if item.kind == "sigma":
            return earlier, True
        return self._told(self._input_number(replace(item, lag=-1)), self._earlier(moments, item.lag, earlier))

    def _earlier(self, moments: Moments, number: int, earlier: int) -> Moments:
        """Return the moments some time before others, at shares `earlier` (a node)."""
        template, lag = self.template, self.lag_nodes[number]
        key = ("earlier", moments.probe, number)
        if key in self._moments:
            return self._moments[key]
        if not template.depends(lag) and moments.taus:
            before = np.array(moments.taus) - float(template.number(self.entry, lag, template.values, "a lag"))
            return self.fixed_moments(key, np.maximum(before, 0.0), np.array(moments.is_left) & (before > 0.0))
        if self.is_built:
            raise template.complaint(
                self.entry, "what was some while ago, as the design decides, is told on the grid only", None
            )
        main = template.graph
        self.moving_nodes.append(earlier)
        self.probes.append(Probe(moving=len(self.moving_nodes) - 1, count=moments.count))
        times = main.apply("add", self.begin, main.apply("mul", earlier, self.duration))
        self._moments[key] = Moments(len(self.probes) - 1, times, moments.count)
        return self._moments[key]

    def _tell_moving_lags(self) -> None:
        """Let what was some while ago, where the design decides how long, be told along the grid."""
        main = self.template.graph
        for number, lag in enumerate(self.lag_nodes):
            if not self.template.depends(lag):
                continue
            for moments in {id(item): item for item in (self.grid, self.sides, self.lefts, *self.ends)}.values():
                share = main.apply("div", main.apply("sub", moments.times, self.begin), self.duration)
                self._earlier(moments, number, main.apply("max", main.apply("sub", share, lag), main.constant(0.0)))

    def _input_number(self, item: Input) -> int:
        return self.graph.nodes[self._input(item.kind, item.of, item.shape, item.lag)].index

    def _told_control(self, item: Input, moments: Moments) -> int:
        control, main, template = self.controls[item.of], self.template.graph, self.template
        pieces = template.nodes[control.name]
        if not moments.taus:
            raise template.complaint(self.entry, "a control is told at fixed moments only", None)
        taus = np.array(moments.taus)
        inside = taus + np.where(moments.is_left, -SAME, SAME)
        place = np.clip(np.floor(inside * control.pieces), 0, control.pieces - 1)
        if item.kind == "theta":
            return template.data(f"theta {control.name} {moments.probe}", taus * control.pieces - place)
        wanted = (place + (item.kind == "high")).astype(np.int64)
        return shaping.take(main, pieces, tuple(wanted.tolist()))

    def is_chosen_here(self, node: int) -> bool:
        """Return whether a control that is chosen at every moment changes a node of the moment."""
        pointwise = {name for name, item in self.control_declarations.items() if item.form == "pointwise"}
        own = {self.control_places[name] for name in pointwise if name in self.control_places}
        inputs = [self.inputs[number] for number in self.graph.variables_of([node])]
        return any(item.of in own and item.kind in ("value", "low", "high") for item in inputs)

    def refuse_equation(self, nodes: Sequence[int]) -> str:
        """Return why an equation that holds at every moment cannot be met, "" where it can: it must give a control that
        is chosen at every moment, or it would have to be differentiated first."""
        if any(self.is_chosen_here(node) for node in nodes):
            return ""
        kinds = {self.inputs[k].kind for node in nodes for k in self.graph.variables_of([node])}
        if "state" not in kinds:
            return "an equation at every moment asks for a control that is chosen at every moment"
        return "it says nothing of a control chosen at every moment: it would have to be differentiated (index above 1)"

    def row_moments(self, nodes: Sequence[int], *, is_equation: bool) -> Moments:
        """Return the moments at which a limit on nodes of the moment has rows."""
        return self.sides if any(self.jumps_at_ends(node) for node in nodes) else self.grid

    def shares_of(self, times: FloatArray) -> FloatArray:
        """Return times of the grid, some of them twice, as shares of the time (of a free end by their place)."""
        if not self.is_free_end:
            return np.asarray((times - self.begin_value) / self.duration_value)
        span = times[-1] - times[0] if len(times) > 1 else 1.0
        return np.asarray((times - times[0]) / (span or 1.0))

    def time_at(self, tau: float, point: Sequence[float], problem: Any) -> float:
        """Return the time at a share of it, for a full design."""
        begin, duration = problem.entry_values([self.begin, self.duration], point).values
        return float(begin) + tau * float(duration)

    def told(self) -> list[tuple[str, str, int]]:
        """Return (name, unit, node over the moments of the grid, those at jumps twice) of the time and all over it."""
        template = self.template
        found = [(self.t_name, self.time.unit, self.sides.times)]
        units = {state.name: state.unit for state in self.state_declarations}
        units |= {control.name: control.unit for control in self.control_declarations.values()}
        units |= {name: entry.unit for name, entry in self.signals.items()}
        units |= {entry.name: entry.unit for entry in template.declarations.derived}
        names = [*self.state_names, *self.control_declarations, *self.signals, *template.names_over_time(self)]
        for name in names:
            entry = EntryDeclaration("signals", name, name)
            node = self.named(entry, Name(name, (0, len(name))), -1)
            try:
                found.append((name, units.get(name, ""), self.spread(node, self.sides)))
            except FormulaError:  # a control some while ago, as the design decides: it has no value on the grid
                continue
        return found

    # ---- slopes over time -------------------------------------------------------------------------

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

    def measures(self) -> Measures:
        """Return what measures things over time on this axis."""
        return Measures(self)


def _merged(taus: FloatArray) -> FloatArray:
    taus = np.unique(np.clip(taus, 0.0, 1.0))
    kept = [taus[0]]
    for tau in taus[1:].tolist():
        if tau - kept[-1] > SAME:
            kept.append(tau)
    kept[-1] = 1.0
    return np.array(kept)


def _texts(value: Value | None) -> Iterator[str]:
    if isinstance(value, tuple):
        for item in value:
            yield from _texts(item)
    elif isinstance(value, str):
        yield value


# A function that makes nothing of a node but what is given for it.
Replace = Callable[[Node], Node | None]
