"""Which method finds the front of a problem of several objectives, and what such a run cannot be asked for."""

from __future__ import annotations

from dataclasses import replace

from ilvren.errors import RequestError
from ilvren.problem import Problem
from ilvren.runs.settings import Settings

__all__ = ["front_names", "of_one_objective", "refuse_front"]


def front_names(problem: Problem, derivatives: str) -> tuple[tuple[str, ...], str]:
    """Return the methods that find the front one after the other, and why, in a clause."""
    return ("nondominated-sorting",), "several objectives"


def of_one_objective(problem: Problem) -> Problem:
    """Return a problem like those that methods solve for single points of a front: one of the objectives, the others
    with limits."""
    first = problem.objectives[0]
    return replace(problem, objective=first, objectives=(first,))


def refuse_front(problem: Problem, settings: Settings, *, has_stages: bool) -> None:
    """Raise RequestError for what has no meaning with several objectives, or only there."""
    if len(problem.objectives) < 2:
        for flag, given in (
            ("--points", settings.points is not None),
            ("--reference-point", settings.reference_point is not None),
            ("--from-ends", settings.ends_first),
        ):
            if given:
                raise RequestError(
                    f"{flag} is for the trade-offs of several objectives, and {problem.source.file} has one"
                    if problem.objective is not None
                    else f"{flag} is for the trade-offs of several objectives, and {problem.source.file} has none"
                )
        return
    first = problem.objectives[0].name
    for flag, given in (
        ("--target", settings.target is not None),
        ("--stage", has_stages),
        ("--second-look", bool(settings.second_look)),
    ):
        if given:
            raise RequestError(
                f"{flag} is for one objective, and {problem.source.file} has {len(problem.objectives)}",
                advice=f"make them one: --only {first}, or --weigh …",
            )
