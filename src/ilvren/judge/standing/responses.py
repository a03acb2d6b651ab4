"""How designs behave over time: their signals, what is measured of them and where, and the limits on them."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError, nearest
from ilvren.evaluate import Gate
from ilvren.formula import Name, parse_limits
from ilvren.problem import Measures, Problem, highest_near
from ilvren.records import dataclass
from ilvren.runs import TimeReport, finely_measured, plain, plain_values, time_report, told_by_block

__all__ = ["LimitCurve", "Mark", "Response", "limit_curves", "measured_at", "response_at", "signal_names", "tightest"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Mark:
    """A measure of a signal: the entry it stands in, the function, its value (NaN where invalid), the levels it is
    taken against, and the times it is about: of the extreme, between which it rises, from which on it is settled."""

    entry: str
    function: str
    signal: str
    value: float
    levels: tuple[float, ...]
    times: tuple[float, ...]

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        return {
            "entry": self.entry,
            "function": self.function,
            "signal": self.signal,
            "value": plain(self.value),
            "times": [plain(time) for time in self.times],
        }


@dataclass(frozen=True, kw_only=True)
class Response:
    """One design over time. `signals` {name: values over the moments of its axis}; `times` {name: the times of these};
    `trouble` says why it could not be simulated."""

    label: str
    problem: Problem
    point: FloatArray
    signals: Mapping[str, FloatArray]
    times: Mapping[str, FloatArray]
    marks: tuple[Mark, ...]
    values: Mapping[str, Any]
    violation: float
    report: TimeReport | None
    trouble: str = ""
    is_past: bool = field(default=False, compare=False)

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        return {
            "design": self.label,
            "variables": told_by_block(
                [block for block in self.problem.blocks if not block.is_grid], [plain(v) for v in self.point.tolist()]
            ),
            "signals": {name: plain_values(value) for name, value in self.signals.items()},
            "values": {name: plain_values(value) for name, value in self.values.items()},
            "measures": [mark.to_dict() for mark in self.marks],
            "violation": plain(self.violation),
            "time_error": None if self.report is None else self.report.to_dict(),
            "trouble": self.trouble or None,
        }


def response_at(
    problem: Problem,
    point: Sequence[float] | FloatArray,
    label: str,
    calls: Sequence[Any] = (),
    *,
    is_past: bool = False,
) -> Response:
    """Return how a full design behaves over time. Raises RequestError for a problem without [time]."""
    if not problem.is_over_time:
        raise RequestError(f"{problem.source.file} has nothing that evolves over time: no [time] and [states]")
    design = np.asarray(point, dtype=float)
    problem = problem if is_past else finely_measured(problem, design, calls)
    gate = Gate(problem, calls=calls or None)
    signals: dict[str, FloatArray] = {}
    times: dict[str, FloatArray] = {}
    for axis, own in zip(problem.template.built_axes, problem.signals(design, gate.calls), strict=True):
        signals |= own
        times |= dict.fromkeys(own, own[axis.t_name])
    if is_past:  # its line is all that is wanted
        trouble = "" if all(np.isfinite(value).all() for value in signals.values()) else "invalid"
        return Response(
            label=label,
            problem=problem,
            point=design,
            signals=signals,
            times=times,
            marks=(),
            values={},
            violation=math.nan,
            report=None,
            trouble=trouble,
            is_past=is_past,
        )
    evaluation = gate.evaluate(design)
    measures = Measures.of(problem)
    violation = measures.violation(design, evaluation.rows) if evaluation.is_finite else math.inf
    values = problem.quantities(design, gate.calls)
    if problem.objective is not None:
        values = {problem.objective.name: problem.objective.sign * evaluation.objective, **values}
    trouble = ""
    simulations = problem.bound_simulations(gate.calls)
    for simulation, inputs in zip(simulations, problem.simulation_inputs(design, gate.calls), strict=True):
        trouble = trouble or simulation.point(inputs).reason
    return Response(
        label=label,
        problem=problem,
        point=design,
        signals=signals,
        times=times,
        marks=measured_at(problem, design, signals, times, gate.calls),
        values=values,
        violation=violation,
        report=time_report(problem, design, gate.calls),
        trouble=trouble,
        is_past=is_past,
    )


def measured_at(
    problem: Problem,
    point: FloatArray,
    signals: Mapping[str, FloatArray],
    times: Mapping[str, FloatArray],
    calls: Sequence[Any] = (),
) -> tuple[Mark, ...]:
    """Return what the file measures of its signals, and where. Shapes: point (n,), signals and times (moments,)
    each."""
    found = []
    for item in problem.template.measured:
        if item.signal not in signals:
            continue
        nodes = [item.node, item.node if item.begins is None else item.begins, *item.levels]
        value, begins, *levels = (float(v) for v in problem.entry_values(nodes, point, calls).values)
        t, s = times[item.signal], signals[item.signal]
        where = _where(item.function, levels, value, begins, t, s)
        found.append(Mark(item.entry, item.function, item.signal, value, tuple(levels), where))
    return tuple(found)


def _where(
    function: str, levels: Sequence[float], value: float, begins: float, t: FloatArray, s: FloatArray
) -> tuple[float, ...]:
    if not np.isfinite(s).all() or not math.isfinite(value):
        return ()
    match function:
        case "highest":
            return (highest_near(t, s, int(np.argmax(s)))[0],)
        case "lowest":
            return (highest_near(t, -s, int(np.argmin(s)))[0],)
        case "overshoot":
            beyond = (s - levels[0]) * np.sign(levels[0] - s[0] or 1.0)
            return (highest_near(t, beyond, int(np.argmax(beyond)))[0],) if value > 0.0 else ()
        case "rise_time":
            begin = float(t[0]) + begins
            return (begin, begin + value) if value <= t[-1] - t[0] else ()
    return (float(t[0]) + value,) if value <= t[-1] - t[0] else ()


@dataclass(frozen=True)
class LimitCurve:
    """A limit on a signal: its curve over time, from which side it holds, and the constraint."""

    entry: str
    signal: str
    times: FloatArray
    values: FloatArray
    is_upper: bool


def limit_curves(response: Response) -> list[LimitCurve]:
    """Return the limits on signals themselves: at every moment, on a highest or lowest value, on an overshoot, within a
    band from some time on; not those on formulas of several."""
    problem, found = response.problem, list[LimitCurve]()
    for unknowns in problem.blocks:
        name = unknowns.name.removesuffix("@grid")
        if not unknowns.is_grid or unknowns.times is None or len(unknowns.shape) > 1 or name not in response.signals:
            continue
        begin = int(unknowns.lower[0] == unknowns.upper[0])  # a first value that is held
        for values, is_upper in ((unknowns.lower, False), (unknowns.upper, True)):
            if np.isfinite(values[begin:]).any():
                own = np.where(np.isfinite(values[begin:]), values[begin:], np.nan)
                found.append(LimitCurve(name, name, np.array(unknowns.times)[begin:], own, is_upper))
    measured = {(item.entry, item.function): item for item in problem.template.measured}
    for block in problem.row_blocks:
        if block.times is None or len(block.shape) > 1 or block.is_grid:
            continue
        t, low, high = np.array(block.times), block.lower, block.upper
        function = next((f for e, f in measured if e == block.entry), "") if block.measure is not None else ""
        signal, shift, scale = "", 0.0, 1.0
        if function:
            item = measured[block.entry, function]
            signal = item.signal
            mark = next((m for m in response.marks if m.entry == block.entry and m.function == function), None)
            if mark is None or signal not in response.signals:
                continue
            if function == "overshoot":
                target = mark.levels[0]
                shift, scale = target, target - float(response.signals[signal][0])
            elif function == "settling_time":
                shift = mark.levels[0]
        else:
            sides = [side for side in parse_limits(block.text).sides if isinstance(side, Name)]
            names = [side.name for side in sides if side.name in response.signals]
            names = [name for name in names if name not in {axis.t_name for axis in problem.template.built_axes}]
            case = next(
                (
                    axis.suffix
                    for axis in problem.template.built_axes
                    if axis.suffix and block.name.endswith(axis.suffix)
                ),
                "",
            )
            if not names:
                names = [side.name + case for side in sides if side.name + case in response.signals]
            if len(names) != 1 or ".low" in block.name or ".high" in block.name:
                continue
            signal = names[0]
        for values, is_upper in ((low, False), (high, True)):
            if np.isfinite(values).any():
                own = shift + scale * np.where(np.isfinite(values), values, np.nan)
                found.append(LimitCurve(block.entry, signal, t, own, is_upper == (scale > 0.0)))
    return found


def tightest(curve: LimitCurve, response: Response) -> tuple[float, float, float]:
    """Return (time, value of the signal, room left) where a design comes closest to a limit, of the moments that the
    limit has rows at; a negative room is a miss. NaN without such moments."""
    values = np.interp(curve.times, response.times[curve.signal], response.signals[curve.signal])
    room = curve.values - values if curve.is_upper else values - curve.values
    if not np.isfinite(room).any():
        return math.nan, math.nan, math.nan
    place = int(np.nanargmin(room))
    return float(curve.times[place]), float(values[place]), float(room[place])


def signal_names(problem: Problem, given: str | None) -> list[str]:
    """Return the names over time that are asked for, else all but the time itself. Raises RequestError."""
    own = {axis.t_name for axis in problem.template.built_axes}
    known = [name for told in problem.template.told_over_time for name, *_ in told if name not in own]
    if given is None:
        return known
    names = [word.strip() for word in given.split(",") if word.strip()]
    for name in names:
        if name not in known:
            close = nearest(name, known)
            advice = f'did you mean "{close}"?' if close else "what changes over time: " + ", ".join(known[:12])
            raise RequestError(f'--signals {given}: nothing over time is named "{name}"', advice=advice)
    if not names:
        raise RequestError("--signals names what to show", advice="for example --signals " + ",".join(known[:2]))
    return names
