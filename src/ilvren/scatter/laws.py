"""Laws of scattered quantities: each a function of a standard normal number z, the value as designed m, and widths.

    normal       m + s z                                                                     (1)
    uniform      m + h (2 Φ(z) − 1)                                                          (2)
    triangular   between m + low and m + high, m the most likely                             (3)
    lognormal    m / sqrt(1 + c²) · exp(sqrt(log(1 + c²)) z),         c = s/m                (4)
    weibull      m / Γ(1 + κ) · (−log Φ(−z))^κ,   Γ(1 + 2κ)/Γ(1 + κ)² = 1 + c²               (5)
    gumbel       m + s sqrt(6)/π (−γ − log(−log Φ(z))), of maxima                            (6)
    data         the cell of a column at the share Φ(z) of its sorted cells                  (7)

m is the mean (of (3): the most likely value; of (7) it plays no part), s the standard deviation. Tails are taken from
log Φ, so that they keep their digits far out.

Source: N. L. Johnson, S. Kotz, N. Balakrishnan, "Continuous univariate distributions", 1994 and 1995.
"""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Mapping
from functools import lru_cache
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

__all__ = ["EULER", "GUMBEL", "LAWS", "WEIBULL_SPAN", "Law", "law_named", "weibull_exponent", "weibull_series"]

FloatArray = NDArray[np.float64]
Widths = Mapping[str, FloatArray]

EULER = 0.577215664901532860606512090082
GUMBEL = math.sqrt(6.0) / math.pi
ROOT_TWO_PI = math.sqrt(2.0 * math.pi)
# Where log c of Weibull's law lies for what is written as a formula, and the degree of its polynomials.
WEIBULL_SPAN, SERIES = (math.log(1e-3), math.log(6.0)), 72
# Newton steps for the exponent of Weibull's law; it takes about six.
MOST_STEPS = 60


class Law(ABC):
    """One law. Widths are arrays that go with the value as designed; z has a first axis of scenarios more."""

    name: ClassVar[str]
    widths: ClassVar[tuple[str, ...]] = ("deviation",)
    is_smooth: ClassVar[bool] = True

    @abstractmethod
    def values(self, z: FloatArray, value: FloatArray, widths: Widths) -> FloatArray:
        """Return the quantity in the scenarios z. All have any one shape, or spread to it."""

    @abstractmethod
    def slopes(self, z: FloatArray, value: FloatArray, widths: Widths) -> FloatArray:
        """Return how it changes with z. All have any one shape, or spread to it."""

    def mean(self, value: FloatArray, widths: Widths) -> FloatArray:
        """Return its mean. All have any one shape."""
        return value

    def deviation(self, value: FloatArray, widths: Widths) -> FloatArray:
        """Return its standard deviation. All have any one shape."""
        return np.broadcast_to(widths["deviation"], value.shape)

    def refusal(self, value: FloatArray, widths: Widths) -> str:
        """Return why there is no such law at these values, "" where there is. All have any one shape."""
        for name in self.widths:
            if name in widths and not (np.isfinite(widths[name]).all() and (widths[name] >= 0.0).all()):
                return f"{name} = {np.min(widths[name]):g}: it is a number from 0"
        return ""


def _density(z: FloatArray) -> FloatArray:
    return np.exp(-0.5 * z * z) / ROOT_TWO_PI


def _share(z: FloatArray) -> FloatArray:
    from scipy.special import ndtr

    return np.asarray(ndtr(z))


def _log_share(z: FloatArray) -> FloatArray:
    from scipy.special import log_ndtr

    return np.asarray(log_ndtr(z))


class Normal(Law):
    """(1)"""

    name = "normal"

    def values(self, z: FloatArray, value: FloatArray, widths: Widths) -> FloatArray:
        return value + widths["deviation"] * z

    def slopes(self, z: FloatArray, value: FloatArray, widths: Widths) -> FloatArray:
        return np.broadcast_to(widths["deviation"], z.shape)


