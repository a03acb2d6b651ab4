"""Runs on an approximation: a search on predicted values, its best design, or designs along its front, evaluated
truly, and learnt from again.

Every round has two stages: the search, on the problem with approximated values in place; then the designs found so
far, on the problem itself. What is reported is a design that was evaluated truly, beside what was predicted of it.
Counts are of true evaluations alone.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import field, replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import spread_subset
from ilvren.errors import RequestError
from ilvren.evaluate import Counts
from ilvren.methods.pieces import evaluating
from ilvren.problem import Problem, on_document
from ilvren.records import dataclass
from ilvren.runs.events import Ended, StageBegun, Started
from ilvren.runs.on_approximation import On, Truly
from ilvren.runs.shelf import RunShelf
from ilvren.runs.stages import Base
from ilvren.runs.told import Prediction

if TYPE_CHECKING:
    from ilvren.runs.loop import Loop
    from ilvren.runs.plan import Plan
    from ilvren.runs.result import RunResult

__all__ = ["drive_on", "refuse_on"]

FloatArray = NDArray[np.float64]

# Outcomes of a search after which nothing is evaluated truly.
STOPPED = frozenset({"interrupted", "model-failed", "invalid"})
# A round that finds no design better by this share of the objective's deviation, and none that was predicted worse than
# this, is the last.
LEAST_GAIN = 1e-3
# Designs along a predicted front that are evaluated truly, if --points does not say.
ALONG_FRONT = 20
# A design nearer to one that was evaluated than this share of the box is the same.
SAME = 1e-6


def drive_on(plan: Plan, on: On, *, searches: Plan) -> RunResult:
    """Drive a run on an approximation: `plan` is that of true evaluations."""
    problem, tell = plan.problem, plan.listener or (lambda event: None)
    tell(Started(plan.run_id, searches.method.name, len(problem.free), problem.row_count, plan.why))
    ended_at = [np.reshape(design, (-1, problem.size)) for design in on.designs]
    state = _State(plan=plan, problem=problem, on=on, documents=list(on.documents), designs=ended_at)
    if plan.ledger is not None and plan.number and problem.sources:
        state.base = replace(
            state.base, shelf=RunShelf(plan.ledger, plan.number, problem, is_fresh=plan.settings.fresh)
        )
    while True:
        number = state.number = state.number + 1
        if number > len(state.documents):
            assert on.relearn is not None
            state.documents.append(on.relearn(state.truly))
            state.note()
        predicted = on_document(problem, state.documents[number - 1]).with_starts(state.start)
        tell(StageBegun(2 * number - 1, 2 * on.rounds, f"round {number}: on {on.name}"))
        if number > len(state.designs):
            # Nobody is told of predicted values as if they were true.
            stopped = state.search(replace(searches, ledger=None, listener=None), predicted)
            if stopped is not None:
                tell(Ended(stopped.outcome))
                return stopped
        tell(StageBegun(2 * number, 2 * on.rounds, "evaluated truly"))
        loop, result = state.evaluate(state.designs[number - 1])
        if result.outcome == "interrupted":
            tell(Ended(result.outcome))
            return loop.close(result)
        x = state.designs[number - 1][0]
        missed = loop.measures.violation(x, loop.gate.evaluate(x).rows)
        state.told.append((_objective(predicted, x, None), _objective(problem, x, loop), missed))
        if (
            number >= on.rounds
            or not state.is_new
            or result.outcome == "exhausted"
            or _is_agreed(problem, state.told, state.documents[0])
        ):
            break
    best = np.array(result.point)
    # As it was said before the design was evaluated: later surfaces were fitted to what it gave.
    first = next((k for k, group in enumerate(state.designs) if _is_among(problem, best, group)), number - 1)
    document = state.documents[min(first, number - 1)]
    said = _prediction(on_document(problem, document), problem, best, loop, document, on.name)
    tell(Ended(result.outcome))
    prediction = replace(said, rounds=tuple(state.told))
    return loop.close(replace(result, reason=state.reason(), prediction=prediction, baseline_objective=None))


@dataclass(kw_only=True)
class _State:
    """How far a run on an approximation has come: the designs that searches ended at, and those evaluated truly."""

    plan: Plan
    problem: Problem
    on: On
    documents: list[str]
    designs: list[FloatArray]
    number: int = 0
    base: Base = field(default_factory=Base)
    points: list[FloatArray] = field(default_factory=list)
    parts: list[int] = field(default_factory=list)
    truly: list[Truly] = field(default_factory=list)
    told: list[tuple[float, float, float]] = field(default_factory=list)
    start: FloatArray = field(default_factory=lambda: np.zeros(0))
    ended: str = ""
    is_new: bool = True
    last: tuple[Loop, RunResult] | None = None

    def __post_init__(self) -> None:
        self.start = np.array(self.problem.start)

    def note(self) -> None:
        """Record what the searches were made on, and came to."""
        if self.plan.ledger is not None:
            designs = tuple(tuple(group.ravel().tolist()) for group in self.designs)
            kept = replace(self.on, documents=tuple(self.documents), designs=designs)
            self.plan.ledger.note_on(self.plan.number, kept.record())

    def search(self, plan: Plan, predicted: Problem) -> RunResult | None:
        """Search on predicted values, which are never recorded as evaluated; return the run's result where that ends
        it."""
        loop = plan.loop(predicted, base=Base(seconds=self.base.seconds, shelf=self.base.shelf))
        found = loop.drive(is_last=False)
        after = loop.base_after(found, {}, f"on {self.on.name}")
        self.base = replace(self.base, seconds=after.seconds, ended=(*self.base.ended, *after.ended))
        self.ended = f"{found.outcome} ({found.reason})"
        if found.outcome not in STOPPED:
            self.designs.append(_worth_evaluating(found, self.plan.settings.points or ALONG_FRONT))
            self.note()
            return None
        reason = f"in the search on {self.on.name}: {found.reason}"
        if self.last is not None:
            loop, result = self.last
            return loop.close(replace(result, outcome=found.outcome, reason=reason))
        ending = self.plan.loop(self.problem.with_starts(np.array(found.point)), base=self.base)
        return ending.given_up(found.outcome, reason, found.machine_trouble)

    def evaluate(self, group: FloatArray) -> tuple[Loop, RunResult]:
        """Evaluate designs (k, n), and all before them, truly: those are on record, and the best of all is reported."""
        new = [x for x in group if not _is_among(self.problem, x, self.points)]
        self.is_new = bool(new)
        self.points += new
        self.parts += [len(new)] if new else []
        matrix = np.array(self.points)[:, list(self.problem.free)]
        method = evaluating(self.plan.method.name, matrix, self.parts[:-1])
        plan = replace(self.plan, method=method, settings=replace(self.plan.settings, scaling=False))
        begun = self.problem.with_starts(self.points[0])
        if self.plan.ledger is not None:
            self.plan.ledger.plan_stages(self.plan.number, self.number)
        loop = plan.loop(begun, replay=plan.replay(self.number), base=self.base)
        loop.begin_stage(self.number)
        result = loop.drive(is_last=False)
        self.base = replace(loop.base_after(result, {}, "evaluated truly"), counts=Counts())
        self.start, self.last = np.array(result.point), (loop, result)
        if result.outcome not in ("interrupted", "exhausted"):
            self.truly = [_truly(self.problem, point, loop) for point in self.points]
        return loop, result

    def reason(self) -> str:
        """Say how the run ended."""
        count, rounds, on = len(self.points), self.number, self.on
        if self.last is not None and self.last[1].outcome == "exhausted":
            done = self.last[0].counts.evaluations
            why = self.last[1].reason
            return f"the search on {on.name} ended {self.ended}; {done} of {count} designs evaluated truly: {why}"
        designs = f"{count} design{'s' if count > 1 else ''} evaluated truly"
        if on.rounds == 1:
            best = "its best was" if count == 1 else f"{count} designs along its front were"
            return f"the search on {on.name} ended {self.ended}; {best} evaluated truly"
        if not self.is_new:
            return f"after {rounds} of {on.rounds} rounds the search came back to a design known already; {designs}"
        if rounds < on.rounds:
            return f"round {rounds} of {on.rounds} came out as predicted and gained nothing more; {designs}"
        return f"{rounds} rounds, the last search ended {self.ended}; {designs}"


def _is_same(problem: Problem, one: FloatArray, other: FloatArray) -> bool:
    width = problem.joined("upper") - problem.joined("lower")
    size = np.where(np.isfinite(width) & (width > 0.0), width, np.maximum(np.abs(one), 1e-300))
    return bool((np.abs(one - other) <= SAME * size).all())


def _is_among(problem: Problem, x: FloatArray, others: Iterable[FloatArray]) -> bool:
    return any(_is_same(problem, x, other) for other in others)


def _worth_evaluating(found: RunResult, most: int) -> FloatArray:
    """Return the designs (k, n) of a search on predicted values that are evaluated truly: its best, or at most so many
    along its front, the reported one first."""
    best = np.array(found.point)
    if found.front is None or not found.front.members:
        return best[np.newaxis]
    points = np.array([member.point for member in found.front.members])
    if len(points) > most:
        points = points[spread_subset(found.front.values, most)]
    others = points[(points != best).any(axis=1)]
    return np.vstack([best[np.newaxis], others])[: max(most, 1)]


def _truly(problem: Problem, point: FloatArray, loop: Loop) -> Truly:
    from ilvren.problem import taken_by_models

    values = {name: value for name, (value, _) in problem.named_values(point, loop.gate.calls).items()}
    taken = taken_by_models(problem, point, loop.gate.calls)
    return Truly(point, values | problem.quantities(point, loop.gate.calls), taken)


def _objective(problem: Problem, point: FloatArray, loop: Loop | None) -> float:
    if problem.objective is None:
        return math.nan
    calls = () if loop is None else loop.gate.calls
    return float(problem.entry_values([problem.objective.node], point, calls).values[0])


def _is_agreed(problem: Problem, told: Sequence[tuple[float, float, float]], document: str) -> bool:
    """Return whether the last round came out as predicted, and no better than those before."""
    if problem.objective is None or len(told) < 2:
        return False
    from ilvren.problem import deviations_in

    size = deviations_in(document).get(problem.objective.name, math.nan)
    predicted, actual, _ = told[-1]
    sign = problem.objective.sign
    gain = min(sign * value for _, value, _ in told[:-1]) - sign * actual
    return abs(predicted - actual) <= LEAST_GAIN * size and abs(gain) <= LEAST_GAIN * size


def _prediction(
    predicted: Problem, problem: Problem, point: FloatArray, loop: Loop, document: str, name: str
) -> Prediction:
    """Return what was predicted of a design, beside what is so: the objective, limits and what is approximated."""
    from ilvren.problem import deviations_in, outside_of

    said, actual = _numbers(predicted, point, ()), _numbers(problem, point, loop.gate.calls)
    sizes = deviations_in(document)
    names = [key for key in said if key in actual]
    deviation = {key: (actual[key] - said[key]) / sizes[key] for key in names if key in sizes and sizes[key] > 0.0}
    outside = tuple(outside_of(predicted, point))
    return Prediction(name, {k: said[k] for k in names}, {k: actual[k] for k in names}, deviation, outside)


def _numbers(problem: Problem, point: FloatArray, calls: Sequence[Any]) -> dict[str, float]:
    """Return {name: value} of objectives, limits and outputs that are one number."""
    found = {name: value for name, (value, _) in problem.named_values(point, calls).items()}
    derived = {item.name for item in problem.derived}
    numbers = {name: value for name, value in found.items() if name not in derived}
    outputs = {name for name, _ in problem.outputs}
    numbers |= {name: value for name, value in problem.quantities(point, calls).items() if name in outputs}
    return {name: float(value) for name, value in numbers.items() if np.ndim(value) == 0}


def refuse_on(problem: Problem) -> None:
    """Raise RequestError for what cannot be searched on an approximation."""
    if problem.residuals:
        raise RequestError("--on: a [fit] is made of residuals, which an approximation does not give")
