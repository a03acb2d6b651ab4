"""What every landscape shares: the range of a drawn variable, the entry that is drawn, its extremes, and the legend."""

from __future__ import annotations

import hashlib
import math
from collections.abc import Callable, Sequence
from dataclasses import field
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.draw.budget import Budget, filled
from ilvren.errors import RequestError, nearest
from ilvren.problem import Measures, Problem, Row, Variable, element_name, name_in
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.evaluate import Gate
    from ilvren.judge import Track
    from ilvren.problem import Band

__all__ = [
    "Extreme",
    "Subject",
    "View",
    "cells",
    "everywhere_feasible",
    "feasible_at",
    "is_plain",
    "legend",
    "line_handle",
    "mark_handle",
    "missed",
    "patch",
    "predicted_by",
    "rows_at",
    "subject_of",
    "title_of",
    "unsure",
    "view_of",
]

FloatArray = NDArray[np.float64]

# A row that a run meets only to within its tolerance is not drawn as missed.
DRAWN_FEASIBILITY = 1e-6
# Tolerance around the bounds, and around what must be seen where there are none, as shares of the width.
BOUND_MARGIN, FREE_MARGIN = 0.05, 0.35
# More limits than this make no picture.
MOST_LIMITS = 6
# Rows whose values are kept, beside what is drawn, of designs that cost something.
MOST_KEPT = 64
# An evaluation of more numbers than this is costly, as a picture asks for some ten thousand.
MOST_NUMBERS = 20_000
# An approximated value is unsure where its interval reaches further than this share of the drawn range.
UNSURE = 0.1


@dataclass(frozen=True)
class View:
    """One drawn variable: its place in a design, the range shown."""

    index: int
    variable: Variable
    low: float
    high: float

    def values(self, count: int) -> FloatArray:
        """Return the values to draw at: evenly over the range, or the members of a spaced or catalogue variable. About
        (count,)."""
        variable = self.variable
        if variable.catalogue is not None:
            return np.array(variable.catalogue)
        if variable.spacing is not None:
            last = max(int((min(self.high, variable.upper) - variable.lower) / variable.spacing + 1e-9), 0)
            # Of more members than can be drawn, some spread evenly over the range.
            chosen = np.unique(np.linspace(0, last, min(last + 1, count)).round())
            members: FloatArray = variable.lower + variable.spacing * chosen
            return members
        return np.linspace(self.low, self.high, count, dtype=np.float64)

    @property
    def is_continuous(self) -> bool:
        """Return whether values between those drawn mean anything."""
        return self.variable.kind == "continuous"

    @property
    def label(self) -> str:
        """Return the variable's name with its unit."""
        unit = f" [{self.variable.unit}]" if self.variable.unit else ""
        return f"{self.variable.name}{unit}"


