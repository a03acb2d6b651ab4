"""A method that is ended when it makes no progress: then another one may.

Progress is a violation lower by a share VIOLATION_SHARE than any before, or, at designs that meet the limits, an f
lower by a share VALUE_SHARE of the tolerance. Without any in PATIENCE requests, and one more for each variable, the
method is at its end: a zigzag along a kink, a step that always fails, rounding.
"""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

import numpy as np

from ilvren.methods.base import Ending, Method, Protocol, Reply, Request, Task
from ilvren.methods.pieces.descent import RUNS_AWAY

__all__ = ["watched"]

PATIENCE = 200
VIOLATION_SHARE, VALUE_SHARE = 0.01, 1e-5
# So many times farther out than the start, a method that gains less than this share of all it has gained in PATIENCE
# requests runs away.
FAR_OUT, LITTLE_GAIN = 1e6, 0.05


def watched(method: Method) -> Method:
    """Return a gradient-based method that ends as "stalled" where it makes no progress; any other as it is."""
    if method.kind != "gradient-based":
        return method

    def run(task: Task, options: Any) -> Protocol:
        progress, answer = _Progress(task), None
        generator = method.run(task, options)
        try:
            while True:
                message = generator.send(answer)
                answer = yield message
                if isinstance(message, Request) and progress.is_over(answer):
                    return Ending("stalled", f"no progress in the last {progress.patience} requests")
                if isinstance(message, Request) and progress.runs_away(message):
                    return Ending("stalled", RUNS_AWAY)
        except StopIteration as end:
            ending: Ending = end.value
            return ending
        finally:
            generator.close()

    return replace(method, run=run)


class _Progress:
    """The violation and f at the last progress, and for how many requests there has been none."""

    def __init__(self, task: Task) -> None:
        self.task = task
        self.patience = PATIENCE + len(task.start)
        self.miss, self.f, self.idle = math.inf, math.inf, 0
        self.first_f, self.window_f, self.requests = math.nan, math.nan, 0

    def is_over(self, reply: Reply) -> bool:
        """Take a reply; return whether patience is at its end."""
        misses = np.maximum(self.task.violations(reply.rows) - self.task.feasibility, 0.0)
        usable = np.flatnonzero(np.isfinite(reply.objective) & np.isfinite(misses))
        self.idle += 1
        if len(usable):
            place = usable[np.lexsort((reply.objective[usable], misses[usable]))[0]]
            miss, f = float(misses[place]), float(reply.objective[place])
            size = self.task.tolerance * max(abs(f), abs(self.f) if math.isfinite(self.f) else 0.0)
            if miss < (1.0 - VIOLATION_SHARE) * self.miss or (miss == 0.0 and self.f - f > VALUE_SHARE * size):
                self.idle = 0
                self.f = min(self.f, f) if miss == 0.0 else self.f
                self.miss = min(self.miss, miss)
        if self.miss == 0.0 and math.isnan(self.first_f):
            self.first_f = self.window_f = self.f
        return self.idle >= self.patience

    def runs_away(self, request: Request) -> bool:
        """Return whether the designs are far out and f has hardly fallen in the last PATIENCE requests."""
        self.requests += 1
        if self.requests % self.patience:
            return False
        start = max(1.0, float(np.abs(self.task.start).max(initial=0.0)))
        is_far = float(np.abs(request.points[0]).max(initial=0.0)) > FAR_OUT * start
        gained, before = self.window_f - self.f, self.window_f
        self.window_f = self.f
        return is_far and math.isfinite(before) and gained < LITTLE_GAIN * (self.first_f - self.f)
