"""What the formulas of a file say, read as text: which functions they call, which names they use."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from ilvren.errors import FormulaError
from ilvren.formula import SCATTER_FUNCTIONS, TIME_FUNCTIONS, Call, Node, children, names_in, parse_formula
from ilvren.problem.entries import EntryDeclaration, Value, formula_text

__all__ = [
    "calls_of_scatter",
    "calls_of_time",
    "dependents_of",
    "is_limit",
    "speaks_of_scatter",
]


def calls_of_scatter(tree: Node) -> list[Call]:
    """Return the outermost calls of functions of what scatters in a tree."""
    if isinstance(tree, Call) and tree.function in SCATTER_FUNCTIONS:
        return [tree]
    return [call for child in children(tree) for call in calls_of_scatter(child)]


def calls_of_time(tree: Node) -> Iterator[Call]:
    """Yield the outermost calls of functions of time in a tree."""
    waiting = [tree]
    while waiting:
        node = waiting.pop()
        if isinstance(node, Call) and node.function in TIME_FUNCTIONS:
            yield node
            continue
        waiting.extend(reversed(children(node)))


def speaks_of_scatter(entry: EntryDeclaration) -> bool:
    """Return whether an entry's formula, which can be read, has functions of what scatters."""
    return not isinstance(entry.formula, tuple) and bool(calls_of_scatter(parse_formula(formula_text(entry.formula))))


def is_limit(entry: EntryDeclaration) -> bool:
    """Return whether an entry compares, rather than shows a value."""
    try:
        parse_formula(formula_text(entry.formula))
    except FormulaError:  # a comparison, or what will be refused as one, with its place
        return True
    return False


def dependents_of(parameters: Sequence[EntryDeclaration], moved: set[str]) -> set[str]:
    """Return the parameters that are formulas of others in `moved`, through others, too."""
    uses = {}
    for entry in parameters:
        texts = list(_texts_of(entry.formula))
        try:
            uses[entry.name] = {word.name for text in texts for word in names_in(parse_formula(text))}
        except FormulaError:  # refused with its place when the problem is built
            uses[entry.name] = set()
    found: set[str] = set()
    while True:
        more = {name for name, names in uses.items() if name not in found and names & (moved | found)}
        if not more:
            return found
        found |= more


def _texts_of(value: Value) -> list[str]:
    if isinstance(value, tuple):
        return [text for item in value for text in _texts_of(item)]
    return [value] if isinstance(value, str) else []