class Uniform(Law):
    """(2)"""

    name = "uniform"
    widths = ("half_width",)

    def values(self, z: FloatArray, value: FloatArray, widths: Widths) -> FloatArray:
        return value + widths["half_width"] * (2.0 * _share(z) - 1.0)

    def slopes(self, z: FloatArray, value: FloatArray, widths: Widths) -> FloatArray:
        return 2.0 * widths["half_width"] * _density(z)

    def deviation(self, value: FloatArray, widths: Widths) -> FloatArray:
        return np.broadcast_to(widths["half_width"] / math.sqrt(3.0), value.shape)


class Triangular(Law):
    """(3): below the most likely value m + low + sqrt(Φ a b), above m + high − sqrt(Φ(−z) a c), with a the whole width,
    b = −low and c = high."""

    name = "triangular"
    widths = ("low", "high")

    def values(self, z: FloatArray, value: FloatArray, widths: Widths) -> FloatArray:
        low, high = widths["low"], widths["high"]
        whole = high - low
        below = low + np.sqrt(np.maximum(_share(z) * whole * -low, 0.0))
        above = high - np.sqrt(np.maximum(_share(-z) * whole * high, 0.0))
        return value + np.where(_share(z) * whole <= -low, below, above)

    def slopes(self, z: FloatArray, value: FloatArray, widths: Widths) -> FloatArray:
        low, high = widths["low"], widths["high"]
        whole = high - low
        with np.errstate(all="ignore"):
            below = 0.5 * _density(z) * np.sqrt(whole * -low / _share(z))
            above = 0.5 * _density(z) * np.sqrt(whole * high / _share(-z))
        found = np.where(_share(z) * whole <= -low, below, above)
        return np.where(np.isfinite(found), found, 0.0)

    def mean(self, value: FloatArray, widths: Widths) -> FloatArray:
        return value + (widths["low"] + widths["high"]) / 3.0

    def deviation(self, value: FloatArray, widths: Widths) -> FloatArray:
        low, high = widths["low"], widths["high"]
        return np.broadcast_to(np.sqrt((low * low + high * high - low * high) / 18.0), value.shape)

    def refusal(self, value: FloatArray, widths: Widths) -> str:
        low, high = widths["low"], widths["high"]
        if not (np.isfinite(low).all() and np.isfinite(high).all() and (low <= 0.0).all() and (high >= 0.0).all()):
            return "low and high are offsets from the value: low from 0 down, high from 0 up"
        return ""


class Lognormal(Law):
    """(4)"""

    name = "lognormal"

    def values(self, z: FloatArray, value: FloatArray, widths: Widths) -> FloatArray:
        spread = self._spread(value, widths)
        return value * np.exp(spread * z - 0.5 * spread * spread)

    def slopes(self, z: FloatArray, value: FloatArray, widths: Widths) -> FloatArray:
        return self._spread(value, widths) * self.values(z, value, widths)

    @staticmethod
    def _spread(value: FloatArray, widths: Widths) -> FloatArray:
        return np.asarray(np.sqrt(np.log1p((widths["deviation"] / value) ** 2)))

    def refusal(self, value: FloatArray, widths: Widths) -> str:
        return super().refusal(value, widths) or _not_positive(value)


class Weibull(Law):
    """(5)"""

    name = "weibull"

    def values(self, z: FloatArray, value: FloatArray, widths: Widths) -> FloatArray:
        from scipy.special import gamma

        exponent = weibull_exponent(widths["deviation"] / value)
        return np.asarray(value / gamma(1.0 + exponent) * (-_log_share(-z)) ** exponent)

    def slopes(self, z: FloatArray, value: FloatArray, widths: Widths) -> FloatArray:
        exponent = weibull_exponent(widths["deviation"] / value)
        hazard = np.exp(-0.5 * z * z - _log_share(-z)) / ROOT_TWO_PI
        with np.errstate(all="ignore"):
            found = self.values(z, value, widths) * exponent * hazard / -_log_share(-z)
        return np.where(np.isfinite(found), found, 0.0)

    def refusal(self, value: FloatArray, widths: Widths) -> str:
        found = super().refusal(value, widths) or _not_positive(value)
        if not found and (widths["deviation"] > 20.0 * value).any():
            found = "deviation is more than 20 times the value"
        return found


