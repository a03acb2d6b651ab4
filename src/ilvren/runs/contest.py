"""Contests: methods by problems by starts by seeds, each a run of its own, in parallel, recorded as one group.

The plan is recorded before anything runs: a contest that was interrupted or killed goes on with the members that are
missing, and resumes those that were stopped. Runs do not know of each other, so the number of processes changes nothing
but the time.
"""

from __future__ import annotations

import contextlib
import itertools
import json
import os
import selectors
import signal
import subprocess
import sys
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from ilvren.errors import MachineError, RequestError
from ilvren.methods import method_named, options_from
from ilvren.models import is_trusting
from ilvren.problem import Aim, Problem, checked_scheme, checked_steps, fronted, loads
from ilvren.records import dataclass
from ilvren.runs.choice import chosen_method
from ilvren.runs.front_choice import refuse_front
from ilvren.runs.handling import refuse_unhandled
from ilvren.runs.limits import by_block
from ilvren.runs.planning import check_label
from ilvren.runs.settings import AUTOMATIC, GLOBAL, Settings
from ilvren.runs.start import RESUMABLE, resume, run
from ilvren.runs.stored import stored_files, stored_models
from ilvren.runs.treatment import treated, treated_as
from ilvren.runs.trust import refuse_plan, signature_of
from ilvren.runs.warm import begun_at

if TYPE_CHECKING:
    from ilvren.ledger import GroupRecord, Ledger, RunRecord
    from ilvren.runs.result import RunResult

__all__ = [
    "Contender",
    "Finished",
    "contender_of",
    "hold_contest",
    "plan_contest",
    "read_problems",
    "resume_contest",
    "run_member",
]

MOST_MEMBERS = 20_000
# A process that was interrupted may finish the evaluation it is at; then it is ended.
MOST_END_SECONDS = 30.0
# Up to so many members a contest runs in this process: others would take longer to start.
FEW_MEMBERS = 3
# Where variables have no bounds, random starts lie within so many sizes of the file's start.
OPEN_REACH = 1.0


@dataclass(frozen=True)
class Contender:
    """A method with its options, under the name it has in tables. `scheme` ("" for the problem's choice) and `steps`
    (0 for the file's) say how what evolves over time is treated."""

    name: str
    method: str
    options: Mapping[str, str | float | bool]
    scheme: str = ""
    steps: int = 0

    def to_dict(self) -> dict[str, Any]:
        """Return plain values for the ledger."""
        found = {"name": self.name, "method": self.method, "options": dict(self.options)}
        return found | ({"time": {"scheme": self.scheme, "steps": self.steps}} if self.scheme or self.steps else {})


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
        problem = fronted(problem)
        refuse_front(problem, settings, has_stages=False)
        starts = _starts(problem, random_starts, settings.seed)
        for place, contender in enumerate(contenders):
            own = replace(settings.of_many(), method=contender.method, options=dict(contender.options))
            taken = _taken(problem, contender)
            method, _ = chosen_method(taken, own, has_options=bool(contender.options))
            options_from(method, own.options)
            refuse_unhandled(taken, method)
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
        "contenders": [contender.to_dict() for contender in contenders],
        "settings": {**settings.to_dict(), "label": None},
        "members": members,
        "random_starts": random_starts,
        "repeats": repeats,
    }


def _taken(problem: Problem, contender: Contender) -> Problem:
    """Return a problem as a run by a contender takes it. Raises RequestError and ProblemError."""
    if (contender.scheme or contender.steps) and not problem.is_over_time:
        raise RequestError(
            f"--method {contender.name}: {problem.title or problem.source.file} has no [time]",
            advice=f"scheme and steps choose a grid; `ilvren methods {contender.method}` lists the method's options",
        )
    own = treated_as(problem, contender.scheme, contender.steps) if contender.scheme or contender.steps else problem
    return treated(own, contender.method).problem


def _aim(stored: Mapping[str, Any]) -> Aim:
    return Aim.from_dict(stored.get("aim", {}))


