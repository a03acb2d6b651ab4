"""The sides of a constraint → rows: which side is the limit, chains, shapes, top-level terms."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from ilvren.formula import Limits, Node, top_terms
from ilvren.problem.entries import EntryDeclaration
from ilvren.problem.template_parts import RowTemplate

if TYPE_CHECKING:
    from ilvren.problem.template import Template

__all__ = ["compared"]


# Adds a side, or a term of one, to the graph.
Lowered = Callable[[Node], int]


def compared(template: Template, entry: EntryDeclaration, limits: Limits, lowered: Lowered) -> list[RowTemplate]:
    """Return the row templates of sides, each added to the graph by `lowered`."""
    sides = [lowered(side) for side in limits.sides]
    varies = [template.depends(side) for side in sides]
    if len(sides) == 3:
        return _chain(template, entry, limits, sides, varies, lowered)
    return [_comparison(template, entry, entry.name, limits.operators[0], limits.sides, sides, varies, lowered)]


def _chain(
    template: Template,
    entry: EntryDeclaration,
    limits: Limits,
    sides: list[int],
    varies: list[bool],
    lowered: Lowered,
) -> list[RowTemplate]:
    trees = list(limits.sides)
    if limits.operators[0] == ">=":
        trees, sides, varies = trees[::-1], sides[::-1], varies[::-1]
    if not varies[0] and not varies[2]:
        node = template.stretched(entry, sides[1], (sides[0], sides[2]))
        return [
            RowTemplate(
                entry=entry,
                name=entry.name,
                node=node,
                lower=sides[0],
                upper=sides[2],
                terms=_terms([trees[1]], lowered),
            )
        ]
    return [
        _comparison(
            template,
            entry,
            f"{entry.name}.{word}",
            "<=",
            trees[i : i + 2],
            sides[i : i + 2],
            varies[i : i + 2],
            lowered,
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
    lowered: Lowered,
) -> RowTemplate:
    left, right = sides
    if not varies[0] and varies[1]:
        value, limit, operator = right, left, {"<=": ">=", ">=": "<=", "==": "=="}[operator]
        terms = _terms([trees[1]], lowered)
    elif varies[0] and varies[1]:
        value = template.graph.apply("sub", left, _fitting(template, entry, right, left))
        limit = template.graph.constant(0.0)
        terms = _terms(list(trees), lowered)
    else:
        value, limit = left, right
        terms = _terms([trees[0]], lowered)
    value = template.stretched(entry, value, (limit,))
    at_least = limit if operator in (">=", "==") else None
    at_most = limit if operator in ("<=", "==") else None
    return RowTemplate(entry=entry, name=name, node=value, lower=at_least, upper=at_most, terms=terms)


def _fitting(template: Template, entry: EntryDeclaration, node: int, other: int) -> int:
    """Return `node` after making sure that its shape goes with that of `other`."""
    template.stretched(entry, other, (node,))
    return node


def _terms(trees: list[Node], lowered: Lowered) -> tuple[int, ...]:
    return tuple(lowered(term) for tree in trees for term in top_terms(tree))
