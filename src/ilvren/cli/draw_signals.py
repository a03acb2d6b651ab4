"""`ilvren draw … --signals`: what changes over time, of designs as a run found them."""

from __future__ import annotations

import argparse
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ilvren.cli import status
from ilvren.cli.arguments import ledger_path, values_by_name
from ilvren.errors import RequestError, nearest

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.judge import Response
    from ilvren.ledger import Ledger, RunRecord

__all__ = ["COSTATE", "course_names", "draw_signals", "of_run"]

# Before the name of a state: what a unit more of it is worth.
COSTATE = "worth of "
# Designs on the way that a picture bears.
MOST_PAST = 40


def draw_signals(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Draw the signals of a file's baseline and of runs, with designs on the way. Raises RequestError."""
    from ilvren.cli.files import read_ledger
    from ilvren.draw import draw_responses
    from ilvren.judge import point_at, response_at, signal_names
    from ilvren.problem import load

    for flag, given in (("--of", arguments.of), ("--variables", arguments.variables), ("--against", arguments.against)):
        if given is not None:
            raise RequestError(f"{flag} does not go with --signals", advice="leave one of them out")
    if arguments.every is not None and arguments.every < 1:
        raise RequestError(f"--every must be at least 1, not {arguments.every}")
    is_file = arguments.file.endswith(".toml") or Path(arguments.file).exists()
    if arguments.every is not None and is_file and not arguments.run:
        raise RequestError("--every is for the designs of a run", advice="add --run RUN")
    found: list[Response] = []
    designs = list(arguments.run)
    if is_file:
        problem = load(arguments.file, set=values_by_name("--set", arguments.set))
        values = values_by_name("--at", arguments.at)
        names = [] if designs else signal_names(problem, arguments.signals)
        if values or not designs:
            found.append(response_at(problem, point_at(problem, values), "the design" if values else "the start"))
    else:
        designs.insert(0, arguments.file)
    if designs:
        with read_ledger(ledger_path(arguments.ledger)) as ledger:
            for word in designs:
                found += of_run(ledger, word, arguments.every)
        names = _names(found[-1], arguments.signals)
    past = [item for item in found if item.is_past]
    main = [item for item in found if not item.is_past]
    ordered = past + main
    title = found[-1].problem.title or found[-1].problem.source.file
    told = ", ".join(item.label for item in main)
    draw_responses(ordered, names, arguments.output, title=f"{title}: {', '.join(names)} of {told}")
    if arguments.json:
        document = [{"design": item.label, "past": item.is_past, **_signals(item, names)} for item in ordered]
        terminal.document({"kind": "signals", "of": names, "output": arguments.output, "designs": document})
    terminal.note(f"{arguments.output}: {', '.join(names)} of {told}" + (f", {len(past)} on the way" if past else ""))
    return status.HOLDS


def _names(response: Response, given: str | None) -> list[str]:
    """Return the names asked for; "worth of NAME" is what a unit more of a state is worth. Raises RequestError."""
    from ilvren.judge import signal_names

    if given is None:
        return signal_names(response.problem, None)
    words = [word.strip() for word in given.split(",") if word.strip()]
    costates = [word for word in words if word.startswith(COSTATE)]
    plain = [word for word in words if word not in costates]
    known = [name for name in response.signals if name.startswith(COSTATE)]
    for word in costates:
        if word not in known:
            close = nearest(word, known)
            advice = f'did you mean "{close}"?' if close else "costates are told of runs on a grid, and of their result"
            raise RequestError(f'--signals {given}: "{word}" is not known', advice=advice)
    found = signal_names(response.problem, ",".join(plain)) if plain else []
    order = {word: place for place, word in enumerate(words)}
    return sorted([*found, *costates], key=lambda name: order[name])


def course_names(response: Response) -> list[str]:
    """Return what a picture of a course on a grid shows: states, controls, and what states are worth."""
    axes = response.problem.template.built_axes
    states = [name for axis in axes for name in axis.state_names]
    controls = [name for axis in axes for name in axis.control_declarations]
    costates = [name for name in response.signals if name.startswith(COSTATE)]
    return list(dict.fromkeys([*states, *controls, *costates]))


def _signals(item: Response, names: list[str]) -> dict[str, object]:
    from ilvren.runs import plain_values

    return {
        "signals": {name: plain_values(item.signals[name]) for name in names if name in item.signals},
        "trouble": item.trouble or None,
    }


def of_run(ledger: Ledger, word: str, every: int | None) -> list[Response]:
    """Return a design on record, with those on the way to it."""
    import numpy as np

    from ilvren.judge import response_at
    from ilvren.runs import addressed, problem_of, problem_of_stage

    item = addressed(ledger, word)
    problem = problem_of(item.record)
    found = []
    of_stage = {0: problem}
    for name, number, point in _past(ledger, item.record, every):
        own = problem
        if len(point) != problem.size:  # on another grid
            stage = sum(begun.first_iteration <= number for begun in ledger.stages(item.record.number))
            if stage not in of_stage:
                of_stage[stage] = problem_of_stage(item.record, stage)
            own = of_stage[stage]
        if len(point) == own.size:
            found.append(response_at(own, point, name, is_past=True))
    found.append(_with_costates(response_at(problem, np.array(item.point), item.address), item.record, word))
    return found


def _with_costates(response: Response, record: RunRecord, word: str) -> Response:
    """Return a response with what its states are worth, as signals, where the run's own design is meant and has told
    that."""
    import numpy as np

    from ilvren.runs import split_address

    courses: Any = (record.result or {}).get("courses") if split_address(word)[1] is None else None
    if not courses:
        return response
    signals, times = dict(response.signals), dict(response.times)
    for course in courses:
        suffix = f"@{course['case']}" if course.get("case") else ""
        for name, values in course["costates"].items():
            own = f"{COSTATE}{name}{suffix if suffix and not name.endswith(suffix) else ''}"
            signals[own] = np.array(values, dtype=float)
            times[own] = np.array(course["times"], dtype=float)
    return replace(response, signals=signals, times=times)


def _past(ledger: Ledger, record: RunRecord, every: int | None) -> list[tuple[str, int, Any]]:
    """Return (name, iteration, design) of a run's start and of every Nth iteration of all its stages (of a population
    the best design then), the last one left out; of very many some."""
    import numpy as np

    if every is None:
        return []
    kept = [item for item in ledger.iterations(record.number, every_stage=True) if item.point][:-1]
    chosen = kept[::every]
    if len(chosen) > MOST_PAST:
        places = np.unique(np.round(np.linspace(0, len(chosen) - 1, MOST_PAST)).astype(int))
        chosen = [chosen[k] for k in places]
    return [
        (
            f"{record.id}, the start" if place == 0 else f"iteration {item.number}",
            item.number,
            np.frombuffer(item.point),
        )
        for place, item in enumerate(chosen)
    ]
