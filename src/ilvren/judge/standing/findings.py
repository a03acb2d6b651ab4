"""What a verdict may tell beside its checks: what a design is worth, how exactly it must be made, how it is rounded."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field

from ilvren.records import dataclass
from ilvren.runs import LimitState, plain

__all__ = ["LimitWorth", "ParameterResponse", "Rounding", "ScatterWorth", "Tolerance", "Worth"]


@dataclass(frozen=True)
class LimitWorth:
    """An active limit: its `price`; relaxing it by `amount` changes the objective as written by `predicted` to first
    order, by `found` when solved again (NaN where that failed); the price is good for about `valid` (infinite where no
    end was found), then `ends` happens."""

    state: LimitState
    amount: float
    predicted: float
    found: float
    valid: float
    ends: str

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        return {
            "name": self.state.name,
            "side": self.state.side,
            "price": self.state.price,
            "relaxed_by": plain(self.amount),
            "predicted_change": plain(self.predicted),
            "change_found": plain(self.found),
            "valid_up_to": plain(self.valid),
            "ends": self.ends,
        }


@dataclass(frozen=True)
class ParameterResponse:
    """How the optimum follows a parameter: `slope` of the objective as written, `variables` (name → dx/dp); the change
    for 1 % more, `predicted` to first order and `found` when solved again."""

    name: str
    value: float
    unit: str
    slope: float
    variables: Mapping[str, float]
    predicted: float
    found: float

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        return {
            "name": self.name,
            "value": self.value,
            "slope": plain(self.slope),
            "variables": {name: plain(value) for name, value in self.variables.items()},
            "predicted_change": plain(self.predicted),
            "change_found": plain(self.found),
        }


@dataclass(frozen=True)
class Tolerance:
    """How far a variable can move alone, down and up, and what stops it each way."""

    name: str
    value: float
    unit: str
    down: float
    up: float
    stopped_down: str
    stopped_up: str

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        return {
            "name": self.name,
            "value": self.value,
            "down": plain(self.down),
            "up": plain(self.up),
            "stopped_down": self.stopped_down,
            "stopped_up": self.stopped_up,
        }


@dataclass(frozen=True)
class ScatterWorth:
    """What scatters, its `deviation` (of a vector the largest), and how the objective as written changes when its width
    is halved: `predicted` to first order, `found` when solved again (NaN where that was not done or failed); `wider` by
    a tenth it changes so, to first order."""

    name: str
    deviation: float
    unit: str
    predicted: float
    found: float
    wider: float

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        return {
            "name": self.name,
            "deviation": plain(self.deviation),
            "halved_predicted_change": plain(self.predicted),
            "halved_change_found": plain(self.found),
            "tenth_wider_change": plain(self.wider),
        }


@dataclass(frozen=True, kw_only=True)
class MemberWorth:
    """What a variable `name`, which stands at `value`, would bring at a neighbouring `member` (`side`: "next lower" or
    "next higher"), all else chosen anew: the `objective` as written, None where nothing was found, as `note` says."""

    name: str
    value: float
    member: float
    side: str
    objective: float | None
    note: str = ""

    def to_dict(self) -> dict[str, object]:
        """Return the JSON document."""
        return {
            "name": self.name,
            "value": plain(self.value),
            "member": plain(self.member),
            "side": self.side,
            "objective": None if self.objective is None else plain(self.objective),
            "note": self.note or None,
        }


@dataclass(frozen=True)
class Worth:
    """All of it; `notes` say what could not be had."""

    limits: tuple[LimitWorth, ...] = ()
    parameters: tuple[ParameterResponse, ...] = ()
    tolerances: tuple[Tolerance, ...] = ()
    notes: tuple[str, ...] = field(default=())
    scatter: tuple[ScatterWorth, ...] = ()
    members: tuple[MemberWorth, ...] = ()

    def to_dict(self) -> dict[str, object]:
        """Return the JSON document."""
        return {
            "limits": [item.to_dict() for item in self.limits],
            "parameters": [item.to_dict() for item in self.parameters],
            "tolerances": [item.to_dict() for item in self.tolerances],
            "notes": list(self.notes),
            **({"members": [item.to_dict() for item in self.members]} if self.members else {}),
            **({"scatter": [item.to_dict() for item in self.scatter]} if self.scatter else {}),
        }


@dataclass(frozen=True)
class Rounding:
    """The best design found on the spacings: `variables` (name → value), its `objective` as written and `cost` above
    the exact design (positive: worse), None throughout where none is feasible. `rounded`
    tells whether mere rounding was feasible, and its objective. `tried` designs."""

    spacings: Mapping[str, float]
    variables: Mapping[str, float]
    objective: float | None
    cost: float | None
    rounded: float | None
    tried: int

    def to_dict(self) -> dict[str, object]:
        """Return the JSON document."""
        return {
            "spacings": dict(self.spacings),
            "variables": dict(self.variables) or None,
            "objective": None if self.objective is None else plain(self.objective),
            "cost": None if self.cost is None else plain(self.cost),
            "rounded_objective": None if self.rounded is None else plain(self.rounded),
            "tried": self.tried,
        }
