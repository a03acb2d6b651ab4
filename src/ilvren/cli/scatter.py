"""`ilvren scatter`: how a design fares when it is not made exactly, and what drives its misses."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ilvren.cli import status
from ilvren.cli.arguments import add_ledger, add_output_flags, add_set, add_workers, ledger_path, values_by_name
from ilvren.errors import RequestError

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.explore.scatter import ScatterResult
    from ilvren.problem import Problem

EXAMPLES = """examples:
  ilvren scatter r1
  ilvren scatter r1 --way sampling,linear,reliability --output scatter.png
  ilvren scatter before after --output both.png
  ilvren scatter pipe.toml --at wall=9 --scenarios 100000 --of hoop,cost
"""
SUFFIXES = (".png", ".svg", ".csv", ".json")
# Designs that a figure shows.
MOST_DESIGNS = 4


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
    add_set(parser)
    parser.add_argument("--output", metavar="FILE", help="histograms as .png or .svg, scenarios as .csv, all as .json")
    add_workers(parser)
    parser.add_argument("--label", metavar="WORD", help="a name for the run that holds scenarios of models")
    add_ledger(parser)
    add_output_flags(parser)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command and return its exit status. Raises InputError for what a user can mend."""
    from ilvren.cli.files import check_suffix

    suffix = check_suffix(arguments.output, SUFFIXES) if arguments.output else ""
    if len(arguments.target) > 1:
        return _several(arguments, terminal, suffix)
    found = _found(arguments, arguments.target[0], terminal)
    if arguments.json:
        terminal.document(found.to_dict())
    else:
        from ilvren.cli.tables.scatter import show_scatter

        show_scatter(terminal, found)
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
        from ilvren.cli.tables.scatter import show_several

        show_several(terminal, found)
    if suffix == ".json":
        import json

        documents = {"designs": [item.to_dict() for item in found]}
        Path(arguments.output).write_text(json.dumps(documents, indent=1) + "\n", encoding="utf-8")
        terminal.note(f"{arguments.output}: all that is told")
    elif suffix:
        from ilvren.draw import draw_several

        told = draw_several(found, arguments.output)
        terminal.note(f"{arguments.output}: {', '.join(told)} of {', '.join(item.design for item in found)}")
    return status.HOLDS


def _found(arguments: argparse.Namespace, target: str, terminal: Terminal) -> ScatterResult:
    from ilvren.cli.progress import progress_of
    from ilvren.explore.scatter import DEFAULT_EVALUATIONS, DEFAULT_SCENARIOS, scatter
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
    from ilvren.judge import point_at
    from ilvren.problem import load
    from ilvren.runs import AUTOMATIC, Settings, addressed, problem_of

    usual = Settings(method=AUTOMATIC).feasibility
    values = values_by_name("--at", [word for word in arguments.at if "=" in word])
    designs = [word for word in arguments.at if "=" not in word]
    if len(designs) > 1:
        raise RequestError("--at: one design at a time", advice="scatter each, and set the tables side by side")
    path = ledger_path(arguments.ledger)
    is_file = target.endswith(".toml") or Path(target).exists()
    if is_file:
        problem = load(target, set=values_by_name("--set", arguments.set))
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


# ---- files -------------------------------------------------------------------------------------------------


def _write(found: ScatterResult, path: str, suffix: str, terminal: Terminal) -> None:
    if suffix in (".png", ".svg"):
        from ilvren.draw import draw_scatter

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
    from ilvren.printable import CellWriter

    columns = {**found.inputs, **found.values}
    with Path(path).open("w", newline="", encoding="utf-8") as file:
        writer = CellWriter(file)
        writer.writerow(columns)
        writer.writerows(zip(*(column.tolist() for column in columns.values()), strict=True))
    terminal.note(f"{path}: {found.scenarios:,} scenarios")
