"""What every kind of model is: a source that declares itself and answers one question at a time.

A source is immutable and may be shared and sent to another process; nothing of a run hangs on it. What belongs to one
run (what is kept, counted, noted, tried again) is in `models.calls`, and where a source is asked in `models.places`.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

__all__ = [
    "AUTOMATIC",
    "COMPLEX_STEP",
    "DERIVATIVE_WORDS",
    "DIFFERENCES",
    "FORWARD_DIFFERENCES",
    "LEAST_SPARSE",
    "SUPPLIED",
    "ModelSource",
    "Outcome",
    "Question",
    "is_banded",
    "is_differenced",
]

Array = NDArray[Any]
Shape = tuple[int, ...]

# Where first derivatives come from.
AUTOMATIC, SUPPLIED, COMPLEX_STEP = "automatic", "supplied", "complex-step"
DIFFERENCES, FORWARD_DIFFERENCES = "differences", "forward-differences"
DERIVATIVE_WORDS = (AUTOMATIC, SUPPLIED, COMPLEX_STEP, DIFFERENCES, FORWARD_DIFFERENCES)
# Smaller Jacobians are dense whatever their pattern.
LEAST_SPARSE = 400


def is_differenced(word: str) -> bool:
    """Return whether derivatives of this kind are made of many calls."""
    return word not in (AUTOMATIC, SUPPLIED)


@dataclass(frozen=True)
class Question:
    """What a source is asked: `kind` "values", "complex" (values at complex inputs), "followed" or "supplied" (its
    Jacobian, by following what it does or as it gives it), or "ready" (whether it can be asked at all), with `inputs`,
    one array for each."""

    kind: str
    inputs: tuple[Array, ...] = ()

    @property
    def key(self) -> bytes:
        """Return what tells it from every other question to the same source, to the last bit."""
        parts = (np.ascontiguousarray(value).tobytes() + value.dtype.char.encode() for value in self.inputs)
        return self.kind.encode() + b":" + b"".join(parts)


@dataclass(frozen=True)
class Outcome:
    """What came of a question. `status` is "done", "failed", "slow" (beyond its timeout), "unread" (a value is not
    where it should be), "lost" (it took its process with it), "unfollowable" (derivatives cannot be had this way) or
    "broken" (it cannot be asked at all); else than done, `trouble` says why. `answer` are the outputs in order (behind
    them a Jacobian that came with them), or the Jacobian (outputs, inputs), dense or CSR; `seconds` what it took;
    `read` names a file that had a part in it and that the source does not declare: then nobody can know whether another
    run would be answered the same; `folder` is where a program's call stayed."""

    status: str
    answer: Any = None
    trouble: str = ""
    seconds: float = 0.0
    read: str = ""
    folder: str = ""

    @property
    def is_done(self) -> bool:
        """Return whether there is an answer."""
        return self.status == "done"


class ModelSource(Protocol):
    """One model."""

    @property
    def name(self) -> str:
        """Return the name in the problem file."""

    @property
    def inputs(self) -> tuple[tuple[str, Shape], ...]:
        """Return (name, shape) of each input."""

    @property
    def outputs(self) -> tuple[tuple[str, Shape], ...]:
        """Return (name, shape) of each output."""

    @property
    def derivatives(self) -> str:
        """Return one of DERIVATIVE_WORDS."""

    @property
    def is_strict(self) -> bool:
        """Return whether no other source of derivatives may take its place."""

    @property
    def bands(self) -> Mapping[str, int]:
        """Return {output: how far an element looks to both sides of its own place in the vector inputs}."""

    @property
    def timeout(self) -> float | None:
        """Return the seconds that a call may take."""

    @property
    def retries(self) -> int:
        """Return how often a call that ended with a status of `tried_again` is made again."""

    @property
    def tried_again(self) -> frozenset[str]:
        """Return which statuses are worth another try."""

    @property
    def is_apart(self) -> bool:
        """Return whether it computes in processes of its own: then it is asked in any process, and knows its calls by
        what they are given."""

    @property
    def still(self) -> frozenset[str]:
        """Return the inputs that no variable moves: nothing is differentiated by them."""

    @property
    def is_repeatable(self) -> bool:
        """Return whether the same inputs give the same outputs, now and in any other run."""

    @property
    def place(self) -> tuple[str, int | None]:
        """Return (file, line) of its declaration."""

    @property
    def code_files(self) -> tuple[Path, ...]:
        """Return the files whose code runs where it is asked."""

    @property
    def told(self) -> str:
        """Return how listings name what it runs."""

    @property
    def input_size(self) -> int:
        """Return the number of input elements."""

    @property
    def output_size(self) -> int:
        """Return the number of output elements."""

    @property
    def can_supply(self) -> bool:
        """Return whether it gives derivatives by itself when asked to (the word "supplied")."""

    def hashes(self) -> dict[str, str]:
        """Return {file name: hash of its content} of all files that decide the result."""

    def identity(self) -> str:
        """Return a hash of all that decides what it answers."""

    def stamps(self) -> dict[str, int]:
        """Return {path: what changes when the file does} of what a process reads once and keeps."""

    def is_here(self) -> bool:
        """Return whether the files it needs are on this machine."""

    def asked(self, question: Question) -> Outcome:
        """Answer in this process; never raises what the model raises."""

    def with_derivatives(self, word: str) -> ModelSource:
        """Return the same source, differentiated another way."""

    def key(self, inputs: Sequence[Array]) -> bytes:
        """Return what tells a call at these inputs from every other. They have the shapes of the inputs."""

    def shown(self, inputs: Sequence[Array], places: Sequence[int]) -> Array:
        """Return (k, 2): the input elements at `places` as the model is given them, and their resolution: 0 for all
        digits, infinite for what it is not given at all."""


def sizes_of(items: Sequence[tuple[str, Shape]]) -> NDArray[np.int64]:
    """Return where the elements of each item begin in a flat row of all, and the end."""
    sizes = [int(np.prod(shape, dtype=np.int64)) for _, shape in items]
    return np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)


def is_banded(source: ModelSource) -> bool:
    """Return whether all outputs are vectors with a declared band, and some input has their length."""
    return all(name in source.bands and len(shape) == 1 for name, shape in source.outputs) and any(
        all(shape == out for _, out in source.outputs) for _, shape in source.inputs
    )
