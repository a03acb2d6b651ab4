"""`ilvren draw`: curves, contours, surfaces and slices of objective, derived values and constraints."""

from __future__ import annotations

import argparse
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ilvren.cli import status
from ilvren.cli.arguments import add_aim, add_ledger, add_output_flags, aim_of, ledger_path, values_by_name

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.draw import Extreme
    from ilvren.judge import Track
    from ilvren.problem import Problem

EXAMPLES = """examples:
  ilvren draw rising-main.toml --variables bore,wall --run r1 r2 --output paths.png
  ilvren draw hum.toml --variables speed --tangent --at speed=20 --output curve.svg
  ilvren draw rising-main.toml --of surge_cap --slices --output slices.png
  ilvren draw rising-main.toml --generations --run last --output generations.png
  ilvren draw r3 --of depth --against place --output profile.png
  ilvren draw level-loop.toml --signals level --run r3 --every 5 --output answers.png
  ilvren draw last --fit --output fit.png
"""
# More extremes than this are not listed.
# For what the grid alone shows, a design taking long.
NOT_FOLLOWED = "as the grid shows it: nothing finer was looked at"
MOST_LISTED = 20


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument("file", metavar="FILE|DESIGN", help="the problem file, or a design on record: r7, r7:12, last")
    parser.add_argument(
        "--set", metavar="NAME=VALUE", action="append", default=[], help="replace a parameter's value (repeatable)"
    )
    add_aim(parser)
    parser.add_argument(
        "--variables",
        metavar="NAME[,NAME]",
        help="one variable for a curve, two for contours or a surface, any for slices (the first free ones)",
    )
    parser.add_argument(
        "--of",
        metavar="NAME",
        help="the derived value or constraint to draw, or an element such as drop[3] (the objective); of a design on"
        " record a vector, with its limits",
    )
    parser.add_argument("--against", metavar="NAME", help="draw the vector of a design against this one (its index)")
    parser.add_argument(
        "--every",
        type=int,
        metavar="N",
        help="with a vector or signals of a run: also its start and every Nth iteration",
    )
    parser.add_argument(
        "--at",
        metavar="NAME=VALUE",
        action="append",
        default=[],
        help="where the other variables are held (the run's design, else the start; repeatable)",
    )
    parser.add_argument(
        "--signals",
        metavar="NAME[,NAME]",
        help="what changes over time, of the designs of --run; with --every N also of those on the way to them",
    )
    parser.add_argument(
        "--fit", action="store_true", help="of a design on record: readings, model, band, and what is left over"
    )
    parser.add_argument(
        "--on", metavar="APPROXIMATION", help="draw what an approximation says (a1), with the band of its intervals"
    )
    parser.add_argument("--tangent", action="store_true", help="on a curve: the tangent at the point")
    parser.add_argument("--surface", action="store_true", help="over two variables: a surface instead of contours")
    parser.add_argument("--slices", action="store_true", help="each variable alone through the point, small multiples")
    parser.add_argument(
        "--run", metavar="RUN", nargs="+", action="extend", default=[], help="draw the paths of these runs"
    )
    parser.add_argument(
        "--generations", action="store_true", help="the populations of the run: how they improved, narrowed and moved"
    )
    parser.add_argument("--output", metavar="FILE", required=True, help="the figure to write: .png or .svg")
    add_ledger(parser)
    add_output_flags(parser)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command and return its exit status. Raises InputError for what a user can mend."""
    import numpy as np

    from ilvren.cli.files import check_suffix
    from ilvren.draw import subject_of
    from ilvren.errors import RequestError
    from ilvren.evaluate import Gate
    from ilvren.judge import point_at
    from ilvren.problem import load

    check_suffix(arguments.output, (".png", ".svg"))
    _refuse_two(arguments)
    if arguments.signals is not None:
        from ilvren.cli.draw_signals import draw_signals

        return draw_signals(arguments, terminal)
    if arguments.fit:
        from ilvren.cli.draw_fit import draw_fit_of

        return draw_fit_of(arguments, terminal)
    if not arguments.file.endswith(".toml") and not Path(arguments.file).exists():
        from ilvren.cli.draw_record import draw_record

        return draw_record(arguments, terminal)
    for flag, given in (("--against", arguments.against), ("--every", arguments.every)):
        if given is not None:
            raise RequestError(
                f"{flag} is for a design on record: ilvren draw r7 --of NAME --against NAME", advice="leave it out"
            )
    problem = load(arguments.file, set=values_by_name("--set", arguments.set), aim=aim_of(arguments)).one_objective()
    if arguments.on:
        from ilvren.cli.files import read_ledger, recorded_ledger
        from ilvren.problem import on_document

        with read_ledger(recorded_ledger(ledger_path(arguments.ledger))) as ledger:
            problem = on_document(problem, ledger.approximation(arguments.on).document)
    if arguments.generations:
        return _draw_generations(arguments, terminal)
    names = _names(problem, arguments)
    subject = replace(subject_of(problem, Gate(problem), arguments.of), told=terminal.note)
    tracks = _tracks(problem, arguments, terminal)
    at = values_by_name("--at", arguments.at)
    point = np.array(point_at(problem, at))
    if tracks and tracks[0].point is not None:
        given = point_at(problem, at) if at else problem.start
        moved = np.array([a != b for a, b in zip(given, problem.start, strict=True)])
        point = np.where(moved, point, np.array(tracks[0].point))
    found: Mapping[str, Sequence[Extreme]]
    if arguments.slices:
        from ilvren.draw import draw_slices

        what, found = "slices", draw_slices(subject, names, point, arguments.output)
    elif len(names) == 1:
        from ilvren.draw import draw_curve

        curve = draw_curve(subject, names[0], point, tracks, arguments.output, tangent=arguments.tangent)
        what, found = "curve", {names[0]: curve}
    elif arguments.surface:
        from ilvren.draw import draw_surface

        both = (names[0], names[1])
        what, found = "surface", {",".join(names): draw_surface(subject, both, point, tracks, arguments.output)}
    else:
        from ilvren.draw import draw_contours

        both = (names[0], names[1])
        what, found = "contours", {",".join(names): draw_contours(subject, both, point, tracks, arguments.output)}
    if arguments.json:
        terminal.document(_document(subject.name, what, arguments.output, found))
    else:
        _list_extremes(subject.name, found, terminal)
    terminal.note(f"{arguments.output}: {what} of {subject.name} over {', '.join(names)}")
    return status.HOLDS


def _draw_generations(arguments: argparse.Namespace, terminal: Terminal) -> int:
    from ilvren.cli.files import read_ledger
    from ilvren.draw import draw_generations
    from ilvren.errors import RequestError
    from ilvren.judge import generations_of

    if len(arguments.run) != 1:
        raise RequestError("--generations needs --run with one run", advice="--run last draws the latest")
    with read_ledger(ledger_path(arguments.ledger)) as ledger:
        found = generations_of(ledger, ledger.run(arguments.run[0]))
    draw_generations(found, arguments.output)
    worth = found.worth_of_first()
    if arguments.json:
        terminal.document(
            {
                "kind": "generations",
                "run": found.run,
                "output": arguments.output,
                "generations": len(found.items),
                **worth,
            }
        )
    terminal.note(f"{arguments.output}: {len(found.items)} generations of {found.method}, {found.run}")
    return status.HOLDS


def _document(subject: str, what: str, output: str, found: Mapping[str, Sequence[Extreme]]) -> dict[str, object]:
    extremes = [
        {
            "kind": item.kind,
            "at": dict(zip(names.split(","), item.where, strict=True)),
            "value": item.value,
            "feasible": item.is_feasible,
            "followed": item.is_followed,
        }
        for names, items in found.items()
        for item in items
    ]
    return {"of": subject, "kind": what, "output": output, "extremes": extremes}


def _list_extremes(subject: str, found: Mapping[str, Sequence[Extreme]], terminal: Terminal) -> None:
    """List the local extremes of the grid, as starts to paste."""
    from ilvren.cli.tables.table import number, table

    rows = []
    total = 0
    for names, items in found.items():
        total += len(items)
        for item in items:
            start = " ".join(
                f"--start {name}={number(value, 7)}" for name, value in zip(names.split(","), item.where, strict=True)
            )
            word = "lowest around" if item.kind == "low" else "highest around"
            notes = [
                *([] if item.is_feasible else ["a limit is missed"]),
                *([] if item.is_followed else [NOT_FOLLOWED]),
            ]
            rows.append((word, number(item.value), start, "; ".join(notes)))
    if not rows:
        terminal.show("no local extreme inside the grid")
        return
    terminal.show(table(("seen on the grid", f">{subject}", "as a start", "note"), rows[:MOST_LISTED]))
    if total > MOST_LISTED:
        terminal.show(f"and {total - MOST_LISTED} more; --json lists all")


def _tracks(problem: Problem, arguments: argparse.Namespace, terminal: Terminal) -> list[Track]:
    from ilvren.cli.files import read_ledger
    from ilvren.errors import RequestError
    from ilvren.judge import tracks_of

    if not arguments.run:
        return []
    with read_ledger(ledger_path(arguments.ledger)) as ledger:
        tracks = tracks_of(arguments.run, ledger)
    own = [(block.name, block.shape) for block in problem.blocks]
    for track in tracks:
        if [(block.name, block.shape) for block in track.problem.blocks] != own:
            raise RequestError(
                f"{track.id} has other variables than {arguments.file}", advice="draw it with its own file"
            )
        if track.problem.source.text != problem.source.text:
            terminal.note(f"note: {arguments.file} is not what {track.id} ran; what is drawn is the file's")
        elif dict(track.problem.overrides) != dict(problem.overrides):
            terminal.note(f"note: {track.id} ran with other parameters (--set); what is drawn has this command's")
    return tracks


def _refuse_two(arguments: argparse.Namespace) -> None:
    """Raise RequestError where flags ask for more than one figure."""
    from ilvren.errors import RequestError

    kinds = ("signals", "fit", "generations", "slices", "surface", "tangent")
    asked = [f"--{name}" for name in kinds if getattr(arguments, name) not in (None, False)]
    if len(asked) > 1:
        raise RequestError(f"{' and '.join(asked)} are figures of their own", advice="draw one at a time")


def _names(problem: Problem, arguments: argparse.Namespace) -> list[str]:
    """Return the names of the variables to draw over: scalars, or elements of vectors."""
    from ilvren.errors import RequestError, nearest

    given = arguments.variables
    variables = problem.variables
    if given is None:
        free = [variables[i].name for i in problem.free] or [variable.name for variable in variables]
        return free[: _most_slices() if arguments.slices else 2]
    names = _split(given)
    known = {variable.name for variable in variables}
    for name in names:
        if name not in known:
            close = nearest(name, known)
            advice = f'did you mean "{close}"?' if close else "its variables: " + ", ".join(sorted(known)[:12])
            raise RequestError(f'--variables {given}: the file has no variable "{name}"', advice=advice)
    if len(set(names)) != len(names):
        raise RequestError(f"--variables {given}: one variable is given twice")
    if arguments.slices and len(names) > _most_slices():
        raise RequestError(f"--variables: {len(names)} slices make no picture; {_most_slices()} are the most")
    if not arguments.slices and len(names) not in (1, 2):
        raise RequestError(f"--variables {given}: one variable gives a curve, two contours; --slices takes more")
    return names


def _most_slices() -> int:
    from ilvren.draw import MOST_SLICES

    return MOST_SLICES


def _split(text: str) -> list[str]:
    """Split at commas outside brackets: "grid[1,2],bore" names two."""
    import re

    parts: list[Any] = re.findall(r"(?:[^,\[]|\[[^\]]*\])+", text)
    return [part.replace(" ", "") for part in parts]
