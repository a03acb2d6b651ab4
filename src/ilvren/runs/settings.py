"""Everything about a run that is not the problem."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import asdict, field, replace

from ilvren.errors import RequestError
from ilvren.records import dataclass
from ilvren.runs.sources import check_source

__all__ = ["AUTOMATIC", "DEFAULT_EVALUATIONS", "GLOBAL", "Settings"]

# What suits the problem is taken.
AUTOMATIC = "automatic"
# Asks for a search of the whole box by whatever suits the problem.
GLOBAL = "global"

# Enough for every problem of this size class; a run that needs more says so and can be resumed.
DEFAULT_EVALUATIONS = 100_000
# A second look of so many times the usual work takes hours.
MOST_SECOND_LOOK = 10_000.0


@dataclass(frozen=True, kw_only=True)
class Settings:
    """`tolerance` and `feasibility` as the page on numbers defines them; `target` an objective as written;
    `evaluations`, `iterations`, `seconds` limits, None for none;
    `patience` the most evaluations without progress; `options` of the method by name; `derivatives` where they are
    taken from (`runs.sources`); `second_look` the scale of the work that a second look may take, 0 for none, None for
    the usual: 1 where no method is named, else 0; `model_seconds` is no wish but measured at the start of a run: what
    one design of its models takes, as a power of ten; `fresh`: models are called anew, whatever other runs were
    answered. Of several objectives: `points` of the front, None for the usual number; `reference_point` {objective:
    value as written} that hypervolumes are measured from; `ends_first`: the best of each objective alone comes first.
    Raises RequestError for numbers without meaning."""

    method: str
    options: Mapping[str, str | float | bool] = field(default_factory=dict)
    tolerance: float = 1e-6
    feasibility: float = 1e-6
    target: float | None = None
    evaluations: int | None = DEFAULT_EVALUATIONS
    iterations: int | None = None
    seconds: float | None = None
    seed: int = 0
    scaling: bool = True
    derivatives: str = "automatic"
    label: str | None = None
    patience: int | None = None
    second_look: float | None = None
    model_seconds: float | None = None
    fresh: bool = False
    points: int | None = None
    reference_point: Mapping[str, float] | None = None
    ends_first: bool = False

    def __post_init__(self) -> None:
        for name in ("tolerance", "feasibility"):
            if not 0.0 < getattr(self, name) < 1.0:
                raise RequestError(f"--{name} must lie between 0 and 1, not {getattr(self, name):g}")
        for name in ("evaluations", "iterations", "patience", "points"):
            limit = getattr(self, name)
            if limit is not None and limit < 1:
                raise RequestError(f"--{name} must be at least 1, not {limit}")
        if self.seconds is not None and not 0.0 < self.seconds < math.inf:
            raise RequestError(f"--seconds must be a number above 0, not {self.seconds:g}")
        if self.target is not None and not math.isfinite(self.target):
            raise RequestError(f"--target must be a finite number, not {self.target:g}")
        if self.second_look is not None and not 0.0 <= self.second_look <= MOST_SECOND_LOOK:
            raise RequestError(f"--second-look must lie between 0 and {MOST_SECOND_LOOK:g}, not {self.second_look:g}")
        check_source(self.derivatives)
        if self.seed < 0:
            raise RequestError(f"--seed must be at least 0, not {self.seed}")

    @property
    def look_scale(self) -> float:
        """Return the scale of the work that a second look may take, 0 for none."""
        if self.second_look is not None:
            return self.second_look
        return 1.0 if self.method == AUTOMATIC else 0.0

    def of_many(self) -> Settings:
        """Return the settings of a run that is one of several: without a second look, unless one is asked for."""
        return self if self.second_look is not None else replace(self, second_look=0.0)

    def to_dict(self) -> dict[str, object]:
        """Return the settings as plain values."""
        return asdict(self)

    @classmethod
    def from_dict(cls, values: Mapping[str, object]) -> Settings:
        """Return settings from `to_dict`'s values."""
        return cls(**values)  # type: ignore[arg-type]
