"""A template + parameter values and starts → a problem. Only what depends on parameters is evaluated."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace
from typing import NoReturn

from ilvren.errors import ProblemError, RequestError, nearest
from ilvren.formula import walk
from ilvren.problem.entries import EntryDeclaration, Value, VariableDeclaration
from ilvren.problem.model import NamedValue, Objective, Parameter, Problem, Row, Variable
from ilvren.problem.template import RowTemplate, Template, formula_text, listed

__all__ = ["bind"]


def bind(template: Template, *, parameters: Mapping[str, float], starts: Mapping[str, float]) -> Problem:
    """Return the problem with these values in place of parameters and starts. Raises ProblemError, RequestError."""
    return _Binding(template, dict(parameters), dict(starts)).problem()


class _Binding:
    """One binding of a template: evaluates what depends on parameters alone."""

    def __init__(self, template: Template, overrides: dict[str, float], starts: dict[str, float]) -> None:
        self.template = template
        self.source = template.declarations.source
        self.overrides = {
            name: self.checked("--set", name, value, template.parameter_index, "parameter")
            for name, value in overrides.items()
        }
        self.starts = {
            name: self.checked("--start", name, value, template.variable_index, "variable")
            for name, value in starts.items()
        }
        self.parameter_values = self.evaluate_parameters()

    @staticmethod
    def checked(flag: str, name: str, value: float, known: Mapping[str, int], what: str) -> float:
        if name not in known:
            close = nearest(name, known)
            advice = f'did you mean "{close}"?' if close else f"the file's {what}s: " + listed(known)
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
        values = [math.nan] * len(template.parameter_index)
        for name in template.order:
            index = template.parameter_index.get(name)
            if index is None:
                continue
            if name in self.overrides:
                values[index] = self.overrides[name]
                continue
            entry = template.declarations.parameters[index]
            values[index] = self.number(entry, template.nodes[name], values, f'parameter "{name}"')
        return values

    def number(self, entry: EntryDeclaration, node: int, values: list[float], what: str) -> float:
        seen = walk(self.template.graph, [node], (), values)
        trouble = seen.troubles[0]
        if trouble is not None:
            origin = trouble.origin
            self.template.fail(
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
        return self.number(entry, self.template.numbers[path], self.parameter_values, f'"{path[-1]}"')

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
        rows = tuple(self.row(row) for row in template.rows)
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
                    template.nodes[entry.name],
                    entry.unit,
                    entry.about,
                    formula_text(entry.formula),
                    template.line(entry),
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
                self.template.nodes[entry.name],
                1 if entry.section == "minimize" else -1,
                entry.unit,
                entry.about,
                self.magnitude((entry.section, entry.name), entry.magnitude),
                formula_text(entry.formula),
                self.template.line(entry),
            )
        return None

    def row(self, row: RowTemplate) -> Row:
        entry = row.entry
        low, high = (
            without if node is None else self.number(entry, node, self.parameter_values, "a limit")
            for node, without in ((row.lower, -math.inf), (row.upper, math.inf))
        )
        if low > high:
            self.template.fail(
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
            formula_text(entry.formula),
            self.template.line(entry),
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