def _stored(problem: Problem) -> dict[str, Any]:
    if problem.refusal:
        raise RequestError(problem.refusal, advice="look at what it is, and add --trust to run it")
    return {
        "text": problem.source.text,
        "file": problem.source.file,
        "set": dict(problem.overrides),
        "aim": problem.aim.to_dict(),
        "files": stored_files(problem),
        "models": (models := stored_models(problem)),
        "signature": signature_of(problem, models),
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
    ledger: Ledger,
    reference: str,
    *,
    workers: int | None = None,
    finished: Callable[[Finished], None] | None = None,
    as_now: bool = False,
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
    _refuse_changed(group, as_now=as_now)
    return hold_contest(ledger, group, workers=workers, finished=finished)


def _refuse_changed(group: GroupRecord, *, as_now: bool) -> None:
    """Raise RequestError for models that may not be run, and without `as_now` where the file of one has changed since:
    members would not compare."""
    for stored in group.plan["problems"]:
        problem = loads(stored["text"], file=stored["file"], set=stored["set"], files=stored["files"], aim=_aim(stored))
        refuse_plan(group.id, stored, problem)
        if not as_now and stored_models(problem) != stored.get("models", {}):
            raise RequestError(
                f"{group.id}: files of the models of {stored['name']} have changed since it began",
                advice="put them back, or add --as-now to use the models as they are now",
            )


def _is_open(ledger: Ledger, record: RunRecord) -> bool:
    """Return whether a run was stopped before its end. Limits are part of a contest: who used them up has ended."""
    return record.outcome == "interrupted" or (record.state != "ended" and not ledger.is_alive(record))


# What is told of a member: place, run, outcome, objective; None for an interrupt.
_Answer = tuple[int, str, str, float | None]


def _in_this_process(jobs: Iterator[tuple[str, int, int]], ledger: Ledger) -> Iterator[_Answer | None]:
    for _, group, place in jobs:
        try:
            yield run_member(ledger, group, place)
        except KeyboardInterrupt:
            yield None
            return


def _in_processes(jobs: Iterator[tuple[str, int, int]], count: int) -> Iterator[_Answer | None]:
    """Give each process its next member as it has ended one."""
    processes: list[subprocess.Popen[str]] = []
    try:
        with selectors.DefaultSelector() as ready:
            for path, group, place in itertools.islice(jobs, count):
                process = _begun(path, group)
                processes.append(process)
                assert process.stdout is not None
                ready.register(process.stdout, selectors.EVENT_READ, process)
                _ask(process, place)
            busy = len(processes)
            while busy:
                for key, _ in ready.select():
                    answer = _answer_of(key.data)
                    following = next(jobs, None)
                    if following is None:
                        ready.unregister(key.fileobj)
                        key.data.stdin.close()
                        busy -= 1
                    else:
                        _ask(key.data, following[2])
                    yield answer
    except KeyboardInterrupt:
        # The runs under way end by themselves and keep what they have: they can be resumed.
        for process in processes:
            if process.poll() is None:
                process.send_signal(signal.SIGINT)
        yield None
    finally:
        for process in processes:
            _ended(process)


def _begun(path: str, group: int) -> subprocess.Popen[str]:
    return subprocess.Popen(
        [sys.executable, "-m", "ilvren.runs.contest_worker", path, str(group), "trust" if is_trusting() else ""],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
        encoding="utf-8",
        start_new_session=True,  # Ctrl-C reaches it through this process, once
    )


def _ask(process: subprocess.Popen[str], place: int) -> None:
    assert process.stdin is not None
    with contextlib.suppress(BrokenPipeError):  # it has ended: said when its answer is read
        process.stdin.write(f"{place}\n")
        process.stdin.flush()


def _answer_of(process: subprocess.Popen[str]) -> _Answer:
    assert process.stdout is not None
    line = process.stdout.readline()
    if not line:
        raise MachineError(
            f"a process of the contest ended by itself (status {process.wait()}); `ilvren resume` goes on"
        )
    found = json.loads(line)
    if isinstance(found, dict):
        raise MachineError(found["refused"]) if found["machine"] else RequestError(found["refused"])
    place, run_id, outcome, objective = found
    return place, run_id, outcome, objective


def _ended(process: subprocess.Popen[str]) -> None:
    """Let a process end what it was told to end, and close its pipes."""
    assert process.stdin is not None
    assert process.stdout is not None
    with contextlib.suppress(OSError):
        process.stdin.close()
    try:
        process.wait(MOST_END_SECONDS)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()
    process.stdout.close()


def run_member(ledger: Ledger, number: int, place: int) -> _Answer:
    """Run, or go on with, one member of a group; return its place, run, outcome and objective. Raises MachineError."""
    group = ledger.group(f"g{number}")
    begun = ledger.group_runs(group).get(place)
    if begun is not None and (begun.outcome in RESUMABLE or begun.state != "ended"):
        return _told(place, resume(begun.id, ledger))
    member = group.plan["members"][place]
    stored, contender = group.plan["problems"][member["problem"]], group.plan["contenders"][member["contender"]]
    problem = loads(stored["text"], file=stored["file"], set=stored["set"], files=stored["files"], aim=_aim(stored))
    start = stored["starts"][member["start"]]
    if start is not None:
        flat = np.concatenate([np.ravel(np.array(start[block.name], dtype=float)) for block in problem.blocks])
        problem = begun_at(problem, flat)
    if contender.get("time"):
        problem = treated_as(problem, **contender["time"])
    settings = Settings.from_dict(
        {
            **group.plan["settings"],
            "method": contender["method"],
            "options": contender["options"],
            "seed": member["seed"],
        }
    )
    return _told(place, run(problem, settings, ledger=ledger, member=(number, place)))


def _told(place: int, result: RunResult) -> _Answer:
    """Return what is told of a member that has ended. Raises MachineError where the machine failed it."""
    if result.machine_trouble:
        raise MachineError(result.machine_trouble)
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
    scheme = str(options.pop("scheme", ""))
    steps = str(options.pop("steps")) if "steps" in options else None
    if name not in (AUTOMATIC, GLOBAL):
        options_from(method_named(name, also=(AUTOMATIC, GLOBAL)), options)
    told = f"--method {text}"
    return Contender(text, name, options, checked_scheme(scheme or None), checked_steps(told, steps))


def read_problems(files: Sequence[str | Path], **options: Any) -> list[Problem]:
    """Load several problem files, refusing one that is named twice. Raises RequestError and what `load` raises."""
    from ilvren.problem import load

    seen: set[str] = set()
    for file in files:
        if str(file) in seen:
            raise RequestError(f"{file} is named twice")
        seen.add(str(file))
    return [load(file, **options) for file in files]
