"""Several methods at the same time: their requests in one batch, the answers in the order of the requests."""

from __future__ import annotations

from collections.abc import Callable, Generator, Sequence
from dataclasses import field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Assessment, Ending, HessianRequest, Iterate, Protocol, Reply, Request, Task, Want
from ilvren.records import dataclass

__all__ = ["Child", "Seen", "together"]

FloatArray = NDArray[np.float64]

# Points whose derivatives are kept for each child.
MOST_LATEST = 8


@dataclass(frozen=True, eq=False)
class Seen:
    """What is known of a point: f, rows (m,), and the derivatives where they were asked for."""

    x: FloatArray
    f: float
    c: FloatArray
    g: FloatArray | None = None
    j: Any = None


@dataclass(kw_only=True)
class Child:
    """One method at work: its `path` in histories; `ending`, and its last iterate and how that stood, once there are
    any; `best` the best point it asked for, the rows' misses before f; `fixed_value` is f where no variable was free;
    after `most_requests` it is ended."""

    path: str
    protocol: Protocol
    task: Task
    message: Any = None
    ending: Ending | None = None
    last: Iterate | None = None
    assessment: Assessment | None = None
    best: Seen | None = None
    latest: dict[bytes, Seen] = field(default_factory=dict)
    fixed_value: float | None = None
    most_requests: int | None = None
    requests: int = 0

    def seen_at(self, x: FloatArray) -> Seen | None:
        """Return what is known of a point whose derivatives were asked for lately. x is (n,)."""
        return self.latest.get(x.tobytes())

    def worth(self) -> tuple[float, float]:
        """Return (violation beyond what is allowed, f) of the best point; infinite while there is none."""
        if self.best is None:
            return np.inf, np.inf
        return max(self.task.violation(self.best.c) - self.task.feasibility, 0.0), self.best.f

    def take(self, request: Request, reply: Reply) -> None:
        """Note what a reply says."""
        if reply.gradient is None:
            self._take_values(request, reply)
            return
        for place, x in enumerate(request.points):
            has_slopes = reply.gradient is not None and reply.jacobian is not None
            own = Seen(
                x,
                float(reply.objective[place]),
                reply.rows[place],
                reply.gradient[place] if has_slopes and reply.gradient is not None else None,
                reply.jacobian[place] if has_slopes and reply.jacobian is not None else None,
            )
            if own.g is not None:
                self.latest[own.x.tobytes()] = own
                if len(self.latest) > MOST_LATEST:
                    self.latest.pop(next(iter(self.latest)))
            if not (np.isfinite(own.f) and np.isfinite(own.c).all()):
                continue
            miss = max(self.task.violation(own.c) - self.task.feasibility, 0.0)
            if self.best is None or (miss, own.f) < self.worth():
                self.best = own

    def _take_values(self, request: Request, reply: Reply) -> None:
        """Note the best of many values."""
        points = np.asarray(request.points)
        misses = np.maximum(self.task.violations(reply.rows) - self.task.feasibility, 0.0)
        usable = np.flatnonzero(np.isfinite(reply.objective) & np.isfinite(misses))
        if not len(usable):
            return
        place = int(usable[np.lexsort((reply.objective[usable], misses[usable]))[0]])
        if self.best is None or (float(misses[place]), float(reply.objective[place])) < self.worth():
            self.best = Seen(points[place], float(reply.objective[place]), reply.rows[place])


def together(
    children: Sequence[Child],
    *,
    judge: Callable[[Child, Iterate], Assessment] | None = None,
    keeps_populations: bool = False,
) -> Generator[Request | HessianRequest | Iterate, Any, None]:
    """Run the children to their ends. Their iterates are passed on under their paths; or, with `judge`, kept, and
    answered by it."""
    try:
        for child in children:
            yield from _advance(child, None, judge, keeps_populations)
        while True:
            waiting = [child for child in children if child.ending is None]
            if not waiting:
                return
            for child in waiting:
                child.requests += 1
                if child.most_requests is not None and child.requests > child.most_requests:
                    child.ending = Ending("stalled", f"no end after {child.most_requests} requests")
            waiting = [child for child in waiting if child.ending is None]
            for wants in sorted({c.message.wants for c in waiting if _asks(c)}, key=_order):
                group = [c for c in waiting if _asks(c) and c.message.wants == wants]
                points = np.vstack([child.message.points for child in group])
                reply: Reply = yield Request(points, wants)
                first = 0
                for child in group:
                    count = len(child.message.points)
                    own = _part(reply, first, first + count)
                    first += count
                    child.take(child.message, own)
                    yield from _advance(child, own, judge, keeps_populations)
            for child in waiting:
                if child.ending is None and isinstance(child.message, HessianRequest):
                    yield from _advance(child, (yield child.message), judge, keeps_populations)
    finally:
        for child in children:
            child.protocol.close()


def _order(wants: frozenset[Want]) -> tuple[bool, bool]:
    """Return what sorts requests: values first."""
    return Want.SLOPES in wants, Want.RESIDUALS in wants


def _asks(child: Child) -> bool:
    return child.ending is None and isinstance(child.message, Request)


def _advance(
    child: Child, answer: object, judge: Callable[[Child, Iterate], Assessment] | None, keeps_populations: bool
) -> Generator[Iterate, Any, None]:
    """Send an answer and take the child to its next request, or its end."""
    try:
        message = child.protocol.send(answer)
        while isinstance(message, Iterate):
            child.last = message
            if judge is not None:
                child.assessment = judge(child, message)
            else:
                path = f"{child.path}/{message.path}" if message.path else child.path
                population = message.population if keeps_populations else None
                child.assessment = yield replace(message, path=path, population=population)
            message = child.protocol.send(child.assessment)
        child.message = message
    except StopIteration as end:
        child.ending, child.message = end.value, None


def _part(reply: Reply, first: int, last: int) -> Reply:
    def cut(values: Any) -> Any:
        return None if values is None else values[first:last]

    return Reply(
        reply.objective[first:last],
        reply.rows[first:last],
        cut(reply.gradient),
        cut(reply.jacobian),
        cut(reply.residuals),
        cut(reply.residual_jacobian),
    )
