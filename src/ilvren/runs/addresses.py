"""Designs have addresses: a run (its reported design), or a run and the number of one of its evaluations, `r7:12`."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from ilvren.errors import RequestError
from ilvren.records import dataclass
from ilvren.runs.limits import by_block
from ilvren.runs.stored import flat_design, problem_of

if TYPE_CHECKING:
    from ilvren.ledger import EvaluationRecord, Ledger, RunRecord

__all__ = ["Addressed", "addressed", "design_document", "split_address"]


@dataclass(frozen=True)
class Addressed:
    """A design on record: its run, its `number` among the run's evaluations (None: the reported one), the full design
    `point` (n,), and the evaluation where it has a number and is of the run's last stage."""

    record: RunRecord
    number: int | None
    point: tuple[float, ...]
    evaluation: EvaluationRecord | None = None

    @property
    def address(self) -> str:
        """Return how the design is told."""
        return self.record.id if self.number is None else f"{self.record.id}:{self.number}"


def design_document(found: Addressed) -> Mapping[str, Any]:
    """Return a design in the form of a run's JSON document, without prices."""
    blocks = problem_of(found.record).blocks
    return {"variables": by_block(blocks, list(found.point)), "bounds": {}, "constraints": {}}


def split_address(text: str) -> tuple[str, int | None]:
    """Return (reference of a run, number of a design or None) of "r7:12", "r7", "winter-tariff:3", "last"."""
    reference, colon, number = text.rpartition(":")
    if colon and number.isascii() and number.isdigit() and reference:
        return reference, int(number)
    return text, None


def addressed(ledger: Ledger, text: str) -> Addressed:
    """Return the design at an address. Raises RequestError where there is none."""
    reference, number = split_address(text)
    record = ledger.run(reference)
    if number is None:
        if record.result is None:
            raise RequestError(
                f"{record.id} has not ended: it reports no design yet",
                advice=f"`ilvren designs {record.id}` lists those it has evaluated, as {record.id}:NUMBER",
            )
        variables = record.result["variables"]
        assert isinstance(variables, dict)
        return Addressed(record, None, flat_design(variables))
    evaluation = ledger.evaluation(record.number, number)
    if evaluation is None:
        least, most = ledger.evaluation_numbers(record.number)
        has = f"its designs have numbers from {least} to {most}" if most else "it has evaluated none"
        raise RequestError(f"{record.id} has no design {number}: {has}", advice=f"`ilvren designs {record.id}`")
    if not evaluation.is_whole:
        kept = ledger.evaluations(record.number, every_stage=True)
        whole = [item.number for item in kept if item.is_whole]
        raise RequestError(
            f"the vectors of {record.id}:{number} were not kept: long ones are thinned as a history grows",
            advice=f"nearest that are: {record.id}:{min(whole, key=lambda one: abs(one - number))}",
        )
    import numpy as np

    point = tuple(np.frombuffer(evaluation.point).tolist())
    # A design of an earlier stage is one of this problem, too, but what was evaluated there is not.
    is_own = any(item.number == number for item in ledger.evaluations(record.number))
    return Addressed(record, number, point, evaluation if is_own else None)
