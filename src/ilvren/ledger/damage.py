"""What is damaged in a ledger, and what is whole written into a new file."""

from __future__ import annotations

import contextlib
import hashlib
import json
import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from ilvren.errors import LedgerFileError
from ilvren.ledger.seals import SEALED, seal_of
from ilvren.ledger.store import Ledger
from ilvren.records import dataclass

__all__ = ["Recovered", "damages", "recover"]

# What belongs to runs, by its number in them; and what does not, by its own.
_OF_RUNS = ("requests", "evaluations", "iterations", "generations", "checkpoints", "arrivals", "stages", "foretold")
_NUMBERS = {
    "evaluations": ("objective", "violation", "seconds"),
    "iterations": ("objective", "best", "violation", "stationarity", "step", "seconds"),
}
# Rows that cannot be read in a row are tried one by one, so many beyond the last that could.
MOST_BEYOND = 2000


@dataclass(frozen=True)
class Recovered:
    """How many runs, groups and approximations were whole, and what was lost, in words."""

    runs: int
    groups: int
    approximations: int
    lost: tuple[str, ...]


def damages(path: Path) -> list[str]:
    """Return what is wrong with a ledger, in words; nothing where all can be read and every seal holds."""
    found: list[str] = []
    try:
        with contextlib.closing(sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True)) as db:
            said = [str(row[0]) for row in db.execute("PRAGMA integrity_check(5)")]
            found += [word for word in said if word != "ok"]
            for table, columns in _NUMBERS.items():
                wrong = " OR ".join(f"typeof({name}) NOT IN ('real', 'integer', 'null')" for name in columns)
                runs = db.execute(f"SELECT DISTINCT run FROM {table} WHERE {wrong} LIMIT 5")
                found += [f"{table} of r{run} hold what are no numbers" for (run,) in runs]
    except (sqlite3.DatabaseError, UnicodeDecodeError) as error:
        found.append(str(error))
    with contextlib.suppress(Exception), Ledger(path, read_only=True) as ledger:  # refused: said above
        ledger.runs()
        found += ledger.damaged
        ledger.groups()
        ledger.approximations()
    return found


def recover(path: Path, target: Path) -> Recovered:
    """Write all of a damaged ledger that is whole into a new one at `target`, under the same numbers. Raises
    LedgerFileError where it cannot be opened at all."""
    lost: list[str] = []
    with contextlib.closing(_opened(path)) as old:
        if not _columns(old, "runs") or not _columns(old, "problems"):
            raise LedgerFileError("is damaged where it says what it holds: nothing can be read", file=str(path))
    with Ledger(target) as made, contextlib.closing(_opened(path)) as old:
        db = made.connection
        db.execute("PRAGMA foreign_keys = OFF")
        whole = _runs(old, db, lost)
        groups = _simple(old, db, "groups", ("plan",), lost)
        kept = _simple(old, db, "approximations", ("runs", "facts", "document"), lost)
        if groups:
            rows = [row for row in _rows(old, "group_runs", "", ()) if row[2] in whole and row[0] in groups]
            db.executemany("INSERT OR IGNORE INTO group_runs VALUES (?, ?, ?)", rows)
    return Recovered(len(whole), len(groups), len(kept), tuple(lost))


def _opened(path: Path) -> sqlite3.Connection:
    db = sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True, isolation_level=None)
    db.text_factory = _text
    return db


def _text(raw: bytes) -> str | bytes:
    """Return a text, or its bytes where it is none: whoever takes it in sees that."""
    try:
        return raw.decode()
    except UnicodeDecodeError:
        return raw


def _columns(db: sqlite3.Connection, table: str) -> list[str]:
    with contextlib.suppress(sqlite3.DatabaseError, UnicodeDecodeError):
        return [str(row[1]) for row in db.execute(f"PRAGMA table_info({table})")]
    return []


def _rows(db: sqlite3.Connection, table: str, where: str, values: tuple[object, ...]) -> Iterator[tuple[Any, ...]]:
    """Yield the rows of a table up to the first that cannot be read."""
    with contextlib.suppress(sqlite3.DatabaseError, UnicodeDecodeError, OverflowError):
        yield from db.execute(f"SELECT * FROM {table} {where}", values)


