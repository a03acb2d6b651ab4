"""A design and what scatters around it, as designs of the wider problem that has scattered parameters as variables."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError, nearest
from ilvren.evaluate import Gate, measured
from ilvren.explore.designs import designs_of
from ilvren.explore.proposing import told_names
from ilvren.explore.sampling import Planned, sample
from ilvren.plans import Space
from ilvren.problem import (
    Problem,
    Scattered,
    element_name,
    scatter_of,
    speaks_of_scatter,
    wide_designs,
    wide_nominal,
    widened_problem,
    with_limits,
)
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.ledger import Ledger

__all__ = ["Output", "ScatterCase", "Seen", "scatter_case"]

FloatArray = NDArray[np.float64]
# Hears how many scenarios of how many are done.
Progress = Callable[[int, int], None]

# Quantities told, at most; vectors of derived values with more elements are left out.
MOST_OUTPUTS, MOST_ELEMENTS = 200, 40
# Scenarios simulated between two words on how far it is.
SIMULATED_AT_ONCE = 25
# Numbers held at once: few enough for the processor's cache.
MOST_NUMBERS = 400_000


@dataclass(frozen=True)
class Output:
    """One number that scatters: an objective, a derived value, or a row of a constraint with its limits; `size` is
    what its misses are measured in, `entry` and `place` say which element of what it is."""

    name: str
    kind: str
    unit: str
    entry: str
    place: int
    lower: float = -math.inf
    upper: float = math.inf
    size: float = 1.0
    line: int | None = None


@dataclass(frozen=True)
class Seen:
    """Scenarios evaluated: `values` (k, outputs), and the largest miss of any limit (k,) over its size, with the number
    of its row; NaN values miss by infinity. `run` holds them where models were called."""

    values: FloatArray
    misses: FloatArray
    rows: NDArray[np.int64]
    run: str | None = None


@dataclass(frozen=True)
class ScatterCase:
    """`wide` is the problem whose designs are scenarios, `nominal` (n,) the design as it is meant among them."""

    problem: Problem
    wide: Problem
    scattered: Scattered
    nominal: FloatArray
    outputs: tuple[Output, ...]
    gate: Gate
    feasibility: float
    left_out: int

    @property
    def has_models(self) -> bool:
        """Return whether a scenario calls models, and is kept on record."""
        return bool(self.wide.sources)

    @property
    def is_cheap(self) -> bool:
        """Return whether a scenario takes formulas alone."""
        return not self.wide.sources and not self.wide.simulations

    def designs(self, own: FloatArray) -> FloatArray:
        """Return the designs (k, n) of scenarios from independent normal numbers (k, dimension), column by column."""
        return wide_designs(self.wide, self.scattered, self.nominal, own)

    def seen(
        self,
        own: FloatArray,
        *,
        ledger: Ledger | None = None,
        label: str | None = None,
        workers: int | str | None = None,
        listener: Callable[[Any], None] | None = None,
        seed: int = 0,
        progress: Progress | None = None,
    ) -> Seen:
        """Evaluate scenarios: formulas in vectorised calls, what evolves simulated, `progress` hearing of how many are
        done; models as the designs of a run. Raises RequestError."""
        if not self.has_models:
            return self._by_formulas(own, progress)
        if ledger is None:
            raise RequestError("scenarios of models are kept in a ledger, and none is given")
        return self._by_run(own, ledger, label, workers, listener, seed)

    def _by_formulas(self, own: FloatArray, progress: Progress | None) -> Seen:
        gate, wide = self.gate, self.wide
        entries = list(dict.fromkeys(output.entry for output in self.outputs if output.kind != "constraint"))
        nodes = [gate.written.entry_node(name) for name in entries]
        nodes += [block.node for block in wide.row_blocks]
        values = np.empty((len(own), len(self.outputs)), order="F")
        misses, rows = np.empty(len(own)), np.empty(len(own), dtype=np.int64)
        step = max(1, MOST_NUMBERS // max(wide.row_count + wide.size, 1)) if self.is_cheap else SIMULATED_AT_ONCE
        for first in range(0, len(own), step):
            if progress is not None and not self.is_cheap:
                progress(first, len(own))
            part = slice(first, min(first + step, len(own)))
            found = gate.written.node_batch(nodes, self.designs(own[part]))
            blocks = found[len(entries) :]
            self._tell(dict(zip(entries, found, strict=False)), blocks, values[part])
            misses[part], rows[part] = self._missed(blocks, part.stop - part.start)
        return Seen(values, misses, rows)

    def _tell(self, entries: dict[str, FloatArray], blocks: Sequence[FloatArray], values: FloatArray) -> None:
        """Put what is told into `values` (k, outputs), from the values of entries and of the blocks of rows."""
        firsts = {block.name: (block.first, own) for block, own in zip(self.wide.row_blocks, blocks, strict=True)}
        for k, output in enumerate(self.outputs):
            if output.kind == "constraint":
                first, own = firsts[output.entry]
                values[:, k] = own[:, output.place - first]
            else:
                values[:, k] = entries[output.entry].reshape(len(values), -1)[:, output.place]

    def _missed(self, blocks: Sequence[FloatArray], count: int) -> tuple[FloatArray, NDArray[np.int64]]:
        """Return the largest miss of each scenario over its size, and of which row; of no rows none."""
        worst, rows = np.full(count, -np.inf), np.full(count, -1, dtype=np.int64)
        for block, values in zip(self.wide.row_blocks, blocks, strict=True):
            sizes = self._row_sizes[block.first : block.first + block.size]
            sides = [
                (values - limit) * (sign / sizes)
                for limit, sign in ((block.lower, -1.0), (block.upper, 1.0))
                if np.isfinite(limit).any()
            ]
            own = sides[0] if len(sides) == 1 else np.maximum(*sides) if sides else np.full(values.shape, -np.inf)
            own[~np.isfinite(values)] = np.inf
            place = own.argmax(axis=1) if block.size > 1 else 0
            largest = own[np.arange(count), place] if block.size > 1 else own[:, 0]
            is_worse = largest > worst
            np.copyto(worst, largest, where=is_worse)
            np.copyto(rows, block.first + place, where=is_worse)
        return (worst if len(blocks) else np.zeros(count)), rows

    @cached_property
    def _row_sizes(self) -> FloatArray:
        return measured(self.wide, self.gate).row_sizes

    def _by_run(
        self,
        own: FloatArray,
        ledger: Ledger,
        label: str | None,
        workers: int | str | None,
        listener: Callable[[Any], None] | None,
        seed: int,
    ) -> Seen:
        designs = self.designs(own)
        names = tuple(variable.name for variable in self.wide.variables)
        low, high = designs.min(axis=0), designs.max(axis=0)
        space = Space(names, low, np.maximum(high, low), tuple(None for _ in names), self.nominal, frozenset())
        facts = {"seed": seed, "options": {}, "points": len(designs)}
        made = Planned(self.wide, "scenarios", designs, (), space, None, facts)
        result = sample(made, ledger=ledger, label=label, workers=workers, listener=listener)
        assert result.id is not None
        ledger.flush()
        table = designs_of(ledger, [result.id])
        at = {np.array(design.point).tobytes(): k for k, design in enumerate(table.designs)}
        places = np.array([at.get(point.tobytes(), -1) for point in designs])
        if (places < 0).any():
            raise RequestError(
                f"{result.id}: {int((places < 0).sum())} of {len(places)} scenarios are missing ({result.reason})",
                advice=f"`ilvren resume {result.id}` goes on; then the same command again",
            )
        entries = {
            name: np.asarray(value, dtype=float).reshape(len(table.designs), -1)[places]
            for name, value in table.values.items()
        }
        blocks = [entries[block.name] for block in self.wide.row_blocks]
        values = np.empty((len(designs), len(self.outputs)), order="F")
        self._tell(entries, blocks, values)
        misses, worst = self._missed(blocks, len(designs))
        return Seen(values, misses, worst, result.id)

    def slopes(self, own: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return values (outputs,) and slopes (outputs, dimension) by the independent numbers in a scenario
        (dimension,); NaN where there are none."""
        values, by_name = self._sloped_at(self.designs(own[np.newaxis])[0])
        return values, self.scattered.vjp(np.repeat(own[np.newaxis], len(values), axis=0), by_name)

    def slopes_by_name(self, own: FloatArray, k: int) -> dict[str, FloatArray]:
        """Return {scattered name: (size,)}: the slopes of output k in a scenario (dimension,)."""
        _, by_name = self._sloped_at(self.designs(own[np.newaxis])[0])
        return {name: slopes[k] for name, slopes in by_name.items()}

    def nominal_slopes(self) -> tuple[FloatArray, dict[str, FloatArray]]:
        """Return values (outputs,) and slopes {scattered name: (outputs, size)} at the design as it is meant."""
        return self._sloped_at(self.nominal)

    def _sloped_at(self, point: FloatArray) -> tuple[FloatArray, dict[str, FloatArray]]:
        told = self._told_rows()
        found = self._sloped.evaluate(point, derivatives=True)
        scattered = set(self.scattered.names)
        blocks = [block for block in self.wide.blocks if block.name in scattered]
        if not found.is_finite or not found.has_finite_derivatives:
            nothing = {block.name: np.full((len(told), block.size), np.nan) for block in blocks}
            return found.rows[told], nothing
        jacobian = found.jacobian
        dense = np.asarray(jacobian[told] if isinstance(jacobian, np.ndarray) else jacobian.tocsr()[told].toarray())
        return found.rows[told], {block.name: dense[:, block.first : block.first + block.size] for block in blocks}

    @cached_property
    def _sloped(self) -> Gate:
        """Return the gate of the wider problem that has everything told as rows."""
        names = list(dict.fromkeys(output.entry for output in self.outputs if output.kind != "constraint"))
        own = with_limits(self.wide, [f"{name} <= 1e300" for name in names])
        return Gate(own.with_starts(self.nominal))

    def _told_rows(self) -> list[int]:
        problem = self._sloped.problem
        names = list(dict.fromkeys(output.entry for output in self.outputs if output.kind != "constraint"))
        added = dict(zip(names, problem.row_blocks[len(self.wide.row_blocks) :], strict=True))
        return [
            output.place if output.kind == "constraint" else added[output.entry].first + output.place
            for output in self.outputs
        ]


