"""What an approximation of designs on record is, and says of itself: outputs, how wrong they are, the open form."""

from __future__ import annotations

import json
import math
from collections.abc import Mapping
from dataclasses import field
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.approximate import (
    Approximated,
    Failing,
    failing_to,
    surface_to,
)
from ilvren.models.approximation import FORM, LearntInput
from ilvren.problem import Problem
from ilvren.records import dataclass

if TYPE_CHECKING:
    pass

__all__ = ["Agreement", "Learned", "LearnedGroup", "LearnedOutput", "Tested"]

FloatArray = NDArray[np.float64]

# The share of points that the intervals of an agreement hold, and the points that are kept of it.
SHARE, MOST_KEPT = 0.9, 2000


@dataclass(frozen=True)
class Tested:
    """How an approximation fared at points that were never fitted: predicted and actual (k,), and as in `Told`."""

    predicted: FloatArray
    actual: FloatArray
    error: float
    explained: float
    largest: float
    covered: float


@dataclass(frozen=True)
class LearnedOutput:
    """One output: its approximation, what was fitted (`x` (k, n), `y` (k,), `addresses`), the share of each input in
    its variance with all interactions, and how it fared at points kept for a test."""

    name: str
    unit: str
    approximated: Approximated
    x: FloatArray
    y: FloatArray
    addresses: tuple[str, ...]
    matters: Mapping[str, float]
    tested: Tested | None = None
    limits: tuple[float, float] | None = None

    def to_dict(self) -> dict[str, Any]:
        """Return what is told of it."""
        told, tested = self.approximated.told, self.tested
        return {
            "kind": self.approximated.surface.kind,
            "terms": self.approximated.surface.terms,
            "points": len(self.y),
            "error": told.error,
            "explained": told.explained,
            "largest": told.largest,
            "largest_at": self.addresses[told.where],
            "deviation": float(self.y.std()),
            "covered": {str(share): value for share, value in told.covered.items()},
            "matters": dict(self.matters),
            "considered": dict(self.approximated.considered),
            "unit": self.unit,
            "tested": None
            if tested is None
            else {
                "points": len(tested.actual),
                "error": tested.error,
                "explained": tested.explained,
                "largest": tested.largest,
                "covered": tested.covered,
            },
        }

    @property
    def agreement(self) -> Agreement:
        """Return what it says of points left out, and what is so."""
        told, tested, none = self.approximated.told, self.tested, np.zeros(0)
        some = np.unique(np.linspace(0, len(self.y) - 1, MOST_KEPT).astype(int))
        quantile, spreads = told.quantile[SHARE], told.spreads[some]  # infinite where too few points tell it
        return Agreement(
            self.unit,
            self.approximated.surface.kind,
            told.error,
            len(self.y),
            self.y[some],
            (self.y + told.errors)[some],
            quantile * spreads if math.isfinite(quantile) else np.full(len(some), np.inf),
            none if tested is None else tested.actual,
            none if tested is None else tested.predicted,
        )

    def document(self) -> dict[str, Any]:
        """Return what others need to evaluate it."""
        quantile = {str(share): q for share, q in self.approximated.told.quantile.items() if math.isfinite(q)}
        limits = None if self.limits is None else [_plain(limit) for limit in self.limits]
        return {
            **self.to_dict(),
            "surface": surface_to(self.approximated.surface),
            "intervals": quantile,
            **({"limits": limits} if limits is not None else {}),
        }


@dataclass(frozen=True)
class Agreement:
    """What an output's surface `said` (k,) of points that had no share in it, the half width of its 90 % intervals, and
    the `actual` values; the same of points never fitted. `unit`, `kind` and `error` are the output's, `of` the
    points that there were, of which so many as MOST_KEPT are kept."""

    unit: str
    kind: str
    error: float
    of: int
    actual: FloatArray
    said: FloatArray
    half: FloatArray
    tested_actual: FloatArray
    tested_said: FloatArray

    def to_dict(self) -> dict[str, Any]:
        """Return its plain values; those that are infinite as None."""
        arrays = {name: [_plain(float(v)) for v in getattr(self, name)] for name in _ARRAYS}
        return {"unit": self.unit, "kind": self.kind, "error": self.error, "of": self.of, **arrays}

    @classmethod
    def from_dict(cls, kept: Mapping[str, Any]) -> Agreement:
        """Return what `to_dict` was made of."""
        arrays = [np.array([math.inf if v is None else v for v in kept[name]], dtype=float) for name in _ARRAYS]
        return cls(str(kept["unit"]), str(kept["kind"]), float(kept["error"]), int(kept["of"]), *arrays)


_ARRAYS = ("actual", "said", "half", "tested_actual", "tested_said")


@dataclass(frozen=True)
class LearnedGroup:
    """The outputs of one model, or of formulas (`model` ""), over `inputs`; `held` had one value in all points;
    `failed` points gave no values."""

    model: str
    inputs: tuple[LearntInput, ...]
    held: tuple[LearntInput, ...]
    outputs: tuple[LearnedOutput, ...]
    failed: int = 0
    failing: Failing | None = None


@dataclass(frozen=True)
class Learned:
    """What was learnt from `runs`: groups, what is to be said, and the standard deviations of all values, by name."""

    problem: Problem
    runs: tuple[str, ...]
    groups: tuple[LearnedGroup, ...]
    notes: tuple[str, ...]
    deviations: Mapping[str, float] = field(default_factory=dict)
    facts: Mapping[str, Any] = field(default_factory=dict)

    @property
    def outputs(self) -> dict[str, LearnedOutput]:
        """Return {full name: output} of all groups."""
        return {
            f"{group.model}.{output.name}" if group.model else output.name: output
            for group in self.groups
            for output in group.outputs
        }

    def document(self, name: str) -> str:
        """Return the document as JSON."""
        return json.dumps(
            {
                "form": FORM,
                "approximation": name,
                "title": self.problem.title,
                "runs": list(self.runs),
                "deviations": dict(self.deviations),
                "groups": [
                    {
                        "model": group.model,
                        "inputs": [_input(item) for item in group.inputs],
                        "held": [_input(item) for item in group.held],
                        **({"failing": failing_to(group.failing)} if group.failing is not None else {}),
                        "outputs": {output.name: output.document() for output in group.outputs},
                    }
                    for group in self.groups
                ],
            }
        )

    def summary(self, name: str) -> dict[str, Any]:
        """Return what is told of all outputs: `approximate --json`."""
        region = {item.name: [item.lower, item.upper] for group in self.groups for item in (*group.inputs, *group.held)}
        return {
            "approximation": name,
            "runs": list(self.runs),
            "region": region,
            "of": {full: output.to_dict() for full, output in self.outputs.items()},
            "notes": list(self.notes),
        }


def _input(item: LearntInput) -> dict[str, Any]:
    return {"name": item.name, "lower": item.lower, "upper": item.upper, "unit": item.unit}


def _plain(value: float) -> float | None:
    return value if math.isfinite(value) else None
