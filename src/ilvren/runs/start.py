"""Starting a run and continuing one."""

from __future__ import annotations

import json
import shlex
import sys
from collections.abc import Callable, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import ProblemError, RequestError
from ilvren.ledger import Ledger, RunRecord
from ilvren.methods import FRONT, Method, options_from
from ilvren.methods.pieces import SAMPLE, evaluating
from ilvren.problem import Aim, Problem, fronted, load, on_document, refined_problem
from ilvren.runs.choice import AUTOMATIC, Choice, chosen_method, design_count
from ilvren.runs.claims import refuse_unhandled
from ilvren.runs.events import Ended, Event, Finer, StageBegun, Started
from ilvren.runs.front_choice import refuse_front
from ilvren.runs.plan import Plan
from ilvren.runs.pool import open_workers
from ilvren.runs.settings import DEFAULT_EVALUATIONS, Settings
from ilvren.runs.sources import with_source
from ilvren.runs.stages import ENDS_THE_RUN, Base, staged_problems, told_set
from ilvren.runs.stored import problem_of, refuse_changed, stored_files, stored_models
from ilvren.runs.trust import signature_of
from ilvren.version import __version__

if TYPE_CHECKING:
    from ilvren.evaluate import Workers
    from ilvren.runs.loop import Loop
    from ilvren.runs.on_grid import NextStage
    from ilvren.runs.predicted import On, Truly
    from ilvren.runs.result import RunResult

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
    from ilvren.problem import limit_sizes
    from ilvren.runs.front import refuse_reference
    from ilvren.runs.known import known_designs, known_recorded, refuse_known
    from ilvren.runs.predicted import drive_on
    from ilvren.runs.scatter_stages import begun_with_all, begun_with_few, counted_problem
    from ilvren.runs.treatment import treated

    if isinstance(problem, (str, Path)):
        problem = load(problem)
    problem = fronted(problem)
    problems, before = staged_problems(problem, stages), dict(problem.overrides)
    problem = problems[-1] if problems else problem
    if settings is None:
        try:
            settings = Settings(method=method or AUTOMATIC, options=dict(options or {}), **more)  # type: ignore[arg-type]
        except TypeError as error:
            raise RequestError(f"unknown setting: {error}") from None
    is_search = sample is None and on is None and not stages
    treatment = treated(problem, settings.method, is_search=is_search)
    if treatment.problem is not problem and multipliers is not None:
        multipliers = None  # of other rows: those of a simulation
    problem = treatment.problem
    if problem.is_about_scatter and sample is not None and not sample.get("slopes"):
        problem = counted_problem(problem, settings.seed)  # a sample needs no derivatives: what is told is counted
    elif problem.is_about_scatter and on is None:
        begins = begun_with_few if len(problem.objectives) <= 1 else begun_with_all
        problem, problems = begins(problem, settings.seed), [begins(one, settings.seed) for one in problems]
    refuse_front(problem, settings, has_stages=bool(stages))
    refuse_reference(problem, settings.reference_point)
    if sample is not None:
        chosen, choice = _sampling(problem, sample), None
        early, settings = chosen, replace(settings, method=chosen.name)
    else:
        searched = problem if on is None else _searched(problem, on, known=known, stages=stages)
        chosen, choice = chosen_method(searched, settings, has_options=bool(settings.options))
        early = _without_look(searched, settings)
        settings = _with_room(searched, chosen, settings)
    check_label(settings.label)
    read_options = options_from(chosen, settings.options)
    refuse_unhandled(problem if on is None else searched, chosen)
    if known:
        refuse_known(chosen)
    with_source(problem, settings.derivatives)
    for calls in problem.calls():
        calls.ready()  # a file that cannot be imported is found before anything is recorded
    if ledger is None:
        if origin is not None or known:
            raise RequestError(f'"{origin or known[0]}" is a run of a ledger: say which with ledger=…')
        with open_workers(problem, workers, settings, chosen) as pool:
            told = treatment.why
            plan = Plan(chosen, early, read_options, settings, listener=listener, workers=pool, treatment=told)
            problem, problems = _begun_along_start(problem), [_begun_along_start(one) for one in problems]
            if on is not None:
                return drive_on(plan, replace(plan, workers=None), problem, on, choice.sentence if choice else "")
            return _drive(plan, problems or [problem], stages, listener, choice, multipliers)
    opened = ledger if isinstance(ledger, Ledger) else Ledger(ledger)
    with ExitStack() as stack:
        if opened is not ledger:
            stack.callback(opened.close)
        pool = stack.enter_context(open_workers(problem, workers, settings, chosen))
        if origin is not None:
            problem, multipliers = _from_run(problem, opened, origin)
            problems = [one.with_starts(np.array(problem.start)) for one in problems]
        recorded = known_recorded(opened, known)
        designs = known_designs(problem, opened, recorded) if known else None
        problem, problems = _begun_along_start(problem), [_begun_along_start(one) for one in problems]
        finely = problem.refinement.to_dict()
        models = stored_models(problem)
        signature = signature_of(problem, models)
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
                **({"stages": {str(place): dict(own) for place, own in enumerate(stages, start=1)}} if stages else {}),
                **({"before": before} if stages else {}),
                **({"proposal": dict(proposal)} if proposal else {}),
                **({"sample": dict(sample)} if sample else {}),
                **({"on": on.record()} if on is not None else {}),
                **({"time": finely, "time_first": finely} if problem.goes_in_stages else {}),
                **(
                    {"unknowns": {"start": list(problem.start), "sizes": limit_sizes(problem)}}
                    if problem.is_collocated
                    else {}
                ),
                **({"signature": {"hmac": signature}} if signature else {}),
            },
            versions=versions(),
            label=settings.label,
            files=stored_files(problem),
            models=models,
            member=member,
        )
        if stages or problem.goes_in_stages:
            opened.plan_stages(number, max(len(stages), 1))
        plan = Plan(
            chosen,
            early,
            read_options,
            settings,
            ledger=opened,
            number=number,
            listener=listener,
            workers=pool,
            known=designs,
            confirms=member is None and sample is None,  # of a contest the engineer chooses one
            treatment=treatment.why,
        )
        try:
            if on is not None:
                return drive_on(plan, replace(plan, workers=None), problem, on, choice.sentence if choice else "")
            return _drive(plan, problems or [problem], stages, listener, choice, multipliers)
        except ProblemError:  # found at the first call of a model: then there is no run to tell of
            opened.withdraw_run(number)
            raise


