"""`ilvren verify`: judge a run's design."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ilvren.cli import status
from ilvren.cli.arguments import add_as_now, add_ledger, add_output_flags, ledger_path
from ilvren.cli.terminal import Terminal

if TYPE_CHECKING:
    from ilvren.judge import Verdict
    from ilvren.problem import Objective
    from ilvren.runs.result import LimitState

EXAMPLES = """examples:
  ilvren verify last
  ilvren verify r2 --tolerance 1e-4 --accept-probe
"""

# More active limits, or elements of a better design, than this are not listed.
MOST_LISTED = 20


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument("run", metavar="RUN", help='a run: its id, its label or "last"')
    parser.add_argument("--tolerance", type=float, metavar="SHARE", help="relative accuracy asked for (the run's own)")
    parser.add_argument(
        "--accept-probe",
        action="store_true",
        help="let a design without usable derivatives hold when no probe beats it",
    )
    add_as_now(parser)
    add_ledger(parser)
    add_output_flags(parser)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command."""
    from ilvren.cli.files import note_changed_file, read_ledger
    from ilvren.judge.verification import verify

    with read_ledger(ledger_path(arguments.ledger)) as ledger:
        note_changed_file(ledger.run(arguments.run), terminal)
        verdict = verify(
            arguments.run,
            ledger=ledger,
            tolerance=arguments.tolerance,
            accept_probe=arguments.accept_probe,
            as_now=arguments.as_now,
        )
    if arguments.json:
        terminal.document(verdict.to_dict())
    else:
        _show(verdict, terminal)
    return status.HOLDS if verdict.holds else status.DOES_NOT_HOLD


def _show(verdict: Verdict, terminal: Terminal) -> None:
    from rich.text import Text

    from ilvren.cli.tables import margin_text, number, small, table, with_unit
    from ilvren.judge.verdict import MEANINGS

    title = verdict.problem.title or verdict.problem.source.file
    terminal.show(Text(f"{verdict.run}  verified afresh on {title}", style="bold"))
    objective = verdict.problem.objective
    if objective is not None:
        terminal.show(f"{objective.name} = {with_unit(verdict.objective, objective.unit, 8)}")
    rows = [
        (
            check.name,
            check.result,
            "" if check.value is None else small(check.value),
            "" if check.limit is None else small(check.limit),
            check.detail,
        )
        for check in verdict.checks
    ]
    terminal.show(table(("check", "result", ">value", ">limit", "detail"), rows))
    if verdict.active:
        active = [
            (state.name, state.side, margin_text(state.margin, state.value), _price(state, objective))
            for state in _most_priced(verdict)
        ]
        terminal.show(table(("active limit", "side", ">margin", ">price"), active))
        if len(active) < len(verdict.active):
            terminal.show(f"the {len(active)} most priced of {len(verdict.active)} active limits")
    if verdict.freedom is not None:
        terminal.show(f"degrees of freedom that the active limits leave: {verdict.freedom}")
    style = "green bold" if verdict.holds else "red bold"
    mark = "holds" if verdict.holds else "does not hold"
    terminal.show(Text.assemble("\n", (verdict.verdict, style), f" ({mark})  {MEANINGS[verdict.verdict]}"))
    terminal.show(f"  {verdict.reason[:1].upper()}{verdict.reason[1:]}.")
    if verdict.better:
        told = [f"{name} = {number(value, 8)}" for name, value in verdict.better.items()]
        more = f" and {len(told) - MOST_LISTED} more (--json has all)" if len(told) > MOST_LISTED else ""
        terminal.show(f"  The better design: {', '.join(told[:MOST_LISTED])}{more}")


def _most_priced(verdict: Verdict) -> list[LimitState]:
    """Return the active limits shown: all of few, of many the most priced."""
    if len(verdict.active) <= MOST_LISTED:
        return list(verdict.active)
    return sorted(verdict.active, key=lambda state: -abs(state.price or 0.0))[:MOST_LISTED]


def _price(state: LimitState, objective: Objective | None) -> str:
    from ilvren.cli.tables import with_unit

    if state.price is None or objective is None:
        return ""
    unit = f"{objective.unit or '1'}/{state.unit}" if state.unit else objective.unit
    return with_unit(state.price, unit, 4) + ("" if state.is_unique else " *")