class Gumbel(Law):
    """(6)"""

    name = "gumbel"

    def values(self, z: FloatArray, value: FloatArray, widths: Widths) -> FloatArray:
        return value + widths["deviation"] * GUMBEL * (-EULER - np.log(-_log_share(z)))

    def slopes(self, z: FloatArray, value: FloatArray, widths: Widths) -> FloatArray:
        inverse_hazard = np.exp(-0.5 * z * z - _log_share(z)) / ROOT_TWO_PI
        return np.asarray(widths["deviation"] * GUMBEL * inverse_hazard / -_log_share(z))


class Data(Law):
    """(7)"""

    name = "data"
    widths = ("values",)
    is_smooth = False

    def values(self, z: FloatArray, value: FloatArray, widths: Widths) -> FloatArray:
        cells = np.sort(widths["values"])
        places = np.minimum((_share(z) * len(cells)).astype(int), len(cells) - 1)
        return np.asarray(cells[places])

    def slopes(self, z: FloatArray, value: FloatArray, widths: Widths) -> FloatArray:
        """Return 0: between cells it does not move. All have any one shape, or spread to it."""
        return np.zeros(z.shape)

    def mean(self, value: FloatArray, widths: Widths) -> FloatArray:
        return np.full(value.shape, float(np.mean(widths["values"])))

    def deviation(self, value: FloatArray, widths: Widths) -> FloatArray:
        return np.full(value.shape, float(np.std(widths["values"])))

    def refusal(self, value: FloatArray, widths: Widths) -> str:
        return "" if np.isfinite(widths["values"]).all() else "a cell of the column is no number"


@lru_cache(maxsize=1)
def weibull_series() -> tuple[FloatArray, FloatArray]:
    """Return Chebyshev's coefficients of log κ and log Γ(1 + κ) of (5) over log c in WEIBULL_SPAN. Each is
    (coefficients,)."""
    from numpy.polynomial import chebyshev
    from scipy.special import gammaln

    low, high = WEIBULL_SPAN
    nodes = chebyshev.chebpts1(SERIES + 1)
    exponent = weibull_exponent(np.exp(low + 0.5 * (nodes + 1.0) * (high - low)))
    found = [chebyshev.chebfit(nodes, told, SERIES) for told in (np.log(exponent), gammaln(1.0 + exponent))]
    return np.asarray(found[0]), np.asarray(found[1])


def _not_positive(value: FloatArray) -> str:
    return "" if (value > 0.0).all() else f"its value, {np.min(value):g}, is not above 0"


def weibull_exponent(share: FloatArray) -> FloatArray:
    """Return κ (the reciprocal of the shape) of (5) for a deviation that is `share` of the mean, by Newton's method on
    log Γ(1 + 2κ) − 2 log Γ(1 + κ) = log(1 + c²), whose left side grows with κ from 0."""
    from scipy.special import digamma, gammaln

    share = np.asarray(share, dtype=float)
    wanted = np.log1p(share**2)
    found = np.where(share < 1.0, share, 1.0 + np.log(np.maximum(share, 1.0)))  # at or above κ: Newton stays above
    for _ in range(MOST_STEPS):
        rest = gammaln(1.0 + 2.0 * found) - 2.0 * gammaln(1.0 + found) - wanted
        slope = 2.0 * (digamma(1.0 + 2.0 * found) - digamma(1.0 + found))
        step = np.where(slope > 0.0, rest / np.where(slope > 0.0, slope, 1.0), 0.0)
        found = np.maximum(found - step, 0.25 * found)
        if (np.abs(step) <= 1e-15 * np.maximum(found, 1e-300)).all():
            break
    return np.asarray(found)


LAWS: dict[str, Law] = {
    law.name: law for law in (Normal(), Lognormal(), Weibull(), Gumbel(), Uniform(), Triangular(), Data())
}


def law_named(name: str) -> Law:
    """Return a law by its name. Raises KeyError."""
    return LAWS[name]
