"""What a run tells whoever listens."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.runs.archive import FrontNow
    from ilvren.runs.incumbents import Incumbent

__all__ = ["Ended", "Event", "Finer", "Iterated", "LookedOn", "Sampled", "StageBegun", "Started"]


@dataclass(frozen=True)
class StageBegun:
    """A stage of the run begins: its `number` of so many, and the parameters that it sets, in words."""

    number: int
    count: int
    told: str


@dataclass(frozen=True)
class Started:
    """The run exists: its id in the ledger ("" without one) and what it was asked."""

    run: str
    method: str
    variables: int
    rows: int
    why: str = ""


@dataclass(frozen=True, kw_only=True)
class Iterated:
    """One iteration: counts so far, the best feasible objective as written (None while there is none),
    violation and stationarity of the current iterate, and the method's word on the step. `objective` as written there,
    `step` its length in scaled variables, `gain_ratio` the share of the predicted improvement that came true (NaN where
    nothing was predicted), `path` the part of a composed method, `incumbents` the few best feasible designs so far,
    best first, with internal objectives; `front` how a front of several objectives stands."""

    iteration: int
    evaluations: int
    gradients: int
    seconds: float
    best: float | None
    violation: float
    stationarity: float | None
    note: str
    is_replay: bool = False
    objective: float | None = None
    step: float = math.nan
    gain_ratio: float = math.nan
    path: str = ""
    incumbents: tuple[Incumbent, ...] = ()
    front: FrontNow | None = None


@dataclass(frozen=True)
class LookedOn:
    """A run that has converged looks for better designs elsewhere: counts so far, and the best feasible objective."""

    evaluations: int
    best: float | None


@dataclass(frozen=True)
class Sampled:
    """A design of a sample is there: how many are, the best feasible objective, the seconds so far, and of several
    objectives how many designs are in the `front`."""

    evaluations: int
    best: float | None
    seconds: float
    front: int | None = None


@dataclass(frozen=True)
class Ended:
    """The run is over."""

    outcome: str


@dataclass(frozen=True)
class Finer:
    """A problem over time is looked at more finely: what was changed, and why."""

    told: str


Event = Finer | Started | StageBegun | Iterated | LookedOn | Sampled | Ended
