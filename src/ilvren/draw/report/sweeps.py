"""Reports on sweeps: the optimum against what was varied."""

from __future__ import annotations

import datetime
from typing import TYPE_CHECKING

import numpy as np

from ilvren.draw.report.numbers import number
from ilvren.draw.report.picture import pictured
from ilvren.draw.report.section import Section
from ilvren.draw.report.surveys import Survey
from ilvren.draw.sweep import draw_sweep
from ilvren.errors import RequestError
from ilvren.judge import curve_of_group
from ilvren.runs import sweep_again

if TYPE_CHECKING:
    from collections.abc import Sequence

    from ilvren.ledger import Ledger

__all__ = ["is_sweep", "sweep_survey"]

# Variables told of each member, and names of active limits.
MOST_VARIABLES, MOST_LIMITS = 8, 6


def is_sweep(references: Sequence[str], ledger: Ledger) -> bool:
    """Return whether a report is on one sweep. Raises RequestError where one stands beside others."""
    sweeps = [name for name in references if ledger.is_group(name) and ledger.group(name).is_sweep]
    if sweeps and len(references) > 1:
        raise RequestError(f"{sweeps[0]} is a sweep: a report on it has no room for others", advice="make one for each")
    return bool(sweeps)


def sweep_survey(reference: str, ledger: Ledger) -> Survey:
    """Gather the report on a sweep on record. Raises RequestError."""
    group = ledger.group(reference)
    curve = curve_of_group(ledger, group)
    problem, stored = curve.problem, group.plan["problems"][0]
    asked, made = len(group.plan["values"]), len(curve.values)
    objective = problem.objective
    finite = curve.objective[curve.holds & np.isfinite(curve.objective)]
    summary = [f"{group.id}: {curve.over} at {made} of {asked} values; {int(curve.holds.sum())} runs ended as asked."]
    if objective is not None and len(finite):
        unit = f" {objective.unit}" if objective.unit else ""
        summary.append(f"{objective.name} at the optimum: {number(finite.min())} to {number(finite.max())}{unit}.")
    if made < asked:
        summary.append(f"`ilvren resume {group.id}` goes on with the others.")
    blocks = {block.name: block for block in problem.blocks}
    units = {name: block.unit for name, block in blocks.items()}
    names = list(curve.scalars)[:MOST_VARIABLES]
    rows = []
    for place in range(made):
        value = curve.shown(place)
        active = [name for name, own in curve.active.items() if own[place]]
        told = ", ".join(active[:MOST_LIMITS]) + (" …" if len(active) > MOST_LIMITS else "")
        values = [number(blocks[name].shown(float(curve.scalars[name][place]))) for name in names]
        goal_value = number(float(curve.objective[place]))
        rows.append((curve.runs[place], number(value), curve.outcomes[place], goal_value, *values, told))
    goal = (
        "objective"
        if objective is None
        else f"{objective.name} [{objective.unit}]"
        if objective.unit
        else objective.name
    )
    swept = f"{curve.over} [{curve.unit}]" if curve.unit else curve.over
    heads: tuple[str, ...] = ("run", f">{swept}", "outcome", f">{goal}")
    heads += tuple(f">{name} [{units[name]}]" if units.get(name) else f">{name}" for name in names)
    left = len(curve.scalars) - len(names)
    sentences = (f"{left} more variables stand in `ilvren export {group.id} --output {group.id}.csv`.",) if left else ()
    picture = pictured(lambda path: draw_sweep(curve, path), "the optimum, the variables and the active limits")
    when = datetime.datetime.now(datetime.UTC).strftime("%Y-%m-%d %H:%M UTC")
    return Survey(
        problem.title or problem.source.file,
        f"{group.id} · {stored['file']} · made {when}",
        problem,
        tuple(summary),
        (Section(f"The optimum against {curve.over}", sentences, (*heads, "active limits"), tuple(rows), (picture,)),),
        (sweep_again(group.plan, curve.words),),
        stored["text"],
    )
