"""From a curvature at a point to a region: a certificate by intervals, or curvature that keeps its sign nearby."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.judge.optimum.curvature import lagrangian_curvature
from ilvren.judge.proof.certificate import certified

if TYPE_CHECKING:
    from ilvren.judge.optimum.judged import JudgedDesign

__all__ = ["Region", "region_of"]

FloatArray = NDArray[np.float64]

# How far the curvature must keep its sign where intervals do not tell, in Newton steps: an inflection that a method
# creeps up to lies one or two of its steps ahead.
STEPS_AHEAD = 4.0


class Region:
    """`holds`: the curvature is positive over a region; `clause` says which, to follow a reason."""

    def __init__(self, holds: bool, clause: str) -> None:
        self.holds = holds
        self.clause = clause


def region_of(case: JudgedDesign) -> Region:
    """Examine the surroundings of a design whose curvature is strict; add the check `certificate`."""
    found = certified(case)
    if found.radius is not None:
        detail = f"the only first-order design within {found.radius:.2g} of the variables' sizes, and a strict minimum"
        case.add("certificate", "pass", found.radius, None, f"intervals prove this to be {detail}")
        return Region(True, f"intervals prove it to be {detail}")
    kept, how = _kept(case)
    case.add("certificate", "unknown", None, None, f"no certificate: {found.clause}; {how}")
    if not kept:
        return Region(False, how)
    return Region(True, f"judged at the point ({found.clause}): {how}")


def _kept(case: JudgedDesign) -> tuple[bool, str]:
    """Return whether the curvature keeps its sign over several times the Newton step, both ways, and a clause."""
    curvature = case.curvature
    assert curvature is not None
    where = f"within {STEPS_AHEAD:g} times the Newton step from here"
    if curvature.step is None or not np.isfinite(curvature.step).all():
        return False, "there is no Newton step that would tell how far the curvature must hold"
    if not curvature.step.any():
        return True, "the Newton step is zero"
    points = [
        np.clip(case.point + side * STEPS_AHEAD * curvature.step, case.measures.lower, case.measures.upper)
        for side in (1.0, -1.0)
    ]
    is_kept = _is_kept_by_slopes if case.problem.sources else _is_strict
    if all(is_kept(case, point) for point in points):
        return True, f"the curvature keeps its sign {where}"
    return False, f"the curvature does not keep its sign {where}"


def _is_strict(case: JudgedDesign, point: FloatArray) -> bool:
    assert case.conditions is not None
    there = lagrangian_curvature(
        case.gate, case.measures, point, case.conditions, sizes=case.sizes, objective_size=case.size
    )
    return there is not None and there.kind == "strict"


def _is_kept_by_slopes(case: JudgedDesign, point: FloatArray) -> bool:
    """Through models second derivatives are dear: the slope along the step must rise, from halfway on as well."""
    assert case.conditions is not None
    step = point - case.point
    slopes = []
    for share in (0.0, 0.5, 1.0):
        evaluation = case.gate.evaluate(case.point + share * step, derivatives=True)
        if not evaluation.has_finite_derivatives or evaluation.gradient is None or evaluation.jacobian is None:
            return False
        slope = evaluation.gradient - evaluation.jacobian.T @ case.conditions.row_multipliers
        slopes.append(float(slope @ step))
    # Rounding and noise of the model's own derivatives may hide a rise where the step is very short.
    room = 1e-12 * case.size + 1e-3 * max(map(abs, slopes))
    return slopes[0] <= slopes[1] + room and slopes[1] <= slopes[2] + room
