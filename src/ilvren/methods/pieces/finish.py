"""A local search from the best design of a population, now and then: what populations do badly, limits met exactly.

The search is `quadratic-interpolation` on the continuous variables, the others held, for at most PER_VARIABLE · (n + 1)
evaluations; it comes first after FIRST evaluations of the population, then whenever that has made GROWTH times as many,
and at its end. What it finds joins the population in place of the worst.

Source: P. Moscato, "On evolution, search, optimization, genetic algorithms and martial arts: towards memetic
algorithms", Caltech Concurrent Computation Program report 826, 1989.
"""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Assessment, Protocol, Request, Task, method_named
from ilvren.methods.pieces.ranking import better, judged
from ilvren.methods.pieces.restricted import restricted
from ilvren.methods.pieces.together import Child, together

if TYPE_CHECKING:
    from ilvren.methods.pieces.population import Population

__all__ = ["Finish"]

FloatArray = NDArray[np.float64]

FIRST, GROWTH, PER_VARIABLE = 1500, 3, 60
LOCAL = "quadratic-interpolation"
FAR_FROM_MET = Assessment(np.inf, None, False)


class Finish:
    """When the local search is due; `made` counts its own evaluations."""

    def __init__(self, task: Task, *, is_on: bool) -> None:
        continuous = ~task.is_discrete & (task.upper > task.lower)
        most = method_named(LOCAL).most_variables or 0
        self.task = task
        self.is_on = is_on and 0 < int(continuous.sum()) <= most
        self.made = 0
        self._next = FIRST
        self._from: FloatArray | None = None

    def is_due(self, made: int) -> bool:
        """Return whether the search comes now, the population having made so many evaluations."""
        if not self.is_on or made < self._next:
            return False
        self._next = GROWTH * made
        return True

    def is_due_at_end(self, now: Population) -> bool:
        """Return whether the best design at the end has not been searched from."""
        return self.is_on and (self._from is None or not np.array_equal(self._from, now.x[now.best]))

    def joined(self, now: Population) -> Generator[Any, Any, Population]:
        """Return the population with what the search from its best design finds."""
        place = now.best
        x = now.x[place]
        found = yield from self.searched(x)
        if found is None:
            self._from = x
            return now
        y, f, v = found
        is_better = bool(better(f, v, now.f[[place]], now.v[[place]])[0])
        self._from = y if is_better else x
        if not is_better:
            return now
        codes = np.where(self.task.is_discrete, now.codes[place], y)
        worst = int(np.lexsort((now.f, now.v))[-1])
        where = np.arange(len(now.f)) == worst
        return now.replaced(where, np.tile(codes, (len(where), 1)), np.tile(y, (len(where), 1)), f, v)

    def searched(self, x: FloatArray) -> Generator[Any, Any, tuple[FloatArray, FloatArray, FloatArray] | None]:
        """Return the best design (n,) of the search from x with its f (1,) and v (1,), None without one."""
        task, method = self.task, method_named(LOCAL)
        held = task.is_discrete
        own = replace(task, lower=np.where(held, x, task.lower), upper=np.where(held, x, task.upper), start=x)

        def run(small: Task) -> Protocol:
            return method.run(small, method.options())

        child = Child(
            path=LOCAL, protocol=restricted(own, x, run), task=task, most_requests=PER_VARIABLE * (len(x) + 1)
        )
        yield from together([child], judge=lambda _, __: FAR_FROM_MET)
        self.made += child.requests
        if child.best is None:
            return None
        y = np.asarray(child.best.x)
        reply = yield Request(y[np.newaxis])
        f, v = judged(task, reply)
        return y, f, v
