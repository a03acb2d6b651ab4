"""`ilvren resume`: continue a run by replay."""

from __future__ import annotations

import argparse

from ilvren.cli.arguments import add_as_now, add_ledger, add_output_flags, ledger_path
from ilvren.cli.run import add_full, add_limits, finish
from ilvren.cli.terminal import Terminal

EXAMPLES = """examples:
  ilvren resume last
  ilvren resume r2 --evaluations 5000

The limits are new totals for the whole run. Without any, the limits that an exhausted run used up are
granted once more; a patience that came to its end is doubled.
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument("run", metavar="RUN", help='a run: its id, its label or "last"')
    add_limits(parser)
    add_full(parser)
    add_as_now(parser)
    add_ledger(parser)
    add_output_flags(parser)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command."""
    from ilvren.cli.files import note_changed_file, recorded_ledger
    from ilvren.cli.progress import Progress
    from ilvren.ledger import Ledger
    from ilvren.runs import resume

    path = recorded_ledger(ledger_path(arguments.ledger))
    progress = Progress(terminal)
    with Ledger(path) as ledger:
        record = ledger.run(arguments.run)
        note_changed_file(record, terminal)
        try:
            result = resume(
                arguments.run,
                ledger,
                evaluations=arguments.evaluations,
                iterations=arguments.iterations,
                seconds=arguments.seconds,
                patience=arguments.patience,
                workers=arguments.workers,
                as_now=arguments.as_now,
                listener=progress,
            )
        finally:
            progress.close()
    return finish(result, terminal, ledger=arguments.ledger, as_json=arguments.json, full=arguments.full)
