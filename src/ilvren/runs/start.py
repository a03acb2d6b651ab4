"""Starting a run and continuing one."""

from __future__ import annotations

import json
import shlex
import sys
from collections.abc import Callable, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ilvren import __version__
from ilvren.errors import RequestError
from ilvren.evaluate import Workers
from ilvren.ledger import Ledger, RunRecord
from ilvren.methods.base import Method, options_from
from ilvren.problem import Aim, Problem, load
from ilvren.runs.addresses import addressed, design_document, split_address
from ilvren.runs.checkpoints import RunCheckpoint
from ilvren.runs.choice import AUTOMATIC, Choice, chosen_method, design_count
from ilvren.runs.claims import refuse_unhandled
from ilvren.runs.events import Ended, Event, Started
from ilvren.runs.known import known_designs, known_recorded, refuse_known
from ilvren.runs.loop import Loop
from ilvren.runs.pool import open_workers
from ilvren.runs.replay import Replay
from ilvren.runs.result import RunResult
from ilvren.runs.settings import DEFAULT_EVALUATIONS, Settings
from ilvren.runs.sources import with_source
from ilvren.runs.stored import problem_of, refuse_changed, stored_files, stored_models
from ilvren.runs.warm import begun_at, record_result, warm_start

__all__ = ["check_label", "resume", "run"]

