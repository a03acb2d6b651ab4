"""The ledger file: opened with care, written in short batches, never left half done."""

from __future__ import annotations

import contextlib
import ctypes
import hashlib
import itertools
import json
import math
import os
import re
import sqlite3
import sys
import time
from array import array
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import fields, replace
from pathlib import Path
from typing import Any, TypeVar

from ilvren.errors import LedgerFileError, RequestError, nearest
from ilvren.ledger.approximations import ApproximationShelf
from ilvren.ledger.calls import CallShelf
from ilvren.ledger.groups import GroupShelf
from ilvren.ledger.opening import damaged, guarded, now, open_file
from ilvren.ledger.records import (
    EvaluationRecord,
    ForetoldRecord,
    IterationRecord,
    RequestRecord,
    RunRecord,
    StageRecord,
)
from ilvren.ledger.seals import SEALED, seal_of

__all__ = ["Ledger"]

Record = TypeVar("Record")

# A kill may lose this much of cheap work; a reply that took longer than COSTLY is written at once.
WINDOW_SECONDS = 0.1
COSTLY_SECONDS = 0.01
# Full run rows, problem text included.
_RUN_COLUMNS = (
    "runs.number, runs.label, problems.text, runs.file, problems.title, runs.method, runs.settings, runs.overrides,"
    " runs.versions, runs.created, runs.state, runs.process, runs.outcome, runs.seconds, runs.result,"
    " runs.files, runs.models, problems.hash, runs.seal, " + ", ".join(f"runs.{name}" for name in SEALED)
)


# No ledger holds more runs than this has digits for; SQLite's numbers end at nineteen.
_ID = re.compile("r[0-9]{1,15}")


