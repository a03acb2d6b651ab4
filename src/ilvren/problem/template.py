"""Declarations → a template: one graph for all formulas. Made once per file and per set of sizes.

Shapes must be known to build the graph, so parameters are evaluated on the way; their values are kept apart from
the graph and may change afterwards, as long as no size depends on them.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, NoReturn

import numpy as np

from ilvren.errors import FormulaError, ProblemError, RequestError, nearest
from ilvren.formula import (
    Graph,
    Limits,
    Name,
    Node,
    Shape,
    Trouble,
    lower,
    names_in,
    parse_formula,
    parse_limits,
    shape_text,
    top_terms,
    walk,
)
from ilvren.problem.entries import (
    Declarations,
    EntryDeclaration,
    FitDeclaration,
    ModelDeclaration,
    TableDeclaration,
    Value,
    VariableDeclaration,
)

if TYPE_CHECKING:
    from ilvren.models import Runner
    from ilvren.problem.tables import Table

__all__ = ["FitTemplate", "RowTemplate", "Template", "checked_override", "formula_text", "listed"]

# Where robust losses leave the square, in sigmas: they keep 95 % of its efficiency on errors that are normal.
HUBER_TURN, CAUCHY_SCALE = 1.345, 2.385
# A size given by a formula is whole when it is this close to a whole number.
WHOLE = 1e-9
MOST_ELEMENTS = 50_000_000


@dataclass(frozen=True, slots=True)
class RowTemplate:
    """A constraint with the nodes of its value, limits and top-level terms; a limit None where there is none."""

    entry: EntryDeclaration
    name: str
    node: int
    lower: int | None
    upper: int | None
    terms: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class FitTemplate:
    """An entry of [fit] with the node of residual/sigma."""

    declaration: FitDeclaration
    node: int


class Template:
    """All formulas of a file as one graph. Raises ProblemError or FormulaError, RequestError for an override."""

    def __init__(self, declarations: Declarations, overrides: Mapping[str, Any] | None = None) -> None:
        self.declarations = declarations
        self.graph = Graph()
        self.parameter_index = {entry.name: i for i, entry in enumerate(declarations.parameters)}
        self.variable_index = {entry.name: i for i, entry in enumerate(declarations.variables)}
        self.shapes: dict[str, Shape] = {}
        self.nodes: dict[str, int] = {}
        self.values: list[Any] = [math.nan] * len(self.parameter_index)
        self.columns: list[str] = []  # "table.column", whose parameters follow the declared ones
        self.tables: dict[str, Table] = {}
        self.sizes: dict[int, float] = {}
        self.texts: dict[str, str] = {}  # of the tables and models read, by the names in the file
        self.runners: list[Runner] = []
        self.model_outputs: dict[str, tuple[str, str]] = {}
        self._evaluators: dict[int, Callable[[list[Any]], Any]] = {}
        self._entries = {
            entry.name: entry for entry in (*declarations.parameters, *declarations.derived, *declarations.objectives)
        }
        self._variables = {entry.name: entry for entry in declarations.variables}
        self._models = {entry.name: entry for entry in declarations.models}
        self._tables = {entry.name: entry for entry in declarations.tables}
        self._constraint_names = {entry.name for entry in declarations.constraints}
        self._inputs: dict[str, dict[str, EntryDeclaration]] = {}
        self._trees = {name: self._parse(entry) for name, entry in self._entries.items() if not _is_list(entry)}
        self._outer = {
            name: checked_override("--set", name, v, self.parameter_index, "parameter")
            for name, v in (overrides or {}).items()
        }
        self._check_model_names()
        self.order = self._sorted()
        for name in self.order:
            self._build(name)
        self.fit = [self._fit(entry) for entry in declarations.fit]
        self.fit_node = self._fit_objective() if self.fit else None
        self.rows = [row for entry in declarations.constraints for row in self._row_templates(entry)]
        self.numbers: dict[tuple[str, ...], int] = {}
        self._lower_numbers()

    # ---- messages ---------------------------------------------------------------------------

    def line(self, entry: EntryDeclaration) -> int | None:
        """Return the line of an entry's formula, where it was found."""
        source = self.declarations.source
        path = (entry.section, *entry.name.split("."))
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

    def _parse(self, entry: EntryDeclaration) -> Node:
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
            self._inputs[model.name] = self._inputs_of(model)

    def _inputs_of(self, model: ModelDeclaration) -> dict[str, EntryDeclaration]:
        """Return {argument: formula}: what the entry gives, else the value of the same name."""
        from ilvren.models import arguments_of  # few files have models

        where = EntryDeclaration("models", model.name, model.python)
        file, function = model.python.split(":")
        try:
            arguments = arguments_of(self.declarations.source.beside(file), function, text=self._stored(file))
        except ProblemError as error:
            self.fail(where, error.message, advice=error.advice)
        given = dict(model.inputs)
        if arguments.needed is not None and arguments.optional is not None:
            known = (*arguments.needed, *arguments.optional)
            for name in given:
                if name not in known and not arguments.takes_any:
                    close = nearest(name, known)
                    advice = f'did you mean "{close}"?' if close else "its arguments: " + (", ".join(known) or "none")
                    self.fail(where, f'"{function}" has no argument "{name}"', advice=advice)
            for name in arguments.needed:
                if name not in given:
                    if self._key_of(name) is None:
                        self.fail(
                            where,
                            f'the argument "{name}" of "{function}" is the name of nothing in this file',
                            advice=f'give it a formula: inputs = {{ {name} = "…" }}',
                        )
                    given[name] = name
            for name in arguments.optional:
                if name not in given and self._key_of(name) is not None:
                    given[name] = name
        return {name: EntryDeclaration("models", f"{model.name}.inputs.{name}", text) for name, text in given.items()}

    def _stored(self, file: str) -> str:
        """Return the text of a model's file, stored or on disk; reading is not running."""
        from ilvren.models import read_python

        if file not in self.texts:
            source = self.declarations.source
            self.texts[file] = source.files.get(file) or read_python(source.beside(file))
        return self.texts[file]

    def _key_of(self, name: str) -> str | None:
        """Return what must be built before a name can be used: an entry, a variable, a model or a table."""
        if name in self._entries or name in self._variables:
            return name
        first, dot, _ = name.partition(".")
        if dot:
            return first if first in self._models or first in self._tables else None
        if name in self.model_outputs and self.model_outputs[name][0]:
            return self.model_outputs[name][0]
        return None

    def _needs(self) -> dict[str, list[str]]:
        def used(tree: Node) -> list[str]:
            return [key for word in names_in(tree) if (key := self._key_of(word.name)) is not None]

        needs: dict[str, list[str]] = {}
        for name, entry in self._entries.items():
            trees = [self._trees[name]] if name in self._trees else [self._parse(e) for e in _formulas_in(entry)]
            needs[name] = [key for tree in trees for key in used(tree)]
        for variable in self.declarations.variables:
            texts = _flat(variable.shape) if variable.shape is not None else []
            needs[variable.name] = [
                key for text in texts if isinstance(text, str) for key in used(self._parse_number(variable, text))
            ]
        for model in self.declarations.models:
            trees = [self._parse(entry) for entry in self._inputs[model.name].values()]
            for shape in model.outputs.values():
                trees += [self._parse(EntryDeclaration("models", model.name, text)) for text in _texts(shape)]
            needs[model.name] = [key for tree in trees for key in used(tree)]
        for table in self.declarations.tables:
            trees = [self._parse(EntryDeclaration("tables", table.name, text)) for text in _texts(table.lines)]
            needs[table.name] = [key for tree in trees for key in used(tree)]
        return needs

    def _parse_number(self, variable: VariableDeclaration, text: str) -> Node:
        return self._parse(EntryDeclaration("variables", f"{variable.name}.shape", text))

    def _sorted(self) -> list[str]:
        """Return the names so that each comes after those it is made of; a cycle is refused."""
        needs = self._needs()
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
            return EntryDeclaration("models", name, self._models[name].python)
        section = "variables" if name in self._variables else "tables"
        return EntryDeclaration(section, name, "")

    # ---- building ---------------------------------------------------------------------------

    def _build(self, name: str) -> None:
        if name in self.parameter_index:
            self._parameter(self._entries[name])
        elif name in self._variables:
            variable = self._variables[name]
            self.shapes[name] = self._variable_shape(variable)
            self.nodes[name] = self.graph.variable(self.variable_index[name], self.shapes[name])
        elif name in self._models:
            self._model(self._models[name])
        elif name in self._tables:
            from ilvren.problem.tables import read_table

            table = self._tables[name]
            self.tables[name] = read_table(self.declarations.source, table, self._lines(table))
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
            place: (own, self.lower_entry(own, self._parse(own)))
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
        return values

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
        if self.graph.shape(node) or self.graph.variables_of([node]):
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
        if variable.shape is not None:
            return self._shape(entry, f"{variable.name}.shape", variable.shape)
        for given in (variable.start, variable.lower, variable.upper, variable.magnitude):
            if isinstance(given, tuple):
                shape = _list_shape(given)
                if shape is None or len(shape) > 2:
                    self.fail(entry, "a list that is neither a vector nor a matrix", text=None)
                return shape
        return ()

    def _shape(self, entry: EntryDeclaration, path: str, given: Value) -> Shape:
        parts = given if isinstance(given, tuple) else (given,)
        if not 1 <= len(parts) <= 2:
            self.fail(entry, "a shape is a length, or [rows, columns]", text=None)
        lengths = []
        for part in parts:
            if isinstance(part, str):
                own = EntryDeclaration(entry.section, path, part)
                length = self.whole(self.lower_entry(own, self._parse(own)))
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

    def _lines(self, table: TableDeclaration) -> tuple[int, int] | None:
        if table.lines is None:
            return None
        ends = []
        for item in table.lines:
            own = EntryDeclaration("tables", f"{table.name}.lines", item)
            end = self.whole(self.lower_entry(own, self._parse(own)))
            if end is None:
                self.fail(own, "a line number must be whole, known before any run")
            ends.append(end)
        return ends[0], ends[1]

    def _model(self, model: ModelDeclaration) -> None:
        from ilvren.models import ModelFacts, Runner, arguments_of

        source, graph = self.declarations.source, self.graph
        where = EntryDeclaration("models", model.name, model.python)
        nodes, inputs = [], []
        for name, entry in self._inputs[model.name].items():
            node = self.lower_entry(entry, self._parse(entry))
            nodes.append(node)
            inputs.append((name, graph.shape(node)))
        outputs = [
            (name, () if shape is None else self._shape(where, f"{model.name}.outputs.{name}", shape))
            for name, shape in model.outputs.items()
        ]
        file, function = model.python.split(":")
        partials_file, _, partials = model.partials.partition(":")
        if partials_file:
            try:
                arguments_of(source.beside(partials_file), partials, text=self._stored(partials_file))
            except ProblemError as error:
                self.fail(where, error.message, text=model.partials, advice=error.advice)
        facts = ModelFacts(
            model.name,
            source.beside(file).resolve(),
            function,
            tuple(inputs),
            tuple(outputs),
            model.derivatives,
            source.beside(partials_file).resolve() if partials_file else None,
            partials,
            model.bands,
            model.timeout,
            tuple(source.beside(name).resolve() for name in model.depends),
            (source.file, self.line(where)),
        )
        for path in facts.depends:
            if not source.files and not path.exists():
                self.fail(where, f"depends on a file that is not there: {path}", text=None)
        call = graph.arrange("call", tuple(nodes), (), None, len(self.runners))
        self.runners.append(Runner(facts))
        for place, (name, shape) in enumerate(outputs):
            self.nodes[f"{model.name}.{name}"] = graph.arrange("output", (call,), shape, (place,))

    # ---- names ------------------------------------------------------------------------------

    def _resolver(self, entry: EntryDeclaration, text: str) -> Callable[[Name], int]:
        def resolve(word: Name) -> int:
            name = word.name
            if entry.section == "parameters" and name not in self.parameter_index and "." not in name:
                kind = "a variable" if name in self.variable_index else "not a parameter"
                if self._key_of(name) is not None:
                    self.fail(
                        entry, f'a parameter may use parameters only; "{name}" is {kind}', text=text, span=word.span
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
        try:
            return lower(tree, self.graph, self._resolver(entry, text), entry=entry.path, text=text, whole=self.whole)
        except FormulaError as error:
            self.fail_at(entry, error)

    # ---- constraints --------------------------------------------------------------------------

    def _row_templates(self, entry: EntryDeclaration) -> list[RowTemplate]:
        text = formula_text(entry.formula)
        try:
            limits = parse_limits(text)
        except FormulaError as error:
            self.fail_at(entry, error)
        sides = [self.lower_entry(entry, side) for side in limits.sides]
        varies = [self.depends(side) for side in sides]
        if len(sides) == 3:
            return self._chain(entry, limits, sides, varies)
        return [self._comparison(entry, entry.name, limits.operators[0], limits.sides, sides, varies)]

    def depends(self, node: int) -> bool:
        """Return whether a value depends on a variable, or on a model (which is not run to find a limit)."""
        return bool(self.graph.variables_of([node])) or any(
            self.graph.nodes[number].operation == "call" for number in self.graph.reachable([node])
        )

    def _chain(
        self, entry: EntryDeclaration, limits: Limits, sides: list[int], varies: list[bool]
    ) -> list[RowTemplate]:
        trees = list(limits.sides)
        if limits.operators[0] == ">=":
            trees, sides, varies = trees[::-1], sides[::-1], varies[::-1]
        if not varies[0] and not varies[2]:
            node = self._stretched(entry, sides[1], (sides[0], sides[2]))
            return [RowTemplate(entry, entry.name, node, sides[0], sides[2], self._terms(entry, [trees[1]]))]
        return [
            self._comparison(entry, f"{entry.name}.{word}", "<=", trees[i : i + 2], sides[i : i + 2], varies[i : i + 2])
            for i, word in enumerate(("low", "high"))
        ]

    def _stretched(self, entry: EntryDeclaration, node: int, others: Iterable[int]) -> int:
        """Return a row's value with as many rows as its limits ask for."""
        from ilvren.formula.graph import ShapeMismatch, joint_shape

        shape = self.graph.shape(node)
        try:
            for other in others:
                shape = joint_shape(shape, self.graph.shape(other))
        except ShapeMismatch as error:
            one, two = map(shape_text, error.shapes)
            self.fail(entry, f"the sides have different shapes: {one} and {two}")
        return self.graph.stretched(node, shape)

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
            value = self.graph.apply("sub", left, self._fitting(entry, right, left))
            limit = self.graph.constant(0.0)
            terms = self._terms(entry, list(trees))
        else:
            value, limit = left, right
            terms = self._terms(entry, [trees[0]])
        value = self._stretched(entry, value, (limit,))
        at_least = limit if operator in (">=", "==") else None
        at_most = limit if operator in ("<=", "==") else None
        return RowTemplate(entry, name, value, at_least, at_most, terms)

    def _fitting(self, entry: EntryDeclaration, node: int, other: int) -> int:
        """Return `node` after making sure that its shape goes with that of `other`."""
        self._stretched(entry, other, (node,))
        return node

    def _terms(self, entry: EntryDeclaration, trees: list[Node]) -> tuple[int, ...]:
        return tuple(self.lower_entry(entry, term) for tree in trees for term in top_terms(tree))

    # ---- data fitting -------------------------------------------------------------------------

    def _fit(self, declared: FitDeclaration) -> FitTemplate:
        entry = EntryDeclaration("fit", declared.name, declared.residual)
        residual = self.lower_entry(entry, self._parse(entry))
        own = EntryDeclaration("fit", f"{declared.name}.sigma", declared.sigma)
        if isinstance(declared.sigma, tuple):
            self.fail(own, "a list stands in [parameters]; sigma uses it by its name", text=None)
        sigma = self.lower_entry(own, self._parse(own))
        if self.depends(sigma):
            self.fail(own, "sigma may not depend on a variable", advice="write the likelihood as an objective instead")
        self._stretched(entry, residual, (sigma,))
        if not np.all(np.asarray(self.number(own, sigma, self.values, "sigma")) > 0.0):
            self.fail(own, "sigma must be positive")
        return FitTemplate(declared, self.graph.apply("div", residual, sigma))

    def _fit_objective(self) -> int:
        """Return Σ ρ(residual/sigma): half the square, or a robust loss that follows it near 0."""
        from ilvren.formula.shaping import total

        graph = self.graph
        apply, constant = graph.apply, graph.constant
        result = constant(0.0)
        for item in self.fit:
            r = item.node
            half = apply("mul", constant(0.5), apply("square", r))
            if item.declaration.loss == "huber":
                size = apply("abs", r)
                turn = constant(HUBER_TURN)
                linear = apply("sub", apply("mul", turn, size), constant(0.5 * HUBER_TURN**2))
                half = apply("where", apply("<=", size, turn), half, linear)
            elif item.declaration.loss == "cauchy":
                bowl = apply("add", constant(1.0), apply("square", apply("div", r, constant(CAUCHY_SCALE))))
                half = apply("mul", constant(0.5 * CAUCHY_SCALE**2), apply("log", bowl))
            result = apply("add", result, total(graph, half))
        return result

    # ---- numbers that may be formulas of parameters -------------------------------------------

    def _lower_numbers(self) -> None:
        for variable in self.declarations.variables:
            for key in ("start", "lower", "upper", "magnitude", "spacing", "catalogue"):
                self._lower_number(("variables", variable.name, key), getattr(variable, key))
        for entry in (*self.declarations.objectives, *self.declarations.constraints):
            self._lower_number((entry.section, entry.name, "magnitude"), entry.magnitude)

    def _lower_number(self, path: tuple[str, ...], value: Value | None) -> None:
        if isinstance(value, tuple):
            for place, item in enumerate(_flat(value)):
                self._lower_number((*path, str(place)), item)
            return
        if not isinstance(value, str):
            return
        section, name = ".".join(path[:-1]).split(".", 1)
        entry = EntryDeclaration(section, f"{name}.{path[-1]}", value)
        node = self.lower_entry(entry, self._parse(entry))
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


def formula_text(value: Value) -> str:
    """Return a formula as text; a number is one, too."""
    if isinstance(value, str):
        return value
    if isinstance(value, tuple):
        return "[" + ", ".join(formula_text(item) for item in value[:6]) + (", …" if len(value) > 6 else "") + "]"
    return repr(value)


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
