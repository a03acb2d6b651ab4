"""Simulation as something that formulas can call: states at moments, for what a design gives, with exact derivatives.

The mesh is chosen by error control along one design, the anchor, and kept, so that what comes out is a smooth function
of the design. A design along which the kept steps are too long gets each of them halved, as often as that takes.
"""

from __future__ import annotations

import math
from collections import OrderedDict
from collections.abc import Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.dynamics.course import Course, Lost
from ilvren.dynamics.crowd import Crowd, CrowdGiven, can_crowd
from ilvren.dynamics.modelled import has_models
from ilvren.dynamics.planning import LOCAL
from ilvren.dynamics.simulated import SimulatedCall, SimulatedDesign
from ilvren.dynamics.simulation_plan import SimulationPlan
from ilvren.dynamics.system import TooManyFormulas
from ilvren.dynamics.walker import followed
from ilvren.records import dataclass

if TYPE_CHECKING:
    pass

__all__ = ["Simulation", "TimeError"]

Array = NDArray[Any]
FloatArray = NDArray[np.float64]

# Steps are halved where the estimated error of one is beyond this many times what the mesh was made for.
SLACK = 30.0
# As often as this for accuracy; and where a design cannot be followed at all.
MOST_HALVED, MOST_HALVED_LOST = 5, 2
# Courses kept: gradients, rows and the next request come back to the same few.
MOST_KEPT = 64
# From so many designs on they are followed together, at most so many at once.
LEAST_CROWD, MOST_CROWD = 8, 2000


@dataclass(frozen=True)
class TimeError:
    """What steps cost: the estimated error of the states over their sizes, the steps taken, and the method's name."""

    estimate: float
    steps: int
    scheme: str


class Simulation(SimulationPlan):
    """One evolution with its fixed values, as formulas call it. `still` are the values of the graph's parameters,
    `is_moving` which inputs of a call a variable moves, `anchor` the inputs that the mesh is chosen along (the first
    ones asked for, without)."""

    _bound: tuple[Sequence[Any], Simulation] | None = None

    @cached_property
    def _kept(self) -> OrderedDict[bytes, SimulatedDesign]:
        return OrderedDict()

    def asking(self, models: Sequence[Any]) -> Simulation:
        """Return the same with the models that its rates call, by their numbers."""
        if not has_models(self.evolution):
            return self
        if (
            self._bound is None
            or len(self._bound[0]) != len(models)
            or any(one is not other for one, other in zip(self._bound[0], models, strict=True))
        ):
            made = Simulation(self.evolution, self.still, self.shapes, self.is_moving, self.anchor, self.unit, models)
            self._bound = tuple(models), made
        return self._bound[1]

    # ---- designs ------------------------------------------------------------------------------------

    def __call__(self, guard: Any, flags: Sequence[bool], inputs: Sequence[Any]) -> SimulatedCall:
        """Return what formulas see of a call, or of a batch of calls, those inputs with a flag having a batch axis."""
        arrays = [np.asarray(value, dtype=float) for value in inputs]
        batch = next((len(value) for value, flag in zip(arrays, flags, strict=True) if flag), None)
        if batch is None:
            is_wanted = guard is None or bool(np.any(guard))
            return SimulatedCall(self, [self._point(arrays, is_wanted=is_wanted)], is_batch=False)
        wanted = np.ones(batch, dtype=bool) if guard is None else np.broadcast_to(np.asarray(guard, dtype=bool), batch)
        crowded = self._together(arrays, flags, batch, wanted)

        def alone(place: int) -> SimulatedDesign:
            own = [value[place] if flag else value for value, flag in zip(arrays, flags, strict=True)]
            return self._point(own, is_wanted=bool(wanted[place]))

        if crowded is None:
            return SimulatedCall(self, [alone(place) for place in range(batch)], is_batch=True)
        outputs, is_good = crowded
        rest = {int(place): alone(int(place)) for place in np.flatnonzero(~is_good)}
        for place, point in rest.items():
            for whole, value in zip(outputs, point.outputs, strict=True):
                whole[place] = value
        return SimulatedCall(self, list(rest.values()), is_batch=True, outputs=outputs, alone=alone, count=batch)

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
        if self.anchor is None and good.any():
            first = int(np.argmax(good))
            self.anchor = [own[first].reshape(shape) for own, shape in zip(rows, self.shapes, strict=True)]
        if self.anchor is None or not can_crowd(self.march, bool(self.columns.moments.size)):
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
            for state, size in zip(self.evolution.states, self.state_sizes, strict=True):
                found.append(whole[:, :, at : at + size].reshape(whole.shape[0], len(places), *state.shape))
                at += size
        return found

    def point(self, inputs: Sequence[Array]) -> SimulatedDesign:
        """Return one design's course and what follows from it."""
        return self._point([np.asarray(value, dtype=float) for value in inputs], is_wanted=True)

    def _point(self, arrays: list[Array], *, is_wanted: bool) -> SimulatedDesign:
        shaped = [np.broadcast_to(value, shape) for value, shape in zip(arrays, self.shapes, strict=True)]
        if not is_wanted or not all(np.isfinite(value).all() for value in shaped):
            return SimulatedDesign(self, shaped, None, "", is_spoilt=True)
        key = b"".join(np.ascontiguousarray(value).tobytes() for value in shaped)
        known = self._kept.get(key)
        if known is None:
            if self.anchor is None:
                self.anchor = [np.array(value) for value in shaped]
            known = self._kept[key] = self._followed(shaped)
            while len(self._kept) > MOST_KEPT:
                self._kept.popitem(last=False)
        return known

    def _followed(self, inputs: list[Array]) -> SimulatedDesign:
        given = self.given(inputs)
        if not given.duration > 0.0:
            return SimulatedDesign(
                self, inputs, None, f"the time ends before it begins (it lasts {given.duration:.6g})"
            )
        limit = SLACK * LOCAL * self.evolution.tolerance * 0.1**self.evolution.tighter
        course: Course | None = None
        for halvings in range(MOST_HALVED + 1):
            try:
                course = followed(self.march, given, self.mesh(halvings))
            except Lost as lost:
                if halvings >= MOST_HALVED_LOST:
                    return SimulatedDesign(self, inputs, None, self.told(lost, inputs))
                continue
            except TooManyFormulas:
                return SimulatedDesign(self, inputs, None, "the rates are too long to be compiled")
            if course.error <= limit:
                break
        assert course is not None
        return SimulatedDesign(self, inputs, course, "", halvings=halvings)

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
        for state, size in zip(self.evolution.states, self.state_sizes, strict=True):
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
