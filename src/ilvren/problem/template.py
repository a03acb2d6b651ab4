"""All formulas of a file as one graph, and what names mean in it. `problem.building` puts the declarations in.

Shapes must be known to build the graph, so parameters are evaluated on the way; their values are kept apart from
the graph and may change afterwards, as long as no size depends on them.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator, Mapping
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from ilvren.errors import FormulaError
from ilvren.formula import (
    Name,
    Node,
    Trouble,
    interpret,
    lower,
    parse_formula,
    shape_text,
)
from ilvren.problem.declared_values import checked_override, flat, is_list, list_shape
from ilvren.problem.entries import (
    Declarations,
    EntryDeclaration,
    formula_text,
)
from ilvren.problem.names import Names
from ilvren.problem.texts import calls_of_scatter, dependents_of

if TYPE_CHECKING:
    from ilvren.formula import Call
    from ilvren.models import ModelSource
    from ilvren.problem.along_time import AlongTime
    from ilvren.problem.template_parts import (
        FitTemplate,
        GridUnknown,
        Learnt,
        Measure,
        MeasuredCall,
        OwnPoints,
        RowTemplate,
    )

__all__ = ["Template"]

# A size given by a formula is whole when it is this close to a whole number.
WHOLE = 1e-9


# Takes an entry, its tree and what resolves its names; returns a tree, and what resolves its names.
Resolver = Callable[[Name], int]
Rewriter = Callable[[EntryDeclaration, Node, Resolver], tuple[Node, Resolver]]


class Template(Names):
    """All formulas of a file as one graph, and what its names stand for. Raises ProblemError or FormulaError,
    RequestError for an override."""

    def __init__(
        self,
        declarations: Declarations,
        overrides: Mapping[str, Any] | None = None,
        texts: dict[str, str] | None = None,
    ) -> None:
        """`texts` are those of the tables and models read so far, by the names in the file. `problem.building` builds
        what is declared."""
        super().__init__(declarations)
        self.texts = {} if texts is None else texts
        self.learnt: list[Learnt] = []
        self.sizes: dict[int, float] = {}
        self.numbers: dict[tuple[str, ...], int] = {}
        self._data: dict[str, int] = {}
        self.sources: list[ModelSource] = []
        self._evaluators: dict[int, Callable[[list[Any]], Any]] = {}
        self.inputs: dict[str, dict[str, EntryDeclaration]] = {}
        self.trees = {name: self.parse(entry) for name, entry in self.entries.items() if not is_list(entry)}
        self._outer = {
            name: checked_override("--set", name, v, self.parameter_index, "parameter")
            for name, v in (overrides or {}).items()
        }
        # What is written in a formula beside the graph's own functions is put in place by these, in turn.
        self.rewriters: list[Rewriter] = []
        self.order: list[str] = []
        self.fit: list[FitTemplate] = []
        self.fit_node: int | None = None
        self.rows: list[RowTemplate] = []
        # Over time.
        self.measured: list[MeasuredCall] = []
        self.measures: list[Measure] = []
        self.built_axes: list[AlongTime] = []
        self.grid_unknowns: list[GridUnknown] = []  # of axes whose states are unknowns, behind the variables
        self.grid_rows: list[RowTemplate] = []  # and the equations between them, behind the constraints
        self.own_points: dict[str, OwnPoints] = {}  # of controls that are chosen at every moment
        self.told_over_time: list[list[tuple[str, str, int]]] = []
        self.measure: Callable[[EntryDeclaration, Call], int] = self._no_time  # the node of a function of time
        # Of what scatters: functions of it in formulas (`problem.scatter_functions`), and what makes its nodes.
        self.scatter_functions: Any = None
        self.scatter_nodes_of: Callable[[Template], dict[str, dict[str, int]]] | None = None

    # ---- names and what they need --------------------------------------------------

    def parse(self, entry: EntryDeclaration) -> Node:
        """Return the tree of an entry's formula. Raises ProblemError."""
        try:
            return parse_formula(formula_text(entry.formula))
        except FormulaError as error:
            self.fail_at(entry, error)

    def stored(self, file: str) -> str:
        """Return the text of a model's file, stored or on disk; reading is not running."""
        from ilvren.models import read_python

        if file not in self.texts:
            source = self.declarations.source
            self.texts[file] = source.files.get(file) or read_python(source.beside(file))
        return self.texts[file]

    @cached_property
    def scatter_nodes(self) -> dict[str, dict[str, int]]:
        """Return {name: {width: node}} of what scatters."""
        return {} if self.scatter_nodes_of is None else self.scatter_nodes_of(self)

    @property
    def overridden(self) -> frozenset[str]:
        """Return the parameters that were set from outside."""
        return frozenset(self._outer)

    def number_of(self, node: int) -> Any:
        """Return the value of a node that depends on parameters alone."""
        return interpret(self.graph, [node], (), self.values).values[0]

    # ---- parameters ---------------------------------------------------------------------------

    def add_parameter(self, entry: EntryDeclaration) -> None:
        """Put a parameter into the graph, and how its value is found. Raises ProblemError."""
        index = self.parameter_index[entry.name]
        if is_list(entry):
            evaluate = self._list_parameter(entry)
        else:
            node = self.lower_entry(entry, self.trees[entry.name])

            def evaluate(values: list[Any]) -> Any:
                return self.number(entry, node, values, f'parameter "{entry.name}"')

        self._evaluators[index] = evaluate
        value = self._outer[entry.name] if entry.name in self._outer else evaluate(self.values)
        self.values[index] = value
        self.shapes[entry.name] = np.shape(value)
        self.nodes[entry.name] = self.graph.parameter(index, np.shape(value))

    def _list_parameter(self, entry: EntryDeclaration) -> Callable[[list[Any]], Any]:
        assert isinstance(entry.formula, tuple)
        shape = list_shape(entry.formula)
        if shape is None or len(shape) > 2:
            what = "its lines have different lengths" if shape is None else "more than two levels of lists"
            self.fail(entry, f"the list is neither a vector nor a matrix: {what}", text=None)
        items = list(flat(entry.formula))
        if not items:
            self.fail(entry, "an empty list", text=None)
        nodes = {
            place: (own, self.lower_entry(own, self.parse(own)))
            for place, item in enumerate(items)
            if isinstance(item, str)
            for own in [EntryDeclaration(entry.section, entry.name, item)]
        }
        for own, node in nodes.values():
            if self.graph.shape(node):
                self.fail(own, "an element of a list is one number")
        plain = np.array([math.nan if isinstance(item, str) else item for item in items])

        def evaluate(values: list[Any]) -> Any:
            found = plain.copy()
            for place, (own, node) in nodes.items():
                found[place] = self.number(own, node, values, f'parameter "{entry.name}"')
            return found.reshape(shape)

        return evaluate

    def values_for(self, overrides: Mapping[str, Any]) -> list[Any] | None:
        """Return the parameters' values under other overrides, or None where a shape or a size changes: then the
        graph is another one."""
        values = list(self.values)
        for name in self.order:
            index = self.parameter_index.get(name)
            if index is not None:
                values[index] = overrides[name] if name in overrides else self._evaluators[index](values)
                if np.shape(values[index]) != self.shapes[name]:
                    return None
        for node, size in self.sizes.items():
            if interpret(self.graph, [node], (), values).values[0] != size:
                return None
        for axis in self.axes:  # other moments, another graph
            before, after = (interpret(self.graph, axis.structural, (), own).values for own in (self.values, values))
            if not all(np.array_equal(a, b) for a, b in zip(before, after, strict=True)):
                return None
            if not axis.has_same_moments(values):
                return None
        return values

    def number(self, entry: EntryDeclaration, node: int, values: list[Any], what: str) -> Any:
        """Return the value of a node that depends on no variable: a float or an array. Refuses what is not finite."""
        if self.graph.nodes[node].operation == "constant":
            return self.graph.nodes[node].value
        seen = interpret(self.graph, [node], (), values)
        trouble: Trouble | None = seen.troubles[0]
        if trouble is not None:
            origin = trouble.origin
            self.fail(
                entry,
                f"{what} has no finite value" + (f": {trouble.reason}" if trouble.reason else ""),
                text=origin.text if origin else None,
                span=origin.span if origin else None,
            )
        return seen.values[0]

    def whole(self, node: int) -> int | None:
        """Return the whole number that a node gives, or None when it depends on a variable or is not whole."""
        if self.graph.shape(node) or self.depends(node):
            return None
        found = self.graph.nodes[node]
        value = (
            found.value if found.operation == "constant" else interpret(self.graph, [node], (), self.values).values[0]
        )
        if not math.isfinite(value) or abs(value - round(value)) > WHOLE * max(abs(value), 1.0):
            return None
        if found.operation != "constant":
            self.sizes[node] = value
        return round(value)

    # ---- things over time --------------------------------------------------------------------

    def derived_over_time(self, name: str) -> tuple[Node | None, EntryDeclaration | None]:
        """Return the formula and the entry of a derived value that changes over time."""
        if name not in self.along:
            return None, None
        return self.trees[name], self.entries[name]

    def names_over_time(self, axis: AlongTime) -> list[str]:
        """Return the derived values that change along an axis."""
        return [name for name, own in self.along.items() if own is axis]

    def all_trees(self) -> Iterator[tuple[EntryDeclaration, Node]]:
        """Yield all formulas that may hold functions of time."""
        from ilvren.formula import parse_limits

        for name, tree in self.trees.items():
            yield self.entries[name], tree
        for axis in self.axes:
            for name, tree in axis.trees.items():
                yield axis.signals[name], tree
        for entry in self.declarations.constraints:
            try:
                sides = parse_limits(formula_text(entry.formula)).sides
            except FormulaError as error:
                self.fail_at(entry, error)
            for side in sides:
                yield entry, side
        for fit in self.declarations.fit:
            entry = EntryDeclaration("fit", fit.name, fit.residual)
            yield entry, self.parse(entry)
        for name, model in self.inputs.items():
            for entry in model.values() if name not in self.models_over_time else ():
                yield entry, self.parse(entry)

    @property
    def own_data(self) -> frozenset[str]:
        """Return the names of fixed numbers that no file gives."""
        return frozenset(self._data)

    def _no_time(self, entry: EntryDeclaration, call: Call) -> int:
        raise self.complaint(entry, f'"{call.function}" is a function of time, and nothing evolves', call)

    def complaint(
        self, entry: EntryDeclaration, message: str, node: Node | None, advice: str | None = None
    ) -> FormulaError:
        """Return what to raise about a part of a formula."""
        return FormulaError(message, text=formula_text(entry.formula), span=node.span if node else None, advice=advice)

    def data(self, name: str, values: Any) -> int:
        """Return the node of fixed numbers that no file gives; equal names have equal numbers."""
        if name not in self._data:
            array = np.asarray(values, dtype=float)
            index = len(self.values)
            self.values.append(array)
            self.columns.append(name)
            self._data[name] = self.graph.parameter(index, array.shape)
        return self._data[name]

    # ---- into the graph ---------------------------------------------------------------------

    def lower_entry(self, entry: EntryDeclaration, tree: Node) -> int:
        """Add the formula of an entry to the graph and return its node."""
        text = formula_text(entry.formula)
        resolve = self.resolver(entry, text)
        try:
            for rewritten in self.rewriters:
                tree, resolve = rewritten(entry, tree, resolve)
            return lower(tree, self.graph, resolve, entry=entry.path, text=text, whole=self.whole)
        except FormulaError as error:
            self.fail_at(entry, error)

    def depends(self, node: int) -> bool:
        """Return whether a value depends on a variable, or on a model (which is not run to find a limit)."""
        return bool(self.graph.variables_of([node])) or any(
            self.graph.nodes[number].operation == "call" for number in self.graph.reachable([node])
        )

    @cached_property
    def asks_for_scenarios(self) -> bool:
        """Return whether a formula has a function of what scatters."""
        return bool(self.declarations.scatter) and any(calls_of_scatter(tree) for _, tree in self.all_trees())

    @cached_property
    def _scattered_places(self) -> frozenset[int]:
        """Return the numbers of parameters that scatter, or are made of such, where a formula asks what comes of it."""
        if not self.asks_for_scenarios:
            return frozenset()
        moved = {item.name for item in self.declarations.scatter}
        names = moved | dependents_of(self.declarations.parameters, moved)
        return frozenset(self.parameter_index[name] for name in names if name in self.parameter_index)

    def scatters(self, node: int) -> bool:
        """Return whether formulas ask for scenarios in which a value is another one, though no design changes it."""
        places = self._scattered_places
        return bool(places) and any(
            self.graph.nodes[number].operation == "parameter" and self.graph.nodes[number].index in places
            for number in self.graph.reachable([node])
        )

    def stretched(self, entry: EntryDeclaration, node: int, others: Iterable[int]) -> int:
        """Return a row's value with as many rows as its limits ask for."""
        from ilvren.formula import ShapeMismatch, joint_shape

        shape = self.graph.shape(node)
        try:
            for other in others:
                shape = joint_shape(shape, self.graph.shape(other))
        except ShapeMismatch as error:
            one, two = map(shape_text, error.shapes)
            self.fail(entry, f"the sides have different shapes: {one} and {two}")
        return self.graph.stretched(node, shape)
