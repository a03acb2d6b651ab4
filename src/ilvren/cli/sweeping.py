"""`ilvren run --sweep`: a table of the optimum against a parameter."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ilvren.cli import status
from ilvren.cli.tables.table import count, number, table
from ilvren.printable import CellWriter

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.problem import Problem, Variable
    from ilvren.runs import Settings, Sweep, SweptRun

__all__ = ["run_sweep", "show_sweep", "swept", "teller"]

# Scalar variables shown in the table.
MOST_COLUMNS, MOST_NAMED = 4, 6


def swept(text: str) -> tuple[str, list[float]]:
    """Return (parameter, values) of NAME=FORMULA, such as flow=evenly(0.01, 0.04, 13). Raises RequestError."""
    import numpy as np

    from ilvren.errors import FormulaError, ProblemError, RequestError
    from ilvren.problem import loads

    name, equals, formula = (part.strip() for part in text.partition("="))
    example = '--sweep "flow=evenly(0.01, 0.04, 13)" or --sweep "flow=[0.01, 0.02, 0.05]"'
    if not equals or not name or not formula:
        raise RequestError(f"--sweep {text}: expected NAME=VALUES", advice=f"for example {example}")
    value = formula if formula.startswith("[") else f"{formula!r}"
    try:
        source = f'[variables]\nx = {{ start = 0 }}\n[parameters]\nv = {value}\n[minimize]\nf = "x^2"\n'
        values = np.ravel(np.asarray(loads(source, file="--sweep").parameters[0].value, dtype=float))
    except (ProblemError, FormulaError) as error:
        raise RequestError(f"--sweep {text}: {error.message}", advice=f"for example {example}") from None
    if not len(values) or not np.isfinite(values).all():
        raise RequestError(f"--sweep {text}: values must be finite numbers", advice=f"for example {example}")
    return name, values.tolist()


def run_sweep(
    problem: Problem,
    parameter: str,
    values: list[float],
    settings: Settings,
    terminal: Terminal,
    *,
    ledger: Any,
    as_json: bool,
    full: bool,
    output: str | None,
    workers: str | None = None,
) -> int:
    """Run the family, print its table and return the exit status."""
    from ilvren.runs import sweep

    told = teller(parameter, terminal)
    found = sweep(problem, parameter, values, settings, ledger=ledger, finished=told, workers=workers)
    return show_sweep(found, terminal, as_json=as_json, full=full, output=output)


def show_sweep(found: Sweep, terminal: Terminal, *, as_json: bool, full: bool, output: str | None) -> int:
    """Print a sweep, write its figure or table, and return the exit status."""
    parameter = found.parameter
    if as_json:
        terminal.document(found.to_dict(full=full))
    else:
        _show(found, terminal)
    if output is not None:
        if Path(output).suffix.lower() == ".csv":
            _write_csv(found, output)
        else:
            from ilvren.draw import draw_sweep

            draw_sweep(found, output)
        terminal.note(f"{output}: the optimum against {parameter}")
    if any(member.result.outcome == "interrupted" for member in found.members):
        if found.group:
            terminal.note(f"interrupted; `ilvren resume {found.group}` goes on with the remaining values")
        return status.INTERRUPTED
    return status.HOLDS if found.holds else status.DOES_NOT_HOLD


def teller(parameter: str, terminal: Terminal) -> Callable[[SweptRun], None]:
    """Return what tells of each member as it ends."""

    def told(member: SweptRun) -> None:
        objective = "" if member.result.objective is None else f"  {number(member.result.objective)}"
        terminal.note(f"{parameter} = {number(member.value)}: {member.result.outcome}{objective}")

    return told


def _show(found: Sweep, terminal: Terminal) -> None:
    problem = found.members[0].result.problem
    shown, left_out = _most_moved(found)
    objective = problem.objective
    heads = ["run", f">{found.parameter}{_unit(found.unit)}"]
    heads += [f">{objective.name}{_unit(objective.unit)}"] if objective is not None else []
    heads += [f">{variable.name}{_unit(variable.unit)}" for _, variable in shown]
    heads += [">iterations", ">evaluations", "begun", "outcome"]
    rows = []
    for member in found.members:
        result = member.result
        cells = [result.id, number(member.value)]
        cells += [number(result.objective)] if objective is not None else []
        told = [variable.shown(result.point[place]) for place, variable in shown]
        cells += [value if isinstance(value, str) else number(value) for value in told]
        cells += [str(result.counts["iterations"]), str(result.counts["evaluations"])]
        rows.append([*cells, "from its neighbour" if member.is_warm else "from the file's start", result.outcome])
    terminal.show(table(heads, rows))
    if left_out:
        names = ", ".join(left_out[:MOST_NAMED]) + (
            f" and {len(left_out) - MOST_NAMED} more" if len(left_out) > MOST_NAMED else ""
        )
        terminal.show(f"left out, as they change less: {names} (--output FILE.csv has all)")
    bad = [member for member in found.members if not member.result.holds]
    evaluations = sum(member.result.counts["evaluations"] for member in found.members)
    terminal.show(f"{count(len(found.members), 'run')}, {count(evaluations, 'evaluation')} in all")
    if bad and bad[0].result.id:
        terminal.show(f"{len(bad)} of them do not hold; next: ilvren diagnose {bad[0].result.id}")


def _most_moved(found: Sweep) -> tuple[list[tuple[int, Variable]], list[str]]:
    """Return (place, variable) of those that change most over their sizes, in the order of the file, and the names of
    the others; where the sweep changes shapes, of none but the first."""
    import numpy as np

    problem = found.members[0].result.problem
    sizes = {len(member.result.point) for member in found.members}
    if len(sizes) > 1:
        return [], [block.name for block in problem.blocks]
    points = np.array([member.result.point for member in found.members])
    variables = list(problem.variables)
    reach = np.ptp(points, axis=0) / np.maximum(np.abs(points).max(axis=0), 1e-300)
    places = sorted(np.argsort(-reach, kind="stable")[:MOST_COLUMNS].tolist())
    known = set(places)
    names = [variable.name for place, variable in enumerate(variables) if place not in known]
    return [(place, variables[place]) for place in places], names


def _unit(unit: str) -> str:
    return f" [{unit}]" if unit else ""


def _write_csv(found: Sweep, path: str) -> None:
    problem = found.members[0].result.problem
    names = [variable.name for variable in problem.variables]
    objective = [problem.objective.name] if problem.objective is not None else []
    with Path(path).open("w", newline="", encoding="utf-8") as stream:
        writer = CellWriter(stream)
        writer.writerow(["run", found.parameter, "outcome", *objective, *names, "violation", "evaluations"])
        for member in found.members:
            result = member.result
            values = [result.objective] if objective else []
            writer.writerow(
                [result.id, member.value, result.outcome, *values, *result.point, result.violation,
                 result.counts["evaluations"]]
            )  # fmt: skip
