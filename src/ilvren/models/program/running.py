"""Commands run in the folder of a call: no shell, a group of processes of their own, ended at the time limit."""

from __future__ import annotations

import contextlib
import hashlib
import os
import select
import shutil
import signal
import subprocess
import tempfile
import time
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

from ilvren.models.program.wardens import MARK, warden
from ilvren.records import dataclass

__all__ = ["LOG", "STDERR", "STDOUT", "CannotRun", "Ran", "found_program", "laid_out", "run_commands", "slot"]

# What a call leaves in its folder beside the program's own files: its output, and what was done.
STDOUT, STDERR, LOG = "call.stdout", "call.stderr", "call.log"
# How long the programs of a call may clear up after they were asked to end.
GRACE_SECONDS = 0.2
# How often one that waits for a place among the most calls at a time looks for it.
SLOT_SECONDS = 0.01


class CannotRun(Exception):
    """A command cannot be run at all; the message says why."""


@dataclass(frozen=True)
class Ran:
    """How the last command ended that was run: its `status` (minus the number of a signal), None beyond the time
    limit; `seconds` of all."""

    command: tuple[str, ...]
    status: int | None
    seconds: float


def found_program(name: str, folder: Path, path: str | None) -> str | None:
    """Return where a program is: in the folder, then on the search path; None when it is not there."""
    own = folder / name
    if own.is_file():
        return str(own.resolve())
    if Path(name).is_absolute():
        return name if Path(name).is_file() else None
    return None if "/" in name else shutil.which(name, path=path)


def run_commands(
    commands: Sequence[Sequence[str]],
    folder: Path,
    *,
    environment: Mapping[str, str],
    timeout: float | None,
    success: Sequence[int],
) -> Ran:
    """Run commands one after the other in a folder, up to the first that fails; their outputs go to files there.
    Raises CannotRun."""
    began = time.monotonic()
    given = {**os.environ, **environment, MARK: str(folder)}
    ran = Ran((), 0, 0.0)
    with (folder / STDOUT).open("wb") as out, (folder / STDERR).open("wb") as err:
        for command in commands:
            program = found_program(command[0], folder, given.get("PATH"))
            if program is None:
                raise CannotRun(f'the program "{command[0]}" is neither in the folder of the call nor on the path')
            left = None if timeout is None else max(timeout - (time.monotonic() - began), 0.0)
            try:
                process = subprocess.Popen(
                    [program, *command[1:]],
                    cwd=folder,
                    env=given,
                    stdin=subprocess.DEVNULL,
                    stdout=out,
                    stderr=err,
                    start_new_session=True,
                )
            except (OSError, ValueError) as error:
                raise CannotRun(f'the program "{command[0]}" cannot be started: {_told(error)}') from None
            ran = Ran(tuple(command), _ended(process, left), time.monotonic() - began)
            if ran.status not in success:
                break
    return ran


def _told(error: OSError | ValueError) -> str:
    if isinstance(error, PermissionError):
        return "it is not executable (chmod +x)"
    if isinstance(error, OSError) and error.errno == 8:
        return "it is no program (a script needs a first line such as #!/usr/bin/env python3)"
    return getattr(error, "strerror", None) or str(error)


def _ended(process: subprocess.Popen[bytes], seconds: float | None) -> int | None:
    """Return the status a process ends with, None beyond the time; whatever it has started ends with it."""
    keeper = warden()
    keeper.began(process.pid)
    is_done = False
    try:
        is_done = _is_over(process, seconds)
        if not is_done:
            _signal(process.pid, signal.SIGTERM)
            _is_over(process, GRACE_SECONDS)
    finally:  # also at an interrupt; before it is waited for, so that the group's number is still its own
        _signal(process.pid, signal.SIGKILL)
        status = process.wait()
        keeper.ended(process.pid)
    return status if is_done else None


def _signal(group: int, number: int) -> None:
    with contextlib.suppress(OSError):
        os.killpg(group, number)


def _is_over(process: subprocess.Popen[bytes], seconds: float | None) -> bool:
    """Return whether a process ends within so many seconds."""
    if hasattr(os, "pidfd_open"):
        with contextlib.suppress(OSError):
            handle = os.pidfd_open(process.pid)
            try:
                poll = select.poll()
                poll.register(handle, select.POLLIN)
                return bool(poll.poll(None if seconds is None else seconds * 1000.0))
            finally:
                os.close(handle)
    try:
        process.wait(seconds)
    except subprocess.TimeoutExpired:
        return False
    return True


# ---- what lies in the folder -------------------------------------------------------------------


def laid_out(folder: Path, base: Path, files: Sequence[str], links: Sequence[str]) -> None:
    """Copy files (and folders) from `base` into a call's folder, and link large ones: a link leads to a read-only copy
    that this process made once, so that no program can change the user's own. Raises CannotRun."""
    for name in files:
        source, target = base / name, folder / inside(name)
        try:
            target.parent.mkdir(parents=True, exist_ok=True)
            if source.is_dir():
                shutil.copytree(source, target, dirs_exist_ok=True)
            else:
                shutil.copy(source, target)
        except OSError as error:
            raise CannotRun(f"{name} cannot be copied: {error.strerror or error}") from None
    for name in links:
        target = folder / inside(name)
        try:
            target.parent.mkdir(parents=True, exist_ok=True)
            target.symlink_to(_linked(base / name))
        except OSError as error:
            raise CannotRun(f"{name} cannot be linked: {error.strerror or error}") from None


def inside(name: str) -> str:
    """Return where a file of this name lies in a call's folder: one from elsewhere stands directly in it."""
    path = Path(name)
    return path.name if path.is_absolute() or ".." in path.parts else name


def _linked(source: Path) -> Path:
    stat = source.stat()
    key = f"{source.resolve()}|{stat.st_mtime_ns}|{stat.st_size}"
    home = warden().links / hashlib.sha256(key.encode()).hexdigest()[:16]
    copy = home / source.name
    if not copy.exists():
        home.mkdir(parents=True, exist_ok=True)
        partial = home / f"{source.name}.part"
        shutil.copy(source, partial)
        partial.chmod(0o555 if os.access(source, os.X_OK) else 0o444)
        partial.replace(copy)
    return copy


# ---- how many at a time ------------------------------------------------------------------------


@contextlib.contextmanager
def slot(key: str, most: int | None) -> Iterator[None]:
    """Wait until fewer than `most` calls of this key run, in whatever process of this machine and user."""
    if most is None:
        yield
        return
    import fcntl

    home = Path(tempfile.gettempdir()) / f"ilvren-places-{os.getuid()}"
    home.mkdir(mode=0o700, exist_ok=True)
    names = [home / f"{hashlib.sha256(key.encode()).hexdigest()[:16]}-{place}" for place in range(most)]
    while True:
        for name in names:
            handle = os.open(name, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError:
                os.close(handle)
                continue
            try:
                yield
            finally:
                os.close(handle)
            return
        time.sleep(SLOT_SECONDS)
