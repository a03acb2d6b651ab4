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
    from ilvren.problem import Problem
    from ilvren.runs import Settings, Sweep, SweptRun

__all__ = ["run_sweep", "show_sweep", "swept", "teller"]

# Scalar variables shown in the table.
MOST_COLUMNS = 4


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
    scalars = [block for block in problem.blocks if not block.shape][:MOST_COLUMNS]
    objective = problem.objective
    heads = ["run", f">{found.parameter}{_unit(found.unit)}"]
    heads += [f">{objective.name}{_unit(objective.unit)}"] if objective is not None else []
    heads += [f">{block.name}{_unit(block.unit)}" for block in scalars]
    heads += [">iterations", ">evaluations", "begun", "outcome"]
    rows = []
    for member in found.members:
        result = member.result
        cells = [result.id, number(member.value)]
        cells += [number(result.objective)] if objective is not None else []
        cells += [number(result.point[block.first]) for block in scalars]
        cells += [str(result.counts["iterations"]), str(result.counts["evaluations"])]
        rows.append([*cells, "from its neighbour" if member.is_warm else "from the file's start", result.outcome])
    terminal.show(table(heads, rows))
    bad = [member for member in found.members if not member.result.holds]
    evaluations = sum(member.result.counts["evaluations"] for member in found.members)
    terminal.show(f"{count(len(found.members), 'run')}, {count(evaluations, 'evaluation')} in all")
    if bad and bad[0].result.id:
        terminal.show(f"{len(bad)} of them do not hold; next: ilvren diagnose {bad[0].result.id}")


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
