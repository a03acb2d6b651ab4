"""Runs about scatter, stage by stage: few scenarios and wide smoothing first, all of them and narrow smoothing at last,
and what was found is counted.

The first stage finds its way with a part of the scenarios, chances having slopes everywhere; each further one begins
where the last ended. A quantile that is smoothed differs from the counted one: what it differs by at the last stage's
design is added to it in the next, until it is the same. A smooth chance is never above the counted one. What is
reported is counted, and judged on fresh scenarios: ten sets of as many that the run has not seen.

Source: A. Shapiro, D. Dentcheva, A. Ruszczyński, "Lectures on stochastic programming", 2009 (sets of scenarios that
grow, and their optimism).
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.evaluate import Gate, measured
from ilvren.formula import interpret
from ilvren.problem import AS_USUAL, Problem, ScatterPlan, objective_size, refined_problem
from ilvren.runs.limits import LimitStates
from ilvren.runs.on_grid import NextStage
from ilvren.runs.reliability import indices_at
from ilvren.runs.stages import ENDS_THE_RUN
from ilvren.runs.told import ScatterTold
from ilvren.runs.warm import warm_start
from ilvren.scatter import DesignPoint, Interval, mean_interval

if TYPE_CHECKING:
    from ilvren.runs.result import RunResult

__all__ = [
    "FRESH_SETS",
    "SMOOTH",
    "SMOOTH_MEMBERS",
    "ScatterWay",
    "begun_with_all",
    "begun_with_few",
    "counted_problem",
    "counted_result",
    "fresh_values",
    "functions_of",
    "smooth_at",
]

FloatArray = NDArray[np.float64]

# The part of the scenarios that the first stage sees, where that leaves enough.
PART, LEAST_SCENARIOS = 5, 100
# Widths over deviations, from stage to stage; the last one stays while quantiles are moved.
SHARPNESS = (0.3, 0.1, 0.04)
# Of chances, which are from inside, once more.
SHARPEST = 0.015
# Stages that move quantiles, and by how much of its size a value may still differ from the counted one.
MOST_MOVES, SAME = 6, 5e-7
# Outcomes from whose design no stage goes on.
WORTHLESS = ENDS_THE_RUN | {"invalid", "unbounded"}
FRESH_SETS = 10
SMOOTH_MEMBERS = (
    "quantiles and chances of the members are smooth, over 0.04 of a deviation, chances from inside; means and"
    " deviations are those of all scenarios"
)
# Functions that are smooth in a run, and counted in what is told.
SMOOTH = frozenset({"chance", "quantile", "worst"})
# Seeds of fresh scenarios lie this far from the run's own.
FRESH = 7_000_001


def functions_of(problem: Problem) -> set[str]:
    """Return which functions of what scatters its formulas have."""
    return {item.function for item in problem.template.scatter_functions.written.values()}


def begun_with_few(problem: Problem, seed: int) -> Problem:
    """Return the problem of the first stage."""
    given = problem.refinement.scatter or AS_USUAL
    part = PART if given.scenarios >= PART * LEAST_SCENARIOS else 1
    plan = ScatterPlan(given.scenarios, seed, part, SHARPNESS[0], is_early=True)
    return looked_at(problem, plan)


def begun_with_all(problem: Problem, seed: int) -> Problem:
    """Return the problem of a run in one stage: all scenarios, narrow smoothing."""
    given = problem.refinement.scatter or AS_USUAL
    return looked_at(problem, ScatterPlan(given.scenarios, seed, sharpness=SHARPNESS[-1]))


def looked_at(problem: Problem, plan: ScatterPlan) -> Problem:
    """Return a problem about scatter looked at as a plan says."""
    return refined_problem(problem, replace(problem.refinement, scatter=plan))


def counted_problem(problem: Problem, seed: int | None = None) -> Problem:
    """Return the problem with all scenarios and nothing smooth; on other scenarios with another `seed`."""
    plan = problem.refinement.scatter or AS_USUAL
    own = plan.seed if seed is None else seed
    indices = {told: shift for told, shift in plan.shifts.items() if told in plan.points}
    return looked_at(problem, ScatterPlan(plan.scenarios, own, is_counted=True, shifts=indices, points=plan.points))


def smooth_at(problem: Problem, point: FloatArray) -> Problem:
    """Return the problem as it is judged at a design that no run ended with: all scenarios and narrow smoothing, every
    value being the counted one there, and every reliability index that of its design point."""
    given = problem.refinement.scatter or AS_USUAL
    sharpness = SHARPEST if "chance" in functions_of(problem) else SHARPNESS[-1]
    indices = {told: index for told, index in indices_at(problem, point, {}).items() if index.is_found}
    plan = ScatterPlan(
        given.scenarios,
        given.seed,
        sharpness=sharpness,
        points={told: index.u.tolist() for told, index in indices.items()},
    )
    own = looked_at(problem, plan)
    here, counted = _written(own, point), _written(counted_problem(own), point)
    shifts = {
        told: (np.asarray(counted[told], dtype=float) - np.asarray(here[told], dtype=float)).tolist()
        for told, item in own.template.scatter_functions.written.items()
        if item.function in SMOOTH
    }
    shifts |= {told: index.index - float(here[told]) for told, index in indices.items()}
    return looked_at(problem, replace(plan, shifts=_finite(shifts)))


def _finite(shifts: Mapping[str, Any]) -> dict[str, Any]:
    """Return what can be added to a value; where a value is none nothing is."""
    return {told: shift for told, shift in shifts.items() if np.isfinite(shift).all()}


class ScatterWay:
    """Which stages a run about scatter goes through."""

    def __init__(self) -> None:
        self._moves = 0
        self._counted: Problem | None = None
        self._began = math.nan  # the objective where the run began

    def after(self, problem: Problem, result: RunResult) -> NextStage | None:
        """Return the stage after one on `problem` that ended with `result`; None where nothing is gained by one."""
        plan = problem.refinement.scatter or AS_USUAL
        if result.outcome in WORTHLESS or not np.isfinite(result.point).all():
            return None
        kinds = functions_of(problem)
        is_smooth = bool(kinds & SMOOTH)
        widths = (*SHARPNESS, SHARPEST) if "chance" in kinds else SHARPNESS
        following = next((width for width in widths if width < plan.sharpness), None)
        told = []
        if plan.part > 1:
            told.append(f"{ScatterPlan(plan.scenarios).count:,} scenarios in place of {plan.count:,}")
        if is_smooth and following is not None:
            told.append(f"smoothed over {following:g} in place of {plan.sharpness:g} of a deviation")
        new = ScatterPlan(plan.scenarios, plan.seed, 1, following or plan.sharpness)
        points: dict[str, Any] = {}
        if "reliability_index" in kinds:
            indices = indices_at(problem, np.array(result.point), plan.points)
            points = {told: point.u.tolist() for told, point in indices.items() if point.is_found}
            new = replace(new, points=points)
            shifts, differs = _index_shifts(problem, looked_at(problem, new), indices, np.array(result.point))
            new = replace(new, shifts=_finite(shifts))
            if not told and differs > SAME and self._moves < MOST_MOVES:
                self._moves += 1
                told.append(
                    f"reliability indices at their design points (they differed by {differs:.1e} of their size)"
                )
        if is_smooth and kinds & {"quantile", "worst"}:
            self._counted = self._counted or counted_problem(problem)
            shifts, differs = _shifts(problem, looked_at(problem, new), self._counted, np.array(result.point))
            new = replace(new, shifts=_finite({**new.shifts, **shifts}))
            if not told and differs > SAME and self._moves < MOST_MOVES:
                self._moves += 1
                told.append(f"quantiles moved to what is counted (they differed by {differs:.1e} of their size)")
        if not told:
            return None
        finer = self._sized(looked_at(problem, new), result).with_starts(np.array(result.point))
        known = warm_start(finer, result.to_record(), "the last stage").multipliers
        return NextStage(finer, known, "; ".join(told))

    def _sized(self, finer: Problem, result: RunResult) -> Problem:
        """Return the next stage's problem with the size that its objective has in the whole run: where a stage begins
        nothing is left to be gained, which says nothing of it."""
        objective = finer.objective
        if math.isnan(self._began) and result.baseline_objective is not None:
            self._began = result.baseline_objective
        if objective is None or objective.magnitude is not None or result.objective is None:
            return finer
        size = objective_size(None, result.objective, self._began)
        return replace(finer, objective=replace(objective, magnitude=size))


def _shifts(problem: Problem, new: Problem, counted: Problem, point: FloatArray) -> tuple[dict[str, Any], float]:
    """Return what each smooth quantile of the `new` problem lacks to the counted one at a design, and by how much those
    of `problem` differ at most, over their sizes."""
    found: dict[str, Any] = {}
    worst = 0.0
    values = [_written(one, point) for one in (problem, new, counted)]
    for told, item in new.template.scatter_functions.written.items():
        if item.function not in ("quantile", "worst"):
            continue
        here, smooth, exact = (np.asarray(own[told], dtype=float) for own in values)
        found[told] = (exact - smooth).tolist()
        size = max(float(np.abs(exact).max()), 1e-300)
        worst = max(worst, float(np.abs(exact - here).max()) / size)
    return found, worst


def _index_shifts(
    problem: Problem, new: Problem, indices: Mapping[str, DesignPoint], point: FloatArray
) -> tuple[dict[str, Any], float]:
    """Return what each index of the `new` problem lacks at a design, and by how much those of `problem` differ."""
    here, there = _written(problem, point), _written(new, point)
    found, worst = {}, 0.0
    for told, index in indices.items():
        if index.is_found:
            found[told] = index.index - float(there[told])
            worst = max(worst, abs(index.index - float(here[told])) / max(abs(index.index), 1e-3))
    return found, worst


def _written(problem: Problem, point: FloatArray) -> dict[str, Any]:
    """Return the value of each function of what scatters at a design."""
    written = problem.template.scatter_functions.written
    nodes = [item.node for item in written.values()]
    calls = problem.with_simulations(problem.calls())
    found = interpret(problem.graph, nodes, problem.split(point), problem.parameter_values, models=calls).values
    return dict(zip(written, found, strict=True))


# ---- counted ---------------------------------------------------------------------------------------------


def counted_result(problem: Problem, result: RunResult) -> RunResult:
    """Return a result with what is counted in place of what was searched, and with what fresh scenarios say."""
    point = np.array(result.point)
    if not np.isfinite(point).all():
        return result
    counted = counted_problem(problem)
    gate = Gate(counted)
    found = gate.evaluate(point)
    if not found.is_finite:
        return result
    values = gate.written.values(point)
    searched: dict[str, tuple[float, float]] = {}
    sign = 1.0 if counted.objective is None else float(counted.objective.sign)
    objective = result.objective
    if counted.objective is not None and objective is not None:
        objective = sign * float(found.objective)
        _note(searched, counted.objective.name, result.objective, objective)
    states = result.constraints
    for place, (before, after) in enumerate(zip(states.value.tolist(), found.rows.tolist(), strict=True)):
        _note(searched, counted.rows[place].name, before, after)
    measures = measured(counted, gate)
    violation = float(measures.violation(point, found.rows))
    told = ScatterTold((problem.refinement.scatter or AS_USUAL).count, searched, fresh_values(problem, point))
    own = LimitStates(
        states.blocks,
        found.rows,
        (states.lower, states.upper),
        sizes=states.sizes,
        sides=states.sides,
        prices=states.prices,
        are_unique=states.are_unique,
    )
    derived = {name: _plain_value(values[name]) if name in values else value for name, value in result.derived.items()}
    made = replace(result, objective=objective, constraints=own, violation=violation, derived=derived, scatter=told)
    feasibility = result.settings.get("feasibility", 1e-6)
    assert isinstance(feasibility, float)
    if result.holds and violation > feasibility:
        name = max(own, key=lambda state: state.violation).name
        reason = f"counted over its scenarios, {name} is missed by {violation:.1e} of its size"
        made = replace(made, outcome="stalled", reason=reason)
    plan = problem.refinement.scatter or AS_USUAL
    lost = [told for told, index in indices_at(problem, point, plan.points).items() if not index.is_found]
    if lost and made.holds:
        reason = (
            f"no design point of {lost[0]} was found: what it is told to be is that of a plane, and nothing is claimed"
        )
        made = replace(made, outcome="stalled", reason=reason)
    return made


def _note(searched: dict[str, tuple[float, float]], name: str, before: float | None, after: float) -> None:
    if before is not None and math.isfinite(before) and abs(before - after) > 1e-9 * max(abs(before), abs(after)):
        searched[name] = before, after


def _plain_value(value: Any) -> Any:
    return value.tolist() if isinstance(value, np.ndarray) else value


def fresh_values(problem: Problem, point: FloatArray) -> dict[str, Interval]:
    """Return objective and constraints at a design, each counted on ten sets of scenarios that no run has seen."""
    plan = problem.refinement.scatter or AS_USUAL
    seen = []
    names: list[str] = []
    for number in range(FRESH_SETS):
        own = counted_problem(problem, FRESH + 1000 * plan.seed + number)
        found = Gate(own).evaluate(point)
        objective = [] if own.objective is None else [float(own.objective.sign) * float(found.objective)]
        names = [*([] if own.objective is None else [own.objective.name]), *(row.name for row in own.rows)]
        seen.append([*objective, *found.rows.tolist()])
    table = np.array(seen)
    return {name: mean_interval(table[:, k]) for k, name in enumerate(names) if np.isfinite(table[:, k]).all()}
