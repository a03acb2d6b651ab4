"""The folder in which all calls of one process have theirs, and the warden, which clears up when that process is gone.

A process that is killed (also by -9) clears up nothing. The warden is a small process of its own that waits for its
end: it ends the programs that still run, which it was told of and, on Linux, finds by a mark in their environment, and
removes the folder.
"""

from __future__ import annotations

import atexit
import contextlib
import os
import shutil
import subprocess
import sys
import tempfile
import threading
from pathlib import Path

__all__ = ["MARK", "Warden", "warden"]

# The variable that programs find in their environment: the folder of their call.
MARK = "ILVREN_CALL"

# What the warden runs, with nothing imported that it does not need: (folder, process watched).
_WATCH = r"""
import os, select, shutil, signal, sys
root, parent = sys.argv[1], int(sys.argv[2])
groups, rest = set(), b""
while os.getppid() == parent:
    if select.select([0], [], [], 0.25)[0]:
        read = os.read(0, 65536)
        if not read:
            break
        lines = (rest + read).split(b"\n")
        rest = lines.pop()
        for line in lines:
            groups.add(int(line[1:])) if line[:1] == b"+" else groups.discard(int(line[1:]))
for group in groups:
    try:
        os.killpg(group, signal.SIGKILL)
    except OSError:
        pass
mark = ("ILVREN_CALL=" + root).encode()
for name in os.listdir("/proc") if os.path.isdir("/proc/self") else ():
    if name.isdigit() and int(name) != os.getpid():
        try:
            with open("/proc/%s/environ" % name, "rb") as file:
                if mark in file.read():
                    os.kill(int(name), signal.SIGKILL)
        except OSError:
            pass
shutil.rmtree(root, ignore_errors=True)
"""


class Warden:
    """The folder `root` of one process, and who clears up after it."""

    def __init__(self) -> None:
        self.root = Path(tempfile.mkdtemp(prefix="ilvren-")).resolve()
        self.links = self.root / "links"
        self._count, self._lock = 0, threading.Lock()
        self._process = subprocess.Popen(
            [sys.executable, "-ISc", _WATCH, str(self.root), str(os.getpid())],
            stdin=subprocess.PIPE,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
            cwd="/" if os.name == "posix" else None,
        )
        atexit.register(self.close)

    def folder(self) -> Path:
        """Return a fresh folder: no two calls share one."""
        with self._lock:
            self._count += 1
            path = self.root / f"{self._count:06d}"
        path.mkdir()
        return path

    def began(self, group: int) -> None:
        """Take a process group as running."""
        self._tell(f"+{group}\n")

    def ended(self, group: int) -> None:
        """Take a process group as ended."""
        self._tell(f"-{group}\n")

    def _tell(self, line: str) -> None:
        assert self._process.stdin is not None
        with self._lock, contextlib.suppress(OSError, ValueError):
            self._process.stdin.write(line.encode())
            self._process.stdin.flush()

    def close(self) -> None:
        """Let the warden clear up, and wait for it."""
        if _own.pop("pid", None) != os.getpid():
            return
        assert self._process.stdin is not None
        with contextlib.suppress(OSError):
            self._process.stdin.close()
        with contextlib.suppress(subprocess.TimeoutExpired):
            self._process.wait(5.0)
        shutil.rmtree(self.root, ignore_errors=True)


_own: dict[str, object] = {}
_making = threading.Lock()


def warden() -> Warden:
    """Return this process's warden; a copy of a process has one of its own."""
    with _making:
        if _own.get("pid") != os.getpid():
            _own["pid"], _own["warden"] = os.getpid(), Warden()
        found = _own["warden"]
    assert isinstance(found, Warden)
    return found
