"""Answers from the record of an earlier part of the run, checked request by request."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError
from ilvren.evaluate import Evaluation, digest_of
from ilvren.methods import SLOPES, Want

if TYPE_CHECKING:
    from ilvren.ledger import EvaluationRecord, IterationRecord, RequestRecord
    from ilvren.runs.checkpoints import RunCheckpoint

__all__ = ["Replay", "packed_derivatives", "request_hash", "unpacked"]

FloatArray = NDArray[np.float64]


def request_hash(points: FloatArray, wants: frozenset[Want]) -> str:
    """Return what tells one request from another: points to the last bit, and what is wanted there. `points` are (k,
    n)."""
    digest = hashlib.sha256(np.ascontiguousarray(points).tobytes())
    digest.update(b"derivatives" if Want.SLOPES in wants else b"values")
    for want in sorted(wants - SLOPES, key=lambda want: want.value):
        digest.update(want.value.encode())
    return digest.hexdigest()[:16]


class Replay:
    """What a run did before. Empty for a new run."""

    def __init__(
        self,
        requests: list[RequestRecord] | None = None,
        evaluations: list[EvaluationRecord] | None = None,
        iterations: list[IterationRecord] | None = None,
        *,
        has_calls: bool = False,
        checkpoint: RunCheckpoint | None = None,
        arrivals: Mapping[int, tuple[int, ...]] | None = None,
        of_stage: range | None = None,
    ) -> None:
        """`of_stage`: the numbers of the evaluations that are this stage's, None for all."""
        self.arrivals = arrivals or {}
        self.checkpoint = checkpoint
        self.recorded = evaluations or [], iterations or []
        self.has_calls = has_calls  # whether the calls of models are on record, and not only what came of them
        self.requests = requests or []
        self.iterations = len(iterations or [])
        self.evaluations = len(evaluations or [])
        self._values: dict[bytes, EvaluationRecord] = {}
        self._derivatives: dict[bytes, EvaluationRecord] = {}
        for record in evaluations or []:
            if of_stage is not None and record.number not in of_stage:
                continue
            kept = self._values if record.derivatives is None else self._derivatives
            kept.setdefault(record.point, record)
        self._has_thinned = any(not record.is_whole for record in evaluations or [])

    def check(self, number: int, points: FloatArray, wants: frozenset[Want]) -> bool:
        """Return whether request `number` is on record. Raises RequestError when it was another one. Older ledgers tell
        only whether derivatives were wanted. `points` are (k, n)."""
        if number >= len(self.requests):
            return False
        if self.requests[number].hash not in (request_hash(points, wants), request_hash(points, wants & SLOPES)):
            raise RequestError(f"request {number} is not the one on record: the run cannot follow its own path")
        return True

    def values_of(self, key: bytes) -> FloatArray | None:
        """Return the recorded objective and rows (1 + m,) of a design, by its bytes, or None."""
        record = self._values.get(key) or self._derivatives.get(key)
        return None if record is None or not record.is_whole else np.frombuffer(record.values)

    def knows(self, key: bytes) -> bool:
        """Return whether a design is on record, by its bytes, its vectors kept or not."""
        return any(key in kept or self._thin(key) in kept for kept in (self._values, self._derivatives))

    def _thin(self, key: bytes) -> bytes:
        return digest_of(key) if self._has_thinned else key

    def answer(self, point: FloatArray, *, derivatives: bool) -> EvaluationRecord | None:
        """Return the recorded evaluation of a design, or None."""
        for key in dict.fromkeys((point.tobytes(), self._thin(point.tobytes()))):
            found = None if derivatives else self._values.get(key)
            found = found or self._derivatives.get(key)
            if found is not None:
                return found
        return None


def packed_derivatives(evaluation: Evaluation) -> bytes:
    """Return gradient and Jacobian as they are recorded: dense row by row, or sparse as row ends, columns, numbers."""
    assert evaluation.gradient is not None
    jacobian = evaluation.jacobian
    if isinstance(jacobian, np.ndarray):
        return evaluation.gradient.tobytes() + jacobian.tobytes()
    parts = (jacobian.indptr.astype(np.int64), jacobian.indices.astype(np.int64), jacobian.data)
    return evaluation.gradient.tobytes() + b"".join(part.tobytes() for part in parts)


def unpacked(
    record: EvaluationRecord, *, variables: int, rows: int, derivatives: bool, is_sparse: bool = False
) -> Evaluation:
    """Return the evaluation in a record; without derivatives where the record leaves them to be computed again."""
    values = np.frombuffer(record.values)
    if not derivatives or not record.derivatives:
        return Evaluation(float(values[0]), values[1:].copy())
    gradient = np.frombuffer(record.derivatives, count=variables).copy()
    rest = record.derivatives[8 * variables :]
    if not is_sparse:
        jacobian: Any = np.frombuffer(rest).reshape(rows, variables).copy()
    else:
        from scipy.sparse import csr_array

        ends = np.frombuffer(rest, dtype=np.int64, count=rows + 1)
        columns = np.frombuffer(rest, dtype=np.int64, count=int(ends[-1]), offset=8 * (rows + 1))
        numbers = np.frombuffer(rest, offset=8 * (rows + 1 + int(ends[-1])))
        jacobian = csr_array((numbers.copy(), columns.copy(), ends.copy()), shape=(rows, variables))
    return Evaluation(float(values[0]), values[1:].copy(), gradient, jacobian)
