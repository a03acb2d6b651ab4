"""The tables of `show`: how a problem stands at one design."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from rich.table import Table
from rich.text import Text

from ilvren.cli.tables.blocks import bound_lines, row_lines, shape_note, tally, value_text
from ilvren.cli.tables.table import MOST_ROWS, count, number, seconds_text, table, with_unit

if TYPE_CHECKING:
    from ilvren.formula import Shape
    from ilvren.judge import DesignReport, Pattern
    from ilvren.problem import Problem, Variable
    from ilvren.runs import LimitState

__all__ = [
    "constraints_table",
    "derived_table",
    "models_table",
    "objective_line",
    "parameters_table",
    "pattern_lines",
    "sizes_line",
    "variables_table",
]

# A longer formula is cut.
MOST_FORMULA = 600


def sizes_line(problem: Problem) -> str:
    """Return how much of everything there is."""
    equalities = sum(int((block.lower == block.upper).sum()) for block in problem.row_blocks)
    declared = [parameter for parameter in problem.parameters if not parameter.is_data]
    parts = [
        f"{count(problem.size, 'variable')} ({len(problem.free)} free)",
        f"{count(problem.row_count, 'constraint row')} ({equalities} with ==)",
        count(len(declared), "parameter"),
        count(len(problem.derived), "derived value"),
    ]
    if problem.sources:
        parts.append(count(len(problem.sources), "model"))
    return ", ".join(parts)


def variables_table(report: DesignReport) -> Table:
    """Return values, units, bounds and what is notable of every variable."""
    blocks = {block.name: block for block in report.problem.blocks}
    rows = []
    for line in bound_lines(report.problem.blocks, report.bounds):
        block = blocks[line.cells[0].partition("[")[0].strip()]
        words = [_variable_note(block.element(line.place + place), state) for place, state in enumerate(line.states)]
        note = tally(words) if line.is_summary else words[0]
        rows.append((*line.cells, note, block.about if line.place == 0 else ""))
    value = ">value" if report.is_elsewhere else ">start"
    return table(("variable", value, "unit", ">lower", ">upper", "note", "about"), rows, most=MOST_ROWS)


def _variable_note(variable: Variable, state: LimitState) -> str:
    notes = []
    if variable.spacing is not None:
        notes.append(f"spaced by {number(variable.spacing)}")
    elif variable.catalogue is not None:
        kind = "choice of" if variable.words else "catalogue of"
        words = f": {', '.join(variable.words[round(k) - 1] for k in variable.catalogue)}" if variable.words else ""
        notes.append(f"{kind} {len(variable.catalogue)}{words}")
    if variable.is_fixed:
        notes.append("fixed")
    elif state.violation > 0.0:
        notes.append("missed: its " + ("lower" if state.value < state.lower else "upper") + " bound")
    elif state.side and not variable.words:
        notes.append(f"at its {state.side} bound")
    if not variable.is_used:
        notes.append("nothing depends on it")
    return ", ".join(notes)


def parameters_table(problem: Problem) -> Table:
    """Return the values of the parameters, and which were set for this look."""
    rows = [
        (
            f"{p.name} {shape_note(np.shape(p.value))}".rstrip(),
            value_text(p.value),
            p.unit,
            "set by --set" if p.is_overridden else "from its table" if p.is_data else "",
            p.about,
        )
        for p in problem.parameters
        if not p.is_internal
    ]
    return table(("parameter", ">value", "unit", "note", "about"), rows, most=MOST_ROWS)


def derived_table(report: DesignReport) -> Table:
    """Return the derived values with their formulas, in the order in which they are computed."""
    items = {item.name: item for item in report.problem.derived}
    rows = []
    for name in report.problem.order:
        if name in items:
            value, item = report.values[name], items[name]
            shown = f"{name} {shape_note(np.shape(value))}".rstrip()
            rows.append((shown, value_text(value), item.unit, _on_one_line(item.text), item.about))
    return table(("derived", ">value", "unit", "formula", "about"), rows, most=MOST_ROWS)


def models_table(report: DesignReport) -> Table:
    """Return what each model takes and gives, and where its derivatives come from."""

    def names(items: Sequence[tuple[str, Shape]]) -> str:
        return ", ".join(f"{name} {shape_note(shape)}".rstrip() for name, shape in items)

    rows = [
        (
            calls.source.name,
            calls.source.told,
            names(calls.source.inputs),
            names(calls.source.outputs),
            calls.source.derivatives,
            str(calls.calls),
            seconds_text(calls.seconds),
        )
        for calls in report.calls
    ]
    return table(("model", "runs", "inputs", "outputs", "derivatives", ">calls", ">time"), rows)


def pattern_lines(pattern: Pattern) -> list[str]:
    """Return the sizes and non-zeros of Jacobian and Hessian."""
    lines = []
    if pattern.jacobian is not None and pattern.jacobian.shape[0]:
        m, n = pattern.jacobian.shape
        how = count(pattern.colours, "direction")
        if pattern.reversed_rows:
            how += f" and {count(pattern.reversed_rows, 'full row')} in reverse"
        lines.append(f"Jacobian {m} x {n}: {_nonzeros(pattern.jacobian)}, from {how}")
    if pattern.hessian is not None:
        n = pattern.hessian.shape[0]
        how = count(pattern.hessian_colours, "direction")
        lines.append(f"Hessian of the Lagrangian {n} x {n}: {_nonzeros(pattern.hessian)}, from {how}")
    return lines


def _nonzeros(matrix: Any) -> str:
    total = matrix.shape[0] * matrix.shape[1]
    share = f" ({100.0 * matrix.nnz / total:.3g} %)" if total else ""
    return f"{matrix.nnz} non-zeros{share}"


def objective_line(report: DesignReport) -> Text:
    """Return the objective with its value and formula."""
    objectives = report.problem.objectives
    if not objectives:
        return Text("no objective: a run looks for any feasible design")
    several = f"{len(objectives)} objectives: a run finds their trade-offs; --only or --weigh make them one"
    lines = [Text(several)] if len(objectives) > 1 else []
    for objective in objectives:
        word = "minimize" if objective.sign > 0 else "maximize"
        value = with_unit(report.values[objective.name], objective.unit)
        lines.append(
            Text.assemble(f"{word} {objective.name} = ", (value, "bold"), f"   {_on_one_line(objective.text)}")
        )
    return Text("\n").join(lines)


def constraints_table(report: DesignReport) -> Table:
    """Return every row with its limits, margin and formula."""
    rows = []
    for block, line in row_lines(report.problem.row_blocks, report.constraints):
        first = block.first + line.place
        words = report.notes[first : first + len(line.states)]
        note = tally(words) if line.is_summary else words[0]
        rows.append((*line.cells, note, _on_one_line(block.text) if line.place == 0 else ""))
    return table(("constraint", ">value", "unit", "limit", ">margin", "note", "formula"), rows, most=MOST_ROWS)


def _on_one_line(formula: str) -> str:
    line = " ".join(formula.split())
    return line if len(line) <= MOST_FORMULA else f"{line[:MOST_FORMULA]} … ({len(line):,} characters)"
