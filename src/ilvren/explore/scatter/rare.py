"""Rare misses of limits: the design point of each, and importance sampling around it."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError
from ilvren.explore.scatter.result import RareMiss
from ilvren.scatter import DesignPoint, Interval, design_points, importance_share

if TYPE_CHECKING:
    from ilvren.explore.scatter.case import Output, ScatterCase

__all__ = ["DEFAULT_EVALUATIONS", "rare_miss", "sides_of"]

FloatArray = NDArray[np.float64]

# Scenarios around a limit's design points, where nothing else is asked for.
DEFAULT_EVALUATIONS = 500
# Names told of a design point, and the normal number below which one has no part in it.
MOST_NAMES, UNMOVED = 6, 0.05


def sides_of(output: Output) -> list[tuple[str, float, float]]:
    """Return (side, limit, sign) of the limits that a row has: sign · (limit − row) is its room."""
    found = []
    if math.isfinite(output.lower):
        found.append(("lower", output.lower, -1.0))
    if math.isfinite(output.upper):
        found.append(("upper", output.upper, 1.0))
    return found


def rare_miss(
    case: ScatterCase,
    place: int,
    side: tuple[str, float, float],
    evaluations: int,
    seed: int,
    seen: Callable[[FloatArray], FloatArray],
    others: Sequence[FloatArray] = (),
) -> RareMiss:
    """Return the reliability of one side of the limit `place` among the outputs; `seen` gives the values (k, outputs)
    of scenarios (k, dimension), `others` are scenarios to look from, too. Raises RequestError for what is drawn from
    data."""
    if not case.scattered.is_smooth:
        drawn = ", ".join(item.name for item in case.scattered.quantities if not item.law.is_smooth)
        raise RequestError(
            f"{drawn} is drawn from data, cell by cell: there is no nearest scenario that misses a limit",
            advice="--way sampling counts misses; a law with a deviation has design points",
        )
    output = case.outputs[place]
    _, limit, sign = side
    size = output.size
    memory: dict[bytes, tuple[float, FloatArray]] = {}

    def room(u: FloatArray) -> tuple[float, FloatArray]:
        key = u.tobytes()
        if key not in memory:
            values, slopes = case.slopes(u)
            memory[key] = sign * (limit - float(values[place])) / size, -sign * slopes[place] / size
        return memory[key]

    found = design_points(room, case.scattered.dependence.dimension, others)
    first = found[0]
    sampled = None
    count = len(memory)
    if first.is_found and evaluations > 0:
        told = importance_share(
            lambda u: sign * (limit - seen(u)[:, place]) / size, found, evaluations, seed + 11 * place
        )
        sampled = Interval(told.share, told.low, told.high)
        count += told.evaluations
    values, moved = _point(case, first)
    return RareMiss(
        limit=output.name,
        side=side[0],
        index=first.index,
        share=first.share,
        point=values,
        moved=moved,
        sampled=sampled,
        evaluations=count,
        is_found=first.is_found,
        points=len(found),
    )


def _point(case: ScatterCase, point: DesignPoint) -> tuple[dict[str, float], dict[str, float]]:
    """Return the scattered values at a design point, and how many deviations each lies from its mean: those that move
    most."""
    values = case.scattered.scenarios(point.u[np.newaxis])
    normals = case.scattered.dependence.normals(point.u[np.newaxis])
    found = []
    for item in case.scattered.quantities:
        if float(np.abs(normals[item.name]).max()) < UNMOVED:
            continue
        own = values[item.name][0]
        with np.errstate(all="ignore"):
            far = np.where(item.deviation > 0.0, (own - item.mean) / item.deviation, 0.0)
        k = int(np.abs(far).argmax()) if far.ndim else 0
        name = item.name if not item.shape else f"{item.name}[{k}]"
        found.append((name, float(own.ravel()[k]), float(far.ravel()[k])))
    found.sort(key=lambda told: -abs(told[2]))
    kept = found[:MOST_NAMES]
    return {name: value for name, value, _ in kept}, {name: far for name, _, far in kept}
