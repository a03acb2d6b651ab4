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
from typing import TYPE_CHECKING, Any

from ilvren.errors import IlvrenError
from ilvren.evaluate.gate import Gate
from ilvren.evaluate.jobs import Answer, Job
from ilvren.models import AUTOMATIC, HERE, Calls, ModelSource, Outcome, Question, end_group
from ilvren.models.python import be_apart, first_line

if TYPE_CHECKING:
    from ilvren.evaluate.recipe import Recipe

__all__ = ["Bench", "main"]


class Bench:
    """The problem of a recipe, ready for jobs."""

    def __init__(self, recipe: Recipe) -> None:
        problem = recipe.problem()
        sources = tuple(
            source.with_derivatives(word) for source, word in zip(problem.sources, recipe.derivatives, strict=True)
        )
        self._known = _Known()
        # This process is there to be lost; and the pool decides what is tried again.
        self._calls = tuple(Calls(source, place=HERE, shelf=self._known, retries=0) for source in sources)
        for calls in self._calls:
            calls.refuses_unread = False
        self._gate = Gate(replace(problem, sources=sources), is_sparse=recipe.is_sparse, calls=self._calls)

    def done(self, job: Job) -> Answer:
        """Do a job."""
        began = time.perf_counter()
        self._known.take(job.known)
        for calls, steps in zip(self._calls, job.steps, strict=False):
            calls.steps = steps if steps is not None else calls.steps
            if steps is not None and calls.source.derivatives == AUTOMATIC:
                calls.fall_back()  # as it was found in the run's own process
        for calls in self._calls:
            calls.notes.clear()
            calls.slow_trouble, calls.made, calls.differentiated = "", [], []
            calls.failures, calls.first_failure = 0, ""
        before = sum(calls.difference_calls for calls in self._calls)
        answer = self._evaluated(job) if job.point is not None else self._asked(job)
        return replace(
            answer,
            difference_calls=sum(calls.difference_calls for calls in self._calls) - before,
            notes=tuple(note for calls in self._calls for note in calls.notes),
            failures=tuple((calls.failures, calls.first_failure) for calls in self._calls),
            is_slow=answer.is_slow or any(calls.slow_trouble for calls in self._calls),
            seconds=time.perf_counter() - began,
            made=tuple(
                (place, question, outcome)
                for place, calls in enumerate(self._calls)
                for question, outcome in calls.made or ()
                if self._known.find(calls.source, question) is None
            ),
            slopes=tuple((place, *found) for place, calls in enumerate(self._calls) for found in calls.differentiated),
        )

    def _evaluated(self, job: Job) -> Answer:
        assert job.point is not None
        try:
            found = self._gate.evaluate(job.point, derivatives=job.derivatives)
        except IlvrenError as error:
            return Answer(failure=f"{error}")
        slow = [calls.slow_trouble for calls in self._calls if calls.slow_trouble]
        if slow:  # or the next try would be answered from what is kept
            self._gate.forget(job.point)
            for calls in self._calls:
                calls.forget()
        return Answer(evaluation=found, failure=slow[0] if slow else "")

    def _asked(self, job: Job) -> Answer:
        assert job.question is not None
        outcome = self._calls[job.model].source.asked(job.question)
        return Answer(outcome=outcome, failure=outcome.trouble, is_slow=outcome.status == "slow")


class _Known:
    """The shelf of a job: what it was told is known."""

    def __init__(self) -> None:
        self._outcomes: dict[tuple[str, bytes], Outcome] = {}

    def take(self, known: tuple[tuple[str, Question, Outcome], ...]) -> None:
        """Take what a job says is known."""
        self._outcomes = {(name, question.key): outcome for name, question, outcome in known}

    def find(self, source: ModelSource, question: Question) -> Outcome | None:
        """Return the outcome of a question that is known."""
        return self._outcomes.get((source.name, question.key))

    def add(self, source: ModelSource, question: Question, outcome: Outcome) -> None:
        """Keep nothing: the pool records."""


def _watch(parent: int) -> None:
    """End this process when its parent is gone."""
    while os.getppid() == parent:
        time.sleep(0.5)
    end_group()


def main() -> None:
    """Serve until the connection closes."""
    parent = int(sys.argv[1])
    be_apart()
    address, key = ast.literal_eval(sys.stdin.readline())
    if hasattr(os, "getppid"):
        threading.Thread(target=_watch, args=(parent,), daemon=True).start()
    try:
        with Client(address, authkey=bytes.fromhex(key)) as connection:
            connection.send(os.getpid())
            serve(connection)
    except (OSError, EOFError):  # the other side is gone: nobody is left to be told
        end_group()


def serve(connection: Connection[Any, Any]) -> None:
    """Answer jobs until the other side is gone."""
    bench: Bench | None = None
    recipe, own = connection.recv(), os.getpid()
    while True:
        try:
            job = connection.recv()
        except (EOFError, OSError):
            return
        if bench is None:
            bench = Bench(recipe)
        try:
            answer = bench.done(job)
        except Exception as error:  # nobody foresaw it: the run goes on without this answer, and says why
            answer = Answer(failure=f"a worker could not do its job: {type(error).__name__}: {first_line(error)}")
        if os.getpid() != own:
            os._exit(0)  # a copy that a model made of this process, and that came back: one answers
        connection.send(answer)


if __name__ == "__main__":
    main()
