"""The calls on record that a run may use instead of making them: its own, and what others were answered."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from ilvren.ledger import CallRecord, Ledger
from ilvren.models import ModelSource, Outcome, Question, digest_of, packed_answer, packed_inputs, unpacked_answer
from ilvren.problem import Problem, element_name

__all__ = ["RecordedShelf", "RunShelf"]

# The status on record of an answer that only the run itself may use: a file that nobody declared had a part in it.
OWN = "done for this run"


class RunShelf:
    """Calls in a ledger. A run's own are found whatever came of them, so that it can follow its path; those of other
    runs where they gave an answer, unless `is_fresh`. Of a model that is not repeatable each call of the run before it
    was interrupted is found once, in their order, and no other."""

    def __init__(self, ledger: Ledger, run: int, problem: Problem, *, is_fresh: bool) -> None:
        self._ledger, self._run = ledger, run
        self._identities = {source.name: source.identity() for source in problem.sources}
        # A run that goes on with a changed model (--as-now) has called the one it was, too.
        self._earlier = [item for item in ledger.call_sources(run) if item[1] != self._identities.get(item[0])]
        self._own = ledger.call_counts(run)
        self._first, self._unread = dict(self._own), dict(self._own)
        self._is_shared = not is_fresh and ledger.has_calls_of(list(self._identities.values()))
        self._measured = _measured_answers(ledger, run, problem)

    @property
    def count(self) -> int:
        """Return how many calls the run has made, before it was interrupted and since."""
        return sum(self._own.values())

    def find(self, source: ModelSource, question: Question) -> Outcome | None:
        """Return the outcome on record, or None."""
        if question.kind == "ready":
            return None
        if self._measured and question.kind == "values" and (source.name, question.key) in self._measured:
            return self._measured[source.name, question.key]
        digest = digest_of(self._identities[source.name], source, question)
        for model, identity in self._earlier:
            if model == source.name and digest_of(identity, source, question) in self._own:
                digest = digest_of(identity, source, question)
        record: CallRecord | None = None
        if not source.is_repeatable:
            left = self._unread.get(digest, 0)
            if left:
                self._unread[digest] = left - 1
                record = self._ledger.call(self._run, digest, self._first[digest] - left)
        elif digest in self._own:
            record = self._ledger.call(self._run, digest)
        elif self._is_shared:
            record = self._ledger.shared_call(digest)
        if record is None:
            return None
        if record.status not in ("done", OWN):
            return Outcome(record.status, None, record.trouble, record.seconds, folder=record.folder)
        return Outcome("done", unpacked_answer(source, question, record.answer), "", record.seconds)

    def add(self, source: ModelSource, question: Question, outcome: Outcome) -> None:
        """Record an outcome."""
        identity = self._identities[source.name]
        digest = digest_of(identity, source, question)
        self._own[digest] = self._own.get(digest, 0) + 1
        record = CallRecord(
            identity,
            source.name,
            question.kind,
            digest,
            packed_inputs(question),
            packed_answer(question, outcome.answer),
            OWN if outcome.is_done and outcome.read else outcome.status,
            outcome.trouble,
            outcome.seconds,
            outcome.folder,
        )
        self._ledger.add_call(self._run, record)


def _measured_answers(ledger: Ledger, run: int, problem: Problem) -> dict[tuple[str, bytes], Outcome]:
    """Return what was measured at the designs of a run, as answers of its models by their inputs: nothing of a model,
    and for no other run."""
    given = ledger.run(f"r{run}").overrides.get("sample", {}).get("measured")
    if not given:
        return {}
    graph, found = problem.graph, dict[tuple[str, bytes], Outcome]()
    for number, source in enumerate(problem.sources):
        call = next((node for node in graph.nodes if node.operation == "call" and node.index == number), None)
        if call is None:
            continue
        for place, point in enumerate(given["designs"]):
            values = problem.entry_values(call.operands, point).values
            inputs = tuple(np.asarray(value, dtype=float) for value in values)
            answer = [
                _measured(given["values"], f"{source.name}.{name}", shape, place) for name, shape in source.outputs
            ]
            is_there = any(np.isfinite(value).any() for value in answer)
            outcome = Outcome("done", answer) if is_there else Outcome("failed", None, "nothing was measured here")
            found[source.name, Question("values", inputs).key] = outcome
    return found


def _measured(values: Mapping[str, Sequence[float | None]], name: str, shape: tuple[int, ...], place: int) -> Any:
    """Return an output as it was measured, NaN where it was not."""
    flat = [
        values.get(element_name(name, shape, element), [None] * (place + 1))[place]
        for element in range(math.prod(shape))
    ]
    return np.array([math.nan if value is None else value for value in flat]).reshape(shape)


class RecordedShelf(RunShelf):
    """What a run was answered, for whoever looks into it: nothing is added."""

    def __init__(self, ledger: Ledger, run: int, problem: Problem) -> None:
        super().__init__(ledger, run, problem, is_fresh=False)

    def add(self, source: ModelSource, question: Question, outcome: Outcome) -> None:
        """Record nothing."""
