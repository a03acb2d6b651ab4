"""`ilvren contest`: several methods, starts and seeds side by side."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ilvren.cli.arguments import add_aim, add_ledger, add_output_flags, aim_of, ledger_path, values_by_name
from ilvren.cli.run import add_limits

if TYPE_CHECKING:
    from collections.abc import Callable

    from ilvren.cli.terminal import Terminal
    from ilvren.runs import Finished

EXAMPLES = """examples:
  ilvren contest rising-main.toml --method sqp --method interior-point --method nelder-mead --random-starts 10
  ilvren contest hum.toml --method multistart --method cma-es:population=12 --repeats 10 --evaluations 4000
  ilvren contest rising-main.toml valley.toml --method sqp --method bfgs --random-starts 5 --output profiles.png
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument("files", metavar="FILE", nargs="+", help="problem files")
    parser.add_argument(
        "--set", metavar="NAME=VALUE", action="append", default=[], help="replace a parameter's value in every file"
    )
    add_aim(parser)
    parser.add_argument(
        "--method",
        metavar="NAME[:OPTION=VALUE,…]",
        action="append",
        default=[],
        help="a method, with its options behind a colon (repeatable); also `automatic` and `global`; over"
        " time also scheme=NAME (or simulation) and steps=N",
    )
    parser.add_argument(
        "--random-starts", type=int, default=0, metavar="N", help="N random starts, the same for all (the file's start)"
    )
    parser.add_argument(
        "--repeats", type=int, default=1, metavar="N", help="N seeds for methods that draw at random (1)"
    )
    parser.add_argument("--tolerance", type=float, metavar="SHARE", help="relative accuracy asked for (1e-6)")
    parser.add_argument("--feasibility", type=float, metavar="SHARE", help="miss allowed (1e-6)")
    parser.add_argument(
        "--points", type=int, metavar="N", help="of several objectives: designs of each front (60; three and more: 150)"
    )
    add_limits(parser)
    parser.add_argument("--seed", type=int, default=0, metavar="N", help="seed of the starts, and the first seed (0)")
    parser.add_argument("--derivatives", metavar="SOURCE", default="automatic", help="where derivatives come from")
    parser.add_argument("--label", metavar="NAME", help="a name for the group, usable instead of its id")
    add_summary_flags(parser)
    add_ledger(parser)
    add_output_flags(parser)


def add_summary_flags(parser: argparse.ArgumentParser) -> None:
    """Declare what a summary of runs is asked."""
    parser.add_argument(
        "--reference",
        metavar="NAME=VALUE",
        help="the best objective known, instead of the best found; of several objectives the reference point, all"
        " of them, with commas between",
    )
    parser.add_argument(
        "--gradient-worth", type=float, metavar="N", help="how many evaluations a gradient counts for (3)"
    )
    parser.add_argument(
        "--solved-within", type=float, metavar="SHARE", help="solved means this close to the best known (1e-4)"
    )
    parser.add_argument(
        "--along", metavar="WHAT", default="evaluations", help="count evaluations, iterations or seconds (evaluations)"
    )
    parser.add_argument("--output", metavar="FILE", help="write a figure: .png or .svg")
    parser.add_argument(
        "--figure",
        metavar="KIND",
        help="histories, profiles, paths, designs, basins or predictions (profiles of several problems, else"
        " histories); of several objectives fronts or attainment",
    )


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command and return its exit status. Raises InputError for what a user can mend."""
    from ilvren.cli.tables.contest import check_figure, reference_of, summarize
    from ilvren.errors import RequestError
    from ilvren.ledger import Ledger
    from ilvren.runs import Settings, contender_of, hold_contest, plan_contest, read_problems

    check_figure(arguments)
    given = {
        name: getattr(arguments, name)
        for name in ("tolerance", "feasibility", "evaluations", "iterations", "seconds", "patience")
        if getattr(arguments, name) is not None
    }
    if len(arguments.method) < 1:
        raise RequestError("name the contenders", advice="for example --method sqp --method nelder-mead")
    if len(set(arguments.method)) < len(arguments.method):
        raise RequestError("--method: one contender is named twice")
    settings = Settings(
        method="automatic",
        seed=arguments.seed,
        derivatives=arguments.derivatives,
        label=arguments.label,
        points=arguments.points,
        **given,
    )
    contenders = [contender_of(text) for text in arguments.method]
    problems = read_problems(arguments.files, set=values_by_name("--set", arguments.set), aim=aim_of(arguments))
    if arguments.reference and len(problems) > 1:
        raise RequestError("--reference is for one problem, and these are several")
    if len(problems[0].objectives) < 2:
        reference_of(arguments, problems[0])
    plan = plan_contest(
        problems, contenders, settings, random_starts=arguments.random_starts, repeats=arguments.repeats
    )
    workers = worker_number(arguments.workers)
    path = ledger_path(arguments.ledger)
    with Ledger(path) as ledger:
        group = ledger.begin_group(plan, label=arguments.label)
        terminal.note(
            f"{group.id}: {len(plan['members'])} runs of {len(contenders)} methods; Ctrl-C keeps what has ended"
        )
        done = hold_contest(ledger, group, workers=workers, finished=told(terminal))
        terminal.progress("")
        if not done:
            terminal.note(f"interrupted; `ilvren resume {group.id}` goes on")
    return summarize([group.id], arguments, terminal, interrupted=not done)


def worker_number(text: str | None) -> int | None:
    """Return the number of processes asked for. Raises RequestError."""
    if text is None:
        return None
    from ilvren.evaluate import worker_count

    return worker_count(text)


def told(terminal: Terminal) -> Callable[[Finished], None]:
    """Return what tells of every run that has ended."""

    def tell(one: Finished) -> None:
        line = f"{one.done} of {one.total}  {one.run} {one.outcome}"
        if terminal.is_live:
            terminal.progress(line)
        elif one.done == one.total or one.done % max(1, one.total // 10) == 0:
            terminal.note(line)

    return tell


__all__ = ["EXAMPLES", "add_arguments", "add_summary_flags", "execute", "told", "worker_number"]
