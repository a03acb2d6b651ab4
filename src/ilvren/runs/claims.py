"""What stands behind a claim before a user sees it: what a method may be given, where a start is invalid, whether a
violation really is stationary."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import signed_least_squares, sparse_signed_least_squares
from ilvren.errors import RequestError
from ilvren.methods import Method, method_named, method_names
from ilvren.methods.pieces import SAMPLE
from ilvren.problem import Measures, NamedValue, Objective, Problem, RowBlock, sum_of_squares

if TYPE_CHECKING:
    from ilvren.evaluate import Evaluation, Gate
    from ilvren.formula import Trouble

__all__ = [
    "MODEL_OPERATIONS",
    "MOST_ENTRIES",
    "mending",
    "refuse_other_kind",
    "refuse_unhandled",
    "start_trouble",
    "told_objectives",
    "trouble_clause",
    "violation_is_stationary",
    "where_invalid",
]

FloatArray = NDArray[np.float64]

# An "infeasible" claim is believed when the violation's own gradient is this small a share of what its
# parts could add up to.
VIOLATION_STATIONARY = 1e-3
# What counts as a miss there, in the row's scale and against the largest; up to so many rows just met are balanced by
# dense matrices, more of them by sparse ones.
CLEAR_MISS, CLEAR_SHARE, MOST_HELD = 1e-9, 1e-5, 500
# A dense Jacobian beyond this many entries makes a run of a dense method hopeless.
MOST_ENTRIES = 8_000_000
MODEL_OPERATIONS = ("output", "model_vjp", "model_jvp", "model_hvp")
MENDING = "another start, or a bound that keeps it valid, mends this"


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
    found = gate.slope_trouble(np.array(problem.start))
    if found is None:
        return ""
    name, variable, trouble = found
    return f'; the derivative of "{name}" by "{variable}" is not finite{trouble_clause(trouble)}; {mending(trouble)}'


def violation_is_stationary(
    problem: Problem, measures: Measures, point: FloatArray, evaluation: Evaluation, row_scale: FloatArray
) -> bool:
    """Return whether no direction within the bounds lowers the violation at `point` to first order, as Σ v² or Σ |v|, v
    being the signed misses in the scale (m,) of the rows that the method worked in."""
    if not evaluation.has_finite_derivatives:
        return False
    nearest_value = np.clip(evaluation.rows, measures.row_lower, measures.row_upper)
    v = (evaluation.rows - nearest_value) / row_scale
    clear = max(CLEAR_MISS, CLEAR_SHARE * float(np.abs(v).max(initial=0.0)))
    signs = np.sign(np.where(np.abs(v) > clear, v, 0.0))
    return _pressure_vanishes(problem, measures, point, evaluation, row_scale, v) or _pressure_vanishes(
        problem, measures, point, evaluation, row_scale, signs, held=True
    )


def _scaled_normals(jacobian: Any, row_scale: FloatArray, sizes: FloatArray) -> Any:
    """Return the gradients of rows, scaled: dense where they are few, else as sparse as they come."""
    if not isinstance(jacobian, np.ndarray) and jacobian.shape[0] > MOST_HELD:
        from scipy.sparse import diags_array

        return (diags_array(1.0 / row_scale) @ jacobian @ diags_array(sizes)).tocsr()
    dense = jacobian if isinstance(jacobian, np.ndarray) else jacobian.toarray()
    return dense / row_scale[:, np.newaxis] * sizes


def _pressure_vanishes(
    problem: Problem,
    measures: Measures,
    point: FloatArray,
    evaluation: Evaluation,
    row_scale: FloatArray,
    weights: FloatArray,
    *,
    held: bool = False,
) -> bool:
    """Return whether Σ weight · gradient of the scaled rows, projected onto the bounds, is small against its parts.
    With `held`, rows just met may press against it with up to the weight 1 each."""
    sizes = measures.variable_sizes(point)
    free = problem.free_places
    slope = sizes * (evaluation.jacobian.T @ (weights / row_scale))
    possible = sizes * (abs(evaluation.jacobian).T @ np.abs(weights / row_scale))
    near = VIOLATION_STATIONARY * 1e-2 * sizes
    at_low, at_high = point <= measures.lower + near, point >= measures.upper - near
    if held:
        slack = VIOLATION_STATIONARY * row_scale
        at_lower = np.abs(evaluation.rows - measures.row_lower) <= slack
        at_upper = np.abs(evaluation.rows - measures.row_upper) <= slack
        just_met = np.flatnonzero((weights == 0.0) & (at_lower | at_upper))
        if len(just_met):
            normals = _scaled_normals(evaluation.jacobian[just_met], row_scale[just_met], sizes)
            open_places = free[~(at_low | at_high)[free]]
            signs = np.where((at_lower & at_upper)[just_met], 0.0, np.where(at_lower[just_met], -1.0, 1.0))
            if isinstance(normals, np.ndarray):
                u = signed_least_squares(normals[:, open_places].T, -slope[open_places], signs)
            else:
                u = sparse_signed_least_squares(normals[:, open_places].T.tocsr(), -slope[open_places], signs)
            u = np.clip(u, -1.0, 1.0)
            slope = slope + normals.T @ u
            possible = possible + abs(normals).T @ np.abs(u)
    slope = np.where(at_low & (slope > 0.0) | at_high & (slope < 0.0), 0.0, slope)
    possible = possible + float(np.abs(weights).max(initial=0.0))
    return bool((np.abs(slope) <= VIOLATION_STATIONARY * possible)[free].all())
