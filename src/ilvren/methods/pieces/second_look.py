"""A second look: a method that has converged looks elsewhere, within a budget of counted work.

Designs are sampled over the box (where bounds are missing: over sizes around the start and the design found), the
method is run from those that linkage chooses (`pieces.linkage`), from the best on, and its ends are sorted into
distinct optima. With W of them after S searches the searches end as soon as

    W (S − 1) / (S − W − 2) <= W + 1/2 ,                                                            (1)

the number of optima that a uniform prior expects in all. Where there are several, what is left of the work goes to a
population over the box, and the method runs once more from its best. From a better design the method begins again, in
sight; else its first ending stands.

Work is counted, in about the microseconds that requests and iterations take on a usual machine, and never timed: all
is decided by what was asked, so that a run replays.

Source: A. Rinnooy Kan, G. Timmer, "Stochastic global optimization methods", parts I and II, 1987; (1): C. Boender,
A. Rinnooy Kan, "Bayesian stopping rules for multistart global optimization methods", 1987.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Generator
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import (
    Ending,
    HessianRequest,
    Iterate,
    Looked,
    Method,
    Protocol,
    Reply,
    Request,
    Task,
    method_named,
)
from ilvren.methods.pieces.coding import Coding, spread
from ilvren.methods.pieces.linkage import linked_starts
from ilvren.methods.pieces.measured import stands
from ilvren.methods.pieces.ranking import judged
from ilvren.methods.pieces.together import Child
from ilvren.records import dataclass

__all__ = ["Effort", "looking_again"]

FloatArray = NDArray[np.float64]

# The budget is so many times the work of the first search, within these ends.
TIMES_FIRST, LEAST_WORK, MOST_WORK = 10.0, 1.0e6, 1.2e6
# Of what evolves over time, whose searches take seconds, it may be so many times the first one, up to another end.
TIMES_FIRST_OVER_TIME, MOST_WORK_OVER_TIME = 3.0, 3.0e6
# Where the first search took more than this share of it, no other fits.
MOST_FIRST_SHARE = 0.4
# Work of a request, of each design in it, of each node of a formula at one design alone and among many, of an iteration
# by itself and by the cube of its variables and rows, and of a Hessian for each node and variable.
ASK, ONE, NODE, NODE_MANY, ITERATION, ALGEBRA, BEND_NODE = 200.0, 40.0, 0.4, 0.004, 900.0, 0.02, 0.3
MANY = 8
# Work of a proof by itself, of each round of twice as many boxes for each operation, variable and (in part) row, and of
# a box; boxes before any other look, and after the searches; the shares of the work left that they may take.
PROOF, ROUND_NODE, ROUND_ROW, BOX = 5e4, 100.0, 0.6, 300.0
FIRST_BOXES, MOST_BOXES, FIRST_PROOF_SHARE, PROOF_SHARE = 40, 500, 0.25, 0.6
# Samples for each variable, at most, and the share of the work that they may take.
SAMPLES_PER_VARIABLE, MOST_SAMPLES, SAMPLES_SHARE = 400, 4000, 0.1
# Searches at least and at most, and the share of the work that they may take where there are several optima.
LEAST_SEARCHES, MOST_SEARCHES, SEARCHES_SHARE = 6, 60, 0.45
# A population of fewer evaluations for each variable is not worth its while.
LEAST_HORIZON_PER_VARIABLE = 500
# Designs of all populations, so that a run's usual limit leaves room to go on from what they find.
MOST_POPULATED = 60_000
# A population that narrows is about so large on average.
TYPICAL_POPULATION = 60.0
# Two ends are one optimum where f agrees to so many tolerances and the designs to this share of the box.
SAME_VALUE, SAME_DESIGN = 100.0, 1e-3
# A better design is better by so many tolerances of the objective's scale.
CLEARLY = 3.0
# A gain of fewer times this may come from the misses that limits allow.
EXPLAINED_BY_MISSES = 100.0
# A search from another start may take so many times what the first one took.
MOST_TIMES_LONGER = 5.0
ENDS_WELL = ("converged", "settled")


@dataclass(frozen=True)
class Effort:
    """How much is looked: `scale` times the budget; `nodes` counts the operations of the formulas for one design, and
    `elements` those on single numbers that they come to;
    `is_convex` is asked once the first search has converged: then there is nothing to look for. `is_least`(f, slack,
    boxes), f as written, tells whether so many boxes prove that no feasible design is better than f − slack, and how
    many were bounded; None where nothing can be proved. `is_over_time`: a design is a simulation.
    `among_many` is the work of a node at one of many designs."""

    scale: float
    nodes: float
    elements: float
    is_convex: Callable[[], bool]
    is_least: Callable[[float, float, int], tuple[bool, int]] | None = None
    is_over_time: bool = False
    among_many: float = NODE_MANY


@dataclass
class _Meter:
    """The work done so far, and how much of it is allowed."""

    effort: Effort
    n: int
    m: int
    seconds: float | None
    work: float = 0.0
    limit: float = math.inf

    def count(self, message: object) -> None:
        nodes = self.effort.nodes
        if isinstance(message, Request):
            k = len(message.points)
            if self.seconds is not None:  # derivatives may take a call for each variable
                self.work += k * 1e6 * self.seconds * (self.n + 1 if message.derivatives else 1)
            elif k >= MANY and not message.derivatives:
                self.work += ASK + nodes + self.effort.among_many * nodes * k
            else:
                self.work += ASK + k * (ONE + NODE * nodes * (2.0 if message.derivatives else 1.0))
        elif isinstance(message, HessianRequest):
            self.work += ASK + BEND_NODE * nodes * (1 if message.direction is not None else self.n)
        elif isinstance(message, Iterate):
            self.work += ITERATION + ALGEBRA * (self.n + self.m) ** 3

    @property
    def is_spent(self) -> bool:
        return self.work > self.limit


@dataclass
class _First:
    """How the first search ended."""

    ending: Ending
    last: Iterate | None
    work: float


def looking_again(method: Method, local: Method, effort: Effort) -> Method:
    """Return `method` with a second look, in which `local` is run from other starts."""

    def run(task: Task, options: Any) -> Protocol:
        lifted = task.lifted or task
        meter = _Meter(effort, len(lifted.start), len(lifted.row_lower), task.seconds)
        first: _First = yield from _in_sight(method.run(task, options), meter)
        if first.ending.claim not in ENDS_WELL or first.last is None:
            return first.ending
        if effort.is_convex():
            return replace(first.ending, looked=Looked(is_convex=True))
        most = MOST_WORK
        if effort.is_over_time:
            most = max(most, min(TIMES_FIRST_OVER_TIME * first.work, MOST_WORK_OVER_TIME))
        meter.limit = meter.work + effort.scale * min(max(TIMES_FIRST * first.work, LEAST_WORK), most)
        if first.work > MOST_FIRST_SHARE * (meter.limit - meter.work):
            return first.ending
        here = np.asarray(first.last.point, dtype=float)
        search = _Search(task, local, meter, here)
        yield from search.run(first.work)
        search.take_seen()
        looked = search.looked()
        if search.better is None:
            return replace(first.ending, looked=looked)
        meter.limit = math.inf
        again: _First = yield from _in_sight(
            method.run(
                replace(task, start=search.better, row_multipliers=None, bound_multipliers=None), method.options()
            ),
            meter,
            note="went on from a better design that the second look found",
        )
        if again.ending.claim == "unbounded":
            return replace(again.ending, looked=looked)
        if again.ending.claim in ENDS_WELL and again.last is not None:
            return (yield from _better_of(first, again, search))
        if search.first_f - search.best_f < EXPLAINED_BY_MISSES * search.slack:
            yield replace(first.last, step=math.nan, note="back to the first design: nothing clearly better was found")
            return replace(first.ending, looked=replace(looked, found=False, is_proved=False))
        reason = f"the second look found a better design, from which no method came to an end ({again.ending.reason})"
        return Ending("stalled", reason, looked=looked)

    return replace(method, run=run, keeps_checkpoints=False)


def _better_of(first: _First, again: _First, search: _Search) -> Generator[Any, Any, Ending]:
    """Return the better one of two ends that were seen, and what the second look found by that measure: a design that
    was better by the misses allowed alone leads back to the first one."""
    assert first.last is not None
    assert again.last is not None
    reply: Reply = yield Request(np.asarray(again.last.point)[np.newaxis], beyond=True)
    f, looked = float(reply.objective[0]), search.looked()
    is_as_good = f <= search.best_f + search.slack
    looked = replace(looked, found=f < search.first_f - search.slack, is_proved=looked.is_proved and is_as_good)
    if f <= search.first_f + search.slack:
        return replace(again.ending, looked=looked)
    yield replace(first.last, step=math.nan, note="back to the first design: what was found led to a worse one")
    return replace(first.ending, looked=looked)


def _in_sight(protocol: Protocol, meter: _Meter, note: str = "") -> Generator[Any, Any, _First]:
    """Pass everything on, counting; the first iterate gets the note."""
    before, last, answer = meter.work, None, None
    try:
        while True:
            message: Any = protocol.send(answer)
            meter.count(message)
            if isinstance(message, Iterate):
                if last is None and note:
                    message = replace(message, note=note)
                last = message
            answer = yield message
    except StopIteration as end:
        return _First(end.value, last, meter.work - before)
    finally:
        protocol.close()


@dataclass(frozen=True, eq=False)
class _End:
    """An optimum of a search: its point (n,) and f there."""

    x: FloatArray
    f: float


class _Search:
    """The searches from other starts. Begun at the optimum `here` (n,)."""

    def __init__(self, task: Task, local: Method, meter: _Meter, here: FloatArray) -> None:
        self.task, self.local, self.meter, self.here = task, local, meter, here
        self.rng = np.random.default_rng([task.seed, 31])
        self.known: list[_End] = []
        self.starts = self.same = self.worse = self.failed = 0
        self.seen: _End | None = None  # the best feasible design of all that were asked for
        self.sampled = self.populated = self.populations = 0
        self.better: FloatArray | None = None
        self.best_f = math.inf
        self.is_proved = False
        self.first_f = math.inf
        self.scale = 1.0
        self.widths = np.ones(len(here))

    def looked(self) -> Looked:
        """Return what has been found."""
        found = self.better is not None
        return Looked(
            self.starts,
            self.same,
            self.worse,
            self.failed,
            self.sampled,
            self.populated,
            found,
            is_proved=self.is_proved,
        )

    @property
    def slack(self) -> float:
        """Return by how much f must be lower to be better."""
        return CLEARLY * self.task.tolerance * self.scale

    def take_seen(self) -> None:
        """Go on from the best feasible design seen where no search has ended at one as good: nothing better that was
        evaluated may be passed over."""
        if self.seen is not None and self.seen.f < self.best_f - self.slack:
            self.better, self.best_f, self.is_proved = self.seen.x, self.seen.f, False

    def _see(self, x: FloatArray, f: float) -> None:
        if math.isfinite(f) and (self.seen is None or f < self.seen.f):
            self.seen = _End(x[: len(self.here)], f)

    def run(self, first_work: float) -> Generator[Any, Any, None]:
        """Search until enough is known or the work is done."""
        reply: Reply = yield self._asked(np.stack([self.here, self.task.start]))
        f = reply.objective
        if not math.isfinite(f[0]):
            return
        self.scale = max(abs(float(f[0])), min(1.0, abs(float(f[1] - f[0]))) if math.isfinite(f[1]) else 0.0) or 1.0
        self.known, self.best_f, self.first_f = [_End(self.here, float(f[0]))], float(f[0]), float(f[0])
        began, room = self.meter.work, self.meter.limit - self.meter.work
        if self._proved(FIRST_BOXES, FIRST_PROOF_SHARE):
            return
        starts = yield from self._sampled(SAMPLES_SHARE * room)
        for start in starts:
            if self._knows_enough() or self.meter.work + first_work > began + self._share() * room:
                break
            yield from self._from(start, first_work)
            if self.better is not None and self.best_f == -math.inf:
                return
        if self._proved(MOST_BOXES, PROOF_SHARE):
            return
        if len(self.known) > 1 and not self._knows_enough():
            while (yield from self._populated(first_work)):
                pass

    def _proved(self, boxes: int, share: float) -> bool:
        """Return whether so many boxes prove that nothing is better than the best design so far, where they take no
        more than a share of the work that is left."""
        left = self.meter.limit - self.meter.work
        if self.meter.effort.is_least is None or self._work_of_proof(boxes) > share * left:
            return False
        slack = self.slack
        self.is_proved, used = self.meter.effort.is_least(self.best_f * self.task.unit, slack * self.task.unit, boxes)
        self.meter.work += self._work_of_proof(used)
        return self.is_proved

    def _work_of_proof(self, boxes: int) -> float:
        rows = 1.0 + ROUND_ROW * len(self.task.row_lower)
        rounds = math.log2(max(boxes, 1)) + 2.0
        each = ROUND_NODE * self.meter.effort.elements * (len(self.here) + 1) * rows
        return PROOF + each * rounds + BOX * boxes

    def _share(self) -> float:
        return SEARCHES_SHARE if len(self.known) > 1 else 1.0

    def _knows_enough(self) -> bool:
        w, s = len(self.known), self.starts
        return s >= LEAST_SEARCHES and s > w + 2 and w * (s - 1) <= (w + 0.5) * (s - w - 2)  # (1)

    def _asked(self, points: FloatArray) -> Request:
        request = Request(points, beyond=True)
        self.meter.count(request)
        return request

    def _sampled(self, work: float) -> Generator[Any, Any, FloatArray]:
        """Return the designs (k, n) to start from, after sampling."""
        n, task = len(self.here), self.task
        each = self.meter.effort.among_many * self.meter.effort.nodes + 0.5
        if task.seconds is not None:
            each = 1e6 * task.seconds
        count = int(min(SAMPLES_PER_VARIABLE * n, MOST_SAMPLES, work / each))
        count = max(count, 2 * LEAST_SEARCHES)
        boxes = [Coding.of(task)]
        if not np.isfinite(task.upper - task.lower).all():
            boxes.append(Coding.of(replace(task, start=self.here)))
        self.widths = np.max([box.widths for box in boxes], axis=0)
        codes = np.vstack([spread(box, count // len(boxes) + 1, self.rng) for box in boxes])
        points = boxes[0].decoded(codes)
        request = Request(points, beyond=True, scan=True)
        self.meter.count(request)
        reply: Reply = yield request
        self.sampled = len(points)
        f, v = judged(task, reply)
        if not np.isfinite(f).any():
            return points[:0]
        feasible = np.flatnonzero(v == 0.0)
        if len(feasible):
            place = int(feasible[np.argmin(f[feasible])])
            self._see(points[place], float(f[place]))
        chosen = linked_starts(boxes[0], codes, f, v, MOST_SEARCHES)
        return np.asarray(points[[place for place in chosen if math.isfinite(f[place])]])

    def _from(self, start: FloatArray, first_work: float) -> Generator[Any, Any, None]:
        """Run the local method from a start, and sort its end in."""
        number = self.starts
        self.starts += 1
        seed = int(np.random.SeedSequence([self.task.seed, 31, number]).generate_state(1)[0])
        own = replace(self.task, start=start, seed=seed, row_multipliers=None, bound_multipliers=None)
        child = Child(path=f"look[{number}]", protocol=self.local.run(own, self.local.options()), task=own)
        limit, self.meter.limit = (
            self.meter.limit,
            min(self.meter.limit, self.meter.work + MOST_TIMES_LONGER * max(first_work, 0.02 * LEAST_WORK)),
        )
        yield from _followed(child, self.meter)
        self.meter.limit = limit
        yield from self._sort_in(child)

    def _sort_in(self, child: Child) -> Generator[Any, Any, None]:
        claim = child.ending.claim if child.ending is not None else ""
        if child.best is not None and child.worth()[0] == 0.0:
            best: Reply = yield self._asked(np.asarray(child.best.x)[np.newaxis, : len(self.here)])
            if self.task.violation(best.rows[0]) <= self.task.feasibility:
                self._see(np.asarray(child.best.x), float(best.objective[0]))
        if child.last is None:
            self.failed += 1
            return
        ends_well = claim in (*ENDS_WELL, "unbounded")
        x = np.asarray(child.last.point, dtype=float)
        reply: Reply = yield self._asked(x[np.newaxis])
        f = float(reply.objective[0])
        if not (math.isfinite(f) and self.task.violation(reply.rows[0]) <= self.task.feasibility):
            self.failed += 1
            return
        if claim == "unbounded":
            self.better, self.best_f = x, -math.inf
            return
        if f < self.best_f - self.slack:
            self.better, self.best_f = x, f
        elif not ends_well:
            self.failed += 1
            return
        first, place = self.known[0], self._place_of(_End(x, f))
        if place == 0:
            self.same += 1
        elif f > first.f - self.slack:
            self.worse += 1

    def _place_of(self, end: _End) -> int:
        """Return which of the known optima this is, taking it in where it is new."""
        for place, known in enumerate(self.known):
            is_level = abs(end.f - known.f) <= SAME_VALUE * self.task.tolerance * max(self.scale, abs(known.f))
            if is_level and bool((np.abs(end.x - known.x) <= SAME_DESIGN * self.widths).all()):
                return place
        self.known.append(end)
        return len(self.known) - 1

    def _populated(self, first_work: float) -> Generator[Any, Any, bool]:
        """Let a population search the box with the work that is left, and the local method go on from its best; return
        whether there was enough left for that."""
        n, meter = len(self.here), self.meter
        left = meter.limit - meter.work - 2.0 * first_work
        each = (ASK + meter.effort.nodes + ITERATION) / TYPICAL_POPULATION
        each += meter.effort.among_many * meter.effort.nodes + 6.0
        if self.task.seconds is not None:
            each += 1e6 * self.task.seconds
        horizon = min(int(left / each), int(MOST_POPULATED * max(meter.effort.scale, 1.0)) - self.populated)
        if horizon < LEAST_HORIZON_PER_VARIABLE * n:
            return False
        method = method_named("differential-evolution")
        best = min(self.known, key=lambda item: item.f)
        seed = int(np.random.SeedSequence([self.task.seed, 32, self.populations]).generate_state(1)[0])
        own = replace(self.task, start=best.x, seed=seed, lifted=None)
        self.populations += 1
        usual = max(3500 * n, 18_000)
        options = method.options(horizon=min(horizon, usual), finish=False)
        child = Child(path="population", protocol=method.run(own, options), task=own)
        limit, meter.limit = meter.limit, meter.limit - first_work
        yield from _followed(child, meter, is_scan=True)
        meter.limit = max(limit, meter.work + 3.0 * first_work)
        self.populated += child.requests
        if child.best is not None and child.worth()[0] == 0.0:
            self._see(np.asarray(child.best.x), child.best.f)
        if child.best is None or child.worth() >= (0.0, self.best_f - self.slack):
            return True
        yield from self._from(child.best.x, first_work)
        return True


def _followed(child: Child, meter: _Meter, *, is_scan: bool = False) -> Generator[Any, Any, None]:
    """Run a child to its end, or to that of the work, out of sight: it is judged by its own task. `requests` counts the
    designs that it asked for."""
    answer: Any = None
    own = child.task
    try:
        while True:
            message: Any = child.protocol.send(answer)
            meter.count(message)
            if meter.is_spent:
                child.ending = Ending("stalled", "no work left")
                return
            if isinstance(message, Iterate):
                child.last = message
                point = message.point if message.lifted is None else message.lifted
                answer = stands(child.task, child.seen_at(np.asarray(point)))
                child.assessment = answer
            elif isinstance(message, Request):
                child.requests += len(message.points)
                # Measured as it works: on the task itself, or with the kinks lifted.
                child.task = own.lifted if message.lifted and own.lifted is not None else own
                scan = is_scan and len(message.points) >= MANY
                answer = yield replace(message, beyond=True, scan=scan)
                child.take(message, answer)
            else:
                answer = yield message
    except StopIteration as end:
        child.ending = end.value
    finally:
        child.protocol.close()
