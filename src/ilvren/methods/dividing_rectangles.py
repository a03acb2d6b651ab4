"""Dividing rectangles: a deterministic, global search of a box, by halves of no constant.

The box is divided into rectangles, each with the value at its centre. In every iteration those are divided that may
hold the least value for some Lipschitz constant K: j such that for some K > 0

    F_j − K d_j <= F_i − K d_i  for all i                                                                  (1)
    F_j − K d_j <= F_min − ε |F_min|                                                                       (2)

d the distance from centre to corner. A rectangle is divided in three along its longest sides, in the order of the
least value found to either side (3). Where there are limits, F is the violation until a design meets them; then

    F = f where they are met, else max(f, f_min) + v · (|f_max − f_min| + |f − f_min|)                     (4)

Needs     values.   Handles   bounds (a box around the start where they are missing), inequalities, equalities (weakly).
Cost      2 values for each side divided, one batch an iteration; memory one row per evaluation.
Stops     when the rectangle around the best design is as small as the accuracy asked for.
Weak      more than about six variables; the last digits.
Source    D. Jones, C. Perttunen, B. Stuckman, "Lipschitzian optimization without the Lipschitz constant", 1993; limits
          in the manner of L. Stripinis, R. Paulavičius, J. Žilinskas, Structural and Multidisciplinary Optimization
          59, 2019, pages 2155–2175.
Departs   by (4), whose weights come from the values themselves.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Ending, Iterate, Method, Protocol, Request, Task
from ilvren.methods.pieces.coding import Coding
from ilvren.methods.pieces.options import option
from ilvren.methods.pieces.ranking import judged
from ilvren.records import dataclass

__all__ = ["METHOD", "DividingRectanglesOptions"]

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]

# A side of 3^-DEEPEST is as small as numbers resolve.
DEEPEST = 30
# So many rectangles without a finite value are enough.
MOST_INVALID = 500
# So many of the same value are flat ground.
MOST_FLAT = 2000


@dataclass(frozen=True)
class DividingRectanglesOptions:
    """Options of `dividing-rectangles`."""

    gain: float = option(1e-4, low=0.0, high=0.1, help="least relative gain that a rectangle must promise, ε of (2)")
    smallest: float = option(1e-4, low=1e-12, high=0.1, help="share of the box to which the best rectangle must shrink")


@dataclass
class _Rectangles:
    """Centres (k, n) in the unit box, how often each side was divided (k, n), f and violations (k,)."""

    centres: FloatArray
    levels: IntArray
    f: FloatArray
    v: FloatArray

    def added(self, other: _Rectangles) -> _Rectangles:
        """Return both together."""
        return _Rectangles(
            np.vstack([self.centres, other.centres]),
            np.vstack([self.levels, other.levels]),
            np.concatenate([self.f, other.f]),
            np.concatenate([self.v, other.v]),
        )

    def worth(self) -> FloatArray:
        """Return F (k,) of (4)."""
        is_met = self.v == 0.0
        if not is_met.any():
            return self.v
        least = float(self.f[is_met].min())
        finite = self.f[np.isfinite(self.f)]
        spread = float(finite.max()) - least
        with np.errstate(invalid="ignore", over="ignore"):
            outside = np.maximum(self.f, least) + self.v * (abs(spread) + np.abs(self.f - least))
        return np.where(is_met, self.f, np.where(np.isfinite(self.f) & np.isfinite(self.v), outside, np.inf))


def dividing_rectangles(task: Task, options: DividingRectanglesOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    n, coding = len(task.start), Coding.of(task)
    low, width = coding.box_lower, coding.widths
    is_open = bool(((task.lower < low) | (task.upper > coding.box_upper)).any())

    def designs(centres: FloatArray) -> FloatArray:
        return np.clip(low + centres * width, task.lower, task.upper)

    centre = np.full((1, n), 0.5)
    reply = yield Request(designs(centre))
    all_of = _Rectangles(centre, np.zeros((1, n), dtype=np.int64), *judged(task, reply))
    iteration = 0
    while True:
        worth = all_of.worth()
        best = int(np.argmin(worth))
        if not np.isfinite(all_of.f).any() and len(worth) > MOST_INVALID:
            break
        if len(worth) > MOST_FLAT and float(worth.min()) == float(worth.max()):
            return Ending("stalled", f"all of {len(worth)} designs have the same value: there is nothing to go by")
        side = 3.0 ** -float(all_of.levels[best].min())
        yield Iterate(designs(all_of.centres[best : best + 1])[0], side, f"{len(worth)} rectangles")
        if side <= options.smallest and np.isfinite(worth[best]):
            break
        chosen = _chosen(all_of, worth, options.gain)
        if not len(chosen):
            break
        # (3): both neighbours along every longest side of every chosen rectangle, in one batch
        shortest = all_of.levels[chosen].min(axis=1)
        rows, axes = np.nonzero(all_of.levels[chosen] == shortest[:, np.newaxis])
        steps = 3.0 ** -(shortest[rows] + 1.0)
        centres = np.repeat(all_of.centres[chosen[rows]], 2, axis=0)
        centres[0::2][np.arange(len(rows)), axes] += steps
        centres[1::2][np.arange(len(rows)), axes] -= steps
        reply = yield Request(designs(centres))
        f, v = judged(task, reply)
        fresh = _Rectangles(centres, np.zeros((len(centres), n), dtype=np.int64), f, v)
        joined = all_of.added(fresh)
        _divide(joined, chosen, rows, axes, len(worth))
        all_of, iteration = joined, iteration + 1
    if not np.isfinite(all_of.f).any():
        return Ending("invalid", "no rectangle has a finite value at its centre")
    where = "; where a bound is missing, only ten sizes around the start were searched" if is_open else ""
    if all_of.v[best] > 0.0:
        return Ending("stalled", "the rectangle with the least violation is as small as asked for and misses a limit")
    told = "the rectangle around the best design is as small as asked for, which proves nothing"
    return Ending("settled", told + where)


METHOD = Method(
    name="dividing-rectangles",
    about="deterministic division of a box where some Lipschitz constant promises most: few variables, no seeds",
    kind="global",
    needs="values",
    handles=frozenset({"bounds", "inequalities", "equalities"}),
    options=DividingRectanglesOptions,
    run=dividing_rectangles,
    most_variables=100,
    cost="2 values for each side divided, in batches",
    weak="more than about six variables; the last digits",
)


def _chosen(all_of: _Rectangles, worth: FloatArray, gain: float) -> IntArray:
    """Return the places of the potentially optimal rectangles, (1) and (2): those on the lower right hull."""
    able = np.flatnonzero(all_of.levels.min(axis=1) < DEEPEST)
    distance = 0.5 * np.sqrt((9.0 ** -all_of.levels[able].astype(float)).sum(axis=1))
    finite = np.isfinite(worth[able])
    if not finite.any():  # nothing to compare: the largest
        return able[distance >= distance.max() * (1.0 - 1e-12)][:50] if len(able) else able
    # Of each size the least value; sizes are told apart by rounding.
    keys = np.round(distance, 14)
    order = np.lexsort((worth[able], keys))
    sizes, first = np.unique(keys[order], return_index=True)
    places = able[order[first]]
    values = worth[places]
    keep = np.isfinite(values)
    sizes, places, values = sizes[keep], places[keep], values[keep]
    hull: list[int] = []
    begin = int(np.argmin(values + 0.0 * sizes))
    least = np.flatnonzero(values == values[begin])[-1]
    for k in range(int(least), len(sizes)):
        while len(hull) > 1 and _is_above(sizes, values, hull[-2], hull[-1], k):
            hull.pop()
        hull.append(k)
    best = float(values.min())
    chosen = []
    for at, k in enumerate(hull):
        if at + 1 < len(hull):
            slope = (values[hull[at + 1]] - values[k]) / (sizes[hull[at + 1]] - sizes[k])
            if values[k] - slope * sizes[k] > best - gain * abs(best):
                continue  # (2)
        chosen.append(k)
    return np.asarray(places[chosen or [len(sizes) - 1]], dtype=np.int64)


def _is_above(sizes: FloatArray, values: FloatArray, i: int, j: int, k: int) -> bool:
    """Return whether point j lies on or above the line from i to k."""
    return bool((values[j] - values[i]) * (sizes[k] - sizes[i]) >= (values[k] - values[i]) * (sizes[j] - sizes[i]))


def _divide(joined: _Rectangles, chosen: IntArray, rows: IntArray, axes: IntArray, first: int) -> None:
    """Give every new rectangle, and those divided, their levels: the sides with the best values are cut first and
    leave the largest pieces."""
    worth = joined.worth()
    fresh = first + 2 * np.arange(len(rows))
    least = np.minimum(worth[fresh], worth[fresh + 1])
    for row, place in enumerate(chosen):
        own = np.flatnonzero(rows == row)
        levels = joined.levels[place].copy()
        for k in own[np.argsort(least[own], kind="stable")]:
            levels[axes[k]] += 1
            joined.levels[fresh[k]] = joined.levels[fresh[k] + 1] = levels
        joined.levels[place] = levels
