"""`ilvren designs`: every design that runs have evaluated, ranked, filtered and sorted."""

from __future__ import annotations

import argparse
import time
from typing import TYPE_CHECKING

from ilvren.cli import status
from ilvren.cli.arguments import add_ledger, add_output_flags, ledger_path

if TYPE_CHECKING:
    from rich.table import Table

    from ilvren.cli.terminal import Terminal
    from ilvren.explore import DesignTable
    from ilvren.ledger import RunRecord

EXAMPLES = """examples:
  ilvren designs r1 r2 --keep "cost <= 130000" --top 10
  ilvren designs last --output designs.html
  ilvren designs last --sort hoop --columns cost,hoop,speed
"""

SUFFIXES = (".csv", ".json", ".html", ".png", ".svg")
# Rows and columns that a terminal shows without being asked.
MOST_ROWS, MOST_COLUMNS = 20, 8
# Designs of a front that are drawn.
MOST_DRAWN = 150
FOLLOW_SECONDS = 1.0


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument("run", metavar="RUN|GROUP", nargs="+", help="runs or groups: ids, labels, last")
    parser.add_argument(
        "--keep",
        metavar="CONDITION",
        action="append",
        default=[],
        help='only designs that meet it, such as "stress <= 150" (any names of the problem; repeatable)',
    )
    parser.add_argument("--sort", metavar="NAME", help="order by a variable, value, violation (by rank)")
    parser.add_argument("--descending", action="store_true", help="the largest first")
    parser.add_argument("--top", type=int, metavar="N", help=f"the first N (on a terminal {MOST_ROWS})")
    parser.add_argument("--columns", metavar="NAME[,NAME]", help="what to show of each design")
    parser.add_argument(
        "--output",
        metavar="FILE",
        help="write .csv or .json, a page to sort, filter and pick from (.html), or a figure (.png, .svg)",
    )
    parser.add_argument(
        "--figure",
        choices=("parallel", "pairs", "effects", "front"),
        help="the figure of --output: parallel coordinates (default), pairs of quantities, averages along each"
        " variable (main effects), or of several objectives the front with what holds it",
    )
    parser.add_argument("--follow", action="store_true", help="show the designs as they come while a run goes on")
    add_ledger(parser)
    add_output_flags(parser)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command and return its exit status. Raises InputError for what a user can mend."""
    from ilvren.cli.files import check_suffix
    from ilvren.errors import RequestError

    if arguments.top is not None and arguments.top < 1:
        raise RequestError(f"--top must be at least 1, not {arguments.top}")
    if arguments.output:
        suffix = check_suffix(arguments.output, SUFFIXES)
        if arguments.figure and suffix not in (".png", ".svg"):
            raise RequestError("--figure is for an --output that is a picture: .png or .svg")
    elif arguments.figure:
        raise RequestError("--figure needs --output FILE.png")
    if arguments.follow:
        if arguments.json or arguments.output:
            raise RequestError("--follow shows designs as they come", advice="leave out --json and --output")
        return _follow(arguments, terminal)
    table = _read(arguments)
    names = _columns(arguments, table)
    if table.is_mixed:
        terminal.note("note: these runs had different parameters (--set): each design is told under those of its run")
    if arguments.output:
        _write(table, arguments, names, terminal)
    if arguments.json:
        terminal.document(table.to_dict())
    elif not arguments.output:
        shown = arguments.top or (MOST_ROWS if terminal.out.isatty() else len(table.designs))
        if table.designs:
            terminal.show(_table(table, names, shown))
        _show_counts(table, terminal, min(shown, len(table.designs)))
    return status.HOLDS


def _read(arguments: argparse.Namespace) -> DesignTable:
    from ilvren.cli.files import read_ledger, recorded_ledger
    from ilvren.explore import designs_of

    with read_ledger(recorded_ledger(ledger_path(arguments.ledger))) as ledger:
        return designs_of(
            ledger,
            arguments.run,
            keep=arguments.keep,
            sort=arguments.sort,
            descending=arguments.descending,
            top=arguments.top,
        )


def _columns(arguments: argparse.Namespace, table: DesignTable) -> list[str]:
    """Return the names asked for; else those that fit a terminal, or for files all."""
    if arguments.columns:
        names = [name.strip() for name in arguments.columns.split(",") if name.strip()]
        for name in names:
            table.column(name)  # raises RequestError for an unknown name
        return names
    problem = table.problem
    if arguments.output:
        return table.names
    free = [problem.variables[place].name for place in problem.free]
    objective = table.objectives
    rows = [block.name for block in problem.row_blocks if not block.shape and not block.is_objective]
    return [*objective, *free[: MOST_COLUMNS - 2], *rows][:MOST_COLUMNS]


def _table(table: DesignTable, names: list[str], most: int) -> Table:
    from ilvren.cli.tables.table import small, table as framed

    units = table.units
    columns = {name: table.column(name) for name in names}
    heads = (
        "design",
        ">rank",
        *(f">{name} [{units[name]}]" if units.get(name) else f">{name}" for name in names),
        ">violation",
        "note",
    )
    rows = [
        (
            design.address,
            str(design.rank),
            *(_cell(table.told(name, float(columns[name][place]))) for name in names),
            small(design.violation),
            design.note,
        )
        for place, design in enumerate(table.designs[:most])
    ]
    return framed(heads, rows)


def _cell(value: float | str) -> str:
    from ilvren.cli.tables.table import number

    return value if isinstance(value, str) else number(value)


def _show_counts(table: DesignTable, terminal: Terminal, shown: int) -> None:
    kept = len(table.designs)
    feasible = table.counts["feasible"]
    told = f"{shown} shown of {table.total}" if shown < table.total else f"{table.total} designs"
    terminal.show(f"{told}; {feasible} of all meet the limits" if table.total else "no designs")
    if table.is_staged:
        terminal.show("left out: designs of earlier stages, whose values other parameters, scenarios or grids decided")
    if table.thinned:
        terminal.show(f"{table.thinned} more were evaluated; their long vectors were not kept")
    if kept > shown:
        terminal.show("--top N shows more, --output FILE.html all, to sort, filter and pick from")
    if table.designs:
        terminal.show(f"next: ilvren show {table.designs[0].address}")


def _write(table: DesignTable, arguments: argparse.Namespace, names: list[str], terminal: Terminal) -> None:
    import json
    from pathlib import Path

    path = arguments.output
    suffix = Path(path).suffix.lower()
    if suffix == ".json":
        Path(path).write_text(json.dumps(table.to_dict(), indent=1) + "\n", encoding="utf-8")
    elif suffix == ".csv":
        _write_csv(table, names, path)
    elif not table.designs:
        from ilvren.errors import RequestError

        raise RequestError("no design is left to draw", advice="ask for less with --keep")
    elif suffix == ".html":
        from ilvren.draw.designs import write_designs_page

        write_designs_page(table, path, names)
    elif arguments.figure == "front":
        _draw_front(table, path)
    else:
        from ilvren.draw.designs import draw_effects, draw_pairs, draw_parallel

        drawing = {"pairs": draw_pairs, "effects": draw_effects}.get(arguments.figure, draw_parallel)
        drawing(table, names, path)
    terminal.note(f"{path}: {len(table.designs)} designs of {', '.join(table.runs[:6])}")


def _draw_front(table: DesignTable, path: str) -> None:
    """Draw the designs of the table that nothing in it dominates, and what limits hold them."""
    import numpy as np

    from ilvren.algebra import spread_subset
    from ilvren.draw import DrawnFront, draw_front
    from ilvren.errors import RequestError
    from ilvren.explore import held_by
    from ilvren.problem import sense_of

    sense = sense_of(table.problem)
    if sense is None:
        raise RequestError("--figure front is for several objectives", advice="--figure parallel shows any designs")
    values = np.array([table.column(name) for name in sense.names]).T
    front = np.array([place for place, design in enumerate(table.designs) if design.layer == 1], dtype=np.int64)
    if not len(front):
        raise RequestError("none of these designs is on the front: they miss limits, or --keep left others")
    chosen = front[spread_subset(values[front] * sense.signs, MOST_DRAWN)]
    rest = [p for p, design in enumerate(table.designs) if design.layer is not None and design.layer > 1]
    runs = ", ".join(table.runs[:4]) + (" …" if len(table.runs) > 4 else "")
    title = f"{table.problem.title or table.problem.source.file}: front of {runs}"
    title += f" ({len(chosen)} of {len(front)} designs)" if len(chosen) < len(front) else f" ({len(front)} designs)"
    addresses = [table.designs[place].address for place in chosen]
    drawn = DrawnFront(title, sense, values[chosen], addresses, values[rest], held_by(table, chosen.tolist()))
    draw_front(drawn, path)


def _write_csv(table: DesignTable, names: list[str], path: str) -> None:
    import math
    from pathlib import Path

    from ilvren.printable import CellWriter, apart_from

    columns = {name: table.column(name).tolist() for name in names}
    with Path(path).open("w", newline="", encoding="utf-8") as file:
        writer = CellWriter(file)
        taken, problem = ("design", "rank", "violation", "trouble"), table.problem
        kinds = dict.fromkeys(table.objectives, "objective") | {own.name: "variable" for own in problem.variables}
        heads = [head for name in names for head in apart_from(taken, [name], kinds.get(name, "value"))]
        writer.writerow([*taken[:2], *heads, *taken[2:]])
        words = {variable.name: variable for variable in table.problem.variables if variable.words}
        for place, design in enumerate(table.designs):
            values = {name: columns[name][place] for name in names}
            own = [
                "" if math.isnan(value) else words[name].shown(value) if name in words else repr(value)
                for name, value in values.items()
            ]
            violation = repr(design.violation) if math.isfinite(design.violation) else ""
            writer.writerow([design.address, design.rank, *own, violation, design.trouble])


def _follow(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Show the best designs, refreshed in place, until the runs have ended; without a terminal a line for each."""
    from rich.console import Group
    from rich.live import Live
    from rich.text import Text

    from ilvren.cli.tables.table import number, small

    seen = 0
    live = Live(console=terminal.error_console, transient=True, auto_refresh=False) if terminal.is_live else None
    try:
        if live is not None:
            live.start()
        while True:
            goes_on = _goes_on(arguments)
            table = _read(arguments)
            if live is not None:
                names = _columns(arguments, table)
                told = Text(f"{table.total} designs so far; Ctrl-C stops watching, the run goes on")
                live.update(Group(told, _table(table, names, arguments.top or MOST_ROWS)), refresh=True)
            elif table.total > seen:
                fresh = [design for design in table.designs if int(design.address.rpartition(":")[2]) > seen]
                fresh.sort(key=lambda design: int(design.address.rpartition(":")[2]))
                for design in fresh if len(table.runs) == 1 else ():
                    terminal.show(f"{design.address}  {number(design.objective)}  violation {small(design.violation)}")
                seen = table.total
            if not goes_on:
                break
            time.sleep(FOLLOW_SECONDS)
    except KeyboardInterrupt:
        return status.INTERRUPTED
    finally:
        if live is not None:
            live.stop()
    table = _read(arguments)
    shown = arguments.top or MOST_ROWS
    terminal.show(_table(table, _columns(arguments, table), shown))
    _show_counts(table, terminal, min(shown, len(table.designs)))
    return status.HOLDS


def _goes_on(arguments: argparse.Namespace) -> bool:
    from ilvren.cli.files import read_ledger

    with read_ledger(ledger_path(arguments.ledger)) as ledger:
        records: list[RunRecord] = []
        for reference in arguments.run:
            if ledger.is_group(reference):
                records += ledger.group_runs(ledger.group(reference)).values()
            else:
                records.append(ledger.run(reference))
        return any(ledger.is_alive(record) for record in records)
