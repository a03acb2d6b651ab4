"""A population sorted by layers of domination: fronts of anything that can be evaluated.

Parents are chosen by tournaments of two, crossed and changed as in `genetic-algorithm`. Of parents and children
together N live on, layer by layer of domination, what misses limits behind all that meets them, by how much it misses;
of the layer L that does not fit whole

two objectives     those live on that are least crowded (`algebra.domination`, (3))                              (1)
three and more     directions w_j, evenly spaced, are served in turn, those first that lead to the fewest: each takes
                   the design of L nearest to it, in objectives scaled by f' = (f − z) / (a − z),                (2)
                   z the least values so far, a the intercepts of the plane through the designs that are least in
                   max_i (f_i − z_i) / e_ki, e_k nearly along axis k; where there is no such plane, the largest
                   values of the first layer                                                                     (3)

All designs evaluated make the front, not only the last generation.

Needs     values.   Handles   bounds, inequalities, equalities (weakly), spaced and catalogue variables.
Cost      one batch of N values a generation; arithmetic N² p, memory N².
Stops     after `generations`, or where the volume that the front dominates has grown by less than SETTLED in
          `idle` of them (up to three objectives).
Weak      designs that are nearly on the front, never exactly; many objectives; equalities.
Source    K. Deb, A. Pratap, S. Agarwal, T. Meyarivan, "A fast and elitist multiobjective genetic algorithm", 2002;
          (2), (3): K. Deb, H. Jain, "An evolutionary many-objective optimization algorithm using reference-point-based
          nondominated sorting approach", parts I and II, 2014.
Departs   by reporting the front of everything that was evaluated.
"""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import crowding, crowding_by_layer, domination_layers, hypervolume, lattice
from ilvren.methods.base import FRONT, Ending, Iterate, Method, Protocol, Request, Task
from ilvren.methods.pieces.coding import Coding, spread
from ilvren.methods.pieces.options import option
from ilvren.methods.pieces.trade_offs import compromise, trade_offs
from ilvren.methods.pieces.variation import crossed, mutated
from ilvren.records import dataclass

__all__ = ["METHOD", "NondominatedSortingOptions"]

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]

# N where it is not given: as many as points are asked for, and at least; generations, and more for each variable.
LEAST_POPULATION, GENERATIONS, PER_VARIABLE, MOST_GENERATIONS = 100, 200, 10, 600
# η of crossover and η_m of mutation.
CROSSOVER_INDEX, MUTATION_INDEX = 15.0, 20.0
# A front whose volume grows by less than this share in `idle` generations is at rest.
SETTLED = 1e-4
# Generations from one look at the volume to the next.
MEASURED_EVERY = 4
# (3): off its axis e_k has this; planes whose intercepts are smaller than this share of the largest values are none.
OFF_AXIS, LEAST_INTERCEPT = 1e-6, 1e-6


@dataclass(frozen=True)
class NondominatedSortingOptions:
    """Options of `nondominated-sorting`."""

    population: int = option(0, low=0, high=100_000, help="designs in each generation; 0: 100, or the points asked for")
    generations: int = option(
        0, low=0, high=1_000_000, help="most generations; 0: 200 and 10 for each variable, up to 600"
    )
    crossover: float = option(0.9, low=0.0, high=1.0, help="share of the pairs that are crossed")
    mutation: float = option(0.0, low=0.0, high=1.0, help="chance of each variable to be changed; 0: one in a design")
    idle: int = option(40, low=5, high=100_000, help="generations without a better front after which the search ends")


@dataclass(frozen=True)
class _Generation:
    """Codes and designs (N, n) with their objectives (N, p), violations, layers and crowding (N,)."""

    codes: FloatArray
    x: FloatArray
    values: FloatArray
    v: FloatArray
    layer: IntArray
    room: FloatArray

    @property
    def front(self) -> FloatArray:
        """Return the objectives of the feasible designs of the first layer."""
        found: FloatArray = self.values[(self.layer == 0) & (self.v <= 0.0)]
        return found


