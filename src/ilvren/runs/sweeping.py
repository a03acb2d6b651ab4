"""A family of problems over a parameter, or over the values a variable is fixed at, each started from its neighbour's
optimum."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError, nearest
from ilvren.ledger import GroupRecord, Ledger
from ilvren.notebooks import InNotebooks
from ilvren.problem import Aim, Problem, allowed_values_of, fixed_problem, loads, word_number
from ilvren.records import dataclass
from ilvren.runs.settings import Settings
from ilvren.runs.start import resume, run
from ilvren.runs.stored import stored_files, stored_models
from ilvren.runs.trust import refuse_plan, signature_of
from ilvren.runs.warm import WarmStart, warm_start

if TYPE_CHECKING:
    from ilvren.problem import Variable
    from ilvren.runs.events import Event
    from ilvren.runs.result import RunResult

__all__ = ["Sweep", "SweptRun", "resume_sweep", "sweep", "swept_unit"]

FloatArray = NDArray[np.float64]

MOST_MEMBERS = 10_000
# Names told where one is unknown.
MOST_NAMED = 12


@dataclass(frozen=True)
class SweptRun:
    """One value of what is swept and the run there. `is_warm`: started from its neighbour."""

    value: float
    result: RunResult
    is_warm: bool


@dataclass(frozen=True)
class Sweep(InNotebooks):
    """All members, in the order of the values given. `over` is the parameter, the variable or its element that takes
    them, with its `unit`; `words` are those of a choice. `group` is its id in the ledger."""

    over: str
    unit: str
    members: tuple[SweptRun, ...]
    group: str = ""
    words: tuple[str, ...] = ()

    def shown(self, value: float) -> float | str:
        """Return a value as it is told: the word of a choice, else the number."""
        return self.words[round(value) - 1] if self.words else value

    @property
    def holds(self) -> bool:
        """Return whether every member reached what it was asked."""
        return all(member.result.holds for member in self.members)

    def to_dict(self, *, full: bool = True) -> dict[str, object]:
        """Return the JSON document."""
        return {
            "sweep": self.over,
            "group": self.group or None,
            "values": [self.shown(member.value) for member in self.members],
            "warm": [member.is_warm for member in self.members],
            "runs": [member.result.to_dict(full=full) for member in self.members],
        }


def sweep(
    problem: Problem,
    over: str,
    values: Sequence[float | str] | None,
    settings: Settings,
    *,
    ledger: Ledger | str | Path | None = None,
    listener: Callable[[Event], None] | None = None,
    finished: Callable[[SweptRun], None] | None = None,
    workers: int | str | None = None,
) -> Sweep:
    """Solve the problem for each value of `over`: a parameter that is one number, or a variable of one number or one
    element of a vector, which is fixed at each value. None stands for all members of a variable that has them. Each run
    starts from the design and multipliers of the one before, and once more from the file's start where that does not
    end well; formulas are compiled once for a parameter. `finished` is called after each. With a ledger the sweep is a
    group of it, and `resume_sweep` goes on with one that was stopped. Raises RequestError for an unknown name, and
    values it cannot take."""
    what = _what(problem, over)
    values = what.members() if values is None else [what.number(value) for value in values]
    what.check(problem, values)
    settings = settings.of_many()
    begun = partial(
        _Work,
        problem=problem,
        over=over,
        values=values,
        settings=settings,
        begun={},
        listener=listener,
        finished=finished,
        workers=workers,
    )
    if ledger is None:
        return Sweep(over, what.unit, *begun(ledger=None, group=None).done(), words=what.words)
    opened = ledger if isinstance(ledger, Ledger) else Ledger(ledger)
    try:
        group = opened.begin_group(_plan(problem, over, values, settings), label=settings.label)
        work = begun(ledger=opened, group=group)
        return Sweep(over, what.unit, *work.done(), group=group.id, words=what.words)
    finally:
        if opened is not ledger:
            opened.close()


def resume_sweep(
    ledger: Ledger,
    reference: str,
    *,
    listener: Callable[[Event], None] | None = None,
    finished: Callable[[SweptRun], None] | None = None,
    workers: int | str | None = None,
    as_now: bool = False,
) -> Sweep:
    """Go on with a sweep that was interrupted or killed: runs that have ended are followed again for their results,
    which calls no model; one that was stopped is continued, and the values that remain are solved. Raises
    RequestError."""
    group = ledger.group(reference)
    plan = group.plan
    stored = plan["problems"][0]
    problem = loads(
        stored["text"],
        file=stored["file"],
        set=stored["set"],
        start=stored["start"],
        files=stored["files"],
        aim=Aim.from_dict(stored["aim"]),
    )
    refuse_plan(group.id, stored, problem)
    if stored_models(problem) != stored["models"] and not as_now:
        raise RequestError(
            f"{group.id}: files of its models have changed since it began",
            advice="put them back, or add --as-now to use the models as they are now",
        )
    settings = Settings.from_dict(plan["settings"])
    begun = {place: f"r{number}" for place, number in group.runs.items()}
    values, over = plan["values"], plan["parameter"]
    what = _what(problem, over)
    work = _Work(
        problem=problem,
        over=over,
        values=values,
        settings=settings,
        ledger=ledger,
        group=group,
        begun=begun,
        listener=listener,
        finished=finished,
        workers=workers,
    )
    return Sweep(over, what.unit, *work.done(), group=group.id, words=what.words)


@dataclass(frozen=True)
class _Swept:
    """What is swept: a parameter, or a `variable`."""

    name: str
    unit: str
    variable: Variable | None = None
    choices: tuple[str, ...] = ()

    @property
    def words(self) -> tuple[str, ...]:
        return self.variable.words if self.variable is not None else ()

    def members(self) -> list[float]:
        """Return all values that the variable can take, ascending. Raises RequestError where these are not listed."""
        example = f'for example --sweep "{self.name}=evenly(1, 2, 5)"'
        if self.variable is None or self.variable.kind == "continuous":
            raise RequestError(f"--sweep {self.name}: which values?", advice=example)
        allowed = allowed_values_of(self.variable)
        if allowed.count > MOST_MEMBERS:
            told = f"it has more than {MOST_MEMBERS:,} members"
            raise RequestError(f"--sweep {self.name}: {told}", advice=example)
        return [float(value) for value in allowed.all()]

    def number(self, value: float | str) -> float:
        """Return the number of a value. Raises RequestError for a word that is none of the variable's."""
        if not isinstance(value, str):
            return float(value)
        words = self.variable.words if self.variable is not None else ()
        return word_number(f"--sweep {self.name}", value, self.choices, words)

    def check(self, problem: Problem, values: Sequence[float]) -> None:
        """Raise RequestError where the values are too many, or one cannot be taken."""
        if self.variable is not None and self.variable.is_fixed:
            advice = "leave out --fix, or let its bounds differ in the file"
            raise RequestError(f"--sweep {self.name}: it is fixed at {self.variable.lower:.12g}", advice=advice)
        if not 1 <= len(values) <= MOST_MEMBERS:
            raise RequestError(f"--sweep: {len(values)} values are given, 1 to {MOST_MEMBERS} are possible")
        for value in values:
            if self.variable is not None and not self.variable.allows(value):
                self.at(problem, value)  # which says why not

    def at(self, problem: Problem, value: float) -> Problem:
        """Return the problem at one value. Raises RequestError where the variable cannot take it."""
        if self.variable is None:
            return problem.with_parameters(**{self.name: value})
        return fixed_problem(problem, {self.name: self.variable.shown(value)})


