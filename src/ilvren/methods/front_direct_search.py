"""Polls around the designs of a front: fronts without derivatives, of rough values, kinks and members.

A list of designs x_i that do not dominate each other, each with a reach α_i. The one in the most room whose
reach is not at its end, is polled around:

    x_i ± α_i s_j H_j ,   H = I − 2uu' , u a random unit vector, s_j the sizes of the variables                 (1)

What dominates something on the list, lies beyond its ends, or in room that is wider than what an even front of the
points asked for would leave, joins the list with the reach of the one polled around, what it dominates leaves (2). The
reach doubles where that is so, and is halved where nothing joins (3). A list that grows too long is thinned, and asks
for more room from then on: else what was left out would join again and again (4). Members of spaced and catalogue
variables are polled one step and, for choices, any other member away.

Until a design meets all limits, the one that misses least is polled around, by its violation.

Needs     values.   Handles   bounds, inequalities, equalities (weakly), spaced and catalogue variables.
Cost      2n values a poll, several polls at once; arithmetic and memory by the length of the list.
Stops     when all reaches are at their end.
Weak      many variables; the bottoms of narrow valleys.
Source    A. Custódio, J. Madeira, A. Vaz, L. Vicente, "Direct multisearch for multiobjective optimization", SIAM J.
          Optimization 21, 2011; the directions of (1): M. Abramson, C. Audet, J. Dennis, S. Le Digabel, 2009.
Departs   by the room asked for in (2) and (4), without which a list on a curve grows for ever; by several polls at
          once.
"""

from __future__ import annotations

from collections.abc import Generator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import crowding, nondominated, spread_subset
from ilvren.methods.base import FRONT, Ending, Iterate, Method, Protocol, Request, Task
from ilvren.methods.pieces.coding import Coding, spread
from ilvren.methods.pieces.options import option
from ilvren.methods.pieces.trade_offs import compromise, known_front, trade_offs
from ilvren.records import dataclass

__all__ = ["METHOD", "FrontDirectSearchOptions"]

FloatArray = NDArray[np.float64]

# (2): a design needs this share of the room that an even front leaves; lists longer than so many points are thinned.
ROOM_SHARE, LONGEST = 0.5, 3
# (4): by how much more room is asked for; and by which share of the front's extent a design lies beyond its ends.
WIDENED, BEYOND = 1.5, 1e-6
# Where nothing is known: designs spread over the box, for each variable and at most.
SPREAD_PER_VARIABLE, MOST_SPREAD = 4, 60
# The most reach, over the widths, and the share of the first one that known designs begin with.
MOST_REACH, KNOWN_SHARE = 0.5, 0.2
# Polls of the least violation in vain, each at half the reach, after which no feasible design is found.
ROUNDS_TO_MEET = 200


@dataclass(frozen=True)
class FrontDirectSearchOptions:
    """Options of `front-direct-search`."""

    first_reach: float = option(0.1, low=1e-6, high=1.0, help="first length of the polls, as a share of the widths")
    last_reach: float = option(1e-4, low=1e-12, high=0.1, help="length of the polls at which a design is left alone")
    at_once: int = option(4, low=1, high=1000, help="designs of the front that are polled around at the same time")


@dataclass
class _List:
    """The designs of the front: codes (k, n), objectives (k, p), reaches (k,); and how many times the room of (2) a
    further one needs."""

    codes: FloatArray
    values: FloatArray
    reach: FloatArray
    widened: float = 1.0

    def keep(self, places: NDArray[Any]) -> None:
        """Keep these alone."""
        self.codes, self.values, self.reach = self.codes[places], self.values[places], self.reach[places]

    def thin(self, most: int) -> None:
        """Keep so many at most, spread evenly, and ask for more room if that leaves any out, (4)."""
        if len(self.codes) > most:
            self.keep(spread_subset(self.values, most))
            self.widened *= WIDENED