def scatter_case(
    problem: Problem, point: Sequence[float] | FloatArray, *, feasibility: float = 1e-6, of: Sequence[str] = ()
) -> ScatterCase:
    """Return a design with what scatters around it. Raises RequestError and ProblemError."""
    at = np.asarray(point, dtype=float)
    scattered = scatter_of(problem, at)
    wide = widened_problem(problem.with_starts(at))
    nominal = wide_nominal(problem, wide, at)
    wide = wide.with_starts(nominal)
    gate = Gate(wide)
    outputs, left_out = _outputs(problem, wide, gate, nominal, of)
    return ScatterCase(problem, wide, scattered, nominal, outputs, gate, feasibility, left_out)


def _outputs(
    problem: Problem, wide: Problem, gate: Gate, nominal: FloatArray, of: Sequence[str]
) -> tuple[tuple[Output, ...], int]:
    """Return what is told: objectives, then limits, those nearest to being missed first where they are many, then
    derived values; and how many are left out."""
    told, left_out = list[Output](), 0
    objectives = {item.name: item.unit for item in wide.objectives}
    known = {**{item.name: item.unit for item in wide.derived}, **objectives}
    told_of_many = {entry.name for entry in problem.template.declarations.derived if speaks_of_scatter(entry)}
    names = {item.name for item in problem.objectives} | {item.name for item in problem.derived} - told_of_many
    names |= {name for name, _ in problem.outputs}
    graph = wide.graph
    sizes = measured(wide, gate).row_sizes
    rows = gate.evaluate(nominal).rows
    limits = []
    for block in wide.row_blocks:
        for place in range(block.size):
            limits.append(
                Output(
                    wide.rows[block.first + place].name,
                    "constraint",
                    block.unit,
                    block.name,
                    block.first + place,
                    float(block.lower[place]),
                    float(block.upper[place]),
                    float(sizes[block.first + place]),
                    block.line,
                )
            )
    values = []
    for name in told_names(wide):
        if name not in names:
            continue
        shape = graph.shape(gate.written.entry_node(name))
        count = math.prod(shape)
        kind = "objective" if name in objectives else "derived"
        if count > MOST_ELEMENTS:
            left_out += count
            continue
        for place in range(count):
            own = element_name(name, shape, place)
            values.append(Output(own, kind, known.get(name, ""), name, place))
    first = [output for output in values if output.kind == "objective"]
    rest = [output for output in values if output.kind != "objective"]
    everything = [*first, *limits, *rest]
    if of:
        everything = _asked(everything, of)
        limits = [output for output in everything if output.kind == "constraint"]
    if len(everything) > MOST_OUTPUTS:
        margins = [min(rows[o.place] - o.lower, o.upper - rows[o.place]) / o.size for o in limits]
        nearest_first = [limits[k] for k in np.argsort(margins, kind="stable")]
        kept = [o for o in everything if o.kind != "constraint"][: MOST_OUTPUTS // 2]
        chosen = {id(o) for o in [*kept, *nearest_first[: MOST_OUTPUTS - len(kept)]]}
        left_out += len(everything) - len(chosen)
        everything = [output for output in everything if id(output) in chosen]
    told = everything
    if not told:
        raise RequestError(f"nothing of {problem.source.file} can be told: it has neither an objective nor limits")
    return tuple(told), left_out


def _asked(outputs: Sequence[Output], of: Sequence[str]) -> list[Output]:
    found = []
    for wanted in of:
        own = [output for output in outputs if wanted in (output.name, output.entry)]
        if not own:
            known = list(dict.fromkeys(output.entry for output in outputs))
            close = nearest(wanted, known)
            advice = f'did you mean "{close}"?' if close else "known: " + ", ".join(known[:12])
            raise RequestError(f'--of {wanted}: no quantity "{wanted}"', advice=advice)
        found += own
    return list(dict.fromkeys(found))
