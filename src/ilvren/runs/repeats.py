"""The same run with several seeds, and what they came to together."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from ilvren.algebra import hypervolume
from ilvren.errors import RequestError
from ilvren.notebooks import InNotebooks
from ilvren.records import dataclass
from ilvren.runs.front import reference_from
from ilvren.runs.limits import plain
from ilvren.runs.planning import planned
from ilvren.runs.pool import open_workers
from ilvren.runs.start import run

if TYPE_CHECKING:
    from ilvren.ledger import Ledger
    from ilvren.problem import Problem
    from ilvren.runs.events import Event
    from ilvren.runs.result import RunResult
    from ilvren.runs.settings import Settings

__all__ = ["Quartiles", "Repeats", "repeat"]

MOST_REPEATS = 10_000


@dataclass(frozen=True)
class Quartiles:
    """Least, lower quartile, median, upper quartile and largest of some numbers; NaN where there are none."""

    least: float
    lower: float
    median: float
    upper: float
    largest: float

    @classmethod
    def of(cls, values: list[float]) -> Quartiles:
        """Return those of `values`."""
        if not values:
            return cls(*[float("nan")] * 5)
        return cls(*(float(q) for q in np.percentile(values, [0, 25, 50, 75, 100])))

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        return {name: plain(getattr(self, name)) for name in ("least", "lower", "median", "upper", "largest")}


@dataclass(frozen=True)
class Repeats(InNotebooks):
    """The runs in the order of their seeds."""

    runs: tuple[RunResult, ...]
    feasibility: float

    @property
    def holds(self) -> bool:
        """Return whether every run reached what it was asked."""
        return all(result.holds for result in self.runs)

    @property
    def share(self) -> float:
        """Return the share of the runs that reached what they were asked."""
        return sum(result.holds for result in self.runs) / len(self.runs)

    @property
    def best(self) -> RunResult | None:
        """Return the run with the best feasible design, the first of them on a tie; None where there is none."""
        if self.runs[0].front is not None:
            shares = self.shares
            return self.runs[int(np.argmax(shares))] if shares else None
        feasible = [r for r in self.runs if r.violation <= self.feasibility and r.objective is not None]
        if not feasible:
            return None
        sign = feasible[0].problem.objective.sign if feasible[0].problem.objective else 1
        return min(feasible, key=lambda result: sign * float(result.objective or 0.0))

    @property
    def shares(self) -> list[float]:
        """Return for each run of several objectives the share that its front has of the hypervolume of all of them."""
        fronts = [result.front for result in self.runs]
        found = [front.values for front in fronts if front is not None and front.members]
        if not found:
            return []
        every = np.vstack(found)
        last = list(fronts[0].sense.levels[-1]) if fronts[0] is not None else []
        corner = reference_from(every, fronts[0].sense, None, np.ones(every.shape[1]))  # type: ignore[union-attr]
        whole = hypervolume(every[:, last], corner[last])
        return [
            hypervolume(front.values[:, last], corner[last]) / whole if front is not None and whole else 0.0
            for front in fronts
        ]

    def objectives(self) -> Quartiles:
        """Return the quartiles of the objectives as written, of feasible designs only; of several objectives those of
        the shares of the hypervolume."""
        if self.runs[0].front is not None:
            return Quartiles.of(self.shares)
        return Quartiles.of(
            [r.objective for r in self.runs if r.violation <= self.feasibility and r.objective is not None]
        )

    def evaluations(self) -> Quartiles:
        """Return the quartiles of the evaluations."""
        return Quartiles.of([float(result.counts["evaluations"]) for result in self.runs])

    def to_dict(self, *, full: bool = True) -> dict[str, object]:
        """Return the JSON document."""
        best = self.best
        return {
            "repeats": len(self.runs),
            "seeds": [result.seed for result in self.runs],
            "success_share": self.share,
            ("hypervolume_share" if self.runs[0].front is not None else "objective"): self.objectives().to_dict(),
            "evaluations": self.evaluations().to_dict(),
            "best": (best.id or best.seed) if best is not None else None,
            "runs": [result.to_dict(full=full) for result in self.runs],
        }


def repeat(
    problem: Problem,
    count: int,
    settings: Settings,
    *,
    ledger: Ledger | str | Path | None = None,
    listener: Callable[[Event], None] | None = None,
    finished: Callable[[RunResult], None] | None = None,
    workers: int | str | None = None,
) -> Repeats:
    """Run `count` seeds, from the one of the settings on. `finished` is called after each; an interrupted run is the
    last. Raises RequestError for a method that draws nothing at random."""
    if not 2 <= count <= MOST_REPEATS:
        raise RequestError(f"--repeats {count}: 2 to {MOST_REPEATS} are possible")
    settings = settings.of_many()
    plan = planned(problem, settings)
    if not plan.method.is_random:
        raise RequestError(
            f'--repeats: method "{plan.method.name}" draws nothing at random, all runs would be the same',
            advice="repeat a method such as differential-evolution, or run it from other starts",
        )
    label = settings.label
    results: list[RunResult] = []
    with open_workers(plan, workers) as pool:
        for number in range(count):
            own = replace(settings, seed=settings.seed + number, label=f"{label}[{number}]" if label else None)
            results.append(run(problem, own, ledger=ledger, listener=listener, workers=pool))
            if finished is not None:
                finished(results[-1])
            if results[-1].outcome == "interrupted":
                break
    return Repeats(tuple(results), settings.feasibility)
