"""`ilvren runs`: list the recorded runs."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from ilvren.cli import status
from ilvren.cli.arguments import add_ledger, add_output_flags, ledger_path
from ilvren.errors import RequestError

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.ledger import GroupRecord

EXAMPLES = """examples:
  ilvren runs
  ilvren runs --ledger winter.ledger --json
  ilvren runs --ledger winter.ledger --recover mended.ledger
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument("--full", action="store_true", help="the runs of contests one by one, too")
    parser.add_argument(
        "--recover",
        metavar="FILE",
        help="write what is whole of a damaged ledger into a new one, and tell what is lost",
    )
    add_ledger(parser)
    add_output_flags(parser)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command and return its exit status. Raises InputError for what a user can mend."""
    from ilvren.cli.files import read_ledger
    from ilvren.cli.tables.table import count, number, seconds_text, table

    if arguments.recover is not None:
        return _recover(ledger_path(arguments.ledger), arguments.recover, terminal, as_json=arguments.json)
    with read_ledger(ledger_path(arguments.ledger)) as ledger:
        records = ledger.runs()
        for told in ledger.damaged:
            terminal.complain(
                f"{ledger.path}: {told}; `ilvren runs --recover FILE` writes what is whole into a new ledger"
            )
        alive = {record.number for record in records if ledger.is_alive(record)}
        groups = ledger.groups()
    group_of = {number: group.id for group in groups for number in group.runs.values()}
    documents: list[dict[str, Any]] = []
    for record in records:
        result = record.result or {}
        outcome = record.outcome if record.state == "ended" else ("running" if record.number in alive else "killed")
        documents.append(
            {
                "run": record.id,
                "label": record.label,
                "group": group_of.get(record.number),
                "problem": record.problem_title or record.problem_file,
                "method": record.method,
                "outcome": outcome,
                "objectives": result.get("objectives") or {} if record.state == "ended" else {},
                **({"front": len(front)} if isinstance(front := result.get("front"), list) else {}),
                "counts": result.get("counts", {}) if record.state == "ended" else {},
                "seconds": record.seconds,
                "created": record.created,
            }
        )
    if arguments.json:
        terminal.document(
            {
                "ledger": arguments.ledger or ledger_path(None),
                "runs": documents,
                "groups": [_group_document(group) for group in groups],
            }
        )
        return status.HOLDS
    rows = [
        (
            str(d["run"]),
            str(d["label"] or ""),
            str(d["group"] or ""),
            str(d["problem"]),
            str(d["method"]),
            str(d["outcome"]),
            f"front of {d['front']}"
            if "front" in d
            else ", ".join(
                f"{name} {number(None if value is None else float(value))}" for name, value in d["objectives"].items()
            ),
            str(d["counts"].get("evaluations", "")),
            seconds_text(d["seconds"]) if d["counts"] else "",
            str(d["created"])[:16].replace("T", " "),
        )
        for d in documents
        if arguments.full or not d["group"]
    ]
    headers = (
        "run",
        "label",
        "group",
        "problem",
        "method",
        "outcome",
        "objective",
        ">evaluations",
        ">time",
        "begun (UTC)",
    )
    if rows:
        terminal.show(table(headers, rows))
    if groups:
        terminal.show(
            table(("group", "label", "contest or sweep", ">runs", ">of", "begun (UTC)"), map(_group_row, groups))
        )
    hidden = len(documents) - len(rows)
    apart = f", {hidden} of them in groups (--full lists them)" if hidden else ""
    terminal.show(f"{count(len(documents), 'run')} in {ledger_path(arguments.ledger)}{apart}")
    if any(d["outcome"] == "killed" for d in documents):
        terminal.show("killed: the process ended without a word; `ilvren resume RUN` continues such a run")
    return status.HOLDS


def _recover(path: str, target: str, terminal: Terminal, *, as_json: bool) -> int:
    """Write what is whole into a new ledger."""
    from pathlib import Path

    from ilvren.cli.files import recorded_ledger
    from ilvren.cli.tables.table import count
    from ilvren.ledger import recover

    if Path(target).exists():
        raise RequestError(f"--recover {target}: that file exists", advice="name a new one")
    found = recover(Path(recorded_ledger(path)), Path(target))
    if as_json:
        numbers = {"runs": found.runs, "groups": found.groups, "approximations": found.approximations}
        terminal.document({"ledger": path, "recovered": target, **numbers, "lost": list(found.lost)})
    else:
        parts = (("run", found.runs), ("group", found.groups), ("approximation", found.approximations))
        terminal.show(f"{target}: {', '.join(count(number, noun) for noun, number in parts)} of {path}")
        for told in found.lost:
            terminal.show(f"lost  {told}")
        if not found.lost:
            terminal.show("nothing that could be read was lost")
    return status.DOES_NOT_HOLD if found.lost else status.HOLDS


def _group_document(group: GroupRecord) -> dict[str, Any]:
    return {
        "group": group.id,
        "label": group.label,
        "problems": [problem["name"] for problem in group.plan["problems"]],
        "methods": [contender["name"] for contender in group.plan["contenders"]],
        "kind": "sweep" if group.is_sweep else "contest",
        "members": len(group.plan["values"] if group.is_sweep else group.plan["members"]),
        "runs": [f"r{number}" for number in group.runs.values()],
        "created": group.created,
    }


def _group_row(group: GroupRecord) -> tuple[str, ...]:
    methods = ", ".join(contender["name"] for contender in group.plan["contenders"])
    problems = ", ".join(problem["name"] for problem in group.plan["problems"])
    members = len(group.plan["values"] if group.is_sweep else group.plan["members"])
    if group.is_sweep:
        methods = f"sweep of {group.plan['parameter']}, {methods}"
    begun = group.created[:16].replace("T", " ")
    return group.id, group.label or "", f"{methods} on {problems}", str(len(group.runs)), str(members), begun
