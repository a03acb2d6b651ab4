"""`ilvren sample`: the designs of a plan, evaluated and recorded as a run."""

from __future__ import annotations

import argparse
import math
from typing import TYPE_CHECKING, Any

from ilvren.cli import status
from ilvren.cli.arguments import (
    add_ledger,
    add_output_flags,
    add_set,
    add_workers,
    ledger_path,
    values_by_name,
    words_by_name,
)
from ilvren.errors import RequestError

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.explore import DesignTable, Planned
    from ilvren.ledger import Ledger
    from ilvren.problem import Problem
    from ilvren.runs import RunResult

EXAMPLES = """examples:
  ilvren sample pipe.toml --plan latin-hypercube --points 40 --dry-run
  ilvren sample pipe.toml --points 40 --workers 2 --label first-look
  ilvren sample pipe.toml --csv my-designs.csv
  ilvren sample pipe.toml --csv readings.csv --measured
  ilvren sample first-look --more 20
  ilvren sample pipe.toml --at r3:17 --at r3:203
  ilvren sample pipe.toml --on a1 --points 4000
"""

DEFAULT_PLAN = "latin-hypercube"
# Designs of a preview, and of a result, that a terminal shows.
MOST_SHOWN, MOST_BEST = 10, 5
MOST_COLUMNS = 8


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument(
        "problem", metavar="FILE|RUN", nargs="?", help="a problem; or, with --more, a sample: its id, label or last"
    )
    parser.add_argument("--plan", metavar="NAME", help=f"the plan (default {DEFAULT_PLAN}; --list tells of all)")
    parser.add_argument("--points", type=int, metavar="N", help="how many designs (else as many as the plan suggests)")
    parser.add_argument(
        "--option", metavar="NAME=VALUE", action="append", default=[], help="an option of the plan (repeatable)"
    )
    parser.add_argument("--seed", type=int, default=0, metavar="N", help="of the plan's random numbers (default 0)")
    parser.add_argument("--feasible", action="store_true", help="keep to the limits that no model is needed for")
    parser.add_argument("--csv", metavar="FILE", help="designs of your own: a column for each variable, by its name")
    parser.add_argument(
        "--measured",
        action="store_true",
        help="with --csv: columns of models' outputs are values that were measured; nothing is called",
    )
    parser.add_argument(
        "--at", metavar="DESIGN", action="append", default=[], help="a design on record, such as r3:17 (repeatable)"
    )
    parser.add_argument(
        "--between",
        type=int,
        metavar="N",
        help="with several --at: N designs more on the straight way from each to the next (neighbours on a front)",
    )
    parser.add_argument("--more", type=int, metavar="N", help="add N designs to a sample, as its plan would")
    parser.add_argument(
        "--dry-run", action="store_true", help="show the plan and how it covers the box; evaluate nothing"
    )
    parser.add_argument("--output", metavar="FILE", help="the plan as a figure (.png, .svg) or as designs (.csv)")
    parser.add_argument("--list", action="store_true", dest="lists", help="list the plans, their uses and options")
    add_set(parser)
    parser.add_argument(
        "--on", metavar="APPROXIMATION", help="take the values from an approximation (a1): predicted, not evaluated"
    )
    parser.add_argument(
        "--slopes", action="store_true", help="ask models for their own derivatives, too: approximations use them"
    )
    add_workers(parser)
    parser.add_argument("--fresh", action="store_true", help="call models anew, whatever other runs were answered")
    parser.add_argument("--label", metavar="WORD", help="a name for the sample, beside its id")
    add_ledger(parser)
    add_output_flags(parser)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command and return its exit status. Raises InputError for what a user can mend."""
    from ilvren.cli.files import check_suffix

    if arguments.lists:
        return _list(terminal, as_json=arguments.json)
    if arguments.problem is None:
        raise RequestError("say which problem: ilvren sample FILE", advice="--list tells of the plans")
    if arguments.output:
        check_suffix(arguments.output, (".png", ".svg", ".csv"))
    given = [flag for flag, value in (("--csv", arguments.csv), ("--at", arguments.at), ("--more", arguments.more))
             if value]  # fmt: skip
    if len(given) > 1:
        raise RequestError(f"{given[0]} and {given[1]} name different designs", advice="leave one of them out")
    if given and (arguments.plan or arguments.points is not None or arguments.option or arguments.feasible):
        raise RequestError(f"{given[0]} says which designs: --plan, --points, --option and --feasible make others")
    if arguments.between is not None and (len(arguments.at) < 2 or arguments.between < 1):
        raise RequestError(
            "--between N puts N designs, at least 1, between those of two or more --at",
            advice="for example: ilvren sample FILE --at r3:17 --at r3:18 --between 4",
        )
    if arguments.measured and (not arguments.csv or arguments.on):
        raise RequestError("--measured goes with --csv: it says that the file holds values, too, and no others count")
    if arguments.slopes and (arguments.more is not None or arguments.on or arguments.measured):
        raise RequestError(
            "--slopes asks models of a new sample: --more goes on as the sample began, and nothing is called for"
            " predicted or measured values"
        )
    if arguments.more is not None:
        return _more(arguments, terminal)
    problem = _problem(arguments, terminal)
    made = _made(arguments, problem)
    if arguments.output:
        _write(made, arguments.output, terminal)
    if arguments.dry_run:
        _preview(made, terminal, as_json=arguments.json, facts=_cost(arguments, made))
        return status.HOLDS
    return _evaluated(arguments, made, terminal)


def _problem(arguments: argparse.Namespace, terminal: Terminal) -> Problem:
    from ilvren.problem import load

    if not arguments.problem.endswith(".toml") and not _is_file(arguments.problem):
        raise RequestError(
            f"{arguments.problem}: no such file", advice="a sample on record gets more designs with --more N"
        )
    problem = load(arguments.problem, set=values_by_name("--set", arguments.set))
    if arguments.on:
        from ilvren.cli.files import read_ledger, recorded_ledger
        from ilvren.problem import on_document

        with read_ledger(recorded_ledger(ledger_path(arguments.ledger))) as ledger:
            record = ledger.approximation(arguments.on)
        problem = on_document(problem, record.document)
        terminal.note(f"values are predicted by {record.id}, not evaluated" + what_is_called(problem))
    return problem


def what_is_called(problem: Problem) -> str:
    """Return what to say of models that an approximation does not stand for, whole; "" for none."""
    names = ", ".join(source.name for source in problem.sources)
    return f": it has not all outputs of {names}, and for the others the model is called" if names else ""


def _is_file(path: str) -> bool:
    from pathlib import Path

    return Path(path).is_file()


def _made(arguments: argparse.Namespace, problem: Problem) -> Planned:
    from ilvren.cli.files import read_ledger
    from ilvren.explore import planned, planned_from, read_designs

    if arguments.csv:
        return read_designs(problem, arguments.csv, is_measured=arguments.measured)
    if arguments.at:
        with read_ledger(ledger_path(arguments.ledger)) as ledger:
            return planned_from(problem, ledger, arguments.at, arguments.between or 0)
    return planned(
        problem,
        arguments.plan or DEFAULT_PLAN,
        arguments.points,
        seed=arguments.seed,
        options=words_by_name("--option", arguments.option),
        is_feasible=arguments.feasible,
    )


def _evaluated(arguments: argparse.Namespace, made: Planned, terminal: Terminal) -> int:
    from ilvren.cli.progress import progress_of
    from ilvren.explore import sample
    from ilvren.ledger import Ledger
    from ilvren.runs import check_workers

    for note in made.notes:
        terminal.note(note)
    if arguments.workers is not None:
        check_workers(arguments.workers)
    progress = progress_of(made.problem, terminal, limits=(len(made.designs), None))
    with Ledger(ledger_path(arguments.ledger)) as ledger:
        for note in ledger.notes:
            terminal.note(note)
        try:
            result = sample(
                made,
                ledger=ledger,
                label=arguments.label,
                workers=arguments.workers,
                is_fresh=arguments.fresh,
                with_slopes=arguments.slopes,
                listener=progress,
            )
        finally:
            progress.close()
        return show_sample(result, ledger, len(made.designs), terminal, as_json=arguments.json)


def _more(arguments: argparse.Namespace, terminal: Terminal) -> int:
    from ilvren.cli.files import recorded_ledger
    from ilvren.cli.progress import progress_of
    from ilvren.explore import grown, more
    from ilvren.ledger import Ledger

    if arguments.set or arguments.label or arguments.fresh or arguments.on:
        raise RequestError("--more adds to a sample as it is: --set, --label, --on and --fresh make another")
    with Ledger(recorded_ledger(ledger_path(arguments.ledger))) as ledger:
        whole, made = grown(ledger, arguments.problem, arguments.more)
        if arguments.output:
            _write(made, arguments.output, terminal)
        if arguments.dry_run:
            _preview(made, terminal, as_json=arguments.json, facts="")
            return status.HOLDS
        for note in made.notes:
            terminal.note(note)
        count = len(whole["designs"])
        progress = progress_of(made.problem, terminal, limits=(count, None))
        try:
            result = more(ledger, arguments.problem, whole, workers=arguments.workers, listener=progress)
        finally:
            progress.close()
        return show_sample(result, ledger, count, terminal, as_json=arguments.json)


def show_sample(result: RunResult, ledger: Ledger, count: int, terminal: Terminal, *, as_json: bool) -> int:
    """Tell what a sample of `count` designs came to, and return the exit status."""
    from ilvren.explore import designs_of

    ledger.flush()
    assert result.id is not None
    table = designs_of(ledger, [result.id])
    planned = ledger.run(result.id).overrides["sample"]["designs"]
    repeated = len(planned) - len({tuple(design) for design in planned})  # evaluated once
    if repeated:
        terminal.note(f"{repeated:,} of {count:,} designs of the plan are there more than once, and evaluated once")
    count -= repeated
    if as_json:
        terminal.document(
            {"plan": result.method, "outcome": result.outcome, "reason": result.reason, **table.to_dict()}
        )
    else:
        _show(terminal, result, table, count)
    stopped = status.of_stopped([result], terminal)
    if stopped is not None:
        return stopped
    return status.HOLDS if len(table.designs) >= count else status.DOES_NOT_HOLD


def _show(terminal: Terminal, result: RunResult, table: DesignTable, count: int) -> None:
    from rich.text import Text

    from ilvren.cli.tables.table import number, seconds_text, small, table as framed

    problem = table.problem
    word = result.settings.get("label")
    label = f" ({word})" if word else ""
    terminal.show(
        Text(f"{result.id}{label}  {result.method} of {problem.title or problem.source.file}", style="bold"), ""
    )
    done = len(table.designs)
    failed = sum(1 for design in table.designs if not math.isfinite(design.violation))
    word = "predicted" if problem.aim.on else "evaluated"
    told = f"{done:,} of {count:,} designs {word}" if done < count else f"{done:,} designs {word}"
    told += f" in {seconds_text(result.seconds)}; {table.counts['feasible']:,} meet the limits"
    terminal.show(told + (f", {failed:,} have no values" if failed else ""))
    if result.outcome not in ("settled", "no-feasible"):
        terminal.show(f"{result.outcome}: {result.reason}")
    rows = []
    for name in _quantities(table):
        values = table.column(name)
        values = values[[math.isfinite(value) for value in values.tolist()]]
        if len(values):
            spread = float(values.std())
            rows.append(
                (name, *(number(float(v)) for v in (values.min(), values.mean(), values.max(), spread)),
                 table.units.get(name, ""))
            )  # fmt: skip
    if rows:
        terminal.show(framed(("quantity", ">lowest", ">mean", ">highest", ">deviation", "unit"), rows))
    best = table.designs[:MOST_BEST]
    if best and not problem.seeks_feasible and problem.objective is not None:
        names = [problem.objective.name, *(problem.variables[p].name for p in problem.free)][:MOST_COLUMNS]
        cells = [
            (design.address, *(_cell(table, name, place) for name in names), small(design.violation), design.trouble)
            for place, design in enumerate(best)
        ]
        terminal.show(
            framed(("the best", *(_headed(name, table.units) for name in names), ">violation", "note"), cells)
        )
    address = best[0].address if best else result.id
    if problem.aim.on:
        terminal.show(
            f"next: ilvren designs {result.id} --top 20; ilvren sample {problem.source.file} --at {address} (evaluates"
            " it truly)"
        )
        return
    terminal.show(
        f"next: ilvren designs {result.id} --output designs.html; ilvren run {problem.source.file} --from {address}"
    )


def _cell(table: DesignTable, name: str, place: int) -> str:
    from ilvren.cli.tables.table import number

    value = table.told(name, float(table.column(name)[place]))
    return value if isinstance(value, str) else number(value)


def _quantities(table: DesignTable) -> list[str]:
    variables = {variable.name for variable in table.problem.variables}
    return [name for name in table.names if name not in variables][: 2 * MOST_COLUMNS]


def _cost(arguments: argparse.Namespace, made: Planned) -> str:
    """Say how long a sample will take, as far as runs on record tell; "" where nothing does."""
    from pathlib import Path

    from ilvren.cli.files import read_ledger
    from ilvren.cli.tables.table import seconds_text

    if not made.problem.sources:
        return ""
    path = ledger_path(arguments.ledger)
    if not Path(path).is_file():
        return "how long a design takes is not on record: the first one tells"
    with read_ledger(path) as ledger:
        for record in reversed(ledger.runs()):
            if record.problem_file == made.problem.source.file and record.result is not None:
                counts: Any = record.result.get("counts", {})
                done = counts.get("calls") or counts.get("evaluations")
                if done and record.seconds:
                    each = record.seconds / done
                    whole = each * len(made.designs)
                    return f"about {seconds_text(whole)} for {len(made.designs)} designs, by what {record.id} took"
    return "how long a design takes is not on record: the first one tells"


def _preview(made: Planned, terminal: Terminal, *, as_json: bool, facts: str) -> None:
    from rich.text import Text

    from ilvren.cli.tables.table import number, table as framed

    problem = made.problem
    places = list(problem.free)
    if as_json:
        own_variables = [problem.variables[place] for place in places]
        designs = [
            {variable.name: variable.shown(value) for variable, value in zip(own_variables, row, strict=True)}
            for row in made.designs[:, places].tolist()
        ]
        own = made.quality.to_dict() if made.quality else {}
        terminal.document({"plan": made.name, "notes": list(made.notes), "quality": own, "designs": designs})
        return
    terminal.show(
        Text(f"{made.name}: {len(made.designs):,} designs of {problem.title or problem.source.file}", style="bold"), ""
    )
    for note in made.notes:
        terminal.show(note)
    shown = places[:MOST_COLUMNS]
    rows = [
        (str(k), *(_shown(problem, place, row[place]) for place in shown))
        for k, row in enumerate(made.designs[:MOST_SHOWN], start=1)
    ]
    units = {block.name: block.unit for block in problem.blocks}
    heads = [_headed(problem.variables[place].name, units) for place in shown]
    terminal.show(framed((">design", *heads), rows))
    if len(made.designs) > MOST_SHOWN or len(places) > len(shown):
        rest = f"{len(made.designs) - MOST_SHOWN:,} more designs" if len(made.designs) > MOST_SHOWN else ""
        more = f"{len(places) - len(shown)} more variables" if len(places) > len(shown) else ""
        terminal.show(f"and {', '.join(part for part in (rest, more) if part)}; --output plan.csv writes all")
    found = made.quality
    if found is not None:
        lines = [
            ("least distance", number(found.least, 3), "between two designs, in lengths of an edge of the box"),
            ("largest hole", number(found.hole, 3), "radius of the largest ball without a design"),
            (
                "correlation",
                number(found.correlation, 2),
                f"the largest: {' and '.join(found.pair)}" if found.pair else "",
            ),
            ("unevenness", number(found.uneven, 2), "discrepancy over that of as many random designs"),
        ]
        if found.repeated:
            lines.append(("repeated", str(found.repeated), "designs that are there more than once"))
        terminal.show(framed(("coverage", ">value", "what it is"), lines))
    terminal.show(facts or "nothing was evaluated: leave --dry-run out, and these designs are")


def _headed(name: str, units: dict[str, str]) -> str:
    unit = units.get(name.partition("[")[0], "")
    return f">{name} [{unit}]" if unit else f">{name}"


def _shown(problem: Problem, place: int, value: float) -> str:
    from ilvren.cli.tables.table import number

    told = problem.variables[place].shown(float(value))
    return told if isinstance(told, str) else number(told)


def _write(made: Planned, path: str, terminal: Terminal) -> None:
    from pathlib import Path

    if Path(path).suffix.lower() != ".csv":
        from ilvren.draw import draw_plan

        draw_plan(made, path)
        terminal.note(f"{path}: how {len(made.designs):,} designs cover the box")
        return
    from ilvren.printable import CellWriter

    places = list(made.problem.free)
    with Path(path).open("w", newline="", encoding="utf-8") as file:
        writer = CellWriter(file)
        writer.writerow([made.problem.variables[place].name for place in places])
        for row in made.designs[:, places].tolist():
            writer.writerow(
                made.problem.variables[place].shown(value) for place, value in zip(places, row, strict=True)
            )
    terminal.note(f"{path}: {len(made.designs):,} designs")


def _list(terminal: Terminal, *, as_json: bool) -> int:
    from dataclasses import fields

    from ilvren.cli.tables.table import table as framed
    from ilvren.plans import plan_named, plan_names

    plans = [plan_named(name) for name in plan_names()]
    if as_json:
        terminal.document(
            {
                plan.name: {
                    "about": plan.about,
                    "when": plan.when,
                    "grows": plan.grows,
                    "options": {
                        item.name.replace("_", "-"): {"default": item.default, "about": item.metadata["help"]}
                        for item in fields(plan.options)
                    },
                }
                for plan in plans
            }
        )
        return status.HOLDS
    rows = [(plan.name, plan.about, plan.when, "yes" if plan.grows else "") for plan in plans]
    terminal.show(framed(("plan", "what it is", "for", "--more"), rows))
    options = [
        (plan.name, item.name.replace("_", "-"), _default(item.default), item.metadata["help"])
        for plan in plans
        for item in fields(plan.options)
    ]
    terminal.show(framed(("plan", "option", "default", "what it is"), options))
    return status.HOLDS


def _default(value: object) -> str:
    return ("yes" if value else "no") if isinstance(value, bool) else f"{value}"
