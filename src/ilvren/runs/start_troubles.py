"""Where a start has no finite value, and what usually mends that."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ilvren.problem import NamedValue, Objective, Problem, RowBlock

if TYPE_CHECKING:
    from ilvren.evaluate import Gate
    from ilvren.formula import Trouble

__all__ = ["MODEL_OPERATIONS", "mending", "start_trouble", "trouble_clause", "where_invalid"]

MODEL_OPERATIONS = ("output", "model_vjp", "model_jvp", "model_hvp")
MENDING = "another start, or a bound that keeps it valid, mends this"


def start_trouble(problem: Problem, gate: Gate) -> tuple[NamedValue | Objective | RowBlock, Trouble] | None:
    """Return the first entry that has no finite value at the start, and its trouble."""
    entries: list[NamedValue | Objective | RowBlock] = [*problem.derived, *problem.row_blocks]
    if problem.objective is not None:
        entries.insert(len(problem.derived), problem.objective)
    values = problem.named_values(problem.start, gate.calls)
    for entry in entries:
        trouble = values[entry.name][1]
        if trouble is not None:
            return entry, trouble
    return None


def where_invalid(problem: Problem, gate: Gate) -> str:
    """Return the place of the first trouble at the start and what usually mends it, as clauses to follow a reason; ""
    when nothing is found."""
    found = start_trouble(problem, gate)
    if found is None:
        return _where_steep(problem, gate)
    entry, trouble = found
    place = f"{problem.source.file}:{entry.line}" if entry.line else problem.source.file
    name = entry.name
    if trouble.element and isinstance(entry, RowBlock):
        name = f"{entry.name}, element {list(trouble.element)}"
    return f'; "{name}" ({place}) fails{trouble_clause(trouble)}; {mending(trouble)}'


def mending(trouble: Trouble) -> str:
    """Return what usually mends a value or derivative that is not finite."""
    if trouble.operation in MODEL_OPERATIONS:
        if "asked for its derivatives (complex-step)" in trouble.reason:
            return 'derivatives = "differences" (or "automatic", for NumPy code) in its entry needs no complex numbers'
        if "asked for its derivatives (supplied)" in trouble.reason:
            return 'mend the function that supplies them, or write derivatives = "differences" in its entry'
        return "another start, or bounds that keep the model within its range, mend this"
    if trouble.is_fixed:
        return "no variable has a part in it: only another formula or other parameters mend this"
    if trouble.operation == "lookup":
        return "give the variable the keys as its catalogue"
    if trouble.operation in ("sqrt", "log", "log10", "pow", "div"):
        return "another start, or a bound that keeps the argument valid, or another way to write it, mends this"
    return MENDING


def trouble_clause(trouble: Trouble) -> str:
    """Return where in which formula an operation failed, why, and with what arguments, as a clause."""
    origin, place = trouble.origin, ""
    if origin is not None:
        element = f" (element {', '.join(map(str, trouble.element))})" if trouble.element else ""
        place = f' at "{" ".join(origin.text[slice(*origin.span)].split())}"{element} in {origin.entry}'
    given = ", ".join(f"{argument:.6g}" for argument in trouble.arguments)
    return place + (f": {trouble.reason}" if trouble.reason else "") + (f" (given {given})" if given else "")


def _where_steep(problem: Problem, gate: Gate) -> str:
    """Return the first derivative at the start that is not finite, as clauses."""
    found = gate.written.slope_trouble(np.array(problem.start))
    if found is None:
        return ""
    name, variable, trouble = found
    return f'; the derivative of "{name}" by "{variable}" is not finite{trouble_clause(trouble)}; {mending(trouble)}'