@dataclass(frozen=True)
class Subject:
    """What is drawn: an entry, or one element of it. `name` as written, `column` its element; `band` how far it may be
    off, where it is approximated."""

    problem: Problem
    gate: Gate
    name: str
    entry: str | None
    column: int
    unit: str = ""
    band: Band | None = None
    budget: Budget = field(default_factory=Budget, compare=False)
    told: Callable[[str], None] = field(default=lambda _: None, compare=False)
    known: dict[bytes, FloatArray] = field(default_factory=dict, compare=False, repr=False)

    @property
    def is_costly(self) -> bool:
        """Return whether designs are more than a few formulas to evaluate: models, simulations, many scenarios."""
        return bool(self.problem.sources or self.problem.simulations) or self._numbers > MOST_NUMBERS

    @property
    def _numbers(self) -> int:
        """Return how many numbers an evaluation of all that is asked computes."""

        def counted(problem: Problem) -> int:
            roots = [block.node for block in problem.row_blocks] + [item.node for item in problem.objectives]
            return sum(problem.graph.nodes[number].size for number in problem.graph.reachable(roots))

        return int(self.problem.kept("numbers of an evaluation", counted))

    def half_width(self, points: FloatArray) -> FloatArray | None:
        """Return the half width (k,) of the band at designs (k, n), None where the value is not approximated."""
        if self.band is None:
            return None
        columns = self.gate.written.node_batch(list(self.band.nodes), points)
        return self.band.half_width(np.array([column[:, 0] for column in columns]).T)

    @property
    def label(self) -> str:
        """Return the name with its unit."""
        return f"{self.name} [{self.unit}]" if self.unit else self.name

    def at(self, points: FloatArray) -> FloatArray:
        """Return the values (k,), as written, at designs (k, n)."""
        if self.is_costly:
            return self._looked_up(points)[:, 0]
        with np.errstate(all="ignore"):
            return self.budget.measured(
                lambda: self.gate.written.entry_batch(self.entry, points)[:, self.column], len(points)
            )

    def rows(self, points: FloatArray, places: NDArray[np.int64]) -> FloatArray:
        """Return the values (k, r) of the rows at `places` (r,), at designs (k, n)."""
        if self._keeps_rows:
            return self._looked_up(points)[:, 1 + places]
        with np.errstate(all="ignore"):
            return self.gate.written.batch(points, rows=places).rows

    @property
    def _keeps_rows(self) -> bool:
        return self.is_costly and self.problem.row_count <= MOST_KEPT

    def _looked_up(self, points: FloatArray) -> FloatArray:
        """Return value and rows (k, 1 + rows) of costly designs, each of which is evaluated once in a figure."""
        keys = [hashlib.blake2b(point.tobytes(), digest_size=16).digest() for point in points]
        new = {key: place for place, key in enumerate(keys) if key not in self.known}
        if new:
            written, blocks = self.gate.written, self.problem.row_blocks if self._keeps_rows else ()
            node = self.problem.objective.node if self.entry is None and self.problem.objective else None
            nodes = [written.entry_node(self.entry or "") if node is None else node, *(block.node for block in blocks)]
            missing = points[list(new.values())]

            def evaluated() -> FloatArray:
                with np.errstate(all="ignore"):
                    values, *rows = written.node_batch(nodes, missing)
                return np.concatenate([values[:, [self.column]], *rows], axis=1)

            self.known.update(zip(new, self.budget.measured(evaluated, len(missing)), strict=True))
        return np.array([self.known[key] for key in keys]).reshape(len(keys), -1)

    def grid_of(self, sizes: Sequence[int], counted: Callable[[int], int], designs: Callable[[int], FloatArray]) -> int:
        """Return the finest of some grids that time allows, and say so where it is not the finest of all; `designs`
        (k, n) are those of one, `counted` tells how many these are."""
        if not self.is_costly:
            return sizes[-1]
        size = filled(self.budget, sizes, counted, lambda own: self.at(designs(own)))
        if size < sizes[-1]:
            each = f"{1e3 * self.budget.each:.3g} ms" if self.budget.each < 1.0 else f"{self.budget.each:.3g} s"
            self.told(f"a grid of {size} along each variable, not {sizes[-1]}: a design takes {each}; what lies "
                      "between its points is not seen")  # fmt: skip
        return size

    def slope(self, point: FloatArray) -> FloatArray | None:
        """Return the gradient (n,) at a design, None where it is not to be had."""
        graph = self.problem.graph
        nodes = {block.name: block for block in self.problem.row_blocks}
        if self.entry in nodes and nodes[self.entry].shape:
            row = self.gate.written.jacobian(point)[[nodes[self.entry].first + self.column], :]
            return np.asarray(row.toarray()).ravel()
        derived = {item.name: item.node for item in self.problem.derived}
        if self.entry in derived and graph.shape(derived[self.entry]):
            return None
        return self.gate.written.gradient(point, self.entry)


