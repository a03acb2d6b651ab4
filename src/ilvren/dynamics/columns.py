"""Where what a design gives to a simulation stands in one flat row."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

__all__ = ["Columns"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Columns:
    """Where what a design gives stands in one flat row of `count`: the outer values, the pieces of each control
    (pieces, elements), first values, lags, moving moments, each moving so many times as its column. −1 for what nothing
    moves."""

    count: int
    outers: NDArray[np.int64]
    pieces: tuple[NDArray[np.int64], ...]
    first: NDArray[np.int64]
    lags: NDArray[np.int64]
    moments: NDArray[np.int64]
    often: FloatArray
