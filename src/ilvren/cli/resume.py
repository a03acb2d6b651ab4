"""`ilvren resume`: continue a run by replay."""

from __future__ import annotations

import argparse

from ilvren.cli import status
from ilvren.cli.arguments import add_as_now, add_ledger, add_output_flags, ledger_path
from ilvren.cli.run import add_full, add_limits, finish

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from ilvren.cli.terminal import Terminal
    from ilvren.ledger import GroupRecord, Ledger, RunRecord
    from ilvren.runs import Truly

EXAMPLES = """examples:
  ilvren resume last
  ilvren resume r2 --evaluations 5000

The limits are new totals for the whole run. Without any, the limits that an exhausted run used up are
granted once more; a patience that came to its end is doubled.
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument("run", metavar="RUN|GROUP", help='a run: its id, its label or "last"; or a group')
    add_limits(parser)
    add_full(parser)
    add_as_now(parser)
    add_ledger(parser)
    add_output_flags(parser)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command and return its exit status. Raises InputError for what a user can mend."""
    from ilvren.cli.files import note_changed_file, recorded_ledger
    from ilvren.cli.progress import Progress
    from ilvren.ledger import Ledger
    from ilvren.runs import resume

    path = recorded_ledger(ledger_path(arguments.ledger))
    with Ledger(path, read_only=True) as ledger:
        is_group = ledger.is_group(arguments.run)
    if is_group:
        return _resume_group(arguments, path, terminal)
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
                relearn=_relearning(ledger, record),
            )
        finally:
            progress.close()
        if "sample" in record.overrides:
            from ilvren.cli.sample import show_sample

            count = len(record.overrides["sample"]["designs"])
            return show_sample(result, ledger, count, terminal, as_json=arguments.json)
    return finish(result, terminal, ledger=arguments.ledger, as_json=arguments.json, full=arguments.full)


def _relearning(ledger: Ledger, record: RunRecord) -> Callable[[Sequence[Truly]], str] | None:
    """Return what learns the approximation again that a run searched on, None for any other run."""
    kept = record.overrides.get("on")
    if kept is None or kept["rounds"] == 1:
        return None
    from ilvren.explore import relearner

    return relearner(ledger, ledger.approximation(kept["name"]))


def _resume_sweep(arguments: argparse.Namespace, ledger: Ledger, group: GroupRecord, terminal: Terminal) -> int:
    from ilvren.cli.sweeping import show_sweep, teller
    from ilvren.runs import resume_sweep

    told = teller(group.plan["parameter"], terminal)
    found = resume_sweep(ledger, group.id, finished=told, workers=arguments.workers, as_now=arguments.as_now)
    return show_sweep(found, terminal, as_json=arguments.json, full=arguments.full, output=None)


def _resume_group(arguments: argparse.Namespace, path: str, terminal: Terminal) -> int:
    """Go on with a contest or a sweep; the limits are part of it."""
    from ilvren.cli.contest import told, worker_number
    from ilvren.cli.tables.contest import show_summary
    from ilvren.errors import RequestError
    from ilvren.judge import contest_summary
    from ilvren.ledger import Ledger
    from ilvren.runs import resume_contest

    given = [
        name for name in ("evaluations", "iterations", "seconds", "patience") if getattr(arguments, name) is not None
    ]
    if given:
        raise RequestError(f"--{given[0]}: the limits of a group are the same for all its runs, and stay")
    with Ledger(path) as ledger:
        group = ledger.group(arguments.run)
        if group.is_sweep:
            return _resume_sweep(arguments, ledger, group, terminal)
        done = resume_contest(
            ledger, group.id, workers=worker_number(arguments.workers), finished=told(terminal), as_now=arguments.as_now
        )
        terminal.progress("")
    if not done:
        terminal.note(f"interrupted; `ilvren resume {group.id}` goes on")
        return status.INTERRUPTED
    summary = contest_summary([group.id], path)
    if arguments.json:
        terminal.document(summary.to_dict())
    else:
        show_summary(summary, terminal)
    return status.HOLDS if summary.holds else status.DOES_NOT_HOLD
