"""The calls on record that a run may use instead of making them: its own, and what others were answered."""

from __future__ import annotations

from ilvren.ledger import CallRecord, Ledger
from ilvren.models import ModelSource, Outcome, Question
from ilvren.models.codec import digest_of, packed_answer, packed_inputs, unpacked_answer
from ilvren.problem import Problem

__all__ = ["RunShelf"]


class RunShelf:
    """Calls in a ledger. A run's own are found whatever came of them, so that it can follow its path; those of other
    runs where they gave an answer and the model is repeatable, unless `is_fresh`."""

    def __init__(self, ledger: Ledger, run: int, problem: Problem, *, is_fresh: bool) -> None:
        self._ledger, self._run = ledger, run
        self._identities = {source.name: source.identity() for source in problem.sources}
        self._own = ledger.call_digests(run)
        self.is_resumed = bool(self._own)
        self._is_shared = not is_fresh and ledger.has_calls_of(list(self._identities.values()))

    @property
    def count(self) -> int:
        """Return how many calls the run has made, before it was interrupted and since."""
        return len(self._own)

    def find(self, source: ModelSource, question: Question) -> Outcome | None:
        """Return the outcome on record, or None."""
        if question.kind == "ready":
            return None
        digest = digest_of(self._identities[source.name], question)
        record: CallRecord | None = None
        if digest in self._own:
            record = self._ledger.call(self._run, digest)
        elif self._is_shared and source.is_repeatable:
            record = self._ledger.shared_call(digest)
        if record is None:
            return None
        answer = unpacked_answer(source, question, record.answer) if record.status == "done" else None
        return Outcome(record.status, answer, record.trouble, record.seconds)

    def add(self, source: ModelSource, question: Question, outcome: Outcome) -> None:
        """Record an outcome."""
        identity = self._identities[source.name]
        digest = digest_of(identity, question)
        self._own.add(digest)
        record = CallRecord(
            identity,
            source.name,
            question.kind,
            digest,
            packed_inputs(question),
            packed_answer(question, outcome.answer),
            outcome.status,
            outcome.trouble,
            outcome.seconds,
        )
        self._ledger.add_call(self._run, record)
