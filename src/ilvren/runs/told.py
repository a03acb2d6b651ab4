"""What a run tells beside its design: courses on a grid, what was confirmed, what was predicted, what scatters."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass
from ilvren.runs.limits import LimitState, LimitStates, plain, plain_values

if TYPE_CHECKING:
    from ilvren.scatter import Interval

__all__ = ["BROKEN", "CONFIRMED", "FAILED", "Arc", "Confirmation", "CourseTold", "Prediction", "ScatterTold"]

FloatArray = NDArray[np.float64]

# The words of a confirmation.
CONFIRMED, BROKEN, FAILED = "confirmed", "broken", "failed"


@dataclass(frozen=True)
class Arc:
    """From when to when a control does what: `kind` is "lower", "upper", "limit", "singular" or "free"; `limit` names
    the limit over time that decides it."""

    control: str
    begin: float
    end: float
    kind: str
    limit: str = ""

    @property
    def words(self) -> str:
        """Return what the control does."""
        match self.kind:
            case "lower" | "upper":
                return f"at its {self.kind} bound"
            case "limit":
                return f"{self.limit} {'decide' if ', ' in self.limit else 'decides'}"
            case "singular":
                return "free (singular: linear in what it changes)"
        return "free"

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        own: dict[str, object] = {"control": self.control, "from": self.begin, "to": self.end, "kind": self.kind}
        return own | ({"limit": self.limit} if self.limit else {})


@dataclass(frozen=True)
class CourseTold:
    """One axis: the `times` (k,) of the grid, costates {state: (k, *shape)} in units of the objective per unit of the
    state, densities of prices {limit: (times, price per unit and time)}, the arcs, what one unit more of a fixed time
    is worth (None of a free end), and remarks."""

    case: str
    unit: str
    times: FloatArray
    costates: Mapping[str, FloatArray]
    prices: Mapping[str, tuple[FloatArray, FloatArray]]
    arcs: tuple[Arc, ...]
    end_price: float | None
    remarks: tuple[str, ...]

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        return {
            **({"case": self.case} if self.case else {}),
            "times": plain_values(self.times),
            "costates": {name: plain_values(value) for name, value in self.costates.items()},
            "prices": {
                name: {"times": plain_values(times), "per_time": plain_values(value)}
                for name, (times, value) in self.prices.items()
            },
            "arcs": [arc.to_dict() for arc in self.arcs],
            "end_price": self.end_price,
            "remarks": list(self.remarks),
        }


@dataclass(frozen=True)
class Confirmation:
    """What [confirm] found at a design: its `limits`, and `values` {name: value} with their units; `word` is one of the
    above, with the `trouble` of a model that gave nothing."""

    word: str
    limits: LimitStates
    values: Mapping[str, Any]
    units: Mapping[str, str] = field(default_factory=dict)
    trouble: str = ""
    violation: float = 0.0

    @property
    def missed(self) -> list[LimitState]:
        """Return the limits that are missed."""
        return [state for state in self.limits if state.violation > 0.0]

    @property
    def sentence(self) -> str:
        """Return what came of it in one sentence."""
        if self.word == FAILED:
            return f"[confirm] could not be evaluated: {self.trouble}"
        if self.word == BROKEN:
            worst = max(self.limits, key=lambda state: state.violation)
            side = worst.lower if worst.value < worst.lower else worst.upper
            return f"{worst.name} is {worst.value:.6g} {worst.unit}".rstrip() + f", its limit is {side:.6g}"
        count = len(self.limits)
        return f"{count} limit{'s' * (count != 1)} of [confirm] hold{'s' * (count == 1)}" if count else "evaluated"

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        return {
            "confirmed": self.word,
            "limits": self.limits.document(),
            "values": {name: plain_values(value) for name, value in self.values.items()},
            "trouble": self.trouble or None,
        }


@dataclass(frozen=True)
class Prediction:
    """What an approximation `on` said of the reported design, and what is so: {name: value}, the difference over the
    deviation of the data in `deviation`; `outside` are inputs beyond what was learnt; `rounds` are (predicted, actual)
    objectives, and what the design truly misses its limits by, one for each."""

    on: str
    predicted: Mapping[str, float]
    actual: Mapping[str, float]
    deviation: Mapping[str, float]
    outside: tuple[str, ...] = ()
    rounds: tuple[tuple[float, float, float], ...] = ()

    def to_dict(self) -> dict[str, object]:
        """Return its part of the JSON document of the run."""
        return {
            "on": self.on,
            **{
                word: {name: plain(value) for name, value in values.items()}
                for word, values in (
                    ("predicted", self.predicted),
                    ("actual", self.actual),
                    ("deviation", self.deviation),
                )
            },
            "outside": list(self.outside),
            "rounds": [{"predicted": plain(a), "actual": plain(b), "violation": plain(v)} for a, b, v in self.rounds],
        }


@dataclass(frozen=True)
class ScatterTold:
    """What is told of a run about scatter: how many `scenarios`, what was `searched` and is counted otherwise {name:
    (searched, counted)}, and objectives and constraints on `fresh` scenarios {name: interval}."""

    scenarios: int
    searched: Mapping[str, tuple[float, float]] = field(default_factory=dict)
    fresh: Mapping[str, Interval] = field(default_factory=dict)

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        return {
            "scenarios": self.scenarios,
            "searched": {name: plain(value) for name, (value, _) in self.searched.items()},
            "fresh": {
                name: {"value": plain(told.value), "low": plain(told.low), "high": plain(told.high)}
                for name, told in self.fresh.items()
            },
        }
