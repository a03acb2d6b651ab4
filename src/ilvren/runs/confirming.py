"""What [confirm] asks, evaluated once for one design."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ilvren.errors import ProblemError
from ilvren.evaluate import Gate, measured
from ilvren.ledger import Ledger
from ilvren.problem import Problem
from ilvren.runs.limits import LimitState, LimitStates, plain_values
from ilvren.runs.shelf import RunShelf

__all__ = ["BROKEN", "CONFIRMED", "FAILED", "Confirmation", "confirmed"]

# The words of a confirmation.
CONFIRMED, BROKEN, FAILED = "confirmed", "broken", "failed"


@dataclass(frozen=True)
class Confirmation:
    """What [confirm] found at a design: its `limits`, and `values` {name: value} with their units; `word` is one of the
    above, with the `trouble` of a model that gave nothing."""

    word: str
    limits: LimitStates
    values: Mapping[str, Any]
    units: Mapping[str, str] = field(default_factory=dict)
    trouble: str = ""
    violation: float = 0.0

    @property
    def missed(self) -> list[LimitState]:
        """Return the limits that are missed."""
        return [state for state in self.limits if state.violation > 0.0]

    @property
    def sentence(self) -> str:
        """Return what came of it in one sentence."""
        if self.word == FAILED:
            return f"[confirm] could not be evaluated: {self.trouble}"
        if self.word == BROKEN:
            worst = max(self.limits, key=lambda state: state.violation)
            side = worst.lower if worst.value < worst.lower else worst.upper
            return f"{worst.name} is {worst.value:.6g} {worst.unit}".rstrip() + f", its limit is {side:.6g}"
        count = len(self.limits)
        return f"{count} limit{'s' * (count != 1)} of [confirm] hold{'s' * (count == 1)}" if count else "evaluated"

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        return {
            "confirmed": self.word,
            "limits": self.limits.document(),
            "values": {name: plain_values(value) for name, value in self.values.items()},
            "trouble": self.trouble or None,
        }


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
