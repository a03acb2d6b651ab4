"""Where steps end: chosen once by error control along one design, then kept for all designs nearby."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

__all__ = ["Mesh"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Mesh:
    """Ends of the steps as shares of the time (m + 1,), from 0 to 1; `grid` the places of the moments at which states
    are told; `samples` {step: flat numbers of the states that jump at its start}; `breaks` the steps at whose start a
    fixed value of time changes its branch; `sizes` (n,) of the states along the design that the steps were
    chosen for, those that are `declared` for all designs; `forcing` (m, s, forcing) at the stages."""

    taus: FloatArray
    grid: NDArray[np.int64]
    samples: Mapping[int, tuple[int, ...]]
    breaks: frozenset[int]
    sizes: FloatArray
    declared: NDArray[np.bool_]
    is_explicit: bool = True
    forcing: FloatArray | None = None

    @cached_property
    def forcing_rows(self) -> list[list[list[float]]]:
        """Return the forcing as plain numbers."""
        assert self.forcing is not None
        found: list[list[list[float]]] = self.forcing.tolist()
        return found

    @cached_property
    def longest(self) -> float:
        """Return the longest step."""
        return float(np.diff(self.taus).max())

    def sizes_of(self, largest: FloatArray, least: float = 0.0) -> FloatArray:
        """Return the states' sizes (…, n) along a design, from the largest values that they take on it; at least so
        large a share of the mesh's own."""
        own = np.where(largest > 0.0, largest, self.sizes)
        return np.where(self.declared, self.sizes, np.fmax(own, least * self.sizes))

    def halved(self) -> Mesh:
        """Return the mesh with every step in two halves; without forcing."""
        taus = np.empty(2 * len(self.taus) - 1)
        taus[::2] = self.taus
        taus[1::2] = 0.5 * (self.taus[:-1] + self.taus[1:])
        return replace(
            self,
            taus=taus,
            grid=2 * self.grid,
            samples={2 * step: states for step, states in self.samples.items()},
            breaks=frozenset(2 * step for step in self.breaks),
            forcing=None,
        )
