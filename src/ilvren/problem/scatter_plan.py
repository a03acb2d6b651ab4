"""How functions of what scatters are looked at: how many scenarios, how smooth, or counted. A run changes it from stage
to stage, and records it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field
from typing import Any

from ilvren.errors import RequestError
from ilvren.records import dataclass

__all__ = ["AS_USUAL", "DEFAULT_SCENARIOS", "ScatterPlan", "checked_scenarios"]

DEFAULT_SCENARIOS, MOST_SCENARIOS = 1_000, 1_000_000


@dataclass(frozen=True)
class ScatterPlan:
    """`scenarios` asked for, of which a stage looks at `count`, made from `seed`; widths are `sharpness` times the
    deviation of what they smooth. `is_early`: chances have slopes everywhere; `is_counted`: nothing is smooth. `shifts`
    {call: what is added to it}, so that a smooth value is the counted one where it was last counted;
    `points` {call: the design point of a reliability index}."""

    scenarios: int = DEFAULT_SCENARIOS
    seed: int = 0
    part: int = 1
    sharpness: float = 0.04
    is_early: bool = False
    is_counted: bool = False
    shifts: Mapping[str, Any] = field(default_factory=dict)
    points: Mapping[str, Any] = field(default_factory=dict)

    @property
    def count(self) -> int:
        """Return how many scenarios there are, a multiple of ten."""
        return 10 * max(1, -(-self.scenarios // (10 * self.part)))

    def to_dict(self) -> dict[str, Any]:
        """Return plain values."""
        return {
            "scenarios": self.scenarios,
            "seed": self.seed,
            "part": self.part,
            "sharpness": self.sharpness,
            "is_early": self.is_early,
            "is_counted": self.is_counted,
            "shifts": dict(self.shifts),
            "points": dict(self.points),
        }

    @classmethod
    def from_dict(cls, given: Mapping[str, Any]) -> ScatterPlan:
        """Return the plan of `to_dict`."""
        return cls(**given)


AS_USUAL = ScatterPlan()


def checked_scenarios(given: int | None) -> ScatterPlan | None:
    """Return the plan with so many scenarios, None for None. Raises RequestError for too few or too many."""
    if given is None:
        return None
    if not 10 <= given <= MOST_SCENARIOS:
        raise RequestError(f"--scenarios lies between 10 and {MOST_SCENARIOS:,}, not {given:,}")
    return ScatterPlan(given)
