"""Questions and answers of sources as bytes and back: one form for the ledger and for other processes."""

from __future__ import annotations

import hashlib
import math
from typing import Any

import numpy as np

from ilvren.models.source import ModelSource, Question

__all__ = ["digest_of", "packed_answer", "packed_inputs", "unpacked_answer", "unpacked_inputs"]


def digest_of(identity: str, source: ModelSource, question: Question) -> bytes:
    """Return what tells a question to a source of this identity from every other."""
    key = question.kind.encode() + b":" + source.key(question.inputs) if source.is_apart else question.key
    return hashlib.sha256(identity.encode() + b"|" + key).digest()[:16]


def packed_inputs(question: Question) -> bytes:
    """Return the inputs, one after the other."""
    return b"".join(np.ascontiguousarray(value).tobytes() for value in question.inputs)


def unpacked_inputs(source: ModelSource, kind: str, packed: bytes) -> Question:
    """Return the question that `packed_inputs` was given."""
    if kind == "ready":
        return Question(kind)
    flat: Any = np.frombuffer(packed, dtype=complex if kind == "complex" else float)
    inputs, at = [], 0
    for _, shape in source.inputs:
        size = math.prod(shape)
        inputs.append(flat[at : at + size].reshape(shape))
        at += size
    return Question(kind, tuple(inputs))


def packed_answer(question: Question, answer: Any) -> bytes:
    """Return outputs one after the other; a Jacobian row by row, or, after "S", as row ends, columns, numbers."""
    if answer is None:  # "ready" has none
        return b""
    if question.kind in ("values", "complex"):
        return b"".join(np.ascontiguousarray(value).tobytes() for value in answer)
    if isinstance(answer, np.ndarray):
        return b"D" + np.ascontiguousarray(answer, dtype=float).tobytes()
    parts = (answer.indptr.astype(np.int64), answer.indices.astype(np.int64), answer.data.astype(float))
    return b"S" + b"".join(part.tobytes() for part in parts)


def unpacked_answer(source: ModelSource, question: Question, packed: bytes) -> Any:
    """Return the answer that `packed_answer` was given."""
    if question.kind == "ready":
        return None
    if question.kind in ("values", "complex"):
        kind: type = complex if question.kind == "complex" else float
        flat: Any = np.frombuffer(packed, dtype=kind)
        found, at = [], 0
        for _, shape in source.outputs:
            size = math.prod(shape)
            found.append(flat[at : at + size].reshape(shape).copy())
            at += size
        if at < len(flat):  # a Jacobian that came with the values
            found.append(flat[at:].reshape(source.output_size, source.input_size).copy())
        return found
    rest, rows, columns = packed[1:], source.output_size, source.input_size
    if packed[:1] == b"D":
        return np.frombuffer(rest).reshape(rows, columns).copy()
    from scipy.sparse import csr_array

    ends = np.frombuffer(rest, dtype=np.int64, count=rows + 1)
    places = np.frombuffer(rest, dtype=np.int64, count=int(ends[-1]), offset=8 * (rows + 1))
    numbers = np.frombuffer(rest, offset=8 * (rows + 1 + int(ends[-1])))
    return csr_array((numbers.copy(), places.copy(), ends.copy()), shape=(rows, columns))
