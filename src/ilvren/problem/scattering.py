"""What scatters of a problem: laws at a design, scenarios from independent normal numbers, and the wider problem that
has scattered parameters as variables, so that a scenario is a design of it."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import ProblemError, RequestError
from ilvren.formula import Shape, interpret, names_in, parse_limits
from ilvren.problem.entries import (
    Declarations,
    EntryDeclaration,
    ScatterDeclaration,
    Value,
    VariableDeclaration,
    formula_text,
)
from ilvren.problem.ordering import needs_of
from ilvren.problem.texts import dependents_of, is_limit, speaks_of_scatter
from ilvren.records import dataclass
from ilvren.scatter import Dependence, Law, dependence, law_named

if TYPE_CHECKING:
    from ilvren.problem.model import Problem
    from ilvren.problem.template import Template

__all__ = [
    "Scattered",
    "ScatteredQuantity",
    "fixed_values",
    "place_factors",
    "scatter_nodes",
    "scatter_of",
    "wide_designs",
    "wide_nominal",
    "widened",
]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class ScatteredQuantity:
    """One name at a design: its `law`, its values there and its widths, both of `shape`; `size` independent numbers."""

    name: str
    law: Law
    shape: Shape
    value: FloatArray
    widths: Mapping[str, FloatArray]
    is_common: bool
    is_variable: bool

    @property
    def size(self) -> int:
        """Return how many independent normal numbers move it."""
        return 1 if self.is_common else max(math.prod(self.shape), 1)

    @property
    def mean(self) -> FloatArray:
        """Return its mean, of the quantity's shape."""
        return np.asarray(self.law.mean(self.value, self.widths), dtype=float)

    @property
    def deviation(self) -> FloatArray:
        """Return its standard deviation, of the quantity's shape."""
        return np.asarray(self.law.deviation(self.value, self.widths), dtype=float)

    def values(self, z: FloatArray) -> FloatArray:
        """Return its values (k, *shape) from normal numbers (k, size)."""
        return np.asarray(self.law.values(self._shaped(z), self.value, self.widths))

    def slopes(self, z: FloatArray) -> FloatArray:
        """Return how these change with their normal numbers. Shapes: z (k, numbers), result (k, *shape)."""
        return np.asarray(self.law.slopes(self._shaped(z), self.value, self.widths))

    def _shaped(self, z: FloatArray) -> FloatArray:
        own = z.reshape(len(z), *((1,) * len(self.shape) if self.is_common else self.shape))
        return np.broadcast_to(own, (len(z), *self.shape))


@dataclass(frozen=True)
class Scattered:
    """All that scatters at a design, and how it hangs together."""

    quantities: tuple[ScatteredQuantity, ...]
    dependence: Dependence

    @property
    def names(self) -> list[str]:
        """Return the scattered names, in the order of the file."""
        return [item.name for item in self.quantities]

    def rows(self, units: Mapping[str, str]) -> list[tuple[str, str, float, float, str]]:
        """Return (name, law, value, deviation, unit) of each; of vectors where the deviation is largest."""
        found = []
        for item in self.quantities:
            k = int(np.argmax(item.deviation)) if item.shape else 0
            value, deviation = float(item.value.ravel()[k]), float(item.deviation.ravel()[k])
            found.append((item.name, item.law.name, value, deviation, units.get(item.name, "")))
        return found

    @property
    def is_smooth(self) -> bool:
        """Return whether every quantity moves with its normal number."""
        return all(item.law.is_smooth for item in self.quantities)

    def scenarios(self, own: FloatArray) -> dict[str, FloatArray]:
        """Return {name: (k, *shape)} from independent normal numbers (k, dimension)."""
        z = self.dependence.normals(own)
        return {item.name: item.values(z[item.name]) for item in self.quantities}

    def vjp(self, own: FloatArray, slopes: Mapping[str, FloatArray]) -> FloatArray:
        """Return slopes (k, dimension) by the independent numbers from those by the quantities {name: (k, size of the
        shape)}, in the scenarios `own` (k, dimension)."""
        z = self.dependence.normals(own)
        by_normals = {}
        for item in self.quantities:
            moved = slopes[item.name] * item.slopes(z[item.name]).reshape(len(own), -1)
            by_normals[item.name] = moved.sum(axis=1, keepdims=True) if item.is_common else moved
        return self.dependence.vjp(by_normals)


