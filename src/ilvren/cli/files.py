"""What several commands need to know of files: the ledger that must exist, the problem that has changed."""

from __future__ import annotations

from pathlib import Path

from ilvren.errors import LedgerFileError, RequestError
from ilvren.ledger import Ledger, RunRecord
from ilvren.regular import regular_bytes

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.problem import Problem

__all__ = ["check_suffix", "note_changed_file", "note_changed_models", "read_ledger", "recorded_ledger"]


def recorded_ledger(path: str) -> str:
    """Return `path`, refusing one that does not exist: reading must not make an empty ledger. Raises
    LedgerFileError."""
    if not Path(path).exists():
        raise LedgerFileError(
            "no such ledger",
            file=path,
            advice="runs are recorded by `ilvren run`; --ledger PATH or ILVREN_LEDGER names another one",
        )
    return path


def read_ledger(path: str) -> Ledger:
    """Open a ledger for reading."""
    return Ledger(path, read_only=True)


def note_changed_file(record: RunRecord, terminal: Terminal) -> None:
    """Say so when the problem file on disk is no longer what the run stored."""
    try:
        now = regular_bytes(record.problem_file).decode("utf-8-sig")
    except (OSError, UnicodeDecodeError):
        return
    if now != record.problem_text:
        terminal.note(
            f"note: {record.problem_file} has changed since {record.id}; what {record.id} stored is used, not the file"
        )


def note_changed_models(record: RunRecord, problem: Problem, terminal: Terminal) -> None:
    """Say so when files of models are no longer what they were: what they give now is not what the run saw."""
    from ilvren.runs import changed_files

    changed = changed_files(record, problem)
    if changed:
        terminal.note(
            f"note: files of models have changed since {record.id} ({', '.join(changed)}); values through them are"
            " those of now"
        )


def check_suffix(path: str, suffixes: tuple[str, ...]) -> str:
    """Return the suffix of an output file. Raises RequestError when its kind is not one of `suffixes`, or its
    folder is missing."""
    suffix = Path(path).suffix.lower()
    if suffix not in suffixes:
        raise RequestError(f"--output {path}: the suffix says what to write", advice="one of " + ", ".join(suffixes))
    if not Path(path).parent.is_dir():
        raise RequestError(f"--output {path}: the folder {Path(path).parent} does not exist")
    return suffix
