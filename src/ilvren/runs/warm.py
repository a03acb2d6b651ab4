"""Warm starts: the design and the multipliers that another run ended with, by name."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError
from ilvren.records import dataclass
from ilvren.runs.limits import by_block

if TYPE_CHECKING:
    from ilvren.ledger import Ledger, RunRecord
    from ilvren.problem import Problem

__all__ = ["WarmStart", "begun_at", "begun_from", "record_result", "warm_start"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class WarmStart:
    """Where a run begins: `problem` with its starts moved, `row_multipliers` (m,) and `bound_multipliers` (n,) internal
    and unscaled; `taken` names the variables that were found in the other run."""

    problem: Problem
    row_multipliers: FloatArray
    bound_multipliers: FloatArray
    taken: tuple[str, ...]

    @property
    def multipliers(self) -> tuple[FloatArray, FloatArray] | None:
        """Return both kinds of multipliers, None where all are zero: then a method does better without. They are (m,)
        and (n,)."""
        known = self.row_multipliers.any() or self.bound_multipliers.any()
        return (self.row_multipliers, self.bound_multipliers) if known else None


def begun_at(problem: Problem, point: FloatArray) -> Problem:
    """Return the problem started at another design (n,), recorded as if every start had been given."""
    moved = problem.with_starts(point)
    given = [block for block in moved.blocks if not block.is_grid and block.name not in _own_points(problem)]
    return replace(moved, start_overrides=by_block(given, [float(value) for value in moved.start]))


def _own_points(problem: Problem) -> frozenset[str]:
    """Return the controls that are chosen at every moment of a grid, which no file gives values for."""
    return frozenset() if problem.template is None else frozenset(problem.template.own_points)


def warm_start(problem: Problem, result: Mapping[str, Any], reference: str) -> WarmStart:
    """Return where a run on `problem` begins that starts from the end of another, whose JSON document is `result`.

    Variables and constraints are matched by name and shape, of the same problem or another. Raises RequestError when
    no variable is found there.
    """
    sign = 1.0 if problem.objective is None else float(problem.objective.sign)
    point = np.array(problem.start)
    row_multipliers, bound_multipliers = np.zeros(problem.row_count), np.zeros(problem.size)
    taken = []
    for block in problem.blocks:
        values = _flat(result["variables"].get(block.name), block.size)
        if values is None:
            continue
        taken.append(block.name)
        own = slice(block.first, block.first + block.size)
        point[own] = values
        bound_multipliers[own] = _prices(result["bounds"].get(block.name), block.size, sign)
    if not taken:
        raise RequestError(
            f"{reference} has no variable of this problem", advice="a warm start matches variables by name and shape"
        )
    for row in problem.row_blocks:
        own = slice(row.first, row.first + row.size)
        row_multipliers[own] = _prices(result["constraints"].get(row.name), row.size, sign)
    return WarmStart(begun_at(problem, point), row_multipliers, bound_multipliers, tuple(taken))


def begun_from(
    problem: Problem, ledger: Ledger, reference: str
) -> tuple[Problem, tuple[FloatArray, FloatArray] | None]:
    """Return the problem begun at the design of another run, or at one of its designs ("r7:12"), and the multipliers
    there. Starts that were given by hand win over those of the other run. Raises RequestError."""
    from ilvren.runs.addresses import addressed, design_document, split_address

    reference, number = split_address(reference)
    record = ledger.run(reference)
    document = record_result(record) if number is None else design_document(addressed(ledger, f"{record.id}:{number}"))
    warm = warm_start(problem, document, record.id)
    given = dict(problem.start_overrides)
    if not given:
        return warm.problem, warm.multipliers
    point = np.array(warm.problem.start)
    for block in problem.blocks:
        if block.name in given:
            point[block.first : block.first + block.size] = block.start
    return begun_at(warm.problem, point), warm.multipliers


def record_result(record: RunRecord) -> Mapping[str, Any]:
    """Return the JSON document of a recorded run. Raises RequestError for one that has not ended."""
    if record.state != "ended" or record.result is None:
        raise RequestError(f"{record.id} has not ended: there is no design to start from")
    return record.result


def _flat(value: Any, size: int) -> FloatArray | None:
    if value is None:
        return None
    found = np.ravel(np.array(value, dtype=float))
    return found if len(found) == size and np.isfinite(found).all() else None


def _prices(state: Mapping[str, Any] | None, size: int, sign: float) -> FloatArray:
    """Return multipliers (size,) from the prices in a document, 0 where there are none."""
    if state is None:
        return np.zeros(size)
    prices = np.ravel(np.array(state["price"], dtype=object))
    if len(prices) != size:
        return np.zeros(size)
    return np.array([sign * float(price) if isinstance(price, (int, float)) else 0.0 for price in prices])