def front_direct_search(task: Task, options: FrontDirectSearchOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    coding, rng = Coding.of(task), np.random.default_rng([task.seed, 44])
    first = yield from _first(task, coding, options, rng)
    if isinstance(first, Ending):
        return first
    front, polls = first, 0
    while True:
        open_ones = np.flatnonzero(front.reach > options.last_reach)
        yield Iterate(
            coding.decoded(front.codes[[compromise(front.values)]])[0],
            note=f"{len(front.codes)} points, {len(open_ones)} of them with room to move",
        )
        if not len(open_ones):
            return Ending("settled", f"no poll around {len(front.codes)} points improves on them any further")
        room = crowding(front.values)[open_ones]
        # At the ends all room is infinite: the longest reach first.
        centres = open_ones[np.lexsort((-front.reach[open_ones], -room))[: options.at_once]]
        if polls % 2:  # every other time by the reach, so that none is forgotten
            centres = open_ones[np.argsort(-front.reach[open_ones], kind="stable")[: options.at_once]]
        made = [_poll(coding, front.codes[place], front.reach[place], rng) for place in centres]
        codes = np.vstack(made)
        values, v = trade_offs(task, (yield Request(coding.decoded(codes.copy()))))
        owner = np.repeat(centres, [len(own) for own in made])
        _take(front, codes, values, v, owner, centres, task.points)
        polls += 1


METHOD = Method(
    name="front-direct-search",
    about="polls around the designs of a front: no derivatives, rough values, kinks",
    kind=FRONT,
    needs="values",
    handles=frozenset({"bounds", "inequalities", "equalities", "spaced", "catalogue"}),
    options=FrontDirectSearchOptions,
    run=front_direct_search,
    cost="2n values a poll, thousands of polls",
    weak="many variables; narrow valleys",
    is_random=True,
    takes_known=True,
)


def _first(
    task: Task, coding: Coding, options: FrontDirectSearchOptions, rng: np.random.Generator
) -> Generator[Any, Any, _List | Ending]:
    """Return the first list: what is known, or the front of designs spread over the box."""
    known = known_front(task)
    codes = known.x.copy()
    for place, grid in enumerate(task.grids):
        if grid is not None and len(codes):
            codes[:, place] = grid.indices(codes[:, place])
    count = min(SPREAD_PER_VARIABLE * len(task.start) + 4, MOST_SPREAD)
    fresh = coding.start[np.newaxis] if len(codes) else spread(coding, count, rng)
    values, v = trade_offs(task, (yield Request(coding.decoded(fresh.copy()))))
    if not np.isfinite(v).any() and not len(codes):
        return Ending("invalid", "no design tried has finite values")
    if not len(codes) and not (v <= 0.0).any():
        best = int(np.argmin(v))
        found = yield from _met(task, coding, fresh[best], float(v[best]), options, rng)
        if isinstance(found, Ending):
            return found
        fresh, values, v = found
    use = v <= 0.0
    reach = np.concatenate(
        [np.full(len(codes), KNOWN_SHARE * options.first_reach), np.full(use.sum(), options.first_reach)]
    )
    front = _List(np.vstack([codes, fresh[use]]), np.vstack([known.values, values[use]]), reach)
    front.keep(np.flatnonzero(nondominated(front.values)))
    _, once = np.unique(front.values, axis=0, return_index=True)
    front.keep(np.sort(once))
    front.thin(LONGEST * task.points)
    return front


def _met(
    task: Task, coding: Coding, code: FloatArray, v: float, options: FrontDirectSearchOptions, rng: np.random.Generator
) -> Generator[Any, Any, tuple[FloatArray, FloatArray, FloatArray] | Ending]:
    """Poll around the design that misses least until one meets all limits; return those of the last poll."""
    reach = options.first_reach
    for _ in range(ROUNDS_TO_MEET):
        codes = _poll(coding, code, reach, rng)
        values, own = trade_offs(task, (yield Request(coding.decoded(codes.copy()))))
        if (own <= 0.0).any():
            return codes, values, own
        best = int(np.argmin(own))
        if own[best] < v:
            code, v, reach = codes[best], float(own[best]), min(2.0 * reach, MOST_REACH)
        else:
            reach *= 0.5
        yield Iterate(coding.decoded(code[np.newaxis])[0], note=f"looking for a feasible design, violation {v:.3g}")
        if reach < 1e-3 * options.last_reach:
            break
    return Ending("stalled", "no design that meets all limits was found by polling around the one that misses least")


def _poll(coding: Coding, code: FloatArray, reach: float, rng: np.random.Generator) -> FloatArray:
    """Return the codes (k, n) of a poll, (1)."""
    n = len(code)
    u = rng.normal(size=n)
    u /= max(float(np.linalg.norm(u)), 1e-300)
    basis = np.eye(n) - 2.0 * np.outer(u, u)
    moves = reach * coding.widths * np.vstack([basis, -basis])
    members = np.flatnonzero(coding.is_discrete)
    moves[:, members] = np.where(np.abs(moves[:, members]) >= 0.5, np.rint(moves[:, members]), 0.0)
    steps = [np.eye(n)[place] * side for place in members for side in (1.0, -1.0)]
    codes = code + (np.vstack([moves, *(step[np.newaxis] for step in steps)]) if steps else moves)
    choices = np.flatnonzero(coding.is_unordered)
    for place in choices:
        other = np.repeat(code[np.newaxis], 1, axis=0)
        other[:, place] = coding.elsewhere(code[[place]], np.array([place]), rng)
        codes = np.vstack([codes, other])
    codes = coding.rounded(codes)
    codes = codes[(codes != code).any(axis=1)]
    return np.unique(codes, axis=0) if len(codes) else code[np.newaxis]


def _take(
    front: _List,
    codes: FloatArray,
    values: FloatArray,
    v: FloatArray,
    owner: NDArray[np.int64],
    centres: NDArray[np.int64],
    points: int,
) -> None:
    """Let designs join the list, (2), and change the reaches, (3)."""
    low, high = front.values.min(axis=0), front.values.max(axis=0)
    extent = np.where(high > low, high - low, np.maximum(np.abs(high), 1e-12))
    p = front.values.shape[1]
    room = front.widened * ROOM_SHARE / max(points - 1, 1) ** (1.0 / max(p - 1, 1))
    gained: set[int] = set()
    reach = front.reach.copy()
    new_codes, new_values, new_reach = [front.codes], [front.values], []
    alive = np.ones(len(front.codes), dtype=bool)
    current = front.values / extent
    added = np.zeros((0, p))
    for place in np.flatnonzero(v <= 0.0):
        own = values[place] / extent
        every = np.vstack([current[alive], added])
        if ((every <= own).all(axis=1)).any():
            continue
        beats = (own <= current).all(axis=1) & alive
        is_beyond = bool((values[place] < low - BEYOND * extent).any())
        gap = np.abs(every - own).max(axis=1).min(initial=np.inf)
        if not (beats.any() or is_beyond or gap > room):
            continue
        alive &= ~beats
        new_codes.append(codes[[place]])
        new_values.append(values[[place]])
        new_reach.append(float(front.reach[owner[place]]))
        added = np.vstack([added, own])
        gained.add(int(owner[place]))
    for centre in centres.tolist():
        factor = 2.0 if centre in gained else 0.5
        reach[centre] = min(reach[centre] * factor, MOST_REACH)
    doubled = [min(2.0 * own, MOST_REACH) for own in new_reach]
    front.codes, front.values = np.vstack(new_codes), np.vstack(new_values)
    front.reach = np.concatenate([reach, np.array(doubled)])
    keep = np.concatenate([alive, np.ones(len(doubled), dtype=bool)])
    keep &= nondominated(front.values)
    front.keep(np.flatnonzero(keep))
    front.thin(LONGEST * points)
