"""Many designs along one mesh at once: every number of a moment is an array over designs.

Where a branch of some designs changes within a step, their step is taken to there, all of them at once, and from there
on, as one design does by itself (see `course`). Designs that need more than that are left to be followed alone.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.dynamics.course import LEAST_SIZE, March
from ilvren.dynamics.stepper import ROUNDING
from ilvren.dynamics.walker import MOST_EVENTS, NO_GAP
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.dynamics.mesh import Mesh

__all__ = ["Crowd", "CrowdGiven", "can_crowd"]

FloatArray = NDArray[np.float64]
Mask = NDArray[np.bool_]

# Rounds of the search for where a branch changes.
MOST_ROUNDS = 60


@dataclass(frozen=True)
class CrowdGiven:
    """What many designs give: outer values (designs, o), each control's pieces (designs, pieces, elements), first
    values of all states (designs, n)."""

    outers: FloatArray
    pieces: Sequence[FloatArray]
    first: FloatArray


def can_crowd(march: March, has_moving_moments: bool) -> bool:
    """Return whether designs can be followed together: explicit steps on plain numbers, without looking back, without
    moments that move."""
    return march.is_plain and not march.layout.uses_lags and not has_moving_moments


class Crowd:
    """Designs being followed. After `walked`: states at the starts and the ends of the steps at the grid's moments
    `right`, `left` (grid, designs, n), the largest error of a step over the states' sizes `error` (designs,), and which
    were `lost` on the way."""

    def __init__(self, march: March, mesh: Mesh, given: CrowdGiven) -> None:
        self.march, self.mesh, self.system = march, mesh, march.system
        self.count = len(given.first)
        self.x, self.outers, self.pieces = given.first, given.outers, given.pieces
        self.lost: Mask = np.zeros(self.count, dtype=bool)
        self.errors, self.largest = np.zeros_like(self.x), np.abs(self.x)  # of steps, of states (designs, n)
        self.modes = np.ones((self.count, self.system.mode_count))
        self.gap_sizes = np.zeros((self.count, self.system.mode_count))
        n = self.x.shape[1]
        self.left = np.full((len(mesh.grid), self.count, n), np.nan)
        self.right = np.full((len(mesh.grid), self.count, n), np.nan)

    # ---- moments ----------------------------------------------------------------------------------

    def moments(self, own: Any, tau: Any, x: FloatArray, middle: float, forcing: Any) -> list[Any]:
        """Return the numbers of a moment of the designs `own`, each an array over them."""
        march, layout = self.march, self.march.layout
        found: list[Any] = [0.0] * self.system.all_width
        found[0] = tau
        for k, place in enumerate(march.state_list):
            found[place] = x[:, k]
        for k, place in enumerate(march.outer_places.tolist()):
            found[place] = self.outers[own, k]
        for _, number, kind, places in layout.controls:
            control = self.system.evolution.controls[number]
            piece = min(max(int(np.floor(middle * control.pieces)), 0), control.pieces - 1)
            if kind == "theta":
                found[places.start] = tau * control.pieces - piece
                continue
            values = self.pieces[number][own, piece + (kind == "high")]
            for k, place in enumerate(range(places.start, places.stop)):
                found[place] = values[:, k]
        width = self.system.width
        for k in range(self.system.mode_count):
            found[width + k] = self.modes[own, k]
        if self.system.forcing_count:
            values = self.system.forcing(np.asarray(tau, dtype=float)) if forcing is None else forcing
            for k in range(self.system.forcing_count):
                found[width + self.system.mode_count + k] = values[..., k]
        return found

    def step(
        self, own: Any, tau0: Any, h: Any, x: FloatArray, middle: float, forcing: FloatArray | None
    ) -> tuple[list[FloatArray], FloatArray]:
        """Return (rates of the stages, states at the end) of one step of the designs `own`."""
        tableau, k = self.march.tableau, list[FloatArray]()
        column = h[:, None] if np.ndim(h) else h
        for i in range(tableau.stages):
            at = x
            used = [(j, tableau.a[i, j]) for j in range(i) if tableau.a[i, j] != 0.0]
            if used:
                at = x + column * sum(weight * k[j] for j, weight in used)
            c = float(tableau.c[i])
            if forcing is not None:
                moment = self.moments(own, tau0 + c * h, at, middle, forcing[i])
            else:
                inside = tau0 + h * min(max(c, 1e-9), 1.0 - 1e-9)
                moment = self.moments(own, tau0 + c * h, at, middle, self._forced(inside))
            k.append(self._columns(self.system.rates_many(moment), len(x)))
        return k, x + column * sum(w * ki for w, ki in zip(tableau.b, k, strict=True) if w != 0.0)

    def _forced(self, tau: Any) -> FloatArray | None:
        return self.system.forcing(np.asarray(tau, dtype=float)) if self.system.forcing_count else None

    @staticmethod
    def _columns(values: Sequence[Any], count: int) -> FloatArray:
        found = np.empty((count, len(values)))
        for k, value in enumerate(values):
            found[:, k] = value
        return found

    def gaps(self, own: Any, tau: Any, x: FloatArray, middle: float, inside: Any) -> FloatArray:
        """Return the gaps (count, branches) at the states x (count, states)."""
        moment = self.moments(own, tau, x, middle, self._forced(inside))
        return self._columns(self.system.gaps_many(moment), len(x))

    # ---- the walk ---------------------------------------------------------------------------------

    def walked(self) -> Crowd:
        """Follow all to the end."""
        mesh, grid = self.mesh, {int(step): k for k, step in enumerate(self.mesh.grid)}
        last = len(mesh.taus) - 1
        with np.errstate(all="ignore"):
            if 0 in grid:
                self.left[grid[0]] = self.x
            for step in range(last):
                low, high = float(mesh.taus[step]), float(mesh.taus[step + 1])
                if step in mesh.samples:
                    self.jump(low, high, mesh.samples[step])
                if step in grid:
                    self.right[grid[step]] = self.x
                if self.system.mode_count and (step == 0 or step in mesh.samples or step in mesh.breaks):
                    self.set_modes(low, high)
                self.through(step, low, high)
                if step + 1 in grid:
                    self.left[grid[step + 1]] = self.x
            if last in grid:
                self.right[grid[last]] = self.x
        return self

    def jump(self, low: float, high: float, states: tuple[int, ...]) -> None:
        """Set the sampled states to what they jump to at a step's start."""
        own = slice(None)
        middle = 0.5 * (low + high)
        moment = self.moments(own, low, self.x, middle, self._forced(low + 1e-9 * (high - low)))[: self.system.width]
        values = self._columns(self.system.jumps_many(moment), self.count)
        order = {flat: k for k, flat in enumerate(np.flatnonzero(self.system.is_sampled).tolist())}
        self.x = self.x.copy()
        for flat in states:
            self.x[:, flat] = values[:, order[flat]]

    def set_modes(self, low: float, high: float) -> None:
        """Set the modes to the sides on which a step begins."""
        own, middle, at = slice(None), 0.5 * (low + high), low + 1e-9 * (high - low)
        for _ in range(self.system.mode_count + 1):
            gaps = self.gaps(own, low, self.x, middle, at)
            near = np.abs(gaps) <= 1e-12 * (1.0 + np.abs(gaps).max(axis=1, initial=0.0))[:, None]
            if near.any():
                ahead = 1e-6 * (high - low)
                moment = self.moments(own, low, self.x, middle, self._forced(at))
                rate = self._columns(self.system.rates_many(moment), self.count)
                later = self.gaps(own, low + ahead, self.x + ahead * rate, middle, at)
                gaps = np.where(near, later, gaps)
                self.lost |= ((gaps == 0.0) & self.system.gap_jumps).any(axis=1)  # they may rest there
            found = np.where(gaps >= 0.0, 1.0, 0.0)
            if np.array_equal(found, self.modes):
                return
            self.modes = found

    def through(self, step: int, low: float, high: float) -> None:
        """Follow one step of the mesh to its end, event by event."""
        middle = 0.5 * (low + high)
        forcing = None if self.mesh.forcing is None else self.mesh.forcing[step]
        k, after = self.step(slice(None), low, high - low, self.x, middle, forcing)
        wrong = self._wrong(slice(None), low, high - low, after, middle)
        open_ = np.flatnonzero(wrong.any(axis=1) & ~self.lost)
        kept = np.ones(self.count, dtype=bool)
        kept[open_] = False
        self._note(np.flatnonzero(kept), [ki[kept] for ki in k], high - low, self.x[kept], after[kept])
        x, position = self.x, np.full(self.count, low)
        self.x = np.where(kept[:, None], after, x)
        self.lost |= ~np.isfinite(self.x).all(axis=1)
        events = 0
        while len(open_):
            events += 1
            if events > MOST_EVENTS:
                self.lost[open_] = True
                return
            begun, rest = self.x[open_] if events > 1 else x[open_], high - position[open_]
            _, after = self.step(open_, position[open_], rest, begun, middle, None)
            wrong = self._wrong(open_, position[open_], rest, after, middle)
            h, branch = self._first_crossing(open_, position[open_], rest, begun, wrong, middle)
            k, after = self.step(open_, position[open_], h, begun, middle, None)
            self._note(open_, k, h, begun, after)
            self.x[open_] = after
            self.lost[open_] |= ~np.isfinite(after).all(axis=1)
            has_event = branch >= 0
            flipped = open_[has_event]
            self.modes[flipped, branch[has_event]] = 1.0 - self.modes[flipped, branch[has_event]]
            position[open_] = np.where(has_event, position[open_] + h, high)
            open_ = open_[has_event & ~self.lost[open_] & (position[open_] < high)]

    @property
    def error(self) -> FloatArray:
        """Return the largest error of a step over the states' sizes (designs,)."""
        return np.asarray((self.errors / self.mesh.sizes_of(self.largest, LEAST_SIZE)).max(axis=1, initial=0.0))

    def _note(self, own: NDArray[np.int64], k: list[FloatArray], h: Any, begun: FloatArray, after: FloatArray) -> None:
        tableau = self.march.tableau
        assert tableau.error is not None
        total = sum(w * ki for w, ki in zip(tableau.error, k, strict=True) if w != 0.0)
        self.errors[own] = np.fmax(self.errors[own], np.abs(total * (h[:, None] if np.ndim(h) else h)))
        self.largest[own] = np.fmax(self.largest[own], np.fmax(np.abs(begun), np.abs(after)))

    # ---- events -----------------------------------------------------------------------------------

    def _wrong(self, own: Any, tau0: Any, h: Any, after: FloatArray, middle: float) -> Mask:
        """Return which branches have left their side at the end of a step (designs, branches)."""
        if not self.system.mode_count:
            return np.zeros((len(after), 0), dtype=bool)
        gaps = self.gaps(own, tau0 + h, after, middle, tau0 + h * (1.0 - 1e-9))
        sizes = self.gap_sizes[own] = np.fmax(self.gap_sizes[own], np.abs(gaps))
        return np.asarray(((gaps > 0.0) != (self.modes[own] > 0.5)) & (np.abs(gaps) > NO_GAP * sizes))

    def _first_crossing(
        self, own: NDArray[np.int64], tau0: FloatArray, h: FloatArray, x: FloatArray, wrong: Mask, middle: float
    ) -> tuple[FloatArray, NDArray[np.int64]]:
        """Return for each design the step to the first branch that changes and which it is; the whole step and −1 where
        none does. Designs of which nothing can be found are lost."""
        best, which = h.copy(), np.full(len(own), -1)
        for branch in range(self.system.mode_count):
            mine = np.flatnonzero(wrong[:, branch])
            if not len(mine):
                continue
            found, is_found = self._roots(own[mine], branch, tau0[mine], best[mine], x[mine], middle)
            better = is_found & (found < best[mine])
            best[mine[better]], which[mine[better]] = found[better], branch
        none = wrong.any(axis=1) & (which < 0)
        self.lost[own[none]] = True
        return best, which

    def _roots(
        self, own: NDArray[np.int64], branch: int, tau0: FloatArray, h: FloatArray, x: FloatArray, middle: float
    ) -> tuple[FloatArray, Mask]:
        side = np.where(self.modes[own, branch] > 0.5, 1.0, -1.0)

        def gap(trial: FloatArray) -> FloatArray:
            _, after = self.step(own, tau0, trial, x, middle, None)
            return self.gaps(own, tau0 + trial, after, middle, tau0 + trial * (1.0 - 1e-9))[:, branch]

        high, at_high = h.copy(), gap(h)
        is_found = side * at_high < 0.0
        low, at_low, trial = np.zeros(len(own)), np.full(len(own), np.nan), 0.5 * h
        has_low = np.zeros(len(own), dtype=bool)
        for _ in range(24):
            if has_low.all():
                break
            value = gap(trial)
            good = ~has_low & (side * value > 0.0)
            low, at_low = np.where(good, trial, low), np.where(good, value, at_low)
            bad = ~has_low & ~good
            high, at_high = np.where(bad, trial, high), np.where(bad, value, at_high)
            has_low |= good
            trial = np.where(has_low, trial, 0.5 * trial)
        is_found &= has_low
        kept = np.zeros(len(own))
        for _ in range(MOST_ROUNDS):
            is_open = is_found & (high - low > ROUNDING * np.maximum(np.abs(tau0), high))
            if not is_open.any():
                break
            new = (low * at_high - high * at_low) / (at_high - at_low)
            new = np.where((new > low) & (new < high), new, 0.5 * (low + high))
            value = gap(new)
            is_low = is_open & (side * value > 0.0)
            is_high = is_open & ~is_low
            low, at_low = np.where(is_low, new, low), np.where(is_low, value, at_low)
            at_high = np.where(is_low & (kept == 1.0), 0.5 * at_high, at_high)
            high, at_high = np.where(is_high, new, high), np.where(is_high, value, at_high)
            at_low = np.where(is_high & (kept == -1.0), 0.5 * at_low, at_low)
            low = np.where(is_high & (value == 0.0), new, low)
            kept = np.where(is_low, 1.0, np.where(is_high, -1.0, kept))
        return high, is_found
