"""A problem of vectors and tables written out as one of scalars."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ilvren.formula import TooLong, unrolled
from ilvren.problem.model import Problem, RowBlock
from ilvren.problem.variables import VariableBlock

__all__ = ["scalar_problem"]

MOST_NODES = 20_000


def scalar_problem(problem: Problem) -> Problem | None:
    """Return the same problem with a scalar variable and row per element, designs in the same order; the problem itself
    where it has scalars only; None where it has models, or is too long."""
    if problem.sources:
        return None
    if not problem.graph.has_arrays:
        return problem
    roots = [block.node for block in problem.row_blocks]
    if problem.objective is not None:
        roots.append(problem.objective.node)
    if problem.size + problem.row_count > MOST_NODES // 4:
        return None
    try:
        starts = [block.first for block in problem.blocks]
        graph, found = unrolled(problem.graph, roots, problem.parameter_values, starts, MOST_NODES)
    except TooLong:
        return None
    rows = []
    for block, numbers in zip(problem.row_blocks, found, strict=False):
        for place, number in enumerate(np.broadcast_to(numbers, block.shape).ravel().tolist()):
            own = slice(place, place + 1)
            rows.append(
                RowBlock(
                    name=block.element(place).name,
                    entry=block.entry,
                    node=int(number),
                    shape=(),
                    first=block.first + place,
                    lower=block.lower[own],
                    upper=block.upper[own],
                    magnitude=block.magnitude[own],
                    unit=block.unit,
                    text=block.text,
                    line=block.line,
                )
            )
    blocks = [_element(block, place) for block in problem.blocks for place in range(block.size)]
    objective = problem.objective
    if objective is not None:
        objective = replace(objective, node=int(found[-1]))
    return replace(
        problem,
        graph=graph,
        blocks=tuple(blocks),
        row_blocks=tuple(rows),
        objective=objective,
        parameters=(),
        derived=(),
        residuals=(),
        order=(),
    )


def _element(block: VariableBlock, place: int) -> VariableBlock:
    own = slice(place, place + 1)
    return replace(
        block,
        name=block.element(place).name,
        shape=(),
        first=block.first + place,
        start=block.start[own],
        lower=block.lower[own],
        upper=block.upper[own],
        magnitude=block.magnitude[own],
        is_used=block.is_used[own],
    )
