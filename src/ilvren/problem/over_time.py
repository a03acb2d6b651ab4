"""What evolves over time, as part of a problem: the formulas of one moment, the call that simulates them, and names
over time written out at the moments of the grid.

An axis is one time with all that evolves along it: a graph of one moment, whose inputs are the share of the time that
has passed, the states, the controls, and values that no time changes; and one call in the problem's graph, which is
given what the design decides and tells the states at its probes' moments (see `dynamics`). Cases that change what
evolves have an axis each.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.dynamics import Evolution, Input, Probe, Simulation, State
from ilvren.errors import FormulaError
from ilvren.formula import (
    TIME_FUNCTIONS,
    Call,
    Name,
    Node,
    interpret,
    names_in,
    shaping,
)
from ilvren.problem.entries import EntryDeclaration, Value
from ilvren.problem.one_moment import OneMoment
from ilvren.problem.spreading import Spread
from ilvren.problem.texts import calls_of_time
from ilvren.problem.time_declarations import DEFAULT_STEPS, StateDeclaration
from ilvren.problem.time_grid import SAME, has_same_moments, time_grid
from ilvren.problem.time_measures import Measures
from ilvren.records import dataclass

if TYPE_CHECKING:
    pass

__all__ = ["Axis", "Moments"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Moments:
    """Moments at which something over time is written out: the probe that tells the states there, the node of the times
    (count,), and the shares of the time where these are fixed."""

    probe: int
    times: int
    count: int
    taus: tuple[float, ...] = ()
    is_left: tuple[bool, ...] = ()


class Axis(OneMoment):
    """One time and what evolves along it; `case` names the case it belongs to, "" for all."""

    def __init__(self, *given: Any) -> None:
        super().__init__(*given)
        self.key = f"[time]{self.suffix}"
        self.index = -1
        self.probes: list[Probe] = []
        self.moving_nodes: list[int] = []  # times of moving probes, as shares
        self.integrals: dict[int, int] = {}  # node of the moment → state
        self._moments: dict[tuple[object, ...], Moments] = {}
        self._spreads: dict[tuple[int, int], Spread] = {}

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

    def build(self, trees: Sequence[tuple[EntryDeclaration, Node]]) -> None:
        """Make the moment's graph and the call. `trees` are all formulas of the problem: what functions of time they
        take decides which integrals evolve, too, and which moments are told."""
        template = self.template
        self.begin_moment()
        moving: list[Node] = []
        for entry, tree in trees:
            try:
                self._collect(entry, tree, moving)
            except FormulaError as error:
                template.fail_at(entry, error)
        self._grid()
        self._arrange()
        self.is_built = True

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
            self.input_node("state", len(self.states) - 1, shape)
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
        if template.depends(when) or self.horizon.is_free_end:
            main = template.graph
            share = main.apply("div", main.apply("sub", when, self.horizon.begin), self.horizon.duration)
            place = len(self.moving_nodes)
            self.moving_nodes.append(share)
            times = when if shape else shaping.join(main, (when,))
            self.probes.append(Probe(moving=place, count=count))
            self._moments[key] = Moments(len(self.probes) - 1, times, count)
            return self._moments[key]
        values = np.atleast_1d(np.asarray(template.number(entry, when, template.values, "a moment"), dtype=float))
        taus = (values - self.horizon.begin_value) / self.horizon.duration_value
        if (taus < -SAME).any() or (taus > 1.0 + SAME).any():
            bad = float(values[(taus < -SAME) | (taus > 1.0 + SAME)][0])
            end = self.horizon.begin_value + self.horizon.duration_value
            wrong = (
                f"the moment {bad:.12g} lies outside the time, which goes from {self.horizon.begin_value:g} to {end:g}"
            )
            raise template.complaint(entry, wrong, call.arguments[1])
        self.structural.append(when)
        taus = np.clip(taus, 0.0, 1.0)
        self._moments[key] = self.fixed_moments(key, taus, taus >= 1.0)
        return self._moments[key]

    def fixed_moments(self, key: tuple[object, ...], taus: FloatArray, is_left: NDArray[np.bool_]) -> Moments:
        """Return moments at fixed shares of the time, from the left where `is_left`. Both are (k,)."""
        if key not in self._moments:
            main = self.template.graph
            own = self.template.data(f"{self.key} {len(self._moments)}", taus)
            times = main.apply("add", self.horizon.begin, main.apply("mul", own, self.horizon.duration))
            self.probes.append(Probe(tuple(taus.tolist()), tuple(is_left.tolist())))
            self._moments[key] = Moments(
                len(self.probes) - 1, times, len(taus), tuple(taus.tolist()), tuple(is_left.tolist())
            )
        return self._moments[key]

    def _grid(self) -> None:
        """Choose the moments at which what is over time is looked at."""
        chosen = time_grid(self, [probe.taus for probe in self.probes if probe.moving < 0], self.default_steps)
        self.taus, self.required, self.jump_taus = chosen.taus, chosen.required, chosen.jumps
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
        """Return whether other values of the parameters leave the grid as it is."""
        are_fixed = any(key[:1] == ("at",) for key in self._moments)
        return has_same_moments(self, values, are_fixed=are_fixed)

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
            self.horizon.begin,
            self.horizon.duration,
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
            return next(node for node, place in self.outer_places.items() if place == item.of), False
        if item.lag >= 0:
            return self._told_earlier(item, moments)
        match item.kind:
            case "tau":
                share = main.apply("div", main.apply("sub", moments.times, self.horizon.begin), self.horizon.duration)
                return share, True
            case "state":
                return self.output(moments.probe, item.of), True
        return self._told_control(item, moments), True

    def _told_earlier(self, item: Input, moments: Moments) -> tuple[int, bool]:
        main, lag = self.template.graph, self.lag_nodes[item.lag]
        share = main.apply("div", main.apply("sub", moments.times, self.horizon.begin), self.horizon.duration)
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
        times = main.apply("add", self.horizon.begin, main.apply("mul", earlier, self.horizon.duration))
        self._moments[key] = Moments(len(self.probes) - 1, times, moments.count)
        return self._moments[key]

    def _tell_moving_lags(self) -> None:
        """Let what was some while ago, where the design decides how long, be told along the grid."""
        main = self.template.graph
        for number, lag in enumerate(self.lag_nodes):
            if not self.template.depends(lag):
                continue
            for moments in {id(item): item for item in (self.grid, self.sides, self.lefts, *self.ends)}.values():
                share = main.apply("div", main.apply("sub", moments.times, self.horizon.begin), self.horizon.duration)
                self._earlier(moments, number, main.apply("max", main.apply("sub", share, lag), main.constant(0.0)))

    def _input_number(self, item: Input) -> int:
        return self.graph.nodes[self.input_node(item.kind, item.of, item.shape, item.lag)].index

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
        """Return times of the grid, some of them twice, as shares of the time (of a free end by their place). Both are
        (k,)."""
        if not self.horizon.is_free_end:
            return np.asarray((times - self.horizon.begin_value) / self.horizon.duration_value)
        span = times[-1] - times[0] if len(times) > 1 else 1.0
        return np.asarray((times - times[0]) / (span or 1.0))

    def time_at(self, tau: float, point: Sequence[float], problem: Any) -> float:
        """Return the time at a share of it, for a full design."""
        begin, duration = problem.entry_values([self.horizon.begin, self.horizon.duration], point).values
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

    def measures(self) -> Measures:
        """Return what measures things over time on this axis."""
        return Measures(self)


def _texts(value: Value | None) -> Iterator[str]:
    if isinstance(value, tuple):
        for item in value:
            yield from _texts(item)
    elif isinstance(value, str):
        yield value
