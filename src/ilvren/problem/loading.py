"""From a file or its text to a problem, in one call."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from ilvren.errors import ProblemError, RequestError
from ilvren.problem.aiming import aimed
from ilvren.problem.aims import NO_AIM, Aim
from ilvren.problem.binding import bind
from ilvren.problem.building import built
from ilvren.problem.reader import read_file, read_text
from ilvren.problem.refinement import AS_DECLARED, SIMULATED, Refinement, refined

if TYPE_CHECKING:
    from ilvren.problem.entries import Declarations
    from ilvren.problem.model import Given, Problem

__all__ = [
    "fixed_problem",
    "load",
    "loads",
    "refined_problem",
    "scalarized",
    "unfixed_problem",
    "widened_problem",
    "with_limits",
    "with_lines",
]


def load(
    path: str | Path,
    *,
    set: Mapping[str, Given] | None = None,
    start: Mapping[str, Given] | None = None,
    aim: Aim = NO_AIM,
    refinement: Refinement = AS_DECLARED,
) -> Problem:
    """Read a problem file and return the problem, ready to evaluate and run.

    `set` replaces values of parameters, `start` starts of variables; lists where these are vectors or matrices; `aim`
    makes one objective of several; `refinement` says how finely things over time are looked at. Loading never runs
    anything. Raises ProblemError or FormulaError (the file), RequestError (`set`, `start`, `aim`)."""
    problem = _built(read_file(path), set or {}, start or {}, aim, refinement)
    own = problem.confirmation
    sources = [*problem.sources, *(own.sources if own is not None else ())]
    if not sources:
        return problem
    from ilvren.models import refusal_of_place

    refusal = refusal_of_place(sources, str(path))
    return replace(problem, refusal=refusal, confirmation=None if own is None else replace(own, refusal=refusal))


def loads(
    text: str,
    *,
    file: str = "<text>",
    set: Mapping[str, Given] | None = None,
    start: Mapping[str, Given] | None = None,
    files: Mapping[str, str] | None = None,
    aim: Aim = NO_AIM,
    refinement: Refinement = AS_DECLARED,
) -> Problem:
    """Like `load`, from the text of a problem file; `file` is its name in messages, and its tables and models are
    looked for beside it. `files` gives the texts of table files instead, by the names the problem uses. Raises what
    `load` raises."""
    return _built(read_text(text, file=file, files=files), set or {}, start or {}, aim, refinement)


def scalarized(problem: Problem, aim: Aim) -> Problem:
    """Return a problem of several objectives with one in their place, or with further limits, as `aim` says. Raises
    RequestError."""
    if problem.aim:
        raise RequestError("the objectives of this problem have been made one already")
    return _again(problem, aim, problem.refinement)


def refined_problem(problem: Problem, refinement: Refinement) -> Problem:
    """Return a problem over time looked at more finely, or otherwise; its starts stay. Raises RequestError."""
    return _again(problem, problem.aim, refinement)


def with_limits(problem: Problem, texts: Sequence[str]) -> Problem:
    """Return a problem with further limits, on anything that its file names, behind its own. Raises FormulaError."""
    aim = replace(problem.aim, hold=(*problem.aim.hold, *texts))
    return _again(problem, aim, problem.refinement)


def fixed_problem(problem: Problem, values: Mapping[str, Given | str]) -> Problem:
    """Return a problem with variables, or elements of them, held at values, beside those that are held already. Raises
    RequestError for unknown names and values that are not allowed."""
    return _again(problem, replace(problem.aim, fix={**problem.aim.fix, **values}), problem.refinement)


def unfixed_problem(problem: Problem) -> Problem:
    """Return a problem with nothing held that its file lets free; starts are those of the file. Raises ProblemError."""
    return _built(_whole(problem), problem.overrides, {}, replace(problem.aim, fix={}), problem.refinement)


def with_lines(
    problem: Problem, lines: Mapping[str, tuple[int, int | None]], anchor: tuple[float, ...] | None = None
) -> Problem:
    """Return a problem with other lines of its tables, all without; what evolves over time in steps along `anchor`.
    Raises RequestError and ProblemError."""
    refinement = replace(problem.refinement, anchor=anchor) if anchor is not None else problem.refinement
    return _again(problem, replace(problem.aim, lines=lines), refinement)


def on_document(problem: Problem, document: str) -> Problem:
    """Return a problem with an approximation, a JSON document, in place of what it approximates. Raises
    ProblemError."""
    return _again(problem, replace(problem.aim, on=document), problem.refinement)


def widened_problem(problem: Problem) -> Problem:
    """Return the problem that has what scatters as variables, without bounds; states over time are simulated. Raises
    RequestError without [scatter], ProblemError where something that must be known before any run scatters."""
    from ilvren.problem.scattering import fixed_values

    values = fixed_values(problem)
    own = {name: value for name, value in problem.overrides.items() if name not in values}
    starts = {name: value for name, value in problem.start_overrides.items() if name not in values}
    over_time = replace(problem.refinement, scheme=SIMULATED, grids={}, anchor=None, scatter=None)
    refinement = over_time if problem.is_over_time else AS_DECLARED
    try:
        found = _built(_whole(problem), own, starts, replace(problem.aim, widened=values), refinement)
    except ProblemError as error:
        told = f"what scatters decides something that must be known before any run: {error.message}"
        raise ProblemError(
            told, file=error.file, line=error.line, where=error.where, text=error.text, span=error.span
        ) from None
    return replace(found, refusal=problem.refusal)


def _again(problem: Problem, aim: Aim, refinement: Refinement) -> Problem:
    found = _built(_whole(problem), problem.overrides, problem.start_overrides, aim, refinement)
    has_other_controls = (refinement.pieces, refinement.steps) != (
        problem.refinement.pieces,
        problem.refinement.steps,
    )
    if (
        found.is_collocated or problem.is_collocated or has_other_controls
    ):  # another grid, other unknowns: whoever asks carries them over
        return replace(found, refusal=problem.refusal)
    if len(found.start) != len(problem.start):
        raise RequestError("a table's length decides how many variables there are: other lines are another problem")
    found = found if problem.start == found.start else found.with_starts(problem.start)
    found = replace(found, refusal=problem.refusal)
    if not any(block.is_objective for block in problem.row_blocks):
        return found
    from ilvren.problem.fronts import fronted

    return fronted(found)


def _whole(problem: Problem) -> Declarations:
    """Return what the file declares, before anything was made of it."""
    declarations: Declarations = problem.template.declarations
    whole = declarations.whole or declarations
    return whole.unaimed or whole


def _built(
    declarations: Declarations,
    set: Mapping[str, Given],
    start: Mapping[str, Given],
    aim: Aim,
    refinement: Refinement = AS_DECLARED,
) -> Problem:
    own = replace(aimed(declarations, aim), unaimed=declarations) if aim else declarations
    if own.cases:
        from ilvren.problem.cases import expanded  # few files have cases

        made, set = expanded(own, set)
        own = replace(made, whole=own)
    finer = refined(own, refinement) if refinement or own.time_scheme else own
    anchor = refinement.anchor

    def bound(declarations: Declarations) -> Problem:
        return replace(
            bind(built(declarations, set), parameters=set, starts=start, anchor=anchor),
            aim=aim,
            refinement=refinement,
        )

    if not finer.confirm:
        return bound(finer)
    from ilvren.problem.confirming import divided  # few files have such entries
    from ilvren.problem.texts import is_limit

    search, confirm = divided(finer, set)
    assert confirm is not None
    shown = frozenset(entry.name for entry in own.confirm if not is_limit(entry))
    return replace(bound(search), confirmation=replace(bound(confirm), confirm_values=shown))
