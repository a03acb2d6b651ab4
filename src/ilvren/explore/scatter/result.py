"""What is told of a design that scatters."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import field
from typing import TYPE_CHECKING, Any

from ilvren.notebooks import InNotebooks
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.explore.scatter.case import Output
    from ilvren.scatter import Interval

__all__ = ["LEVELS", "OutputScatter", "RareMiss", "ScatterResult", "WorstScenario"]

# Shares of scenarios whose quantiles are told.
LEVELS = (0.01, 0.05, 0.25, 0.5, 0.75, 0.95, 0.99)


@dataclass(frozen=True, kw_only=True)
class RareMiss:
    """A limit's reliability: `index` β, its `share` Φ(−β) to first order, the design point as {scattered name: value}
    (of the elements that move most), and the share by importance sampling with its interval, None where that was not
    made. `is_found` is false where no design point was found: then nothing is claimed."""

    limit: str
    side: str
    index: float
    share: float
    point: Mapping[str, float]
    moved: Mapping[str, float]
    sampled: Interval | None
    evaluations: int
    is_found: bool
    points: int = 1


@dataclass(frozen=True, kw_only=True)
class OutputScatter:
    """One quantity: nominal value, mean and deviation with intervals, quantiles {share: value}; of a limit the share of
    misses, and its `reserve`, how many deviations its mean lies within it; `linear` {"mean", "deviation", "misses"} by
    slopes at the design, `rare` the same limit by its design point; `invalid` scenarios without a value."""

    output: Output
    nominal: float
    mean: Interval | None = None
    deviation: Interval | None = None
    quantiles: Mapping[str, float] = field(default_factory=dict)
    misses: Interval | None = None
    reserve: float | None = None
    linear: Mapping[str, float] = field(default_factory=dict)
    rare: RareMiss | None = None
    invalid: int = 0

    def to_dict(self) -> dict[str, Any]:
        """Return plain values."""
        found: dict[str, Any] = {"nominal": _plain(self.nominal)}
        if self.mean is not None:
            found["mean"] = _plain(self.mean.value)
            found["mean_low"], found["mean_high"] = _plain(self.mean.low), _plain(self.mean.high)
        if self.deviation is not None:
            found["deviation"] = _plain(self.deviation.value)
        if self.quantiles:
            found["quantiles"] = {level: _plain(value) for level, value in self.quantiles.items()}
        if self.output.kind == "constraint":
            found |= {"lower": _plain(self.output.lower), "upper": _plain(self.output.upper)}
            found["reserve"] = None if self.reserve is None else _plain(self.reserve)
        if self.misses is not None:
            found["misses"] = _interval(self.misses)
        if self.linear:
            found["linear"] = {name: _plain(value) for name, value in self.linear.items()}
        if self.rare is not None:
            rare = self.rare
            found["reliability"] = {
                "index": _plain(rare.index) if rare.is_found else None,
                "misses": _plain(rare.share) if rare.is_found else None,
                "sampled": None if rare.sampled is None else _interval(rare.sampled),
                "point": dict(rare.point),
                "side": rare.side,
                "evaluations": rare.evaluations,
            }
        if self.invalid:
            found["invalid"] = self.invalid
        return found


@dataclass(frozen=True)
class WorstScenario:
    """A scenario that misses a limit by most: of which limit, its value there, the miss over the limit's size, and what
    caused it {scattered name: (value, deviations from its mean, share of the limit's departure)}, most first."""

    limit: str
    value: float
    miss: float
    causes: tuple[tuple[str, float, float, float], ...]


@dataclass(frozen=True, kw_only=True)
class ScatterResult(InNotebooks):
    """How a design fares: `scenarios` of it, each quantity, the share in which everything holds, what drives what
    {output: {scattered name: (first, total)}} and how much of the variance that tells, the worst scenarios, what is to
    be said. `values` {output: (k,)} are the scenarios' values, `inputs` what scattered there, `run` where they are."""

    design: str
    scenarios: int
    ways: tuple[str, ...]
    of: tuple[OutputScatter, ...]
    works: Interval | None
    drivers: Mapping[str, Mapping[str, tuple[float, float]]]
    worst: tuple[WorstScenario, ...]
    notes: tuple[str, ...]
    scattered: tuple[tuple[str, str, float, float, str], ...]
    run: str | None = None
    evaluations: int = 0
    values: Mapping[str, Any] = field(default_factory=dict, repr=False)
    inputs: Mapping[str, Any] = field(default_factory=dict, repr=False)
    left_out: int = 0

    def to_dict(self) -> dict[str, Any]:
        """Return the JSON document."""
        return {
            "design": self.design,
            "scenarios": self.scenarios,
            "ways": list(self.ways),
            "evaluations": self.evaluations,
            "run": self.run,
            "scattered": {
                name: {"law": law, "value": _plain(value), "deviation": _plain(deviation), "unit": unit}
                for name, law, value, deviation, unit in self.scattered
            },
            "of": {item.output.name: item.to_dict() for item in self.of},
            "works": None if self.works is None else _interval(self.works),
            "drivers": {
                name: {scattered: _plain(total) for scattered, (_, total) in own.items()}
                for name, own in self.drivers.items()
            },
            "drivers_alone": {
                name: {scattered: _plain(first) for scattered, (first, _) in own.items()}
                for name, own in self.drivers.items()
            },
            "worst": [
                {
                    "limit": item.limit,
                    "value": _plain(item.value),
                    "miss": _plain(item.miss),
                    "causes": [
                        {"name": name, "value": _plain(value), "deviations": _plain(far), "share": _plain(share)}
                        for name, value, far, share in item.causes
                    ],
                }
                for item in self.worst
            ],
            "notes": list(self.notes),
            "left_out": self.left_out,
        }


def _plain(value: float) -> float | None:
    return float(value) if math.isfinite(value) else None


def _interval(given: Interval) -> dict[str, float | None]:
    return {"share": _plain(given.value), "low": _plain(given.low), "high": _plain(given.high)}
