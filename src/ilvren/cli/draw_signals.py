"""`ilvren draw … --signals`: what changes over time, of designs as a run found them."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ilvren.cli import status
from ilvren.cli.arguments import ledger_path, pairs
from ilvren.cli.terminal import Terminal

if TYPE_CHECKING:
    from ilvren.judge.responses import Response
    from ilvren.ledger import Ledger, RunRecord

__all__ = ["draw_signals"]

# Designs on the way that a picture bears.
MOST_PAST = 40


def draw_signals(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Draw the signals of a file's baseline and of runs, with designs on the way."""
    from ilvren.cli.files import read_ledger
    from ilvren.draw.responses import draw_responses
    from ilvren.errors import RequestError
    from ilvren.judge.responses import response_at, signal_names
    from ilvren.judge.standing import point_at
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
        problem = load(arguments.file, set=pairs("--set", arguments.set))
        values = pairs("--at", arguments.at)
        names = signal_names(problem, arguments.signals)
        if values or not designs:
            found.append(response_at(problem, point_at(problem, values), "the design" if values else "the start"))
    else:
        designs.insert(0, arguments.file)
    if designs:
        with read_ledger(ledger_path(arguments.ledger)) as ledger:
            for word in designs:
                found += _of_run(ledger, word, arguments.every)
        names = signal_names(found[-1].problem, arguments.signals)
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


def _signals(item: Response, names: list[str]) -> dict[str, object]:
    from ilvren.runs.limits import plain_values

    return {"signals": {name: plain_values(item.signals[name]) for name in names}, "trouble": item.trouble or None}


def _of_run(ledger: Ledger, word: str, every: int | None) -> list[Response]:
    """Return a design on record, with those on the way to it."""
    import numpy as np

    from ilvren.judge.responses import response_at
    from ilvren.runs.addresses import addressed
    from ilvren.runs.stored import problem_of

    item = addressed(ledger, word)
    problem = problem_of(item.record)
    found = []
    for name, point in _past(ledger, item.record, every):
        if len(point) != problem.size:  # of a stage on another grid
            continue
        found.append(response_at(problem, point, name, is_past=True))
    found.append(response_at(problem, np.array(item.point), item.address))
    return found


def _past(ledger: Ledger, record: RunRecord, every: int | None) -> list[tuple[str, Any]]:
    """Return (name, design) of a run's start and of every Nth iteration of all its stages (of a population its best
    design then), the last one left out; of very many some."""
    import numpy as np

    if every is None:
        return []
    kept = [item for item in ledger.iterations(record.number, every_stage=True) if item.point][:-1]
    chosen = kept[::every]
    if len(chosen) > MOST_PAST:
        places = np.unique(np.round(np.linspace(0, len(chosen) - 1, MOST_PAST)).astype(int))
        chosen = [chosen[k] for k in places]
    return [
        (f"{record.id}, the start" if place == 0 else f"iteration {item.number}", np.frombuffer(item.point))
        for place, item in enumerate(chosen)
    ]
