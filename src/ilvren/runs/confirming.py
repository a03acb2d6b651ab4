"""What [confirm] asks, evaluated once for one design."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from ilvren.errors import ProblemError
from ilvren.evaluate import Gate, measured
from ilvren.runs.limits import LimitStates
from ilvren.runs.shelf import RunShelf
from ilvren.runs.told import BROKEN, CONFIRMED, FAILED, Confirmation

if TYPE_CHECKING:
    from ilvren.ledger import Ledger
    from ilvren.problem import Problem

__all__ = ["confirmed"]


def confirmed(
    problem: Problem,
    point: Sequence[float],
    feasibility: float,
    *,
    ledger: Ledger | None = None,
    number: int = 0,
    is_fresh: bool = False,
) -> Confirmation | None:
    """Evaluate [confirm] at a design (n,), None where the file has none; calls are answered from, and recorded in, the
    ledger's run where one is given."""
    own = problem.confirmation
    if own is None:
        return None
    if own.is_about_scatter:
        from ilvren.runs.scatter_stages import counted_problem  # few files are about scatter

        own = counted_problem(problem).confirmation
        assert own is not None
    calls = own.calls()
    if ledger is not None:
        for one in calls:
            one.shelf = RunShelf(ledger, number, own, is_fresh=is_fresh)
    gate = Gate(own, calls=calls)
    at = np.array(point, dtype=float)
    trouble = ""
    try:
        evaluation = gate.evaluate(at)
        values = {item.name: value for item, value in _values(own, at, calls).items()}
        rows = evaluation.rows
    except ProblemError as error:
        trouble, values, rows = error.message, {}, np.full(own.row_count, np.nan)
    measures = measured(own, gate)
    states = LimitStates(
        own.row_blocks,
        rows,
        (measures.row_lower, measures.row_upper),
        sizes=measures.row_sizes,
        sides=np.zeros(len(rows)),
        prices=None,
        are_unique=True,
    )
    violation = float(np.max(states.violation, initial=0.0))
    failed = next((one.first_failure for one in calls if one.first_failure), "")
    if not math.isfinite(violation) or failed:
        return Confirmation(FAILED, states, values, own.quantity_units, trouble or failed or "a value is not finite")
    word = BROKEN if violation > feasibility else CONFIRMED
    return Confirmation(word, states, values, own.quantity_units, "", violation)


def _values(own: Problem, at: Any, calls: Any) -> dict[Any, Any]:
    """Return {derived value: its value} of the entries of [confirm] that are only shown."""
    found = own.quantities(at, calls)
    return {item: found[item.name] for item in own.derived if item.name in own.confirm_values}
