"""`ilvren verify`: judge a run's design, or any other."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ilvren.cli import status
from ilvren.cli.arguments import (
    add_aim,
    add_as_now,
    add_ledger,
    add_output_flags,
    aim_of,
    ledger_path,
    numbers,
    values_by_name,
)

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.judge import Reference, Verdict, VerifyOptions
    from ilvren.ledger import Ledger

EXAMPLES = """examples:
  ilvren verify last
  ilvren verify r2 --tolerance 1e-4 --accept-probe
  ilvren verify rising-main.toml --at bore=0.164 --at wall=7.16 --at duty=0.0179 --tolerance 1e-3
  ilvren verify rising-main.toml --at designs.csv --row 3
  ilvren verify last --worth --makeable bore=0.005 --makeable wall=0.1
  ilvren verify last --prove --random-starts 10 --method interior-point
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument("run", metavar="RUN|FILE", help='a run: its id, its label or "last"; or a problem file')
    parser.add_argument(
        "--at",
        metavar="NAME=VALUE|CSV",
        action="append",
        default=[],
        help="with a problem file: the design to be judged, by value (repeatable) or as a row of a CSV file",
    )
    parser.add_argument("--row", type=int, metavar="N", help="which row of the CSV file, from 1 (1)")
    parser.add_argument(
        "--set", metavar="NAME=VALUE", action="append", default=[], help="with a problem file: a parameter's value"
    )
    add_aim(parser)
    parser.add_argument("--tolerance", type=float, metavar="SHARE", help="relative accuracy asked for (the run's own)")
    parser.add_argument("--feasibility", type=float, metavar="SHARE", help="miss allowed (the run's own, or 1e-6)")
    parser.add_argument(
        "--accept-probe",
        action="store_true",
        help="let a design without usable derivatives hold when no probe beats it",
    )
    parser.add_argument("--random-starts", type=int, metavar="N", help="solve from N random designs as well")
    parser.add_argument("--method", metavar="NAME", help="solve with this method as well: it must find nothing better")
    parser.add_argument("--seed", type=int, default=0, metavar="N", help="seed of the random starts (0)")
    parser.add_argument(
        "--prove", action="store_true", help="prove by intervals that no design is better (formulas of few variables)"
    )
    parser.add_argument("--seconds", type=float, metavar="S", help="the time for --prove (60)")
    parser.add_argument(
        "--worth",
        action="store_true",
        help="what limits cost and for how far, how the optimum follows parameters, tolerances of manufacture",
    )
    parser.add_argument(
        "--makeable",
        metavar="NAME=SPACING",
        action="append",
        default=[],
        help="the best design near it on this spacing (repeatable)",
    )
    parser.add_argument(
        "--reference", metavar="NAME=VALUE", action="append", default=[], help="a value known from outside (repeatable)"
    )
    parser.add_argument("--reference-file", metavar="CSV", help="values known from outside, a column each")
    parser.add_argument(
        "--reference-tolerance", type=float, metavar="SHARE", help="deviation that counts as agreement (1e-3)"
    )
    parser.add_argument("--output", metavar="FILE", help="draw the design's curves beside the reference: .png or .svg")
    parser.add_argument(
        "--confirm", action="store_true", help="evaluate [confirm] for this design, though other checks do not hold"
    )
    parser.add_argument(
        "--share", type=float, metavar="SHARE", help="of a front: the share of its members that must hold (0.95)"
    )
    parser.add_argument(
        "--mend", action="store_true", help="of a front: take what does not hold where searches lead, as a new run"
    )
    parser.add_argument("--full", action="store_true", help="of a front: all members")
    add_as_now(parser)
    add_ledger(parser)
    add_output_flags(parser)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command and return its exit status. Raises InputError for what a user can mend."""
    from ilvren.cli.files import check_suffix, note_changed_file, read_ledger
    from ilvren.cli.tables.verdict import show_verdict
    from ilvren.errors import RequestError
    from ilvren.judge import verify
    from ilvren.runs import problem_of, split_address

    extra = _extra(arguments, terminal)
    if arguments.row is not None and not arguments.at:
        raise RequestError("--row needs --at with a CSV file")
    asks_aim = arguments.only or arguments.weigh or arguments.hold or arguments.lines
    if (
        (arguments.at or arguments.set or asks_aim)
        and not Path(arguments.run).suffix
        and not Path(arguments.run).exists()
    ):
        raise RequestError(
            "--at, --set, --only, --weigh, --hold and --lines are for a problem file, not for a run such as"
            f' "{arguments.run}"',
            advice="name the problem file; a run is judged as it was recorded",
        )
    if arguments.output:
        if extra.reference is None:
            raise RequestError("--output needs --reference-file: it draws curves beside a reference")
        check_suffix(arguments.output, (".png", ".svg"))
    try:
        if _is_file(arguments):
            verdict = _verify_file(arguments, extra, terminal)
        else:
            path = ledger_path(arguments.ledger)
            with read_ledger(path) as ledger:
                reference, number = split_address(arguments.run)
                record = ledger.run(reference)
                if number is None and ledger.is_group(reference):
                    terminal.note(f"{arguments.run} is a group: its best run, {record.id}, is judged")
                note_changed_file(record, terminal)
                if len(problem_of(record).objectives) > 1:
                    from ilvren.cli.tables.front_verdict import (
                        verify_recorded_front,  # few runs have several objectives
                    )

                    return verify_recorded_front(arguments, record, ledger, path, number, terminal)
                _refuse_front_flags(arguments)
                verdict = verify(
                    arguments.run,
                    ledger=ledger,
                    tolerance=arguments.tolerance,
                    feasibility=arguments.feasibility,
                    accept_probe=arguments.accept_probe,
                    as_now=arguments.as_now,
                    extra=extra,
                )
            verdict = _recorded(verdict, path)
    finally:
        terminal.progress("")
    if arguments.json:
        terminal.document(verdict.to_dict())
    else:
        show_verdict(verdict, terminal)
    if arguments.output:
        from ilvren.draw import draw_agreement

        draw_agreement(verdict, arguments.output)
        terminal.note(f"{arguments.output}: the design's values beside the reference")
    return status.HOLDS if verdict.holds else status.DOES_NOT_HOLD


def _refuse_front_flags(arguments: argparse.Namespace) -> None:
    from ilvren.errors import RequestError

    for flag, given in (("--share", arguments.share is not None), ("--mend", arguments.mend)):
        if given:
            raise RequestError(f"{flag} is for the front of several objectives, and {arguments.run} has one objective")


def _is_file(arguments: argparse.Namespace) -> bool:
    return bool(arguments.at or arguments.set or str(arguments.run).endswith(".toml"))


def _verify_file(arguments: argparse.Namespace, extra: VerifyOptions, terminal: Terminal) -> Verdict:
    from ilvren.judge import verify
    from ilvren.problem import load

    problem = load(arguments.run, set=values_by_name("--set", arguments.set), aim=aim_of(arguments)).one_objective()
    at, ignored = _design(arguments, problem)
    if ignored:
        terminal.note(f"note: not variables, so not used: {', '.join(ignored)}")
    return verify(
        problem,
        at=at,
        tolerance=arguments.tolerance,
        feasibility=arguments.feasibility,
        accept_probe=arguments.accept_probe,
        extra=extra,
    )


def _number(path: str, line: int, name: str, cell: str) -> float:
    """Return what a cell holds. Raises RequestError."""
    from ilvren.errors import RequestError

    try:
        return float(cell)
    except ValueError:
        raise RequestError(f'{path}:{line}: "{cell.strip()}" in column {name} is not a number') from None


def _design(arguments: argparse.Namespace, problem: Any) -> tuple[dict[str, Any], list[str]]:
    """Return the design asked for by name, and the columns of its CSV file that are no variables."""
    from ilvren.errors import RequestError
    from ilvren.judge import read_cells

    at: dict[str, Any] = {}
    ignored: list[str] = []
    files = [word for word in arguments.at if "=" not in word]
    if arguments.row is not None and not files:
        raise RequestError("--row needs --at with a CSV file")
    if len(files) > 1:
        raise RequestError("--at: one CSV file holds the design")
    for path in files:
        names, rows = read_cells(path)
        row = 1 if arguments.row is None else arguments.row
        if not 1 <= row <= len(rows):
            raise RequestError(f"--row {row}: {path} has rows 1 to {len(rows)}")
        line, cells = rows[row - 1]
        marked = {name.removeprefix("variable:") for name in names if name.startswith("variable:")}
        known = {variable.name for variable in problem.variables} | {block.name for block in problem.blocks}
        worded = {block.name for block in problem.blocks if block.words}
        for name, cell in zip(names, cells, strict=True):
            plain = name.removeprefix("variable:")
            if plain not in known or (plain == name and name in marked):
                ignored.append(name)
            elif plain in worded:
                at[plain] = cell.strip()
            else:
                at[plain] = _number(path, line, name, cell)
        if not at:
            raise RequestError(
                f"{path}: no column is a variable of {arguments.run}",
                advice="its variables: " + ", ".join(sorted(known)[:12]),
            )
    at.update(values_by_name("--at", [word for word in arguments.at if "=" in word]))
    return at, ignored


def _extra(arguments: argparse.Namespace, terminal: Terminal) -> VerifyOptions:
    from ilvren.errors import RequestError
    from ilvren.judge import VerifyOptions
    from ilvren.methods import method_named

    if arguments.random_starts is not None and arguments.random_starts < 1:
        raise RequestError(f"--random-starts must be at least 1, not {arguments.random_starts}")
    if arguments.seed < 0:
        raise RequestError(f"--seed must be at least 0, not {arguments.seed}")
    if arguments.seconds is not None and not arguments.prove:
        raise RequestError("--seconds is the time for --prove")
    if arguments.seconds is not None and not 0.0 < arguments.seconds < 1e6:
        raise RequestError(f"--seconds must be a number above 0, not {arguments.seconds:g}")
    if arguments.method is not None:
        method_named(arguments.method)

    def told(done: int, open_: int, bound: float) -> None:
        terminal.progress(f"proof: {done} boxes done, {open_} open, bound {bound:.8g}")

    return VerifyOptions(
        random_starts=arguments.random_starts or 0,
        method=arguments.method,
        prove=arguments.prove,
        prove_seconds=arguments.seconds or 60.0,
        seed=arguments.seed,
        worth=arguments.worth,
        rounding=numbers("--makeable", arguments.makeable),
        reference=_reference(arguments),
        told=told,
        confirm=arguments.confirm,
    )


def _reference(arguments: argparse.Namespace) -> Reference | None:
    from ilvren.errors import RequestError
    from ilvren.judge import TOLERANCE, Reference, read_reference

    if not arguments.reference and not arguments.reference_file:
        if arguments.reference_tolerance is not None:
            raise RequestError("--reference-tolerance needs --reference or --reference-file")
        return None
    tolerance = TOLERANCE if arguments.reference_tolerance is None else arguments.reference_tolerance
    if not 0.0 < tolerance < float("inf"):
        raise RequestError(f"--reference-tolerance must be a number above 0, not {tolerance:g}")
    columns, first = read_reference(arguments.reference_file) if arguments.reference_file else ({}, "")
    return Reference(numbers("--reference", arguments.reference), columns, first, tolerance)


def _recorded(verdict: Verdict, path: str) -> Verdict:
    """Record the better design as a run, where a search that was asked for found it."""
    from ilvren.judge import ASKED_FOR, record_better

    failed = {check.name for check in verdict.checks if check.result == "fail"}
    if verdict.verdict != "improvable" or not failed & ASKED_FOR:
        return verdict
    from ilvren.ledger import Ledger

    ledger: Ledger
    with Ledger(path) as ledger:
        return record_better(verdict, ledger)
