"""`ilvren runs`: list the recorded runs."""

from __future__ import annotations

import argparse
from typing import Any

from ilvren.cli import status
from ilvren.cli.arguments import add_ledger, add_output_flags, ledger_path
from ilvren.cli.terminal import Terminal

EXAMPLES = """examples:
  ilvren runs
  ilvren runs --ledger winter.ledger --json
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    add_ledger(parser)
    add_output_flags(parser)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command."""
    from ilvren.cli.files import read_ledger
    from ilvren.cli.tables import count, number, seconds_text, table

    with read_ledger(ledger_path(arguments.ledger)) as ledger:
        records = ledger.runs()
        alive = {record.number for record in records if ledger.is_alive(record)}
    documents: list[dict[str, Any]] = []
    for record in records:
        result = record.result or {}
        outcome = record.outcome if record.state == "ended" else ("running" if record.number in alive else "killed")
        documents.append(
            {
                "run": record.id,
                "label": record.label,
                "problem": record.problem_title or record.problem_file,
                "method": record.method,
                "outcome": outcome,
                "objectives": result.get("objectives", {}) if record.state == "ended" else {},
                "counts": result.get("counts", {}) if record.state == "ended" else {},
                "seconds": record.seconds,
                "created": record.created,
            }
        )
    if arguments.json:
        terminal.document({"ledger": arguments.ledger or ledger_path(None), "runs": documents})
        return status.HOLDS
    rows = [
        (
            str(d["run"]),
            str(d["label"] or ""),
            str(d["problem"]),
            str(d["method"]),
            str(d["outcome"]),
            ", ".join(f"{name} {number(value)}" for name, value in d["objectives"].items()),
            str(d["counts"].get("evaluations", "")),
            seconds_text(d["seconds"]) if d["counts"] else "",
            str(d["created"])[:16].replace("T", " "),
        )
        for d in documents
    ]
    headers = ("run", "label", "problem", "method", "outcome", "objective", ">evaluations", ">time", "begun (UTC)")
    if rows:
        terminal.show(table(headers, rows))
    terminal.show(f"{count(len(rows), 'run')} in {ledger_path(arguments.ledger)}")
    if any(d["outcome"] == "killed" for d in documents):
        terminal.show("killed: the process ended without a word; `ilvren resume RUN` continues such a run")
    return status.HOLDS
