"""What a run keeps of its evaluations and iterations: every number, and vectors as long as they are not too many.

Histories of long vectors are thinned: those of the first design, of the last ones, of the best and of the one with the
least violation are kept, and of the others every second, fourth, eighth … as they grow more. The same is kept in memory
and on record; a design whose vector was dropped is known by its digest from then on, so that replay still finds it.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from ilvren.evaluate import digest_of

if TYPE_CHECKING:
    from ilvren.ledger import EvaluationRecord, IterationRecord, Ledger

__all__ = ["History"]

# Vectors of fewer numbers than this are all kept; longer ones up to so many numbers in all, and so many designs at
# least.
LONG, MOST_NUMBERS, LEAST_KEPT = 1_000, 4_000_000, 4


class _Thinning:
    """Which of the numbers 1, 2, 3 … are kept, so many at most: multiples of a stride that doubles, counted from 1."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._stride = 1
        self._whole: dict[int, int] = {}  # number → place in the history

    def dropped(self, number: int, place: int, spared: Iterable[int]) -> list[int]:
        """Take a new number; return the places of what is not kept any longer."""
        self._whole[number] = place
        spared = {number, *spared}
        if len(self._whole) > self._most:
            self._stride *= 2
        own = [k for k in self._whole if (k - 1) % self._stride and k not in spared]
        return [self._whole.pop(k) for k in own]


class History:
    """The evaluations and iterations of one run, in order; `ledger` is told what is not kept any longer."""

    def __init__(self, *, variables: int, rows: int, ledger: Ledger | None, run: int) -> None:
        self.evaluations: list[EvaluationRecord] = []
        self.iterations: list[IterationRecord] = []
        self._ledger = ledger
        self._run = run
        numbers = variables + rows + 1
        most = max(MOST_NUMBERS // numbers, LEAST_KEPT)
        self._evaluated = _Thinning(most) if numbers > LONG else None
        self._iterated = _Thinning(max(MOST_NUMBERS // max(variables, 1), LEAST_KEPT)) if variables > LONG else None

    def add_evaluation(self, record: EvaluationRecord, *, spared: Iterable[int] = ()) -> None:
        """Take an evaluation that is on record, or on its way there; `spared` are the numbers of the best ones."""
        self.evaluations.append(record)
        if self._evaluated is None:
            return
        for place in self._evaluated.dropped(record.number, len(self.evaluations) - 1, spared):
            thin = _thinned(self.evaluations[place])
            self.evaluations[place] = thin
            if self._ledger is not None:
                self._ledger.thin_evaluation(self._run, thin)

    def add_iteration(self, record: IterationRecord) -> None:
        """Take an iteration that is on record, or on its way there."""
        self.iterations.append(record)
        if self._iterated is None:
            return
        for place in self._iterated.dropped(record.number + 1, len(self.iterations) - 1, ()):
            self.iterations[place] = self.iterations[place].thinned
            if self._ledger is not None:
                self._ledger.thin_iteration(self._run, self.iterations[place].number)


def _thinned(record: EvaluationRecord) -> EvaluationRecord:
    derivatives = None if record.derivatives is None else b""
    return record._replace(point=digest_of(record.point), values=b"", derivatives=derivatives)
