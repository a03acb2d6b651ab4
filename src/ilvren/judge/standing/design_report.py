"""How a problem stands at one design: every value, limit and finding, nothing being run."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import field
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError, nearest
from ilvren.evaluate import Evaluation, Gate
from ilvren.formula import Trouble, shape_text
from ilvren.judge.standing.pattern import Pattern, pattern_of
from ilvren.problem import Measures, Problem, names_told, word_number
from ilvren.records import dataclass
from ilvren.runs import (
    SMOOTH,
    LimitState,
    LimitStates,
    TimeReport,
    functions_of,
    limit_states,
    missed_between,
    plain,
    plain_values,
    smooth_at,
    time_report,
    told_by_block,
    tolerance_of,
    trouble_clause,
)

if TYPE_CHECKING:
    from ilvren.models import Calls

__all__ = ["DesignReport", "design_report_at", "few", "order_of", "point_at", "trouble_sentence"]

FEASIBILITY = 1e-6
# Formulas of more operations are looked at, not compiled, for one design.
MANY_NODES = 5000
# More elements of one entry than this are counted, not named.
MOST_NAMED = 4


@dataclass(frozen=True, kw_only=True)
class DesignReport:
    """`values` of all derived values, the objective (as written) and rows by name; `notes` one word a row;
    `findings` are sentences on what deserves a look before a run."""

    problem: Problem
    is_elsewhere: bool
    values: Mapping[str, Any]
    bounds: LimitStates
    constraints: LimitStates
    violation: float
    notes: tuple[str, ...]
    findings: tuple[str, ...]
    pattern: Pattern | None = None
    calls: tuple[Calls, ...] = ()
    quantities: Mapping[str, Any] = field(default_factory=dict)
    signals: Sequence[Mapping[str, Any]] = ()
    time: TimeReport | None = None

    def to_dict(self) -> dict[str, object]:
        """Return the JSON document of `show`."""
        problem = self.problem
        return {
            "problem": problem.title or problem.source.file,
            "variables": told_by_block(
                [block for block in problem.blocks if not block.is_grid],
                [plain(value) for value in self.bounds.value.tolist()],
            ),
            "parameters": {
                parameter.name: plain_values(parameter.value)
                for parameter in problem.parameters
                if not parameter.is_data
            },
            "derived": {name: plain_values(value) for name, value in self.quantities.items()},
            "objectives": {item.name: plain(self.values[item.name]) for item in problem.objectives},
            "bounds": self.bounds.document(),
            "constraints": self.constraints.document(),
            **self._over_time(),
            "violation": plain(self.violation),
            "unused": unused_names(problem),
            "models": [model_facts(calls) for calls in self.calls],
            "order": order_of(problem),
            "pattern": None if self.pattern is None else self.pattern.to_dict(),
            "findings": list(self.findings),
        }

    def _over_time(self) -> dict[str, object]:
        if not self.problem.is_over_time:
            return {}
        told = [item for axis in self.problem.template.built_axes for item in names_told(axis)]
        return {
            "time_error": None if self.time is None else self.time.to_dict(),
            "over_time": {item.name: {"kind": item.kind, "unit": item.unit, "uses": list(item.uses)} for item in told},
            "signals": {name: plain_values(value) for own in self.signals for name, value in own.items()},
        }


def point_at(problem: Problem, at: Mapping[str, Any], flag: str = "--at") -> tuple[float, ...]:
    """Return the start with the values of `at` in place: whole variables ("level"), one number serving all elements,
    words of choices, or single elements ("level[3]"). Raises RequestError for an unknown name or a value that does not
    fit."""
    point = np.array(problem.start)
    blocks = {block.name: block for block in problem.blocks}
    elements: dict[str, int] | None = None
    for name, value in at.items():
        if isinstance(value, str):
            own = blocks.get(name)
            value = word_number(f"{flag} {name}", value, own.choices if own else (), own.words if own else ())
        given = np.asarray(value, dtype=float)
        if not np.isfinite(given).all():
            raise RequestError(f"{flag} {name}={value}: a finite number is expected")
        if name in blocks:
            block = blocks[name]
            if given.shape not in ((), block.shape):
                one, other = shape_text(given.shape), shape_text(block.shape)
                raise RequestError(f"{flag} {name}=…: has {one}, the variable {other}")
            point[block.first : block.first + block.size] = np.broadcast_to(given, block.shape).ravel()
            continue
        if elements is None:
            elements = {variable.name: place for place, variable in enumerate(problem.variables)}
        if name not in elements or given.shape:
            close = nearest(name, blocks)
            raise RequestError(
                f'{flag} {name}=…: the file has no variable "{name}"',
                advice=f'did you mean "{close}"?' if close else "its variables: " + ", ".join(list(blocks)[:12]),
            )
        point[elements[name]] = float(given)
    return tuple(point.tolist())


def design_report_at(
    problem: Problem,
    at: Mapping[str, Any] | None = None,
    *,
    with_pattern: bool = False,
    calls: Sequence[Calls] | None = None,
) -> DesignReport:
    """Return how the problem stands at its start, or with the values of `at` in place; with the patterns of its
    derivatives when asked for."""
    point = point_at(problem, at or {})
    is_smooth = problem.is_about_scatter and bool(functions_of(problem) & SMOOTH)
    if is_smooth and not problem.sources:
        problem, is_smooth = smooth_at(problem, np.array(point)), False  # what is told is counted
    measures = Measures.of(problem)
    gate = Gate(problem, calls=calls)
    named = problem.named_values(point, gate.calls)
    is_seen = len(problem.graph.nodes) > MANY_NODES and not gate.calls and not problem.simulations
    evaluation = _evaluated(problem, named) if is_seen else gate.evaluate(np.array(point))
    bounds, rows = limit_states(problem, measures, np.array(point), evaluation, None, feasibility=FEASIBILITY)
    findings = [trouble_sentence(name, trouble) for name, (_, trouble) in named.items() if trouble is not None]
    findings += _off_grid(problem, point)
    notes = tuple(state.word(FEASIBILITY) for state in rows)
    missed = _by_block(problem, bounds, rows, lambda state: state.violation > FEASIBILITY)
    if missed:
        findings.append("missed here: " + few(missed))
    active = _by_block(
        problem,
        bounds,
        rows,
        lambda state: bool(state.side) and state.violation <= FEASIBILITY and not _is_fixed(state),
    )
    if active:
        findings.append("active here: " + few(active))
    unused = unused_names(problem)
    if unused:
        findings.append("nothing depends on: " + few(unused) + " (left out of runs)")
    for table in problem.template.tables.values() if problem.template is not None else ():
        if table.left_out:
            lines = f"{table.left_out} line" + ("s" if table.left_out > 1 else "")
            findings.append(f"{table.declaration.file}: {lines} with a missing value left out, {len(table.lines)} used")
    idle = unused_parameters(problem)
    if idle:
        findings.append("no formula uses the parameter" + ("s " if len(idle) > 1 else " ") + few(idle))
    for block in problem.row_blocks:
        if not problem.graph.variables_of([block.node]):
            findings.append(f'constraint "{block.name}" depends on no variable')
    findings += [note for calls in gate.calls for note in calls.notes]
    if is_smooth:
        findings.append("quantiles and chances are smooth here, chances from inside; what a run reports is counted")
    between = _measured_between(problem, np.array(point), gate.calls)
    findings += [between] if between else []
    objective = problem.objective
    if objective is not None and problem.seeks_feasible:
        findings.append(f'objective "{objective.name}" is constant: a run looks for any feasible design')
    return DesignReport(
        problem=problem,
        is_elsewhere=point != problem.baseline,
        values={name: value for name, (value, _) in named.items()},
        bounds=bounds,
        constraints=rows,
        violation=measures.violation(np.array(point), evaluation.rows),
        notes=notes,
        findings=tuple(findings),
        pattern=pattern_of(gate) if with_pattern else None,
        calls=gate.calls,
        quantities=problem.quantities(point, gate.calls),
        signals=problem.signals(point, gate.calls),
        time=time_report(problem, np.array(point), gate.calls),
    )


def _measured_between(problem: Problem, point: NDArray[np.float64], calls: Sequence[Calls]) -> str:
    """Return what is measured over time by too few moments, "" where nothing is."""
    if problem.is_collocated or problem.template is None or not problem.template.measures:
        return ""
    missed = missed_between(problem, point, calls)
    if not missed.change > tolerance_of(problem):
        return ""
    return f"{missed.otherwise} (a run adds moments by itself)" if np.isfinite(missed.between) else missed.otherwise


def _evaluated(problem: Problem, named: Mapping[str, tuple[Any, Trouble | None]]) -> Evaluation:
    """Return the values at a design from those of its entries: compiling very many operations for one design would take
    longer than looking at it."""
    objective = problem.objective
    value = 0.0 if objective is None else objective.sign * float(named[objective.name][0])
    rows = [np.ravel(np.asarray(named[block.name][0], dtype=float)) for block in problem.row_blocks]
    return Evaluation(value, np.concatenate(rows) if rows else np.zeros(0))


def _by_block(
    problem: Problem,
    bounds: Sequence[LimitState],
    rows: Sequence[LimitState],
    holds: Callable[[LimitState], bool],
) -> list[str]:
    """Return the names of bounds and rows for which something holds; of long vectors how many elements."""
    found: list[str] = []
    for blocks, states in ((problem.row_blocks, rows), (problem.blocks, bounds)):
        for block in blocks:
            own = [state.name for state in states[block.first : block.first + block.size] if holds(state)]
            found += own if len(own) <= MOST_NAMED else [f"{block.name} ({len(own)} of {block.size})"]
    return found


def few(names: Sequence[str], most: int = 8) -> str:
    """Return names for a sentence, the first few of many."""
    return ", ".join(names[:most]) + (f" and {len(names) - most} more" if len(names) > most else "")


def unused_names(problem: Problem) -> list[str]:
    """Return the variables that nothing depends on: whole ones by their name, else the elements."""
    found: list[str] = []
    for block in problem.blocks:
        if not block.is_used.any():
            found.append(block.name)
        elif not block.is_used.all():
            found += [element.name for element in block if not element.is_used]
    return found


def unused_parameters(problem: Problem) -> list[str]:
    """Return the parameters that nothing in the file names."""
    template = problem.template
    if template is None or template.declarations.models:  # decks of programs name what they are given
        return []
    scattered = {item.name for item in template.declarations.scatter} if template.declarations.scatter else set()
    used = template.used_names | scattered
    names = [item.name.partition("@")[0] for item in problem.parameters if not (item.is_data or item.is_internal)]
    return list(dict.fromkeys(name for name in names if name not in used))


def order_of(problem: Problem) -> list[str]:
    """Return the derived values and models in the order in which they are computed."""
    named = {item.name for item in problem.derived} | {source.name for source in problem.sources}
    return [name for name in problem.order if name in named]


def model_facts(calls: Calls) -> dict[str, object]:
    """Return what a listing says of a model."""
    source = calls.source
    return {
        "name": source.name,
        "python": source.told,
        "inputs": {name: list(shape) for name, shape in source.inputs},
        "outputs": {name: list(shape) for name, shape in source.outputs},
        "derivatives": source.derivatives,
        "calls": calls.calls,
        "seconds": round(calls.seconds, 6),
    }


def _is_fixed(state: LimitState) -> bool:
    return state.lower == state.upper


def _off_grid(problem: Problem, point: tuple[float, ...]) -> list[str]:
    return [
        f"{variable.name} = {value:.10g} is not one of its {variable.kind} values;"
        f" the nearest is {variable.member(value):.10g}"
        for place, variable in problem.grid
        for value in point[place : place + 1]
        if variable.lower <= value <= variable.upper and not variable.allows(value)
    ]


def trouble_sentence(name: str, trouble: Trouble) -> str:
    """Return one sentence on a value that is not finite: which, where in which formula, why."""
    return f"{name} has no finite value{trouble_clause(trouble)}"
