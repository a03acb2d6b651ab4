"""Search by the volume that a front may be expected to gain: fronts of models that take long, in some hundred designs.

Gaussian processes of the objectives and the rows tell what is expected at a design and how uncertain that is
(`pieces.beliefs`). The part of objective space that the front A leaves undominated, up to a reference point r, is cut
into boxes [l, u] (1); with Y_i the objectives as believed, independent of each other, the volume to be hoped for is

    E(x) = Σ_boxes Π_i ( ψ_i(u_i) − ψ_i(l_i) ) · Π_j P(row j is met) · (1 − p_fail),                              (2)
    ψ_i(b) = E max(b − Y_i, 0) = s ( v Φ(v) + φ(v) ),   v = (b − μ) / s                                           (3)

The next design makes (2) largest; before anything is feasible, the chances alone. Every EXPECTED_EVERY-th is chosen
with little of the uncertainty: near the front that is what is left to do. Several at a time: what is expected of the
first is taken for true while the next is chosen.

(1): slices along the last objective, in each of which only the designs below it dominate anything, down to strips of
two objectives.

Needs     values.   Handles   bounds, inequalities, spaced and catalogue variables; known designs.
Cost      5 + 3n first designs, then `batch` values an iteration; arithmetic k³ for k designs, |A|^(p−1) boxes.
Stops     when the share of the volume to be hoped for falls below `worth` several times in a row.
Weak      more than about twenty variables; four and more objectives; cheap models: others are quicker.
Source    M. Emmerich, K. Giannakoglou, B. Naujoks, "Single- and multiobjective evolutionary optimization assisted by
          Gaussian random field metamodels", 2006; exact boxes: I. Couckuyt, D. Deschrijver, T. Dhaene, "Fast
          calculation of multiobjective probability of improvement and expected improvement criteria for Pareto
          optimization", 2014;
          several at a time: D. Ginsbourger, R. Le Riche, L. Carraro, 2010.
Departs   by the designs without uncertainty.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Generator
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.special import ndtr
from threadpoolctl import threadpool_limits

from ilvren.algebra import hypervolume, nondominated, spread_subset
from ilvren.methods.base import FRONT, Ending, Iterate, Method, Protocol, Reply, Request, Task
from ilvren.methods.pieces.beliefs import Beliefs, Designs
from ilvren.methods.pieces.coding import Coding, spread
from ilvren.methods.pieces.hopes import log_chance, most_hoped
from ilvren.methods.pieces.options import option
from ilvren.methods.pieces.trade_offs import compromise, trade_offs
from ilvren.records import dataclass

__all__ = ["METHOD", "ExpectedHypervolumeOptions"]

FloatArray = NDArray[np.float64]

# First designs: so many, and so many for each variable, at most.
FIRST, FIRST_PER_VARIABLE, MOST_FIRST = 5, 3, 80
# Every so many designs one is chosen with this share of the uncertainty.
EXPECTED_EVERY, LITTLE = 3, 0.05
# Members of the front that make boxes, by objectives (two, three, more).
MOST_MEMBERS = (200, 40, 15)
# The reference point lies so many ranges beyond the worst of the front.
BEYOND = 0.1
# Designs in a row that promise nothing before the search ends, and designs that the surfaces can be fitted to in time.
PATIENCE, MOST_DESIGNS = 6, 300


@dataclass(frozen=True)
class ExpectedHypervolumeOptions:
    """Options of `expected-hypervolume`."""

    first: int = option(0, low=0, help="designs before the first surface (0: 5 and 3 for each variable)")
    batch: int = option(1, low=1, high=64, help="designs proposed at a time, for as many workers")
    worth: float = option(
        1e-5, low=0.0, help="stop when the gain hoped for is below this share of the volume of the front's box"
    )


def expected_hypervolume(task: Task, options: ExpectedHypervolumeOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    coding, n = Coding.of(task), len(task.start)
    rng = np.random.default_rng([task.seed, 62])
    count = options.first or min(FIRST + FIRST_PER_VARIABLE * n, MOST_FIRST)
    designs = yield from _first(task, coding, count, rng)
    if not designs.valid.any():
        return Ending("invalid", f"none of {len(designs.f)} first designs has values")
    beliefs, turn, idle = Beliefs(task=task, coding=coding), 0, 0
    yield _shown(task, coding, designs, f"{len(designs.f)} first designs")
    while len(designs.f) < MOST_DESIGNS:
        with threadpool_limits(1):  # matrices are small: threads would wait for each other
            beliefs.learn(designs)
            chosen, hoped = _proposed(beliefs, designs, options.batch, turn, rng)
        if not len(chosen):
            return Ending("settled", "every design that could be better is known")
        reply = yield Request(coding.decoded(chosen.copy()))
        designs = designs.added(chosen, reply.objective, reply.rows)
        turn += len(chosen)
        told = f"{100.0 * hoped:.2g} % of the box hoped for" if math.isfinite(hoped) else "looking for a feasible one"
        yield _shown(task, coding, designs, told)
        idle = idle + 1 if hoped <= options.worth else 0
        if idle >= PATIENCE:
            return Ending("settled", f"{idle} designs in a row promised next to nothing")
    return Ending("stalled", f"{MOST_DESIGNS} designs are as many as the surfaces take")


METHOD = Method(
    name="expected-hypervolume",
    about="designs from which the front may gain most, by surfaces of all before: models that take long",
    kind=FRONT,
    needs="values",
    handles=frozenset({"bounds", "inequalities", "spaced", "catalogue"}),
    options=ExpectedHypervolumeOptions,
    run=expected_hypervolume,
    cost="one design an iteration, or a batch",
    weak="many variables, four and more objectives, cheap models",
    most_variables=40,
    is_random=True,
    takes_known=True,
)


def _first(task: Task, coding: Coding, count: int, rng: np.random.Generator) -> Generator[Request, Any, Designs]:
    """Return the first designs, the start among them; known ones count, and their front is asked for."""
    n, m = len(task.start), len(task.row_lower)
    codes = spread(coding, count, rng)
    known = Designs(np.zeros((0, n)), np.zeros(0), np.zeros((0, m)))
    if task.known is not None and len(task.known.points):
        own = task.known.points.copy()
        for place, grid in enumerate(task.grids):
            if grid is not None:
                own[:, place] = grid.indices(own[:, place])
        if len(own) > MOST_DESIGNS // 2:
            own = own[: MOST_DESIGNS // 2]
        known = Designs(own, task.known.objective[: len(own)], task.known.rows[: len(own)])
        values, v = trade_offs(task, Reply(known.f, known.rows))
        front = np.flatnonzero((v <= 0.0) & nondominated(np.where(v[:, np.newaxis] <= 0.0, values, np.inf)))
        chosen = front[spread_subset(values[front], 10)] if len(front) else front
        codes = np.vstack([coding.start, own[chosen]])
        missing = count - len(own)
        if missing > 0:
            codes = np.vstack([codes, spread(coding, missing + 1, rng)[1:]])
    codes = np.unique(codes, axis=0)
    reply = yield Request(coding.decoded(codes.copy()))
    return known.added(codes, reply.objective, reply.rows)


def _feasible(task: Task, designs: Designs) -> tuple[FloatArray, NDArray[np.int64]]:
    """Return the objectives (k, p) of all designs, and the places of the feasible ones on the front."""
    values, v = trade_offs(task, Reply(designs.f, designs.rows))
    usable = np.where((v <= 0.0)[:, np.newaxis], values, np.inf)
    return values, np.flatnonzero(nondominated(usable))


def _shown(task: Task, coding: Coding, designs: Designs, note: str) -> Iterate:
    values, front = _feasible(task, designs)
    if len(front):
        place = int(front[compromise(values[front])])
    else:
        place = int(np.argmin(np.where(designs.valid, task.violations(designs.rows), np.inf)))
    return Iterate(coding.decoded(designs.codes[[place]])[0], note=f"{note}; {len(front)} on the front")


def _proposed(
    beliefs: Beliefs, designs: Designs, count: int, turn: int, rng: np.random.Generator
) -> tuple[FloatArray, float]:
    """Return codes (k, n) to be evaluated next, and the gain hoped for of the first, as a share of the front's box;
    infinite while nothing is feasible."""
    task, found, hoped, pretended = beliefs.task, list[FloatArray](), math.inf, designs
    for number in range(count):
        if number:
            beliefs.learn(pretended)
        worth = _Worth(beliefs, pretended)
        little = (turn + number) % EXPECTED_EVERY == EXPECTED_EVERY - 1
        centre = pretended.codes[worth.centre(rng)]
        code, value = most_hoped(beliefs, pretended, centre, worth.little if little else worth.log_gain, rng)
        if code is None:
            break
        if number == 0 and len(worth.front):
            hoped = math.exp(min(value, 700.0))
        found.append(code)
        z = beliefs.shares(code[np.newaxis])
        rows = pretended.rows[worth.centre(rng)].copy()
        for row, belief in beliefs.rows.items():
            rows[row] = belief.at(z)[0][0]
        pretended = pretended.added(code[np.newaxis], np.zeros(1), rows[np.newaxis])
    return np.array(found).reshape(-1, len(task.start)), hoped


class _Worth:
    """What designs are worth, by what is believed: objectives over the ranges of the front."""

    def __init__(self, beliefs: Beliefs, designs: Designs) -> None:
        self.beliefs, self.designs = beliefs, designs
        task = beliefs.task
        self.signs = np.array(task.signs)
        values, self.front = _feasible(task, designs)
        p = len(self.signs)
        if not len(self.front):
            return
        own = values[self.front]
        every = values[np.isfinite(values).all(axis=1)]
        low, high = own.min(axis=0), own.max(axis=0)
        extent = np.where(high > low, high - low, np.maximum(np.ptp(every, axis=0), 1e-12))
        self.low, self.extent = low, extent
        scaled = (own - low) / extent
        most = MOST_MEMBERS[min(p, 4) - 2]
        if len(scaled) > most:
            scaled = scaled[spread_subset(scaled, most)]
        self.corner = np.full(p, 1.0 + BEYOND)
        self.boxes = _boxes(scaled, self.corner)
        self.whole = float(np.prod(self.corner)) if len(scaled) > 1 else max(hypervolume(scaled, self.corner), 1e-12)

    def centre(self, rng: np.random.Generator) -> int:
        """Return the place of a design of the front, any with the same chance; of the one that misses least."""
        if len(self.front):
            return int(self.front[rng.integers(len(self.front))])
        task = self.beliefs.task
        return int(np.argmin(np.where(self.designs.valid, task.violations(self.designs.rows), np.inf)))

    def log_gain(self, z: FloatArray) -> FloatArray:
        """Return log E of (2) at shares (k, n), over the box's volume."""
        return self._log(z, 1.0)

    def little(self, z: FloatArray) -> FloatArray:
        """Return the same with little uncertainty."""
        return self._log(z, LITTLE)

    def _log(self, z: FloatArray, share: float) -> FloatArray:
        found = log_chance(self.beliefs, z)
        if not len(self.front):
            return found
        low, high = self.boxes
        product = np.ones((len(z), len(low)))
        for place, row in enumerate(self.beliefs.task.objectives):
            belief = self.beliefs.rows.get(row)
            if belief is None:  # the same at all designs
                mean, spread = np.zeros(len(z)), np.full(len(z), 1e-9)
            else:
                mean, spread = belief.at(z)
                mean = (self.signs[place] * mean - self.low[place]) / self.extent[place]
                spread = np.maximum(share * spread / self.extent[place], 1e-9)
            product *= _hope(high[:, place], mean, spread) - _hope(low[:, place], mean, spread)
        return np.asarray(found + np.log(np.maximum(product.sum(axis=1) / self.whole, 1e-300)), dtype=np.float64)


