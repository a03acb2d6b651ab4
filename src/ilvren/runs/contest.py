"""Contests: methods by problems by starts by seeds, each a run of its own, in parallel, recorded as one group.

The plan is recorded before anything runs: a contest that was interrupted or killed goes on with the members that are
missing, and resumes those that were stopped. Runs do not know of each other, so the number of processes changes nothing
but the time.
"""

from __future__ import annotations

import multiprocessing
import os
import signal
import threading
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from ilvren.errors import MachineError, RequestError
from ilvren.ledger import GroupRecord, Ledger, RunRecord
from ilvren.methods.base import method_named, options_from
from ilvren.problem import Problem, loads
from ilvren.runs.choice import AUTOMATIC, GLOBAL, chosen_method
from ilvren.runs.claims import refuse_unhandled
from ilvren.runs.result import by_block
from ilvren.runs.settings import Settings
from ilvren.runs.start import RESUMABLE, check_label, resume, run
from ilvren.runs.stored import stored_files
from ilvren.runs.warm import begun_at

__all__ = ["Contender", "Finished", "hold_contest", "plan_contest", "resume_contest"]

MOST_MEMBERS = 20_000
# How often a process looks whether the one that began it still lives.
PARENT_SECONDS = 0.5
# Up to so many members a contest runs in this process: others would take longer to start.
FEW_MEMBERS = 3
# Where variables have no bounds, random starts lie within so many sizes of the file's start.
OPEN_REACH = 1.0


@dataclass(frozen=True)
class Contender:
    """A method with its options, under the name it has in tables."""

    name: str
    method: str
    options: Mapping[str, str | float | bool]


@dataclass(frozen=True)
class Finished:
    """What is told of each member that has ended: its place, run, outcome and objective as written."""

    place: int
    run: str
    outcome: str
    objective: float | None
    done: int
    total: int


def plan_contest(
    problems: Sequence[Problem],
    contenders: Sequence[Contender],
    settings: Settings,
    *,
    random_starts: int = 0,
    repeats: int = 1,
) -> dict[str, Any]:
    """Return the plan: plain values for the ledger. The same starts and seeds serve every method. Raises RequestError
    for methods that cannot take a problem, and plans that are too large."""
    check_label(settings.label)
    if random_starts < 0 or repeats < 1:
        raise RequestError("a contest has at least 1 repeat, and no fewer than 0 random starts")
    members = []
    for number, problem in enumerate(problems):
        starts = _starts(problem, random_starts, settings.seed)
        for place, contender in enumerate(contenders):
            own = replace(settings, method=contender.method, options=dict(contender.options))
            method, _ = chosen_method(problem, own, has_options=bool(contender.options))
            options_from(method, own.options)
            refuse_unhandled(problem, method)
            for start in range(len(starts)):
                # A method that draws nothing at random would only do the same again.
                for seed in range(repeats if method.is_random else 1):
                    members.append(
                        {"problem": number, "contender": place, "start": start, "seed": settings.seed + seed}
                    )
        if len(members) > MOST_MEMBERS:
            raise RequestError(f"the contest has more than {MOST_MEMBERS} runs: fewer starts or repeats, please")
    return {
        "problems": [
            {**_stored(problem), "starts": _starts(problem, random_starts, settings.seed)} for problem in problems
        ],
        "contenders": [{"name": c.name, "method": c.method, "options": dict(c.options)} for c in contenders],
        "settings": {**settings.to_dict(), "label": None},
        "members": members,
        "random_starts": random_starts,
        "repeats": repeats,
    }


def _stored(problem: Problem) -> dict[str, Any]:
    return {
        "text": problem.source.text,
        "file": problem.source.file,
        "set": dict(problem.overrides),
        "files": stored_files(problem),
        "name": problem.title or problem.source.file,
        "sign": problem.objective.sign if problem.objective is not None else 1,
    }


def _starts(problem: Problem, count: int, seed: int) -> list[Any]:
    """Return None for the file's own start, or random starts, spread so that each variable's range is covered
    evenly."""
    if count == 0:
        return [None]
    rng = np.random.default_rng([seed, 13])
    low, high, start = problem.joined("lower"), problem.joined("upper"), np.array(problem.start)
    reach = OPEN_REACH * np.maximum(np.abs(start), 1.0)
    low, high = np.where(np.isfinite(low), low, start - reach), np.where(np.isfinite(high), high, start + reach)
    strata = np.column_stack([rng.permutation(count) for _ in range(problem.size)])
    shares = (strata + rng.uniform(size=(count, problem.size))) / count
    points = low + shares * (high - low)
    return [by_block(problem.blocks, list(problem.with_starts(point).start)) for point in points]


def hold_contest(
    ledger: Ledger,
    group: GroupRecord,
    *,
    workers: int | None = None,
    finished: Callable[[Finished], None] | None = None,
) -> bool:
    """Run every member of a group that has not ended; return False when interrupted. Members that were stopped go on by
    replay."""
    members = group.plan["members"]
    begun = ledger.group_runs(group)
    missing = [place for place in range(len(members)) if place not in begun or _is_open(ledger, begun[place])]
    done = len(members) - len(missing)
    count = workers or (1 if len(missing) <= FEW_MEMBERS else min(os.cpu_count() or 1, len(missing)))
    jobs = ((str(ledger.path), group.number, place) for place in missing)
    for answer in _in_this_process(jobs, ledger) if count == 1 else _in_processes(jobs, count):
        if answer is None:
            return False
        done += 1
        if finished is not None:
            finished(Finished(*answer, done, len(members)))
        if answer[2] == "interrupted":
            return False
    return True


