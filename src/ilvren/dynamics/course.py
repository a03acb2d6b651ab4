"""One way through time: segments of steps, each with the rates at its stages.

A mesh says where steps end in any case; between, a segment also ends where a branch changes (an event), found by
solving gap(X_1(h)) = 0 for the step h, and at moments that the design gives. Nothing within a segment has a kink, so
that its numbers are smooth functions of the design, and may be differentiated as they are computed (see `linearised`).
"""

from __future__ import annotations

import bisect
import math
from dataclasses import field
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.dynamics.stepping import explicit_step
from ilvren.dynamics.tableau import EXPLICIT, RADAU, Tableau
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.dynamics.mesh import Mesh
    from ilvren.dynamics.system import System

__all__ = [
    "LEAST_SIZE",
    "Course",
    "Given",
    "Layout",
    "Lost",
    "March",
    "nudged",
    "segment_of",
]

FloatArray = NDArray[np.float64]

# States that stay far smaller than along the design that steps were chosen for count as this share of that when steps
# are judged, so that rounding errors halve none.
LEAST_SIZE = 1e-3


class Lost(Exception):
    """A course that cannot be followed: `tau` where, `state` the number of the flat state that is to blame, −1 for
    none, `value` what it was, and `why`."""

    def __init__(self, tau: float, state: int, value: float, why: str) -> None:
        super().__init__(why)
        self.tau, self.state, self.value, self.why = tau, state, value, why


@dataclass(frozen=True)
class Given:
    """What a design gives: outer values flat (o,), each control's pieces flat (pieces, elements), first values of all
    states flat (n,), lags as shares of the time, the duration, and moving moments as shares: those of moving probes,
    and those at which something is not smooth a moving lag later."""

    outers: FloatArray
    pieces: tuple[FloatArray, ...]
    first: FloatArray
    lags: FloatArray
    duration: float
    moments: FloatArray


@dataclass(kw_only=True)
class Course:
    """All segments. Lists have an entry each: share of the time at the start, step, states at both ends (n,), rates at
    the stages (s, n), all numbers of the moments of the stages (s, width); `modes`; the events by which it began and
    ended (−1: none) and the base step it lies in. `events` are (branch or −1, moving moment or −1); `jumps` (segment
    before which, moment, numbers there)."""

    tableau: Tableau
    tau0: list[float] = field(default_factory=list)
    h: list[float] = field(default_factory=list)
    first: list[FloatArray] = field(default_factory=list)
    last: list[FloatArray] = field(default_factory=list)
    k: list[FloatArray] = field(default_factory=list)
    moments: list[Any] = field(default_factory=list)  # or what they have in common, with the forcing beside
    forcing: list[Any] = field(default_factory=list)
    is_plain: bool = False
    began: list[int] = field(default_factory=list)
    ended: list[int] = field(default_factory=list)
    step: list[int] = field(default_factory=list)
    events: list[tuple[int, int]] = field(default_factory=list)
    event_gap: list[FloatArray] = field(default_factory=list)
    jumps: list[tuple[int, float, FloatArray, tuple[int, ...]]] = field(default_factory=list)
    step_first: list[int] = field(default_factory=list)  # of each base step its first segment
    error: float = 0.0
    flutters: int = 0

    def __len__(self) -> int:
        return len(self.tau0)

    def close(self, mesh: Mesh) -> None:
        """Take plain numbers into arrays, and find the largest error of a step over the states' sizes."""
        if self.is_plain:
            first, last, k = np.array(self.first), np.array(self.last), np.array(self.k)
            self.first, self.last, self.k = list(first), list(last), list(k)
        if self.tableau.error is not None and len(self):
            stacked = np.stack(self.k)
            error = np.abs(np.einsum("s,psn->pn", self.tableau.error, stacked) * np.array(self.h)[:, None])
            sizes = mesh.sizes_of(self.largest, LEAST_SIZE)
            self.error = float((error / sizes).max(initial=0.0))
        if self.flutters:  # within a step branches stayed on sides that are not theirs: how far off it is nobody knows
            self.error = math.inf

    @property
    def largest(self) -> FloatArray:
        """Return the largest values that the states take (n,)."""
        return np.asarray(np.abs([*self.first, *self.last]).max(axis=0))

    def all_moments(self, march: March) -> FloatArray:
        """Return the numbers of the moments of all stages (N, s, width)."""
        if not self.is_plain:
            return np.stack(self.moments)
        tableau = self.tableau
        first, k, h = np.stack(self.first), np.stack(self.k), np.array(self.h)
        found = np.repeat(np.array(self.moments)[:, None, :], tableau.stages, axis=1)
        found[:, :, 0] = np.array(self.tau0)[:, None] + h[:, None] * tableau.c
        found[:, :, march.state_places] = first[:, None] + h[:, None, None] * np.einsum("ij,pjn->pin", tableau.a, k)
        for place, pieces in march.thetas.items():
            found[:, :, place] = found[:, :, 0] * pieces - found[:, :, place]
        if march.forced:
            found[:, :, march.forced] = np.array(self.forcing)
        return found


