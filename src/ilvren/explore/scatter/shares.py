"""Sensitivities with inputs as they scatter, in place of uniform ones between bounds."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError
from ilvren.explore.scatter.case import scatter_case
from ilvren.explore.scatter.drivers import by_fit, exchanged
from ilvren.explore.sensitivity.shares import variance_shares
from ilvren.explore.sensitivity.studying import Driver, Sensitivity
from ilvren.scatter import scenario_normals

if TYPE_CHECKING:
    from ilvren.ledger import Ledger
    from ilvren.problem import Problem

__all__ = ["shares_by_scatter"]

FloatArray = NDArray[np.float64]

DEFAULT_EVALUATIONS, DEFAULT_OF_MODELS = 20_000, 1_000
_ENDS = ("first_low", "first_high", "total_low", "total_high")


def shares_by_scatter(
    problem: Problem,
    point: Sequence[float] | FloatArray,
    *,
    evaluations: int | None = None,
    seed: int = 0,
    of: Sequence[str] = (),
    ledger: Ledger | None = None,
    label: str | None = None,
    workers: int | str | None = None,
    listener: Callable[[Any], None] | None = None,
) -> Sensitivity:
    """Return the variance shares of everything around a design (n,) as [scatter] says. Raises RequestError and
    ProblemError."""
    case = scatter_case(problem, point, of=of)
    names = case.scattered.names
    found: dict[str, tuple[Driver, ...]] = {}
    notes: list[str] = []
    run = None
    if case.is_cheap:
        count = evaluations or DEFAULT_EVALUATIONS
        if count < 8 * (len(names) + 2):
            raise RequestError(f"--evaluations: at least {8 * (len(names) + 2)} for {len(names)} scattered names")
        values = exchanged(case, 1 << int(math.log2(count // (len(names) + 2))), seed)
        rng = np.random.default_rng(seed)
        used = values.shape[0] * values.shape[1]
        for k, output in enumerate(case.outputs):
            column = values[:, :, k]
            seen = column[np.isfinite(column)]
            if len(seen) < 8 or not np.ptp(seen) > 1e-12 * np.abs(seen).max():
                continue
            own = variance_shares(column.ravel(), len(names), rng)
            keys = ("first", "first_low", "first_high", "total", "total_low", "total_high")
            found[output.name] = tuple(
                Driver(name, {key: float(getattr(own, key)[place]) for key in keys}, float(own.total[place]))
                for place, name in enumerate(names)
            )
    else:
        used = evaluations or DEFAULT_OF_MODELS
        normals = scenario_normals(case.scattered.dependence.dimension, used, seed)
        seen_runs = case.seen(normals, ledger=ledger, label=label, workers=workers, listener=listener, seed=seed)
        drivers, notes = by_fit(case, normals, seen_runs.values)
        run, used = seen_runs.run, len(normals)
        nothing = dict.fromkeys(_ENDS, math.nan)
        for name, own_drivers in drivers.items():
            found[name] = tuple(
                Driver(scattered, {"first": first, "total": total, **nothing}, total)
                for scattered, (first, total) in own_drivers.items()
            )
        notes.append("shares come from a polynomial fitted to the scenarios, which tells no intervals")
    units = {output.name: output.unit for output in case.outputs}
    return Sensitivity("variance", found, units, tuple(notes), run, used, case.left_out, "scatter")
