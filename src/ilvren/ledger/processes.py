"""Which process works on a run, and whether it still does."""

from __future__ import annotations

import os
from pathlib import Path

__all__ = ["is_alive", "this_process"]


def this_process() -> str:
    """Return what tells this process: its number, when it began, the machine."""
    return f"{os.getpid()}:{_started(os.getpid())}:{os.uname().nodename if hasattr(os, 'uname') else ''}"


def _started(process: int) -> str:
    """Return what tells this process from a later one of the same number, where the system says it."""
    try:
        facts = Path(f"/proc/{process}/stat").read_text().rsplit(")", 1)[1].split()
        return "ended" if facts[0] == "Z" else facts[19]  # one that has ended, and nobody has asked how
    except (OSError, IndexError):
        return ""


def is_alive(process: str) -> bool:
    """Return whether a process of `this_process` still runs; one on another machine is taken to."""
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