def nondominated_sorting(task: Task, options: NondominatedSortingOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    n, p = len(task.start), len(task.objectives)
    coding, rng = Coding.of(task), np.random.default_rng([task.seed, 41])
    directions = _directions(p, options.population or max(task.points, LEAST_POPULATION))
    count = options.population or max(task.points, LEAST_POPULATION if directions is None else len(directions))
    count += count % 2
    most = options.generations or min(GENERATIONS + PER_VARIABLE * n, MOST_GENERATIONS)
    chance = options.mutation or 1.0 / n
    niches = None if directions is None else _Niches(directions)
    codes = spread(coding, count, rng)
    x = coding.decoded(codes)
    values, v = trade_offs(task, (yield Request(x)))
    if not np.isfinite(v).any():
        return Ending("invalid", "no design of the first generation has finite values")
    now = _survivors(codes, x, values, v, count, niches)
    rest = _Rest(options.idle)
    for generation in range(most + 1):
        best = _shown(now)
        yield Iterate(now.x[best], note=f"generation {generation}", population=now.x)
        if generation == most:
            break
        if generation % MEASURED_EVERY == 0 and rest.is_reached(now.front):
            return Ending("settled", f"the front has hardly grown in {options.idle} generations, which is no proof")
        children = yield from _children(task, coding, now, count, chance, options, rng)
        joined = [np.concatenate(pair) for pair in zip(_bare(now), children, strict=True)]
        now = _survivors(joined[0], joined[1], joined[2], joined[3], count, niches)
    if not (now.v <= 0.0).any():
        return Ending("stalled", f"no design met all limits in {most} generations")
    return Ending("settled", f"{most} generations are over; their front is near the best, which is no proof")


METHOD = Method(
    name="nondominated-sorting",
    about="a population sorted by domination: fronts of anything that can be evaluated",
    kind=FRONT,
    needs="values",
    handles=frozenset({"bounds", "inequalities", "equalities", "spaced", "catalogue"}),
    options=NondominatedSortingOptions,
    run=nondominated_sorting,
    cost="one batch of 100 values a generation, 200 generations and more",
    weak="designs exactly on the front; equalities",
    is_random=True,
    takes_known=True,
)


def _bare(now: _Generation) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray]:
    return now.codes, now.x, now.values, now.v


def _shown(now: _Generation) -> int:
    """Return the place of the design that a history shows: the compromise of the front, or what misses least."""
    front = np.flatnonzero((now.layer == 0) & (now.v <= 0.0))
    return int(front[compromise(now.values[front])]) if len(front) else int(np.argmin(now.v))


def _children(
    task: Task,
    coding: Coding,
    now: _Generation,
    count: int,
    chance: float,
    options: NondominatedSortingOptions,
    rng: np.random.Generator,
) -> Generator[Request, Any, tuple[FloatArray, FloatArray, FloatArray, FloatArray]]:
    """Make and evaluate the children of one generation."""
    # Each design is in two tournaments: two random orders of all, compared pair by pair.
    order = np.concatenate([rng.permutation(len(now.v)) for _ in range(2)])[: 2 * count].reshape(-1, 2)
    one, two = order.T
    first_wins = (now.layer[one] < now.layer[two]) | (
        (now.layer[one] == now.layer[two]) & (now.room[one] >= now.room[two])
    )
    parents = now.codes[np.where(first_wins, one, two)]
    half = len(parents) // 2
    made = np.vstack(crossed(coding, parents[:half], parents[half : 2 * half], options.crossover, CROSSOVER_INDEX, rng))
    codes = coding.rounded(mutated(coding, made[:count], chance, MUTATION_INDEX, rng))
    x = coding.decoded(codes)
    values, v = trade_offs(task, (yield Request(x)))
    return codes, x, values, v


def _survivors(
    codes: FloatArray, x: FloatArray, values: FloatArray, v: FloatArray, count: int, niches: _Niches | None
) -> _Generation:
    """Return the designs that live on: whole layers, and of the last one the least crowded, (1), or by niches, (2)."""
    layer = domination_layers(values, v, count)
    order = np.argsort(layer, kind="stable")
    last = int(layer[order[min(count, len(order)) - 1]])
    whole = np.flatnonzero(layer < last)
    open_ones = np.flatnonzero(layer == last)
    left = count - len(whole)
    if len(open_ones) > left:
        feasible = bool((v[open_ones] <= 0.0).all())
        if niches is not None and feasible:
            open_ones = niches.chosen(values, whole, open_ones, layer, left)
        elif feasible:
            open_ones = open_ones[np.argsort(-crowding(values[open_ones]), kind="stable")[:left]]
        else:
            open_ones = open_ones[:left]
    kept = np.concatenate([whole, open_ones])
    own = layer[kept]
    room = np.where(v[kept] <= 0.0, crowding_by_layer(values[kept], own), 0.0)
    return _Generation(codes[kept], x[kept], values[kept], v[kept], own, room)


