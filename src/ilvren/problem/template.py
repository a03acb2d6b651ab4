"""Declarations → a template: one graph for all formulas. Made once per file and per set of sizes.

Shapes must be known to build the graph, so parameters are evaluated on the way; their values are kept apart from
the graph and may change afterwards, as long as no size depends on them.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator, Mapping
from functools import cached_property
from typing import TYPE_CHECKING, Any, NoReturn

import numpy as np

from ilvren.errors import FormulaError, ProblemError, RequestError, nearest
from ilvren.formula import (
    Graph,
    Name,
    Node,
    Shape,
    Trouble,
    lower,
    names_in,
    parse_formula,
    shape_text,
    walk,
)
from ilvren.problem.entries import (
    Declarations,
    EntryDeclaration,
    TableDeclaration,
    Value,
    VariableDeclaration,
    formula_text,
)
from ilvren.problem.fitting import fit_objective, fit_template
from ilvren.problem.rows import RowTemplate, row_templates

if TYPE_CHECKING:
    from ilvren.formula import Call
    from ilvren.models import ModelSource
    from ilvren.problem.approximations import Learnt
    from ilvren.problem.collocated import GridUnknown, OwnPoints
    from ilvren.problem.over_time import Axis
    from ilvren.problem.scatter_functions import ScatterFunctions
    from ilvren.problem.tables import Table
    from ilvren.problem.time_functions import MeasuredCall

__all__ = ["Template", "checked_override", "listed"]

# A size given by a formula is whole when it is this close to a whole number.
WHOLE = 1e-9
MOST_ELEMENTS = 50_000_000


class Template:
    """All formulas of a file as one graph. Raises ProblemError or FormulaError, RequestError for an override."""

    def __init__(self, declarations: Declarations, overrides: Mapping[str, Any] | None = None) -> None:
        self.declarations = declarations
        self.texts: dict[str, str] = {}  # of the tables and models read, by the names in the file
        self.learnt: list[Learnt] = []
        if any(model.approximation for model in declarations.models):
            from ilvren.problem.approximations import with_groups  # few files have approximations

            self.declarations = declarations = with_groups(self)
        self.graph = Graph()
        self.parameter_index = {entry.name: i for i, entry in enumerate(declarations.parameters)}
        self.variable_index = {entry.name: i for i, entry in enumerate(declarations.variables)}
        self.shapes: dict[str, Shape] = {}
        self.nodes: dict[str, int] = {}
        self.values: list[Any] = [math.nan] * len(self.parameter_index)
        self.columns: list[str] = []  # "table.column", whose parameters follow the declared ones
        self.tables: dict[str, Table] = {}
        self.sizes: dict[int, float] = {}
        self._data: dict[str, int] = {}
        self.sources: list[ModelSource] = []
        self.model_outputs: dict[str, tuple[str, str]] = {}
        self._evaluators: dict[int, Callable[[list[Any]], Any]] = {}
        self._entries = {
            entry.name: entry for entry in (*declarations.parameters, *declarations.derived, *declarations.objectives)
        }
        self._variables = {entry.name: entry for entry in declarations.variables}
        self._models = {entry.name: entry for entry in declarations.models}
        self._tables = {entry.name: entry for entry in declarations.tables}
        self._constraint_names = {entry.name for entry in declarations.constraints}
        self.inputs: dict[str, dict[str, EntryDeclaration]] = {}
        self._trees = {name: self.parse(entry) for name, entry in self._entries.items() if not _is_list(entry)}
        self._outer = {
            name: checked_override("--set", name, v, self.parameter_index, "parameter")
            for name, v in (overrides or {}).items()
        }
        self.measured: list[MeasuredCall] = []
        self.axes: list[Axis] = []
        self.built_axes: list[Axis] = []
        self.grid_unknowns: list[GridUnknown] = []  # of axes whose states are unknowns, behind the variables
        self.grid_rows: list[RowTemplate] = []  # and the equations between them, behind the constraints
        self.own_points: dict[str, OwnPoints] = {}  # of controls that are chosen at every moment
        self._over_time: dict[str, Axis] = {}  # derived values that change over time
        self._models_over_time: dict[str, Axis] = {}
        if declarations.time is not None:
            self._add_axes()
        self._check_model_names()
        self._find_over_time()
        self.order = self._sorted()
        for name in self.order:
            self._build(name)
        self.fit = [fit_template(self, entry) for entry in declarations.fit]
        self.fit_node = fit_objective(self) if self.fit else None
        self.rows = [
            row
            for entry in declarations.constraints
            if not self._is_bound_of_unknowns(entry)
            for row in row_templates(self, entry)
        ]
        self.rows += self.grid_rows
        self.numbers: dict[tuple[str, ...], int] = {}
        self._lower_numbers()
        self.told_over_time = [axis.told() for axis in self.built_axes]
        assert len(self.scatter_nodes) == len(declarations.scatter)  # what scatters impossibly is refused here
        self._check_choices()
        if any(model.program is not None for model in declarations.models) and not declarations.part:
            from ilvren.problem.program_entries import refuse_unused

            refuse_unused(self)

    # ---- messages ---------------------------------------------------------------------------

    def line(self, entry: EntryDeclaration) -> int | None:
        """Return the line of an entry's formula, where it was found."""
        source = self.declarations.source
        path = (entry.written_in or entry.section, *entry.name.partition("@")[0].split("."))
        return source.line(*path, "formula") or source.line(*path)

    def fail(self, entry: EntryDeclaration, message: str, **facts: object) -> NoReturn:
        """Raise ProblemError about an entry; its formula is the text unless `facts` say otherwise."""
        facts.setdefault("text", formula_text(entry.formula))
        raise ProblemError(
            message,
            file=self.declarations.source.file,
            line=self.line(entry),
            where=entry.path,
            **facts,  # type: ignore[arg-type]
        )

    def fail_at(self, entry: EntryDeclaration, error: FormulaError) -> NoReturn:
        """Raise ProblemError with the facts of a FormulaError."""
        self.fail(entry, error.message, text=error.text, span=error.span, advice=error.advice)

    # ---- order ------------------------------------------------------------------------------

    def parse(self, entry: EntryDeclaration) -> Node:
        try:
            return parse_formula(formula_text(entry.formula))
        except FormulaError as error:
            self.fail_at(entry, error)

    def _check_model_names(self) -> None:
        """Find which bare names are outputs of a model, and which inputs each model needs."""
        for model in self.declarations.models:
            for output in model.outputs:
                if output in self.model_outputs:
                    self.model_outputs[output] = ("", output)  # of several models: only the full name works
                elif output not in self._entries and output not in self._variables:
                    self.model_outputs[output] = (model.name, output)
            from ilvren.problem.model_entries import inputs_of  # few files have models

            self.inputs[model.name] = inputs_of(self, model)

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
        if name in self._entries or name in self._variables:
            return name
        first, dot, _ = name.partition(".")
        if dot:
            return first if first in self._models or first in self._tables else None
        if name in self.model_outputs and self.model_outputs[name][0]:
            return self.model_outputs[name][0]
        return None

    def known_keys(self) -> list[str]:
        """Return the names that decks may use."""
        return [*self._variables, *self._entries, *(name for name, (model, _) in self.model_outputs.items() if model)]

    @cached_property
    def scatter_nodes(self) -> dict[str, dict[str, int]]:
        """Return {name: {width: node}} of what scatters."""
        if not self.declarations.scatter:
            return {}
        from ilvren.problem.scattering import scatter_nodes  # few files say how things scatter

        return scatter_nodes(self)

    @cached_property
    def scatter_functions(self) -> ScatterFunctions:
        """Return what formulas have of functions of what scatters."""
        from ilvren.problem.scatter_functions import ScatterFunctions

        return ScatterFunctions(self)

    @property
    def overridden(self) -> frozenset[str]:
        """Return the parameters that were set from outside."""
        return frozenset(self._outer)

    def number_of(self, node: int) -> Any:
        """Return the value of a node that depends on parameters alone."""
        return walk(self.graph, [node], (), self.values).values[0]

    def needs(self) -> dict[str, list[str]]:
        """Return {name: what must be built before it} of all entries, variables, models and tables."""
        found = self._needs()
        if self.declarations.scatter:
            from ilvren.problem.scatter_functions import calls_of_scatter
            from ilvren.problem.scattering import needed_to_scatter

            more = needed_to_scatter(self)
            for name, tree in self._trees.items():
                if calls_of_scatter(tree):
                    found[name] = [*found[name], *more]
        return found

    def _needs(self) -> dict[str, list[str]]:

        def used(tree: Node) -> list[str]:
            return [key for word in names_in(tree) if (key := self.key_of(word.name)) is not None]

        needs: dict[str, list[str]] = {}
        if self.axes:
            return self._needs_over_time()
        for name, entry in self._entries.items():
            trees = [self._trees[name]] if name in self._trees else [self.parse(e) for e in _formulas_in(entry)]
            needs[name] = [key for tree in trees for key in used(tree)]
        return needs | self._needs_of_others(used)

    def _needs_of_others(self, used: Callable[[Node], list[str]]) -> dict[str, list[str]]:
        needs: dict[str, list[str]] = {}
        for variable in self.declarations.variables:
            texts = _flat(variable.shape) if variable.shape is not None else []
            if texts == ["pieces"]:  # of a control: as many as it says
                texts = self._piece_texts(variable.name)
            needs[variable.name] = [
                key for text in texts if isinstance(text, str) for key in used(self._parse_number(variable, text))
            ]
        for model in self.declarations.models:
            if model.name in self._models_over_time:
                continue
            trees = [self.parse(entry) for entry in self.inputs[model.name].values()]
            for shape in model.outputs.values():
                trees += [self.parse(EntryDeclaration("models", model.name, text)) for text in _texts(shape)]
            needs[model.name] = [key for tree in trees for key in used(tree)]
        for table in self.declarations.tables:
            trees = [self.parse(EntryDeclaration("tables", table.name, text)) for text in _texts(table.lines)]
            needs[table.name] = [key for tree in trees for key in used(tree)]
        return needs

    def _parse_number(self, variable: VariableDeclaration, text: str) -> Node:
        return self.parse(EntryDeclaration("variables", f"{variable.name}.shape", text))

    def _sorted(self) -> list[str]:
        """Return the names so that each comes after those it is made of; a cycle is refused."""
        needs = self.needs()
        done: set[str] = set()
        order: list[str] = []
        for root in needs:
            path: dict[str, None] = {}
            waiting: list[tuple[str, bool]] = [(root, False)]
            while waiting:
                name, is_leaving = waiting.pop()
                if is_leaving:
                    path.pop(name)
                    done.add(name)
                    order.append(name)
                elif name in path:
                    names = list(path)
                    cycle = [*names[names.index(name) :], name]
                    self.fail(self._some_entry(name), "the value needs itself: " + " -> ".join(cycle))
                elif name not in done:
                    path[name] = None
                    waiting.append((name, True))
                    waiting.extend((other, False) for other in reversed(needs[name]) if other not in done)
        return order

    def _some_entry(self, name: str) -> EntryDeclaration:
        if name in self._entries:
            return self._entries[name]
        if name in self._models:
            return EntryDeclaration("models", name, self._models[name].told)
        if name.startswith("[time]"):
            return EntryDeclaration("time", "to", "")
        section = "variables" if name in self._variables else "tables"
        return EntryDeclaration(section, name, "")

    # ---- building ---------------------------------------------------------------------------

    def _build(self, name: str) -> None:
        axis = next((item for item in self.axes if item.key == name), None)
        if axis is not None:
            axis.build(list(self._all_trees()))
            self.built_axes.append(axis)
        elif name in self._over_time:
            pass  # written out where it is used
        elif name in self.parameter_index:
            self._parameter(self._entries[name])
        elif name in self._variables and any(name in axis.pointwise for axis in self.axes):
            pass  # its axis knows at how many moments
        elif name in self._variables:
            variable = self._variables[name]
            self.shapes[name] = self._variable_shape(variable)
            self.nodes[name] = self.graph.variable(self.variable_index[name], self.shapes[name])
        elif name in self._models_over_time:
            pass  # called at every moment
        elif name in self._models:
            from ilvren.problem.model_entries import add_model

            add_model(self, self._models[name])
        elif name in self._tables:
            from ilvren.problem.tables import read_table

            table = self._tables[name]
            self.tables[name] = read_table(self.declarations.source, table, self._lines(table), self.declarations.words)
            self.texts[table.file] = self.tables[name].text
        else:
            entry = self._entries[name]
            self.nodes[name] = node = self.lower_entry(entry, self._trees[name])
            shape = self.graph.shape(node)
            if entry.section in ("minimize", "maximize") and shape:
                self.fail(
                    entry,
                    f"an objective is one number; this formula has {shape_text(shape)}",
                    advice="reduce it, for example with sum(...), max(...) or norm(...)",
                )

    def _parameter(self, entry: EntryDeclaration) -> None:
        index = self.parameter_index[entry.name]
        if _is_list(entry):
            evaluate = self._list_parameter(entry)
        else:
            node = self.lower_entry(entry, self._trees[entry.name])

            def evaluate(values: list[Any]) -> Any:
                return self.number(entry, node, values, f'parameter "{entry.name}"')

        self._evaluators[index] = evaluate
        value = self._outer[entry.name] if entry.name in self._outer else evaluate(self.values)
        self.values[index] = value
        self.shapes[entry.name] = np.shape(value)
        self.nodes[entry.name] = self.graph.parameter(index, np.shape(value))

    def _list_parameter(self, entry: EntryDeclaration) -> Callable[[list[Any]], Any]:
        assert isinstance(entry.formula, tuple)
        shape = _list_shape(entry.formula)
        if shape is None or len(shape) > 2:
            what = "its lines have different lengths" if shape is None else "more than two levels of lists"
            self.fail(entry, f"the list is neither a vector nor a matrix: {what}", text=None)
        items = list(_flat(entry.formula))
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
            if walk(self.graph, [node], (), values).values[0] != size:
                return None
        for axis in self.axes:  # other moments, another graph
            before, after = (walk(self.graph, axis.structural, (), own).values for own in (self.values, values))
            if not all(np.array_equal(a, b) for a, b in zip(before, after, strict=True)):
                return None
            if not axis.has_same_moments(values):
                return None
        return values

    def decides_more(self, names: Iterable[str]) -> bool:
        """Return whether other parameters are formulas of these, or the size of something depends on them."""
        given = set(names)
        needs = self.needs()
        others = [name for name in self.parameter_index if name not in given]
        if any(given & set(needs[name]) for name in others):
            return True
        indices = {self.parameter_index[name] for name in given}
        nodes = self.graph.nodes
        return any(
            nodes[number].operation == "parameter" and nodes[number].index in indices
            for number in self.graph.reachable(list(self.sizes))
        )

    def number(self, entry: EntryDeclaration, node: int, values: list[Any], what: str) -> Any:
        """Return the value of a node that depends on no variable: a float or an array. Refuses what is not finite."""
        if self.graph.nodes[node].operation == "constant":
            return self.graph.nodes[node].value
        seen = walk(self.graph, [node], (), values)
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
        value = found.value if found.operation == "constant" else walk(self.graph, [node], (), self.values).values[0]
        if not math.isfinite(value) or abs(value - round(value)) > WHOLE * max(abs(value), 1.0):
            return None
        if found.operation != "constant":
            self.sizes[node] = value
        return round(value)

    def _variable_shape(self, variable: VariableDeclaration) -> Shape:
        entry = EntryDeclaration("variables", variable.name, formula_text(variable.shape or ""))
        if variable.shape == ("pieces",):
            return self._control_shape(variable.name)
        if variable.shape is not None:
            return self.shape_of(entry, f"{variable.name}.shape", variable.shape)
        for given in (variable.start, variable.lower, variable.upper, variable.magnitude):
            if isinstance(given, tuple):
                shape = _list_shape(given)
                if shape is None or len(shape) > 2:
                    self.fail(entry, "a list that is neither a vector nor a matrix", text=None)
                return shape
        return ()

    def shape_of(self, entry: EntryDeclaration, path: str, given: Value) -> Shape:
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

    def _piece_texts(self, name: str) -> list[Value]:
        declared = next(item for item in self.declarations.controls if item.name == name)
        time = self.declarations.time
        assert time is not None
        given = declared.pieces if declared.pieces is not None else (time.steps or time.at)
        return [
            *_flat(given if given is not None else 1.0),
            *_flat(declared.shape if declared.shape is not None else 1.0),
        ]

    def _control_shape(self, name: str) -> Shape:
        """Return the shape of a control's variable: its pieces (values at their ends, of lines), then its own shape."""
        from ilvren.problem.over_time import DEFAULT_STEPS, MOST_STEPS

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

    def _lines(self, table: TableDeclaration) -> tuple[int, int] | None:
        if table.lines is None:
            return None
        ends = []
        for item in table.lines:
            own = EntryDeclaration("tables", f"{table.name}.lines", item)
            end = self.whole(self.lower_entry(own, self.parse(own)))
            if end is None:
                self.fail(own, "a line number must be whole, known before any run")
            ends.append(end)
        return ends[0], ends[1]

    # ---- things over time --------------------------------------------------------------------

    def _add_axes(self) -> None:
        declared = self.declarations
        assert declared.time is not None
        if declared.time_cases:
            for case in declared.time_cases:
                own = [state for state in declared.states if state.name.endswith(f"@{case.case}")]
                signals = [entry for entry in declared.signals if entry.name.endswith(f"@{case.case}")]
                self.axes.append(self._axis(case.time, own, declared.controls, signals, case.case))
            return
        self.axes.append(self._axis(declared.time, declared.states, declared.controls, declared.signals))

    def _axis(self, *given: Any) -> Axis:
        if self.declarations.time_scheme:
            if self._asks_for_scenarios():
                raise ProblemError(
                    "collocation is not possible: what evolves is simulated in every scenario of what scatters",
                    file=self.declarations.source.file,
                    where="scatter",
                    line=self.declarations.source.line("scatter"),
                )
            from ilvren.problem.collocated import CollocatedAxis

            return CollocatedAxis(self, *given, scheme=self.declarations.time_scheme)
        from ilvren.problem.over_time import Axis

        return Axis(self, *given)

    def _is_bound_of_unknowns(self, entry: EntryDeclaration) -> bool:
        """Return whether a constraint is the bounds of a state whose unknowns have these as bounds."""
        if entry.written_in != "states":
            return False
        for axis in self.axes:
            for state in axis.state_declarations:
                if state.name == entry.name:
                    return axis.bounds_of(state)
        return False

    def _find_over_time(self) -> None:
        """Find which derived values change over time: those that use something that does, outside functions of time."""
        names = [entry.name for entry in self.declarations.derived]
        for _ in range(len(names) + len(self._models) + 1 if self.axes else 0):
            found = False
            for name, inputs in self.inputs.items():
                for axis in self.axes:
                    trees = [self.parse(entry) for entry in inputs.values()]
                    words = [word for tree in trees for word in axis.free_names(tree)]
                    if name not in self._models_over_time and axis in self.axes_of(words):
                        self._models_over_time[name] = axis
                        found = True
            for name in names:
                if name in self._over_time or name not in self._trees:
                    continue
                for axis in self.axes:
                    if axis in self.axes_of(axis.free_names(self._trees[name])):
                        self._over_time[name] = axis
                        found = True
                        break
            if not found:
                return

    def axis_of(self, name: str) -> Axis | None:
        """Return the axis along which a name changes, or None."""
        if not self.axes:
            return None
        if name in self._over_time:
            return self._over_time[name]
        model = self.model_of(name)
        if model in self._models_over_time:
            return self._models_over_time[model]
        found = [axis for axis in self.axes if axis.is_over_time(name)]
        return found[0] if found else None

    def axes_of(self, names: Iterable[str]) -> list[Axis]:
        """Return the axes along which any of some names changes. Controls are shared by all axes: they decide where
        nothing else does."""
        shared: list[Axis] = []
        found: list[Axis] = []
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
            return first if first in self._models else ""
        return self.model_outputs[name][0] if name in self.model_outputs else ""

    def derived_over_time(self, name: str) -> tuple[Node | None, EntryDeclaration | None]:
        """Return the formula and the entry of a derived value that changes over time."""
        if name not in self._over_time:
            return None, None
        return self._trees[name], self._entries[name]

    def names_over_time(self, axis: Axis) -> list[str]:
        """Return the derived values that change along an axis."""
        return [name for name, own in self._over_time.items() if own is axis]

    def is_over_time(self, tree: Node) -> Axis | None:
        """Return the axis along which a formula changes, or None."""
        for axis in self.axes:
            found = self.axes_of(axis.free_names(tree))
            if found:
                return found[0]
        return None

    def _all_trees(self) -> Iterator[tuple[EntryDeclaration, Node]]:
        """Yield all formulas that may hold functions of time."""
        from ilvren.formula import parse_limits

        for name, tree in self._trees.items():
            yield self._entries[name], tree
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
            for entry in model.values() if name not in self._models_over_time else ():
                yield entry, self.parse(entry)

    def _needs_over_time(self) -> dict[str, list[str]]:
        """Return `needs` of a problem with things over time: what evolves needs all that its formulas, its integrals
        and its moments use; whoever asks for a function of it needs it."""
        from ilvren.formula import TIME_FUNCTIONS, Call
        from ilvren.problem.over_time import calls_of_time

        def deep(tree: Node, seen: set[str]) -> list[str]:
            """Return the keys a formula of a moment is made of, through signals and derived values over time."""
            found: list[str] = []
            for word in names_in(tree):
                name = word.name
                axis = self.axis_of(name)
                if axis is None:
                    key = self.key_of(name)
                    found += [key] if key is not None else []
                elif name not in seen:
                    seen.add(name)
                    own = axis.trees.get(name) or self._trees.get(name)
                    found += deep(own, seen) if own is not None else []
                    for entry in self.inputs.get(self.model_of(name), {}).values():
                        found += deep(self.parse(entry), seen)
            return found

        def used(tree: Node) -> list[str]:
            found = [key for name in _outside(tree) if (key := self.key_of(name)) is not None]
            for call in calls_of_time(tree):
                for name in names_in(call.arguments[0]):
                    axis = self.axis_of(name.name)
                    if axis is not None:
                        found.append(axis.key)
                found += deep(call, set())
            return found

        def _outside(tree: Node) -> list[str]:
            found, waiting = [], [tree]
            while waiting:
                node = waiting.pop()
                if isinstance(node, Name):
                    found.append(node.name)
                elif not (isinstance(node, Call) and node.function in TIME_FUNCTIONS):
                    from ilvren.formula import children

                    waiting.extend(children(node))
            return found

        needs: dict[str, list[str]] = {}
        for axis in self.axes:
            needs[axis.key] = [key for tree in axis.own_trees() for key in deep(tree, set()) if key != axis.key]
            for state in axis.state_declarations:
                if f"{state.name}.first" in self._variables:
                    needs[axis.key].append(f"{state.name}.first")
            needs[axis.key] += list(axis.control_declarations)
        for entry, tree in self._all_trees():
            for call in calls_of_time(tree):
                takers = [axis for axis in self.axes if axis.takes(call)]
                for axis in takers:
                    if call.function in ("integral", "average", "delayed"):
                        needs[axis.key] += [key for key in deep(call, set()) if key != axis.key]
                    elif call.function == "at":
                        needs[axis.key] += [k for k in deep(call.arguments[1], set()) if k != axis.key]
            del entry
        for name, entry in self._entries.items():
            if name in self._over_time:
                continue
            trees = [self._trees[name]] if name in self._trees else [self.parse(e) for e in _formulas_in(entry)]
            needs[name] = [key for tree in trees for key in used(tree)]
        return needs | self._needs_of_others(used)

    def without_time(
        self, entry: EntryDeclaration, tree: Node, resolve: Callable[[Name], int]
    ) -> tuple[Node, Callable[[Name], int]]:
        """Return a formula with the outermost functions of time worked out, and what resolves the names put in
        place."""
        from ilvren.formula import TIME_FUNCTIONS, Call, rebuilt

        extra: dict[str, int] = {}

        def replaced(node: Node) -> Node | None:
            if not (isinstance(node, Call) and node.function in TIME_FUNCTIONS):
                return None
            name = f"#{len(extra)}"
            extra[name] = self.measure(entry, node)
            return Name(name, node.span)

        own = rebuilt(tree, replaced)
        return own, lambda word: extra[word.name] if word.name in extra else resolve(word)

    @property
    def own_data(self) -> frozenset[str]:
        """Return the names of fixed numbers that no file gives."""
        return frozenset(self._data)

    def measure(self, entry: EntryDeclaration, call: Call) -> int:
        """Return the node of a function of time. Raises FormulaError."""
        from ilvren.problem.time_functions import worked_out

        return worked_out(self, entry, call)

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
            if dot and first in self._tables:
                return self._column(first, rest)
            if name in self.model_outputs:
                model, output = self.model_outputs[name]
                if model:
                    return self.nodes[f"{model}.{output}"]
                self.fail(entry, f'several models have an output "{name}"', text=text, span=word.span,
                          advice=f'write the model\'s name before it, as in "upper.{name}"')  # fmt: skip
            if (
                name in self._variables
                or name in self._entries
                or (dot and first in self._models and f"{name}" in self.nodes)
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
            self.fail(entry, f'unknown name "{name}"', text=text, span=word.span, advice=advice)

        return resolve

    def _known_names(self) -> Iterator[str]:
        yield from self.variable_index
        yield from self._entries
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
            if self.declarations.scatter:
                from ilvren.problem.scatter_functions import without_scatter

                tree, resolve = without_scatter(self, entry, tree, resolve)
            if self.axes:
                tree, resolve = self.without_time(entry, tree, resolve)
            return lower(tree, self.graph, resolve, entry=entry.path, text=text, whole=self.whole)
        except FormulaError as error:
            self.fail_at(entry, error)

    def depends(self, node: int) -> bool:
        """Return whether a value depends on a variable, or on a model (which is not run to find a limit)."""
        return bool(self.graph.variables_of([node])) or any(
            self.graph.nodes[number].operation == "call" for number in self.graph.reachable([node])
        )

    def scatters(self, node: int) -> bool:
        """Return whether formulas ask for scenarios in which a value is another one, though no design changes it."""
        places = self._scattered_places
        return bool(places) and any(
            self.graph.nodes[number].operation == "parameter" and self.graph.nodes[number].index in places
            for number in self.graph.reachable([node])
        )

    def _asks_for_scenarios(self) -> bool:
        """Return whether a formula has a function of what scatters."""
        if not self.declarations.scatter:
            return False
        from ilvren.problem.scatter_functions import calls_of_scatter

        return any(calls_of_scatter(tree) for _, tree in self._all_trees())

    @cached_property
    def _scattered_places(self) -> frozenset[int]:
        """Return the numbers of parameters that scatter, or are made of such, where a formula asks what comes of it."""
        declared = self.declarations
        if not self._asks_for_scenarios():
            return frozenset()
        from ilvren.problem.scattering import dependents_of

        moved = {item.name for item in declared.scatter}
        names = moved | dependents_of(declared.parameters, moved)
        return frozenset(self.parameter_index[name] for name in names if name in self.parameter_index)

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

    # ---- numbers that may be formulas of parameters -------------------------------------------

    def _lower_numbers(self) -> None:
        for variable in self.declarations.variables:
            for key in ("start", "lower", "upper", "magnitude", "spacing", "catalogue"):
                self._lower_number(("variables", variable.name, key), getattr(variable, key))
        for entry in (*self.declarations.objectives, *self.declarations.constraints):
            self._lower_number((entry.section, entry.name, "magnitude"), entry.magnitude)
        for entry in self.declarations.objectives:
            self._lower_number((entry.section, entry.name, "goal"), entry.goal)

    def _check_choices(self) -> None:
        """Refuse a choice where its number would be used: it stands as the value of a lookup, or in decks."""
        choices = {self.variable_index[item.name]: item for item in self.declarations.variables if item.choices}
        if not choices:
            return
        nodes = {k: node.index for k, node in enumerate(self.graph.nodes) if node.operation == "variable"}
        programs = {place for place, source in enumerate(self.sources) if source.is_apart}
        for node in self.graph.nodes:
            for place, operand in enumerate(node.operands):
                index = nodes.get(operand)
                if index not in choices:
                    continue
                is_right = node.operation == "lookup" and place == 0
                if is_right or (node.operation == "call" and node.index in programs):
                    continue
                name = choices[index].name
                self.fail(
                    EntryDeclaration("variables", name, ""),
                    f'"{name}" is a choice among words, which have no number to compute with',
                    text=None,
                    advice=f"lookup({name}, words, numbers) gives each word a number; decks take the word",
                )

    def _lower_number(self, path: tuple[str, ...], value: Value | None) -> None:
        if isinstance(value, tuple):
            for place, item in enumerate(_flat(value)):
                self._lower_number((*path, str(place)), item)
            return
        if not isinstance(value, str):
            return
        section, name = ".".join(path[:-1]).split(".", 1)
        entry = EntryDeclaration(section, f"{name}.{path[-1]}", value)
        node = self.lower_entry(entry, self.parse(entry))
        if self.depends(node):
            self.fail(entry, f'"{path[-1]}" may not depend on a variable')
        self.numbers[path] = node


def checked_override(flag: str, name: str, value: object, known: Mapping[str, Any], what: str) -> Any:
    """Return an override as a float or an array. Raises RequestError for an unknown name or no finite number."""
    if name not in known:
        close = nearest(name, known)
        advice = f'did you mean "{close}"?' if close else f"the file's {what}s: " + listed(known)
        raise RequestError(f'{flag} {name}=…: the file has no {what} "{name}"', advice=advice)
    try:
        number = np.asarray(value, dtype=float)
    except (TypeError, ValueError):
        raise RequestError(f"{flag} {name}={value}: a number, or a list of numbers, is expected") from None
    if not np.isfinite(number).all() or not number.size:
        raise RequestError(f"{flag} {name}={value}: finite numbers are expected")
    if number.ndim > 2:
        raise RequestError(f"{flag} {name}: more than two levels of lists")
    return number if number.ndim else float(number)


def listed(names: Iterable[str], most: int = 12) -> str:
    """Return names for a message, the first few of many."""
    words = list(names)
    if not words:
        return "none"
    return ", ".join(words[:most]) + (", …" if len(words) > most else "")


def _is_list(entry: EntryDeclaration) -> bool:
    return isinstance(entry.formula, tuple)


def _flat(value: Value) -> Iterator[Value]:
    if isinstance(value, tuple):
        for item in value:
            yield from _flat(item)
    else:
        yield value


def _texts(value: Value | None) -> list[str]:
    return [] if value is None else [item for item in _flat(value) if isinstance(item, str)]


def _formulas_in(entry: EntryDeclaration) -> list[EntryDeclaration]:
    return [EntryDeclaration(entry.section, entry.name, text) for text in _texts(entry.formula)]


def _list_shape(value: Value) -> Shape | None:
    """Return the shape of a nested list, or None when its lines differ."""
    if not isinstance(value, tuple):
        return ()
    inner = {_list_shape(item) for item in value}
    if len(inner) > 1 or None in inner:
        return None
    rest = inner.pop() if inner else ()
    assert rest is not None
    return (len(value), *rest)
