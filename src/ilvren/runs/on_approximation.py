"""What a run on an approximation is asked to search on, and what it learns from."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

__all__ = ["On", "Truly"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Truly:
    """A design (n,) that was evaluated truly, with the values {name: value} of what formulas and models gave there."""

    point: FloatArray
    values: Mapping[str, Any]
    taken: Mapping[str, Mapping[str, float]]


@dataclass(frozen=True)
class On:
    """An approximation to search on: its `name`, the `documents` of the rounds so far, how many `rounds` there may be,
    the `designs` (k n,) that searches have ended at, one or more from each, and what learns from designs evaluated
    since (None: there is one round)."""

    name: str
    documents: tuple[str, ...]
    rounds: int = 1
    designs: tuple[tuple[float, ...], ...] = ()
    relearn: Callable[[Sequence[Truly]], str] | None = field(default=None, repr=False)

    def record(self) -> dict[str, Any]:
        """Return what is recorded of it."""
        return {
            "name": self.name,
            "documents": list(self.documents),
            "rounds": self.rounds,
            "designs": [list(design) for design in self.designs],
        }

    @classmethod
    def recalled(cls, kept: Mapping[str, Any], relearn: Callable[[Sequence[Truly]], str] | None = None) -> On:
        """Return what `record` was made of."""
        designs = tuple(tuple(design) for design in kept["designs"])
        return cls(str(kept["name"]), tuple(kept["documents"]), int(kept["rounds"]), designs, relearn)
