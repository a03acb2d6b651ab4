"""One method after the other: until one ends well, or all."""

from __future__ import annotations

import math
from collections.abc import Callable, Generator, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import (
    Assessment,
    Checkpoint,
    Ending,
    HessianRequest,
    Iterate,
    Method,
    Protocol,
    Request,
    Task,
    Tight,
)
from ilvren.methods.pieces.coding import Coding
from ilvren.methods.pieces.escape import spread_by_violation, valid_nearby
from ilvren.methods.pieces.together import Child, together
from ilvren.records import dataclass

__all__ = ["all_of", "in_turn"]

FloatArray = NDArray[np.float64]

# Claims after which nothing else is tried. "infeasible" is tried once more by the next method.
ENDS_WELL = frozenset({"converged", "settled", "unbounded"})
# A second opinion on a conflict has so many requests at least.
LEAST_OPINION = 100
# A conflict is looked at from so many other designs of the box, too, each for so many requests at least; they are so
# far apart, and from where methods were stuck, in shares of the box.
ELSEWHERE, LEAST_ELSEWHERE, APART = 3, 40, 0.05


@dataclass(frozen=True)
class NoOptions:
    """A chosen method runs with its own defaults."""


@dataclass(frozen=True)
class _Part:
    """What one method came to: its ending, its last iterate and how that stood."""

    ending: Ending
    last: Iterate | None
    assessment: Assessment | None
    requests: int


def in_turn(methods: Sequence[Method]) -> Method:
    """Return a method that runs `methods` in turn: the next begins when the one before ends badly, from its
    last feasible iterate, else from the start (or, where that is invalid, from a valid design nearby). All must take
    the same kind of matrices."""

    def run(task: Task, options: NoOptions) -> Protocol:
        parts: list[tuple[str, _Part]] = []
        start, requests = task.start, 0
        for method in methods:
            own = replace(task, start=start)
            # A conflict that one method is sure of is looked at by another, but not for longer.
            most = max(LEAST_OPINION, requests) if parts and parts[-1][1].ending.claim == "infeasible" else None
            part: _Part = yield from _part(method, own, "" if len(methods) == 1 else method.name, most)
            requests += part.requests
            parts.append((method.name, part))
            if part.ending.claim in ENDS_WELL:
                return _ending(parts, len(parts) - 1)
            if [p.ending.claim for _, p in parts].count("infeasible") > 1:
                break
            start = task.start
            if part.ending.claim == "invalid" and part.last is None and len(parts) == 1:
                valid = yield from valid_nearby(
                    task, start
                )  # the next one begins where there is something to go on from
                if valid is not None:
                    start, task = valid.x, replace(task, start=valid.x)
                    continue
            assessment = part.assessment
            if part.last is not None and assessment is not None and assessment.violation <= task.feasibility:
                start = np.clip(part.last.point, task.lower, task.upper)
        is_left = False
        if parts[_best_of(parts)][1].ending.claim == "infeasible" and not task.is_convex:
            is_left = True
            stuck = [part.last.point for _, part in parts if part.last is not None]
            elsewhere = yield from _from_elsewhere(methods[0], task, parts[0][1].requests, stuck)
            if elsewhere is not None:
                return replace(elsewhere, method=methods[0].name)
        best = _best_of(parts)
        last = parts[best][1].last
        if (is_left or best < len(parts) - 1) and last is not None:
            yield replace(last, step=math.nan, note=f"back to where {parts[best][0]} ended", path=parts[best][0])
        return _ending(parts, best)

    return _declared(methods, run)


def _from_elsewhere(
    method: Method, task: Task, requests: int, left: list[FloatArray]
) -> Generator[Request | HessianRequest | Tight | Iterate, Any, Ending | None]:
    """Return the ending of a method that ends well from one of the designs over the box that miss least: no direction
    may lower the violation where it is stuck, and limits be met elsewhere all the same. None if none does. `left` are
    designs near which nothing was found."""
    points, _ = yield from spread_by_violation(task)
    widths, tried, left = Coding.of(task).widths, 0, list(left)
    for x in points:
        if tried == ELSEWHERE:
            break
        if any(bool((np.abs(x - other) <= APART * widths).all()) for other in left):
            continue
        tried += 1
        left.append(x)
        part: _Part = yield from _part(
            method, replace(task, start=x), "from elsewhere in the box", max(LEAST_ELSEWHERE, requests)
        )
        if part.ending.claim in ENDS_WELL:
            return part.ending
    return None