def subject_of(problem: Problem, gate: Gate, name: str | None) -> Subject:
    """Return what `name` stands for: the objective without one, an entry, or an element such as "drop[3]".

    Raises RequestError for an unknown name and for an entry with several elements.
    """
    objective = problem.objective
    if name is None:
        if objective is None:
            raise RequestError("the problem has no objective to draw", advice="name an entry with --of NAME")
        band = _band_of(problem, objective.node)
        return Subject(problem, gate, objective.name, None, 0, objective.unit, band)
    units = problem.quantity_units
    entries: dict[str, tuple[int, str]] = {name: (node, units.get(name, "")) for name, node in problem.outputs}
    entries |= {item.name: (item.node, item.unit) for item in problem.derived}
    entries |= {block.name: (block.node, block.unit) for block in problem.row_blocks}
    if objective is not None:
        entries[objective.name] = (objective.node, objective.unit)
    entry, _, rest = name.partition("[")
    if entry not in entries:
        close = nearest(entry, entries)
        advice = f'did you mean "{close}"?' if close else "entries: " + ", ".join(list(entries)[:12])
        told = "objective, derived value, output or constraint"
        raise RequestError(f'--of {name}: no {told} "{entry}"', advice=advice)
    node, unit = entries[entry]
    shape = problem.graph.shape(node)
    if not rest and not shape:
        return Subject(problem, gate, name, entry, 0, unit, _band_of(problem, node))
    if not rest:
        last = element_name(entry, shape, math.prod(shape) - 1)
        first = element_name(entry, shape, 0)
        raise RequestError(f"--of {name}: has several elements", advice=f"draw one: {first} to {last}")
    for place in range(math.prod(shape)):
        if element_name(entry, shape, place) == name.replace(" ", ""):
            return Subject(problem, gate, name, entry, place, unit)
    last = element_name(entry, shape, math.prod(shape) - 1) if shape else entry
    raise RequestError(f"--of {name}: there is no such element", advice=f"its last is {last}")


def _band_of(problem: Problem, node: int) -> Band | None:
    if problem.template is None or not problem.template.learnt:
        return None
    from ilvren.problem import band_of  # few problems have approximations

    return band_of(problem, node)


def unsure(subject: Subject, points: FloatArray, values: FloatArray) -> tuple[NDArray[np.bool_], str] | None:
    """Return where (k,) the interval of an approximated value is wider, to each side, than a share of what is drawn of
    `values` (k,), and what a legend says of it; None where nothing is approximated, or nowhere."""
    half = subject.half_width(points)
    finite = values[np.isfinite(values)]
    if half is None or subject.band is None or not len(finite):
        return None
    low, high = np.quantile(finite, [0.02, 0.98])
    wide = UNSURE * float(high - low)
    found = np.asarray(half > wide)
    if not wide > 0.0 or not found.any():
        return None
    return found, f"{100 * float(subject.band.share):.0f} % interval wider than ± {wide:.4g}"


@dataclass(frozen=True)
class Extreme:
    """A local extreme seen on a grid: `kind` "low" or "high", the drawn variables' values, the value, and whether all
    limits hold there; not `is_followed` where nobody has looked closer than the grid."""

    kind: str
    where: tuple[float, ...]
    value: float
    is_feasible: bool
    is_followed: bool = True


def cells(views: Sequence[View], size: int) -> int:
    """Return how many designs a grid over some views has."""
    return math.prod(len(view.values(size)) for view in views)


def is_plain(values: FloatArray) -> bool:
    """Return whether numbers read well without powers of ten. `values` have any shape."""
    finite = np.abs(values[np.isfinite(values)])
    return bool(len(finite)) and 1e-2 < float(finite.max()) < 1e8


def rows_at(subject: Subject, points: FloatArray, views: Sequence[View]) -> tuple[list[Row], FloatArray, FloatArray]:
    """Return the rows that the drawn variables change, their values (k, r) at designs (k, n), and their sizes (r,).

    Of very many rows only those that cross a limit within the picture are kept, and of these the first MOST_LIMITS.
    """
    problem = subject.problem
    if not problem.row_blocks:
        return [], np.zeros((len(points), 0)), np.zeros(0)
    if problem.row_count <= MOST_LIMITS or not problem.graph.has_arrays:
        places = np.arange(problem.row_count)
    else:
        pattern = subject.gate.written.jacobian_plan().pattern.tocsc()
        places = np.unique(np.concatenate([pattern[:, [view.index]].indices for view in views]))
    values = subject.rows(points, places)
    sizes = Measures.of(problem).row_sizes[places]
    rows = [problem.rows[int(place)] for place in places]
    if len(rows) > MOST_LIMITS:
        crossed = [
            k for k, row in enumerate(rows) if 0 < missed(values[:, k], row, float(sizes[k])).sum() < len(points)
        ]
        kept = (crossed + [k for k in range(len(rows)) if k not in crossed])[:MOST_LIMITS]
        rows, values, sizes = [rows[k] for k in kept], values[:, kept], sizes[kept]
    return rows, values, sizes


