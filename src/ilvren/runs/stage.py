"""One stage of a run, as all parts of its loop see it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import field
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.evaluate import Counts, Gate
from ilvren.methods.pieces import SAMPLE
from ilvren.problem import Measures, Problem
from ilvren.records import dataclass
from ilvren.runs.stopping import Clock, Stop

if TYPE_CHECKING:
    from ilvren.evaluate import Evaluation
    from ilvren.ledger import Ledger
    from ilvren.methods import Known, Method
    from ilvren.runs.events import Event
    from ilvren.runs.lifted_view import LiftedView
    from ilvren.runs.replay import Replay
    from ilvren.runs.scaling import Scaling
    from ilvren.runs.settings import Settings
    from ilvren.runs.stages import Base

__all__ = ["Stage"]

FloatArray = NDArray[np.float64]


@dataclass(kw_only=True)
class Stage:
    """What a stage solves, by which method, and what it stands on.

    The loop sets `start` once the start is evaluated, and with it the sizes in `measures`, the `scaling` and the `view`
    of the problem with its kinks lifted; the rest is given. `requests` counts those that the method has made, `ledger`
    is None where nothing is recorded, or nothing can be any longer.
    """

    problem: Problem
    method: Method
    options: object
    settings: Settings
    gate: Gate
    is_sparse: bool
    by_differences: bool
    base: Base
    replay: Replay
    clock: Clock
    ledger: Ledger | None = None
    number: int = 0
    listener: Callable[[Event], None] | None = None
    multipliers: tuple[FloatArray, FloatArray] | None = None
    known: Known | None = None
    confirms: bool = True
    is_old_style: bool = False  # of a run whose ledger has derivatives of models on record, not their calls
    requests: int = 0
    start: Evaluation | None = None
    scaling: Scaling | None = None
    view: LiftedView | None = None
    measures: Measures = field(init=False)

    def __post_init__(self) -> None:
        self.measures = Measures.of(self.problem)

    @property
    def is_sample(self) -> bool:
        """Return whether nothing is searched: the designs of a plan are evaluated."""
        return self.method.kind == SAMPLE

    @property
    def counts(self) -> Counts:
        """Return what the run has counted, in its earlier stages, too."""
        own, before = self.gate.counts, self.base.counts
        if not (before.evaluations or before.gradients or before.hessians):
            return own
        return Counts(
            own.evaluations + before.evaluations, own.gradients + before.gradients, own.hessians + before.hessians
        )

    def check_seconds(self) -> None:
        """Stop where the seconds are used up."""
        limit = self.settings.seconds
        if limit is not None and self.clock.seconds >= limit:
            raise Stop("exhausted", f"{limit:g} seconds are used up")

    def as_written(self, objective: float) -> float | None:
        """Return an internal objective as the user wrote it."""
        return None if self.problem.objective is None else self.problem.objective.sign * objective

    def full(self, scaled: FloatArray) -> FloatArray:
        """Return the full designs (k, n) of scaled points, exactly on the grid where they are within rounding of it."""
        assert self.scaling is not None
        return self.measures.grid.straightened(self.scaling.full(scaled, self.measures.lower, self.measures.upper))
