"""Members of a front that do not hold, taken where a local search brings them, as a run of its own."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.evaluate import Gate
from ilvren.judge.fronts.members import member_problem
from ilvren.judge.fronts.verification import DOMINATED, FrontVerdict, JudgedTradeOff
from ilvren.runs import AUTOMATIC, RunResult, Settings, run

if TYPE_CHECKING:
    from ilvren.ledger import Ledger
    from ilvren.problem import Problem

__all__ = ["mended"]

FloatArray = NDArray[np.float64]

# What one member's search may use.
EVALUATIONS, SECONDS = 3000, 20.0


def mended(
    found: FrontVerdict,
    points: dict[str, tuple[float, ...]],
    ledger: Ledger,
    settings: Settings,
    told: Callable[[int, int], None] | None = None,
) -> RunResult:
    """Return a run, recorded in `ledger`, of the members that hold and of what the others become: each objective in
    turn is minimized from there, the others being kept at most where they are. `points` are the members' designs
    (n,) by their addresses."""
    designs: list[FloatArray] = []
    gate = Gate(found.problem)
    for place, member in enumerate(found.members):
        point = np.array(points[member.address])
        if not member.holds and member.verdict != "limits-broken":
            start = np.array(member.better_point) if member.verdict == DOMINATED and member.better_point else point
            point = _polished(found, member, start, gate, settings)
        designs.append(point)
        if told is not None:
            told(place + 1, len(found.members))
    unique = np.unique(np.array(designs), axis=0)
    sample = {"plan": "mended", "designs": unique.tolist(), "of": found.run}
    count = len(unique)
    asked = replace(settings, method=AUTOMATIC, options={}, points=max(count, 2), evaluations=count + 10, scaling=False)
    return run(found.problem, asked, ledger=ledger, sample=sample)


def _polished(
    found: FrontVerdict, member: JudgedTradeOff, start: FloatArray, gate: Gate, settings: Settings
) -> FloatArray:
    """Return where searches of each objective in turn lead from a design, the main one of the member first."""
    sense, point = found.sense, start
    values = np.array([member.objectives[name] for name in sense.names])
    sizes = _sizes(found)
    order = sorted(range(len(sense.names)), key=lambda k: -member.weights[sense.names[k]])
    for main in order:
        rows = gate.evaluate(point).rows
        values = sense.as_written(sense.minimized(rows))
        own: Problem = member_problem(found.problem, sense, values, main, sizes).with_starts(point)
        asked = Settings(
            method=AUTOMATIC,
            second_look=0.0,
            tolerance=settings.tolerance,
            feasibility=settings.feasibility,
            evaluations=EVALUATIONS,
            seconds=SECONDS,
        )
        result = run(replace(own, confirmation=None), asked)
        if result.violation <= settings.feasibility:
            point = np.array(result.point)
    return point


def _sizes(found: FrontVerdict) -> FloatArray:
    values = np.array([[member.objectives[name] for name in found.sense.names] for member in found.members])
    extent = np.ptp(values, axis=0)
    return np.asarray(np.where(extent > 0.0, extent, np.maximum(np.abs(values).max(axis=0), 1.0)), dtype=np.float64)