def _what(problem: Problem, name: str) -> _Swept:
    """Return what is swept. Raises RequestError where nothing that is one number has that name."""
    parameters = {item.name: item for item in problem.parameters if not item.is_data}
    if name in parameters:
        if np.ndim(parameters[name].value):
            raise RequestError(f'--sweep: "{name}" is not one number', advice="sweep a scalar parameter")
        return _Swept(name, parameters[name].unit)
    for block in problem.blocks:
        if block.is_grid:
            continue
        if name == block.name and block.shape:
            advice = f"one of its elements can be swept: {block.element_name(0)}"
            raise RequestError(f'--sweep: "{name}" is not one number', advice=advice)
        for place in range(block.size):
            if name == block.element_name(place):
                return _Swept(name, block.unit, block.element(place), block.choices)
    known = [*parameters, *(block.name for block in problem.blocks if not block.is_grid)]
    close = nearest(name, known)
    advice = f'did you mean "{close}"?' if close else "parameters and variables: " + ", ".join(known[:MOST_NAMED])
    raise RequestError(f'--sweep: the file has no parameter or variable "{name}"', advice=advice)


def swept_unit(problem: Problem, name: str) -> tuple[str, tuple[str, ...]]:
    """Return the unit of what is swept, and the words where it is a choice. Raises RequestError for an unknown name."""
    what = _what(problem, name)
    return what.unit, what.words


