"""The calls of models that runs made, apart from their evaluations."""

from __future__ import annotations

import contextlib
import sqlite3
from abc import abstractmethod
from collections.abc import Sequence
from typing import NamedTuple

__all__ = ["CallRecord", "CallShelf"]


class CallRecord(NamedTuple):
    """One call: the hash of its source, the `model`'s name, the `kind` of question, a `digest` of source and question,
    the packed inputs and answer, the `status` ("done" or why not) with the `trouble`, the seconds it took and the
    folder it ran in."""

    source: str
    model: str
    kind: str
    digest: bytes
    inputs: bytes
    answer: bytes
    status: str
    trouble: str
    seconds: float
    folder: str = ""


# The step of the schema from which on calls are kept.
CALLS_STEP = 5
_COLUMNS = "source, model, kind, digest, inputs, answer, status, trouble, seconds, folder"


class CallShelf:
    """What a ledger keeps of calls; a part of `ledger.Ledger`."""

    _db: sqlite3.Connection

    @abstractmethod
    def _guard(self) -> contextlib.AbstractContextManager[None]: ...

    @abstractmethod
    def _add(self, statement: str, values: tuple[object, ...], *, took: float = 0.0) -> None: ...

    @abstractmethod
    def flush(self) -> None:
        """Write what is pending."""

    def add_call(self, run: int, record: CallRecord) -> None:
        """Record a call that a run made."""
        marks = ", ".join("?" * (len(record) + 1))
        statement = f"INSERT INTO calls (run, {_COLUMNS}) VALUES ({marks})"
        self._add(statement, (run, *record), took=record.seconds)

    def call_counts(self, run: int) -> dict[bytes, int]:
        """Return {digest: how often} of all calls that a run made."""
        self.flush()
        with self._guard():
            rows = self._db.execute("SELECT digest, count(*) FROM calls WHERE run = ? GROUP BY digest", (run,))
            return dict(rows.fetchall())

    def keeps_calls_of(self, run: int) -> bool:
        """Return whether a run was begun when ledgers kept calls already, also where other runs answered all."""
        with self._guard():
            row = self._db.execute(
                "SELECT created >= (SELECT applied FROM schema_steps WHERE number = ?) FROM runs WHERE number = ?",
                (CALLS_STEP, run),
            ).fetchone()
        return bool(row and row[0]) or bool(self.call_counts(run))

    def call_sources(self, run: int) -> list[tuple[str, str]]:
        """Return (model, hash of its source) of all that a run called; a model that has changed has several."""
        self.flush()
        with self._guard():
            rows = self._db.execute("SELECT DISTINCT model, source FROM calls WHERE run = ?", (run,))
            return [(model, source) for model, source in rows.fetchall()]

    def calls(self, run: int) -> list[CallRecord]:
        """Return the calls of a run in order."""
        self.flush()
        with self._guard():
            rows = self._db.execute(f"SELECT {_COLUMNS} FROM calls WHERE run = ? ORDER BY number", (run,)).fetchall()
        return [CallRecord(*row) for row in rows]

    def call(self, run: int, digest: bytes, place: int = 0) -> CallRecord | None:
        """Return a call that a run made, the first of its digest or a later one, or None."""
        self.flush()
        select = f"SELECT {_COLUMNS} FROM calls WHERE digest = ? AND run = ? ORDER BY number LIMIT 1 OFFSET ?"
        with self._guard():
            row = self._db.execute(select, (digest, run, place)).fetchone()
        return None if row is None else CallRecord(*row)

    def shared_call(self, digest: bytes) -> CallRecord | None:
        """Return a call that any run made and that gave an answer, or None."""
        return self._one(f"SELECT {_COLUMNS} FROM calls WHERE digest = ? AND status = 'done'", (digest,))

    def has_calls_of(self, sources: Sequence[str]) -> bool:
        """Return whether any run called one of these sources."""
        marks = ", ".join("?" * len(sources))
        return self._one(f"SELECT {_COLUMNS} FROM calls WHERE source IN ({marks})", tuple(sources)) is not None

    def _one(self, select: str, values: tuple[object, ...]) -> CallRecord | None:
        with self._guard():
            row = self._db.execute(f"{select} LIMIT 1", values).fetchone()
        return None if row is None else CallRecord(*row)
