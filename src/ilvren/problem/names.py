"""The names of a file: what each stands for in the graph of its formulas, what it needs before, along which time it
changes, and what to say where it stands for nothing."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator
from typing import TYPE_CHECKING, Any, NoReturn

import numpy as np

from ilvren.errors import FormulaError, nearest
from ilvren.formula import Graph, Name, Node, Shape
from ilvren.problem.declared_values import line_of, listed, refuse
from ilvren.problem.entries import Declarations, EntryDeclaration, formula_text

if TYPE_CHECKING:
    from ilvren.problem.along_time import AlongTime
    from ilvren.problem.tables import Table

__all__ = ["Names"]


class Names:
    """What the names of a file stand for: nodes of one graph, as far as they are built."""

    def __init__(self, declarations: Declarations) -> None:
        self.declarations = declarations
        self.graph = Graph()
        self.parameter_index = {entry.name: i for i, entry in enumerate(declarations.parameters)}
        self.variable_index = {entry.name: i for i, entry in enumerate(declarations.variables)}
        self.shapes: dict[str, Shape] = {}
        self.nodes: dict[str, int] = {}
        self.values: list[Any] = [math.nan] * len(self.parameter_index)
        self.used_names: set[str] = set()
        self.columns: list[str] = []  # "table.column", whose parameters follow the declared ones
        self.tables: dict[str, Table] = {}
        self.model_outputs: dict[str, tuple[str, str]] = {}
        self.entries = {
            entry.name: entry for entry in (*declarations.parameters, *declarations.derived, *declarations.objectives)
        }
        self.declared_variables = {entry.name: entry for entry in declarations.variables}
        self.declared_models = {entry.name: entry for entry in declarations.models}
        self.declared_tables = {entry.name: entry for entry in declarations.tables}
        self.constraint_names = {entry.name for entry in declarations.constraints}
        self.axes: list[AlongTime] = []
        self.along: dict[str, AlongTime] = {}  # derived values that change over time
        self.models_over_time: dict[str, AlongTime] = {}

    # ---- messages ---------------------------------------------------------------------------

    def line(self, entry: EntryDeclaration) -> int | None:
        """Return the line of an entry's formula, where it was found."""
        return line_of(self.declarations, entry)

    def fail(self, entry: EntryDeclaration, message: str, **facts: object) -> NoReturn:
        """Raise ProblemError about an entry; its formula is the text unless `facts` say otherwise."""
        refuse(self.declarations, entry, message, **facts)

    def fail_at(self, entry: EntryDeclaration, error: FormulaError) -> NoReturn:
        """Raise ProblemError with the facts of a FormulaError."""
        self.fail(entry, error.message, text=error.text, span=error.span, advice=error.advice)

    # ---- what names are -----------------------------------------------------------------------

    def key_of(self, name: str) -> str | None:
        """Return what must be built before a name can be used: an entry, a variable, a model or a table."""
        axis = self.axis_of(name)
        if axis is not None:
            return axis.key
        if name in self.entries or name in self.declared_variables:
            return name
        first, dot, _ = name.partition(".")
        if dot:
            return first if first in self.declared_models or first in self.declared_tables else None
        if name in self.model_outputs and self.model_outputs[name][0]:
            return self.model_outputs[name][0]
        return None

    def known_keys(self) -> list[str]:
        """Return the names that decks may use."""
        return [
            *self.declared_variables,
            *self.entries,
            *(name for name, (model, _) in self.model_outputs.items() if model),
        ]

    # ---- names that change over time ----------------------------------------------------------

    def axis_of(self, name: str) -> AlongTime | None:
        """Return the axis along which a name changes, or None."""
        if not self.axes:
            return None
        if name in self.along:
            return self.along[name]
        model = self.model_of(name)
        if model in self.models_over_time:
            return self.models_over_time[model]
        found = [axis for axis in self.axes if axis.is_over_time(name)]
        return found[0] if found else None

    def axes_of(self, names: Iterable[str]) -> list[AlongTime]:
        """Return the axes along which any of some names changes. Controls are shared by all axes: they decide where
        nothing else does."""
        shared: list[AlongTime] = []
        found: list[AlongTime] = []
        controls = {control.name for control in self.declarations.controls}
        for name in names:
            axis = self.axis_of(name)
            kept = shared if name in controls else found
            if axis is not None and axis not in kept:
                kept.append(axis)
        return found or shared

    def model_of(self, name: str) -> str:
        """Return the model that a name is an output of, "" for none."""
        first, dot, _ = name.partition(".")
        if dot:
            return first if first in self.declared_models else ""
        return self.model_outputs[name][0] if name in self.model_outputs else ""

    def is_over_time(self, tree: Node) -> AlongTime | None:
        """Return the axis along which a formula changes, or None."""
        for axis in self.axes:
            found = self.axes_of(axis.free_names(tree))
            if found:
                return found[0]
        return None

    # ---- names in formulas --------------------------------------------------------------------

    def resolved(self, entry: EntryDeclaration, word: Name) -> int:
        """Return the node of a name that no time changes. Raises ProblemError."""
        return self.resolver(entry, formula_text(entry.formula))(word)

    def resolver(self, entry: EntryDeclaration, text: str) -> Callable[[Name], int]:
        """Return what finds the node of a name in an entry's formula, whose `text` is told where it stands for nothing.
        Raises ProblemError, and what it returns does."""

        def resolve(word: Name) -> int:
            name = word.name
            self.used_names.add(name.partition("@")[0])
            if entry.section == "parameters" and name not in self.parameter_index and "." not in name:
                kind = "a variable" if name in self.variable_index else "not a parameter"
                if self.key_of(name) is not None:
                    self.fail(
                        entry, f'a parameter may use parameters only; "{name}" is {kind}', text=text, span=word.span
                    )
            axis = self.axis_of(name)
            if axis is not None:
                self.fail(
                    entry,
                    f'"{name}" changes over time; here one number is needed',
                    text=text,
                    span=word.span,
                    advice=f"last({name}), integral({name}), highest({name}) and others make one of it",
                )
            if name in self.nodes:
                return self.nodes[name]
            first, dot, rest = name.partition(".")
            if dot and first in self.declared_tables:
                if rest not in self.tables[first].columns:
                    message, advice = self.tables[first].no_column(rest)
                    self.fail(entry, message, text=text, span=word.span, advice=advice)
                return self._column(first, rest)
            if name in self.model_outputs:
                model, output = self.model_outputs[name]
                if model:
                    return self.nodes[f"{model}.{output}"]
                self.fail(entry, f'several models have an output "{name}"', text=text, span=word.span,
                          advice=f'write the model\'s name before it, as in "upper.{name}"')  # fmt: skip
            if (
                name in self.declared_variables
                or name in self.entries
                or (dot and first in self.declared_models and f"{name}" in self.nodes)
            ):
                self.fail(entry, f'"{name}" may not be used here', text=text, span=word.span)
            if name in self.constraint_names:
                self.fail(
                    entry,
                    f'"{name}" is a constraint, which has no value to use in a formula',
                    text=text,
                    span=word.span,
                    advice="name the value in [derived] and use that name in both places",
                )
            known = list(self._known_names())
            if entry.section == "parameters":
                known = [*self.parameter_index, "pi"]
            close = nearest(name, known)
            advice = f'did you mean "{close}"?' if close else "known names: " + listed(known)
            if name in self.declarations.words:
                advice = f'"{name}" is a word of a choice: lookup(choice, words, numbers) gives each word a number'
            self.fail(entry, f'unknown name "{name}"', text=text, span=word.span, advice=advice)

        return resolve

    def _known_names(self) -> Iterator[str]:
        yield from self.variable_index
        yield from self.entries
        for axis in self.axes:
            yield from (*axis.state_names, *axis.signals, axis.t_name)
        yield from (name for name in self.nodes if "." in name)
        for name, table in self.tables.items():
            yield from (f"{name}.{column}" for column in table.columns)
        yield "pi"

    def _column(self, table: str, column: str) -> int:
        name = f"{table}.{column}"
        values = self.tables[table].column(column)
        index = len(self.values)
        self.values.append(values)
        self.columns.append(name)
        self.nodes[name] = self.graph.parameter(index, np.shape(values))
        return self.nodes[name]