class March:
    """Follows designs along a mesh."""

    def __init__(self, system: System, mesh: Mesh) -> None:
        self.system, self.mesh = system, mesh
        self.tableau = EXPLICIT if mesh.is_explicit else RADAU
        evolution = system.evolution
        self.state_places = system.places("state")
        self.state_list = self.state_places.tolist()
        self.outer_places = system.places("outer")
        self.lags = range(evolution.lag_count)
        self.layout = Layout(system)
        self._template = np.zeros(system.all_width)
        self._modes = slice(system.width, system.width + system.mode_count)
        self._forcing = slice(system.width + system.mode_count, system.all_width)
        self._samples = _samples(system)
        layout = self.layout
        self.is_plain = self.tableau.is_explicit and system.is_plain
        c = self.tableau.c
        self.shares = c.tolist(), np.clip(c, 1e-9, 1.0 - 1e-9).tolist()
        # What the stages of a step hold each for itself: the forcing, and what comes from some time ago.
        self.lagged = layout.lagged if self.is_plain else []
        self.forced = [*range(system.width + system.mode_count, system.all_width), *self.lagged]
        self.thetas = {
            own.start: evolution.controls[number].pieces
            for lag, number, kind, own in layout.controls
            if kind == "theta" and lag < 0
        }
        if self.is_plain:
            self.step = explicit_step(
                self.tableau, system.all_width, self.state_places.tolist(), self.forced, self.thetas
            )


def _samples(system: System) -> list[int]:
    return [k for k, flag in enumerate(system.is_sampled) if flag]


class Layout:
    """Where the numbers of a moment come from."""

    def __init__(self, system: System) -> None:
        evolution = system.evolution
        self.controls: list[tuple[int, int, str, slice]] = []  # (lag, control, kind, places)
        self.sigmas: dict[int, int] = {}
        self.delayed: dict[int, tuple[list[int], list[int]]] = {}  # lag → places, flat states
        first = np.concatenate([[0], np.cumsum([int(np.prod(s.shape, dtype=int)) for s in evolution.states])]).astype(
            int
        )
        for k, item in enumerate(evolution.inputs):
            own = slice(int(system.starts[k]), int(system.starts[k + 1]))
            if item.kind in ("value", "low", "high", "theta"):
                self.controls.append((item.lag, item.of, item.kind, own))
            elif item.kind == "sigma":
                self.sigmas[item.lag] = own.start
            elif item.kind == "state" and item.lag >= 0:
                places, states = self.delayed.setdefault(item.lag, ([], []))
                places += range(own.start, own.stop)
                states += range(int(first[item.of]), int(first[item.of + 1]))
        self.uses_lags = sorted({*self.sigmas, *self.delayed, *(lag for lag, *_ in self.controls if lag >= 0)})
        # Lags that rates or gaps look back by; what jumps at samples may look back by others.
        self.rate_lags = sorted(
            {evolution.inputs[k].lag for k in system.inputs_of_rates() if evolution.inputs[k].lag >= 0}
        )
        # Places of the numbers that come from some time ago, lag by lag: the moment, states, controls.
        self.lagged: list[int] = []
        for lag in self.rate_lags:
            self.lagged += [self.sigmas[lag]] if lag in self.sigmas else []
            self.lagged += self.delayed.get(lag, ([], []))[0]
            self.lagged += [p for of, _, _, own in self.controls if of == lag for p in range(own.start, own.stop)]


def is_finite(values: Any) -> bool:
    """Return whether all numbers are."""
    if isinstance(values, list):
        total = sum(values)
        return bool(total - total == 0.0) or all(map(math.isfinite, values))
    return bool(np.isfinite(values).all())


def piece_of(tau: float, pieces: int) -> int:
    """Return the piece of a control that a share of the time lies in."""
    return min(max(math.floor(tau * pieces), 0), pieces - 1)


def segment_of(course: Course, inside: float) -> int:
    """Return the segment that holds a share of the time that is no end."""
    place = bisect.bisect_right(course.tau0, inside) - 1
    return min(max(place, 0), len(course) - 1)


def nudged(tau0: float, h: float, c: FloatArray) -> FloatArray:
    """Return the stages' shares of the time, those at the ends a little within the step. Both are (stages,)."""
    return np.asarray(tau0 + h * np.clip(c, 1e-9, 1.0 - 1e-9))
