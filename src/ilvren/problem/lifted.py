"""A problem with its kinks lifted: smooth, of more variables and rows, whose optima are those of the problem itself."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from ilvren.formula import KINKED, LiftedKink
from ilvren.problem.model import Problem, RowBlock
from ilvren.problem.variables import VariableBlock
from ilvren.records import dataclass

__all__ = ["Lifted", "has_kinks", "lifted_of"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Lifted:
    """`problem` is `own` with the unknowns of the kinks after its variables, and their limits after its rows; `kinks`
    are the nodes in whose place they stand. `is_smooth`: no kink is left in it."""

    own: Problem
    problem: Problem
    kinks: tuple[int, ...]
    is_smooth: bool

    def with_kinks(self, point: FloatArray, values: Sequence[object]) -> FloatArray:
        """Return the lifted design (n + k,) of a design (n,) and the values of the kinks there."""
        return np.concatenate([point, *(np.ravel(np.asarray(value, dtype=float)) for value in values)])

    def point_at(self, point: Sequence[float] | FloatArray) -> FloatArray:
        """Return the lifted design (n + k,) of a design (n,), the unknowns being what the kinks are."""
        return self.with_kinks(np.asarray(point, dtype=float), self.own.entry_values(self.kinks, point).values)


def lifted_of(problem: Problem) -> Lifted | None:
    """Return the problem with its kinks lifted, as far as they can be; None where there are none."""
    found: Lifted | None = problem.kept("lifted", _lifted)
    return found


def has_kinks(problem: Problem) -> bool:
    """Return whether a formula that is asked for has a derivative that jumps somewhere."""
    graph = problem.graph
    varying: set[int] = set()
    for number in graph.reachable(_roots(problem)):
        node = graph.nodes[number]
        if node.operation in ("variable", "call") or any(operand in varying for operand in node.operands):
            varying.add(number)
            is_peak = node.operation == "where" and graph.nodes[node.operands[0]].operation == "peaked"
            if node.operation in KINKED and not is_peak:
                return True
    return False


def _roots(problem: Problem) -> list[int]:
    roots = [block.node for block in problem.row_blocks]
    return roots if problem.objective is None else [*roots, problem.objective.node]


def _lifted(problem: Problem) -> Lifted | None:
    """Return a problem of formulas with its kinks lifted, as far as they can be; None where none can."""
    from ilvren.formula import Entry, lift

    if problem.sources or problem.grid or not has_kinks(problem):
        return None
    entries = [Entry(block.node, _pressed(block)) for block in problem.row_blocks]
    if problem.objective is not None:
        entries.append(Entry(problem.objective.node, frozenset({problem.objective.sign})))
    boxes = {
        index: (block.lower.reshape(block.shape), block.upper.reshape(block.shape))
        for index, block in enumerate(problem.blocks)
    }
    found = lift(problem.graph, entries, boxes, problem.parameter_values, len(problem.blocks))
    if found is None:
        return None
    kinks = tuple(kink.node for kink in found.kinks)
    starts = problem.entry_values(kinks, problem.start).values
    baselines = problem.entry_values(kinks, problem.baseline).values
    blocks = list(problem.blocks)
    for kink, start in zip(found.kinks, starts, strict=True):
        blocks.append(_unknown(kink, sum(block.size for block in blocks), start, is_bounded=found.is_bounded))
    rows = [replace(block, node=node) for block, node in zip(problem.row_blocks, found.nodes, strict=False)]
    for kink in found.kinks:
        for node, terms in zip(kink.rows, kink.terms, strict=True):
            shape = problem.graph.shape(node)
            rows.append(_limit(kink, node, shape, terms, sum(block.size for block in rows)))
    objective = problem.objective
    lifted = replace(
        problem,
        blocks=tuple(blocks),
        row_blocks=tuple(rows),
        objective=None if objective is None else replace(objective, node=found.nodes[-1]),
        baseline=(*problem.baseline, *np.concatenate([np.ravel(value) for value in baselines]).tolist()),
        derived=(),
        residuals=(),
        order=(),
        template=None,
    )
    return Lifted(problem, lifted, kinks, is_smooth=not has_kinks(lifted))


def _pressed(block: RowBlock) -> frozenset[int]:
    """A row with an upper limit is to be small, one with a lower limit large; an objective as it is asked for."""
    if block.is_objective:
        return frozenset({block.objective_sign})
    found = {1} if np.isfinite(block.upper).any() else set()
    return frozenset(found | ({-1} if np.isfinite(block.lower).any() else set()))


def _unknown(kink: LiftedKink, first: int, start: object, *, is_bounded: bool) -> VariableBlock:
    size = math.prod(kink.shape)
    low, high = (np.broadcast_to(side, kink.shape).ravel().astype(float) for side in kink.box)
    nothing = np.full(size, np.inf)
    values = np.nan_to_num(np.ravel(np.asarray(start, dtype=float)), nan=0.0)
    return VariableBlock(
        name=f"kink {kink.index}",
        shape=kink.shape,
        first=first,
        start=values,
        lower=low if is_bounded and kink.side > 0 else -nothing,
        upper=high if is_bounded and kink.side < 0 else nothing,
        magnitude=np.full(size, np.nan),
        is_used=np.ones(size, dtype=bool),
    )


def _limit(kink: LiftedKink, node: int, shape: tuple[int, ...], terms: tuple[int, int], first: int) -> RowBlock:
    size = math.prod(shape)
    name = f"limit of kink {kink.index}"
    zero = np.zeros(size)
    return RowBlock(
        name=name,
        entry=name,
        node=node,
        shape=shape,
        first=first,
        lower=zero,
        upper=np.full(size, np.inf),
        magnitude=np.full(size, np.nan),
        terms=terms,
    )
