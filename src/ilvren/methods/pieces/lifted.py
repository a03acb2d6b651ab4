"""A method at work on a task with its kinks lifted: what it asks is marked so, what it says cut to the variables."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from ilvren.methods.base import Ending, HessianRequest, Iterate, Method, Protocol, Request, Task, Tight
from ilvren.methods.pieces.looking_on import looking_on

__all__ = ["can_lift", "lifting"]


def can_lift(method: Method) -> bool:
    """Return whether a method can work on tasks with lifted kinks: they have inequalities."""
    return method.needs == "gradients" and "inequalities" in method.handles and not method.inner


def lifting(method: Method) -> Method:
    """Return a method that takes the task with its kinks lifted, where there is one."""

    def run(task: Task, options: Any) -> Protocol:
        if task.lifted is None:
            return (yield from method.run(task, options))
        return (yield from _lifted(method, task, task.lifted, options))

    return replace(method, run=run)


def _lifted(method: Method, task: Task, lifted: Task, options: Any) -> Protocol:
    n = len(task.start)
    start = yield Tight(task.start)
    generator = looking_on(method, replace(lifted, start=start, is_lifted=True), options)
    answer: Any = None
    try:
        while True:
            message = generator.send(answer)
            if isinstance(message, Iterate):
                answer = yield replace(message, point=message.point[:n], lifted=message.point, population=None)
            elif isinstance(message, (Request, HessianRequest)):
                answer = yield replace(message, lifted=True)
            else:
                assert isinstance(message, Tight)
                answer = yield Tight(message.point[:n])
    except StopIteration as end:
        ending: Ending = end.value
        return ending
    finally:
        generator.close()
