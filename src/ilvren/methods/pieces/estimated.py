"""Second derivatives that are exact for formulas and estimates for models: used while they lead on."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import wraps
from typing import Any

from ilvren.methods.base import Ending, Iterate, Protocol, Task

__all__ = ["estimated_while_useful"]


def estimated_while_useful(run: Callable[[Task, Any], Protocol]) -> Callable[[Task, Any], Protocol]:
    """Return a method's generator function that asks for second derivatives also where they are estimates in part, and
    where it gets no further with them goes on without any, from where it ended."""

    @wraps(run)
    def own(task: Task, options: Any) -> Protocol:
        if not (task.has_secants and getattr(options, "exact", True)):
            return run(replace(task, has_secants=False) if task.has_secants else task, options)
        return _in_turn(run, task, options)

    return own


def _in_turn(run: Callable[[Task, Any], Protocol], task: Task, options: Any) -> Protocol:
    reached = task.start
    generator = run(task, options)
    try:
        message = next(generator)
        while True:
            if isinstance(message, Iterate):
                reached = message.point
            message = generator.send((yield message))
    except StopIteration as end:
        ending: Ending = end.value
    finally:
        generator.close()
    if not isinstance(ending, Ending) or ending.claim not in ("stalled", "infeasible"):
        return ending
    alone = replace(task, start=reached, has_secants=False, row_multipliers=None, bound_multipliers=None)
    return (yield from run(alone, options))
