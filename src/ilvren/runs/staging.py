"""A planned run's way through its stages: those asked for, then closer looks at what evolves or scatters."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from ilvren.methods import FRONT, options_from
from ilvren.methods.pieces import SAMPLE
from ilvren.runs.events import Ended, Finer, StageBegun, Started
from ilvren.runs.planning import first_method
from ilvren.runs.settings import AUTOMATIC
from ilvren.runs.stages import ENDS_THE_RUN, Base, told_set

if TYPE_CHECKING:
    from ilvren.problem import Problem
    from ilvren.runs.loop import Loop
    from ilvren.runs.on_grid import NextStage
    from ilvren.runs.plan import Plan
    from ilvren.runs.result import RunResult
    from ilvren.runs.settings import Settings

__all__ = ["driven"]


def driven(plan: Plan) -> RunResult:
    """Run the stages of a plan, each from where the last one ended, and return the result of the last."""
    if plan.on is not None:
        from ilvren.runs.predicted import drive_on

        return drive_on(plan, plan.on, searches=replace(plan, workers=None))
    last, tell = plan.problem, plan.listener or (lambda event: None)
    tell(Started(plan.run_id, plan.method.name, len(last.free), last.row_count, plan.why))
    base, point, count, multipliers = None, None, len(plan.problems), plan.multipliers
    for stage, problem in enumerate(plan.problems, start=1):
        own = problem if point is None else problem.with_starts(point)
        is_last = stage == count
        loop = plan.loop(own, multipliers=multipliers, replay=plan.replay(stage), base=base, is_last=is_last)
        if plan.stages or own.goes_in_stages:
            loop.begin_stage(stage)
        if plan.stages:
            tell(StageBegun(stage, count, told_set(plan.stages[stage - 1])))
        is_whole = not own.goes_in_stages or plan.method.kind in (SAMPLE, FRONT)
        result = loop.drive(is_last=is_last and is_whole)
        if plan.method.kind == FRONT and own.is_about_scatter:
            result = _with_smooth_members(own, result)
        if is_last and not is_whole:
            result = _looked_closer(plan, own, loop, result, stage)
        if not is_last:
            from ilvren.runs.warm import warm_start

            point = np.array(result.point)
            warm = warm_start(problem, result.to_record(), f"stage {stage}")
            base, multipliers = loop.base_after(result, plan.stages[stage - 1]), warm.multipliers
            plan = replace(plan, settings=replace(loop.settings, target=plan.settings.target))
            if result.outcome in ENDS_THE_RUN:
                reason = f"in stage {stage} of {count} ({told_set(plan.stages[stage - 1])}): {result.reason}"
                ending = plan.loop(last.with_starts(point), base=base)
                result = ending.given_up(result.outcome, reason, result.machine_trouble)
                break
    tell(Ended(result.outcome))
    return result


def _looked_closer(plan: Plan, problem: Problem, loop: Loop, result: RunResult, stage: int) -> RunResult:
    """Look at what a run over time, or about scatter, has found more finely, and go on from there in further stages
    while that shows anything; return the result, which is recorded as the run's."""
    from ilvren.runs.on_grid import Way
    from ilvren.runs.refining import time_report
    from ilvren.runs.scatter_stages import ScatterWay

    way, scatter_way, own_plan = Way(problem), ScatterWay(), plan
    baseline = result.baseline_objective, result.baseline_violation
    while True:
        if problem.is_collocated:  # every grid begins where the last one ended: the file's own start is the first one's
            result = replace(result, baseline_objective=baseline[0], baseline_violation=baseline[1])
        try:
            following = None
            if problem.is_about_scatter:
                following = scatter_way.after(problem, result)
            if problem.is_over_time:
                result = replace(result, time_error=time_report(problem, np.array(result.full_point), loop.gate.calls))
                following = following or way.after(problem, result, loop.gate.calls)
        except KeyboardInterrupt:  # what was found stands, and is on record; resuming goes on
            return loop.close(
                replace(result, outcome="interrupted", reason="stopped by the user; `ilvren resume` continues the run")
            )
        if following is None:
            if way.unsettled:
                result = replace(result, notes=(*result.notes, way.unsettled))
            return loop.close(_told(problem, result))
        base = loop.base_after(result, {}, following.told)
        stage += 1
        problem = following.problem
        if plan.listener is not None:
            plan.listener(Finer(following.told))
        if plan.ledger is not None:
            plan.ledger.note_refinement(plan.number, problem.refinement.to_dict(), stage)
            plan.ledger.plan_stages(plan.number, stage)
        plan = _plan_of(own_plan, following, loop.settings, base)
        loop = plan.loop(problem, multipliers=following.multipliers, replay=plan.replay(stage), base=base)
        loop.begin_stage(stage)
        result = loop.drive(is_last=False)


def _plan_of(plan: Plan, following: NextStage, settings: Settings, base: Base) -> Plan:
    """Return the plan of a further stage: one that makes a guess aside has a method and a limit of its own."""
    if not following.is_aside:
        limit = plan.settings.evaluations
        return replace(plan, settings=replace(settings, evaluations=limit), method=plan.early, known=None)
    most = base.counts.evaluations + (following.evaluations or 0)
    limit = most if settings.evaluations is None else min(most, settings.evaluations)
    own = replace(settings, method=AUTOMATIC, options={}, evaluations=limit)
    method = first_method(following.problem, own)
    return replace(plan, settings=own, method=method, early=method, options=options_from(method, {}), known=None)


def _told(problem: Problem, result: RunResult) -> RunResult:
    """Return the result of a run on a grid with what its course tells, of one about scatter with what is counted."""
    if problem.is_about_scatter:
        from ilvren.runs.scatter_stages import counted_result

        return counted_result(problem, result)
    if not problem.is_collocated or not np.isfinite(result.full_point).all():
        return result
    from ilvren.runs.courses_told import courses_told

    with np.errstate(all="ignore"):
        return replace(result, courses=courses_told(problem, np.array(result.full_point), result))


def _with_smooth_members(problem: Problem, result: RunResult) -> RunResult:
    from ilvren.runs.scatter_stages import SMOOTH, SMOOTH_MEMBERS, functions_of

    if not functions_of(problem) & SMOOTH:
        return result
    return replace(result, notes=(*result.notes, SMOOTH_MEMBERS))
