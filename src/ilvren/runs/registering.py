"""What a ledger is told of a run before it begins: the problem, all that is given, what computes."""

from __future__ import annotations

import sys
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from ilvren.runs.stored import stored_files, stored_models
from ilvren.version import __version__

if TYPE_CHECKING:
    from ilvren.ledger import Ledger
    from ilvren.runs.plan import Plan

__all__ = ["registered", "versions"]


def registered(plan: Plan, ledger: Ledger, member: tuple[int, int] | None) -> Plan:
    """Return the plan with the number that its run now has in the ledger, as `member` (place, group) of a group."""
    problem = plan.problem
    models = stored_models(problem)
    signature = ""
    if models:
        from ilvren.runs.trust import signature_of

        signature = signature_of(problem, models)
    number = ledger.begin_run(
        problem_text=problem.source.text,
        problem_file=problem.source.file,
        problem_title=problem.title,
        method=plan.method.name,
        settings=plan.settings.to_dict(),
        overrides={**_given(plan), **({"signature": {"hmac": signature}} if signature else {})},
        versions=versions(),
        label=plan.settings.label,
        files=stored_files(problem),
        models=models,
        member=member,
    )
    if plan.stages or problem.goes_in_stages:
        ledger.plan_stages(number, max(len(plan.stages), 1))
    # Of a contest the engineer chooses one design; of a sample, none.
    confirms = member is None and plan.sample is None
    return replace(plan, ledger=ledger, number=number, confirms=confirms)


def versions() -> dict[str, str]:
    """Return what computes: the versions that a path can depend on."""
    return {"ilvren": __version__, "python": "{}.{}.{}".format(*sys.version_info[:3]), "numpy": np.__version__}


def _given(plan: Plan) -> dict[str, Any]:
    """Return what the run was given beside the file and the settings; nothing for what it was not."""
    problem = plan.problem
    found: dict[str, Any] = {"set": dict(problem.overrides), "start": dict(problem.start_overrides)}
    if plan.multipliers is not None:
        rows, bounds = plan.multipliers
        found["multipliers"] = {"rows": rows.tolist(), "bounds": bounds.tolist()}
    if problem.aim:
        found["aim"] = problem.aim.to_dict()
    if plan.known_runs:
        found["known"] = dict(plan.known_runs)
    if plan.stages:
        found["stages"] = {str(place): dict(own) for place, own in enumerate(plan.stages, start=1)}
        found["before"] = dict(plan.before)
    if plan.proposal:
        found["proposal"] = dict(plan.proposal)
    if plan.sample:
        found["sample"] = dict(plan.sample)
    if plan.on is not None:
        found["on"] = plan.on.record()
    if problem.goes_in_stages:
        finely = problem.refinement.to_dict()
        found |= {"time": finely, "time_first": finely}
    if problem.is_collocated:
        from ilvren.problem import limit_sizes

        found["unknowns"] = {"start": list(problem.start), "sizes": limit_sizes(problem)}
    return found
