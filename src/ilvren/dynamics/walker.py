"""Makes a course: steps from the beginning to the end, events found on the way.

A mesh says where steps end in any case; between, a segment also ends where a branch changes (an event), found by
solving gap(X_1(h)) = 0 for the step h, and at moments that the design gives.
"""

from __future__ import annotations

import bisect
import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.dynamics.course import Course, Given, Lost, March, is_finite, nudged, piece_of, segment_of
from ilvren.dynamics.lookback import Behind

if TYPE_CHECKING:
    from ilvren.dynamics.mesh import Mesh
    from ilvren.dynamics.tableau import Tableau

__all__ = ["MOST_EVENTS", "NO_GAP", "ROUNDING", "VAST", "Walker", "followed", "walker_along"]

FloatArray = NDArray[np.float64]

# A segment that holds more events than this is taken without finding them: a branch that flutters.
MOST_EVENTS = 40
# Events are found to rounding; this many steps of the search suffice by far.
MOST_SEARCH = 100
# Newton's iteration for the stages of an implicit step.
MOST_NEWTON = 30
ROUNDING = 4e-16
# Rates that agree with those of the step to so many roundings of what they are made of agree.
MOST_ROUNDINGS = 64.0
# A state so many times its size has run away, whatever its rate is.
VAST = 1e6
# A state counts as no smaller than this share of the largest it has been where Newton's iteration is judged.
NEARLY_NOTHING = 1e-3
# A gap of less than this share of the largest it had is none: rounding alone could turn it.
NO_GAP = 1e-11


