"""The tables of `show`: how a problem stands at one design."""

from __future__ import annotations

from rich.table import Table
from rich.text import Text

from ilvren.cli.tables import bound_cells, count, number, row_cells, table, with_unit
from ilvren.judge import Standing
from ilvren.problem import Problem, Variable
from ilvren.runs.result import LimitState

__all__ = [
    "constraints_table",
    "derived_table",
    "objective_line",
    "parameters_table",
    "sizes_line",
    "variables_table",
]


def sizes_line(problem: Problem) -> str:
    """Return how much of everything there is."""
    equalities = sum(row.is_equality for row in problem.rows)
    return (
        f"{count(len(problem.variables), 'variable')} ({len(problem.free)} free),"
        f" {count(len(problem.rows), 'constraint row')} ({equalities} with ==),"
        f" {count(len(problem.parameters), 'parameter')}, {count(len(problem.derived), 'derived value')}"
    )


def variables_table(standing: Standing) -> Table:
    """Return values, units, bounds and what is notable of every variable."""
    rows = [
        (*bound_cells(state), _variable_note(variable, state), variable.about)
        for variable, state in zip(standing.problem.variables, standing.bounds, strict=True)
    ]
    value = ">value" if standing.is_elsewhere else ">start"
    return table(("variable", value, "unit", ">lower", ">upper", "note", "about"), rows)


def _variable_note(variable: Variable, state: LimitState) -> str:
    notes = []
    if variable.spacing is not None:
        notes.append(f"spaced by {number(variable.spacing)}")
    elif variable.catalogue is not None:
        notes.append(f"catalogue of {len(variable.catalogue)}")
    if variable.is_fixed:
        notes.append("fixed")
    elif state.violation > 0.0:
        notes.append("missed: its " + ("lower" if state.value < state.lower else "upper") + " bound")
    elif state.side:
        notes.append(f"at its {state.side} bound")
    if not variable.is_used:
        notes.append("nothing depends on it")
    return ", ".join(notes)


def parameters_table(problem: Problem) -> Table:
    """Return the values of the parameters, and which were set for this look."""
    rows = [
        (p.name, number(p.value), p.unit, "set by --set" if p.is_overridden else "", p.about)
        for p in problem.parameters
    ]
    return table(("parameter", ">value", "unit", "note", "about"), rows)


def derived_table(standing: Standing) -> Table:
    """Return the derived values with their formulas."""
    rows = [
        (d.name, number(standing.values[d.name]), d.unit, _on_one_line(d.text), d.about)
        for d in standing.problem.derived
    ]
    return table(("derived", ">value", "unit", "formula", "about"), rows)


def objective_line(standing: Standing) -> Text:
    """Return the objective with its value and formula."""
    objective = standing.problem.objective
    if objective is None:
        return Text("no objective: a run looks for any feasible design")
    word = "minimize" if objective.sign > 0 else "maximize"
    value = with_unit(standing.values[objective.name], objective.unit)
    return Text.assemble(f"{word} {objective.name} = ", (value, "bold"), f"   {_on_one_line(objective.text)}")


def constraints_table(standing: Standing) -> Table:
    """Return every row with its limits, margin and formula."""
    rows = [
        (*row_cells(state), note, _on_one_line(row.text))
        for state, row, note in zip(standing.constraints, standing.problem.rows, standing.notes, strict=True)
    ]
    return table(("constraint", ">value", "unit", "limit", ">margin", "note", "formula"), rows)


def _on_one_line(formula: str) -> str:
    return " ".join(formula.split())