def run_as_it_stands(problem: Problem, settings: Settings) -> RunResult:
    """Run a method on a problem that may have been made of a file's, with nothing recorded and in one stage: one on a
    grid stays on that grid, its result having the unknowns there (`full_point`), and one about scatter is smooth as it
    is. Raises RequestError."""
    from ilvren.runs.treatment import refuse_scheme

    if not problem.goes_in_stages:
        return run(problem, settings)
    if problem.is_collocated:
        refuse_scheme(settings.method, problem.refinement.scheme)
    chosen, _ = chosen_method(problem, settings, has_options=bool(settings.options))
    plan = Plan(chosen, chosen, options_from(chosen, settings.options), settings)
    return plan.loop(problem, None, None, None, is_last=True).drive(is_last=True)


def _searched(problem: Problem, on: On, *, known: Sequence[str] = (), stages: Sequence[Any] = ()) -> Problem:
    """Return the problem that a search on an approximation works on. Raises RequestError."""
    from ilvren.runs.predicted import refuse_on

    if known or stages:
        raise RequestError(f"--on: {'--known' if known else '--stage'} belongs to a search on the problem itself")
    refuse_on(problem)
    return on_document(problem, on.documents[0])


def _sampling(problem: Problem, sample: Mapping[str, Any]) -> Method:
    """Return what evaluates the designs of a plan."""
    designs = np.array(sample["designs"], dtype=float).reshape(-1, problem.size)
    # Wherever the run is listed it says of itself that its values are no true ones.
    name = f"{sample['plan']} (predicted)" if problem.aim.on else str(sample["plan"])
    parts = [int(k) for k in sample.get("parts", ())]
    return evaluating(name, designs[:, list(problem.free)], parts, with_slopes=bool(sample.get("slopes")))