class _Rest:
    """Whether the volume that a front dominates has stopped growing. The reference is set where there first is a
    front, and set anew when that has become far smaller."""

    def __init__(self, idle: int) -> None:
        self._idle = idle
        self._reference: FloatArray | None = None
        self._extent: FloatArray | None = None
        self._best, self._waited = 0.0, 0

    def is_reached(self, front: FloatArray) -> bool:
        """Take the front (k, p) of a generation."""
        if len(front) < 2 or front.shape[1] > 3:
            return False
        high, extent = front.max(axis=0), np.maximum(np.ptp(front, axis=0), 1e-300)
        if self._extent is None or (extent < 0.5 * self._extent).any() or (extent > 2.0 * self._extent).any():
            self._reference, self._extent = high + 0.1 * extent, extent
            self._best, self._waited = 0.0, 0
        assert self._reference is not None
        volume = hypervolume(front, self._reference)
        if volume > (1.0 + SETTLED) * self._best:
            self._best, self._waited = volume, 0
            return False
        self._waited += MEASURED_EVERY
        return self._waited >= self._idle


def _directions(objectives: int, most: int) -> FloatArray | None:
    """Return evenly spaced directions (k, p) for three and more objectives: as many as there are points, at least."""
    if objectives < 3:
        return None
    parts = 1
    while len(lattice(parts, objectives)) < most and parts < 60:
        parts += 1
        if objectives > 4 and parts > objectives:
            break
    found = lattice(parts, objectives)
    if parts < objectives:  # all lie at the edges: a second, smaller lattice inside (Deb & Jain 2014)
        inner = lattice(max(parts - 1, 1), objectives)
        found = np.vstack([found, 0.5 * inner + 0.5 / objectives])
    return found


@dataclass
class _Niches:
    """The selection (2) with its `directions` (k, p); the least values and the designs that span the plane of (3) are
    kept from generation to generation."""

    directions: FloatArray
    low: FloatArray | None = None
    corners: FloatArray | None = field(default=None)

    def chosen(self, values: FloatArray, whole: IntArray, open_ones: IntArray, layer: IntArray, left: int) -> IntArray:
        """Return `left` of the designs of the last layer."""
        first = values[layer == 0]
        low = first.min(axis=0) if self.low is None else np.minimum(self.low, first.min(axis=0))
        self.low = low
        both = np.concatenate([whole, open_ones])
        scaled = (values[both] - low) / self._extent(values[both], first)
        lengths = np.linalg.norm(self.directions, axis=1)
        along = scaled @ (self.directions / lengths[:, np.newaxis]).T
        away = np.sqrt(np.maximum((scaled**2).sum(axis=1)[:, np.newaxis] - along**2, 0.0))
        nearest = np.argmin(away, axis=1)
        distance = away[np.arange(len(both)), nearest]
        counts = np.bincount(nearest[: len(whole)], minlength=len(self.directions))
        return open_ones[_served(counts, nearest[len(whole) :], distance[len(whole) :], left)]

    def _extent(self, values: FloatArray, first: FloatArray) -> FloatArray:
        """Return a − z of (3)."""
        assert self.low is not None
        candidates = first if self.corners is None else np.vstack([self.corners, first])
        shifted = candidates - self.low
        axes = np.eye(values.shape[1]) + OFF_AXIS
        worst = (shifted[:, np.newaxis] / axes[np.newaxis]).max(axis=2)
        self.corners = candidates[np.argmin(worst, axis=0)]
        largest: FloatArray = np.maximum(first.max(axis=0) - self.low, 1e-300)
        try:
            plane = np.linalg.solve(self.corners - self.low, np.ones(values.shape[1]))
            with np.errstate(divide="ignore"):
                found = 1.0 / plane
        except np.linalg.LinAlgError:
            return largest
        is_sound = np.isfinite(found).all() and (found > LEAST_INTERCEPT * largest).all()
        return np.asarray(found if is_sound else largest, dtype=np.float64)


def _served(counts: IntArray, nearest: IntArray, distance: FloatArray, left: int) -> IntArray:
    """Return the places of designs, direction by direction: those that lead to the fewest first, the nearest first."""
    order = np.lexsort((distance, nearest))
    # The k-th nearest design of a direction that c lead to already is served in round c + k.
    first = np.searchsorted(nearest[order], nearest[order], side="left")
    rounds = counts[nearest[order]] + np.arange(len(order)) - first
    return np.asarray(order[np.lexsort((distance[order], rounds))[:left]], dtype=np.int64)
