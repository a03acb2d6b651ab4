"""The local derivatives of a course, as it was computed: of its rates, events and jumps, for the sweeps along it.

A course is a chain of numbers: the rates at the stages k_i = F(τ_0 + c_i h, Y_i, …), Y_i = X_0 + h Σ a_ij k_j, the
states X_1 = X_0 + h Σ b_j k_j, the moments T_e of events, where gap(T_e, X_1, …) = 0, and what sampled states jump to.
By differentiating each link (internal differentiation: Bock 1981)

    dk_i = F_x dY_i + F_p dp + F_τ (dτ_0 + c_i dh),   dX_1 = dX_0 + h Σ b_j dk_j + dh Σ b_j k_j       (1)
    dT_e = −(gap_x dX_1 + gap_p dp) / (gap_x ∂X_1/∂T_e + gap_τ)                                     (2)

the derivatives are those of the numbers computed, to rounding: `forward_sweep`, `backward_sweep`, `second_sweep`.

Sources: H. Bock, "Numerical treatment of inverse problems in chemical reaction kinetics", 1981; E. Hairer, S. Nørsett,
G. Wanner, "Solving Ordinary Differential Equations I", 1993, II.6.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.dynamics.course import Course, Given, March, segment_of
from ilvren.dynamics.lookback import Lookback

if TYPE_CHECKING:
    from ilvren.dynamics.columns import Columns

__all__ = ["CHUNK", "Linear"]

FloatArray = NDArray[np.float64]

# Numbers held at once by the local derivatives of a part of a course.
# Stages of a course up to which what is needed of delays is kept.
MOST_KEPT = 100_000
CHUNK = 4_000_000


class Linear:
    """The local derivatives along a course: computed for all segments, in parts."""

    def __init__(self, march: March, given: Given, course: Course, columns: Columns) -> None:
        self.march, self.given, self.course, self.columns = march, given, course, columns
        system = march.system
        self.system = system
        self.n, self.s = system.size, course.tableau.stages
        self.states = march.state_places
        self.h = np.array(course.h)
        self.tau0 = np.array(course.tau0)
        self.k = np.stack(course.k)
        self.moments = course.all_moments(march)  # (N, s, width)
        self.began, self.ended = np.array(course.began), np.array(course.ended)
        self.is_moved = (self.began >= 0) | (self.ended >= 0)
        # Nothing moves a moment: neither an event nor a lag that the design chooses.
        self.is_still = not self.is_moved.any() and not (columns.lags >= 0).any()
        self._keeps = len(self.h) * self.s <= MOST_KEPT
        self._kept_delays: dict[int, list[tuple[int, int, float, int, list[int], list[int], bool]]] = {}
        self._kept_weights: dict[tuple[int, float], FloatArray] = {}
        self.lookback = Lookback(march, given, course, columns, self.is_moved)
        count, width = self.moments.shape[0] * self.s, self.moments.shape[2]
        flat = np.ascontiguousarray(self.moments.reshape(count, width).T)
        self.slopes = system.slopes_many(flat).reshape(-1, self.s, self.n, width)
        self.a = self.slopes[:, :, :, self.states]  # F_x
        self._find_parts()
        self._rates_by_time()
        self._gap_slopes()
        self._jump_slopes()

    # ---- what else than states moves a moment -----------------------------------------------------

    def _find_parts(self) -> None:
        """Find for every number of a moment, but states, the column it follows: outer values everywhere, pieces of
        controls by segment."""
        march, layout, columns = self.march, self.march.layout, self.columns
        self.outer_places = march.outer_places[columns.outers >= 0]
        self.outer_columns = columns.outers[columns.outers >= 0]
        controls = self.system.evolution.controls
        middles = self.tau0 + 0.5 * self.h
        self.piece_parts: list[tuple[slice, NDArray[np.int64]]] = []  # (places, columns (N, s, elements))
        self.time_parts: list[tuple[int, int, float]] = []  # (lag, place, slope by the share of the time)
        stage_taus = self.tau0[:, None] + self.h[:, None] * np.clip(self.course.tableau.c, 1e-9, 1 - 1e-9)
        for lag, number, kind, own in layout.controls:
            control = controls[number]
            if kind == "theta":
                self.time_parts.append((lag, own.start, float(control.pieces)))
                continue
            if lag < 0:
                pieces = np.clip(np.floor(middles * control.pieces).astype(int), 0, control.pieces - 1)
                pieces = np.repeat(pieces[:, None], self.s, axis=1)
            else:
                at = np.maximum(stage_taus - self.given.lags[lag], 0.0)
                pieces = np.clip(np.floor(at * control.pieces).astype(int), 0, control.pieces - 1)
            wanted = pieces + (1 if kind == "high" else 0)
            self.piece_parts.append((own, columns.pieces[number][wanted]))
        for lag, place in layout.sigmas.items():
            self.time_parts.append((lag, place, 1.0))

    def _rates_by_time(self) -> None:
        """Find F_τ in all: by the share of the time itself, controls between their ends, and forcing."""
        self.by_tau = self.slopes[:, :, :, 0].copy()
        for lag, place, slope in self.time_parts:
            if lag < 0:
                self.by_tau += slope * self.slopes[:, :, :, place]
        march = self.march
        if self.system.forcing_count and self.is_moved.any():
            own = np.flatnonzero(self.is_moved)
            taus = self.moments[own][:, :, 0].ravel()
            first, second = self.system.forcing_slopes(taus)
            first = first.reshape(len(own), self.s, -1)
            self.by_tau[own] += np.einsum("nsiw,nsw->nsi", self.slopes[own][:, :, :, march._forcing], first)
            self.forcing_first = np.zeros((len(self.h), self.s, self.system.forcing_count))
            self.forcing_second = np.zeros_like(self.forcing_first)
            self.forcing_first[own] = first
            self.forcing_second[own] = second.reshape(len(own), self.s, -1)

    def _gap_slopes(self) -> None:
        course = self.course
        self.gap_slopes: dict[int, FloatArray] = {}
        own = [e for e, (branch, _) in enumerate(course.events) if branch >= 0]
        if own:
            flat = np.ascontiguousarray(np.stack([course.event_gap[e] for e in own]).T)
            found = self.system.gap_slopes_many(flat)
            first = self.system.forcing_slopes(flat[0])[0] if self.system.forcing_count else None
            for k, e in enumerate(own):
                row = found[k, course.events[e][0]].copy()
                by_tau = row[0]
                for lag, place, slope in self.time_parts:
                    if lag < 0:
                        by_tau += slope * row[place]
                if first is not None:
                    by_tau += float(row[self.march._forcing] @ first[k])
                for lag, place, slope in self.time_parts:
                    if lag >= 0 and flat[0, k] > float(self.given.lags[lag]):
                        by_tau += slope * row[place]
                for lag, (places, own_flat) in self.march.layout.delayed.items():
                    at, sigma = self.earlier(lag, float(flat[0, k]), self.segment_of_event(e))
                    if at >= 0:
                        by_tau += float(row[places] @ self.past_rate(at, sigma, own_flat))
                row[0] = by_tau
                self.gap_slopes[e] = row

    def _jump_slopes(self) -> None:
        self.jump_slopes: list[FloatArray] = []
        if self.course.jumps:
            flat = np.ascontiguousarray(np.stack([moment for _, _, moment, _ in self.course.jumps]).T)
            self.jump_slopes = list(self.system.jump_slopes_many(flat))

    # ---- the chain's right-hand sides -------------------------------------------------------------

    def driven(self, n: int, directions: FloatArray) -> FloatArray:
        """Return F_p dp (s, n, q) at the stages of segment n for directions (count, q)."""
        found = np.einsum("sio,oq->siq", self.slopes[n][:, :, self.outer_places], directions[self.outer_columns])
        for places, columns in self.piece_parts:
            own = columns[n]  # (s, elements)
            part = np.where((own >= 0)[:, :, None], directions[np.maximum(own, 0)], 0.0)
            found += np.einsum("sie,seq->siq", self.slopes[n][:, :, places], part)
        return np.asarray(found)

    def transposed_onto(self, n: int, kappa: FloatArray, into: FloatArray) -> None:
        """Add F_pᵀκ at the stages of segment n, for κ (s, n, q), to `into` (count, q)."""
        np.add.at(
            into,
            self.outer_columns,
            np.einsum("sio,siq->oq", self.slopes[n][:, :, self.outer_places], kappa),
        )
        for places, columns in self.piece_parts:
            own = columns[n]
            part = np.einsum("sie,siq->seq", self.slopes[n][:, :, places], kappa)
            is_kept = own >= 0
            np.add.at(into, own[is_kept], part[is_kept])

    def transposed_onto_all(self, own: NDArray[np.int64], kappa: FloatArray, into: FloatArray) -> None:
        """Add F_pᵀκ of some segments, for κ (segments, s, n), to `into` (count,)."""
        slopes = self.slopes[own]
        np.add.at(into, self.outer_columns, np.einsum("psio,psi->o", slopes[..., self.outer_places], kappa))
        for places, columns in self.piece_parts:
            part = np.einsum("psie,psi->pse", slopes[..., places], kappa)
            mine = columns[own]
            np.add.at(into, mine[mine >= 0], part[mine >= 0])

    def gap_row(self, event: int) -> tuple[FloatArray, float, list[tuple[int, float]]]:
        """Return a gap's derivatives by states (n,), by the share of the time, and [(column, derivative)]."""
        row, n = self.gap_slopes[event], self.segment_of_event(event)
        pairs = list(zip(self.outer_columns.tolist(), row[self.outer_places].tolist(), strict=True))
        for places, columns in self.piece_parts:
            pairs += [(int(c), float(v)) for c, v in zip(columns[n, -1], row[places], strict=True) if c >= 0]
        return row[self.states], float(row[0]), pairs

    def earlier(self, lag: int, tau: float, place: int) -> tuple[int, float]:
        """Return (segment, −1 for the beginning; share of the time) some time before the end of segment `place`."""
        sigma = tau - float(self.given.lags[lag])
        if sigma <= 0.0:
            return -1, 0.0
        return segment_of(self.course, sigma - 1e-9 * float(self.h[place])), sigma

    def past_rate(self, at: int, sigma: float, flat: list[int]) -> FloatArray:
        """Return the slope of states within a segment. It is (len(flat),)."""
        theta = (sigma - self.course.tau0[at]) / self.course.h[at]
        return np.asarray(self.course.tableau.weights(theta, 1) @ self.k[at][:, flat])

    def weights(self, at: int, sigma: float) -> FloatArray:
        """Return what the rates of a segment weigh in the states at a moment in it (s,)."""
        found = self._kept_weights.get((at, sigma))
        if found is None:
            found = self.course.tableau.weights((sigma - self.course.tau0[at]) / self.course.h[at])
            if self._keeps:
                self._kept_weights[at, sigma] = found
        return found

    def segment_of_event(self, event: int) -> int:
        """Return the segment that ends with an event."""
        return int(np.flatnonzero(self.ended == event)[0])

    def delay_of(self, n: int) -> list[tuple[int, int, float, int, list[int], list[int], bool]]:
        """Return for segment n its delayed states: (stage, lag, sigma, segment they are in or −1 for the beginning,
        places, flat states, whether the moment moves)."""
        if n not in self._kept_delays:
            found = self._delays(n)
            if not self._keeps:
                return found
            self._kept_delays[n] = found
        return self._kept_delays[n]

    def _delays(self, n: int) -> list[tuple[int, int, float, int, list[int], list[int], bool]]:
        found = []
        layout = self.march.layout
        for lag, (places, states) in layout.delayed.items():
            shift = float(self.given.lags[lag])
            inside = self.tau0[n] + self.h[n] * np.clip(self.course.tableau.c, 1e-9, 1 - 1e-9)
            for i, c in enumerate(self.course.tableau.c.tolist()):
                sigma = self.tau0[n] + c * self.h[n] - shift
                if inside[i] - shift <= 0.0:
                    found.append((i, lag, 0.0, -1, places, states, False))
                else:
                    place = segment_of(self.course, float(inside[i] - shift))
                    found.append((i, lag, max(float(sigma), 0.0), place, places, states, True))
        return found
