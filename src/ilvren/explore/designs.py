"""Every design that runs have evaluated, as one table: ranked, filtered, sorted.

Objectives, violations and variables are those on record; derived values are computed again from the formulas, and
those of models from calls on record: nothing is called. What is not known is NaN, never guessed.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import crowding, domination_layers
from ilvren.errors import RequestError, nearest
from ilvren.evaluate import Gate, digest_of
from ilvren.ledger import EvaluationRecord, Ledger, RunRecord
from ilvren.models import Calls, NotOnRecord
from ilvren.notebooks import InNotebooks
from ilvren.problem import Condition, Measures, Problem, condition_of, node_of, sense_of
from ilvren.records import dataclass
from ilvren.runs import RunShelf, plain, plain_values, problem_of, told_by_block, trouble_clause

__all__ = ["Design", "DesignTable", "designs_of", "held_by", "node_values", "recorded_calls"]

FloatArray = NDArray[np.float64]

# A limit this near, in its size, holds a design.
HELD = 1e-4


@dataclass(frozen=True)
class Design:
    """One design: its address, its `rank` among all of the table (1 the best), the full design `point` (n,), the
    objective as written (None without one, with several, or where invalid), the violation, and what is wrong with it,
    "" for nothing. Of several objectives `layer` counts from 1, the front: what nothing in the table dominates."""

    address: str
    rank: int
    point: tuple[float, ...]
    objective: float | None
    violation: float
    trouble: str
    layer: int | None = None

    @property
    def note(self) -> str:
        """Return what is to be said of it in a word: what is wrong, or that it is on the front."""
        return self.trouble or ("front" if self.layer == 1 else "")


@dataclass(frozen=True)
class DesignTable(InNotebooks):
    """Designs of runs on one problem, in the order asked for; `values` {name: (k,) or (k, size)} of every derived
    value, output, objective and constraint, row by row as the designs; `total` of them before filters;
    `is_mixed`: the runs had different parameters, each design being told under its own; of
    `thinned` more designs the vectors, which are long, were not kept; `is_staged`: designs of earlier
    stages of a run are left out, since other parameters, scenarios or grids decided their values."""

    problem: Problem
    runs: tuple[str, ...]
    designs: tuple[Design, ...]
    values: Mapping[str, FloatArray]
    total: int
    counts: Mapping[str, int]
    is_mixed: bool = False
    thinned: int = 0
    is_staged: bool = False

    @property
    def names(self) -> list[str]:
        """Return the names of what is one number for each design: variables, then values, the objective first."""
        own = [variable.name for variable in self.problem.variables]
        first = self.objectives
        rest = [name for name, value in self.values.items() if value.ndim == 1 and name not in first]
        return [*first, *own, *rest]

    @property
    def objectives(self) -> list[str]:
        """Return the names of the objectives."""
        return [item.name for item in self.problem.objectives]

    @property
    def units(self) -> dict[str, str]:
        """Return {name: unit} of what has one."""
        problem = self.problem
        found = {variable.name: variable.unit for variable in problem.variables}
        found |= {item.name: item.unit for item in problem.derived}
        found |= {block.name: block.unit for block in problem.row_blocks}
        if problem.objective is not None:
            found[problem.objective.name] = problem.objective.unit
        return {name: unit for name, unit in found.items() if unit}

    def column(self, name: str) -> FloatArray:
        """Return one number (k,) for each design by its name. Raises RequestError."""
        for place, variable in enumerate(self.problem.variables):
            if variable.name == name:
                return np.array([design.point[place] for design in self.designs])
        if name in self.values and self.values[name].ndim == 1:
            return self.values[name]
        if name == "violation":
            return np.array([design.violation for design in self.designs])
        if name == "rank":
            return np.array([float(design.rank) for design in self.designs])
        close = nearest(name, self.names)
        advice = f'did you mean "{close}"?' if close else "known: " + ", ".join(self.names[:12])
        raise RequestError(f'no quantity "{name}" that is one number', advice=advice)

    def told(self, name: str, value: float) -> float | str:
        """Return a quantity's value as it is told: the word of a choice, else the number."""
        block = next((item for item in self.problem.blocks if item.name == name and item.words), None)
        return value if block is None else block.shown(value)

    def to_dict(self) -> dict[str, object]:
        """Return the JSON document."""
        designs = []
        for place, design in enumerate(self.designs):
            own = [block for block in self.problem.blocks if not block.is_grid]
            variables = told_by_block(own, [plain(x) for x in design.point])
            values = {name: plain_values(_shaped(self.problem, name, v[place])) for name, v in self.values.items()}
            designs.append(
                {
                    "design": design.address,
                    "rank": design.rank,
                    **({"layer": design.layer} if design.layer is not None else {}),
                    "variables": variables,
                    "values": values,
                    "violation": plain(design.violation),
                    "trouble": design.trouble or None,
                }
            )
        run: object = self.runs[0] if len(self.runs) == 1 else list(self.runs)
        return {
            "run": run,
            "counts": dict(self.counts),
            "total": self.total,
            "mixed": self.is_mixed,
            "thinned": self.thinned,
            "designs": designs,
        }


