"""A method on some of the variables, the others held: what it asks and says is put back among all of them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Ending, HessianRequest, Iterate, Protocol, Reply, Request, Task

__all__ = ["restricted"]

FloatArray = NDArray[np.float64]


def restricted(task: Task, start: FloatArray, run: Callable[[Task], Protocol]) -> Protocol:
    """Run a method on the variables of a task that have room between their bounds, the others being held where `start`
    (n,) has them. All continuous; the answers are dense."""
    free = np.flatnonzero(task.upper > task.lower)
    if len(free) == len(start):
        return (yield from run(replace(task, start=start, grids=())))
    small = replace(
        task,
        start=start[free],
        lower=task.lower[free],
        upper=task.upper[free],
        grids=(),
        bound_multipliers=None,
        lifted=None,
    )
    generator = run(small)

    def whole(points: FloatArray) -> FloatArray:
        full = np.repeat(start[np.newaxis], len(points), axis=0)
        full[:, free] = points
        return full

    answer: Any = None
    try:
        while True:
            message = generator.send(answer)
            if isinstance(message, Request):
                reply: Reply = yield replace(message, points=whole(message.points))
                answer = _cut(reply, free)
            elif isinstance(message, Iterate):
                answer = yield replace(message, point=whole(message.point[np.newaxis])[0], population=None)
            else:
                assert isinstance(message, HessianRequest), "nothing is lifted here"
                direction = None
                if message.direction is not None:
                    direction = np.zeros(len(start))
                    direction[free] = message.direction
                asked = HessianRequest(
                    whole(message.point[np.newaxis])[0], message.multipliers, message.weight, direction
                )
                found = yield asked
                answer = found[np.ix_(free, free)] if direction is None else found[free]
    except StopIteration as end:
        ending: Ending = end.value
        return ending
    finally:
        generator.close()


def _cut(reply: Reply, free: NDArray[np.int64]) -> Reply:
    def columns(matrices: Any) -> Any:
        return None if matrices is None else [matrix[:, free] for matrix in matrices]

    return replace(
        reply,
        gradient=None if reply.gradient is None else reply.gradient[:, free],
        jacobian=columns(reply.jacobian),
        residual_jacobian=columns(reply.residual_jacobian),
    )
