"""What all stages of a run have in common, and the loop of each."""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.runs.checkpoints import RunCheckpoint
from ilvren.runs.loop import Loop
from ilvren.runs.replay import Replay
from ilvren.runs.settings import DEFAULT_EVALUATIONS, Settings

if TYPE_CHECKING:
    from ilvren.evaluate import Workers
    from ilvren.ledger import Ledger
    from ilvren.methods import Known, Method
    from ilvren.problem import Problem
    from ilvren.runs.events import Event
    from ilvren.runs.stages import Base

__all__ = ["Plan"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Plan:
    """What all stages of a run have in common."""

    method: Method
    early: Method  # of all stages but the last: without a second look
    options: object
    settings: Settings
    ledger: Ledger | None = None
    number: int = 0
    listener: Callable[[Event], None] | None = None
    workers: Workers | None = None
    known: Known | None = None
    is_resumed: bool = False
    confirms: bool = True
    treatment: str = ""

    def loop(
        self,
        problem: Problem,
        multipliers: tuple[FloatArray, FloatArray] | None,
        replay: Replay | None,
        base: Base | None,
        *,
        is_last: bool = True,
    ) -> Loop:
        """Return the loop of one stage."""
        return Loop(
            problem,
            self.method if is_last and not self.is_short_of(problem) else self.early,
            self.options,
            self.settings if is_last else replace(self.settings, target=None),
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
