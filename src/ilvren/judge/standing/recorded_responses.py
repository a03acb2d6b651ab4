"""Designs on record over time: with those on the way to them, and what states are worth there."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from ilvren.judge.standing.responses import Response, response_at
from ilvren.ledger import Ledger, RunRecord
from ilvren.runs import addressed, problem_of, problem_of_stage, split_address

__all__ = ["COSTATE", "course_names", "recorded_responses"]

# Before the name of a state: what a unit more of it is worth.
COSTATE = "worth of "
# Designs on the way that a picture bears.
MOST_PAST = 40


def course_names(response: Response) -> list[str]:
    """Return what a picture of a course on a grid shows: states, controls, and what states are worth."""
    axes = response.problem.template.built_axes
    states = [name for axis in axes for name in axis.state_names]
    controls = [name for axis in axes for name in axis.control_declarations]
    costates = [name for name in response.signals if name.startswith(COSTATE)]
    return list(dict.fromkeys([*states, *controls, *costates]))


def recorded_responses(ledger: Ledger, word: str, every: int | None) -> list[Response]:
    """Return a design on record over time, with `every` Nth on the way to it before it (None: none). Raises
    RequestError."""
    item = addressed(ledger, word)
    problem = problem_of(item.record)
    found = []
    of_stage = {0: problem}
    for name, number, point in _past(ledger, item.record, every):
        own = problem
        if len(point) != problem.size:  # on another grid
            stage = sum(begun.first_iteration <= number for begun in ledger.stages(item.record.number))
            if stage not in of_stage:
                of_stage[stage] = problem_of_stage(item.record, stage)
            own = of_stage[stage]
        if len(point) == own.size:
            found.append(response_at(own, point, name, is_past=True))
    found.append(_with_costates(response_at(problem, np.array(item.point), item.address), item.record, word))
    return found


def _with_costates(response: Response, record: RunRecord, word: str) -> Response:
    """Return a response with what its states are worth, as signals, where the run's own design is meant and has told
    that."""
    courses: Any = (record.result or {}).get("courses") if split_address(word)[1] is None else None
    if not courses:
        return response
    signals, times = dict(response.signals), dict(response.times)
    for course in courses:
        suffix = f"@{course['case']}" if course.get("case") else ""
        for name, values in course["costates"].items():
            own = f"{COSTATE}{name}{suffix if suffix and not name.endswith(suffix) else ''}"
            signals[own] = np.array(values, dtype=float)
            times[own] = np.array(course["times"], dtype=float)
    return replace(response, signals=signals, times=times)


def _past(ledger: Ledger, record: RunRecord, every: int | None) -> list[tuple[str, int, Any]]:
    """Return (name, iteration, design) of a run's start and of every Nth iteration of all its stages (of a population
    the best design then), the last one left out; of very many some."""
    if every is None:
        return []
    kept = [item for item in ledger.iterations(record.number, every_stage=True) if item.point][:-1]
    chosen = kept[::every]
    if len(chosen) > MOST_PAST:
        places = np.unique(np.round(np.linspace(0, len(chosen) - 1, MOST_PAST)).astype(int))
        chosen = [chosen[k] for k in places]
    return [
        (
            f"{record.id}, the start" if place == 0 else f"iteration {item.number}",
            item.number,
            np.frombuffer(item.point),
        )
        for place, item in enumerate(chosen)
    ]
