"""Around a call of someone's function: time limits, what it prints, and files imported once per content."""

from __future__ import annotations

import contextlib
import faulthandler
import importlib.machinery
import importlib.util
import os
import signal
import sys
import threading
import traceback
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from ilvren.models.python.reads import begin_watching
from ilvren.printable import printable

__all__ = ["TooSlow", "be_apart", "first_line", "imported", "line_in", "standard_output_apart", "time_limit"]

# How long after its timeout a call that does not return may stop itself.
HANG_GRACE_SECONDS = 1.0
# Whether this process is there to be lost: a call that cannot be stopped ends it, and its standard output goes to
# standard error for good.
_is_apart = [False]
_MODULES: dict[tuple[Path, int], Any] = {}


class TooSlow(Exception):
    """A call took longer than its timeout."""


def be_apart() -> None:
    """Let this process be lost: what it prints goes to standard error, and a call that cannot be stopped ends it, a
    little after its timeout."""
    with contextlib.suppress(OSError):
        os.dup2(2, 1)
    sys.stdout = sys.stderr
    _is_apart[0] = True
    begin_watching()


class _FromSource(importlib.machinery.SourceFileLoader):
    """Reads the file itself: compiled files tell times apart by the second, so that one changed twice within a second,
    its length staying the same, would be taken for what it was."""

    def get_code(self, fullname: str) -> Any:
        path = self.get_filename(fullname)
        return self.source_to_code(self.get_data(path), path)


def imported(path: Path) -> Any:
    """Import a file once per content and return the module; its own folder is importable for it. Nothing compiled is
    read for it, or left behind for what it imports."""
    path = path.resolve()
    key = (path, path.stat().st_mtime_ns)
    if key not in _MODULES:
        name = f"ilvren_model_{path.stem}_{len(_MODULES)}"
        if path.suffix not in importlib.machinery.SOURCE_SUFFIXES:
            raise ImportError(f"{path} is no Python file")
        spec = importlib.util.spec_from_file_location(name, path, loader=_FromSource(name, str(path)))
        assert spec is not None and spec.loader is not None
        module = importlib.util.module_from_spec(spec)
        folder = str(path.parent)
        if folder not in sys.path:
            sys.path.append(folder)
        sys.modules[name] = module
        writes, sys.dont_write_bytecode = sys.dont_write_bytecode, True
        try:
            spec.loader.exec_module(module)
        finally:
            sys.dont_write_bytecode = writes
        _MODULES[key] = module
    return _MODULES[key]


def line_in(path: Path, error: BaseException) -> str:
    """Return " (file.py:line)" of the file's line that an exception passed, "" where it passed none."""
    frames = traceback.extract_tb(error.__traceback__)
    own = [frame for frame in frames if frame.filename == str(path)]
    return f" ({path.name}:{own[-1].lineno})" if own else ""


def first_line(error: BaseException) -> str:
    """Return the first line of an exception's text; some raise when asked for it."""
    try:
        told = str(error)
    except BaseException:
        return ""
    return printable(told.splitlines()[0][:200]) if told else ""


@contextlib.contextmanager
def standard_output_apart() -> Iterator[None]:
    """Send to standard error what is printed inside, by Python or by whatever it starts."""
    if _is_apart[0]:
        yield
        return
    sys.stdout.flush()
    try:
        kept = os.dup(1)
    except OSError:  # there is no standard output
        with contextlib.redirect_stdout(sys.stderr):
            yield
        return
    try:
        with contextlib.suppress(OSError):
            os.dup2(2, 1)
        with contextlib.redirect_stdout(sys.stderr):
            yield
    finally:
        os.dup2(kept, 1)
        os.close(kept)


@contextlib.contextmanager
def time_limit(seconds: float | None) -> Iterator[None]:
    """Stop what runs inside after so many seconds. Signals reach the main thread only, and code that does not come back
    to Python cannot be stopped: see `be_apart`."""
    if seconds is None or threading.current_thread() is not threading.main_thread() or not hasattr(signal, "setitimer"):
        yield
        return

    def stop(*_: object) -> None:
        raise TooSlow

    before = signal.signal(signal.SIGALRM, stop)
    signal.setitimer(signal.ITIMER_REAL, seconds)
    if _is_apart[0]:
        faulthandler.dump_traceback_later(seconds + HANG_GRACE_SECONDS, exit=True)
    try:
        yield
    finally:
        if _is_apart[0]:
            faulthandler.cancel_dump_traceback_later()
        signal.setitimer(signal.ITIMER_REAL, 0.0)
        signal.signal(signal.SIGALRM, before)