class Walker:
    """One course being made."""

    def __init__(self, march: March, given: Given, mesh: Mesh) -> None:
        self.march, self.system, self.given, self.mesh = march, march.system, given, mesh
        self.course = Course(tableau=march.tableau)
        self.base = march._template.copy()
        self.base[march.outer_places] = given.outers
        self.modes = [1.0] * self.system.mode_count
        self.gap_sizes = [0.0] * self.system.mode_count
        self.base_key: tuple[int, ...] | None = None
        self.base_modes: list[float] | None = None
        self.base_list: list[float] = []
        self.is_plain = self.course.is_plain = march.is_plain
        self.moving = sorted((float(tau), k) for k, tau in enumerate(given.moments) if 0.0 < tau < 1.0)
        self.behind = Behind(self.course)
        self.peaks: FloatArray | None = None  # the largest each state has been, in implicit steps
        self.lagged_rows: dict[tuple[float, float], list[list[float]]] = {}
        self.lagged_last: tuple[float, float, list[list[float]]] | None = None

    # ---- moments ----------------------------------------------------------------------------------

    def moment(self, tau: float, x: Sequence[float] | FloatArray, at: float, forcing: FloatArray | None) -> FloatArray:
        """Return all numbers of the moment tau; `at` is a share of the time within the same piece of every control.
        Shapes: x (states,), forcing (values,), result (numbers of a moment,)."""
        march, layout = self.march, self.march.layout
        found = self.base.copy()
        found[0] = tau
        found[march.state_places] = x
        for lag, control, kind, own in layout.controls:
            when, inside = tau, at
            if lag >= 0:
                shift = self.given.lags[lag]
                when = max(tau - shift, 0.0)
                inside = max(at - shift, 0.0)
            found[own] = self.control(control, kind, when, inside)
        for lag in layout.uses_lags:
            sigma = max(tau - self.given.lags[lag], 0.0)
            if lag in layout.sigmas:
                found[layout.sigmas[lag]] = sigma
            if lag in layout.delayed:
                places, states = layout.delayed[lag]
                found[places] = self.past(sigma, at - self.given.lags[lag])[states]
        found[march._modes] = self.modes
        if forcing is not None:
            found[march._forcing] = forcing
        elif self.system.forcing_count:
            found[march._forcing] = self.system.forcing(np.array([at if abs(at - tau) < 1e-9 else tau]))[0]
        return found

    def control(self, number: int, kind: str, tau: float, inside: float) -> FloatArray | float:
        """Return what a control's input holds; `inside` tells the piece where tau lies on an end. It is (own shape,) or
        a number."""
        control = self.system.evolution.controls[number]
        pieces = self.given.pieces[number]
        piece = piece_of(inside, control.pieces)
        match kind:
            case "value" | "low":
                return np.asarray(pieces[piece])
            case "high":
                return np.asarray(pieces[piece + 1])
        return tau * control.pieces - piece

    def past(self, sigma: float, inside: float) -> FloatArray:
        """Return the states at an earlier share of the time, on the side of `inside`. They are (states,)."""
        course = self.course
        if sigma <= 0.0 or not len(course):
            return np.asarray(course.first[0] if len(course) else self.x_first)
        place = segment_of(course, inside)
        theta = (sigma - course.tau0[place]) / course.h[place]
        step = course.h[place] * (course.tableau.weights(theta) @ np.asarray(course.k[place]))
        return np.asarray(course.first[place]) + step

    # ---- steps ------------------------------------------------------------------------------------

    def segment(self, tau0: float, h: float, x: FloatArray, forcing: FloatArray | None) -> tuple[FloatArray, ...]:
        """Return (moments of the stages, their rates, states at the end) of one step. Shapes: x (states,), moments
        (stages, numbers), rates (stages, states), end (states,)."""
        tableau = self.march.tableau
        if self.is_plain:
            return self.plain(tau0, h, x, forcing)
        if tableau.is_explicit:
            return self.explicit(tableau, tau0, h, x, forcing)
        return self.implicit(tableau, tau0, h, x, forcing)

    def plain(self, tau0: float, h: float, x: Any, forcing: Any) -> tuple[Any, ...]:
        """One step on plain floats; in place of the moments what all of them hold."""
        base = self.base_of(tau0 + 0.5 * h)
        if forcing is None and self.system.forcing_count:
            forcing = self.system.forcing(nudged(tau0, h, self.march.tableau.c)).tolist()
        if self.march.lagged:
            rows = self.lagged_of(tau0, h)
            forcing = [a + b for a, b in zip(forcing, rows, strict=True)] if self.system.forcing_count else rows
        try:
            k, after = self.march.step(self.system.rates, tau0, h, x, base, forcing)
        except (ArithmeticError, ValueError):
            n = len(x)
            return (base, forcing), [[math.nan] * n] * self.march.tableau.stages, [math.nan] * n
        return (base, forcing), k, after

    def lagged_of(self, tau0: float, h: float) -> list[list[float]]:
        """Return what the stages of a step hold from some time ago (s, lagged): for all whole steps at once that look
        no further than the course has come."""
        found = self.lagged_rows.get((tau0, h))
        if found is not None:
            return found
        if self.lagged_last is not None and self.lagged_last[:2] == (tau0, h):
            return self.lagged_last[2]
        taus, c = self.mesh.taus, self.march.tableau.c
        step = bisect.bisect_left(taus, tau0)
        if not (step + 1 < len(taus) and taus[step] == tau0 and taus[step + 1] - tau0 == h):
            found = [self.lagged_alone(tau0 + h * a, tau0 + h * b) for a, b in zip(*self.march.shares, strict=True)]
            self.lagged_last = (tau0, h, found)
            return found
        least = min(float(self.given.lags[lag]) for lag in self.march.layout.rate_lags)
        last = max(bisect.bisect_right(taus, tau0 + least) - 1, step + 1)
        lows, steps = taus[step:last], np.diff(taus[step : last + 1])
        at = lows[:, None] + steps[:, None] * c
        inside = lows[:, None] + steps[:, None] * np.clip(c, 1e-9, 1.0 - 1e-9)
        rows = self.lagged_at(at.ravel(), inside.ravel()).reshape(*at.shape, -1).tolist()
        self.lagged_rows = dict(zip(zip(lows.tolist(), steps.tolist(), strict=True), rows, strict=True))
        return list(rows[0])

    def lagged_alone(self, tau: float, inside: float) -> list[float]:
        """Return what one moment holds from some time ago, as `lagged_at` does, on plain floats."""
        layout, found = self.march.layout, []
        for lag in layout.rate_lags:
            shift = float(self.given.lags[lag])
            sigma, within = max(tau - shift, 0.0), inside - shift
            if lag in layout.sigmas:
                found.append(sigma)
            if lag in layout.delayed:
                states = layout.delayed[lag][1]
                if sigma <= 0.0 or not len(self.course):
                    found += [float(self.x_first[state]) for state in states]
                else:
                    found += self.behind.alone(segment_of(self.course, within), sigma, states)
            for of, number, kind, _ in layout.controls:
                if of == lag:
                    value = self.control(number, kind, sigma, max(within, 0.0))
                    found += [value] if isinstance(value, float) else np.ravel(value).tolist()
        return found

    def lagged_at(self, taus: FloatArray, insides: FloatArray) -> FloatArray:
        """Return what moments hold from some time ago (moments, lagged), in the order of `Layout.lagged`."""
        layout, found = self.march.layout, []
        for lag in layout.rate_lags:
            shift = float(self.given.lags[lag])
            sigmas, inside = np.maximum(taus - shift, 0.0), insides - shift
            if lag in layout.sigmas:
                found.append(sigmas[:, None])
            if lag in layout.delayed:
                found.append(self.behind.states(sigmas, inside, np.asarray(self.x_first))[:, layout.delayed[lag][1]])
            for of, number, kind, _ in layout.controls:
                if of != lag:
                    continue
                count, pieces = self.system.evolution.controls[number].pieces, self.given.pieces[number]
                piece = np.clip(np.floor(np.maximum(inside, 0.0) * count).astype(int), 0, count - 1)
                if kind == "theta":
                    found.append((sigmas * count - piece)[:, None])
                else:
                    found.append(np.asarray(pieces)[piece + (kind == "high")].reshape(len(taus), -1))
        return np.concatenate(found, axis=1)

    def base_of(self, middle: float) -> list[float]:
        """Return what all moments of a step hold, but the time and the states: of a control between two values the
        piece."""
        key = tuple(piece_of(middle, control.pieces) for control in self.system.evolution.controls)
        if key != self.base_key or self.base_modes is not self.modes:
            found = self.base.copy()
            for lag, number, kind, own in self.march.layout.controls:
                if lag >= 0:
                    continue
                found[own] = key[number] if kind == "theta" else self.control(number, kind, middle, middle)
            found[self.march._modes] = self.modes
            self.base_key, self.base_modes, self.base_list = key, self.modes, found.tolist()
        return self.base_list

    def explicit(
        self, tableau: Tableau, tau0: float, h: float, x: FloatArray, forcing: FloatArray | None
    ) -> tuple[FloatArray, ...]:
        """Make one explicit step: moments (stages, numbers), rates (stages, states), states at the end (states,)."""
        s, n = tableau.stages, len(x)
        k = np.zeros((s, n))
        rates, inside = self.system.rates, nudged(tau0, h, tableau.c)
        moments = np.empty((s, len(self.base)))
        for i in range(s):
            at = x + h * (tableau.a[i, :i] @ k[:i]) if i else x
            own = None if forcing is None else forcing[i]
            moments[i] = self.moment(tau0 + float(tableau.c[i]) * h, at, float(inside[i]), own)
            k[i] = self.rated(rates, moments[i])
        return moments, k, x + h * (tableau.b @ k)

    @staticmethod
    def rated(rates: Any, moment: FloatArray) -> Any:
        """Return the rates at a moment, NaN where they have no value. `moment` is (numbers,)."""
        try:
            return rates(*moment.tolist())
        except (ArithmeticError, ValueError):
            return math.nan

    def implicit(
        self, tableau: Tableau, tau0: float, h: float, x: FloatArray, forcing: FloatArray | None
    ) -> tuple[FloatArray, ...]:
        """Solve (1) of `tableau` for the rates by Newton's iteration, its matrix that of the step's start. Shapes: x
        (states,), rates (stages, states)."""
        s, n = tableau.stages, len(x)
        inside = nudged(tau0, h, tableau.c)
        moments = np.stack(
            [
                self.moment(tau0 + float(c) * h, x, float(inside[i]), None if forcing is None else forcing[i])
                for i, c in enumerate(tableau.c)
            ]
        )
        rates, places = self.system.rates, self.march.state_places
        function, rows, columns = self.system.state_slopes

        slopes = np.zeros((n, n))

        def matrix(moment: FloatArray) -> FloatArray:
            if rows:
                slopes[rows, columns] = self.rated(function, moment)
            return np.asarray(np.eye(s * n) - h * np.kron(tableau.a, slopes))

        k = np.tile(np.asarray(self.rated(rates, moments[0])) * np.ones(n), (s, 1))
        change_before, inverse = math.inf, None
        # What has almost died down is judged by what it was: differences of large numbers leave no more digits of it.
        self.peaks = np.abs(x) if self.peaks is None else np.maximum(self.peaks, np.abs(x))
        floor = NEARLY_NOTHING * self.peaks + 1e-300
        for turn in range(MOST_NEWTON):
            at = x + h * (tableau.a @ k)
            moments[:, places] = at
            found = np.array([self.rated(rates, moment) * np.ones(n) for moment in moments])
            if not np.isfinite(found).all():
                return moments, found, np.full(n, np.nan)
            if inverse is None or (turn % 6 == 0 and turn):
                try:
                    inverse = np.linalg.inv(matrix(moments[-1] if turn else moments[0]))
                except np.linalg.LinAlgError:
                    return moments, found, np.full(n, np.nan)
            if turn and (np.abs(found - k) <= MOST_ROUNDINGS * ROUNDING * (np.abs(at) @ np.abs(slopes).T)).all():
                break  # large terms cancel in the rates: nothing nearer can be told
            change = (inverse @ (found - k).ravel()).reshape(s, n)
            k = k + change
            scale = np.abs(x) + h * np.abs(k).max(axis=0) + floor
            size = h * float(np.abs(change / scale).max(initial=0.0))
            if size <= ROUNDING or (size >= 0.5 * change_before and size <= 1e-13):
                break
            change_before = size
        else:
            if not change_before <= 1e-11:
                return moments, k, np.full(n, np.nan)
        moments[:, places] = x + h * (tableau.a @ k)
        k = np.array([self.rated(rates, moment) * np.ones(n) for moment in moments])
        return moments, k, x + h * (tableau.b @ k)

    def natural_rates(self, tau: float, x: FloatArray, low: float, high: float) -> FloatArray:
        """Return the rates with every branch as it falls, at a moment between `low` and `high`, where no piece ends.
        Shapes: x and result (states,)."""
        inside = min(max(tau, low + 1e-9 * (high - low)), high - 1e-9 * (high - low))
        moment = self.moment(tau, x, inside, np.zeros(self.system.forcing_count))[: self.system.width]
        moment[0] = inside
        return np.asarray(self.rated(self.system.natural, moment)) * np.ones(len(x))

    # ---- the walk ---------------------------------------------------------------------------------

    def walked(self) -> Course:
        """Follow the states to the end and return their course. Raises Lost where they have no finite value."""
        mesh, course, system = self.mesh, self.course, self.system
        x: Any = self.given.first.tolist() if self.is_plain else self.given.first.copy()
        self.x_first = x
        self.check_lags()
        samples = mesh.samples
        for step in range(len(mesh.taus) - 1):
            low, high = mesh.taus[step], mesh.taus[step + 1]
            course.step_first.append(len(course))
            if step in samples:
                x = self.jumped(low, high, x, samples[step])
            if system.mode_count and (step == 0 or step in samples or step in mesh.breaks):
                self.set_modes(low, high, x)
            x = self.through(step, low, high, x)
        course.step_first.append(len(course))
        course.close(self.mesh)
        return course

    def check_lags(self) -> None:
        """Raise Lost where a lag is negative or reaches before the course."""
        layout = self.march.layout
        for lag in layout.uses_lags:
            shift = float(self.given.lags[lag])
            if not shift > 0.0 or not math.isfinite(shift):
                raise Lost(0.0, -1, shift, "a lag is not above 0")
            if lag in layout.rate_lags and shift < self.mesh.longest:
                raise Lost(0.0, -1, shift, "a lag is shorter than the steps")

    def jumped(self, low: float, high: float, x: Any, states: tuple[int, ...]) -> Any:
        """Return the states after sampled ones (their flat numbers) have jumped."""
        at = low + 1e-9 * (high - low)
        moment = self.moment(low, x, at, None)[: self.system.width]
        order = {flat: k for k, flat in enumerate(np.flatnonzero(self.system.is_sampled).tolist())}
        try:
            values = self.system.jumps(*moment.tolist())
        except (ArithmeticError, ValueError):
            raise Lost(low, states[0], math.nan, "jumps to no finite value") from None
        found = list(x) if self.is_plain else x.copy()
        for flat in states:
            found[flat] = values[order[flat]]
            if not math.isfinite(found[flat]):
                raise Lost(low, flat, float(found[flat]), "jumps to no finite value")
        self.course.jumps.append((len(self.course), low, moment, states))
        if not len(self.course):
            self.x_first = found
        return found

    def set_modes(self, low: float, high: float, x: FloatArray) -> None:
        """Set the modes to the sides on which a step begins; of a gap of 0, that to which it goes. x is (states,)."""
        at = low + 1e-9 * (high - low)
        for _ in range(len(self.modes) + 1):
            moment = self.moment(low, x, at, None)
            gaps = self.gaps(moment)
            near = np.abs(gaps) <= 1e-12 * (1.0 + np.abs(gaps).max(initial=0.0))
            if near.any():
                ahead = 1e-6 * (high - low)
                rate = np.asarray(self.rated(self.system.rates, moment)) * np.ones(len(x))
                later = self.gaps(self.moment(low + ahead, np.asarray(x) + ahead * rate, at, None))
                gaps = np.where(near, later, gaps)
            found = np.where(gaps >= 0.0, 1.0, 0.0).tolist()
            if found == self.modes:
                return
            self.modes = found

    def gaps(self, moment: FloatArray) -> FloatArray:
        """Return the gaps of the branches at a moment, (branches,)."""
        try:
            return np.array(self.system.gaps(*moment.tolist()))
        except (ArithmeticError, ValueError):
            return np.full(self.system.mode_count, np.nan)

    def through(self, step: int, low: float, high: float, x: FloatArray) -> FloatArray:
        """Follow one base step to its end, event by event, and return the states there. Shapes: x and result
        (states,)."""
        course, position, began, count = self.course, low, -1, 0
        forcing: Any = None
        if self.mesh.forcing is not None:
            forcing = self.mesh.forcing_rows[step] if self.is_plain else self.mesh.forcing[step]
        while True:
            place = bisect.bisect_right(self.moving, (position, math.inf))
            end, ended = high, -1
            if place < len(self.moving) and position < self.moving[place][0] < high:
                end, moving = self.moving[place]
                ended = len(course.events)
                event = (-1, moving)
            is_whole = position == low and end == high
            h = end - position
            own = forcing if is_whole else None
            moments, k, after = self.segment(position, h, x, own)
            if not is_finite(after):
                self.lost(position, h, np.asarray(x), np.asarray(after), np.asarray(k))
            gap_moment = None
            if self.system.mode_count and count <= MOST_EVENTS:
                crossing = self.crossed(position, h, x, after)
                if crossing is not None and crossing[1] > 0.0:
                    branch, h = crossing
                    moments, k, after = self.segment(position, h, x, None)
                    end = position + h
                    ended, event = len(course.events), (branch, -1)
                    gap_moment = self.moment(end, after, position + h * (1.0 - 1e-9), None)
                    count += 1
                elif crossing is not None:
                    count = MOST_EVENTS + 1
            self.append(position, h, x, after, k, moments, began, ended, step)
            if ended >= 0:
                course.events.append(event)
                course.event_gap.append(gap_moment if gap_moment is not None else np.zeros(0))
                if event[0] >= 0:
                    self.modes = self.modes.copy()
                    self.modes[event[0]] = 1.0 - self.modes[event[0]]
            x, position, began = after, end, ended
            if ended < 0:
                break
            if position >= high:
                break
        if count > MOST_EVENTS:
            self.flutter(low, high, x)
        return x

    def flutter(self, low: float, high: float, x: FloatArray) -> None:
        """Go on where a branch changes again and again within a step; where rates jump with it, nothing is right. x is
        (states,)."""
        if self.system.gap_jumps.any():
            raise Lost(low, -1, math.nan, "a condition of the rates turns on and off without end")
        self.course.flutters += 1
        self.set_modes(0.5 * (low + high), high, x)

    def append(
        self, tau0: float, h: float, x: FloatArray, after: FloatArray, k: FloatArray, moments: FloatArray,
        began: int, ended: int, step: int,
    ) -> None:  # fmt: skip
        """Put a segment on the course: where it begins, its length, states (states,) before and after, rates (stages,
        states)."""
        course = self.course
        course.tau0.append(tau0)
        course.h.append(h)
        course.first.append(x)
        course.last.append(after)
        course.k.append(k)
        if self.is_plain:
            course.moments.append(moments[0])
            course.forcing.append(moments[1])
        else:
            course.moments.append(moments)
        course.began.append(began)
        course.ended.append(ended)
        course.step.append(step)

    def lost(self, tau0: float, h: float, x: FloatArray, after: FloatArray, k: FloatArray) -> None:
        """Raise Lost for the first state that is not finite after a step. x and `after` are (states,), k is (stages,
        states)."""
        bad = np.flatnonzero(~np.isfinite(after))
        state = int(bad[0])
        named = np.flatnonzero(~np.isfinite(k).all(axis=0))
        if len(named):
            state = int(named[0])
        is_vast = abs(float(x[state])) > VAST * float(self.mesh.sizes[state])
        why = "has no finite rate" if len(named) and not is_vast else "grows without bound"
        raise Lost(tau0, state, float(x[state]), why)

    # ---- events -----------------------------------------------------------------------------------

    def crossed(self, tau0: float, h: float, x: FloatArray, after: FloatArray) -> tuple[int, float] | None:
        """Return (branch, step to where it changes) of the first branch whose gap has left its side at the end; a step
        of 0 where none can be found."""
        gaps, wrong = self.gaps_after(tau0, h, after), []
        for k, gap in enumerate(gaps):
            size = abs(gap)
            if size > self.gap_sizes[k]:
                self.gap_sizes[k] = size
            if (gap > 0.0) != (self.modes[k] > 0.5) and size > NO_GAP * self.gap_sizes[k]:
                wrong.append(k)
        if not wrong:
            return None
        best: tuple[int, float] | None = None
        for branch in wrong:
            found = self.root(
                branch, tau0, h if best is None else best[1], x, float(gaps[branch]) if best is None else None
            )
            if found is not None and (best is None or found < best[1]):
                best = (branch, found)
        return best if best is not None else (wrong[0], 0.0)

    def gap_at(self, branch: int, tau0: float, h: float, x: FloatArray) -> float:
        """Return a branch's gap after a step of length h. x is (states,)."""
        _, _, after = self.segment(tau0, h, x, None)
        return float(self.gaps_after(tau0, h, after)[branch]) if is_finite(after) else math.nan

    def gaps_after(self, tau0: float, h: float, after: Any) -> Sequence[float] | FloatArray:
        """Return the gaps at the end of a step. They are (branches,)."""
        if not self.is_plain:
            return self.gaps(self.moment(tau0 + h, after, tau0 + h * (1.0 - 1e-9), None))
        moment = self.base_of(tau0 + 0.5 * h).copy()
        tau = moment[0] = tau0 + h
        for place, value in zip(self.march.state_list, after, strict=True):
            moment[place] = value
        for place, pieces in self.march.thetas.items():
            moment[place] = tau * pieces - moment[place]
        if self.system.forcing_count:
            moment[self.march._forcing] = self.system.forcing(np.array([tau0 + h * (1.0 - 1e-9)]))[0].tolist()
        if self.march.lagged:
            last = self.lagged_of(tau0, h)[-1]  # the last stage is the end
            for place, value in zip(self.march.lagged, last, strict=True):
                moment[place] = value
        try:
            return self.system.gaps(*moment)
        except (ArithmeticError, ValueError):
            return [math.nan] * len(self.modes)

    def root(self, branch: int, tau0: float, h: float, x: FloatArray, at_end: float | None) -> float | None:
        """Return the step after which a gap is 0, to rounding; None where it is on its side at the end after all, or on
        no side at the start. By the method of false position with halved ends (Dowell & Jarratt 1971). x is
        (states,)."""
        side = 1.0 if self.modes[branch] > 0.5 else -1.0
        high, at_high = h, self.gap_at(branch, tau0, h, x) if at_end is None else at_end
        if not side * at_high < 0.0:
            return None
        low, at_low = 0.0, math.nan
        trial = 0.5 * h
        for _ in range(24):  # the start may lie on the gap itself: begin where it is clearly on its side
            value = self.gap_at(branch, tau0, trial, x)
            if side * value > 0.0:
                low, at_low = trial, value
                break
            high, at_high = trial, value
            trial *= 0.5
        else:
            return None
        kept = 0
        for _ in range(MOST_SEARCH):
            if high - low <= ROUNDING * max(abs(tau0), high):
                break
            new = (low * at_high - high * at_low) / (at_high - at_low)
            if not low < new < high:
                new = 0.5 * (low + high)
            value = self.gap_at(branch, tau0, new, x)
            if value == 0.0:
                return new
            if side * value > 0.0:
                low, at_low = new, value
                at_high = at_high * 0.5 if kept == 1 else at_high
                kept = 1
            else:
                high, at_high = new, value
                at_low = at_low * 0.5 if kept == -1 else at_low
                kept = -1
        return high


def walker_along(march: March, given: Given, mesh: Mesh, course: Course) -> Walker:
    """Return what evaluates moments along a course that is there."""
    found = Walker(march, given, mesh)
    found.course = course
    found.x_first = course.first[0]
    return found


def followed(march: March, given: Given, mesh: Mesh | None = None) -> Course:
    """Return the course of a design, along the march's own mesh unless another is given. Raises Lost."""
    return Walker(march, given, mesh or march.mesh).walked()
