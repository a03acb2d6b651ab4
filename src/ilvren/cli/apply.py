"""`ilvren apply`: a design written into decks, into the starts, or into another problem as its parameters."""

from __future__ import annotations

import argparse
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ilvren.cli import status
from ilvren.cli.arguments import add_ledger, add_output_flags, ledger_path, numbers
from ilvren.errors import MachineError, RequestError
from ilvren.printable import CellWriter

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.ledger import Ledger
    from ilvren.problem import Problem
    from ilvren.runs import Addressed, ReturnedValue, WrittenFile

EXAMPLES = """examples:
  ilvren apply last --dry-run
  ilvren apply r1:46 --into chosen --starts
  ilvren apply r3 --parameters duty.toml
"""

# A value comes back when it deviates by no more than this share.
COMES_BACK = 1e-9
MOST_LINES, MOST_VALUES = 200, 40


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument("run", metavar="RUN[:N]", help='a run (its reported design) or a design of it: "r7:12"')
    parser.add_argument("--into", metavar="FOLDER", help="write the decks, and what they need, there instead")
    parser.add_argument("--starts", action="store_true", help="also make the design the problem file's starts")
    parser.add_argument(
        "--parameters",
        metavar="FILE",
        help="make the design's variables the parameters of the same names in another problem file, such as the"
        " estimates of a fit in what is designed with them",
    )
    parser.add_argument("--dry-run", action="store_true", help="show what would change, write and run nothing")
    parser.add_argument(
        "--makeable",
        metavar="NAME=STEP",
        action="append",
        default=[],
        help="first the best design near it with this variable on multiples of a step (repeatable)",
    )
    parser.add_argument(
        "--as-now", action="store_true", help="take files of models as they are now, though changed since"
    )
    add_ledger(parser)
    add_output_flags(parser)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command and return its exit status. Raises InputError for what a user can mend."""
    from ilvren.cli.files import read_ledger
    from ilvren.runs import (
        addressed,
        decks_at,
        parameters_at,
        problem_of,
        recorded_quantities,
        refuse_changed,
        starts_at,
    )

    with read_ledger(ledger_path(arguments.ledger)) as ledger:
        found = addressed(ledger, arguments.run)
        problem = problem_of(found.record)
        refuse_changed(found.record, problem, as_now=arguments.as_now)
        point, told = found.point, ""
        if arguments.makeable:
            point, told = _makeable(arguments, ledger, found)
        written = partial(_write, arguments=arguments, terminal=terminal, found=found, problem=problem, point=point)
        into = None if arguments.into is None else Path(arguments.into)
        if arguments.parameters is not None:
            _refuse_with_parameters(arguments)
            file, others = parameters_at(problem, point, Path(arguments.parameters))
            told += f"; no parameter there: {', '.join(others)}" if others else ""
            return written(told=told, files=[file], inputs=None, recorded={}, into=None)
        files, inputs = decks_at(problem, point, ledger, found.record, into)
        if into is not None and not files:
            raise RequestError(
                f"--into {arguments.into}: nothing goes there, as no program of this problem has decks",
                advice="--starts writes the design into the problem file where it is",
            )
        if arguments.starts:
            files.append(starts_at(problem, point, Path(found.record.problem_file)))
            if problem.is_collocated:
                told += "; what is chosen at every moment has no start in the file: `run FILE --from` begins with it"
        if not files:
            raise RequestError(
                f"{found.address} has nothing to write: its problem has no programs with decks",
                advice="--starts makes the design the problem file's starts",
            )
        recorded = {} if arguments.makeable else recorded_quantities(problem, point, ledger, found.record)
    return written(told=told, files=files, inputs=inputs, recorded=recorded, into=into)


def _refuse_with_parameters(arguments: argparse.Namespace) -> None:
    for flag, given in (("--into", arguments.into), ("--starts", arguments.starts)):
        if given:
            raise RequestError(f"{flag} does not go with --parameters", advice="leave one of them out")


def _makeable(arguments: argparse.Namespace, ledger: Ledger, found: Addressed) -> tuple[tuple[float, ...], str]:
    """Return the best design on steps near the one addressed, and what is said of it."""
    from ilvren.judge import case_of_record, rounding_near

    case = case_of_record(ledger, found.address, None, False, as_now=arguments.as_now)
    made = rounding_near(case, numbers("--makeable", arguments.makeable))
    if not made.variables:
        raise RequestError(
            f"no feasible design on these steps among {made.tried} tried near {found.address}",
            advice="smaller steps, or without --makeable",
        )
    return tuple(made.variables.values()), f" on steps, the best of {made.tried} tried"


def _write(
    *,
    arguments: argparse.Namespace,
    terminal: Terminal,
    found: Addressed,
    told: str,
    problem: Problem,
    point: tuple[float, ...],
    files: list[WrittenFile],
    inputs: dict[int, Any] | None,
    recorded: dict[str, Any],
    into: Path | None,
) -> int:
    from ilvren.cli.outcome import show_confirmation
    from ilvren.runs import CONFIRMED, confirmed, copy_along, returned_values, write_files

    kept: dict[Path, Path | None] = {}
    copied: list[str] = []
    values: list[ReturnedValue] = []
    sheet = confirmation = None
    if not arguments.dry_run:
        kept = write_files(files)
        if into is not None:
            copied = copy_along(problem, into)
        sheet = _sheet(files, into)
        if inputs is not None:  # not another problem's file
            values = returned_values(problem, inputs, files, recorded, into)
            feasibility = found.record.settings["feasibility"]
            assert isinstance(feasibility, float)
            confirmation = confirmed(problem, point, feasibility)
    if arguments.json:
        document = _document(found, files, kept, values, is_dry=arguments.dry_run)
        more = {} if confirmation is None else {"confirmation": confirmation.to_dict()}
        terminal.document(document | more)
    else:
        _show(terminal, found, told, files, kept, copied, sheet, values, is_dry=arguments.dry_run)
        if confirmation is not None:
            show_confirmation(confirmation, terminal)
    is_back = all(value.deviation is None or value.deviation <= COMES_BACK for value in values)
    is_confirmed = confirmation is None or confirmation.word == CONFIRMED
    return status.HOLDS if is_back and is_confirmed else status.DOES_NOT_HOLD


def _sheet(files: list[WrittenFile], into: Path | None) -> Path | None:
    """Write the changed values, before and after, beside the first file."""
    rows = [(file.path.name, *_cells(change)) for file in files for change in file.changes if file.is_changed]
    if not rows:
        return None
    path = (into or files[0].path.parent) / f"{files[0].path.name}.changes.csv"
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with path.open("w", newline="", encoding="utf-8") as stream:
            writer = CellWriter(stream)
            writer.writerow(("file", "name", "before", "after", "unit"))
            writer.writerows(rows)
    except OSError as error:
        raise MachineError(f"{path} cannot be written: {error.strerror or error}") from None
    return path


def _cells(change: Any) -> tuple[str, str, str, str]:
    return change.name, "" if change.before is None else str(change.before), str(change.after), change.unit


def _document(
    found: Addressed,
    files: list[WrittenFile],
    kept: dict[Path, Path | None],
    values: list[ReturnedValue],
    *,
    is_dry: bool,
) -> dict[str, object]:
    return {
        "design": found.address,
        "dry_run": is_dry,
        "written": {
            str(file.path): {
                "changed": file.is_changed,
                "kept": str(kept[file.path]) if kept.get(file.path) else None,
                "values": [
                    {"name": one.name, "before": one.before, "after": one.after, "unit": one.unit}
                    for one in file.changes
                ],
                "diff": file.diff(),
            }
            for file in files
        },
        "values": {value.name: value.value for value in values},
        "deviation": {value.name: value.deviation for value in values},
    }


def _show(
    terminal: Terminal,
    found: Addressed,
    told: str,
    files: list[WrittenFile],
    kept: dict[Path, Path | None],
    copied: list[str],
    sheet: Path | None,
    values: list[ReturnedValue],
    *,
    is_dry: bool,
) -> None:
    from rich.text import Text

    from ilvren.cli.tables.blocks import value_text
    from ilvren.cli.tables.table import small, table

    terminal.show(Text(f"design {found.address}{told}", style="bold"))
    for file in files:
        _show_file(terminal, file, kept, is_dry=is_dry)
    changed = [file for file in files if file.is_changed]
    changes = list(dict.fromkeys(one for file in changed for one in file.changes if one.before != one.after))
    if changes:
        rows = [
            (one.name, "–" if one.before is None else _told(one.before), _told(one.after), one.unit)
            for one in changes[:MOST_VALUES]
        ]
        terminal.show(table(("quantity", ">before", ">after", "unit"), rows))
        more = f"and {len(changes) - MOST_VALUES} more; " if len(changes) > MOST_VALUES else ""
        if sheet is not None:
            terminal.show(f"{more}all in {_near(sheet)}")
    if copied:
        terminal.show(f"copied along: {', '.join(copied)}")
    if is_dry:
        terminal.show("nothing was written or run; without --dry-run it is")
        return
    if values:
        returned = [
            (
                value.name,
                value_text(value.value),
                "–" if value.recorded is None else value_text(value.recorded),
                value.unit,
                "not on record" if value.deviation is None else _comes_back(value.deviation, small(value.deviation)),
            )
            for value in values
        ]
        terminal.show("", Text("run again from the written files", style="bold"))
        terminal.show(table(("quantity", ">now", ">on record", "unit", "note"), returned))


def _told(value: float | str) -> str:
    from ilvren.cli.tables.table import number

    return value if isinstance(value, str) else number(value, 9)


def _comes_back(deviation: float, told: str) -> str:
    return "comes back" if deviation <= COMES_BACK else f"off by {told}"


def _near(path: Path) -> Path:
    """Return a path as it is seen from here."""
    here = Path.cwd()
    return path.relative_to(here) if path.is_absolute() and path.is_relative_to(here) else path


def _show_file(terminal: Terminal, file: WrittenFile, kept: dict[Path, Path | None], *, is_dry: bool) -> None:
    from rich.text import Text

    copy, path = kept.get(file.path), _near(file.path)
    if not file.is_changed:
        terminal.show(f"{path}: is so already")
        return
    verb = "would be" if is_dry else "is"
    what = f"{verb} new" if file.before is None else f"{verb} changed" + (f"; as it was: {_near(copy)}" if copy else "")
    terminal.show(f"{path}: {what}")
    if file.before is None:
        return
    lines = file.diff()
    for line in lines[:MOST_LINES]:
        style = "green" if line.startswith("+") else "red" if line.startswith("-") else "dim"
        terminal.show(Text(f"  {line}", style=style))
    if len(lines) > MOST_LINES:
        terminal.show(f"  and {len(lines) - MOST_LINES} more lines")
