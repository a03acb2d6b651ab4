"""The grid of moments at which what evolves over time is looked at, in shares of the time."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.problem.time_declarations import MOST_STEPS
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.problem.one_moment import OneMoment

__all__ = ["SAME", "TimeGrid", "has_same_moments", "knots", "time_grid"]

FloatArray = NDArray[np.float64]

# Moments nearer than this share of the time are one.
SAME = 1e-9


@dataclass(frozen=True)
class TimeGrid:
    """Shares of the time: of the grid (moments,), those every grid has, and those at which a control or a sample
    jumps."""

    taus: FloatArray
    required: FloatArray
    jumps: FloatArray


def time_grid(moment: OneMoment, fixed: Sequence[tuple[float, ...]], default_steps: int) -> TimeGrid:
    """Choose the moments at which what is over time is looked at: `fixed` are shares that formulas ask for. Raises
    ProblemError."""
    time = moment.time
    ends, jumps = _ends_of_pieces(moment)
    asked, told = _asked_moments(moment, default_steps), [*ends, *_known_moments(moment, fixed, jumps)]
    own = [np.array([0.0, 1.0]), np.array(time.more)]
    required = [own[0], *told] if moment.horizon.at is None else [*own, *asked, *told]
    taus = np.array(time.grid) if time.is_fixed else _merged([*own, *asked, *told, np.array(time.grid)])
    return TimeGrid(taus, _merged(required), np.unique(np.concatenate([np.zeros(0), *jumps])))


def _asked_moments(moment: OneMoment, default_steps: int) -> list[FloatArray]:
    """Return the shares of the moments that the file asks for: those of `at`, or equal steps."""
    template, time, horizon = moment.template, moment.time, moment.horizon
    if horizon.at is not None:
        moments = np.asarray(template.number(moment.entry, horizon.at, template.values, '"at"'))
        if horizon.is_free_end:
            moment.fail("time", "at", "the moments of a free end are shares of the time: write steps", time.at)
        taus = (moments - horizon.begin_value) / horizon.duration_value
        return [taus[(taus >= 0.0) & (taus <= 1.0)]]
    if time.grid:
        return []
    steps = default_steps
    if time.steps is not None:
        whole = template.whole(moment.main("time", "steps", time.steps))
        if whole is None or not 1 <= whole <= MOST_STEPS:
            wanted = f"a whole number of intervals from 1 to {MOST_STEPS} is needed, known before any run"
            moment.fail("time", "steps", wanted, time.steps)
        steps = whole
    return [np.linspace(0.0, 1.0, steps + 1)]


def _ends_of_pieces(moment: OneMoment) -> tuple[list[FloatArray], list[FloatArray]]:
    """Return the shares at which pieces of controls end and samples are taken, and those of them with jumps."""
    ends, jumps = list[FloatArray](), list[FloatArray]()
    for control in moment.controls:
        taus = np.arange(control.pieces + 1) / control.pieces
        ends.append(taus)
        if not control.is_linear:
            jumps.append(taus[1:-1])
    for state in moment.states:
        if state.every is not None:
            count = math.ceil(moment.horizon.duration_value / state.every * (1.0 - 1e-12))
            taus = np.arange(count) * state.every / moment.horizon.duration_value
            ends.append(taus)
            jumps.append(taus[1:])
    return ends, jumps


def _known_moments(
    moment: OneMoment, fixed: Sequence[tuple[float, ...]], jumps: Sequence[FloatArray]
) -> list[FloatArray]:
    """Return the shares of what is known where the end is: knots of tables, fixed moments, jumps a lag later."""
    template = moment.template
    if moment.horizon.is_free_end:
        return []
    found = [knots(moment), *(np.asarray(taus) for taus in fixed)]
    for node in moment.lag_nodes:
        lag = (
            math.nan if template.depends(node) else float(template.number(moment.entry, node, template.values, "a lag"))
        )
        if 0.0 < lag < 1.0:
            later = np.concatenate([np.array([lag]), *[own + lag for own in jumps]])
            found.append(later[later < 1.0])
    return found


def has_same_moments(moment: OneMoment, values: list[Any], *, are_fixed: bool) -> bool:
    """Return whether other values of the parameters leave the grid as it is, in shares of the time: it lasts as long,
    and where it begins elsewhere no moment that a formula fixes (`are_fixed`) moves against it."""
    template = moment.template
    begin = float(template.number(moment.entry, moment.horizon.begin, values, '"from"'))
    if moment.horizon.is_free_end:
        return begin == moment.horizon.begin_value
    duration = float(template.number(moment.entry, moment.horizon.duration, values, '"to"'))
    if begin == moment.horizon.begin_value and duration == moment.horizon.duration_value:
        return True
    if abs(duration - moment.horizon.duration_value) > SAME * moment.horizon.duration_value:
        return False
    if are_fixed or moment.horizon.at is not None:
        return False
    here, there = knots(moment), knots(moment, values, begin)
    return len(here) == len(there) and bool(np.allclose(here, there, rtol=0.0, atol=SAME))


def knots(moment: OneMoment, values: list[Any] | None = None, begin: float | None = None) -> FloatArray:
    """Return the knots of tables that are read at the time itself, as shares; of other parameters, where given. They
    are (count,), ascending."""
    numbers = moment.template.values if values is None else values
    first = moment.horizon.begin_value if begin is None else begin
    found = [np.zeros(0)]
    times = {moment.names[moment.t_name, -1]}
    for node in moment.graph.nodes:
        if node.operation == "interp" and node.operands[0] in times:
            xs = moment.graph.nodes[node.operands[1]]
            if xs.operation == "parameter":
                main = moment.still_nodes[xs.index]
                moments = np.asarray(moment.template.number(moment.entry, main, numbers, "a table's moments"))
                taus = (moments - first) / moment.horizon.duration_value
                found.append(taus[(taus > SAME) & (taus < 1.0 - SAME)])
                if values is None and main not in moment.structural:
                    moment.structural.append(main)
    taus = np.concatenate(found)
    return taus if len(taus) <= MOST_STEPS else np.zeros(0)


def _merged(parts: Sequence[FloatArray]) -> FloatArray:
    """Return shares in order, from 0 to 1, those nearly the same once."""
    taus = np.unique(np.clip(np.concatenate(parts), 0.0, 1.0))
    kept = [taus[0]]
    for tau in taus[1:].tolist():
        if tau - kept[-1] > SAME:
            kept.append(tau)
    kept[-1] = 1.0
    return np.array(kept)
