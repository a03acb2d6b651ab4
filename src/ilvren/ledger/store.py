"""The ledger file: opened with care, written in short batches, never left half done."""

from __future__ import annotations

import contextlib
import ctypes
import hashlib
import itertools
import json
import math
import sqlite3
import time
from array import array
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, TypeVar

from ilvren.errors import RequestError
from ilvren.ledger.approximations import ApproximationShelf
from ilvren.ledger.calls import CallShelf
from ilvren.ledger.opening import guarded, now, open_file
from ilvren.ledger.processes import is_alive, this_process
from ilvren.ledger.reading import RunReading
from ilvren.ledger.records import (
    EvaluationRecord,
    IterationRecord,
    RequestRecord,
    RunRecord,
    StageRecord,
)
from ilvren.ledger.seals import SEALED

__all__ = ["Ledger"]

Record = TypeVar("Record")

# A kill may lose this much of cheap work; a reply that took longer than COSTLY is written at once.
WINDOW_SECONDS = 0.1
COSTLY_SECONDS = 0.01
# Full run rows, problem text included.


class Ledger(RunReading, ApproximationShelf, CallShelf):
    """One ledger file. Use as a context manager, or call `close`.

    `Ledger(path)` opens for writing and makes the file when it is missing; with `read_only` it must exist.
    Raises LedgerFileError for a file that cannot serve, MachineError when the disk or a lock fails us.
    """

    def __init__(self, path: str | Path, *, read_only: bool = False) -> None:
        self.path = Path(path)
        self._pending: list[tuple[str, tuple[object, ...]]] = []
        self._written = 0.0
        self._db, self.notes = open_file(self.path, read_only=read_only)
        self.damaged: list[str] = []  # what `runs` has left out
        self.rescued = ""  # what is to be said where the file went away and was written anew
        self._identity = _identity(self.path)

    @property
    def connection(self) -> sqlite3.Connection:
        """Return the connection to the file, for whoever writes rows as they are."""
        return self._db

    def _guard(self) -> contextlib.AbstractContextManager[None]:
        return guarded(self.path)

    def close(self) -> None:
        """Write what is pending and close the file."""
        try:
            self.flush()
        finally:
            self._db.close()

    def __enter__(self) -> Ledger:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    @contextlib.contextmanager
    def _transaction(self) -> Iterator[None]:
        """All or nothing. An interrupt may strike after the commit and before the caller knows of it: then the same
        rows are written once more, which their statements ignore."""
        with self._guard():
            self._db.execute("BEGIN IMMEDIATE")
            try:
                yield
                self._db.execute("COMMIT")
            except BaseException:
                with contextlib.suppress(sqlite3.Error):
                    self._db.execute("ROLLBACK")
                raise

    # ---- writing ------------------------------------------------------------------------------

    def flush(self) -> None:
        """Write all pending rows in one transaction."""
        if not self._pending:
            return
        with self._transaction():
            for statement, rows in itertools.groupby(self._pending, key=lambda item: item[0]):
                self._db.executemany(statement, [values for _, values in rows])
        self._pending.clear()
        self._written = time.monotonic()

    def _add(self, statement: str, values: tuple[object, ...], *, took: float = 0.0) -> None:
        self._pending.append((statement, values))
        if took > COSTLY_SECONDS or time.monotonic() - self._written > WINDOW_SECONDS:
            self.flush()

    def begin_run(
        self,
        *,
        problem_text: str,
        problem_file: str,
        problem_title: str,
        method: str,
        settings: Mapping[str, object],
        overrides: Mapping[str, Mapping[str, Any]],
        versions: Mapping[str, str],
        label: str | None,
        files: Mapping[str, str] | None = None,
        models: Mapping[str, Mapping[str, str]] | None = None,
        member: tuple[int, int] | None = None,
    ) -> int:
        """Record that a run begins and return its number; `member` is (number of its group, place in the plan).

        Raises RequestError for a label in use."""
        digest = hashlib.sha256(problem_text.encode()).hexdigest()
        taken = RequestError(f'the label "{label}" is in use in {self.path}', advice="choose another --label")
        with self._transaction():
            if label is not None and self.has_label(label):
                raise taken
            self._db.execute(
                "INSERT OR IGNORE INTO problems (hash, title, text) VALUES (?, ?, ?)",
                (digest, problem_title, problem_text),
            )
            cursor = self._db.execute(
                "INSERT INTO runs (label, problem, file, method, settings, overrides, versions, created, state,"
                " process, files, models) VALUES"
                " (?, (SELECT number FROM problems WHERE hash = ?), ?, ?, ?, ?, ?, ?, 'running', ?, ?, ?)",
                (
                    label,
                    digest,
                    problem_file,
                    method,
                    json.dumps(settings),
                    json.dumps(overrides),
                    json.dumps(versions),
                    now(),
                    this_process(),
                    json.dumps(dict(files or {})),
                    json.dumps(dict(models or {})),
                ),
            )
            if member is not None:
                self._db.execute("INSERT OR REPLACE INTO group_runs VALUES (?, ?, ?)", (*member, cursor.lastrowid))
        self._written = time.monotonic()
        assert cursor.lastrowid is not None
        return cursor.lastrowid

    def reopen_run(self, run: RunRecord, settings: Mapping[str, object]) -> None:
        """Mark an ended or killed run as running again, under these settings.

        Raises RequestError when another process still works on it.
        """
        with self._transaction():
            state, process = self._db.execute(
                "SELECT state, process FROM runs WHERE number = ?", (run.number,)
            ).fetchone()
            if state == "running" and is_alive(process):
                raise RequestError(f"{run.id} is still running (process {process.split(':')[0]})")
            self._db.execute(
                "UPDATE runs SET state = 'running', process = ?, settings = ?, seal = NULL WHERE number = ?",
                (this_process(), json.dumps(settings), run.number),
            )

    def note_settings(self, run: int, settings: Mapping[str, object]) -> None:
        """Record what a run has added to its settings, at once."""
        self._pending.append(
            ("UPDATE runs SET settings = ?, seal = NULL WHERE number = ?", (json.dumps(settings), run))
        )
        self.flush()

    def note_refinement(self, run: int, refinement: Mapping[str, object], stage: int) -> None:
        """Record how finely a run over time looks at its problem from a stage on, at once."""
        text = json.dumps(refinement)
        self._pending.append(
            (
                "UPDATE runs SET overrides = json_set(overrides, '$.time', json(?), '$.time_stages',"
                " json_set(coalesce(json_extract(overrides, '$.time_stages'), '{}'), ?, json(?))), seal = NULL"
                " WHERE number = ?",
                (text, f'$."{stage}"', text, run),
            )
        )
        self.flush()

    def note_sample(self, run: int, sample: Mapping[str, object]) -> None:
        """Record the designs that a sample consists of from now on, at once."""
        given = json.dumps(sample), run
        self._pending.append(
            (
                "UPDATE runs SET overrides = json_set(overrides, '$.sample', json(?)), seal = NULL WHERE number = ?",
                given,
            )
        )
        self.flush()

    def note_on(self, run: int, on: Mapping[str, object]) -> None:
        """Record which approximations a run has searched on, at once."""
        given = json.dumps(on), run
        self._pending.append(
            ("UPDATE runs SET overrides = json_set(overrides, '$.on', json(?)), seal = NULL WHERE number = ?", given)
        )
        self.flush()

    def restore_run(self, run: RunRecord) -> None:
        """Put back what `reopen_run` and an end have changed: the run is as it was."""
        self._pending.clear()
        result = None if run.result is None else json.dumps(run.result)
        with self._transaction():
            self._db.execute(
                "UPDATE runs SET state = ?, process = ?, settings = ?, outcome = ?, seconds = ?, result = ?,"
                " seal = NULL WHERE number = ?",
                (run.state, run.process, json.dumps(run.settings), run.outcome, run.seconds, result, run.number),
            )
            if run.state == "ended":
                self._db.execute(_SEAL, (run.number,))

    def add_request(self, run: int, request: RequestRecord) -> None:
        """Record a request."""
        self._add(
            "INSERT OR IGNORE INTO requests VALUES (?, ?, ?, ?)", (run, request.number, request.hash, request.points)
        )

    def add_evaluation(self, run: int, record: EvaluationRecord, *, took: float) -> None:
        """Record a computed point that took so many seconds."""
        self._add(_ADD_EVALUATION, _evaluation_row(run, record), took=took)

    def add_evaluations(self, run: int, records: Sequence[EvaluationRecord], *, took: float) -> None:
        """Record computed points that took so many seconds each."""
        if records:
            self._pending += [(_ADD_EVALUATION, _evaluation_row(run, record)) for record in records[:-1]]
            self.add_evaluation(run, records[-1], took=took)

    def thin_evaluation(self, run: int, thinned: EvaluationRecord) -> None:
        """Drop the vectors of a computed point that is on record, all but its digest."""
        given = thinned.point, thinned.values, thinned.derivatives, run, thinned.number
        self._add("UPDATE evaluations SET point = ?, reply = ?, derivatives = ? WHERE run = ? AND number = ?", given)

    def thin_iteration(self, run: int, number: int) -> None:
        """Drop the design of an iteration that is on record."""
        self._add("UPDATE iterations SET point = x'' WHERE run = ? AND number = ?", (run, number))

    def plan_stages(self, run: int, count: int) -> None:
        """Record how many stages a run is to have; none of them has begun."""
        for number in range(1, count + 1):
            self._add("INSERT OR IGNORE INTO stages VALUES (?, ?, NULL, NULL, NULL)", (run, number))
        self.flush()

    def begin_stage(self, run: int, stage: StageRecord) -> None:
        """Record where a stage begins."""
        given = stage.first_request, stage.first_evaluation, stage.first_iteration, run, stage.number
        self._add(
            "UPDATE stages SET first_request = ?, first_evaluation = ?, first_iteration = ?"
            " WHERE run = ? AND number = ?",
            given,
        )

    def stages(self, run: int) -> list[StageRecord]:
        """Return the stages of a run that have begun, in order."""
        rows = self._rows("SELECT number, first_request, first_evaluation, first_iteration FROM stages", run)
        return [StageRecord(*row) for row in rows if row[1] is not None]

    def add_arrival(self, run: int, request: int, tickets: Sequence[int]) -> None:
        """Record which points came back at a request."""
        self._add("INSERT OR REPLACE INTO arrivals VALUES (?, ?, ?)", (run, request, array("q", tickets).tobytes()))

    def arrivals(self, run: int) -> dict[int, tuple[int, ...]]:
        """Return {request: tickets} of a run whose replies came in any order."""
        with self._guard():
            rows = self._db.execute("SELECT request, tickets FROM arrivals WHERE run = ?", (run,)).fetchall()
        return {request: tuple(array("q", tickets)) for request, tickets in rows}

    def keep_checkpoint(self, run: int, state: bytes) -> None:
        """Record where the replay of a run may begin, in place of where it could before."""
        self._add("INSERT OR REPLACE INTO checkpoints VALUES (?, ?)", (run, state))

    def checkpoint(self, run: int) -> bytes | None:
        """Return where the replay of a run may begin, None where that is its beginning."""
        with self._guard():
            row = self._db.execute("SELECT state FROM checkpoints WHERE run = ?", (run,)).fetchone()
        return None if row is None else bytes(row[0])

    def add_iteration(self, run: int, record: IterationRecord, members: Sequence[int] | None = None) -> None:
        """Record an iteration, with the designs of its generation by the numbers of their evaluations. All of it comes
        on record at once: a run that goes on takes an iteration that is there for whole."""
        if members is not None:
            packed = array("q", members).tobytes()
            self._pending.append(("INSERT OR REPLACE INTO generations VALUES (?, ?, ?)", (run, record.number, packed)))
        if record.foretold is not None:
            told = record.foretold
            numbers = (_finite(told.said), _finite(told.spread), _finite(told.actual))
            row = (run, record.number, *numbers, told.surface)
            self._pending.append(("INSERT OR IGNORE INTO foretold VALUES (?, ?, ?, ?, ?, ?)", row))
        self._add(
            "INSERT OR IGNORE INTO iterations VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (
                run,
                record.number,
                record.path,
                record.evaluations,
                record.gradients,
                record.seconds,
                _finite(record.objective),
                _finite(record.best),
                _finite(record.violation),
                _finite(record.stationarity),
                _finite(record.step),
                record.note,
                record.point,
            ),
        )

    def withdraw_run(self, run: int) -> None:
        """Take back a run that has not begun to search, with all that was recorded of it."""
        self._pending.clear()
        with self._transaction():
            tables = (
                "requests",
                "evaluations",
                "iterations",
                "generations",
                "calls",
                "checkpoints",
                "arrivals",
                "stages",
            )
            for table in (*tables, "group_runs"):
                self._db.execute(f"DELETE FROM {table} WHERE run = ?", (run,))
            self._db.execute("DELETE FROM runs WHERE number = ?", (run,))

    def end_run(self, run: int, *, outcome: str, seconds: float, result: Mapping[str, object]) -> None:
        """Record how a run ended, with everything still pending."""
        self._pending.append(
            (
                "UPDATE runs SET state = 'ended', outcome = ?, seconds = ?, result = ?, method = coalesce(?, method)"
                " WHERE number = ?",
                (outcome, seconds, json.dumps(result), result.get("method"), run),
            )
        )
        self._pending.append((_SEAL, (run,)))
        self.flush()
        self._rescue()

    def _rescue(self) -> None:
        """Write all into a new file where this one was deleted or replaced meanwhile, and note it."""
        if _identity(self.path) == self._identity:
            return
        names = (self.path.with_name(f"{self.path.stem}-rescued{k or ''}{self.path.suffix}") for k in itertools.count())
        target = self.path if not self.path.exists() else next(name for name in names if not name.exists())
        with self._guard(), contextlib.closing(sqlite3.connect(target)) as copy:
            self._db.backup(copy)
        self.rescued = f"{self.path} was deleted or replaced during the run: all of it is in {target} now"
        # Closed, SQLite would delete the side files by their names, which are those of another ledger by now.
        ctypes.pythonapi.Py_IncRef(ctypes.py_object(self._db))
        self._db, _ = open_file(target, read_only=False)
        self.path, self._identity = target, _identity(target)


_SEAL = f"UPDATE runs SET seal = seal_of({', '.join(SEALED)}) WHERE number = ?"
# A record may be written early and once more in its place.
_ADD_EVALUATION = "INSERT OR REPLACE INTO evaluations VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)"


def _evaluation_row(run: int, record: EvaluationRecord) -> tuple[object, ...]:
    head, (objective, violation), tail = record[:5], record[5:7], record[7:]
    return (run, *head, _finite(objective), _finite(violation), *tail)


def _finite(value: float | None) -> float | None:
    return value if value is not None and math.isfinite(value) else None


def _identity(path: Path) -> tuple[int, int] | None:
    """Return what tells a file from another of its name, None where there is none."""
    try:
        found = path.stat()
    except OSError:
        return None
    return found.st_dev, found.st_ino
