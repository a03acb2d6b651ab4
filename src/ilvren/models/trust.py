"""Whose code may run: that of a problem's own folder, and of the folder one stands in; other code only when told to."""

from __future__ import annotations

import contextlib
import contextvars
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from ilvren.models.source import ModelSource

__all__ = ["is_trusting", "refusal_of_place", "trusting"]

_IS_TRUSTING: contextvars.ContextVar[bool] = contextvars.ContextVar("trusting", default=False)


@contextlib.contextmanager
def trusting(is_trusting: bool = True) -> Iterator[None]:
    """Run models of whatever ledger, and wherever they lie, as long as this lasts."""
    token = _IS_TRUSTING.set(is_trusting)
    try:
        yield
    finally:
        _IS_TRUSTING.reset(token)


def is_trusting() -> bool:
    """Return whether models are run wherever they come from."""
    return _IS_TRUSTING.get()


def refusal_of_place(sources: Sequence[ModelSource], file: str) -> str:
    """Return why the models of a problem file may not be run, "" where they may: their code lies in its folder or in
    the one this process works in, or below these; programs named without a folder are the machine's own."""
    if is_trusting():
        return ""
    homes = {Path(file).resolve().parent, Path(file).absolute().parent, Path.cwd()}
    for source in sources:
        for path in source.code_files:
            if not any(path.resolve().is_relative_to(home) for home in homes):
                return f'{file}: model "{source.name}" would run {path.resolve()}, which lies outside its folder'
    return ""
