"""Makes a course: steps from the beginning to the end, events found on the way.

A mesh says where steps end in any case; between, a segment also ends where a branch changes (an event), found by
solving gap(X_1(h)) = 0 for the step h, and at moments that the design gives.
"""

from __future__ import annotations

import bisect
import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from ilvren.dynamics.course import Course, Given, Lost, March, is_finite
from ilvren.dynamics.stepper import ROUNDING, Stepper
from ilvren.dynamics.system import RESTING

if TYPE_CHECKING:
    from ilvren.dynamics.mesh import Mesh

__all__ = ["MOST_EVENTS", "NO_GAP", "VAST", "Walker", "followed", "walker_along"]

FloatArray = NDArray[np.float64]

# A segment that holds more events than this is taken without finding them: a branch that flutters.
MOST_EVENTS = 40
# Events are found to rounding; this many steps of the search suffice by far.
MOST_SEARCH = 100
# A state so many times its size has run away, whatever its rate is.
VAST = 1e6
# A gap of less than this share of the largest it had is none: rounding alone could turn it.
NO_GAP = 1e-11
# One of less than this share of what it was a step before may become none, or have become so.
NEAR = 1e-8
# How far ahead, in steps, it is looked for the side to which a gap of 0 goes; what is on this side of an end; and two
# moments of events so near are the same.
AHEAD, JUST, SAME = 1e-6, 1e-9, 4e-9


class Crossing(NamedTuple):
    """A branch that changes, after a step of length h (below 0: where cannot be found), and its mode from there on."""

    branch: int
    h: float
    mode: float


