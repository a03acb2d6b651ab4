"""The neighbours of a design among the members of its spaced and catalogue variables."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ilvren.evaluate import Evaluation, Gate
from ilvren.judge.probe import Better
from ilvren.problem import Measures, Problem, members_of
from ilvren.runs import AUTOMATIC, Settings, run

__all__ = ["Neighbours", "neighbours_of"]

FloatArray = NDArray[np.float64]

# Evaluations for the continuous variables of one neighbour, and neighbours looked at, at most.
EVALUATIONS, MOST_NEIGHBOURS = 500, 200


@dataclass(frozen=True)
class Neighbours:
    """How many neighbours were looked at, how many could not be settled, and the best that beats the design."""

    tried: int
    open: int
    better: Better | None


def neighbours_of(
    problem: Problem,
    measures: Measures,
    point: FloatArray,
    here: Evaluation,
    *,
    feasibility: float,
    tolerance: float,
    least_gain: float,
) -> Neighbours:
    """Move each spaced and catalogue variable to the next member either way, and solve for the continuous ones."""
    tried = unsettled = 0
    best: Better | None = None
    for neighbour in _moved(problem, point)[:MOST_NEIGHBOURS]:
        held = _held(problem, neighbour)
        tried += 1
        if held.free:
            settings = Settings(method=AUTOMATIC, evaluations=EVALUATIONS, feasibility=feasibility, tolerance=tolerance)
            result = run(held, settings)
            there, is_settled = np.array(result.point), result.holds or result.outcome == "infeasible"
        else:
            there, is_settled = neighbour, True
        evaluation = Gate(problem).evaluate(there)
        violation = measures.violation(there, evaluation.rows) if evaluation.is_finite else np.inf
        gain = here.objective - evaluation.objective
        if violation <= feasibility and gain > least_gain:
            if best is None or gain > best.gain:
                best = Better(there, evaluation.objective, gain, violation)
        elif not is_settled:
            unsettled += 1
    return Neighbours(tried, unsettled, best)


def _moved(problem: Problem, point: FloatArray) -> list[FloatArray]:
    """Return the designs with one spaced or catalogue variable at the next member."""
    found = []
    free = set(problem.free)
    for place, variable in problem.grid:
        if place not in free:
            continue
        own = members_of(variable)
        value = float(point[place])
        if own.listed is not None:
            at = int(np.argmin(np.abs(own.listed - value)))
            nearby = [own.listed[k] for k in (at - 1, at + 1) if 0 <= k < own.count]
        else:
            step = round((value - own.first) / own.spacing)
            nearby = [own.first + k * own.spacing for k in (step - 1, step + 1) if 0 <= k < own.count]
        for member in nearby:
            moved = point.copy()
            moved[place] = float(member)
            found.append(moved)
    return found


def _held(problem: Problem, point: FloatArray) -> Problem:
    """Return the problem with its spaced and catalogue variables fixed where `point` has them."""
    blocks = []
    for block in problem.blocks:
        part = point[block.first : block.first + block.size]
        if block.kind == "continuous":
            blocks.append(replace(block, start=np.clip(part, block.lower, block.upper)))
        else:
            blocks.append(replace(block, start=part, lower=part, upper=part, spacing=None, catalogue=None))
    return replace(problem, blocks=tuple(blocks))
