"""What runs are and did, read from a ledger."""

from __future__ import annotations

import hashlib
import json
import math
import re
import sys
from array import array
from collections.abc import Iterable, Sequence
from dataclasses import fields, replace
from typing import Any, TypeVar

from ilvren.errors import LedgerFileError, RequestError, nearest
from ilvren.ledger.groups import GroupShelf
from ilvren.ledger.opening import damaged
from ilvren.ledger.processes import is_alive
from ilvren.ledger.records import (
    EvaluationRecord,
    ForetoldRecord,
    IterationRecord,
    RequestRecord,
    RunRecord,
)
from ilvren.ledger.seals import SEALED, seal_of

__all__ = ["RunReading"]

Record = TypeVar("Record")

# No ledger holds more runs than this has digits for; SQLite's numbers end at nineteen.
_ID = re.compile("r[0-9]{1,15}")

_RUN_COLUMNS = (
    "runs.number, runs.label, problems.text, runs.file, problems.title, runs.method, runs.settings, runs.overrides,"
    " runs.versions, runs.created, runs.state, runs.process, runs.outcome, runs.seconds, runs.result,"
    " runs.files, runs.models, problems.hash, runs.seal, " + ", ".join(f"runs.{name}" for name in SEALED)
)


class RunReading(GroupShelf):
    """The part of a ledger that tells what runs are and did. Raises LedgerFileError for what is damaged."""

    damaged: list[str]

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
        return run.state == "running" and is_alive(run.process)

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
