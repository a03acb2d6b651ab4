"""`ilvren report`: runs and verdicts, or samples and approximations, on one page."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ilvren.cli import status
from ilvren.cli.arguments import add_ledger, add_output_flags, ledger_path

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal

EXAMPLES = """examples:
  ilvren report last --output report.html
  ilvren report r1 r2 --output report.md
  ilvren report g1 --output contest.html --prove
  ilvren report g2 --output sweep.html        (a sweep)
  ilvren report r3 a1 --output look.html
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument(
        "runs",
        metavar="RUN|GROUP|APPROXIMATION",
        nargs="+",
        help='runs, a contest or a sweep of one problem, or samples and approximations: ids, labels, "last"',
    )
    parser.add_argument(
        "--output", metavar="FILE", required=True, help="the page (.html, nothing else needed) or the text (.md)"
    )
    parser.add_argument(
        "--prove", action="store_true", help="let the verification try a proof (60 s at most for each run)"
    )
    add_ledger(parser)
    add_output_flags(parser, json=False)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command and return its exit status. Raises InputError for what a user can mend."""
    from ilvren.cli.files import check_suffix, read_ledger
    from ilvren.draw.report import (
        front_survey,
        gather,
        has_fronts,
        is_survey,
        is_sweep,
        survey,
        sweep_survey,
        write_page,
        write_survey,
        write_text,
    )
    from ilvren.judge import VerifyOptions

    suffix = check_suffix(arguments.output, (".html", ".md"))
    with read_ledger(ledger_path(arguments.ledger)) as ledger:
        if is_sweep(arguments.runs, ledger):
            write_survey(sweep_survey(arguments.runs[0], ledger), arguments.output)
            terminal.note(f"{arguments.output}: {', '.join(arguments.runs)}")
            return status.HOLDS
        if is_survey(arguments.runs, ledger):
            write_survey(survey(arguments.runs, ledger), arguments.output)
            terminal.note(f"{arguments.output}: {', '.join(arguments.runs)}")
            return status.HOLDS
        terminal.progress("verifying")
        if has_fronts(arguments.runs, ledger):
            found = front_survey(arguments.runs, ledger, prove=arguments.prove)
            terminal.progress("")
            write_survey(found, arguments.output)
            terminal.note(f"{arguments.output}: {', '.join(arguments.runs)}")
            return status.HOLDS
        report = gather(arguments.runs, ledger, extra=VerifyOptions(prove=arguments.prove))
        terminal.progress("")
    (write_page if suffix == ".html" else write_text)(report, arguments.output)
    told = ", ".join(chapter.record.id for chapter in report.chapters)
    terminal.note(f"{arguments.output}: {told}")
    return status.HOLDS
