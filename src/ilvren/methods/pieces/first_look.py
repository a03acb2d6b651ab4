"""A start that misses its limits by thousands of times their sizes tells next to nothing: a look over the box first.

Of a response that grows without end, say, derivatives tell how fast it grows, and a descent spends its steps on taming
that. Some designs over the box are evaluated, and the method begins at the one that misses least, in the scale of the
derivatives there.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from ilvren.methods.base import Ending, Iterate, Method, Protocol, Reply, Request, Task
from ilvren.methods.pieces.escape import spread_by_violation
from ilvren.methods.pieces.points import evaluated
from ilvren.methods.pieces.rescaled import rescaled

__all__ = ["looking_first"]

# A violation beyond this is vast; a design elsewhere must have so small a share of it; so many are tried.
VAST, MOST_SHARE, MOST_TRIED = 1e4, 1e-2, 3


def looking_first(method: Method) -> Method:
    """Return a method that begins elsewhere in the box where its start misses limits vastly; else it is as it was."""
    if not method.needs_derivatives or "inequalities" not in method.handles:
        return method

    def run(task: Task, options: Any) -> Protocol:
        generator = method.run(task, options)
        answer: Any = None
        is_first = True
        try:
            while True:
                message = generator.send(answer)
                answer = yield message
                if is_first and isinstance(message, Request) and isinstance(answer, Reply):
                    is_first = False
                    now = task.violation(answer.rows[0])
                    if np.isfinite(now) and now > VAST:
                        break
        except StopIteration as end:
            ending: Ending = end.value
            return ending
        finally:
            generator.close()
        yield Iterate(message.points[0], np.nan, "the start")
        points, _ = yield from spread_by_violation(task)
        for x in points[:MOST_TRIED]:
            here = yield from evaluated(x, derivatives=True)
            if here.has_derivatives and task.violation(here.c) <= MOST_SHARE * now:
                return (yield from _told(rescaled(method.run, task, options, here)))
        return (yield from method.run(task, options))

    return replace(method, run=run)


def _told(protocol: Protocol) -> Protocol:
    """Pass a protocol on, saying in its first iterate where it begins."""
    answer: Any = None
    note = "begun elsewhere in the box: the start misses limits vastly"
    try:
        while True:
            message = protocol.send(answer)
            if isinstance(message, Iterate) and note:
                message, note = replace(message, note=note), ""
            answer = yield message
    except StopIteration as end:
        ending: Ending = end.value
        return ending
    finally:
        protocol.close()
