"""Answers from the record of an earlier part of the run, checked request by request."""

from __future__ import annotations

import hashlib

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError
from ilvren.evaluate import Evaluation
from ilvren.ledger import EvaluationRecord, IterationRecord, RequestRecord

__all__ = ["Replay", "request_hash"]

FloatArray = NDArray[np.float64]


def request_hash(points: FloatArray, *, derivatives: bool) -> str:
    """Return what tells one request from another: points to the last bit, and what is wanted there."""
    digest = hashlib.sha256(np.ascontiguousarray(points).tobytes())
    digest.update(b"derivatives" if derivatives else b"values")
    return digest.hexdigest()[:16]


class Replay:
    """What a run did before. Empty for a new run."""

    def __init__(
        self,
        requests: list[RequestRecord] | None = None,
        evaluations: list[EvaluationRecord] | None = None,
        iterations: list[IterationRecord] | None = None,
    ) -> None:
        self.requests = requests or []
        self.iterations = len(iterations or [])
        self.evaluations = len(evaluations or [])
        self._values: dict[bytes, EvaluationRecord] = {}
        self._derivatives: dict[bytes, EvaluationRecord] = {}
        for record in evaluations or []:
            kept = self._values if record.derivatives is None else self._derivatives
            kept.setdefault(record.point, record)

    def check(self, number: int, digest: str) -> bool:
        """Return whether request `number` is on record. Raises RequestError when it was another one."""
        if number >= len(self.requests):
            return False
        if self.requests[number].hash != digest:
            raise RequestError(f"request {number} is not the one on record: the run cannot follow its own path")
        return True

    def answer(self, point: FloatArray, *, derivatives: bool) -> EvaluationRecord | None:
        """Return the recorded evaluation of a design, or None."""
        key = point.tobytes()
        return self._derivatives.get(key) if derivatives else self._values.get(key) or self._derivatives.get(key)


def unpacked(record: EvaluationRecord, *, variables: int, rows: int, derivatives: bool) -> Evaluation:
    """Return the evaluation in a record; without derivatives where the record leaves them to be computed again."""
    values = np.frombuffer(record.values)
    if not derivatives or not record.derivatives:
        return Evaluation(float(values[0]), values[1:].copy())
    block = np.frombuffer(record.derivatives)
    return Evaluation(
        float(values[0]),
        values[1:].copy(),
        block[:variables].copy(),
        block[variables:].reshape(rows, variables).copy(),
    )
