"""Where sources are asked: in this process, or aside, in one that can be lost.

Someone else's code may end its process, crash it, or never come back. So it runs in a process of its own, started at
the first question and kept: what it does to that process is an outcome like any other. A question and its answer take
a fraction of a millisecond on the way; many questions at once much less each.
"""

from __future__ import annotations

import contextlib
import os
import pickle
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Sequence
from multiprocessing.connection import Connection
from typing import Any, NoReturn, Protocol

from ilvren.models.codec import packed_answer, packed_inputs, unpacked_answer, unpacked_inputs
from ilvren.models.python.guard import be_apart, first_line
from ilvren.models.source import ModelSource, Outcome, Question

__all__ = ["ASIDE", "HERE", "Place", "end_group", "serve"]

# How long after its timeout a question is answered for a process that does not come back.
GRACE_SECONDS = 2.0
# A process that has not answered by then, when asked whether it is there, never will.
MOST_START_SECONDS = 60.0


# What a process is told that is no copy of this one.
_SERVE = "from ilvren.models.places import serve; serve({}, {})"


class Place(Protocol):
    """Somewhere sources are asked."""

    def asked(self, source: ModelSource, questions: Sequence[Question]) -> list[Outcome]:
        """Return what came of each question, in order."""


class _Here:
    """This process."""

    def asked(self, source: ModelSource, questions: Sequence[Question]) -> list[Outcome]:
        """Return what came of each question, in order."""
        return [source.asked(question) for question in questions]


class _Child:
    """A process that answers on a connection."""

    def __init__(self) -> None:
        mine, its = socket.socketpair()
        self._popen: subprocess.Popen[bytes] | None = None
        self.known: dict[int, ModelSource] = {}
        self.stamps: dict[str, int] = {}  # of the files that it may have imported, when it first did
        # A process with threads must not be copied: a lock may be held by one that is not there in the copy.
        if threading.active_count() == 1 and sys.platform.startswith("linux"):
            sys.stdout.flush()
            sys.stderr.flush()
            parent = os.getpid()
            self.pid = os.fork()
            if self.pid == 0:
                mine.close()
                try:
                    _serve(Connection(its.detach()), parent)
                finally:  # whatever happens, this copy does not go on with what its parent was at
                    os._exit(1)
        else:
            self._popen = subprocess.Popen(
                [sys.executable, "-c", _SERVE.format(its.fileno(), os.getpid())],
                pass_fds=[its.fileno()],
                stdin=subprocess.DEVNULL,
            )
            self.pid = self._popen.pid
        its.close()
        self.connection: Connection[Any, Any] = Connection(mine.detach())

    def end(self, *, patience: float = 0.0) -> int | None:
        """Wait so long for the process to end by itself, kill it else, and return the status it ended with by itself:
        minus the number of a signal, or None."""
        began, status = time.monotonic(), self._status()
        while status is None and time.monotonic() - began < patience:
            time.sleep(0.005)
            status = self._status()
        with contextlib.suppress(OSError):
            self.connection.close()
        if status is None:
            with contextlib.suppress(OSError):
                os.kill(self.pid, signal.SIGKILL)
        with contextlib.suppress(OSError):  # and what the model has started; the group is its own from the first answer
            os.killpg(self.pid, signal.SIGKILL)
        if status is None:
            with contextlib.suppress(OSError):
                os.waitpid(self.pid, 0)
        return status

    def _status(self) -> int | None:
        if self._popen is not None:
            return self._popen.poll()
        with contextlib.suppress(ChildProcessError):
            pid, status = os.waitpid(self.pid, os.WNOHANG)
            return os.waitstatus_to_exitcode(status) if pid else None
        return None


