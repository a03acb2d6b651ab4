"""A worker process: `python -m ilvren.evaluate.worker PARENT`, told on standard input where to connect.

Whatever a model prints goes to standard error. A model that hangs where Python cannot stop it ends this process.
"""

from __future__ import annotations

import ast
import os
import sys
import threading
import time
from dataclasses import replace
from multiprocessing.connection import Client, Connection
from typing import Any

from ilvren.errors import IlvrenError
from ilvren.evaluate.gate import Gate
from ilvren.evaluate.jobs import Answer, Job
from ilvren.evaluate.recipe import Recipe
from ilvren.models import ModelFailure, Runner

__all__ = ["Bench", "main"]


class Bench:
    """The problem of a recipe, ready for jobs."""

    def __init__(self, recipe: Recipe) -> None:
        problem = recipe.problem()
        runners = tuple(
            Runner(replace(runner.facts, derivatives=source))
            for runner, source in zip(problem.runners, recipe.derivatives, strict=True)
        )
        for runner in runners:
            runner.tries = 1  # the pool decides what is tried again
            runner.ends_hangs = True
        self._runners = runners
        self._gate = Gate(replace(problem, runners=runners), is_sparse=recipe.is_sparse)

    def done(self, job: Job) -> Answer:
        """Do a job."""
        began = time.perf_counter()
        for runner, steps in zip(self._runners, job.steps, strict=False):
            runner.steps = steps if steps is not None else runner.steps
            if steps is not None and runner.facts.derivatives == "automatic":
                runner.fall_back()  # as it was found in the run's own process
        for runner in self._runners:
            runner.notes.clear()
            runner.was_slow = False
            runner.failures, runner.first_failure = 0, ""
        before = sum(runner.difference_calls for runner in self._runners)
        answer = self._evaluated(job) if job.point is not None else self._called(job)
        notes = tuple(note for runner in self._runners for note in runner.notes)
        after = sum(runner.difference_calls for runner in self._runners)
        is_slow = answer.is_slow or any(runner.was_slow for runner in self._runners)
        seconds = time.perf_counter() - began
        failures = tuple((runner.failures, runner.first_failure) for runner in self._runners)
        return replace(
            answer,
            difference_calls=after - before,
            notes=notes,
            failures=failures,
            is_slow=is_slow,
            seconds=seconds,
        )

    def _evaluated(self, job: Job) -> Answer:
        assert job.point is not None
        try:
            found = self._gate.evaluate(job.point, derivatives=job.derivatives)
        except IlvrenError as error:
            return Answer(failure=f"{error}")
        slow = [runner.last_trouble for runner in self._runners if runner.was_slow]
        if slow:  # or the next try would be answered from what is kept
            self._gate.forget(job.point)
            for runner in self._runners:
                runner.forget()
        return Answer(evaluation=found, failure=slow[0] if slow else "")

    def _called(self, job: Job) -> Answer:
        runner = self._runners[job.model]
        try:
            return Answer(outputs=tuple(runner.raw(list(job.inputs))))
        except ModelFailure as failure:
            return Answer(failure=str(failure), is_slow=runner.was_slow)
        except IlvrenError as error:
            return Answer(failure=str(error))


def _watch(parent: int) -> None:
    """End this process when its parent is gone."""
    while os.getppid() == parent:
        time.sleep(0.5)
    os._exit(0)


def main() -> None:
    """Serve until the connection closes."""
    parent = int(sys.argv[1])
    address, key = ast.literal_eval(sys.stdin.readline())
    if hasattr(os, "getppid"):
        threading.Thread(target=_watch, args=(parent,), daemon=True).start()
    with Client(address, authkey=bytes.fromhex(key)) as connection:
        connection.send(os.getpid())
        serve(connection)


def serve(connection: Connection[Any, Any]) -> None:
    """Answer jobs until the other side is gone."""
    bench: Bench | None = None
    recipe = connection.recv()
    while True:
        try:
            job = connection.recv()
        except (EOFError, OSError):
            return
        if bench is None:
            bench = Bench(recipe)
        connection.send(bench.done(job))


if __name__ == "__main__":
    main()