class Walker(Stepper):
    """One course being made: its steps, and the events between them."""

    # ---- the walk ---------------------------------------------------------------------------------

    def walked(self) -> Course:
        """Follow the states to the end and return their course. Raises Lost where they have no finite value."""
        mesh, course, system = self.mesh, self.course, self.system
        x: Any = self.x_first
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
        """Set the modes to the sides on which a step begins; of a gap of 0, that to which it goes, if to any. x is
        (states,)."""
        at = low + 1e-9 * (high - low)
        for _ in range(len(self.modes) + 1):
            moment = self.moment(low, x, at, None)
            gaps = self.gaps(moment)
            near = np.abs(gaps) <= 1e-12 * (1.0 + np.abs(gaps).max(initial=0.0))
            if near.any():
                ahead = AHEAD * (high - low)
                rate = np.asarray(self.rated(self.system.rates, moment)) * np.ones(len(x))
                later = self.gaps(self.moment(low + ahead, np.asarray(x) + ahead * rate, at, None))
                gaps = np.where(near, later, gaps)
            rests = np.where(self.system.gap_jumps, RESTING, 1.0)
            found = np.where(gaps > 0.0, 1.0, np.where(gaps == 0.0, rests, 0.0)).tolist()
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
            if place < len(self.moving) and position < self.moving[place][0] <= high:
                end, moving = self.moving[place]
                ended = len(course.events)
                event = (-1, moving)
            is_whole = position == low and end == high
            h = end - position
            own = forcing if is_whole else None
            just = JUST * (high - low)
            self.back = just if position >= high else 0.0
            moments, k, after = self.segment(position, h, x, own)
            if not is_finite(after):
                self.lost(position, h, np.asarray(x), np.asarray(after), np.asarray(k))
            gap_moment, crossing = None, None
            if self.system.mode_count and count <= MOST_EVENTS:
                crossing = self.crossed(position, h, x, after) if position < high else None
                crossing = crossing or self.leaving(position, h, after)
                if crossing is not None and self.modes[crossing.branch] == RESTING:
                    self.turn(crossing)
                    count += 1
                    continue
                if crossing is not None and crossing.h >= 0.0:
                    h = crossing.h
                    moments, k, after = self.segment(position, h, x, None)
                    end = position + h
                    ended, event = len(course.events), (crossing.branch, -1)
                    gap_moment = self.moment(end, after, self.inside_of(position, h), None)
                    count += 1
                elif crossing is not None:
                    count = MOST_EVENTS + 1
            self.append(position, h, x, after, k, moments, began, ended, step)
            if ended >= 0:
                course.events.append(event)
                course.event_gap.append(gap_moment if gap_moment is not None else np.zeros(0))
                if crossing is not None and event[0] >= 0:
                    self.turn(crossing)
                    self.settle(crossing.branch, end, end - just, after)
            # What happens at the end of the step is followed by a segment of no length, from there to that end: the one
            # moves with the design, the other does not.
            x, position, began = after, end, ended
            if ended < 0:
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

    def crossed(self, tau0: float, h: float, x: FloatArray, after: FloatArray) -> Crossing | None:
        """Return the first branch whose gap has left its side at the end: where it has no gap at the start, there. `x`
        and `after` are the states (n,) at both ends."""
        gaps, wrong = self.gaps_after(tau0, h, after), []
        self.touched = []
        for k, gap in enumerate(gaps):
            size = abs(gap)
            if size > self.gap_sizes[k]:
                self.gap_sizes[k] = size
            is_none = size <= NO_GAP * self.gap_sizes[k]
            if not is_none and (self.modes[k] == RESTING or (gap > 0.0) != (self.modes[k] > 0.5)):
                wrong.append(k)
            elif size < NEAR * self.gaps_before[k]:  # it has come from afar
                self.touched.append(k)
            self.gaps_before[k] = size
        if not wrong:
            return None
        best: Crossing | None = None
        for k in wrong:
            if self.modes[k] == RESTING:
                continue
            at_end = float(gaps[k]) if best is None else None
            found = self.root(k, tau0, h if best is None else best.h, x, at_end)
            if found is not None and (best is None or found < best.h):
                best = Crossing(k, found, _side(gaps[k]))
            elif found is None and self.begins_without(k, tau0, h, x, float(gaps[k])):
                return Crossing(k, 0.0, _side(gaps[k]))
        for k in wrong:
            if self.modes[k] == RESTING:  # it goes with another branch, or has gone before
                here = gaps[k] if best is None else self.gap_at(k, tau0, best.h, x)
                if not abs(here) <= NO_GAP * self.gap_sizes[k]:
                    return Crossing(k, 0.0, _side(here))
        return best or Crossing(wrong[0], -1.0, _side(gaps[wrong[0]]))

    def begins_without(self, branch: int, tau0: float, h: float, x: FloatArray, at_end: float) -> bool:
        """Return whether a gap is 0 where a step begins, as where another branch has just changed with it. x is
        (states,)."""
        start = self.gap_at(branch, tau0, 0.0, x)
        is_soon = abs(start) * h <= SAME * self.mesh.longest * abs(at_end - start)
        return is_soon or abs(start) <= NO_GAP * self.gap_sizes[branch]

    def leaving(self, tau0: float, h: float, after: Any) -> Crossing | None:
        """Return the first branch whose gap is none at the end of a step, to rounding, and goes over to its other side
        there. `after` are the states at the end."""
        moving = [k for k in self.touched if self.modes[k] != RESTING]
        if not moving:
            return None
        here = self.gaps_after(tau0, h, after)
        later = self.gaps_ahead(tau0 + h, self.inside_of(tau0, h), after)
        for k in moving:
            if (later[k] > 0.0) != (self.modes[k] > 0.5) and abs(later[k]) > NO_GAP * self.gap_sizes[k]:
                gap = abs(here[k])  # the time, too, that it is told at may be just before the end
                if gap <= NO_GAP * self.gap_sizes[k] or gap * AHEAD <= SAME * abs(later[k] - here[k]):
                    return Crossing(k, h, _side(later[k]))
        return None

    def gaps_ahead(self, tau: float, inside: float, x: Any) -> FloatArray:
        """Return the gaps a little later (branches,), the states x going on as the modes have it."""
        x, ahead = np.asarray(x), AHEAD * self.mesh.longest
        rate = np.asarray(self.rated(self.system.rates, self.moment(tau, x, inside, None))) * np.ones(len(x))
        return self.gaps(self.moment(tau + ahead, x + ahead * rate, inside, None))

    def turn(self, crossing: Crossing) -> None:
        """Set the mode of a branch that changes."""
        self.modes = self.modes.copy()
        self.modes[crossing.branch] = crossing.mode
        self.touched = [k for k in self.touched if k != crossing.branch]

    def settle(self, branch: int, tau: float, inside: float, x: Any) -> None:
        """Let a comparison rest whose two sides have become the same and stay so, the states being x."""
        if not self.system.gap_jumps[branch]:
            return
        least = NO_GAP * self.gap_sizes[branch]
        if abs(self.gaps_ahead(tau, inside, x)[branch]) <= least:
            before = self.modes
            self.turn(Crossing(branch, 0.0, RESTING))
            if not abs(self.gaps_ahead(tau, inside, x)[branch]) <= least:
                self.modes = before

    def inside_of(self, tau0: float, h: float) -> float:
        """Return a moment in the piece that a step ends in."""
        return tau0 + h * (1.0 - JUST) - self.back_of(h)

    def gap_at(self, branch: int, tau0: float, h: float, x: FloatArray) -> float:
        """Return a branch's gap after a step of length h. x is (states,)."""
        _, _, after = self.segment(tau0, h, x, None)
        return float(self.gaps_after(tau0, h, after)[branch]) if is_finite(after) else math.nan

    def gaps_after(self, tau0: float, h: float, after: Any) -> Sequence[float] | FloatArray:
        """Return the gaps at the end of a step. They are (branches,)."""
        if not self.is_plain:
            return self.gaps(self.moment(tau0 + h, after, self.inside_of(tau0, h), None))
        moment = self.base_of(tau0 + 0.5 * h - self.back_of(h)).copy()
        tau = moment[0] = tau0 + h
        for place, value in zip(self.march.state_list, after, strict=True):
            moment[place] = value
        for place, pieces in self.march.thetas.items():
            moment[place] = tau * pieces - moment[place]
        if self.system.forcing_count:
            moment[self.march._forcing] = self.system.forcing(np.array([self.inside_of(tau0, h)]))[0].tolist()
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


def _side(gap: float) -> float:
    """Return the mode of a gap that is not 0."""
    return 1.0 if gap > 0.0 else 0.0


def walker_along(march: March, given: Given, mesh: Mesh, course: Course) -> Walker:
    """Return what evaluates moments along a course that is there."""
    found = Walker(march, given, mesh)
    found.course = course
    found.x_first = course.first[0]
    return found


def followed(march: March, given: Given, mesh: Mesh | None = None) -> Course:
    """Return the course of a design, along the march's own mesh unless another is given. Raises Lost."""
    return Walker(march, given, mesh or march.mesh).walked()
