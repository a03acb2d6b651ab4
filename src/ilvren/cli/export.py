"""`ilvren export`: a run's history as CSV or JSON."""

from __future__ import annotations

import argparse

from ilvren.cli import status
from ilvren.cli.arguments import add_ledger, add_output_flags, ledger_path
from ilvren.cli.terminal import Terminal

EXAMPLES = """examples:
  ilvren export last --output history.csv
  ilvren export r2 --output history.json --every evaluation
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument(
        "run", metavar="RUN|GROUP", help='a run: its id, its label or "last"; or a group: a line for each of its runs'
    )
    parser.add_argument("--output", metavar="FILE", required=True, help="the file to write: .csv or .json")
    parser.add_argument(
        "--every",
        choices=("iteration", "evaluation"),
        default="iteration",
        help="a line for every iteration (default) or for every design evaluated",
    )
    add_ledger(parser)
    add_output_flags(parser, json=False)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command."""
    from ilvren.cli.files import check_suffix, read_ledger
    from ilvren.judge.history import group_table, history_table, write_history, write_rows

    check_suffix(arguments.output, (".csv", ".json"))
    with read_ledger(ledger_path(arguments.ledger)) as ledger:
        if ledger.is_group(arguments.run):
            group = ledger.group(arguments.run)
            members = group_table(ledger, group)
            write_rows(members, arguments.output, {"group": group.id}, "runs")
            terminal.note(f"{arguments.output}: {len(members)} runs of {group.id}")
            return status.HOLDS
        record = ledger.run(arguments.run)
        rows = history_table(ledger, record, every=arguments.every)
    write_history(rows, record, arguments.output, every=arguments.every)
    terminal.note(f"{arguments.output}: {len(rows)} {arguments.every}s of {record.id}")
    return status.HOLDS
