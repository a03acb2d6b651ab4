"""What surfaces said of designs along a run, against what came of it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass
from ilvren.runs import plain

__all__ = ["Foretellings"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Foretellings:
    """Predictions in their order: the `evaluations` made by then (k,), what was `said` of the objective, the `spread`
    told with it (NaN where none was), and the `actual` value, all as written; `surface` is the last one in words."""

    evaluations: FloatArray
    said: FloatArray
    spread: FloatArray
    actual: FloatArray
    surface: str

    @classmethod
    def of(cls, each: Sequence[tuple[float, float, float, float]], surface: str) -> Foretellings:
        """Return the predictions of rows (evaluations, said, spread, actual)."""
        evaluations, said, spread, actual = np.array(each, dtype=float).T
        return cls(evaluations, said, spread, actual, surface)

    @property
    def errors(self) -> FloatArray:
        """Return actual − said (k,)."""
        return self.actual - self.said

    @property
    def typical(self) -> tuple[float, float]:
        """Return the median |error| of the first and of the second half."""
        half = (len(self.said) + 1) // 2
        first, second = np.abs(self.errors[:half]), np.abs(self.errors[half:])
        return _median(first), _median(second)

    @property
    def share_within(self) -> float | None:
        """Return the share of those with a spread whose error is no larger than twice that; None without any."""
        told = np.isfinite(self.spread) & np.isfinite(self.errors)
        if not told.any():
            return None
        return float(np.mean(np.abs(self.errors[told]) <= 2.0 * self.spread[told]))

    def to_dict(self) -> dict[str, object]:
        """Return its part of the JSON document."""
        first, second = self.typical
        return {
            "count": len(self.said),
            "typical_error": {"first_half": plain(first), "second_half": plain(second)},
            "within_twice_told": self.share_within,
            "surface": self.surface,
            "along": [
                {"evaluations": int(n), "predicted": plain(said), "spread": plain(spread), "actual": plain(actual)}
                for n, said, spread, actual in zip(self.evaluations, self.said, self.spread, self.actual, strict=True)
            ],
        }


def _median(values: FloatArray) -> float:
    finite = values[np.isfinite(values)]
    return float(np.median(finite)) if len(finite) else float("nan")
