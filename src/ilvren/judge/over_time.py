"""What evolves over time, checked independently of the run: its steps, and its limits between the grid's moments."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from ilvren.dynamics.afresh import integrated_afresh
from ilvren.dynamics.fresh_course import FreshCourse, followed_afresh
from ilvren.judge.case import Case
from ilvren.problem.between import limits_between
from ilvren.problem.courses import courses_of
from ilvren.runs.courses_told import remarks_on
from ilvren.runs.refining import missed_between, tolerance_of

if TYPE_CHECKING:
    from ilvren.problem.collocated import CollocatedAxis

__all__ = ["check_between", "check_time"]

# The other integrator is right to about this share of the states' sizes: a deviation that grows beyond the tolerance
# from so little is the system's own.
AFRESH_ERROR = 1e-9
# Deviations of a control that is given in advance, growing by so much, are for feedback to hold down.
NEEDS_FEEDBACK = 1e4


def check_time(case: Case) -> str | None:
    """Add the check "time"; return why nothing can be said of the design where the error is beyond the tolerance."""
    return _check_course(case) if case.problem.is_collocated else _check_simulation(case)


def _check_course(case: Case) -> str | None:
    """Integrate every interval of a course on a grid afresh, from its own states, and look at its controls."""
    problem, limit = case.problem, tolerance_of(case.problem)
    worst: tuple[FreshCourse, CollocatedAxis] | None = None
    for axis, course in zip(problem.template.built_axes, courses_of(problem, case.point), strict=True):
        found = followed_afresh(course)
        if worst is None or not found.error <= worst[0].error:
            worst = found, axis
        for remark in remarks_on(problem, axis, course, case.point):
            case.add("controls", "unknown", None, None, remark)
    assert worst is not None
    found, axis = worst
    unit = f" {axis.time.unit}" if axis.time.unit else ""
    when = axis.time_at(found.tau, case.point.tolist(), problem)
    name = found.state_name([(state.name, state.shape) for state in axis.states])
    where = f', worst for "{name}" at t = {when:.6g}{unit}' if name else ""
    if not found.is_told:
        detail = f"another integrator does not come through before t = {when:.6g}{unit}"
        case.add("time", "unknown", None, limit, detail)
        return None
    if found.local > limit:
        detail = f"intervals integrated afresh end elsewhere, by {found.local:.1e} of the states' sizes{where}"
        case.add("time", "fail", found.local, limit, detail)
        return f"the course on the grid is off by {found.local:.1e} of the states' sizes{where}"
    if found.growth * AFRESH_ERROR > limit or (found.growth > NEEDS_FEEDBACK and found.error > limit):
        detail = (
            f"every interval by itself is right to {found.local:.1e}, but deviations grow by a factor of"
            f" {found.growth:.1e} over time: the system is unstable, and this control needs feedback to be followed"
        )
        case.add("time", "unknown", found.error if math.isfinite(found.error) else None, limit, detail)
        return None
    is_met = found.error <= limit
    detail = f"every interval integrated afresh, deviations added up: {found.error:.1e} of the states' sizes{where}"
    if found.growth > 10.0:
        detail += f"; deviations grow by up to {found.growth:.1e}"
    case.add("time", "pass" if is_met else "fail", found.error, limit, detail)
    return None if is_met else f"the course on the grid is off by {found.error:.1e} of the states' sizes{where}"


def _check_simulation(case: Case) -> str | None:
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
    if problem.is_collocated:
        looked = limits_between(problem, case.point)
        if not looked:
            return None
        item = max(looked, key=lambda one: float(one.miss.max(initial=-math.inf)))
        miss = max(float(item.miss.max(initial=0.0)), 0.0)
        if miss <= limit:
            case.add("moments", "pass", miss, limit, "limits over time hold between the points of the grid, too")
            return None
        detail = f"{item.name} is broken between the points of the grid, by {miss:.1e} of its size"
        case.add("moments", "fail", miss, limit, detail)
        return detail
    if not any(block.times is not None for block in problem.row_blocks):
        return None
    missed = missed_between(problem, case.point, case.gate.calls)
    if missed.worst <= limit:
        case.add("moments", "pass", missed.worst, limit, "limits over time hold between the moments of the grid, too")
        return None
    detail = f"{missed.row} is broken between the moments of the grid, by {missed.worst:.1e} of its size"
    case.add("moments", "fail", missed.worst, limit, detail)
    return detail
