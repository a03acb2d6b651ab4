"""Opening a ledger file with care: what is not a ledger is refused and left alone, failures are told apart."""

from __future__ import annotations

import contextlib
import datetime
import json
import os
import sqlite3
import stat
from collections.abc import Iterator
from pathlib import Path

from ilvren.errors import LedgerFileError, MachineError
from ilvren.ledger.schema import APPLICATION_ID, STEPS
from ilvren.ledger.seals import add_seals

__all__ = ["damaged", "guarded", "last_opened", "now", "open_file"]

# How long a write waits for another process before it gives up.
PATIENCE_SECONDS = 10.0
_OPENED: list[Path] = []
_SQLITE_MAGIC = b"SQLite format 3\x00"


def open_file(path: Path, *, read_only: bool) -> tuple[sqlite3.Connection, list[str]]:
    """Return a connection to the ledger at `path`, brought up to date, and notes for the user.

    It is made when it is missing, unless `read_only`. Raises LedgerFileError, MachineError.
    """
    _check_file(path, read_only)
    _OPENED[:] = [path]
    if read_only and _is_older(path):
        if not _is_writable(path):
            raise _refusal(
                path,
                "was written by an older Ilvren and cannot be brought up to date here",
                "copy it, and open the copy",
            )
        open_file(path, read_only=False)[0].close()
    if not read_only and not path.exists():
        _create(path)
    with guarded(path):
        db = _connect(path, read_only)
    try:
        with guarded(path):
            _check_schema(db, path, read_only)
            notes = [] if read_only else _prepare(db, path)
    except BaseException:
        db.close()
        raise
    return db, notes


def last_opened() -> Path | None:
    """Return the file that this process has opened last."""
    return _OPENED[0] if _OPENED else None


def _create(path: Path) -> None:
    """Make a new ledger aside and give it its name when it is whole: whoever opens that name meanwhile finds nothing or
    a ledger. Where another process was quicker, its file stands; where names cannot be linked, it is made in place."""
    aside = path.with_name(f".{path.name}.{os.getpid()}.new")
    try:
        with guarded(path):
            db = _connect(aside, read_only=False)
            try:
                _prepare(db, path)
                # Closing says nothing where a full disk keeps a part of it in the side file, which does not come along.
                db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
            finally:
                db.close()
        _clear_side_files(path)
        with contextlib.suppress(OSError):
            os.link(aside, path)
    finally:
        for suffix in ("", "-wal", "-shm", "-journal"):
            with contextlib.suppress(OSError):
                aside.with_name(aside.name + suffix).unlink()


def _clear_side_files(path: Path) -> None:
    """Take away what a ledger of this name has left beside it, or a run on one that was deleted still writes there:
    the new one would take it for its own, and both would be damaged."""
    for suffix in ("-wal", "-shm", "-journal"):
        with contextlib.suppress(OSError):
            if not path.exists():
                path.with_name(path.name + suffix).unlink()


def _refusal(path: Path, message: str, advice: str | None = None) -> LedgerFileError:
    return LedgerFileError(message, file=str(path), advice=advice)


def _check_file(path: Path, read_only: bool) -> None:
    if path.is_dir():
        raise _refusal(path, "is a folder, not a ledger")
    if path.exists() and not stat.S_ISREG(path.stat().st_mode):
        raise _refusal(path, "is no file of its own (a pipe or a device), and cannot be a ledger")
    if not path.exists():
        if read_only:
            raise _refusal(
                path,
                "no such ledger",
                "runs are recorded by `ilvren run`; --ledger PATH or ILVREN_LEDGER names another one",
            )
        if not path.parent.is_dir():
            raise _refusal(path, f"the folder {path.parent} does not exist")
        return
    try:
        with path.open("rb") as file:
            head = file.read(16)
    except OSError as error:
        raise _refusal(path, f"cannot be read: {error.strerror}") from None
    if head and head != _SQLITE_MAGIC:
        raise _refusal(path, "is not a ledger", "name another file with --ledger PATH")
    if not head and read_only:
        raise _refusal(path, "is empty, not a ledger")
    if not read_only and not _is_writable(path):
        raise _refusal(path, "is read-only, and a run must be recorded", "name another file with --ledger PATH")


def _is_writable(path: Path) -> bool:
    # Root may write to any file; a file marked read-only is still not ours to change.
    marked = path.stat().st_mode & 0o222
    return bool(marked) and os.access(path, os.W_OK) and os.access(path.resolve().parent, os.W_OK)


