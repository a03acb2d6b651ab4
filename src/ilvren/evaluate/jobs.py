"""What is asked of workers, and what they answer."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np
from numpy.typing import NDArray

from ilvren.evaluate.evaluation import Evaluation
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.models import Outcome, Question

__all__ = ["Answer", "Arrival", "Job", "Workers", "failed_evaluation"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Job:
    """Evaluate `point` (with `derivatives`), or put a `question` to the model in place `model`. `steps` are the
    difference steps of each model, chosen once for all; `known` are questions (name of the model, question, outcome)
    that are not to be asked again."""

    point: FloatArray | None = None
    derivatives: bool = False
    steps: tuple[Any, ...] = ()
    model: int = 0
    question: Question | None = None
    known: tuple[tuple[str, Question, Outcome], ...] = ()


@dataclass(frozen=True, kw_only=True)
class Answer:
    """What came of a job: an `evaluation`, or the `outcome` of a question, or the `failure`; `difference_calls`,
    `notes` and `failures` (how many, the first) of the models on the way, what was `made` of them (place of the model,
    question, outcome), their `slopes` (place, inputs, Jacobian), and the `seconds` it took.
    `is_slow`: stopped by a timeout."""

    evaluation: Evaluation | None = None
    outcome: Outcome | None = None
    failure: str = ""
    is_slow: bool = False
    difference_calls: int = 0
    notes: tuple[str, ...] = ()
    failures: tuple[tuple[int, str], ...] = ()
    seconds: float = 0.0
    made: tuple[tuple[int, Question, Outcome], ...] = ()
    slopes: tuple[tuple[int, tuple[Any, ...], Any], ...] = ()


@dataclass(frozen=True)
class Arrival:
    """An evaluation that a worker has made."""

    evaluation: Evaluation
    difference_calls: int
    seconds: float


class Workers(Protocol):
    """What the gate needs of a pool, on this machine or on many."""

    @property
    def count(self) -> int:
        """Return how many jobs run at the same time."""

    def answers(self, jobs: Sequence[Job]) -> Iterator[tuple[int, Answer]]:
        """Yield (place of the job, its answer) as they are ready. Jobs that are added meanwhile are done, too."""

    def close(self) -> None:
        """End all workers."""


def failed_evaluation(rows: int, variables: int, *, derivatives: bool) -> Evaluation:
    """Return what is recorded where a job failed for good."""
    empty = Evaluation(float("nan"), np.full(rows, np.nan))
    if not derivatives:
        return empty
    return replace(empty, gradient=np.full(variables, np.nan), jacobian=np.full((rows, variables), np.nan))
