"""What programs give at the baseline: every value with the place it was found at, how exactly it comes back, and what
steps of differences its digits and those of the decks allow."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import ProblemError, RequestError, nearest
from ilvren.judge.checking.finding import Finding
from ilvren.models import Calls, Outcome, ProgramSource, Question, choose_steps
from ilvren.problem import Problem, element_name
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.evaluate import Gate
    from ilvren.models.program import Found, ProgramCall

__all__ = ["InputLine", "ProgramCheck", "ValueLine", "check_programs", "expected_findings", "programs_of"]

FloatArray = NDArray[np.float64]

# A deck whose last place is more than this share of a variable's size is coarse, and said to be.
COARSE = 1e-3
# Slopes that are read may differ from differences by this share of the largest, beyond what the differences leave open.
SLOPE_AGREEMENT = 2e-2


@dataclass(frozen=True)
class ValueLine:
    """A value of a program at the baseline: `value` (its shape), and where its first number stood: `place` is
    "listing.txt:24", `text` the line and [first, last) the number's characters in it. `again` is the largest relative
    difference when the same deck was run a second time."""

    name: str
    value: Any
    unit: str
    place: str
    text: str
    first: int
    last: int
    again: float


@dataclass(frozen=True)
class InputLine:
    """An element of an input: its `value`, the value `written` in the decks and their `resolution` (0: all digits,
    infinite: not in them), and the `step` of its differences (None where there are none)."""

    name: str
    value: float
    written: float
    resolution: float
    step: float | None


@dataclass(frozen=True)
class ProgramCheck:
    """One program at the baseline; `noise` of its values (relative) and about what share of a derivative stays open
    (`accuracy`), both None where no derivatives are asked for."""

    model: str
    told: str
    seconds: float
    values: tuple[ValueLine, ...]
    inputs: tuple[InputLine, ...]
    noise: float | None
    accuracy: float | None

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        return {
            "model": self.model,
            "command": self.told,
            "seconds": round(self.seconds, 6),
            "values": [
                {
                    "name": line.name,
                    "value": line.value,
                    "unit": line.unit,
                    "place": line.place,
                    "line": line.text,
                    "characters": [line.first + 1, line.last] if line.last else None,
                    "difference_again": line.again,
                }
                for line in self.values
            ],
            "inputs": [
                {
                    "name": line.name,
                    "value": line.value,
                    "written": line.written,
                    "resolution": None if math.isinf(line.resolution) else line.resolution,
                    "step": line.step,
                }
                for line in self.inputs
            ],
            "noise": self.noise,
            "accuracy": self.accuracy,
        }


def programs_of(problem: Problem) -> list[ProgramSource]:
    """Return the models that are programs."""
    return [source for source in problem.sources if isinstance(source, ProgramSource)]


def check_programs(problem: Problem, gate: Gate) -> tuple[list[ProgramCheck], list[Finding]]:
    """Run each program twice at the start, in order, and find its steps of differences. Raises ProblemError where a
    value cannot be read or a program fails there."""
    checks, findings = list[ProgramCheck](), list[Finding]()
    nodes = {node.index: node.operands for node in problem.graph.nodes if node.operation == "call"}
    for place, calls in enumerate(gate.calls):
        source = calls.source
        if not isinstance(source, ProgramSource):
            continue
        calls.ready()
        seen = problem.entry_values(list(nodes[place]), problem.start, gate.calls).values
        inputs = [
            np.broadcast_to(np.asarray(v, float), shape) for v, (_, shape) in zip(seen, source.inputs, strict=True)
        ]
        call = _called(problem, source, inputs)
        calls.learn(Question("values", tuple(inputs)), _outcome(source, call))
        again = source.called(inputs)
        lines = tuple(_value_line(problem, source, name, call, again) for name, _ in source.outputs)
        findings += _repeat_findings(source, lines, again)
        outputs = [call.found[name].value for name, _ in source.outputs]
        steps = None
        if len(problem.continuous_places) and not source.can_supply:
            steps = choose_steps(calls, inputs, outputs)
        if source.can_supply:
            findings += _slope_findings(calls, inputs, outputs)
        own = _input_lines(source, inputs, steps)
        findings += _coarse_findings(problem, source, own)
        checks.append(
            ProgramCheck(
                source.name,
                source.told,
                call.seconds,
                lines,
                own,
                None if steps is None else steps.noise,
                None if steps is None else steps.accuracy,
            )
        )
    return checks, findings


def _called(problem: Problem, source: ProgramSource, inputs: Sequence[FloatArray]) -> ProgramCall:
    call = source.called(inputs)
    if call.status != "done":
        file, line = source.place
        raise ProblemError(call.trouble, file=file, line=line, where=f"models.{source.name}")
    return call


def _outcome(source: ProgramSource, call: ProgramCall) -> Outcome:
    answer = [call.found[name].value for name, _ in source.outputs]
    if source.can_supply:
        answer.append(source.jacobian_of(call.found))
    return Outcome("done", answer, "", call.seconds)


def _value_line(problem: Problem, source: ProgramSource, name: str, call: ProgramCall, again: ProgramCall) -> ValueLine:
    found: Found = call.found[name]
    other = again.found.get(name)
    off = math.nan
    if other is not None:
        size = np.abs(found.value).max(initial=0.0) or 1.0
        off = float(np.abs(other.value - found.value).max(initial=0.0) / size)
    unit = problem.quantity_units.get(f"{source.name}.{name}", "")
    return ValueLine(
        f"{source.name}.{name}", found.value.tolist(), unit, found.place, found.text, found.first, found.last, off
    )


def _repeat_findings(source: ProgramSource, lines: Sequence[ValueLine], again: ProgramCall) -> list[Finding]:
    if again.status != "done":
        text = f'the same deck failed when it was run again: {again.trouble}; see "retries" and "repeatable"'
        return [Finding("note", (source.name,), text)]
    found = []
    for line in lines:
        if line.again > 0.0 and source.is_repeatable:
            text = (
                f"{line.name} differs by {line.again:.1e} when the same deck is run again: repeatable = false says so"
            )
            found.append(Finding("note", (source.name,), text))
    return found


def _slope_findings(calls: Calls, inputs: Sequence[FloatArray], outputs: Sequence[FloatArray]) -> list[Finding]:
    """Compare slopes that are read with differences of the same program."""
    source = calls.source
    own = Calls(source.with_derivatives("differences"))
    steps = choose_steps(own, inputs, outputs)
    from ilvren.models import jacobian

    there = np.asarray(jacobian(own, inputs, outputs))
    here = np.asarray(calls.jacobian_at(np.concatenate([np.ravel(value) for value in inputs])))
    names = [element_name(n, s, k) for n, s in source.outputs for k in range(math.prod(s))]
    by = [element_name(n, s, k) for n, s in source.inputs for k in range(math.prod(s))]
    flat = np.concatenate([np.ravel(value) for value in inputs])
    sizes = np.where(flat != 0.0, np.abs(flat), 1.0)
    with np.errstate(invalid="ignore"):
        largest = np.nanmax(np.abs(there) * sizes, axis=1, initial=0.0)
        off = np.abs(here - there) * sizes
        is_wrong = off > (SLOPE_AGREEMENT + 3.0 * steps.accuracy) * largest[:, np.newaxis]
    found = []
    for row, column in zip(*np.nonzero(is_wrong), strict=True):
        text = (
            f"the slope of {source.name}.{names[row]} by {by[column]} is read as {here[row, column]:.6g},"
            f" by differences it is {there[row, column]:.6g}"
        )
        found.append(Finding("slopes", (source.name, names[row], by[column]), text))
    return found


def _input_lines(source: ProgramSource, inputs: Sequence[FloatArray], steps: Any) -> tuple[InputLine, ...]:
    flat = np.concatenate([np.ravel(value) for value in inputs]) if inputs else np.zeros(0)
    names = [element_name(n, s, k) for n, s in source.inputs for k in range(math.prod(s))]
    moved = [n not in source.still for n, s in source.inputs for _ in range(math.prod(s))]
    places = [place for place, moves in enumerate(moved) if moves]
    shown = source.shown(inputs, places)
    lengths = None if steps is None else steps.lengths(flat)
    return tuple(
        InputLine(
            names[place],
            float(flat[place]),
            float(written),
            float(resolution),
            None if lengths is None or math.isinf(resolution) else float(lengths[place]),
        )
        for place, (written, resolution) in zip(places, shown, strict=True)
    )


def _coarse_findings(problem: Problem, source: ProgramSource, lines: Sequence[InputLine]) -> list[Finding]:
    found = []
    sizes = {variable.name: variable for variable in problem.variables}
    for line in lines:
        variable = sizes.get(line.name)
        size = abs(line.value)
        if variable is not None and math.isfinite(variable.upper - variable.lower):
            size = variable.upper - variable.lower
        is_grid = variable is not None and line.name in {problem.variables[place].name for place, _ in problem.grid}
        if math.isfinite(line.resolution) and line.resolution > COARSE * size > 0.0 and not is_grid:
            text = (
                f"the decks of {source.name} show {line.name} in steps of {line.resolution:.2g}, which is"
                f" {line.resolution / size:.1%} of its range: write it with more digits there"
            )
            found.append(Finding("note", (source.name, line.name), text))
    return found


def expected_findings(problem: Problem, gate: Gate, expected: Mapping[str, Any]) -> list[Finding]:
    """Compare values at the start with those expected, to the digits that these are given with ("12.4" means from 12.35
    to 12.45). Raises RequestError for an unknown name."""
    if not expected:
        return []
    values = problem.quantities(problem.start, gate.calls)
    values |= {name: value for name, (value, _) in problem.named_values(problem.start, gate.calls).items()}
    short: dict[str, list[str]] = {}
    for name in values:
        short.setdefault(name.rpartition(".")[2], []).append(name)
    found = []
    for given, text in expected.items():
        names = [given] if given in values else short.get(given, [])
        if len(names) != 1:
            close = nearest(given, [*values, *short])
            advice = f'did you mean "{close}"?' if close else "values: " + ", ".join(values)
            what = f'several models have "{given}": ' + ", ".join(names) if names else f'there is no value "{given}"'
            raise RequestError(f"--expect {given}=…: {what}", advice=advice)
        own = np.ravel(np.asarray(values[names[0]], dtype=float))
        wanted = [text] if not isinstance(text, list) else text
        if len(wanted) != len(own):
            raise RequestError(f"--expect {given}=…: {len(wanted)} values are given, it has {len(own)}")
        for place, (value, one) in enumerate(zip(own.tolist(), wanted, strict=True)):
            if not abs(value - float(one)) <= _half_place(str(one)):
                label = names[0] if len(own) == 1 else f"{names[0]}[{place}]"
                found.append(Finding("unexpected", (names[0],), f"{label} is {value:.9g}, {one} is expected"))
    return found


def _half_place(text: str) -> float:
    """Return half of the last place that a number is written with."""
    from decimal import Decimal

    exponent = Decimal(text).as_tuple().exponent
    return 0.5000001 * 10.0**exponent if isinstance(exponent, int) else 0.0