# ---- of a problem ----------------------------------------------------------------------------------------


def scatter_nodes(template: Template) -> dict[str, dict[str, int]]:
    """Return {name: {width: node}} of what scatters. Raises ProblemError for widths that are no numbers."""
    found: dict[str, dict[str, int]] = {}
    for item in template.declarations.scatter:
        given: dict[str, Any] = {**item.widths, **({} if item.reach is None else {"reach": item.reach})}
        if item.column:
            given["values"] = item.column
        found[item.name] = {}
        for key, value in given.items():
            entry = EntryDeclaration("scatter", f"{item.name}.{key}", value)
            node = template.lower_entry(entry, template.parse(entry))
            if template.depends(node):
                template.fail(entry, f'"{key}" may not depend on a variable')
            shape, wanted = template.graph.shape(node), template.shapes[item.name]
            if key == "values":
                if len(shape) != 1:
                    template.fail(entry, '"values" is a column of a table: "loads.kN"')
            elif shape not in ((), wanted if key != "reach" else ()):
                template.fail(entry, f'"{key}" is one number' + (", or one for each place" if wanted else ""))
            if item.scale != 1.0 and key not in ("values", "reach"):
                node = template.graph.apply("mul", node, template.graph.constant(item.scale))
            found[item.name][key] = node
    return found


def place_factors(template: Template) -> dict[str, tuple[FloatArray, float]]:
    """Return {name: (where each place lies (n, d), reach)} of what scatters alike over some places."""
    found = {}
    for item in template.declarations.scatter:
        if item.reach is not None:
            reach = float(template.number_of(template.scatter_nodes[item.name]["reach"]))
            shape = template.shapes[item.name]
            if not reach > 0.0 or not shape:
                entry = EntryDeclaration("scatter", f"{item.name}.reach", item.reach)
                told = f"reach = {reach:g}: it is a number of places above 0"
                template.fail(entry, told if shape else f"{item.name} is one number: it has no places to reach along")
            found[item.name] = np.indices(shape).reshape(len(shape), -1).T.astype(float), reach
    return found


def scatter_of(problem: Problem, point: Sequence[float] | FloatArray) -> Scattered:
    """Return what scatters at a design (n,). Raises RequestError without [scatter], ProblemError for deviations that
    are none and correlations that cannot be."""
    template: Template = problem.template
    declared = template.declarations
    if not declared.scatter:
        raise RequestError(
            f"{problem.source.file} does not say how anything scatters",
            advice='[scatter] does:  wall = { law = "normal", deviation = 0.15 }',
        )
    nodes = [node for own in template.scatter_nodes.values() for node in own.values()]
    found = interpret(
        problem.graph, nodes, problem.split(np.asarray(point, dtype=float)), problem.parameter_values
    ).values
    numbers = iter(found)
    quantities, places = [], place_factors(template)
    for item in declared.scatter:
        widths = {key: np.asarray(next(numbers), dtype=float) for key in template.scatter_nodes[item.name]}
        widths.pop("reach", None)
        value = _value(problem, point, item.name)
        own = _quantity(problem, item, value, widths)
        quantities.append(own)
    sizes = {item.name: item.size for item in quantities}
    told = dependence(sizes, declared.together, places)
    if isinstance(told, str):
        raise ProblemError(
            told,
            file=problem.source.file,
            line=problem.source.line("scatter", "together"),
            where="scatter.together",
        )
    return Scattered(tuple(quantities), told)


def _value(problem: Problem, point: Sequence[float] | FloatArray, name: str) -> FloatArray:
    for block in problem.blocks:
        if block.name == name:
            values = np.asarray(point, dtype=float)[block.first : block.first + block.size]
            return values.reshape(block.shape)
    return np.asarray(problem.parameter_values[problem.template.parameter_index[name]], dtype=float)


