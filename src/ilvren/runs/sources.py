"""Where a run takes its derivatives from, when it is told."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from ilvren.errors import RequestError, nearest
from ilvren.evaluate import MOST_DIFFERENCED
from ilvren.models import AUTOMATIC, COMPLEX_STEP, DIFFERENCES, SUPPLIED

if TYPE_CHECKING:
    from ilvren.problem import Problem

__all__ = ["SOURCES", "check_source", "with_source"]

SOURCES = (AUTOMATIC, SUPPLIED, COMPLEX_STEP, DIFFERENCES)


def check_source(source: str) -> None:
    """Raise RequestError for a word that is no source."""
    if source not in SOURCES:
        close = nearest(source, SOURCES)
        advice = f'did you mean "{close}"?' if close else "one of " + ", ".join(SOURCES)
        raise RequestError(f'--derivatives "{source}" is not known', advice=advice)


def with_source(problem: Problem, source: str) -> tuple[Problem, bool]:
    """Return the problem with its models differentiated as told, and whether the formulas are to be differenced too:
    where there are no models, "differences" does without exact derivatives altogether. Raises RequestError where a
    source is not there."""
    check_source(source)
    if source == AUTOMATIC:
        return problem, False
    if not problem.sources:
        if source != DIFFERENCES:
            raise RequestError(
                f"--derivatives {source} is for models, and this problem has none",
                advice="derivatives of formulas are exact by themselves; `differences` does without them",
            )
        if len(problem.free) > MOST_DIFFERENCED:
            raise RequestError(
                f"differences for {len(problem.free)} variables would cost twice as many evaluations per gradient",
                advice="leave --derivatives out: those of formulas are exact and cheap at any size",
            )
        return problem, True
    if source == SUPPLIED:
        without = [own.name for own in problem.sources if not own.can_supply]
        if without:
            raise RequestError(
                f'model "{without[0]}" supplies no derivatives',
                advice="name the function that does with its key `slopes`",
            )
    return replace(problem, sources=tuple(own.with_derivatives(source) for own in problem.sources)), False
