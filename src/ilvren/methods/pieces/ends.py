"""The ends of a front, and many searches of one objective at the same time.

Each objective is minimized alone; then the sum of the others, over their ranges, as far as that one stays at its best:
what is best in one alone may be needlessly bad in the others.

Source: Y. Haimes, L. Lasdon, D. Wismer, "On a bicriterion formulation of the problems of integrated system
identification and system optimization", 1971 (the limit); lexicographic ends: H. Isermann, "Linear lexicographic
optimization", 1982.
"""

from __future__ import annotations

from collections.abc import Generator, Sequence
from dataclasses import field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Ending, HessianRequest, Iterate, Method, Request, Task
from ilvren.methods.pieces.coding import Coding, spread
from ilvren.methods.pieces.scalarizing import Scalar, Solved, solving
from ilvren.methods.pieces.together import Child, together
from ilvren.methods.pieces.trade_offs import Known, compromise, known_front, trade_offs
from ilvren.records import dataclass

__all__ = ["Ends", "Starts", "found_ends", "search_all"]

FloatArray = NDArray[np.float64]
# Designs to begin at, with their objectives.
Starts = Sequence[tuple[FloatArray, FloatArray]]

# Designs looked at where the start has no finite values, or misses limits by far.
SAMPLES_PER_VARIABLE, MOST_SAMPLES = 20, 400
# An end is left by this share of the range, so that the others have room to improve.
SLACK = 1e-7
# Others are improved at an end only where that gains this share of a range: what SLACK allows gains something, too.
WORTHWHILE = 1e-3
# Requests of one search: far more than any that leads somewhere needs.
MOST_REQUESTS = 400
# Ranges below this share of the values' size are none.
ONE_POINT = 1e-9
ENDS_WELL = ("converged", "settled")


@dataclass
class Ends:
    """What is found of a front: its `front` so far, the least values `low` (p,), and the ranges `extent` (p,) between
    these and the worst of the ends; `known` is the front of what was known before, of which searches may begin;
    `failed` searches, and how many were `made`."""

    front: Known
    known: Known
    low: FloatArray
    extent: FloatArray
    is_one_point: bool
    failed: int = 0
    made: int = 0
    claims: list[str] = field(default_factory=list)

    def take(self, found: Sequence[Solved], *, needs_met: bool = True) -> None:
        """Let what searches found join the front; where it `needs_met`, only where conditions hold there."""
        self.made += len(found)
        self.failed += sum(not own.is_met for own in found)
        use = [own for own in found if own.is_met or not needs_met]
        x = [own.x for own in use if own.x is not None]
        values = [own.values for own in use if own.values is not None]
        if x:
            self.front = self.front.joined(np.array(x), np.array(values), np.zeros(len(x)))

    def ending(self, told: str) -> Ending:
        """Return the ending of a method that has done what it could."""
        failed = f"; {self.failed} of {self.made} searches did not converge" if self.failed else ""
        return Ending("settled", f"{told}{failed}", front=self.front.x)


def search_all(
    task: Task, method: Method, jobs: Sequence[tuple[Scalar, Starts]], known: Known
) -> Generator[Request | HessianRequest | Iterate, Any, list[Solved]]:
    """Search for the best of each scalar at the same time, from the first of its starts; what ends badly, or worse than
    something known, begins once more from each of the others, the best of what is known among them. Return one result a
    job."""
    jobs = [(scalar, _with_known(scalar, starts, known)) for scalar, starts in jobs]
    found = [Solved(scalar) for scalar, _ in jobs]
    waiting = [(place, 0) for place in range(len(jobs))]
    while waiting:
        children, tried = [], []
        for place, attempt in waiting:
            scalar, starts = jobs[place]
            own = Solved(scalar)
            x, values = starts[attempt]
            protocol = solving(task, scalar, x, values, method, own)
            children.append(
                Child(path=f"point[{place}]/{method.name}", protocol=protocol, task=task, most_requests=MOST_REQUESTS)
            )
            tried.append(own)
        yield from together(children)
        again = []
        for (place, attempt), own in zip(waiting, tried, strict=True):
            is_better = (
                own.worth < found[place].worth - 1e-12 * max(abs(own.worth), 1.0) if np.isfinite(own.worth) else False
            )
            if is_better or (own.is_met and not found[place].is_met and own.worth <= found[place].worth):
                found[place] = own
            best_known = float(jobs[place][0].worth(known.values).min(initial=np.inf))
            is_beaten = found[place].worth > best_known + 1e-9 * max(abs(best_known), 1.0)
            if (not found[place].is_met or is_beaten) and attempt + 1 < len(jobs[place][1]):
                again.append((place, attempt + 1))
        waiting = again
    return found


def _with_known(scalar: Scalar, starts: Starts, known: Known) -> Starts:
    """Return the starts and the best of what is known: first where it is better than all, else last."""
    if not len(known.x):
        return starts
    worth = scalar.worth(known.values)
    best = int(np.argmin(worth))
    own = (known.x[best], known.values[best])
    given = min(float(scalar.worth(values[np.newaxis])[0]) for _, values in starts)
    return [own, *starts] if worth[best] < given else [*starts, own]


