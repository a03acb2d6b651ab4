"""Limits over time of a collocated problem, and what is measured along it, looked at between the points of the grid.
Between its own points a control that is chosen at every moment is the polynomial through them: its bounds are looked
at, too, and told apart, since whoever follows it can cut it off there."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import FormulaError
from ilvren.formula import TIME_FUNCTIONS, Call, interpret, joint_shape, parse_limits
from ilvren.problem.entries import EntryDeclaration, formula_text
from ilvren.problem.regridding import read_control
from ilvren.problem.time_functions import measured
from ilvren.problem.time_measures import Measures
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.problem.collocated import CollocatedAxis
    from ilvren.problem.model import Problem

__all__ = ["Between", "limits_between"]

FloatArray = NDArray[np.float64]

# Shares of an interval at which limits are looked at, beside a scheme's own points.
PARTS = 6
# At so many moments at least limits are looked at, and what is measured.
LEAST_LIMITS, LEAST_MEASURED = 36, 200


@dataclass(frozen=True)
class Between:
    """One limit along an axis: its `name`, the shares `taus` (k,) of the time, and by how much it is broken there (k,),
    over the row's size; negative where there is room. `kind` "limit"; "bound": the bounds of a control that is chosen
    at every moment, over the way between them; "measure": by how much
    what is measured is something else than is told, over its size."""

    name: str
    case: str
    taus: FloatArray
    miss: FloatArray
    kind: str = "limit"


def limits_between(problem: Problem, point: FloatArray) -> list[Between]:
    """Return every limit that holds at every moment, looked at between the points of the grid, at a full design."""
    found: list[Between] = []
    sizes = {block.entry: _size(block, problem) for block in problem.row_blocks if block.times is not None}
    for axis in problem.template.built_axes:
        taus = _between(axis, LEAST_LIMITS)
        moments = axis.fixed_moments(("between",), taus, np.zeros(len(taus), dtype=bool))
        for entry in problem.template.declarations.constraints:
            told = _limit_nodes(axis, entry, moments)
            if told is None:
                continue
            found.append(_looked_at(problem, axis, entry.name, told, sizes.get(entry.name, 1.0), point, taus))
        found += _measured_between(problem, axis, point, taus)
        found += _bounds_between(problem, axis, point, taus)
    return [item for item in found if len(item.taus)]


def _size(block: Any, problem: Problem) -> float:
    magnitude = block.magnitude[np.isfinite(block.magnitude)]
    limits = np.concatenate([block.lower, block.upper])
    limits = np.abs(limits[np.isfinite(limits)])
    own = float(magnitude.max(initial=0.0)) or float(limits.max(initial=0.0))
    return own or 1.0


def _between(axis: CollocatedAxis, least: int) -> FloatArray:
    """Return moments between the points, at least so many."""
    parts = max(PARTS, -(-least // (len(axis.taus) - 1)))
    shares = (np.arange(parts) + 0.5) / parts
    return np.asarray((axis.taus[:-1, np.newaxis] + np.diff(axis.taus)[:, np.newaxis] * shares).ravel())


class _Finer:
    """An axis with more moments in its grid, for what is measured along it."""

    def __init__(self, axis: CollocatedAxis, taus: FloatArray) -> None:
        self._axis, self.taus, self.key = axis, taus, f"{axis.key} finer"
        self.grid = axis.fixed_moments(("finer",), taus, taus >= 1.0)
        self.lefts = self.sides = self.grid
        if axis.lefts is not axis.grid:  # something jumps
            self.lefts = axis.fixed_moments(("finer lefts",), taus[1:], np.ones(len(taus) - 1, dtype=bool))
            own = np.array(axis.sides.taus)
            twice = own[:-1][np.diff(own) == 0.0]
            self.sides = replace(self.grid, taus=tuple(np.sort(np.concatenate([taus, twice])).tolist()))

    def __getattr__(self, name: str) -> Any:
        return getattr(self._axis, name)


def _measured_between(problem: Problem, axis: CollocatedAxis, point: FloatArray, taus: FloatArray) -> list[Between]:
    """Return what is measured, as it is told against the same measure by moments between the points, too."""
    own = [item for item in axis.template.measures if item.axis is axis]
    if not own:
        return []
    finer: Any = _Finer(axis, np.unique(np.concatenate([_between(axis, LEAST_MEASURED), axis.taus])))
    measures, found = Measures(finer), []
    for item in own:
        seen = measured(axis.template, axis, item.function, item.node, item.levels, measures)
        nodes = [item.told, seen, axis.spread(item.node, finer.grid)]
        # Moments bring data of their own along.
        numbers = [*problem.parameter_values, *axis.template.values[len(problem.parameter_values) :]]
        values = interpret(problem.graph, nodes, problem.split(point), numbers).values
        told, there, signal = (np.asarray(value, dtype=float) for value in values)
        sizes = signal if item.function in ("highest", "lowest") else np.array([told, there])
        off = float(np.abs(there - told).max(initial=0.0)) / (float(np.abs(sizes).max(initial=0.0)) or 1.0)
        off = off if np.isfinite(off) else 1.0  # it has no value there
        # What is told stands nowhere in particular: all of the grid is too coarse.
        found.append(Between(item.entry, axis.case, taus, np.full(len(taus), off), kind="measure"))
    return found


def _bounds_between(problem: Problem, axis: CollocatedAxis, point: FloatArray, taus: FloatArray) -> list[Between]:
    """Return the bounds of the controls that are chosen at every moment, over the way between them."""
    found = []
    for name in sorted(axis.pointwise & set(axis.own_points)):
        block = next(item for item in problem.blocks if item.name == name)
        values = point[block.first : block.first + block.size]
        flat = read_control(problem, block, values, taus).reshape(len(taus), -1)
        each = flat.shape[1]
        low, high = (side.reshape(-1, each) for side in (block.lower, block.upper))
        if not ((low == low[0]).all() and (high == high[0]).all()):
            continue  # bounds of their own at every point say nothing between them
        reach = np.where(np.isfinite(high[0] - low[0]), high[0] - low[0], np.maximum(np.abs(flat).max(axis=0), 1e-300))
        miss = np.maximum(low[0] - flat, flat - high[0]) / np.where(reach > 0.0, reach, 1.0)
        found.append(Between(name, axis.case, taus, miss.max(axis=1), kind="bound"))
    return found


def _limit_nodes(axis: CollocatedAxis, entry: EntryDeclaration, moments: Any) -> list[tuple[int, str]] | None:
    """Return (node over the moments of what should not be above 0, what it is) of the limit's inequalities; None of
    one that is no limit along this axis."""
    template = axis.template
    try:
        limits = parse_limits(formula_text(entry.formula))
    except FormulaError:
        return None
    if "==" in limits.operators:
        return None
    if any(isinstance(side, Call) and side.function in TIME_FUNCTIONS for side in limits.sides):
        return None
    if not any(template.is_over_time(side) is axis for side in limits.sides):
        return None
    own = [axis.moment(entry, side) for side in limits.sides]
    shape: tuple[int, ...] = ()
    for node in own:
        shape = joint_shape(shape, axis.graph.shape(node))
    nodes = [axis.spread(axis.graph.stretched(node, shape), moments) for node in own]
    graph = template.graph
    pairs = []
    for operator, left, right in zip(limits.operators, nodes, nodes[1:], strict=False):
        low, high = (left, right) if operator == "<=" else (right, left)
        pairs.append((graph.apply("sub", low, high), operator))
    return pairs


def _looked_at(
    problem: Problem,
    axis: CollocatedAxis,
    name: str,
    told: list[tuple[int, str]],
    size: float,
    point: FloatArray,
    taus: FloatArray,
) -> Between:
    block = next((item for item in problem.blocks if item.name == f"{name}@grid"), None)
    if block is not None:
        size = float(np.nanmax(block.magnitude))
    numbers = [*problem.parameter_values, *axis.template.values[len(problem.parameter_values) :]]
    values = interpret(problem.graph, [node for node, _ in told], problem.split(point), numbers).values
    miss = np.full(len(taus), -np.inf)
    for value in values:
        array = np.asarray(value, dtype=float)
        array = (
            np.broadcast_to(array, (len(taus), *array.shape[1:])) if array.ndim else np.full(len(taus), float(array))
        )
        flat = array.reshape(len(taus), -1).max(axis=1)
        miss = np.fmax(miss, np.where(np.isnan(flat), size, flat))  # where it has no value nobody keeps it
    return Between(name, axis.case, taus, miss / size)
