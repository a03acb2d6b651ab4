"""Which method finds the front of a problem of several objectives, and what such a run cannot be asked for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from ilvren.errors import RequestError
from ilvren.methods import Method, options_from
from ilvren.models import is_differenced
from ilvren.problem import Problem, has_kinks
from ilvren.runs.handling import told_objectives

if TYPE_CHECKING:
    from ilvren.runs.settings import Settings

__all__ = ["ENUMERATION", "front_names", "front_parts", "of_one_objective", "refuse_front"]


# Options of a population that only looks around for a method with derivatives.
SCOUT = {"idle": 12}


ENUMERATION = "enumeration"


def front_names(problem: Problem, derivatives: str, few: int | None) -> tuple[tuple[str, ...], str]:
    """Return the methods that find the front one after the other, and why, in a clause; `few` is how many designs there
    are where all can be tried, None for more."""
    count = len(problem.objectives)
    what = f"{count} objectives"
    if few is not None:
        return (ENUMERATION,), f"{what} of {few:,} designs in all: every one is evaluated"
    if problem.grid:
        return ("nondominated-sorting", "front-direct-search"), f"{what}, whole numbers or catalogues"
    if problem.sources and all(is_differenced(source.derivatives) for source in problem.sources):
        return ("nondominated-sorting", "front-direct-search"), f"{what} of models without derivatives"
    if problem.simulations:  # a population would simulate for hours
        return ("boundary-intersection",), f"{what} of what evolves over time, with derivatives"
    if has_kinks(problem):
        return ("nondominated-sorting", "front-direct-search"), f"{what} with kinks"
    if problem.sources or derivatives == "differences":
        return ("boundary-intersection",), f"{what} with first derivatives"
    return (
        "nondominated-sorting",
        "boundary-intersection",
    ), f"{what}: a look around, then points exactly on the front, by derivatives"


def front_parts(names: Sequence[str], methods: Sequence[Method]) -> list[tuple[Method, object]]:
    """Return the methods with their options: all but the last only look around."""
    parts: list[tuple[Method, object]] = []
    for name, method in zip(names, methods, strict=True):
        is_scout = name == "nondominated-sorting" and names[-1] == "boundary-intersection"
        parts.append((method, options_from(method, SCOUT if is_scout else {})))
    return parts


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
                    f"{flag} is for the trade-offs of several objectives, and {problem.source.file} has"
                    f" {told_objectives(problem)}"
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
