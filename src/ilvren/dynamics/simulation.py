"""Simulation as something that formulas can call: states at moments, for what a design gives, with exact derivatives.

The mesh is chosen by error control along one design, the anchor, and kept, so that what comes out is a smooth function
of the design. A design along which the kept steps are too long gets each of them halved, as often as that takes.
"""

from __future__ import annotations

import math
from collections import OrderedDict
from collections.abc import Callable, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.dynamics.backward_sweep import Backward, backward
from ilvren.dynamics.columns import Columns
from ilvren.dynamics.course import Course, Given, Layout, Lost, March, segment_of
from ilvren.dynamics.crowd import Crowd, CrowdGiven, can_crowd
from ilvren.dynamics.forward_sweep import Forward, forward
from ilvren.dynamics.linearised import Linear
from ilvren.dynamics.modelled import ModelledSystem, has_models
from ilvren.dynamics.planning import LOCAL, Frame, even_mesh, framed, planned, with_forcing
from ilvren.dynamics.second_sweep import second_products
from ilvren.dynamics.system import System, TooManyFormulas
from ilvren.dynamics.walker import followed
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.dynamics.evolution import Evolution
    from ilvren.dynamics.mesh import Mesh

__all__ = ["Simulation", "TimeError"]

Array = NDArray[Any]
FloatArray = NDArray[np.float64]

# Steps are halved where the estimated error of one is beyond this many times what the mesh was made for.
SLACK = 30.0
# As often as this for accuracy; and where a design cannot be followed at all.
MOST_HALVED, MOST_HALVED_LOST = 5, 2
# Courses kept: gradients, rows and the next request come back to the same few.
MOST_KEPT = 64
# What is not smooth at the beginning is followed this many lags on: each time it is an order milder.
MOST_LATER = 5
# From so many moving inputs on, single adjoints are pulled by a backward sweep.
MANY_INPUTS = 60
# From so many designs on they are followed together, at most so many at once.
LEAST_CROWD, MOST_CROWD = 8, 2000


@dataclass(frozen=True)
class TimeError:
    """What steps cost: the estimated error of the states over their sizes, the steps taken, and the method's name."""

    estimate: float
    steps: int
    scheme: str


