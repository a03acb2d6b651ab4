"""One method after the other, until one ends well."""

from __future__ import annotations

import math
from collections.abc import Generator, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ilvren.methods.base import Bend, Ending, Iterate, Method, Protocol, Request, Standing, Task, method_named
from ilvren.methods.pieces.escape import valid_nearby

__all__ = ["in_turn"]

# Claims after which nothing else is tried. "infeasible" is tried once more by the next method.
ENDS_WELL = frozenset({"converged", "settled", "unbounded"})


@dataclass(frozen=True)
class NoOptions:
    """A chosen method runs with its own defaults."""


@dataclass(frozen=True)
class _Part:
    """What one method came to: its ending, its last iterate and how that stood."""

    ending: Ending
    last: Iterate | None
    standing: Standing | None


def in_turn(names: Sequence[str]) -> Method:
    """Return a method that runs the methods `names` in turn: the next begins when the one before ends badly, from its
    last feasible iterate, else from the start (or, where that is invalid, from a valid design nearby). All must take
    the same kind of matrices."""
    methods = [method_named(name) for name in names]
    first = methods[0]

    def run(task: Task, options: NoOptions) -> Protocol:
        parts: list[tuple[str, _Part]] = []
        start = task.start
        for method in methods:
            own = replace(task, start=start)
            part: _Part = yield from _part(method, own, "" if len(methods) == 1 else method.name)
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
            standing = part.standing
            if part.last is not None and standing is not None and standing.violation <= task.feasibility:
                start = np.clip(part.last.point, task.lower, task.upper)
        best = _best_of(parts)
        last = parts[best][1].last
        if best < len(parts) - 1 and last is not None:
            yield replace(last, step=math.nan, note=f"back to where {parts[best][0]} ended", path=parts[best][0])
        return _ending(parts, best)

    kinds = {need for method in methods for need in (method.needs,)}
    needs = "residuals" if "residuals" in kinds else "gradients" if "gradients" in kinds else "values"
    return replace(
        first,
        needs=needs,
        handles=frozenset.intersection(*(method.handles for method in methods)),
        options=NoOptions,
        run=run,
        most_variables=first.most_variables,
        takes_sparse=all(method.takes_sparse for method in methods),
    )


def _part(method: Method, task: Task, path: str) -> Generator[Request | Bend | Iterate, Any, _Part]:
    """Run one method, naming it in its iterates."""
    generator = method.run(task, method.options())
    last, standing = None, None
    try:
        message = next(generator)
        while True:
            if isinstance(message, Iterate):
                last = message
                standing = yield replace(message, path=message.path or path)
                message = generator.send(standing)
            else:
                message = generator.send((yield message))
    except StopIteration as end:
        return _Part(end.value, last, standing)
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
