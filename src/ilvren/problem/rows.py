"""A constraint as written → rows: which side is the limit, chains, shapes, top-level terms."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from ilvren.errors import FormulaError
from ilvren.formula import Limits, Node, parse_limits, top_terms
from ilvren.problem.entries import EntryDeclaration, formula_text

if TYPE_CHECKING:
    from ilvren.problem.template import Template

__all__ = ["RowTemplate", "row_templates"]


@dataclass(frozen=True, slots=True)
class RowTemplate:
    """A constraint with the nodes of its value, limits and top-level terms; a limit None where there is none."""

    entry: EntryDeclaration
    name: str
    node: int
    lower: int | None
    upper: int | None
    terms: tuple[int, ...]


def row_templates(template: Template, entry: EntryDeclaration) -> list[RowTemplate]:
    """Return the row templates of a constraint: two for a chain with a side that varies. Raises ProblemError."""
    text = formula_text(entry.formula)
    try:
        limits = parse_limits(text)
    except FormulaError as error:
        template.fail_at(entry, error)
    sides = [template.lower_entry(entry, side) for side in limits.sides]
    varies = [template.depends(side) for side in sides]
    if len(sides) == 3:
        return _chain(template, entry, limits, sides, varies)
    return [_comparison(template, entry, entry.name, limits.operators[0], limits.sides, sides, varies)]


def _chain(
    template: Template, entry: EntryDeclaration, limits: Limits, sides: list[int], varies: list[bool]
) -> list[RowTemplate]:
    trees = list(limits.sides)
    if limits.operators[0] == ">=":
        trees, sides, varies = trees[::-1], sides[::-1], varies[::-1]
    if not varies[0] and not varies[2]:
        node = template.stretched(entry, sides[1], (sides[0], sides[2]))
        return [RowTemplate(entry, entry.name, node, sides[0], sides[2], _terms(template, entry, [trees[1]]))]
    return [
        _comparison(
            template, entry, f"{entry.name}.{word}", "<=", trees[i : i + 2], sides[i : i + 2], varies[i : i + 2]
        )
        for i, word in enumerate(("low", "high"))
    ]


def _comparison(
    template: Template,
    entry: EntryDeclaration,
    name: str,
    operator: str,
    trees: tuple[Node, ...] | list[Node],
    sides: list[int],
    varies: list[bool],
) -> RowTemplate:
    left, right = sides
    if not varies[0] and varies[1]:
        value, limit, operator = right, left, {"<=": ">=", ">=": "<=", "==": "=="}[operator]
        terms = _terms(template, entry, [trees[1]])
    elif varies[0] and varies[1]:
        value = template.graph.apply("sub", left, _fitting(template, entry, right, left))
        limit = template.graph.constant(0.0)
        terms = _terms(template, entry, list(trees))
    else:
        value, limit = left, right
        terms = _terms(template, entry, [trees[0]])
    value = template.stretched(entry, value, (limit,))
    at_least = limit if operator in (">=", "==") else None
    at_most = limit if operator in ("<=", "==") else None
    return RowTemplate(entry, name, value, at_least, at_most, terms)


def _fitting(template: Template, entry: EntryDeclaration, node: int, other: int) -> int:
    """Return `node` after making sure that its shape goes with that of `other`."""
    template.stretched(entry, other, (node,))
    return node


def _terms(template: Template, entry: EntryDeclaration, trees: list[Node]) -> tuple[int, ...]:
    return tuple(template.lower_entry(entry, term) for tree in trees for term in top_terms(tree))