class Simulation:
    """One evolution with its fixed values. `still` are those of the graph's parameters, `is_moving` which inputs of a
    call a variable moves, `anchor` the inputs that the mesh is chosen along (the first ones asked for, without)."""

    def __init__(
        self,
        evolution: Evolution,
        still: Sequence[Any],
        shapes: Sequence[tuple[int, ...]],
        is_moving: Sequence[bool],
        anchor: Sequence[Array] | None = None,
        unit: str = "",
        models: Sequence[Any] = (),
    ) -> None:
        self._models = models
        self._bound: tuple[Sequence[Any], Simulation] | None = None
        self.evolution, self.still = evolution, tuple(still)
        self.shapes, self.is_moving = tuple(shapes), tuple(is_moving)
        self.unit = unit
        self._anchor = None if anchor is None else [np.asarray(value, dtype=float) for value in anchor]
        self._kept: OrderedDict[bytes, _Point] = OrderedDict()
        self._meshes: dict[int, Mesh] = {}
        self._state_sizes = [math.prod(state.shape) for state in evolution.states]

    def asking(self, models: Sequence[Any]) -> Simulation:
        """Return the same with the models that its rates call, by their numbers."""
        if not has_models(self.evolution):
            return self
        if (
            self._bound is None
            or len(self._bound[0]) != len(models)
            or any(one is not other for one, other in zip(self._bound[0], models, strict=True))
        ):
            made = Simulation(self.evolution, self.still, self.shapes, self.is_moving, self._anchor, self.unit, models)
            self._bound = tuple(models), made
        return self._bound[1]

    def anchored(self, inputs: Sequence[Array]) -> Simulation:
        """Return the same with its mesh chosen along other inputs. `inputs` have the shapes of the call."""
        return Simulation(self.evolution, self.still, self.shapes, self.is_moving, inputs, self.unit)

    # ---- places -----------------------------------------------------------------------------------

    @cached_property
    def starts(self) -> NDArray[np.int64]:
        """Return where each input begins in a flat row of all, and the end."""
        return np.concatenate([[0], np.cumsum([math.prod(shape) for shape in self.shapes])]).astype(np.int64)

    @cached_property
    def output_shapes(self) -> list[tuple[int, ...]]:
        """Return the shape of each output: of every probe every state."""
        return [
            (probe.count if probe.moving >= 0 else len(probe.taus), *state.shape)
            for probe in self.evolution.probes
            for state in self.evolution.states
        ]

    @cached_property
    def columns(self) -> Columns:
        """Return where what a design gives stands in a flat row of all inputs; what nothing moves nowhere."""
        evolution = self.evolution
        flat = np.arange(int(self.starts[-1]))
        for place, is_moving in enumerate(self.is_moving):
            if not is_moving:
                flat[self.starts[place] : self.starts[place + 1]] = -1
        own = [flat[self.starts[k] : self.starts[k + 1]] for k in range(len(self.shapes))]
        at = len(evolution.outers)
        outers = np.concatenate([*own[:at], np.zeros(0, dtype=int)]).astype(int)
        pieces = []
        for control in evolution.controls:
            count = control.pieces + control.is_linear
            pieces.append(own[at].reshape(count, -1))
            at += 1
        first = np.concatenate([*own[at : at + len(evolution.states)], np.zeros(0, dtype=int)]).astype(int)
        at += len(evolution.states)
        lags = np.concatenate([*own[at : at + evolution.lag_count], np.zeros(0, dtype=int)]).astype(int)
        at += evolution.lag_count
        moments = np.concatenate([*own[at : len(own) - 2], np.zeros(0, dtype=int)]).astype(int)
        later = [int(lags[lag]) for lag, _, _ in self._later]
        often = np.array([1.0] * len(moments) + [times for _, times, _ in self._later])
        moments = np.concatenate([moments, np.array(later, dtype=int)]).astype(int)
        return Columns(int(self.starts[-1]), outers, tuple(pieces), first, lags, moments, often)

    @cached_property
    def _later(self) -> list[tuple[int, float, float]]:
        """Return (lag, how often, from where) of moments at which something is not smooth so many moving lags later."""
        evolution = self.evolution
        at = len(evolution.outers) + len(evolution.controls) + len(evolution.states)
        used = Layout(self.system).rate_lags
        moving = [lag for lag in used if self.is_moving[at + lag]]
        ends = {k / c.pieces for c in evolution.controls for k in range(1, c.pieces)}
        return [(lag, float(often), 0.0) for lag in moving for often in range(1, MOST_LATER + 1)] + [
            (lag, 1.0, end) for lag in moving for end in sorted(ends)
        ]

    def given(self, inputs: Sequence[Array]) -> Given:
        """Return the inputs of a call by what they are. `inputs` have the shapes of the call."""
        evolution = self.evolution
        own = [np.asarray(value, dtype=float).ravel() for value in inputs]
        at = len(evolution.outers)
        outers = np.concatenate([*own[:at], np.zeros(0)])
        pieces = []
        for control in evolution.controls:
            pieces.append(own[at].reshape(control.pieces + control.is_linear, -1))
            at += 1
        first = np.concatenate([*own[at : at + len(evolution.states)], np.zeros(0)])
        at += len(evolution.states)
        lags = np.concatenate([*own[at : at + evolution.lag_count], np.zeros(0)])
        at += evolution.lag_count
        later = np.array([end + often * lags[lag] for lag, often, end in self._later])
        moments = np.concatenate([*own[at : len(own) - 2], later])
        return Given(outers, tuple(pieces), first, lags, float(own[-1][0]), moments)

    # ---- what is made once ------------------------------------------------------------------------

    @cached_property
    def system(self) -> System:
        """Return the compiled formulas."""
        if has_models(self.evolution):
            return ModelledSystem(self.evolution, self.still, self._models)  # type: ignore[return-value]
        return System(self.evolution, self.still)

    @cached_property
    def frame(self) -> Frame:
        """Return the moments that no step goes over."""
        assert self._anchor is not None
        given = self.given(self._anchor)
        moving = {lag for lag, *_ in self._later}
        used = Layout(self.system).rate_lags
        lags = [float(lag) for k, lag in enumerate(given.lags) if 0.0 < lag < 1.0 and k not in moving and k in used]
        return framed(self.system, given.duration, lags)

    def mesh(self, halvings: int) -> Mesh:
        """Return the mesh with its steps halved so often."""
        if halvings not in self._meshes:
            if halvings:
                made = with_forcing(self.system, self.mesh(halvings - 1).halved())
            else:
                made = with_forcing(self.system, self._planned())
            self._meshes[halvings] = made
        return self._meshes[halvings]

    def _planned(self) -> Mesh:
        assert self._anchor is not None
        try:
            return planned(self.system, self.frame, self.given(self._anchor))
        except Lost:  # the anchor itself cannot be followed: even steps, halved where they do not do
            return even_mesh(self.system, self.frame)

    @cached_property
    def march(self) -> March:
        """Return what follows designs."""
        return March(self.system, self.mesh(0))

    # ---- calls ------------------------------------------------------------------------------------

    def __call__(self, guard: Any, flags: Sequence[bool], inputs: Sequence[Any]) -> _Told:
        """Return what formulas see of a call, or of a batch of calls, those inputs with a flag having a batch axis."""
        arrays = [np.asarray(value, dtype=float) for value in inputs]
        batch = next((len(value) for value, flag in zip(arrays, flags, strict=True) if flag), None)
        if batch is None:
            is_wanted = guard is None or bool(np.any(guard))
            return _Told(self, [self._point(arrays, is_wanted=is_wanted)], is_batch=False)
        wanted = np.ones(batch, dtype=bool) if guard is None else np.broadcast_to(np.asarray(guard, dtype=bool), batch)
        crowded = self._together(arrays, flags, batch, wanted)

        def alone(place: int) -> _Point:
            own = [value[place] if flag else value for value, flag in zip(arrays, flags, strict=True)]
            return self._point(own, is_wanted=bool(wanted[place]))

        if crowded is None:
            return _Told(self, [alone(place) for place in range(batch)], is_batch=True)
        outputs, is_good = crowded
        rest = {int(place): alone(int(place)) for place in np.flatnonzero(~is_good)}
        for place, point in rest.items():
            for whole, value in zip(outputs, point.outputs, strict=True):
                whole[place] = value
        return _Told(self, list(rest.values()), is_batch=True, outputs=outputs, alone=alone, count=batch)

    def _together(
        self, arrays: Sequence[Array], flags: Sequence[bool], batch: int, wanted: NDArray[np.bool_]
    ) -> tuple[list[Array], NDArray[np.bool_]] | None:
        """Return every output of many designs (designs, moments, *shape) that are followed at once, and of which that
        went well; None where they cannot be."""
        if batch < LEAST_CROWD or has_models(self.evolution):
            return None
        rows = [
            np.broadcast_to(value if flag else value[None], (batch, *shape)).reshape(batch, -1)
            for value, flag, shape in zip(arrays, flags, self.shapes, strict=True)
        ]
        good = wanted & np.logical_and.reduce([np.isfinite(own).all(axis=1) for own in rows]) & (rows[-1][:, 0] > 0.0)
        if self._anchor is None and good.any():
            first = int(np.argmax(good))
            self._anchor = [own[first].reshape(shape) for own, shape in zip(rows, self.shapes, strict=True)]
        if self._anchor is None or not can_crowd(self.march, bool(self.columns.moments.size)):
            return None
        limit = SLACK * LOCAL * self.evolution.tolerance * 0.1**self.evolution.tighter
        places = np.flatnonzero(good)
        outputs = [np.full((batch, *shape), np.nan) for shape in self.output_shapes]
        is_good = np.zeros(batch, dtype=bool)
        for first in range(0, len(places), MOST_CROWD):
            own = places[first : first + MOST_CROWD]
            crowd = Crowd(self.march, self.mesh(0), self._crowd_given([part[own] for part in rows])).walked()
            went_well = ~crowd.lost & (crowd.error <= limit)
            for whole, value in zip(outputs, self._outputs_of(crowd), strict=True):
                whole[own[went_well]] = value[went_well]
            is_good[own[went_well]] = True
        return outputs, is_good

    def _crowd_given(self, rows: Sequence[FloatArray]) -> CrowdGiven:
        """Return the inputs of many designs, each (designs, size), by what they are."""
        evolution, count = self.evolution, len(rows[0])
        at = len(evolution.outers)
        outers = np.concatenate([*rows[:at], np.zeros((count, 0))], axis=1)
        pieces = []
        for control in evolution.controls:
            pieces.append(rows[at].reshape(count, control.pieces + control.is_linear, -1))
            at += 1
        first = np.concatenate([*rows[at : at + len(evolution.states)], np.zeros((count, 0))], axis=1)
        return CrowdGiven(outers, pieces, first)

    def _outputs_of(self, crowd: Crowd) -> list[Array]:
        """Return every output of all designs of a crowd (designs, moments, *shape)."""
        grid, mesh = self.frame.grid, self.mesh(0)
        both = np.concatenate([crowd.left, crowd.right])  # (2 · grid, designs, n)
        found: list[Array] = []
        for probe in self.evolution.probes:
            places = np.array([int(np.abs(grid - tau).argmin()) for tau in probe.taus], dtype=np.int64)
            steps = mesh.grid[places]
            is_left = (np.array(probe.is_left, dtype=bool) & (steps > 0)) | (steps >= len(mesh.taus) - 1)
            whole = np.moveaxis(both[np.where(is_left, places, places + len(grid))], 0, 1)
            at = 0
            for state, size in zip(self.evolution.states, self._state_sizes, strict=True):
                found.append(whole[:, :, at : at + size].reshape(whole.shape[0], len(places), *state.shape))
                at += size
        return found

    def point(self, inputs: Sequence[Array]) -> _Point:
        """Return one design's course and what follows from it."""
        return self._point([np.asarray(value, dtype=float) for value in inputs], is_wanted=True)

    def _point(self, arrays: list[Array], *, is_wanted: bool) -> _Point:
        shaped = [np.broadcast_to(value, shape) for value, shape in zip(arrays, self.shapes, strict=True)]
        if not is_wanted or not all(np.isfinite(value).all() for value in shaped):
            return _Point(self, shaped, None, "", is_spoilt=True)
        key = b"".join(np.ascontiguousarray(value).tobytes() for value in shaped)
        known = self._kept.get(key)
        if known is None:
            if self._anchor is None:
                self._anchor = [np.array(value) for value in shaped]
            known = self._kept[key] = self._followed(shaped)
            while len(self._kept) > MOST_KEPT:
                self._kept.popitem(last=False)
        return known

    def _followed(self, inputs: list[Array]) -> _Point:
        given = self.given(inputs)
        if not given.duration > 0.0:
            return _Point(self, inputs, None, f"the time ends before it begins (it lasts {given.duration:.6g})")
        limit = SLACK * LOCAL * self.evolution.tolerance * 0.1**self.evolution.tighter
        course: Course | None = None
        for halvings in range(MOST_HALVED + 1):
            try:
                course = followed(self.march, given, self.mesh(halvings))
            except Lost as lost:
                if halvings >= MOST_HALVED_LOST:
                    return _Point(self, inputs, None, self.told(lost, inputs))
                continue
            except TooManyFormulas:
                return _Point(self, inputs, None, "the rates are too long to be compiled")
            if course.error <= limit:
                break
        assert course is not None
        return _Point(self, inputs, course, "", halvings=halvings)

    def told(self, lost: Lost, inputs: Sequence[Array]) -> str:
        """Return why a course could not be followed, with the time and the state's value. `inputs` have the shapes of
        the call."""
        begin, duration = float(np.ravel(inputs[-2])[0]), float(np.ravel(inputs[-1])[0])
        unit = f" {self.unit}" if self.unit else ""
        when = f"at t = {begin + lost.tau * duration:.6g}{unit}"
        if lost.state < 0:
            return f"{lost.why} {when}" if math.isnan(lost.value) else f"{lost.why} ({lost.value * duration:.6g}{unit})"
        name = self.state_name(lost.state)
        if lost.why.startswith("needs"):
            return f'the simulation {lost.why}, "{name}" being the quickest {when}'
        return f'"{name}" {lost.why} {when}, where it is {lost.value:.6g}'

    def state_name(self, flat: int) -> str:
        """Return the name of a flat state."""
        for state, size in zip(self.evolution.states, self._state_sizes, strict=True):
            if flat < size:
                if not state.shape:
                    return state.name
                return f"{state.name}[{','.join(str(int(i)) for i in np.unravel_index(flat, state.shape))}]"
            flat -= size
        raise IndexError(flat)

    # ---- errors -----------------------------------------------------------------------------------

    def time_error(self, inputs: Sequence[Array]) -> TimeError | None:
        """Return the error of a design's states at the grid's moments, estimated by steps of half the length (the error
        of the whole steps is (1 + 1/(2^p − 1)) times the difference); None where the design cannot be followed."""
        point = self.point(inputs)
        if point.course is None:
            return None
        try:
            finer = followed(self.march, self.given(inputs), self.mesh(point.halvings + 1))
        except Lost:
            return TimeError(math.inf, len(point.course), point.course.tableau.name)
        mesh = self.mesh(point.halvings)
        own = np.stack([point.course.last[k - 1] for k in point.course.step_first[1:]])
        fine = np.stack([finer.last[k - 1] for k in finer.step_first[1:]])[1::2]
        apart = float((np.abs(own - fine) / mesh.sizes_of(point.course.largest)).max(initial=0.0))
        factor = 2.0**point.course.tableau.order
        return TimeError(apart * factor / (factor - 1.0), len(point.course), point.course.tableau.name)


