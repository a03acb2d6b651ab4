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
  ilvren show trench.toml --set stations=200 --output pattern.png
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    add_problem(parser)
    parser.add_argument(
        "--at", metavar="NAME=VALUE", action="append", default=[], help="show another design (repeatable)"
    )
    parser.add_argument(
        "--output", metavar="FILE", help="write a figure of the patterns of Jacobian and Hessian: .png or .svg"
    )
    add_output_flags(parser)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command."""
    from ilvren.cli.files import check_suffix
    from ilvren.judge.standing import standing_at
    from ilvren.problem import load

    problem = load(arguments.file, set=pairs("--set", arguments.set))
    if arguments.output:
        check_suffix(arguments.output, (".png", ".svg"))
    wants_pattern = bool(arguments.output or arguments.json or problem.graph.has_arrays)
    standing = standing_at(problem, pairs("--at", arguments.at), with_pattern=wants_pattern)
    if arguments.json:
        terminal.document(standing.to_dict())
    else:
        _show(problem, standing, terminal)
    if arguments.output:
        from ilvren.draw.pattern import draw_pattern

        assert standing.pattern is not None
        draw_pattern(problem, standing.pattern, arguments.output)
        terminal.note(f"{arguments.output}: the patterns of Jacobian and Hessian")
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
    if problem.sources:
        terminal.show(tables.models_table(standing))
    terminal.show(tables.objective_line(standing), "")
    if problem.row_blocks:
        terminal.show(tables.constraints_table(standing))
    if standing.pattern is not None:
        terminal.show(*tables.pattern_lines(standing.pattern))
    for finding in standing.findings:
        terminal.show(f"- {finding}")
