"""Direct search on a mesh that refines, in directions that become dense: kinks, jumps, rough values, members.

Around the best design x, and around the best one that misses limits, polls of the frame size Δ ask

    x + Δ s_j H_j ,   H = I − 2uu' , u a random unit vector, s_j the sizes of the variables, both signs     (1)

rounded to a mesh of size δ = min(Δ, Δ²), and to the members of spaced and catalogue variables. Before a poll, the least
point of quadratic models through the designs nearby is asked for (2). With h = Σ (miss/size)², a design is

    dominating   where it is feasible with less f, or has less h and not more f, than the one polled around   (3)
    improving    where it has less h, but more f                                                           (4)

Δ doubles where a design dominates, stays where one improves, and is quartered where none does. Designs with h beyond
a barrier are given up; the barrier falls to the h of the best improving one (5).

Needs     values.   Handles   bounds, inequalities, equalities (by the models of (2) only), spaced and catalogue.
Cost      1 value for (2) and up to 2n for (1), `at_once` at a time; arithmetic n^4 for the models (up to MOST_MODELLED
          variables), memory one row per evaluation.
Stops     when Δ has reached the accuracy asked for, no neighbouring members being better.
Weak      equalities among rough rows; many variables.
Source    C. Audet, J. Dennis, "Mesh adaptive direct search algorithms for constrained optimization", 2006, and "A
          progressive barrier for derivative-free nonlinear programming", 2009; M. Abramson, C. Audet, J. Dennis,
          S. Le Digabel, SIAM Journal on Optimization 20, 2009, pages 948–966; (2): A. Conn, S. Le Digabel, "Use of
          quadratic models with mesh-adaptive direct search", 2013; members: C. Audet, S. Le Digabel, C. Tribes, "The
          mesh adaptive direct search algorithm for granular and discrete variables", 2019.
Departs   by random instead of quasi-random u, and by leaving the mesh for the points of (2).
"""

from __future__ import annotations

import math
from collections.abc import Generator
from dataclasses import field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Arrived, Ending, Iterate, Method, Protocol, Reply, Request, Task
from ilvren.methods.pieces.coding import Coding
from ilvren.methods.pieces.options import option
from ilvren.methods.pieces.quadratics import fitted, minimizer_of
from ilvren.methods.pieces.ranking import MET_SHARE
from ilvren.records import dataclass

__all__ = ["METHOD", "MeshAdaptiveSearchOptions"]

FloatArray = NDArray[np.float64]

# What Δ is multiplied by after a dominating design and after none; its most over the first.
GROWTH, SHRINK, MOST_FRAME = 2.0, 0.25, 1e12
# (2): models for up to so many variables, through designs within so many Δ of x, up to so many full quadratics.
MOST_MODELLED, MODEL_REACH, MODEL_SHARE = 40, 2.0, 1.5
# A variable without both bounds counts as so wide at most.
MOST_WIDTH = 4.0
# A falling objective has no end when Δ has grown to so many widths.
ENDLESS_FRAME = 1e9
# With rows the search begins anew, with polls of this share of the first, until that gains nothing, so many times.
AGAIN_SHARE, MOST_AGAIN = 0.3, 20
# Values count as better when they are by this share of their size: rounding is no progress.
ROUNDING = 1e-14


@dataclass(frozen=True)
class MeshAdaptiveSearchOptions:
    """Options of `mesh-adaptive-search`."""

    first_reach: float = option(0.1, low=1e-6, high=1.0, help="first length of the polls, as a share of the widths")
    last_reach: float = option(1e-7, low=1e-14, high=0.1, help="length of the polls at which the search ends")
    at_once: int = option(4, low=1, high=1000, help="designs of a poll asked for together, before the next are decided")
    models: bool = option(True, help="ask for the least point of quadratic models before each poll")
    as_they_come: bool = option(
        False,
        help="go on from the first better design that comes back, `at_once` under way at any time; for workers and"
        " calls that take unequal times. The path then depends on who was quicker",
    )


@dataclass
class _Seen:
    """All designs evaluated: codes (k, n), f (k,), rows (k, m), h (k,), grown by doubling."""

    codes: FloatArray
    f: FloatArray
    rows: FloatArray
    h: FloatArray
    count: int = 0
    keys: set[bytes] = field(default_factory=set)

    @classmethod
    def empty(cls, n: int, m: int) -> _Seen:
        """Return room for a few designs."""
        return cls(np.zeros((64, n)), np.zeros(64), np.zeros((64, m)), np.zeros(64))

    def add(self, codes: FloatArray, f: float, rows: FloatArray, h: float) -> int:
        """Take a design in and return its place."""
        if self.count == len(self.f):
            for name in ("codes", "f", "rows", "h"):
                own = getattr(self, name)
                setattr(self, name, np.concatenate([own, np.zeros_like(own)]))
        place, self.count = self.count, self.count + 1
        self.codes[place], self.f[place], self.rows[place], self.h[place] = codes, f, rows, h
        self.keys.add(codes.tobytes())
        return place


