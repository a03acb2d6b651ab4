"""How long a figure may compute: grids begin coarse and are filled in while the measured cost of designs allows it."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence

from numpy.typing import NDArray

__all__ = ["Budget", "filled"]

# A figure computes about so long; what costs nothing to speak of is never cut.
MOST_SECONDS = 10.0


class Budget:
    """The seconds that evaluating has taken, and for how many designs."""

    def __init__(self, seconds: float = MOST_SECONDS) -> None:
        self.seconds, self.spent, self.designs = seconds, 0.0, 0

    @property
    def is_used_up(self) -> bool:
        """Return whether it has taken longer than it may."""
        return self.spent > self.seconds

    @property
    def each(self) -> float:
        """Return the seconds that a design takes."""
        return self.spent / self.designs if self.designs else 0.0

    def measured(self, work: Callable[[], NDArray], designs: int) -> NDArray:  # type: ignore[type-arg]
        """Return what `work` gives for so many designs, its time being counted."""
        began = time.perf_counter()
        found = work()
        self.spent += time.perf_counter() - began
        self.designs += designs
        return found


def filled(budget: Budget, sizes: Sequence[int], counted: Callable[[int], int], look: Callable[[int], object]) -> int:
    """Return the finest of some grids, coarse to fine, that time allows: `look` computes one, which has `counted`
    designs, those of a coarser one being known already."""
    for size, finer in zip(sizes, [*sizes[1:], 0], strict=True):
        look(size)
        if not finer or budget.spent + budget.each * (counted(finer) - counted(size)) > budget.seconds:
            return size
    return sizes[-1]
