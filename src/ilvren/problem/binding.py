"""A template + parameter values and starts → a problem. Only what depends on parameters is evaluated."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, NoReturn, TypeVar

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import ProblemError, RequestError
from ilvren.formula import Shape, interpret, shape_text
from ilvren.problem.building import built
from ilvren.problem.declared_values import checked_override
from ilvren.problem.entries import EntryDeclaration, Value, VariableDeclaration, formula_text
from ilvren.problem.fixing import fixed_blocks, word_number
from ilvren.problem.grid_blocks import grid_block, sized, time_names
from ilvren.problem.model import Given, NamedValue, Objective, Parameter, Problem, Residual, RowBlock
from ilvren.problem.template import Template
from ilvren.problem.variables import Variable, VariableBlock, element_name

if TYPE_CHECKING:
    from ilvren.dynamics import Simulation
    from ilvren.problem.template_parts import RowTemplate

__all__ = ["bind"]

FloatArray = NDArray[np.float64]
Block = TypeVar("Block", VariableBlock, RowBlock)


def bind(
    template: Template,
    *,
    parameters: Mapping[str, Given],
    starts: Mapping[str, Given],
    anchor: Sequence[float] | None = None,
) -> Problem:
    """Return the problem with these values in place of parameters and starts. The template is built again where a shape
    depends on a parameter that changed. Steps over time are chosen along the design `anchor`, the baseline without.
    Raises ProblemError, RequestError."""
    overrides = {
        name: checked_override("--set", name, value, template.parameter_index, "parameter")
        for name, value in parameters.items()
    }
    starts = {name: _number_of(template, name, value) for name, value in starts.items()}
    values = template.values_for(overrides)
    if values is None:
        template = built(template.declarations, overrides)
        values = template.values
    return Binding(template, values, overrides, starts, anchor).problem(_plain(parameters), _plain(starts))


def _number_of(template: Template, name: str, value: Any) -> Any:
    """Return the number of a word that a choice starts with; any other value as it is. Raises RequestError."""
    declared = next((item for item in template.declarations.variables if item.name == name and item.choices), None)
    if declared is None or not isinstance(value, str):
        return value
    return word_number(f"--start {name}", value, declared.choices, template.declarations.words)


def _plain(given: Mapping[str, Any]) -> dict[str, Any]:
    """Return numbers and nested lists, as JSON writes them."""
    return {name: np.asarray(value, dtype=float).tolist() for name, value in given.items()}


class Binding:
    """One binding of a template: evaluates what depends on parameters alone."""

    def __init__(
        self,
        template: Template,
        values: list[Any],
        overrides: dict[str, Any],
        starts: Mapping[str, Given],
        anchor: Sequence[float] | None = None,
    ) -> None:
        self.template = template
        self.source = template.declarations.source
        self.parameter_values = values
        self.overrides = overrides
        self.anchor = anchor
        self.starts = {
            name: checked_override("--start", name, value, template.variable_index, "variable")
            for name, value in starts.items()
        }

    def setting(self, path: tuple[str, ...], given: Value | None) -> Any:
        """Return the numbers of a key such as variables.bore.lower, or None when it was left out."""
        if given is None:
            return None
        if isinstance(given, tuple):
            return self.listed(path, given)
        if not isinstance(given, str):
            return float(given)
        entry = EntryDeclaration(path[0], ".".join(path[1:]), given)
        return self.template.number(entry, self.template.numbers[path], self.parameter_values, f'"{path[-1]}"')

    def listed(self, path: tuple[str, ...], given: tuple[Value, ...]) -> FloatArray:
        """Return the numbers of a list or of lists. Raises ProblemError for lines of different lengths. They have the
        shape that the lists make."""
        count = iter(range(10**9))

        def numbers(value: Value) -> Any:
            if isinstance(value, tuple):
                return [numbers(item) for item in value]
            return self.setting((*path, str(next(count))), value)

        try:
            return np.array(numbers(given), dtype=float)
        except ValueError:
            self.refuse(path, "the list is neither a vector nor a matrix: its lines have different lengths")

    def spread(self, path: tuple[str, ...], value: Any, shape: Shape) -> FloatArray:
        """Return numbers for every element, flat: one number serves all."""
        if np.shape(value) not in ((), shape):
            self.refuse(path, f"has {shape_text(np.shape(value))}, the variable or constraint {shape_text(shape)}")
        return np.array(np.broadcast_to(value, shape), dtype=float).ravel()

    def refuse(self, path: tuple[str, ...], message: str, advice: str | None = None) -> NoReturn:
        """Raise ProblemError at the line of a key."""
        line = self.source.line(*path)
        raise ProblemError(
            message,
            file=self.source.file,
            line=line,
            where=".".join(path[:2]),
            text=self.source.positions.source(line),
            advice=advice,
        )

    def magnitude(self, path: tuple[str, ...], given: Value | None, shape: Shape) -> FloatArray:
        """Return the magnitudes (size,), NaN where none is given. Raises ProblemError."""
        value = self.setting((*path, "magnitude"), given)
        if value is None:
            return np.full(math.prod(shape), np.nan)
        found = self.spread((*path, "magnitude"), value, shape)
        if not ((found > 0.0) & np.isfinite(found)).all():
            bad = found[~((found > 0.0) & np.isfinite(found))][0]
            self.refuse((*path, "magnitude"), f"magnitude {bad:g} is not a positive number")
        return found

    def problem(self, parameters: dict[str, Any], starts: dict[str, Any]) -> Problem:
        """Return the problem with all numbers in place. Raises ProblemError, RequestError."""
        template, declarations = self.template, self.template.declarations
        objectives = self.objectives()
        objective = objectives[0] if len(objectives) == 1 else None
        rows: list[RowBlock] = []
        first = 0
        for item in template.rows:
            rows.append(self.row(item, first))
            first += rows[-1].size
        roots = [row.node for row in template.rows] + [item.node for item in objectives]
        used = self.used(roots)
        blocks: list[VariableBlock] = []
        first = 0
        for index, declared in enumerate(declarations.variables):
            blocks.append(self.variable(declared, first, used[index]))
            first += blocks[-1].size
        if declarations.fixed:
            blocks = fixed_blocks(blocks, declarations.fixed, declarations.words)
        baseline = [block.start for block in blocks]
        blocks = [self.restarted(block) for block in blocks]
        for unknown in template.grid_unknowns:
            block = grid_block(self, unknown, first, blocks)
            baseline.append(block.start)
            blocks.append(block)
            first += block.size
        rows = [
            row if item.times is None else self.timed(row, item, baseline)
            for row, item in zip(rows, template.rows, strict=True)
        ]
        if template.grid_unknowns:
            blocks, rows = sized(blocks, rows)
        return Problem(
            source=self.source,
            title=declarations.title,
            about=declarations.about,
            graph=template.graph,
            blocks=tuple(blocks),
            parameters=self.parameters(),
            derived=tuple(
                NamedValue(
                    entry.name,
                    template.nodes[entry.name],
                    entry.unit,
                    entry.about,
                    formula_text(entry.formula),
                    template.line(entry),
                )
                for entry in declarations.derived
                if entry.name in template.nodes  # what changes over time has no value of its own
            ),
            objective=objective,
            row_blocks=tuple(rows),
            baseline=tuple(np.concatenate(baseline).tolist()),
            overrides=parameters,
            start_overrides=starts,
            residuals=tuple(
                Residual(
                    item.declaration.name,
                    item.node,
                    item.declaration.loss,
                    item.declaration.residual,
                    self.source.line("fit", item.declaration.name),
                )
                for item in template.fit
            ),
            sources=tuple(template.sources),
            order=tuple(template.order),
            template=template,
            outputs=tuple(
                (f"{model.name}.{name}", template.nodes[f"{model.name}.{name}"])
                for model in declarations.models
                for name in model.outputs
                if f"{model.name}.{name}" in template.nodes  # those that rates call have no value of their own
            ),
            objectives=objectives,
            rebound=bind,
            simulations=self.simulations(baseline),
        )

    def simulations(self, baseline: list[FloatArray]) -> tuple[Simulation, ...]:
        """Return the simulations of what evolves, their meshes chosen along the baseline. `baseline` holds (size,) of
        each variable."""
        template = self.template
        if not template.axes or template.grid_unknowns:
            return ()
        flat = np.concatenate(baseline)
        if self.anchor is not None and len(self.anchor) == len(flat):
            flat = np.array(self.anchor, dtype=float)
        ends = np.cumsum([len(part) for part in baseline])[:-1]
        anchor = self.by_block(np.split(flat, ends))
        return tuple(axis.simulation(self.parameter_values, anchor) for axis in template.built_axes)

    def by_block(self, parts: Sequence[FloatArray]) -> list[Any]:
        """Return a design's parts in their variables' shapes."""
        shapes = [self.template.shapes[declared.name] for declared in self.template.declarations.variables]
        shapes += [unknown.shape for unknown in self.template.grid_unknowns]
        return [part.reshape(shape) if shape else float(part[0]) for part, shape in zip(parts, shapes, strict=True)]

    def timed(self, row: RowBlock, item: RowTemplate, baseline: list[FloatArray]) -> RowBlock:
        """Return the rows of a limit over time with their times, which may move with the design: then those of the
        baseline."""
        template = self.template
        assert item.times is not None
        times = np.ravel(
            interpret(template.graph, [item.times], self.by_block(baseline), self.parameter_values).values[0]
        )
        names = time_names(times.tolist(), item.is_left)
        return _with(row, times=tuple(times.tolist()), time_names=names, measure=item.measure)

    def parameters(self) -> tuple[Parameter, ...]:
        """Return the parameters with their values."""
        declared = self.template.declarations.parameters
        found = [
            Parameter(entry.name, value, entry.unit, entry.about, entry.name in self.overrides)
            for entry, value in zip(declared, self.parameter_values, strict=False)
        ]
        columns = zip(self.template.columns, self.parameter_values[len(declared) :], strict=True)
        own = self.template.own_data
        return (*found, *(Parameter(name, value, is_data=True, is_internal=name in own) for name, value in columns))

    def used(self, roots: list[int]) -> list[NDArray[np.bool_]]:
        """Return for each variable which of its elements anything asked depends on. Each is (size,)."""
        template, graph = self.template, self.template.graph
        names = [declared.name for declared in template.declarations.variables]
        shapes = [template.shapes[name] for name in names]
        if not any(shapes):
            found = graph.variables_of(roots)
            return [np.array([index in found]) for index in range(len(names))]
        from ilvren.formula import depends_on

        marks = {root: np.ones(graph.shape(root), dtype=bool) for root in roots}
        masks = depends_on(graph, marks)
        return [
            masks.get(template.nodes[name], np.zeros(shape, dtype=bool)).ravel()
            for name, shape in zip(names, shapes, strict=True)
        ]

    def objectives(self) -> tuple[Objective, ...]:
        """Return the objectives in the order of the file."""
        template = self.template
        if template.fit_node is not None:
            line = self.source.line("fit")
            text = " + ".join(f"{item.declaration.loss} loss of {item.declaration.residual}" for item in template.fit)
            about = "half the sum of squared residuals"
            return (Objective(name="fit", node=template.fit_node, sign=1, about=about, text=text, line=line),)
        found = []
        for entry in template.declarations.objectives:
            magnitude = float(self.magnitude((entry.section, entry.name), entry.magnitude, ())[0])
            own = Objective(
                name=entry.name,
                node=template.nodes[entry.name],
                sign=1 if entry.section == "minimize" else -1,
                unit=entry.unit,
                about=entry.about,
                magnitude=None if math.isnan(magnitude) else magnitude,
                text=formula_text(entry.formula),
                line=template.line(entry),
                goal=self.goal(entry),
                priority=1 if entry.priority is None else entry.priority,
            )
            found.append(own)
        return tuple(found)

    def goal(self, entry: EntryDeclaration) -> float | None:
        """Return the goal of an objective, None without one."""
        value = self.setting((entry.section, entry.name, "goal"), entry.goal)
        if value is None:
            return None
        if np.shape(value) != () or not math.isfinite(float(value)):
            self.refuse((entry.section, entry.name, "goal"), "a goal is one finite number")
        return float(value)

    def row(self, row: RowTemplate, first: int) -> RowBlock:
        """Return the rows of a constraint with its limits. Raises ProblemError for limits that nothing meets."""
        entry, shape = row.entry, self.template.graph.shape(row.node)
        size = math.prod(shape)
        if row.grid_state is not None:
            zero, unknown = np.zeros(size), np.full(size, math.nan)
            about, line = f"how {entry.name} evolves", self.template.line(entry)
            return RowBlock(
                name=row.name,
                entry=row.name,
                node=row.node,
                shape=shape,
                first=first,
                lower=zero,
                upper=zero,
                magnitude=unknown,
                terms=row.terms,
                unit=entry.unit,
                about=about,
                text=formula_text(entry.formula),
                line=line,
                is_grid=True,
            )
        low, high = (
            np.full(size, without)
            if node is None
            else np.array(
                np.broadcast_to(self.template.number(entry, node, self.parameter_values, "a limit"), shape), dtype=float
            ).ravel()
            for node, without in ((row.lower, -math.inf), (row.upper, math.inf))
        )
        if (low > high).any():
            place = int(np.argmax(low > high))
            self.template.fail(
                entry,
                ("" if not shape else f"{element_name(row.name, shape, place)} ")
                + f"can never hold: its lower limit {low[place]:g} is above its upper limit {high[place]:g}",
            )
        return RowBlock(
            name=row.name,
            entry=entry.name,
            node=row.node,
            shape=shape,
            first=first,
            lower=low,
            upper=high,
            magnitude=self.magnitude((entry.section, entry.name), entry.magnitude, shape),
            terms=row.terms,
            unit=entry.unit,
            about=entry.about,
            text=formula_text(entry.formula),
            line=self.template.line(entry),
        )

    # ---- variables ----------------------------------------------------------------------------

    def variable(self, declared: VariableDeclaration, first: int, is_used: NDArray[np.bool_]) -> VariableBlock:
        """Return a variable's elements with bounds, start and members. Raises ProblemError. `is_used` is (size,)."""
        path, shape = ("variables", declared.name), self.template.shapes[declared.name]
        given = {
            key: self.setting((*path, key), getattr(declared, key)) for key in ("start", "lower", "upper", "spacing")
        }
        spacing = given["spacing"]
        members = self.catalogue(declared)
        if members is not None:
            if given["lower"] is not None or given["upper"] is not None or spacing is not None:
                self.refuse(path, "a catalogue lists the values itself and excludes lower, upper and spacing")
            given["lower"], given["upper"] = members[0], members[-1]
        low = self.spread((*path, "lower"), -math.inf if given["lower"] is None else given["lower"], shape)
        high = self.spread((*path, "upper"), math.inf if given["upper"] is None else given["upper"], shape)
        if (low > high).any():
            place = int(np.argmax(low > high))
            name = f"{element_name(declared.name, shape, place)}: " if shape else ""
            self.refuse((*path, "lower"), f"{name}lower {low[place]:.12g} is above upper {high[place]:.12g}")
        if (low == math.inf).any() or (high == -math.inf).any():
            self.refuse(path, "no value lies between the bounds")
        with np.errstate(over="ignore"):
            too_wide = np.isfinite(low) & np.isfinite(high) & np.isinf(high - low)
        if too_wide.any():
            self.refuse(path, "the bounds lie farther apart than numbers reach: leave out the one that says nothing")
        if spacing is not None:
            if np.ndim(spacing) or not 0.0 < spacing < math.inf:
                self.refuse((*path, "spacing"), f"spacing {spacing} is not a positive number")
            if (low == -math.inf).any():
                self.refuse((*path, "spacing"), '"spacing" counts from "lower", which is missing')
        block = VariableBlock(
            name=declared.name,
            shape=shape,
            first=first,
            start=np.zeros(len(low)),
            lower=low,
            upper=high,
            magnitude=self.magnitude(path, declared.magnitude, shape),
            spacing=spacing,
            catalogue=members,
            unit=declared.unit,
            about=declared.about,
            is_used=is_used,
            line=self.source.line(*path),
            words=self.template.declarations.words if declared.choices else (),
        )
        if spacing is not None:
            ends = [item.member(item.upper) if math.isfinite(item.upper) else item.upper for item in block]
            block = _with(block, upper=np.array(ends))
        return _with(block, start=self.starts_of(block, given["start"]))

    def starts_of(self, block: VariableBlock, given: Any) -> FloatArray:
        """Return the starts (size,): those given, or the middle of the bounds. Raises ProblemError."""
        path = ("variables", block.name)
        if given is None:
            if not np.isfinite(block.upper - block.lower).all():
                self.refuse(path, 'needs a "start": it has no two bounds to start in the middle of')
            middle = block.lower + (block.upper - block.lower) / 2
            if block.kind == "continuous":
                return middle
            return np.array([item.member(value) for item, value in zip(block, middle.tolist(), strict=True)])
        return self.checked_starts(block, self.spread((*path, "start"), given, block.shape), (*path, "start"))

    def catalogue(self, declared: VariableDeclaration) -> tuple[float, ...] | None:
        """Return the members of a catalogue, None where there is none. Raises ProblemError."""
        if declared.catalogue is None:
            return None
        path = ("variables", declared.name, "catalogue")
        members = self.setting(path, declared.catalogue)
        if np.ndim(members) != 1:
            self.refuse(path, "a catalogue is a list of numbers, or the name of one")
        found = [float(member) for member in members]
        if not all(map(math.isfinite, found)):
            self.refuse(path, "a catalogue lists finite numbers")
        if found != sorted(set(found)):
            self.refuse(path, "a catalogue is sorted from small to large, without repeats")
        return tuple(found)

    def checked_starts(self, block: VariableBlock, values: FloatArray, path: tuple[str, ...] | None) -> FloatArray:
        """Return starts (size,) as allowed values. Raises ProblemError, or RequestError where no line gives them."""
        if block.kind == "continuous":
            wrong = ~((values >= block.lower) & (values <= block.upper) & np.isfinite(values))
            if not wrong.any():
                return values
            place = int(np.argmax(wrong))
            self.refuse_start(block.element(place), float(values[place]), path)
        found = []
        for item, value in zip(block, values.tolist(), strict=True):
            if not item.allows(value):
                self.refuse_start(item, value, path)
            found.append(item.member(value))
        return np.array(found)

    def refuse_start(self, variable: Variable, start: float, path: tuple[str, ...] | None) -> NoReturn:
        """Raise ProblemError or RequestError for a start that is not allowed, with the nearest that is."""
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
        self.refuse(path, message if "[" not in variable.name else f"{variable.name}: {message}", advice)

    def restarted(self, block: VariableBlock) -> VariableBlock:
        """Return a variable with the start that was asked for. Raises RequestError."""
        if block.name not in self.starts:
            return block
        given = self.starts[block.name]
        if np.shape(given) not in ((), block.shape):
            one, other = shape_text(np.shape(given)), shape_text(block.shape)
            raise RequestError(f"--start {block.name}: has {one}, the variable {other}")
        values = np.array(np.broadcast_to(given, block.shape), dtype=float).ravel()
        return _with(block, start=self.checked_starts(block, values, None))


def _with(block: Block, **changes: Any) -> Block:
    from dataclasses import replace

    return replace(block, **changes)
