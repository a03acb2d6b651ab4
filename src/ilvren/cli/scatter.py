"""`ilvren scatter`: how a design fares when it is not made exactly, and what drives its misses."""

from __future__ import annotations

import argparse
import math
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ilvren.cli import status
from ilvren.cli.arguments import add_ledger, add_output_flags, ledger_path, pairs
from ilvren.cli.terminal import Terminal
from ilvren.errors import RequestError

if TYPE_CHECKING:
    from ilvren.explore.scatter import OutputScatter, ScatterResult
    from ilvren.problem import Problem
    from ilvren.scatter import Interval

EXAMPLES = """examples:
  ilvren scatter r1
  ilvren scatter r1 --way sampling,linear,reliability --output scatter.png
  ilvren scatter before after --output both.png
  ilvren scatter pipe.toml --at wall=9 --scenarios 100000 --of hoop,cost
"""
SUFFIXES = (".png", ".svg", ".csv", ".json")
# Quantities, drivers of each and causes of a scenario that a terminal shows.
MOST_OUTPUTS, MOST_DRIVEN, MOST_DRIVERS, MOST_CAUSES = 24, 12, 5, 3
MOST_DESIGNS = 4
# Rows of one limit that are shown each for itself.
MOST_OF_ONE = 4


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument(
        "target",
        metavar="FILE|DESIGN",
        nargs="+",
        help="a design on record: r7, r7:12; or a file, at its start; several are set side by side",
    )
    parser.add_argument(
        "--at",
        metavar="NAME=VALUE|DESIGN",
        action="append",
        default=[],
        help="another design of the file: values (repeatable), or one on record",
    )
    parser.add_argument(
        "--way",
        metavar="WAY[,WAY]",
        default="sampling",
        help="sampling (default), linear (by slopes, nothing is evaluated), reliability (design points of rare misses)",
    )
    parser.add_argument("--scenarios", type=int, metavar="N", help="how many scenarios are sampled (default 1000)")
    parser.add_argument(
        "--evaluations", type=int, metavar="N", help="scenarios around the design point of each limit (default 500)"
    )
    parser.add_argument("--of", metavar="NAME[,NAME]", help="the quantities looked at (default: all)")
    parser.add_argument("--on", metavar="APPROXIMATION", help="scenarios on an approximation (a1), its error carried")
    parser.add_argument("--seed", type=int, default=0, metavar="N", help="of the scenarios (default 0)")
    parser.add_argument(
        "--set", metavar="NAME=VALUE", action="append", default=[], help="another value of a parameter (repeatable)"
    )
    parser.add_argument("--output", metavar="FILE", help="histograms as .png or .svg, scenarios as .csv, all as .json")
    parser.add_argument("--workers", metavar="N", help="evaluate models in so many processes, or on dask://HOST:PORT")
    parser.add_argument("--label", metavar="WORD", help="a name for the run that holds scenarios of models")
    add_ledger(parser)
    add_output_flags(parser)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command."""
    from ilvren.cli.files import check_suffix

    suffix = check_suffix(arguments.output, SUFFIXES) if arguments.output else ""
    if len(arguments.target) > 1:
        return _several(arguments, terminal, suffix)
    found = _found(arguments, arguments.target[0], terminal)
    if arguments.json:
        terminal.document(found.to_dict())
    else:
        _show(terminal, found)
    if suffix:
        _write(found, arguments.output, suffix, terminal)
    return status.HOLDS


def _several(arguments: argparse.Namespace, terminal: Terminal, suffix: str) -> int:
    """Set designs side by side."""
    if suffix == ".csv":
        raise RequestError("--output .csv holds one design's scenarios", advice="a figure, or .json, holds several")
    if suffix in (".png", ".svg") and len(arguments.target) > MOST_DESIGNS:
        raise RequestError(f"a figure shows {MOST_DESIGNS} designs at most", advice="name fewer, or --output .json")
    found = [_found(arguments, target, terminal) for target in arguments.target]
    if arguments.json:
        terminal.document({"designs": [item.to_dict() for item in found]})
    else:
        _show_several(terminal, found)
    if suffix == ".json":
        import json

        documents = {"designs": [item.to_dict() for item in found]}
        Path(arguments.output).write_text(json.dumps(documents, indent=1) + "\n", encoding="utf-8")
        terminal.note(f"{arguments.output}: all that is told")
    elif suffix:
        from ilvren.draw.scatter import draw_several

        told = draw_several(found, arguments.output)
        terminal.note(f"{arguments.output}: {', '.join(told)} of {', '.join(item.design for item in found)}")
    return status.HOLDS


def _found(arguments: argparse.Namespace, target: str, terminal: Terminal) -> ScatterResult:
    from ilvren.cli.progress import progress_of
    from ilvren.explore.scatter import scatter
    from ilvren.explore.scatter.rare import DEFAULT_EVALUATIONS
    from ilvren.explore.scatter.study import DEFAULT_SCENARIOS
    from ilvren.ledger import Ledger
    from ilvren.runs import check_workers

    ways = tuple(dict.fromkeys(word.strip() for word in arguments.way.split(",") if word.strip()))
    if arguments.evaluations is not None and "reliability" not in ways:
        raise RequestError("--evaluations is for --way reliability", advice="--scenarios says how many are sampled")
    if arguments.workers is not None:
        check_workers(arguments.workers)
    problem, point, design, feasibility = _design(arguments, target, terminal)
    errors: dict[str, float] = {}
    region: dict[str, list[float]] = {}
    if arguments.on:
        problem, point, errors, region = _on(arguments, problem, point)
        design += f" on {arguments.on}"
        terminal.note(f"on {arguments.on}: predicted, not evaluated; intervals hold two deviations of its error")
    scenarios = DEFAULT_SCENARIOS if arguments.scenarios is None else arguments.scenarios
    options: dict[str, Any] = {
        "design": design,
        "scenarios": scenarios,
        "seed": arguments.seed,
        "ways": ways or ("sampling",),
        "evaluations": DEFAULT_EVALUATIONS if arguments.evaluations is None else arguments.evaluations,
        "of": [name.strip() for name in (arguments.of or "").split(",") if name.strip()],
        "feasibility": feasibility,
        "errors": errors,
    }
    if not problem.sources:
        options["progress"] = lambda done, count: terminal.progress(f"{done:,} of {count:,} scenarios simulated")
        return _within(scatter(problem, point, **options), region, arguments.on)
    progress = progress_of(problem, terminal, limits=(scenarios, None))
    with Ledger(ledger_path(arguments.ledger)) as ledger:
        for note in ledger.notes:
            terminal.note(note)
        try:
            return scatter(
                problem,
                point,
                **options,
                ledger=ledger,
                label=arguments.label,
                workers=arguments.workers,
                listener=progress,
            )
        finally:
            progress.close()


def _design(arguments: argparse.Namespace, target: str, terminal: Terminal) -> tuple[Problem, Any, str, float]:
    """Return the problem, the design, how it is called, and by how much limits may be missed."""
    import numpy as np

    from ilvren.cli.files import note_changed_file, note_changed_models, read_ledger
    from ilvren.judge.standing import point_at
    from ilvren.problem import load
    from ilvren.runs import AUTOMATIC, Settings
    from ilvren.runs.addresses import addressed
    from ilvren.runs.stored import problem_of

    usual = Settings(method=AUTOMATIC).feasibility
    values = pairs("--at", [word for word in arguments.at if "=" in word])
    designs = [word for word in arguments.at if "=" not in word]
    if len(designs) > 1:
        raise RequestError("--at: one design at a time", advice="scatter each, and set the tables side by side")
    path = ledger_path(arguments.ledger)
    is_file = target.endswith(".toml") or Path(target).exists()
    if is_file:
        problem = load(target, set=pairs("--set", arguments.set))
        point, told = problem.start, "the start"
        if designs:
            with read_ledger(path) as ledger:
                item = addressed(ledger, designs[0])
                names = {block.name for block in problem.blocks}
                own = problem_of(item.record)
                there = {
                    block.name: np.array(item.point)[block.first : block.first + block.size].reshape(block.shape)
                    for block in own.blocks
                    if block.name in names and not block.is_grid
                }
                if not there:
                    raise RequestError(f"{item.address} has no variable of {target}")
                point, told = point_at(problem, there), item.address
        if values:
            point = point_at(problem.with_starts(np.array(point)), values)
            told = ", ".join(f"{name} = {value}" for name, value in values.items())
        return problem, point, told, usual
    if arguments.set or designs:
        raise RequestError(
            f'"{target}" is a design on record: it has its own parameters',
            advice="name the problem file first, and the design with --at",
        )
    if not Path(path).exists():
        load(target)  # nothing is on record: what was meant is a file, and it is missing
    with read_ledger(path) as ledger:
        item = addressed(ledger, target)
        problem = problem_of(item.record)
        note_changed_file(item.record, terminal)
        note_changed_models(item.record, problem, terminal)
        feasibility = item.record.settings.get("feasibility", usual)
        assert isinstance(feasibility, float)
        own_point = np.array(item.point)
        told = item.address
        if values:
            own_point = np.array(point_at(problem.with_starts(own_point), values))
            told += " with " + ", ".join(f"{name} = {value}" for name, value in values.items())
        return problem, own_point, told, feasibility


def _within(found: ScatterResult, region: dict[str, list[float]], name: str) -> ScatterResult:
    """Return a result with a note on scenarios outside of what an approximation learnt."""
    from dataclasses import replace

    import numpy as np

    outside: Any = np.zeros(found.scenarios, dtype=bool)
    for own, (low, high) in region.items():
        if own in found.inputs and high > low:
            outside |= (found.inputs[own] < low) | (found.inputs[own] > high)
    if not outside.any():
        return found
    told = (
        f"{int(outside.sum()):,} of {found.scenarios:,} scenarios lie outside of what {name} learnt: believe them less"
    )
    return replace(found, notes=(*found.notes, told))


def _on(
    arguments: argparse.Namespace, problem: Problem, point: Any
) -> tuple[Problem, Any, dict[str, float], dict[str, list[float]]]:
    """Return the problem on an approximation; {entry: deviation of its error} of what depends on it: of values that it
    stands for their own, of formulas of such the largest share of any; and the region that it learnt."""
    import json

    import numpy as np

    from ilvren.cli.files import read_ledger, recorded_ledger
    from ilvren.problem import on_document

    with read_ledger(recorded_ledger(ledger_path(arguments.ledger))) as ledger:
        record = ledger.approximation(arguments.on)
    found = on_document(problem, record.document).with_starts(np.asarray(point, dtype=float))
    if found.sources:
        names = ", ".join(source.name for source in found.sources)
        raise RequestError(
            f"{record.id} has not all outputs of {names}: for the others the model would be called in every scenario",
            advice=f"`ilvren approximate {' '.join(record.runs)}` without --of learns all",
        )
    own = {name: float(told["error"]) for name, told in record.facts["told"]["of"].items()}
    worst = max(own.values(), default=0.0)
    deviations = json.loads(record.document)["deviations"]
    outputs = {node for _, node in found.outputs}
    entries = [(item.name, item.node) for item in found.objectives]
    entries += [(item.name, item.node) for item in found.derived]
    entries += [(block.name, block.node) for block in found.row_blocks]
    entries += list(found.outputs)
    errors = {
        name: own.get(name, worst) * float(deviations.get(name, 0.0))
        for name, node in entries
        if outputs & set(found.graph.reachable([node]))
    }
    return found, point, errors, dict(record.facts["told"]["region"])


def _show_several(terminal: Terminal, found: list[ScatterResult]) -> None:
    """Print what designs come to beside each other."""
    from ilvren.cli.tables import limits_text, number, table

    names = list(dict.fromkeys(item.output.name for result in found for item, _ in _grouped(result)))[:MOST_OUTPUTS]
    rows = []
    for name in names:
        own = [next((item for item in result.of if item.output.name == name), None) for result in found]
        first = next(item for item in own if item is not None)
        output = first.output
        cells = []
        for item in own:
            if item is None or (item.mean is None and not item.linear):
                cells.append("-")
                continue
            mean = item.mean.value if item.mean is not None else item.linear["mean"]
            deviation = item.deviation.value if item.deviation is not None else item.linear["deviation"]
            misses = item.misses.value if item.misses is not None else item.linear.get("misses")
            told = f"{number(mean, 5)} ± {number(deviation, 2)}"
            cells.append(told + (f", {_percent(misses)} miss" if misses else ""))
        rows.append(
            (name, *cells, limits_text(output.lower, output.upper) if output.kind == "constraint" else "", output.unit)
        )
    works = [result.works for result in found]
    if all(item is not None for item in works):
        shares = [f"{_percent(item.value)}{_between(item)}" for item in works if item is not None]
        rows.append(("everything holds", *shares, "", ""))
    heads = ("mean ± deviation", *(f">{result.design}" for result in found), "limit", "unit")
    terminal.show(table(heads, rows))
    for result in found:
        for note in result.notes:
            terminal.show_sentence(f"{result.design}: {note}", indent="")


# ---- the terminal ------------------------------------------------------------------------------------------


def _show(terminal: Terminal, found: ScatterResult) -> None:
    from rich.text import Text

    from ilvren.cli.scatter_tables import scattered_table
    from ilvren.cli.tables import table

    how = "by its slopes, nothing evaluated"
    if found.scenarios:
        how = f"{found.scenarios:,} scenarios"
    elif found.evaluations:
        how = f"around its design points, {found.evaluations:,} evaluations"
    where = f" ({found.run})" if found.run else ""
    terminal.show(Text(f"{found.design} as it will be made: {how}{where}", style="bold"))
    terminal.show(scattered_table(found.scattered))
    grouped = _grouped(found)
    shown = grouped[:MOST_OUTPUTS]
    terminal.show(table(_HEADS, [_quantity(item, told) for item, told in shown]))
    left = len(grouped) - len(shown) + found.left_out
    if left:
        terminal.show(f"and {left} more quantities; --of NAME shows them")
    if len(found.ways) > 1:
        beside = [row for item, _ in grouped if (row := _side_by_side(item)) is not None]
        if beside:
            heads = ("misses of", ">counted", ">by slopes", ">index", ">at its design point", ">sampled around it")
            terminal.show(table(heads, beside[:MOST_OUTPUTS]))
    if found.works is not None:
        word = "green bold" if found.works.value >= 0.99 else "bold"
        terminal.show(
            Text.assemble(
                "everything holds in ", (_percent(found.works.value), word), f" of the scenarios{_between(found.works)}"
            )
        )
    _show_points(terminal, found)
    _show_drivers(terminal, found)
    _show_worst(terminal, found)
    for note in found.notes:
        terminal.show_sentence(note, indent="")


_HEADS = ("quantity", ">as designed", ">mean", ">deviation", ">5 %", ">95 %", "limit", ">reserve", "misses", "unit")


def _grouped(found: ScatterResult) -> list[tuple[OutputScatter, str]]:
    """Return what is shown of all quantities: of a limit with many rows the one that is missed most, or nearest to
    being missed, and how many it stands for."""
    rows: dict[str, list[OutputScatter]] = {}
    for item in found.of:
        if item.output.kind == "constraint":
            rows.setdefault(item.output.entry, []).append(item)

    def missed(item: OutputScatter) -> tuple[float, float]:
        share = item.misses.value if item.misses is not None else item.linear.get("misses", 0.0)
        return -share, math.inf if item.reserve is None else item.reserve

    kept = []
    for item in found.of:
        own = rows.get(item.output.entry, [item]) if item.output.kind == "constraint" else [item]
        if len(own) <= MOST_OF_ONE:
            kept.append((item, ""))
        elif item is min(own, key=missed):
            kept.append((item, f" (worst of {len(own)})"))
    return kept


def _quantity(item: OutputScatter, told: str) -> tuple[str, ...]:
    from ilvren.cli.tables import limits_text, number

    output = item.output
    mean = item.mean.value if item.mean is not None else item.linear.get("mean")
    deviation = item.deviation.value if item.deviation is not None else item.linear.get("deviation")
    misses = ""
    if item.misses is not None:
        misses = f"{_percent(item.misses.value)}{_between(item.misses)}"
    elif "misses" in item.linear:
        misses = f"{_percent(item.linear['misses'])} by slopes"
    elif item.rare is not None and item.rare.is_found:
        best = item.rare.sampled
        misses = f"{_rare(item.rare.share if best is None else best.value)}"
    low, high = item.quantiles.get("0.05"), item.quantiles.get("0.95")
    is_limit = output.kind == "constraint"
    reserve = "" if item.reserve is None or not math.isfinite(item.reserve) else f"{item.reserve:.2f}"
    return (
        output.name + told,
        number(item.nominal),
        "" if mean is None else number(mean),
        "" if deviation is None else number(deviation, 3),
        "" if low is None else number(low, 5),
        "" if high is None else number(high, 5),
        limits_text(output.lower, output.upper) if is_limit else "",
        reserve,
        misses,
        output.unit,
    )


def _percent(share: float) -> str:
    if not math.isfinite(share):
        return "-"
    if share in (0.0, 1.0):
        return f"{100 * share:.0f} %"
    small = min(share, 1.0 - share)
    digits = max(1, 1 - math.floor(math.log10(100.0 * small))) if small > 0.0 else 1
    return f"{100.0 * share:.{min(digits, 6)}f} %"


def _between(interval: Interval) -> str:
    if not (math.isfinite(interval.low) and math.isfinite(interval.high)):
        return ""
    return f" ({100.0 * interval.low:.3g} .. {100.0 * interval.high:.3g} %)"


def _rare(share: float) -> str:
    if share < 1e-20:
        return "0"
    return f"{100.0 * share:.2g} %" if share >= 1e-3 else f"{share:.1e}"


def _side_by_side(item: OutputScatter) -> tuple[str, ...] | None:
    if item.output.kind != "constraint" or (item.misses is None and not item.linear and item.rare is None):
        return None
    rare = item.rare
    counted = "" if item.misses is None else _percent(item.misses.value)
    slopes = _rare(item.linear["misses"]) if math.isfinite(item.linear.get("misses", math.nan)) else ""
    if rare is None or not rare.is_found:
        return item.output.name, counted, slopes, "" if rare is None else "none found", "", ""
    sampled = rare.sampled
    around = ""
    if sampled is not None:
        around = f"{_rare(sampled.value)} ({_rare(sampled.low)} .. {_rare(sampled.high)})"
    return item.output.name, counted, slopes, f"{rare.index:.3f}", _rare(rare.share), around


def _show_points(terminal: Terminal, found: ScatterResult) -> None:
    """Print the likeliest scenarios that miss limits."""
    from ilvren.cli.tables import number, table

    rows = []
    for item, _ in _grouped(found):
        if item.rare is None or not item.rare.is_found:
            continue
        point = item.rare.point
        told = [f"{name} = {number(value, 5)} ({item.rare.moved[name]:+.1f})" for name, value in point.items()]
        more = f", one of {item.rare.points}" if item.rare.points > 1 else ""
        rows.append((item.output.name, ", ".join(told[:4]) + more))
    if rows:
        terminal.show(table(("limit", "first missed at (deviations from the mean)"), rows[:MOST_OUTPUTS]))


def _show_drivers(terminal: Terminal, found: ScatterResult) -> None:
    from ilvren.cli.tables import table

    rows = []
    shown = {item.output.name for item, _ in _grouped(found)}
    for name, own in found.drivers.items():
        if name not in shown:
            continue
        order = sorted(own.items(), key=lambda item: -item[1][1])
        told = [
            f"{scattered} {100.0 * max(total, 0.0):.0f} %"
            + (f" (alone {100.0 * max(first, 0.0):.0f} %)" if total - first > 0.05 else "")
            for scattered, (first, total) in order[:MOST_DRIVERS]
            if total >= 0.005
        ]
        if told:
            rows.append((name, ", ".join(told)))
    if rows:
        terminal.show(table(("variance of", "comes from"), rows[:MOST_DRIVEN]))
    if len(rows) > MOST_DRIVEN:
        terminal.show(f"and {len(rows) - MOST_DRIVEN} more (--json has all)")


def _show_worst(terminal: Terminal, found: ScatterResult) -> None:
    from ilvren.cli.tables import number, small, table

    rows = []
    for item in found.worst:
        causes = [
            f"{name} = {number(value, 5)} ({far:+.1f})" + (f" {100.0 * share:.0f} %" if math.isfinite(share) else "")
            for name, value, far, share in item.causes[:MOST_CAUSES]
            if not share < 0.05
        ]
        rows.append((item.limit, number(item.value), small(item.miss), ", ".join(causes)))
    if rows:
        heads = ("worst scenarios", ">value", ">over its size", "caused by (deviations from the mean, share)")
        terminal.show(table(heads, rows))


# ---- files -------------------------------------------------------------------------------------------------


def _write(found: ScatterResult, path: str, suffix: str, terminal: Terminal) -> None:
    if suffix in (".png", ".svg"):
        from ilvren.draw.scatter import draw_scatter

        if not found.values:
            raise RequestError(f"{path}: there are no scenarios to draw", advice="with --way sampling")
        told = draw_scatter(found, path)
        terminal.note(f"{path}: {', '.join(told)} over {found.scenarios:,} scenarios")
        return
    if suffix == ".json":
        import json

        Path(path).write_text(json.dumps(found.to_dict(), indent=1) + "\n", encoding="utf-8")
        terminal.note(f"{path}: all that is told")
        return
    if not found.values:
        raise RequestError(f"{path}: there are no scenarios to write", advice="with --way sampling")
    import csv

    columns = {**found.inputs, **found.values}
    with Path(path).open("w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file)
        writer.writerow(columns)
        writer.writerows(zip(*(column.tolist() for column in columns.values()), strict=True))
    terminal.note(f"{path}: {found.scenarios:,} scenarios")