FloatArray = NDArray[np.float64]
Listener = Callable[[Event], None]

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
    designs the method may build.
    Raises RequestError, ProblemError, FormulaError, LedgerFileError, MachineError.
    """
    if isinstance(problem, (str, Path)):
        problem = load(problem)
    problem.one_objective()
    if settings is None:
        try:
            settings = Settings(method=method or AUTOMATIC, options=dict(options or {}), **more)  # type: ignore[arg-type]
        except TypeError as error:
            raise RequestError(f"unknown setting: {error}") from None
    chosen, choice = chosen_method(problem, settings, has_options=bool(settings.options))
    settings = _with_room(problem, chosen, settings)
    check_label(settings.label)
    read_options = options_from(chosen, settings.options)
    refuse_unhandled(problem, chosen)
    if known:
        refuse_known(chosen)
    with_source(problem, settings.derivatives)
    for calls in problem.calls():
        calls.ready()  # a file that cannot be imported is found before anything is recorded
    if ledger is None:
        if origin is not None or known:
            raise RequestError(f'"{origin or known[0]}" is a run of a ledger: say which with ledger=…')
        with open_workers(problem, workers, settings) as pool:
            loop = Loop(
                problem, chosen, read_options, settings, listener=listener, multipliers=multipliers, workers=pool
            )
            return _drive(loop, listener, choice)
    opened = ledger if isinstance(ledger, Ledger) else Ledger(ledger)
    with ExitStack() as stack:
        if opened is not ledger:
            stack.callback(opened.close)
        pool = stack.enter_context(open_workers(problem, workers, settings))
        if origin is not None:
            problem, multipliers = _from_run(problem, opened, origin)
        recorded = known_recorded(opened, known)
        designs = known_designs(problem, opened, recorded) if known else None
        number = opened.begin_run(
            problem_text=problem.source.text,
            problem_file=problem.source.file,
            problem_title=problem.title,
            method=chosen.name,
            settings=settings.to_dict(),
            overrides={
                "set": dict(problem.overrides),
                "start": dict(problem.start_overrides),
                **({"multipliers": _recorded(multipliers)} if multipliers is not None else {}),
                **({"aim": problem.aim.to_dict()} if problem.aim else {}),
                **({"known": recorded} if known else {}),
            },
            versions=versions(),
            label=settings.label,
            files=stored_files(problem),
            models=stored_models(problem),
            member=member,
        )
        loop = Loop(
            problem,
            chosen,
            read_options,
            settings,
            ledger=opened,
            number=number,
            listener=listener,
            multipliers=multipliers,
            workers=pool,
            known=designs,
        )
        return _drive(loop, listener, choice)


def _with_room(problem: Problem, chosen: Method, settings: Settings) -> Settings:
    """Return the settings, the usual limit on evaluations raised where a method counts on trying every design, or a
    second look is to take longer."""
    if settings.evaluations == DEFAULT_EVALUATIONS and settings.look_scale > 1.0:
        return replace(settings, evaluations=int(settings.look_scale * DEFAULT_EVALUATIONS))
    count = design_count(problem) if chosen.only_members else None
    if count is None or settings.evaluations != DEFAULT_EVALUATIONS:
        return settings
    return replace(settings, evaluations=max(settings.evaluations, count + 1))


def _from_run(problem: Problem, ledger: Ledger, reference: str) -> tuple[Problem, tuple[FloatArray, FloatArray] | None]:
    reference, number = split_address(reference)
    record = ledger.run(reference)
    document = record_result(record) if number is None else design_document(addressed(ledger, f"{record.id}:{number}"))
    warm = warm_start(problem, document, record.id)
    # Starts that were given by hand win over those of the other run.
    given = dict(problem.start_overrides)
    if not given:
        return warm.problem, warm.multipliers
    point = np.array(warm.problem.start)
    for block in problem.blocks:
        if block.name in given:
            point[block.first : block.first + block.size] = block.start
    return begun_at(problem, point), warm.multipliers


def _recorded(multipliers: tuple[FloatArray, FloatArray]) -> dict[str, list[float]]:
    return {"rows": multipliers[0].tolist(), "bounds": multipliers[1].tolist()}


def _recalled(record: RunRecord) -> tuple[FloatArray, FloatArray] | None:
    kept = record.overrides.get("multipliers")
    return None if kept is None else (np.array(kept["rows"], dtype=float), np.array(kept["bounds"], dtype=float))


def check_label(label: str | None) -> None:
    """Raise RequestError for a label that could be taken for an id."""
    if label is None:
        return
    is_id = label[:1] in "rg" and label[1:].isdigit()
    if is_id or label == "last" or not label.strip() or label != label.strip():
        raise RequestError(f'--label "{label}" could be taken for an id', advice="choose a word such as winter-tariff")


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
) -> RunResult:
    """Continue an interrupted, killed or exhausted run on the same path, by replay of what is recorded.

    A run whose models' files have changed is refused unless `as_now`. The limits are new totals; without any, the
    limits that an exhausted run used up are granted once more, and a patience that came to its end is doubled. With
    `anyhow` a run that has ended is followed to its end again, for its result.
    Raises RequestError when the run has ended otherwise, still runs, or no longer follows its record.
    """
    record = ledger.run(reference)
    if ledger.is_alive(record):
        raise RequestError(f"{record.id} is still running (process {record.process.split(':')[0]})")
    had_patience = record.outcome == "stalled" and record.settings.get("patience") is not None
    is_over = record.state == "ended" and record.outcome != "interrupted"
    if not anyhow and record.state == "ended" and record.outcome not in RESUMABLE and not had_patience:
        raise RequestError(f"{record.id} has ended ({record.outcome}); there is nothing to continue")
    settings = Settings.from_dict(record.settings)
    given = {"evaluations": evaluations, "iterations": iterations, "seconds": seconds, "patience": patience}
    if not (anyhow and is_over):
        settings = replace(settings, **_new_limits(settings, given, record))  # type: ignore[arg-type]
    problem = problem_of(record)
    refuse_changed(record, problem, as_now=as_now)
    for calls in problem.calls():
        calls.ready()  # or a run that could be gone on with would end as one whose model failed
    chosen, choice = chosen_method(problem, settings, has_options=False)
    kept = ledger.checkpoint(record.number) if chosen.keeps_checkpoints else None
    replay = Replay(
        ledger.requests(record.number),
        ledger.evaluations(record.number),
        ledger.iterations(record.number),
        has_calls=bool(ledger.call_counts(record.number)),
        checkpoint=None if kept is None else RunCheckpoint.unpacked(kept),
        arrivals=ledger.arrivals(record.number),
    )
    recorded = record.overrides.get("known")
    designs = known_designs(problem, ledger, recorded) if recorded else None
    with open_workers(problem, workers, settings) as pool:
        loop = Loop(
            problem,
            chosen,
            options_from(chosen, settings.options),
            settings,
            ledger=ledger,
            number=record.number,
            replay=replay,
            listener=listener,
            multipliers=_recalled(record),
            workers=pool,
            known=designs,
        )
        ledger.reopen_run(record, settings.to_dict())  # only now: whatever could be refused has been
        result = _resumed(loop, record, ledger, listener, choice)
    if anyhow and is_over:
        ledger.restore_run(record)
    return result


def _resumed(
    loop: Loop, record: RunRecord, ledger: Ledger, listener: Listener | None, choice: Choice | None
) -> RunResult:
    try:
        return _drive(loop, listener, choice)
    except Exception as error:  # whatever it is, the run is as it was
        ledger.restore_run(record)
        if not isinstance(error, RequestError):
            raise
        error.advice = (
            f"recorded with {_listed(record.versions)}, now {_listed(versions())};"
            f" start anew from its best design: {new_run_command(record)}"
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


def new_run_command(record: RunRecord) -> str:
    """Return the command that starts a new run, with the same parameters, from the best design on record."""
    words = ["ilvren", "run", record.problem_file, "--method", record.method]
    words += Aim.from_dict(record.overrides.get("aim", {})).flags()
    for reference in record.overrides.get("known", ()):
        words += ["--known", reference]
    for name, value in record.overrides["set"].items():
        words += ["--set", f"{name}={json.dumps(value)}"]
    variables = record.result["variables"] if record.result is not None else record.overrides["start"]
    assert isinstance(variables, Mapping)
    for name, value in variables.items():
        words += ["--start", f"{name}={json.dumps(value)}"]
    return shlex.join(words)


def versions() -> dict[str, str]:
    """Return what computes: the versions that a path can depend on."""
    return {"ilvren": __version__, "python": "{}.{}.{}".format(*sys.version_info[:3]), "numpy": np.__version__}


def _listed(found: Mapping[str, str]) -> str:
    return ", ".join(f"{name} {version}" for name, version in found.items())


def _drive(loop: Loop, listener: Listener | None, choice: Choice | None) -> RunResult:
    if listener is not None:
        why = choice.sentence if choice else ""
        listener(Started(loop.run_id, loop.method.name, len(loop.problem.free), loop.problem.row_count, why))
    result = loop.drive()
    if listener is not None:
        listener(Ended(result.outcome))
    return result
