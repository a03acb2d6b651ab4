"""`ilvren draw`: the objective over one or two variables, with limits, starts and paths."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ilvren.cli import status
from ilvren.cli.arguments import add_ledger, add_output_flags, add_problem, ledger_path, pairs
from ilvren.cli.terminal import Terminal

if TYPE_CHECKING:
    from ilvren.problem import Problem

EXAMPLES = """examples:
  ilvren draw rising-main.toml --variables bore,wall --output contours.png
  ilvren draw rising-main.toml --variables bore,wall --run r1 r2 --output paths.png
  ilvren draw rising-main.toml --variables bore --at wall=8 --output curve.svg
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    add_problem(parser)
    parser.add_argument(
        "--variables",
        metavar="NAME[,NAME]",
        help="one variable for a curve, two for contours (the first two free ones)",
    )
    parser.add_argument(
        "--at",
        metavar="NAME=VALUE",
        action="append",
        default=[],
        help="where the other variables are held (the run's design, else the start; repeatable)",
    )
    parser.add_argument(
        "--run", metavar="RUN", nargs="+", action="extend", default=[], help="draw the paths of these runs"
    )
    parser.add_argument("--output", metavar="FILE", required=True, help="the figure to write: .png or .svg")
    add_ledger(parser)
    add_output_flags(parser, json=False)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command."""
    from ilvren.cli.files import check_suffix, read_ledger
    from ilvren.errors import RequestError
    from ilvren.judge.comparison import tracks_of
    from ilvren.judge.standing import point_at
    from ilvren.problem import load

    check_suffix(arguments.output, (".png", ".svg"))
    problem = load(arguments.file, set=pairs("--set", arguments.set))
    names = _names(problem, arguments.variables)
    tracks = []
    if arguments.run:
        with read_ledger(ledger_path(arguments.ledger)) as ledger:
            tracks = tracks_of(arguments.run, ledger)
    own = [variable.name for variable in problem.variables]
    for track in tracks:
        if [variable.name for variable in track.problem.variables] != own:
            raise RequestError(
                f"{track.id} has other variables than {arguments.file}", advice="draw it with its own file"
            )
        if track.problem.source.text != problem.source.text:
            terminal.note(f"note: {arguments.file} is not what {track.id} ran; what is drawn is the file's")
        elif dict(track.problem.overrides) != dict(problem.overrides):
            terminal.note(f"note: {track.id} ran with other parameters (--set); what is drawn has this command's")
    import numpy as np

    point = np.array(point_at(problem, pairs("--at", arguments.at)))
    if tracks and tracks[0].point is not None:
        point = np.array(
            [tracks[0].point[i] if own[i] not in pairs("--at", arguments.at) else point[i] for i in range(len(own))]
        )
    from ilvren.draw.landscape import draw_contours, draw_curve

    if len(names) == 1:
        draw_curve(problem, names[0], point, tracks, arguments.output)
    else:
        draw_contours(problem, (names[0], names[1]), point, tracks, arguments.output)
    what = f"over {' and '.join(names)}"
    terminal.note(f"{arguments.output}: {'curve' if len(names) == 1 else 'contours'} {what}")
    return status.HOLDS


def _names(problem: Problem, given: str | None) -> list[str]:
    from ilvren.errors import RequestError, nearest

    known = [variable.name for variable in problem.variables]
    if given is None:
        return [known[i] for i in problem.free][:2] or known[:2]
    names = [name.strip() for name in given.split(",")]
    for name in names:
        if name not in known:
            close = nearest(name, known)
            advice = f'did you mean "{close}"?' if close else "its variables: " + ", ".join(known[:12])
            raise RequestError(f'--variables {given}: the file has no variable "{name}"', advice=advice)
    if len(names) not in (1, 2) or len(set(names)) != len(names):
        raise RequestError(f"--variables {given}: one variable gives a curve, two different ones contours")
    return names
