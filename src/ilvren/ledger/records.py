"""The rows of the ledger as plain values."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field, replace
from typing import Any, NamedTuple

from ilvren.records import dataclass

__all__ = [
    "ApproximationRecord",
    "EvaluationRecord",
    "ForetoldRecord",
    "GroupRecord",
    "IterationRecord",
    "RequestRecord",
    "RunRecord",
    "StageRecord",
]


@dataclass(frozen=True, kw_only=True)
class RunRecord:
    """A run. `state` is "running" or "ended"; `result` the JSON document printed at its end (None before);
    `settings` and `overrides` are what it was asked; `versions` what computed it;
    `files` the texts of its tables by name; `models` {model: {file: hash}}."""

    number: int
    label: str | None
    problem_text: str
    problem_file: str
    problem_title: str
    method: str
    settings: Mapping[str, object]
    overrides: Mapping[str, Mapping[str, Any]]
    versions: Mapping[str, str]
    created: str
    state: str
    process: str
    outcome: str | None
    seconds: float
    result: Mapping[str, object] | None
    files: Mapping[str, str] = field(default_factory=dict)
    models: Mapping[str, Mapping[str, str]] = field(default_factory=dict)

    @property
    def id(self) -> str:
        """Return the short id, such as "r12"."""
        return f"r{self.number}"


@dataclass(frozen=True)
class GroupRecord:
    """Runs that belong together. `plan` says what each is to be (see `runs.contest`); `runs` {place in the plan: number
    of the run} has those that were begun."""

    number: int
    label: str | None
    plan: Mapping[str, Any]
    created: str
    runs: Mapping[int, int]

    @property
    def is_sweep(self) -> bool:
        """Return whether its runs are those of one parameter's values, and not of a contest."""
        return self.plan.get("kind") == "sweep"

    @property
    def id(self) -> str:
        """Return the short id, such as "g3"."""
        return f"g{self.number}"


@dataclass(frozen=True)
class ApproximationRecord:
    """What was learnt from runs: `runs` are their ids, `facts` how it was asked for and what it told; `document` is the
    approximation itself, as JSON."""

    number: int
    label: str | None
    runs: tuple[str, ...]
    facts: Mapping[str, Any]
    document: str
    created: str

    @property
    def id(self) -> str:
        """Return the short id, such as "a1"."""
        return f"a{self.number}"


@dataclass(frozen=True)
class RequestRecord:
    """One request of a method: its number from 0, the hash of what was asked, how many points."""

    number: int
    hash: str
    points: int


@dataclass(frozen=True)
class StageRecord:
    """Where a stage of a run began: its number from 1, its first request, computed point and iteration."""

    number: int
    first_request: int
    first_evaluation: int
    first_iteration: int


class EvaluationRecord(NamedTuple):
    """One computed point: its place in the run from 1, the full design, the reply (objective and rows as
    `values`, then gradient and Jacobian as `derivatives`, None when not asked for), all internal; `seconds` since
    the run began; `objective` as written; `gradients` counted up to and with it.

    A tuple because runs make a hundred thousand of them: it takes a fifth of a dataclass's time."""

    number: int
    request: int
    point: bytes
    values: bytes
    derivatives: bytes | None
    objective: float | None
    violation: float
    evaluations: int
    gradients: int
    seconds: float

    @property
    def is_whole(self) -> bool:
        """Return whether its vectors are kept; else `point` is a digest, and `values` is empty."""
        return bool(self.values)


@dataclass(frozen=True)
class ForetoldRecord:
    """What a `surface`, in words, `said` of the objective at a design before it was evaluated, about how wrong that may
    be, and the `actual` value, NaN where there is none; all as written."""

    said: float
    spread: float
    actual: float
    surface: str


@dataclass(frozen=True, kw_only=True)
class IterationRecord:
    """One iteration as a history shows it. `objective` and `best` as written, `best` None while nothing is
    feasible; `path` tells which part of a composed method it came from; `point` is empty where long vectors were
    thinned. `foretold` is what a surface said of a design before it was evaluated for this iteration."""

    number: int
    path: str
    evaluations: int
    gradients: int
    seconds: float
    objective: float | None
    best: float | None
    violation: float
    stationarity: float | None
    step: float | None
    note: str
    point: bytes
    foretold: ForetoldRecord | None = None

    @property
    def is_whole(self) -> bool:
        """Return whether its design is kept."""
        return bool(self.point)

    @property
    def thinned(self) -> IterationRecord:
        """Return the record without its design."""
        return replace(self, point=b"")
