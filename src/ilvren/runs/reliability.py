"""The reliability indices that a problem's formulas ask for, at a design: the design point of each comparison."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.evaluate import Gate
from ilvren.formula import Call, Comparison, parse_formula
from ilvren.problem import scatter_of, wide_designs, wide_nominal, widened_problem, with_limits
from ilvren.records import dataclass
from ilvren.scatter import DesignPoint, design_points

if TYPE_CHECKING:
    from ilvren.problem import Problem

__all__ = ["indices_at"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class _Room:
    """The room (g, its slopes) of a comparison in scenarios of a design."""

    problem: Problem
    point: FloatArray
    told: str

    def search(self, starts: list[FloatArray]) -> DesignPoint:
        """Return the design point nearest to the middle."""
        call = parse_formula(self.told)
        assert isinstance(call, Call)
        condition = call.arguments[0]
        assert isinstance(condition, Comparison)
        left, right = (self.told[slice(*side.span)] for side in (condition.left, condition.right))
        sign = -1.0 if condition.operator in ("<", "<=") else 1.0
        scattered = scatter_of(self.problem, self.point)
        wide = widened_problem(self.problem.with_starts(self.point))
        nominal = wide_nominal(self.problem, wide, self.point)
        own = with_limits(wide, [f"({left}) - ({right}) <= 0"]).with_starts(nominal)
        gate, place = Gate(own), own.row_blocks[-1].first

        def room(u: FloatArray) -> tuple[float, FloatArray]:
            found = gate.evaluate(wide_designs(own, scattered, nominal, u[np.newaxis])[0], derivatives=True)
            if not found.is_finite or not found.has_finite_derivatives:
                return float("nan"), np.full(len(u), np.nan)
            row = found.jacobian[[place]]
            dense = np.asarray(row if isinstance(row, np.ndarray) else row.toarray())
            slopes = {
                block.name: dense[:, block.first : block.first + block.size]
                for block in own.blocks
                if block.name in set(scattered.names)
            }
            return sign * float(found.rows[place]), sign * scattered.vjp(u[np.newaxis], slopes)[0]

        return design_points(room, scattered.dependence.dimension, starts)[0]


def indices_at(problem: Problem, point: FloatArray, known: Mapping[str, object]) -> dict[str, DesignPoint]:
    """Return {call: design point} of each reliability index at a design, looked for from those `known`, too."""
    found = {}
    for told, item in problem.template.scatter_functions.written.items():
        if item.function == "reliability_index":
            starts = [np.asarray(known[told], dtype=float)] if told in known else []
            found[told] = _Room(problem, point, told).search(starts)
    return found
