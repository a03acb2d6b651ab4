"""Several objectives made one: weighed, one of them alone, or the distances to values hoped for; with further limits.

What is made is an ordinary problem, so that methods, proofs and prices stay as they are. The objectives that are no
longer minimized become derived values, and are told as such; tables may be cut to some of their lines:

    weighed      Σ ±w_i f_i                     w_i >= 0, − for what is maximized                   (1)
    distance     max_i w_i · ±(f_i − a_i)       the largest miss of the aims a_i                    (2)

Sources: (1): L. A. Zadeh, "Optimality and non-scalar-valued performance criteria", 1963; (2): V. J. Bowman, "On the
relationship of the Tchebycheff norm and the efficient frontier of multiple-criteria objectives", 1976; limits on the
others: Y. Y. Haimes, L. S. Lasdon, D. A. Wismer, "On a bicriterion formulation of the problems of integrated system
identification and system optimization", 1971.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

from ilvren.errors import RequestError, nearest
from ilvren.problem.aims import Aim, lines_text
from ilvren.problem.entries import Declarations, EntryDeclaration, Value

__all__ = ["aimed"]


def _with_lines(declarations: Declarations, lines: Mapping[str, tuple[int, int | None]]) -> Declarations:
    tables = {table.name: table for table in declarations.tables}
    for name, (first, end) in lines.items():
        told = f"--lines {lines_text((name, (first, end)))}"
        if name not in tables:
            close = nearest(name, tables)
            advice = f'did you mean "{close}"?' if close else f"its tables: {', '.join(tables) or 'none'}"
            raise RequestError(f'{told}: the file has no table "{name}"', advice=advice)
        if first < 0 or (end is not None and end <= first):
            advice = "FROM:TO counts from 0, and TO is the first left out"
            raise RequestError(f"{told}: no line is in it", advice=advice)
        tables[name] = replace(tables[name], chosen=(first, end))
    return replace(declarations, tables=tuple(tables.values()))


def aimed(declarations: Declarations, aim: Aim) -> Declarations:
    """Return the declarations with their objectives as the aim says. Raises RequestError for unknown names, weights
    without meaning, and aims that exclude each other."""
    if aim.on:
        from ilvren.problem.approximations import with_approximations

        declarations = with_approximations(declarations, aim.on)
    if aim.lines:
        declarations = _with_lines(declarations, aim.lines)
    if aim.fix:
        declarations = replace(declarations, fixed=dict(aim.fix))
    if aim.add:
        from ilvren.problem.confirming import adding

        declarations = adding(declarations, aim.add)
    objectives = {entry.name: entry for entry in declarations.objectives}
    names = _names(declarations)
    if aim.only and (aim.weigh or aim.near):
        raise RequestError(
            "--only takes one objective, --weigh weighs several", advice="leave one of them out; --hold goes with both"
        )
    for flag, given in (
        ("--only", [aim.only] if aim.only else []),
        ("--weigh", list(aim.weigh)),
        ("near", list(aim.near)),
    ):
        for name in given:
            if name not in objectives:
                close = nearest(name, objectives)
                known = ", ".join(objectives) or "none"
                advice = f'did you mean "{close}"?' if close else f"its objectives: {known}"
                raise RequestError(f'{flag} {name}: the file has no objective "{name}"', advice=advice)
    for name, weight in aim.weigh.items():
        if not (math.isfinite(weight) and weight >= 0.0):
            raise RequestError(f"--weigh {name}={weight:g}: a weight is a number from 0")
    if aim.weigh and not any(aim.weigh.values()):
        raise RequestError("--weigh: all weights are 0", advice="an objective without a weight counts for nothing")
    held = _held(aim.hold, names)
    chosen: tuple[EntryDeclaration, ...] = declarations.objectives
    others: tuple[EntryDeclaration, ...] = ()
    if aim.only:
        chosen = (objectives[aim.only],)
        others = tuple(entry for entry in declarations.objectives if entry.name != aim.only)
    elif aim.near:
        chosen, others = (_distance(objectives, aim, names),), declarations.objectives
    elif aim.weigh:
        chosen, others = (_weighed(objectives, aim, names),), declarations.objectives
    told = tuple(replace(entry, section="derived", written_in=entry.section, magnitude=None) for entry in others)
    made = replace(
        declarations,
        objectives=chosen,
        derived=(*declarations.derived, *told),
        constraints=(*declarations.constraints, *held),
    )
    if aim.widened is None:
        return made
    from ilvren.problem.scattering import widened  # of all that is asked, by flags too

    return widened(made, aim.widened)


def _names(declarations: Declarations) -> set[str]:
    groups: Sequence[Sequence[Any]] = (
        declarations.variables,
        declarations.parameters,
        declarations.derived,
        declarations.objectives,
        declarations.constraints,
        declarations.tables,
        declarations.models,
        declarations.confirm,
    )
    return {entry.name for group in groups for entry in group}


def _free_name(wanted: str, names: set[str]) -> str:
    """Return a name that nothing has yet, and take it."""
    number, name = 1, wanted
    while name in names:
        number += 1
        name = f"{wanted}_{number}"
    names.add(name)
    return name


def _signed(entry: EntryDeclaration, weight: float, rest: str = "") -> str:
    sign = "" if entry.section == "minimize" else "-"
    factor = "" if weight == 1.0 else f"{repr(weight).removesuffix('.0')} * "
    return f"{sign}{factor}({entry.name}{rest})" if rest else f"{sign}{factor}{entry.name}"


def _weighed(objectives: Mapping[str, EntryDeclaration], aim: Aim, names: set[str]) -> EntryDeclaration:
    terms = [_signed(objectives[name], float(weight)) for name, weight in aim.weigh.items() if weight > 0.0]
    text = " + ".join(terms).replace("+ -", "- ")
    return _objective(_free_name("weighed", names), text, "the weighed sum")


def _distance(objectives: Mapping[str, EntryDeclaration], aim: Aim, names: set[str]) -> EntryDeclaration:
    terms = [
        _signed(objectives[name], float(aim.weigh.get(name, 1.0)), f" - ({float(value)!r})")
        for name, value in aim.near.items()
    ]
    text = terms[0] if len(terms) == 1 else f"max({', '.join(terms)})"
    return _objective(_free_name("distance", names), text, "the largest weighed miss of what is hoped for")


def _objective(name: str, formula: Value, about: str) -> EntryDeclaration:
    return EntryDeclaration("minimize", name, formula, about=about)


def _held(hold: Sequence[str], names: set[str]) -> tuple[EntryDeclaration, ...]:
    return tuple(
        EntryDeclaration("constraints", _free_name("held", names), text, about=f"by --hold {number + 1}")
        for number, text in enumerate(hold)
    )
