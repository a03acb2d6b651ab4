"""`ilvren export`: a run's history as CSV or JSON."""

from __future__ import annotations

import argparse

from ilvren.cli import status
from ilvren.cli.arguments import add_ledger, add_output_flags, ledger_path
from ilvren.cli.files import read_ledger

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.ledger import Ledger

EXAMPLES = """examples:
  ilvren export last --output history.csv
  ilvren export r2 --output history.json --every evaluation
  ilvren export r2 --of x,y --output outline.csv
  ilvren export last --output - | sort -t, -k5 -g | head
  ilvren export a1 --output friction.json
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument(
        "run",
        metavar="RUN|GROUP|APPROXIMATION",
        help='a run: its id, its label or "last"; a group: a line for each of its runs; or an approximation (.json)',
    )
    parser.add_argument(
        "--output",
        metavar="FILE",
        required=True,
        help="the file to write: .csv or .json; - for standard output, as CSV (an approximation as JSON)",
    )
    parser.add_argument(
        "--every",
        choices=("iteration", "evaluation"),
        help="a line for every iteration (default) or for every design evaluated (default for samples)",
    )
    parser.add_argument(
        "--of", metavar="NAME,NAME", help="vectors of the design (r7, or r7:12) as columns, instead of the history"
    )
    add_ledger(parser)
    add_output_flags(parser, json=False)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command and return its exit status. Raises InputError for what a user can mend."""
    if arguments.output != "-":
        return _export(arguments, terminal)
    import tempfile
    from pathlib import Path

    with tempfile.TemporaryDirectory() as folder, read_ledger(ledger_path(arguments.ledger)) as ledger:
        path = Path(folder, "export.json" if ledger.is_approximation(arguments.run) else "export.csv")
        arguments.output, quiet, terminal.quiet = str(path), terminal.quiet, True
        found = _export(arguments, terminal)
        terminal.quiet = quiet
        with path.open(encoding="utf-8", newline="") as file:
            terminal.out.write(file.read().replace("\r\n", "\n"))
    return found


def _export(arguments: argparse.Namespace, terminal: Terminal) -> int:
    from ilvren.cli.files import check_suffix
    from ilvren.judge import group_table, history_table, write_history, write_rows

    check_suffix(arguments.output, (".csv", ".json"))
    with read_ledger(ledger_path(arguments.ledger)) as ledger:
        if arguments.of is not None:
            return _export_vectors(arguments, ledger, terminal)
        if ledger.is_approximation(arguments.run):
            return _export_approximation(arguments, ledger, terminal)
        if ledger.is_group(arguments.run):
            group = ledger.group(arguments.run)
            members = group_table(ledger, group)
            write_rows(members, arguments.output, {"group": group.id}, "runs")
            terminal.note(f"{arguments.output}: {len(members)} runs of {group.id}")
            return status.HOLDS
        record = ledger.run(arguments.run)
        has_designs_alone = "sample" in record.overrides or "on" in record.overrides
        every = arguments.every or ("evaluation" if has_designs_alone else "iteration")
        rows = history_table(ledger, record, every=every)
    write_history(rows, record, arguments.output, every=every)
    terminal.note(f"{arguments.output}: {len(rows)} {every}s of {record.id}")
    return status.HOLDS


def _export_approximation(arguments: argparse.Namespace, ledger: Ledger, terminal: Terminal) -> int:
    """Write an approximation as the document that others evaluate."""
    from pathlib import Path

    from ilvren.cli.files import check_suffix

    check_suffix(arguments.output, (".json",))
    record = ledger.approximation(arguments.run)
    Path(arguments.output).write_text(record.document, encoding="utf-8")
    name = Path(arguments.output).name
    terminal.note(f'{arguments.output}: {record.id}; as a model of a problem: approximation = "{name}"')
    return status.HOLDS


def _export_vectors(arguments: argparse.Namespace, ledger: Ledger, terminal: Terminal) -> int:
    """Write vectors of a design side by side."""
    import numpy as np

    from ilvren.cli.draw_record import unknown_vector, vectors_of
    from ilvren.errors import RequestError
    from ilvren.judge import write_rows
    from ilvren.runs import addressed, problem_of, recorded_calls

    found = addressed(ledger, arguments.run)
    problem = problem_of(found.record)
    calls = recorded_calls(problem, ledger, found.record, only=False)
    values = vectors_of(problem, np.array(found.point), calls)
    names = [name.strip() for name in arguments.of.split(",") if name.strip()]
    for name in names:
        if name not in values:
            raise unknown_vector("--of", name, values, found.address)
    lengths = {len(values[name]) for name in names}
    if len(lengths) != 1:
        told = ", ".join(f"{name}: {len(values[name])}" for name in names) or "no name is given"
        raise RequestError(f"--of {arguments.of}: vectors of one length are written side by side ({told})")
    rows: list[dict[str, object]] = [
        {name: float(values[name][place]) for name in names} for place in range(lengths.pop())
    ]
    write_rows(rows, arguments.output, {"design": found.address}, "vectors")
    terminal.note(f"{arguments.output}: {', '.join(names)} of {found.address}, {len(rows)} rows")
    return status.HOLDS
