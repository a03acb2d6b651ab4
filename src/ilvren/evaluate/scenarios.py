"""Designs × parameter values: the same formulas under many parameter values in a few vectorised calls."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError, nearest
from ilvren.evaluate.as_written import BATCH_NUMBERS, AsWritten
from ilvren.evaluate.forms import form_of
from ilvren.formula import batched_nodes
from ilvren.problem import decides_more
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.problem import Problem

__all__ = ["Scenarios", "scenario_values"]

FloatArray = NDArray[np.float64]

# Operations whose tables cannot have a batch axis.
TABLED = ("interp", "lookup")


@dataclass(frozen=True)
class Scenarios:
    """Values under each set of parameters: `objective` (k,) as written (NaN without one, or with several), `rows`
    (k, m) with their limits `lower` and `upper` (k, m), which parameters may change; `values` {name: (k, …)} of the
    entries written for."""

    objective: FloatArray
    rows: FloatArray
    lower: FloatArray
    upper: FloatArray
    values: Mapping[str, FloatArray]


def scenario_values(
    written: AsWritten, points: FloatArray, parameters: Mapping[str, FloatArray], names: Sequence[str] = ()
) -> Scenarios:
    """Return the values at a design (n,), or at one (k, n) for each set, under k sets of `parameters` {name: (k, …)};
    `names` are entries to be told, too. Raises RequestError for unknown names, values of another shape, and parameters
    that decide the shape of something."""
    problem = written.problem
    count = _count(problem, parameters)
    points = np.asarray(points, dtype=float)
    if points.shape not in ((problem.size,), (count, problem.size)):
        raise RequestError(f"designs of shape {points.shape} do not go with {count} sets of parameters")
    template = problem.template
    limits = [node for row in template.rows for node in (row.lower, row.upper) if node is not None]
    nodes = [written.entry_node(name) for name in names]
    roots = [*([problem.objective.node] if problem.objective else []), *(b.node for b in problem.row_blocks)]
    roots = [*roots, *limits, *nodes]
    columns = _columns(problem, parameters, count)
    found = _evaluated(written, roots, points, columns, count)
    objective = found.pop(0)[:, 0] if problem.objective else np.full(count, np.nan)
    rows = [found.pop(0) for _ in problem.row_blocks]
    lower, upper = list[FloatArray](), list[FloatArray]()
    for row, block in zip(template.rows, problem.row_blocks, strict=True):
        for node, side, without in ((row.lower, lower, -math.inf), (row.upper, upper, math.inf)):
            own = np.full((count, 1), without) if node is None else found.pop(0)
            side.append(np.broadcast_to(own, (count, block.size)))
    none = np.zeros((count, 0))
    return Scenarios(
        objective,
        np.concatenate([none, *rows], axis=1),
        np.concatenate([none, *lower], axis=1),
        np.concatenate([none, *upper], axis=1),
        {
            name: value.reshape(count, *problem.graph.shape(node))
            for name, node, value in zip(names, nodes, found, strict=True)
        },
    )


def _count(problem: Problem, parameters: Mapping[str, FloatArray]) -> int:
    known = {item.name: np.shape(item.value) for item in problem.parameters if not item.is_data}
    counts = set()
    for name, values in parameters.items():
        if name not in known:
            close = nearest(name, known)
            advice = f'did you mean "{close}"?' if close else "parameters: " + (", ".join(known) or "none")
            raise RequestError(f'no parameter "{name}"', advice=advice)
        if np.ndim(values) == 0 or np.shape(values)[1:] != known[name]:
            raise RequestError(f'"{name}" has the shape {known[name]}, not {np.shape(values)[1:]}')
        counts.add(len(values))
    if len(counts) != 1:
        raise RequestError("each parameter needs a value for each set, and at least one is to be given")
    return counts.pop()


def _columns(problem: Problem, parameters: Mapping[str, FloatArray], count: int) -> dict[int, FloatArray]:
    """Return {number of a parameter: (k, …)} of those that differ, those that are formulas of others included."""
    template = problem.template
    if not decides_more(template, parameters):
        return {template.parameter_index[name]: np.asarray(values, dtype=float) for name, values in parameters.items()}
    sets: list[list[Any]] = []
    for number in range(count):
        own = {name: values[number] for name, values in parameters.items()}
        overrides = {**problem.overrides, **{name: v if np.ndim(v) else float(v) for name, v in own.items()}}
        values = template.values_for(overrides)
        if values is None:
            told = ", ".join(parameters)
            raise RequestError(
                f"{told}: a parameter that decides a shape cannot differ from set to set", advice="use --sweep"
            )
        sets.append(values)
    found = {}
    for index in range(len(template.values)):
        column = np.array([values[index] for values in sets], dtype=float)
        if not bool((column == column[:1]).all()):
            found[index] = column
    return found


def _evaluated(
    written: AsWritten, roots: Sequence[int], points: FloatArray, columns: Mapping[int, FloatArray], count: int
) -> list[FloatArray]:
    """Return (k, size) of each root."""
    problem = written.problem
    graph = problem.graph
    kinds = tuple(f"parameter:{index}" for index in columns)
    kinds = (*kinds, "variable") if points.ndim == 2 else kinds
    shapes = [graph.shape(root) for root in roots]
    found = [np.empty((count, math.prod(shape))) for shape in shapes]
    step = max(1, BATCH_NUMBERS // max(*(math.prod(shape) for shape in shapes), problem.size, 1))
    if not _can_batch(written, roots, kinds):
        step = 1  # a table under a batch axis: set by set
    form = form_of(problem, roots, kinds, calls=written.calls) if step > 1 else None
    for first in range(0, count, step):
        last = min(first + step, count)
        part = {index: column[first:last] for index, column in columns.items()}
        if form is None:
            values = _one(written, roots, points[first] if points.ndim == 2 else points, part)
        else:
            given = [part.get(index, value) for index, value in enumerate(problem.parameter_values)]
            variables = problem.split(points) if points.ndim == 1 else _split(problem, points[first:last])
            values = form(variables, (), (), given)
        for own, value, shape in zip(found, values, shapes, strict=True):
            array = np.asarray(value, dtype=float)
            array = np.where(np.isfinite(array), array, np.nan)
            lead = array.shape[: array.ndim - len(shape)]
            own[first:last] = array.reshape(lead[0] if lead else 1, -1)
    return found


def _can_batch(written: AsWritten, roots: Sequence[int], kinds: Sequence[str]) -> bool:
    graph = written.problem.graph
    order = graph.reachable(roots)
    batched = batched_nodes(graph, order, [kind for kind in kinds if kind != "variable"])
    return not any(
        graph.nodes[number].operation in TABLED and any(o in batched for o in graph.nodes[number].operands[1:])
        for number in order
    )


def _one(written: AsWritten, roots: Sequence[int], point: FloatArray, part: Mapping[int, FloatArray]) -> list[Any]:
    from ilvren.formula import interpret

    problem = written.problem
    values = [part[i][0] if i in part else v for i, v in enumerate(problem.parameter_values)]
    return list(
        interpret(
            problem.graph, roots, problem.split(point), values, models=problem.with_simulations(written.calls)
        ).values
    )


def _split(problem: Problem, points: FloatArray) -> list[Any]:
    columns = np.ascontiguousarray(points.T)
    return [
        columns[block.first : block.first + block.size].T.reshape(len(points), *block.shape)
        if block.shape
        else columns[block.first]
        for block in problem.blocks
    ]
