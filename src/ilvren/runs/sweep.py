"""A family of problems over one parameter, each started from its neighbour's optimum."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from ilvren.errors import RequestError, nearest
from ilvren.ledger import Ledger
from ilvren.problem import Problem
from ilvren.runs.events import Event
from ilvren.runs.result import RunResult
from ilvren.runs.settings import Settings
from ilvren.runs.start import run
from ilvren.runs.warm import WarmStart, warm_start

__all__ = ["Member", "Sweep", "sweep"]

MOST_MEMBERS = 10_000


@dataclass(frozen=True)
class Member:
    """One value of the parameter and the run there. `is_warm`: started from its neighbour."""

    value: float
    result: RunResult
    is_warm: bool


@dataclass(frozen=True)
class Sweep:
    """All members, in the order of the values given."""

    parameter: str
    unit: str
    members: tuple[Member, ...]

    @property
    def holds(self) -> bool:
        """Return whether every member reached what it was asked."""
        return all(member.result.holds for member in self.members)

    def to_dict(self, *, full: bool = True) -> dict[str, object]:
        """Return the JSON document."""
        return {
            "sweep": self.parameter,
            "values": [member.value for member in self.members],
            "warm": [member.is_warm for member in self.members],
            "runs": [member.result.to_dict(full=full) for member in self.members],
        }


def sweep(
    problem: Problem,
    parameter: str,
    values: Sequence[float],
    settings: Settings,
    *,
    ledger: Ledger | str | Path | None = None,
    listener: Callable[[Event], None] | None = None,
    finished: Callable[[Member], None] | None = None,
    workers: int | str | None = None,
) -> Sweep:
    """Solve the problem for each value of a scalar parameter. Formulas are compiled once; each run starts from the
    design and multipliers of the one before, and once more from the file's start where that does not end well.
    `finished` is
    called after each. Raises RequestError for an unknown parameter."""
    known = {item.name: item for item in problem.parameters if not item.is_data}
    if parameter not in known:
        close = nearest(parameter, known)
        advice = f'did you mean "{close}"?' if close else "parameters: " + (", ".join(known) or "none")
        raise RequestError(f'--sweep: no parameter "{parameter}"', advice=advice)
    if np.ndim(known[parameter].value):
        raise RequestError(f'--sweep: "{parameter}" is not one number', advice="sweep a scalar parameter")
    if not 1 <= len(values) <= MOST_MEMBERS:
        raise RequestError(f"--sweep: {len(values)} values are given, 1 to {MOST_MEMBERS} are possible")
    settings, label = settings.of_many(), settings.label
    members: list[Member] = []
    before: RunResult | None = None
    for number, value in enumerate(values):
        own = replace(settings, label=f"{label}[{number}]" if label else None)
        cold = problem.with_parameters(**{parameter: float(value)})
        member = None
        warm = None if before is None else _warm(cold, before)
        if warm is not None:
            found = run(
                warm.problem, own, ledger=ledger, listener=listener, multipliers=warm.multipliers, workers=workers
            )
            member = Member(float(value), found, True)
        if member is None or (not member.result.holds and member.result.outcome != "interrupted"):
            again = replace(own, label=None) if member is not None else own
            found = run(cold, again, ledger=ledger, listener=listener, workers=workers)
            if member is None or found.holds or found.outcome == "interrupted":
                member = Member(float(value), found, False)
        members.append(member)
        if finished is not None:
            finished(member)
        if member.result.outcome == "interrupted":
            break
        if member.result.holds:
            before = member.result
    return Sweep(parameter, known[parameter].unit, tuple(members))


def _warm(problem: Problem, before: RunResult) -> WarmStart | None:
    """Return where the neighbour's design leads, None where the parameter has changed the shape of every variable."""
    try:
        return warm_start(problem, before.to_dict(), before.id or "the run before")
    except RequestError:
        return None
