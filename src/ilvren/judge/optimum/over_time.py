"""What evolves over time, checked independently of the run: its steps, and its limits between the grid's moments."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from ilvren.dynamics import followed_afresh, integrated_afresh
from ilvren.problem import Between, courses_of, limits_between
from ilvren.records import dataclass
from ilvren.runs import missed_between, remarks_on, tolerance_of

if TYPE_CHECKING:
    from ilvren.dynamics import GriddedCourse, Simulation
    from ilvren.judge.optimum.judged import JudgedDesign
    from ilvren.problem import Axis, CollocatedAxis

__all__ = ["check_between", "check_time"]

# The other integrator is right to about this share of the states' sizes: a deviation that grows beyond the tolerance
# from so little is the system's own.
AFRESH_ERROR = 1e-9
# Deviations of a control that is given in advance, growing by so much, are for feedback to hold down.
NEEDS_FEEDBACK = 1e4
# Of several axes what is worse stands for all.
_RANKS = {"pass": 0, "unknown": 1, "fail": 2}


def check_time(case: JudgedDesign) -> str | None:
    """Add the check "time"; return why nothing can be said of the design where the error is beyond the tolerance."""
    return _check_course(case) if case.problem.is_collocated else _check_simulation(case)


@dataclass(frozen=True)
class _Found:
    """What one axis's course comes to: the check's result, value and detail; `wrong` says why nothing can be said of
    the design, "" where that does not follow."""

    result: str
    value: float | None
    detail: str
    wrong: str = ""


def _added(case: JudgedDesign, found: list[_Found], limit: float) -> str | None:
    """Add the check of all axes: what fails stands before what is unknown, and that before what passes."""
    worst = max(found, key=lambda one: (_RANKS[one.result], math.inf if one.value is None else one.value))
    case.add("time", worst.result, worst.value, limit, worst.detail)
    return next((one.wrong for one in found if one.wrong), None)


def _check_course(case: JudgedDesign) -> str | None:
    """Integrate every interval of a course on a grid afresh, from its own states, and look at its controls."""
    problem, limit, told = case.problem, tolerance_of(case.problem), []
    for axis, course in zip(problem.template.built_axes, courses_of(problem, case.point), strict=True):
        told.append(_course_found(case, axis, course, limit))
        for remark in remarks_on(problem, axis, course, case.point):
            case.add("controls", "unknown", None, None, remark)
    return _added(case, told, limit)


def _course_found(case: JudgedDesign, axis: CollocatedAxis, course: GriddedCourse, limit: float) -> _Found:
    found = followed_afresh(course)
    unit = f" {axis.time.unit}" if axis.time.unit else ""
    when = axis.time_at(found.tau, case.point.tolist(), case.problem)
    name = found.state_name([(state.name, state.shape) for state in axis.states])
    where = f', worst for "{name}" at t = {when:.6g}{unit}' if name else ""
    if not found.is_told:
        detail = f"another integrator does not come through before t = {when:.6g}{unit}"
        own = course.deviation().estimate
        if own <= limit:
            detail += f"; equations of higher order on the same grid differ by {own:.1e} of the states' sizes"
            return _Found("unknown", None, detail)
        return _Found("unknown", None, detail, f"the course on the grid cannot be confirmed: {detail}")
    if found.local > limit:
        off = f"by {found.local:.1e} of the states' sizes{where}"
        detail = f"intervals integrated afresh end elsewhere, {off}"
        return _Found("fail", found.local, detail, f"the course on the grid is off {off}")
    if found.integral > limit:
        detail = f"what is integrated comes to something else afresh, by {found.integral:.1e} of it"
        return _Found("fail", found.integral, detail, f"an integral on the grid is off by {found.integral:.1e} of it")
    value = found.error if math.isfinite(found.error) else None
    if found.growth * AFRESH_ERROR > limit or (found.growth > NEEDS_FEEDBACK and found.error > limit):
        detail = (
            f"every interval by itself is right to {found.local:.1e}, but deviations grow by a factor of"
            f" {found.growth:.1e} over time: the system is unstable, and this control needs feedback to be followed"
        )
        return _Found("unknown", value, detail)
    passed = _passed(found.error, found.growth, limit, where, "the course on the grid")
    if found.integral <= found.error:
        return passed
    return replace(passed, value=found.integral, detail=f"{passed.detail}; integrals to {found.integral:.1e} of theirs")


def _passed(error: float, growth: float, limit: float, where: str, what: str) -> _Found:
    off = f"{error:.1e} of the states' sizes{where}"
    detail = f"every interval integrated afresh, deviations added up: {off}"
    if growth > 10.0:
        detail += f"; deviations grow by up to {growth:.1e}"
    if error <= limit:
        return _Found("pass", error, detail)
    return _Found("fail", error, detail, f"{what} is off by {off}")


def _check_simulation(case: JudgedDesign) -> str | None:
    problem, limit = case.problem, tolerance_of(case.problem)
    told = [
        _simulation_found(case, *each, limit)
        for each in zip(
            problem.template.built_axes,
            problem.bound_simulations(case.gate.calls),
            problem.simulation_inputs(case.point, case.gate.calls),
            strict=True,
        )
    ]
    return _added(case, told, limit)


def _simulation_found(case: JudgedDesign, axis: Axis, simulation: Simulation, inputs: Any, limit: float) -> _Found:
    found = integrated_afresh(simulation, inputs)
    if found is None:
        return _Found("unknown", None, "the design cannot be simulated")
    unit = f" {axis.time.unit}" if axis.time.unit else ""
    if found.growth * AFRESH_ERROR > limit:
        detail = (
            f"deviations grow by a factor of {found.growth:.1e} over time, beyond what any integrator keeps:"
            " the system is unstable and needs feedback"
        )
        return _Found("unknown", found.error if math.isfinite(found.error) else None, detail)
    when = axis.time_at(found.tau, case.point.tolist(), case.problem)
    if not found.is_told:
        return _Found("unknown", None, f"another integrator does not come through before t = {when:.6g}{unit}")
    where = f', worst for "{simulation.state_name(found.state)}" at t = {when:.6g}{unit}' if found.state >= 0 else ""
    return _passed(found.error, found.growth, limit, where, "the simulation")


def _check_between_points(case: JudgedDesign, looked: list[Between], limit: float) -> tuple[str, str] | None:
    if not looked:
        return None

    def worst(items: list[Between]) -> tuple[float, str]:
        return max(((max(float(item.miss.max(initial=0.0)), 0.0), item.name) for item in items), default=(0.0, ""))

    miss, name = worst([item for item in looked if item.kind == "limit"])
    if miss > limit:
        detail = f"{name} is broken between the points of the grid, by {miss:.1e} of its size"
        case.add("moments", "fail", miss, limit, detail)
        return "limits-broken", detail
    passed, name = worst([item for item in looked if item.kind == "measure"])
    if passed > limit:
        detail = (
            f"what is measured in {name} is something else between the points of the grid, by {passed:.1e} of its size"
        )
        case.add("moments", "fail", passed, limit, detail)
        return "unverified", detail
    beyond, control = worst([item for item in looked if item.kind == "bound"])
    if beyond > limit:
        detail = (
            f"{control} is within its bounds at the points of the grid; between them its polynomial leaves them by"
            f" {beyond:.1e} of its range: whoever follows it has to cut it off there"
        )
        case.add("moments", "unknown", beyond, limit, detail)
        return None
    case.add(
        "moments", "pass", max(miss, passed, beyond), limit, "limits over time hold between the points of the grid, too"
    )
    return None


def check_between(case: JudgedDesign) -> tuple[str, str] | None:
    """Add the check "moments"; return the verdict that follows, and which limit is broken between the moments of the
    grid, or which measure is another one there."""
    problem, limit = case.problem, tolerance_of(case.problem)
    if problem.is_collocated:
        return _check_between_points(case, limits_between(problem, case.point), limit)
    has_rows = any(block.times is not None for block in problem.row_blocks)
    if not has_rows and not problem.template.measures:
        return None
    missed = missed_between(problem, case.point, case.gate.calls)
    if missed.worst > limit:
        detail = f"{missed.row} is broken between the moments of the grid, by {missed.worst:.1e} of its size"
        case.add("moments", "fail", missed.worst, limit, detail)
        return "limits-broken", detail
    if missed.change > limit:
        detail = f"{missed.otherwise}: more `steps` under [time] tell it"
        case.add("moments", "fail", missed.change, limit, detail)
        return "unverified", detail
    what = "limits over time hold between the moments of the grid, too"
    if problem.template.measures:
        what = f"{what}, and measures are the same" if has_rows else "measures are the same between the moments, too"
    case.add("moments", "pass", max(missed.worst, missed.change), limit, what)
    return None
