"""`ilvren diagnose`: why a run did not end well, and what to try."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ilvren.cli import status
from ilvren.cli.arguments import add_as_now, add_ledger, add_output_flags, ledger_path

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.judge import Diagnosis

EXAMPLES = """examples:
  ilvren diagnose last
  ilvren diagnose r3 --json
"""

_TITLES = {
    "missed": "Limits that are missed, the worst first",
    "conflict": "Do the limits conflict?",
    "invalid": "Designs without a finite value",
    "kink": "Kinks",
    "scaling": "Scaling",
    "curvature": "Curvature",
    "flat": "Flat directions",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument("run", metavar="RUN", help='a run: its id, its label or "last"')
    add_as_now(parser)
    add_ledger(parser)
    add_output_flags(parser)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command and return its exit status. Raises InputError for what a user can mend."""
    from ilvren.cli.files import note_changed_file, read_ledger
    from ilvren.judge import diagnose

    with read_ledger(ledger_path(arguments.ledger)) as ledger:
        note_changed_file(ledger.run(arguments.run), terminal)
        found = diagnose(arguments.run, ledger, as_now=arguments.as_now)
    if arguments.json:
        terminal.document(found.to_dict())
    else:
        _show(found, terminal)
    return status.HOLDS if found.holds else status.DOES_NOT_HOLD


def _show(found: Diagnosis, terminal: Terminal) -> None:
    from rich.text import Text

    title = found.problem.title or found.problem.source.file
    terminal.show(Text(f"{found.run}  diagnosed on {title}", style="bold"), "")
    style = "green bold" if found.holds else "red bold"
    terminal.show(Text.assemble((found.outcome, style), f"  {found.reason}"))
    file = found.problem.source.file
    last = ""
    for symptom in found.symptoms:
        if symptom.kind != last:
            terminal.show("", Text(_TITLES.get(symptom.kind, symptom.kind), style="bold"))
            last = symptom.kind
        place = f"  ({file}:{symptom.line})" if symptom.line else ""
        terminal.show(f"  {symptom.text}{place}")
    if not found.symptoms:
        terminal.show("", "Nothing out of the ordinary is found at the design it reported.")
    if found.advice:
        terminal.show("", Text("What to try", style="bold"))
        for command, why in found.advice:
            terminal.show(f"  {command}", f"      {why}")
