"""Kinks and jumps that formulas do not show: inside models, felt by second differences of two lengths.

    D(h) = f(x + h e) − 2 f(x) + f(x − h e)                                               (1)

goes down with h² where f is smooth, with h at a kink, and not at all at a jump: D(h)/D(h/10) is 100, 10 or 1. Slopes
that a model supplies are compared with (f(x + h e) − f(x − h e)) / 2h.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    from ilvren.evaluate import Evaluation, Gate
    from ilvren.problem import Measures

__all__ = ["doubt_in_formulas", "doubt_in_models"]

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
# The step of the one difference that derivatives of formulas are held against.
FORMULA_STEP = 1e-4


def doubt_in_models(
    gate: Gate,
    measures: Measures,
    point: FloatArray,
    evaluation: Evaluation,
    sizes: FloatArray,
    rows: NDArray[np.int64],
) -> str | None:
    """Return what speaks against the derivatives at `point` in objective or the `rows` given, or None. Shapes: point
    and sizes (n,), rows (k,)."""
    free = gate.problem.continuous_places
    if not gate.problem.sources or len(free) > MOST_VARIABLES:
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
            # At an optimum all slopes are small: what they become over the variable's size sets the scale.
            reach = max(_range(slopes[number], sizes), narrow * (RATIO / STEP) ** 2)
            if not abs(slope - slopes[number, place]) * size <= SLOPE_AGREEMENT * reach:
                return f"the slope of {name} by {variable} is {slopes[number, place]:.4g}, by differences {slope:.4g}"
    return None


def doubt_in_formulas(
    gate: Gate,
    measures: Measures,
    point: FloatArray,
    evaluation: Evaluation,
    sizes: FloatArray,
    rows: NDArray[np.int64],
) -> str | None:
    """Return what speaks against the derivatives of formulas at `point`, from one difference along a random direction,
    or None. Shapes: point and sizes (n,), rows (k,)."""
    free = gate.problem.continuous_places
    direction = np.zeros(len(point))
    # A bound a thousand times the value says nothing of the curvature here.
    own = np.where(point != 0.0, np.minimum(sizes, np.maximum(np.abs(point), 1e-3 * sizes)), sizes)
    direction[free] = np.random.default_rng(7).choice([-1.0, 1.0], len(free)) * own[free]
    step = FORMULA_STEP * direction
    if ((point + step > measures.upper) | (point - step < measures.lower)).any():
        step = np.where((point + np.abs(step) > measures.upper) | (point - np.abs(step) < measures.lower), 0.0, step)
    found = [_values(gate.evaluate(point + sign * step), rows) for sign in (2.0, 1.0, -1.0, -2.0)]
    if not step.any() or not np.isfinite(found).all():
        return None
    assert evaluation.gradient is not None
    difference = (8.0 * (found[1] - found[2]) - (found[0] - found[3])) / 12.0
    jacobian = evaluation.jacobian[rows] if len(rows) else np.zeros((0, len(point)))
    exact = np.concatenate([[evaluation.gradient @ step], np.asarray(jacobian @ step).ravel()])
    # Terms may cancel, in the values and in the slopes; what they are apart sets the scale of both.
    apart = np.concatenate(
        [[np.abs(evaluation.gradient) @ np.abs(step)], np.asarray(abs(jacobian) @ np.abs(step)).ravel()]
    )
    largest = np.abs(np.array(found)).max(axis=0) + apart / FORMULA_STEP
    # The difference's own error: rounding, and what the slope itself changes over the step.
    bend = np.abs(found[0] - found[1] - found[2] + found[3])
    allowed = SLOPE_AGREEMENT * (apart + bend) + 1e-12 * largest
    wrong = np.flatnonzero(~(np.abs(difference - exact) <= allowed))
    if not len(wrong):
        return None
    name = "the objective" if wrong[0] == 0 else gate.problem.rows[rows[wrong[0] - 1]].name
    return f"the derivatives of {name} do not agree with differences here"


def _values(evaluation: Evaluation, rows: NDArray[np.int64]) -> FloatArray:
    return np.concatenate([[evaluation.objective], evaluation.rows[rows]])


def _range(slopes: FloatArray, sizes: FloatArray) -> float:
    return float(np.abs(slopes * sizes).max(initial=0.0))