class _Point:
    """One design: its course, the outputs, and derivatives when they are asked for."""

    def __init__(
        self,
        simulation: Simulation,
        inputs: list[Array],
        course: Course | None,
        reason: str,
        *,
        is_spoilt: bool = False,
        halvings: int = 0,
    ) -> None:
        self.simulation, self.inputs, self.course = simulation, inputs, course
        self.reason, self.is_spoilt, self.halvings = reason, is_spoilt, halvings
        self._hessians: dict[bytes, FloatArray] = {}

    @cached_property
    def given(self) -> Given:
        return self.simulation.given(self.inputs)

    @cached_property
    def places(self) -> list[list[tuple[int, bool, float, int]]]:
        """Return for each probe its moments: (segment, whether at its start, share of the rate there that a moving
        moment adds, the moment's column); a segment of −1 for a moment outside the time."""
        course, simulation = self.course, self.simulation
        assert course is not None
        mesh = simulation.mesh(self.halvings)
        grid = simulation.frame.grid
        found: list[list[tuple[int, bool, float, int]]] = []
        for probe in simulation.evolution.probes:
            own: list[tuple[int, bool, float, int]] = []
            if probe.moving < 0:
                for tau, is_left in zip(probe.taus, probe.is_left, strict=True):
                    step = int(mesh.grid[int(np.abs(grid - tau).argmin())])
                    if step == 0:
                        own.append((0, True, 0.0, -1))
                    elif is_left or step >= len(mesh.taus) - 1:
                        own.append((course.step_first[step] - 1, False, 0.0, -1))
                    else:
                        own.append((course.step_first[step], True, 0.0, -1))
            else:
                first = simulation.columns.moments
                base = sum(p.count for p in simulation.evolution.probes if 0 <= p.moving < probe.moving)
                for k in range(probe.count):
                    own.append(self._moving_place(base + k, int(first[base + k])))
            found.append(own)
        return found

    def _moving_place(self, moment: int, column: int) -> tuple[int, bool, float, int]:
        course = self.course
        assert course is not None
        tau = float(self.given.moments[moment])
        for event, (_, moving) in enumerate(course.events):
            if moving == moment:
                return course.ended.index(event), False, 0.0, -1
        if not 0.0 <= tau <= 1.0:
            return -1, False, 0.0, -1
        place = segment_of(course, tau + 1e-12)
        is_start = abs(course.tau0[place] - tau) <= abs(course.tau0[place] + course.h[place] - tau)
        return place, is_start, 1.0, column

    @cached_property
    def _rows(self) -> list[tuple[NDArray[np.int64], NDArray[np.bool_]]]:
        """Return for each probe the rows of its moments among the states at the starts of segments, then at their ends,
        then one of none; and which moments are outside the time."""
        assert self.course is not None
        count, found = len(self.course), []
        for own in self.places:
            rows = [2 * count if place < 0 else place if is_start else count + place for place, is_start, *_ in own]
            at = np.array(rows, dtype=np.int64)
            found.append((at, at == 2 * count))
        return found

    def _told(self, first: FloatArray, last: FloatArray) -> list[FloatArray]:
        """Return for each probe what stands at its moments (moments, n, …) of what stands at segments' starts and
        ends."""
        none = np.full((1, *first.shape[1:]), np.nan)
        both = np.concatenate([first, last, none])
        return [both[rows] for rows, _ in self._rows]

    @cached_property
    def outputs(self) -> list[Array]:
        """Return every output."""
        simulation = self.simulation
        shapes = simulation.output_shapes
        if self.course is None:
            return [np.full(shape, np.nan) for shape in shapes]
        found = []
        for rows in self._told(np.stack(self.course.first), np.stack(self.course.last)):
            at = 0
            for state, size in zip(simulation.evolution.states, simulation._state_sizes, strict=True):
                found.append(rows[:, at : at + size].reshape(len(rows), *state.shape))
                at += size
        return found

    # ---- derivatives ------------------------------------------------------------------------------

    @cached_property
    def linear(self) -> Linear:
        """Return the local derivatives."""
        assert self.course is not None
        return Linear(self.simulation.march, self.given, self.course, self.simulation.columns)

    @cached_property
    def moving(self) -> NDArray[np.int64]:
        """Return the flat places of the inputs that a variable moves."""
        starts = self.simulation.starts
        own = [np.arange(starts[k], starts[k + 1]) for k, flag in enumerate(self.simulation.is_moving) if flag]
        return np.concatenate([*own, np.zeros(0, dtype=int)]).astype(np.int64)

    @cached_property
    def forward(self) -> Forward:
        """Return the changes along the course for every moving input."""
        directions = np.zeros((int(self.simulation.starts[-1]), len(self.moving)))
        directions[self.moving, np.arange(len(self.moving))] = 1.0
        return forward(self.linear, directions)

    @cached_property
    def jacobian(self) -> FloatArray:
        """Return the derivatives of all outputs by all inputs (outputs, inputs), 0 for those that nothing moves."""
        simulation = self.simulation
        count = sum(math.prod(shape) for shape in simulation.output_shapes)
        found = np.zeros((count, int(simulation.starts[-1])))
        if self.course is None:
            found[:, self.moving] = np.nan
            return found
        moved, at = self.forward, 0
        for own, rows in zip(self.places, self._told(moved.first, moved.last), strict=True):
            for k, item in enumerate(own):
                if item[2] and item[3] >= 0 and item[0] >= 0:
                    rows[k] = self._change(moved, item)
            first = 0
            for size in simulation._state_sizes:
                block = rows[:, first : first + size].reshape(len(own) * size, -1)
                found[at : at + len(block), self.moving] = block
                at += len(block)
                first += size
        return found

    def _change(self, moved: Forward, item: tuple[int, bool, float, int]) -> FloatArray:
        place, is_start, share, column = item
        if place < 0:
            return np.full(moved.first.shape[1:], np.nan)
        change = moved.first[place] if is_start else moved.last[place]
        if share and column >= 0:
            assert self.course is not None
            change = change.copy()
            rate = self.course.k[place][0 if is_start else -1]
            change[:, int(np.flatnonzero(self.moving == column)[0])] += rate
        return np.asarray(change)

    def _weights(self, weights: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return weights of all outputs (flat) as weights of the states at the starts and ends of segments."""
        simulation = self.simulation
        assert self.course is not None
        n = simulation.system.size
        count = len(self.course)
        both, at = np.zeros((2 * count + 1, n)), 0
        for rows, _ in self._rows:
            begin = 0
            for size in simulation._state_sizes:
                block = weights[at : at + len(rows) * size].reshape(len(rows), size)
                np.add.at(both, (rows[:, None], np.arange(begin, begin + size)[None, :]), block)
                at += len(rows) * size
                begin += size
        return both[:count], both[count : 2 * count]

    def adjoints(self, weights: FloatArray) -> Backward:
        """Return the backward sweep for weights of all outputs."""
        return backward(self.linear, *self._weights(weights))

    def vjp(self, weights: FloatArray) -> FloatArray:
        """Return Jᵀ·weights (inputs,)."""
        if self.course is None:
            found = np.zeros(int(self.simulation.starts[-1]))
            found[self.moving] = np.nan
            return found
        has_moving_share = any(item[2] for own in self.places for item in own)
        if "jacobian" in self.__dict__ or len(self.moving) < MANY_INPUTS or has_moving_share:
            return np.asarray(weights @ self.jacobian)
        return self.adjoints(weights).given

    def hessian(self, weights: FloatArray) -> FloatArray:
        """Return the second derivatives (inputs, inputs) of the weighted outputs."""
        key = weights.tobytes()
        if key not in self._hessians:
            count = int(self.simulation.starts[-1])
            found = np.zeros((count, count))
            if self.course is None:
                found[np.ix_(self.moving, self.moving)] = np.nan
            elif np.isfinite(weights).all():
                directions = np.zeros((count, len(self.moving)))
                directions[self.moving, np.arange(len(self.moving))] = 1.0
                own = second_products(self.linear, self.forward, self.adjoints(weights), directions)
                found[np.ix_(self.moving, self.moving)] = 0.5 * (own + own.T)
            else:
                found[np.ix_(self.moving, self.moving)] = np.nan
            if len(self._hessians) > 4:
                self._hessians.clear()
            self._hessians[key] = found
        return self._hessians[key]


class _Told:
    """What formulas see of a call, or of a batch of calls."""

    def __init__(
        self,
        simulation: Simulation,
        points: list[_Point],
        *,
        is_batch: bool,
        outputs: list[Array] | None = None,
        alone: Callable[[int], _Point] | None = None,
        count: int = 0,
    ) -> None:
        self._simulation, self._found, self._is_batch = simulation, points, is_batch
        self._outputs, self._alone, self._count = outputs, alone, count or len(points)

    @cached_property
    def _points(self) -> list[_Point]:
        """Return the designs, each followed by itself: what was followed with others has no derivatives."""
        return self._found if self._alone is None else [self._alone(place) for place in range(self._count)]

    @property
    def inputs(self) -> list[Array]:
        """Return the inputs of the first point."""
        return self._points[0].inputs

    @property
    def reason(self) -> str:
        """Return why an output is not finite, "" when all are."""
        return next((point.reason for point in self._found if point.reason), "")

    @property
    def is_spoilt(self) -> bool:
        """Return whether nothing was simulated: inputs are not finite, or nothing needs it."""
        return not self._is_batch and self._points[0].is_spoilt

    def output(self, place: object) -> Array:
        """Return an output by its place."""
        assert isinstance(place, int)
        if self._outputs is not None:
            return self._outputs[place]
        if self._is_batch:
            return np.stack([point.outputs[place] for point in self._points])
        return self._points[0].outputs[place]

    def vjp(self, detail: tuple[int, tuple[int, ...]], adjoints: Sequence[Array]) -> Array:
        """Return the adjoint of an input; `detail` is (its place, places of the outputs)."""
        place, outputs = detail
        shapes = self._simulation.output_shapes
        lead, blocks = self._blocks(adjoints, [shapes[k] for k in outputs], shapes, outputs)
        starts = self._simulation.starts
        own = slice(int(starts[place]), int(starts[place + 1]))
        if self._is_batch:
            found = np.stack([p.vjp(w)[own] for p, w in zip(self._points, blocks, strict=True)])
        elif lead is None:
            found = self._points[0].vjp(blocks[0])[own]
        else:
            found = blocks @ self._points[0].jacobian[:, own]
        return np.reshape(found, (*(() if lead is None else (lead,)), *self._simulation.shapes[place]))

    def jvp(self, detail: tuple[int, tuple[int, ...]], tangents: Sequence[Array]) -> Array:
        """Return the change of an output; `detail` is (its place, places of the inputs that change)."""
        place, inputs = detail
        shapes = self._simulation.shapes
        lead, blocks = self._blocks(tangents, [shapes[k] for k in inputs], shapes, inputs)
        ends = np.concatenate([[0], np.cumsum([math.prod(s) for s in self._simulation.output_shapes])]).astype(int)
        own = slice(int(ends[place]), int(ends[place + 1]))
        if self._is_batch:
            found = np.stack([p.jacobian[own] @ v for p, v in zip(self._points, blocks, strict=True)])
        else:
            found = blocks @ self._points[0].jacobian[own].T
            found = found if lead is not None else found[0]
        return np.reshape(found, (*(() if lead is None else (lead,)), *self._simulation.output_shapes[place]))

    def hvp(self, detail: tuple[int, tuple[int, ...], tuple[int, ...]], given: Sequence[Array]) -> Array:
        """Return the change of the adjoint of an input that second derivatives make; `detail` is (place of the input,
        of the outputs, of the inputs that change), `given` adjoints of the outputs, then changes of the inputs."""
        place, outputs, inputs = detail
        simulation = self._simulation
        assert not self._is_batch, "second derivatives are asked for at one design"
        weights = self._blocks(given[: len(outputs)], [simulation.output_shapes[k] for k in outputs],
                               simulation.output_shapes, outputs)[1][0]  # fmt: skip
        lead, moved = self._blocks(given[len(outputs) :], [simulation.shapes[k] for k in inputs],
                                   simulation.shapes, inputs)  # fmt: skip
        starts = simulation.starts
        own = slice(int(starts[place]), int(starts[place + 1]))
        found = moved @ self._points[0].hessian(weights)[:, own]
        return np.reshape(found, (*(() if lead is None else (lead,)), *simulation.shapes[place]))

    def _blocks(
        self,
        values: Sequence[Array],
        shapes: Sequence[tuple[int, ...]],
        whole: Sequence[tuple[int, ...]],
        places: Sequence[int],
    ) -> tuple[int | None, FloatArray]:
        """Return values of some inputs or outputs as rows of all, with the length of their batch axis, if any has
        one."""
        given = [np.asarray(value, dtype=float) for value in values]
        lead = next(
            (len(value) for value, shape in zip(given, shapes, strict=True) if value.ndim > len(shape)),
            self._count if self._is_batch else None,
        )
        ends = np.concatenate([[0], np.cumsum([math.prod(shape) for shape in whole])]).astype(int)
        block = np.zeros((lead or 1, int(ends[-1])))
        for value, shape, place in zip(given, shapes, places, strict=True):
            rows = (lead or 1,) if value.ndim > len(shape) else (1,)
            block[:, ends[place] : ends[place + 1]] = value.reshape(*rows, -1)
        return lead, block