@dataclass
class _State:
    """The places of the best feasible design and of the best one that misses limits, −1 for none; Δ; the barrier."""

    feasible: int = -1
    missing: int = -1
    frame: float = 1.0
    barrier: float = math.inf

    @property
    def centres(self) -> list[int]:
        """Return the places polled around, the main one first."""
        return [place for place in (self.feasible, self.missing) if place >= 0]


def mesh_adaptive_search(task: Task, options: MeshAdaptiveSearchOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    n, m = len(task.start), len(task.row_lower)
    coding, rng = Coding.of(task), np.random.default_rng([task.seed, 24])
    sizes = np.where(coding.is_discrete, coding.widths, np.minimum(coding.widths, MOST_WIDTH))
    sizes = np.where(np.isfinite(coding.upper - coding.lower), coding.widths, sizes)
    seen, state = _Seen.empty(n, m), _State(frame=options.first_reach)
    yield from _ask(task, coding, seen, coding.start[np.newaxis])
    if not math.isfinite(seen.h[0]):
        found = yield from _valid_start(task, coding, seen, sizes, rng)
        if not found:
            return Ending("invalid", "no finite values were found around the start")
    _take_in(seen, state, 0)
    last_direction, note = np.zeros(n), "start"
    settled, again = math.inf, 0
    flight = _Flight(options.at_once)
    while True:
        main = state.centres[0]
        x = seen.codes[main].copy()
        yield Iterate(coding.decoded(x[np.newaxis])[0], float((state.frame * sizes).max()), note)
        if state.frame <= options.last_reach and flight.codes:
            success = yield from _poll_as_they_come(task, coding, seen, state, flight, x[np.newaxis][:0])
            if success:
                note, state.frame = "a design that came back late", GROWTH * state.frame
                continue
        if state.frame <= options.last_reach:
            better = yield from _members_poll(task, coding, seen, state, x)
            if better:
                note, state.frame = "a neighbouring member", options.first_reach
                continue
            # Along limits few polls are feasible: a small Δ may only mean that the models were crude when it fell.
            value = float(seen.f[main])
            if not m or state.feasible < 0 or again == MOST_AGAIN:
                break
            if settled - value <= task.tolerance * max(abs(value), 1e-8):
                break
            settled, again = value, again + 1
            note, state.frame = "once more with long polls", AGAIN_SHARE * options.first_reach
            continue
        first = seen.count
        success = ""
        if options.models and n <= MOST_MODELLED:
            for centre in state.centres:
                first, guess = seen.count, _model_point(task, coding, seen, state.frame, sizes, centre)
                if guess is not None:
                    if options.as_they_come:
                        word = yield from _poll_as_they_come(task, coding, seen, state, flight, guess[np.newaxis])
                    else:
                        yield from _ask(task, coding, seen, guess[np.newaxis])
                        word = _take_in(seen, state, first)
                    success = max(success, word, key=_RANK.index)
                    note = "quadratic models"
                if success == "dominating":
                    break
        if success != "dominating":
            note = f"poll of size {state.frame:.1e}"
            for centre in state.centres:
                polls = _polls(coding, seen.codes[centre], state.frame, sizes, last_direction, rng)
                if centre != main:
                    polls = polls[:2]
                if options.as_they_come:
                    word = yield from _poll_as_they_come(task, coding, seen, state, flight, polls)
                    success = max(success, word, key=_RANK.index)
                    polls = polls[:0]
                for at in range(0, len(polls), options.at_once):
                    first = seen.count
                    yield from _ask(task, coding, seen, polls[at : at + options.at_once])
                    success = max(success, _take_in(seen, state, first), key=_RANK.index)
                    if success == "dominating":
                        break
                if success == "dominating":
                    break
        if success == "dominating":
            last_direction = seen.codes[state.centres[0]] - x
            state.frame = min(GROWTH * state.frame, MOST_FRAME)
            if np.abs(seen.codes[state.centres[0]] / sizes).max() > ENDLESS_FRAME:
                return Ending("unbounded", "the objective falls without end")
        elif success == "":
            state.frame *= SHRINK
    if state.feasible < 0:
        return Ending("stalled", "the mesh has reached its last size at a design that misses a limit")
    return Ending("settled", "the mesh has reached its last size and no design polled is better")


_RANK = ("", "improving", "dominating")

METHOD = Method(
    name="mesh-adaptive-search",
    about="polls on a mesh that refines, with a barrier for limits: kinks, jumps, whole numbers, catalogues",
    kind="derivative-free",
    needs="values",
    handles=frozenset({"bounds", "inequalities", "equalities", "spaced", "catalogue"}),
    options=MeshAdaptiveSearchOptions,
    run=mesh_adaptive_search,
    most_variables=500,
    cost="1 to 2n + 1 values per iteration",
    weak="equalities among rough rows; many variables",
    is_random=True,
)


def _ask(task: Task, coding: Coding, seen: _Seen, codes: FloatArray) -> Generator[Request, Any, None]:
    """Evaluate designs that are new, and take them in."""
    codes = coding.rounded(codes)
    fresh: dict[bytes, FloatArray] = {}
    for code in codes:
        if code.tobytes() not in seen.keys:
            fresh.setdefault(code.tobytes(), code)
    if not fresh:
        return
    own = np.array(list(fresh.values()))
    reply = yield Request(coding.decoded(own))
    _take(task, seen, own, reply)


@dataclass
class _Flight:
    """Codes of the designs under way by their tickets, and the next ticket; at most `most` are under way."""

    most: int
    codes: dict[int, FloatArray] = field(default_factory=dict)
    next_ticket: int = 0

    def put(self, codes: FloatArray) -> set[int]:
        """Take designs as under way; return their tickets."""
        tickets = range(self.next_ticket, self.next_ticket + len(codes))
        self.codes.update(zip(tickets, codes, strict=True))
        self.next_ticket += len(codes)
        return set(tickets)


def _poll_as_they_come(
    task: Task, coding: Coding, seen: _Seen, state: _State, flight: _Flight, polls: FloatArray
) -> Generator[Request, Any, str]:
    """Ask for the designs of a poll beside those under way, until all of its own are back or anything that comes back
    dominates; without polls, until all is back. Return what the best of them is.

    Source: P. Hough, T. Kolda, V. Torczon, "Asynchronous parallel pattern search for nonlinear optimization", 2001."""
    under_way = {code.tobytes() for code in flight.codes.values()}
    queue = {code.tobytes(): code for code in coding.rounded(polls)}
    waiting = [code for key, code in queue.items() if key not in seen.keys and key not in under_way]
    own = set(flight.codes) if not len(polls) else set[int]()
    word = ""
    while word != "dominating" and (waiting or own & flight.codes.keys()):
        room = max(flight.most - len(flight.codes), 0)
        sent, waiting = np.array(waiting[:room]).reshape(-1, len(coding.start)), waiting[room:]
        own |= flight.put(sent)
        arrived: Arrived = yield Request(coding.decoded(sent), in_arrival_order=True)
        first = seen.count
        _take(task, seen, np.array([flight.codes.pop(ticket) for ticket in arrived.tickets]), arrived.reply)
        word = max(word, _take_in(seen, state, first), key=_RANK.index)
    return word


def _take(task: Task, seen: _Seen, own: FloatArray, reply: Reply) -> None:
    """Take evaluated designs in."""
    misses = task.misses(reply.rows) / task.row_sizes
    h = (np.where(misses <= MET_SHARE * task.feasibility, 0.0, misses) ** 2).sum(axis=1)
    f = reply.objective
    h = np.where(np.isfinite(f) & np.isfinite(h), h, np.inf)
    for code, value, rows, miss in zip(own, f.tolist(), reply.rows, h.tolist(), strict=True):
        seen.add(code, value if math.isfinite(value) else math.inf, rows, miss)


def _valid_start(
    task: Task, coding: Coding, seen: _Seen, sizes: FloatArray, rng: np.random.Generator
) -> Generator[Request, Any, bool]:
    """Look around a start that is not finite; return whether something finite was found."""
    for share in (0.05, 0.2, 0.5):
        around = coding.start + share * sizes * rng.uniform(-1.0, 1.0, size=(4 * len(sizes) + 8, len(sizes)))
        yield from _ask(task, coding, seen, around)
        if np.isfinite(seen.h[: seen.count]).any():
            return True
    return False


def _take_in(seen: _Seen, state: _State, first: int) -> str:
    """Move the centres and the barrier by the designs from place `first` on; return what the best of them is."""
    word = ""
    for place in range(first, seen.count):
        f, h = float(seen.f[place]), float(seen.h[place])
        if not math.isfinite(h) or h > state.barrier:
            continue
        if h == 0.0:
            margin = ROUNDING * abs(f)
            if state.feasible < 0 or f < seen.f[state.feasible] - margin:
                state.feasible, word = place, "dominating"
            continue
        if state.missing < 0:
            state.missing = place
            word = word or ("improving" if state.feasible >= 0 else "dominating")
            continue
        f_now, h_now = float(seen.f[state.missing]), float(seen.h[state.missing])
        if h <= h_now and f <= f_now and (h < h_now or f < f_now):  # (3)
            state.missing, word = place, "dominating" if state.feasible < 0 or f < seen.f[state.feasible] else word
        elif h < h_now:  # (4)
            state.missing = place
            state.barrier = h_now * (1.0 - 1e-12)  # (5)
            word = word or "improving"
    if state.feasible >= 0 and state.missing >= 0 and seen.f[state.missing] >= seen.f[state.feasible]:
        state.missing = _next_missing(seen, state)
    return word


def _next_missing(seen: _Seen, state: _State) -> int:
    """Return the place of the design within the barrier with less f than the feasible one, and least h; −1: none."""
    h, f = seen.h[: seen.count], seen.f[: seen.count]
    able = np.flatnonzero((h > 0.0) & (h <= state.barrier) & (f < seen.f[state.feasible]))
    return int(able[np.argmin(h[able])]) if len(able) else -1


def _polls(
    coding: Coding, centre: FloatArray, frame: float, sizes: FloatArray, last: FloatArray, rng: np.random.Generator
) -> FloatArray:
    """Return the designs (2n, n) of (1), those along the last successful direction first."""
    n = len(centre)
    u = rng.standard_normal(n)
    u /= max(float(np.linalg.norm(u)), 1e-300)
    basis = np.eye(n) - 2.0 * np.outer(u, u)
    basis /= np.abs(basis).max(axis=1, keepdims=True)
    lengths = frame * sizes
    lengths = np.where(coding.is_discrete, np.maximum(lengths, 1.0), lengths)
    steps = np.vstack([basis, -basis]) * lengths
    mesh = np.where(coding.is_discrete, 1.0, min(frame, frame**2) * sizes)
    steps = np.rint(steps / mesh) * mesh
    order = np.argsort(-(steps / sizes) @ (last / sizes), kind="stable")
    found = np.asarray(centre + steps[order], dtype=np.float64)
    if coding.is_unordered.any():
        rows, columns = np.nonzero((found != centre) & coding.is_unordered)
        found[rows, columns] = coding.elsewhere(centre[columns], columns, rng)
    return found


def _members_poll(
    task: Task, coding: Coding, seen: _Seen, state: _State, x: FloatArray
) -> Generator[Request, Any, bool]:
    """Ask for all neighbouring members of the best design; return whether one dominates."""
    places = np.flatnonzero(coding.is_discrete)
    if not len(places):
        return False
    units = []
    for place in places:
        moves: list[float] = [1.0, -1.0]
        if coding.is_unordered[place]:
            moves = [other - x[place] for other in range(int(coding.upper[place]) + 1) if other != x[place]]
        for move in moves:
            unit = np.zeros(len(x))
            unit[place] = move
            units.append(unit)
    first = seen.count
    yield from _ask(task, coding, seen, x + np.array(units).reshape(-1, len(x)))
    return _take_in(seen, state, first) == "dominating"


def _model_point(
    task: Task, coding: Coding, seen: _Seen, frame: float, sizes: FloatArray, centre: int
) -> FloatArray | None:
    """Return where quadratic models through the designs nearby are least, None where there are too few."""
    x = seen.codes[centre]
    n = len(x)
    radius = np.where(coding.is_discrete, np.maximum(frame * sizes, 1.0), frame * sizes)
    codes = seen.codes[: seen.count]
    distance = np.abs((codes - x) / radius).max(axis=1)
    finite = np.isfinite(seen.h[: seen.count]) & np.isfinite(seen.f[: seen.count])
    near = np.flatnonzero((distance <= MODEL_REACH) & finite)
    if len(near) < n + 1:
        return None
    most = int(MODEL_SHARE * (n + 1) * (n + 2) / 2)
    near = near[np.argsort(distance[near], kind="stable")[:most]]
    values = np.column_stack([seen.f[near], seen.rows[near]])
    models = fitted(codes[near], values, x, radius)
    if models is None:
        return None
    lower, upper = np.maximum(coding.lower, x - radius), np.minimum(coding.upper, x + radius)
    point, _ = minimizer_of(models, task, lower, upper, x, np.zeros(len(task.row_lower)))
    rounded: FloatArray = coding.rounded(point[np.newaxis])[0]
    return rounded
