"""What decides a function's result beside its arguments: the files it imports, and those it is seen to read."""

from __future__ import annotations

import ast
import contextlib
import importlib.util
import os
import sys
from collections.abc import Iterable
from functools import lru_cache
from pathlib import Path
from typing import Any

from ilvren.regular import regular_text

__all__ = ["begin_watching", "local_imports", "undeclared"]

# More files than this are no model but a library.
MOST_IMPORTED = 200

_seen: set[str] = set()
_stuck: dict[str, str] = {}  # file of a function: what it was seen to read
_is_watching = [False]


def local_imports(path: Path) -> set[Path]:
    """Return the files that a Python file imports from its own folder, directly or not, as its text says."""
    found: set[Path] = set()
    waiting = [path]
    while waiting and len(found) < MOST_IMPORTED:
        for own in _imported_by(waiting.pop(), path.parent):
            if own not in found and own != path:
                found.add(own)
                waiting.append(own)
    return found


def _imported_by(path: Path, folder: Path) -> set[Path]:
    try:
        stamp = path.stat()
    except OSError:
        return set()
    return _parsed(path, folder, stamp.st_mtime_ns, stamp.st_size)


@lru_cache(maxsize=256)
def _parsed(path: Path, folder: Path, changed: int, size: int) -> set[Path]:
    """Return what a file imports; `changed` and `size` tell its content from another."""
    try:
        tree = ast.parse(regular_text(path))
    except (OSError, SyntaxError, ValueError):
        return set()
    names: set[tuple[Path, str]] = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Import):
            names |= {(base, alias.name) for alias in node.names for base in (folder, path.parent)}
        elif isinstance(node, ast.ImportFrom):
            first = f"{node.module}." if node.module else ""
            own = {node.module or "", *(first + alias.name for alias in node.names)}
            bases = [*path.parents[node.level - 1 : node.level]] if node.level else [folder, path.parent]
            names |= {(base, name) for name in own for base in bases}
    found: set[Path] = set()
    for base, name in names:
        if name:
            there = base.joinpath(*name.split("."))
            found |= {file for file in (there.with_suffix(".py"), there / "__init__.py") if file.is_file()}
            if there.parent != base and (there.parent / "__init__.py").is_file():
                found.add(there.parent / "__init__.py")
    return found


def begin_watching() -> None:
    """Note from now on which files this process reads."""
    if not _is_watching[0]:
        _is_watching[0] = True
        sys.addaudithook(_noted)


def _noted(event: str, given: tuple[Any, ...]) -> None:
    if event != "open" or len(_seen) > 10_000:
        return
    with contextlib.suppress(Exception):  # whatever a path may be, looking at it harms nobody
        path, mode, flags = given
        # What is made anew here was not there before.
        is_read = flags & os.O_ACCMODE != os.O_WRONLY if mode is None else "r" in mode or mode in ("a+", "ab+", "a+b")
        if not isinstance(path, int) and is_read and not (mode is None and flags & (os.O_TRUNC | os.O_EXCL)):
            _seen.add(os.fsdecode(path))


def undeclared(declared: Iterable[Path], owner: Path) -> str:
    """Return a file that the function of the file `owner` has read, now or before in this process, and that is neither
    declared nor a part of Python; "" where there is none, or nothing was watched."""
    if _seen:
        known = {str(path) for path in declared}
        system = ("/proc", "/dev", "/sys", "/etc", "/usr")
        homes = (sys.prefix, sys.base_prefix, sys.exec_prefix, str(Path(__file__).resolve().parents[2]), *system)
        for text in _seen:
            with contextlib.suppress(Exception):
                path = Path(text).resolve()
                if path.suffix == ".pyc":
                    path = Path(importlib.util.source_from_cache(str(path)))
                if str(path) not in known and not str(path).startswith(homes) and not path.is_dir():
                    _stuck.setdefault(str(owner), path.name)
        _seen.clear()
    return _stuck.get(str(owner), "")