def _without_look(problem: Problem, settings: Settings) -> Method:
    """Return the method of the settings without a second look."""
    return chosen_method(problem, replace(settings, second_look=0.0), has_options=bool(settings.options))[0]


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
    from ilvren.runs.addresses import addressed, design_document, split_address
    from ilvren.runs.warm import begun_at, record_result, warm_start

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
    is_id = label[:1] in "rga" and label[1:].isdigit()
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
    from ilvren.runs.known import known_designs
    from ilvren.runs.predicted import On, drive_on
    from ilvren.runs.treatment import recalled

    record = ledger.run(reference)
    if ledger.is_alive(record):
        raise RequestError(f"{record.id} is still running (process {record.process.split(':')[0]})")
    had_patience = record.outcome == "stalled" and record.settings.get("patience") is not None
    is_over = record.state == "ended" and record.outcome != "interrupted"
    if sample is not None:
        record = replace(record, overrides={**record.overrides, "sample": dict(sample)})
    elif not anyhow and record.state == "ended" and record.outcome not in RESUMABLE and not had_patience:
        raise RequestError(f"{record.id} has ended ({record.outcome}); there is nothing to continue")
    settings = Settings.from_dict(record.settings)
    given = {"evaluations": evaluations, "iterations": iterations, "seconds": seconds, "patience": patience}
    if sample is not None:
        settings = replace(settings, evaluations=max(settings.evaluations or 0, len(sample["designs"]) + 1))
    elif not (anyhow and is_over):
        settings = replace(settings, **_new_limits(settings, given, record))  # type: ignore[arg-type]
    record = _before_stages(record)
    problem = recalled(problem_of(record), record.overrides.get("unknowns", {}))
    refuse_changed(record, problem, as_now=as_now)
    for calls in problem.calls():
        calls.ready()  # or a run that could be gone on with would end as one whose model failed
    on: On | None = None
    if "sample" in record.overrides:
        chosen, choice = _sampling(problem, record.overrides["sample"]), None
        early = chosen
    else:
        kept = record.overrides.get("on")
        on = None if kept is None else On.recalled(kept, relearn)
        searched = problem if on is None else _searched(problem, on)
        chosen, choice = chosen_method(searched, settings, has_options=False)
        early = _without_look(searched, settings)
    stages = list(record.overrides.get("stages", {}).values())
    problems = staged_problems(_without_stages(record), stages) if stages else [problem]
    recorded = record.overrides.get("known")
    designs = known_designs(problem, ledger, recorded) if recorded else None
    with open_workers(problem, workers, settings, chosen) as pool:
        plan = Plan(
            chosen,
            early,
            options_from(chosen, settings.options),
            settings,
            ledger=ledger,
            number=record.number,
            listener=listener,
            workers=pool,
            known=designs,
            is_resumed=True,
            confirms="sample" not in record.overrides,
        )
        first = plan.loop(problems[0], _recalled(record), plan.replay(1), None)  # what can be refused is refused here
        ledger.reopen_run(record, settings.to_dict())
        if sample is not None:
            ledger.note_sample(record.number, sample)
        first.gate.release()
        drive: Callable[[], RunResult]
        if on is not None:
            again, why = on, choice.sentence if choice else ""
            drive = lambda: drive_on(plan, replace(plan, workers=None), problem, again, why)  # noqa: E731
        else:
            drive = lambda: _drive(plan, problems, stages, listener, choice, _recalled(record))  # noqa: E731
        result = _resumed(drive, record, ledger)
    if anyhow and is_over:
        ledger.restore_run(record)
    return result


def _resumed(drive: Callable[[], RunResult], record: RunRecord, ledger: Ledger) -> RunResult:
    try:
        return drive()
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
    if "sample" in record.overrides:
        return shlex.join(["ilvren", "sample", record.problem_file, "--plan", str(record.overrides["sample"]["plan"])])
    words = ["ilvren", "run", record.problem_file, "--method", record.method]
    words += Aim.from_dict(record.overrides.get("aim", {})).flags()
    for values in record.overrides.get("stages", {}).values():
        words += ["--stage", ",".join(f"{name}={json.dumps(value)}" for name, value in values.items())]
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


def _drive(
    plan: Plan,
    problems: Sequence[Problem],
    stages: Sequence[Mapping[str, Any]],
    listener: Listener | None,
    choice: Choice | None,
    multipliers: tuple[FloatArray, FloatArray] | None,
) -> RunResult:
    """Run the stages, each from where the last one ended; a run without has one."""
    from ilvren.runs.scatter_stages import SMOOTH, SMOOTH_MEMBERS, functions_of
    from ilvren.runs.warm import warm_start

    last = problems[-1]
    if listener is not None:
        why = "; ".join(filter(None, (choice.sentence if choice else "", plan.treatment)))
        name = f"r{plan.number}" if plan.number else ""
        listener(Started(name, plan.method.name, len(last.free), last.row_count, why))
    base, point, count = None, None, len(problems)
    for stage, problem in enumerate(problems, start=1):
        own = problem if point is None else problem.with_starts(point)
        is_last = stage == count
        loop = plan.loop(own, multipliers, plan.replay(stage), base, is_last=is_last)
        if stages or own.goes_in_stages:
            loop.begin_stage(stage)
            if stages and listener is not None:
                listener(StageBegun(stage, count, told_set(stages[stage - 1])))
        is_whole = not own.goes_in_stages or plan.method.kind in (SAMPLE, FRONT)
        result = loop.drive(is_last=is_last and is_whole)
        if plan.method.kind == FRONT and own.is_about_scatter and functions_of(own) & SMOOTH:
            result = replace(result, notes=(*result.notes, SMOOTH_MEMBERS))
        if is_last and not is_whole:
            result = _looked_closer(plan, own, loop, result, stage)
        if not is_last:
            point = np.array(result.point)
            warm = warm_start(problem, result.to_dict(), f"stage {stage}")
            base, multipliers = loop.base_after(result, stages[stage - 1]), warm.multipliers
            plan = replace(plan, settings=replace(loop.settings, target=plan.settings.target))
            if result.outcome in ENDS_THE_RUN:
                reason = f"in stage {stage} of {count} ({told_set(stages[stage - 1])}): {result.reason}"
                ending = plan.loop(last.with_starts(point), None, None, base)
                result = ending.given_up(result.outcome, reason, result.machine_trouble)
                break
    if listener is not None:
        listener(Ended(result.outcome))
    return result


