"""Evaluations in other processes: a pool on this machine that survives crashes, hangs and what models print.

A job is an evaluation of the whole problem at a point, or a call of one model. Whatever a job does to its process,
the pool answers: a job whose worker died, or that took longer than its model's timeout, is tried once more alone,
then answered as failed. Answers come as they are ready; what is done with them must not depend on their order.
"""

from __future__ import annotations

import contextlib
import os
import secrets
import signal
import subprocess
import sys
import time
from collections import deque
from collections.abc import Iterator, Sequence
from multiprocessing.connection import Connection, Listener, wait
from typing import TYPE_CHECKING, Any

from ilvren.errors import MachineError, RequestError
from ilvren.evaluate.jobs import Answer, Job
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.evaluate.recipe import Recipe

__all__ = ["ProcessPool", "worker_count"]

# A worker that has not connected by then never will.
MOST_START_SECONDS = 60.0
# What a worker leaves behind when it ends itself because a model hung beyond its timeout.
HUNG_STATUS = 1


@dataclass
class _Worker:
    process: subprocess.Popen[bytes]
    connection: Connection
    job: int = -1

    def end(self) -> int | None:
        """Kill the process and return the status it ended with by itself, None if it had not."""
        status = self.process.poll()
        with contextlib.suppress(OSError):
            self.connection.close()
        if status is None:
            self.process.kill()
        with contextlib.suppress(OSError, AttributeError):  # and what models have started: the group is its own
            os.killpg(self.process.pid, signal.SIGKILL)
        self.process.wait()
        return status


class ProcessPool:
    """So many worker processes for one problem, started at the first use. Use as a context manager, or `close` it."""

    def __init__(self, recipe: Recipe, count: int) -> None:
        self._recipe = recipe
        self._count = count
        self._workers: list[_Worker] = []

    @property
    def count(self) -> int:
        """Return how many jobs run at the same time."""
        return self._count

    def __enter__(self) -> ProcessPool:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """End all workers, whatever they are at."""
        while self._workers:
            self._workers.pop().end()

    def answers(self, jobs: Sequence[Job]) -> Iterator[tuple[int, Answer]]:
        """Yield (place of the job, its answer) as they are ready. Jobs that are added meanwhile are done, too."""
        sent, again = 0, deque[tuple[int, str]]()
        try:
            while sent < len(jobs) or any(worker.job >= 0 for worker in self._workers):
                self._hire(min(self._count, len(jobs)))
                for worker in self._workers:
                    if worker.job < 0 and sent < len(jobs):
                        self._send(worker, sent, jobs)
                        sent += 1
                yield from self._ready(again)
            while again:  # alone: on a machine at its limits, company may have been the trouble
                place, trouble = again.popleft()
                self._hire(1)
                self._send(self._workers[0], place, jobs)
                second = deque[tuple[int, str]]()
                while self._workers and self._workers[0].job >= 0:
                    yield from self._ready(second)
                if second:
                    yield place, Answer(failure=f"{second[0][1] or trouble}, twice", is_slow=True)
        finally:
            self._drop_busy()

    def _send(self, worker: _Worker, place: int, jobs: Sequence[Job]) -> None:
        worker.job = place
        # A worker that died while idle shows at the next wait.
        with contextlib.suppress(OSError):
            worker.connection.send(jobs[place])

    def _ready(self, again: deque[tuple[int, str]]) -> Iterator[tuple[int, Answer]]:
        """Wait for at least one busy worker; yield what arrived, and note in `again` what must be tried once more."""
        busy = {worker.connection: worker for worker in self._workers if worker.job >= 0}
        for connection in wait(list(busy)):
            worker = busy[connection]  # type: ignore[index]
            place, worker.job = worker.job, -1
            try:
                answer: Answer = worker.connection.recv()
            except (EOFError, OSError):
                self._workers.remove(worker)
                again.append((place, _cause(worker)))
                continue
            if answer.is_slow:
                again.append((place, answer.failure))
            else:
                yield place, answer

    def _drop_busy(self) -> None:
        for worker in [worker for worker in self._workers if worker.job >= 0]:
            self._workers.remove(worker)
            worker.end()

    def _hire(self, wanted: int) -> None:
        """Start processes until there are `wanted`."""
        missing = wanted - len(self._workers)
        if missing <= 0:
            return
        key = secrets.token_bytes(32)
        with Listener(authkey=key) as listener:
            processes = [_started(listener.address, key) for _ in range(missing)]
            for _ in processes:
                self._workers.append(_connected(listener, processes, self._recipe))


def _started(address: Any, key: bytes) -> subprocess.Popen[bytes]:
    process = subprocess.Popen(
        [sys.executable, "-m", "ilvren.evaluate.worker", str(os.getpid())],
        stdin=subprocess.PIPE,
        stdout=sys.stderr.fileno() if _has_number(sys.stderr) else subprocess.DEVNULL,
        start_new_session=True,  # Ctrl-C is for the run, which then ends its workers
    )
    assert process.stdin is not None
    with contextlib.suppress(OSError):
        process.stdin.write(repr((address, key.hex())).encode() + b"\n")
        process.stdin.close()
    return process


def _has_number(stream: Any) -> bool:
    try:
        stream.fileno()
    except (OSError, AttributeError, ValueError):
        return False
    return True


def _connected(listener: Listener, processes: list[subprocess.Popen[bytes]], recipe: Recipe) -> _Worker:
    """Wait for one of the processes to connect and say its number. Raises MachineError when one died first."""
    waiting: Any = listener._listener  # type: ignore[attr-defined]  # the module has no other way to wait with a limit
    waiting._socket.settimeout(0.2)
    began = time.monotonic()
    while True:
        try:
            connection = listener.accept()
            break
        except TimeoutError:
            dead = [process for process in processes if process.poll() is not None]
            if dead or time.monotonic() - began > MOST_START_SECONDS:
                for process in processes:
                    process.kill()
                raise MachineError("a worker process could not be started") from None
    number = connection.recv()
    connection.send(recipe)
    process = next(process for process in processes if process.pid == number)
    return _Worker(process, connection)


def _cause(worker: _Worker) -> str:
    time.sleep(0.01)
    with contextlib.suppress(subprocess.TimeoutExpired):
        worker.process.wait(1.0)
    status = worker.end()
    if status == HUNG_STATUS:
        return "a model hung beyond its timeout and did not let itself be stopped"
    if status is not None and status < 0:
        return f"the model's process died of signal {-status}"
    return f"the model's process ended itself with status {status}"


def worker_count(text: str | int) -> int:
    """Return the number of worker processes. Raises RequestError."""
    try:
        count = int(text)
    except ValueError:
        count = 0
    if count < 1:
        raise RequestError(
            f"--workers {text}: expected a number of processes from 1, or a cluster's address",
            advice="--workers 2, or --workers dask://HOST:PORT",
        )
    return count
