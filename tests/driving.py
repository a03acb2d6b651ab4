"""Driving methods on plain arrays: what they ask, what they are told, what they end with."""

from __future__ import annotations

import numpy as np

from ilvren.algebra import signed_least_squares
from ilvren.methods.base import Assessment, HessianRequest, Iterate, Reply, Request, Task, method_named, method_names
from ilvren.methods.pieces.options import options_from
from tests.compact import WHOLE

__all__ = ["Drive", "affordable", "drive", "judged", "task_of"]


def task_of(start, lower=-np.inf, upper=np.inf, *, rows=0, row_lower=-np.inf, row_upper=0.0, **more):
    """Return a task with these bounds on every variable and these limits on every row."""
    start = np.array(start, dtype=float)
    n = len(start)
    return Task(
        start=start,
        lower=np.broadcast_to(lower, n).astype(float),
        upper=np.broadcast_to(upper, n).astype(float),
        row_lower=np.full(rows, row_lower, dtype=float),
        row_upper=np.full(rows, row_upper, dtype=float),
        row_sizes=np.ones(rows),
        **more,
    )


class Drive:
    """What a method did: `requests` (point arrays), `iterates`, `ending` (None when stopped), `best` f at designs that
    meet their rows."""

    def __init__(self):
        self.requests, self.iterates, self.ending = [], [], None
        self.best, self.evaluations = np.inf, 0

    @property
    def points(self):
        return np.vstack(self.requests)


def drive(name, task, objective, rows=None, *, most=20_000, slopes=None, **options):
    """Run a method on vectorised functions; `slopes` gives (gradients, Jacobians) where it asks for derivatives."""
    method = method_named(name) if isinstance(name, str) else name
    generator = method.run(task, options_from(method, options))
    found = Drive()
    with np.errstate(all="ignore"):
        try:
            message = next(generator)
            while found.evaluations < most:
                if isinstance(message, Iterate):
                    found.iterates.append(message)
                    message = generator.send(Assessment(0.0, None, False))
                    continue
                assert isinstance(message, Request) and not isinstance(message, HessianRequest)
                found.requests.append(message.points.copy())
                f = np.asarray(objective(message.points), dtype=float)
                c = np.zeros((len(f), 0)) if rows is None else np.asarray(rows(message.points), dtype=float)
                found.evaluations += len(f)
                met = task.violations(c) <= task.feasibility
                found.best = min(found.best, float(np.min(np.where(met & np.isfinite(f), f, np.inf))))
                gradient, jacobian = slopes(message.points) if message.derivatives else (None, None)
                message = generator.send(Reply(f, c, gradient, jacobian))
        except StopIteration as end:
            found.ending = end.value
        finally:
            generator.close()
    return found


def single_names():
    """Return the names of the methods of one objective."""
    return [name for name in method_names() if not method_named(name).finds_fronts]


def judged(task, iterate, f, g, c, j):
    """Return how an iterate measures up, from values and derivatives there: what a run would tell its method."""
    x = np.asarray(iterate.point)
    rows, at_low, at_high = np.asarray(c), x <= task.lower + 1e-9, x >= task.upper - 1e-9
    slack = task.feasibility * task.row_sizes
    low, high = rows - task.row_lower <= slack, task.row_upper - rows <= slack
    held = np.flatnonzero(low | high)
    bounds = np.flatnonzero(at_low | at_high)
    normals = np.hstack([np.asarray(j)[held].T, np.eye(len(x))[:, bounds]])
    sides = np.concatenate(
        [np.where(low & high, 0.0, np.where(low, 1.0, -1.0))[held], np.where(at_low, 1.0, -1.0)[bounds]]
    )
    rest = g - normals @ signed_least_squares(normals, g, sides)
    violation = max(task.violation(rows), float(np.maximum(task.lower - x, x - task.upper).max(initial=0.0)))
    worst = float(np.abs(rest).max()) / max(abs(f), 1.0)
    return Assessment(violation, worst, violation <= task.feasibility and worst <= task.tolerance)


# Methods that fit surfaces to all designs before each step, which takes a second for a few of them.
FITTING = ("expected-improvement", "expected-hypervolume", "surface-trust-region")


def affordable(name, most):
    """Return how many evaluations of a method a test can wait for."""
    return min(most, 32 if WHOLE else 20) if name in FITTING else most


def front_names():
    """Return the names of the methods that find fronts."""
    return [name for name in method_names() if method_named(name).finds_fronts]
