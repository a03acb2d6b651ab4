"""`ilvren simulate`: a design over time, as a table, a file or a figure."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ilvren.cli import status
from ilvren.cli.arguments import add_ledger, add_output_flags, ledger_path, values_by_name

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.judge import Response

EXAMPLES = """examples:
  ilvren simulate level-loop.toml --at gain=2 --output answer.png
  ilvren simulate level-loop.toml --at r3:1 --at r3 --signals level,valve --output answers.csv
"""
# Moments and names that a table on a terminal shows.
MOST_MOMENTS, MOST_NAMES = 21, 8


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument("file", metavar="FILE|DESIGN", help="the problem file, or a design on record: r7, r7:12, last")
    parser.add_argument(
        "--set", metavar="NAME=VALUE", action="append", default=[], help="replace a parameter's value (repeatable)"
    )
    parser.add_argument(
        "--at",
        metavar="NAME=VALUE|DESIGN",
        action="append",
        default=[],
        help="another design: values (repeatable), or designs on record such as r7:12 beside each other (repeatable)",
    )
    parser.add_argument("--signals", metavar="NAME[,NAME]", help="what to show of all that changes over time")
    parser.add_argument(
        "--time-tolerance", metavar="X", type=float, help="error of the states allowed, over their sizes (1e-4)"
    )
    parser.add_argument("--output", metavar="FILE", help="write all moments: .csv or .json, or a figure: .png or .svg")
    add_ledger(parser)
    add_output_flags(parser)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command and return its exit status. Raises InputError for what a user can mend."""
    from ilvren.cli.files import check_suffix
    from ilvren.judge import signal_names

    suffix = check_suffix(arguments.output, (".csv", ".json", ".png", ".svg")) if arguments.output else ""
    found = _responses(arguments, terminal)
    names = signal_names(found[0].problem, arguments.signals)
    document = _document(found, names)
    if arguments.json:
        terminal.document(document)
    else:
        _show(found, names, terminal)
    if suffix in (".png", ".svg"):
        from ilvren.draw import draw_responses

        draw_responses(found, names, arguments.output)
    elif suffix == ".csv":
        _write_csv(found, names, arguments.output)
    elif suffix == ".json":
        import json

        Path(arguments.output).write_text(json.dumps(document, indent=1) + "\n", encoding="utf-8")
    if suffix:
        told = ", ".join(response.label for response in found)
        terminal.note(f"{arguments.output}: {', '.join(names)} of {told}")
    return status.HOLDS if not any(response.trouble for response in found) else status.DOES_NOT_HOLD


def _responses(arguments: argparse.Namespace, terminal: Terminal) -> list[Response]:
    """Return the designs that are asked for: the file's own with values in place, and those on record."""
    import numpy as np

    from ilvren.cli.files import note_changed_file, note_changed_models, read_ledger
    from ilvren.errors import RequestError
    from ilvren.judge import point_at, response_at
    from ilvren.problem import Refinement, load
    from ilvren.runs import addressed, problem_of

    designs = [word for word in arguments.at if "=" not in word]
    values = values_by_name("--at", [word for word in arguments.at if "=" in word])
    is_file = arguments.file.endswith(".toml") or Path(arguments.file).exists()
    if not is_file:
        designs.insert(0, arguments.file)
        if arguments.set or arguments.time_tolerance is not None:
            raise RequestError(
                f'"{arguments.file}" is a design on record: it has its own parameters and tolerance',
                advice="name the problem file first, and designs with --at",
            )
    path = ledger_path(arguments.ledger)
    found: list[Response] = []
    problem = None
    if is_file:
        finely = Refinement(tolerance=arguments.time_tolerance)
        problem = load(arguments.file, set=values_by_name("--set", arguments.set), refinement=finely)
        if values or not designs:
            label = ", ".join(f"{name} = {value}" for name, value in values.items()) or "the start"
            found.append(response_at(problem, point_at(problem, values), label))
    if designs:
        if not is_file and not Path(path).exists():
            load(arguments.file)  # nothing is on record: what was meant is a file, and it is missing
        with read_ledger(path) as ledger:
            for word in designs:
                item = addressed(ledger, word)
                own = problem_of(item.record)
                point = np.array(item.point)
                if problem is not None:
                    own, point = problem, np.array(_moved(problem, own, item.point, item.address))
                elif word is designs[0]:
                    note_changed_file(item.record, terminal)
                    note_changed_models(item.record, own, terminal)
                if values and not is_file:
                    point = np.array(point_at(own.with_starts(point), values))
                found.append(response_at(own, point, item.address))
    return found


