"""`ilvren sensitivity`: what drives what, at a design or over the box, with how far that is to be trusted."""

from __future__ import annotations

import argparse
import math
from typing import TYPE_CHECKING, Any

from ilvren.cli import status
from ilvren.cli.arguments import add_ledger, add_output_flags, add_set, add_workers, ledger_path, values_by_name
from ilvren.errors import RequestError

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.explore.sensitivity import Driver, Sensitivity
    from ilvren.ledger import ApproximationRecord
    from ilvren.problem import Problem

EXAMPLES = """examples:
  ilvren sensitivity pipe.toml
  ilvren sensitivity pipe.toml --kind variance --of cost --output shares.png
  ilvren sensitivity pipe.toml --kind elementary-effects --evaluations 60
  ilvren sensitivity as-made.toml --by scatter --of hoop
  ilvren sensitivity r1 --keep "cost <= 140000"
  ilvren sensitivity pipe.toml --kind variance --fix-below 0.02 --output reduced.toml
"""

KINDS = ("elasticities", "elementary-effects", "variance", "correlation")
# Outputs and variables that a terminal shows of each.
MOST_OUTPUTS, MOST_DRIVERS = 6, 12
BAR = 24
SUFFIXES = (".png", ".svg", ".csv", ".toml")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument(
        "target",
        metavar="FILE|RUN|APPROXIMATION",
        nargs="+",
        help="a problem; runs, for correlations over their designs; or an approximation, for shares on it (a1)",
    )
    parser.add_argument(
        "--kind",
        choices=KINDS,
        help="elasticities at a design (default for a file), elementary-effects, variance; correlation (of runs)",
    )
    parser.add_argument(
        "--by",
        choices=("bounds", "scatter"),
        help="inputs uniform between their bounds (default), or as the file's [scatter] says, around --at",
    )
    parser.add_argument("--of", metavar="NAME[,NAME]", help="the outputs looked at (default: all)")
    parser.add_argument(
        "--at", metavar="NAME=VALUE|DESIGN", action="append", default=[], help="the design of elasticities"
    )
    parser.add_argument("--evaluations", type=int, metavar="N", help="how many designs may be evaluated")
    parser.add_argument("--seed", type=int, default=0, metavar="N", help="of the designs (default 0)")
    parser.add_argument(
        "--ranks",
        choices=("numbers", "ranks", "partial"),
        help="correlate numbers, their ranks (default), or ranks with the other variables taken out",
    )
    parser.add_argument(
        "--keep", metavar="CONDITION", action="append", default=[], help="only designs of runs that meet it"
    )
    parser.add_argument(
        "--fix-below",
        type=float,
        metavar="SHARE",
        help="variables that matter less for every output; --output FILE.toml fixes them",
    )
    parser.add_argument(
        "--output", metavar="FILE", help="bars as .png or .svg, numbers as .csv, the reduced problem as .toml"
    )
    add_set(parser)
    add_workers(parser)
    parser.add_argument("--label", metavar="WORD", help="a name for the run that holds the designs")
    add_ledger(parser)
    add_output_flags(parser)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command and return its exit status. Raises InputError for what a user can mend."""
    from ilvren.cli.files import check_suffix

    suffix = check_suffix(arguments.output, SUFFIXES) if arguments.output else ""
    share = arguments.fix_below
    if share is not None and not 0.0 < share < 1.0:
        raise RequestError(f"--fix-below must lie between 0 and 1, not {share:g}")
    if suffix == ".toml" and share is None:
        raise RequestError(
            "--output .toml writes the problem with variables fixed", advice="with --fix-below 0.02, say"
        )
    if arguments.evaluations is not None and arguments.evaluations < 1:
        raise RequestError(f"--evaluations must be at least 1, not {arguments.evaluations}")
    is_file = arguments.target[0].endswith(".toml")
    if is_file and len(arguments.target) > 1:
        raise RequestError("one problem at a time")
    on = None if is_file else _on(arguments)
    if arguments.by == "scatter":
        _check_by_scatter(arguments, is_file=is_file)
        arguments.kind = "variance"
    kind = arguments.kind or ("elasticities" if is_file else "variance" if on is not None else "correlation")
    if share is not None and kind not in ("variance", "elementary-effects"):
        raise RequestError(
            f"--fix-below: {kind} cannot say that a variable does not matter: it may elsewhere, or both ways alike",
            advice="--kind variance or elementary-effects looks over the whole box",
        )
    if not is_file and on is None and kind != "correlation":
        raise RequestError(f"--kind {kind} is of a problem: name its file", advice="of runs: --kind correlation")
    problem = None
    if is_file:
        problem = _loaded(arguments, terminal)
        found = _of_problem(arguments, terminal, problem, kind)
    elif on is not None:
        problem, found = _of_approximation(arguments, terminal, on, kind)
    else:
        found = _of_runs(arguments)
    if arguments.json:
        terminal.document(found.to_dict() | _fixed_document(found, share))
    else:
        _show(terminal, found)
    if share is not None:
        _fix(arguments, terminal, found, problem, suffix)
    if arguments.output and suffix != ".toml":
        _write(found, arguments.output, suffix, terminal)
    return status.HOLDS


def _check_by_scatter(arguments: argparse.Namespace, *, is_file: bool) -> None:
    if not is_file:
        raise RequestError("--by scatter is of a problem: name its file", advice="--at r7 says around which design")
    if arguments.kind not in (None, "variance"):
        raise RequestError(f"--by scatter tells shares of the variance, not {arguments.kind}", advice="--kind variance")
    if arguments.fix_below is not None:
        raise RequestError(
            "--fix-below: what hardly scatters may matter all the same", advice="--by bounds looks over the whole box"
        )


def _on(arguments: argparse.Namespace) -> ApproximationRecord | None:
    """Return the approximation that is named, None for any other target."""
    from pathlib import Path

    from ilvren.cli.files import read_ledger

    path = ledger_path(arguments.ledger)
    if len(arguments.target) != 1 or arguments.target[0].endswith(".toml") or not Path(path).is_file():
        return None
    with read_ledger(path) as ledger:
        name = arguments.target[0]
        return ledger.approximation(name) if ledger.is_approximation(name) else None


def _of_approximation(
    arguments: argparse.Namespace, terminal: Terminal, record: ApproximationRecord, kind: str
) -> tuple[Problem, Sensitivity]:
    """Return the problem that was approximated, and the sensitivities on the approximation, its errors with them."""
    from ilvren.cli.files import read_ledger
    from ilvren.explore.sensitivity import with_errors
    from ilvren.problem import on_document
    from ilvren.runs import problem_of

    with read_ledger(ledger_path(arguments.ledger)) as ledger:
        problem = problem_of(ledger.run(record.runs[0]))
    predicted = on_document(problem, record.document)
    if predicted.sources:
        names = ", ".join(source.name for source in predicted.sources)
        raise RequestError(
            f"{record.id} has not all outputs of {names}: for the others the model would be called thousands of times",
            advice=f"`ilvren approximate {' '.join(record.runs)}` without --of learns all",
        )
    terminal.note(f"on {record.id}: predicted, not evaluated")
    found = _of_problem(arguments, terminal, predicted, kind)
    return problem, with_errors(found, record)


def _loaded(arguments: argparse.Namespace, terminal: Terminal) -> Problem:
    from ilvren.problem import Aim, load, scalarized

    problem = load(arguments.target[0], set=values_by_name("--set", arguments.set))
    if len(problem.objectives) > 1:
        problem = scalarized(problem, Aim(only=problem.objectives[0].name))
    return problem


def _names(arguments: argparse.Namespace) -> list[str]:
    return [name.strip() for name in (arguments.of or "").split(",") if name.strip()]


def _of_problem(arguments: argparse.Namespace, terminal: Terminal, problem: Problem, kind: str) -> Sensitivity:
    from ilvren.cli.progress import progress_of
    from ilvren.explore.sensitivity import elasticities_at, study
    from ilvren.ledger import Ledger
    from ilvren.runs import check_workers

    if kind == "correlation":
        raise RequestError("correlations are over designs on record", advice="`ilvren sample FILE`, then name the run")
    if arguments.keep:
        raise RequestError("--keep chooses among designs of runs")
    if kind == "elasticities":
        if arguments.evaluations is not None:
            raise RequestError("--evaluations: elasticities take one design and its derivatives")
        return elasticities_at(problem, _design(arguments, problem), of=_names(arguments))
    if arguments.at and arguments.by != "scatter":
        raise RequestError(f"--at: {kind} is over the whole box", advice="--kind elasticities is at a design")
    if arguments.workers is not None:
        check_workers(arguments.workers)
    progress = progress_of(problem, terminal, limits=(arguments.evaluations, None))
    with Ledger(ledger_path(arguments.ledger)) as ledger:
        for note in ledger.notes:
            terminal.note(note)
        try:
            if arguments.by == "scatter":
                from ilvren.explore.scatter import shares_by_scatter

                return shares_by_scatter(
                    problem,
                    _design(arguments, problem),
                    evaluations=arguments.evaluations,
                    seed=arguments.seed,
                    of=_names(arguments),
                    ledger=ledger,
                    label=arguments.label,
                    workers=arguments.workers,
                    listener=progress,
                )
            return study(
                problem,
                kind,
                evaluations=arguments.evaluations,
                seed=arguments.seed,
                of=_names(arguments),
                ledger=ledger,
                label=arguments.label,
                workers=arguments.workers,
                listener=progress,
            )
        finally:
            progress.close()


def _design(arguments: argparse.Namespace, problem: Problem) -> Any:
    from ilvren.cli.files import read_ledger
    from ilvren.problem import load
    from ilvren.runs import addressed

    if not arguments.at:
        return problem.start
    if len(arguments.at) == 1 and "=" not in arguments.at[0]:
        with read_ledger(ledger_path(arguments.ledger)) as ledger:
            found = addressed(ledger, arguments.at[0])
            if len(found.point) != problem.size:
                raise RequestError(f"{arguments.at[0]} is a design of another problem")
            return found.point
    own = load(
        arguments.target[0], set=values_by_name("--set", arguments.set), start=values_by_name("--at", arguments.at)
    )
    return own.start


def _of_runs(arguments: argparse.Namespace) -> Sensitivity:
    from ilvren.cli.files import read_ledger, recorded_ledger
    from ilvren.explore.sensitivity import of_designs

    for flag, value in (("--at", arguments.at), ("--set", arguments.set), ("--evaluations", arguments.evaluations)):
        if value:
            raise RequestError(f"{flag} is for a problem file; correlations are over the designs that runs have")
    with read_ledger(recorded_ledger(ledger_path(arguments.ledger))) as ledger:
        way = arguments.ranks or "ranks"
        return of_designs(ledger, arguments.target, way=way, of=_names(arguments), keep=arguments.keep)


def _show(terminal: Terminal, found: Sensitivity) -> None:
    from rich.text import Text

    from ilvren.cli.tables.table import table as framed

    where = f" ({found.run}, {found.evaluations:,} designs)" if found.run else ""
    terminal.show(Text(f"{found.kind}{where}", style="bold"), "")
    for note in found.notes:
        terminal.show(note)
    for name, drivers in list(found.of.items())[:MOST_OUTPUTS]:
        unit = found.units.get(name, "")
        head = f"{name} [{unit}]" if unit else name
        order = sorted(drivers, key=lambda driver: -driver.size if math.isfinite(driver.size) else math.inf)
        rows, heads = _rows(found.kind, head, order[:MOST_DRIVERS])
        terminal.show(framed(heads, rows))
        if len(order) > MOST_DRIVERS:
            terminal.show(f"and {len(order) - MOST_DRIVERS} variables that matter less (--json lists all)")
    left = len(found.of) - MOST_OUTPUTS + found.skipped
    if left > 0:
        terminal.show(f"and {left} more outputs; --of NAME shows them")
    terminal.show(BY_SCATTER if found.by == "scatter" else MEANS[found.kind])


BY_SCATTER = "shares of the output's variance, inputs scattering around the design as [scatter] says; 95 % intervals"
MEANS = {
    "elasticities": "share: per cent of the output for one per cent of the variable; at this design alone",
    "elementary-effects": "size: the mean |effect| over a variable's range; deviation: it bends, or works with others",
    "variance": "shares of the output's variance, variables being uniform between their bounds; 95 % intervals",
    "correlation": "between ranks, unless --ranks says otherwise; 95 % intervals; no cause is told by it",
}


def _rows(kind: str, head: str, drivers: list[Driver]) -> tuple[list[tuple[Any, ...]], tuple[str, ...]]:
    from ilvren.cli.tables.table import number

    largest = max((driver.size for driver in drivers if math.isfinite(driver.size)), default=0.0)
    scale = max(largest, 1e-300) if kind in ("elasticities", "elementary-effects") else 1.0
    rows: list[tuple[Any, ...]] = []
    for driver in drivers:
        n = driver.numbers
        bar = _bar(driver.size / scale) if math.isfinite(driver.size) else ""
        if kind == "elasticities":
            rows.append((driver.variable, number(n["value"], 3), number(n["per_unit"], 4), bar))
        elif kind == "elementary-effects":
            span = f"{number(n['low'], 3)} .. {number(n['high'], 3)}"
            rows.append(
                (
                    driver.variable,
                    number(n["mean_absolute"], 3),
                    span,
                    number(n["mean"], 3),
                    number(n["deviation"], 3),
                    bar,
                )
            )
        elif kind == "variance":
            rows.append(
                (
                    driver.variable,
                    number(n["first"], 2),
                    _span(n, "first_"),
                    number(n["total"], 2),
                    _span(n, "total_"),
                    bar,
                )
            )
        else:
            rows.append((driver.variable, number(n["value"], 2), _span(n, ""), bar))
    heads = {
        "elasticities": (head, ">share", ">change per unit", ""),
        "elementary-effects": (head, ">size", ">interval", ">mean", ">deviation", ""),
        "variance": (head, ">alone", ">interval", ">in all", ">interval", ""),
        "correlation": (head, ">correlation", ">interval", ""),
    }[kind]
    return rows, heads


def _span(numbers: Any, prefix: str) -> str:
    low, high = numbers[f"{prefix}low"], numbers[f"{prefix}high"]
    return f"{low:.2f} .. {high:.2f}" if math.isfinite(low) and math.isfinite(high) else "-"


def _bar(share: float) -> str:
    return "█" * max(0, min(BAR, round(BAR * share)))


def _fixed_document(found: Sensitivity, share: float | None) -> dict[str, object]:
    return {} if share is None else {"below": share, "negligible": found.negligible(share)}


def _fix(
    arguments: argparse.Namespace, terminal: Terminal, found: Sensitivity, problem: Problem | None, suffix: str
) -> None:
    names = found.negligible(arguments.fix_below)
    if not names:
        terminal.note(f"no variable is below {arguments.fix_below:g} for every output, as far as the intervals tell")
    else:
        terminal.note(f"below {arguments.fix_below:g} for every output looked at: {', '.join(names[:20])}")
    if suffix != ".toml":
        return
    if problem is None:
        raise RequestError("--output .toml needs the problem's file, not a run")
    from pathlib import Path

    from ilvren.runs import fixed_at

    if arguments.set:
        raise RequestError(
            "--set is not part of the file that would be written", advice="change the file, or leave --set out"
        )
    written, left = fixed_at(problem, names, Path(arguments.target[0]))
    target = Path(arguments.output)
    if target.exists() and target.resolve() == Path(arguments.target[0]).resolve():
        raise RequestError(f"{target} is the problem itself", advice="another name: nothing is lost then")
    target.write_text(written.after, encoding="utf-8")
    fixed = ", ".join(change.name for change in written.changes) or "nothing"
    terminal.note(f"{target}: {fixed} fixed at the start")
    if left:
        terminal.note(f"left free, being a part of a vector or not a table of its own: {', '.join(left[:8])}")
    if written.changes:
        terminal.note(f"what it costs: ilvren contest {target} {arguments.target[0]} --method automatic")


def _write(found: Sensitivity, path: str, suffix: str, terminal: Terminal) -> None:
    if suffix != ".csv":
        from ilvren.draw import draw_sensitivity

        draw_sensitivity(found, path)
        terminal.note(f"{path}: what drives {', '.join(list(found.of)[:4])}")
        return
    from pathlib import Path

    from ilvren.printable import CellWriter

    first = next(iter(found.of.values()), ())
    keys = list(first[0].numbers) if first else []
    with Path(path).open("w", newline="", encoding="utf-8") as file:
        writer = CellWriter(file)
        writer.writerow(["output", "variable", *keys])
        for name, drivers in found.of.items():
            for driver in drivers:
                writer.writerow([name, driver.variable, *(repr(float(driver.numbers[key])) for key in keys)])
    terminal.note(f"{path}: {len(found.of)} outputs")
