"""What few designs say of all others: a Gaussian process for the objective and for each row that matters.

Everything is in shares of the box, −1 .. 1. The objective may be bent, where a few values are far above all others:

    w = log(1 + (f − f_min) / s),   s the median of f − f_min
    (1)

whichever of f and w the data make more likely, log L(w) + Σ log |dw/df| against log L(f).

Sources: A. O'Hagan, "Curve fitting and optimal design for prediction", 1978; (1): G. E. P. Box, D. R. Cox, "An analysis
of transformations", 1964.
"""

from __future__ import annotations

import math
from dataclasses import field, replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.approximate import (
    EffectsField,
    Failing,
    Field as Lengths,
    Part,
    all_powers,
    conditioned,
    conditioned_effects,
    fitted_failing,
    fitted_fields,
    likelihood_of,
    likelihood_of_effects,
    searched_effects,
)
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.methods.base import Task
    from ilvren.methods.pieces.coding import Coding

__all__ = ["Beliefs", "Designs", "Field"]

FloatArray = NDArray[np.float64]

# Rows that are learnt, at most: those that designs miss most, or meet with the least room.
MOST_ROWS = 12
# With so many designs a variable the field may lie about a bowl, 1, z_j and z_j², instead of a level.
BOWL_POINTS_PER_VARIABLE = 3
# With so many designs a variable main effects are looked for; and taken where they tell designs left out better by
# this, or where the logarithm of the likelihood is larger by this.
EFFECTS_POINTS_PER_VARIABLE, BETTER, LIKELIER = 4, 0.9, 1.0
# How often it is asked anew whether the objective is better bent, in designs.
ASKED_EVERY = 8
# Lengths, kernels and trends are looked for again when there are so many times as many designs.
GROWTH = 1.1
# Points within this share of the box of each other are one.
SAME = 1e-7


@dataclass
class Designs:
    """Designs with values so far: `codes` (k, n), `f` (k,), `rows` (k, m); not finite where there are none."""

    codes: FloatArray
    f: FloatArray
    rows: FloatArray

    def added(self, codes: FloatArray, f: FloatArray, rows: FloatArray) -> Designs:
        """Return these and others. Shapes: codes (k, n), f (k,), rows (k, m)."""
        return Designs(np.vstack([self.codes, codes]), np.append(self.f, f), np.vstack([self.rows, rows]))

    @property
    def valid(self) -> NDArray[np.bool_]:
        """Return (k,): which designs have values."""
        return np.isfinite(self.f) & np.isfinite(self.rows).all(axis=1)