def _declared(methods: Sequence[Method], run: Callable[[Task, NoOptions], Protocol]) -> Method:
    """Return the declaration of a method made of several: it needs what any needs, and handles what all handle."""
    kinds = {method.needs for method in methods}
    needs = "residuals" if "residuals" in kinds else "gradients" if "gradients" in kinds else "values"
    return replace(
        methods[0],
        needs=needs,
        handles=frozenset.intersection(*(method.handles for method in methods)),
        options=NoOptions,
        run=run,
        most_variables=methods[0].most_variables,
        takes_sparse=all(method.takes_sparse for method in methods),
        inner="",
        is_random=any(method.is_random for method in methods),
        relaxes=any(method.relaxes for method in methods),
        takes_known=all(method.takes_known for method in methods),
        keeps_checkpoints=False,
    )


@dataclass(frozen=True)
class _Found:
    """The best point of a part: how far beyond what is allowed it misses the rows, f, the point."""

    miss: float = math.inf
    f: float = math.inf
    x: FloatArray | None = None


def all_of(name: str, methods: Sequence[Method]) -> Method:
    """Return a method `name` that runs all of `methods`, one after the other, the last from the best design so far; it
    ends as the last one does where that ends well and as good as any before, else as a search that settled."""

    def run(task: Task, options: NoOptions) -> Protocol:
        best = _Found()
        endings: list[Ending] = []
        reached = (math.inf, math.inf)
        for number, method in enumerate(methods):
            own = task
            if number == len(methods) - 1 and number and best.x is not None:
                own = replace(task, start=task.allowed(best.x))
            child = Child(path=method.name, protocol=method.run(own, method.options()), task=own)
            yield from together([child], keeps_populations=True)
            assert child.ending is not None
            endings.append(child.ending)
            if child.ending.claim == "unbounded":
                return child.ending
            if child.best is not None and child.worth() < (best.miss, best.f):
                best = _Found(*child.worth(), child.best.x)
            if child.best is not None and child.ending.claim in ENDS_WELL:
                reached = child.worth()
        optima = next((ending.optima for ending in endings if ending.optima), ())
        last = endings[-1]
        names = ", ".join(f"{m.name} {e.claim}" for m, e in zip(methods, endings, strict=True))
        is_last_best = last.claim in ENDS_WELL and reached[0] <= best.miss and _is_level(task, reached[1], best.f)
        if is_last_best:
            return replace(last, reason=f"{last.reason} ({names}); a search, no proof", optima=optima)
        if any(ending.claim in ENDS_WELL for ending in endings) and best.miss == 0.0:
            return Ending("settled", f"the whole box was searched ({names}); a search, no proof", optima=optima)
        return replace(last, reason=f"{last.reason} ({names})", optima=optima)

    return replace(_declared(methods, run), name=name)


def _is_level(task: Task, f: float, best: float) -> bool:
    return f <= best + 10.0 * task.tolerance * max(abs(best), 1e-6)


def _part(
    method: Method, task: Task, path: str, most_requests: int | None
) -> Generator[Request | HessianRequest | Tight | Iterate, Any, _Part]:
    """Run one method, naming it in its iterates; after so many requests it is ended."""
    generator = method.run(task, method.options())
    last, assessment, requests = None, None, 0
    try:
        message = next(generator)
        while True:
            if isinstance(message, Iterate):
                last = message
                assessment = yield replace(message, path=message.path or path)
                message = generator.send(assessment)
            else:
                requests += isinstance(message, Request)
                if most_requests is not None and requests > most_requests:
                    return _Part(
                        Ending("stalled", "nothing else was found in as many requests"), last, assessment, requests
                    )
                assert not isinstance(message, Checkpoint), "a part of another keeps none"
                message = generator.send((yield message))
    except StopIteration as end:
        return _Part(end.value, last, assessment, requests)
    finally:
        generator.close()


def _best_of(parts: list[tuple[str, _Part]]) -> int:
    """Return which of several bad endings tells most: a conflict of limits, else the last stop that was not invalid."""
    for place, (_, part) in enumerate(parts):
        if part.ending.claim == "infeasible":
            return place
    valid = [place for place, (_, part) in enumerate(parts) if part.ending.claim != "invalid"]
    return valid[-1] if valid else 0


def _ending(parts: list[tuple[str, _Part]], place: int) -> Ending:
    name, part = parts[place]
    others = [f"{other} ended {p.ending.claim}" for k, (other, p) in enumerate(parts) if k != place]
    reason = part.ending.reason
    if others:
        reason += f" ({', '.join(others)}{' before' if place == len(parts) - 1 else ', too'})"
    return replace(part.ending, reason=reason, method=name)
