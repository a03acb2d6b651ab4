"""Which surface stands for values: the one that says most of points left out, and how wrong that choice is.

Every kind is fitted; of each is known what it says of points that had no share in it. The best one is taken, or a
mixture whose weights make those errors least:

    min_w  w'C w,   Σ w = 1,   w >= 0,   C_ab = Σ_i e_ai e_bi                                                   (1)

An error that a choice was made by is no honest one. So the whole choice is made again without each of some groups of
points, and what it says of them is held against them: these errors E_i are those that are told. Over the spread s_i
that the surface claims there they give intervals that hold points of the same region with the share asked for:

    ŷ ± q s(x),   q the ⌈(k + 1) share⌉-th smallest of |E_i| / s_i                                              (2)

Their root mean square says too much of the edges, where a point left out leaves nothing beyond it; brought to the whole
region by the spreads it trusts these. What is told is the geometric mean of both:

    error² = rms(E) · rms(E / s) · rms of s over the region                                                      (3)

Slopes of values, where they are known, count by points that stand for them, beside the points themselves:

    y(z + h e_j) = y(z) + h ∂y/∂z_j                                                                                  (4)

Wherever a point is left out those that stand for its slopes are, too.

Sources: M. Stone, 1974; L. Breiman, "Stacked regressions", 1996 (1); S. Varma, R. Simon, "Bias in error estimation when
using cross-validation for model selection", 2006; V. Vovk, A. Gammerman, G. Shafer, "Algorithmic learning in a random
world", 2005, and R. F. Barber, E. Candès, A. Ramdas, R. Tibshirani, "Predictive inference with the jackknife+", 2021
(2); W. Liu, S. Batill, "Gradient-enhanced response surface approximations using kriging models", 2002 (4).
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray
from threadpoolctl import threadpool_limits

from ilvren.algebra import solve_quadratic
from ilvren.approximate.fitted import Fitted, folds, rms
from ilvren.approximate.gaussian import fitted_fields
from ilvren.approximate.polynomial import HIGHEST, all_powers, fitted_polynomial
from ilvren.approximate.radial import fitted_radial
from ilvren.approximate.surface import Part, Surface, Trend
from ilvren.records import dataclass

__all__ = ["KINDS", "LEAST_POINTS", "Approximated", "Told", "approximated"]

FloatArray = NDArray[np.float64]

# {transformation: {(kernel, whether the trend is constant): what was found for it}}.
Known = dict[str, dict[tuple[str, bool], FloatArray]]

KINDS = ("automatic", "polynomial", "gaussian-process", "radial-basis")
# Fewer points than this tell nothing of an error.
LEAST_POINTS = 5
# Groups that the whole choice is made without, by the number of points: without fewer of these less is lost.
OUTER = ((60, 20), (200, 10), (math.inf, 5))
# Values above zero that differ by this factor are also looked at by their logarithm.
RATIO = 5.0
# A trend of chosen terms takes no more of them than this share of the points.
TREND_SHARE = 0.25
# A mixture is one of so many at most, and taken where it is better than the best alone by this share; a weight below
# LEAST_WEIGHT is none.
MOST_MIXED, BETTER, LEAST_WEIGHT = 3, 0.03, 0.02
MOST_TINY = 1e-300
# Values whose range is below this share of their size are all the same.
NO_RANGE = 1e-13
# By no more than this factor are errors brought to the region: a spread may be wrong, too.
MOST_BROUGHT = 16.0
# h of (4), and rows that may stand for slopes: as many as there is room for beside the points.
SLOPE_STEP, MOST_ROWS = 5e-4, 500
# Points of the region at which spreads are looked at.
REGION_POINTS = 1000


@dataclass(frozen=True)
class Told:
    """How wrong an approximation is. `error`: the honest errors (3) over the standard deviation of the values;
    `explained`: the share of variance explained; `largest`: the largest |error|, at point number `where`;
    `errors` (k,): all, predicted − actual, and the `spreads` (k,) claimed there; `quantile` {share: q of (2)};
    `covered` {share: of the points, by intervals that had no share of their own errors}."""

    error: float
    explained: float
    largest: float
    where: int
    errors: FloatArray
    spreads: FloatArray
    quantile: dict[float, float]
    covered: dict[float, float]


@dataclass(frozen=True)
class Approximated:
    """A `surface`, what is `told` of it, and the errors of all that was looked at, by name, over the standard
    deviation: those that the choice was made by, which are a little too small."""

    surface: Surface
    told: Told
    considered: tuple[tuple[str, float], ...]

    def half_width(self, x: FloatArray, share: float = 0.9) -> FloatArray:
        """Return the half width (k,) of intervals at points (k, n); infinite where points are too few for a share."""
        return np.asarray(self.told.quantile[share] * self.surface.spread_at(x))


SHARES = (0.5, 0.8, 0.9, 0.95)


def approximated(
    x: FloatArray,
    y: FloatArray,
    kind: str = "automatic",
    *,
    slopes: FloatArray | None = None,
    seed: int = 0,
    groups: int | None = None,
    progress: Callable[[float], None] | None = None,
) -> Approximated:
    """Return the approximation of values y (k,) at points x (k, n), all finite. The choice is made again without each
    of `groups` groups of points (None: as many as the number of points asks for). `slopes` (k, n) are derivatives by x,
    rows of NaN where they are not known. `progress` is told the share done.
    Raises ValueError for too few points."""
    x, y = np.atleast_2d(np.asarray(x, dtype=float)), np.asarray(y, dtype=float)
    if len(y) < LEAST_POINTS:
        raise ValueError(f"{len(y)} points are too few: at least {LEAST_POINTS} are needed")
    said = progress or (lambda share: None)
    # A power of two: dividing by it rounds nothing, and squares of vast numbers stay numbers.
    size = float(np.exp2(np.round(np.log2(max(float(np.abs(y).max()), MOST_TINY)))))
    centre, half = _region(x)
    y = y / size
    z = (x - centre) / half
    steep = None if slopes is None else np.asarray(slopes, dtype=float) * half / size
    count = groups or next(count for most, count in OUTER if len(y) <= most)
    left_out = folds(len(y), count, np.random.default_rng([seed, len(y)]))
    known: Known = {}
    errors, spreads = np.zeros(len(y)), np.ones(len(y))
    with threadpool_limits(1):  # matrices are small: threads would wait for each other
        parts, considered = _chosen(z, y, kind, seed, known, steep)
        for number, group in enumerate(left_out):
            said((number + 1.0) / (len(left_out) + 1.0))
            rest = np.setdiff1d(np.arange(len(y)), group)
            steep_rest = None if steep is None else steep[rest]
            chosen = _chosen(z[rest], y[rest], kind, seed, known, steep_rest)[0]
            own = Surface(np.zeros_like(centre), np.ones_like(half), chosen)
            errors[group] = own.at(z[group]) - y[group]
            spreads[group] = own.spread_at(z[group])
    said(1.0)
    anywhere = np.random.default_rng([seed, 3]).uniform(-1.0, 1.0, (REGION_POINTS, len(centre)))
    everywhere = Surface(np.zeros_like(centre), np.ones_like(half), parts).spread_at(anywhere)
    told = _told(y, errors, spreads, everywhere)
    told = replace(told, largest=size * told.largest, errors=size * errors, spreads=size * spreads)
    return Approximated(Surface(centre, half, tuple(_sized(part, size) for part in parts)), told, considered)


def _sized(part: Part, size: float) -> Part:
    """Return a part of values over a size as one of the values."""
    if part.transform == "log":
        return replace(part, middle=part.middle + math.log(size))
    return replace(part, middle=size * part.middle, deviation=size * part.deviation)


def _region(x: FloatArray) -> tuple[FloatArray, FloatArray]:
    low, high = x.min(axis=0), x.max(axis=0)
    half = 0.5 * (high - low)
    return 0.5 * (low + high), np.where(half > 0.0, half, 1.0)


def _chosen(
    z: FloatArray, y: FloatArray, kind: str, seed: int, known: Known, slopes: FloatArray | None = None
) -> tuple[tuple[Part, ...], tuple[tuple[str, float], ...]]:
    """Return the parts chosen for points z (k, n) and values, with their `slopes` where they have some, and the errors
    of all that was looked at. `known` is where searches begin, and gains what they find."""
    deviation = float(y.std())
    if not np.ptp(y) > NO_RANGE * float(np.abs(y).max()):
        middle = float(y[0])
        return (_constant(z.shape[1], middle),), (("constant", 0.0),)
    rows, values, owners = _with_slopes(z, y, slopes)
    names, fitted, said = _candidates(rows, values, owners, kind, seed, known)
    if not fitted:
        return (_constant(z.shape[1], float(y.mean()), deviation),), (("constant", 1.0),)
    errors = np.array([rms(row - y) for row in said])
    considered = tuple((name, float(error / deviation)) for name, error in zip(names, errors, strict=True))
    best = int(np.argmin(errors))
    weights = _mixed(said - y) if len(fitted) > 1 else None
    if weights is not None and rms(weights @ said - y) < (1.0 - BETTER) * errors[best]:
        parts = tuple(replace(one.part, weight=float(w)) for one, w in zip(fitted, weights, strict=True) if w > 0.0)
        return parts, (*considered, ("combination", rms(weights @ said - y) / deviation))
    return (fitted[best].part,), considered


def _with_slopes(
    z: FloatArray, y: FloatArray, slopes: FloatArray | None
) -> tuple[FloatArray, FloatArray, NDArray[np.int64] | None]:
    """Return points and values with those of (4) behind them, and which point each belongs to; None where slopes add
    none. Where there is no room for all, points spread evenly through their order have theirs."""
    k, n = z.shape
    has = np.zeros(0, dtype=np.int64) if slopes is None else np.flatnonzero(np.isfinite(slopes).all(axis=1))
    room = max(0, MOST_ROWS - k) // n
    if slopes is None or not len(has) or not room:
        return z, y, None
    has = has[np.unique(np.linspace(0, len(has) - 1, min(room, len(has))).astype(int))]
    # Towards the middle of the region, where there is more to be told.
    step = np.where(z[has] > 0.0, -SLOPE_STEP, SLOPE_STEP)
    more = (z[has][:, None, :] + step[:, :, None] * np.eye(n)).reshape(-1, n)
    values = (y[has][:, None] + step * slopes[has]).ravel()
    return np.vstack([z, more]), np.append(y, values), np.concatenate([np.arange(k), np.repeat(has, n)])


def _constant(n: int, middle: float, spread: float = 0.0) -> Part:
    return Part("constant", Trend(np.zeros((1, n), dtype=np.int64), np.zeros(1)), middle=middle, deviation=spread)


def _candidates(
    z: FloatArray, y: FloatArray, owners: NDArray[np.int64] | None, kind: str, seed: int, known: Known
) -> tuple[list[str], list[Fitted], FloatArray]:
    """Return names, what was fitted, and what each says of points left out (c, k), in units of y."""
    k = len(y) if owners is None else int(owners.max()) + 1
    names: list[str] = []
    found: list[Fitted] = []
    said: list[FloatArray] = []
    transforms = ["none"]
    if y.min() > 0.0 and y[:k].max() > RATIO * y[:k].min():
        transforms.append("log")
    for transform in transforms:
        values = np.log(y) if transform == "log" else y
        middle, deviation = float(values.mean()), float(values.std())
        scaled = (values - middle) / deviation
        for name, one in _of_kinds(z, scaled, owners, kind, seed, known.setdefault(transform, {})):
            part = replace(one.part, transform=transform, middle=middle, deviation=deviation)
            left = middle + deviation * one.left_out
            with np.errstate(over="ignore"):
                left = np.exp(left) if transform == "log" else left
            if math.isfinite(rms(left - y[:k])):
                names.append(name if transform == "none" else f"{name}, logarithm")
                found.append(Fitted(part, left))
                said.append(left)
    return names, found, np.array(said).reshape(len(said), k)


def _of_kinds(
    z: FloatArray,
    y: FloatArray,
    owners: NDArray[np.int64] | None,
    kind: str,
    seed: int,
    known: dict[tuple[str, bool], FloatArray],
) -> list[tuple[str, Fitted]]:
    found: list[tuple[str, Fitted]] = []
    trends = [all_powers(z.shape[1], 0)]
    if kind in ("automatic", "polynomial", "gaussian-process"):
        for degree in range(1, HIGHEST + 1):
            one = fitted_polynomial(z, y, degree, np.random.default_rng([seed, degree]), owners)
            if one is not None:
                found.append((f"polynomial of degree {degree}", one))
    if found and kind != "polynomial":
        best = min(found, key=lambda pair: rms(pair[1].left_out - y[: len(pair[1].left_out)]))[1].part.trend.powers
        best = best[: max(1, int(TREND_SHARE * len(y)))]
        if len(best) > 1:
            trends.append(best)
    if kind == "gaussian-process":
        found = []
    if kind in ("automatic", "gaussian-process"):
        for one in fitted_fields(z, y, trends, np.random.default_rng([seed, 7]), known, owners):
            expansion = one.part.expansion
            assert expansion is not None
            assert one.found is not None
            known.setdefault((expansion.kernel, len(one.part.trend.powers) == 1), one.found)
            trend = "" if len(one.part.trend.powers) == 1 else f" about {len(one.part.trend.powers)} terms"
            found.append((f"Gaussian process, {expansion.kernel}{trend}", one))
    if kind in ("automatic", "radial-basis"):
        radial = fitted_radial(z, y, owners)
        if radial is not None:
            assert radial.part.expansion is not None
            found.append((f"radial basis functions, {radial.part.expansion.kernel}", radial))
    return found


def _mixed(errors: FloatArray) -> FloatArray | None:
    """Return the weights (1) of errors (c, k), for MOST_MIXED at most, small ones zero; None where they cannot be
    found."""
    weights = _weights(errors)
    if weights is None or np.count_nonzero(weights) <= MOST_MIXED:
        return weights
    kept = np.sort(np.argsort(-weights, kind="stable")[:MOST_MIXED])
    own, weights = _weights(errors[kept]), np.zeros(len(errors))
    if own is None:
        return None
    weights[kept] = own
    return weights


def _weights(errors: FloatArray) -> FloatArray | None:
    """Return the weights (1) of errors (c, k), small ones zero; None where they cannot be found."""
    c = len(errors)
    matrix = errors @ errors.T
    matrix /= max(float(np.trace(matrix)) / c, 1e-300)
    matrix += 1e-6 * np.eye(c)
    solution = solve_quadratic(
        matrix,
        np.zeros(c),
        rows=np.ones((1, c)),
        row_limits=(np.ones(1), np.ones(1)),
        bounds=(np.zeros(c), np.full(c, np.inf)),
    )
    if solution.outcome != "solved":
        return None
    weights = np.asarray(solution.step)
    weights = np.where(weights < LEAST_WEIGHT, 0.0, weights)
    return np.asarray(weights / weights.sum()) if weights.sum() > 0.0 else None


def _told(y: FloatArray, errors: FloatArray, spreads: FloatArray, everywhere: FloatArray) -> Told:
    """Return what is told of honest errors, the spreads claimed where they were made, and those at points all over the
    region."""
    variance = float(y.var())
    where = int(np.argmax(np.abs(errors)))
    ratios = np.abs(errors) / np.maximum(spreads, 1e-300)
    ratios = np.where(errors == 0.0, 0.0, ratios)
    size, brought = rms(errors), rms(ratios) * rms(everywhere)
    if size > 0.0 and not math.isnan(brought):
        size *= math.sqrt(min(max(brought / size, 1.0 / MOST_BROUGHT), MOST_BROUGHT))  # (3)
    error = size / math.sqrt(variance) if variance > 0.0 else 0.0
    return Told(
        error,
        1.0 - error**2,
        float(np.abs(errors[where])),
        where,
        errors,
        spreads,
        {share: _quantile(ratios, share) for share in SHARES},
        {share: _covered(ratios, share) for share in SHARES},
    )


def _quantile(ratios: FloatArray, share: float) -> float:
    """Return q of (2)."""
    place = math.ceil((len(ratios) + 1) * share)
    return float(np.sort(ratios)[place - 1]) if place <= len(ratios) else math.inf


def _covered(ratios: FloatArray, share: float) -> float:
    """Return the share of points that lie within intervals whose q comes from all other points."""
    held = [ratios[i] <= _quantile(np.delete(ratios, i), share) for i in range(len(ratios))]
    return float(np.mean(held))
