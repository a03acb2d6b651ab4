"""Approximations in the ledger: what was learnt from which runs."""

from __future__ import annotations

import contextlib
import json
import re
import sqlite3
from abc import abstractmethod
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from ilvren.errors import RequestError, nearest
from ilvren.ledger.opening import now
from ilvren.ledger.records import ApproximationRecord

__all__ = ["ApproximationShelf"]

_ID = re.compile("a[0-9]{1,15}")
_COLUMNS = "number, label, runs, facts, document, created"


class ApproximationShelf:
    """The part of a ledger that knows approximations."""

    path: Path
    _db: sqlite3.Connection

    @abstractmethod
    def _guard(self) -> contextlib.AbstractContextManager[None]: ...

    @abstractmethod
    def _transaction(self) -> contextlib.AbstractContextManager[None]: ...

    @abstractmethod
    def has_label(self, label: str) -> bool:
        """Return whether something has this label."""

    def _has_approximations(self) -> bool:
        """Return whether the file has room for them: one that an older version wrote, opened for reading, has not."""
        with self._guard():
            return bool(self._db.execute("SELECT 1 FROM sqlite_master WHERE name = 'approximations'").fetchone())

    def next_approximation(self) -> str:
        """Return the id that the next one gets, unless another process is quicker."""
        with self._guard():
            row = self._db.execute("SELECT seq FROM sqlite_sequence WHERE name = 'approximations'").fetchone()
        return f"a{(row[0] if row else 0) + 1}"

    def add_approximation(
        self, runs: Sequence[str], facts: Mapping[str, Any], document: str, *, label: str | None = None
    ) -> ApproximationRecord:
        """Record an approximation and return it. Raises RequestError for a label in use."""
        with self._transaction():
            if label is not None and self.has_label(label):
                raise RequestError(f'the label "{label}" is in use in {self.path}', advice="choose another --label")
            cursor = self._db.execute(
                "INSERT INTO approximations (label, runs, facts, document, created) VALUES (?, ?, ?, ?, ?)",
                (label, json.dumps(list(runs)), json.dumps(facts), document, now()),
            )
        assert cursor.lastrowid is not None
        return self.approximation(f"a{cursor.lastrowid}")

    def approximations(self) -> list[ApproximationRecord]:
        """Return all approximations, oldest first."""
        if not self._has_approximations():
            return []
        with self._guard():
            rows = self._db.execute(f"SELECT {_COLUMNS} FROM approximations ORDER BY number").fetchall()
            return [_record(row) for row in rows]

    def is_approximation(self, reference: str) -> bool:
        """Return whether a reference names an approximation, by its id or label."""
        if _ID.fullmatch(reference):
            return True
        if not self._has_approximations():
            return False
        with self._guard():
            return bool(self._db.execute("SELECT 1 FROM approximations WHERE label = ?", (reference,)).fetchone())

    def approximation(self, reference: str) -> ApproximationRecord:
        """Return an approximation by id ("a3") or label. Raises RequestError, naming what is near."""
        where, value = ("number", reference[1:]) if _ID.fullmatch(reference) else ("label", reference)
        row, known = None, []
        if self._has_approximations():
            with self._guard():
                row = self._db.execute(f"SELECT {_COLUMNS} FROM approximations WHERE {where} = ?", (value,)).fetchone()
                known = self._db.execute("SELECT number, label FROM approximations ORDER BY number DESC").fetchall()
        if row is None:
            names = [f"a{number}" for number, _ in known] + [label for _, label in known if label]
            close = nearest(reference, names)
            advice = f'did you mean "{close}"?' if close else "approximations: " + ", ".join(names[:5])
            if not names:
                advice = "`ilvren approximate RUN` makes one"
            raise RequestError(f'{self.path} holds no approximation "{reference}"', advice=advice)
        with self._guard():
            return _record(row)


def _record(row: tuple[Any, ...]) -> ApproximationRecord:
    return ApproximationRecord(row[0], row[1], tuple(json.loads(row[2])), json.loads(row[3]), row[4], row[5])