class _Aside:
    """One process for all sources of this one; started anew where it is lost."""

    def __init__(self) -> None:
        self._child: _Child | None = None
        self._owner = 0
        self._lock = threading.Lock()

    def asked(self, source: ModelSource, questions: Sequence[Question]) -> list[Outcome]:
        """Return what came of each question, in order; one that took the process with it is "lost"."""
        found: list[Outcome] = []
        with self._lock:
            try:
                while len(found) < len(questions):
                    found += self._some(source, questions[len(found) :])
            except BaseException:  # an interrupt: what is still being computed is of no use to anyone
                self._drop()
                raise
        return found

    def _some(self, source: ModelSource, questions: Sequence[Question]) -> list[Outcome]:
        """Return outcomes of the first questions, at least one, up to the one that took the process with it."""
        found: list[Outcome] = []
        stamps = source.stamps()
        child = self._ready()
        if any(child.stamps.get(path, stamp) != stamp for path, stamp in stamps.items()):
            self._drop()  # what it has imported is no longer what the files say
            child = self._ready()
        child.stamps |= stamps
        token = id(source)
        sent = None if token in child.known else source
        child.known[token] = source
        try:
            packed = [(question.kind, packed_inputs(question)) for question in questions]
            child.connection.send_bytes(pickle.dumps((token, sent, packed), protocol=5))
            for question in questions:
                wait = None if source.timeout is None else source.timeout + GRACE_SECONDS
                if wait is not None and not child.connection.poll(wait):
                    self._drop()
                    trouble = f'model "{source.name}" took longer than its timeout of {source.timeout:g} s'
                    return [*found, Outcome("slow", None, f"{trouble} and could not be stopped", wait)]
                status, answer, trouble, seconds, read = pickle.loads(child.connection.recv_bytes())
                own = None if answer is None else unpacked_answer(source, question, answer)
                found.append(Outcome(status, own, trouble, seconds, read))
        except (EOFError, OSError):
            ended = child.end(patience=1.0)
            self._child = None
            return [*found, Outcome("lost", None, f'model "{source.name}" {_told(ended)}')]
        return found

    def _ready(self) -> _Child:
        if self._child is None or self._owner != os.getpid():  # a copy of this process has none of its own
            self._child, self._owner = _Child(), os.getpid()
        return self._child

    def _drop(self) -> None:
        if self._child is not None:
            self._child.end()
            self._child = None


def _told(status: int | None) -> str:
    if status is None:
        return "broke off its connection"
    if status >= 0:
        return f"ended its process with status {status}"
    with contextlib.suppress(ValueError):
        name = signal.Signals(-status)
        what = {signal.SIGSEGV: "a segmentation fault", signal.SIGKILL: "killed, perhaps for want of memory"}
        return f"crashed its process ({what.get(name, name.name)})"
    return f"crashed its process (signal {-status})"


def serve(number: int, parent: int) -> None:
    """Answer on the socket of this number until the other side is gone; never returns."""
    _serve(Connection(number), parent)


def _serve(connection: Connection[Any, Any], parent: int) -> None:
    """Answer until the other side is gone; never returns."""
    with contextlib.suppress(OSError):
        os.setsid()  # Ctrl-C is for the other side, which then ends this one
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    with contextlib.suppress(OSError):  # what is typed is for the other side, too
        nothing = os.open(os.devnull, os.O_RDONLY)
        os.dup2(nothing, 0)
        os.close(nothing)
    threading.Thread(target=_watch, args=(parent,), daemon=True).start()
    be_apart()
    own = os.getpid()
    sources: dict[int, ModelSource] = {}
    while True:
        try:
            token, source, questions = pickle.loads(connection.recv_bytes())
        except (EOFError, OSError):
            end_group()
        if source is not None:
            sources[token] = source
        for kind, inputs in questions:
            question = unpacked_inputs(sources[token], kind, inputs)
            try:
                outcome = sources[token].asked(question)
            except BaseException as error:  # whatever it is, it is the model's
                what = f"{type(error).__name__}: {first_line(error)}".rstrip(": ")
                outcome = Outcome("failed", None, f'model "{sources[token].name}" raised {what}')
            if os.getpid() != own:
                os._exit(0)  # a copy that the model made of this process, and that came back: one answers
            try:
                answer = packed_answer(question, outcome.answer) if outcome.is_done else None
                told = (outcome.status, answer, outcome.trouble, outcome.seconds, outcome.read)
                connection.send_bytes(pickle.dumps(told, protocol=5))
            except OSError:
                end_group()
        with contextlib.suppress(OSError, ValueError):
            sys.stderr.flush()


def _watch(parent: int) -> None:
    """End this process when its parent is gone."""
    while os.getppid() == parent:
        time.sleep(0.5)
    end_group()


def end_group() -> NoReturn:
    """End this process and all that was started from it, where they are a group of their own."""
    if os.getpgrp() == os.getpid():
        with contextlib.suppress(OSError):
            os.killpg(os.getpid(), signal.SIGKILL)
    os._exit(0)


HERE: Place = _Here()
ASIDE: Place = _Aside() if hasattr(os, "fork") else HERE
