"""The values that a spaced or catalogue variable may take."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

__all__ = ["AllowedValues"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class AllowedValues:
    """`first` + k · `spacing` for 0 <= k < `count`; or those `listed` (count,), ascending, told apart by `spacing`. The
    numbers of a choice are unordered: each value is as near as any other. Those that are `apart` have nothing between
    them that a formula has a value for: words, and what is looked up."""

    first: float
    spacing: float
    count: int
    listed: FloatArray | None = None
    is_unordered: bool = False
    is_apart: bool = False

    def indices(self, values: FloatArray) -> FloatArray:
        """Return the numbers, as floats, of the members nearest to values of any shape; a NaN counts as the first."""
        values = np.nan_to_num(np.asarray(values, dtype=float), nan=self.first)
        if self.listed is None:
            found: FloatArray = np.clip(np.rint((values - self.first) / self.spacing), 0, self.count - 1)
            return found
        middles = 0.5 * (self.listed[1:] + self.listed[:-1])
        return np.searchsorted(middles, values).astype(float)

    def values(self, indices: FloatArray | NDArray[np.int64]) -> FloatArray:
        """Return the members of these numbers, which are rounded and kept among them. `indices` and result have any one
        shape."""
        places = np.clip(np.rint(indices), 0, self.count - 1)
        if self.listed is None:
            return np.asarray(self.first + places * self.spacing, dtype=np.float64)
        return self.listed[places.astype(np.int64)]

    def nearest(self, values: FloatArray) -> FloatArray:
        """Return the members nearest to values of any shape."""
        return self.values(self.indices(values))

    def all(self) -> FloatArray:
        """Return all members (count,)."""
        return self.values(np.arange(self.count))

    def over(self, size: float) -> AllowedValues:
        """Return the values over a size."""
        listed = None if self.listed is None else self.listed / size
        return AllowedValues(
            self.first / size, self.spacing / size, self.count, listed, self.is_unordered, self.is_apart
        )
