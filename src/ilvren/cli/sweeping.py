"""`ilvren run --sweep`: a table of the optimum against a parameter, or against a variable that is fixed."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ilvren.cli import status
from ilvren.cli.tables.table import count, number, table
from ilvren.printable import CellWriter, apart_from

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.problem import Problem, Variable
    from ilvren.runs import Settings, Sweep, SweptRun

__all__ = ["run_sweep", "show_sweep", "swept", "teller"]

# Scalar variables shown in the table.
MOST_COLUMNS, MOST_NAMED = 4, 6


def swept(text: str) -> tuple[str, list[float | str] | None]:
    """Return (name, values) of NAME=FORMULA, such as flow=evenly(0.01, 0.04, 13), or of words, such as
    pipe=[oak, larch]; of a name alone no values, which stands for all members. Raises RequestError."""
    import numpy as np

    from ilvren.errors import FormulaError, ProblemError, RequestError
    from ilvren.problem import loads

    name, equals, formula = (part.strip() for part in text.partition("="))
    example = '--sweep "flow=evenly(0.01, 0.04, 13)" or --sweep "flow=[0.01, 0.02, 0.05]"'
    if name and not equals:
        return name, None
    if words := _words(formula):
        return name, list(words)
    if not name or not formula:
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


def _words(formula: str) -> list[str]:
    """Return the words of a list of them, in quotes or without; none where it is anything else."""
    if not formula.startswith("[") or not formula.endswith("]"):
        return []
    parts = [part.strip().strip("\"'") for part in formula[1:-1].split(",")]
    return parts if all(part.isidentifier() or " " in part for part in parts) and parts != ["nan"] else []


def run_sweep(
    problem: Problem,
    over: str,
    values: list[float | str] | None,
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

    told = teller(over, terminal)
    found = sweep(problem, over, values, settings, ledger=ledger, finished=told, workers=workers)
    return show_sweep(found, terminal, as_json=as_json, full=full, output=output)


def show_sweep(found: Sweep, terminal: Terminal, *, as_json: bool, full: bool, output: str | None) -> int:
    """Print a sweep, write its figure or table, and return the exit status."""
    if as_json:
        terminal.document(found.to_dict(full=full))
    else:
        _show(found, terminal)
    if output is not None:
        if Path(output).suffix.lower() == ".csv":
            _write_csv(found, output)
        else:
            from ilvren.draw import draw_sweep
            from ilvren.judge import curve_of_sweep

            draw_sweep(curve_of_sweep(found), output)
        terminal.note(f"{output}: the optimum against {found.over}")
    stopped = status.of_stopped((member.result for member in found.members), terminal)
    if stopped is not None:
        if found.group:
            terminal.note(f"stopped; `ilvren resume {found.group}` goes on with the remaining values")
        return stopped
    return status.HOLDS if found.holds else status.DOES_NOT_HOLD


def teller(over: str, terminal: Terminal) -> Callable[[SweptRun], None]:
    """Return what tells of each member as it ends."""

    def told(member: SweptRun) -> None:
        objective = "" if member.result.objective is None else f"  {number(member.result.objective)}"
        words = next((block.words for block in member.result.problem.blocks if block.name == over), ())
        terminal.note(f"{over} = {_value(words, member.value)}: {member.result.outcome}{objective}")

    return told


def _value(words: tuple[str, ...], value: float) -> str:
    return words[round(value) - 1] if words else number(value)


def _show(found: Sweep, terminal: Terminal) -> None:
    problem = found.members[0].result.problem
    shown, left_out = _most_moved(found)
    objective = problem.objective
    heads = ["run", f"{'' if found.words else '>'}{found.over}{_unit(found.unit)}"]
    heads += [f">{objective.name}{_unit(objective.unit)}"] if objective is not None else []
    heads += [f">{variable.name}{_unit(variable.unit)}" for _, variable in shown]
    heads += [">iterations", ">evaluations", "begun", "outcome"]
    rows = []
    for member in found.members:
        result = member.result
        cells = [result.id, _value(found.words, member.value)]
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
        return [], [block.name for block in problem.blocks if block.name != found.over]
    points = np.array([member.result.point for member in found.members])
    variables = list(problem.variables)
    reach = np.ptp(points, axis=0) / np.maximum(np.abs(points).max(axis=0), 1e-300)
    others = [place for place in np.argsort(-reach, kind="stable").tolist() if variables[place].name != found.over]
    places = sorted(others[:MOST_COLUMNS])
    names = [variables[place].name for place in sorted(others[MOST_COLUMNS:])]
    return [(place, variables[place]) for place in places], names


def _unit(unit: str) -> str:
    return f" [{unit}]" if unit else ""


def _write_csv(found: Sweep, path: str) -> None:
    problem = found.members[0].result.problem
    places = [k for k, variable in enumerate(problem.variables) if variable.name != found.over]
    names = [problem.variables[k].name for k in places]
    objective = [problem.objective.name] if problem.objective is not None else []
    taken = ("run", "outcome", "violation", "evaluations")
    (over,) = apart_from(taken, [found.over], "variable" if len(places) < len(problem.variables) else "parameter")
    heads = [*apart_from(taken, objective, "objective"), *apart_from(taken, names, "variable")]
    with Path(path).open("w", newline="", encoding="utf-8") as stream:
        writer = CellWriter(stream)
        writer.writerow(["run", over, "outcome", *heads, "violation", "evaluations"])
        for member in found.members:
            result = member.result
            values = [result.objective] if objective else []
            values += [result.point[k] for k in places]
            first = [result.id, found.shown(member.value), result.outcome]
            writer.writerow([*first, *values, result.violation, result.counts["evaluations"]])