class Ledger(GroupShelf, ApproximationShelf, CallShelf):
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
                    _this_process(),
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
            if state == "running" and _is_alive(process):
                raise RequestError(f"{run.id} is still running (process {process.split(':')[0]})")
            self._db.execute(
                "UPDATE runs SET state = 'running', process = ?, settings = ?, seal = NULL WHERE number = ?",
                (_this_process(), json.dumps(settings), run.number),
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

    def add_generation(self, run: int, iteration: int, members: Sequence[int]) -> None:
        """Record the designs of a generation by the numbers of their evaluations."""
        packed = array("q", members).tobytes()
        self._add("INSERT OR REPLACE INTO generations VALUES (?, ?, ?)", (run, iteration, packed))

    def add_iteration(self, run: int, record: IterationRecord) -> None:
        """Record an iteration."""
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
        if record.foretold is not None:
            told = record.foretold
            numbers = (_finite(told.said), _finite(told.spread), _finite(told.actual))
            self._add(
                "INSERT OR IGNORE INTO foretold VALUES (?, ?, ?, ?, ?, ?)", (run, record.number, *numbers, told.surface)
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

    # ---- reading ------------------------------------------------------------------------------

    def runs(self) -> list[RunRecord]:
        """Return all runs, oldest first."""
        try:
            return self._select("ORDER BY runs.number", ())
        except LedgerFileError:
            return self._whole_runs()

    def _whole_runs(self) -> list[RunRecord]:
        """Return the runs that are whole, and note in `damaged` what is not."""
        found: list[RunRecord] = []
        with self._guard():
            numbers = [int(number) for (number,) in self._db.execute("SELECT number FROM runs ORDER BY number")]
        self.damaged.clear()
        for number in numbers:
            try:
                own = self._select("WHERE runs.number = ?", (number,))
            except LedgerFileError:
                own = []
            found += own
            if not own:
                self.damaged.append(f"r{number} is damaged")
        return found

    def run(self, reference: str) -> RunRecord:
        """Return a run by id ("r3"), label or "last"; of a group ("g3", or its label) the one with the best feasible
        design. Raises RequestError, naming what is near."""
        found: list[RunRecord] = []
        if self.is_group(reference):
            found = [self.best_of(self.group(reference))]
        elif reference == "last":
            found = self._select("ORDER BY runs.number DESC LIMIT 1", ())
        elif _ID.fullmatch(reference):
            found = self._select("WHERE runs.number = ?", (int(reference[1:]),))
        if not found:
            found = self._select("WHERE runs.label = ?", (reference,))
        if found:
            return found[0]
        with self._guard():
            rows = self._db.execute("SELECT number, label FROM runs ORDER BY number DESC").fetchall()
        if not rows:
            raise RequestError(f'{self.path} holds no run "{reference}", nor any other')
        known = [f"r{number}" for number, _ in rows] + [label for _, label in rows if label]
        close = nearest(reference, known)
        advice = (
            f'did you mean "{close}"?' if close else f"the latest are {', '.join(known[:5])}; `ilvren runs` lists all"
        )
        raise RequestError(f'{self.path} holds no run "{reference}"', advice=advice)

    def _select(self, clause: str, values: tuple[object, ...]) -> list[RunRecord]:
        with self._guard():
            rows = self._db.execute(
                f"SELECT {_RUN_COLUMNS} FROM runs JOIN problems ON runs.problem = problems.number {clause}", values
            ).fetchall()
        return [self._run_of(row) for row in rows]

    def _run_of(self, row: tuple[Any, ...]) -> RunRecord:
        """Return a run from its row. Raises LedgerFileError where that is not what was written."""
        count = len(fields(RunRecord))
        values, (digest, seal, *sealed) = list(row[:count]), row[count:]
        try:
            for place in (6, 7, 8, 14, 15, 16):
                values[place] = None if row[place] is None else json.loads(row[place])
            is_whole = hashlib.sha256(str(row[2]).encode()).hexdigest() == digest
            is_whole &= all(isinstance(values[place], dict) for place in (6, 7, 8, 15, 16))
            is_whole &= {"set", "start"} <= set(values[7])
        except (ValueError, TypeError):
            is_whole = False
        if not is_whole or (seal is not None and seal != seal_of(*sealed)):
            raise damaged(self.path, f"what r{row[0]} says is not what was written")
        return _record_of(RunRecord, values)

    def is_alive(self, run: RunRecord) -> bool:
        """Return whether a process on this machine still works on the run."""
        return run.state == "running" and _is_alive(run.process)

    def requests(self, run: int) -> list[RequestRecord]:
        """Return the requests of a run in order."""
        return [RequestRecord(*row) for row in self._rows("SELECT number, hash, points FROM requests", run)]

    def evaluations(self, run: int, *, every_stage: bool = False) -> list[EvaluationRecord]:
        """Return the computed points of a run in order, of a run of several stages those of the last one alone: the
        others belong to other problems. An invalid violation reads as infinite."""
        first = 0 if every_stage else self._last_stage(run, "first_evaluation")
        rows = self._rows(_EVALUATIONS, run, first)
        return [EvaluationRecord(*_with_infinity(row, 6)) for row in rows]

    def evaluation(self, run: int, number: int) -> EvaluationRecord | None:
        """Return one computed point of a run by its number, or None."""
        with self._guard():
            row = self._db.execute(f"{_EVALUATIONS} WHERE run = ? AND number = ?", (run, number)).fetchone()
        return None if row is None else EvaluationRecord(*_with_infinity(row, 6))

    def evaluation_numbers(self, run: int) -> tuple[int, int]:
        """Return the least and the largest number of a run's computed points, 0 and 0 where there are none."""
        with self._guard():
            least, most = self._db.execute(
                "SELECT min(number), max(number) FROM evaluations WHERE run = ?", (run,)
            ).fetchone()
        return least or 0, most or 0

    def _last_stage(self, run: int, what: str) -> int:
        """Return where the last stage of a run begins: 0 without stages, beyond all numbers where it never began."""
        with self._guard():
            row = self._db.execute(
                f"SELECT {what} FROM stages WHERE run = ? ORDER BY number DESC LIMIT 1", (run,)
            ).fetchone()
        return 0 if row is None else sys.maxsize if row[0] is None else int(row[0])

    def iterations(self, run: int, *, every_stage: bool = False) -> list[IterationRecord]:
        """Return the iterations of a run in order, as `evaluations` does. An invalid violation reads as infinite."""
        first = 0 if every_stage else self._last_stage(run, "first_iteration")
        rows = self._rows(
            "SELECT number, path, evaluations, gradients, seconds, objective, best, violation, stationarity, step,"
            " note, point FROM iterations",
            run,
            first,
        )
        with self._guard():
            told = self._db.execute(
                "SELECT iteration, said, spread, actual, surface FROM foretold WHERE run = ?", (run,)
            ).fetchall()
        foretold = {row[0]: ForetoldRecord(_number(row[1]), _number(row[2]), _number(row[3]), row[4]) for row in told}
        records = [_record_of(IterationRecord, _with_infinity(row, 7)) for row in rows]
        return [replace(one, foretold=foretold[one.number]) if one.number in foretold else one for one in records]

    def generations(self, run: int) -> dict[int, array[int]]:
        """Return {iteration: numbers of the evaluations of its designs} of a run that recorded populations."""
        with self._guard():
            rows = self._db.execute(
                "SELECT iteration, members FROM generations WHERE run = ? ORDER BY iteration", (run,)
            ).fetchall()
        return {iteration: array("q", members) for iteration, members in rows}

    def _rows(self, select: str, run: int, first: int = 0) -> Iterable[tuple[Any, ...]]:
        with self._guard():
            given = run, first
            return self._db.execute(f"{select} WHERE run = ? AND number >= ? ORDER BY number", given).fetchall()


_EVALUATIONS = (
    "SELECT number, request, point, reply, derivatives, objective, violation, evaluations, gradients, seconds"
    " FROM evaluations"
)
_SEAL = f"UPDATE runs SET seal = seal_of({', '.join(SEALED)}) WHERE number = ?"
# A record may be written early and once more in its place.
_ADD_EVALUATION = "INSERT OR REPLACE INTO evaluations VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)"


def _evaluation_row(run: int, record: EvaluationRecord) -> tuple[object, ...]:
    head, (objective, violation), tail = record[:5], record[5:7], record[7:]
    return (run, *head, _finite(objective), _finite(violation), *tail)


def _number(value: float | None) -> float:
    return math.nan if value is None else value


def _record_of(kind: type[Record], values: Sequence[Any]) -> Record:
    """Return a record of values in the order of its fields."""
    names = (field.name for field in fields(kind))  # type: ignore[arg-type]
    return kind(**dict(zip(names, values, strict=False)))


def _with_infinity(row: tuple[Any, ...], place: int) -> list[Any]:
    values = list(row)
    values[place] = math.inf if row[place] is None else row[place]
    return values


def _finite(value: float | None) -> float | None:
    return value if value is not None and math.isfinite(value) else None


def _identity(path: Path) -> tuple[int, int] | None:
    """Return what tells a file from another of its name, None where there is none."""
    try:
        found = path.stat()
    except OSError:
        return None
    return found.st_dev, found.st_ino


def _this_process() -> str:
    return f"{os.getpid()}:{_started(os.getpid())}:{os.uname().nodename if hasattr(os, 'uname') else ''}"


def _started(process: int) -> str:
    """Return what tells this process from a later one of the same number, where the system says it."""
    try:
        facts = Path(f"/proc/{process}/stat").read_text().rsplit(")", 1)[1].split()
        return "ended" if facts[0] == "Z" else facts[19]  # one that has ended, and nobody has asked how
    except (OSError, IndexError):
        return ""


def _is_alive(process: str) -> bool:
    number, started, node = process.split(":", 2)
    if node and hasattr(os, "uname") and node != os.uname().nodename:
        return True  # another machine: we cannot know, so we do not touch it
    if int(number) == os.getpid():
        return False
    try:
        os.kill(int(number), 0)
    except ProcessLookupError:
        return False
    except OSError:
        return True
    return _started(int(number)) == started