def _each(db: sqlite3.Connection, table: str) -> Iterator[tuple[Any, ...]]:
    """Yield the rows of a numbered table, around those that cannot be read."""
    number = 0
    for row in _rows(db, table, "ORDER BY number", ()):
        number = int(row[0])
        yield row
    for beyond in range(number + 1, number + MOST_BEYOND):
        yield from _rows(db, table, "WHERE number = ?", (beyond,))


def _runs(old: sqlite3.Connection, db: sqlite3.Connection, lost: list[str]) -> set[int]:
    """Copy the runs that are whole with all that belongs to them, and return their numbers."""
    problems = {}
    for number, digest, title, text in _each(old, "problems"):
        if isinstance(text, str) and hashlib.sha256(text.encode()).hexdigest() == digest:
            problems[number] = (number, digest, title, text)
    whole: set[int] = set()
    read = 0
    names = _columns(db, "runs")
    for values in _each(old, "runs"):
        read += 1
        row = dict(zip(_columns(old, "runs"), values, strict=False))
        trouble = _trouble(row, problems)
        if trouble:
            lost.append(f"r{row.get('number')}: {trouble}")
            continue
        db.execute("INSERT OR IGNORE INTO problems VALUES (?, ?, ?, ?)", problems[row["problem"]])
        own = {name: row[name] for name in names if name in row}
        marks = ", ".join("?" * len(own))
        db.execute(f"INSERT OR IGNORE INTO runs ({', '.join(own)}) VALUES ({marks})", tuple(own.values()))
        whole.add(row["number"])
        for table in (*_OF_RUNS, "calls"):
            _copy(old, db, table, row["number"], lost)
    with contextlib.suppress(sqlite3.DatabaseError):
        (count,) = old.execute("SELECT count(*) FROM runs").fetchone()
        if count > read:
            lost.append(f"{count - read} more of {count} runs, which cannot be read")
    return whole


def _trouble(row: dict[str, Any], problems: dict[int, Any]) -> str:
    if row.get("problem") not in problems:
        return "its problem is damaged"
    for name in ("settings", "overrides", "versions", "result", "files", "models"):
        try:
            if not isinstance(json.loads(row.get(name) or "{}"), dict):
                return f"its {name} cannot be read"
        except (ValueError, TypeError):
            return f"its {name} cannot be read"
    if row.get("seal") and row["seal"] != seal_of(*(row.get(name) for name in SEALED)):
        return "what it says is not what was written"
    return ""


def _copy(old: sqlite3.Connection, db: sqlite3.Connection, table: str, run: int, lost: list[str]) -> None:
    """Copy what belongs to a run, as far as it can be read."""
    columns = _columns(old, table)
    if not columns:
        return
    order = "number" if "number" in columns else columns[1]
    read = list(_rows(old, table, f"WHERE run = ? ORDER BY {order}", (run,)))
    with contextlib.suppress(sqlite3.DatabaseError):
        (count,) = old.execute(f"SELECT count(*) FROM {table} WHERE run = ?", (run,)).fetchone()
        if count > len(read):
            lost.append(f"r{run}: {count - len(read)} of {count} {table}")
    own = [name for name in columns if name in _columns(db, table)]
    places = [columns.index(name) for name in own]
    marks = ", ".join("?" * len(own))
    for values in read:
        with contextlib.suppress(sqlite3.DatabaseError):  # a value that the table does not take
            given = tuple(values[place] for place in places)
            db.execute(f"INSERT OR IGNORE INTO {table} ({', '.join(own)}) VALUES ({marks})", given)


def _simple(
    old: sqlite3.Connection, db: sqlite3.Connection, table: str, texts: tuple[str, ...], lost: list[str]
) -> set[int]:
    """Copy a numbered table whose columns `texts` are JSON, and return the numbers."""
    found: set[int] = set()
    columns = _columns(old, table)
    for values in _each(old, table) if columns else ():
        row = dict(zip(columns, values, strict=False))
        try:
            for name in texts:
                json.loads(row[name])
        except (ValueError, TypeError):
            lost.append(f"{table[0]}{row['number']}: it is damaged")
            continue
        marks = ", ".join("?" * len(columns))
        db.execute(f"INSERT OR IGNORE INTO {table} ({', '.join(columns)}) VALUES ({marks})", values)
        found.add(row["number"])
    return found