def everywhere_feasible(rows: Sequence[Row], values: FloatArray, sizes: FloatArray) -> NDArray[np.bool_]:
    """Return (k,): whether all rows hold."""
    result = np.ones(len(values), dtype=bool)
    for place, row in enumerate(rows):
        result &= ~missed(values[:, place], row, float(sizes[place]))
    return result


def feasible_at(subject: Subject, point: FloatArray) -> bool:
    """Return whether a design (n,) holds all rows, drawn or not."""
    problem = subject.problem
    if not problem.row_count:
        return True
    with np.errstate(all="ignore"):
        rows = subject.gate.written.batch(point[np.newaxis]).rows[0]
    misses = Measures.of(problem).row_misses(rows)
    return bool((misses <= DRAWN_FEASIBILITY * Measures.of(problem).row_sizes).all())


def view_of(problem: Problem, name: str, point: FloatArray, tracks: Sequence[Track]) -> View:
    """Return the range of a drawn variable: the bounds with a margin, or else what must be seen with more room. `point`
    is a design (n,)."""
    index = next(i for i, variable in enumerate(problem.variables) if variable.name == name)
    variable = problem.variables[index]
    seen = [float(point[index]), variable.start]
    for track in tracks:
        seen += [float(value) for value in track.iteration_points[:, index] if math.isfinite(value)]
        if track.point is not None:
            seen.append(track.point[index])
    low, high = variable.lower, variable.upper
    size = float(Measures.of(problem).variable_sizes(point)[index])
    spread = max(seen) - min(seen) or size
    margin = BOUND_MARGIN * (high - low) if math.isfinite(high - low) else FREE_MARGIN * max(spread, 0.5 * size)
    first = low - margin if math.isfinite(low) else min(seen) - margin
    last = high + margin if math.isfinite(high) else max(seen) + margin
    if not last > first:
        first, last = first - 0.5 * size, last + 0.5 * size
    return View(index, variable, first, last)


def predicted_by(problem: Problem) -> str:
    """Return what a title says of values that an approximation gives; "" for none."""
    return f", predicted by {name_in(problem.aim.on)}" if problem.aim.on else ""


def title_of(problem: Problem, point: FloatArray, names: Sequence[str]) -> str:
    """Return the title of a figure of a design `point` (n,): the problem, and what is held at which value."""
    title = (problem.title or problem.source.file) + predicted_by(problem)
    held = [
        f"{variable.name} = {value:.5g}{' ' + variable.unit if variable.unit else ''}"
        for variable, value in zip(problem.variables, point, strict=True)
        if variable.name not in names
    ]
    if not held:
        return title
    told = ", ".join(held[:4]) + (" …" if len(held) > 4 else "")
    return f"{title}\nheld: {told}"


def missed(values: FloatArray, row: Row, size: float) -> NDArray[np.bool_]:
    """Return where `values` (any shape) miss a row's limits, by more than is drawn as met."""
    slack = DRAWN_FEASIBILITY * size
    return ~((values >= row.lower - slack) & (values <= row.upper + slack))


def patch(color: str, hatch: str, label: str) -> Any:
    """Return the mark of a shaded area for a legend."""
    from matplotlib.patches import Patch

    return Patch(facecolor=color + "1a", edgecolor=color, hatch=hatch, label=label, linewidth=0.8)


def line_handle(color: str, label: str, dashes: Any = "-") -> Any:
    """Return the mark of a line for a legend."""
    from matplotlib.lines import Line2D

    return Line2D([], [], color=color, linestyle=dashes, linewidth=1.8, label=label)


def mark_handle(marker: str, label: str) -> Any:
    """Return the mark of a point for a legend."""
    from matplotlib.lines import Line2D

    face = "white" if marker == "o" else "#111111"
    return Line2D(
        [], [], linestyle="", marker=marker, markersize=9, markerfacecolor=face, markeredgecolor="#111111", label=label
    )


def legend(made: Any, handles: list[Any]) -> None:
    """Put a legend beside the axes."""
    made.legend(handles=handles, loc="outside right upper", fontsize=10.5, handlelength=2.6, handleheight=1.4)
