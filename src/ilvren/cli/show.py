"""`ilvren show`: what is asked, and how things stand at the baseline or another design."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ilvren.cli import status
from ilvren.cli.arguments import add_output_flags, add_problem, pairs
from ilvren.cli.terminal import Terminal

if TYPE_CHECKING:
    from ilvren.judge import Standing
    from ilvren.problem import Problem

EXAMPLES = """examples:
  ilvren show rising-main.toml
  ilvren show rising-main.toml --at bore=0.18 --at wall=6 --set tariff=0.30
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    add_problem(parser)
    parser.add_argument(
        "--at", metavar="NAME=VALUE", action="append", default=[], help="show another design (repeatable)"
    )
    add_output_flags(parser)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command."""
    from ilvren.judge.standing import standing_at
    from ilvren.problem import load

    problem = load(arguments.file, set=pairs("--set", arguments.set))
    standing = standing_at(problem, pairs("--at", arguments.at))
    if arguments.json:
        terminal.document(standing.to_dict())
    else:
        _show(problem, standing, terminal)
    return status.HOLDS


def _show(problem: Problem, standing: Standing, terminal: Terminal) -> None:
    from rich.text import Text

    from ilvren.cli import standing_tables as tables

    terminal.show(Text(problem.title or problem.source.file, style="bold"))
    if problem.about:
        terminal.show(problem.about)
    terminal.show(tables.sizes_line(problem), tables.variables_table(standing))
    if problem.parameters:
        terminal.show(tables.parameters_table(problem))
    if problem.derived:
        terminal.show(tables.derived_table(standing))
    terminal.show(tables.objective_line(standing), "")
    if problem.rows:
        terminal.show(tables.constraints_table(standing))
    for finding in standing.findings:
        terminal.show(f"- {finding}")
