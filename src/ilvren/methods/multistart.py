"""A local method from a spread of starts, and what distinct optima it finds.

Designs are sampled over the box (a Latin hypercube, the start first) and evaluated; the starts are chosen among them by
linkage (`pieces.linkage`). All starts of a wave run at the same time, their requests in one batch. Two ends are one
optimum where f agrees to some tolerances and the designs to SAME_DESIGN of the box (2).

Needs     what its local method needs.   Handles   what that handles.
Cost      `samples` values, then the local method's cost from every start.
Stops     when all starts have come to an end.
Weak      very many local optima: each costs a search. What it has not found it cannot tell of.
Source    A. Rinnooy Kan, G. Timmer, "Stochastic global optimization methods II: multi level methods", 1987.
Departs   by a fixed number of starts.
"""

from __future__ import annotations

import math
from collections.abc import Generator
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Ending, HessianRequest, Iterate, Method, Optimum, Protocol, Request, Task
from ilvren.methods.pieces.coding import Coding, spread
from ilvren.methods.pieces.inner import AUTOMATIC, inner_method
from ilvren.methods.pieces.linkage import linked_starts
from ilvren.methods.pieces.options import option
from ilvren.methods.pieces.ranking import judged
from ilvren.methods.pieces.together import Child, together
from ilvren.records import dataclass

__all__ = ["METHOD", "MultistartOptions"]

FloatArray = NDArray[np.float64]

# (2): so many tolerances, relative to f or to this share of the spread of the samples.
SAME_VALUE, LEAST_SIZE_SHARE, SAME_DESIGN = 100.0, 1e-6, 1e-3
# Starts where they are not given: per variable, at least, at most.
PER_VARIABLE, LEAST_STARTS, MOST_STARTS = 5, 20, 100
ENDS_WELL = ("converged", "settled")


@dataclass(frozen=True)
class MultistartOptions:
    """Options of `multistart`."""

    local: str = option(
        AUTOMATIC, names_method=True, help="the method run from each start; automatic: what suits the problem"
    )
    starts: int = option(0, low=0, high=100_000, help="starts; 0: 5 for each variable, 20 to 100")
    samples: int = option(0, low=0, high=10_000_000, help="designs among which starts are chosen; 0: 10 for each start")
    at_once: int = option(10, low=1, high=1000, help="starts that run at the same time")


def multistart(task: Task, options: MultistartOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    n = len(task.start)
    coding, rng = Coding.of(task), np.random.default_rng([task.seed, 28])
    count = options.starts or min(max(PER_VARIABLE * n, LEAST_STARTS), MOST_STARTS)
    codes = spread(coding, max(options.samples or 10 * count, count), rng)
    points = coding.decoded(codes)
    reply = yield Request(points)
    f, v = judged(task, reply)
    if not np.isfinite(f).any():
        return Ending("invalid", "no design sampled has finite values")
    finite = f[np.isfinite(f)]
    size = max(LEAST_SIZE_SHARE * float(finite.max() - finite.min()), 1e-12)
    chosen = linked_starts(coding, codes, f, v, count)
    method = inner_method(options.local, task)
    ended: list[Child] = []
    for first in range(0, len(chosen), options.at_once):
        wave = []
        for number, place in enumerate(chosen[first : first + options.at_once], start=first):
            seed = int(np.random.SeedSequence([task.seed, number]).generate_state(1)[0])
            own = replace(task, start=points[place], seed=seed, row_multipliers=None, bound_multipliers=None)
            wave.append(
                Child(path=f"start[{number}]/{method.name}", protocol=method.run(own, method.options()), task=own)
            )
        yield from together(wave)
        ended += wave
    return (yield from _ending(task, coding, ended, size))


METHOD = Method(
    name="multistart",
    about="a local method from a spread of starts, with a table of the distinct optima",
    kind="global",
    needs="values",
    handles=frozenset({"bounds", "inequalities", "equalities", "spaced", "catalogue"}),
    options=MultistartOptions,
    run=multistart,
    cost="10 values and one local search for each start",
    weak="very many local optima",
    inner="local",
    is_random=True,
    takes_known=True,
)


def _ending(
    task: Task, coding: Coding, ended: list[Child], size: float
) -> Generator[Request | HessianRequest | Iterate, Any, Ending]:
    """Gather the ends into distinct optima; show the best."""
    claims = [child.ending.claim for child in ended if child.ending is not None]
    if "unbounded" in claims:
        return Ending("unbounded", "the objective falls without end from one of the starts")
    good = [
        (number, child)
        for number, child in enumerate(ended)
        if child.ending is not None
        and child.ending.claim in ENDS_WELL
        and child.last is not None
        and child.worth()[0] == 0.0
    ]
    if not good:
        common = max(sorted(set(claims)), key=claims.count)
        word = common if common in ("infeasible", "invalid") else "stalled"
        return Ending(word, f"none of {len(ended)} starts led to an optimum; most ended {common}")
    optima = _clustered(task, coding, good, size)
    top = optima[0]
    number = top.from_starts[0]
    best = ended[number]
    assert best.ending is not None
    yield Iterate(top.point, math.nan, "the best optimum", path=best.path)
    told = "optimum was" if len(optima) == 1 else "distinct optima were"
    often = f"{top.often} time{'s' if top.often > 1 else ''}"
    reason = f"{len(optima)} {told} found from {len(ended)} starts, the best one {often}"
    if len(good) < len(ended):
        reason += f"; {len(ended) - len(good)} starts came to no optimum"
    return Ending(best.ending.claim, reason, optima=optima)


def _clustered(task: Task, coding: Coding, good: list[tuple[int, Child]], size: float) -> tuple[Optimum, ...]:
    """Return the distinct optima (2), best first."""
    found: list[Optimum] = []
    ends = []
    for number, child in good:
        assert child.last is not None
        is_own = child.best is not None and child.ending is not None and child.ending.claim == "settled"
        point = child.best.x if is_own and child.best is not None else child.last.point
        seen = child.seen_at(np.asarray(point)) or child.best
        value = seen.f if seen is not None else math.inf
        ends.append((value, number, np.asarray(point)))
    widths = np.maximum(coding.box_upper - coding.box_lower, 1e-300)
    widths = np.where(coding.is_discrete, np.maximum(task.upper - task.lower, 1e-300), widths)
    for value, number, point in sorted(ends, key=lambda item: item[:2]):
        reach = SAME_VALUE * task.tolerance
        for place, known in enumerate(found):
            is_level = abs(value - known.f) <= reach * max(abs(known.f), size)
            if is_level and bool((np.abs(point - known.point) <= SAME_DESIGN * widths).all()):
                starts = (*known.from_starts, number)
                found[place] = replace(known, often=known.often + 1, from_starts=starts)
                break
        else:
            found.append(Optimum(point, value, 1, (number,)))
    return tuple(found)
