"""`ilvren run`: run a method on a problem."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ilvren.cli import status
from ilvren.cli.arguments import add_ledger, add_output_flags, add_problem, ledger_path, pairs, text_pairs
from ilvren.cli.terminal import Terminal

if TYPE_CHECKING:
    from ilvren.problem import Problem
    from ilvren.runs import RunResult, Settings

EXAMPLES = """examples:
  ilvren run rising-main.toml
  ilvren run rising-main.toml --method nelder-mead --set tariff=0.30 --start bore=0.15 --evaluations 500
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    add_problem(parser)
    parser.add_argument(
        "--method",
        metavar="NAME",
        help="the method (`ilvren methods` lists them); left out: the one that suits the problem",
    )
    parser.add_argument(
        "--option", metavar="NAME=VALUE", action="append", default=[], help="an option of the method (repeatable)"
    )
    parser.add_argument(
        "--start", metavar="NAME=VALUE", action="append", default=[], help="start a variable elsewhere (repeatable)"
    )
    parser.add_argument("--tolerance", type=float, metavar="SHARE", help="relative accuracy asked for (1e-6)")
    parser.add_argument(
        "--feasibility", type=float, metavar="SHARE", help="miss allowed, relative to a row's size (1e-6)"
    )
    parser.add_argument("--target", type=float, metavar="VALUE", help="stop when the objective reaches this value")
    add_limits(parser)
    parser.add_argument("--seed", type=int, default=0, metavar="N", help="seed of what is drawn at random (0)")
    parser.add_argument("--label", metavar="NAME", help="a name for the run, usable instead of its id")
    parser.add_argument(
        "--derivatives",
        metavar="SOURCE",
        default="automatic",
        help="automatic, or of models: supplied, complex-step, differences; of formulas: differences",
    )
    parser.add_argument("--no-scaling", action="store_true", help="give the method the numbers as written")
    add_full(parser)
    add_ledger(parser)
    add_output_flags(parser)


def add_full(parser: argparse.ArgumentParser) -> None:
    """Declare --full."""
    parser.add_argument("--full", action="store_true", help="all rows, also when there are very many")


def add_limits(parser: argparse.ArgumentParser) -> None:
    """Declare the limits of a run."""
    parser.add_argument("--evaluations", type=int, metavar="N", help="most distinct designs to evaluate (100000)")
    parser.add_argument("--iterations", type=int, metavar="N", help="most iterations (no limit)")
    parser.add_argument("--seconds", type=float, metavar="S", help="most seconds (no limit)")


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command."""
    from ilvren.methods.base import method_named
    from ilvren.problem import load
    from ilvren.runs import AUTOMATIC, Settings

    problem = load(arguments.file, set=pairs("--set", arguments.set), start=pairs("--start", arguments.start))
    if arguments.method is not None:
        method_named(arguments.method)
    given = {
        name: getattr(arguments, name)
        for name in ("tolerance", "feasibility", "target", "evaluations", "iterations", "seconds")
        if getattr(arguments, name) is not None
    }
    settings = Settings(
        method=arguments.method or AUTOMATIC,
        options=text_pairs("--option", arguments.option),
        seed=arguments.seed,
        scaling=not arguments.no_scaling,
        derivatives=arguments.derivatives,
        label=arguments.label,
        **given,
    )
    return run_and_show(problem, settings, arguments.ledger, terminal, as_json=arguments.json, full=arguments.full)


def run_and_show(
    problem: Problem, settings: Settings, ledger: str | None, terminal: Terminal, *, as_json: bool, full: bool
) -> int:
    """Run with progress, print the result and return the exit status."""
    from ilvren.cli.progress import Progress
    from ilvren.ledger import Ledger
    from ilvren.runs import run

    unit = problem.objective.unit if problem.objective else ""
    progress = Progress(terminal, unit=unit)
    if problem.seeks_feasible:
        what = "no objective" if problem.objective is None else "a constant objective"
        terminal.note(f"{what}: this run looks for any feasible design")
    with Ledger(ledger_path(ledger)) as opened:
        for note in opened.notes:
            terminal.note(note)
        try:
            result = run(problem, settings, ledger=opened, listener=progress)
        finally:
            progress.close()
    for runner in problem.runners:
        for note in runner.notes:
            terminal.note(note)
    return finish(result, terminal, ledger=ledger, as_json=as_json, full=full)


def finish(result: RunResult, terminal: Terminal, *, ledger: str | None, as_json: bool, full: bool) -> int:
    """Print a result and return the exit status."""
    if as_json:
        terminal.document(result.to_dict(full=full))
    else:
        from ilvren.cli.outcome import show_result

        show_result(result, terminal, ledger=ledger, full=full)
    if result.machine_trouble:
        terminal.complain(f"ilvren: {result.machine_trouble}; the run is recorded up to here at the latest")
        return status.MACHINE_FAILED
    if result.outcome == "interrupted":
        return status.INTERRUPTED
    return status.HOLDS if result.holds else status.DOES_NOT_HOLD
