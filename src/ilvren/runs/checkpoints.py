"""Where the replay of a method with a costly inner state may begin: its state, and what the run was by then."""

from __future__ import annotations

import io
import json
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.models import Calls

__all__ = ["RunCheckpoint", "restore_calls"]


@dataclass(frozen=True)
class RunCheckpoint:
    """`state` is the method's own; so many `requests`, `evaluations` and `iterations` were on record by then, so many
    second derivatives counted; `progress` are the number and the values of the last progress, `idle` iterations came to
    nothing new, and `calls` is what each model's calls had come to."""

    state: Mapping[str, NDArray[Any]]
    requests: int
    evaluations: int
    iterations: int
    hessians: int
    idle: int
    progress: tuple[int, float, float]
    calls: tuple[Mapping[str, Any], ...]

    def packed(self) -> bytes:
        """Return it as an open archive of arrays (NPZ), what is no array as JSON text among them."""
        facts = {
            name: getattr(self, name)
            for name in ("requests", "evaluations", "iterations", "hessians", "idle", "progress", "calls")
        }
        buffer = io.BytesIO()
        arrays: dict[str, Any] = {f"state_{name}": value for name, value in self.state.items()}
        np.savez(buffer, **arrays, facts=np.array(json.dumps(facts)))
        return buffer.getvalue()

    @classmethod
    def unpacked(cls, packed: bytes) -> RunCheckpoint:
        """Return the checkpoint of such an archive."""
        with np.load(io.BytesIO(packed), allow_pickle=False) as archive:
            facts = json.loads(str(archive["facts"]))
            state = {name.removeprefix("state_"): archive[name] for name in archive.files if name != "facts"}
        facts["progress"], facts["calls"] = tuple(facts["progress"]), tuple(facts["calls"])
        return cls(state, **facts)

    @staticmethod
    def of_calls(calls: Sequence[Calls]) -> tuple[Mapping[str, Any], ...]:
        """Return what each model's calls have come to, which replay from here on would not see."""
        return tuple(
            {
                "failures": own.failures,
                "first_failure": own.first_failure,
                "notes": list(own.notes),
                "difference_calls": own.difference_calls,
            }
            for own in calls
        )


def restore_calls(calls: Sequence[Calls], kept: Sequence[Mapping[str, Any]]) -> None:
    """Let models' calls be what they had come to."""
    for own, facts in zip(calls, kept, strict=True):
        own.failures, own.first_failure = int(facts["failures"]), str(facts["first_failure"])
        own.notes[:] = facts["notes"]
        own.difference_calls = int(facts["difference_calls"])
