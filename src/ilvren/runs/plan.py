"""The plan of a run: all that is decided before its first evaluation, once, and the loop of each of its stages.

What the loop takes, the ledger records and every command that makes the run again is printed from is this plan.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Mapping
from dataclasses import field, replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass
from ilvren.runs.loop import Loop
from ilvren.runs.replay import Replay
from ilvren.runs.settings import DEFAULT_EVALUATIONS, Settings
from ilvren.runs.sources import with_source

if TYPE_CHECKING:
    from ilvren.evaluate import Workers
    from ilvren.ledger import Ledger
    from ilvren.methods import Known, Method
    from ilvren.problem import Problem
    from ilvren.runs.events import Event
    from ilvren.runs.on_approximation import On
    from ilvren.runs.stages import Base

__all__ = ["Plan"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, kw_only=True, eq=False)
class Plan:
    """What is solved, by which method and how.

    `problems` are those of the stages asked for, one where none are; `stages` the parameters {name: value} that each
    of them sets, `before` those that were set already. `early` is the method of all stages but the last, without a
    second look. `why` says why this method, and why what evolves is treated as it is. `multipliers` of rows (m,) and
    bounds (n,) are those to begin with. `sample` holds the designs of a plan of designs, `on` the approximation that
    is searched in place of the problem; `known_runs` {run: last evaluation} are those that `known` designs are from.
    """

    problems: tuple[Problem, ...]
    method: Method
    early: Method
    options: object
    settings: Settings
    stages: tuple[Mapping[str, Any], ...] = ()
    before: Mapping[str, Any] = field(default_factory=dict)
    why: str = ""
    multipliers: tuple[FloatArray, FloatArray] | None = None
    sample: Mapping[str, Any] | None = None
    on: On | None = None
    known: Known | None = None
    known_runs: Mapping[str, int] = field(default_factory=dict)
    proposal: Mapping[str, Any] | None = None
    confirms: bool = True
    ledger: Ledger | None = None
    number: int = 0
    listener: Callable[[Event], None] | None = None
    workers: Workers | None = None
    is_resumed: bool = False

    @property
    def problem(self) -> Problem:
        """Return the problem of the last stage, whose design is reported."""
        return self.problems[-1]

    @property
    def run_id(self) -> str:
        """Return the id in the ledger, "" without one."""
        return f"r{self.number}" if self.number else ""

    def each(self, change: Callable[[Problem], Problem]) -> Plan:
        """Return the plan with every stage's problem changed."""
        return replace(self, problems=tuple(change(problem) for problem in self.problems))

    def loop(
        self,
        problem: Problem,
        *,
        multipliers: tuple[FloatArray, FloatArray] | None = None,
        replay: Replay | None = None,
        base: Base | None = None,
        is_last: bool = True,
    ) -> Loop:
        """Return the loop of one stage, which solves `problem`. Multipliers are (m,) and (n,)."""
        used, by_differences = with_source(problem, self.settings.derivatives)
        return Loop(
            used,
            self.method if is_last and not self.is_short_of(problem) else self.early,
            options=self.options,
            settings=self.settings if is_last else replace(self.settings, target=None),
            by_differences=by_differences,
            ledger=self.ledger,
            number=self.number,
            replay=replay,
            listener=self.listener,
            multipliers=multipliers,
            workers=self.workers,
            known=self.known if is_last else None,  # values of the last stage's problem
            base=base,
            confirms=self.confirms,
        )

    def is_short_of(self, problem: Problem) -> bool:
        """Return whether a second look would take the evaluations that a closer look at what evolves needs."""
        settings = self.settings
        is_limited = settings.evaluations != DEFAULT_EVALUATIONS or settings.iterations is not None
        return bool(problem.simulations) and is_limited and settings.second_look is None

    def replay(self, stage: int) -> Replay | None:
        """Return what is on record of a stage."""
        if not self.is_resumed or self.ledger is None:
            return None
        ledger, number = self.ledger, self.number
        begun = {item.number: item for item in ledger.stages(number)}
        of_stage = None
        if begun:
            first = begun[stage].first_evaluation if stage in begun else sys.maxsize
            end = begun[stage + 1].first_evaluation if stage + 1 in begun else sys.maxsize
            of_stage = range(first, end)
        from ilvren.runs.checkpoints import RunCheckpoint

        packed = ledger.checkpoint(number) if self.method.keeps_checkpoints else None
        checkpoint = None if packed is None else RunCheckpoint.unpacked(packed)
        if checkpoint is not None and of_stage is not None and checkpoint.evaluations not in of_stage:
            checkpoint = None
        return Replay(
            ledger.requests(number),
            ledger.evaluations(number, every_stage=True),
            ledger.iterations(number, every_stage=True),
            has_calls=ledger.keeps_calls_of(number),
            checkpoint=checkpoint,
            arrivals=ledger.arrivals(number),
            of_stage=of_stage,
        )
