"""Around a call of someone's function: time limits, what it prints, and files imported once per content."""

from __future__ import annotations

import contextlib
import faulthandler
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


def imported(path: Path) -> Any:
    """Import a file once per content and return the module; its own folder is importable for it."""
    path = path.resolve()
    key = (path, path.stat().st_mtime_ns)
    if key not in _MODULES:
        name = f"ilvren_model_{path.stem}_{len(_MODULES)}"
        spec = importlib.util.spec_from_file_location(name, path)
        if spec is None or spec.loader is None:
            raise ImportError(f"{path} is no Python file")
        module = importlib.util.module_from_spec(spec)
        folder = str(path.parent)
        if folder not in sys.path:
            sys.path.append(folder)
        sys.modules[name] = module
        spec.loader.exec_module(module)
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
    except Exception:
        return ""
    return told.splitlines()[0][:200] if told else ""


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