def resume_contest(
    ledger: Ledger, reference: str, *, workers: int | None = None, finished: Callable[[Finished], None] | None = None
) -> bool:
    """Go on with a contest that was interrupted or killed; return False when interrupted again. Raises RequestError
    where nothing is left to do."""
    group = ledger.group(reference)
    begun = ledger.group_runs(group)
    if len(begun) == len(group.plan["members"]) and not any(_is_open(ledger, record) for record in begun.values()):
        raise RequestError(
            f"{group.id} has ended; there is nothing to continue", advice=f"`ilvren compare {group.id}` sums it up"
        )
    alive = [record.id for record in begun.values() if ledger.is_alive(record)]
    if alive:
        raise RequestError(f"{group.id} is still running ({', '.join(alive[:3])})")
    return hold_contest(ledger, group, workers=workers, finished=finished)


def _is_open(ledger: Ledger, record: RunRecord) -> bool:
    """Return whether a run was stopped before its end. Limits are part of a contest: who used them up has ended."""
    return record.outcome == "interrupted" or (record.state != "ended" and not ledger.is_alive(record))


# What is told of a member: place, run, outcome, objective; None for an interrupt.
_Answer = tuple[int, str, str, float | None]


def _in_this_process(jobs: Iterator[tuple[str, int, int]], ledger: Ledger) -> Iterator[_Answer | None]:
    for _, group, place in jobs:
        try:
            yield _member_run(ledger, group, place)
        except KeyboardInterrupt:
            yield None
            return


def _in_processes(jobs: Iterator[tuple[str, int, int]], count: int) -> Iterator[_Answer | None]:
    context = multiprocessing.get_context("spawn")
    pool = ProcessPoolExecutor(count, mp_context=context, initializer=_begin_process)
    waiting: set[Future[_Answer]] = set()
    try:
        for job in jobs:
            waiting.add(pool.submit(_job, *job))
            while len(waiting) >= 2 * count:
                done, waiting = wait(waiting, return_when=FIRST_COMPLETED)
                for future in done:
                    yield future.result()
        while waiting:
            done, waiting = wait(waiting, return_when=FIRST_COMPLETED)
            for future in done:
                yield future.result()
    except KeyboardInterrupt:
        # The runs under way end by themselves and keep what they have: they can be resumed.
        for process in list((getattr(pool, "_processes", None) or {}).values()):
            if process.is_alive() and process.pid:
                os.kill(process.pid, signal.SIGINT)
        yield None
    except RuntimeError as error:  # a process died
        raise MachineError(f"a process of the contest ended unexpectedly ({error}); `ilvren resume` goes on") from None
    finally:
        pool.shutdown(wait=True, cancel_futures=True)


def _begin_process() -> None:
    # Ctrl-C reaches this process through the one that began it, once.
    if hasattr(os, "setpgrp"):
        os.setpgrp()
    threading.Thread(target=_end_with, args=(os.getppid(),), daemon=True).start()


def _end_with(parent: int) -> None:
    """End this process when the one that began it has been killed: its run can be resumed."""
    while os.getppid() == parent:
        time.sleep(PARENT_SECONDS)
    os._exit(1)


def _job(path: str, group: int, place: int) -> _Answer:
    with Ledger(path) as ledger:
        return _member_run(ledger, group, place)


def _member_run(ledger: Ledger, number: int, place: int) -> _Answer:
    group = ledger.group(f"g{number}")
    begun = ledger.group_runs(group).get(place)
    if begun is not None and (begun.outcome in RESUMABLE or begun.state != "ended"):
        result = resume(begun.id, ledger)
        return place, result.id, result.outcome, result.objective
    member = group.plan["members"][place]
    stored, contender = group.plan["problems"][member["problem"]], group.plan["contenders"][member["contender"]]
    problem = loads(stored["text"], file=stored["file"], set=stored["set"], files=stored["files"])
    start = stored["starts"][member["start"]]
    if start is not None:
        flat = np.concatenate([np.ravel(np.array(start[block.name], dtype=float)) for block in problem.blocks])
        problem = begun_at(problem, flat)
    settings = Settings.from_dict(
        {
            **group.plan["settings"],
            "method": contender["method"],
            "options": contender["options"],
            "seed": member["seed"],
        }
    )
    result = run(problem, settings, ledger=ledger, member=(number, place))
    return place, result.id, result.outcome, result.objective


def contender_of(text: str) -> Contender:
    """Return the contender NAME or NAME:OPTION=VALUE,… Raises RequestError."""
    name, _, rest = text.partition(":")
    options: dict[str, str | float | bool] = {}
    for part in filter(None, (part.strip() for part in rest.split(","))):
        key, equals, value = part.partition("=")
        if not equals or not key.strip() or not value.strip():
            raise RequestError(
                f"--method {text}: options follow a colon, as NAME:OPTION=VALUE,OPTION=VALUE",
                advice="for example --method differential-evolution:population=40",
            )
        options[key.strip()] = value.strip()
    if name not in (AUTOMATIC, GLOBAL):
        options_from(method_named(name, also=(AUTOMATIC, GLOBAL)), options)
    return Contender(text, name, options)


def read_problems(files: Sequence[str | Path], **options: Any) -> list[Problem]:
    """Load several problem files, refusing one that is named twice. Raises RequestError and what `load` raises."""
    from ilvren.problem import load

    seen: set[str] = set()
    for file in files:
        if str(file) in seen:
            raise RequestError(f"{file} is named twice")
        seen.add(str(file))
    return [load(file, **options) for file in files]
