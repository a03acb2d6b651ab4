"""What tighter tolerances are worth: how the optimum of a problem about scatter follows the widths of what scatters.

To first order the objective follows a width s as its Lagrangian does, ∂f/∂s − u·∂c/∂s; halved, it is solved again.

Source: A. V. Fiacco, "Introduction to Sensitivity and Stability Analysis in Nonlinear Programming", 1983.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import central
from ilvren.errors import InputError
from ilvren.evaluate import Gate
from ilvren.judge.standing.findings import ScatterWorth
from ilvren.problem import refined_problem, scatter_of
from ilvren.runs import AUTOMATIC, run

if TYPE_CHECKING:
    from ilvren.judge.optimum.judged import JudgedDesign
    from ilvren.problem import Problem

__all__ = ["scatter_worths"]

FloatArray = NDArray[np.float64]

# How far widths are moved for derivatives; names solved again, at most.
STEP, MOST_SOLVED = 1e-3, 8


def scatter_worths(case: JudgedDesign) -> tuple[ScatterWorth, ...]:
    """Return what each width is worth at the design of a judged case, the dearest first."""
    problem = case.problem
    if problem.objective is None or case.conditions is None:
        return ()
    units = {block.name: block.unit for block in problem.blocks}
    units |= {parameter.name: parameter.unit for parameter in problem.parameters}
    found = []
    for item in scatter_of(problem, case.point).quantities:
        if item.law.name == "data":
            continue
        slope = _slope(case, item.name)
        found.append(
            ScatterWorth(item.name, float(item.deviation.max()), units[item.name], -0.5 * slope, math.nan, 0.1 * slope)
        )
    found.sort(key=lambda worth: -abs(worth.predicted))
    base = _solved(case, {})
    return tuple(
        replace(worth, found=_solved(case, {worth.name: 0.5}) - base) if k < MOST_SOLVED else worth
        for k, worth in enumerate(found)
    )


def _scaled(problem: Problem, scales: Mapping[str, float]) -> Problem:
    return refined_problem(problem, replace(problem.refinement, scales=dict(scales)))


def _slope(case: JudgedDesign, name: str) -> float:
    """Return by how much the objective as written changes with the width, per width."""
    assert case.conditions is not None
    multipliers = case.conditions.row_multipliers

    def lagrangian(change: float) -> float:
        found = Gate(_scaled(case.problem, {name: 1.0 + change})).evaluate(case.point)
        return float(found.objective - multipliers @ found.rows)

    return case.sized(central(lagrangian, STEP))


def _solved(case: JudgedDesign, scales: Mapping[str, float]) -> float:
    """Return the optimum for other widths, found from this design; NaN where none was found."""
    own = _scaled(case.problem, scales).with_starts(case.point)
    try:
        result = run(own, method=AUTOMATIC, second_look=0.0, feasibility=case.feasibility, seconds=20.0)
    except InputError:
        return math.nan
    return result.objective if result.holds and result.objective is not None else math.nan
