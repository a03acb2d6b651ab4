"""What a method may be given: problems that it does not handle are refused, with those that do."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ilvren.errors import RequestError
from ilvren.methods import Method, method_named, method_names
from ilvren.methods.pieces import SAMPLE
from ilvren.problem import Problem, sum_of_squares

if TYPE_CHECKING:
    pass

__all__ = ["MOST_ENTRIES", "refuse_other_kind", "refuse_unhandled", "told_objectives"]

# A dense Jacobian beyond this many entries makes a run of a dense method hopeless.
MOST_ENTRIES = 8_000_000


def refuse_unhandled(problem: Problem, method: Method) -> None:
    """Raise RequestError when `method` does not handle what the free variables and rows of `problem` are."""
    needed = {
        kind: [b.name for b in problem.blocks if b.kind == kind and ((b.lower < b.upper) & b.is_used).any()]
        for kind in ("spaced", "catalogue")
    }
    refuse_other_kind(problem, method)
    n = len(problem.free)
    entries = n * problem.row_count if method.needs_derivatives and not method.takes_sparse else 0
    _refuse_rows(problem, method)
    if method.only_members and len(problem.continuous_places):
        name = problem.variables[int(problem.continuous_places[0])].name
        raise RequestError(
            f'method "{method.name}" handles spaced and catalogue variables only; "{name}" is continuous',
            file=problem.source.file,
            line=problem.source.line("variables", name),
            advice="leave --method out: the problem decides by which one",
        )
    if method.needs == "residuals" and not sum_of_squares(problem):
        raise RequestError(
            f'method "{method.name}" needs an objective that is a sum of squares, and this one is not of that form',
            file=problem.source.file,
            line=problem.objective.line if problem.objective else None,
            advice="declare residuals in [fit], or minimize a formula such as sum((model - data)^2)",
        )
    if method.most_variables is not None and (n > method.most_variables or entries > MOST_ENTRIES):
        raise RequestError(
            f'method "{method.name}" works on dense matrices, for up to about {method.most_variables} variables;'
            f" this problem has {n} free variables and {problem.row_count} rows",
            advice=f"methods without that limit: {', '.join(_unlimited(problem))}",
        )
    for what, names in needed.items():
        if not names or what in method.handles:
            continue
        able = _able(what)
        listed = ", ".join(f'"{name}"' for name in names[:5])
        advice = f"methods that handle them: {', '.join(able)}"
        raise RequestError(
            f'method "{method.name}" handles continuous variables only; {what}: {listed}',
            file=problem.source.file,
            line=problem.source.line("variables", names[0]),
            advice=advice,
        )


def refuse_other_kind(problem: Problem, method: Method) -> None:
    """Raise RequestError where a method finds fronts and there is one objective, or the other way round."""
    is_several = len(problem.objectives) > 1
    if method.kind == SAMPLE or is_several == method.finds_fronts:
        return
    if is_several:
        names = [item.name for item in problem.objectives]
        raise RequestError(
            f'method "{method.name}" finds the best of one objective, and {problem.source.file} has {len(names)}:'
            f" {', '.join(names)}",
            advice=f"for their trade-offs: {', '.join(_front_methods())}; for one objective: --only {names[0]}",
        )
    raise RequestError(
        f'method "{method.name}" finds trade-offs between several objectives, and {problem.source.file} has'
        f" {told_objectives(problem)}",
        advice="leave --method out: the problem decides by which one",
    )


def told_objectives(problem: Problem) -> str:
    """Return how many objectives a problem has that is not one of trade-offs, in words."""
    if problem.objective is None:
        return "none"
    written = len(problem.template.declarations.objectives) if problem.template is not None else 1
    return "one" if written < 2 or problem.aim else "only one that is not the same at all designs"


def _front_methods() -> list[str]:
    return [name for name in method_names() if method_named(name).finds_fronts]


def _refuse_rows(problem: Problem, method: Method) -> None:
    """Raise RequestError when there are limits of a kind that `method` does not handle."""
    for block in problem.row_blocks:
        if block.is_objective:
            continue
        kind = "equalities" if (block.lower == block.upper).any() else "inequalities"
        if kind in method.handles or not block.size:
            continue
        raise RequestError(
            f'method "{method.name}" does not handle constraints such as "{block.entry}"',
            file=problem.source.file,
            line=block.line,
            advice="methods that do: " + ", ".join(_able(kind)),
        )
    bounded = [b for b in problem.blocks if ((np.isfinite(b.lower) | np.isfinite(b.upper)) & (b.lower < b.upper)).any()]
    if bounded and "bounds" not in method.handles:
        raise RequestError(
            f'method "{method.name}" does not handle bounds such as those of "{bounded[0].name}"',
            file=problem.source.file,
            line=bounded[0].line,
            advice="methods that do: " + ", ".join(_able("bounds")),
        )


def _able(kind: str) -> list[str]:
    methods = map(method_named, method_names())
    return [method.name for method in methods if kind in method.handles and not method.finds_fronts]


def _unlimited(problem: Problem) -> list[str]:
    kind = "inequalities" if problem.row_count else "bounds"
    return [name for name in _able(kind) if method_named(name).most_variables is None]
