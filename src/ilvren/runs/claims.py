"""What stands behind a claim before a user sees it: what a method may be given, where a start is invalid, whether a
violation really is stationary."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError
from ilvren.evaluate import Evaluation
from ilvren.formula import Trouble
from ilvren.methods.base import Method, method_named, method_names
from ilvren.problem import Measures, NamedValue, Objective, Problem, Row

__all__ = ["refuse_unhandled", "trouble_clause", "violation_is_stationary", "where_invalid"]

FloatArray = NDArray[np.float64]

# An "infeasible" claim is believed when the violation's own gradient is this small a share of what its
# parts could add up to.
VIOLATION_STATIONARY = 1e-3
MENDING = "another start, or a bound that keeps it valid, mends this"


def refuse_unhandled(problem: Problem, method: Method) -> None:
    """Raise RequestError when `method` does not handle what the free variables and rows of `problem` are."""
    needed = {
        "spaced": [problem.variables[i].name for i in problem.free if problem.variables[i].kind == "spaced"],
        "catalogue": [problem.variables[i].name for i in problem.free if problem.variables[i].kind == "catalogue"],
    }
    for what, names in needed.items():
        if not names or what in method.handles:
            continue
        able = [name for name in method_names() if what in method_named(name).handles]
        listed = ", ".join(f'"{name}"' for name in names[:5])
        advice = (
            f"methods that handle them: {', '.join(able)}"
            if able
            else "no method of this version handles them: fix such a variable by lower = upper = one member,"
            " or drop its spacing or catalogue and round the continuous optimum, checking it with `ilvren show --at`"
        )
        raise RequestError(
            f'method "{method.name}" handles continuous variables only; {what}: {listed}',
            file=problem.source.file,
            line=problem.source.line("variables", names[0]),
            advice=advice,
        )


def where_invalid(problem: Problem, start: Evaluation | None) -> str:
    """Return the place of the first trouble at the start (evaluated as `start`) and what usually mends it, as
    clauses to follow a reason; "" when nothing is found."""
    entries: list[NamedValue | Objective | Row] = [*problem.derived, *problem.rows]
    if problem.objective is not None:
        entries.insert(len(problem.derived), problem.objective)
    values = problem.named_values(problem.start)
    for entry in entries:
        trouble = values[entry.name][1]
        if trouble is None:
            continue
        place = f"{problem.source.file}:{entry.line}" if entry.line else problem.source.file
        return f'; "{entry.name}" ({place}) fails{trouble_clause(trouble)}; {MENDING}'
    return _where_steep(problem, start)


def trouble_clause(trouble: Trouble) -> str:
    """Return where in which formula an operation failed, why, and with what arguments, as a clause."""
    origin, place = trouble.origin, ""
    if origin is not None:
        place = f' at "{" ".join(origin.text[slice(*origin.span)].split())}" in {origin.entry}'
    given = ", ".join(f"{argument:.6g}" for argument in trouble.arguments)
    return place + (f": {trouble.reason}" if trouble.reason else "") + (f" (given {given})" if given else "")


def _where_steep(problem: Problem, start: Evaluation | None) -> str:
    """Return the first derivative at the start that is not finite, as clauses."""
    if start is None or start.gradient is None or start.jacobian is None:
        return ""
    names = [problem.objective.name if problem.objective else "objective", *(row.name for row in problem.rows)]
    for name, slopes in zip(names, [start.gradient, *start.jacobian], strict=True):
        for variable, slope in zip(problem.variables, slopes, strict=True):
            if not math.isfinite(slope):
                return f'; the derivative of "{name}" by "{variable.name}" is {slope:g}; {MENDING}'
    return ""


def violation_is_stationary(
    problem: Problem, measures: Measures, point: FloatArray, evaluation: Evaluation, row_scale: FloatArray
) -> bool:
    """Return whether J'v, projected onto the bounds, is small at `point`: v the signed misses, in the scale (m,)
    of the rows that the method worked in."""
    if not evaluation.has_finite_derivatives:
        return False
    assert evaluation.jacobian is not None
    free = list(problem.free)
    nearest_value = np.clip(evaluation.rows, measures.row_lower, measures.row_upper)
    v = (evaluation.rows - nearest_value) / row_scale
    scaled = evaluation.jacobian / row_scale[:, np.newaxis] * measures.variable_sizes(point)
    slope = scaled.T @ v
    slope = np.where((point <= measures.lower) & (slope > 0.0), 0.0, slope)
    slope = np.where((point >= measures.upper) & (slope < 0.0), 0.0, slope)
    possible = np.abs(scaled).T @ np.abs(v) + float(np.abs(v).max(initial=0.0))
    return bool((np.abs(slope) <= VIOLATION_STATIONARY * possible)[free].all())
