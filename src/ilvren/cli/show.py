"""`ilvren show`: what is asked, and how things stand at the baseline or another design."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ilvren.cli import status
from ilvren.cli.arguments import add_ledger, add_output_flags, ledger_path, values_by_name

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.judge import DesignReport
    from ilvren.ledger import RunRecord
    from ilvren.problem import Problem

EXAMPLES = """examples:
  ilvren show rising-main.toml
  ilvren show rising-main.toml --at bore=0.18 --at wall=6 --set tariff=0.30
  ilvren show trench.toml --set stations=200 --output pattern.png
  ilvren show r2:7
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument("file", metavar="FILE|DESIGN", help="the problem file, or a design on record: r7, r7:12, last")
    parser.add_argument(
        "--set", metavar="NAME=VALUE", action="append", default=[], help="replace a parameter's value (repeatable)"
    )
    parser.add_argument(
        "--at",
        metavar="NAME=VALUE|DESIGN",
        action="append",
        default=[],
        help="show another design: values (repeatable), or one on record such as r7:12",
    )
    parser.add_argument(
        "--output", metavar="FILE", help="write a figure of the patterns of Jacobian and Hessian: .png or .svg"
    )
    parser.add_argument(
        "--ends",
        action="store_true",
        help="of several objectives: the pay-off table, the best of each alone with what the others are there",
    )
    add_ledger(parser)
    add_output_flags(parser)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command and return its exit status. Raises InputError for what a user can mend."""
    from ilvren.cli.files import check_suffix
    from ilvren.judge import design_report_at

    if arguments.output:
        check_suffix(arguments.output, (".png", ".svg"))
    problem, at, place = _subject(arguments, terminal)
    wants_pattern = bool(arguments.output or arguments.json or problem.graph.has_arrays)
    report = design_report_at(problem, at, with_pattern=wants_pattern)
    several = _several(problem, report, arguments, terminal)
    if arguments.json:
        scatter = _scattered(report) if problem.template.declarations.scatter else []
        told = {name: {"law": law, "value": v, "deviation": d, "unit": unit} for name, law, v, d, unit in scatter}
        more = {**({"design": place} if place else {}), **({"scatter": told} if told else {})}
        terminal.document({**report.to_dict(), **more, **several})
    else:
        _show(problem, report, terminal, place)
        _show_several(problem, several, terminal)
    if arguments.output:
        from ilvren.draw import draw_pattern

        assert report.pattern is not None
        draw_pattern(problem, report.pattern, arguments.output)
        terminal.note(f"{arguments.output}: the patterns of Jacobian and Hessian")
    return status.HOLDS


def _several(
    problem: Problem, report: DesignReport, arguments: argparse.Namespace, terminal: Terminal
) -> dict[str, Any]:
    """Return what there is to say of several objectives: `conflicts`, and with --ends the `ends`."""
    from ilvren.errors import RequestError

    if len(problem.objectives) < 2:
        if arguments.ends:
            raise RequestError("--ends tells what several objectives cost each other, and this problem has not several")
        return {}
    from ilvren.judge.fronts import conflicts_of, payoff_table
    from ilvren.problem import constant_objectives

    found: dict[str, Any] = {
        "conflicts": [item.to_dict() for item in conflicts_of(problem, report.bounds.value)],
        "constant_objectives": [item.name for item in constant_objectives(problem)],
    }
    if arguments.ends:
        try:
            rows = payoff_table(problem, told=terminal.progress)
        finally:
            terminal.progress("")
        found["ends"] = {row.objective: row.to_dict() for row in rows}
    return found


def _show_several(problem: Problem, several: dict[str, Any], terminal: Terminal) -> None:
    from ilvren.cli.tables.table import number, table
    from ilvren.judge.fronts import Conflict

    if not several:
        return
    for item in several["conflicts"]:
        first, second = item["objectives"]
        angle, share = (float("nan") if item[key] is None else float(item[key]) for key in ("angle", "share"))
        terminal.show(f"- {Conflict(first, second, angle, share, item['designs']).sentence}")
    for name in several["constant_objectives"]:
        terminal.show(f"- {name} is the same at all designs here: it is no part of the trade-off")
    if "ends" not in several:
        return
    units = {item.name: item.unit for item in problem.objectives}
    names = list(several["ends"])
    rows = [
        (
            f"best {name}",
            *(number(end["objectives"].get(other)) for other in names),
            end["outcome"],
        )
        for name, end in several["ends"].items()
    ]
    heads = [f">{name} [{units[name]}]" if units[name] else f">{name}" for name in names]
    terminal.show(table(("pay-off", *heads, "outcome"), rows))


def _subject(arguments: argparse.Namespace, terminal: Terminal) -> tuple[Problem, dict[str, Any], str]:
    """Return the problem, where it is to be shown, and the address of the design where it is one on record."""
    from ilvren.cli.files import note_changed_file, note_changed_models, read_ledger
    from ilvren.errors import RequestError
    from ilvren.problem import load, unfronted
    from ilvren.runs import addressed, design_document, problem_of

    designs = [word for word in arguments.at if "=" not in word]
    values = values_by_name("--at", [word for word in arguments.at if "=" in word])
    is_file = arguments.file.endswith(".toml") or Path(arguments.file).exists()
    if len(designs) > 1:
        raise RequestError("--at: one design on record is enough", advice="single values may follow: --at NAME=VALUE")
    if is_file and not designs:
        return load(arguments.file, set=values_by_name("--set", arguments.set)), values, ""
    if not is_file and (designs or arguments.set):
        raise RequestError(
            f'"{arguments.file}" is a design on record: it has its own parameters and values',
            advice="name the problem file first, and the design with --at",
        )
    path = ledger_path(arguments.ledger)
    if not is_file and not Path(path).exists():
        load(arguments.file)  # nothing is on record: what was meant is a file, and it is missing
    with read_ledger(path) as ledger:
        found = addressed(ledger, designs[0] if designs else arguments.file)
    document = design_document(found)["variables"]
    if is_file:
        problem = load(arguments.file, set=values_by_name("--set", arguments.set))
        known = {block.name for block in problem.blocks}
        own = problem_of(found.record)
        if own.is_collocated:  # a course on a grid, as a design of the file
            import numpy as np

            from ilvren.problem import carried
            from ilvren.runs import by_block

            design = carried(own, np.array(found.point), problem)
            return problem, {**by_block(problem.blocks, design.tolist()), **values}, found.address
        taken = {name: value for name, value in document.items() if name in known}
        if not taken:
            raise RequestError(f"{found.address} has no variable of {arguments.file}")
        left = [name for name in document if name not in known]
        if left:
            terminal.note(f"note: {found.address} has variables that this file has not: {', '.join(left)}")
        return problem, {**taken, **values}, found.address
    note_changed_file(found.record, terminal)
    problem = unfronted(problem_of(found.record))
    note_changed_models(found.record, problem, terminal)
    _note_proposal(found.record, problem, terminal)
    return problem, {**document, **values}, found.address


def _note_proposal(record: RunRecord, problem: Problem, terminal: Terminal) -> None:
    """Say what a design was proposed for, and what was predicted of it."""
    proposal = record.overrides.get("proposal")
    if not proposal:
        return
    told = [item.name for item in problem.objectives]
    predicted = ", ".join(
        f"{name} {values[0]:.6g}" for name, values in proposal["predicted"].items() if name in told and len(values) == 1
    )
    terminal.note(
        f"{record.id} was proposed from {proposal['from']} for {', '.join(proposal['changes'])}"
        + (f"; predicted: {predicted}" if predicted else "")
    )


def _scattered(report: DesignReport) -> list[tuple[str, str, float, float, str]]:
    """Return (name, law, value, deviation, unit) of what scatters there."""
    from ilvren.problem import scatter_of

    problem = report.problem
    units = {item.name: item.unit for item in problem.parameters}
    units |= {block.name: block.unit for block in problem.blocks}
    return scatter_of(problem, report.bounds.value).rows(units)


def _show(problem: Problem, report: DesignReport, terminal: Terminal, place: str) -> None:
    from rich.text import Text

    from ilvren.cli.tables import design as tables

    terminal.show(Text(problem.title or problem.source.file, style="bold"))
    if place:
        terminal.show(f"design {place}")
    if problem.about:
        terminal.show(problem.about)
    terminal.show(tables.sizes_line(problem), tables.variables_table(report))
    if any(not item.is_internal for item in problem.parameters):
        terminal.show(tables.parameters_table(problem))
    if problem.template.declarations.scatter:
        from ilvren.cli.tables.scatter import scattered_table

        terminal.show(scattered_table(_scattered(report)))
    if problem.is_over_time:
        from ilvren.cli.tables.time import horizon_lines, over_time_table

        terminal.show(over_time_table(problem, report.signals))
        terminal.show(*horizon_lines(problem, report.time), "")
    if problem.derived:
        terminal.show(tables.derived_table(report))
    if problem.sources:
        terminal.show(tables.models_table(report))
    terminal.show(tables.objective_line(report), "")
    if problem.row_blocks:
        terminal.show(tables.constraints_table(report))
    if report.pattern is not None:
        terminal.show(*tables.pattern_lines(report.pattern))
    for finding in report.findings:
        terminal.show(f"- {finding}")
