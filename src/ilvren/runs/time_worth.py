"""What one unit more of a fixed time is worth, by the envelope theorem.

With y and z the multipliers of rows c(v) ≥ l and bounds v ≥ b at the optimum v of the problem on its grid, T its end,

    dJ/dT = ∂f/∂T − y' (∂c/∂T − ∂l/∂T) + z' ∂b/∂T                                                  (1)

the unknowns staying at their shares of the time, as the grid and the pieces of controls do. The problem is written out
again for an end a little later and a little earlier; (1) is the difference of its Lagrangians. So it counts whatever
knows how long the time is: averages, pieces, tables, limits that change with it.

Source: for example D. Luenberger, Y. Ye, "Linear and Nonlinear Programming", 2008, section 11.7.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import IlvrenError
from ilvren.formula import interpret
from ilvren.problem import Declarations, Problem, TimeDeclaration, bind, built, formula_text

if TYPE_CHECKING:
    from ilvren.problem import CollocatedAxis

__all__ = ["time_worth"]

FloatArray = NDArray[np.float64]

# The ends of (1) differ by this share of the time.
SHARE = 1e-5


def time_worth(
    problem: Problem, axis: CollocatedAxis, point: FloatArray, multipliers: tuple[FloatArray, FloatArray]
) -> float | None:
    """Return the change of the objective, as written, per unit by which the time of an axis gets longer, at the optimum
    `point` of a collocated problem with the (internal) multipliers of rows and bounds; None where that cannot be told:
    of a free end, without an objective, where another end is another grid. Shapes: point (n,), multipliers (m,) and
    (n,)."""
    objective = problem.objective
    if axis.horizon.is_free_end or objective is None:
        return None
    step = SHARE * float(axis.horizon.duration_value)
    sides = []
    try:
        with np.errstate(all="ignore"):
            for change in (step, -step):
                other = _ending(problem, axis, change)
                sides.append(None if other is None else _lagrangian(problem, other, point, multipliers))
    except (IlvrenError, ArithmeticError, ValueError):
        return None
    later, earlier = sides
    if later is None or earlier is None:
        return None
    found = (later - earlier) / (2.0 * step)
    return objective.sign * found if math.isfinite(found) else None


def _ending(problem: Problem, axis: CollocatedAxis, change: float) -> Problem | None:
    """Return the problem with an end that much later; None where it is of another shape."""
    overrides = dict(problem.overrides)
    end = formula_text(axis.time.end) if axis.time.end is not None else ""
    only = len(problem.template.built_axes) == 1
    if only and end in problem.template.parameter_index and _is_number(problem, end):
        number = problem.parameter_values[problem.template.parameter_index[end]]
        overrides[end] = float(number) + change  # whatever else it says, too
        end = ""
    elif end:
        end = f"({end}) + ({change!r})"
    else:
        return None
    grids = {own.case: tuple(own.taus.tolist()) for own in problem.template.built_axes}
    declared = _moved(problem.template.declarations, axis.case, end, grids)
    found = bind(built(declared, overrides), parameters=overrides, starts={})
    is_alike = found.size == problem.size and found.row_count == problem.row_count
    return found if is_alike and _shapes(found) == _shapes(problem) else None


def _shapes(problem: Problem) -> list[tuple[str, Any]]:
    blocks = [(block.name, block.shape) for block in problem.blocks]
    return [*blocks, *((block.name, block.shape) for block in problem.row_blocks)]


def _is_number(problem: Problem, name: str) -> bool:
    return np.ndim(problem.parameter_values[problem.template.parameter_index[name]]) == 0


def _moved(declared: Declarations, case: str, end: str, grids: Mapping[str, tuple[float, ...]]) -> Declarations:
    """Return the declarations with another end of a case, "" for its own, on the same grids and no others."""
    assert declared.time is not None

    def fixed(time: TimeDeclaration, own: str) -> TimeDeclaration:
        found = replace(time, grid=grids.get(own, ()), is_fixed=own in grids)
        return replace(found, end=end) if end and own == case else found

    cases = tuple(replace(item, time=fixed(item.time, item.case)) for item in declared.time_cases)
    return replace(declared, time=fixed(declared.time, ""), time_cases=cases)


def _lagrangian(
    problem: Problem, other: Problem, point: FloatArray, multipliers: tuple[FloatArray, FloatArray]
) -> float | None:
    """Return the Lagrangian of (1) of the problem with another end, None where what it depends on has no multiplier."""
    rows, bounds = multipliers
    held = problem.joined("lower") == problem.joined("upper")
    if (held & (bounds == 0.0) & (other.joined("lower") != problem.joined("lower"))).any():
        return None
    assert other.objective is not None
    nodes = [other.objective.node, *(block.node for block in other.row_blocks)]
    found = interpret(other.graph, nodes, other.split(point), other.parameter_values).values
    values = [np.ravel(np.asarray(value, dtype=float)) for value in found[1:]]
    values = [np.broadcast_to(value, (block.size,)) for value, block in zip(values, other.row_blocks, strict=True)]
    own = np.concatenate([np.zeros(0), *values])
    total = other.objective.sign * float(np.asarray(found[0]))
    total -= _pressed(rows, own, other.joined_rows("lower"), other.joined_rows("upper"))
    return total - _pressed(bounds, point, other.joined("lower"), other.joined("upper"))


def _pressed(prices: FloatArray, values: FloatArray, lower: FloatArray, upper: FloatArray) -> float:
    """Return Σ y (c − l) over what has a price: at the lower limit where it is above 0, else at the upper one."""
    at = np.flatnonzero(prices)
    limits = np.where(prices[at] > 0.0, lower[at], upper[at])
    limits = np.where(np.isfinite(limits), limits, np.where(prices[at] > 0.0, upper[at], lower[at]))
    return float(prices[at] @ (values[at] - limits))
