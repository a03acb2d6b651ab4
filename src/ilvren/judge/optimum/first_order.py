"""First-order conditions as checks: qualification, stationarity, complementarity, and how strictly limits press."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.judge.optimum.curvature import active_normals, lagrangian_curvature
from ilvren.judge.optimum.qualification import Qualification, qualification_of
from ilvren.runs import Conditions, first_order_conditions

if TYPE_CHECKING:
    from ilvren.judge.optimum.judged import JudgedDesign

__all__ = ["check_first_order", "measure_conditions", "prices_of"]

FloatArray = NDArray[np.float64]

# Slack in multiples of what counts as feasible, within which limits of large problems are taken as reached.
NEARLY_REACHED = (10.0, 100.0, 1000.0)
# An active limit whose price times the variables' reach is below this share of the objective's size may be left.
WEAKLY_PRESSED = 1e-6


def prices_of(case: JudgedDesign) -> FloatArray:
    """Return the worth of a unit of miss per row, from the multipliers where derivatives allow. They are (m,)."""
    measure_conditions(case)
    if case.conditions is None or not np.isfinite(case.conditions.row_multipliers).all():
        return np.zeros(case.problem.row_count)
    return case.conditions.row_multipliers


def measure_conditions(case: JudgedDesign) -> None:
    """Measure the first-order conditions of the case once, where derivatives allow."""
    if case.conditions is None and case.evaluation.has_finite_derivatives:
        case.conditions = _conditions(case, case.feasibility)


def _conditions(case: JudgedDesign, feasibility: float, guess: Conditions | None = None) -> Conditions:
    return first_order_conditions(
        case.problem,
        case.measures,
        case.point,
        case.evaluation,
        objective_size=case.size,
        feasibility=feasibility,
        guess=guess,
    )


def check_first_order(case: JudgedDesign) -> str:
    """Add the checks and return "holds", "fails", or "unknown" where a failed qualification leaves multipliers open."""
    measure_conditions(case)
    if case.gate.is_sparse:
        _take_all_but_reached(case)
    assert case.conditions is not None
    qualification = _check_qualification(case)
    _curve(case)
    is_stationary = _check_stationarity(case, qualification)
    if is_stationary != "holds":
        return is_stationary
    gap = _complementarity(case, case.conditions)
    is_small = gap <= case.tolerance
    case.add(
        "complementarity",
        "pass" if is_small else "fail",
        gap,
        case.tolerance,
        "priced limits are met exactly, as far as it matters" if is_small else "a priced limit is not quite reached",
    )
    _check_strictness(case)
    return "holds" if is_small else "fails"


def _curve(case: JudgedDesign) -> None:
    assert case.conditions is not None
    case.curvature = lagrangian_curvature(
        case.gate, case.measures, case.point, case.conditions, sizes=case.sizes, objective_size=case.size
    )


def _check_qualification(case: JudgedDesign) -> Qualification | None:
    assert case.conditions is not None
    if case.gate.is_sparse:
        dependent = not case.conditions.are_unique
        case.add(
            "qualification",
            "unknown" if dependent else "pass",
            None,
            None,
            "so many active gradients could not be shown to be independent"
            if dependent
            else "the gradients of the active limits are independent",
        )
        return None
    free = case.problem.continuous_places
    jacobian = case.evaluation.jacobian
    assert jacobian is not None
    normals, _, is_equality, zero_rows = active_normals(jacobian, case.conditions, free, case.sizes[free])
    found = qualification_of(normals, is_equality, zero_rows)
    case.qualification = found.kind
    results = {"independent": "pass", "inward": "pass", "fails": "fail", "unknown": "unknown"}
    case.add("qualification", results[found.kind], float(found.rank), float(found.count), found.sentence)
    return found


def _check_stationarity(case: JudgedDesign, qualification: Qualification | None) -> str:
    conditions = case.conditions
    assert conditions is not None
    value, passes = conditions.stationarity, conditions.stationarity <= case.tolerance
    detail = "no feasible direction improves the objective to first order"
    model = case.curvature
    if not passes and model is not None:
        if model.promise <= case.tolerance and model.moved <= math.sqrt(case.tolerance):
            passes = True
            detail = f"above the limit, but the best step of the model promises only {model.promise:.1e}"
            _take_nearly_active(case)
    if not passes and qualification is not None and qualification.kind == "fails":
        case.add(
            "stationarity",
            "unknown",
            value,
            case.tolerance,
            "no multipliers were found, and with the qualification failed none need exist even at an optimum",
        )
        return "unknown"
    if not passes:
        detail = "the objective still improves along a feasible direction, to first order"
    case.add("stationarity", "pass" if passes else "fail", value, case.tolerance, detail)
    return "holds" if passes else "fails"


def _take_all_but_reached(case: JudgedDesign) -> None:
    """Count limits of a large problem as active that the design all but reaches, where that makes the conditions hold:
    a method may end a little inside thousands of limits, whose prices times distances are what counts."""
    for share in (1.0, *NEARLY_REACHED):
        found = _conditions(case, case.feasibility * share, case.conditions)
        if case.conditions is None or found.stationarity < case.conditions.stationarity:
            case.conditions = found
        if found.meet(case.tolerance):
            break


def _take_nearly_active(case: JudgedDesign) -> None:
    """Count limits as active that the design all but reaches, where that explains more of the gradient: a method
    without derivatives stops a little short of them."""
    assert case.conditions is not None
    nearly = _conditions(case, max(case.feasibility, math.sqrt(case.tolerance)))
    if nearly.stationarity < case.conditions.stationarity:
        case.conditions = nearly
        _curve(case)


def _limit_sets(
    case: JudgedDesign, conditions: Conditions
) -> list[tuple[FloatArray, FloatArray, FloatArray, FloatArray, FloatArray]]:
    """Return values, lower and upper limits, sides and multipliers of rows, then of bounds."""
    measures = case.measures
    return [
        (
            case.evaluation.rows,
            measures.row_lower,
            measures.row_upper,
            np.asarray(conditions.row_sides, dtype=float),
            conditions.row_multipliers,
        ),
        (
            case.point,
            measures.lower,
            measures.upper,
            np.asarray(conditions.bound_sides, dtype=float),
            conditions.bound_multipliers,
        ),
    ]


def _complementarity(case: JudgedDesign, conditions: Conditions) -> float:
    worst = 0.0
    for values, low, high, sides, multipliers in _limit_sets(case, conditions):
        margin = np.maximum(np.where(sides == -1, values - low, high - values), 0.0)
        is_pressed = (np.abs(sides) == 1) & (multipliers != 0.0)
        priced = np.abs(multipliers[is_pressed]) * margin[is_pressed] / case.size
        worst = max(worst, float(priced.max(initial=0.0)))
    return worst


def _check_strictness(case: JudgedDesign) -> None:
    """Say whether every active limit is priced: one that is met by chance may be left either way."""
    conditions = case.conditions
    assert conditions is not None
    if case.gate.is_sparse:
        return
    free = case.problem.continuous_places
    assert case.evaluation.jacobian is not None
    _, multipliers, is_equality, _ = active_normals(case.evaluation.jacobian, conditions, free, case.sizes[free])
    pressed = np.abs(multipliers[~is_equality]) / case.size
    if not len(pressed):
        return
    least = float(pressed.min())
    is_strict = least > WEAKLY_PRESSED
    case.add(
        "strictness",
        "pass" if is_strict else "unknown",
        least,
        WEAKLY_PRESSED,
        "every active limit has its price"
        if is_strict
        else "a limit is met without pressing: it may be left either way",
    )
