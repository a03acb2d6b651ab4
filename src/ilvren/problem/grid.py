"""Spaced and catalogue variables: the nearest designs that their members allow."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import AllowedValues
from ilvren.problem.variables import GRID_TOLERANCE, Variable

if TYPE_CHECKING:
    from ilvren.problem.model import Problem

__all__ = ["ValueGrid", "allowed_values_of", "looked_up"]

FloatArray = NDArray[np.float64]

# Members of a spaced variable without an upper bound: beyond this, numbers no longer tell neighbours apart.
MOST_MEMBERS = 2**52


def allowed_values_of(variable: Variable) -> AllowedValues:
    """Return the members of a spaced or catalogue variable."""
    if variable.catalogue is not None:
        listed = np.array(variable.catalogue, dtype=float)
        least = float(np.diff(listed).min()) if len(listed) > 1 else max(abs(float(listed[0])), 1.0)
        return AllowedValues(float(listed[0]), least, len(listed), listed, bool(variable.words), bool(variable.words))
    assert variable.spacing is not None
    count = MOST_MEMBERS
    if math.isfinite(variable.upper):
        count = int(min(count, math.floor((variable.upper - variable.lower) / variable.spacing + GRID_TOLERANCE) + 1))
    return AllowedValues(variable.lower, variable.spacing, count)


def looked_up(problem: Problem) -> frozenset[int]:
    """Return the places of the elements that decide what a formula looks up: between their members it has no value."""
    graph = problem.graph
    roots = [row.node for row in problem.row_blocks] + [item.node for item in problem.objectives]
    nodes = (graph.nodes[number] for number in graph.reachable(roots))
    keys = [node.operands[0] for node in nodes if node.operation == "lookup"]
    blocks = [problem.blocks[place] for place in graph.variables_of(keys)] if keys else []
    return frozenset(place for block in blocks for place in range(block.first, block.first + block.size))


class ValueGrid:
    """The members of all spaced and catalogue variables of a problem that are not fixed."""

    def __init__(self, problem: Problem) -> None:
        self._members = [(place, allowed_values_of(item)) for place, item in problem.grid]

    def __bool__(self) -> bool:
        """Return whether there are any."""
        return bool(self._members)

    def straightened(self, points: FloatArray) -> FloatArray:
        """Return designs (k, n) with values that are within rounding of a member replaced by it, in place."""
        for place, members in self._members:
            values = points[:, place]
            nearest = members.nearest(values)
            is_near = np.abs(nearest - values) <= GRID_TOLERANCE * members.spacing
            points[:, place] = np.where(is_near, nearest, values)
        return points

    def misses(self, points: FloatArray) -> FloatArray:
        """Return (k,): 1 and the largest distance of a value from its nearest member, in spacings; 0 on the grid."""
        worst = np.zeros(len(points))
        for place, members in self._members:
            values = points[:, place]
            miss = np.abs(members.nearest(values) - values) / members.spacing
            # However near to a member, it is none: no feasibility asked for lies above 1.
            worst = np.fmax(worst, np.where(miss <= GRID_TOLERANCE, 0.0, 1.0 + miss))
        return worst