def found_ends(task: Task, method: Method) -> Generator[Any, Any, Ends | Ending]:
    """Return the ends of the front, or how the search for them ended where there is none."""
    p = len(task.objectives)
    start = yield from _first_designs(task)
    if start is None:
        return Ending("invalid", "no design tried has finite values")
    x, values, front = start
    sizes = (
        np.maximum(np.abs(values), 1e-12)
        if not len(front.x)
        else np.maximum(np.ptp(front.values, axis=0), 1e-6 * np.maximum(np.abs(front.values).max(axis=0), 1e-12))
    )
    no_cap = np.full(p, np.inf)
    jobs: list[tuple[Scalar, Starts]] = []
    for place in range(p):
        scalar = Scalar(np.eye(p)[place] / sizes[place], no_cap, np.zeros(p), sizes)
        starts = [(front.x[k], front.values[k]) for k in np.argsort(front.values[:, place], kind="stable")[:1]]
        jobs.append((scalar, [*starts, (x, values)]))
    alone = yield from search_all(task, method, jobs, front)
    ends = Ends(Known(front.x[:0], front.values[:0]), front, values, sizes, False)
    for own in alone:
        if own.claim == "unbounded":
            return Ending("unbounded", "an objective falls without end by itself; no front has an end there")
    if any(own.x is None for own in alone):
        bad = next(own for own in alone if own.x is None)
        if not len(front.x):
            claim = bad.claim if bad.claim in ("infeasible", "invalid") else "stalled"
            return Ending(claim, "no design that meets all limits was found in the search for the ends of the front")
    ends.take(alone, needs_met=False)
    if not len(ends.front.x):
        return Ending("stalled", "no end of the front was found")
    tops = np.array([own.values for own in alone if own.values is not None])
    low, high = tops.min(axis=0), tops.max(axis=0)
    if len(ends.front.x):
        low = np.minimum(low, ends.front.values.min(axis=0))
    extent = high - low
    size = np.maximum(np.abs(high), np.abs(low))
    flat = ~(extent > ONE_POINT * np.maximum(size, 1e-300))
    extent = np.where(flat, np.maximum(size, 1.0), extent)
    jobs = []
    alone = [own for own in alone if own.x is not None and own.values is not None]
    places = [int(np.argmax(own.scalar.weights)) for own in alone]
    for place, own in zip(places, alone, strict=True):
        assert own.x is not None
        assert own.values is not None
        weights = 1.0 / extent
        weights[place] = 0.0
        cap = no_cap.copy()
        cap[place] = own.values[place] + SLACK * extent[place]
        jobs.append((Scalar(weights, cap, np.zeros(p), extent), [(own.x, own.values)]))
    exact = yield from search_all(task, method, jobs, ends.front)
    final = [_better_end(one, other, extent) for one, other in zip(alone, exact, strict=True)]
    ends.front = Known(front.x[:0], front.values[:0])
    ends.take(final, needs_met=False)
    values = np.array([own.values for own in final if own.values is not None])
    low = np.minimum(ends.front.values.min(axis=0), values.min(axis=0))
    extent = values.max(axis=0) - low
    ends.is_one_point = bool((~(extent > ONE_POINT * np.maximum(size, 1e-300))).all())
    ends.low, ends.extent = low, np.where(extent > ONE_POINT * np.maximum(size, 1e-300), extent, np.maximum(size, 1.0))
    yield Iterate(ends.front.x[compromise(ends.front.values)], note="the ends of the front")
    return ends


def _better_end(alone: Solved, exact: Solved, extent: FloatArray) -> Solved:
    """Return the best design of an objective alone, or, where that is needlessly bad in others, the one that is not."""
    if exact.values is None or alone.values is None:
        return alone
    gain = (alone.values - exact.values) / extent
    return exact if float(gain.max()) > WORTHWHILE and exact.is_met else alone


def _first_designs(task: Task) -> Generator[Request, Any, tuple[FloatArray, FloatArray, Known] | None]:
    """Return a design to begin at, with its objectives, and the front of what is known: the start where it has finite
    values, else the best of designs spread over the box."""
    front = known_front(task)
    values, v = trade_offs(task, (yield Request(task.start[np.newaxis])))
    front = front.joined(task.start[np.newaxis], values, v)
    if np.isfinite(v[0]):
        return task.start, values[0], front
    count = min(SAMPLES_PER_VARIABLE * len(task.start), MOST_SAMPLES)
    coding = Coding.of(task)
    x = coding.decoded(spread(coding, count, np.random.default_rng([task.seed, 43])))
    values, v = trade_offs(task, (yield Request(x)))
    if not np.isfinite(v).any():
        return None
    front = front.joined(x, values, v)
    best = int(np.argmin(v))
    return x[best], values[best], front