@dataclass(frozen=True)
class Field:
    """One belief: y = middle + deviation · part, of a quantity bent by (1) where `bend` (f_min, s) is given."""

    part: Part | EffectsField
    middle: float
    deviation: float
    bend: tuple[float, float] | None = None

    def at(self, z: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return what is expected (k,) at points (k, n), bent where it is, and how uncertain it is."""
        if isinstance(self.part, EffectsField):
            said, spread = self.part.at(z)
        else:
            said = self.part.at(z)
            spread = np.ones(len(z)) if self.part.spread is None else self.part.spread.at(z)
        return self.middle + self.deviation * said, self.deviation * spread

    def bent(self, f: FloatArray) -> FloatArray:
        """Return values as the belief has them. Both are (k,)."""
        if self.bend is None:
            return f
        low, size = self.bend
        return np.asarray(np.log1p(np.maximum(f - low, 0.0) / size))

    def straight(self, w: float) -> float:
        """Return a value as the task has it."""
        return w if self.bend is None else self.bend[0] + self.bend[1] * math.expm1(min(w, 700.0))


@dataclass(kw_only=True)
class Beliefs:
    """What is believed of a task. `learn` takes in designs; searches for lengths go on where the last ones ended."""

    task: Task
    coding: Coding
    objective: Field | None = None
    rows: dict[int, Field] = field(default_factory=dict)
    failing: Failing | None = None
    _known: dict[str, dict[tuple[str, bool], FloatArray]] = field(default_factory=dict)
    _kept: dict[str, tuple[int, Lengths | FloatArray]] = field(default_factory=dict)
    _effects: dict[str, FloatArray] = field(default_factory=dict)
    _ways: list[tuple[bool, bool]] = field(default_factory=list)
    _asked: int = 0

    def shares(self, codes: FloatArray) -> FloatArray:
        """Return codes (k, n) as shares −1 .. 1 of the box."""
        middle = 0.5 * (self.coding.box_lower + self.coding.box_upper)
        return np.asarray((codes - middle) / (0.5 * self.coding.widths))

    def learn(self, designs: Designs, doubt: int = 0) -> None:
        """Take in designs, of which some have values. `doubt`: believe of the objective not what its values make most
        likely, but what comes so many places after that, around and around."""
        valid = designs.valid
        z = self.shares(designs.codes)
        kept = _apart(z[valid])
        own, f, rows = z[valid][kept], designs.f[valid][kept], designs.rows[valid][kept]
        self.objective = self._learnt_objective(own, f, doubt)
        self.rows = {}
        for row in self._rows_that_matter(rows):
            found = self._fitted(own, rows[:, row], f"row {row}")
            if found is not None:
                self.rows[row] = found
        self.failing = None
        if not valid.all():
            centre, half = np.zeros(z.shape[1]), np.ones(z.shape[1])
            self.failing = fitted_failing(z, ~valid, centre, half)

    def told(self, count: int) -> str:
        """Return what the surface of the objective is, in words, of so many designs."""
        part = None if self.objective is None else self.objective.part
        if isinstance(part, EffectsField):
            return f"main effects of {count} designs"
        kernel = "" if part is None or part.expansion is None else f", {part.expansion.kernel}"
        return f"Gaussian process{kernel} of {count} designs"

    def _learnt_objective(self, z: FloatArray, f: FloatArray, doubt: int) -> Field | None:
        low = float(f.min())
        size = float(np.median(f - low))
        if not size > 0.0:
            return self._fitted(z, f, "f")
        bent = np.log1p((f - low) / size)
        if not self._asked or len(f) >= self._asked + ASKED_EVERY:
            self._asked = len(f)
            slope = -float(np.log(size + f - low).sum())
            found = [
                (value + (slope if bends else 0.0), bends, has_effects)
                for bends, own in ((False, f), (True, bent))
                for has_effects, value in self._likely(z, own, "w" if bends else "f").items()
            ]
            self._ways = [way[1:] for way in sorted(found, key=lambda way: -way[0])]
        if not self._ways:
            return self._fitted(z, f, "f", has_effects=False)
        bends, has_effects = self._ways[doubt % len(self._ways)]
        name = ("w" if bends else "f") + (" effects" if has_effects else "")
        belief = self._fitted(z, bent if bends else f, name, has_effects=has_effects)
        return replace(belief, bend=(low, size)) if belief is not None and bends else belief

    def _likely(self, z: FloatArray, y: FloatArray, name: str) -> dict[bool, float]:
        """Return the log-likelihood of values by a field of all variables together (False), and by main effects (True);
        what cannot be had is left out."""
        deviation = float(y.std())
        if self._fitted(z, y, name, has_effects=False) is None:
            return {}
        self._effects.pop(f"{name} effects", None)  # what was found from few designs may be far from the best
        found = {False: self._likelihood(z, y, name)}
        scaled = (y - y.mean()) / deviation
        effects = self._fitted_effects(z, scaled, f"{name} effects")
        if effects is not None:
            own = likelihood_of_effects(z, scaled, effects.theta) - len(y) * math.log(deviation)
            found[True] = own - LIKELIER
        return found

    def _fitted(self, z: FloatArray, y: FloatArray, name: str, *, has_effects: bool | None = None) -> Field | None:
        """Return what is believed of values; `has_effects`: by main effects, or None for whichever tells designs left
        out better."""
        middle, deviation = float(y.mean()), float(y.std())
        if not deviation > 1e-13 * max(abs(middle), 1e-300):
            return None
        scaled = (y - middle) / deviation
        part = self._again(z, scaled, name) or self._anew(z, scaled, name, has_effects)
        return None if part is None else Field(part, middle, deviation)

    def _again(self, z: FloatArray, y: FloatArray, name: str) -> Part | EffectsField | None:
        """Return a belief by the numbers found last, where there are few new designs."""
        if name not in self._kept or len(y) >= GROWTH * self._kept[name][0]:
            return None
        kept = self._kept[name][1]
        if not isinstance(kept, Lengths):
            return conditioned_effects(z, y, kept)
        one = conditioned(z, y, kept)
        return None if one is None else one.part

    def _anew(self, z: FloatArray, y: FloatArray, name: str, has_effects: bool | None) -> Part | EffectsField | None:
        """Return a belief whose numbers are looked for."""
        effects = None if has_effects is False else self._fitted_effects(z, y, name)
        if effects is not None and has_effects:
            self._kept[name] = len(y), effects.theta
            return effects
        known, n = self._known.setdefault(name, {}), z.shape[1]
        trends = [all_powers(n, 0)]
        if len(z) >= BOWL_POINTS_PER_VARIABLE * n + 2:
            trends.append(np.vstack([trends[0], np.eye(n, dtype=np.int64), 2 * np.eye(n, dtype=np.int64)]))
        found = fitted_fields(z, y, trends, np.random.default_rng(1), known)
        for one in found:
            if one.found is not None and one.part.expansion is not None:
                known[one.part.expansion.kernel, len(one.part.trend.powers) == 1] = one.found
        best = min(found, key=lambda one: float(np.square(one.left_out - y).sum()), default=None)
        if best is None:
            return effects
        error = float(np.square(best.left_out - y).sum())
        if effects is not None and float(np.square(effects.left_out - y).sum()) < BETTER**2 * error:
            self._kept[name] = len(y), effects.theta
            return effects
        if best.found is not None and best.part.expansion is not None:
            kept = Lengths.of(best.part.expansion.kernel, best.part.trend.powers, best.found)
            self._kept[name] = len(y), kept
        return best.part

    def _fitted_effects(self, z: FloatArray, y: FloatArray, name: str) -> EffectsField | None:
        """Return a field of main effects, where several variables and enough designs make one worth looking for."""
        n = z.shape[1]
        if n < 2 or len(z) < EFFECTS_POINTS_PER_VARIABLE * n:
            return None
        theta = searched_effects(z, y, self._effects.get(name))
        if theta is None:
            return None
        self._effects[name] = theta
        return conditioned_effects(z, y, theta)

    def _likelihood(self, z: FloatArray, y: FloatArray, name: str) -> float:
        """Return the log-likelihood of values by the lengths found for them."""
        deviation = float(y.std())
        scaled = (y - y.mean()) / deviation
        known = self._known[name].items()
        best = max(likelihood_of(z, scaled, kernel, theta) for (kernel, is_level), theta in known if is_level)
        return best - len(y) * math.log(deviation)

    def _rows_that_matter(self, rows: FloatArray) -> list[int]:
        """Return the rows that designs miss most, or meet with the least room, over their size."""
        task = self.task
        room = np.minimum(rows - task.row_lower, task.row_upper - rows) / task.row_sizes
        least = room.min(axis=0) if len(rows) else np.zeros(rows.shape[1])
        varies = np.ptp(rows, axis=0) > 0.0
        order = [int(row) for row in np.argsort(least, kind="stable") if varies[row]]
        return sorted({*order[:MOST_ROWS], *(row for row in task.objectives if varies[row])})


def _apart(z: FloatArray) -> NDArray[np.int64]:
    """Return the places of points, without those that are as good as earlier ones."""
    kept: list[int] = []
    for place, point in enumerate(z):
        if not kept or float(np.abs(z[kept] - point).max(axis=1).min()) > SAME:
            kept.append(place)
    return np.array(kept, dtype=np.int64)
