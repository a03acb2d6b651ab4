"""`ilvren check`: derivatives, scaling, conflicts and domains before any run."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ilvren.cli import status
from ilvren.cli.arguments import add_aim, add_output_flags, add_problem, aim_of, values_by_name, words_by_name

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.judge.checking import CheckReport, Finding
    from ilvren.problem import Problem

EXAMPLES = """examples:
  ilvren check rising-main.toml
  ilvren check rising-main.toml --units --only conflicts
  ilvren check terrace-pipes.toml --expect head_far=14.535 --expect cost=12356
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    add_problem(parser)
    add_aim(parser, with_only=False)
    parser.add_argument(
        "--start", metavar="NAME=VALUE", action="append", default=[], help="check from another start (repeatable)"
    )
    parser.add_argument(
        "--only",
        metavar="CHECK",
        action="append",
        default=[],
        help="programs, derivatives, scaling, conflicts or domain (repeatable)",
    )
    parser.add_argument(
        "--expect",
        metavar="NAME=VALUE",
        action="append",
        default=[],
        help="a value that the start must have, to the digits given (repeatable)",
    )
    parser.add_argument("--units", action="store_true", help="also check that the units go together")
    parser.add_argument("--seed", type=int, default=0, metavar="N", help="seed of the random designs (0)")
    add_output_flags(parser)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command and return its exit status. Raises InputError for what a user can mend."""
    from ilvren.judge.checking import CHECKS, check
    from ilvren.problem import fronted, load

    problem = load(
        arguments.file,
        set=values_by_name("--set", arguments.set),
        start=values_by_name("--start", arguments.start),
        aim=aim_of(arguments, with_only=False),
    )
    if len(problem.objectives) > 1:
        problem = fronted(problem)
        told = ", ".join(item.name for item in problem.objectives)
        terminal.note(f"several objectives: {told} are checked as rows without limits are")
    checks = tuple(dict.fromkeys(arguments.only)) or CHECKS
    expect = {name: _texts(value) for name, value in words_by_name("--expect", arguments.expect).items()}
    values_by_name("--expect", arguments.expect)  # numbers, or a message
    report = check(
        problem,
        checks=checks,
        units=arguments.units,
        expect=expect,
        seed=arguments.seed,
        progress=terminal.progress,
    )
    terminal.progress("")
    if arguments.json:
        terminal.document(report.to_dict())
    else:
        _show(problem, report, terminal)
    return status.HOLDS if report.holds else status.DOES_NOT_HOLD


def _texts(value: str) -> str | list[str]:
    """Return the text of a number, or of those of a list: their digits count."""
    return [item.strip() for item in value.strip("[]").split(",")] if value.startswith("[") else value


def _show(problem: Problem, report: CheckReport, terminal: Terminal) -> None:
    from rich.text import Text

    from ilvren.cli.tables.program import show_program

    terminal.show(Text(problem.title or problem.source.file, style="bold"))
    for program in report.programs:
        show_program(program, terminal)
    unexpected = [finding for finding in report.findings if finding.kind in ("unexpected", "slopes")]
    if unexpected:
        terminal.show("")
    for finding in unexpected:
        terminal.show(Text.assemble((finding.kind, "red bold"), f"  {finding.text}"))
    if report.derivatives is not None:
        _show_derivatives(report, terminal)
    if report.scaling is not None:
        _show_scaling(report, terminal)
    for check, words in (("conflicts", "conflicts between limits"), ("domain", "domains of the formulas")):
        kinds = ("conflict", "redundant", "forced") if check == "conflicts" else ("domain",)
        if check in report.checks:
            _show_kinds(report, terminal, kinds, words)
    if report.units is not None:
        from ilvren.cli.tables.table import count

        _show_kinds(report, terminal, ("units",), "units")
        open_ = report.units["open"]
        told = f"  {count(int(str(report.units['formulas'])), 'formula')} followed"
        told += f", {open_} of them not to the end, where a number or name may carry any unit" if open_ else ""
        terminal.show(told)
    for finding in report.findings:
        if finding.kind == "note":
            terminal.show(f"- {finding.text}")
    fails = sum(finding.fails for finding in report.findings)
    word, style = ("passed", "green bold") if report.holds else (f"{fails} to mend", "red bold")
    if report.compared_nothing and not fails:
        word, style = "nothing could be compared: no design with finite values was found", "red bold"
    terminal.show("", Text.assemble("check: ", (word, style)))


def _show_derivatives(report: CheckReport, terminal: Terminal) -> None:
    from rich.text import Text

    from ilvren.cli.tables.table import count, small, table

    found = report.derivatives
    assert found is not None
    designs = count(found.points, "design")
    line = f"derivatives: {found.agreed} of {count(found.compared, 'element')} agree with differences at {designs}"
    line += f" (to {small(found.worst)})" if found.worst else ""
    terminal.show("", Text(line, style="bold"))
    if found.sampled:
        terminal.show(f"  compared: {found.sampled}")
    rows = []
    for finding in found.findings:
        if finding.kind == "note":
            continue  # told at the end
        facts = finding.facts
        rows.append(
            (
                f"{facts['entry']} by {facts['variable']}",
                _digits(facts["derivative"]),
                _digits(facts["difference"]),
                small(facts["error"]),
                _verdict(finding),
                str(facts["design"]),
            )
        )
    if rows:
        terminal.show(table(("element", ">derivative", ">difference", ">its error", "verdict", "at"), rows))


def _verdict(finding: Finding) -> str:
    if finding.facts["derivative"] is None:
        return "not finite"
    return "wrong" if finding.kind == "wrong" else "doubtful: noise or a kink"


def _digits(value: object) -> str:
    from ilvren.cli.tables.table import number

    return number(value, 9) if isinstance(value, float) else "not finite"


def _show_scaling(report: CheckReport, terminal: Terminal) -> None:
    from rich.text import Text

    from ilvren.cli.tables.table import number, table

    found = report.scaling
    assert found is not None
    title = "scaling: what a move of a variable by its size changes, relative to what changes"
    terminal.show("", Text(title, style="bold"))
    if not found.variables:
        terminal.show("  not measured: a derivative at the start is not finite")
    for what, lines, ratio in (
        ("variable", found.variables, found.variable_ratio),
        ("objective, constraint", found.rows, found.row_ratio),
    ):
        if not lines:
            continue
        rows = [
            (
                line.name,
                number(line.size, 4),
                line.source,
                number(line.effect, 3),
                "" if line.suggested is None else f"magnitude = {number(line.suggested)}",
            )
            for line in lines
        ]
        terminal.show(table((what, ">size", "from", ">effect", "suggested"), rows))
        terminal.show(f"  largest to smallest effect: {number(ratio, 2)}")


def _show_kinds(report: CheckReport, terminal: Terminal, kinds: tuple[str, ...], title: str) -> None:
    from rich.text import Text

    found = [finding for finding in report.findings if finding.kind in kinds]
    terminal.show("", Text.assemble((f"{title}: ", "bold"), "" if found else "nothing found"))
    styles = {"conflict": "red bold", "units": "red bold", "domain": "yellow"}
    for finding in found:
        place = f" ({report.problem.source.file}:{finding.line})" if finding.line else ""
        terminal.show(Text.assemble("  ", (finding.kind, styles.get(finding.kind, "")), f"  {finding.text}{place}"))
