"""What evolves over time, checked independently of the run: its steps, and its limits between the grid's moments."""

from __future__ import annotations

import math

from ilvren.dynamics.afresh import integrated_afresh
from ilvren.judge.case import Case
from ilvren.runs.refining import missed_between, tolerance_of

__all__ = ["check_between", "check_time"]

# The other integrator is right to about this share of the states' sizes: a deviation that grows beyond the tolerance
# from so little is the system's own.
AFRESH_ERROR = 1e-9


def check_time(case: Case) -> str | None:
    """Add the check "time"; return why nothing can be said of the design where the error is beyond the tolerance."""
    problem, limit = case.problem, tolerance_of(case.problem)
    worst = None
    for axis, simulation, inputs in zip(
        problem.template.built_axes,
        problem.bound_simulations(case.gate.calls),
        problem.simulation_inputs(case.point, case.gate.calls),
        strict=True,
    ):
        found = integrated_afresh(simulation, inputs)
        if found is None:
            case.add("time", "unknown", None, limit, "the design cannot be simulated")
            return None
        if worst is None or not found.error <= worst[0].error:
            worst = found, axis, simulation
    assert worst is not None
    found, axis, simulation = worst
    unit = f" {axis.time.unit}" if axis.time.unit else ""
    if found.growth * AFRESH_ERROR > limit:
        detail = (
            f"deviations grow by a factor of {found.growth:.1e} over time, beyond what any integrator keeps:"
            " the system is unstable and needs feedback"
        )
        case.add("time", "unknown", found.error if math.isfinite(found.error) else None, limit, detail)
        return None
    when = axis.time_at(found.tau, case.point.tolist(), problem)
    if not found.is_told:
        case.add(
            "time", "unknown", None, limit, f"another integrator does not come through before t = {when:.6g}{unit}"
        )
        return None
    is_met = found.error <= limit
    where = f', worst for "{simulation.state_name(found.state)}" at t = {when:.6g}{unit}' if found.state >= 0 else ""
    detail = f"every interval integrated afresh, deviations added up: {found.error:.1e} of the states' sizes{where}"
    if found.growth > 10.0:
        detail += f"; deviations grow by up to {found.growth:.1e}"
    case.add("time", "pass" if is_met else "fail", found.error, limit, detail)
    return None if is_met else f"the simulation is off by {found.error:.1e} of the states' sizes{where}"


def check_between(case: Case) -> str | None:
    """Add the check "moments"; return which limit is broken between the moments of the grid."""
    problem, limit = case.problem, tolerance_of(case.problem)
    if not any(block.times is not None for block in problem.row_blocks):
        return None
    missed = missed_between(problem, case.point, case.gate.calls)
    if missed.worst <= limit:
        case.add("moments", "pass", missed.worst, limit, "limits over time hold between the moments of the grid, too")
        return None
    detail = f"{missed.row} is broken between the moments of the grid, by {missed.worst:.1e} of its size"
    case.add("moments", "fail", missed.worst, limit, detail)
    return detail
