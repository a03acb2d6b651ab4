"""Objectives in the order of their importance: those that come first are held at their best for those that come later.

For the levels 1 … L of priority, one after the other,

    minimize F_l    subject to    the limits,  F_k <= F_k* + δ for all k of earlier levels                          (1)

δ the share SLACK of the objective's size. The objectives of the last level trade off. What is held is a limit of the
task that later levels see, so that any method serves.

Source: A. Charnes, W. Cooper, "Management models and industrial applications of linear programming", 1961; J. Ignizio,
"Goal programming and extensions", 1976.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Arrived, Ending, Iterate, Method, Protocol, Reply, Request, Task
from ilvren.methods.pieces.trade_offs import trade_offs

__all__ = ["by_priority"]

FloatArray = NDArray[np.float64]

# δ of (1): what an objective is held to, as a share of its size; points of a level that does not trade off.
SLACK, FEW_POINTS = 1e-7, 2
ENDS_WELL = ("converged", "settled")


def by_priority(method: Method) -> Method:
    """Return a method that finds fronts with the objectives' levels taken one after the other; a task whose objectives
    have all the same priority is left to the method itself."""

    def run(task: Task, options: Any) -> Protocol:
        if len(task.levels) < 2:
            return (yield from method.run(task, options))
        own, ending = task, Ending("stalled", "there is no level of priority")
        for number, level in enumerate(task.levels):
            is_last = number == len(task.levels) - 1
            small = _of_level(own, level, points=task.points if is_last else FEW_POINTS)
            best = _Best(small)
            ending = yield from _followed(method, small, options, best, f"priority {number + 1}")
            if is_last or ending.claim not in ENDS_WELL or best.values is None:
                break
            own = _held(own, level, best.values)
        return ending

    return replace(method, run=run)


def _of_level(task: Task, level: tuple[int, ...], *, points: int) -> Task:
    """Return the task with the objectives of one level alone."""
    return replace(
        task,
        objectives=tuple(task.objectives[k] for k in level),
        signs=tuple(task.signs[k] for k in level),
        goals=tuple(task.goals[k] for k in level),
        levels=(),
        points=points,
    )


def _held(task: Task, level: tuple[int, ...], values: FloatArray) -> Task:
    """Return the task with limits on the objectives of a level, which is left at its best values."""
    lower, upper, sizes = task.row_lower.copy(), task.row_upper.copy(), task.row_sizes.copy()
    for k, value in zip(level, values.tolist(), strict=True):
        row, size = task.objectives[k], max(abs(value), SLACK)
        limit = value + SLACK * size
        if task.signs[k] > 0.0:
            upper[row] = limit
        else:
            lower[row] = -limit
        sizes[row] = size
    return replace(task, row_lower=lower, row_upper=upper, row_sizes=sizes)


class _Best:
    """The least values of each objective of a level among feasible designs."""

    def __init__(self, task: Task) -> None:
        self._task = task
        self.values: FloatArray | None = None

    def take(self, reply: Reply) -> None:
        """Note a reply."""
        values, v = trade_offs(self._task, reply)
        own = values[v <= 0.0]
        if len(own):
            best = own.min(axis=0)
            self.values = best if self.values is None else np.minimum(self.values, best)


def _followed(method: Method, task: Task, options: Any, best: _Best, path: str) -> Any:
    generator = method.run(task, options)
    answer: Any = None
    try:
        while True:
            message = generator.send(answer)
            if isinstance(message, Iterate):
                answer = yield replace(message, path=f"{path}/{message.path or method.name}")
                continue
            answer = yield message
            if isinstance(message, Request) and not isinstance(answer, Arrived):
                best.take(answer)
    except StopIteration as end:
        ending: Ending = end.value
        return ending
    finally:
        generator.close()