def designs_of(
    ledger: Ledger,
    references: Sequence[str],
    *,
    keep: Sequence[str] = (),
    sort: str | None = None,
    descending: bool = False,
    top: int | None = None,
) -> DesignTable:
    """Return the designs of runs and groups: those that meet all conditions of `keep`, by rank or by the quantity
    `sort`, the first `top` of them. Raises RequestError for unknown runs and names, and runs of different problems."""
    records = _records(ledger, references)
    problem, thinned = problem_of(records[0]), 0
    points, evaluations, addresses = list[FloatArray](), list[EvaluationRecord](), list[str]()
    parts: list[tuple[dict[str, FloatArray], NDArray[np.bool_]]] = []
    troubles = list[str]()
    for record in records:
        theirs = problem_of(record)
        if _asked_of(theirs) != _asked_of(problem):
            raise RequestError(
                f"{record.id} has other variables, objectives or constraints than {records[0].id}",
                advice="list the designs of one problem",
            )
        first, seen, lost = len(points), set[bytes](), set[bytes]()
        for item in ledger.evaluations(record.number):
            if not item.is_whole:
                lost.add(item.point)
                continue
            if item.point in seen:  # its values first, then its derivatives: one design
                continue
            seen.add(item.point)
            points.append(np.frombuffer(item.point))
            evaluations.append(item)
            addresses.append(f"{record.id}:{item.number}")
        thinned += len(lost - {digest_of(point) for point in seen}) if lost else 0
        # With the parameters of the run that they belong to, which may be others.
        conditions = [condition_of(theirs, text, "--keep") for text in keep]
        matrix = np.array(points[first:]).reshape(-1, theirs.size)
        parts.append(_values(theirs, ledger, record, evaluations[first:], matrix, conditions))
        troubles += _troubles(theirs, ledger, record, evaluations[first:], matrix)
    matrix = np.array(points).reshape(-1, problem.size)
    values = {name: np.concatenate([part[name] for part, _ in parts]) for name in parts[0][0]}
    kept = np.concatenate([own for _, own in parts])
    feasibility = records[0].settings["feasibility"]
    assert isinstance(feasibility, float)
    layers = _layers(problem, evaluations, feasibility)
    ranks = _ranks(problem, evaluations, feasibility) if layers is None else _ranks_of(layers)
    table = DesignTable(
        problem,
        tuple(record.id for record in records),
        tuple(
            Design(address, rank, tuple(point.tolist()), item.objective, item.violation, trouble, layer)
            for address, rank, point, item, trouble, layer in zip(
                addresses,
                ranks,
                matrix,
                evaluations,
                troubles,
                [None] * len(ranks) if layers is None else layers.told,
                strict=True,
            )
        ),
        values,
        len(addresses),
        {"designs": len(addresses), "feasible": sum(item.violation <= feasibility for item in evaluations)},
    )
    order = np.argsort(np.array(ranks), kind="stable")
    if sort is not None:
        column = table.column(sort)
        order = order[np.argsort(-column[order] if descending else column[order], kind="stable")]
    elif descending:
        order = order[::-1]
    order = order[kept[order]][:top]
    return DesignTable(
        problem,
        table.runs,
        tuple(table.designs[place] for place in order),
        {name: value[order] for name, value in values.items()},
        table.total,
        table.counts,
        any(record.overrides["set"] != records[0].overrides["set"] for record in records),
        thinned,
        any(len(ledger.stages(record.number)) > 1 for record in records),
    )


def _asked_of(problem: Problem) -> tuple[object, ...]:
    """Return what two problems must share for their designs to stand in one table: names, shapes, what is minimized."""
    return (
        [(block.name, block.shape) for block in problem.blocks],
        [(item.name, item.sign, item.text) for item in problem.objectives],
        [(block.name, block.shape) for block in problem.row_blocks],
        [(item.name, problem.graph.shape(item.node)) for item in problem.derived],
        [(name, problem.graph.shape(node)) for name, node in problem.outputs],
    )


def _records(ledger: Ledger, references: Sequence[str]) -> list[RunRecord]:
    found: list[RunRecord] = []
    for reference in references:
        if ledger.is_group(reference):
            found += ledger.group_runs(ledger.group(reference)).values()
        else:
            found.append(ledger.run(reference))
    unique = {record.number: record for record in found}
    if not unique:
        raise RequestError("no run has been begun in " + ", ".join(references))
    return list(unique.values())


