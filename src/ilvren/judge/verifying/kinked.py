"""Designs at kinks: every smooth piece of the formulas that meets there is judged as a problem of its own.

Near the design the problem is the union of pieces, each smooth and valid where the gaps of the branches have the signs
that choose it. The design is a strict local optimum exactly when it is one of every piece that reaches it, the signs of
the gaps being limits of that piece; so its first- and second-order conditions bound every feasible directional
derivative from below.
"""

from __future__ import annotations

import itertools
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.evaluate import AsWritten, Gate, kinks_near
from ilvren.formula import SPLIT, smooth_piece
from ilvren.judge.optimum.judged import JudgedDesign
from ilvren.problem import Problem, RowBlock, scalar_problem
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.formula import Kink

__all__ = ["Pieces", "pieces_at"]

FloatArray = NDArray[np.float64]

# Beyond so many branches at one design the 2^k pieces are not followed.
MOST_BRANCHES = 7
MOST_VARIABLES = 40
# Branches that show only within a piece are taken up this many times.
MOST_DEPTH = 3


@dataclass(frozen=True)
class Pieces:
    """The pieces to be judged, and how many need not be: they do not reach the design, or jump upwards there. `lower`
    counts those whose objective is lower just beside the design; `is_complete` is false where not all were followed."""

    cases: tuple[JudgedDesign, ...]
    beside: int
    lower: int
    is_complete: bool


def pieces_at(case: JudgedDesign, kinks: list[Kink], radii: FloatArray) -> Pieces:
    """Return the smooth pieces that meet within `radii` (n,) of the case's design."""
    problem = scalar_problem(case.problem)
    if problem is None or len(problem.free) > MOST_VARIABLES:
        return Pieces((), 0, 0, is_complete=False)
    if problem is not case.problem:
        kinks = kinks_near(AsWritten(problem), case.point, radii)
    return _split(case, problem, kinks, radii, MOST_DEPTH)


def _split(case: JudgedDesign, problem: Problem, kinks: list[Kink], radii: FloatArray, depth: int) -> Pieces:
    nothing = Pieces((), 0, 0, is_complete=False)
    if depth == 0 or len(kinks) > MOST_BRANCHES:
        return nothing
    if any(kink.operation not in SPLIT for kink in kinks):
        return nothing
    found: list[JudgedDesign] = []
    beside = lower = 0
    for signs in itertools.product((True, False), repeat=len(kinks)):
        sides = {kink.node: sign for kink, sign in zip(kinks, signs, strict=True)}
        piece = _piece(problem, sides, case)
        own = _case(case, piece)
        slack = case.tolerance * case.size
        rows = own.evaluation.rows[: case.problem.row_count]
        if not own.evaluation.is_finite:
            return nothing
        if own.evaluation.objective > case.evaluation.objective + slack or _misses(case, rows):
            beside += 1
            continue
        if own.evaluation.objective < case.evaluation.objective - slack:
            lower += 1
            continue
        more = kinks_near(own.gate.written, case.point, radii)
        if more:
            deeper = _split(case, piece, more, radii, depth - 1)
            if not deeper.is_complete:
                return nothing
            found += deeper.cases
            beside, lower = beside + deeper.beside, lower + deeper.lower
        else:
            found.append(own)
    return Pieces(tuple(found), beside, lower, is_complete=True)


def _misses(case: JudgedDesign, rows: FloatArray) -> bool:
    misses = case.measures.row_misses(rows) / case.measures.row_sizes
    return bool((misses > case.feasibility).any())


def _piece(problem: Problem, sides: dict[int, bool], case: JudgedDesign) -> Problem:
    """Return the problem with its branches chosen, the signs of their gaps added as constraints."""
    graph = problem.graph
    roots = [block.node for block in problem.row_blocks]
    assert problem.objective is not None
    made, gaps = smooth_piece(graph, [problem.objective.node, *roots], sides)
    blocks = [replace(block, node=node, terms=()) for block, node in zip(problem.row_blocks, made[1:], strict=True)]
    magnitudes = np.concatenate([problem.joined_rows("magnitude"), np.full(len(gaps), np.nan)])
    first = problem.row_count
    for place, (branch, gap) in enumerate(gaps.items()):
        if graph.nodes[gap].operation == "constant":
            continue
        low, high = (0.0, np.inf) if sides[branch] else (-np.inf, 0.0)
        name = f"branch {place + 1}"
        blocks.append(
            RowBlock(
                name=name,
                entry=name,
                node=gap,
                shape=(),
                first=first,
                lower=np.array([low]),
                upper=np.array([high]),
                magnitude=magnitudes[:1] * np.nan,
            )
        )
        first += 1
    objective = replace(problem.objective, node=made[0])
    draft = replace(problem, objective=objective, objectives=(objective,), row_blocks=tuple(blocks))
    return _with_sizes(draft, problem.row_count, case)


def _with_sizes(problem: Problem, own_rows: int, case: JudgedDesign) -> Problem:
    """Give each row the size it has in the case, and each gap one by which the design counts as lying on the kink."""
    evaluation = Gate(problem).evaluate(case.point, derivatives=True)
    sizes = np.ones(problem.row_count)
    sizes[: len(case.measures.row_sizes)] = case.measures.row_sizes
    if evaluation.has_finite_derivatives:
        assert evaluation.jacobian is not None
        reach = np.abs(evaluation.jacobian * case.sizes).max(axis=1, initial=0.0)
        gap = 2.0 * np.abs(evaluation.rows) / case.feasibility
        fresh = slice(len(case.measures.row_sizes), None)
        sizes[fresh] = np.maximum(np.maximum(reach, gap), 1e-300)[fresh]
    blocks = []
    for block in problem.row_blocks:
        blocks.append(replace(block, magnitude=sizes[block.first : block.first + block.size]))
    return replace(problem, row_blocks=tuple(blocks))


def _case(case: JudgedDesign, piece: Problem) -> JudgedDesign:
    own = JudgedDesign(problem=piece, point=case.point, tolerance=case.tolerance, feasibility=case.feasibility)
    own.size, own.sizes = case.size, case.sizes
    return own
