"""Kinks and jumps that formulas do not show: inside models, felt by second differences of two lengths.

    D(h) = f(x + h e) − 2 f(x) + f(x − h e)                                               (1)

goes down with h² where f is smooth, with h at a kink, and not at all at a jump: D(h)/D(h/10) is 100, 10 or 1. Slopes
that a model supplies are compared with (f(x + h e) − f(x − h e)) / 2h.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ilvren.evaluate import Evaluation, Gate
from ilvren.problem import Measures

__all__ = ["doubt_in_models"]

FloatArray = NDArray[np.float64]

# Half-widths as shares of a variable's size; their ratio is that of (1).
STEP, RATIO = 1e-3, 10.0
# Ratios of second differences that are neither of a smooth function nor of noise around zero.
KINK_RATIOS = (4.0, 30.0)
# A jump of a slope, per size of the variable, below this share of the value (or of the largest slope) matters not, and
# may be the noise of a simulation.
LEAST = 1e-3
# A supplied slope may be off by this share of the largest slope.
SLOPE_AGREEMENT = 1e-3
MOST_VARIABLES = 40


def doubt_in_models(
    gate: Gate,
    measures: Measures,
    point: FloatArray,
    evaluation: Evaluation,
    sizes: FloatArray,
    rows: NDArray[np.int64],
) -> str | None:
    """Return what speaks against the derivatives at `point` in objective or the `rows` given, or None."""
    free = gate.problem.continuous_places
    if not gate.problem.runners or len(free) > MOST_VARIABLES:
        return None
    here = _values(evaluation, rows)
    assert evaluation.gradient is not None
    slopes = np.vstack([evaluation.gradient, evaluation.jacobian[rows]])
    names = ["the objective", *(gate.problem.rows[row].name for row in rows)]
    for place in free:
        seconds, central = [], None
        for step in (STEP * sizes[place], STEP * sizes[place] / RATIO):
            ahead, back = point.copy(), point.copy()
            ahead[place], back[place] = point[place] + step, point[place] - step
            if ahead[place] > measures.upper[place] or back[place] < measures.lower[place]:
                break
            one, other = (_values(gate.evaluate(there), rows) for there in (ahead, back))
            seconds.append(np.abs(one - 2.0 * here + other))  # (1)
            central = (one - other) / (2.0 * step)
        if len(seconds) < 2 or central is None:
            continue
        variable = gate.problem.variables[place].name
        for number, name in enumerate(names):
            wide, narrow = (float(second[number]) for second in seconds)
            if not narrow * RATIO / STEP <= LEAST * max(abs(float(here[number])), _range(slopes[number], sizes)):
                if not KINK_RATIOS[1] <= wide / narrow:
                    what = "jumps or is noisy" if wide < KINK_RATIOS[0] * narrow else "has a kink"
                    return f"{name} {what} here when {variable} moves: its model is not smooth"
            slope, size = float(central[number]), sizes[place]
            if not abs(slope - slopes[number, place]) * size <= SLOPE_AGREEMENT * max(
                _range(slopes[number], sizes), float(narrow) / STEP * RATIO
            ):
                return f"the slope of {name} by {variable} is {slopes[number, place]:.4g}, by differences {slope:.4g}"
    return None


def _values(evaluation: Evaluation, rows: NDArray[np.int64]) -> FloatArray:
    return np.concatenate([[evaluation.objective], evaluation.rows[rows]])


def _range(slopes: FloatArray, sizes: FloatArray) -> float:
    return float(np.abs(slopes * sizes).max(initial=0.0))
