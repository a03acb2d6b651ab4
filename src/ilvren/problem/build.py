"""Declarations → a template (one graph for all formulas), and template + settings → a problem.

The template is made once per file; binding it to other parameter values compiles nothing anew.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import NoReturn

from ilvren.errors import FormulaError, ProblemError, RequestError, nearest
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
    walk,
)
from ilvren.problem.entries import Declarations, EntryDeclaration, Value, VariableDeclaration
from ilvren.problem.model import NamedValue, Objective, Parameter, Problem, Row, Variable
from ilvren.problem.reader import read_file, read_text

__all__ = ["Template", "load", "loads"]


def load(
    path: str | Path,
    *,
    set: Mapping[str, float] | None = None,
    start: Mapping[str, float] | None = None,
) -> Problem:
    """Read a problem file and return the problem, ready to evaluate and run.

    `set` replaces values of parameters, `start` starts of variables. Loading never runs anything.
    Raises ProblemError or FormulaError (the file), RequestError (`set`, `start`).
    """
    return Template(read_file(path)).bind(set=set, start=start)


def loads(
    text: str,
    *,
    file: str = "<text>",
    set: Mapping[str, float] | None = None,
    start: Mapping[str, float] | None = None,
) -> Problem:
    """Like `load`, from the text of a problem file; `file` is its name in messages."""
    return Template(read_text(text, file=file)).bind(set=set, start=start)


@dataclass(frozen=True, slots=True)
class _RowTemplate:
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
        self._parameter_index = {entry.name: i for i, entry in enumerate(declarations.parameters)}
        self._variable_index = {entry.name: i for i, entry in enumerate(declarations.variables)}
        self._entries = {
            entry.name: entry for entry in (*declarations.parameters, *declarations.derived, *declarations.objectives)
        }
        self._constraint_names = {entry.name for entry in declarations.constraints}
        self._nodes: dict[str, int] = {}
        trees = {name: self._parse(entry) for name, entry in self._entries.items()}
        self._order = self._sorted(trees)
        for name in self._order:
            self._nodes[name] = self._lower_entry(self._entries[name], trees[name])
        self._rows = [row for entry in declarations.constraints for row in self._row_templates(entry)]
        self._numbers: dict[tuple[str, ...], int] = {}
        self._lower_numbers()

    # ---- formulas ---------------------------------------------------------------------------

    def _line(self, entry: EntryDeclaration) -> int | None:
        source = self.declarations.source
        path = (entry.section, *entry.name.split("."))
        return source.line(*path, "formula") or source.line(*path)

    def _fail(self, entry: EntryDeclaration, message: str, **facts: object) -> NoReturn:
        facts.setdefault("text", str(entry.formula))
        raise ProblemError(
            message,
            file=self.declarations.source.file,
            line=self._line(entry),
            where=entry.path,
            **facts,  # type: ignore[arg-type]
        )

    def _parse(self, entry: EntryDeclaration) -> Node:
        try:
            return parse_formula(_formula_text(entry.formula))
        except FormulaError as error:
            self._fail(entry, error.message, text=error.text, span=error.span, advice=error.advice)

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
                    self._fail(self._entries[name], "the value needs itself: " + " -> ".join(cycle))
                elif name not in done:
                    path.append(name)
                    waiting.append((name, True))
                    waiting.extend((other, False) for other in reversed(needs[name]) if other not in done)
        return order

    def _resolver(self, entry: EntryDeclaration) -> Callable[[Name], int]:
        text = _formula_text(entry.formula)

        def resolve(word: Name) -> int:
            name = word.name
            if entry.section == "parameters" and name not in self._parameter_index:
                kind = "a variable" if name in self._variable_index else "not a parameter"
                if name in self._variable_index or name in self._entries:
                    self._fail(entry, f'a parameter may use parameters only; "{name}" is {kind}', span=word.span)
            if name in self._variable_index:
                return self.graph.variable(self._variable_index[name])
            if name in self._parameter_index:
                return self.graph.parameter(self._parameter_index[name])
            if name in self._nodes:
                return self._nodes[name]
            if name in self._constraint_names:
                self._fail(
                    entry,
                    f'"{name}" is a constraint, which has no value to use in a formula',
                    span=word.span,
                    advice="name the value in [derived] and use that name in both places",
                )
            known = [*self._variable_index, *self._parameter_index, *self._entries, "pi"]
            if entry.section == "parameters":
                known = [*self._parameter_index, "pi"]
            close = nearest(name, known)
            advice = f'did you mean "{close}"?' if close else "known names: " + _listed(known)
            self._fail(entry, f'unknown name "{name}"', text=text, span=word.span, advice=advice)

        return resolve

    def _lower_entry(self, entry: EntryDeclaration, tree: Node) -> int:
        return lower(tree, self.graph, self._resolver(entry), entry=entry.path, text=_formula_text(entry.formula))

    def _row_templates(self, entry: EntryDeclaration) -> list[_RowTemplate]:
        text = _formula_text(entry.formula)
        try:
            limits = parse_limits(text)
        except FormulaError as error:
            self._fail(entry, error.message, text=error.text, span=error.span, advice=error.advice)
        sides = [lower(side, self.graph, self._resolver(entry), entry=entry.path, text=text) for side in limits.sides]
        varies = [bool(self.graph.variables_of([side])) for side in sides]
        if len(sides) == 3:
            return self._chain(entry, limits, sides, varies)
        return [self._comparison(entry, entry.name, limits.operators[0], limits.sides, sides, varies)]

    def _chain(
        self, entry: EntryDeclaration, limits: Limits, sides: list[int], varies: list[bool]
    ) -> list[_RowTemplate]:
        trees = list(limits.sides)
        if limits.operators[0] == ">=":
            trees, sides, varies = trees[::-1], sides[::-1], varies[::-1]
        if not varies[0] and not varies[2]:
            terms = self._terms(entry, [trees[1]])
            return [_RowTemplate(entry, entry.name, sides[1], sides[0], sides[2], terms)]
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
    ) -> _RowTemplate:
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
        return _RowTemplate(entry, name, value, at_least, at_most, terms)

    def _terms(self, entry: EntryDeclaration, trees: list[Node]) -> tuple[int, ...]:
        resolve = self._resolver(entry)
        return tuple(
            lower(term, self.graph, resolve, entry=entry.path, text=_formula_text(entry.formula))
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
            self._fail(entry, f'"{path[-1]}" may not depend on a variable')
        self._numbers[path] = node

    # ---- binding ----------------------------------------------------------------------------

    def bind(
        self,
        *,
        set: Mapping[str, float] | None = None,
        start: Mapping[str, float] | None = None,
    ) -> Problem:
        """Return the problem at these parameter values and starts. Raises ProblemError, RequestError."""
        return _Binding(self, dict(set or {}), dict(start or {})).problem()


class _Binding:
    """One binding of a template: evaluates what depends on parameters alone."""

    def __init__(self, template: Template, overrides: dict[str, float], starts: dict[str, float]) -> None:
        self.template = template
        self.source = template.declarations.source
        self.overrides = {
            name: self.checked("--set", name, value, template._parameter_index, "parameter")
            for name, value in overrides.items()
        }
        self.starts = {
            name: self.checked("--start", name, value, template._variable_index, "variable")
            for name, value in starts.items()
        }
        self.parameter_values = self.evaluate_parameters()

    @staticmethod
    def checked(flag: str, name: str, value: float, known: Mapping[str, int], what: str) -> float:
        if name not in known:
            close = nearest(name, known)
            advice = f'did you mean "{close}"?' if close else f"the file's {what}s: " + _listed(known)
            raise RequestError(f'{flag} {name}=…: the file has no {what} "{name}"', advice=advice)
        try:
            number = float(value)
        except (TypeError, ValueError):
            raise RequestError(f"{flag} {name}={value}: a number is expected") from None
        if not math.isfinite(number):
            raise RequestError(f"{flag} {name}={value}: a finite number is expected")
        return number

    def evaluate_parameters(self) -> list[float]:
        template = self.template
        values = [math.nan] * len(template._parameter_index)
        for name in template._order:
            index = template._parameter_index.get(name)
            if index is None:
                continue
            if name in self.overrides:
                values[index] = self.overrides[name]
                continue
            entry = template.declarations.parameters[index]
            values[index] = self.number(entry, template._nodes[name], values, f'parameter "{name}"')
        return values

    def number(self, entry: EntryDeclaration, node: int, values: list[float], what: str) -> float:
        seen = walk(self.template.graph, [node], (), values)
        trouble = seen.troubles[0]
        if trouble is not None:
            origin = trouble.origin
            self.template._fail(
                entry,
                f"{what} has no finite value" + (f": {trouble.reason}" if trouble.reason else ""),
                text=origin.text if origin else None,
                span=origin.span if origin else None,
            )
        return seen.values[0]

    def setting(self, path: tuple[str, ...], given: Value | None) -> float | None:
        """Return the number of a key such as variables.bore.lower, or None when it was left out."""
        if given is None or not isinstance(given, str):
            return given
        entry = EntryDeclaration(path[0], ".".join(path[1:]), given)
        return self.number(entry, self.template._numbers[path], self.parameter_values, f'"{path[-1]}"')

    def refuse(self, path: tuple[str, ...], message: str, advice: str | None = None) -> NoReturn:
        line = self.source.line(*path)
        raise ProblemError(
            message,
            file=self.source.file,
            line=line,
            where=".".join(path[:2]),
            text=self.source.positions.source(line),
            advice=advice,
        )

    def magnitude(self, path: tuple[str, ...], given: Value | None) -> float | None:
        value = self.setting((*path, "magnitude"), given)
        if value is not None and not 0.0 < value < math.inf:
            self.refuse((*path, "magnitude"), f"magnitude {value:g} is not a positive number")
        return value

    def problem(self) -> Problem:
        template, declarations = self.template, self.template.declarations
        graph = template.graph
        objective = self.objective()
        rows = tuple(self.row(row) for row in template._rows)
        roots = [row.node for row in rows] + ([objective.node] if objective else [])
        used = graph.variables_of(roots)
        baseline: list[float] = []
        variables = []
        for index, declared in enumerate(declarations.variables):
            variable = self.variable(declared, is_used=index in used)
            baseline.append(variable.start)
            variables.append(self.restarted(variable))
        return Problem(
            self.source,
            declarations.title,
            declarations.about,
            graph,
            tuple(variables),
            tuple(
                Parameter(entry.name, value, entry.unit, entry.about, entry.name in self.overrides)
                for entry, value in zip(declarations.parameters, self.parameter_values, strict=True)
            ),
            tuple(
                NamedValue(
                    entry.name,
                    template._nodes[entry.name],
                    entry.unit,
                    entry.about,
                    _formula_text(entry.formula),
                    template._line(entry),
                )
                for entry in declarations.derived
            ),
            objective,
            rows,
            tuple(baseline),
            self.overrides,
            self.starts,
        )

    def objective(self) -> Objective | None:
        for entry in self.template.declarations.objectives:
            return Objective(
                entry.name,
                self.template._nodes[entry.name],
                1 if entry.section == "minimize" else -1,
                entry.unit,
                entry.about,
                self.magnitude((entry.section, entry.name), entry.magnitude),
                _formula_text(entry.formula),
                self.template._line(entry),
            )
        return None

    def row(self, row: _RowTemplate) -> Row:
        entry = row.entry
        low, high = (
            without if node is None else self.number(entry, node, self.parameter_values, "a limit")
            for node, without in ((row.lower, -math.inf), (row.upper, math.inf))
        )
        if low > high:
            self.template._fail(
                entry,
                f"can never hold: its lower limit {low:g} is above its upper limit {high:g}",
            )
        return Row(
            row.name,
            row.node,
            low,
            high,
            row.terms,
            entry.unit,
            entry.about,
            self.magnitude((entry.section, entry.name), entry.magnitude),
            _formula_text(entry.formula),
            self.template._line(entry),
        )

    def variable(self, declared: VariableDeclaration, *, is_used: bool) -> Variable:
        path = ("variables", declared.name)
        keys = {
            key: self.setting((*path, key), getattr(declared, key)) for key in ("start", "lower", "upper", "spacing")
        }
        start, spacing = keys["start"], keys["spacing"]
        low = -math.inf if keys["lower"] is None else keys["lower"]
        high = math.inf if keys["upper"] is None else keys["upper"]
        members = self.catalogue(declared)
        if members is not None:
            if keys["lower"] is not None or keys["upper"] is not None or spacing is not None:
                self.refuse(path, "a catalogue lists the values itself and excludes lower, upper and spacing")
            low, high = members[0], members[-1]
        if low > high:
            self.refuse((*path, "lower"), f"lower {low:.12g} is above upper {high:.12g}")
        if low == math.inf or high == -math.inf:
            self.refuse(path, "no value lies between the bounds")
        if spacing is not None:
            if not 0.0 < spacing < math.inf:
                self.refuse((*path, "spacing"), f"spacing {spacing:g} is not a positive number")
            if low == -math.inf:
                self.refuse((*path, "spacing"), '"spacing" counts from "lower", which is missing')
        variable = Variable(
            declared.name,
            0.0,
            low,
            high,
            self.magnitude(path, declared.magnitude),
            spacing,
            members,
            declared.unit,
            declared.about,
            is_used,
        )
        if spacing is not None and math.isfinite(high):
            variable = replace(variable, upper=variable.member(high))
        if start is None:
            if not (math.isfinite(low) and math.isfinite(high)):
                self.refuse(path, 'needs a "start": it has no two bounds to start in the middle of')
            start = variable.member(low + (high - low) / 2)
        return replace(variable, start=self.checked_start(variable, start, (*path, "start")))

    def catalogue(self, declared: VariableDeclaration) -> tuple[float, ...] | None:
        if declared.catalogue is None:
            return None
        path = ("variables", declared.name, "catalogue")
        given = [self.setting((*path, str(i)), item) for i, item in enumerate(declared.catalogue)]
        members = [item for item in given if item is not None]
        if not all(map(math.isfinite, members)):
            self.refuse(path, "a catalogue lists finite numbers")
        if members != sorted(set(members)):
            self.refuse(path, "a catalogue is sorted from small to large, without repeats")
        return tuple(members)

    def checked_start(self, variable: Variable, start: float, path: tuple[str, ...] | None) -> float:
        if variable.allows(start):
            return start if variable.kind == "continuous" else variable.member(start)
        near = variable.member(start) if math.isfinite(start) else variable.member(0.0)
        if not variable.lower <= start <= variable.upper:
            message = f"start {start:.12g} lies outside its bounds [{variable.lower:.12g}, {variable.upper:.12g}]"
        elif math.isinf(start):
            message = "the start is not finite"
        else:
            message = f"start {start:.12g} is not a member of its {'catalogue' if variable.catalogue else 'spacing'}"
        advice = f"the nearest allowed value is {near:.12g}"
        if path is None:
            raise RequestError(f"--start {variable.name}={start:.12g}: {message}", advice=advice)
        self.refuse(path, message, advice)

    def restarted(self, variable: Variable) -> Variable:
        if variable.name not in self.starts:
            return variable
        return replace(variable, start=self.checked_start(variable, self.starts[variable.name], None))


def _formula_text(value: Value) -> str:
    if isinstance(value, str):
        return value
    return repr(value)


def _listed(names: Iterable[str], most: int = 12) -> str:
    words = list(names)
    if not words:
        return "none"
    return ", ".join(words[:most]) + (", …" if len(words) > most else "")