def _moved(problem: Any, own: Any, point: tuple[float, ...], address: str) -> tuple[float, ...]:
    """Return a design on record as one of this file's problem, by the names of the variables."""
    import numpy as np

    from ilvren.errors import RequestError
    from ilvren.judge import point_at
    from ilvren.problem import carried
    from ilvren.runs import by_block

    known = {block.name for block in problem.blocks}
    if own.is_collocated:
        return tuple(carried(own, np.array(point), problem).tolist())
    taken = {name: value for name, value in by_block(own.blocks, list(point)).items() if name in known}
    if not taken:
        raise RequestError(f"{address} has no variable of {problem.source.file}")
    return point_at(problem, taken)


def _document(found: list[Response], names: list[str]) -> dict[str, object]:
    """Return the JSON document: the first design's, and of several all."""
    times = {axis.t_name for response in found for axis in response.problem.template.built_axes}
    documents = []
    for response in found:
        own = response.to_dict()
        signals = own["signals"]
        assert isinstance(signals, dict)
        own["signals"] = {name: value for name, value in signals.items() if name in times or name in names}
        documents.append(own)
    title = found[0].problem.title or found[0].problem.source.file
    return {"problem": title, **documents[0], **({"designs": documents} if len(documents) > 1 else {})}


def _show(found: list[Response], names: list[str], terminal: Terminal) -> None:
    import numpy as np
    from rich.text import Text

    from ilvren.cli.tables.table import number, table
    from ilvren.cli.tables.time import error_line

    problem = found[0].problem
    units = {name: unit for told in problem.template.told_over_time for name, unit, _ in told}
    terminal.show(Text(problem.title or problem.source.file, style="bold"))
    for response in found:
        terminal.show("", Text(response.label, style="bold"))
        if response.trouble:
            terminal.show(f"cannot be simulated: {response.trouble}")
            continue
        for axis in problem.template.built_axes:
            own = [name for name in names if response.times.get(name) is response.signals[axis.t_name]]
            scalar = [name for name in own if response.signals[name].ndim == 1][:MOST_NAMES]
            if not scalar:
                continue
            t = response.signals[axis.t_name]
            places = np.unique(np.round(np.linspace(0, len(t) - 1, min(len(t), MOST_MOMENTS))).astype(int))
            heads = [f">{_with_unit(axis.t_name, units)}", *(f">{_with_unit(name, units)}" for name in scalar)]
            rows = [(number(t[k]), *(number(response.signals[name][k]) for name in scalar)) for k in places]
            terminal.show(table(heads, rows))
            left = len(own) - len(scalar)
            if left or len(places) < len(t):
                more = f"{len(places)} of {len(t)} moments" if len(places) < len(t) else ""
                others = f"{left} more names over time (--signals)" if left else ""
                terminal.show(f"{'; '.join(part for part in (more, others) if part)}; --output FILE.csv writes all")
        marks = [
            (mark.entry, f"{mark.function} of {mark.signal}", number(mark.value), _times_text(mark, units, problem))
            for mark in response.marks
        ]
        if marks:
            terminal.show(table(("measure", "of", ">value", "at"), marks))
        terminal.show(error_line(response.report))


def _times_text(mark: Any, units: dict[str, str], problem: Any) -> str:
    from ilvren.cli.tables.table import number

    unit = problem.template.built_axes[0].time.unit
    if not mark.times:
        return "not reached" if mark.function in ("rise_time", "settling_time") else ""
    return " to ".join(f"{number(time)} {unit}".rstrip() for time in mark.times)


def _with_unit(name: str, units: dict[str, str]) -> str:
    return f"{name} [{units[name]}]" if units.get(name) else name


def _write_csv(found: list[Response], names: list[str], path: str) -> None:
    """Write all moments, one line each; of several designs one below the other, with a column that says which."""
    import numpy as np

    from ilvren.printable import CellWriter, apart_from

    with Path(path).open("w", newline="", encoding="utf-8") as file:
        writer = CellWriter(file, lineterminator="\n")
        head: list[str] | None = None
        for response in found:
            for axis in response.problem.template.built_axes:
                own = [name for name in names if response.times.get(name) is response.signals[axis.t_name]]
                columns = [(axis.t_name, response.signals[axis.t_name])]
                for name in own:
                    value = response.signals[name]
                    if value.ndim == 1:
                        columns.append((name, value))
                        continue
                    flat = value.reshape(len(value), -1)
                    for k in range(flat.shape[1]):
                        place = ",".join(str(int(i)) for i in np.unravel_index(k, value.shape[1:]))
                        columns.append((f"{name}[{place}]", flat[:, k]))
                first = ["design"] if len(found) > 1 else []
                heads = first + apart_from(first, (name for name, _ in columns), "signal")
                if heads != head:
                    writer.writerow(heads)
                    head = heads
                for row in zip(*(values.tolist() for _, values in columns), strict=True):
                    writer.writerow([*([response.label] if len(found) > 1 else []), *map(repr, row)])
