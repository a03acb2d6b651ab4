"""[confirm]: what is asked of the chosen design alone, as a problem of its own.

A file with [confirm] makes two problems. The one that is searched has neither its entries nor the models that only they
use, nor derived values made of those. The other has its limits as constraints, its other entries as derived values, and
nothing to minimize; it is evaluated at one design.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from typing import Any

from ilvren.errors import RequestError, nearest
from ilvren.formula import Node, names_in, parse_formula, parse_limits
from ilvren.problem.building import built
from ilvren.problem.entries import Declarations, EntryDeclaration, formula_text
from ilvren.problem.ordering import needs_of
from ilvren.problem.template import Template
from ilvren.problem.texts import is_limit

__all__ = ["adding", "divided"]

CONFIRMATION, SEARCH = "confirmation", "search"


def divided(declarations: Declarations, overrides: Mapping[str, Any]) -> tuple[Declarations, Declarations | None]:
    """Return the declarations that are searched, and those that confirm a design, None without [confirm]. Raises
    ProblemError and FormulaError for entries that are wrong."""
    if not declarations.confirm:
        return declarations, None
    limits = tuple(_as("constraints", entry) for entry in declarations.confirm if is_limit(entry))
    values = tuple(_as("derived", entry) for entry in declarations.confirm if not is_limit(entry))
    whole = built(
        replace(
            declarations,
            derived=(*declarations.derived, *values),
            constraints=(*declarations.constraints, *limits),
            confirm=(),
        ),
        overrides,
    )
    needs = needs_of(whole)
    roots = [entry.name for entry in declarations.objectives]
    searched = _closure(needs, [*roots, *_used(whole, declarations.constraints), *_used_by_fit(whole, declarations)])
    confirmed = _closure(needs, [*_used(whole, limits), *(entry.name for entry in values)])
    models = {model.name for model in declarations.models}
    only = (confirmed - searched) & models
    spoilt = {entry.name for entry in declarations.derived if _closure(needs, [entry.name]) & only}
    search = replace(
        declarations,
        derived=tuple(entry for entry in declarations.derived if entry.name not in spoilt),
        models=tuple(model for model in declarations.models if model.name not in only),
        part=SEARCH,
        whole=declarations.whole or declarations,
    )
    objectives = tuple(replace(_as("derived", entry), magnitude=None) for entry in declarations.objectives)
    confirmation = replace(
        declarations,
        derived=tuple(e for e in (*declarations.derived, *objectives, *values) if e.name in confirmed),
        objectives=(),
        constraints=limits,
        models=tuple(model for model in declarations.models if model.name in confirmed),
        fit=(),
        confirm=(),
        part=CONFIRMATION,
        whole=declarations.whole or declarations,
    )
    return search, confirmation


def adding(declarations: Declarations, names: Iterable[str]) -> Declarations:
    """Return the declarations with limits of [confirm] as constraints. Raises RequestError for other names."""
    entries = {entry.name: entry for entry in declarations.confirm}
    added = []
    for name in names:
        if name not in entries:
            close = nearest(name, entries)
            known = ", ".join(entries) or "none"
            advice = f'did you mean "{close}"?' if close else f"entries of [confirm]: {known}"
            raise RequestError(f'--add {name}: [confirm] has no entry "{name}"', advice=advice)
        if not is_limit(entries.pop(name)):
            raise RequestError(f"--add {name}: it is a value and no limit", advice='a limit reads "life >= 250000"')
        added.append(name)
    moved = tuple(_as("constraints", entry) for entry in declarations.confirm if entry.name in added)
    return replace(
        declarations,
        constraints=(*declarations.constraints, *moved),
        confirm=tuple(entry for entry in declarations.confirm if entry.name not in added),
    )


def _as(section: str, entry: EntryDeclaration) -> EntryDeclaration:
    return replace(entry, section=section, written_in=entry.written_in or entry.section)


def _used(template: Template, limits: Iterable[EntryDeclaration]) -> list[str]:
    trees = [side for entry in limits for side in parse_limits(formula_text(entry.formula)).sides]
    return _keys(template, trees)


def _keys(template: Template, trees: Iterable[Node]) -> list[str]:
    words = [word.name for tree in trees for word in names_in(tree)]
    return [key for word in words if (key := template.key_of(word)) is not None]


def _used_by_fit(template: Template, declarations: Declarations) -> list[str]:
    texts = [text for entry in declarations.fit for text in (entry.residual, entry.sigma) if isinstance(text, str)]
    return _keys(template, [parse_formula(text) for text in texts])


def _closure(needs: Mapping[str, list[str]], roots: Iterable[str]) -> set[str]:
    found: set[str] = set()
    waiting = list(roots)
    while waiting:
        name = waiting.pop()
        if name not in found:
            found.add(name)
            waiting += needs.get(name, [])
    return found