def _ranks(problem: Problem, evaluations: Sequence[EvaluationRecord], feasibility: float) -> list[int]:
    """Return the ranks: feasible before infeasible, then by the objective; infeasible by violation; invalid last."""
    sign = 1.0 if problem.objective is None else float(problem.objective.sign)

    def key(place: int) -> tuple[int, float, int]:
        item = evaluations[place]
        value = 0.0 if item.objective is None else sign * item.objective
        is_valid = math.isfinite(item.violation) and (problem.objective is None or item.objective is not None)
        if not is_valid:
            return 2, 0.0, place
        return (0, value, place) if item.violation <= feasibility else (1, item.violation, place)

    ranks = [0] * len(evaluations)
    for rank, place in enumerate(sorted(range(len(evaluations)), key=key), start=1):
        ranks[place] = rank
    return ranks


@dataclass(frozen=True)
class _Layers:
    """Layers of several objectives (k,), from 0, infeasible designs after all others; `objectives` (k, p), minimized;
    `count` of the layers of feasible designs."""

    layer: NDArray[np.int64]
    objectives: FloatArray
    count: int

    @property
    def told(self) -> list[int | None]:
        """Return the layers from 1, None for designs that miss a limit."""
        return [int(own) + 1 if own < self.count else None for own in self.layer]


def _layers(problem: Problem, evaluations: Sequence[EvaluationRecord], feasibility: float) -> _Layers | None:
    """Return the layers of designs of a problem of several objectives, None for any other."""
    sense = sense_of(problem)
    if sense is None or not evaluations:
        return None
    rows = np.array([np.frombuffer(item.values)[1:] for item in evaluations]).reshape(-1, problem.row_count)
    violations = np.array([item.violation for item in evaluations])
    values = sense.minimized(rows)
    missed = np.where(violations <= feasibility, 0.0, violations)
    layer = domination_layers(values, missed)
    feasible = (missed <= 0.0) & np.isfinite(values).all(axis=1)
    return _Layers(layer, values, int(layer[feasible].max(initial=-1)) + 1)


def _ranks_of(found: _Layers) -> list[int]:
    """Return the ranks: by layer, within a layer the least crowded first."""
    room = np.zeros(len(found.layer))
    for number in range(found.count):
        own = np.flatnonzero(found.layer == number)
        room[own] = crowding(found.objectives[own])
    order = np.lexsort((np.arange(len(room)), -room, found.layer))
    ranks = np.zeros(len(order), dtype=np.int64)
    ranks[order] = np.arange(1, len(order) + 1)
    return [int(rank) for rank in ranks]


def _troubles(
    problem: Problem, ledger: Ledger, record: RunRecord, evaluations: Sequence[EvaluationRecord], points: FloatArray
) -> list[str]:
    """Return what is wrong with each design: a missed limit, or why it has no values, "" for nothing."""
    feasibility = record.settings["feasibility"]
    assert isinstance(feasibility, float)
    calls = recorded_calls(problem, ledger, record)
    found = []
    outside = _outside(problem, ledger, record, points)
    on = "predicted" if problem.aim.on else ""
    for item, point, beyond in zip(evaluations, points, outside, strict=True):
        is_valid = math.isfinite(item.violation) and (problem.objective is None or item.objective is not None)
        if not is_valid:
            found.append(_why_invalid(problem, calls, point))
        else:
            missed = "" if item.violation <= feasibility else "misses a limit"
            found.append("; ".join(part for part in (missed, on, beyond) if part))
    return found


def _outside(problem: Problem, ledger: Ledger, record: RunRecord, points: FloatArray) -> list[str]:
    """Return for each design which inputs of approximations lie outside what was learnt, "" for none."""
    found = [list[str]() for _ in points]
    for item in problem.template.learnt if len(points) else ():
        columns = np.array(_computed(problem, ledger, record, points, item.nodes)).T
        for names, row in zip(found, columns, strict=True):
            names += [place.name for place, _ in item.group.outside(row)]
    return [f"outside what was learnt: {', '.join(names)}" if names else "" for names in found]


def _why_invalid(problem: Problem, calls: Sequence[Calls], point: FloatArray) -> str:
    """Return why a design has no values: what a model's record says, else where a formula leaves its domain."""
    for own in calls:
        own.forget()
        own.failures, own.first_failure = 0, ""
    nodes = [block.node for block in problem.row_blocks]
    nodes += [] if problem.objective is None else [problem.objective.node]
    try:
        seen = problem.entry_values(nodes, point, calls)
    except NotOnRecord:
        return "invalid: a call of a model is not on record"
    failed = next((own.first_failure for own in calls if own.first_failure), "")
    if failed:
        return failed
    trouble = next((item for item in seen.troubles if item is not None), None)
    return "invalid" if trouble is None else f"invalid{trouble_clause(trouble)}"


