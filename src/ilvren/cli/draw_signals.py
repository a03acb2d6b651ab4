"""`ilvren draw … --signals`: what changes over time, of designs as a run found them."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from ilvren.cli import status
from ilvren.cli.arguments import ledger_path, values_by_name
from ilvren.errors import RequestError, nearest

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.judge import Response

__all__ = ["draw_signals"]


def draw_signals(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Draw the signals of a file's baseline and of runs, with designs on the way. Raises RequestError."""
    from ilvren.cli.files import read_ledger
    from ilvren.draw import draw_responses
    from ilvren.judge import point_at, recorded_responses, response_at, signal_names
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
                found += recorded_responses(ledger, word, arguments.every)
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
    from ilvren.judge import COSTATE, signal_names

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


def _signals(item: Response, names: list[str]) -> dict[str, object]:
    from ilvren.runs import plain_values

    return {
        "signals": {name: plain_values(item.signals[name]) for name in names if name in item.signals},
        "trouble": item.trouble or None,
    }