def _hope(bounds: FloatArray, mean: FloatArray, spread: FloatArray) -> FloatArray:
    """Return (3) (k, b) of k designs for b bounds; 0 for −inf."""
    own = np.where(np.isfinite(bounds), bounds, -1e12)
    v = (own[np.newaxis] - mean[:, np.newaxis]) / spread[:, np.newaxis]
    density = np.exp(-0.5 * np.minimum(v * v, 1400.0)) / math.sqrt(2.0 * math.pi)
    return np.where(np.isfinite(bounds), spread[:, np.newaxis] * np.maximum(v * ndtr(v) + density, 0.0), 0.0)


def _boxes(values: FloatArray, corner: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Return (1): lower and upper corners (b, p) of boxes that hold all that values (k, p) do not dominate."""
    p = values.shape[1]
    values = values[(values < corner).all(axis=1)]
    if not len(values):
        return np.full((1, p), -np.inf), corner[np.newaxis].copy()
    if p == 1:
        return np.array([[-np.inf]]), values.min(axis=0)[np.newaxis]
    if p == 2:
        front = values[nondominated(values)]
        front = front[np.argsort(front[:, 0])]
        left = np.concatenate([[-np.inf], front[:, 0]])
        right = np.concatenate([front[:, 0], [corner[0]]])
        top = np.concatenate([[corner[1]], front[:, 1]])
        return np.column_stack([left, np.full(len(left), -np.inf)]), np.column_stack([right, top])
    levels = np.unique(values[:, -1])
    edges = [-np.inf, *levels.tolist(), float(corner[-1])]
    lows, highs = [], []
    for below, above in itertools.pairwise(edges):
        low, high = _boxes(values[values[:, -1] <= below][:, :-1], corner[:-1])
        lows.append(np.column_stack([low, np.full(len(low), below)]))
        highs.append(np.column_stack([high, np.full(len(high), above)]))
    return np.vstack(lows), np.vstack(highs)
