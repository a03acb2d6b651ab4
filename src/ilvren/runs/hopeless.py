"""When a run need not go on: its limits are proved to exclude each other.

A quick proof is tried before the method begins, where the start misses a limit; a longer one when the least violation
seen has not fallen for some time, and a thorough one when the run ends without a feasible design. All depend on the
problem and on counts alone.
"""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    from ilvren.problem import Problem, RowBlock
    from ilvren.proofs import Conflict

__all__ = ["Watch"]

# Elements of all nodes, and of all of them times the rounds that they may need, up to which a proof is quick, or tried.
QUICK_ELEMENTS, MOST_ELEMENTS = 2_000, 5_000_000
# Elements of intervals that a proof during the run, and one at its end, may look at.
LOOKED_AT_MEANWHILE, LOOKED_AT_LAST = 20_000_000, 60_000_000
# Iterations without a violation that is lower by this share, after which it counts as stalled.
PATIENCE, LOWER = 30, 0.9


class Watch:
    """Watches the violation of one run; `conflict` is what has been proved, for limits wider by the `misses` (m,) that
    count as feasible."""

    def __init__(self, problem: Problem, misses: NDArray[np.float64]) -> None:
        self._problem = problem
        self._misses = misses
        self.conflict: Conflict | None = None
        self._tried = 0
        self._mark, self._idle = float("inf"), 0

    def at_start(self, violation: float, feasibility: float) -> Conflict | None:
        """Return a conflict that is quickly proved, where the start misses a limit."""
        if violation <= feasibility or self._elements() > QUICK_ELEMENTS:
            return None
        return self._proved(LOOKED_AT_MEANWHILE)

    def after(self, least_violation: float) -> Conflict | None:
        """Return a conflict, looked for once, where the least violation has not fallen for long; to be asked after each
        iteration while no design is feasible."""
        if least_violation < LOWER * self._mark:
            self._mark, self._idle = least_violation, 0
            return None
        self._idle += 1
        return self._proved(LOOKED_AT_MEANWHILE) if self._idle == PATIENCE else None

    def at_end(self, *, is_thorough: bool) -> Conflict | None:
        """Return a conflict where the run has found no feasible design."""
        return self._proved(LOOKED_AT_LAST if is_thorough else LOOKED_AT_MEANWHILE)

    def _proved(self, most_looked_at: int) -> Conflict | None:
        from ilvren.proofs import proved_conflict

        if self.conflict is None and self._tried < most_looked_at and self._elements() <= MOST_ELEMENTS:
            self._tried = most_looked_at
            wider = tuple(_wider(block, self._misses) for block in self._problem.row_blocks)
            self.conflict = proved_conflict(replace(self._problem, row_blocks=wider), most_looked_at)
        return self.conflict

    def _elements(self) -> int:
        graph = self._problem.graph
        return sum(graph.nodes[n].size for n in graph.reachable([block.node for block in self._problem.row_blocks]))


def _wider(block: RowBlock, misses: NDArray[np.float64]) -> RowBlock:
    own = misses[block.first : block.first + block.size]
    return replace(block, lower=block.lower - own, upper=block.upper + own)