def _plan(problem: Problem, over: str, values: Sequence[float], settings: Settings) -> dict[str, Any]:
    """Return the plan for the ledger: a place for each value, and behind them one for each that begins once more."""
    if problem.refusal:
        raise RequestError(problem.refusal, advice="look at what it is, and add --trust to run it")
    numbers, models = [float(value) for value in values], stored_models(problem)
    return {
        "kind": "sweep",
        "parameter": over,
        "values": numbers,
        "settings": settings.to_dict(),
        "problems": [
            {
                "text": problem.source.text,
                "file": problem.source.file,
                "set": dict(problem.overrides),
                "start": dict(problem.start_overrides),
                "aim": problem.aim.to_dict(),
                "files": stored_files(problem),
                "models": models,
                "signature": signature_of(problem, models),
                "name": problem.title or problem.source.file,
                "sign": problem.objective.sign if problem.objective is not None else 1,
            }
        ],
        "contenders": [{"name": settings.method}],
        "members": [
            {"problem": 0, "contender": 0, "start": None, "seed": settings.seed, "value": value}
            for value in (*numbers, *numbers)
        ],
    }


@dataclass(kw_only=True)
class _Work:
    """A sweep being made: `begun` {place in the plan: run} are the runs it has already."""

    problem: Problem
    over: str
    values: Sequence[float]
    settings: Settings
    ledger: Ledger | None
    group: GroupRecord | None
    begun: Mapping[int, str]
    listener: Callable[[Event], None] | None
    finished: Callable[[SweptRun], None] | None
    workers: int | str | None

    def done(self) -> tuple[tuple[SweptRun, ...]]:
        """Return the members, in a tuple of their own; an interrupt ends them."""
        members: list[SweptRun] = []
        before: RunResult | None = None
        for number, value in enumerate(self.values):
            member = self._member(number, float(value), before)
            members.append(member)
            if self.finished is not None:
                self.finished(member)
            if member.result.outcome == "interrupted":
                break
            if member.result.holds:
                before = member.result
        return (tuple(members),)

    def _member(self, number: int, value: float, before: RunResult | None) -> SweptRun:
        label = self.settings.label
        own = replace(self.settings, label=f"{label}[{number}]" if label else None)
        cold = _what(self.problem, self.over).at(self.problem, value)
        warm = None if before is None else _warm(cold, before)
        if warm is None:
            return SweptRun(value, self._run(number, cold, own, None), False)
        member = SweptRun(value, self._run(number, warm.problem, own, warm.multipliers), True)
        if member.result.holds or member.result.outcome == "interrupted":
            return member
        again = self._run(len(self.values) + number, cold, replace(own, label=None), None)
        return SweptRun(value, again, False) if again.holds or again.outcome == "interrupted" else member

    def _run(
        self, place: int, problem: Problem, settings: Settings, multipliers: tuple[FloatArray, FloatArray] | None
    ) -> RunResult:
        if place in self.begun and self.ledger is not None:
            return resume(self.begun[place], self.ledger, workers=self.workers, listener=self.listener, anyhow=True)
        member = None if self.group is None else (self.group.number, place)
        return run(
            problem,
            settings,
            ledger=self.ledger,
            listener=self.listener,
            multipliers=multipliers,
            workers=self.workers,
            member=member,
        )


def _warm(problem: Problem, before: RunResult) -> WarmStart | None:
    """Return where the neighbour's design leads, None where what is swept has changed the shape of every variable."""
    try:
        return warm_start(problem, before.to_record(), before.id or "the run before")
    except RequestError:
        return None