def _is_older(path: Path) -> bool:
    with guarded(path):
        db = _connect(path, read_only=True)
        try:
            (application,) = db.execute("PRAGMA application_id").fetchone()
            (version,) = db.execute("PRAGMA user_version").fetchone()
            return bool(application == APPLICATION_ID and 0 < version < max(STEPS))
        except sqlite3.DatabaseError:
            return False  # said in full when it is opened
        finally:
            db.close()


def _connect(path: Path, read_only: bool) -> sqlite3.Connection:
    location = path.resolve().as_uri()
    if read_only and _is_writable(path):
        # A reader that may write leaves no side files behind; it is kept from writing all the same.
        db = sqlite3.connect(f"{location}?mode=rw", uri=True, timeout=PATIENCE_SECONDS, isolation_level=None)
        db.execute("PRAGMA query_only = ON")
        return db
    if read_only:
        try:
            db = sqlite3.connect(f"{location}?mode=ro", uri=True, timeout=PATIENCE_SECONDS, isolation_level=None)
            db.execute("SELECT count(*) FROM sqlite_master").fetchone()
            return db
        except sqlite3.OperationalError:
            # A folder we may not write to cannot hold the side files of WAL; nobody writes there then.
            return sqlite3.connect(f"{location}?mode=ro&immutable=1", uri=True, isolation_level=None)
    return sqlite3.connect(location, uri=True, timeout=PATIENCE_SECONDS, isolation_level=None)


def _check_schema(db: sqlite3.Connection, path: Path, read_only: bool) -> None:
    try:
        db.execute("BEGIN")  # all three from one state, whoever writes meanwhile
        (tables,) = db.execute("SELECT count(*) FROM sqlite_master").fetchone()
        (application,) = db.execute("PRAGMA application_id").fetchone()
        (version,) = db.execute("PRAGMA user_version").fetchone()
        db.execute("COMMIT")
    except sqlite3.DatabaseError as error:
        if isinstance(error, sqlite3.OperationalError):
            raise
        raise damaged(path, str(error)) from None
    if application != APPLICATION_ID and (tables or read_only):
        raise _refusal(
            path, "is an SQLite file of another program, not a ledger", "name another file with --ledger PATH"
        )
    if version > max(STEPS):
        raise _refusal(
            path,
            f"was written by a newer Ilvren (schema {version}; this one knows up to {max(STEPS)})",
            "update Ilvren, or name another file with --ledger PATH",
        )


def _prepare(db: sqlite3.Connection, path: Path) -> list[str]:
    notes: list[str] = []
    mode = db.execute("PRAGMA journal_mode = WAL").fetchone()[0]
    if mode != "wal":
        notes.append(f"{path}: this file system allows no write-ahead log; the ledger uses the slower default")
    db.execute("PRAGMA synchronous = NORMAL")
    db.execute("PRAGMA foreign_keys = ON")
    add_seals(db)
    if db.execute("PRAGMA user_version").fetchone()[0] == max(STEPS):
        return notes
    db.execute("BEGIN IMMEDIATE")
    try:
        (version,) = db.execute("PRAGMA user_version").fetchone()
        for number, (about, statements) in sorted(STEPS.items()):
            if number <= version:
                continue
            for statement in statements:
                db.execute(statement)
            db.execute("INSERT INTO schema_steps VALUES (?, ?, ?)", (number, about, now()))
        db.execute(f"PRAGMA application_id = {APPLICATION_ID}")
        db.execute(f"PRAGMA user_version = {max(STEPS)}")
        db.execute("COMMIT")
    except BaseException:
        db.execute("ROLLBACK")
        raise
    return notes


@contextlib.contextmanager
def guarded(path: Path) -> Iterator[None]:
    """Turn failures of the machine into MachineError, of the file into LedgerFileError. Both are raised."""
    try:
        yield
    except sqlite3.OperationalError as error:
        message = str(error)
        if "decode" in message:
            raise damaged(path, message) from None
        if "readonly" in message:
            raise _refusal(path, "is read-only, and a run must be recorded") from None
        if "locked" in message or "busy" in message:
            raise MachineError(f"{path}: the ledger stays locked by another process") from None
        if "full" in message or "I/O" in message:
            raise MachineError(f"{path}: the disk is full or fails ({message})") from None
        raise MachineError(f"{path}: {message}") from None
    except (sqlite3.DatabaseError, UnicodeDecodeError, json.JSONDecodeError) as error:
        raise damaged(path, str(error)) from None


def damaged(path: Path, what: str) -> LedgerFileError:
    """Return the error for a ledger that is damaged, with what shows it."""
    return _refusal(path, f"is damaged ({what})", f"`ilvren runs --recover FILE --ledger {path}` writes what is whole "
                    "into a new ledger")  # fmt: skip


def now() -> str:
    """Return the time as the ledger writes it: UTC, to the second."""
    return datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds")
