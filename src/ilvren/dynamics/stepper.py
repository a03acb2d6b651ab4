"""One step of a course: what its moments hold, and the rates and states that its scheme makes of them."""

from __future__ import annotations

import bisect
import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.dynamics.course import Course, Given, March, nudged, piece_of, segment_of
from ilvren.dynamics.lookback import Behind

if TYPE_CHECKING:
    from ilvren.dynamics.mesh import Mesh
    from ilvren.dynamics.tableau import Tableau

__all__ = ["ROUNDING", "Stepper"]

FloatArray = NDArray[np.float64]

# Newton's iteration for the stages of an implicit step.
MOST_NEWTON = 30
ROUNDING = 4e-16
# Rates that agree with those of the step to so many roundings of what they are made of agree.
MOST_ROUNDINGS = 64.0
# A state counts as no smaller than this share of the largest it has been where Newton's iteration is judged.
NEARLY_NOTHING = 1e-3


class Stepper:
    """The steps of one course being made."""

    def __init__(self, march: March, given: Given, mesh: Mesh) -> None:
        self.march, self.system, self.given, self.mesh = march, march.system, given, mesh
        self.course = Course(tableau=march.tableau)
        self.base = march._template.copy()
        self.base[march.outer_places] = given.outers
        self.modes = [1.0] * self.system.mode_count
        self.gap_sizes = [0.0] * self.system.mode_count
        self.gaps_before = [math.inf] * self.system.mode_count  # at the end of the last step
        self.back = 0.0  # see `back_of`
        self.touched: list[int] = []  # branches whose gap was none at the end of the last step
        self.base_key: tuple[int, ...] | None = None
        self.base_modes: list[float] | None = None
        self.base_list: list[float] = []
        self.is_plain = self.course.is_plain = march.is_plain
        self.x_first: Any = given.first.tolist() if self.is_plain else given.first.copy()
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
        if sigma <= 0.0 or inside <= 0.0 or not len(course):
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

    def back_of(self, h: float) -> float:
        """Return how far before its moment a step of no length looks for the pieces it lies in: 0 for any other."""
        return 0.0 if h > 0.0 else self.back

    def plain(self, tau0: float, h: float, x: Any, forcing: Any) -> tuple[Any, ...]:
        """One step on plain floats; in place of the moments what all of them hold."""
        back = self.back_of(h)
        base = self.base_of(tau0 + 0.5 * h - back)
        if forcing is None and self.system.forcing_count:
            forcing = self.system.forcing(nudged(tau0, h, self.march.tableau.c) - back).tolist()
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
            shares, back = zip(*self.march.shares, strict=True), self.back_of(h)
            found = [self.lagged_alone(tau0 + h * a, tau0 + h * b - back) for a, b in shares]
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
        rates, inside = self.system.rates, nudged(tau0, h, tableau.c) - self.back_of(h)
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
        inside = nudged(tau0, h, tableau.c) - self.back_of(h)
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
