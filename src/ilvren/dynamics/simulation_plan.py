"""What a simulation knows before it follows a design: where inputs stand, compiled formulas, meshes."""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.dynamics.columns import Columns
from ilvren.dynamics.course import Given, Layout, Lost, March
from ilvren.dynamics.modelled import ModelledSystem, has_models
from ilvren.dynamics.planning import Frame, even_mesh, framed, planned, with_forcing
from ilvren.dynamics.system import System

if TYPE_CHECKING:
    from ilvren.dynamics.evolution import Evolution
    from ilvren.dynamics.mesh import Mesh


__all__ = ["SimulationPlan"]

Array = NDArray[Any]
FloatArray = NDArray[np.float64]

# What is not smooth at the beginning is followed this many lags on: each time it is an order milder.
MOST_LATER = 5


class SimulationPlan:
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
        self.evolution, self.still = evolution, tuple(still)
        self.shapes, self.is_moving = tuple(shapes), tuple(is_moving)
        self.unit = unit
        self.anchor = None if anchor is None else [np.asarray(value, dtype=float) for value in anchor]
        self._meshes: dict[int, Mesh] = {}
        self.state_sizes = [math.prod(state.shape) for state in evolution.states]

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
        assert self.anchor is not None
        given = self.given(self.anchor)
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
        assert self.anchor is not None
        try:
            return planned(self.system, self.frame, self.given(self.anchor))
        except Lost:  # the anchor itself cannot be followed: even steps, halved where they do not do
            return even_mesh(self.system, self.frame)

    @cached_property
    def march(self) -> March:
        """Return what follows designs."""
        return March(self.system, self.mesh(0))

    # ---- calls ------------------------------------------------------------------------------------
