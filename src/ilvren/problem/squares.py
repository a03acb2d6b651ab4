"""Sums of squares: the residuals behind an objective, declared by [fit] or recognised in its formula."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from ilvren.problem.model import Problem, Residual, RowBlock

if TYPE_CHECKING:
    from ilvren.formula import Graph

__all__ = ["residual_problem", "sum_of_squares"]


def sum_of_squares(problem: Problem) -> tuple[Residual, ...]:
    """Return residuals r with objective = ½ Σ r² + constant (or Σ of their losses, for [fit]); () where the objective
    is not of that kind."""
    if problem.residuals:
        return problem.residuals
    objective = problem.objective
    if objective is None or objective.sign < 0 or problem.seeks_feasible:
        return ()
    found = _Recognition(problem).residuals(objective.node, None)
    if not found:
        return ()
    return tuple(
        Residual(f"{objective.name}[{place}]" if len(found) > 1 else objective.name, node, "square", objective.text)
        for place, node in enumerate(found)
    )


def residual_problem(problem: Problem) -> Problem:
    """Return the problem whose rows are the residuals, without limits: what evaluates them and their derivatives."""
    blocks, first = [], 0
    for item in sum_of_squares(problem):
        shape = problem.graph.shape(item.node)
        size = math.prod(shape)
        open_end = np.full(size, np.inf)
        blocks.append(
            RowBlock(
                name=item.name,
                entry=item.name,
                node=item.node,
                shape=shape,
                first=first,
                lower=-open_end,
                upper=open_end,
                magnitude=np.full(size, np.nan),
            )
        )
        first += size
    return replace(problem, objective=None, objectives=(), row_blocks=tuple(blocks))


class _Recognition:
    """Takes a node apart along sums, positive factors and squares."""

    def __init__(self, problem: Problem) -> None:
        self.problem = problem
        self.graph: Graph = problem.graph

    def residuals(self, number: int, factor: int | None) -> list[int] | None:
        """Return residuals with node = ½ Σ r² + constant, each times √factor; None where there are none."""
        graph = self.graph
        node = graph.nodes[number]
        if not graph.variables_of([number]):
            return []
        match node.operation:
            case "add" | "sub":
                left = self.residuals(node.operands[0], factor)
                right = self.residuals(node.operands[1], factor)
                if left is None or right is None or (node.operation == "sub" and right):
                    return None
                return left + right
            case "mul" | "div":
                return self._scaled(number, factor)
            case "broadcast" | "expand" | "reshape":
                return None
            case "sum" if (node.detail or ())[1:] == (None,):
                return self.residuals(node.operands[0], factor)
            case "square":
                inner = graph.nodes[node.operands[0]]
                if inner.operation == "norm" and (inner.detail or ())[1:] == (None,):
                    return self._residual(inner.operands[0], factor)
                return self._residual(node.operands[0], factor)
            case "dot" if node.operands[0] == node.operands[1] and len(graph.shape(node.operands[0])) == 1:
                return self._residual(node.operands[0], factor)
        return None

    def _scaled(self, number: int, factor: int | None) -> list[int] | None:
        graph = self.graph
        node = graph.nodes[number]
        a, b = node.operands
        if node.operation == "mul" and a == b:
            return self._residual(a, factor)
        is_left_fixed = not graph.variables_of([a])
        if node.operation == "div":
            if is_left_fixed or graph.variables_of([b]):
                return None
            fixed, rest = graph.apply("div", graph.constant(1.0), b), a
        elif is_left_fixed:
            fixed, rest = a, b
        elif not graph.variables_of([b]):
            fixed, rest = b, a
        else:
            return None
        value = np.asarray(self.problem.entry_values([fixed], self.problem.start).values[0])
        if not (np.isfinite(value).all() and (value > 0.0).all()):
            return None
        return self.residuals(rest, fixed if factor is None else graph.apply("mul", factor, fixed))

    def _residual(self, number: int, factor: int | None) -> list[int]:
        graph = self.graph
        two = graph.constant(2.0)
        weight = two if factor is None else graph.apply("mul", two, factor)
        return [graph.apply("mul", graph.apply("sqrt", weight), number)]
