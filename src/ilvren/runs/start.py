"""Starting a run and continuing one."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import ProblemError, RequestError
from ilvren.ledger import Ledger, RunRecord
from ilvren.problem import Problem, load
from ilvren.runs.planning import begun_along_start, planned, planned_again, planned_as_it_stands, planned_from
from ilvren.runs.pool import open_workers
from ilvren.runs.registering import registered, versions
from ilvren.runs.same_again import command_again
from ilvren.runs.settings import AUTOMATIC, Settings
from ilvren.runs.staging import driven

if TYPE_CHECKING:
    from ilvren.evaluate import Workers
    from ilvren.runs.events import Event
    from ilvren.runs.on_approximation import On, Truly
    from ilvren.runs.plan import Plan
    from ilvren.runs.result import RunResult

__all__ = ["RESUMABLE", "resume", "run", "run_as_it_stands"]

FloatArray = NDArray[np.float64]
Listener = Callable[["Event"], None]

RESUMABLE = ("interrupted", "exhausted")


def run(
    problem: Problem | str | Path,
    settings: Settings | None = None,
    *,
    method: str | None = None,
    options: Mapping[str, str | float | bool] | None = None,
    ledger: Ledger | str | Path | None = None,
    listener: Listener | None = None,
    multipliers: tuple[FloatArray, FloatArray] | None = None,
    origin: str | None = None,
    workers: int | str | Workers | None = None,
    member: tuple[int, int] | None = None,
    known: Sequence[str] = (),
    stages: Sequence[Mapping[str, Any]] = (),
    proposal: Mapping[str, Any] | None = None,
    sample: Mapping[str, Any] | None = None,
    on: On | None = None,
    **more: float | int | str | bool | None,
) -> RunResult:
    """Run a method on a problem (or the file of one) and return the result.

    Either `settings`, or `method` (the one that suits the problem when left out) and any of the fields of Settings by
    name (`tolerance`, `evaluations`, `seed` …). With `ledger` (a path or an open Ledger) the run is recorded and can
    be resumed; else it
    is not. `origin` is a run in that ledger (an id, a label or "last") to start from: its design, by the names of the
    variables, and its multipliers; or one of its designs ("r7:12"); or `multipliers` of rows (m,) and bounds (n,) are
    given. `listener` is called with every event. `workers` evaluate the models of the problem: so many processes, or
    those of a cluster ("dask://HOST:PORT"), or a pool that is open; problems of formulas need none. `member` says which
    place of which group of the ledger the run takes; `known` are runs of the ledger on the same problem, on whose
    designs the method may build. `stages` are parameter values by name, each stage's in turn: the run solves the
    problem with them one after the other, each from where the last one ended, and reports the last.
    `proposal` is what the start was proposed from and promised to be, for the record. `sample` holds the full designs
    (k, n) of a plan under "designs", which are all evaluated, and what the plan was (see `explore.sampling`). `on` is
    an approximation that is searched in place of the problem, its best design being evaluated truly (`runs.predicted`).
    Raises RequestError, ProblemError, FormulaError, LedgerFileError, MachineError.
    """
    if isinstance(problem, (str, Path)):
        problem = load(problem)
    if settings is None:
        try:
            settings = Settings(method=method or AUTOMATIC, options=dict(options or {}), **more)  # type: ignore[arg-type]
        except TypeError as error:
            raise RequestError(f"unknown setting: {error}") from None
    plan = planned(
        problem, settings, stages=stages, multipliers=multipliers, sample=sample, on=on, has_known=bool(known)
    )
    plan = replace(plan, listener=listener, proposal=proposal)
    if ledger is None and (origin is not None or known):
        raise RequestError(f'"{origin or known[0]}" is a run of a ledger: say which with ledger=…')
    with ExitStack() as stack:
        opened = stack.enter_context(Ledger(ledger)) if isinstance(ledger, (str, Path)) else ledger
        plan = replace(plan, workers=stack.enter_context(open_workers(plan, workers)))
        if opened is None:
            return driven(plan.each(begun_along_start))
        plan = registered(planned_from(plan, opened, origin, known).each(begun_along_start), opened, member)
        try:
            return driven(plan)
        except ProblemError:  # found at the first call of a model: then there is no run to tell of
            opened.withdraw_run(plan.number)
            raise


def run_as_it_stands(problem: Problem, settings: Settings) -> RunResult:
    """Run a method on a problem that may have been made of a file's, with nothing recorded and in one stage: one on a
    grid stays on that grid, its result having the unknowns there (`full_point`), and one about scatter is smooth as it
    is. Raises RequestError."""
    if not problem.goes_in_stages:
        return run(problem, settings)
    return planned_as_it_stands(problem, settings).loop(problem).drive(is_last=True)


def resume(
    reference: str,
    ledger: Ledger,
    *,
    evaluations: int | None = None,
    iterations: int | None = None,
    seconds: float | None = None,
    listener: Listener | None = None,
    as_now: bool = False,
    patience: int | None = None,
    workers: int | str | Workers | None = None,
    anyhow: bool = False,
    sample: Mapping[str, Any] | None = None,
    relearn: Callable[[Sequence[Truly]], str] | None = None,
) -> RunResult:
    """Continue an interrupted, killed or exhausted run on the same path, by replay of what is recorded.

    A run whose models' files have changed is refused unless `as_now`. The limits are new totals; without any, the
    limits that an exhausted run used up are granted once more, and a patience that came to its end is doubled. With
    `anyhow` a run that has ended is followed to its end again, for its result. `sample` is a sample with more designs;
    `relearn` learns from designs evaluated truly, for runs on an approximation that have rounds left.
    Raises RequestError when the run has ended otherwise, still runs, or no longer follows its record.
    """
    record = ledger.run(reference)
    if ledger.is_alive(record):
        raise RequestError(f"{record.id} is still running (process {record.process.split(':')[0]})")
    had_patience = record.outcome == "stalled" and record.settings.get("patience") is not None
    is_over = record.state == "ended" and record.outcome != "interrupted"
    is_open = anyhow or record.state != "ended" or record.outcome in RESUMABLE or had_patience
    if sample is None and not is_open:
        raise RequestError(f"{record.id} has ended ({record.outcome}); there is nothing to continue")
    settings = Settings.from_dict(record.settings)
    given = {"evaluations": evaluations, "iterations": iterations, "seconds": seconds, "patience": patience}
    if sample is not None:
        settings = replace(settings, evaluations=max(settings.evaluations or 0, len(sample["designs"]) + 1))
    elif not (anyhow and is_over):
        settings = replace(settings, **_new_limits(settings, given, record))  # type: ignore[arg-type]
    plan = planned_again(record, ledger, settings, as_now=as_now, sample=sample, relearn=relearn)
    with open_workers(plan, workers) as pool:
        plan = replace(plan, listener=listener, workers=pool)
        # What can be refused is refused here, before the record is touched.
        first = plan.loop(plan.problems[0], multipliers=plan.multipliers, replay=plan.replay(1))
        ledger.reopen_run(record, settings.to_dict())
        if sample is not None:
            ledger.note_sample(record.number, sample)
        first.gate.release()
        result = _resumed(plan, record, ledger)
    if anyhow and is_over:
        ledger.restore_run(record)
    return result


def _resumed(plan: Plan, record: RunRecord, ledger: Ledger) -> RunResult:
    try:
        return driven(plan)
    except Exception as error:  # whatever it is, the run is as it was
        ledger.restore_run(record)
        if not isinstance(error, RequestError):
            raise
        error.advice = (
            f"recorded with {_listed(record.versions)}, now {_listed(versions())};"
            f" start anew from its best design: {command_again(record, begins='best')}"
        )
        raise


def _new_limits(settings: Settings, given: Mapping[str, float | None], record: RunRecord) -> dict[str, float | None]:
    if any(value is not None for value in given.values()):
        return {name: value for name, value in given.items() if value is not None}
    if record.outcome == "stalled" and settings.patience is not None:
        return {"patience": 2 * settings.patience}
    if record.outcome != "exhausted" or record.result is None:
        return {}
    counts = record.result["counts"]
    assert isinstance(counts, dict)
    used = {"evaluations": counts["evaluations"], "iterations": counts["iterations"], "seconds": record.seconds}
    limits = {name: getattr(settings, name) for name in used}
    spent = [name for name, limit in limits.items() if limit is not None and used[name] >= limit]
    return {name: 2 * limits[name] for name in spent}


def _listed(found: Mapping[str, str]) -> str:
    return ", ".join(f"{name} {version}" for name, version in found.items())
