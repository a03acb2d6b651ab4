"""Worker processes for a run: started when its problem has models, ended with it."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

from ilvren.errors import RequestError
from ilvren.runs.loop import is_large
from ilvren.runs.sources import with_source

if TYPE_CHECKING:
    from ilvren.evaluate import Workers
    from ilvren.runs.plan import Plan

__all__ = ["CLUSTER", "check_workers", "open_workers"]

# What an address begins with.
CLUSTER = "dask://"


def check_workers(workers: int | str) -> None:
    """Raise RequestError for what is neither a number of processes nor an address."""
    if isinstance(workers, str) and workers.startswith(CLUSTER):
        host, colon, port = workers.removeprefix(CLUSTER).rpartition(":")
        if not (host and colon and port.isdecimal() and 0 < int(port) < 65536):
            raise RequestError(
                f"--workers {workers}: {CLUSTER}HOST:PORT is expected", advice=f"{CLUSTER}localhost:8786"
            )
    else:
        from ilvren.evaluate import worker_count

        worker_count(workers)


@contextmanager
def open_workers(plan: Plan, workers: int | str | Workers | None) -> Iterator[Workers | None]:
    """Open the workers asked for; None where the plan's problem has no models, or no workers are asked for. A pool that
    is given is left open.

    Raises RequestError for what is no number and no address, MachineError where they cannot be reached."""
    if workers is not None and isinstance(workers, (int, str)):
        check_workers(workers)
    if workers is None or not plan.problem.sources:
        yield None
        return
    if not isinstance(workers, (int, str)):
        yield workers
        return
    pool = _opened(plan, workers)
    try:
        yield pool
    finally:
        pool.close()


def _opened(plan: Plan, workers: int | str) -> Workers:
    from ilvren.evaluate import Recipe

    used, _ = with_source(plan.problem, plan.settings.derivatives)
    is_cluster = isinstance(workers, str) and workers.startswith(CLUSTER)
    recipe = Recipe.of(used, is_sparse=plan.method.takes_sparse and is_large(used), ships=is_cluster)
    if isinstance(workers, str) and is_cluster:
        from ilvren.evaluate import ClusterPool

        return ClusterPool(recipe, workers.removeprefix(CLUSTER))
    from ilvren.evaluate import ProcessPool, worker_count

    return ProcessPool(recipe, worker_count(workers))