def _quantity(
    problem: Problem, item: ScatterDeclaration, value: FloatArray, widths: Mapping[str, FloatArray]
) -> ScatteredQuantity:
    law = law_named(item.law)
    own = {key: width * np.abs(value) if item.is_relative else width for key, width in widths.items()}
    if item.law != "data":
        own = {key: np.broadcast_to(width, value.shape) for key, width in own.items()}
    reason = law.refusal(value, own)
    if reason:
        raise _wrong(problem, item, f"{item.name} cannot be {item.law}: {reason}")
    is_variable = item.name in problem.template.variable_index
    return ScatteredQuantity(item.name, law, value.shape, value, own, item.is_common, is_variable)


def _wrong(problem: Problem, item: ScatterDeclaration, message: str) -> ProblemError:
    return ProblemError(
        message, file=problem.source.file, line=problem.source.line("scatter", item.name), where=f"scatter.{item.name}"
    )


# ---- the wider problem -----------------------------------------------------------------------------------


def fixed_values(problem: Problem) -> dict[str, Any]:
    """Return {name: value} of what `widened` must know of a problem: scattered parameters, parameters that were set,
    and variables whose start is a formula."""
    declared: Declarations = problem.template.declarations
    parameters = {item.name for item in declared.parameters}
    names = [item.name for item in declared.scatter if item.name in parameters]
    names += [name for name in problem.overrides if name in parameters and name not in names]
    names += [item.name for item in declared.variables if _has_text(item.start)]
    found = {name: _value(problem, problem.start, name).tolist() for name in names}
    return found | _statistics(problem)


def _statistics(problem: Problem) -> dict[str, Any]:
    """Return {derived value: its value at the start} of functions of what scatters that other formulas use: in every
    scenario they are what they are of all."""
    template: Template = problem.template
    speaking = [entry.name for entry in template.declarations.derived if speaks_of_scatter(entry)]
    used = {name for owner, names in needs_of(template).items() if owner not in speaking for name in names}
    for entry in template.declarations.constraints:
        used |= {word.name for side in parse_limits(formula_text(entry.formula)).sides for word in names_in(side)}
    wanted = [name for name in speaking if name in used]
    if not wanted:
        return {}
    values = problem.entry_values([template.nodes[name] for name in wanted], problem.start).values
    return {name: np.asarray(value, dtype=float).tolist() for name, value in zip(wanted, values, strict=True)}


def widened(declarations: Declarations, values: Mapping[str, Any]) -> Declarations:
    """Return the declarations with scattered parameters as variables, what is made of them as derived values, and no
    bounds or grids of numbers: a scenario is a design of these. `values` are those of `fixed_values`. Raises
    ProblemError for a matrix that is made of what scatters."""
    scattered = {item.name for item in declarations.scatter}
    kept: list[EntryDeclaration] = []
    made: list[VariableDeclaration] = []
    moved: set[str] = set()
    for entry in declarations.parameters:
        if entry.name in scattered:
            start = _tupled(values[entry.name])
            made.append(VariableDeclaration(name=entry.name, start=start, unit=entry.unit, about=entry.about))
            moved.add(entry.name)
        else:
            own = replace(entry, formula=_tupled(values[entry.name])) if entry.name in values else entry
            kept.append(own)
    from ilvren.problem.one_scenario import limits_of_one, value_of_one  # which knows functions of what scatters

    told = {entry.name: formula_text(entry.formula) for entry in declarations.derived if speaks_of_scatter(entry)}
    kept += [
        EntryDeclaration("parameters", entry.name, _tupled(values[entry.name]), entry.unit, entry.about)
        for entry in declarations.derived
        if entry.name in told and entry.name in values
    ]
    dependent = dependents_of(kept, moved)
    made = [*(_unbounded(item, values) for item in declarations.variables), *made]
    for entry in kept:
        if entry.name in dependent and isinstance(entry.formula, tuple) and isinstance(entry.formula[0], tuple):
            raise ProblemError(
                f"{entry.name}, a matrix, is made of what scatters",
                file=declarations.source.file,
                line=declarations.source.line("parameters", entry.name),
                where=entry.path,
                advice="write it as a formula of vectors in [derived]",
            )
    derived = tuple(
        replace(entry, section="derived", written_in="parameters", formula=_joined(entry.formula))
        for entry in kept
        if entry.name in dependent
    )
    return replace(
        declarations,
        variables=tuple(made),
        parameters=tuple(entry for entry in kept if entry.name not in dependent),
        derived=(*derived, *(entry for entry in declarations.derived if entry.name not in told)),
        objectives=tuple(value_of_one(_unsized(entry)) for entry in declarations.objectives),
        constraints=tuple(one for entry in declarations.constraints for one in limits_of_one(_unsized(entry), told)),
        confirm=tuple(one for entry in declarations.confirm for one in _confirmed(entry, told)),
        scatter=(),
        together=(),
    )


