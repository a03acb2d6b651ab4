"""A fit beside its readings: what each residual is, and how far the fit can be trusted where it saw no readings.

    m(x) ± t √(s² + j C j')                                                                           (1)

is the band that a further reading lies in by 95 %: j the derivatives of model/sigma at the line, C the covariance of
the estimates, s the spread of residual/sigma, t Student's quantile.

Source: D. M. Bates, D. G. Watts, "Nonlinear Regression Analysis and Its Applications", 1988, chapter 2; the model is
taken as straight over the standard errors of its parameters.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import IlvrenError
from ilvren.evaluate import Gate
from ilvren.problem import Problem, with_lines
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.runs.estimates import Estimates

__all__ = ["Fitted", "Forecast", "fitted_entries", "forecast_of"]

FloatArray = NDArray[np.float64]

# Of further readings, this share lies within the band.
SHARE = 0.95
# A model moves along a direction where its change is more than this share of what its parts change.
BLIND = 1e-6


@dataclass(frozen=True, kw_only=True)
class Fitted:
    """An entry of [fit] at a design, line by line (N,): `residuals` in the entry's own unit, `sigma`; `readings` and
    `model` where the formula sets one against the other, else None; `places` along the column named `along`, the
    numbers of the lines where "" is; `error` the standard error of the model, `band` half the width of the band of a
    further reading, in the entry's unit, both infinite where they hang on what is not determined; whether a line
    `is_used`."""

    name: str
    residuals: FloatArray
    sigma: FloatArray
    readings: FloatArray | None
    model: FloatArray | None
    along: str
    places: FloatArray
    error: FloatArray
    band: FloatArray
    is_used: NDArray[np.bool_]

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        told: dict[str, object] = {
            "name": self.name,
            "along": self.along or None,
            "places": _plain(self.places),
            "residuals": _plain(self.residuals),
            "sigma": _plain(self.sigma),
            "band": _plain(self.band),
            "used": self.is_used.tolist(),
        }
        if self.readings is not None and self.model is not None:
            told |= {"readings": _plain(self.readings), "model": _plain(self.model)}
        return told


@dataclass(frozen=True)
class Forecast:
    """How an entry of [fit] does on the lines that were not used: how many were and were not, the root mean square of
    its residuals on both, the largest of these beyond, how many of these have a band (the others move with what is not
    determined) and how many lie `within` it; `trouble` says why that cannot be told."""

    name: str
    used: int = 0
    beyond: int = 0
    error_used: float = math.nan
    error_beyond: float = math.nan
    largest: float = math.nan
    banded: int = 0
    within: int = 0
    trouble: str = ""

    @property
    def expected(self) -> float:
        """Return how many lines lie within the band where the fit carries over."""
        return SHARE * self.banded

    @property
    def carries_over(self) -> bool | None:
        """Return whether as many lie within the band as chance leaves likely (one in a hundred runs has fewer); None
        where no line has a band."""
        if not self.banded:
            return None
        from scipy.stats import binom

        return float(binom.cdf(self.within, self.banded, SHARE)) > 0.01

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        if self.trouble:
            return {"name": self.name, "trouble": self.trouble}
        return {
            "name": self.name,
            "lines_used": self.used,
            "lines_forecast": self.beyond,
            "error_used": self.error_used if math.isfinite(self.error_used) else None,
            "error_forecast": self.error_beyond if math.isfinite(self.error_beyond) else None,
            "largest": self.largest if math.isfinite(self.largest) else None,
            "with_band": self.banded,
            "within_band": self.within,
            "expected_within": self.expected,
            "carries_over": self.carries_over,
        }


def forecast_of(
    problem: Problem, point: FloatArray, estimates: Estimates | None, calls: Sequence[Any]
) -> tuple[Forecast, ...]:
    """Return how a fit on some lines does on the others, by entry; () without such. `point` is (n,)."""
    if estimates is None or not problem.aim.lines:
        return ()
    try:
        entries = fitted_entries(problem, point, estimates, calls)
    except IlvrenError as error:
        return (Forecast("all", trouble=f"the other lines cannot be looked at: {error}"),)
    found = []
    for entry in entries:
        beyond = ~entry.is_used
        if not beyond.any():
            continue
        size = np.abs(entry.residuals)
        found.append(
            Forecast(
                entry.name,
                int(entry.is_used.sum()),
                int(beyond.sum()),
                _root_mean_square(size[entry.is_used]),
                _root_mean_square(size[beyond]),
                float(size[beyond].max()),
                int(np.isfinite(entry.band[beyond]).sum()),
                int(((size <= entry.band) & np.isfinite(entry.band))[beyond].sum()),
            )
        )
    return tuple(found)


def fitted_entries(
    problem: Problem, point: FloatArray, estimates: Estimates, calls: Sequence[Any] = ()
) -> list[Fitted]:
    """Return the entries of [fit] at a full design on all their lines, used or not. Raises IlvrenError where the
    residuals on these cannot be worked out."""
    whole, own_calls = problem, calls
    if problem.aim.lines:
        whole = with_lines(problem, {}, tuple(point.tolist()))
        own_calls = whole.calls()
    masks = _masks(problem, whole)
    gate = Gate(whole, calls=own_calls or None)
    _, jacobian = gate.residuals(point, derivatives=True)
    jacobian = jacobian if isinstance(jacobian, np.ndarray) else jacobian.toarray()
    spread = _model_errors(whole, jacobian, estimates)
    factor = _quantile(estimates)
    nodes, kept = [], whole.template.fit
    for item in kept:
        nodes += [item.residual, item.sigma, *(item.sides or ()), *((item.along[1],) if item.along else ())]
    values = iter(whole.entry_values(nodes, point, gate.calls).values)
    found, first = [], 0
    for item, mask in zip(kept, masks, strict=True):
        shape = whole.graph.shape(item.node)
        size = math.prod(shape)

        def taken(shape: tuple[int, ...] = shape) -> FloatArray:
            return np.ravel(np.broadcast_to(np.asarray(next(values), dtype=float), shape))

        residuals, sigma = taken(), taken()
        readings, model = (taken(), taken()) if item.sides else (None, None)
        along, places = (item.along[0], taken()) if item.along else ("", np.arange(float(size)))
        error = spread[first : first + size]
        band = factor * np.sqrt(estimates.unit**2 + error**2)
        found.append(
            Fitted(
                name=item.declaration.name,
                residuals=residuals,
                sigma=sigma,
                readings=readings,
                model=model,
                along=along,
                places=places,
                error=error * sigma,
                band=band * sigma,
                is_used=mask,
            )
        )
        first += size
    return found


def _masks(problem: Problem, whole: Problem) -> list[NDArray[np.bool_]]:
    """Return for each entry which of its residuals were used: those of the lines chosen of the table that it reads."""
    sizes = [math.prod(whole.graph.shape(item.node)) for item in whole.template.fit]
    found = [np.ones(size, dtype=bool) for size in sizes]
    lines = problem.aim.lines
    for name, (first, end) in lines.items():
        cut = problem if len(lines) == 1 else with_lines(problem, {name: (first, end)})
        for place, (item, own) in enumerate(zip(cut.template.fit, whole.template.fit, strict=True)):
            shape, full = cut.graph.shape(item.node), whole.graph.shape(own.node)
            if shape == full:
                continue
            last = full[0] if end is None else end
            if shape[1:] != full[1:] or shape[0] != last - first:
                raise _untold(item.declaration.name, name)
            is_chosen = np.zeros(full, dtype=bool)
            is_chosen[first:last] = True
            found[place] &= is_chosen.ravel()
    return found


def _untold(entry: str, table: str) -> IlvrenError:
    return IlvrenError(f'which residuals of "{entry}" belong to the lines left out of "{table}" cannot be told')


def _model_errors(problem: Problem, jacobian: FloatArray, estimates: Estimates) -> FloatArray:
    """Return √(j C j') of each row of a Jacobian (p, n): infinite where it moves with what is not determined."""
    places = {variable.name: place for place, variable in enumerate(problem.variables)}
    own = jacobian[:, [places[name] for name in estimates.names]]
    found: FloatArray = estimates.unit * np.linalg.norm(own @ estimates.root.T, axis=1)
    for direction in estimates.blind:
        found[np.abs(own @ direction) > BLIND * (np.abs(own) @ np.abs(direction))] = np.inf
    return found


def _quantile(estimates: Estimates) -> float:
    """Return how many standard deviations hold `SHARE` of the readings: Student's, where their spread is estimated."""
    from scipy.stats import norm, t

    freedom = estimates.residuals - len(estimates.names)
    if estimates.has_sigma:
        return float(norm.ppf(0.5 + 0.5 * SHARE))
    return float(t.ppf(0.5 + 0.5 * SHARE, freedom)) if freedom > 0 else math.inf


def _root_mean_square(values: FloatArray) -> float:
    return float(np.sqrt(np.mean(values**2))) if len(values) else math.nan


def _plain(values: FloatArray) -> list[float | None]:
    return [value if math.isfinite(value) else None for value in values.tolist()]


def told_lines(lines: Mapping[str, tuple[int, int | None]]) -> str:
    """Return chosen lines in words."""
    return ", ".join(f"{name} {first}:{'' if end is None else end}" for name, (first, end) in lines.items())