def _looked_closer(plan: Plan, problem: Problem, loop: Loop, result: RunResult, stage: int) -> RunResult:
    """Look at what a run over time, or about scatter, has found more finely, and go on from there in further stages
    while that shows anything; return the result, which is recorded as the run's."""
    from ilvren.runs.on_grid import Way
    from ilvren.runs.refining import time_report
    from ilvren.runs.scatter_stages import ScatterWay

    way, scatter_way, own_plan = Way(problem), ScatterWay(), plan
    baseline = result.baseline_objective, result.baseline_violation
    while True:
        if problem.is_collocated:  # every grid begins where the last one ended: the file's own start is the first one's
            result = replace(result, baseline_objective=baseline[0], baseline_violation=baseline[1])
        try:
            following = None
            if problem.is_about_scatter:
                following = scatter_way.after(problem, result)
            if problem.is_over_time:
                result = replace(result, time_error=time_report(problem, np.array(result.full_point), loop.gate.calls))
                following = following or way.after(problem, result, loop.gate.calls)
        except KeyboardInterrupt:  # what was found stands, and is on record; resuming goes on
            return loop.close(
                replace(result, outcome="interrupted", reason="stopped by the user; `ilvren resume` continues the run")
            )
        if following is None:
            return loop.close(_told(problem, result))
        base = loop.base_after(result, {}, following.told)
        stage += 1
        problem = following.problem
        if plan.listener is not None:
            plan.listener(Finer(following.told))
        if plan.ledger is not None:
            plan.ledger.note_refinement(plan.number, problem.refinement.to_dict(), stage)
            plan.ledger.plan_stages(plan.number, stage)
        plan = _plan_of(own_plan, following, loop.settings, base)
        loop = plan.loop(problem, following.multipliers, plan.replay(stage), base)
        loop.begin_stage(stage)
        result = loop.drive(is_last=False)


def _told(problem: Problem, result: RunResult) -> RunResult:
    """Return the result of a run on a grid with what its course tells, of one about scatter with what is counted."""
    from ilvren.runs.scatter_stages import counted_result

    if problem.is_about_scatter:
        return counted_result(problem, result)
    if not problem.is_collocated or not np.isfinite(result.full_point).all():
        return result
    from ilvren.runs.courses_told import courses_told

    with np.errstate(all="ignore"):
        return replace(result, courses=courses_told(problem, np.array(result.full_point), result))


def _plan_of(plan: Plan, following: NextStage, settings: Settings, base: Base) -> Plan:
    """Return the plan of a further stage: one that makes a guess aside has a method and a limit of its own."""
    if not following.is_aside:
        limit = plan.settings.evaluations
        return replace(plan, settings=replace(settings, evaluations=limit), method=plan.early, known=None)
    most = base.counts.evaluations + (following.evaluations or 0)
    limit = most if settings.evaluations is None else min(most, settings.evaluations)
    own = replace(settings, method=AUTOMATIC, options={}, evaluations=limit)
    method = _without_look(following.problem, own)
    return replace(plan, settings=own, method=method, early=method, options=options_from(method, {}), known=None)


def _begun_along_start(problem: Problem) -> Problem:
    """Return a problem over time whose steps are chosen along the design that the run begins with."""
    if not problem.simulations or problem.start == problem.baseline:
        return problem
    return refined_problem(problem, replace(problem.refinement, anchor=problem.start))


def _before_stages(record: RunRecord) -> RunRecord:
    """Return the record of a run over time as it was before its stages looked more finely."""
    first = record.overrides.get("time_first")
    if first is None:
        return record
    return replace(record, overrides={**record.overrides, "time": first})


def _without_stages(record: RunRecord) -> Problem:
    """Return the problem of a run as it was before its stages set parameters."""
    return problem_of(replace(record, overrides={**record.overrides, "set": record.overrides["before"]}))
