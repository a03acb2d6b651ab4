"""A problem with numbers in place: what every other package works on.

Internally an objective is minimized (`sign` turns a maximized one) and every constraint row reads
lower <= value <= upper, an equality where the two meet. Named entries are blocks: scalars, vectors or
matrices. A design and the rows are flat arrays, block after block, each row by row.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import field, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError
from ilvren.formula import Graph, Shape, Trouble, interpret
from ilvren.notebooks import InNotebooks
from ilvren.problem.aims import NO_AIM, Aim
from ilvren.problem.elements import MOST_ELEMENTS, Elements
from ilvren.problem.refinement import AS_DECLARED, Refinement
from ilvren.problem.variables import Variable, VariableBlock, element_name
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.dynamics import Simulation
    from ilvren.models import Calls, ModelSource
    from ilvren.problem.entries import Source

__all__ = ["NamedValue", "Objective", "Parameter", "Problem", "Residual", "Row", "RowBlock"]

FloatArray = NDArray[np.float64]
# One number, or nested lists of numbers: what `set` and `start` take.
Given = float | Sequence[Any]


@dataclass(frozen=True)
class Parameter:
    """A fixed number or array; `is_overridden` when it was set for this run, `is_data` for a column of a table,
    `is_internal` for numbers that no file gives."""

    name: str
    value: Any
    unit: str = ""
    about: str = ""
    is_overridden: bool = False
    is_data: bool = False
    is_internal: bool = False


@dataclass(frozen=True)
class NamedValue:
    """A derived value: a name for a node of the graph."""

    name: str
    node: int
    unit: str = ""
    about: str = ""
    text: str = ""
    line: int | None = None


@dataclass(frozen=True, kw_only=True)
class Objective:
    """What is minimized (`sign` 1) or maximized (`sign` −1). Better than its `goal` counts for nothing; of several
    objectives those of a lower `priority` come first, those of the last one trade off."""

    name: str
    node: int
    sign: int
    unit: str = ""
    about: str = ""
    magnitude: float | None = None
    text: str = ""
    line: int | None = None
    goal: float | None = None
    priority: int = 1

    def is_reached(self, value: float) -> bool:
        """Return whether a value, as written, is as good as the goal, where there is one."""
        return self.goal is not None and self.sign * value <= self.sign * self.goal


@dataclass(frozen=True)
class Residual:
    """One entry of [fit]: the node of residual/sigma, of any shape, and its loss."""

    name: str
    node: int
    loss: str
    text: str = ""
    line: int | None = None


@dataclass(frozen=True)
class Row:
    """One row of a constraint: lower <= value <= upper."""

    name: str
    lower: float
    upper: float
    unit: str = ""
    about: str = ""
    magnitude: float | None = None
    text: str = ""
    line: int | None = None

    @property
    def is_equality(self) -> bool:
        """Return whether the two limits meet."""
        return self.lower == self.upper


@dataclass(frozen=True, eq=False, kw_only=True)
class RowBlock:
    """A constraint, or one side of a chain, of any shape: lower <= value(node) <= upper, a row per element. `lower`,
    `upper`, `magnitude` (NaN where not given) are flat (size,); `terms` are the nodes of its top-level terms; `first`
    is the place of its first row; `entry` the name written in the file. Over time the first axis are moments: `times`
    (at the start of the design where they move), and `time_names` as rows are told; `measure` is the node of the
    measure that is limited, where that is searched at every moment. `is_grid`: an equation between unknowns on a
    grid."""

    name: str
    entry: str
    node: int
    shape: Shape
    first: int
    lower: FloatArray
    upper: FloatArray
    magnitude: FloatArray
    terms: tuple[int, ...] = ()
    unit: str = ""
    about: str = ""
    text: str = ""
    line: int | None = None
    times: tuple[float, ...] | None = None
    time_names: tuple[str, ...] = ()
    measure: int | None = None
    objective_sign: int = 0
    is_grid: bool = False

    @property
    def is_objective(self) -> bool:
        """Return whether this is one of several objectives (`problem.fronts`), without limits."""
        return self.objective_sign != 0

    @property
    def size(self) -> int:
        """Return the number of rows."""
        return len(self.lower)

    def row_name(self, place: int) -> str:
        """Return the name of one row: with its element, or over time with its time."""
        if self.times is None:
            return element_name(self.name, self.shape, place)
        size = math.prod(self.shape[1:])
        return element_name(f"{self.name}@{self.time_names[place // size]}", self.shape[1:], place % size)

    def element(self, place: int) -> Row:
        """Return one row."""
        magnitude = float(self.magnitude[place])
        return Row(
            self.row_name(place),
            float(self.lower[place]),
            float(self.upper[place]),
            self.unit,
            self.about,
            None if math.isnan(magnitude) else magnitude,
            self.text,
            self.line,
        )

    def __iter__(self) -> Iterator[Row]:
        return (self.element(place) for place in range(self.size))


@dataclass(frozen=True, eq=False, kw_only=True)
class Problem(InNotebooks):
    """A problem bound to its numbers.

    `baseline` is the design at the file's starts, `start` the one runs begin with; both have one value
    per variable element. `parameter_values` follow the graph's parameters, table columns included. `overrides` are
    what replaced parameters. `sources` are the models, by their number in the graph, `outputs` (name, node) of theirs.
    `objectives` are all that the file asks for, `objective` the one where there is one; `aim` is what was made of
    several. `confirmation` is the problem of what is asked of a chosen design alone, whose entries `confirm_values` are
    only shown. `refusal` says why its models may not be run, where they may not. `simulations` are what formulas over
    time call, `refinement` how finely these are looked at.
    """

    source: Source
    title: str
    about: str
    graph: Graph
    blocks: tuple[VariableBlock, ...]
    parameters: tuple[Parameter, ...]
    derived: tuple[NamedValue, ...]
    objective: Objective | None
    row_blocks: tuple[RowBlock, ...]
    baseline: tuple[float, ...]
    overrides: Mapping[str, Given] = field(default_factory=dict)
    start_overrides: Mapping[str, Given] = field(default_factory=dict)
    residuals: tuple[Residual, ...] = ()
    sources: tuple[ModelSource, ...] = ()
    order: tuple[str, ...] = ()
    template: Any = None
    outputs: tuple[tuple[str, int], ...] = ()
    objectives: tuple[Objective, ...] = ()
    aim: Aim = NO_AIM
    confirmation: Problem | None = field(default=None, repr=False)
    confirm_values: frozenset[str] = frozenset()
    refusal: str = ""
    simulations: tuple[Simulation, ...] = field(default=(), repr=False, compare=False)
    refinement: Refinement = AS_DECLARED
    rebound: Callable[..., Problem] | None = field(default=None, repr=False)
    _kept: dict[str, Any] = field(default_factory=dict, init=False, repr=False)

    @property
    def is_over_time(self) -> bool:
        """Return whether something evolves."""
        return self.template is not None and bool(self.template.built_axes)

    @cached_property
    def is_about_scatter(self) -> bool:
        """Return whether its formulas have functions of what scatters."""
        return (
            self.template is not None
            and bool(self.template.declarations.scatter)
            and bool(self.template.scatter_functions.written)
        )

    @property
    def scenario_count(self) -> int:
        """Return how many scenarios a design stands for: 1 where nothing is about scatter."""
        return self.template.scatter_functions.plan.count if self.is_about_scatter else 1

    @property
    def goes_in_stages(self) -> bool:
        """Return whether a run looks at it more finely from stage to stage."""
        return self.is_over_time or self.is_about_scatter

    @cached_property
    def is_collocated(self) -> bool:
        """Return whether states over time are unknowns of the problem."""
        return any(block.is_grid for block in self.blocks)

    @cached_property
    def own_size(self) -> int:
        """Return the number of variable elements without unknowns on a grid, which come last."""
        return sum(block.size for block in self.blocks if not block.is_grid)

    @cached_property
    def own_row_count(self) -> int:
        """Return the number of rows without equations between unknowns on a grid, which come last."""
        return sum(block.size for block in self.row_blocks if not block.is_grid)

    @cached_property
    def variables(self) -> Sequence[Variable]:
        """Return all elements of all variables; of very many each is made when it is looked at."""
        found: Elements[Variable] = Elements(self.blocks)
        return found if len(found) > MOST_ELEMENTS else tuple(found)

    @cached_property
    def rows(self) -> Sequence[Row]:
        """Return all rows of all constraints; of very many each is made when it is looked at."""
        found: Elements[Row] = Elements(self.row_blocks)
        return found if len(found) > MOST_ELEMENTS else tuple(found)

    @cached_property
    def size(self) -> int:
        """Return the number of variable elements, n."""
        return sum(block.size for block in self.blocks)

    @cached_property
    def row_count(self) -> int:
        """Return the number of rows, m."""
        return sum(block.size for block in self.row_blocks)

    @cached_property
    def start(self) -> tuple[float, ...]:
        """Return the design that runs begin with."""
        return tuple(self.joined("start").tolist())

    def joined(self, what: str) -> FloatArray:
        """Return a property of the variables ("start", "lower", "upper", "magnitude", "is_used") as one array (n,)."""
        return np.concatenate([np.asarray(getattr(block, what)) for block in self.blocks])

    def joined_rows(self, what: str) -> FloatArray:
        """Return a property of the rows ("lower", "upper", "magnitude") as one array (m,)."""
        parts = [getattr(block, what) for block in self.row_blocks]
        return np.concatenate(parts) if parts else np.zeros(0)

    @property
    def parameter_values(self) -> tuple[Any, ...]:
        """Return the values of the parameters, in order."""
        return tuple(parameter.value for parameter in self.parameters)

    @cached_property
    def seeks_feasible(self) -> bool:
        """Return whether nothing is minimized: without an objective, or with a constant one."""
        if len(self.objectives) > 1:
            return False
        return self.objective is None or not self.graph.variables_of([self.objective.node])

    def one_objective(self) -> Problem:
        """Return the problem itself. Raises RequestError where it has several objectives, of which nothing can be said
        as of one."""
        if len(self.objectives) > 1:
            names = [item.name for item in self.objectives]
            weights = ",".join(f"{name}=1" for name in names)
            raise RequestError(
                f"{self.source.file} has several objectives: {', '.join(names)}",
                advice=f'make them one: --only {names[0]}, --weigh {weights}, with --hold "{names[-1]} <= …"',
            )
        return self

    @cached_property
    def free(self) -> tuple[int, ...]:
        """Return the places of the variable elements a run may change: used, and not fixed."""
        free = self.joined("is_used").astype(bool) & (self.joined("lower") != self.joined("upper"))
        return tuple(np.flatnonzero(free).tolist())

    @cached_property
    def free_places(self) -> NDArray[np.int64]:
        """Return `free` as an array. It is (free,)."""
        return np.array(self.free, dtype=np.int64)

    @cached_property
    def continuous_places(self) -> NDArray[np.int64]:
        """Return the places of the free elements that are neither spaced nor from a catalogue. They are (count,)."""
        held = {place for place, _ in self.grid}
        return np.array([place for place in self.free if place not in held], dtype=np.int64)

    @cached_property
    def grid(self) -> tuple[tuple[int, Variable], ...]:
        """Return (place in a design, variable) of the elements that are spaced or from a catalogue, and not fixed."""
        return tuple(
            (block.first + place, variable)
            for block in self.blocks
            if block.kind != "continuous"
            for place, variable in enumerate(block)
            if not variable.is_fixed
        )

    def kept(self, name: str, made: Callable[[Problem], Any]) -> Any:
        """Return what is made of the problem, once."""
        if name not in self._kept:
            self._kept[name] = made(self)
        return self._kept[name]

    def split(self, point: Sequence[float] | FloatArray) -> list[Any]:
        """Return a design as one value per block: floats for scalars, arrays of the block's shape else."""
        if not self.graph.has_arrays:
            return point.tolist() if isinstance(point, np.ndarray) else list(point)
        flat = np.asarray(point, dtype=float)
        return [
            flat[block.first : block.first + block.size].reshape(block.shape) if block.shape else flat[block.first]
            for block in self.blocks
        ]

    def with_starts(self, point: Sequence[float] | FloatArray) -> Problem:
        """Return the same problem starting from another design, each value moved to the nearest one allowed."""
        blocks = []
        for block in self.blocks:
            part = np.asarray(point[block.first : block.first + block.size], dtype=float)
            if block.kind == "continuous":
                moved = np.clip(part, block.lower, block.upper)
            else:
                moved = np.array([item.member(value) for item, value in zip(block, part.tolist(), strict=True)])
            blocks.append(replace(block, start=moved))
        return replace(self, blocks=tuple(blocks))

    def with_parameters(self, **values: Given) -> Problem:
        """Return the problem with other parameter values. Its formulas are built again only where a shape depends on
        one of them. Raises RequestError for an unknown name."""
        assert self.rebound is not None
        anchor, given = self.refinement.anchor, {**self.overrides, **values}
        found: Problem = self.rebound(self.template, parameters=given, starts=self.start_overrides, anchor=anchor)
        return replace(found, aim=self.aim, refinement=self.refinement, refusal=self.refusal)

    def calls(self) -> tuple[Calls, ...]:
        """Return new calls of the models, of which nothing is known yet."""
        if not self.sources:
            return ()
        from ilvren.models import Calls

        found = tuple(Calls(source) for source in self.sources)
        for calls in found:
            calls.refusal = self.refusal
        return found

    def entry_values(
        self, nodes: Sequence[int], point: Sequence[float] | FloatArray, calls: Sequence[Calls] = ()
    ) -> Any:
        """Return the walk (values, troubles, kinks) of some nodes at a design, by the `calls` that a run makes of its
        models; without any, by new ones."""
        models = self.with_simulations(calls or self.calls())
        return interpret(self.graph, nodes, self.split(point), self.parameter_values, models=models)

    def simulation_inputs(
        self, point: Sequence[float] | FloatArray, calls: Sequence[Calls] = ()
    ) -> list[Sequence[Any]]:
        """Return what a design gives to each simulation."""
        axes = self.template.built_axes if self.simulations else []
        return [self.entry_values(axis.operands, point, calls).values for axis in axes]

    def signals(self, point: Sequence[float] | FloatArray, calls: Sequence[Calls] = ()) -> list[dict[str, Any]]:
        """Return for each simulation {name: values over its moments} at a full design: the time, states, controls,
        signals and derived values over time; NaN where invalid. Moments at which something jumps are there twice."""
        found = []
        for told in self.template.told_over_time if self.is_over_time else []:
            seen = self.entry_values([node for *_, node in told], point, calls)
            found.append({name: np.asarray(v) for (name, *_), v in zip(told, seen.values, strict=True)})
        return found

    def bound_simulations(self, calls: Sequence[Calls] = ()) -> list[Simulation]:
        """Return the simulations with the models that their rates call."""
        own = calls or (self.calls() if self.sources else ())
        return [simulation.asking(own) for simulation in self.simulations]

    def with_simulations(self, calls: Sequence[Any]) -> Sequence[Any]:
        """Return what formulas may call: models by their number, simulations by theirs, counted from the end."""
        if not self.simulations:
            return calls
        return (*calls, *(simulation.asking(calls) for simulation in reversed(self.simulations)))

    def quantities(self, point: Sequence[float] | FloatArray, calls: Sequence[Calls] = ()) -> dict[str, Any]:
        """Return {name: value} of every derived value and output of a model at a full design, NaN where invalid;
        `calls` as in `entry_values`."""
        entries = [(item.name, item.node) for item in self.derived] + list(self.outputs)
        entries += [(block.entry, block.measure) for block in self.row_blocks if block.measure is not None]
        seen = self.entry_values([node for _, node in entries], point, calls)
        return {
            name: np.where(np.isfinite(value), value, np.nan)
            for (name, _), value in zip(entries, seen.values, strict=True)
        }

    @property
    def stored_texts(self) -> dict[str, str]:
        """Return {name: text} of the files that the problem names: what builds it again without the disk."""
        own = self.confirmation
        return dict(self.template.texts) | (own.stored_texts if own is not None else {})

    @property
    def quantity_units(self) -> dict[str, str]:
        """Return {name: unit} of every derived value and output of a model."""
        found = {item.name: item.unit for item in self.derived}
        found |= {block.entry: block.unit for block in self.row_blocks if block.measure is not None}
        for model in self.template.declarations.models if self.template is not None else ():
            found |= {f"{model.name}.{output}": unit for output, unit in model.units.items()}
        return found

    def named_values(
        self, point: Sequence[float] | FloatArray, calls: Sequence[Calls] = ()
    ) -> dict[str, tuple[Any, Trouble | None]]:
        """Return {name: (value, trouble)} of every derived value, objective and constraint at a full design; values
        are floats, or arrays of the entry's shape. `calls` as in `entry_values`."""
        entries: list[tuple[str, int]] = [(value.name, value.node) for value in self.derived]
        entries.extend((item.name, item.node) for item in self.objectives)
        entries.extend((block.name, block.node) for block in self.row_blocks)
        seen = self.entry_values([node for _, node in entries], point, calls)
        return {
            name: (value, trouble)
            for (name, _), value, trouble in zip(entries, seen.values, seen.troubles, strict=True)
        }
