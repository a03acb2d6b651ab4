"""What came of following designs: courses, what formulas see of them, and derivatives when they are asked for."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.dynamics.backward_sweep import Backward, backward
from ilvren.dynamics.course import Course, Given, segment_of
from ilvren.dynamics.forward_sweep import Forward, forward
from ilvren.dynamics.linearised import Linear
from ilvren.dynamics.second_sweep import second_products

if TYPE_CHECKING:
    from ilvren.dynamics.simulation_plan import SimulationPlan


__all__ = ["SimulatedCall", "SimulatedDesign"]

Array = NDArray[Any]
FloatArray = NDArray[np.float64]

# From so many moving inputs on, single adjoints are pulled by a backward sweep.
MANY_INPUTS = 60


class SimulatedDesign:
    """One design: its course, the outputs, and derivatives when they are asked for."""

    def __init__(
        self,
        simulation: SimulationPlan,
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
        """Return the inputs by what they are."""
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
        """Return every output. Each has the shape of its output."""
        simulation = self.simulation
        shapes = simulation.output_shapes
        if self.course is None:
            return [np.full(shape, np.nan) for shape in shapes]
        found = []
        for rows in self._told(np.stack(self.course.first), np.stack(self.course.last)):
            at = 0
            for state, size in zip(simulation.evolution.states, simulation.state_sizes, strict=True):
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
            for size in simulation.state_sizes:
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
            for size in simulation.state_sizes:
                block = weights[at : at + len(rows) * size].reshape(len(rows), size)
                np.add.at(both, (rows[:, None], np.arange(begin, begin + size)[None, :]), block)
                at += len(rows) * size
                begin += size
        return both[:count], both[count : 2 * count]

    def adjoints(self, weights: FloatArray) -> Backward:
        """Return the backward sweep for weights of all outputs. `weights` are (outputs,), elements in order."""
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


class SimulatedCall:
    """What formulas see of a call, or of a batch of calls."""

    def __init__(
        self,
        simulation: SimulationPlan,
        points: list[SimulatedDesign],
        *,
        is_batch: bool,
        outputs: list[Array] | None = None,
        alone: Callable[[int], SimulatedDesign] | None = None,
        count: int = 0,
    ) -> None:
        self._simulation, self._found, self._is_batch = simulation, points, is_batch
        self._outputs, self._alone, self._count = outputs, alone, count or len(points)

    @cached_property
    def _points(self) -> list[SimulatedDesign]:
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
        """Return an output by its place. It has the shape of the output."""
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
