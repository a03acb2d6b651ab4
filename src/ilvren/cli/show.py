"""`ilvren show`: what is asked, and how things stand at the baseline or another design."""

from __future__ import annotations

import argparse
import math
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

    from ilvren.cli.tables import count, limits_text, margin_text, number, table, with_unit

    terminal.show(Text(problem.title or problem.source.file, style="bold"))
    if problem.about:
        terminal.show(problem.about)
    equalities = sum(row.is_equality for row in problem.rows)
    terminal.show(
        f"{count(len(problem.variables), 'variable')} ({len(problem.free)} free),"
        f" {count(len(problem.rows), 'constraint row')} ({equalities} with ==),"
        f" {count(len(problem.parameters), 'parameter')}, {count(len(problem.derived), 'derived value')}"
    )
    rows = []
    for variable, state in zip(problem.variables, standing.bounds, strict=True):
        notes = []
        if variable.kind == "spaced":
            notes.append(f"spaced by {number(variable.spacing)}")
        elif variable.catalogue is not None:
            notes.append(f"catalogue of {len(variable.catalogue)}")
        if variable.is_fixed:
            notes.append("fixed")
        elif state.violation > 0.0:
            notes.append("missed: its " + ("lower" if state.value < state.lower else "upper") + " bound")
        elif state.side:
            notes.append(f"at its {state.side} bound")
        if not variable.is_used:
            notes.append("nothing depends on it")
        rows.append(
            (
                variable.name,
                number(state.value, 8),
                variable.unit,
                "" if math.isinf(variable.lower) else number(variable.lower),
                "" if math.isinf(variable.upper) else number(variable.upper),
                ", ".join(notes),
                variable.about,
            )
        )
    which = "value" if standing.is_elsewhere else "start"
    terminal.show(table(("variable", f">{which}", "unit", ">lower", ">upper", "note", "about"), rows))
    if problem.parameters:
        parameters = [
            (p.name, number(p.value), p.unit, "set by --set" if p.is_overridden else "", p.about)
            for p in problem.parameters
        ]
        terminal.show(table(("parameter", ">value", "unit", "note", "about"), parameters))
    if problem.derived:
        derived = [
            (d.name, number(standing.values[d.name]), d.unit, " ".join(d.text.split()), d.about)
            for d in problem.derived
        ]
        terminal.show(table(("derived", ">value", "unit", "formula", "about"), derived))
    objective = problem.objective
    if objective is None:
        terminal.show("no objective: a run looks for any feasible design\n")
    else:
        word = "minimize" if objective.sign > 0 else "maximize"
        value = with_unit(standing.values[objective.name], objective.unit)
        terminal.show(
            Text.assemble(f"{word} {objective.name} = ", (value, "bold"), f"   {' '.join(objective.text.split())}\n")
        )
    if problem.rows:
        constraints = [
            (
                s.name,
                number(s.value),
                s.unit,
                limits_text(s.lower, s.upper),
                margin_text(s.margin, s.value),
                note,
                " ".join(row.text.split()),
            )
            for s, row, note in zip(standing.constraints, problem.rows, standing.notes, strict=True)
        ]
        terminal.show(table(("constraint", ">value", "unit", "limit", ">margin", "note", "formula"), constraints))
    for finding in standing.findings:
        terminal.show(f"- {finding}")
