"""The same workers on many machines: jobs through a Dask cluster.

Each of the cluster's workers keeps a process of its own for the models (`workers.ProcessPool`), so that a crash or a
hang costs it nothing, and what a model prints does not reach its log. A lost worker's jobs are done by the others.
"""

from __future__ import annotations

import importlib
import threading
import warnings
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

from ilvren.errors import MachineError, RequestError
from ilvren.evaluate.jobs import Answer, Job
from ilvren.evaluate.workers import ProcessPool

if TYPE_CHECKING:
    from ilvren.evaluate.recipe import Recipe

__all__ = ["ClusterPool"]

CONNECT_SECONDS = 10
# A job that took so many workers with it is at fault itself.
MOST_LOST = 3

_here = threading.local()


def _pool(recipe: Recipe) -> ProcessPool:
    """Return the process of this thread of a worker, started anew for another problem."""
    known: tuple[Recipe, ProcessPool] | None = getattr(_here, "pool", None)
    if known is not None and known[0] == recipe:
        return known[1]
    if known is not None:
        known[1].close()
    _here.pool = (recipe, ProcessPool(recipe, 1))
    found: ProcessPool = _here.pool[1]
    return found


def answer_on_worker(recipe: Recipe, job: Job) -> Answer:
    """Do a job on a worker of the cluster."""
    return next(answer for _, answer in _pool(recipe).answers([job]))


class ClusterPool:
    """The workers of a Dask cluster at `address` (HOST:PORT). Raises RequestError without Dask, MachineError when the
    cluster does not answer."""

    def __init__(self, recipe: Recipe, address: str) -> None:
        try:
            self._dask: Any = importlib.import_module("distributed")
        except ImportError:
            raise RequestError(
                "--workers dask://… needs Dask, which is not installed",
                advice='pip install "ilvren[cluster]", here and on the machines of the cluster',
            ) from None
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # versions that differ a little are no concern of the user's
            try:
                self._client: Any = self._dask.Client(f"tcp://{address}", timeout=CONNECT_SECONDS)
            except (OSError, ValueError) as error:
                raise MachineError(f"no Dask scheduler answers at {address}: {error}") from None
        self._recipe = recipe
        self._address = address

    @property
    def count(self) -> int:
        """Return how many jobs run at the same time."""
        workers: dict[str, Any] = self._client.scheduler_info(n_workers=-1)["workers"]
        return sum(int(worker["nthreads"]) for worker in workers.values())

    def answers(self, jobs: Sequence[Job]) -> Iterator[tuple[int, Answer]]:
        """Yield (place of the job, its answer) as they are ready. Jobs that are added meanwhile are done, too. Raises
        MachineError where the cluster is lost."""
        futures: dict[Any, int] = {}

        def added() -> list[Any]:
            fresh = range(len(futures), len(jobs))
            made = [
                self._client.submit(answer_on_worker, self._recipe, jobs[place], pure=False, retries=MOST_LOST)
                for place in fresh
            ]
            futures.update(zip(made, fresh, strict=True))
            return made

        try:
            completed = self._dask.as_completed(added())
            for future in completed:
                for late in added():
                    completed.add(late)
                place = futures[future]
                if future.status == "finished":
                    yield place, future.result()
                else:
                    trouble = future.exception()
                    yield place, Answer(failure=f"lost on the cluster: {trouble}", is_slow=True)
        except OSError as error:
            raise MachineError(f"the cluster at {self._address} is lost: {error}") from None
        finally:
            self._client.cancel(list(futures))

    def close(self) -> None:
        """Leave the cluster as it was."""
        self._client.close()
