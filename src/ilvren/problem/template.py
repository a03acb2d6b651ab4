"""Declarations → a template: one graph for all formulas, numbers still open. Made once per file."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from typing import NoReturn

from ilvren.errors import FormulaError, ProblemError, nearest
from ilvren.formula import (
    Graph,
    Limits,
    Name,
    Node,
    lower,
    names_in,
    parse_formula,
    parse_limits,
    top_terms,
)
from ilvren.problem.entries import Declarations, EntryDeclaration, Value

__all__ = ["RowTemplate", "Template", "formula_text", "listed"]


@dataclass(frozen=True, slots=True)
class RowTemplate:
    """A row with the nodes of its value, limits and top-level terms; a limit None where there is none."""

    entry: EntryDeclaration
    name: str
    node: int
    lower: int | None
    upper: int | None
    terms: tuple[int, ...]


class Template:
    """All formulas of a file as one graph, numbers still open. Raises ProblemError or FormulaError."""

    def __init__(self, declarations: Declarations) -> None:
        self.declarations = declarations
        self.graph = Graph()
        self.parameter_index = {entry.name: i for i, entry in enumerate(declarations.parameters)}
        self.variable_index = {entry.name: i for i, entry in enumerate(declarations.variables)}
        self._entries = {
            entry.name: entry for entry in (*declarations.parameters, *declarations.derived, *declarations.objectives)
        }
        self._constraint_names = {entry.name for entry in declarations.constraints}
        self.nodes: dict[str, int] = {}
        trees = {name: self._parse(entry) for name, entry in self._entries.items()}
        self.order = self._sorted(trees)
        for name in self.order:
            self.nodes[name] = self._lower_entry(self._entries[name], trees[name])
        self.rows = [row for entry in declarations.constraints for row in self._row_templates(entry)]
        self.numbers: dict[tuple[str, ...], int] = {}
        self._lower_numbers()

    # ---- formulas ---------------------------------------------------------------------------

    def line(self, entry: EntryDeclaration) -> int | None:
        """Return the line of an entry's formula, where it was found."""
        source = self.declarations.source
        path = (entry.section, *entry.name.split("."))
        return source.line(*path, "formula") or source.line(*path)

    def fail(self, entry: EntryDeclaration, message: str, **facts: object) -> NoReturn:
        """Raise ProblemError about an entry; its formula is the text unless `facts` say otherwise."""
        facts.setdefault("text", str(entry.formula))
        raise ProblemError(
            message,
            file=self.declarations.source.file,
            line=self.line(entry),
            where=entry.path,
            **facts,  # type: ignore[arg-type]
        )

    def _parse(self, entry: EntryDeclaration) -> Node:
        try:
            return parse_formula(formula_text(entry.formula))
        except FormulaError as error:
            self.fail(entry, error.message, text=error.text, span=error.span, advice=error.advice)

    def _sorted(self, trees: Mapping[str, Node]) -> list[str]:
        """Return the names so that each comes after those its formula uses; a cycle is refused."""
        needs = {name: [word.name for word in names_in(tree) if word.name in trees] for name, tree in trees.items()}
        done: set[str] = set()
        order: list[str] = []
        for root in trees:
            path: list[str] = []
            waiting: list[tuple[str, bool]] = [(root, False)]
            while waiting:
                name, is_leaving = waiting.pop()
                if is_leaving:
                    path.pop()
                    done.add(name)
                    order.append(name)
                elif name in path:
                    cycle = [*path[path.index(name) :], name]
                    self.fail(self._entries[name], "the value needs itself: " + " -> ".join(cycle))
                elif name not in done:
                    path.append(name)
                    waiting.append((name, True))
                    waiting.extend((other, False) for other in reversed(needs[name]) if other not in done)
        return order

    def _resolver(self, entry: EntryDeclaration) -> Callable[[Name], int]:
        text = formula_text(entry.formula)

        def resolve(word: Name) -> int:
            name = word.name
            if entry.section == "parameters" and name not in self.parameter_index:
                kind = "a variable" if name in self.variable_index else "not a parameter"
                if name in self.variable_index or name in self._entries:
                    self.fail(entry, f'a parameter may use parameters only; "{name}" is {kind}', span=word.span)
            if name in self.variable_index:
                return self.graph.variable(self.variable_index[name])
            if name in self.parameter_index:
                return self.graph.parameter(self.parameter_index[name])
            if name in self.nodes:
                return self.nodes[name]
            if name in self._constraint_names:
                self.fail(
                    entry,
                    f'"{name}" is a constraint, which has no value to use in a formula',
                    span=word.span,
                    advice="name the value in [derived] and use that name in both places",
                )
            known = [*self.variable_index, *self.parameter_index, *self._entries, "pi"]
            if entry.section == "parameters":
                known = [*self.parameter_index, "pi"]
            close = nearest(name, known)
            advice = f'did you mean "{close}"?' if close else "known names: " + listed(known)
            self.fail(entry, f'unknown name "{name}"', text=text, span=word.span, advice=advice)

        return resolve

    def _lower_entry(self, entry: EntryDeclaration, tree: Node) -> int:
        return lower(tree, self.graph, self._resolver(entry), entry=entry.path, text=formula_text(entry.formula))

    def _row_templates(self, entry: EntryDeclaration) -> list[RowTemplate]:
        text = formula_text(entry.formula)
        try:
            limits = parse_limits(text)
        except FormulaError as error:
            self.fail(entry, error.message, text=error.text, span=error.span, advice=error.advice)
        sides = [lower(side, self.graph, self._resolver(entry), entry=entry.path, text=text) for side in limits.sides]
        varies = [bool(self.graph.variables_of([side])) for side in sides]
        if len(sides) == 3:
            return self._chain(entry, limits, sides, varies)
        return [self._comparison(entry, entry.name, limits.operators[0], limits.sides, sides, varies)]

    def _chain(
        self, entry: EntryDeclaration, limits: Limits, sides: list[int], varies: list[bool]
    ) -> list[RowTemplate]:
        trees = list(limits.sides)
        if limits.operators[0] == ">=":
            trees, sides, varies = trees[::-1], sides[::-1], varies[::-1]
        if not varies[0] and not varies[2]:
            terms = self._terms(entry, [trees[1]])
            return [RowTemplate(entry, entry.name, sides[1], sides[0], sides[2], terms)]
        return [
            self._comparison(entry, f"{entry.name}.{word}", "<=", trees[i : i + 2], sides[i : i + 2], varies[i : i + 2])
            for i, word in enumerate(("low", "high"))
        ]

    def _comparison(
        self,
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
            terms = self._terms(entry, [trees[1]])
        elif varies[0] and varies[1]:
            value, limit = self.graph.apply("sub", left, right), self.graph.constant(0.0)
            terms = self._terms(entry, list(trees))
        else:
            value, limit = left, right
            terms = self._terms(entry, [trees[0]])
        at_least = limit if operator in (">=", "==") else None
        at_most = limit if operator in ("<=", "==") else None
        return RowTemplate(entry, name, value, at_least, at_most, terms)

    def _terms(self, entry: EntryDeclaration, trees: list[Node]) -> tuple[int, ...]:
        resolve = self._resolver(entry)
        return tuple(
            lower(term, self.graph, resolve, entry=entry.path, text=formula_text(entry.formula))
            for tree in trees
            for term in top_terms(tree)
        )

    # ---- numbers that may be formulas of parameters -------------------------------------------

    def _lower_numbers(self) -> None:
        for variable in self.declarations.variables:
            for key in ("start", "lower", "upper", "magnitude", "spacing"):
                self._lower_number(("variables", variable.name, key), getattr(variable, key))
            for place, member in enumerate(variable.catalogue or ()):
                self._lower_number(("variables", variable.name, "catalogue", str(place)), member)
        for entry in (*self.declarations.objectives, *self.declarations.constraints):
            self._lower_number((entry.section, entry.name, "magnitude"), entry.magnitude)

    def _lower_number(self, path: tuple[str, ...], value: Value | None) -> None:
        if not isinstance(value, str):
            return
        section, name = ".".join(path[:-1]).split(".", 1)
        entry = EntryDeclaration(section, f"{name}.{path[-1]}", value)
        node = self._lower_entry(entry, self._parse(entry))
        if self.graph.variables_of([node]):
            self.fail(entry, f'"{path[-1]}" may not depend on a variable')
        self.numbers[path] = node


def formula_text(value: Value) -> str:
    """Return a formula as text; a number is one, too."""
    if isinstance(value, str):
        return value
    return repr(value)


def listed(names: Iterable[str], most: int = 12) -> str:
    """Return names for a message, the first few of many."""
    words = list(names)
    if not words:
        return "none"
    return ", ".join(words[:most]) + (", …" if len(words) > most else "")
