"""A population that looks around first, and a method that goes on from the front it has found."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import spread_subset
from ilvren.methods.base import FRONT, Arrived, Ending, Iterate, Known, Method, Protocol, Reply, Request, Task
from ilvren.methods.pieces.ends import found_ends
from ilvren.methods.pieces.trade_offs import known_front, trade_offs
from ilvren.records import dataclass

__all__ = ["from_ends", "front_in_turn"]

FloatArray = NDArray[np.float64]

# Designs of the first front that are handed on.
MOST_KNOWN = 400
# Rows of so many times as many designs are kept as the front has.
MOST_ROWS = 20


@dataclass(frozen=True)
class NoOptions:
    """A chosen method runs with its own defaults."""


def front_in_turn(methods: Sequence[tuple[Method, Any]]) -> Method:
    """Return a method that runs `methods`, each with its options, one after the other, each on what those before have
    found; it ends as the last one does, or, where that finds nothing, as the one before."""
    if len(methods) == 1:
        return methods[0][0]

    def run(task: Task, options: NoOptions) -> Protocol:
        seen = _Seen(task)
        endings: list[tuple[str, Ending]] = []
        for method, own in methods:
            ending: Ending = yield from _followed(method, seen.task(), own, seen)
            if ending.claim == "unbounded":
                return ending
            endings.append((method.name, ending))
        good = [(name, ending) for name, ending in endings if ending.claim in ("converged", "settled")]
        name, last = good[-1] if good else endings[-1]
        before = [f"{other} {ending.claim}" for other, ending in endings if other != name]
        return replace(last, reason=f"{last.reason} ({', '.join(before)})", method=name)

    first, last = methods[0][0], methods[-1][0]
    slowest = max((method for method, _ in methods), key=lambda method: method.needs_derivatives)
    return Method(
        name=last.name,
        about=last.about,
        kind=FRONT,
        needs=slowest.needs,
        handles=frozenset.intersection(*(method.handles for method, _ in methods)),
        options=NoOptions,
        run=run,
        most_variables=min((m.most_variables for m, _ in methods if m.most_variables is not None), default=None),
        takes_sparse=all(method.takes_sparse for method, _ in methods),
        is_random=first.is_random,
        takes_known=True,
    )


def from_ends(method: Method, local: Method) -> Method:
    """Return a method that first has the best of each objective looked for alone, by a `local` one, and builds on
    these."""

    def run(task: Task, options: Any) -> Protocol:
        seen = _Seen(task)

        def first(task: Task, _: Any) -> Protocol:
            ends = yield from found_ends(task, local)
            return ends if isinstance(ends, Ending) else ends.ending("the ends are found")

        looked = replace(local, run=first, name=f"ends/{local.name}")
        yield from _followed(looked, task, None, seen)
        return (yield from method.run(seen.task(), options))

    needs = local.needs if local.needs_derivatives else method.needs
    return replace(method, run=run, needs=needs, takes_sparse=method.takes_sparse and local.takes_sparse)


class _Seen:
    """The front of what all methods have asked for, with the rows of its designs."""

    def __init__(self, task: Task) -> None:
        self._task = task
        self._front = known_front(task)
        rows = len(task.row_lower)
        self._rows: dict[bytes, FloatArray] = {}
        if task.known is not None:
            self._rows = {x.tobytes(): own for x, own in zip(task.known.points, task.known.rows, strict=True)}
        self._count = rows

    def take(self, points: FloatArray, reply: Reply) -> None:
        """Note what a reply says."""
        values, v = trade_offs(self._task, reply)
        use = v <= 0.0
        if not use.any():
            return
        before = self._front
        self._front = before.joined(points[use], values[use], v[use])
        if self._front is before:
            return
        self._rows |= {x.tobytes(): row for x, row in zip(points[use], reply.rows[use], strict=True)}
        if len(self._rows) > MOST_ROWS * len(self._front.x):
            self._rows = {key: self._rows[key] for key in (x.tobytes() for x in self._front.x)}

    def task(self) -> Task:
        """Return the task with what is known."""
        front = self._front
        if not len(front.x):
            return self._task
        keep = spread_subset(front.values, MOST_KNOWN)
        rows = np.array([self._rows[front.x[place].tobytes()] for place in keep]).reshape(-1, self._count)
        return replace(self._task, known=Known(front.x[keep], np.zeros(len(keep)), rows))


def _followed(method: Method, task: Task, options: Any, seen: _Seen) -> Any:
    """Run one method, naming it in its iterates."""
    generator = method.run(task, options)
    answer: Any = None
    try:
        while True:
            message = generator.send(answer)
            if isinstance(message, Iterate):
                answer = yield replace(message, path=message.path or method.name)
                continue
            answer = yield message
            if isinstance(message, Request) and not isinstance(answer, Arrived):
                seen.take(np.asarray(message.points, dtype=float), answer)
    except StopIteration as end:
        ending: Ending = end.value
        return ending
    finally:
        generator.close()