def wide_nominal(problem: Problem, wide: Problem, point: Sequence[float] | FloatArray) -> FloatArray:
    """Return a design (n,) as one of the wider problem, nothing scattering. Raises RequestError for one on a grid."""
    at, found = np.asarray(point, dtype=float), np.array(wide.start)
    own = {block.name: at[block.first : block.first + block.size] for block in problem.blocks if not block.is_grid}
    for block in wide.blocks:
        if block.name in own:
            if len(own[block.name]) != block.size:
                raise RequestError(
                    f"{block.name} is chosen at the moments of a grid: scenarios are simulated",
                    advice="run FILE --scheme simulation, then scatter that run",
                )
            found[block.first : block.first + block.size] = own[block.name]
    return found


def wide_designs(wide: Problem, scattered: Scattered, nominal: FloatArray, own: FloatArray) -> FloatArray:
    """Return the designs (k, n) of the wider problem that are scenarios of independent normal numbers (k, dimension),
    kept column by column."""
    found = np.empty((len(own), len(nominal)), order="F")
    values = scattered.scenarios(own)
    for block in wide.blocks:
        place = slice(block.first, block.first + block.size)
        moved = values.get(block.name)
        found[:, place] = nominal[place] if moved is None else moved.reshape(len(own), -1)
    return found


def _confirmed(entry: EntryDeclaration, told: Mapping[str, str]) -> list[EntryDeclaration]:
    """Return what an entry of [confirm] asks of one scenario."""
    from ilvren.problem.one_scenario import limits_of_one, value_of_one

    return limits_of_one(_unsized(entry), told) if is_limit(entry) else [value_of_one(_unsized(entry))]


def _has_text(value: Value | None) -> bool:
    return isinstance(value, str) or (isinstance(value, tuple) and any(_has_text(item) for item in value))


def _tupled(value: Any) -> Value:
    return tuple(_tupled(item) for item in value) if isinstance(value, (list, tuple)) else float(value)


def _joined(value: Value) -> Value:
    """Return a list as a formula: it stands for a derived value."""
    if not isinstance(value, tuple):
        return value
    parts = [_joined(item) for item in value]
    return "join(" + ", ".join(f"({formula_text(item)})" for item in parts) + ")"


def _unbounded(item: VariableDeclaration, values: Mapping[str, Any]) -> VariableDeclaration:
    start = _tupled(values[item.name]) if item.name in values else item.start
    shape = item.shape
    for bound in (item.lower, item.upper, item.magnitude):
        if shape is None and not isinstance(start, tuple) and isinstance(bound, tuple):
            start = tuple(_tupled(0.0 if start is None else start) for _ in bound)  # as many as there are bounds
    catalogue = item.catalogue if item.choices else None
    return replace(
        item, start=start, shape=shape, lower=None, upper=None, magnitude=None, spacing=None, catalogue=catalogue
    )


def _unsized(entry: EntryDeclaration) -> EntryDeclaration:
    return replace(
        entry,
        magnitude=None if _has_text(entry.magnitude) else entry.magnitude,
        goal=None if _has_text(entry.goal) else entry.goal,
    )


def _texts_of(value: Value) -> list[str]:
    if isinstance(value, tuple):
        return [text for item in value for text in _texts_of(item)]
    return [value] if isinstance(value, str) else []
