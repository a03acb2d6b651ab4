"""Where formulas change their branch near a design."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.formula import Kink, fixed_nodes

if TYPE_CHECKING:
    from ilvren.evaluate.as_written import AsWritten

__all__ = ["kinks_near"]

FloatArray = NDArray[np.float64]


def kinks_near(written: AsWritten, point: FloatArray, radii: FloatArray) -> list[Kink]:
    """Return the operations that change their branch within `radii` (n,) of a design, each variable moved
    alone and all together; empty for formulas without branches."""
    here = {kink.node: kink for kink in _branches(written, point)}
    if not here:
        return []
    found = {node for node, kink in here.items() if np.any(np.equal(kink.gap, 0.0))}
    for move in _moves(radii):
        for kink in _branches(written, point + move):
            before = here.get(kink.node)
            if before is not None and np.any(~(np.multiply(kink.gap, before.gap) > 0.0)):
                found.add(kink.node)
    return [here[node] for node in sorted(found)]


def _branches(written: AsWritten, point: FloatArray) -> list[Kink]:
    problem, roots = written.problem, written.value_roots
    fixed = written.kept("fixed", lambda: fixed_nodes(problem.graph, problem.graph.reachable(roots)))
    found: tuple[Kink, ...] = problem.entry_values(roots, point, written.calls).kinks
    return [kink for kink in found if kink.node not in fixed]


def _moves(radii: FloatArray) -> list[FloatArray]:
    """Return each variable's move alone, both ways, and all together; of very many variables only the latter."""
    moves = [radii, -radii]
    if len(radii) <= 1000:
        for place, radius in enumerate(radii):
            unit = np.zeros(len(radii))
            unit[place] = radius
            moves += [unit, -unit]
    return moves
