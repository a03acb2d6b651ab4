"""Runs of several stages: the task changes on the way, each stage beginning where the last one ended.

The stages are those of one run: requests, designs, iterations, counts and limits go on. Objectives of different stages
are never compared: each stage has incumbents and a gate of its own, and what is reported is the last stage's objective,
also of a design that an earlier one was stopped at.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import field
from typing import TYPE_CHECKING, Any

from ilvren.errors import RequestError
from ilvren.evaluate import Counts
from ilvren.records import dataclass
from ilvren.runs.limits import plain

if TYPE_CHECKING:
    from ilvren.problem import Problem
    from ilvren.runs.history import History
    from ilvren.runs.shelf import RunShelf

__all__ = ["ENDS_THE_RUN", "Base", "StageEnd", "staged_problems", "told_set"]

# Outcomes of a stage after which no other begins; from any other design the next stage may go on.
ENDS_THE_RUN = frozenset({"interrupted", "model-failed", "exhausted"})


@dataclass(frozen=True)
class StageEnd:
    """How a stage ended: the parameters it `set`, its `outcome` and `reason`, its objective as written there, and the
    evaluations counted in it; `finer` says how the next stage looks at a problem over time."""

    set: Mapping[str, Any]
    outcome: str
    reason: str
    objective: float | None
    violation: float
    evaluations: int
    finer: str = ""

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        return {
            "set": dict(self.set),
            "outcome": self.outcome,
            "reason": self.reason,
            "objective": None if self.objective is None else plain(self.objective),
            "violation": plain(self.violation),
            "evaluations": self.evaluations,
            **({"finer": self.finer} if self.finer else {}),
        }


@dataclass(frozen=True)
class Base:
    """What a run had come to when a stage began."""

    requests: int = 0
    counts: Counts = field(default_factory=Counts)
    seconds: float = 0.0
    history: History | None = None
    shelf: RunShelf | None = None
    ended: tuple[StageEnd, ...] = ()


def told_set(values: Mapping[str, Any]) -> str:
    """Return parameters as messages name them: "width = 0.1, cover = 0.9"."""
    return ", ".join(f"{name} = {value}" for name, value in values.items())


def staged_problems(problem: Problem, sets: Sequence[Mapping[str, Any]]) -> list[Problem]:
    """Return the problem of each stage, which sets parameters that stay until another stage sets them. Raises
    RequestError where a stage sets nothing, or changes what there is to be found."""
    found: list[Problem] = []
    for number, values in enumerate(sets, start=1):
        if not values:
            raise RequestError(
                f"stage {number} sets no parameter", advice='--stage "NAME=VALUE", or several with commas'
            )
        try:
            found.append((found[-1] if found else problem).with_parameters(**values))
        except RequestError as error:
            raise RequestError(error.message.replace("--set", f"stage {number}:"), advice=error.advice) from None
        if _shape(found[-1]) != _shape(problem):
            raise RequestError(
                f"stage {number} ({told_set(values)}) changes which variables or rows there are",
                advice="stages change parameters that no shape depends on",
            )
    return found


def _shape(problem: Problem) -> object:
    blocks, rows = problem.blocks, problem.row_blocks
    return [(block.name, block.shape) for block in blocks], [(block.name, block.shape) for block in rows]
