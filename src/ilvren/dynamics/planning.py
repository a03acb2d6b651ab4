"""Mesh of a design: the moments that steps must end at, and steps between them by error control.

A step is accepted where the estimated error of every state is within `LOCAL` times its size. Explicit steps are given
up for implicit ones where their length is bounded by stability rather than by accuracy.

Source: E. Hairer, G. Wanner, "Solving Ordinary Differential Equations II", 1996, IV.2 (detection of stiffness), IV.8.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.dynamics.course import Given, Lost, March, nudged
from ilvren.dynamics.mesh import Mesh
from ilvren.dynamics.system import RESTING
from ilvren.dynamics.tableau import EXPLICIT, RADAU
from ilvren.dynamics.walker import JUST, MOST_EVENTS, VAST, Walker, followed
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.dynamics.evolution import Evolution
    from ilvren.dynamics.system import System

__all__ = ["Frame", "even_mesh", "framed", "planned", "with_forcing"]

FloatArray = NDArray[np.float64]

# Of a step, as a share of the time tolerance; and in the first pass, which only finds the states' sizes.
LOCAL, COARSE = 1e-3, 1e3
# Steps grow and shrink within these bounds, and aim a little below the tolerance.
SAFETY, LEAST_FACTOR, MOST_FACTOR = 0.9, 0.2, 5.0
# More steps than this are not taken; a step shorter than this share of the time tells of a singularity.
MOST_STEPS = 20_000
LEAST_STEP = 1e-13
# Steps in a row at the border of stability before the rates are called stiff: h·|λ| of DOPRI5 on its imaginary side.
STIFF_STEPS, STIFF_BORDER = 12, 3.25
# Constants of the error estimate of Radau's method.
GAMMA = 3.0 + 3.0 ** (2.0 / 3.0) - 3.0 ** (1.0 / 3.0)
ROOT = math.sqrt(6.0)
RADAU_ERROR = np.array([-13.0 - 7.0 * ROOT, -13.0 + 7.0 * ROOT, -1.0]) / 3.0
# Two moments nearer than this share of the time are one.
SAME = 1e-12


@dataclass(frozen=True)
class Frame:
    """Moments that steps must end at (shares of the time), those of the grid among them, what jumps at which, and at
    which something is not smooth."""

    taus: FloatArray
    grid: FloatArray
    samples: tuple[tuple[float, tuple[int, ...]], ...]
    breaks: FloatArray


def framed(system: System, duration: float, lags: Sequence[float]) -> Frame:
    """Return the moments that no step goes over, for a duration and lags (shares of the time)."""
    evolution = system.evolution
    grid = np.unique(np.concatenate([np.asarray(evolution.grid), *(np.asarray(p.taus) for p in evolution.probes)]))
    samples = _samples(evolution, duration)
    ends = [np.arange(control.pieces + 1) / control.pieces for control in evolution.controls]
    own = system.breaks(np.union1d(np.linspace(0.0, 1.0, 1001), grid))
    breaks = np.unique(np.concatenate([*ends, own, np.array([tau for tau, _ in samples]), np.zeros(1)]))
    jumps = breaks
    for lag in lags:
        # What is not smooth is not smooth again some time later, an order milder each time; most so at the beginning.
        later = np.concatenate([*(jumps + k * lag for k in range(1, 3)), np.arange(1, 6) * lag])
        breaks = np.unique(np.concatenate([breaks, later[later < 1.0]]))
    breaks = breaks[(breaks >= 0.0) & (breaks < 1.0)]
    taus = _merged(np.concatenate([grid, breaks, [0.0, 1.0]]))
    return Frame(taus, grid, samples, breaks)


def _samples(evolution: Evolution, duration: float) -> tuple[tuple[float, tuple[int, ...]], ...]:
    found: dict[float, list[int]] = {}
    first = 0
    for state in evolution.states:
        size = int(np.prod(state.shape, dtype=int))
        if state.rate is None:
            count = math.ceil(duration / float(state.every) * (1.0 - SAME))
            for k in range(count):
                tau = k * float(state.every) / duration
                known = next((t for t in found if abs(t - tau) <= SAME), tau)
                found.setdefault(known, []).extend(range(first, first + size))
        first += size
    return tuple((tau, tuple(states)) for tau, states in sorted(found.items()))


def _merged(taus: FloatArray) -> FloatArray:
    taus = np.unique(taus)
    return np.asarray(taus[np.concatenate([[True], np.diff(taus) > SAME])])


def planned(system: System, frame: Frame, given: Given) -> Mesh:
    """Return the mesh of a design. Raises Lost."""
    sizes, declared = np.ones(system.size), _declared(system)
    base = _mesh(frame, frame.taus, sizes, ~np.isnan(declared), is_explicit=True)
    tolerance = system.evolution.tolerance * LOCAL * 0.1**system.evolution.tighter
    is_explicit, rough = True, None
    while True:
        try:
            first = _Pacing(system, base, given, frame, COARSE * tolerance, rough, declared).paced()
            break
        except _Stiff:
            is_explicit = False
            base = replace(base, is_explicit=False)
        except Lost:
            # States that begin at 0 and rise late have no size yet that a first step could be judged by.
            known, rough = rough, _rough_sizes(system, frame, given, declared) if rough is None else None
            if known is not None or rough is None:
                raise
    sizes = np.where(np.isnan(declared), np.where(first.largest > 0.0, first.largest, 1.0), declared)
    try:
        second = _Pacing(system, base, given, frame, tolerance, sizes, declared).paced()
    except _Stiff:
        is_explicit = False
        base = replace(base, is_explicit=False)
        second = _Pacing(system, base, given, frame, tolerance, sizes, declared).paced()
    return _mesh(frame, np.array(second.taus), sizes, ~np.isnan(declared), is_explicit=is_explicit)


def _rough_sizes(system: System, frame: Frame, given: Given, declared: FloatArray) -> FloatArray | None:
    """Return the sizes of the states along even implicit steps, None where these do not lead to the end."""
    base = _mesh(frame, frame.taus, np.ones(system.size), ~np.isnan(declared), is_explicit=False)
    try:
        largest = followed(March(system, base), given).largest
    except Lost:
        return None
    if not np.isfinite(largest).all():
        return None
    return np.where(np.isnan(declared), np.where(largest > 0.0, largest, 1.0), declared)


def _declared(system: System) -> FloatArray:
    found = []
    for state in system.evolution.states:
        count = int(np.prod(state.shape, dtype=int))
        size = np.nan if state.size is None else state.size
        found.append(np.broadcast_to(np.ravel(size) if np.ndim(size) else size, count))
    return np.concatenate(found).astype(float) if found else np.zeros(0)


def _mesh(frame: Frame, taus: FloatArray, sizes: FloatArray, declared: NDArray[np.bool_], *, is_explicit: bool) -> Mesh:
    def place(tau: float) -> int:
        return int(np.abs(taus - tau).argmin())

    grid = np.array([place(tau) for tau in frame.grid.tolist()], dtype=np.int64)
    samples = {place(tau): states for tau, states in frame.samples}
    breaks = frozenset(place(tau) for tau in frame.breaks.tolist())
    return Mesh(taus, grid, samples, breaks, sizes, declared, is_explicit)


def with_forcing(system: System, mesh: Mesh) -> Mesh:
    """Return the mesh with the forcing at the stages of its steps."""
    if not system.forcing_count:
        return mesh
    c = (EXPLICIT if mesh.is_explicit else RADAU).c
    low, h = mesh.taus[:-1], np.diff(mesh.taus)
    taus = np.stack([nudged(float(a), float(b), c) for a, b in zip(low, h, strict=True)])
    return replace(mesh, forcing=system.forcing(taus))


class _Stiff(Exception):
    """Stability bounds the steps."""


class _Pacing(Walker):
    """A course whose steps are found on the way."""

    def __init__(
        self, system: System, mesh: Mesh, given: Given, frame: Frame, tolerance: float, sizes: FloatArray | None,
        declared: FloatArray,
    ) -> None:  # fmt: skip
        super().__init__(March(system, replace(mesh, forcing=None)), given, mesh)
        self.tolerance, self.sizes, self.declared = tolerance, sizes, declared
        self.largest = np.abs(given.first)
        self.taus: list[float] = [0.0]
        self.next_step = 0.0
        self.border = 0
        self.tried = 0

    def check_lags(self) -> None:
        for lag in self.march.layout.uses_lags:
            shift = float(self.given.lags[lag])
            if not shift > 0.0 or not math.isfinite(shift):
                raise Lost(0.0, -1, shift, "a lag is not above 0")
        self.most = min((float(self.given.lags[lag]) for lag in self.march.layout.rate_lags), default=1.0)
        if self.most < 1.0 / MOST_STEPS:
            raise Lost(0.0, -1, self.most, f"a lag is so short that it takes more than {MOST_STEPS} steps")

    def paced(self) -> _Pacing:
        """Interpretation to the end. Raises Lost, _Stiff."""
        self.walked()
        return self

    def through(self, step: int, low: float, high: float, x: FloatArray) -> FloatArray:
        position, began = low, -1
        h = min(self.next_step or 0.01 * (high - low), high - low, self.most)
        flutters, is_last_rejected = 0, False
        while position < high:
            remaining = high - position
            h = min(h, self.most, remaining)
            if remaining - h < 1e-3 * h:
                h = remaining
            elif remaining < 2.0 * h:
                h = 0.5 * remaining
            self.tried += 1
            if h < LEAST_STEP or self.tried > MOST_STEPS:
                self.give_up(position, x, h)
            moments, k, after = self.segment(position, h, x, None)
            error = self.error(np.asarray(x), np.asarray(after), np.asarray(k), h, moments)
            if not error <= 1.0:  # also where it is not a number
                h *= max(LEAST_FACTOR, SAFETY * error ** (-1.0 / self.power)) if math.isfinite(error) else 0.25
                is_last_rejected = True
                continue
            self.check_stiffness(np.asarray(x), np.asarray(k), h)
            factor = min(MOST_FACTOR, max(LEAST_FACTOR, SAFETY * max(error, 1e-10) ** (-1.0 / self.power)))
            grown = h * (min(factor, 1.0) if is_last_rejected else factor)
            is_last_rejected = False
            crossing = (
                self.crossed(position, h, x, after) if self.system.mode_count and flutters <= MOST_EVENTS else None
            )
            if crossing is not None and self.modes[crossing.branch] == RESTING:
                self.turn(crossing)
                flutters += 1
                continue
            if crossing is not None and crossing.h >= 0.0:
                moments, k, after = self.segment(position, crossing.h, x, None)
                self.append(position, crossing.h, x, after, k, moments, began, -1, step)
                position, x, began = position + crossing.h, after, -1
                self.turn(crossing)
                self.settle(crossing.branch, position, position - JUST * h, x)
                flutters += 1
                self.largest = np.maximum(self.largest, np.abs(after))
                h = grown
                continue
            if crossing is not None:
                flutters = 2 * MOST_EVENTS
            self.append(position, h, x, after, k, moments, began, -1, step)
            self.largest = np.maximum(self.largest, np.abs(after))
            leaving = self.leaving(position, h, after) if crossing is None and self.system.mode_count else None
            if leaving is not None:
                self.turn(leaving)
                self.settle(leaving.branch, position + h, position + h * (1.0 - JUST), after)
            position = high if h == remaining else position + h
            x = after
            self.taus.append(position)
            h = grown
        self.next_step = max(h, self.next_step * 0.5) if self.next_step else h
        if flutters > MOST_EVENTS:
            self.flutter(low, high, x)
        return x

    @property
    def power(self) -> float:
        return 5.0 if self.march.tableau.is_explicit else 4.0

    def error(self, x: FloatArray, after: FloatArray, k: FloatArray, h: float, moments: FloatArray) -> float:
        if not np.isfinite(after).all():
            return math.nan
        tableau = self.march.tableau
        if tableau.error is not None:
            found = np.abs(h * (tableau.error @ k))
        else:
            found = np.abs(self.radau_error(x, k, h, moments))
        sizes = self.sizes
        if sizes is None:
            sizes = np.where(np.isnan(self.declared), np.maximum(self.largest, np.abs(after)), self.declared)
        sizes = np.where(sizes > 0.0, sizes, 1.0)
        return float((found / (self.tolerance * sizes)).max(initial=0.0))

    def radau_error(self, x: FloatArray, k: FloatArray, h: float, moments: FloatArray) -> FloatArray:
        """Return (γ/h I − J)⁻¹ (F(τ_0, X_0) + Σ e_i Z_i / h), Z_i the increments of the stages."""
        n = len(x)
        at = nudged(moments[0, 0] - self.march.tableau.c[0] * h, h, np.zeros(1))[0]
        moment = self.moment(float(moments[0, 0] - self.march.tableau.c[0] * h), x, float(at), None)
        function, rows, columns = self.system.state_slopes
        slopes = np.zeros((n, n))
        if rows:
            slopes[rows, columns] = self.rated(function, moment)
        z = h * (self.march.tableau.a @ k)
        right = np.asarray(self.rated(self.system.rates, moment)) * np.ones(n) + RADAU_ERROR @ z / h
        matrix = GAMMA / h * np.eye(n) - slopes
        try:
            found = np.linalg.solve(matrix, right)
            if np.abs(found / np.maximum(np.abs(x), 1e-300)).max(initial=0.0) > 0.0:
                changed = moment.copy()
                changed[self.march.state_places] = x + found
                again = np.asarray(self.rated(self.system.rates, changed)) * np.ones(n) + RADAU_ERROR @ z / h
                second = np.linalg.solve(matrix, again)
                return np.asarray(second if np.isfinite(second).all() else found)
        except np.linalg.LinAlgError:
            return np.full(n, np.nan)
        return np.asarray(found)

    def check_stiffness(self, x: FloatArray, k: FloatArray, h: float) -> None:
        if not self.march.tableau.is_explicit:
            return
        sizes = np.where(self.largest > 0.0, self.largest, 1.0)
        a = self.march.tableau.a
        apart = h * np.linalg.norm(((a[6] - a[5]) @ k) / sizes)
        change = np.linalg.norm((k[6] - k[5]) / sizes)
        if apart > 0.0 and h * change / apart > STIFF_BORDER:
            self.border += 1
            if self.border >= STIFF_STEPS:
                raise _Stiff
        else:
            self.border = max(self.border - 1, 0)

    def give_up(self, position: float, x: FloatArray, h: float) -> None:
        if self.march.tableau.is_explicit and self.border:
            raise _Stiff
        moment = self.moment(position, x, position + 0.5 * h, None)
        rates = np.abs(np.asarray(self.rated(self.system.rates, moment))) * np.ones(len(x))
        state = int(np.argmax(np.where(np.isfinite(rates), rates / np.maximum(self.largest, 1e-300), np.inf)))
        is_vast = abs(float(x[state])) > VAST * max(abs(float(self.given.first[state])), 1.0)
        why = "grows without bound" if is_vast else "changes too fast to be followed"
        if self.tried > MOST_STEPS:
            why = f"needs more than {MOST_STEPS} steps"
        raise Lost(position, state, float(x[state]), why)


def even_mesh(system: System, frame: Frame) -> Mesh:
    """Return a mesh of even steps, for a design that cannot be followed: others may be."""
    declared = _declared(system)
    sizes = np.where(np.isnan(declared), 1.0, declared)
    return _mesh(frame, frame.taus, sizes, ~np.isnan(declared), is_explicit=True)
