"""The generations of a run that recorded its populations, as arrays."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError
from ilvren.records import dataclass
from ilvren.runs import problem_of

if TYPE_CHECKING:
    from ilvren.ledger import Ledger, RunRecord
    from ilvren.problem import Problem

__all__ = ["Generation", "Generations", "generations_of"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Generation:
    """The designs of one generation: points (k, n), objectives as written and violations (k,), NaN where invalid, and
    the evaluations made up to it."""

    iteration: int
    points: FloatArray
    objective: FloatArray
    violation: FloatArray
    evaluations: int

    def feasible(self, feasibility: float) -> NDArray[np.bool_]:
        """Return (k,): which designs are feasible and have an objective."""
        return (self.violation <= feasibility) & np.isfinite(self.objective)

    def best(self, feasibility: float, sign: int) -> int:
        """Return the place of the best design: the best feasible one, else the one with the least violation, of those
        that have an objective where any has one."""
        is_feasible, has_value = self.feasible(feasibility), np.isfinite(self.objective)
        is_valid = np.isfinite(self.violation) & (has_value | ~has_value.any())
        violation = np.where(is_valid, self.violation, math.inf)
        if is_feasible.any():
            return int(np.argmin(np.where(is_feasible, sign * self.objective, math.inf)))
        return int(np.argmin(violation))


@dataclass(frozen=True)
class Generations:
    """All generations of a run, and what is needed to read them."""

    run: str
    method: str
    problem: Problem
    feasibility: float
    items: tuple[Generation, ...]

    @property
    def sign(self) -> int:
        """Return 1 where the objective is minimized, else −1."""
        return self.problem.objective.sign if self.problem.objective is not None else 1

    def worth_of_first(self) -> dict[str, float]:
        """Return what the first generation was worth: its share of feasible designs, and how much of the way from its
        median to the best design of all its best one was (NaN where nothing was feasible)."""
        first = self.items[0]
        is_feasible = first.feasible(self.feasibility)
        values = self.sign * first.objective[is_feasible]
        all_best = [
            float((self.sign * item.objective[item.feasible(self.feasibility)]).min())
            for item in self.items
            if item.feasible(self.feasibility).any()
        ]
        share = math.nan
        if len(values) and all_best:
            way = float(np.median(values)) - min(all_best)
            share = (float(np.median(values)) - float(values.min())) / way if way > 0.0 else 1.0
        return {"feasible_share": float(is_feasible.mean()), "way_to_the_best": share}


def generations_of(ledger: Ledger, record: RunRecord) -> Generations:
    """Return the generations of a run. Raises RequestError for one that recorded none."""
    kept = ledger.generations(record.number)
    if not kept:
        raise RequestError(
            f"{record.id} recorded no generations: {record.method} has none, or an older version recorded it",
            advice="run one such as differential-evolution, genetic-algorithm, particle-swarm or cma-es",
        )
    evaluations = {item.number: item for item in ledger.evaluations(record.number)}
    counts = {item.number: item.evaluations for item in ledger.iterations(record.number)}
    items = []
    for iteration, members in kept.items():
        own = [evaluations[number] for number in members if number in evaluations and evaluations[number].is_whole]
        if not own:
            continue
        items.append(
            Generation(
                iteration,
                np.array([np.frombuffer(item.point) for item in own]),
                _column([item.objective for item in own]),
                _column([item.violation for item in own]),
                counts.get(iteration, 0),
            )
        )
    feasibility = record.settings["feasibility"]
    assert isinstance(feasibility, float)
    return Generations(record.id, record.method, problem_of(record), feasibility, tuple(items))


def _column(values: Sequence[float | None]) -> FloatArray:
    return np.array([math.nan if value is None else value for value in values], dtype=float)