def recorded_calls(problem: Problem, ledger: Ledger, record: RunRecord) -> tuple[Calls, ...]:
    """Return calls that are answered from the record alone."""
    calls = problem.calls() if problem.sources else ()
    for own in calls:
        own.shelf, own.is_closed = RunShelf(ledger, record.number, problem, is_fresh=False), True
    return calls


def _values(
    problem: Problem,
    ledger: Ledger,
    record: RunRecord,
    evaluations: Sequence[EvaluationRecord],
    points: FloatArray,
    conditions: Sequence[Condition],
) -> tuple[dict[str, FloatArray], NDArray[np.bool_]]:
    """Return {name: (k, …)} of all values, and which designs meet the conditions."""
    names = [item.name for item in problem.derived] + [name for name, _ in problem.outputs]
    nodes = [node_of(problem, name) for name in names] + [side for c in conditions for side in c.sides]
    wanted = [node for node in nodes if node is not None]
    found = _computed(problem, ledger, record, points, wanted)
    values = {name: found[place] for place, name in enumerate(names)}
    rows = np.array([np.frombuffer(item.values)[1:] for item in evaluations]).reshape(len(points), problem.row_count)
    if problem.objective is not None:
        values[problem.objective.name] = np.array(
            [math.nan if item.objective is None else item.objective for item in evaluations]
        )
    for block in problem.row_blocks:
        own = rows[:, block.first : block.first + block.size]
        values[block.name] = own if block.shape else own[:, 0]
    kept = np.ones(len(points), dtype=bool)
    at = len(names)
    for condition in conditions:
        sides = found[at : at + len(condition.sides)]
        at += len(condition.sides)
        for operator, left, right in zip(condition.operators, sides, sides[1:], strict=False):
            kept &= {"<=": left <= right, ">=": left >= right, "==": left == right}[operator]
    return values, kept


def _computed(
    problem: Problem, ledger: Ledger, record: RunRecord, points: FloatArray, nodes: Sequence[int]
) -> list[FloatArray]:
    """Return the values (k,) or (k, size) of nodes at designs, NaN where a model's call is not on record."""
    shapes = [problem.graph.shape(node) for node in nodes]
    if not problem.sources:
        gate = Gate(problem)
        flat = gate.written.node_batch(nodes, points)
        return [value if shape else value[:, 0] for value, shape in zip(flat, shapes, strict=True)]
    calls = recorded_calls(problem, ledger, record)
    sizes = [math.prod(shape) for shape in shapes]
    found = [np.full((len(points), size), np.nan) for size in sizes]
    for place, point in enumerate(points):
        try:
            seen = problem.entry_values(nodes, point, calls).values
        except NotOnRecord:
            continue
        for column, value in zip(found, seen, strict=True):
            column[place] = np.where(np.isfinite(value), value, np.nan).ravel()
    return [value if shape else value[:, 0] for value, shape in zip(found, shapes, strict=True)]


def held_by(table: DesignTable, places: Sequence[int]) -> list[tuple[str, ...]]:
    """Return for each of some designs of a table the names of the constraints and variables whose limits hold it."""
    problem = table.problem
    measures = Measures.of(problem)
    found = []
    for place in places:
        names: list[str] = []
        for block in problem.row_blocks:
            if block.is_objective:
                continue
            own = np.ravel(table.values[block.name][place])
            sizes = measures.row_sizes[block.first : block.first + block.size]
            if ((own - block.lower <= HELD * sizes) | (block.upper - own <= HELD * sizes)).any():
                names.append(block.name)
        point = np.array(table.designs[place].point)
        room = HELD * measures.bound_sizes(point)
        at = (point - measures.lower <= room) | (measures.upper - point <= room)
        at &= measures.lower < measures.upper
        names += [block.name for block in problem.blocks if at[block.first : block.first + block.size].any()]
        found.append(tuple(names))
    return found


def node_values(ledger: Ledger, table: DesignTable, nodes: Sequence[int]) -> list[FloatArray]:
    """Return the values (k,) or (k, size) of nodes of the problem's graph at a table's designs, NaN where unknown."""
    found = [list[FloatArray]() for _ in nodes]
    runs = [design.address.partition(":")[0] for design in table.designs]
    points = np.array([design.point for design in table.designs])
    order = list[int]()
    for run in dict.fromkeys(runs):
        places = [place for place, own in enumerate(runs) if own == run]
        order += places
        values = _computed(table.problem, ledger, ledger.run(run), points[places], nodes)
        for column, own in zip(found, values, strict=True):
            column.append(own)
    back = np.argsort(order)
    return [np.concatenate(column)[back] for column in found]


def _shaped(problem: Problem, name: str, value: Any) -> Any:
    node = node_of(problem, name)
    return value if np.ndim(value) == 0 or node is None else np.reshape(value, problem.graph.shape(node))
