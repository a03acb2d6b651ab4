"""Seals: what an ended run says cannot change unseen."""

from __future__ import annotations

import hashlib
import sqlite3

__all__ = ["SEALED", "add_seals", "seal_of"]

# The columns of a run that do not change once it has ended.
SEALED = ("file", "method", "settings", "overrides", "versions", "created", "outcome", "result", "files", "models")


def seal_of(*values: object) -> str:
    """Return what changes with any of some stored values."""
    text = "\x1f".join("" if value is None else str(value) for value in values)
    return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()[:24]


def add_seals(db: sqlite3.Connection) -> None:
    """Let statements of a connection compute seals."""
    db.create_function("seal_of", -1, seal_of, deterministic=True)
