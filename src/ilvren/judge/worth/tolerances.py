"""Tolerances of manufacture: how far each variable can move alone until a limit breaks or the objective worsens."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

from ilvren.judge.standing.findings import Tolerance

if TYPE_CHECKING:
    from ilvren.judge.optimum.judged import JudgedDesign

__all__ = ["tolerances_of"]

# The worsening that a tolerance may cost, relative to the objective.
WORSENING = 0.01
BISECTIONS = 50
MOST_VARIABLES = 100


def tolerances_of(case: JudgedDesign) -> tuple[Tolerance, ...]:
    """Return the room of every continuous variable, up to MOST_VARIABLES."""
    found = []
    for place in case.problem.continuous_places[:MOST_VARIABLES].tolist():
        variable = case.problem.variables[place]
        down, stopped_down = _room(case, place, -1.0)
        up, stopped_up = _room(case, place, 1.0)
        found.append(
            Tolerance(variable.name, float(case.point[place]), variable.unit, down, up, stopped_down, stopped_up)
        )
    return tuple(found)


def _room(case: JudgedDesign, place: int, sign: float) -> tuple[float, str]:
    """Return how far a variable can move alone until something stops it, and what."""

    def stopped(distance: float) -> str:
        there = case.point.copy()
        there[place] += sign * distance
        if there[place] > case.measures.upper[place] or there[place] < case.measures.lower[place]:
            return "its own bound"
        evaluation = case.gate.evaluate(there)
        if not evaluation.is_finite:
            return "no finite value"
        # What the design itself uses of the miss allowed is not held against the move.
        misses = case.measures.row_misses(evaluation.rows) - case.measures.row_misses(case.evaluation.rows)
        worst = int(np.argmax(misses / case.measures.row_sizes)) if len(misses) else -1
        if worst >= 0 and misses[worst] > case.feasibility * case.measures.row_sizes[worst]:
            return f"{case.problem.rows[worst].name} breaks"
        allowed = WORSENING * (abs(case.evaluation.objective) or case.size)
        if case.problem.objective is not None and evaluation.objective - case.evaluation.objective > allowed:
            return f"{case.problem.objective.name} worsens by {100 * WORSENING:g} %"
        return ""

    step, inside = 1e-6 * float(case.sizes[place]), 0.0
    while step < 1e3 * case.sizes[place]:
        if stopped(step):
            break
        inside, step = step, 2.0 * step
    else:
        return math.inf, "nothing"
    outside = step
    for _ in range(BISECTIONS):
        middle = 0.5 * (inside + outside)
        if stopped(middle):
            outside = middle
        else:
            inside = middle
        if outside - inside <= 1e-4 * outside:
            break
    return inside, stopped(outside)
