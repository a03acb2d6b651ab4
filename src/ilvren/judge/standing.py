"""How a problem stands at one design: every value, limit and finding, nothing being run."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from ilvren.errors import RequestError, nearest
from ilvren.evaluate import Gate
from ilvren.formula import Trouble
from ilvren.problem import Measures, Problem
from ilvren.runs.claims import trouble_clause
from ilvren.runs.report import limit_states
from ilvren.runs.result import LimitState, plain

__all__ = ["Standing", "point_at", "standing_at", "trouble_sentence"]

FEASIBILITY = 1e-6


@dataclass(frozen=True)
class Standing:
    """`values` of all derived values, the objective (as written) and rows by name; `notes` one word a row;
    `findings` are sentences on what deserves a look before a run."""

    problem: Problem
    is_elsewhere: bool
    values: Mapping[str, float]
    bounds: tuple[LimitState, ...]
    constraints: tuple[LimitState, ...]
    violation: float
    notes: tuple[str, ...]
    findings: tuple[str, ...]

    def to_dict(self) -> dict[str, object]:
        """Return the JSON document of `show`."""
        problem = self.problem
        objective = problem.objective
        return {
            "problem": problem.title or problem.source.file,
            "variables": {state.name: plain(state.value) for state in self.bounds},
            "parameters": {parameter.name: plain(parameter.value) for parameter in problem.parameters},
            "derived": {item.name: plain(self.values[item.name]) for item in problem.derived},
            "objectives": {} if objective is None else {objective.name: plain(self.values[objective.name])},
            "bounds": {state.name: state.to_dict() for state in self.bounds},
            "constraints": {state.name: state.to_dict() for state in self.constraints},
            "violation": plain(self.violation),
            "unused": [variable.name for variable in problem.variables if not variable.is_used],
            "findings": list(self.findings),
        }


def point_at(problem: Problem, at: Mapping[str, float]) -> tuple[float, ...]:
    """Return the start with the values of `at` in place. Raises RequestError for an unknown name."""
    names = [variable.name for variable in problem.variables]
    for name, value in at.items():
        if name not in names:
            close = nearest(name, names)
            raise RequestError(
                f'--at {name}=…: the file has no variable "{name}"',
                advice=f'did you mean "{close}"?' if close else "its variables: " + ", ".join(names[:12]),
            )
        if not math.isfinite(value):
            raise RequestError(f"--at {name}={value}: a finite number is expected")
    return tuple(at.get(variable.name, variable.start) for variable in problem.variables)


def standing_at(problem: Problem, at: Mapping[str, float] | None = None) -> Standing:
    """Return how the problem stands at its start, or with the values of `at` in place."""
    point = point_at(problem, at or {})
    measures = Measures.of(problem)
    gate = Gate(problem)
    evaluation = gate.evaluate(np.array(point))
    bounds, rows = limit_states(problem, measures, np.array(point), evaluation, None, feasibility=FEASIBILITY)
    named = problem.named_values(point)
    findings = [trouble_sentence(name, trouble) for name, (_, trouble) in named.items() if trouble is not None]
    findings += _off_grid(problem, point)
    notes = tuple(state.word(FEASIBILITY) for state in rows)
    missed = [state.name for state in (*bounds, *rows) if state.violation > FEASIBILITY]
    if missed:
        findings.append("missed here: " + ", ".join(missed))
    active = [
        state.name
        for state in (*rows, *bounds)
        if state.side and state.violation <= FEASIBILITY and not _is_fixed(state)
    ]
    if active:
        findings.append("active here: " + ", ".join(active))
    unused = [variable.name for variable in problem.variables if not variable.is_used]
    if unused:
        findings.append("nothing depends on: " + ", ".join(unused) + " (left out of runs)")
    for row in problem.rows:
        if not problem.graph.variables_of([row.node]):
            findings.append(f'constraint "{row.name}" depends on no variable')
    objective = problem.objective
    if objective is not None and problem.seeks_feasible:
        findings.append(f'objective "{objective.name}" is constant: a run looks for any feasible design')
    return Standing(
        problem,
        point != problem.baseline,
        {name: value for name, (value, _) in named.items()},
        bounds,
        rows,
        measures.violation(np.array(point), evaluation.rows),
        notes,
        tuple(findings),
    )


def _is_fixed(state: LimitState) -> bool:
    return state.lower == state.upper


def _off_grid(problem: Problem, point: tuple[float, ...]) -> list[str]:
    return [
        f"{variable.name} = {value:.10g} is not one of its {variable.kind} values;"
        f" the nearest is {variable.member(value):.10g}"
        for variable, value in zip(problem.variables, point, strict=True)
        if variable.kind != "continuous" and variable.lower <= value <= variable.upper and not variable.allows(value)
    ]


def trouble_sentence(name: str, trouble: Trouble) -> str:
    """Return one sentence on a value that is not finite: which, where in which formula, why."""
    return f"{name} has no finite value{trouble_clause(trouble)}"
