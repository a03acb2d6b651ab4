"""What evolves over time as unknowns on a grid and equations between them: a problem of formulas alone.

Each interval of the grid has the points of a scheme (`dynamics.schemes`). The states there are unknowns of the problem,
behind its own variables; the scheme's equations are rows, behind its own constraints, an equation for each interval,
state and equation of the scheme. Rates of all points are asked for at once. Bounds of states are bounds of
the unknowns. A control that is chosen at every moment has its values at the points at which rates are asked for.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.dynamics import Control, State
from ilvren.dynamics.schemes import SCHEMES
from ilvren.formula import Graph, Node, Shape, shaping
from ilvren.problem.declared_shapes import shape_of
from ilvren.problem.entries import EntryDeclaration
from ilvren.problem.over_time import Axis, Moments
from ilvren.problem.template_parts import GridUnknown, OwnPoints, RowTemplate
from ilvren.problem.time_declarations import StateDeclaration
from ilvren.problem.time_grid import SAME

if TYPE_CHECKING:
    from ilvren.dynamics import Input

__all__ = ["CollocatedAxis"]

FloatArray = NDArray[np.float64]
Places = NDArray[np.int64]

# Intervals of a first grid of a scheme of high order.
FIRST_INTERVALS = 40


def located(taus: FloatArray, at: FloatArray, is_left: NDArray[np.bool_]) -> tuple[Places, FloatArray]:
    """Return the interval of a grid that each share of the time lies in, and its share of it. All are (k,)."""
    inside = at + np.where(is_left, -SAME, SAME)
    interval = np.clip(np.searchsorted(taus, inside, side="right") - 1, 0, len(taus) - 2)
    theta = (at - taus[interval]) / (taus[interval + 1] - taus[interval])
    return interval, np.clip(theta, 0.0, 1.0)


class CollocatedAxis(Axis):
    """An axis whose states are unknowns of the problem."""

    def __init__(self, *given: Any, scheme: str) -> None:
        super().__init__(*given)
        self.scheme = SCHEMES[scheme]
        self.unknowns: list[GridUnknown] = []
        self.own_points: dict[str, OwnPoints] = {}
        self._rates: dict[int, int] = {}

    @property
    def pointwise(self) -> frozenset[str]:
        """Return the controls that are chosen at every moment of the grid."""
        return frozenset(name for name, item in self.control_declarations.items() if item.form == "pointwise")

    @property
    def default_steps(self) -> int:
        """Return how many intervals a grid has at first."""
        # A few points each: fewer intervals do, and what they miss the grid's refinement shows.
        return super().default_steps if self.scheme.order < 5 else FIRST_INTERVALS

    # ---- what cannot be ---------------------------------------------------------------------------

    def _refuse_obstacle(self) -> None:
        obstacle = self.obstacle()
        if obstacle:
            self.fail(
                "time", "treatment", f"collocation is not possible: {obstacle}", advice='treatment = "simulation"'
            )

    # ---- controls chosen at every moment ----------------------------------------------------------

    def _control_place(self, name: str) -> int:
        if name not in self.pointwise or name in self.control_places:
            return super()._control_place(name)
        declared = self.control_declarations[name]
        shape: Shape = ()
        if declared.shape is not None:
            shape = shape_of(self.template, EntryDeclaration("controls", name, ""), f"{name}.shape", declared.shape)
        self.control_places[name] = len(self.controls)
        self.controls.append(Control(name, shape, 1, is_linear=True))
        return self.control_places[name]

    def _control(self, name: str, lag: int) -> int:
        if name not in self.pointwise:
            return super()._control(name, lag)
        place = self._control_place(name)
        return self.input_node("value", place, self.controls[place].shape, lag)

    def slope(self, node: int) -> int | None:
        """Return the node of a slope over time; None for what is chosen at every moment."""
        return None if self.is_chosen_here(node) else super().slope(node)

    def jumps_at_ends(self, node: int) -> bool:
        """Return whether a value differs on both sides of an interval's end."""
        own = {self.control_places[name] for name in self.pointwise if name in self.control_places}
        inputs = [self.inputs[number] for number in self.graph.variables_of([node])]
        return any(item.kind == "value" and item.of not in own for item in inputs)

    # ---- the grid ---------------------------------------------------------------------------------

    def _grid(self) -> None:
        super()._grid()
        scheme, taus = self.scheme, self.taus
        inner = taus[:-1, np.newaxis] + np.diff(taus)[:, np.newaxis] * scheme.points[:-1]
        self.points = np.append(inner.ravel(), 1.0)
        used = taus[:-1, np.newaxis] + np.diff(taus)[:, np.newaxis] * scheme.used_points
        is_left = np.broadcast_to(scheme.used_points >= 1.0, used.shape)
        self.at_rates = self.fixed_moments(("rates",), used.ravel(), is_left.ravel())
        has_jumps = self.sides is not self.grid
        ends = np.array(self.sides.taus)
        between = self.points[~np.isin(self.points, ends)]
        all_taus = np.concatenate([ends, between])
        all_left = np.concatenate([np.array(self.sides.is_left), np.zeros(len(between), dtype=bool)])
        order = np.lexsort((~all_left, all_taus))
        self.everywhere = self.fixed_moments(("points",), self.points, self.points >= 1.0)
        both = self.fixed_moments(("both sides",), all_taus[order], all_left[order])
        self.sides = both if has_jumps else self.everywhere

    def row_moments(self, nodes: Sequence[int], *, is_equation: bool) -> Moments:
        """Return the moments at which rows over time are looked at."""
        if any(self.is_chosen_here(node) for node in nodes):
            owner = self._owner()
            if owner is not None:
                return self.fixed_moments(("own points",), owner.shares, owner.is_left)
        if is_equation and not any(self.jumps_at_ends(node) for node in nodes):
            return self.everywhere
        return self.sides if any(self.jumps_at_ends(node) for node in nodes) else self.everywhere

    def _owner(self) -> OwnPoints | None:
        return next(iter(self.own_points.values()), None)

    # ---- transcription ----------------------------------------------------------------------------

    def _integral(self, entry: EntryDeclaration, tree: Node) -> int:
        node = self.moment(entry, tree)
        self.integrals.setdefault(node, -1)
        return -1

    def integral(self, entry: EntryDeclaration, tree: Node) -> int:
        """Return the problem's node of the integral of a formula, by the scheme's own weights."""
        node = self.moment(entry, tree)
        return self.integrated(self.graph.apply("mul", self.duration_node, node))

    def integrated(self, node: int) -> int:
        """Return the problem's node of the integral of a node of the moment over the share of the time."""
        main, shape = self.template.graph, self.graph.shape(node)
        told = self.spread(node, self.at_rates)
        weights = (np.diff(self.taus)[:, np.newaxis] * self.scheme.weights[list(self.scheme.used)]).ravel()
        own = self.template.data(f"{self.key} weights", weights)
        if not shape:
            return shaping.dot(main, own, told)
        own = shaping.reshaped(main, own, (len(weights), *(1,) * len(shape)))
        return shaping.total(main, main.apply("mul", told, own), 0)

    def _arrange(self) -> None:
        """Add the unknowns to the problem's graph, and the equations between them."""
        template, main = self.template, self.template.graph
        self._refuse_obstacle()
        self.index, self.call = 0, -1
        for name in self.pointwise:
            self._control_place(name)
            self._add_own_points(name)
        count = len(self.points)
        for number, state in enumerate(self.states):
            declared = self.state_declarations[number]
            index = len(template.variable_index) + len(template.grid_unknowns)
            shape = (count, *state.shape)
            node = main.variable(index, shape)
            first = main.stretched(self.first_nodes[number], state.shape)
            unknown = GridUnknown(
                name=f"{state.name}@grid",
                state=declared,
                size=state.size,
                node=node,
                index=index,
                shape=shape,
                taus=self.points,
                times=self.everywhere.times,
                lower=None,
                upper=None,
                guess=None,
                first=first,
                is_held=not template.depends(first),
            )
            self.unknowns.append(unknown)
            template.grid_unknowns.append(unknown)
        for declared in self.state_declarations:
            self.add_guess(declared)
        self.operands = ()
        self.evolving = tuple(self.inputs)
        for number, state in enumerate(self.states):
            self._add_equations(number, state)
        for control in self.controls:
            declared_control = self.control_declarations[control.name]
            if declared_control.before is not None:
                self.main("controls", control.name, declared_control.before)

    def _add_own_points(self, name: str) -> None:
        """Add a control that is chosen at every moment; of several cases the first one's grid says where."""
        template = self.template
        if name in template.own_points:
            self.own_points[name] = template.own_points[name]
            return
        control = self.controls[self.control_places[name]]
        points = OwnPoints(self.taus, self.scheme.name)
        shape = (points.count, *control.shape)
        template.own_points[name] = self.own_points[name] = points
        template.shapes[name] = shape
        template.nodes[name] = template.graph.variable(template.variable_index[name], shape)

    def _add_equations(self, number: int, state: State) -> None:
        """Add the rows (1) of the scheme for one state."""
        template, main, scheme = self.template, self.template.graph, self.scheme
        unknown = self.unknowns[number]
        entry = EntryDeclaration("states", state.name, self._rate_text(number))
        rest = tuple((0, n, 1) for n in state.shape)
        n, width = len(self.taus) - 1, scheme.width
        columns = [
            shaping.index(main, unknown.node, ((j, j + (n - 1) * width + 1, width), *rest)) for j in range(width + 1)
        ]
        rates = self._rates_at_points(number)
        steps = template.data(f"{self.key} steps", np.diff(self.taus))
        steps = shaping.reshaped(main, steps, (n, *(1,) * len(state.shape))) if state.shape else steps
        for i in range(width):
            moved = _weighted(main, columns, scheme.states[i])
            asked = _weighted(main, rates, scheme.rates[i, list(scheme.used)])
            assert moved is not None
            node = moved if asked is None else main.apply("sub", moved, main.apply("mul", steps, asked))
            zero = main.constant(0.0)
            name = f"{state.name}: equation {i + 1} of {width}"
            ends = self.fixed_moments(("begins",), self.taus[:-1], np.zeros(n, dtype=bool))
            template.grid_rows.append(
                RowTemplate(
                    entry=entry,
                    name=name,
                    node=node,
                    lower=zero,
                    upper=zero,
                    terms=(node,),
                    times=ends.times,
                    is_left=(False,) * n,
                    grid_state=number,
                )
            )
        if not unknown.is_held:
            begun = shaping.index(main, unknown.node, (0, *rest))
            node = main.apply("sub", begun, unknown.first)
            zero = main.constant(0.0)
            template.grid_rows.append(
                RowTemplate(
                    entry=entry,
                    name=f"{state.name}: first value",
                    node=node,
                    lower=zero,
                    upper=zero,
                    terms=(node,),
                    grid_state=number,
                )
            )

    def _rates_at_points(self, number: int) -> list[int]:
        """Return the problem's nodes (intervals, *shape) of a state's rate at each used point."""
        main, scheme, state = self.template.graph, self.scheme, self.states[number]
        assert state.rate is not None
        n, used = len(self.taus) - 1, len(scheme.used)
        if number not in self._rates:
            self._rates[number] = self.spread(state.rate, self.at_rates)
        rest = tuple((0, length, 1) for length in state.shape)
        whole = self._rates[number]
        return [shaping.index(main, whole, ((j, j + (n - 1) * used + 1, used), *rest)) for j in range(used)]

    def _rate_text(self, number: int) -> str:
        declared = self.state_declarations[number]
        return declared.rate or (declared.transfer.of if declared.transfer is not None else "")

    # ---- written out at moments -------------------------------------------------------------------

    def output(self, probe: int, state: int) -> int:
        """Return the node of a state at the moments of a probe, by the unknowns of the grid."""
        own = self.probes[probe]
        if own.moving >= 0:
            self._refuse_obstacle()
        at, is_left = np.array(own.taus), np.array(own.is_left, dtype=bool)
        main, unknown, scheme = self.template.graph, self.unknowns[state], self.scheme
        interval, theta = located(self.taus, at, is_left)
        near = np.abs(theta[:, np.newaxis] - scheme.points)
        column = near.argmin(axis=1)
        if (near[np.arange(len(at)), column] * np.diff(self.taus)[interval] <= SAME).all():
            return shaping.take(main, unknown.node, tuple((interval * scheme.width + column).tolist()))
        w, v = scheme.state_weights(theta)
        if not self.is_built:  # what was some while ago cannot need the rates that need it
            w, v = _by_values(scheme.points, theta), np.zeros((len(at), len(scheme.used)))
        return self._mixed(f"states {probe}", state, interval, w, v)

    def _mixed(self, key: str, state: int, interval: Places, w: FloatArray, v: FloatArray) -> int:
        """Return sums of a state's values and rates, weighted."""
        main, scheme, shape = self.template.graph, self.scheme, self.states[state].shape
        unknown = self.unknowns[state]
        total = main.constant(0.0)

        def weight(name: str, values: FloatArray) -> int:
            node = self.template.data(f"{self.key} {key} {name}", values)
            return shaping.reshaped(main, node, (len(values), *(1,) * len(shape))) if shape else node

        for j in range(scheme.width + 1):
            if w[:, j].any():
                taken = shaping.take(main, unknown.node, tuple((interval * scheme.width + j).tolist()))
                total = main.apply("add", total, main.apply("mul", weight(f"w{j}", w[:, j]), taken))
        if v.any():
            rates = self._rates_at_points(state)
            steps = np.diff(self.taus)[interval]
            for j, rate in enumerate(rates):
                taken = shaping.take(main, rate, tuple(interval.tolist()))
                total = main.apply("add", total, main.apply("mul", weight(f"v{j}", steps * v[:, j]), taken))
        return total

    def _told_control(self, item: Input, moments: Moments) -> int:
        control, main = self.controls[item.of], self.template.graph
        if control.name not in self.pointwise:
            return super()._told_control(item, moments)
        points, node = self.own_points[control.name], self.template.nodes[control.name]
        at, is_left = np.array(moments.taus), np.array(moments.is_left, dtype=bool)
        interval, theta = located(points.taus, at, is_left)
        scheme = SCHEMES[points.scheme]
        near = np.abs(theta[:, np.newaxis] - scheme.used_points)
        column = near.argmin(axis=1)
        if (near[np.arange(len(at)), column] * np.diff(points.taus)[interval] <= SAME).all():
            return shaping.take(main, node, tuple(int(p) for p in points.places(interval, column)))
        weights = scheme.control_weights(theta)
        total = main.constant(0.0)
        for j in range(len(scheme.used)):
            taken = shaping.take(main, node, tuple(points.places(interval, np.full(len(interval), j)).tolist()))
            own = self.template.data(f"{self.key} {control.name} {moments.probe} {j}", weights[:, j])
            if control.shape:
                own = shaping.reshaped(main, own, (len(at), *(1,) * len(control.shape)))
            total = main.apply("add", total, main.apply("mul", own, taken))
        return total

    # ---- limits of states -------------------------------------------------------------------------

    def bounds_of(self, state: StateDeclaration) -> bool:
        """Take the bounds of a state as bounds of its unknowns; not where they depend on the design."""
        number = self.state_names[state.name]
        if self.states[number].shape != () and state.transfer is not None:
            return False  # of a linear block's output
        found: dict[str, int | None] = {"lower": None, "upper": None}
        for key in found:
            value = getattr(state, key)
            if value is None:
                continue
            entry = EntryDeclaration("states", state.name, value)
            node = self.moment(entry, self.template.parse(entry))
            told = self.spread(self.graph.stretched(node, self.states[number].shape), self.everywhere)
            if self.template.depends(told):
                return False
            found[key] = told
        self._replace(number, lower=found["lower"], upper=found["upper"])
        return True

    def add_guess(self, state: StateDeclaration) -> None:
        """Take a state's `start`, a formula of the time, as the guess of its unknowns."""
        number = self.state_names[state.name]
        if state.start is None or isinstance(state.start, tuple) or state.transfer is not None:
            return
        entry = EntryDeclaration("states", state.name, state.start)
        node = self.moment(entry, self.template.parse(entry))
        if self.graph.shape(node) not in ((), self.states[number].shape):
            return
        told = self.spread(self.graph.stretched(node, self.states[number].shape), self.everywhere)
        if not self.template.depends(told):
            self._replace(number, guess=told)

    def _replace(self, number: int, **changes: Any) -> None:
        from dataclasses import replace

        before = self.unknowns[number]
        after = replace(before, **changes)
        self.unknowns[number] = after
        place = self.template.grid_unknowns.index(before)
        self.template.grid_unknowns[place] = after


def _by_values(points: FloatArray, theta: FloatArray) -> FloatArray:
    from ilvren.dynamics.schemes import lagrange

    return lagrange(points, theta)


def _weighted(graph: Graph, nodes: Sequence[int], weights: FloatArray) -> int | None:
    """Return Σ weight · node; None where all weights are 0."""
    total = None
    for node, weight in zip(nodes, weights.tolist(), strict=True):
        if weight == 0.0:
            continue
        term = node if weight == 1.0 else graph.apply("mul", graph.constant(weight), node)
        total = term if total is None else graph.apply("add", total, term)
    return total
