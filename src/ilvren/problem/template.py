"""All formulas of a file as one graph, and what names mean in it. `problem.building` puts the declarations in.

Shapes must be known to build the graph, so parameters are evaluated on the way; their values are kept apart from
the graph and may change afterwards, as long as no size depends on them.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any, NoReturn, Protocol

import numpy as np

from ilvren.errors import FormulaError, nearest
from ilvren.formula import (
    Graph,
    Name,
    Node,
    Shape,
    Trouble,
    interpret,
    lower,
    parse_formula,
    shape_text,
)
from ilvren.problem.declared_values import checked_override, flat, is_list, line_of, list_shape, listed, refuse
from ilvren.problem.entries import (
    Declarations,
    EntryDeclaration,
    Value,
    VariableDeclaration,
    formula_text,
)
from ilvren.problem.texts import calls_of_scatter, dependents_of

if TYPE_CHECKING:
    from ilvren.dynamics import Simulation
    from ilvren.formula import Call
    from ilvren.models import ModelSource
    from ilvren.problem.tables import Table
    from ilvren.problem.template_parts import FitTemplate, GridUnknown, Learnt, MeasuredCall, OwnPoints, RowTemplate
    from ilvren.problem.time_declarations import ControlDeclaration, StateDeclaration

__all__ = ["AlongTime", "Template"]

# A size given by a formula is whole when it is this close to a whole number.
WHOLE = 1e-9
MOST_ELEMENTS = 50_000_000


class AlongTime(Protocol):
    """A time and what evolves along it, as far as a template asks (`problem.over_time` has the rest)."""

    key: str
    t_name: str
    suffix: str
    trees: dict[str, Node]
    signals: dict[str, EntryDeclaration]
    state_names: dict[str, int]
    state_declarations: list[StateDeclaration]
    control_declarations: dict[str, ControlDeclaration]
    structural: list[int]

    @property
    def pointwise(self) -> frozenset[str]: ...

    def is_over_time(self, name: str) -> bool: ...

    def free_names(self, tree: Node) -> list[str]: ...

    def own_trees(self) -> list[Node]: ...

    def takes(self, call: Call) -> bool: ...

    def bounds_of(self, state: StateDeclaration) -> bool: ...

    def build(self, trees: Sequence[tuple[EntryDeclaration, Node]]) -> None: ...

    def has_same_moments(self, values: list[Any]) -> bool: ...

    def told(self) -> list[tuple[str, str, int]]: ...

    def simulation(self, values: Sequence[Any], anchor: Sequence[Any] | None) -> Simulation: ...


# Takes an entry, its tree and what resolves its names; returns a tree, and what resolves its names.
Resolver = Callable[[Name], int]
Rewriter = Callable[[EntryDeclaration, Node, Resolver], tuple[Node, Resolver]]


class Template:
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
        self.declarations = declarations
        self.texts = {} if texts is None else texts
        self.learnt: list[Learnt] = []
        self.graph = Graph()
        self.parameter_index = {entry.name: i for i, entry in enumerate(declarations.parameters)}
        self.variable_index = {entry.name: i for i, entry in enumerate(declarations.variables)}
        self.shapes: dict[str, Shape] = {}
        self.nodes: dict[str, int] = {}
        self.values: list[Any] = [math.nan] * len(self.parameter_index)
        self.used_names: set[str] = set()
        self.columns: list[str] = []  # "table.column", whose parameters follow the declared ones
        self.tables: dict[str, Table] = {}
        self.sizes: dict[int, float] = {}
        self.numbers: dict[tuple[str, ...], int] = {}
        self._data: dict[str, int] = {}
        self.sources: list[ModelSource] = []
        self.model_outputs: dict[str, tuple[str, str]] = {}
        self._evaluators: dict[int, Callable[[list[Any]], Any]] = {}
        self.entries = {
            entry.name: entry for entry in (*declarations.parameters, *declarations.derived, *declarations.objectives)
        }
        self.declared_variables = {entry.name: entry for entry in declarations.variables}
        self.declared_models = {entry.name: entry for entry in declarations.models}
        self.declared_tables = {entry.name: entry for entry in declarations.tables}
        self._constraint_names = {entry.name for entry in declarations.constraints}
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
        self.axes: list[AlongTime] = []
        self.built_axes: list[AlongTime] = []
        self.grid_unknowns: list[GridUnknown] = []  # of axes whose states are unknowns, behind the variables
        self.grid_rows: list[RowTemplate] = []  # and the equations between them, behind the constraints
        self.own_points: dict[str, OwnPoints] = {}  # of controls that are chosen at every moment
        self.along: dict[str, AlongTime] = {}  # derived values that change over time
        self.models_over_time: dict[str, AlongTime] = {}
        self.told_over_time: list[list[tuple[str, str, int]]] = []
        self.measure: Callable[[EntryDeclaration, Call], int] = self._no_time  # the node of a function of time
        # Of what scatters: functions of it in formulas (`problem.scatter_functions`), and what makes its nodes.
        self.scatter_functions: Any = None
        self.scatter_nodes_of: Callable[[Template], dict[str, dict[str, int]]] | None = None

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

    @cached_property
    def scatter_nodes(self) -> dict[str, dict[str, int]]:
        """Return {name: {width: node}} of what scatters."""
        return {} if self.scatter_nodes_of is None else self.scatter_nodes_of(self)

    def known_keys(self) -> list[str]:
        """Return the names that decks may use."""
        return [
            *self.declared_variables,
            *self.entries,
            *(name for name, (model, _) in self.model_outputs.items() if model),
        ]

    @property
    def overridden(self) -> frozenset[str]:
        """Return the parameters that were set from outside."""
        return frozenset(self._outer)

    def number_of(self, node: int) -> Any:
        """Return the value of a node that depends on parameters alone."""
        return interpret(self.graph, [node], (), self.values).values[0]

    # ---- parameters and shapes ----------------------------------------------------------------

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

    def variable_shape(self, variable: VariableDeclaration) -> Shape:
        """Return the shape that a variable's declaration gives it. Raises ProblemError."""
        entry = EntryDeclaration("variables", variable.name, formula_text(variable.shape or ""))
        if variable.shape == ("pieces",):
            return self._control_shape(variable.name)
        if variable.shape is not None:
            return self.shape_of(entry, f"{variable.name}.shape", variable.shape)
        for given in (variable.start, variable.lower, variable.upper, variable.magnitude):
            if isinstance(given, tuple):
                shape = list_shape(given)
                if shape is None or len(shape) > 2:
                    self.fail(entry, "a list that is neither a vector nor a matrix", text=None)
                return shape
        return ()

    def shape_of(self, entry: EntryDeclaration, path: str, given: Value) -> Shape:
        """Return the shape of a length, or of rows and columns. Raises ProblemError."""
        parts = given if isinstance(given, tuple) else (given,)
        if not 1 <= len(parts) <= 2:
            self.fail(entry, "a shape is a length, or [rows, columns]", text=None)
        lengths = []
        for part in parts:
            if isinstance(part, str):
                own = EntryDeclaration(entry.section, path, part)
                length = self.whole(self.lower_entry(own, self.parse(own)))
            else:
                is_whole = isinstance(part, (int, float)) and float(part).is_integer()
                length = int(part) if is_whole and isinstance(part, (int, float)) else None
            if length is None or length < 1:
                self.fail(
                    entry, "a length must be a whole number from 1, known before any run", text=formula_text(part)
                )
            lengths.append(length)
        if math.prod(lengths) > MOST_ELEMENTS:
            self.fail(entry, f"{math.prod(lengths)} elements are more than this tool holds", text=formula_text(given))
        return tuple(lengths)

    def piece_texts(self, name: str) -> list[Value]:
        """Return what decides how many values a control has."""
        declared = next(item for item in self.declarations.controls if item.name == name)
        time = self.declarations.time
        assert time is not None
        given = declared.pieces if declared.pieces is not None else (time.steps or time.at)
        return [
            *flat(given if given is not None else 1.0),
            *flat(declared.shape if declared.shape is not None else 1.0),
        ]

    def _control_shape(self, name: str) -> Shape:
        """Return the shape of a control's variable: its pieces (values at their ends, of lines), then its own shape."""
        from ilvren.dynamics import MOST_STEPS
        from ilvren.problem.time_declarations import DEFAULT_STEPS

        declared = next(item for item in self.declarations.controls if item.name == name)
        time = self.declarations.time
        assert time is not None
        entry = EntryDeclaration("controls", name, "")
        if declared.pieces is not None:
            own = EntryDeclaration("controls", name, declared.pieces)
            pieces = self.whole(self.lower_entry(own, self.parse(own)))
        elif time.at is not None:
            own = EntryDeclaration("time", "at", time.at)
            pieces = self.graph.shape(self.lower_entry(own, self.parse(own)))[0] - 1
        elif time.steps is not None:
            own = EntryDeclaration("time", "steps", time.steps)
            pieces = self.whole(self.lower_entry(own, self.parse(own)))
        else:
            pieces = DEFAULT_STEPS
        if pieces is None or not 1 <= pieces <= MOST_STEPS:
            self.fail(
                entry, f"a whole number of pieces from 1 to {MOST_STEPS} is needed, known before any run", text=None
            )
        shape = () if declared.shape is None else self.shape_of(entry, f"{name}.shape", declared.shape)
        return (pieces + (declared.form != "constant"), *shape)

    # ---- things over time --------------------------------------------------------------------

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

    def derived_over_time(self, name: str) -> tuple[Node | None, EntryDeclaration | None]:
        """Return the formula and the entry of a derived value that changes over time."""
        if name not in self.along:
            return None, None
        return self.trees[name], self.entries[name]

    def names_over_time(self, axis: AlongTime) -> list[str]:
        """Return the derived values that change along an axis."""
        return [name for name, own in self.along.items() if own is axis]

    def is_over_time(self, tree: Node) -> AlongTime | None:
        """Return the axis along which a formula changes, or None."""
        for axis in self.axes:
            found = self.axes_of(axis.free_names(tree))
            if found:
                return found[0]
        return None

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

    def resolved(self, entry: EntryDeclaration, word: Name) -> int:
        """Return the node of a name that no time changes. Raises ProblemError."""
        return self._resolver(entry, formula_text(entry.formula))(word)

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

    # ---- names ------------------------------------------------------------------------------

    def _resolver(self, entry: EntryDeclaration, text: str) -> Callable[[Name], int]:
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
            if name in self._constraint_names:
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

    def lower_entry(self, entry: EntryDeclaration, tree: Node) -> int:
        """Add the formula of an entry to the graph and return its node."""
        text = formula_text(entry.formula)
        resolve = self._resolver(entry, text)
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
